//! Variants of keys: the same rows with primary keys of another type.

use std::collections::BTreeSet;

use kampf_contest::{Choice, Dialect};
use kampf_fill::Blueprint;
use kampf_schema::{KeyColumns, KeyType, LogicalType, Schema, Span, TableId, did_you_mean};

use super::Project;
use super::config::ContestConfig;
use super::file::KeyTypes;
use super::option::key_type;
use super::variant::Variant;
use super::written::Written;
use crate::arguments::{Selection, is_of_keys};
use crate::output::list;
use crate::problem::Problem;

/// A line of `[keys]`.
#[derive(Clone, Debug)]
pub(crate) struct KeysConfig {
    table: Written,
    types: Vec<KeyType>,
}

/// Other keys, and the rows that have them.
#[derive(Clone, Debug)]
pub(crate) struct VariantKeys {
    /// What stands in names before the colon: the table, or `all`.
    word: String,
    pub(crate) key_type: KeyType,
    /// The columns that change, for each table whose keys do.
    pub(crate) columns: Vec<KeyColumns>,
    pub(crate) blueprint: Blueprint,
}

/// What stands for all tables whose keys can change, in files and in names.
const ALL: &str = "*";
const ALL_WORD: &str = "all";

/// What a line says.
pub(super) fn keys(table: Written, types: KeyTypes) -> KeysConfig {
    KeysConfig { table, types: types.0 }
}

/// What is asked for: the keys of a table, or of all, and of them one type alone where that is said.
struct AskedKeys {
    /// None for all tables.
    table: Option<TableId>,
    word: String,
    key_type: Option<KeyType>,
}

impl AskedKeys {
    /// Reads `hive`, `hive:uuid7`, `*`.
    fn read(schema: &Schema, text: &str) -> Result<AskedKeys, Problem> {
        // A name may hold a colon itself.
        let (name, word) = match text.rsplit_once(':') {
            Some((name, word)) if schema.find(text).is_none() => (name, Some(word)),
            _ => (text, None),
        };
        let key_type = word.map(key_type).transpose()?;
        if name == ALL || (name == ALL_WORD && schema.find(name).is_none()) {
            return Ok(AskedKeys { table: None, word: ALL_WORD.to_owned(), key_type });
        }
        // What stands in a contender's name is a table too.
        let by_word = || schema.ids().find(|table| word_of(schema, *table) == name);
        let Some(table) = schema.find(name).or_else(by_word) else {
            let known = schema.tables.iter().map(|table| table.name.as_str()).chain([ALL]);
            return Err(Problem::wrong(format!("there is no table `{name}`")).maybe_hint(did_you_mean(name, known)));
        };
        Ok(AskedKeys { table: Some(table), word: word_of(schema, table), key_type })
    }

    /// Whether a variant is of what is asked for.
    fn includes(&self, variant: &Variant) -> bool {
        let is_of = |keys: &VariantKeys| keys.word == self.word && self.key_type.is_none_or(|key_type| key_type == keys.key_type);
        variant.keys.as_ref().is_some_and(is_of)
    }
}

/// A table as it is called in names of variants: letters, digits and underscores, like no other table.
fn word_of(schema: &Schema, table: TableId) -> String {
    let word = |table: TableId| {
        let mut word: String = schema.table(table).name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).take(30).collect();
        if !word.starts_with(|c: char| c.is_ascii_alphabetic()) {
            word.insert(0, 't');
        }
        word
    };
    let (own, name) = (word(table), |table: TableId| schema.table(table).name.as_str());
    // One that is a word already is called by it.
    if own == name(table) {
        return own;
    }
    let is_taken = |word: &str| schema.ids().any(|other| other != table && name(other).eq_ignore_ascii_case(word));
    let before =
        schema.ids().filter(|other| other.0 < table.0 && word(*other) != name(*other) && word(*other).eq_ignore_ascii_case(&own)).count();
    let mut numbered = (before + 1..).map(|number| if number == 1 { own.clone() } else { format!("{own}_{number}") });
    numbered.find(|word| !is_taken(word)).unwrap_or(own)
}

impl VariantKeys {
    /// What it is, in words.
    pub(crate) fn about(&self, schema: &Schema) -> String {
        let names: Vec<String> = self.columns.iter().map(|columns| schema.table(columns.table).name.clone()).collect();
        let references: usize = self.columns.iter().map(|columns| columns.columns.len() - 1).sum();
        let references = match references {
            0 => String::new(),
            1 => ", there and in the reference to them".to_owned(),
            many => format!(", there and in the {many} columns that refer to them"),
        };
        format!("keys of {} are {}{references}", list(&names), self.key_type.about())
    }

    /// What decides what is loaded for it besides the indexes: which columns hold what.
    pub(super) fn essence(&self, schema: &Schema) -> Vec<String> {
        let columns = self.columns.iter().flat_map(|columns| &columns.columns);
        let name = |(table, column): &(TableId, usize)| {
            let table = schema.table(*table);
            format!("{}.{} {}", table.name, table.columns[*column].name, self.key_type.word())
        };
        columns.map(name).collect()
    }

    /// Whether a need's tables hold any such key.
    pub(crate) fn concern(&self, tables: &[TableId]) -> bool {
        self.columns.iter().flat_map(|columns| &columns.columns).any(|(table, _)| tables.contains(table))
    }
}

/// The columns of a table's keys, where these may become of another type.
fn columns_of(schema: &Schema, blueprint: &Blueprint, table: TableId) -> Result<KeyColumns, String> {
    let columns = schema.key_columns(table)?;
    let (model, way) = (schema.table(table), blueprint.way(table, columns.own()));
    let is_said = way.why == "set" && !way.how.starts_with("uuid");
    if is_said {
        let column = &model.columns[columns.own()].name;
        return Err(format!(
            "the primary key of `{}` is a natural one, as [values] says what is in `{column}`, and stays as it is",
            model.name
        ));
    }
    Ok(columns)
}

/// Whether a table's keys are of a type already.
fn is_own(schema: &Schema, blueprint: &Blueprint, dialect: &Dialect, columns: &KeyColumns, key_type: KeyType) -> bool {
    let kind = schema.table(columns.table).columns[columns.own()].kind;
    let stored = |kind: LogicalType| (dialect.column_type)(kind).0;
    match key_type {
        KeyType::Integer => kind == LogicalType::Integer,
        KeyType::Text => stored(kind) == stored(LogicalType::TEXT) || matches!(kind, LogicalType::Text { .. }),
        KeyType::Uuid4 | KeyType::Uuid7 => {
            kind == LogicalType::Uuid
                && dialect.uuid_key == kind
                && blueprint.way(columns.table, columns.own()).how.starts_with(key_type.word())
        }
    }
}

impl Project {
    /// Has variants of the keys that a command asks for, besides those of the file.
    ///
    /// # Errors
    /// What is no table or type, and keys that have to stay as they are.
    pub(crate) fn add_keys(&mut self, wanted: &[String]) -> Result<(), Problem> {
        wanted.iter().filter(|text| *text != NONE).try_for_each(|text| self.add_key(text, None))
    }

    /// Has variants of the keys that the file asks for.
    pub(super) fn add_keys_of_file(&mut self) -> Result<(), Problem> {
        let contests = self.config.contests.iter().flat_map(|contest| {
            let chosen = contest.choices.labels(Choice::Keys).map(|label| (label.to_string(), contest.span));
            contest.keys.iter().map(|written| (written.value.clone(), written.span)).chain(chosen)
        });
        let tables = self.config.keys.iter().map(|config| (config.table.value.clone(), config.table.span));
        let all: Vec<(String, Span)> = tables.chain(contests).filter(|(text, _)| text != NONE).collect();
        all.iter().try_for_each(|(text, place)| self.add_key(text, Some(*place)))
    }

    fn add_key(&mut self, text: &str, place: Option<Span>) -> Result<(), Problem> {
        let source = self.config.source.clone();
        let at = |problem: Problem| place.map_or(problem.clone(), |place| problem.at(source.place(place)));
        let asked = AskedKeys::read(&self.schema, text).map_err(at)?;
        let types = match (asked.key_type, self.keys_of_file(&asked)) {
            (Some(key_type), _) => vec![key_type],
            (None, Some(config)) => config.types.clone(),
            (None, None) => KeyType::ALL.to_vec(),
        };
        for key_type in types {
            let name = format!("{}:{}", asked.word, key_type.word());
            if self.variant(&name).is_none() {
                let variant = self.key_variant(&name, &asked, key_type).map_err(at)?;
                self.variants.push(variant);
            }
        }
        Ok(())
    }

    /// The line of `[keys]` that is about what is asked for.
    fn keys_of_file(&self, asked: &AskedKeys) -> Option<&KeysConfig> {
        self.config.keys.iter().find(|config| AskedKeys::read(&self.schema, &config.table.value).is_ok_and(|one| one.word == asked.word))
    }

    fn key_variant(&self, name: &str, asked: &AskedKeys, key_type: KeyType) -> Result<Variant, Problem> {
        let (schema, dialect) = (&self.schema, self.engine.dialect());
        let tables: Vec<TableId> = asked.table.map_or_else(|| schema.ids().collect(), |table| vec![table]);
        let (mut able, mut stay) = (Vec::new(), Vec::new());
        for table in tables {
            match columns_of(schema, &self.blueprint, table) {
                Ok(columns) => able.push(columns),
                Err(why) => stay.push(why),
            }
        }
        if able.is_empty() {
            let hint = "keys of one column that say nothing but which row it is can be raced: whole numbers, uuids, texts called id";
            return Err(Problem::wrong(stay.swap_remove(0)).hint(hint));
        }
        let other: Vec<KeyColumns> =
            able.into_iter().filter(|columns| !is_own(schema, &self.blueprint, dialect, columns, key_type)).collect();
        let mut keyed = schema.clone();
        other.iter().for_each(|columns| keyed.rekey(columns, key_type.kind(dialect.uuid_key)));
        let pairs: Vec<(KeyColumns, KeyType)> = other.iter().map(|columns| (columns.clone(), key_type)).collect();
        let blueprint = self.blueprint.with_keys(&pairs, dialect.uuid_key, self.config.seed);
        let lacks = other.is_empty().then(|| {
            let of = asked.table.map_or_else(|| "all tables".to_owned(), |table| schema.table(table).name.clone());
            Problem::wrong(format!("keys of {of} are {} as the schema has them, so they are raced as its own", key_type.word()))
        });
        let keys = VariantKeys { word: asked.word.clone(), key_type, columns: other, blueprint };
        Ok(Variant { lacks, keys: Some(keys), ..Variant::with(name, &keyed, Vec::new()) })
    }

    /// The variants of keys that a text asks for, in the order of types; those that the schema has itself are left out.
    pub(crate) fn keys_asked(&self, text: &str) -> Vec<&Variant> {
        let Ok(asked) = AskedKeys::read(&self.schema, text) else { return Vec::new() };
        let is_of_file = |variant: &&Variant| {
            let types = self.keys_of_file(&asked).filter(|_| asked.key_type.is_none()).map(|config| &config.types);
            types.is_none_or(|types| variant.keys.as_ref().is_some_and(|keys| types.contains(&keys.key_type)))
        };
        let mut found: Vec<&Variant> = self.variants.iter().filter(|variant| asked.includes(variant)).filter(is_of_file).collect();
        found.sort_by_key(|variant| variant.keys.as_ref().map(|keys| keys.key_type));
        found
    }

    /// Whether the keys of all tables are asked for.
    pub(crate) fn asks_for_all(&self, text: &str) -> bool {
        AskedKeys::read(&self.schema, text).is_ok_and(|asked| asked.table.is_none())
    }

    /// Which tables keep their keys where all are asked for, in words.
    pub(crate) fn keys_that_stay(&self) -> Vec<String> {
        self.schema.ids().filter_map(|table| columns_of(&self.schema, &self.blueprint, table).err()).collect()
    }
}

/// What is asked for where no other keys are wanted.
const NONE: &str = "none";

/// The variants of keys that contenders run on: those of the command line, else those of the contest; and those that its choices name. And what
/// is to be said of those that are not raced.
pub(super) fn wanted_keys(project: &Project, config: &ContestConfig, selection: &Selection) -> (Vec<String>, Vec<String>) {
    let of_file = config.keys.iter().map(|written| written.value.clone());
    let wanted: Vec<String> = if selection.keys.is_empty() { of_file.collect() } else { selection.keys.clone() };
    let chosen = config.choices.labels(Choice::Keys).map(|label| label.to_string());
    let (mut names, mut said): (Vec<String>, BTreeSet<String>) = (Vec::new(), BTreeSet::new());
    for text in wanted.into_iter().chain(chosen).filter(|text| text != NONE) {
        if project.asks_for_all(&text) {
            said.extend(project.keys_that_stay().into_iter().map(|why| format!("keys that stay: {why}")));
        }
        for variant in project.keys_asked(&text) {
            match &variant.lacks {
                // Of several types one is that of the schema, which is raced anyway.
                Some(_) if !is_of_keys(&text) => {}
                Some(lacks) => drop(said.insert(lacks.message.clone())),
                None if names.contains(&variant.name) => {}
                None => names.push(variant.name.clone()),
            }
        }
    }
    (names, said.into_iter().collect())
}
