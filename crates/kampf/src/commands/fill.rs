//! `kampf fill`

use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use kampf_contest::bare_references;
use kampf_doubt::doubts;
use kampf_fill::LAST_DAY;
use kampf_schema::{KeyColumns, TableId, parse_date};

use super::{Ending, Teller, print, print_json, say};
use crate::arguments::{Fill, Format, General, is_of_keys};
use crate::output::{Column, KeysFilled, Look, Page, bytes, count, keys_table, list, paint, preview, print_doubts, reference_text};
use crate::problem::Problem;
use crate::project::{Project, Variant};
use crate::running::{engines, filled_with, open, warn_of_shares};
use crate::store::{Dataset, VariantData, now, remove_all};

pub(super) fn run(general: &General, arguments: &Fill) -> Result<Ending, Problem> {
    let hear = &mut Teller::of(general);
    for engine in engines(general.engine.as_deref(), hear) {
        let mut project = open(general, engine.as_deref(), hear)?;
        if let Some(table) = &arguments.preview {
            preview(general, &project, table)?;
            break;
        }
        if arguments.doubt {
            return doubt(general, &project);
        }
        if arguments.digest {
            digests(general, &project)?;
            break;
        }
        if arguments.remove {
            let swept = remove_all(&project)?;
            let datasets = |count: usize| format!("{count} {}", if count == 1 { "dataset" } else { "datasets" });
            say(general.quiet, &format!("removed {}", datasets(swept.removed)));
            if swept.of_others > 0 {
                say(general.quiet, &format!("left {} of other folders or machines on the server", datasets(swept.of_others)));
            }
            if swept.in_use > 0 {
                return Err(Problem::surroundings(format!("left {} that another kampf is using", datasets(swept.in_use)))
                    .hint("wait until it has ended"));
            }
            // All engines' datasets are gone with that.
            break;
        }
        match arguments.keys.as_slice() {
            [] => fill(general, &project, hear)?,
            keys => fill_keys(general, &mut project, keys, hear)?,
        }
    }
    Ok(Ending::Done)
}

/// What a person would not believe of the rows.
fn doubt(general: &General, project: &Project) -> Result<Ending, Problem> {
    let last_day = parse_date(LAST_DAY).map_or(0, i64::from);
    // Until its end.
    let today = (last_day + 1) * 86_400_000_000 - 1;
    let found = doubts(&project.schema, &project.blueprint, today);
    print_doubts(general, project, &found)?;
    Ok(if found.is_empty() { Ending::Done } else { Ending::No })
}

/// The digests of all tables, worked out on as many threads as there are.
fn digests(general: &General, project: &Project) -> Result<(), Problem> {
    let tables: Vec<TableId> = project.schema.ids().collect();
    let next = AtomicUsize::new(0);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let digests: Vec<OnceLock<u64>> = tables.iter().map(|_| OnceLock::new()).collect();
    let work = || {
        while let Some(&table) = tables.get(next.fetch_add(1, Ordering::Relaxed)) {
            let _ = digests[table.0].set(project.blueprint.digest(table));
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..threads {
            // This one does what others cannot be started for.
            let _ = std::thread::Builder::new().spawn_scoped(scope, work);
        }
        work();
    });
    let digests = tables.iter().map(|&table| (table, format!("{:016x}", digests[table.0].get().copied().unwrap_or_default())));
    if general.format == Format::Json {
        let tables: Vec<serde_json::Value> = digests
            .map(|(table, digest)| serde_json::json!({ "name": project.schema.table(table).name, "rows": project.blueprint.rows(table), "digest": digest }))
            .collect();
        return print_json(&format!("{:#}", serde_json::json!({ "tables": tables })));
    }
    let mut page = Page::new();
    let rows: Vec<_> = digests
        .map(|(table, digest)| {
            let rows = count(project.blueprint.rows(table));
            vec![(Look::Strong, project.schema.table(table).name.clone()), (Look::Plain, rows), (Look::Plain, digest)]
        })
        .collect();
    page.table(&[Column::left("table"), Column::right("rows"), Column::left("digest")], &rows);
    print(&page.into_text())
}

fn fill(general: &General, project: &Project, hear: &mut Teller) -> Result<(), Problem> {
    let of_indexes = project.variants.iter().filter(|variant| variant.keys.is_none());
    let (variants, lacking): (Vec<&Variant>, Vec<&Variant>) = of_indexes.partition(|variant| variant.lacks.is_none());
    lacking.iter().filter_map(|variant| variant.lacks.as_ref()).for_each(|lacks| say(general.quiet, &lacks.message));
    let dataset = filled_with(project, &variants, hear)?;
    let record = &dataset.record;
    if dataset.reused {
        warn_of_shares(project, hear);
    }
    let place = dataset.served.place();
    if general.format == Format::Json {
        let mut json = serde_json::to_value(record).unwrap_or_default();
        json["place"] = place.into();
        json["reused"] = dataset.reused.into();
        print_json(&format!("{json:#}"))?;
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
    variants_text(&mut page, &dataset);
    let bare: Vec<String> = bare_references(&project.schema).iter().map(|one| reference_text(&project.schema, one)).collect();
    if !bare.is_empty() {
        page.paragraph(&format!("References without an index: {}. Rows are found along them by reading all of the table.", list(&bare)), 2);
        page.blank();
    }
    let how = if dataset.reused { "already there, made" } else { "filled" };
    page.line(format!("{how} in {:.1} s by {} {}", record.seconds, record.engine, record.engine_version));
    page.line(format!("the database is {place}"));
    print(&page.into_text())
}

/// Fills the database once more for each other type of keys, and shows side by side what each takes.
fn fill_keys(general: &General, project: &mut Project, asked: &[String], hear: &mut Teller) -> Result<(), Problem> {
    project.add_keys(asked)?;
    let project = &*project;
    let mut found: Vec<&Variant> = Vec::new();
    for (text, variant) in asked.iter().flat_map(|text| project.keys_asked(text).into_iter().map(move |variant| (text, variant))) {
        match &variant.lacks {
            // That of the schema stands in the table anyway.
            Some(_) if !is_of_keys(text) => {}
            Some(lacks) => say(general.quiet, &lacks.message),
            None if found.iter().any(|known| known.name == variant.name) => {}
            None => found.push(variant),
        }
    }
    if asked.iter().any(|text| project.asks_for_all(text)) {
        project.keys_that_stay().iter().for_each(|why| say(general.quiet, why));
    }
    let dataset = filled_with(project, &found, hear)?;
    if general.format == Format::Json {
        let mut json = serde_json::to_value(&dataset.record).unwrap_or_default();
        let names: Vec<&String> = dataset.variants.iter().map(|data| &data.record.word).collect();
        if let Some(all) = json["variants"].as_array_mut() {
            all.retain(|one| one["word"].as_str().is_some_and(|word| names.iter().any(|name| *name == word)));
        }
        return print_json(&format!("{json:#}"));
    }
    let mut page = Page::new();
    let record = &dataset.record;
    let columns: Vec<&KeyColumns> = found.iter().filter_map(|variant| variant.keys.as_ref()).flat_map(|keys| &keys.columns).collect();
    let own = match columns.split_first() {
        Some((first, rest)) if rest.iter().all(|other| other.table == first.table) => {
            format!("as declared: {}", project.schema.table(first.table).columns[first.own()].kind)
        }
        _ => "as declared".to_owned(),
    };
    let mut all = vec![KeysFilled { name: own, tables: &record.tables, seconds: record.load_seconds, timed: record.timed }];
    all.extend(dataset.variants.iter().map(|data| KeysFilled {
        name: format!("@{}", data.name),
        tables: &data.record.tables,
        seconds: data.record.seconds,
        timed: data.record.timed,
    }));
    let holds = |table: &TableId| found.iter().filter_map(|variant| variant.keys.as_ref()).any(|keys| keys.concern(&[*table]));
    let concerned: Vec<String> = project.schema.ids().filter(holds).map(|table| project.schema.table(table).name.clone()).collect();
    keys_table(&mut page, &all, &concerned, now());
    for variant in &found {
        page.hung(&format!("  {} ", paint(Look::Strong, &format!("@{}", variant.name))), &format!("{}.", variant.about()), 4);
    }
    page.blank();
    page.line(format!("on {} {}", record.engine, record.engine_version));
    print(&page.into_text())
}

/// The variants that lie beside the plain schema, with what they take besides.
fn variants_text(page: &mut Page, dataset: &Dataset) {
    if dataset.variants.is_empty() {
        return;
    }
    let columns = [
        Column::left("variant"),
        Column::left("index").yielding(1),
        Column::right("bytes"),
        Column::right("of it indexes"),
        Column::right("loaded in"),
        Column::right("of it indexes").yielding(2),
    ];
    let row = |variant: &VariantData| {
        let record = &variant.record;
        let build = record.index_seconds();
        vec![
            (Look::Strong, variant.name.clone()),
            (Look::Plain, record.about.clone()),
            (Look::Plain, bytes(record.bytes())),
            (Look::Plain, bytes(record.index_bytes())),
            (Look::Plain, format!("{:.1} s", record.seconds)),
            (Look::Plain, format!("{build:.1} s")),
        ]
    };
    page.table(&columns, &dataset.variants.iter().map(row).collect::<Vec<_>>());
    page.blank();
}
