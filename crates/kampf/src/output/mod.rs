//! What people read: numbers, tables, SQL, verdicts.

mod across;
mod cache_text;
mod choices_text;
mod comparison_text;
mod contest_text;
mod fetch_text;
mod forecast_text;
mod legend;
mod live;
mod mattered_text;
mod numbers;
mod out;
mod page;
mod preview_text;
mod progress;
mod race_table;
mod redact;
mod require_text;
mod style;
mod summary;
mod table;
mod verdict_text;

pub(crate) use across::together;
pub(crate) use comparison_text::comparison_text;
pub(crate) use contest_text::contest_text;
pub(crate) use live::RaceProgress;
pub(crate) use numbers::{bytes, count, duration, interval, percent, share, wait};
pub(crate) use out::{complain, complain_line, one_line, print, print_as, print_json, say, shown};
pub(crate) use page::Page;
pub(crate) use preview_text::preview;
pub(crate) use progress::FillProgress;
pub(crate) use redact::{STARS, keep_secret, password_of, redact, secrets_in_line};
pub(crate) use require_text::{miss_text, nearest_text};
pub(crate) use style::{Look, choose_color, paint, quiet_words, terminal_width, width};
pub(crate) use summary::end;
pub(crate) use table::Column;
