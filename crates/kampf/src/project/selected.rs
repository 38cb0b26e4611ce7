//! A contest with its field, and who of that is asked for.

use kampf_contest::{Choices, Field, Restriction};
use kampf_runner::{Contest, Entry};

use crate::arguments::Selection;

/// A contest with its field, and what did not enter it.
pub(crate) struct Selected {
    pub(crate) contest: Contest,
    pub(crate) field: Field,
    /// What of its choices is allowed, and what enters.
    pub(crate) restriction: Restriction,
    /// Whether a sort key was added so that the order is total.
    pub(crate) order_appended: Vec<String>,
    /// Contenders of the user's whose SQL is only for other engines.
    pub(crate) left_out: Vec<String>,
    /// Contenders whose joins would bring more than memory should hold, with by how much rows multiply.
    pub(crate) held_back: Vec<(String, String)>,
    /// Patterns that fit none of those that enter, with how many of all combinations they fit.
    pub(crate) unmatched: Vec<(String, usize)>,
    /// Variants that the engine has nothing like, with why, in words.
    pub(crate) lacking: Vec<String>,
}

/// Of the derived contenders those that are wanted: who enters; with `--all` every valid combination in its usual manner and those that
/// enter; where names are given too, of all combinations in all manners those that have one.
pub(super) fn chosen(field: &Field, selection: &Selection) -> Vec<Choices> {
    if !selection.exactly.is_empty() {
        return selection.exactly.clone();
    }
    if !selection.all {
        return field.entered.clone();
    }
    if selection.only.is_empty() {
        let mut chosen = field.valid.clone();
        let named = field.all().filter(|choices| !selection.named.is_empty() && selection.named.contains(&choices.to_string()));
        for choices in field.entered.iter().copied().chain(named) {
            if !chosen.contains(&choices) {
                chosen.push(choices);
            }
        }
        return chosen;
    }
    field.all().filter(|choices| asked_for(selection, &choices.to_string())).collect()
}

/// Patterns that fit none of some contenders, with how many of all combinations they fit.
pub(super) fn unmatched(selection: &Selection, field: &Field, entries: &[Entry]) -> Vec<(String, usize)> {
    let fits_none = |pattern: &&String| !entries.iter().any(|entry| fits(pattern, &entry.name));
    let of_all = |pattern: &String| field.all().filter(|choices| fits(pattern, &choices.to_string())).count();
    selection.only.iter().filter(fits_none).map(|pattern| (pattern.clone(), of_all(pattern))).collect()
}

/// Keeps those that are asked for.
pub(super) fn only(selection: &Selection, entries: &mut Vec<Entry>) {
    if !selection.only.is_empty() {
        entries.retain(|entry| asked_for(selection, &entry.name));
    }
}

fn asked_for(selection: &Selection, name: &str) -> bool {
    selection.only.iter().any(|pattern| fits(pattern, name))
}

/// Whether a name fits a pattern in which * stands for anything. What stands between two of them is taken where it comes first: what fits later
/// fits there too.
fn fits(pattern: &str, name: &str) -> bool {
    let Some((head, others)) = pattern.split_once('*') else { return pattern == name };
    let (between, tail) = others.rsplit_once('*').unwrap_or(("", others));
    let Some(mut rest) = name.strip_prefix(head).and_then(|rest| rest.strip_suffix(tail)) else { return false };
    between.split('*').all(|part| match rest.find(part) {
        Some(at) => {
            rest = &rest[at + part.len()..];
            true
        }
        None => false,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_stand_for_any_text() {
        for (pattern, name, expected) in [
            ("lazy.*", "lazy.app.all.managed", true),
            ("*.managed", "lazy.app.all.managed", true),
            ("lazy", "lazy.app", false),
            ("*a*d*", "lazy.app.all.managed", true),
            ("", "", true),
            ("lazy*lazy", "lazy", false),
            ("a*b*b", "ab", false),
            ("a*b*b", "abxb", true),
            ("a**b", "ab", true),
            ("*ba*ba*", "bxbaba", true),
            (&"*a".repeat(40), &"a".repeat(200), true),
            (&format!("{}*b", "*a".repeat(40)), &"a".repeat(200), false),
            ("*", "ü", true),
        ] {
            assert_eq!(fits(pattern, name), expected, "{pattern} {name}");
        }
    }
}
