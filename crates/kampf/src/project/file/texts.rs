//! Texts in tables whose keys are names of the user's.

use super::form::schema;
use super::reader::{FileValue, Item, Reader, integer, span};
use crate::problem::Problem;
use crate::project::written::Written;

/// A text; a table is a name with a point that lacks its quotes.
#[derive(Clone, Debug)]
pub(crate) struct PlainText(pub(crate) Written);

schema!(PlainText, like String);

impl FileValue for PlainText {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<PlainText, Problem> {
        if item.1.get_ref().is_table() {
            let name = item.0.get_ref();
            return Err(Problem::wrong(format!("`{name}` must be a text, not a table"))
                .at(table.place_of(span(item.0.span())))
                .hint(format!("put the whole name in quotes: \"{name}.…\" = \"…\"")));
        }
        table.text(item).map(PlainText)
    }
}

/// A number of rows, or a text that says how many.
#[derive(Clone, Debug)]
pub(crate) struct CountText(pub(crate) Written);

schema!(CountText, { "anyOf": [{ "type": "integer", "minimum": 0 }, { "type": "string" }] });

impl FileValue for CountText {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<CountText, Problem> {
        match integer(item.1.get_ref()) {
            Some(number) => Ok(CountText(Written::new(table.text_of_file(), span(item.1.span()), &number.to_string()))),
            None if item.1.get_ref().as_integer().is_some() => {
                Err(table.no_number(item).hint("a number of rows, like 5_000, or so many for each row of a parent: \"12 per apiary\""))
            }
            None => PlainText::read(table, item).map(|PlainText(text)| CountText(text)),
        }
    }
}
