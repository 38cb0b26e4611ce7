//! What a document looks like, for other programs.

use serde_json::Value as Json;

/// The JSON Schema (draft 2020-12) of documents as this version writes them: docs/result.schema.json.
pub fn json_schema() -> Json {
    serde_json::from_str(include_str!("../../../../docs/result.schema.json")).unwrap_or_default()
}

#[cfg(test)]
mod tests;
