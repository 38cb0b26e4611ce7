//! Heats after the first: the field around an anchor.
//!
//! The first heat is the race of a field. Then others may enter, and all that is asked is how each of some stands beside one of them, the
//! *anchor*: the one that would be taken. It never rests; its members rest or leave by their pair with it alone. Evidence of a pair is over the rounds
//! that both ran, whenever they entered, and who enters follows from others' rounds alone.

use crate::evidence::Critical;
use crate::race::{FIRST_LOOK, Race, Rival, Runner, State};
use crate::settings::{LITTLE, RaceSettings};
use crate::signs::Interval;
use crate::standing::{Finding, Gap};

/// A heat that is being run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Heat {
    pub(crate) anchor: usize,
    pub(crate) members: Vec<usize>,
}

/// The numbers of rounds that it takes to call one slower than another, and not faster or tied.
#[derive(Clone, Debug)]
pub(crate) struct Pairs {
    pub(crate) drop: Critical,
    pub(crate) tie: Critical,
}

/// How the chance of a wrong word is shared among all pairs that could come to be compared: every contender could become the leader, and be compared
/// with every other. Where some may enter later, half of it is for pairs with one of those.
#[derive(Clone, Debug)]
pub(crate) struct Levels {
    first: Pairs,
    late: Option<Pairs>,
}

impl Levels {
    /// For so many that start.
    pub(crate) fn of(starters: usize, settings: &RaceSettings) -> Levels {
        let pairs =
            |alpha: f64, drops: f64, ties: f64| Pairs { drop: Critical::new(alpha / drops, 0), tie: Critical::new(alpha / ties, 0) };
        let (m, alpha) = (starters.max(2) as f64, settings.alpha);
        let own = m * (m - 1.0);
        if settings.entrants == 0 {
            return Levels { first: pairs(alpha, own, m - 1.0), late: None };
        }
        let all = m + settings.entrants as f64;
        Levels { first: pairs(alpha / 2.0, own, m - 1.0), late: Some(pairs(alpha / 2.0, all * (all - 1.0) - own, all - 1.0)) }
    }

    pub(crate) fn of_pair(&self, race: &Race, one: usize, other: usize) -> &Pairs {
        let is_late = race.runners[one].is_late || race.runners[other].is_late;
        self.late.as_ref().filter(|_| is_late).unwrap_or(&self.first)
    }

    pub(crate) fn extend_to(&mut self, rounds: usize) {
        for pairs in std::iter::once(&mut self.first).chain(&mut self.late) {
            pairs.drop.extend_to(rounds);
            pairs.tie.extend_to(rounds);
        }
    }
}

impl Race {
    /// Lets a contender enter that was not there in the first heat: its place is behind all others. At most
    /// [`RaceSettings::entrants`] may.
    pub fn enter(&mut self) -> usize {
        self.runners.push(Runner::new(self.rounds, true));
        self.runners.len() - 1
    }

    /// Begins a heat around an anchor: from the next round on it runs with these members, and with whoever leads. Who may be chosen and is open beside
    /// the anchor is a member too. Nothing begins around one that is not in the race.
    pub fn begin_heat(&mut self, anchor: usize, members: &[usize]) {
        if self.runners[anchor].state != State::Racing {
            return;
        }
        let first_leader = self.leader().filter(|_| self.links.is_empty());
        for link in first_leader.into_iter().chain([anchor]) {
            if !self.links.contains(&link) {
                self.links.push(link);
            }
        }
        self.heat = Some(Heat { anchor, members: members.to_vec() });
        self.judge();
        let is_open = |at: &usize| *at != anchor && self.may_lead(*at) && !members.contains(at) && !self.is_told_around(*at);
        let open: Vec<usize> = self.racing().into_iter().filter(is_open).collect();
        self.heat.iter_mut().for_each(|heat| heat.members.extend(&open));
    }

    /// The anchor of the heat that is run; none in the first.
    pub fn anchor(&self) -> Option<usize> {
        self.heat.as_ref().map(|heat| heat.anchor)
    }

    /// Who entered after the first heat.
    pub fn is_late(&self, contender: usize) -> bool {
        self.runners[contender].is_late
    }

    pub(crate) fn runs_in(&self, heat: &Heat, at: usize) -> bool {
        let is_wanted = || heat.members.contains(&at) && !(self.may_rest() && self.is_told_around(at));
        at == heat.anchor || self.leader() == Some(at) || is_wanted() || self.is_wanted(at)
    }

    /// Whether somebody may leave the race now: in a heat its members, but for whoever leads.
    pub(crate) fn is_judged_now(&self, contender: usize) -> bool {
        self.heat.as_ref().is_none_or(|heat| heat.members.contains(&contender) && self.leader() != Some(contender))
    }

    /// Whether nobody who may be chosen can be faster than the leader by more than a tenth: one can be taken, though it may be open by how much others
    /// are behind. It is enough to end the first heat of several.
    pub fn is_known_enough(&self) -> bool {
        let Some(leader) = self.leader().filter(|_| self.rounds >= FIRST_LOOK) else { return false };
        let is_near = |rival: &Rival| rival.finding != Finding::Open || rival.interval.is_some_and(|sure| sure.low > -LITTLE.ln());
        let known = |at: usize| self.judged.iter().flat_map(|judged| &judged.rivals).any(|rival| rival.contender == at && is_near(rival));
        self.racing().into_iter().filter(|&at| at != leader && self.may_lead(at)).all(known)
    }

    /// Whether all members that may be chosen are told from the anchor.
    pub(crate) fn is_heat_over(&self) -> bool {
        let members = self.heat.iter().flat_map(|heat| heat.members.iter().copied());
        members.filter(|&at| self.runners[at].state == State::Racing && self.may_lead(at)).all(|at| self.is_told_around(at))
    }

    /// Whether it is known of one how it stands beside the anchor: slower, not faster, or faster by a tenth surely or surely not.
    fn is_told_around(&self, at: usize) -> bool {
        self.around.iter().flat_map(|around| &around.rivals).any(|rival| rival.contender == at && is_told(rival))
    }

    /// Those whose standing decides when the race, or the heat that is run, is over.
    pub(crate) fn to_tell(&self) -> impl Iterator<Item = &Rival> {
        let judged = if self.heat.is_some() { &self.around } else { &self.judged };
        judged
            .iter()
            .flat_map(|judged| &judged.rivals)
            .filter(|rival| self.may_lead(rival.contender) && self.is_judged_now(rival.contender))
    }

    /// Whether whoever leads is surely faster than the anchor by more than a tenth.
    pub fn beats_anchor(&self) -> bool {
        let rivals = self.around.iter().flat_map(|around| &around.rivals);
        rivals
            .filter(|rival| self.leader() == Some(rival.contender))
            .any(|rival| rival.interval.is_some_and(|sure| sure.high < -LITTLE.ln()))
    }

    /// One beside any other, as if that one led: what the rounds that both ran say, at the levels of such pairs.
    pub fn standing_beside(&self, contender: usize, base: usize) -> Option<(Finding, Gap)> {
        let rival = self.beside(contender, base)?;
        Some((rival.finding, self.gap(&rival.differences, rival.interval, base)))
    }

    /// One that has not run enough rounds with the leader, by a third that ran with both: its ratio to the leader is the product of theirs, and lies
    /// between the products of the ends, as each of the two intervals holds.
    pub(crate) fn chained(&self, contender: usize) -> Option<(Finding, Gap)> {
        let leader = self.leader().filter(|leader| *leader != contender)?;
        let over = |link: &usize| Some((*link, self.differences(contender, *link)?.rounds(), self.differences(*link, leader)?.rounds()));
        // Who is far behind has left after a few.
        let links = self.links.iter().filter(|link| **link != contender && **link != leader).filter_map(over);
        let (link, ..) = links.filter(|(_, _, its)| *its >= FIRST_LOOK).max_by_key(|(_, own, its)| (*own).min(*its))?;
        let product = |own: &Gap, its: &Gap| {
            let both = own.interval.zip(its.interval);
            both.map(|(own, its)| Interval { low: own.low * its.low, high: own.high * its.high })
        };
        // "Slower" is said at the level of those that leave, anything else at that of those that stay.
        let (own, its) = (self.between(contender, link)?, self.between(link, leader)?);
        let (ratio, bound) = (own.ratio * its.ratio, 1.0 + self.settings.margin);
        let slower = product(&own, &its).filter(|sure| sure.low > 1.0 && ratio > bound);
        let staying = || product(&self.against_base(contender, link)?, &self.against_base(link, leader)?);
        let (finding, interval) = match slower {
            Some(sure) => (Finding::Slower, Some(sure)),
            None => match staying() {
                Some(sure) if sure.low > 1.0 / bound => (Finding::NotFaster, Some(sure)),
                sure => (Finding::Open, sure),
            },
        };
        // No round is common to both.
        Some((finding, Gap { leader, rounds: 0, ratio, interval, is_moving: own.is_moving || its.is_moving }))
    }
}

pub(crate) fn is_told(rival: &Rival) -> bool {
    let beyond = -LITTLE.ln();
    let is_faster = |sure: Interval| sure.high < beyond || (sure.high < 0.0 && sure.low > beyond);
    rival.finding != Finding::Open || rival.interval.is_some_and(is_faster)
}
