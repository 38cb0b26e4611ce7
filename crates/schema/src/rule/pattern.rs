//! Regular expressions of checks.

use std::sync::OnceLock;

use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};

/// A regular expression; what it looks for may stand anywhere in the text unless the expression says otherwise.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Pattern {
    /// The expression.
    pub text: String,
    /// Whether capital and small letters count as the same.
    pub any_case: bool,
    /// How the schema wrote it, where that was a LIKE pattern.
    pub like: Option<String>,
    #[serde(skip)]
    compiled: OnceLock<Option<Regex>>,
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Pattern) -> bool {
        (&self.text, self.any_case, &self.like) == (&other.text, other.any_case, &other.like)
    }
}

impl Pattern {
    /// A regular expression; `None` where it uses what cannot be evaluated here, such as looking ahead.
    pub fn regex(text: &str, any_case: bool) -> Option<Pattern> {
        let pattern = Pattern { text: text.to_owned(), any_case, like: None, compiled: OnceLock::new() };
        pattern.compiled().is_some().then_some(pattern)
    }

    /// A LIKE pattern, with `%` for any characters and `_` for one.
    pub fn like(like: &str, any_case: bool) -> Option<Pattern> {
        let mut text = "(?s)^".to_owned();
        for c in like.chars() {
            match c {
                '%' => text.push_str(".*"),
                '_' => text.push('.'),
                other => text.push_str(&regex::escape(other.encode_utf8(&mut [0; 4]))),
            }
        }
        text.push('$');
        Pattern::regex(&text, any_case).map(|pattern| Pattern { like: Some(like.to_owned()), ..pattern })
    }

    /// Whether a text fits.
    pub fn fits(&self, text: &str) -> bool {
        self.compiled().as_ref().is_some_and(|regex| regex.is_match(text))
    }

    fn compiled(&self) -> &Option<Regex> {
        self.compiled.get_or_init(|| RegexBuilder::new(&self.text).case_insensitive(self.any_case).size_limit(1 << 22).build().ok())
    }
}

/// A pattern of SQLite's GLOB as a regular expression.
pub(crate) fn glob(glob: &str) -> String {
    let mut text = "(?s)^".to_owned();
    let mut inside = false;
    let mut first = false;
    for c in glob.chars() {
        match c {
            '*' if !inside => text.push_str(".*"),
            '?' if !inside => text.push('.'),
            '[' if !inside => {
                text.push('[');
                (inside, first) = (true, true);
                continue;
            }
            ']' if inside && !first => {
                text.push(']');
                inside = false;
            }
            '^' | '-' if inside => text.push(c),
            other => text.push_str(&regex::escape(other.encode_utf8(&mut [0; 4]))),
        }
        first = false;
    }
    text.push('$');
    text
}
