//! `[contest.NAME]`.

use kampf_contest::{Expect, Opt};
use toml::de::DeValue;

use super::choices::ChoicesTable;
use super::contender::ContenderTable;
use super::form::{Named, OneOrMore, schema, table};
use super::numbers::{Many, Number};
use super::reader::{FileValue, Item, Reader, span};
use super::require::RequireTable;
use super::texts::PlainText;
use crate::problem::Problem;
use crate::project::written::Written;

table! {
    /// A need, and what may answer it.
    ContestTable {
        /// A sentence.
        "about" about: Written,
        /// The table whose rows are asked for.
        "from" from: Written,
        /// The table that gets new rows.
        "insert" insert: Written,
        /// The table whose rows change.
        "update" update: Written,
        /// The table whose rows go.
        "delete" delete: Written,
        /// How many rows are new.
        "count" count: Number,
        /// What columns become: "state = 'weak'".
        "set" set: Vec<Written>,
        /// What goes with it: of new rows "inspection 3 each", of rows that go "inspection".
        "also" also: Vec<Written>,
        /// How many rows or statements go together, or several such numbers; "auto" leaves it to what the engine takes.
        "batch" batch: OneOrMore<BatchForm>,
        /// The values of each row, and lists of related rows.
        "give" give: Vec<Written>,
        /// A condition.
        "where" filter: Written,
        /// Terms to group by.
        "group" group: Vec<Written>,
        /// Each different row once.
        "distinct" distinct: bool,
        /// How many rows must come.
        "expect" expect: ExpectForm,
        /// Terms to sort by: "temper", "inspected_at desc".
        "order" order: Vec<Written>,
        /// At most how many rows.
        "limit" limit: Number,
        /// Rows of a page, where the answer is read page after page.
        "page" page: Many,
        /// How many pages are read.
        "pages" pages: Many,
        /// Rows that are read at a time, or several such numbers.
        "chunk" chunk: OneOrMore<Many>,
        /// Variants that contenders run on besides the plain schema, by their names; "derived" works some out.
        "index" index: Vec<Written>,
        /// Tables that are raced with other keys too, "hive", or with keys of one type, "hive:uuid7"; "*" stands for all.
        "keys" keys: Vec<Written>,
        /// Without a need: whether the order of rows counts.
        "ordered" ordered: bool,
        /// Values of parameters, drawn anew for each call: "any(hive.id)", "some(hive.id, 20)", a recipe, or a fixed value.
        "parameters" parameters: Named<ParameterForm>,
        /// The options that enter, by choice.
        "choices" choices: ChoicesTable,
        /// How single relations are loaded.
        "loading" loading: Named<PlainText>,
        /// "nothing": the application uses each row in place.
        "keeps" keeps: KeepsForm,
        /// Upper bounds that a contender must keep to be chosen.
        "require" require: RequireTable,
        /// Contenders of your own.
        "contender" contenders: Named<ContenderTable>,
    }
}

/// How many rows or statements go together.
#[derive(Clone, Copy, Debug)]
pub(crate) struct BatchForm(pub(crate) u32);

schema!(BatchForm, { "anyOf": [{ "type": "integer", "minimum": 1, "maximum": Opt::MOST_ROWS }, { "const": "auto" }] });

impl FileValue for BatchForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<BatchForm, Problem> {
        if let Some(word) = item.1.get_ref().as_str() {
            if word == "auto" {
                return Ok(BatchForm(Opt::AUTO));
            }
            return Err(Problem::wrong(format!("`{word}` is no number of rows or statements"))
                .at(table.place_of(span(item.1.span())))
                .hint("write a number, or \"auto\" for as many as the engine takes"));
        }
        Many::read(table, item).map(|Many(number)| BatchForm(number))
    }
}

/// How many rows must come.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ExpectForm(pub(crate) Expect);

schema!(ExpectForm, { "type": "string", "enum": Expect::ALL.map(Expect::word) });

impl FileValue for ExpectForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<ExpectForm, Problem> {
        let written = table.text(item)?;
        let word = written.value.split_whitespace().collect::<Vec<_>>().join(" ");
        let found = Expect::ALL.into_iter().find(|expect| expect.word() == word);
        found.map(ExpectForm).ok_or_else(|| {
            let words = Expect::ALL.map(|expect| format!("`{}`", expect.word())).join(", ");
            Problem::wrong(format!("`{}` is not a number of rows to expect", written.value))
                .at(table.place_of(written.span))
                .hint(format!("write one of {words}: \"of many\" takes the first and lets others be there"))
        })
    }
}

/// That the application keeps nothing.
#[derive(Clone, Copy, Debug)]
pub(crate) struct KeepsForm;

schema!(KeepsForm, { "type": "string", "enum": ["nothing"] });

impl FileValue for KeepsForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<KeepsForm, Problem> {
        let written = table.text(item)?;
        if written.value == "nothing" {
            return Ok(KeepsForm);
        }
        Err(Problem::wrong(format!("`keeps` is `nothing` or is left out, not `{}`", written.value))
            .at(table.place_of(written.span))
            .hint("keeps = \"nothing\" says that the application uses each row in place, so that raw can be chosen"))
    }
}

/// How values of a parameter come: a text, or a fixed value as it stands.
#[derive(Clone, Debug)]
pub(crate) struct ParameterForm(pub(crate) Written);

schema!(ParameterForm, { "anyOf": [{ "type": "string" }, { "type": "number" }, { "type": "boolean" }] });

impl FileValue for ParameterForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<ParameterForm, Problem> {
        let (name, value) = item;
        match value.get_ref() {
            DeValue::String(_) => table.text(item).map(ParameterForm),
            DeValue::Array(_) | DeValue::Table(_) => {
                Err(Problem::wrong(format!("the parameter `{}` is said by one text: how its values are drawn", name.get_ref()))
                    .at(table.place_of(span(value.span())))
                    .hint("`pick('a', 'b')` draws one of some values for each call, `some(hive.id, 20)` a list of twenty"))
            }
            // A plain number, truth or date is a fixed value as it stands.
            _ => {
                let text = table.text_of_file();
                let token = text.get(value.span()).unwrap_or_default();
                Ok(ParameterForm(Written::new(text, span(value.span()), token)))
            }
        }
    }
}
