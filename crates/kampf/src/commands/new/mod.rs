//! `kampf new`

mod contests;
mod file;
mod proof;

use std::fs;
use std::path::Path;

use kampf_fill::{Blueprint, Order, RowGuesses, leave_out_checks};
use kampf_schema::ddl::Ddl;
use kampf_schema::undeclared;

use self::file::{Start, project_file};
use super::{Ending, Teller, say};
use crate::arguments::{General, New};
use crate::output::{guesses_text, rows_of, shown};
use crate::problem::Problem;
use crate::project::{Project, SchemaText};
use crate::store::{sweep_parts, write_whole};
use crate::tidings::{Listener, Tidings};

const STARTER_TOML: &str = include_str!("../../../templates/starter.toml");
const STARTER_SQL: &str = include_str!("../../../templates/starter.sql");

pub(super) fn run(general: &General, arguments: &New) -> Result<Ending, Problem> {
    let (files, fault) = match &arguments.schema {
        None => (vec![("kampf.toml".to_owned(), STARTER_TOML.to_owned()), ("schema.sql".to_owned(), STARTER_SQL.to_owned())], None),
        Some(path) => from_schema(general, path, arguments.rows)?,
    };
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    make_folder(&arguments.dir, &files)?;
    let dir = shown(&arguments.dir.display().to_string());
    say(general.quiet, &format!("made {dir}: {}", files.iter().map(|(name, _)| *name).collect::<Vec<_>>().join(", ")));
    if let Some(fault) = fault {
        say(general.quiet, &format!("before it can be filled, kampf.toml needs a line more; it says where: {fault}"));
        return Ok(Ending::Done);
    }
    let own = General { file: arguments.dir.join("kampf.toml"), engine: None, data: None, scale: None, ..general.clone() };
    let project = Project::open(&own, None)?;
    Teller::of(general).hear(Tidings::Warnings(&project.warnings));
    if let Some(guesses) = guesses_text(&project, &project.blueprint.guesses()) {
        say(general.quiet, guesses.trim_end());
    }
    let rows = project.schema.ids().map(|table| project.blueprint.rows(table)).sum();
    say(general.quiet, &format!("next: cd {dir} && kampf race   (fills {} first)", rows_of(rows)));
    Ok(Ending::Done)
}

/// The files of a folder, with their names.
type Files = Vec<(String, String)>;

/// The files for somebody's schema, and what stands in the way of filling it.
fn from_schema(general: &General, path: &Path, wanted: Option<u64>) -> Result<(Files, Option<String>), Problem> {
    let text = SchemaText::read(&[path.to_owned()])?;
    let (ddl, types) = read(&text)?;
    for (name, _) in &types {
        say(general.quiet, &format!("the type {name} is not known; it is kept as text, see [types] in kampf.toml"));
    }
    let mut schema = ddl.schema;
    if let (Some(_), Some(scale)) = (wanted, general.scale) {
        return Err(Problem::wrong(format!("--rows and --scale {scale} both say how much there is")).hint("leave out one of them"));
    }
    let scale = wanted.map(|rows| to_three_digits(RowGuesses::scale_for(&schema, rows))).or(general.scale);
    let order = Order { seed: 1, scale: scale.unwrap_or(1.0), ..Order::default() };
    let left_out = leave_out_checks(&mut schema, &order);
    // The guesses are those that all rules of the schema allow.
    let planned = Blueprint::new(&schema, &order);
    let fault = proof::fault(&schema, &order, &planned);
    let name = path.file_name().map_or_else(|| "schema.sql".to_owned(), |name| name.to_string_lossy().into_owned());
    let start = Start {
        schema: &schema,
        file: &name,
        types: &types,
        scale,
        guesses: &RowGuesses::of(&schema).scaled(order.scale),
        planned: planned.as_ref().ok(),
        left_out: &left_out,
        undeclared: &undeclared(&schema),
        fault: fault.as_ref(),
    };
    let mut files = vec![("kampf.toml".to_owned(), project_file(&start))];
    for source in text.sources() {
        let own = source.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        files.push((if path.is_dir() { format!("{name}/{own}") } else { name.clone() }, source.text.to_string()));
    }
    Ok((files, fault.map(|fault| fault.what)))
}

/// A number that a person would write.
fn to_three_digits(number: f64) -> f64 {
    format!("{number:.2e}").parse().unwrap_or(number)
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
