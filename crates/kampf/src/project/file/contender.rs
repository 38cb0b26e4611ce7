//! `[contest.NAME.contender.NAME]`.

use kampf_contest::{Choice, ChoiceOption, Commit, Hydration};

use super::form::{schema, table};
use super::reader::{FileValue, Item, Reader, span};
use crate::problem::Problem;
use crate::project::option::option;
use crate::project::written::Written;

table! {
    /// A contender of the user's: SQL, or a program.
    ContenderTable {
        /// SQL of your own, for any engine or for each.
        "sql" sql: OwnSql,
        /// What its rows become.
        "hydration" hydration: HydrationForm,
        /// A program of your own, and its arguments.
        "command" command: Vec<Written>,
        /// Environment variables that the program gets besides the usual ones.
        "environment" environment: Vec<Written>,
        /// What a transaction holds where it writes: each statement, or all of a call once.
        "commit" commit: CommitForm,
    }
}

/// SQL of the user's: one text for any engine, or one for each; where it writes, several that follow each other, or one for each table with new rows.
#[derive(Clone, Debug, Default)]
pub(crate) struct OwnSql {
    pub(crate) any: Option<Written>,
    pub(crate) by_engine: Vec<(String, Written)>,
    /// Those behind the first.
    pub(crate) more: Vec<Written>,
    /// Under names that are no engine's.
    pub(crate) by_table: Vec<(Written, Written)>,
}

/// What a transaction holds.
#[derive(Clone, Copy, Debug)]
pub(crate) struct CommitForm(pub(crate) Commit);

schema!(CommitForm, { "type": "string", "enum": Commit::ALL.iter().map(|one| one.word()).collect::<Vec<_>>() });

impl FileValue for CommitForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<CommitForm, Problem> {
        let written = table.text(item)?;
        option(table.source(), Choice::Commit, &written).map(|option| CommitForm(Commit::ALL[option.rank()]))
    }
}

impl OwnSql {
    /// The text for an engine; none where there is only one for others.
    pub(crate) fn of(&self, engine: &str) -> Option<&Written> {
        self.by_engine.iter().find(|(name, _)| name == engine).map(|(_, sql)| sql).or(self.any.as_ref())
    }
}

/// What rows become, and where that is said.
#[derive(Clone, Copy, Debug)]
pub(crate) struct HydrationForm {
    pub(crate) hydration: Hydration,
    pub(crate) span: kampf_schema::Span,
}

schema!(HydrationForm, { "type": "string", "enum": Hydration::ALL.iter().filter(|one| **one != Hydration::Managed).map(|one| one.word()).collect::<Vec<_>>() });

impl FileValue for HydrationForm {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<HydrationForm, Problem> {
        let written = table.text(item)?;
        let rank = option(table.source(), Choice::Hydration, &written)?.rank();
        Ok(HydrationForm { hydration: Hydration::ALL[rank], span: written.span })
    }
}

schema!(OwnSql, { "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" } }, { "type": "object", "additionalProperties": { "type": "string" } }] });

impl FileValue for OwnSql {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<OwnSql, Problem> {
        if item.1.get_ref().is_array() {
            let mut texts = table.texts(item)?.into_iter();
            return Ok(OwnSql { any: texts.next(), more: texts.collect(), ..OwnSql::default() });
        }
        if !item.1.get_ref().is_table() {
            return Ok(OwnSql { any: Some(table.text(item)?), ..OwnSql::default() });
        }
        let inner = table.inner(item)?;
        let mut sql = OwnSql::default();
        for item in inner.items() {
            let engine = item.0.get_ref().to_string();
            if engine == "any" {
                sql.any = Some(inner.text(item)?);
                continue;
            }
            let Some(known) = kampf_engine::engine(&engine) else {
                let name = Written::new(table.text_of_file(), span(item.0.span()), &engine);
                sql.by_table.push((name, inner.text(item)?));
                continue;
            };
            sql.by_engine.push((known.name().to_owned(), inner.text(item)?));
        }
        Ok(sql)
    }
}
