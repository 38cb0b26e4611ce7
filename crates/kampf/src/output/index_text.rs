//! What other indexes are good for, and what they cost.

use kampf_contest::{Choice, Opt};
use kampf_race::Nanos;
use kampf_result::VariantPart;
use kampf_result::numbers::{bytes, duration, percent};
use kampf_result::{RacedContest, Shown};
use kampf_verdict::{Beside, Cost};

use super::page::Page;
use super::style::{Look, paint};

/// For each variant that was raced: the best on it against the best on the plain schema, what it takes, how the plan changed, and the
/// statements that make it. The one that gains most comes first.
pub(crate) fn index_text(page: &mut Page, contest: &RacedContest) {
    if contest.variants.values().all(|part| part.keys.is_some()) {
        return;
    }
    page.blank();
    page.line(paint(Look::Title, "Indexes"));
    let plain = best_on(contest, None);
    let mut variants: Vec<(&String, &VariantPart, Option<Shown<'_>>)> =
        of_indexes(contest).map(|(name, part)| (name, part, best_on(contest, Some(name)))).collect();
    let time = |best: &Option<Shown<'_>>| best.as_ref().and_then(|best| best.placed.shown).unwrap_or(f64::INFINITY);
    variants.sort_by(|(.., one), (.., other)| time(one).total_cmp(&time(other)));
    for (name, part, best) in variants {
        let text = sentence(contest, name, part, plain.as_ref(), best.as_ref());
        page.hung(&format!("  {} ", paint(Look::Strong, &format!("@{name}"))), &text, 4);
        for change in &part.changes {
            page.hung("    before:", &change.before, 13);
            page.hung("    after: ", &change.after, 13);
        }
        part.statements.iter().for_each(|statement| page.sql(&format!("{statement};"), 4));
    }
}

fn of_indexes(contest: &RacedContest) -> impl Iterator<Item = (&String, &VariantPart)> {
    contest.variants.iter().filter(|(_, part)| part.keys.is_none())
}

/// The best on a schema of those that may be chosen, whatever else is required.
fn best_on<'a>(contest: &'a RacedContest, variant: Option<&str>) -> Option<Shown<'a>> {
    let is_on = |one: &Shown<'_>| {
        let label = one.facts.choices.and_then(|choices| choices.variant());
        let of_own = one.facts.name.split_once('@').map(|(_, variant)| variant).filter(|name| contest.variants.contains_key(*name));
        label.map(kampf_contest::Label::as_str).or(of_own) == variant
    };
    // Who misses a requirement without the index is whom it is for.
    let is_able = |one: &Shown<'_>| matches!(one.placed.beside, None | Some(Beside::RuledOut)) && one.placed.shown.is_some();
    let able = contest.contenders().filter(|one| one.facts.is_eligible() && is_able(one));
    able.filter(is_on).min_by(|one, other| one.placed.shown.unwrap_or(Nanos::MAX).total_cmp(&other.placed.shown.unwrap_or(Nanos::MAX)))
}

/// Whether it is open what the plain schema costs against a variant, or the other way about.
fn is_open(contest: &RacedContest, variant: &str) -> bool {
    let Some(index) = contest.verdict.by_choice.iter().find(|one| one.choice == Choice::Index) else { return false };
    let is_it = |option: Opt| option.label().is_some_and(|label| label.as_str() == variant);
    // Of the base's own option the other side is the plain schema.
    let other = |option: Opt| if is_it(index.option) { option.label().is_none() } else { is_it(option) };
    index.others.iter().any(|one| other(one.option) && matches!(one.cost, Cost::Open { .. }))
}

fn sentence(contest: &RacedContest, name: &str, part: &VariantPart, plain: Option<&Shown<'_>>, best: Option<&Shown<'_>>) -> String {
    let with = match part.statements.len() {
        0 => part.about.clone(),
        1 => format!("with an index on {}", part.about),
        _ => format!("with indexes on {}", part.about),
    };
    let times = match (plain.and_then(|one| one.placed.shown), best.and_then(|one| one.placed.shown)) {
        (Some(before), Some(after)) => {
            let margin = contest.facts.settings.margin;
            let is_same = after <= before * (1.0 + margin) && before <= after * (1.0 + margin);
            if is_open(contest, name) {
                format!("{with} the best takes {} and without {}, which these rounds do not tell apart", duration(after), duration(before))
            } else if is_same {
                format!("{with} the best takes {}, which makes no difference", duration(after))
            } else {
                format!("{with} the best takes {} instead of {}", paint(Look::Strong, &duration(after)), duration(before))
            }
        }
        _ => format!("{with} nobody came to an end"),
    };
    if part.statements.is_empty() {
        return format!("{times}.");
    }
    let (it, adds) = if part.statements.len() == 1 { ("it is", "adds") } else { ("together they are", "add") };
    let load = match part.load_seconds {
        load if load > 0.0 => format!(" and {adds} {} to the load", percent(part.seconds / load)),
        _ => String::new(),
    };
    format!("{times}; {it} {} large{load}.", bytes(part.bytes))
}
