//! The result document, version 1, as it is written and read. docs/file-reference.md says what every field means.

mod counts;
mod parts;
mod read;
mod write;

pub(crate) use parts::{
    AnswerPart, ChangePart, DatasetPart, Document, EnginePart, KeptPart, KeysPart, LatencyPart, TablePart, VariantPart, VerdictPart,
};
