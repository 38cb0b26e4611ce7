//! `kampf new`

use std::fs;
use std::path::Path;

use kampf_fill::{Blueprint, Order, RowGuesses};
use kampf_schema::ddl::Ddl;
use kampf_schema::expr::RowCount;
use kampf_schema::{Column, HopKind, LogicalType, Relations, Schema, Table, TableId};

use super::{Ending, say};
use crate::arguments::{General, New};
use crate::output::shown;
use crate::problem::Problem;
use crate::project::{Scalar, SchemaText, TomlText};
use crate::store::{sweep_parts, write_whole};

const STARTER_TOML: &str = include_str!("../../templates/starter.toml");
const STARTER_SQL: &str = include_str!("../../templates/starter.sql");
/// A contest is written for so many tables at most.
const CONTESTS: usize = 6;

pub(super) fn run(general: &General, arguments: &New) -> Result<Ending, Problem> {
    let files = match &arguments.schema {
        None => vec![("kampf.toml".to_owned(), STARTER_TOML.to_owned()), ("schema.sql".to_owned(), STARTER_SQL.to_owned())],
        Some(path) => {
            let text = SchemaText::read(std::slice::from_ref(path))?;
            let (ddl, types) = read(&text)?;
            for (name, _) in &types {
                say(general.quiet, &format!("the type {name} is not known; it is kept as text, see [types] in kampf.toml"));
            }
            let name = path.file_name().map_or_else(|| "schema.sql".to_owned(), |name| name.to_string_lossy().into_owned());
            // The guesses are those that all rules of the schema allow.
            let planned = Blueprint::new(&ddl.schema, &Order { seed: 1, ..Order::default() });
            if let Err(error) = &planned {
                let hint = error.hint.as_deref().unwrap_or("see docs/filling.md");
                say(general.quiet, &format!("kampf.toml needs one more line before it can be filled: {error}; {hint}"));
            }
            let guesses = RowGuesses::of(&ddl.schema);
            let rows = |table: TableId| planned.as_ref().map_or_else(|_| guesses.rows(table), |planned| planned.row_count(table).clone());
            let mut files = vec![("kampf.toml".to_owned(), project_file(&ddl.schema, &name, &types, &rows))];
            for source in text.sources() {
                let own = source.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
                files.push((if path.is_dir() { format!("{name}/{own}") } else { name.clone() }, source.text.to_string()));
            }
            files
        }
    };
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    make_folder(&arguments.dir, &files)?;
    let dir = arguments.dir.display();
    say(general.quiet, &format!("made {dir}: {}", files.iter().map(|(name, _)| *name).collect::<Vec<_>>().join(", ")));
    say(general.quiet, &format!("next: cd {dir} && kampf race"));
    Ok(Ending::Done)
}

/// Reads a schema; types that are not known are taken for text.
fn read(text: &SchemaText) -> Result<(Ddl, Vec<(String, String)>), Problem> {
    let mut types = Vec::new();
    loop {
        match text.parse(None, &types) {
            Ok(ddl) => return Ok((ddl, types)),
            Err(error) => match &error.unknown_type {
                Some(name) if types.iter().all(|(known, _)| known != name) => types.push((name.clone(), "text".to_owned())),
                _ => return Err(text.problem(error)),
            },
        }
    }
}

/// Makes a folder with some files, the first of them last: while it is not there, the folder is not whole, and the same again goes on
/// from what is there. Files that hold something else are never touched.
pub(super) fn make_folder(dir: &Path, files: &[(&str, &str)]) -> Result<(), Problem> {
    for (at, (name, text)) in files.iter().enumerate() {
        let path = dir.join(name);
        let is_own_half = at > 0 && !dir.join(files[0].0).exists() && fs::read(&path).is_ok_and(|there| there == text.as_bytes());
        if path.symlink_metadata().is_ok() && !is_own_half {
            return Err(Problem::wrong(format!("{} is already there", path.display())).hint("name another folder; nothing was changed"));
        }
    }
    fs::create_dir_all(dir).map_err(|error| Problem::file("cannot make", dir, &error))?;
    files.iter().rev().try_for_each(|(name, text)| {
        let path = dir.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).map_err(|error| Problem::file("cannot make", parent, &error))?;
            sweep_parts(parent);
        }
        write_whole(&path, text)
    })
}

/// A kampf.toml for somebody's schema.
fn project_file(schema: &Schema, file: &str, types: &[(String, String)], rows: &dyn Fn(TableId) -> RowCount) -> String {
    let mut text = TomlText::default();
    text.comment(
        "What to fill, what to answer, what to race. `kampf race` runs everything here; docs/file-reference.md explains every key.",
    );
    text.value("schema", Scalar::Text(file));
    text.value("seed", Scalar::Number(1));
    text.blank();
    text.comment("Rows per table: a number, or so many for each row of a parent. These are guesses; put in what production has.");
    text.table(&["rows"]);
    let usable: Vec<TableId> = schema.ids().collect();
    for &id in &usable {
        let rows = rows(id).to_string();
        text.value(&schema.table(id).name, rows.parse().map_or(Scalar::Text(&rows), Scalar::Number));
    }
    text.blank();
    text.comment(
        "How values look is guessed from names, types and checks. Where that is not what you want, say so:\n\
         [values]\n\"table.column\" = \"normal(6, 2) in 1..10\"",
    );
    if !types.is_empty() {
        text.blank();
        text.comment("Types that are not known, and what they are kept as.");
        text.table(&["types"]);
        for (name, means) in types {
            text.value(name, Scalar::Text(means));
        }
    }
    let relations = Relations::of(schema);
    text.blank();
    text.comment("The relations of your tables, for use in paths (`kampf show --relations` has them all):");
    for &id in &usable {
        let names: Vec<String> = relations
            .from(id)
            .map(|relation| {
                let many = relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
                if many { format!("{} (many)", relation.name) } else { relation.name.clone() }
            })
            .collect();
        if !names.is_empty() {
            text.note(&format!("{}: {}", schema.table(id).name, names.join(", ")));
        }
    }
    let mut names: Vec<String> = Vec::new();
    let mut name = |table: &str, kind: &str| {
        let name = contest_name(table, kind, &names);
        names.push(name.clone());
        name
    };
    let largest = largest(schema, &usable);
    for &id in largest.iter().take(CONTESTS) {
        list(&mut text, schema, &relations, id, &name(&schema.table(id).name, "list"));
    }
    if let Some((id, time)) = largest.iter().find_map(|&id| Some((id, time_of(schema.table(id))?))) {
        per_month(&mut text, schema, id, time, &name(&schema.table(id).name, "per-month"));
    }
    let parent_of = |&child: &TableId| Some((time_of(schema.table(child))?, child, parent_of(schema, &relations, child)?));
    if let Some((time, child, (parent, relation))) = largest.iter().find_map(parent_of) {
        newest(&mut text, schema, (parent, &relation), (child, time), &name(&schema.table(parent).name, "newest"));
    }
    if let Some((id, key)) = largest.iter().find_map(|&id| Some((id, key_of(schema.table(id))?))) {
        one(&mut text, schema, &relations, id, key, &name(&schema.table(id).name, "one"));
    }
    text.into_text()
}

/// A contest's name for a table: one word, like no other.
fn contest_name(table: &str, kind: &str, taken: &[String]) -> String {
    let word = |c: char| if c.is_whitespace() || c == '/' || shown(c.encode_utf8(&mut [0; 4])).len() != c.len_utf8() { '-' } else { c };
    let name = format!("{}-{kind}", table.chars().map(word).collect::<String>());
    let numbered = (2..).map(|number| format!("{name}-{number}"));
    std::iter::once(name.clone()).chain(numbered).find(|name| !taken.contains(name)).unwrap_or(name)
}

/// Tables that make a contest, those deepest below others first: they grow largest.
fn largest(schema: &Schema, usable: &[TableId]) -> Vec<TableId> {
    let order = schema.parents_first();
    let mut depths = vec![0_usize; schema.tables.len()];
    for id in order {
        let parents = schema.table(id).references.iter().filter(|reference| reference.parent != id);
        depths[id.0] = parents.map(|reference| 1 + depths[reference.parent.0]).max().unwrap_or(0);
    }
    let mut tables: Vec<TableId> = usable.iter().copied().filter(|&id| !schema.table(id).primary_key.is_empty()).collect();
    tables.sort_by_key(|&id| std::cmp::Reverse(depths[id.0]));
    tables
}

/// Values of a row, one of each parent, and the number of children.
fn given(schema: &Schema, relations: &Relations, id: TableId) -> Vec<String> {
    let table = schema.table(id);
    let refers = |column: usize| table.references.iter().any(|reference| reference.columns.contains(&column));
    let mut give: Vec<String> = (0..table.columns.len())
        .filter(|&column| !refers(column) && table.columns[column].kind != LogicalType::Blob)
        .take(4)
        .map(|column| part(&table.columns[column].name))
        .collect();
    let mut children = 0;
    for relation in relations.from(id) {
        let target = relation.hops.last().map_or(id, |hop| hop.to);
        if target == id {
            continue;
        }
        if relation.hops.iter().any(|hop| hop.kind == HopKind::Many) {
            if children < 2 {
                give.push(format!("count({})", part(&relation.name)));
            }
            children += 1;
            continue;
        }
        let parent = schema.table(target);
        let refers = |column: usize| parent.references.iter().any(|reference| reference.columns.contains(&column));
        let text = (0..parent.columns.len()).find(|&column| {
            matches!(parent.columns[column].kind, LogicalType::Text { .. }) && !refers(column) && !parent.primary_key.contains(&column)
        });
        if let Some(column) = text.or(parent.primary_key.first().copied()) {
            give.push(format!("{}.{}", part(&relation.name), part(&parent.columns[column].name)));
        }
    }
    if give.is_empty() {
        give.push(part(&table.columns[0].name));
    }
    give
}

/// A list of a table's newest rows with a value of each parent and the number of children.
fn list(text: &mut TomlText, schema: &Schema, relations: &Relations, id: TableId, name: &str) {
    let table = schema.table(id);
    let give = given(schema, relations, id);
    let order: Vec<String> = table.primary_key.iter().map(|&column| format!("{} desc", part(&table.columns[column].name))).collect();
    text.blank();
    text.table(&["contest", name]);
    let about = format!("The last 100 rows of {}, with what belongs to them", shown(&table.name));
    text.value("about", Scalar::Text(&about));
    text.value("from", Scalar::Text(&table.name));
    text.list("give", &give);
    text.list("order", &order);
    text.value("limit", Scalar::Number(100));
}

/// When a row came to be, as far as types tell.
fn time_of(table: &Table) -> Option<&Column> {
    table.columns.iter().find(|column| matches!(column.kind, LogicalType::Date | LogicalType::Timestamp))
}

/// The one column that a row is found by.
fn key_of(table: &Table) -> Option<&Column> {
    let [key] = table.primary_key.as_slice() else { return None };
    Some(&table.columns[*key]).filter(|key| key.kind != LogicalType::Blob)
}

/// How many rows of a table there are for each month, and the mean of a number of theirs.
fn per_month(text: &mut TomlText, schema: &Schema, id: TableId, time: &Column, name: &str) {
    let table = schema.table(id);
    let refers = |column: usize| table.references.iter().any(|reference| reference.columns.contains(&column));
    let number = (0..table.columns.len())
        .find(|&column| table.columns[column].kind.is_number() && !refers(column) && !table.primary_key.contains(&column));
    let mut give = vec!["month".to_owned(), "count() as many".to_owned()];
    if let Some(column) = number {
        give.push(format!("avg({}) as mean", part(&table.columns[column].name)));
    }
    text.blank();
    text.table(&["contest", name]);
    text.value("about", Scalar::Text(&format!("How many rows of {} there are for each month", shown(&table.name))));
    text.value("from", Scalar::Text(&table.name));
    text.list("group", &[format!("start_of(month, {}) as month", part(&time.name))]);
    text.list("give", &give);
    text.list("order", &["month".to_owned()]);
}

/// A table that the rows of another belong to, and what they are called there.
fn parent_of(schema: &Schema, relations: &Relations, child: TableId) -> Option<(TableId, String)> {
    let parents = schema.table(child).references.iter().map(|reference| reference.parent).filter(|&parent| parent != child);
    let known = parents.filter(|&parent| !schema.table(parent).primary_key.is_empty());
    known.into_iter().find_map(|parent| {
        let to_child = |relation: &&kampf_schema::NamedRelation| matches!(relation.hops.as_slice(), [hop] if hop.kind == HopKind::Many && hop.to == child);
        Some((parent, relations.from(parent).find(to_child)?.name.clone()))
    })
}

/// Rows of a table with the three newest that belong to each.
fn newest(text: &mut TomlText, schema: &Schema, (parent, relation): (TableId, &str), (child, time): (TableId, &Column), name: &str) {
    let (table, below) = (schema.table(parent), schema.table(child));
    let own = |table: &Table| {
        let refers = |column: usize| table.references.iter().any(|reference| reference.columns.contains(&column));
        let is_shown = |&column: &usize| !refers(column) && table.columns[column].kind != LogicalType::Blob;
        (0..table.columns.len()).filter(is_shown).map(|column| part(&table.columns[column].name)).collect::<Vec<_>>()
    };
    let mut give: Vec<String> = own(table).into_iter().take(2).collect();
    let mut inside: Vec<String> = own(below).into_iter().take(3).collect();
    let time = part(&time.name);
    if !inside.contains(&time) {
        inside.push(time.clone());
    }
    give.push(format!("{} order {time} desc limit 3 {{ {} }} as newest", part(relation), inside.join(", ")));
    let order: Vec<String> = table.primary_key.iter().map(|&column| part(&table.columns[column].name)).collect();
    text.blank();
    text.table(&["contest", name]);
    let about = format!("100 rows of {}, with the three newest rows of {} of each", shown(&table.name), shown(&below.name));
    text.value("about", Scalar::Text(&about));
    text.value("from", Scalar::Text(&table.name));
    text.list("give", &give);
    text.list("order", &order);
    text.value("limit", Scalar::Number(100));
}

/// One row of a table by its key.
fn one(text: &mut TomlText, schema: &Schema, relations: &Relations, id: TableId, key: &Column, name: &str) {
    let table = schema.table(id);
    let give = given(schema, relations, id);
    text.blank();
    text.table(&["contest", name]);
    text.value("about", Scalar::Text(&format!("One row of {} by its key, with what belongs to it", shown(&table.name))));
    text.value("from", Scalar::Text(&table.name));
    text.list("give", &give);
    text.value("where", Scalar::Text(&format!("{} = :key", part(&key.name))));
    text.value("expect", Scalar::Text("1"));
    text.blank();
    text.table(&["contest", name, "parameters"]);
    text.value("key", Scalar::Text(&format!("any({}.{})", part(&table.name), part(&key.name))));
}

/// A name inside an expression, quoted where it must be.
fn part(name: &str) -> String {
    kampf_schema::expr::Name { text: name.to_owned(), span: kampf_schema::Span::default() }.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Names as no friend would choose them.
    fn hostile() -> impl Strategy<Value = String> {
        let piece = prop_oneof![
            "[a-z]{1,4}",
            Just("\n".to_owned()),
            Just("\r\n[contest.z.contender.a]\ncommand = [\"touch\", \"owned\"]\n".to_owned()),
            Just("\"\"\"".to_owned()),
            Just("'".to_owned()),
            Just("]".to_owned()),
            Just("#".to_owned()),
            Just("\\".to_owned()),
            Just(".".to_owned()),
            Just("=".to_owned()),
            Just("\u{1b}[2J".to_owned()),
            Just("\u{2028}\u{85}".to_owned()),
            Just("蜂".to_owned()),
        ];
        prop::collection::vec(piece, 1..5).prop_map(|pieces| pieces.concat())
    }

    proptest! {
        #[test]
        fn whatever_names_a_schema_has_the_file_holds_the_contests_intended_and_nothing_else(
            names in prop::collection::vec(hostile(), 6),
        ) {
            let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
            let ddl = format!(
                "CREATE TABLE {0} ({1} INTEGER PRIMARY KEY, {2} VARCHAR(20));
                 CREATE TABLE {3} ({4} INTEGER PRIMARY KEY, {5} INTEGER REFERENCES {0});",
                quoted(&format!("a{}", names[0])), quoted(&names[1]), quoted(&format!("{}2", names[2])),
                quoted(&format!("b{}", names[3])), quoted(&names[4]), quoted(&format!("{}2", names[5])),
            );
            let schema = kampf_schema::ddl::read(&ddl).unwrap().schema;
            let text = project_file(&schema, "own.sql", &[(names[0].clone(), "text".to_owned())], &|table| RowGuesses::of(&schema).rows(table));
            let parsed: toml::Table = text.parse().unwrap_or_else(|error| panic!("{error}\n{text}"));
            let keys: Vec<&str> = parsed.keys().map(String::as_str).collect();
            prop_assert_eq!(keys, ["contest", "rows", "schema", "seed", "types"]);
            let rows: Vec<&String> = parsed["rows"].as_table().unwrap().keys().collect();
            prop_assert!(rows.iter().all(|name| schema.tables.iter().any(|table| table.name == **name)) && rows.len() == 2);
            let contests = parsed["contest"].as_table().unwrap();
            prop_assert_eq!(contests.len(), 3);
            for contest in contests.values() {
                let contest = contest.as_table().unwrap();
                let mut keys: Vec<&str> = contest.keys().map(String::as_str).collect();
                keys.sort_unstable();
                let known = [&["about", "from", "give", "limit", "order"][..], &["about", "expect", "from", "give", "parameters", "where"]];
                prop_assert!(known.contains(&keys.as_slice()), "{keys:?}");
                prop_assert!(schema.tables.iter().any(|table| Some(table.name.as_str()) == contest["from"].as_str()));
            }
            prop_assert_eq!(text.lines().map(shown).collect::<Vec<_>>(), text.lines().collect::<Vec<_>>());
            // And it is one that Kampf takes.
            let source = crate::problem::Source { path: "kampf.toml".into(), text: text.as_str().into() };
            prop_assert!(crate::project::Config::read(&source).is_ok(), "{}", text);
        }
    }
}
