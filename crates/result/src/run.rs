//! A contest as it was raced: what the verdict is worked out from, the verdict, and what else there is to say about it.

use std::collections::BTreeMap;

use kampf_race::Nanos;
use kampf_verdict::{ContenderFacts, Facts, Placed, Verdict, judge};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::circumstance::{Arranged, Circumstance};
use crate::machine::Machine;
use crate::parts::{AnswerPart, DatasetPart, EnginePart, VariantPart};

/// Everything that one run of `kampf race` gave.
#[derive(Clone, Debug)]
pub struct RacedRun {
    /// The version of Kampf that made it.
    pub kampf: String,
    /// Where it was measured.
    pub machine: Machine,
    /// What was raced on, of the first engine; the content is the same on all.
    pub dataset: DatasetPart,
    /// The contests, one for each engine and circumstance.
    pub contests: Vec<RacedContest>,
}

/// What contenders of a contest do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ContestKind {
    /// They read.
    #[default]
    Read,
    /// They write.
    Write,
}

impl ContestKind {
    /// All of them.
    pub const ALL: [ContestKind; 2] = [ContestKind::Read, ContestKind::Write];

    /// As documents say it.
    pub fn word(self) -> &'static str {
        match self {
            ContestKind::Read => "read",
            ContestKind::Write => "write",
        }
    }
}

/// A contest as it was raced.
#[derive(Clone, Debug)]
pub struct RacedContest {
    /// Its name.
    pub name: String,
    /// What the user says it is about.
    pub about: Option<String>,
    /// The need as the user wrote it, with defaults.
    pub need: Json,
    /// What contenders were given and did not choose.
    pub circumstance: Circumstance,
    /// What contenders do.
    pub kind: ContestKind,
    /// What was found of that when it was arranged.
    pub arranged: Arranged,
    /// The engine that it ran on.
    pub engine: EnginePart,
    /// The other schemas that contenders ran on, by their names.
    pub variants: BTreeMap<String, VariantPart>,
    /// Fingerprint of the dataset it ran on.
    pub dataset: String,
    /// What makes the race say less than it seems to.
    pub warnings: Vec<String>,
    /// How the race went.
    pub course: Course,
    /// What was measured.
    pub facts: Facts,
    /// What else is known of each contender, by its place in the facts.
    pub extras: Vec<Extra>,
    /// What follows from that.
    pub verdict: Verdict,
}

/// How the race went as a whole.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Course {
    /// Seconds of all rounds.
    pub seconds: f64,
    /// Of that what lies inside measured spans.
    pub measured_seconds: f64,
    /// Seconds of the check before.
    pub check_seconds: f64,
    /// Seconds of asking the survivors once more.
    pub confirm_seconds: f64,
    /// Whether the user ended it.
    pub interrupted: bool,
    /// Why the survivors were not all asked once more, where they were not.
    pub not_confirmed: Option<String>,
    /// Who gave the answer that all were compared with.
    pub reference: String,
    /// Most seconds for all of these together.
    pub time_seconds: f64,
    /// Seed of the order within rounds and of drawn parameters.
    pub seed: u64,
    /// Seconds of a round of those that were in the race at its end.
    pub round_seconds: f64,
    /// Nanoseconds of the reference loop before each round and after the last.
    pub reference_loop: Vec<Nanos>,
    /// Percent of the time in which some task waited for a processor.
    pub cpu_pressure: Option<f64>,
}

/// What a verdict does not need to know of a contender.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Extra {
    /// Its statements.
    pub sql: Vec<String>,
    /// Processor nanoseconds of a call.
    pub cpu: Option<Nanos>,
    /// Its answer to the first parameter set.
    pub answer: Option<AnswerPart>,
}

/// One contender with everything that is known of it.
#[derive(Clone, Copy, Debug)]
pub struct Shown<'a> {
    /// Its place in the facts.
    pub at: usize,
    /// What was measured.
    pub facts: &'a ContenderFacts,
    /// How it stands.
    pub placed: &'a Placed,
    /// What else is known.
    pub extra: &'a Extra,
}

impl RacedContest {
    /// Works out again what follows from the facts.
    pub fn judged(self) -> RacedContest {
        RacedContest { verdict: judge(&self.facts), ..self }
    }

    /// A contender by its place in the facts.
    pub fn contender(&self, at: usize) -> Shown<'_> {
        Shown { at, facts: &self.facts.contenders[at], placed: &self.verdict.placed[at], extra: &self.extras[at] }
    }

    /// The contenders, best first.
    pub fn contenders(&self) -> impl Iterator<Item = Shown<'_>> {
        self.verdict.order.iter().map(|&at| self.contender(at))
    }

    /// A contender by its name.
    pub fn find(&self, name: &str) -> Option<Shown<'_>> {
        self.contenders().find(|contender| contender.facts.name == name)
    }

    /// A contender's name.
    pub fn name_of(&self, at: usize) -> &str {
        &self.facts.contenders[at].name
    }
}
