//! What a dataset takes with each type of keys, side by side.

use kampf_result::numbers::{bytes, duration, percent};

use super::page::Page;
use super::style::Look;
use super::table::Column;
use crate::store::TableRecord;

/// A dataset with keys of one type.
pub(crate) struct KeysFilled<'a> {
    /// The type, as it is shown.
    pub(crate) name: String,
    pub(crate) tables: &'a [TableRecord],
    pub(crate) seconds: f64,
    /// When that load was timed, in seconds since 1970.
    pub(crate) timed: u64,
}

impl KeysFilled<'_> {
    fn bytes(&self) -> u64 {
        self.tables.iter().map(|table| table.bytes).sum()
    }

    fn index_bytes(&self) -> u64 {
        self.tables.iter().map(|table| table.index_bytes).sum()
    }

    fn table(&self, name: &str) -> Option<&TableRecord> {
        self.tables.iter().find(|table| table.name == name)
    }
}

/// How much more or less something takes than another: `+22 %`.
pub(super) fn against(ratio: f64) -> String {
    match ratio {
        ratio if !ratio.is_finite() => String::new(),
        ratio if (ratio - 1.0).abs() < 0.005 => "same".to_owned(),
        ratio if ratio >= 1.0 => format!("+{}", percent(ratio - 1.0)),
        ratio => format!("-{}", percent(1.0 - ratio)),
    }
}

/// How long ago something was.
fn ago(seconds: u64) -> String {
    match seconds {
        0..60 => "just now".to_owned(),
        60..3_600 => format!("{} min ago", seconds / 60),
        3_600..172_800 => format!("{} h ago", seconds / 3_600),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// The whole datasets, the schema's own first, then the tables that hold such keys, one by one.
pub(crate) fn keys_table(page: &mut Page, all: &[KeysFilled<'_>], concerned: &[String], now: u64) {
    let Some(own) = all.first() else { return };
    let columns = [
        Column::left("keys"),
        Column::right("on disk"),
        Column::right("").yielding(2),
        Column::right("of it tables").yielding(3),
        Column::right("of it indexes"),
        Column::right("").yielding(2),
        Column::right("loaded in"),
        Column::right("").yielding(1),
    ];
    let together = all.iter().all(|one| one.timed == own.timed);
    let row = |one: &KeysFilled<'_>| {
        let ratio = |of: &dyn Fn(&KeysFilled<'_>) -> f64| if std::ptr::eq(one, own) { String::new() } else { against(of(one) / of(own)) };
        vec![
            (Look::Strong, one.name.clone()),
            (Look::Plain, bytes(one.bytes())),
            (Look::Quiet, ratio(&|one| one.bytes() as f64)),
            (Look::Plain, bytes(one.bytes().saturating_sub(one.index_bytes()))),
            (Look::Plain, bytes(one.index_bytes())),
            (Look::Quiet, ratio(&|one| one.index_bytes() as f64)),
            (Look::Plain, duration(one.seconds * 1e9)),
            // Loads of different times are not compared: the machine may have been another one's meanwhile.
            (Look::Quiet, if together { ratio(&|one| one.seconds) } else { ago(now.saturating_sub(one.timed)) }),
        ]
    };
    page.table(&columns, &all.iter().map(row).collect::<Vec<_>>());
    page.blank();
    let mut columns = vec![Column::left("table and indexes")];
    columns.extend(all.iter().map(|one| Column::right(one.name.clone())));
    let cell = |one: &KeysFilled<'_>, table: &String| {
        let text = one.table(table).map_or_else(String::new, |record| {
            format!("{} + {}", bytes(record.bytes.saturating_sub(record.index_bytes)), bytes(record.index_bytes))
        });
        (Look::Plain, text)
    };
    let rows = concerned.iter().map(|table| {
        let cells = all.iter().map(|one| cell(one, table));
        std::iter::once((Look::Strong, table.clone())).chain(cells).collect()
    });
    page.table(&columns, &rows.collect::<Vec<Vec<_>>>());
    page.blank();
}
