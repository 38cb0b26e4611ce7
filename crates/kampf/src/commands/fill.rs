//! `kampf fill`

use super::session::open;
use super::{Ending, print, session};
use crate::arguments::{Format, General};
use crate::output::{Column, Look, Page, bytes, count};
use crate::problem::Problem;

pub(super) fn run(general: &General) -> Result<Ending, Problem> {
    let project = open(general, general.engine.as_deref())?;
    let dataset = session::filled(general, &project)?;
    let record = &dataset.record;
    let place = dataset.served.place();
    if general.format == Format::Json {
        let mut json = serde_json::to_value(record).unwrap_or_default();
        json["place"] = place.into();
        json["reused"] = dataset.reused.into();
        print(&format!("{json:#}\n"))?;
        return Ok(Ending::Done);
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
    print(&page.into_text())?;
    Ok(Ending::Done)
}
