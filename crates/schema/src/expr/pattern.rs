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
    /// How a need wrote it.
    #[serde(default)]
    pub written: Option<String>,
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
        let pattern = Pattern { text: text.to_owned(), any_case, like: None, written: None, compiled: OnceLock::new() };
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

    /// A pattern of a need: what all engines with regular expressions understand alike. Letters and digits for themselves, `.`,
    /// classes, groups, `|`, the ends `^` and `$`, `*`, `+`, `?` and counts up to 255, and `\\` before any other sign.
    ///
    /// # Errors
    /// What is not among that: the byte it stands at, and what is wrong.
    pub fn written(text: &str) -> Result<Pattern, (usize, String)> {
        let mut class = None;
        let mut escaped = false;
        let mut quantified = false;
        for (at, c) in text.char_indices() {
            let was_quantified = std::mem::replace(&mut quantified, false);
            if std::mem::replace(&mut escaped, false) {
                if c.is_alphanumeric() {
                    return Err((at, format!("`\\{c}` means different things to different engines")));
                }
                continue;
            }
            match (c, class) {
                ('\\', _) => escaped = true,
                ('[', None) => class = Some(at),
                ('[', Some(_)) => return Err((at, "`[` inside a class stands as `\\[`".to_owned())),
                (']', Some(from)) if at > from + 1 && &text[from..at] != "[^" => class = None,
                (']', Some(_)) => return Err((at, "a class holds something".to_owned())),
                ('*' | '+' | '?' | '{', None) if was_quantified => {
                    return Err((at, format!("`{c}` cannot stand behind another count")));
                }
                ('*' | '+' | '?', None) => quantified = true,
                ('}', None) => quantified = true,
                ('(', None) if text[at + 1..].starts_with('?') => {
                    return Err((at, "groups with `?` mean different things to different engines".to_owned()));
                }
                _ => {}
            }
        }
        let counts = text.split('{').skip(1).filter_map(|rest| rest.split_once('}')).flat_map(|(counts, _)| counts.split(','));
        if counts.filter_map(|count| count.parse::<u64>().ok()).any(|count| count > 255) {
            return Err((0, "a count is 255 at most".to_owned()));
        }
        Pattern::regex(&format!("(?s){text}"), false)
            .map(|pattern| Pattern { written: Some(text.to_owned()), ..pattern })
            .ok_or_else(|| (0, "this is not a regular expression".to_owned()))
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
