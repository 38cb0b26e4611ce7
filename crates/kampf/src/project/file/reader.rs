//! Reading the tables of kampf.toml key by key, with places, so that unknown keys and wrong kinds are errors that can be shown.

use kampf_schema::{Span, did_you_mean};
use schemars::JsonSchema;
use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

use crate::problem::{Place, Problem, TextFile};
use crate::project::written::Written;

/// Something that a key of kampf.toml can be.
pub(crate) trait FileValue: Sized + JsonSchema {
    /// Reads it from under its key.
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Self, Problem>;
}

/// A table being read.
pub(crate) struct Reader<'a> {
    source: &'a TextFile,
    /// How it is called in errors, `[contest.calmest]`.
    name: String,
    table: &'a DeTable<'a>,
    known: Vec<&'static str>,
}

pub(crate) type Item<'a> = (&'a Spanned<DeString<'a>>, &'a Spanned<DeValue<'a>>);

pub(crate) fn span(range: std::ops::Range<usize>) -> Span {
    Span::new(range.start, range.end)
}

impl<'a> Reader<'a> {
    pub(crate) fn new(source: &'a TextFile, name: impl Into<String>, table: &'a DeTable<'a>) -> Reader<'a> {
        Reader { source, name: name.into(), table, known: Vec::new() }
    }

    /// What stands under a key; none where it is not there.
    pub(crate) fn value<T: FileValue>(&mut self, key: &'static str) -> Result<Option<T>, Problem> {
        self.known.push(key);
        self.table.get_key_value(key).map(|item| T::read(self, item)).transpose()
    }

    /// Whether a key is there.
    pub(crate) fn has(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    /// The file.
    pub(crate) fn source(&self) -> &'a TextFile {
        self.source
    }

    /// The text of the whole file.
    pub(crate) fn text_of_file(&self) -> &'a str {
        &self.source.text
    }

    /// A place in the file.
    pub(crate) fn place_of(&self, span: Span) -> Place {
        self.source.place(span)
    }

    /// All keys in the order of the file, for tables whose keys are names of the user's.
    pub(crate) fn items(&self) -> impl Iterator<Item = Item<'a>> + use<'a> {
        let mut items: Vec<Item<'a>> = self.table.iter().collect();
        items.sort_by_key(|(key, _)| key.span().start);
        items.into_iter()
    }

    pub(crate) fn text(&self, (key, value): Item<'a>) -> Result<Written, Problem> {
        let text = value.get_ref().as_str().ok_or_else(|| self.wrong_kind(key.get_ref(), value, "a text in quotes"))?;
        Ok(Written::new(&self.source.text, span(value.span()), text))
    }

    /// A list of texts under a key of any name.
    pub(crate) fn texts(&self, (name, value): Item<'a>) -> Result<Vec<Written>, Problem> {
        let list = value.get_ref().as_array().ok_or_else(|| self.wrong_kind(name.get_ref(), value, "a list of texts, like [\"…\"]"))?;
        list.iter().map(|item| self.text((name, item))).collect()
    }

    /// What is wrong with what should be a whole number from 0 on.
    pub(crate) fn no_number(&self, (key, value): Item<'a>) -> Problem {
        match value.get_ref().as_integer() {
            Some(number) if !number.as_str().starts_with('-') => {
                Problem::wrong(format!("`{}` is a number of more than 64 bits", key.get_ref())).at(self.source.place(span(value.span())))
            }
            Some(number) => Problem::wrong(format!("`{}` must be a whole number from 0 on, not {}", key.get_ref(), number.as_str()))
                .at(self.source.place(span(value.span()))),
            None => self.wrong_kind(key.get_ref(), value, "a whole number from 0 on"),
        }
    }

    /// A table under a name of the user's.
    pub(crate) fn inner(&self, (key, value): Item<'a>) -> Result<Reader<'a>, Problem> {
        let table = value.get_ref().as_table().ok_or_else(|| self.wrong_kind(key.get_ref(), value, "a table"))?;
        let name = match self.name.trim_matches(['[', ']']) {
            "" => format!("[{}]", key.get_ref()),
            outer => format!("[{outer}.{}]", key.get_ref()),
        };
        Ok(Reader::new(self.source, name, table))
    }

    pub(crate) fn wrong_kind(&self, key: &str, value: &Spanned<DeValue<'_>>, wanted: &str) -> Problem {
        let found = match value.get_ref() {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) => "a whole number",
            DeValue::Float(_) => "a number with a point",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        Problem::wrong(format!("`{key}` must be {wanted}, not {found}")).at(self.source.place(span(value.span())))
    }

    /// A key that is none of some others and nearly another, which is not there.
    pub(crate) fn near(&self, wanted: &str, others: &[&str]) -> Option<(String, Span)> {
        let is_near = |key: &str| !others.contains(&key) && did_you_mean(key, [wanted]).is_some_and(|hint| hint.contains(wanted));
        self.table.iter().find(|(key, _)| is_near(key.get_ref())).map(|(key, _)| (key.get_ref().to_string(), span(key.span())))
    }

    /// Refuses keys that nothing asked for.
    pub(crate) fn finish(self) -> Result<(), Problem> {
        for (key, _) in self.table {
            if !self.known.contains(&key.get_ref().as_ref()) {
                if let Some((what, hint)) = gone(&self.name, key.get_ref()) {
                    return Err(Problem::wrong(what).at(self.source.place(span(key.span()))).hint(hint));
                }
                let name = if self.name.is_empty() { "kampf.toml".to_owned() } else { self.name.clone() };
                return Err(Problem::wrong(format!("`{}` is not a key of {name}", key.get_ref()))
                    .at(self.source.place(span(key.span())))
                    .maybe_hint(
                        way_out(key.get_ref())
                            .filter(|(_, ours)| self.known.contains(ours))
                            .map(|(hint, _)| hint.to_owned())
                            .or_else(|| did_you_mean(key.get_ref(), self.known.iter().copied())),
                    ));
            }
        }
        Ok(())
    }
}

/// What became of a key that earlier versions had.
fn gone(table: &str, key: &str) -> Option<(&'static str, &'static str)> {
    let hint = "leave the line out; `unit = [\"one\"]` under [contest.….choices] has every contender hold its calls together";
    (table == "[conditions]" && key == "transaction").then_some(("a transaction around each call is a choice of the contender", hint))
}

/// What stands here for a key that other languages have, and the key of ours that it speaks of.
fn way_out(key: &str) -> Option<(&'static str, &'static str)> {
    Some(match key.to_ascii_lowercase().as_str() {
        "offset" | "skip" | "start" | "fetch" => ("pages are read by `page`, how many rows one has, and `pages`, how many of them", "page"),
        "having" => ("a condition over groups is SQL of your own: [contest.….contender.…] with `sql`", "group"),
        "select" | "fields" | "columns" => ("what is given stands in `give`", "give"),
        "group_by" | "groupby" => ("the terms of groups stand in `group`", "group"),
        "order_by" | "orderby" | "sort" => ("what rows are sorted by stands in `order`", "order"),
        "filter" | "condition" => ("which rows are wanted stands in `where`", "where"),
        "join" | "joins" => ("paths lead over relations by themselves: `strain.name`; how they are loaded stands in `loading`", "loading"),
        "top" | "first" | "max_rows" => ("how many rows at most stands in `limit`", "limit"),
        _ => return None,
    })
}

pub(crate) fn integer(value: &DeValue<'_>) -> Option<u64> {
    let number = value.as_integer()?;
    u64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok()
}
