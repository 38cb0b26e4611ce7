//! A project: kampf.toml and its schema, with every name looked up.

mod config;
mod contest;
mod file;
mod keys;
mod multiplied;
mod option;
mod own;
mod parameters;
mod sample;
mod schema_text;
mod selected;
mod toml_text;
mod twin;
mod variant;
mod writes;
mod written;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kampf_contest::NeedPart;
use kampf_engine::{Engine, Setting};
use kampf_fill::{Blueprint, FillError, FillSubject, LeftOut, Order, leave_out_checks};
use kampf_schema::{ColumnId, Relations, Schema, Span, TableId, did_you_mean, expr};

pub(crate) use config::{Config, ContestConfig};
pub(crate) use contest::{multiplied, resolve};
pub(crate) use file::file_schema;
pub(crate) use keys::VariantKeys;
pub(crate) use sample::{MOST_ROWS, SAMPLE, Sampled, bare};
pub(crate) use schema_text::SchemaText;
pub(crate) use selected::Selected;
pub(crate) use toml_text::{Scalar, TomlText};
pub(crate) use twin::twin_name;
pub(crate) use variant::{DERIVED, Variant, wants_derived};
pub(crate) use written::Written;

use crate::arguments::General;
use crate::problem::{Problem, TextFile};
use variant::variants;

/// Everything a command needs to know.
pub(crate) struct Project {
    pub(crate) config: Config,
    /// The folder of kampf.toml.
    pub(crate) folder: PathBuf,
    /// The folder in which data and results are kept.
    pub(crate) home: PathBuf,
    pub(crate) schema: Schema,
    pub(crate) relations: Relations,
    /// Relations that are loaded whenever an entity of a table is.
    always: Vec<(TableId, String)>,
    pub(crate) engine: &'static dyn Engine,
    /// The URL of a server of the user's; it may hold a password.
    server: Option<String>,
    pub(crate) settings: Vec<Setting>,
    pub(crate) blueprint: Blueprint,
    /// What it was made by.
    order: Order,
    /// The same rows under other indexes, and with other keys.
    pub(crate) variants: Vec<Variant>,
    /// Of contests the names of variants that were worked out for them.
    pub(crate) derived: BTreeMap<String, Vec<String>>,
    /// Seed of what is drawn in a race: parameters, and the order within rounds.
    pub(crate) race_seed: u64,
    /// What was passed over in the DDL and changes nothing, in words.
    pub(crate) passed_over: Vec<String>,
    /// Where what is loaded is other than the DDL says, in words.
    pub(crate) warnings: Vec<String>,
}

impl Project {
    /// Reads a project; an engine or URL given here takes the place of the file's.
    pub(crate) fn open(general: &General, engine: Option<&str>) -> Result<Project, Problem> {
        let file = general.file.as_path();
        if !file.exists() {
            return Err(Problem::wrong(format!("there is no {}", file.display()))
                .hint("`kampf new DIR` makes a folder to start from, `kampf demo` a whole example; -f names another file"));
        }
        let source = TextFile::read(file, "the project file")?;
        let mut config = Config::read(&source)?;
        config.scale = general.scale.or(config.scale);
        let folder = file.parent().unwrap_or(Path::new("")).to_owned();
        let paths: Vec<PathBuf> = config.schema.iter().map(|path| folder.join(&path.value)).collect();
        let ddl = SchemaText::read(&paths).map_err(|problem| {
            // A file that is not there is a mistake in the line that names it.
            let missing = config.schema.iter().zip(&paths).find(|(_, path)| !path.exists());
            match (missing, &problem.place) {
                (Some((written, _)), None) => Problem { place: Some(source.place(written.span)), ..problem },
                _ => problem,
            }
        })?;
        let read = ddl.parse(config.dialect, &config.types).map_err(|error| ddl.problem(error))?;
        let mut passed_over = vec![format!("the schema is read as {}", read.dialect.word())];
        let mut warnings = Vec::new();
        for passed in &read.passed_over {
            let place = ddl.line(passed.span);
            match passed.matters {
                true => warnings.push(format!("{place}: warning: {}", passed.what)),
                false => passed_over.push(format!("{place}: passed over: {}", passed.what)),
            }
        }
        let (own, own_server) = find_engine(&source, config.engine.as_ref())?;
        let (engine, server) = match engine {
            Some(wanted) => named_engine(wanted)?,
            None => (own, own_server),
        };
        // Settings in the file are those of its engine.
        let chosen = if engine.name() == own.name() { &config.settings[..] } else { &[] };
        let settings = settings(&source, engine, chosen)?;
        let mut schema = read.schema;
        refer(&source, &mut schema, &config.references)?;
        let relations = relations(&source, &schema, &config.relations)?;
        let always = always(&source, &schema, &relations, &config.entities)?;
        let order = order(&source, &schema, &config)?;
        let left_out = leave_out_checks(&mut schema, &order);
        let blueprint = Blueprint::new(&schema, &order).map_err(|error| fill_problem(&source, &ddl, &schema, &config, error))?;
        for check in &left_out {
            let said = format!("{}: {}", ddl.line(check.span), without_check(&schema, &blueprint, check));
            if check.is_met { &mut passed_over } else { &mut warnings }.push(said);
        }
        passed_over.extend(blueprint.notes().iter().cloned());
        // Relations are named by the schema as it is written, the same on every engine.
        if engine.dialect().folds_names {
            schema.fold_names();
        }
        let variants = variants(&source, &config.indexes, &schema, engine)?;
        let race_seed = config.seed;
        let mut project = Project {
            config,
            home: general.home(),
            folder,
            schema,
            relations,
            always,
            engine,
            server,
            settings,
            blueprint,
            order,
            variants,
            derived: BTreeMap::new(),
            race_seed,
            passed_over,
            warnings,
        };
        project.add_keys_of_file()?;
        Ok(project)
    }

    /// The variant of other indexes of a name.
    pub(crate) fn index_variant(&self, name: &str) -> Option<&Variant> {
        self.variant(name).filter(|variant| variant.keys.is_none())
    }

    /// The variant of a name.
    pub(crate) fn variant(&self, name: &str) -> Option<&Variant> {
        self.variants.iter().find(|variant| variant.name == name)
    }

    /// The URL of the server that the user names; none where Kampf has its own.
    pub(crate) fn server(&self) -> Option<&str> {
        self.server.as_deref()
    }

    /// The contest of a name.
    pub(crate) fn contest(&self, name: &str) -> Result<&ContestConfig, Problem> {
        let names = || self.config.contests.iter().map(|contest| contest.name.as_str());
        self.config.contests.iter().find(|contest| contest.name == name).ok_or_else(|| {
            Problem::wrong(format!("{} has no contest `{name}`", self.config.source.path.display())).maybe_hint(did_you_mean(name, names()))
        })
    }

    /// The contests of some names; all of them for no names.
    pub(crate) fn contests(&self, names: &[String]) -> Result<Vec<&ContestConfig>, Problem> {
        if names.is_empty() {
            if self.config.contests.is_empty() {
                return Err(Problem::wrong(format!("{} has no contest", self.config.source.path.display()))
                    .hint("write one: [contest.NAME] with `from = \"table\"` and `give = [\"column\", …]`"));
            }
            return Ok(self.config.contests.iter().collect());
        }
        names.iter().map(|name| self.contest(name)).collect()
    }

    /// What decides whether loaded data still fits: everything that made it, in one text.
    pub(crate) fn essence(&self, engine_version: &str) -> String {
        let mut rows: Vec<String> = self.config.rows.iter().map(|(table, rows)| format!("{}={}", table.value, rows.value)).collect();
        let mut values: Vec<String> =
            self.config.values.iter().map(|(column, recipe)| format!("{}={}", column.value, recipe.value)).collect();
        // Where nobody scales the guesses, the text is as it would be without a word for it.
        rows.extend(self.config.scale.filter(|scale| *scale != 1.0).map(|scale| format!("scale={scale}")));
        rows.sort();
        values.sort();
        let major = engine_version.split('.').next().unwrap_or_default();
        // Settings that only matter for reading are not among it; those that shape the file are.
        let shaping = self.engine.settings_of_data();
        let shape: Vec<String> = self
            .settings
            .iter()
            .filter(|setting| shaping.contains(&setting.name.as_str()))
            .map(|setting| format!("{}={}", setting.name, setting.value))
            .collect();
        serde_json::json!({
            "schema": self.schema, "rows": rows, "values": values, "seed": self.config.seed, "variant": {},
            "engine": self.engine.name(), "engine_major": major, "server": self.server().map(|url| self.engine.shown(url)), "shape": shape,
            "generator": kampf_fill::GENERATOR_VERSION,
        })
        .to_string()
    }
}

fn find_engine(source: &TextFile, name: Option<&Written>) -> Result<(&'static dyn Engine, Option<String>), Problem> {
    match name {
        None => Ok((kampf_engine::usual(), None)),
        Some(name) => named_engine(&name.value).map_err(|problem| problem.at(source.place(name.span))),
    }
}

/// The engine of a name, or of a URL that begins with its name, and the URL.
fn named_engine(wanted: &str) -> Result<(&'static dyn Engine, Option<String>), Problem> {
    if wanted == "all" {
        let problem = Problem::wrong("`all` stands for several engines, and this is about one");
        return Err(problem.hint("name the engine; fill, check and race take --engine all"));
    }
    let name = wanted.split_once("://").map_or(wanted, |(name, _)| name);
    let scheme = kampf_engine::schemes().next().unwrap_or_default();
    if name.contains(['@', '/', ':']) {
        return Err(Problem::wrong("this is neither the name of an engine nor the URL of a server")
            .hint(format!("write the name alone, like \"{scheme}\", or a whole URL: {scheme}://USER@HOST:PORT/DATABASE")));
    }
    let engine = kampf_engine::engine(name)
        .ok_or_else(|| Problem::wrong(format!("there is no engine `{name}`")).maybe_hint(did_you_mean(name, kampf_engine::names())))?;
    Ok((engine, wanted.contains("://").then(|| wanted.to_owned())))
}

fn settings(source: &TextFile, engine: &dyn Engine, wanted: &[(Written, String)]) -> Result<Vec<Setting>, Problem> {
    let mut settings = engine.settings();
    for (name, value) in wanted {
        let known: Vec<String> = settings.iter().map(|setting| setting.name.clone()).collect();
        let Some(setting) = settings.iter_mut().find(|setting| setting.name == name.value) else {
            return Err(Problem::wrong(format!("{} has no setting `{}` that can be chosen", engine.name(), name.value))
                .at(source.place(name.span))
                .maybe_hint(did_you_mean(&name.value, known.iter().map(String::as_str))));
        };
        setting.value.clone_from(value);
        setting.chosen = true;
    }
    Ok(settings)
}

/// Declares references that the schema's file does not.
fn refer(source: &TextFile, schema: &mut Schema, references: &[(Written, Written)]) -> Result<(), Problem> {
    for (name, leads_to) in references {
        let (child, column) = find_column(schema, &name.value).map_err(|problem| problem.at(source.place(name.span)))?;
        let (parent, key) = find_column(schema, &leads_to.value).map_err(|problem| problem.at(source.place(leads_to.span)))?;
        let declared = schema.refer(child, column, parent, key);
        declared.map_err(|error| Problem::wrong(error.message).hint(error.hint).at(source.place(leads_to.span)))?;
    }
    Ok(())
}

fn relations(source: &TextFile, schema: &Schema, names: &[(Written, Written)]) -> Result<Relations, Problem> {
    let mut relations = Relations::of(schema);
    for (name, column) in names {
        let at = |problem: Problem, written: &Written| problem.at(source.place(written.span));
        let form = "like \"keeper.approved\" = \"inspection.approved_by\": table and new name, then the column that refers";
        let (Some((table, new)), Some((child, reference))) = (name.value.split_once('.'), column.value.split_once('.')) else {
            return Err(at(Problem::wrong("a relation is named by two names joined by a point").hint(form), name));
        };
        let find = |wanted: &str, written: &Written| {
            schema.find(wanted).ok_or_else(|| {
                at(Problem::wrong(format!("there is no table `{wanted}`")), written)
                    .maybe_hint(did_you_mean(wanted, schema.tables.iter().map(|table| table.name.as_str())))
            })
        };
        let (table, child) = (find(table, name)?, find(child, column)?);
        let own = schema.table(child).find(reference);
        let parent = schema
            .table(child)
            .references
            .iter()
            .find(|known| own.is_some_and(|own| known.columns.contains(&own)))
            .map(|reference| reference.parent);
        let from_parent = parent == Some(table) && child != table;
        if parent.is_some() && !from_parent && child != table {
            return Err(at(
                Problem::wrong(format!("`{}` does not lead from or to `{}`", column.value, schema.table(table).name)).hint(form),
                column,
            ));
        }
        relations
            .name(schema, child, reference, from_parent, new)
            .map_err(|error| at(Problem::wrong(error.message), column).maybe_hint(error.hint))?;
    }
    Ok(relations)
}

/// What entities are used to: relations that are loaded whenever one of their table is.
fn always(
    source: &TextFile,
    schema: &Schema,
    relations: &Relations,
    entities: &[(Written, Vec<Written>)],
) -> Result<Vec<(TableId, String)>, Problem> {
    let mut all = Vec::new();
    for (name, always) in entities {
        let table = schema.find(&name.value).ok_or_else(|| {
            Problem::wrong(format!("there is no table `{}`", name.value))
                .at(source.place(name.span))
                .maybe_hint(did_you_mean(&name.value, schema.tables.iter().map(|table| table.name.as_str())))
        })?;
        for relation in always {
            let found = relations
                .find(schema, table, &relation.value)
                .map_err(|error| Problem::wrong(error.message).at(source.place(relation.span)).maybe_hint(error.hint))?;
            all.push((table, found.name.clone()));
        }
    }
    Ok(all)
}

/// What is said of a check that the schema goes on without.
pub(crate) fn without_check(schema: &Schema, blueprint: &Blueprint, left_out: &LeftOut) -> String {
    let table = schema.table(left_out.table);
    let what = format!("the check `{}` of `{}` is left out, since {} is not known here", left_out.check, table.name, left_out.unknown);
    match left_out.columns.first() {
        Some(&column) if !left_out.is_met => {
            let way = blueprint.way(left_out.table, column);
            let recipe = if way.is_recipe { way.how.as_str() } else { "…" };
            let line = TomlText::entry(&format!("{}.{}", table.name, table.columns[column].name), Scalar::Text(recipe));
            format!("warning: {what}; say under [values] how to meet it: {line}")
        }
        _ => what,
    }
}

/// What the user says about rows and values.
fn order(source: &TextFile, schema: &Schema, config: &Config) -> Result<Order, Problem> {
    let mut order = Order { seed: config.seed, scale: config.scale.unwrap_or(1.0), ..Order::default() };
    let tables = || schema.tables.iter().map(|table| table.name.as_str());
    for (name, rows) in &config.rows {
        let table = schema.find(&name.value).ok_or_else(|| {
            Problem::wrong(format!("there is no table `{}`", name.value))
                .at(source.place(name.span))
                .maybe_hint(did_you_mean(&name.value, tables()))
        })?;
        let count = expr::read_row_count(&rows.value)
            .map_err(|error| Problem::wrong(error.message).at(source.place(rows.place(error.span))).maybe_hint(error.hint))?;
        order.rows.insert(table, count);
    }
    for (name, recipe) in &config.values {
        let (table, column) = find_column(schema, &name.value).map_err(|problem| problem.at(source.place(name.span)))?;
        let recipe =
            expr::read_recipe(&recipe.value).map_err(|error| Problem::wrong(error.message).at(source.place(recipe.place(error.span))))?;
        order.values.insert((table, column), recipe);
    }
    Ok(order)
}

/// The column of `table.column`.
pub(crate) fn find_column(schema: &Schema, name: &str) -> Result<(TableId, ColumnId), Problem> {
    let (table, column) = name
        .split_once('.')
        .ok_or_else(|| Problem::wrong("this must name a column, like \"hive.label\"").hint("write \"table.column\""))?;
    find_column_of(schema, table, column)
}

/// The column of a name in the table of a name.
pub(crate) fn find_column_of(schema: &Schema, table: &str, column: &str) -> Result<(TableId, ColumnId), Problem> {
    let table = schema.find(table).ok_or_else(|| {
        Problem::wrong(format!("there is no table `{table}`"))
            .maybe_hint(did_you_mean(table, schema.tables.iter().map(|table| table.name.as_str())))
    })?;
    let model = schema.table(table);
    let column = model.find(column).ok_or_else(|| {
        Problem::wrong(format!("`{}` has no column `{column}`", model.name))
            .maybe_hint(did_you_mean(column, model.columns.iter().map(|column| column.name.as_str())))
    })?;
    Ok((table, column))
}

fn fill_problem(source: &TextFile, ddl: &SchemaText, schema: &Schema, config: &Config, error: FillError) -> Problem {
    let problem = Problem::wrong(error.message).maybe_hint(error.hint);
    let written = |pairs: &[(Written, Written)], fits: &dyn Fn(&str) -> bool| {
        pairs.iter().find(|(name, _)| fits(&name.value)).map(|(_, value)| error.span.map_or(value.span, |span| value.place(span)))
    };
    let place: Option<Span> = match &error.subject {
        FillSubject::Schema(span) => return problem.at(ddl.place(*span)),
        FillSubject::Rows(table) => written(&config.rows, &|name| schema.find(name) == Some(*table)),
        FillSubject::Values(table, column) => {
            written(&config.values, &|name| find_column(schema, name).is_ok_and(|found| found == (*table, *column)))
        }
    };
    match (place, &error.subject) {
        (Some(span), _) => problem.at(source.place(span)),
        (None, FillSubject::Rows(table)) => problem.at(ddl.place(schema.table(*table).span)),
        (None, FillSubject::Values(table, column)) => problem.at(ddl.place(schema.table(*table).columns[*column].span)),
        (None, FillSubject::Schema(_)) => problem,
    }
}

/// The text of the part of a need that an error is in.
pub(crate) fn need_part(contest: &ContestConfig, part: NeedPart) -> Option<&Written> {
    match part {
        NeedPart::From => contest.write.as_ref().map(|write| &write.table).or(contest.from.as_ref()),
        NeedPart::Give(at) => contest.give.get(at),
        NeedPart::Where => contest.filter.as_ref(),
        NeedPart::Group(at) => contest.group.as_ref().and_then(|group| group.get(at)),
        NeedPart::Order(at) => contest.order.get(at),
        NeedPart::Limit => None,
        NeedPart::Parameter(at) => contest.parameters.get(at).map(|(_, value)| value),
        NeedPart::Loading(at) => contest.loading.get(at).map(|(path, _)| path),
        NeedPart::Set(at) => contest.write.as_ref().and_then(|write| write.set.get(at)),
        NeedPart::Also(at) => contest.write.as_ref().and_then(|write| write.also.get(at)),
        NeedPart::Count => None,
    }
}
