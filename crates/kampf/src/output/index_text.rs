//! What other indexes are good for, and what they cost, in words.

use kampf_result::numbers::{bytes, duration, percent};
use kampf_result::{RacedContest, VariantPart};
use kampf_verdict::{IndexFinding, IndexWorth};

use super::page::Page;
use super::style::{Look, paint};

/// For each variant that was raced: the best on it against the best on the plain schema, what it takes, how the plan changed, and the
/// statements that make it. The one that gains most comes first.
pub(crate) fn index_text(page: &mut Page, contest: &RacedContest) {
    if contest.verdict.worth.indexes.is_empty() {
        return;
    }
    page.blank();
    page.line(paint(Look::Title, "Indexes"));
    for worth in &contest.verdict.worth.indexes {
        let Some(part) = contest.variants.get(&worth.variant) else { continue };
        let text = sentence(contest, worth, part);
        page.hung(&format!("  {} ", paint(Look::Strong, &format!("@{}", worth.variant))), &text, 4);
        for change in &part.changes {
            page.hung("    before:", &change.before, 13);
            page.hung("    after: ", &change.after, 13);
        }
        part.statements.iter().for_each(|statement| page.sql(&format!("{statement};"), 4));
    }
}

fn sentence(contest: &RacedContest, worth: &IndexWorth, part: &VariantPart) -> String {
    let with = match part.statements.len() {
        0 => part.about.clone(),
        1 => format!("with an index on {}", part.about),
        _ => format!("with indexes on {}", part.about),
    };
    let time = |at: Option<usize>| duration(at.and_then(|at| contest.verdict.placed[at].shown).unwrap_or(0.0));
    let (before, after) = (time(worth.plain), time(worth.best));
    let times = match worth.finding {
        IndexFinding::Nobody => format!("{with} nobody came to an end"),
        IndexFinding::Open => format!("{with} the best takes {after} and without {before}, which these rounds do not tell apart"),
        IndexFinding::Same => format!("{with} the best takes {after}, which makes no difference"),
        IndexFinding::Differs => format!("{with} the best takes {} instead of {before}", paint(Look::Strong, &after)),
    };
    if part.statements.is_empty() {
        return format!("{times}.");
    }
    let (it, adds) = if part.statements.len() == 1 { ("it is", "adds") } else { ("together they are", "add") };
    let load = worth.load_share.map_or_else(String::new, |share| format!(" and {adds} {} to the load", percent(share)));
    format!("{times}; {it} {} large{load}.", bytes(part.bytes))
}
