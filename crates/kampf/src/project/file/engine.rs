//! `engine` and `[engine]`.

use super::form::{Named, schema, table};
use super::reader::{FileValue, Item, Reader, integer};
use crate::problem::Problem;
use crate::project::written::Written;

/// The engine: its name or the URL of a server, or a table of that with settings.
#[derive(Clone, Debug, schemars::JsonSchema)]
#[schemars(untagged)]
pub(crate) enum EngineForm {
    Name(Written),
    WithSettings(EngineTable),
}

table! {
    EngineTable {
        /// The engine's name, or the URL of a server.
        "name" name: Written,
        /// Settings of the engine by their own names.
        "settings" settings: Named<SettingForm>,
    }
}

/// A setting: a text, or a number as it is written.
#[derive(Clone, Debug)]
pub(crate) struct SettingForm(pub(crate) String);

schema!(SettingForm, { "anyOf": [{ "type": "integer" }, { "type": "string" }] });

impl FileValue for EngineForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<EngineForm, Problem> {
        match item.1.get_ref().is_str() {
            true => table.text(item).map(EngineForm::Name),
            false => EngineTable::read(table, item).map(EngineForm::WithSettings),
        }
    }
}

impl FileValue for SettingForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<SettingForm, Problem> {
        let text = integer(item.1.get_ref()).map(|number| number.to_string());
        Ok(SettingForm(match (text, item.1.get_ref().as_integer()) {
            (Some(text), _) => text,
            (None, Some(number)) => number.as_str().replace('_', ""),
            (None, None) => table.text(item)?.value,
        }))
    }
}
