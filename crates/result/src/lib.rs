//! What a run of Kampf gave, for Kampf and for other programs: as values ([`RacedRun`]), as a document of JSON ([`Document`]), and the JSON Schema of
//! that ([`json_schema`]).
//!
//! A document holds what was measured and what followed from it. [`Document::read`] takes the text of a file: it refuses formats, versions and kinds
//! that it does not know, and what no race can have written. [`Document::into_run`] works the verdict out anew from the rounds, so that what is believed
//! is the rounds alone. What every field means is in docs/file-reference.md.

mod circumstance;
mod counts;
mod machine;
pub mod numbers;
mod parse;
mod parts;
mod read;
mod require_words;
mod run;
mod schema;
mod write;

pub use circumstance::{Arranged, Circumstance, LongerTrip, TripBy};
pub use counts::{CountsPart, RangePart, RequirePart};
pub use machine::Machine;
pub use parse::{LOST, ReadError, is_known};
pub use parts::{
    AgainstPart, AnswerPart, ByChoicePart, ChangePart, ConditionsPart, ContenderPart, ContestPart, DatasetPart, Document, EffectPart,
    EnginePart, FetchWorthPart, ForecastPart, HeatPart, IndexWorthPart, KeptPart, KeptWorthPart, KeysPart, KeysWorthPart, LatencyPart,
    LeftPart, MOST_ROUNDS, MatteredPart, OptionChangePart, OtherOptionPart, PairPart, RacePart, RequiredPart, StepPart, TablePart,
    VariantPart, VerdictPart, WorthPart,
};
pub use require_words::{miss_text, nearest_text, reading};
pub use run::{ContestKind, Course, Extra, RacedContest, RacedRun, Shown};
pub use schema::json_schema;
