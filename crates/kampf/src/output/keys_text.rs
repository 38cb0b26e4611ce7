//! What keys of other types cost, in a table and in words.

use kampf_contest::{Choice, Opt};
use kampf_result::RacedContest;
use kampf_result::numbers::{behind, between, bytes, duration, list, percent};
use kampf_verdict::{ChoiceEnd, Cost, KeysOfType};

use super::keys_table::against;
use super::page::Page;
use super::style::{Look, paint};
use super::table::Column;

/// What a contender takes with each type of keys that was raced, the schema's own first and then the fastest, and what the dataset takes on disk and
/// to load; and what that comes to.
pub(crate) fn keys_text(page: &mut Page, contest: &RacedContest) {
    let Some(worth) = &contest.verdict.worth.keys else { return };
    let keys = |one: &KeysOfType| contest.variants.get(&one.variant)?.keys.clone();
    let Some(first) = worth.types.iter().find_map(keys) else { return };
    page.blank();
    let told = worth.own.map(|own| format!(", told by {}", paint(Look::Strong, contest.name_of(own))));
    page.line(format!("{}{}", paint(Look::Title, "Keys"), told.unwrap_or_default()));
    let columns = [
        Column::left("  keys"),
        Column::right("a call takes"),
        Column::right("").yielding(3),
        Column::left("surely").yielding(2),
        Column::right("on disk"),
        Column::right("").yielding(4),
        Column::right("of it indexes").yielding(1),
        Column::right("loaded in"),
        Column::right("").yielding(5),
    ];
    let time = |at: Option<usize>| at.and_then(|at| contest.verdict.placed[at].shown).map_or_else(|| "-".to_owned(), duration);
    let change = |ratio: Option<f64>| (Look::Quiet, ratio.map_or_else(String::new, against));
    let plain = |text: String| (Look::Plain, text);
    let own = vec![
        (Look::Strong, "  as declared".to_owned()),
        plain(time(worth.own)),
        change(None),
        plain(String::new()),
        plain(bytes(first.own_bytes)),
        change(None),
        plain(bytes(first.own_index_bytes)),
        plain(duration(first.own_seconds * 1e9)),
        change(None),
    ];
    let of_type = |one: &KeysOfType| {
        let keys = keys(one)?;
        Some(vec![
            (Look::Strong, format!("  @{}", one.variant)),
            plain(time(one.contender)),
            change(one.time),
            plain(sure(contest, one)),
            plain(bytes(keys.bytes)),
            change(one.bytes),
            plain(bytes(keys.index_bytes)),
            plain(duration(keys.seconds * 1e9)),
            change(one.load),
        ])
    };
    let rows: Vec<_> = std::iter::once(own).chain(worth.types.iter().filter_map(of_type)).collect();
    page.table(&columns, &rows);
    if let Some(conclusion) = conclusion(contest) {
        page.paragraph(&format!("  {conclusion}"), 2);
    }
    if let Some(first) = worth.types.first() {
        page.paragraph(&format!("  kampf show --ddl @{} shows its tables.", first.variant), 4);
    }
}

/// What is sure of the cost of keys of a type.
fn sure(contest: &RacedContest, one: &KeysOfType) -> String {
    let margin = contest.facts.settings.margin;
    if one.is_base {
        return match one.cost {
            Some(Cost::AtLeast(least)) => format!("the fastest, {} at least", behind(1.0 / least)),
            _ => "the fastest".to_owned(),
        };
    }
    match one.cost {
        Some(Cost::AtLeast(least)) => format!("{} at least", behind(least)),
        Some(Cost::AtMost(most)) if most <= 1.0 + margin => "no difference".to_owned(),
        Some(Cost::AtMost(most)) => format!("{} at most", behind(most)),
        Some(Cost::Less(sure) | Cost::Open { interval: Some(sure), .. }) => between(sure.low, sure.high),
        Some(Cost::Open { interval: None, .. }) => "too few rounds".to_owned(),
        None => String::new(),
    }
}

/// What the types of keys mean to reads on the engine, in a sentence; none where no two were raced that differ in them.
fn conclusion(contest: &RacedContest) -> Option<String> {
    let by_choice = contest.verdict.by_choice.iter().find(|one| one.choice == Choice::Keys)?;
    let engine = &contest.engine.name;
    let named = |option: Opt| option.label().map_or_else(|| "the schema's own keys".to_owned(), |label| label.to_string());
    let base = named(by_choice.option);
    Some(match by_choice.end(contest.facts.settings.margin) {
        ChoiceEnd::NoDifference => format!("On {engine} it does not matter to this read what the keys are made of."),
        ChoiceEnd::Decided => {
            let costs = by_choice.others.iter().filter_map(|other| match other.cost {
                Cost::AtLeast(least) => Some(format!("{} at least {}", named(other.option), percent(least - 1.0))),
                _ => None,
            });
            format!("On {engine} this read is fastest with {base}; it costs with {}.", list(&costs.collect::<Vec<_>>()))
        }
        ChoiceEnd::Known => format!("On {engine} it costs this read little, whichever of these its keys are."),
        ChoiceEnd::Open => {
            format!("On {engine} it is open what the keys mean to this read; --exact tells, or --pair of two of these contenders.")
        }
    })
}

/// On which engines of several it matters what keys are made of.
pub(crate) fn keys_across(page: &mut Page, columns: &[(String, &RacedContest)]) {
    if columns.iter().all(|(_, contest)| contest.engine.name == columns[0].1.engine.name) {
        return;
    }
    columns.iter().filter_map(|(_, contest)| conclusion(contest)).for_each(|text| page.paragraph(&format!("  {text}"), 2));
}
