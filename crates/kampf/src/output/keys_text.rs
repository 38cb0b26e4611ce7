//! What keys of other types cost: in reads, on disk and in the load.

use kampf_contest::{Choice, Label, Opt};
use kampf_result::numbers::{behind, between, bytes, duration, list, percent};
use kampf_result::{KeysPart, VariantPart};
use kampf_result::{RacedContest, Shown};
use kampf_verdict::{ByChoice, ChoiceEnd, Cost};

use super::keys_table::against;
use super::page::Page;
use super::style::{Look, paint};
use super::table::Column;

/// What a contender takes with each type of keys that was raced, the schema's own first and then the fastest, and what the dataset takes on disk and
/// to load; and what that comes to.
pub(crate) fn keys_text(page: &mut Page, contest: &RacedContest) {
    let keyed = |(name, part): (&'_ String, &'_ VariantPart)| Some((name.clone(), part.keys.clone()?));
    let mut variants: Vec<(String, KeysPart)> = contest.variants.iter().filter_map(keyed).collect();
    let Some((_, first)) = variants.first() else { return };
    let raced = Raced::of(contest);
    let time = |name: Option<&str>| raced.as_ref().and_then(|raced| raced.on(name)).and_then(|one| one.placed.shown);
    let by_time = |(name, _): &(String, KeysPart)| time(Some(name)).unwrap_or(f64::INFINITY);
    let own = Line {
        name: "as declared".to_owned(),
        time: time(None),
        sure: String::new(),
        bytes: first.own_bytes,
        index_bytes: first.own_index_bytes,
        seconds: first.own_seconds,
    };
    variants.sort_by(|one, other| by_time(one).total_cmp(&by_time(other)));
    let line = |(name, part): &(String, KeysPart)| Line {
        name: format!("@{name}"),
        time: time(Some(name)),
        sure: raced.as_ref().map_or_else(String::new, |raced| raced.sure(name)),
        bytes: part.bytes,
        index_bytes: part.index_bytes,
        seconds: part.seconds,
    };
    page.blank();
    let told = raced.as_ref().and_then(|raced| raced.on(None)).map(|own| format!(", told by {}", paint(Look::Strong, &own.facts.name)));
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
    let rows: Vec<_> = std::iter::once(own.cells(None)).chain(variants.iter().map(|one| line(one).cells(Some(&own)))).collect();
    page.table(&columns, &rows);
    if let Some(raced) = &raced {
        page.paragraph(&format!("  {}", raced.conclusion()), 2);
    }
    if let Some((name, _)) = variants.first() {
        page.paragraph(&format!("  kampf show --ddl @{name} shows its tables."), 4);
    }
}

/// What is told of keys of one type.
struct Line {
    name: String,
    /// Nanoseconds of a call.
    time: Option<f64>,
    sure: String,
    bytes: u64,
    index_bytes: u64,
    seconds: f64,
}

impl Line {
    /// The cells of its row, with what differs from the schema's own.
    fn cells(&self, own: Option<&Line>) -> Vec<(Look, String)> {
        let change = |new: f64, old: Option<f64>| old.filter(|old| *old > 0.0).map_or_else(String::new, |old| against(new / old));
        let time = self.time.zip(own.and_then(|own| own.time)).map_or_else(String::new, |(new, old)| against(new / old));
        vec![
            (Look::Strong, format!("  {}", self.name)),
            (Look::Plain, self.time.map_or_else(|| "-".to_owned(), duration)),
            (Look::Quiet, time),
            (Look::Plain, self.sure.clone()),
            (Look::Plain, bytes(self.bytes)),
            (Look::Quiet, change(self.bytes as f64, own.map(|own| own.bytes as f64))),
            (Look::Plain, bytes(self.index_bytes)),
            (Look::Plain, duration(self.seconds * 1e9)),
            // So short a load says nothing of another.
            (Look::Quiet, change(self.seconds, own.map(|own| own.seconds).filter(|seconds| *seconds > SHORT))),
        ]
    }
}

/// Seconds of a load up to which it says nothing of another.
const SHORT: f64 = 0.1;

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

    /// What is sure of the cost of a variant's keys.
    fn sure(&self, variant: &str) -> String {
        let of = |name: Option<&str>| self.by_choice.others.iter().find(|other| other.option.label().map(Label::as_str) == name);
        let margin = self.contest.facts.settings.margin;
        // Where another type is faster than the schema's own, the others are compared with that.
        if self.by_choice.option.label().is_some() {
            let own = of(None).map(|own| own.cost);
            return match (self.by_choice.option.label().map(Label::as_str) == Some(variant), own) {
                (true, Some(Cost::AtLeast(least))) => format!("the fastest, {} at least", behind(1.0 / least)),
                (true, _) => "the fastest".to_owned(),
                _ => String::new(),
            };
        }
        match of(Some(variant)).map(|other| other.cost) {
            Some(Cost::AtLeast(least)) => format!("{} at least", behind(least)),
            Some(Cost::AtMost(most)) if most <= 1.0 + margin => "no difference".to_owned(),
            Some(Cost::AtMost(most)) => format!("{} at most", behind(most)),
            Some(Cost::Less(sure) | Cost::Open { interval: Some(sure), .. }) => between(sure.low, sure.high),
            Some(Cost::Open { interval: None, .. }) => "too few rounds".to_owned(),
            None => String::new(),
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
            ChoiceEnd::Open => {
                format!("On {engine} it is open what the keys mean to this read; --exact tells, or --pair of two of these contenders.")
            }
        }
    }
}

/// On which engines of several it matters what keys are made of.
pub(crate) fn keys_across(page: &mut Page, columns: &[(String, &RacedContest)]) {
    if columns.iter().all(|(_, contest)| contest.engine.name == columns[0].1.engine.name) {
        return;
    }
    columns.iter().filter_map(|(_, contest)| Raced::of(contest)).for_each(|raced| page.paragraph(&format!("  {}", raced.conclusion()), 2));
}
