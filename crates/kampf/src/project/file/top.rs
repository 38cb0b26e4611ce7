//! kampf.toml as a whole.

use kampf_schema::ddl::{SqlDialect, is_type};
use kampf_schema::{KeyType, did_you_mean};

use super::conditions::{CacheTable, ConditionsTable};
use super::contest::ContestTable;
use super::engine::EngineForm;
use super::entities::EntityTable;
use super::form::{Named, OneOrMore, schema, table};
use super::index::IndexTable;
use super::keep::KeepTable;
use super::numbers::{Factor, Number};
use super::reader::{FileValue, Item, Reader};
use super::texts::{CountText, PlainText};
use crate::problem::Problem;
use crate::project::written::Written;

table! {
    /// Kampf's project file: what to fill, what to answer, what to race.
    ProjectFile {
        /// The file with the statements that make the tables, seen from this file; or a list of files, or a folder of .sql files.
        #[schemars(required)]
        "schema" schema: OneOrMore<Written>,
        /// What it is written in; by default it says so itself.
        "dialect" dialect: DialectForm,
        /// What types mean that the schema does not explain.
        "types" types: Named<TypeForm>,
        /// The engine: "sqlite", "postgres", or the URL of a server.
        "engine" engine: EngineForm,
        /// The same seed gives the same rows, on every machine.
        "seed" seed: Number,
        /// Rows of tables: a number, or like "12 per apiary", "20..60 per hive", "heavy(12) per 70% of hive".
        "rows" rows: Named<CountText>,
        /// How values of columns are made: "table.column" = "normal(6, 2) in 1..10 or null 30%".
        "values" values: Named<PlainText>,
        /// How many times as many rows as guessed.
        "scale" scale: Factor,
        /// References that the schema does not declare: "booking.room_code" = "room.code".
        "references" references: Named<PlainText>,
        /// Other names for relations: "keeper.approved" = "inspection.approved_by".
        "relations" relations: Named<PlainText>,
        /// What a mapper does with the entities of tables.
        "entities" entities: Named<EntityTable>,
        /// Answers that are kept.
        "cache" cache: CacheTable,
        /// What all contenders are given.
        "conditions" conditions: ConditionsTable,
        /// The same rows under other indexes, each variant by its name.
        "index" index: Named<IndexTable>,
        /// The same rows with other primary keys: of a table, or of all by "*", the types.
        "keys" keys: Named<KeyTypes>,
        /// What is kept of what was loaded.
        "keep" keep: KeepTable,
        /// Needs, each with what may answer it.
        "contest" contests: Named<ContestTable>,
    }
}

/// A kind of SQL.
#[derive(Clone, Copy, Debug)]
pub(crate) struct DialectForm(pub(crate) SqlDialect);

schema!(DialectForm, { "type": "string", "enum": SqlDialect::ALL.map(SqlDialect::word) });

impl FileValue for DialectForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<DialectForm, Problem> {
        let word = table.text(item)?;
        SqlDialect::from_word(&word.value).map(DialectForm).ok_or_else(|| {
            Problem::wrong(format!("there is no dialect `{}`", word.value))
                .at(table.place_of(word.span))
                .maybe_hint(did_you_mean(&word.value, SqlDialect::ALL.iter().map(|dialect| dialect.word())))
        })
    }
}

/// A type that values can have.
#[derive(Clone, Debug)]
pub(crate) struct TypeForm(pub(crate) String);

schema!(TypeForm, like String);

impl FileValue for TypeForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<TypeForm, Problem> {
        let PlainText(means) = PlainText::read(table, item)?;
        if is_type(&means.value) {
            return Ok(TypeForm(means.value));
        }
        Err(Problem::wrong(format!("`{}` is no type that is known", means.value))
            .at(table.place_of(means.span))
            .hint("one of: integer, decimal, real, text, boolean, date, timestamp, uuid, blob, json"))
    }
}

/// What primary keys are made of.
#[derive(Clone, Debug)]
pub(crate) struct KeyTypes(pub(crate) Vec<KeyType>);

schema!(KeyTypes, { "type": "array", "items": { "type": "string", "enum": KeyType::ALL.map(KeyType::word) } });

impl FileValue for KeyTypes {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<KeyTypes, Problem> {
        let types = table.texts(item)?;
        let one = |written: &Written| {
            crate::project::option::key_type(&written.value).map_err(|problem| problem.at(table.place_of(written.span)))
        };
        types.iter().map(one).collect::<Result<_, _>>().map(KeyTypes)
    }
}
