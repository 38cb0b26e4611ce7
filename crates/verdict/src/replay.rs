//! The race again, from the values of its rounds.

use kampf_race::{Forecaster, Interval, Outcome as Raced, Race, RaceSettings, Standing, Why, p95};

use crate::facts::{ContenderFacts, Facts, FaultKind};
use crate::verdict::{Against, Forecast, Left, Outcome, Placed, Ratio};

/// Margins that a forecast is made for, besides the one asked for.
const MARGINS: [f64; 4] = [0.02, 0.03, 0.05, 0.1];

/// A race that was run again.
pub(crate) struct Replayed {
    pub(crate) race: Race,
    pub(crate) standings: Vec<Standing>,
    /// Whether everybody was told from the leader. Where only one has started there is nothing to tell, however well its time is known.
    pub(crate) decided: bool,
}

impl Replayed {
    pub(crate) fn of(facts: &Facts) -> Replayed {
        let rules = &facts.rules;
        let settings = RaceSettings {
            margin: rules.margin,
            alpha: rules.alpha,
            most_rounds: rules.most_rounds,
            exact: rules.exact,
            keep_below: rules.keep_below,
            ..RaceSettings::default()
        };
        let contenders = &facts.contenders;
        let mut race = Race::new(contenders.len(), settings);
        for (at, contender) in contenders.iter().enumerate().filter(|(_, contender)| contender.rounds.is_empty()) {
            if contender.in_check.is_some() { race.leave_out(at) } else { race.fail(at) }
        }
        for round in 0..facts.rounds {
            fail_after(&mut race, contenders, round);
            let values: Vec<Option<f64>> = contenders.iter().map(|contender| contender.rounds.get(round).copied()).collect();
            race.record(&values);
        }
        fail_after(&mut race, contenders, facts.rounds);
        let decided = race.leader().is_some() && (race.is_told() || race.starters() == 1);
        Replayed { standings: race.standings(), race, decided }
    }

    /// How each contender stands, by its place.
    pub(crate) fn placed(&self, facts: &Facts) -> Vec<Placed> {
        let standing = |at| self.standings.iter().find(|standing| standing.contender == at);
        facts.contenders.iter().enumerate().map(|(at, one)| place(one, standing(at), self.race.leader())).collect()
    }

    /// The places, best first.
    pub(crate) fn order(&self, placed: &[Placed]) -> Vec<usize> {
        let mut order: Vec<usize> = self.standings.iter().map(|standing| standing.contender).collect();
        let class = |at: usize| match placed[at].outcome {
            Outcome::Standing => (0, 0.0),
            Outcome::Disagrees | Outcome::Failed => (2, placed[at].median.unwrap_or(f64::INFINITY)),
            _ => (1, placed[at].median.unwrap_or(f64::INFINITY)),
        };
        order.sort_by(|&left, &right| {
            let ((left_class, left), (right_class, right)) = (class(left), class(right));
            left_class.cmp(&right_class).then(left.total_cmp(&right))
        });
        order
    }

    /// Rounds in all that a decision would take, for the margin asked for and for wider ones.
    pub(crate) fn forecasts(&self, margin: f64) -> Vec<Forecast> {
        let forecaster = Forecaster::new(&self.race);
        let margins = std::iter::once(margin).chain(MARGINS.into_iter().filter(|wider| *wider > margin));
        margins.filter_map(|margin| Some(Forecast { margin, rounds: forecaster.rounds(&self.race, margin)? })).collect()
    }
}

/// Takes out those that failed, or gave another answer, after so many rounds.
fn fail_after(race: &mut Race, contenders: &[ContenderFacts], rounds: usize) {
    for (at, contender) in contenders.iter().enumerate() {
        if contender.fault.is_some() && rounds > 0 && contender.rounds.len() == rounds {
            race.fail(at);
        }
    }
}

fn place(facts: &ContenderFacts, standing: Option<&Standing>, leader: Option<usize>) -> Placed {
    let outcome = match (facts.fault.as_ref().map(|fault| fault.kind), standing.map(|standing| standing.outcome)) {
        (Some(FaultKind::Disagrees), _) => Outcome::Disagrees,
        (Some(FaultKind::Failed), _) | (None, None | Some(Raced::Failed)) => Outcome::Failed,
        (None, Some(Raced::Standing)) => Outcome::Standing,
        (None, Some(Raced::Tied)) => Outcome::Tied,
        (None, Some(Raced::Slower)) => Outcome::Slower,
        (None, Some(Raced::Outclassed)) => Outcome::Outclassed,
        (None, Some(Raced::Unresolved)) => Outcome::Unresolved,
    };
    let in_check = || facts.in_check.map(|_| Left { round: 0, leader, times: None });
    let in_rounds = standing.and_then(|standing| standing.left).map(|left| Left {
        round: left.round,
        leader: Some(left.leader),
        times: match left.why {
            Why::Outclassed { times } => Some(times),
            Why::Slower => None,
        },
    });
    Placed {
        outcome,
        median: standing.and_then(|standing| standing.median).or(facts.in_check),
        range: standing.and_then(|standing| standing.interval.map(|Interval { low, high }| (low, high)).or(standing.range)),
        p95: p95(&facts.rounds, &facts.p95_rounds),
        against: standing.and_then(|standing| standing.gap).map(|gap| Against {
            leader: gap.leader,
            rounds: gap.rounds,
            ratio: Ratio { ratio: gap.ratio, interval: gap.interval },
            still_moving: gap.is_moving,
        }),
        left: in_rounds.or_else(in_check),
        trade_off: false,
        misses: Vec::new(),
    }
}
