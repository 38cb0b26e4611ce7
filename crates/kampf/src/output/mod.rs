//! What people read: numbers, tables, SQL, verdicts.

mod across;
mod numbers;
mod page;
mod progress;
mod race_table;
mod style;
mod verdict_text;

pub(crate) use across::across;
pub(crate) use numbers::{bytes, count, duration};
pub(crate) use page::{Column, Page};
pub(crate) use progress::{FillProgress, RaceProgress};
pub(crate) use race_table::race_table;
pub(crate) use style::{Look, choose_color, paint, quiet_words, terminal_width};
pub(crate) use verdict_text::verdict_text;

#[cfg(test)]
mod tests;
