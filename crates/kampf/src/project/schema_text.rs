//! The text of a schema: one file, several, or the files of a folder, one after the other.

use std::fs;
use std::path::{Path, PathBuf};

use kampf_schema::Span;
use kampf_schema::ddl::{self, Ddl, DdlError, SqlDialect};

use crate::problem::{Place, Problem, TextFile};

/// Ends a statement that the file before it left open.
const BETWEEN: &str = "\n;\n";

/// The files with the statements that make a schema.
pub(crate) struct SchemaText {
    /// Each with the offset at which it begins in the whole text.
    files: Vec<(usize, TextFile)>,
    text: String,
    /// Where the lines of each file begin.
    lines: Vec<Vec<usize>>,
}

impl SchemaText {
    /// Reads a file, or all files of a folder whose names end in `.sql`, in the order of their names.
    pub(crate) fn read(paths: &[PathBuf]) -> Result<SchemaText, Problem> {
        let mut schema = SchemaText { files: Vec::new(), text: String::new(), lines: Vec::new() };
        for path in paths {
            for file in files_at(path)? {
                let source = TextFile::read(&file, "the schema")?;
                if !schema.files.is_empty() {
                    schema.text += BETWEEN;
                }
                let breaks = source.text.match_indices('\n').map(|(at, _)| at + 1);
                schema.lines.push(std::iter::once(0).chain(breaks).collect());
                schema.files.push((schema.text.len(), source.clone()));
                schema.text += &source.text;
            }
        }
        if schema.text.trim_matches(|c: char| c.is_whitespace() || c == ';').is_empty() {
            let names: Vec<String> = paths.iter().map(|path| path.display().to_string()).collect();
            return Err(Problem::wrong(format!("{} is empty", names.join(", "))).hint("put the SQL statements there that make your tables"));
        }
        Ok(schema)
    }

    /// Its tables, or the error as it is.
    pub(crate) fn parse(&self, dialect: Option<SqlDialect>, types: &[(String, String)]) -> Result<Ddl, DdlError> {
        ddl::read_with(&self.text, dialect, types)
    }

    /// An error of the reader with its place.
    pub(crate) fn problem(&self, error: DdlError) -> Problem {
        Problem::wrong(error.message).at(self.place(error.span)).maybe_hint(error.hint)
    }

    /// A place in one of the files.
    pub(crate) fn place(&self, span: Span) -> Place {
        let at = self.files.partition_point(|(start, _)| *start <= span.start).saturating_sub(1);
        let (start, source) = &self.files[at];
        source.place(Span::new(span.start - start, span.end.saturating_sub(*start)))
    }

    /// The file and line of a place, for people.
    pub(crate) fn line(&self, span: Span) -> String {
        let at = self.files.partition_point(|(start, _)| *start <= span.start).saturating_sub(1);
        let (start, source) = &self.files[at];
        let line = self.lines[at].partition_point(|begins| *begins <= span.start - start);
        format!("{}:{line}", source.path.display())
    }

    /// The files one by one.
    pub(crate) fn sources(&self) -> impl Iterator<Item = &TextFile> {
        self.files.iter().map(|(_, source)| source)
    }
}

fn files_at(path: &Path) -> Result<Vec<PathBuf>, Problem> {
    if !path.is_dir() {
        return Ok(vec![path.to_owned()]);
    }
    let failed = |error: &std::io::Error| Problem::file("cannot read the folder", path, error);
    let mut files = Vec::new();
    for entry in fs::read_dir(path).map_err(|error| failed(&error))? {
        let file = entry.map_err(|error| failed(&error))?.path();
        if file.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("sql")) {
            files.push(file);
        }
    }
    if files.is_empty() {
        return Err(Problem::wrong(format!("the folder {} holds no file that ends in .sql", path.display())));
    }
    files.sort();
    Ok(files)
}
