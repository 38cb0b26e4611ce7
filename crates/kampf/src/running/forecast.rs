//! How much a fill is going to make, and how long that takes, said before it begins.

use std::time::Instant;

use kampf_fill::{BATCH_ROWS, Batch};
use kampf_schema::{Table, TableId};

use crate::output::{bytes, rows_of};
use crate::project::Project;

/// Nobody wants to hear of fewer rows: they are made before the line is read.
const FEW: u64 = 200_000;
/// What an engine keeps beside the values of a row, and of an entry of an index, and how large a key is: about, on any engine.
const BESIDE_ROW: f64 = 24.0;
const BESIDE_ENTRY: f64 = 18.0;
/// Bytes that an engine takes in a second, indexes included: a slow one of those in docs/how-numbers-are-made.md.
const TAKEN: f64 = 60e6;

/// Rows, bytes on the disk and seconds of a dataset, from one batch of each table.
struct Forecast {
    rows: u64,
    bytes: f64,
    seconds: f64,
}

/// What is said before a large dataset is made.
pub(super) fn forecast(project: &Project) -> Option<String> {
    let tables: Vec<TableId> = project.schema.ids().collect();
    let rows = tables.iter().map(|&table| project.blueprint.rows(table)).fold(0_u64, u64::saturating_add);
    if rows < FEW {
        return None;
    }
    let mut forecast = Forecast { rows, bytes: 0.0, seconds: 0.0 };
    tables.iter().for_each(|&table| forecast.add(project, table));
    let seconds = forecast.seconds + forecast.bytes / TAKEN;
    Some(format!(
        "making about {}, {} on the disk; that takes about {}",
        rows_of(forecast.rows),
        bytes(forecast.bytes as u64),
        about(seconds)
    ))
}

impl Forecast {
    fn add(&mut self, project: &Project, table: TableId) {
        let rows = project.blueprint.rows(table);
        let mut batch = Batch::default();
        let started = Instant::now();
        // Rows in the middle: given ones come first, and are like no others.
        let made = project.blueprint.batch(table, rows.saturating_sub(BATCH_ROWS as u64) / 2, &mut batch);
        if made == 0 {
            return;
        }
        let columns = project.schema.table(table).columns.len();
        let size: u64 = (0..made)
            .flat_map(|row| (0..columns).map(move |column| (row, column)))
            .map(|(row, column)| batch.value(row, column).size())
            .sum();
        let times = rows as f64 / made as f64;
        self.seconds += started.elapsed().as_secs_f64() * times;
        self.bytes += size as f64 * times + rows as f64 * (BESIDE_ROW + BESIDE_ENTRY * indexes(project.schema.table(table)) as f64);
    }
}

/// How many indexes a table has, that of its key included.
fn indexes(table: &Table) -> usize {
    usize::from(!table.primary_key.is_empty()) + table.uniques.len() + table.unique_indexes.len() + table.indexes.len()
}

/// A time that is only known about.
fn about(seconds: f64) -> String {
    match seconds {
        seconds if seconds < 10.0 => format!("{:.0} s", seconds.ceil()),
        seconds if seconds < 100.0 => format!("{:.0} s", (seconds / 5.0).ceil() * 5.0),
        seconds => format!("{:.0} min", (seconds / 60.0).ceil()),
    }
}
