//! `kampf new`

use std::fmt::Write;
use std::fs;
use std::path::Path;

use kampf_fill::{Blueprint, Order, guessed_rows};
use kampf_schema::ddl::Ddl;
use kampf_schema::expr::RowCount;
use kampf_schema::{HopKind, LogicalType, Relations, Schema, TableId};

use super::{Ending, say};
use crate::arguments::{General, New};
use crate::problem::Problem;
use crate::project::SchemaText;
use crate::store::write_whole;

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
            let rows = |table: TableId| {
                planned.as_ref().map_or_else(|_| guessed_rows(&ddl.schema, table), |planned| planned.row_count(table).clone())
            };
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

/// Makes a folder with some files; files that are there already are never touched.
pub(super) fn make_folder(dir: &Path, files: &[(&str, &str)]) -> Result<(), Problem> {
    for (name, _) in files {
        let path = dir.join(name);
        if path.exists() {
            return Err(Problem::wrong(format!("{} is already there", path.display())).hint("name another folder; nothing was changed"));
        }
    }
    fs::create_dir_all(dir).map_err(|error| Problem::file("cannot make", dir, &error))?;
    files.iter().try_for_each(|(name, text)| {
        let path = dir.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).map_err(|error| Problem::file("cannot make", parent, &error))?;
        }
        write_whole(&path, text)
    })
}

/// A kampf.toml for somebody's schema.
fn project_file(schema: &Schema, file: &str, types: &[(String, String)], rows: &dyn Fn(TableId) -> RowCount) -> String {
    let mut text = format!(
        "# What to fill, what to answer, what to race. `kampf race` runs everything here; docs/file-reference.md explains every key.\n\
         schema = {}\nseed = 1\n\n\
         # Rows per table: a number, or so many for each row of a parent. These are guesses; put in what production has.\n[rows]\n",
        quoted(file)
    );
    let usable: Vec<TableId> = schema.ids().collect();
    for &id in &usable {
        let rows = rows(id).to_string();
        let value = if rows.bytes().all(|byte| byte.is_ascii_digit()) { rows } else { quoted(&rows) };
        let _ = writeln!(text, "{} = {value}", key(&schema.table(id).name));
    }
    let _ = write!(
        text,
        "\n# How values look is guessed from names, types and checks. Where that is not what you want, say so:\n\
         # [values]\n# \"table.column\" = \"normal(6, 2) in 1..10\"\n"
    );
    if !types.is_empty() {
        text += "\n# Types that are not known, and what they are kept as.\n[types]\n";
        for (name, means) in types {
            let _ = writeln!(text, "{} = {}", key(name), quoted(means));
        }
    }
    let relations = Relations::of(schema);
    text += "\n# The relations of your tables, for use in paths (`kampf show --relations` has them all):\n";
    for &id in &usable {
        let names: Vec<String> = relations
            .from(id)
            .map(|relation| {
                let many = relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
                if many { format!("{} (many)", relation.name) } else { relation.name.clone() }
            })
            .collect();
        if !names.is_empty() {
            let _ = writeln!(text, "#   {}: {}", schema.table(id).name, names.join(", "));
        }
    }
    for &id in largest(schema, &usable).iter().take(CONTESTS) {
        text += &contest(schema, &relations, id, &usable);
    }
    text
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

/// A list of a table's newest rows with a value of each parent and the number of children.
fn contest(schema: &Schema, relations: &Relations, id: TableId, usable: &[TableId]) -> String {
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
        if !relation.hops.iter().all(|hop| usable.contains(&hop.to)) || target == id {
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
    let order: Vec<String> = table.primary_key.iter().map(|&column| format!("{} desc", part(&table.columns[column].name))).collect();
    let list = |items: &[String]| items.iter().map(|item| quoted(item)).collect::<Vec<_>>().join(", ");
    format!(
        "\n[contest.{}]\nabout = {}\nfrom = {}\ngive = [{}]\norder = [{}]\nlimit = 100\n",
        key(&format!("{}-list", table.name.replace(char::is_whitespace, "-"))),
        quoted(&format!("The last 100 rows of {}, with what belongs to them", table.name)),
        quoted(&table.name),
        list(&give),
        list(&order)
    )
}

/// A name inside an expression, quoted where it must be.
fn part(name: &str) -> String {
    kampf_schema::expr::Name { text: name.to_owned(), span: kampf_schema::Span::default() }.to_string()
}

/// A TOML string.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// A TOML key.
fn key(name: &str) -> String {
    let bare = !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-'));
    if bare { name.to_owned() } else { quoted(name) }
}
