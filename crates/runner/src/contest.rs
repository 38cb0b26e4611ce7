//! A contest as the runner needs it.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use kampf_contest::{ByHand, Cache, Choices, Hydration, Plan, WritePlan};
use kampf_engine::{Engine, Scratch, Setting};
use kampf_fill::{Blueprint, RecipeMaker};
use kampf_schema::{ColumnId, LogicalType, Schema, TableId, Value};
use serde_json::Value as Json;

use crate::job::Job;

/// One contest with its field.
#[derive(Clone)]
pub struct Contest {
    /// Its name.
    pub name: String,
    /// What contenders have to do.
    pub job: Job,
    /// The need as the user wrote it.
    pub need_text: Json,
    /// The parameters, in the order of the job's.
    pub parameters: Vec<DrawnParameter>,
    /// The field, in the order in which it is shown.
    pub entries: Vec<Entry>,
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
    /// Values of a column.
    Drawn(Drawn),
}

/// Values of a column, drawn anew for each call.
#[derive(Clone, Debug, PartialEq)]
pub struct Drawn {
    /// The table.
    pub table: TableId,
    /// The column.
    pub column: ColumnId,
    /// What is drawn.
    pub what: Draw,
    /// Share of nulls in thousandths of a percent, 0 to 100,000.
    pub null_share: u32,
}

/// What is drawn of a column.
#[derive(Clone, Debug, PartialEq)]
pub enum Draw {
    /// The value of any row.
    Any,
    /// The value of a row, few rows far more often than others: the n-th one of them in proportion to n to the minus `exponent`.
    Zipf {
        /// The exponent, above 0.
        exponent: f64,
    },
    /// So many values of different rows, as a list.
    Some(u64),
    /// A value that is not there, from the largest one on.
    Missing(Value),
}

impl Drawn {
    /// The value for the n-th drawing, under a name that no other parameter has.
    fn value(&self, blueprint: &Blueprint, seed: u64, name: &str, drawing: u64) -> Value {
        if self.null_share > 0 && RecipeMaker::row(seed, &format!("{name} null"), drawing, 100_000) < u64::from(self.null_share) {
            return Value::Null;
        }
        let rows = blueprint.rows(self.table);
        let of_row = |row| blueprint.value(self.table, row, self.column);
        match &self.what {
            Draw::Any => of_row(RecipeMaker::row(seed, name, drawing, rows)),
            Draw::Zipf { exponent } => {
                let rank = zipf_rank(RecipeMaker::row(seed, name, drawing, 1 << 53) as f64 / (1_u64 << 53) as f64, *exponent, rows);
                // The same rank is the same row for all drawings.
                of_row(RecipeMaker::row(seed, &format!("{name} rank"), rank, rows))
            }
            Draw::Some(many) => {
                let most = (*many).min(rows);
                let mut taken = std::collections::BTreeSet::new();
                let mut values = Vec::new();
                let mut attempt = 0;
                while (values.len() as u64) < most {
                    let row = RecipeMaker::row(seed, &format!("{name} {attempt}"), drawing, rows);
                    attempt += 1;
                    if taken.insert(row) {
                        values.push(of_row(row));
                    }
                }
                Value::List(values.into())
            }
            Draw::Missing(largest) => beyond(largest, 1 + RecipeMaker::row(seed, name, drawing, 1_000)),
        }
    }
}

/// The rank, from 0, that a number from 0 to 1 stands for where ranks are as frequent as (rank + 1) to the minus `exponent`: by the
/// inverse of the continuous distribution's integral.
fn zipf_rank(share: f64, exponent: f64, ranks: u64) -> u64 {
    let most = ranks.max(1) as f64;
    let rank = if (exponent - 1.0).abs() < 1e-9 {
        (share * (most + 1.0).ln()).exp()
    } else {
        let power = 1.0 - exponent;
        (share * ((most + 1.0).powf(power) - 1.0) + 1.0).powf(1.0 / power)
    };
    ((rank - 1.0).max(0.0) as u64).min(ranks.saturating_sub(1))
}

/// The largest value of a column.
fn largest_of(blueprint: &Blueprint, drawn: &Drawn) -> Option<Value> {
    let values = (0..blueprint.rows(drawn.table)).map(|row| blueprint.value(drawn.table, row, drawn.column));
    values.max_by(|one, other| one.as_ref().order(other.as_ref()))
}

/// A value behind the largest one there is.
fn beyond(largest: &Value, by: u64) -> Value {
    let step = i64::try_from(by).unwrap_or(1);
    match largest {
        Value::Integer(number) => Value::Integer(number.checked_add(step).unwrap_or(i64::MAX)),
        Value::Decimal(units, scale) => Value::Decimal(units.get().saturating_add(step.into()).into(), *scale),
        Value::Real(number) => Value::Real(number + step as f64 * number.abs().max(1.0)),
        Value::Date(days) => Value::Date(days.saturating_add(i32::try_from(step).unwrap_or(1))),
        Value::Timestamp(micros) => Value::Timestamp(micros.saturating_add(step * 1_000_000)),
        // Texts that begin with another come behind it.
        Value::Text(text) => Value::from(format!("{text}~{by}").as_str()),
        // As good as never drawn twice.
        Value::Uuid(_) | Value::Null => {
            let half = |salt: u64| (by ^ salt).wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(29).to_be_bytes();
            let mut bytes = [0; 16];
            bytes[..8].copy_from_slice(&half(0x5bd1_e995));
            bytes[8..].copy_from_slice(&half(0xc2b2_ae35));
            Value::Uuid(bytes)
        }
        other => other.clone(),
    }
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
    /// The variant that it runs on; none for the plain schema.
    pub variant: Option<String>,
}

/// The same rows with other keys.
#[derive(Clone, Copy)]
pub struct Keyed<'a> {
    /// The schema.
    pub schema: &'a Schema,
    /// The rows.
    pub blueprint: &'a Blueprint,
}

/// A copy of the data that may be written to.
#[derive(Clone, Copy)]
pub struct ScratchPlace<'a> {
    /// The copy.
    pub scratch: &'a dyn Scratch,
    /// Whether a commit waits until it is on the disk.
    pub durable: bool,
}

/// Where loaded data is.
#[derive(Clone, Debug)]
pub struct Place {
    /// As contenders are told. It may hold a password.
    pub url: String,
    /// The same over TCP, where that is another URL.
    pub tcp_url: Option<String>,
}

/// How a contender is carried out.
#[derive(Clone)]
pub enum EntryWay {
    /// By Kampf's own layers.
    Plan(Box<Plan>),
    /// By Kampf's own layers, which write.
    Write(Box<WritePlan>),
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

    /// Whether answers are kept and given again.
    pub fn keeps_answers(&self) -> bool {
        matches!(&self.way, EntryWay::Plan(plan) if plan.manner.cache == Cache::Warm)
    }

    /// How many calls a fresh connection makes until the engine treats its statements as it will from then on: an engine may
    /// look for a better plan while it gets to know the parameters.
    pub(crate) fn calls_to_settle(&self, setup: &Setup<'_>) -> u64 {
        match &self.way {
            EntryWay::Plan(plan) if !plan.has_parameters(setup.engine.dialect()) => 0,
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
    /// Where the loaded data is.
    pub place: Place,
    /// Where the same rows are under other indexes or with other keys, by the names of variants.
    pub variants: BTreeMap<String, Place>,
    /// Of those with other keys the schema and the rows.
    pub keyed: BTreeMap<String, Keyed<'a>>,
    /// How many more connections a server takes; none where nobody counts them.
    pub connections: Option<usize>,
    /// The schema of the data.
    pub schema: &'a Schema,
    /// The rows that were loaded.
    pub blueprint: &'a Blueprint,
    /// The same with few rows, where there are many.
    pub twin: Option<Box<Setup<'a>>>,
    /// A copy of the data that may be written to, where contenders write.
    pub scratch: Option<ScratchPlace<'a>>,
    /// Seed of everything drawn.
    pub seed: u64,
    /// How much longer each wait lasts in an engine that has no trips; none where that is not asked for.
    pub simulated_trip: Option<Duration>,
    /// The share of calls that a contender which keeps answers gives one of those, from 0 to 1.
    pub hit_rate: f64,
    /// The core of the processor that contenders are kept on.
    pub core: Option<usize>,
    /// Longest time for a single run.
    pub timeout: Duration,
    /// Most memory of a contender's process, in bytes.
    pub memory_limit: Option<u64>,
}

impl Setup<'_> {
    /// Where the data of a contender is; none where it was not loaded.
    pub fn place_of(&self, entry: &Entry) -> Option<&Place> {
        match &entry.variant {
            None => Some(&self.place),
            Some(variant) => self.variants.get(variant),
        }
    }
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
        (0..self.set_count())
            .map(|set| {
                let drawing = round * SETS as u64 + set;
                let value = |parameter: &DrawnParameter| match &parameter.source {
                    ParameterSource::Recipe(maker) => maker.value(drawing),
                    ParameterSource::Drawn(drawn) => drawn.value(blueprint, seed, &format!("{}:{}", self.name, parameter.name), drawing),
                };
                self.parameters.iter().map(value).collect()
            })
            .collect()
    }

    /// How many parameter sets a round has.
    pub(crate) fn set_count(&self) -> u64 {
        if self.parameters.is_empty() { 1 } else { SETS as u64 }
    }

    /// Parameter sets at the edges: what is drawn from rows is not there, or is null or empty where that may be drawn too.
    pub(crate) fn sets_at_edges(&self, blueprint: &Blueprint, seed: u64) -> Vec<Vec<Value>> {
        let Some(usual) = self.parameter_sets_of(blueprint, seed, 0).into_iter().next().filter(|usual| !usual.is_empty()) else {
            return Vec::new();
        };
        let with = |edge: &dyn Fn(&Drawn, &Value) -> Option<Value>| {
            let of = |(parameter, value): (&DrawnParameter, &Value)| match &parameter.source {
                ParameterSource::Drawn(drawn) => edge(drawn, value).unwrap_or_else(|| value.clone()),
                ParameterSource::Recipe(_) => value.clone(),
            };
            self.parameters.iter().zip(&usual).map(of).collect::<Vec<Value>>()
        };
        let missing = |drawn: &Drawn, value: &Value| match value {
            Value::List(_) => Some(Value::List([].into())),
            Value::Null => None,
            _ => Some(beyond(&largest_of(blueprint, drawn).unwrap_or_else(|| value.clone()), 1)),
        };
        let null = |drawn: &Drawn, _: &Value| (drawn.null_share > 0).then_some(Value::Null);
        let mut sets = vec![with(&missing), with(&null)];
        sets.retain(|set| *set != usual);
        sets
    }

    /// Parameter sets as contenders on a variant get them: keys of another type stand for the same rows.
    pub fn sets_on(&self, setup: &Setup<'_>, variant: Option<&str>, sets: &[Vec<Value>]) -> Vec<Vec<Value>> {
        let Some((on, data)) = variant.and_then(|name| Some((self.job.keyed(name)?, setup.keyed.get(name)?))) else { return sets.to_vec() };
        let value = |(value, table): (&Value, &Option<TableId>)| match table {
            Some(table) => data.blueprint.new_key(*table, value),
            None => value.clone(),
        };
        sets.iter().map(|set| set.iter().zip(&on.keys.parameters).map(value).collect()).collect()
    }

    /// The types of parameters on a variant.
    pub(crate) fn kinds_on(&self, variant: Option<&str>) -> Vec<LogicalType> {
        match variant.and_then(|name| self.job.keyed(name)) {
            Some(on) => on.need.parameters.iter().map(|parameter| parameter.kind).collect(),
            None => self.parameters.iter().map(|parameter| parameter.kind).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranks_follow_the_exponent_and_stay_within_the_rows() {
        for exponent in [0.5, 1.0, 1.1, 2.0] {
            let ranks: Vec<u64> = (0..10_000).map(|at| zipf_rank(f64::from(at) / 10_000.0, exponent, 1_000)).collect();
            let of_rank = |rank: u64| ranks.iter().filter(|&&one| one == rank).count() as f64;
            assert!(ranks.iter().all(|&rank| rank < 1_000) && ranks.is_sorted());
            // Twice the rank is 2 to the exponent times as rare, about: over ranges, as single ones are coarse.
            let (near, far) = ((4..8).map(of_rank).sum::<f64>(), (8..16).map(of_rank).sum::<f64>());
            assert!((far / near / 2.0_f64.powf(1.0 - exponent) - 1.0).abs() < 0.2, "{exponent}: {near} {far}");
        }
    }

    #[test]
    fn what_is_missing_comes_behind_the_largest() {
        for value in [Value::Integer(7), Value::from("hive-9"), Value::Date(20_000), Value::Decimal(725.into(), 2), Value::Real(1e9)] {
            let (one, other) = (beyond(&value, 1), beyond(&value, 2));
            assert!(one.as_ref().order(value.as_ref()).is_gt() && one != other, "{value}: {one} {other}");
        }
        assert_ne!(beyond(&Value::Uuid([7; 16]), 1), beyond(&Value::Uuid([7; 16]), 2));
    }
}
