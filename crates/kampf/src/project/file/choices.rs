//! `[contest.NAME.choices]`: an entry for each choice that there is.

use kampf_contest::{Choice, Opt, Restriction};
use schemars::{JsonSchema, Schema, SchemaGenerator};

use super::reader::{FileValue, Item, Reader};
use crate::problem::Problem;
use crate::project::option::option;
use crate::project::written::Written;

/// The options that enter, by choice.
#[derive(Clone, Debug)]
pub(crate) struct ChoicesTable(pub(crate) Vec<Opt>);

impl JsonSchema for ChoicesTable {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "ChoicesTable".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let form = |choice: Choice| {
            let list = serde_json::json!({ "type": "array", "items": { "type": "string" }, "description": choice.entry().about });
            (choice.word().to_owned(), list)
        };
        let properties: serde_json::Map<String, serde_json::Value> = Choice::ALL.into_iter().map(form).collect();
        schemars::json_schema!({ "type": "object", "properties": properties, "additionalProperties": false })
    }
}

impl FileValue for ChoicesTable {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<ChoicesTable, Problem> {
        let mut inner = table.inner(item)?;
        let mut options = Vec::new();
        for choice in Choice::ALL {
            for written in inner.value::<Vec<Written>>(choice.word())?.unwrap_or_default() {
                options.push(option(table.source(), choice, &written)?);
            }
        }
        inner.finish()?;
        Ok(ChoicesTable(options))
    }
}

impl ChoicesTable {
    pub(crate) fn restriction(&self) -> Restriction {
        let mut restriction = Restriction::default();
        self.0.iter().for_each(|option| restriction.allow(*option));
        restriction
    }
}
