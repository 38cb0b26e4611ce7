//! What keys of other types cost: in reads, on disk and in the load.

use kampf_contest::{Choice, Label, Opt};
use kampf_verdict::{ByChoice, ChoiceEnd, Cost};

use super::numbers::{behind, bytes, duration, list, percent};
use super::page::Page;
use super::style::{Look, paint};
use crate::document::KeysPart;
use crate::raced::{RacedContest, Shown};

/// For each type of keys that was raced besides the schema's own, the fastest first: what a contender takes with it against the same one with the
/// schema's own, and what it takes on disk and to load.
pub(crate) fn keys_text(page: &mut Page, contest: &RacedContest) {
    let raced = Raced::of(contest);
    let mut variants: Vec<(&String, &KeysPart, Option<Shown<'_>>)> = contest
        .variants
        .iter()
        .filter_map(|(name, part)| Some((name, part.keys.as_ref()?, raced.as_ref().and_then(|raced| raced.on(Some(name))))))
        .collect();
    if variants.is_empty() {
        return;
    }
    page.blank();
    page.line(paint(Look::Title, "Keys"));
    let own = raced.as_ref().and_then(|raced| raced.on(None));
    if let Some(own) = own {
        page.paragraph(&format!("  Told by {}, which ran with all of them.", paint(Look::Strong, &own.facts.name)), 2);
    }
    let time = |one: &Option<Shown<'_>>| one.and_then(|one| one.placed.shown).unwrap_or(f64::INFINITY);
    variants.sort_by(|(.., one), (.., other)| time(one).total_cmp(&time(other)));
    for (name, part, with) in &variants {
        let head = format!("  {} ", paint(Look::Strong, &format!("@{name}")));
        let reads = match (own, with, &raced) {
            (Some(own), Some(with), Some(raced)) => raced.reads(own, *with),
            _ => "nobody came to an end with both".to_owned(),
        };
        page.hung(&head, &format!("{reads}; {}.", takes(part)), 4);
    }
    if let Some(raced) = &raced {
        page.paragraph(&format!("  {}", raced.conclusion()), 2);
    }
    if let Some((name, ..)) = variants.first() {
        page.paragraph(&format!("  kampf show --ddl @{name} shows its tables."), 4);
    }
}

/// Contenders that differ in their keys alone.
struct Raced<'a> {
    contest: &'a RacedContest,
    by_choice: &'a ByChoice,
}

impl<'a> Raced<'a> {
    fn of(contest: &'a RacedContest) -> Option<Raced<'a>> {
        let by_choice = contest.verdict.by_choice.iter().find(|one| one.choice == Choice::Keys)?;
        Some(Raced { contest, by_choice })
    }

    /// The one with the keys of a variant, or with the schema's own.
    fn on(&self, variant: Option<&str>) -> Option<Shown<'a>> {
        let is_it = |option: Opt| option.label().map(Label::as_str) == variant;
        let all = std::iter::once((self.by_choice.option, self.by_choice.base));
        let mut all = all.chain(self.by_choice.others.iter().map(|other| (other.option, other.contender)));
        all.find(|(option, _)| is_it(*option)).map(|(_, at)| self.contest.contender(at))
    }

    /// What it takes with a type of keys.
    fn reads(&self, own: Shown<'_>, with: Shown<'_>) -> String {
        let (Some(before), Some(after)) = (own.placed.shown, with.placed.shown) else {
            return "nobody came to an end with both".to_owned();
        };
        let both = format!("{} instead of {}", paint(Look::Strong, &duration(after)), duration(before));
        let cost = |at: usize| self.by_choice.others.iter().find(|other| other.contender == at).map(|other| other.cost);
        // Where another type is faster than the schema's own, the others are compared with that.
        let cost = if self.by_choice.base == own.at { cost(with.at) } else { None };
        let margin = self.contest.facts.settings.margin;
        match cost {
            Some(Cost::AtLeast(least)) => format!("{both} ({}, surely {} at least)", behind(after / before), behind(least)),
            Some(Cost::AtMost(most)) if most <= 1.0 + margin => format!("{both}, which makes no difference"),
            Some(Cost::AtMost(most)) => format!("{both}, {} at most", behind(most)),
            Some(Cost::Open { interval: None, .. } | Cost::Elsewhere) => {
                format!("{both} ({} so far, in too few rounds to be sure)", behind(after / before))
            }
            Some(Cost::Open { .. }) => format!("{both}, which these rounds do not tell apart"),
            None => format!("{both} ({})", behind(after / before)),
        }
    }

    /// What the types of keys mean to reads on the engine, in a sentence.
    fn conclusion(&self) -> String {
        let engine = &self.contest.engine.name;
        let named = |option: Opt| option.label().map_or_else(|| "the schema's own keys".to_owned(), |label| label.to_string());
        let base = named(self.by_choice.option);
        match self.by_choice.end(self.contest.facts.settings.margin) {
            ChoiceEnd::NoDifference => format!("On {engine} it does not matter to this read what the keys are made of."),
            ChoiceEnd::Decided => {
                let costs = self.by_choice.others.iter().filter_map(|other| match other.cost {
                    Cost::AtLeast(least) => Some(format!("{} at least {}", named(other.option), percent(least - 1.0))),
                    _ => None,
                });
                format!("On {engine} this read is fastest with {base}; it costs with {}.", list(&costs.collect::<Vec<_>>()))
            }
            ChoiceEnd::Known => format!("On {engine} it costs this read little, whichever of these its keys are."),
            ChoiceEnd::Open | ChoiceEnd::Alone => {
                format!("On {engine} it is open what the keys mean to this read; --exact tells, or --pair of two of these contenders.")
            }
        }
    }
}

/// What it takes on disk and to load, against the plain schema.
fn takes(part: &KeysPart) -> String {
    let ratio = |new: f64, old: f64| if old > 0.0 { format!(" ({})", change(new / old)) } else { String::new() };
    format!(
        "{} on disk instead of {}{}, of it indexes {} instead of {}; loaded in {} instead of {}{}",
        bytes(part.bytes),
        bytes(part.own_bytes),
        ratio(part.bytes as f64, part.own_bytes as f64),
        bytes(part.index_bytes),
        bytes(part.own_index_bytes),
        duration(part.seconds * 1e9),
        duration(part.own_seconds * 1e9),
        if part.own_seconds < SHORT { String::new() } else { ratio(part.seconds, part.own_seconds) }
    )
}

/// Seconds of a load below which one says nothing about another.
const SHORT: f64 = 0.1;

/// How much more or less.
fn change(ratio: f64) -> String {
    match ratio {
        ratio if (ratio - 1.0).abs() < 0.005 => "the same".to_owned(),
        ratio if ratio < 1.0 => format!("{} less", percent(1.0 - ratio)),
        ratio if ratio < 10.0 => format!("{} more", percent(ratio - 1.0)),
        ratio => format!("{ratio:.0} times as much"),
    }
}

/// On which engines of several it matters what keys are made of.
pub(crate) fn keys_across(page: &mut Page, columns: &[(String, &RacedContest)]) {
    if columns.iter().all(|(_, contest)| contest.engine.name == columns[0].1.engine.name) {
        return;
    }
    columns.iter().filter_map(|(_, contest)| Raced::of(contest)).for_each(|raced| page.paragraph(&format!("  {}", raced.conclusion()), 2));
}
