//! What was measured. Nobody changes it.

use std::collections::BTreeMap;

use kampf_contest::{ByHand, Cache, Choices, Measured};
use kampf_race::{Nanos, RaceSettings};

use crate::require::{Require, Required};

/// A race as it was measured.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Facts {
    /// How it is judged.
    pub settings: RaceSettings,
    /// Whether the application keeps nothing of its rows, so that a contender that keeps nothing may be chosen.
    pub keeps_nothing: bool,
    /// What a contender must meet to be chosen.
    pub require: Require,
    /// Rounds that were finished.
    pub rounds: usize,
    /// The contenders.
    pub contenders: Vec<ContenderFacts>,
    /// The heats after the first one, in their order.
    pub heats: Vec<HeatFacts>,
    /// The places of the two that were raced against each other, the earlier first.
    pub pair: Option<(usize, usize)>,
    /// The share of calls that was answered from what is kept, where anybody keeps answers.
    pub hit_rate: Option<f64>,
    /// The other schemas that contenders ran on, by their names.
    pub variants: BTreeMap<String, VariantFacts>,
}

/// The same rows under other indexes, or with other keys.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct VariantFacts {
    /// Seconds that its indexes took to make.
    pub seconds: f64,
    /// Seconds that the plain schema took to load.
    pub load_seconds: f64,
    /// What it takes with its keys, where they are of another type.
    pub keys: Option<KeysFacts>,
}

/// What a dataset takes with keys of another type, and with the schema's own.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct KeysFacts {
    /// Bytes of all tables and indexes.
    pub bytes: u64,
    /// Seconds of a load.
    pub seconds: f64,
    /// Bytes with the schema's own keys.
    pub own_bytes: u64,
    /// Seconds of a load with the schema's own keys.
    pub own_seconds: f64,
}

/// Times of a contender that keeps answers.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct KeptFacts {
    /// What a call takes that finds its answer kept.
    pub hit: Nanos,
    /// What a call takes that does not.
    pub miss: Nanos,
    /// How many answers are kept.
    pub entries: u32,
}

/// A heat after the first one.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HeatFacts {
    /// After how many rounds it began.
    pub after: usize,
    /// Around whom it was run, by its place.
    pub anchor: usize,
    /// Who was to run beside that one, by their places.
    pub members: Vec<usize>,
    /// How many entered for it, behind all that were there.
    pub entered: usize,
}

/// A contender as it was measured.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ContenderFacts {
    /// Its name.
    pub name: String,
    /// Its options, where it is derived.
    pub choices: Option<Choices>,
    /// Whether it uses rows in place and keeps nothing of them.
    pub keeps_nothing: bool,
    /// Nanoseconds of a call, for each round that it ran.
    pub rounds: Vec<Nanos>,
    /// The numbers of these rounds, from 0.
    pub ran: Vec<usize>,
    /// 95th percentile of the calls of a round, for rounds with enough of them.
    pub p95_rounds: Vec<Nanos>,
    /// The first call on a new connection, for each round that it ran.
    pub cold_rounds: Vec<Nanos>,
    /// Nanoseconds of a call in the check, for one that was outclassed there and did not start.
    pub in_check: Option<Nanos>,
    /// Median of the first calls on a new connection.
    pub cold: Option<Nanos>,
    /// What was counted over a call.
    pub measured: Measured,
    /// Of one that keeps answers.
    pub kept: Option<KeptFacts>,
    /// How many bytes were held after how many rows of a call.
    pub held: Vec<(u64, u64)>,
    /// Rows of its answer to the first parameter set, where it agreed.
    pub answer_rows: Option<u64>,
    /// What it leaves to the developer; none for programs.
    pub by_hand: Option<ByHand>,
    /// What was wrong with it.
    pub fault: Option<Fault>,
}

/// What was wrong with a contender.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// What kind of thing.
    pub kind: FaultKind,
    /// In words, from where it was found.
    pub reason: String,
    /// After how many rounds it was found.
    pub after: usize,
}

/// What kind of thing was wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FaultKind {
    /// It gave another answer.
    Disagrees,
    /// It could not be run to the end.
    Failed,
    /// What it says of its runs is not so.
    NotBelieved,
}

/// Why a contender runs beside the race: it is judged, and never judges.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunsBeside {
    /// It keeps nothing of its rows, which an application usually cannot do: it is the floor below the others.
    Floor,
    /// It gives answers again that it has kept, and these must be fresh.
    Stale,
    /// What it counts exactly is more than what is required allows.
    RuledOut,
}

/// Who a contender is, for the question whether it may be chosen.
#[derive(Clone, Copy, Debug)]
pub struct Candidate<'a> {
    /// Whether it uses rows in place and keeps nothing of them.
    pub keeps_nothing: bool,
    /// Whether it gives answers again that it has kept.
    pub keeps_answers: bool,
    /// What was counted over a call.
    pub measured: &'a Measured,
}

/// Why a contender is not to be chosen, as far as that is known without timing it.
pub fn beside(require: &Require, allows_keeping_nothing: bool, of: Candidate<'_>) -> Option<RunsBeside> {
    let Candidate { keeps_nothing, keeps_answers, measured } = of;
    let misses = |(required, limit): (Required, f64)| match required {
        Required::Count(measure) => measure.is_exact() && measured.get(measure).is_some_and(|count| count as f64 > limit),
        _ => false,
    };
    if keeps_nothing && !allows_keeping_nothing {
        return Some(RunsBeside::Floor);
    }
    if keeps_answers && require.fresh {
        return Some(RunsBeside::Stale);
    }
    require.limits().any(misses).then_some(RunsBeside::RuledOut)
}

impl Facts {
    /// Why a contender is not to be chosen, as far as that is known without timing it.
    pub fn beside(&self, at: usize) -> Option<RunsBeside> {
        let one = &self.contenders[at];
        let keeps_answers = one.choices.is_some_and(|choices| choices.get() == Some(Cache::Warm));
        let of = Candidate { keeps_nothing: one.keeps_nothing, keeps_answers, measured: &one.measured };
        beside(&self.require, self.keeps_nothing, of)
    }

    /// How many were there in the first heat: the first ones.
    pub fn starters(&self) -> usize {
        self.contenders.len().saturating_sub(self.heats.iter().map(|heat| heat.entered).sum())
    }

    /// The values of a contender by round; not a number for one that it did not run.
    pub(crate) fn by_round(&self, at: usize) -> Vec<Nanos> {
        let mut values = vec![Nanos::NAN; self.rounds];
        let one = &self.contenders[at];
        one.ran.iter().zip(&one.rounds).filter(|(round, _)| **round < self.rounds).for_each(|(&round, &value)| values[round] = value);
        values
    }
}

impl ContenderFacts {
    /// Whether it was timed and gave the right answer.
    pub fn is_eligible(&self) -> bool {
        self.fault.is_none() && (!self.rounds.is_empty() || self.in_check.is_some())
    }
}
