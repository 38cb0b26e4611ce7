//! Variants: the same rows under another physical schema, here under other indexes.

use kampf_contest::{Choice, Label};
use kampf_engine::{Engine, create_index};
use kampf_fill::Blueprint;
use kampf_schema::ddl::{DdlError, read_index, read_index_condition};
use kampf_schema::{Index, Schema, Span, TableId, did_you_mean};
use sha2::{Digest, Sha256};

use super::Project;
use super::config::ContestConfig;
use super::file::{IndexKind, IndexTable, all};
use super::keys::VariantKeys;
use super::written::Written;
use crate::arguments::{Selection, is_of_keys};
use crate::problem::{Problem, TextFile};

/// `[index.NAME]` as it is written.
#[derive(Clone, Debug)]
pub(crate) struct IndexConfig {
    name: Written,
    on: Vec<Written>,
    unique: bool,
    hashed: bool,
    among: Option<Written>,
    include: Vec<Written>,
    without: Vec<Written>,
}

/// The same rows under another physical schema.
#[derive(Clone, Debug)]
pub(crate) struct Variant {
    /// What contenders on it are called by.
    pub(crate) name: String,
    /// The schema with its indexes.
    pub(crate) schema: Schema,
    /// What it has besides, and what it does without.
    pub(crate) added: Vec<(TableId, Index)>,
    pub(crate) without: Vec<(TableId, Index)>,
    /// Its keys, where they are of another type.
    pub(crate) keys: Option<VariantKeys>,
    /// Few rows, where it is the twin of the plain schema or of another variant.
    pub(crate) twin: Option<Blueprint>,
    /// What the engine has nothing like, where there is something; it cannot be loaded then.
    pub(crate) lacks: Option<Problem>,
}

/// What is raced without anything further: it would be taken for the plain schema, or for a request to work indexes out.
pub(crate) const DERIVED: &str = "derived";
const RESERVED: [&str; 2] = ["none", DERIVED];

/// What a table says of a variant.
pub(super) fn index(source: &TextFile, name: Written, table: IndexTable) -> Result<IndexConfig, Problem> {
    let at = |problem: Problem, place: Span| problem.at(source.place(place));
    if Label::of(&name.value).is_none() || is_of_keys(&name.value) || RESERVED.contains(&name.value.as_str()) {
        let reserved = RESERVED.contains(&name.value.as_str());
        let what = if reserved { "has a meaning of its own" } else { "cannot name a variant" };
        return Err(at(Problem::wrong(format!("`{}` {what}", name.value)), name.span)
            .hint("a name is letters, digits and underscores, a letter first, at most forty: [index.by_hive]"));
    }
    let config = IndexConfig {
        on: all(table.on),
        unique: table.unique.unwrap_or(false),
        hashed: table.kind == Some(IndexKind::Hash),
        among: table.among,
        include: table.include.unwrap_or_default(),
        without: table.without.unwrap_or_default(),
        name,
    };
    let place = config.name.span;
    if config.on.is_empty() && config.without.is_empty() {
        return Err(at(Problem::wrong(format!("[index.{}] neither adds an index nor takes one away", config.name.value)), place)
            .hint("write what it is on, on = \"inspection(hive_id, inspected_at desc)\", or without = [\"inspection_hive\"]"));
    }
    if config.on.len() != 1 && (config.among.is_some() || !config.include.is_empty()) {
        return Err(at(Problem::wrong("`where` and `include` are said of one index"), place)
            .hint("give `on` one text; several indexes in one variant are plain ones"));
    }
    Ok(config)
}

impl IndexConfig {
    /// The variant for an engine.
    fn variant(&self, source: &TextFile, schema: &Schema, engine: &dyn Engine) -> Result<Variant, Problem> {
        let name = &self.name.value;
        let mut variant = Variant::with(name, schema, Vec::new());
        for without in &self.without {
            let (table, at) = declared(&variant.schema, &without.value).ok_or_else(|| {
                let known = declared_names(&variant.schema);
                Problem::wrong(format!("the schema declares no index `{}`", without.value))
                    .at(source.place(without.span))
                    .maybe_hint(did_you_mean(&without.value, known.iter().map(String::as_str)))
                    .maybe_hint((!known.is_empty()).then(|| format!("it declares {}; keys and unique rules stay", known.join(", "))))
            })?;
            let removed = variant.schema.tables[table.0].indexes.remove(at);
            variant.without.push((table, removed));
        }
        for on in &self.on {
            let read = |written: &Written, error: DdlError| {
                Problem::wrong(error.message).at(source.place(written.place(error.span))).maybe_hint(error.hint)
            };
            let (table, mut index) = read_index(schema, &on.value).map_err(|error| read(on, error))?;
            index.unique = self.unique;
            index.hashed = self.hashed;
            if let Some(among) = &self.among {
                index.among = Some(read_index_condition(schema, table, &among.value).map_err(|error| read(among, error))?);
            }
            for column in &self.include {
                let model = schema.table(table);
                index.include.push(model.find(&column.value).ok_or_else(|| {
                    Problem::wrong(format!("`{}` has no column `{}`", model.name, column.value))
                        .at(source.place(column.span))
                        .maybe_hint(did_you_mean(&column.value, model.columns.iter().map(|column| column.name.as_str())))
                })?);
            }
            if let Err(why) = create_index(engine.dialect(), schema.table(table), &index, name) {
                variant.lacks = Some(Problem::wrong(format!("[index.{name}]: {why}")).at(source.place(on.span)));
            }
            variant.add(table, index);
        }
        Ok(variant)
    }
}

impl Variant {
    /// The variant that has one index, or several, besides those of the schema.
    pub(crate) fn with(name: &str, schema: &Schema, added: Vec<(TableId, Index)>) -> Variant {
        let mut variant = Variant {
            name: name.to_owned(),
            schema: schema.clone(),
            added: Vec::new(),
            without: Vec::new(),
            keys: None,
            twin: None,
            lacks: None,
        };
        added.into_iter().for_each(|(table, index)| variant.add(table, index));
        variant
    }

    fn add(&mut self, table: TableId, mut index: Index) {
        // Engines want a name that no table and no other index has.
        let tables = &self.schema.tables;
        let is_taken = |name: &str| {
            let is = |other: &str| other.eq_ignore_ascii_case(name);
            tables.iter().any(|table| is(&table.name) || table.indexes.iter().filter_map(|index| index.name.as_deref()).any(is))
        };
        let numbered = (2..).map(|number| format!("{}_{number}", self.name));
        index.name = std::iter::once(self.name.clone()).chain(numbered).find(|name| !is_taken(name));
        self.schema.tables[table.0].indexes.push(index.clone());
        self.added.push((table, index));
    }

    /// Whether it has one index alone besides those of the schema, and that is like another, whatever their names.
    pub(crate) fn is_alone(&self, table: TableId, index: &Index) -> bool {
        let like = |own: &Index| Index { name: None, ..own.clone() } == Index { name: None, ..index.clone() };
        self.without.is_empty() && matches!(self.added.as_slice(), [(on, own)] if *on == table && like(own))
    }

    /// What decides what is loaded for it, besides what decides that for the plain schema.
    pub(crate) fn essence(&self) -> String {
        let tables: Vec<_> = self.schema.tables.iter().map(|table| (&table.name, &table.indexes)).collect();
        let essence = match &self.keys {
            None => serde_json::json!(tables),
            Some(keys) => serde_json::json!([tables, keys.essence(&self.schema)]),
        };
        match &self.twin {
            None => essence.to_string(),
            // What rows a twin has follows from those of the dataset.
            Some(_) => serde_json::json!({"twin": essence}).to_string(),
        }
    }

    /// A word of eight letters and digits for it, by which its data is found among those of one dataset.
    pub(crate) fn word(&self) -> String {
        Sha256::digest(self.essence().as_bytes()).iter().take(4).map(|byte| format!("{byte:02x}")).collect()
    }

    /// The statements that make its indexes.
    pub(crate) fn statements(&self, engine: &dyn Engine) -> Vec<String> {
        let of = |(table, index): &(TableId, Index)| {
            let name = index.name.as_deref().unwrap_or(&self.name);
            create_index(engine.dialect(), self.schema.table(*table), index, name).ok()
        };
        self.added.iter().filter_map(of).collect()
    }

    /// The rows of the project as they are loaded for it.
    pub(crate) fn rows<'v>(&'v self, plain: &'v Blueprint) -> &'v Blueprint {
        self.twin.as_ref().or(self.keys.as_ref().map(|keys| &keys.blueprint)).unwrap_or(plain)
    }

    /// Whether what a load of it takes is a part of what is compared.
    pub(crate) fn is_timed(&self) -> bool {
        self.keys.is_some() && self.twin.is_none()
    }

    /// What it is, in words: `inspection(hive_id, inspected_at desc)`, `without inspection(hive_id)`, which keys are of which type.
    pub(crate) fn about(&self) -> String {
        if let Some(rows) = &self.twin {
            return format!("a twin of {} rows, on which contenders are checked", rows.all_rows());
        }
        if let Some(keys) = &self.keys {
            return keys.about(&self.schema);
        }
        let said = |(table, index): &(TableId, Index)| {
            let table = self.schema.table(*table);
            let unique = if index.unique { "unique " } else { "" };
            let hash = if index.hashed { " by hash" } else { "" };
            let include: Vec<&str> = index.include.iter().map(|&column| table.columns[column].name.as_str()).collect();
            let include = if include.is_empty() { String::new() } else { format!(" with {}", include.join(", ")) };
            let among = if index.among.is_some() { " of some rows" } else { "" };
            format!("{unique}{}{hash}{include}{among}", index.on(table))
        };
        let added = self.added.iter().map(said);
        added.chain(self.without.iter().map(|one| format!("without {}", said(one)))).collect::<Vec<_>>().join("; ")
    }
}

/// The variants that contenders run on: those of the command line, else those of the contest; and those that the contest's choices name.
/// For `derived` those that were worked out, if they are by now. And those of the file that the engine has nothing like, in words.
pub(super) fn wanted_variants(
    project: &Project,
    config: &ContestConfig,
    selection: &Selection,
) -> Result<(Vec<String>, Vec<String>), Problem> {
    let source = &project.config.source;
    let of_file = config.index.iter().map(|written| (written.value.as_str(), Some(written.span)));
    let of_line = selection.index.iter().map(|name| (name.as_str(), None));
    let wanted: Vec<(&str, Option<Span>)> = if selection.index.is_empty() { of_file.collect() } else { of_line.collect() };
    let chosen = config.choices.labels(Choice::Index).map(|label| (label.as_str(), Some(config.span)));
    let (mut names, mut lacking): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    for (name, place) in wanted.into_iter().chain(chosen) {
        let found = match name {
            "none" => Vec::new(),
            DERIVED => project.derived.get(&config.name).cloned().unwrap_or_default(),
            name if project.index_variant(name).is_some() => match project.variant(name).and_then(|variant| variant.lacks.as_ref()) {
                None => vec![name.to_owned()],
                // A file may be for several engines, of which one has it; a command line is for one.
                Some(lacks) if place.is_some() => {
                    lacking.push(format!("without @{name}: {}", lacks.message));
                    Vec::new()
                }
                Some(lacks) => return Err(lacks.clone()),
            },
            name => {
                let of_indexes = project.variants.iter().filter(|variant| variant.keys.is_none());
                let known = of_indexes.map(|variant| variant.name.as_str()).chain([DERIVED]);
                let problem = Problem::wrong(format!("there is no variant `{name}`"))
                    .hint(format!("describe it: [index.{name}] with on = \"table(column, …)\"; --index {DERIVED} works some out"))
                    .maybe_hint(did_you_mean(name, known));
                return Err(place.map_or(problem.clone(), |place| problem.at(source.place(place))));
            }
        };
        names.extend(found.into_iter().filter(|name| !names.contains(name)).collect::<Vec<_>>());
    }
    Ok((names, lacking))
}

/// Whether a contest wants indexes worked out.
pub(crate) fn wants_derived(config: &ContestConfig, selection: &Selection) -> bool {
    let of_file = || config.index.iter().any(|written| written.value == DERIVED);
    if selection.index.is_empty() { of_file() } else { selection.index.iter().any(|name| name == DERIVED) }
}

/// All variants of a file, for an engine.
pub(super) fn variants(source: &TextFile, configs: &[IndexConfig], schema: &Schema, engine: &dyn Engine) -> Result<Vec<Variant>, Problem> {
    configs.iter().map(|config| config.variant(source, schema, engine)).collect()
}

/// An index that the schema declares, by its name or by what it is on.
fn declared(schema: &Schema, wanted: &str) -> Option<(TableId, usize)> {
    let is_meant = |table: TableId, index: &Index| {
        let by_name = index.name.as_deref().is_some_and(|name| name.eq_ignore_ascii_case(wanted));
        by_name || index.on(schema.table(table)).eq_ignore_ascii_case(wanted)
    };
    schema.ids().find_map(|table| {
        let at = schema.table(table).indexes.iter().position(|index| is_meant(table, index))?;
        Some((table, at))
    })
}

/// What indexes that the schema declares are called.
fn declared_names(schema: &Schema) -> Vec<String> {
    let of = |table: TableId| {
        let table = schema.table(table);
        table.indexes.iter().map(move |index| index.name.clone().unwrap_or_else(|| index.on(table)))
    };
    schema.ids().flat_map(of).collect()
}
