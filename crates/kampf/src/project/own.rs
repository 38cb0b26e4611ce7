//! Contenders of the user's own in kampf.toml.

use kampf_contest::{Commit, Hydration};

use super::file::{ContenderTable, OwnSql};
use super::written::Written;
use crate::problem::{Problem, TextFile};

/// A contender of the user's.
#[derive(Clone, Debug)]
pub(crate) struct OwnConfig {
    pub(crate) name: String,
    pub(crate) way: OwnWay,
}

#[derive(Clone, Debug)]
pub(crate) enum OwnWay {
    /// Its texts, what rows become, and what a transaction holds where they write.
    Sql(OwnSql, Hydration, Option<Commit>),
    /// Its words, and the environment variables that it gets besides the usual ones.
    Program(Vec<String>, Vec<String>),
}

/// What a table says of one.
pub(super) fn own(source: &TextFile, name: &Written, table: ContenderTable) -> Result<OwnConfig, Problem> {
    let at = |problem: Problem| problem.at(source.place(name.span));
    let name = name.value.as_str();
    if name.contains(['.', '@']) || name.is_empty() || name.contains(char::is_whitespace) {
        let hint = "names with points belong to derived contenders, and an at sign says on which schema one runs; call yours like `window`";
        return Err(at(Problem::wrong("a contender's name is one word without points and at signs").hint(hint)));
    }
    let ContenderTable { sql, hydration, command, environment, commit } = table;
    let (command, environment) = (command.unwrap_or_default(), environment.unwrap_or_default());
    if let (Some(first), true) = (environment.first(), command.is_empty()) {
        return Err(Problem::wrong("only a program has an environment").at(source.place(first.span)).hint("remove this line"));
    }
    let way = match (sql, command.is_empty()) {
        (Some(sql), true) => {
            let hydration = hydration.map_or(Hydration::Record, |written| written.hydration);
            if hydration == Hydration::Managed {
                return Err(at(Problem::wrong("rows of your own SQL have no identity, so they cannot be managed"))
                    .hint("use plain, map, record or raw"));
            }
            OwnWay::Sql(sql, hydration, commit.map(|commit| commit.0))
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
