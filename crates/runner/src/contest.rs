//! A contest as the runner needs it.

use std::path::PathBuf;
use std::time::Duration;

use kampf_contest::{ByHand, Choices, Hydration, Need, Plan};
use kampf_engine::{Engine, Setting};
use kampf_fill::{Blueprint, RecipeMaker};
use kampf_schema::{ColumnId, LogicalType, TableId, Value};
use serde_json::Value as Json;

/// One contest with its field.
#[derive(Clone)]
pub struct Contest {
    /// Its name.
    pub name: String,
    /// The need; none where only own SQL competes.
    pub need: Option<Need>,
    /// The need as the user wrote it.
    pub need_text: Json,
    /// Whether the order of rows counts, where there is no need to say so.
    pub ordered: bool,
    /// The parameters, in the order of the need's.
    pub parameters: Vec<DrawnParameter>,
    /// The field, in the order in which it is shown.
    pub entries: Vec<Entry>,
    /// What gives the reference where there is too much data for the plain evaluation: the need with its sort keys given too
    /// and a larger limit, and a plan for it.
    pub reference: Option<(Need, Plan)>,
}

/// A parameter with its values.
#[derive(Clone, Debug)]
pub struct DrawnParameter {
    /// Its name.
    pub name: String,
    /// Its type.
    pub kind: LogicalType,
    /// Where its values come from.
    pub source: ParameterSource,
}

/// Where a parameter's values come from.
#[derive(Clone, Debug)]
pub enum ParameterSource {
    /// A recipe; a fixed value is one too.
    Recipe(RecipeMaker),
    /// A column's value of any row.
    Any(TableId, ColumnId),
}

/// One contender.
#[derive(Clone)]
pub struct Entry {
    /// Its name.
    pub name: String,
    /// Its options, where it is derived.
    pub choices: Option<Choices>,
    /// How it is carried out.
    pub way: EntryWay,
    /// What it leaves to the developer; none for programs.
    pub by_hand: Option<ByHand>,
}

/// How a contender is carried out.
#[derive(Clone)]
pub enum EntryWay {
    /// By Kampf's own layers.
    Plan(Box<Plan>),
    /// By a program from outside.
    Program(Program),
}

/// A program that takes part.
#[derive(Clone, Debug, PartialEq)]
pub struct Program {
    /// Its name or path, and its arguments.
    pub words: Vec<String>,
    /// The folder it runs in.
    pub folder: PathBuf,
    /// Names of environment variables that it gets besides those that every contender gets.
    pub environment: Vec<String>,
}

impl Entry {
    /// Whether rows are used in place and nothing of them is kept; of a program that is not known.
    pub fn keeps_nothing(&self) -> bool {
        matches!(&self.way, EntryWay::Plan(plan) if plan.hydration == Hydration::Raw)
    }

    /// How many calls a fresh connection makes until the engine treats its statements as it will from then on: an engine may
    /// look for a better plan while it gets to know the parameters.
    pub(crate) fn calls_to_settle(&self, setup: &Setup<'_>) -> u64 {
        match &self.way {
            EntryWay::Plan(plan) if !plan.has_parameters() => 0,
            _ => setup.engine.calls_to_settle(),
        }
    }
}

/// What all contests of a run share.
pub struct Setup<'a> {
    /// Kampf's own binary, which carries out plans.
    pub binary: PathBuf,
    /// The engine.
    pub engine: &'a dyn Engine,
    /// Settings of the engine.
    pub settings: Vec<Setting>,
    /// Where the loaded data is, as contenders are told. It may hold a password.
    pub url: String,
    /// The same over TCP, where that is another URL.
    pub tcp_url: Option<String>,
    /// The rows that were loaded.
    pub blueprint: &'a Blueprint,
    /// Seed of everything drawn.
    pub seed: u64,
    /// How much longer each wait lasts in an engine that has no trips; none where that is not asked for.
    pub simulated_trip: Option<Duration>,
    /// The core of the processor that contenders are kept on.
    pub core: Option<usize>,
    /// Longest time for a single run.
    pub timeout: Duration,
    /// Most memory of a contender's process, in bytes.
    pub memory_limit: Option<u64>,
}

/// Parameter sets of a round, where the need has parameters.
const SETS: usize = 8;

impl Contest {
    /// The parameter sets of a round: eight, or a single empty one where the need has no parameters.
    pub fn parameter_sets(&self, setup: &Setup<'_>, round: u64) -> Vec<Vec<Value>> {
        self.parameter_sets_of(setup.blueprint, setup.seed, round)
    }

    /// The same, without contenders to be run.
    pub fn parameter_sets_of(&self, blueprint: &Blueprint, seed: u64, round: u64) -> Vec<Vec<Value>> {
        if self.parameters.is_empty() {
            return vec![Vec::new()];
        }
        (0..SETS as u64)
            .map(|set| {
                let drawing = round * SETS as u64 + set;
                let value = |parameter: &DrawnParameter| match &parameter.source {
                    ParameterSource::Recipe(maker) => maker.value(drawing),
                    ParameterSource::Any(table, column) => {
                        let name = format!("{}:{}", self.name, parameter.name);
                        let row = RecipeMaker::row(seed, &name, drawing, blueprint.rows(*table));
                        blueprint.value(*table, row, *column)
                    }
                };
                self.parameters.iter().map(value).collect()
            })
            .collect()
    }

    /// At most how many rows are asked for.
    pub fn limit(&self) -> Option<u64> {
        self.need.as_ref().and_then(|need| need.limit)
    }
}
