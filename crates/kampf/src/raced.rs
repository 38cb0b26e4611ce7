//! A contest as it was raced: what the verdict is worked out from, the verdict, and what else there is to say about it.

use std::collections::BTreeMap;

use kampf_race::Nanos;
use kampf_runner::Machine;
use kampf_verdict::{ContenderFacts, Facts, Placed, Verdict, judge};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::conditions::Conditions;
use crate::document::{AnswerPart, DatasetPart, EnginePart, KeptPart, VariantPart};

/// Everything that one run of `kampf race` gave.
#[derive(Clone, Debug)]
pub(crate) struct RacedRun {
    pub(crate) kampf: String,
    pub(crate) machine: Machine,
    pub(crate) dataset: DatasetPart,
    pub(crate) contests: Vec<RacedContest>,
}

/// A contest as it was raced.
#[derive(Clone, Debug)]
pub(crate) struct RacedContest {
    pub(crate) name: String,
    /// What the user says it is about.
    pub(crate) about: Option<String>,
    pub(crate) need: Json,
    pub(crate) conditions: Conditions,
    pub(crate) engine: EnginePart,
    /// The other schemas that contenders ran on, by their names.
    pub(crate) variants: BTreeMap<String, VariantPart>,
    /// Fingerprint of the dataset it ran on.
    pub(crate) dataset: String,
    /// What makes the race say less than it seems to.
    pub(crate) warnings: Vec<String>,
    pub(crate) course: Course,
    pub(crate) facts: Facts,
    /// What else is known of each contender, by its place in the facts.
    pub(crate) extras: Vec<Extra>,
    pub(crate) verdict: Verdict,
}

/// How the race went as a whole.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Course {
    /// Time of all rounds, and what of it lies inside measured spans.
    pub(crate) seconds: f64,
    pub(crate) measured_seconds: f64,
    /// Time of the check before, and of asking the survivors once more.
    pub(crate) check_seconds: f64,
    pub(crate) confirm_seconds: f64,
    pub(crate) interrupted: bool,
    /// Why the survivors were not all asked once more, where they were not.
    pub(crate) not_confirmed: Option<String>,
    /// Who gave the answer that all were compared with.
    pub(crate) reference: String,
    /// Most time for all of these together.
    pub(crate) time_seconds: f64,
    /// Seed of the order within rounds and of drawn parameters.
    pub(crate) seed: u64,
    /// Seconds of a round of those that were in the race at its end.
    pub(crate) round_seconds: f64,
    /// Nanoseconds of the reference loop before each round and after the last.
    pub(crate) reference_loop: Vec<Nanos>,
    /// Percent of the time in which some task waited for a processor.
    pub(crate) cpu_pressure: Option<f64>,
}

/// What a verdict does not need to know of a contender.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Extra {
    pub(crate) sql: Vec<String>,
    pub(crate) cpu: Option<Nanos>,
    pub(crate) kept: Option<KeptPart>,
    /// How many bytes were held after how many rows of a call.
    pub(crate) held: Vec<(u64, u64)>,
    pub(crate) answer: Option<AnswerPart>,
}

/// One contender with everything that is known of it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Shown<'a> {
    /// Its place in the facts.
    pub(crate) at: usize,
    pub(crate) facts: &'a ContenderFacts,
    pub(crate) placed: &'a Placed,
    pub(crate) extra: &'a Extra,
}

impl RacedContest {
    /// Works out again what follows from the facts.
    pub(crate) fn judged(self) -> RacedContest {
        RacedContest { verdict: judge(&self.facts), ..self }
    }

    /// A contender by its place in the facts.
    pub(crate) fn contender(&self, at: usize) -> Shown<'_> {
        Shown { at, facts: &self.facts.contenders[at], placed: &self.verdict.placed[at], extra: &self.extras[at] }
    }

    /// The contenders, best first.
    pub(crate) fn contenders(&self) -> impl Iterator<Item = Shown<'_>> {
        self.verdict.order.iter().map(|&at| self.contender(at))
    }

    /// A contender by its name.
    pub(crate) fn find(&self, name: &str) -> Option<Shown<'_>> {
        self.contenders().find(|contender| contender.facts.name == name)
    }

    /// A contender's name.
    pub(crate) fn name_of(&self, at: usize) -> &str {
        &self.facts.contenders[at].name
    }
}
