//! Contenders of the user's own in kampf.toml.

use kampf_contest::{Choice, ChoiceOption, Hydration};
use kampf_schema::{Span, did_you_mean};

use super::option::option;
use super::reader::{Reader, span};
use super::written::Written;
use crate::problem::{Problem, Source};

/// A contender of the user's.
#[derive(Clone, Debug)]
pub(crate) struct OwnConfig {
    pub(crate) name: String,
    pub(crate) way: OwnWay,
}

#[derive(Clone, Debug)]
pub(crate) enum OwnWay {
    Sql(OwnSql, Hydration),
    /// Its words, and the environment variables that it gets besides the usual ones.
    Program(Vec<String>, Vec<String>),
}

/// SQL of the user's: one text for any engine, or one for each.
#[derive(Clone, Debug, Default)]
pub(crate) struct OwnSql {
    any: Option<Written>,
    by_engine: Vec<(String, Written)>,
}

impl OwnSql {
    /// The text for an engine; none where there is only one for others.
    pub(crate) fn of(&self, engine: &str) -> Option<&Written> {
        self.by_engine.iter().find(|(name, _)| name == engine).map(|(_, sql)| sql).or(self.any.as_ref())
    }
}

/// Reads one.
pub(super) fn own(source: &Source, name: &str, place: Span, mut table: Reader<'_>) -> Result<OwnConfig, Problem> {
    let at = |problem: Problem| problem.at(source.place(place));
    if name.contains(['.', '@']) || name.is_empty() || name.contains(char::is_whitespace) {
        let hint = "names with points belong to derived contenders, and an at sign says on which schema one runs; call yours like `window`";
        return Err(at(Problem::wrong("a contender's name is one word without points and at signs").hint(hint)));
    }
    let sql = match table.get("sql") {
        None => None,
        Some(item) if item.1.get_ref().is_table() => {
            let inner = table.inner(item)?;
            let mut sql = OwnSql::default();
            for item in inner.items() {
                let engine = item.0.get_ref().to_string();
                if engine == "any" {
                    sql.any = Some(inner.text(item)?);
                    continue;
                }
                if kampf_engine::engine(&engine).is_none() {
                    return Err(Problem::wrong(format!("there is no engine `{engine}`"))
                        .at(source.place(span(item.0.span())))
                        .maybe_hint(did_you_mean(&engine, kampf_engine::names())));
                }
                sql.by_engine.push((engine, inner.text(item)?));
            }
            Some(sql)
        }
        Some(item) => Some(OwnSql { any: Some(table.text(item)?), by_engine: Vec::new() }),
    };
    let command = table.strings("command")?;
    let environment = table.strings("environment")?;
    let hydration = table.string("hydration")?;
    table.finish()?;
    if let (Some(first), true) = (environment.first(), command.is_empty()) {
        return Err(Problem::wrong("only a program has an environment").at(source.place(first.span)).hint("remove this line"));
    }
    let way = match (sql, command.is_empty()) {
        (Some(sql), true) => {
            let hydration = match &hydration {
                None => Hydration::Record,
                Some(word) => Hydration::ALL[option(source, Choice::Hydration, word)?.rank()],
            };
            if hydration == Hydration::Managed {
                return Err(at(Problem::wrong("rows of your own SQL have no identity, so they cannot be managed"))
                    .hint("use plain, map, record or raw"));
            }
            OwnWay::Sql(sql, hydration)
        }
        (None, false) => {
            if let Some(hydration) = hydration {
                return Err(Problem::wrong("a program does its own hydration").at(source.place(hydration.span)).hint("remove this line"));
            }
            let texts = |words: Vec<Written>| words.into_iter().map(|word| word.value).collect();
            OwnWay::Program(texts(command), texts(environment))
        }
        (Some(_), false) => return Err(at(Problem::wrong(format!("`{name}` has both `sql` and `command`")).hint("keep one of the two"))),
        (None, true) => {
            return Err(at(Problem::wrong(format!("`{name}` says nothing to do")).hint("give it `sql = \"…\"` or `command = [\"…\"]`")));
        }
    };
    Ok(OwnConfig { name: name.to_owned(), way })
}
