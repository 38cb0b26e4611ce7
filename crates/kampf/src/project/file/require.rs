//! `[contest.NAME.require]`: an entry for each thing that can be required.

use kampf_contest::Quantity;
use kampf_verdict::{Require, Required};
use schemars::{JsonSchema, Schema, SchemaGenerator};

use super::numbers::{Number, Size, Time};
use super::reader::{FileValue, Item, Reader};
use crate::problem::Problem;

/// Upper bounds that a contender must keep to be chosen.
#[derive(Clone, Debug)]
pub(crate) struct RequireTable(pub(crate) Require);

/// The key that is no bound: with false an answer that was kept may be chosen.
const FRESH: &str = "fresh";

fn is_size(required: Required) -> bool {
    matches!(required, Required::Count(measure) if measure.entry().unit == Quantity::Bytes)
}

impl JsonSchema for RequireTable {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "RequireTable".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let form = |required: Required| {
            let what = match required {
                _ if is_size(required) => serde_json::json!({ "type": "string", "description": "A size with its unit: \"32 MiB\"." }),
                Required::Count(_) => serde_json::json!({ "type": "integer", "minimum": 0 }),
                _ => serde_json::json!({ "type": "string", "description": "A time with its unit: \"20ms\"." }),
            };
            (required.key().to_owned(), what)
        };
        let fresh = serde_json::json!({ "type": "boolean", "description": "With false an answer that was kept may be chosen." });
        let properties: serde_json::Map<String, serde_json::Value> = Required::all().map(form).chain([(FRESH.to_owned(), fresh)]).collect();
        schemars::json_schema!({ "type": "object", "properties": properties, "additionalProperties": false })
    }
}

impl FileValue for RequireTable {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<RequireTable, Problem> {
        let mut inner = table.inner(item)?;
        let mut require = Require::default();
        for required in Required::all() {
            let key = required.key();
            let limit = match required {
                _ if is_size(required) => inner.value::<Size>(key)?.map(|Size(bytes)| bytes as f64),
                Required::Count(_) => inner.value::<Number>(key)?.map(|number| number.value as f64),
                _ => inner.value::<Time>(key)?.map(|Time(time)| time.as_nanos() as f64),
            };
            if let Some(limit) = limit {
                require.set(required, limit);
            }
        }
        require.fresh = inner.value::<bool>(FRESH)?.unwrap_or(true);
        inner.finish()?;
        Ok(RequireTable(require))
    }
}
