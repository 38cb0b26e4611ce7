//! From the text of a file to a document.

use std::fmt;

use serde::Deserialize;
use serde_json::Value as Json;

use crate::numbers::bytes;
use crate::parts::Document;
use crate::run::ContestKind;

/// The word that every document begins with.
pub(crate) const FORMAT: &str = "kampf-result";
/// The version of the format.
pub(crate) const VERSION: u32 = 1;

/// What earlier versions put in the place of a password, also where that was a word of Kampf's own.
pub const LOST: &str = "***";

/// Bytes of a text in a document: the SQL of a need with very many values is some of these.
const LONGEST: usize = 1 << 20;

/// Why a text is not taken for a result, as the end of a sentence that begins with the name of its file.
#[derive(Clone, Debug, PartialEq)]
pub enum ReadError {
    /// It is not JSON: where and why.
    NotJson(String),
    /// It is JSON, and not a result.
    NotAResult,
    /// It is a result in a version that is not known, which this is.
    Version(Json),
    /// A contest in it, the first, is of a kind, the second, that is not known.
    Kind(String, String),
    /// A field is missing, or is not what it should be.
    Damaged(String),
    /// A text in it is longer than any of Kampf's.
    TooLong,
    /// It does not say on which engine a contest was raced.
    EngineLost,
    /// What it says cannot have been measured.
    Contradiction(String),
}

impl fmt::Display for ReadError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ReadError::NotJson(why) => write!(f, "is not JSON: {why}"),
            ReadError::NotAResult => f.write_str("is not a result of kampf"),
            ReadError::Version(version) => write!(f, "has version {version} of the format, and this kampf knows version {VERSION}"),
            ReadError::Kind(contest, kind) => {
                write!(f, "has in `{contest}` a contest of kind `{kind}`, and this kampf knows {}", known_kinds())
            }
            ReadError::Damaged(why) => write!(f, "is damaged, or from another kampf: {why}"),
            ReadError::TooLong => write!(f, "is no result of kampf: a text in it is longer than {}", bytes(LONGEST as u64)),
            ReadError::EngineLost => f.write_str("does not say on which engine it was raced"),
            ReadError::Contradiction(what) => write!(f, "is damaged, or was edited: {what}"),
        }
    }
}

/// The kinds of contests that there are, in words.
fn known_kinds() -> String {
    ContestKind::ALL.map(|kind| format!("`{}`", kind.word())).join(" and ")
}

impl std::error::Error for ReadError {}

/// What every version of the format begins with.
#[derive(Default, Deserialize)]
#[serde(default)]
struct Header {
    format: Json,
    version: Json,
    contests: Vec<Kind>,
}

/// What every kind of contest has.
#[derive(Default, Deserialize)]
#[serde(default)]
struct Kind {
    name: Json,
    kind: Json,
}

/// Sees to it that a text is a result of a version, and of kinds, that are known.
///
/// # Errors
/// [`ReadError::NotJson`], [`ReadError::NotAResult`], [`ReadError::Version`], [`ReadError::Kind`].
pub fn is_known(text: &str) -> Result<(), ReadError> {
    let header = match serde_json::from_str::<Header>(text) {
        Ok(header) => header,
        // Another version may have other contests.
        Err(error) if error.is_data() => without_contests(text),
        Err(error) => return Err(ReadError::NotJson(error.to_string())),
    };
    if header.format != FORMAT {
        return Err(ReadError::NotAResult);
    }
    if header.version != VERSION {
        return Err(ReadError::Version(header.version));
    }
    let unknown = header
        .contests
        .iter()
        .find(|contest| contest.kind.as_str().is_some_and(|kind| ContestKind::ALL.iter().all(|known| known.word() != kind)));
    match unknown {
        Some(Kind { name, kind }) => Err(ReadError::Kind(said(name), said(kind))),
        None => Ok(()),
    }
}

fn without_contests(text: &str) -> Header {
    #[derive(Default, Deserialize)]
    #[serde(default)]
    struct Beginning {
        format: Json,
        version: Json,
    }
    let Beginning { format, version } = serde_json::from_str(text).unwrap_or_default();
    Header { format, version, contests: Vec::new() }
}

fn said(word: &Json) -> String {
    word.as_str().map_or_else(|| word.to_string(), str::to_owned)
}

impl Document {
    /// The document that a text is.
    ///
    /// # Errors
    /// See [`ReadError`].
    pub fn read(text: &str) -> Result<Document, ReadError> {
        is_known(text)?;
        if longest_text(text) > LONGEST {
            return Err(ReadError::TooLong);
        }
        let document: Document = serde_json::from_str(text).map_err(|error| ReadError::Damaged(error.to_string()))?;
        if document.contests.iter().any(|contest| contest.engine.name == LOST) {
            return Err(ReadError::EngineLost);
        }
        match document.contradiction() {
            Some(what) => Err(ReadError::Contradiction(what)),
            None => Ok(document),
        }
    }
}

/// Bytes of the longest text in a document, escapes included.
fn longest_text(json: &str) -> usize {
    let (mut longest, mut begun, mut escaped) = (0, None, false);
    for (at, byte) in json.bytes().enumerate() {
        match (byte, begun) {
            _ if std::mem::take(&mut escaped) => {}
            (b'\\', Some(_)) => escaped = true,
            (b'"', None) => begun = Some(at),
            (b'"', Some(from)) => {
                longest = longest.max(at - from - 1);
                begun = None;
            }
            _ => {}
        }
    }
    longest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_a_result_of_a_known_version_and_kind_is_refused_in_words() {
        let said = |text: &str| is_known(text).map_err(|error| error.to_string());
        let refused = |words: &str| Err(words.to_owned());
        assert_eq!(said(r#"{"format": "kampf-result", "version": 1, "contests": [{"name": "a", "kind": "read"}]}"#), Ok(()));
        assert!(said("{").is_err_and(|words| words.starts_with("is not JSON: EOF")));
        for other in ["7", "[]", "{}", r#"{"format": "kampf", "version": 1}"#] {
            assert_eq!(said(other), refused("is not a result of kampf"), "{other}");
        }
        for contests in ["[]", "7", "[7]"] {
            let text = format!(r#"{{"format": "kampf-result", "version": 2, "contests": {contests}}}"#);
            assert_eq!(said(&text), refused("has version 2 of the format, and this kampf knows version 1"), "{contests}");
        }
        assert_eq!(
            said(
                r#"{"contests": [{"name": "a", "kind": "read"}, {"kind": "bundle", "name": "b"}], "format": "kampf-result", "version": 1}"#
            ),
            refused("has in `b` a contest of kind `bundle`, and this kampf knows `read` and `write`")
        );
    }
}
