//! What keys of other types cost: in reads, on disk and in the load.

use kampf_contest::{Choice, Label, Opt};

use super::Race;
use crate::by_choice::{ByChoice, ChoiceEnd, Cost};

/// What keys of other types cost against the schema's own.
#[derive(Clone, Debug, PartialEq)]
pub struct KeysWorth {
    /// The contender with the schema's own keys that those with others differ from in nothing else; none where it was not raced.
    pub own: Option<usize>,
    /// Each variant, that which is fastest first.
    pub types: Vec<KeysOfType>,
    /// What the choice comes to; none where no two were raced that differ in it.
    pub end: Option<ChoiceEnd>,
}

/// Keys of one type.
#[derive(Clone, Debug, PartialEq)]
pub struct KeysOfType {
    /// The variant's name.
    pub variant: String,
    /// The contender that has them.
    pub contender: Option<usize>,
    /// What a call takes over what it takes with the schema's own keys.
    pub time: Option<f64>,
    /// What is sure of that; where they are the fastest, what the schema's own cost.
    pub cost: Option<Cost>,
    /// Whether this is the type that the others are compared with, as it is the fastest.
    pub is_base: bool,
    /// Bytes on disk over those with the schema's own keys; none where these have none.
    pub bytes: Option<f64>,
    /// Seconds of a load over those with the schema's own keys; none where these are too short to say anything of others.
    pub load: Option<f64>,
}

/// Seconds of a load up to which it says nothing of another.
const SHORT: f64 = 0.1;

pub(super) fn keys(race: Race<'_>) -> Option<KeysWorth> {
    let by_choice = race.by_choice.iter().find(|one| one.choice == Choice::Keys);
    let own = by_choice.and_then(|keys| on(keys, None));
    let own_time = own.and_then(|at| race.time(at));
    let of = |(name, variant): (&String, &crate::facts::VariantFacts)| {
        let keys = variant.keys?;
        let contender = by_choice.and_then(|by_choice| on(by_choice, Some(name)));
        let over = |new: f64, old: f64, least: f64| (old > least).then(|| new / old);
        let is_base = by_choice.is_some_and(|by_choice| is(by_choice.option, Some(name)));
        Some(KeysOfType {
            variant: name.clone(),
            contender,
            time: contender.and_then(|at| race.time(at)).zip(own_time).map(|(new, own)| new / own),
            cost: by_choice.and_then(|by_choice| cost(by_choice, name)),
            is_base,
            bytes: over(keys.bytes as f64, keys.own_bytes as f64, 0.0),
            load: over(keys.seconds, keys.own_seconds, SHORT),
        })
    };
    let mut types: Vec<KeysOfType> = race.facts.variants.iter().filter_map(of).collect();
    if types.is_empty() {
        return None;
    }
    let time = |one: &KeysOfType| one.contender.and_then(|at| race.time(at)).unwrap_or(f64::INFINITY);
    types.sort_by(|one, other| time(one).total_cmp(&time(other)));
    Some(KeysWorth { own, types, end: by_choice.map(|by_choice| by_choice.end(race.facts.settings.margin)) })
}

fn is(option: Opt, variant: Option<&str>) -> bool {
    option.label().map(Label::as_str) == variant
}

/// The contender with the keys of a variant, or with the schema's own.
fn on(keys: &ByChoice, variant: Option<&str>) -> Option<usize> {
    let all = std::iter::once((keys.option, keys.base)).chain(keys.others.iter().map(|other| (other.option, other.contender)));
    all.into_iter().find(|(option, _)| is(*option, variant)).map(|(_, at)| at)
}

/// What is sure of the cost of a variant's keys. Where another type is faster than the schema's own, the others are compared with that.
fn cost(keys: &ByChoice, variant: &str) -> Option<Cost> {
    let of = |variant: Option<&str>| keys.others.iter().find(|other| is(other.option, variant)).map(|other| other.cost);
    match keys.option.label() {
        None => of(Some(variant)),
        Some(_) if is(keys.option, Some(variant)) => of(None),
        Some(_) => None,
    }
}
