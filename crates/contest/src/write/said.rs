//! A write in a sentence.

use super::{Act, Write};
use crate::words::{Telling, and};

impl Telling<'_> {
    /// What a write does, in plain words, so that a mistake is seen before a race.
    pub fn write(&self, write: &Write) -> String {
        let name = |table| self.schema.table(table).name.clone();
        let number = |rows: u64| if rows == 1 { "one".to_owned() } else { (self.number)(rows) };
        let column = |column: usize| self.schema.table(write.table()).columns[column].name.clone();
        let keys = self.schema.table(write.table()).primary_key.len();
        let become_of = |set: &[usize], skip: usize| {
            let values = write.rows.give.iter().skip(skip).map(|given| write.rows.said(self.schema, &given.value));
            and(set.iter().zip(values).map(|(&of, value)| format!("{} = {value}", column(of))).collect())
        };
        match &write.act {
            Act::Insert { count, set, also } => {
                let rows = if *count == 1 { "row" } else { "rows" };
                let mut text = format!("{} new {rows} of {}", number(*count), name(write.table()));
                for more in also {
                    let on = if more.under == 0 { "each".to_owned() } else { format!("each of {}", name(also[more.under - 1].table)) };
                    text += &format!(", {on} with {} of {}", number(more.each), name(more.table));
                }
                if !set.is_empty() {
                    text += &format!("; {}", become_of(set, 0));
                }
                let mut chars = text.chars();
                let first = chars.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
                first + chars.as_str() + "."
            }
            Act::Update { set } => format!("{} are changed: {}.", self.those(write), become_of(set, keys)),
            Act::Delete { also } if also.is_empty() => format!("{} are deleted.", self.those(write)),
            Act::Delete { also } => {
                let with = and(also.iter().map(|&table| name(table)).collect());
                format!("{} are deleted, with the rows of {with} that hang on them.", self.those(write))
            }
        }
    }

    /// The rows that a write is done to.
    fn those(&self, write: &Write) -> String {
        let table = &self.schema.table(write.table()).name;
        let rows = format!("{} rows of {table}", (self.number)((self.rows)(write.table())));
        match self.filter(&write.rows) {
            None => format!("All {rows}"),
            Some(filter) => format!("Of {rows}, those where {filter}"),
        }
    }
}
