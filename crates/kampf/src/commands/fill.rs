//! `kampf fill`

use super::session::{engines, filled, open};
use super::{Ending, print, say};
use crate::arguments::{Fill, Format, General};
use crate::output::{Column, Look, Page, bytes, count};
use crate::problem::Problem;
use crate::project::Project;
use crate::store::remove_all;

pub(super) fn run(general: &General, arguments: &Fill) -> Result<Ending, Problem> {
    for engine in engines(general)? {
        let project = open(general, engine.as_deref())?;
        if arguments.remove {
            let removed = remove_all(&project)?;
            say(general.quiet, &format!("removed {removed} {}", if removed == 1 { "dataset" } else { "datasets" }));
            // All engines' datasets are gone with that.
            break;
        }
        fill(general, &project)?;
    }
    Ok(Ending::Done)
}

fn fill(general: &General, project: &Project) -> Result<(), Problem> {
    let dataset = filled(general, project)?;
    let record = &dataset.record;
    let place = dataset.served.place();
    if general.format == Format::Json {
        let mut json = serde_json::to_value(record).unwrap_or_default();
        json["place"] = place.into();
        json["reused"] = dataset.reused.into();
        print(&format!("{json:#}\n"))?;
        return Ok(());
    }
    let mut page = Page::new();
    let columns = [Column::left("table"), Column::right("rows"), Column::right("bytes"), Column::left("digest").yielding(1)];
    let row = |name: &str, rows: u64, size: u64, digest: &str, look: Look| {
        vec![(look, name.to_owned()), (look, count(rows)), (look, bytes(size)), (Look::Quiet, digest.to_owned())]
    };
    let mut rows: Vec<_> =
        record.tables.iter().map(|table| row(&table.name, table.rows, table.bytes, &table.digest, Look::Strong)).collect();
    let sum = |of: fn(&crate::store::TableRecord) -> u64| record.tables.iter().map(of).sum();
    rows.push(row("in all", sum(|table| table.rows), sum(|table| table.bytes), "", Look::Good));
    page.table(&columns, &rows);
    page.blank();
    let how = if dataset.reused { "already there, made" } else { "filled" };
    page.line(format!("{how} in {:.1} s by {} {}", record.seconds, record.engine, record.engine_version));
    page.line(format!("the database is {place}"));
    print(&page.into_text())
}
