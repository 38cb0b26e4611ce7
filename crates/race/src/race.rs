//! Rounds, drops and the decision.

use std::collections::BTreeSet;

use crate::evidence::Critical;
use crate::heat::{Heat, Levels};
use crate::settings::{Goal, LITTLE, RaceSettings};
use crate::signs::{Differences, Interval};
use crate::standing::{Departure, Finding, Gap, Why};
use crate::summary::{Nanos, median};

/// The first round after which a contender can be told from the leader.
pub(crate) const FIRST_LOOK: usize = 8;
/// Level a side of the interval for a contender's own median.
const OWN_LEVEL: f64 = 0.025;

#[derive(Clone, Debug)]
pub(crate) struct Runner {
    /// The value of each round that it ran.
    pub(crate) values: Vec<Nanos>,
    /// Their logarithms by round; not a number for one that it did not run.
    pub(crate) logs: Vec<f64>,
    /// The fastest and the slowest.
    pub(crate) range: Option<(Nanos, Nanos)>,
    pub(crate) state: State,
    /// Whether it is open if it is good enough, so that it is not to be dropped.
    held: bool,
    /// Whether it may be chosen, and so may lead, settle, drop or outclass others.
    judges: bool,
    /// Whether it entered after the first heat.
    pub(crate) is_late: bool,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum State {
    Racing,
    /// With the gap that stood then.
    Dropped(Departure, Gap),
    /// Left before the first round: so far behind that it did not start.
    LeftOut,
    Failed,
}

/// A contender beside another, and what the rounds say about it.
#[derive(Clone, Debug)]
pub(crate) struct Rival {
    pub(crate) contender: usize,
    pub(crate) differences: Differences,
    /// How alike neighbouring rounds are: its own likeness, or that of all rivals together where it is larger.
    pub(crate) likeness: f64,
    pub(crate) finding: Finding,
    /// The interval that the finding rests on.
    pub(crate) interval: Option<Interval>,
}

/// The leader, or the anchor of a heat, and everybody beside it.
#[derive(Clone, Debug)]
pub(crate) struct Judged {
    pub(crate) base: usize,
    /// How alike neighbouring rounds are over all rivals together.
    pooled: f64,
    pub(crate) rivals: Vec<Rival>,
}

/// A race between contenders known by their places. Rounds go in, who is still in it and how it stands comes out.
#[derive(Clone, Debug)]
pub struct Race {
    pub(crate) settings: RaceSettings,
    pub(crate) runners: Vec<Runner>,
    pub(crate) rounds: usize,
    /// How many started.
    starters: usize,
    /// Pairs that are to be told apart whoever leads: one, and what it is compared with.
    compared: Vec<(usize, usize)>,
    /// Pairs of a leader and a rival that is surely not faster than it.
    settled: BTreeSet<(usize, usize)>,
    /// Beside the leader, and after the first heat beside the anchor.
    pub(crate) judged: Option<Judged>,
    pub(crate) around: Option<Judged>,
    pub(crate) heat: Option<Heat>,
    /// Against whom contenders ran that have not run with the leader: the leader of the first heat, and every anchor.
    pub(crate) links: Vec<usize>,
    pub(crate) levels: Levels,
    pub(crate) own_counts: Critical,
}

impl Runner {
    /// One that enters after so many rounds.
    pub(crate) fn new(rounds: usize, is_late: bool) -> Runner {
        let logs = vec![f64::NAN; rounds];
        Runner { values: Vec::new(), logs, range: None, state: State::Racing, held: true, judges: true, is_late }
    }
}

impl Race {
    /// A race of so many contenders, all of which may be chosen.
    pub fn new(contenders: usize, settings: RaceSettings) -> Race {
        let mut race = Race {
            settings,
            runners: vec![Runner::new(0, false); contenders],
            rounds: 0,
            starters: contenders,
            compared: Vec::new(),
            settled: BTreeSet::new(),
            judged: None,
            around: None,
            heat: None,
            links: Vec::new(),
            levels: Levels::of(contenders, &settings),
            own_counts: Critical::new(OWN_LEVEL, 0),
        };
        race.set_levels();
        race
    }

    /// Who does not start is no part of a pair that could come to be compared.
    fn set_levels(&mut self) {
        if self.rounds == 0 {
            self.starters = self.racing().len();
            self.levels = Levels::of(self.starters, &self.settings);
        }
    }

    /// The contenders that are in the race, resting ones included.
    pub fn racing(&self) -> Vec<usize> {
        (0..self.runners.len()).filter(|&at| self.runners[at].state == State::Racing).collect()
    }

    /// The contenders that run in the next round.
    pub fn running(&self) -> Vec<usize> {
        let is_there = |at: &usize| match &self.heat {
            None => !self.rests(*at),
            Some(heat) => self.runs_in(heat, *at),
        };
        self.racing().into_iter().filter(is_there).collect()
    }

    /// Whether a contender need not run while the present leader leads. That follows from earlier rounds alone, so it does not
    /// choose among the rounds to come.
    fn rests(&self, contender: usize) -> bool {
        let may_rest = self.may_rest() && !self.is_compared(contender, false);
        may_rest && self.leader().is_some_and(|leader| self.settled.contains(&(leader, contender)))
    }

    pub(crate) fn may_rest(&self) -> bool {
        self.settings.rests && self.settings.goal == Goal::Choice
    }

    /// Rounds so far.
    pub fn rounds(&self) -> usize {
        self.rounds
    }

    /// Lets a contender run beside the race: it is judged and never judges, as it is not to be chosen. Where that leaves nobody
    /// to lead, all do.
    pub fn put_beside(&mut self, contender: usize) {
        self.runners[contender].judges = false;
        self.judge();
    }

    /// Whether a contender runs beside the race, as it is not to be chosen.
    pub fn is_beside(&self, contender: usize) -> bool {
        !self.may_lead(contender)
    }

    /// Whether a contender may lead.
    pub(crate) fn may_lead(&self, contender: usize) -> bool {
        let nobody = || !self.runners.iter().any(|runner| runner.state == State::Racing && runner.judges);
        self.runners[contender].judges || nobody()
    }

    /// Wants to know of one what it costs against another: neither is dropped as slower, nor rests, and while it is open
    /// [`Race::has_compared`] says no. It changes nothing of who leads and when the race is decided.
    pub fn compare(&mut self, contender: usize, base: usize) {
        self.compared.push((contender, base));
    }

    /// Whether all is known that is wanted besides the decision: of each pair whether one is slower, or that it is so by no more than a tenth.
    pub fn has_compared(&self) -> bool {
        !self.compared.iter().any(|pair| self.is_open(*pair))
    }

    /// Whether a contender is wanted for a pair: until the race is over, as what is known of it may change with those that are still there; of one
    /// that is far behind the leader until it is known.
    fn is_compared(&self, contender: usize, is_far: bool) -> bool {
        let mut own = self.compared.iter().filter(|(one, other)| *one == contender || *other == contender);
        own.any(|pair| !is_far || self.is_open(*pair))
    }

    /// Whether a contender is wanted for a pair that is open.
    pub(crate) fn is_wanted(&self, contender: usize) -> bool {
        self.is_compared(contender, true)
    }

    fn is_open(&self, (contender, base): (usize, usize)) -> bool {
        let is_racing = |at: usize| self.runners[at].state == State::Racing;
        if !is_racing(contender) || !is_racing(base) || self.is_outclassed(contender, base).is_some() {
            return false;
        }
        let Some(gap) = self.against_base(contender, base).filter(|_| self.rounds >= FIRST_LOOK) else { return true };
        let Some(sure) = gap.interval else { return true };
        let is_slower = sure.low > 1.0 && gap.ratio > 1.0 + self.settings.margin;
        !(is_slower || sure.high <= LITTLE)
    }

    /// Says whether it is open if a contender is good enough: one that may be is not dropped while it is
    /// ([`RaceSettings::keep_below`]).
    pub fn hold(&mut self, contender: usize, is_open: bool) {
        self.runners[contender].held = is_open;
    }

    /// Takes a contender out that could not be run. Who left because of it is back: what they were slower than is no answer.
    pub fn fail(&mut self, contender: usize) {
        self.runners[contender].state = State::Failed;
        for runner in &mut self.runners {
            if matches!(runner.state, State::Dropped(departure, _) if departure.leader == contender) {
                runner.state = State::Racing;
            }
        }
        self.set_levels();
        if self.heat.as_ref().is_some_and(|heat| heat.anchor == contender) {
            self.heat = None;
        }
        self.links.retain(|link| *link != contender);
        self.judge();
    }

    /// Takes a contender out that was outclassed before its first round.
    pub fn leave_out(&mut self, contender: usize) {
        self.runners[contender].state = State::LeftOut;
        self.set_levels();
    }

    /// Adds a round: a value for each contender that ran in it. Gives the contenders that drop out now.
    pub fn record(&mut self, round: &[Option<Nanos>]) -> Vec<Departure> {
        for (at, runner) in self.runners.iter_mut().enumerate() {
            let value = round.get(at).copied().flatten().filter(|_| runner.state == State::Racing);
            runner.logs.push(value.map_or(f64::NAN, |value| value.max(f64::MIN_POSITIVE).ln()));
            if let Some(value) = value {
                runner.values.push(value);
                let (low, high) = runner.range.unwrap_or((value, value));
                runner.range = Some((low.min(value), high.max(value)));
            }
        }
        self.rounds += 1;
        self.levels.extend_to(self.rounds);
        self.own_counts.extend_to(self.rounds);
        self.judge();
        let judged = if self.heat.is_some() { &self.around } else { &self.judged };
        let Some(judged) = judged.as_ref().filter(|_| self.settings.goal == Goal::Choice) else { return Vec::new() };
        let mut drops = Vec::new();
        // All are judged by the same state of the race before any of them leaves it. Who leads does not leave, be it behind the anchor.
        for rival in judged.rivals.iter().filter(|rival| self.is_judged_now(rival.contender)) {
            let (contender, leader) = (rival.contender, judged.base);
            let slowest = self.runners[contender].range.map_or(0.0, |(_, slowest)| slowest);
            let kept = self.runners[contender].held && self.settings.keep_below.is_some_and(|keep| slowest <= keep);
            let outclassed = self.is_outclassed(contender, leader);
            let kept = kept || self.is_compared(contender, outclassed.is_some());
            let why = match outclassed {
                // Though it is slower, it may be good enough, and that is not known yet; or something else is wanted of it.
                _ if kept => continue,
                Some(times) => Why::Outclassed { times },
                None if rival.finding == Finding::Slower => Why::Slower,
                None => continue,
            };
            drops.push((Departure { contender, leader, round: self.rounds, why }, self.gap(&rival.differences, rival.interval, leader)));
        }
        for (drop, gap) in &drops {
            self.runners[drop.contender].state = State::Dropped(*drop, *gap);
        }
        if !drops.is_empty() {
            self.judge();
        }
        drops.into_iter().map(|(drop, _)| drop).collect()
    }

    /// How many times a contender's fastest run is longer than the leader's slowest, in the rounds that both ran, where that is enough to be
    /// outclassed: more than 8 times after 2 of them, more than 3 times from 3 on.
    pub(crate) fn is_outclassed(&self, contender: usize, leader: usize) -> Option<f64> {
        let both =
            self.runners[contender].logs.iter().zip(&self.runners[leader].logs).filter(|(own, other)| !own.is_nan() && !other.is_nan());
        let (rounds, fastest, slowest) = both.fold((0, f64::INFINITY, f64::NEG_INFINITY), |(rounds, fastest, slowest), (own, other)| {
            (rounds + 1, own.min(fastest), other.max(slowest))
        });
        let limit: f64 = match rounds {
            0 | 1 => return None,
            2 => 8.0,
            _ => 3.0,
        };
        let times = (fastest - slowest).exp();
        (contender != leader && times > limit).then_some(times)
    }

    /// Of those that may be chosen the one with the smallest median against all others.
    pub fn leader(&self) -> Option<usize> {
        self.judged.as_ref().map(|judged| judged.base)
    }

    /// One beside another, whoever leads.
    pub(crate) fn beside(&self, contender: usize, base: usize) -> Option<Rival> {
        let differences = self.differences(contender, base)?;
        let pooled = self.judged.as_ref().map_or(0.0, |judged| judged.pooled);
        Some(self.rival_of(contender, base, differences, pooled))
    }

    fn rival_of(&self, contender: usize, base: usize, differences: Differences, pooled: f64) -> Rival {
        let likeness = self.likeness(&differences, pooled);
        let levels = self.levels.of_pair(self, contender, base);
        let dropping = differences.interval(&levels.drop, likeness);
        let tying = differences.interval(&levels.tie, likeness);
        let finding = self.finding((base, contender), &differences, dropping, tying);
        let interval = if finding == Finding::Slower { dropping } else { tying };
        Rival { contender, differences, likeness, finding, interval }
    }

    /// Brings what is derived from the rounds up to date.
    pub(crate) fn judge(&mut self) {
        self.judged = self.find_leader().map(|leader| self.judgement(leader));
        self.around = self.heat.as_ref().map(|heat| self.judgement(heat.anchor));
        for judged in [&self.judged, &self.around].into_iter().flatten().filter(|_| self.rounds >= FIRST_LOOK) {
            let settled = judged.rivals.iter().filter(|rival| rival.finding == Finding::NotFaster);
            self.settled.extend(settled.map(|rival| (judged.base, rival.contender)));
        }
    }

    /// The one whose median against the present leader is the smallest; against whoever comes first, where nobody leads. Over the
    /// rounds that both ran, so what a round has in common for all, and who else ran in it, is taken out.
    fn find_leader(&self) -> Option<usize> {
        let may_lead: Vec<usize> =
            self.racing().into_iter().filter(|&at| self.may_lead(at) && !self.runners[at].values.is_empty()).collect();
        let mut leader = self.leader().filter(|leader| may_lead.contains(leader)).or(may_lead.first().copied())?;
        // Medians of pairs need not go in one line, as not all ran the same rounds; a circle is left where it would close.
        let mut seen = vec![leader];
        loop {
            let behind = |&at: &usize| if at == leader { Some((at, 0.0)) } else { Some((at, self.median_behind(at, leader)?)) };
            let (next, _) = may_lead.iter().filter_map(behind).min_by(|(_, left), (_, right)| left.total_cmp(right))?;
            if seen.contains(&next) {
                return Some(leader);
            }
            seen.push(next);
            leader = next;
        }
    }

    /// The median of what a contender is behind another, over the rounds that both ran. Where they are few although the other has run more, it says
    /// too little to follow a leader.
    fn median_behind(&self, contender: usize, base: usize) -> Option<f64> {
        let least = FIRST_LOOK.min(self.runners[base].values.len());
        let (own, base) = (&self.runners[contender].logs, &self.runners[base].logs);
        let differences: Vec<f64> = own.iter().zip(base).map(|(own, base)| own - base).filter(|value| !value.is_nan()).collect();
        median(&differences).filter(|_| differences.len() >= least)
    }

    fn judgement(&self, base: usize) -> Judged {
        let rivals = self.racing().into_iter().filter(|&at| at != base);
        let differences: Vec<(usize, Differences)> = rivals.filter_map(|at| Some((at, self.differences(at, base)?))).collect();
        // Where neighbouring rounds are alike in one contender by chance, they are not in all together, and the other way round.
        let mean = differences.iter().map(|(_, differences)| differences.likeness).sum::<f64>() / differences.len().max(1) as f64;
        let pooled = mean + 1.0 / self.rounds.max(1) as f64;
        let judge = |(contender, differences)| self.rival_of(contender, base, differences, pooled);
        Judged { base, pooled, rivals: differences.into_iter().map(judge).collect() }
    }

    fn finding(&self, pair: (usize, usize), differences: &Differences, dropping: Option<Interval>, tying: Option<Interval>) -> Finding {
        let margin = (1.0 + self.settings.margin).ln();
        if differences.rounds() < FIRST_LOOK {
            return Finding::Open;
        }
        if dropping.is_some_and(|interval| interval.low > 0.0) && differences.median > margin {
            return Finding::Slower;
        }
        if tying.is_some_and(|interval| interval.is_within(margin)) {
            return Finding::Tied;
        }
        if !self.may_lead(pair.1) && tying.is_some_and(|interval| interval.high < 0.0) {
            return Finding::Faster;
        }
        // A clear loser runs until it can be called slower: else nothing could be said of its choices.
        let is_clear = |interval: Interval| differences.median > 3.0 * margin || (interval.low > 0.0 && differences.median > margin);
        let is_settled = |interval: Interval| interval.low > -margin && !is_clear(interval);
        if self.settled.contains(&pair) || tying.is_some_and(is_settled) { Finding::NotFaster } else { Finding::Open }
    }

    pub(crate) fn differences(&self, contender: usize, base: usize) -> Option<Differences> {
        Differences::between(&self.runners[contender].logs, &self.runners[base].logs)
    }

    /// One contender against another, over the rounds that both ran, at the level that covers all pairs.
    pub fn between(&self, contender: usize, base: usize) -> Option<Gap> {
        self.between_at(contender, base, &self.levels.of_pair(self, contender, base).drop)
    }

    /// The same at the level that covers all rivals of one base.
    pub fn against_base(&self, contender: usize, base: usize) -> Option<Gap> {
        self.between_at(contender, base, &self.levels.of_pair(self, contender, base).tie)
    }

    fn between_at(&self, contender: usize, base: usize, counts: &Critical) -> Option<Gap> {
        let differences = self.differences(contender, base)?;
        let pooled = self.judged.as_ref().map_or(0.0, |judged| judged.pooled);
        let interval = differences.interval(counts, self.likeness(&differences, pooled));
        Some(self.gap(&differences, interval, base))
    }

    /// How alike neighbouring rounds of a pair are, as far as that counts.
    fn likeness(&self, differences: &Differences, pooled: f64) -> f64 {
        if self.settings.correct_likeness { differences.likeness.max(pooled).clamp(0.0, 0.999) } else { 0.0 }
    }

    pub(crate) fn gap(&self, differences: &Differences, interval: Option<Interval>, leader: usize) -> Gap {
        Gap {
            leader,
            rounds: differences.rounds(),
            ratio: differences.median.exp(),
            interval: interval.map(Interval::exp),
            is_moving: differences.is_moving(&self.own_counts),
        }
    }

    /// What it is run for.
    pub(crate) fn goal(&self) -> Goal {
        self.settings.goal
    }

    /// How many contenders started.
    pub fn starters(&self) -> usize {
        self.starters
    }

    /// Whether no rival that may be chosen is left open: for an exact race, told as slower or tied; else also as not faster.
    pub fn is_told(&self) -> bool {
        let is_told = |at: &usize| match self.found(*at) {
            // Who has no round in common with anybody that leads to the leader is open, too.
            None | Some(Finding::Open) => self.leader() == Some(*at),
            Some(Finding::NotFaster) => self.settings.goal == Goal::Choice,
            _ => true,
        };
        self.racing().is_empty() || (self.rounds >= FIRST_LOOK && self.racing().iter().filter(|at| self.may_lead(**at)).all(is_told))
    }

    /// What the rounds say of one that is in the race and does not lead.
    fn found(&self, contender: usize) -> Option<Finding> {
        self.rival(contender).map(|rival| rival.finding).or_else(|| self.chained(contender).map(|(finding, _)| finding))
    }

    /// One beside the leader, where they have run enough rounds together to be judged by them alone.
    pub(crate) fn rival(&self, contender: usize) -> Option<&Rival> {
        let rival = self.judged.iter().flat_map(|judged| &judged.rivals).find(|rival| rival.contender == contender);
        rival.filter(|rival| self.links.is_empty() || rival.differences.rounds() >= FIRST_LOOK || self.chained(contender).is_none())
    }

    /// Whether no more rounds are needed. In an exact race, and where only one has started, each median must also be known to
    /// the margin; in a race of two, how they compare.
    pub fn is_decided(&self) -> bool {
        if self.heat.is_some() {
            return self.is_heat_over();
        }
        let known = || self.racing().into_iter().all(|at| self.is_known(at));
        let alone = self.starters == 1;
        self.is_told()
            && match self.settings.goal {
                Goal::Choice => !alone || known(),
                Goal::Exact => known(),
                Goal::Pair => self.is_pair_known(),
            }
    }

    /// Whether the interval of a contender's median is no wider than the margin on both sides.
    fn is_known(&self, contender: usize) -> bool {
        let own = self.own(contender);
        let interval = own.and_then(|own| own.interval(&self.own_counts, self.own_likeness(&own)));
        interval.is_some_and(|interval| self.is_narrow(interval))
    }

    fn is_pair_known(&self) -> bool {
        let mut rivals = self.judged.iter().flat_map(|judged| &judged.rivals);
        rivals.all(|rival| rival.interval.is_some_and(|interval| self.is_narrow(interval)))
    }

    fn is_narrow(&self, interval: Interval) -> bool {
        interval.high - interval.low <= 2.0 * (1.0 + self.settings.margin).ln()
    }

    /// A contender's own rounds, in logarithms.
    pub(crate) fn own(&self, contender: usize) -> Option<Differences> {
        Differences::between(&self.runners[contender].logs, &vec![0.0; self.rounds])
    }

    /// How alike neighbouring rounds of a contender are in themselves, as far as that counts.
    pub(crate) fn own_likeness(&self, own: &Differences) -> f64 {
        if self.settings.correct_likeness { own.likeness_beyond_chance() } else { 0.0 }
    }
}
