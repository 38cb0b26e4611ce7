//! What other indexes are good for, and what they cost.

use kampf_contest::{Choice, Label, Opt};

use super::Race;
use crate::by_choice::Cost;

/// What a variant with other indexes is worth.
#[derive(Clone, Debug, PartialEq)]
pub struct IndexWorth {
    /// Its name.
    pub variant: String,
    /// The best on the plain schema, and the best on it, of those that may be chosen, whatever is required: who misses a requirement without the index
    /// is whom it is for.
    pub plain: Option<usize>,
    /// The best on the variant.
    pub best: Option<usize>,
    /// How the two compare.
    pub finding: IndexFinding,
    /// What making its indexes adds to the load of the plain schema, as a share; none where that took no time.
    pub load_share: Option<f64>,
}

/// How the best on a variant compares with the best on the plain schema.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IndexFinding {
    /// One of the two is not there.
    Nobody,
    /// These rounds do not tell them apart.
    Open,
    /// They differ by no more than the margin.
    Same,
    /// They differ.
    Differs,
}

impl IndexFinding {
    /// All of them.
    pub const ALL: [IndexFinding; 4] = [IndexFinding::Nobody, IndexFinding::Open, IndexFinding::Same, IndexFinding::Differs];

    /// Its word in documents.
    pub fn word(self) -> &'static str {
        match self {
            IndexFinding::Nobody => "nobody",
            IndexFinding::Open => "open",
            IndexFinding::Same => "same",
            IndexFinding::Differs => "differs",
        }
    }
}

pub(super) fn indexes(race: Race<'_>) -> Vec<IndexWorth> {
    let plain = best_on(race, None);
    let of_indexes = race.facts.variants.iter().filter(|(_, variant)| variant.keys.is_none());
    let worth = |name: &String, load_share| {
        let best = best_on(race, Some(name));
        IndexWorth { variant: name.clone(), plain, best, finding: finding(race, name, plain, best), load_share }
    };
    let share = |seconds: f64, load: f64| (load > 0.0).then(|| seconds / load);
    let mut all: Vec<IndexWorth> = of_indexes.map(|(name, variant)| worth(name, share(variant.seconds, variant.load_seconds))).collect();
    let time = |one: &IndexWorth| one.best.and_then(|best| race.time(best)).unwrap_or(f64::INFINITY);
    all.sort_by(|one, other| time(one).total_cmp(&time(other)));
    all
}

/// The best on a schema of those that may be chosen, whatever else is required.
fn best_on(race: Race<'_>, variant: Option<&str>) -> Option<usize> {
    let is_on = |at: &usize| {
        let one = &race.facts.contenders[*at];
        let of_own = one.name.split_once('@').map(|(_, variant)| variant).filter(|name| race.facts.variants.contains_key(*name));
        let label = one.choices.and_then(|choices| choices.variant());
        label.map(Label::as_str).or(of_own) == variant
    };
    race.fastest(race.eligible().filter(|&at| race.may_be_chosen(at)).filter(is_on))
}

fn finding(race: Race<'_>, variant: &str, plain: Option<usize>, best: Option<usize>) -> IndexFinding {
    let time = |at: Option<usize>| at.and_then(|at| race.time(at));
    let Some((before, after)) = time(plain).zip(time(best)) else { return IndexFinding::Nobody };
    let most = 1.0 + race.facts.settings.margin;
    if is_open(race, variant) {
        IndexFinding::Open
    } else if after <= before * most && before <= after * most {
        IndexFinding::Same
    } else {
        IndexFinding::Differs
    }
}

/// Whether it is open what the plain schema costs against a variant, or the other way about.
fn is_open(race: Race<'_>, variant: &str) -> bool {
    let Some(index) = race.by_choice.iter().find(|one| one.choice == Choice::Index) else { return false };
    let is_it = |option: Opt| option.label().is_some_and(|label| label.as_str() == variant);
    // Of the base's own option the other side is the plain schema.
    let other = |option: Opt| if is_it(index.option) { option.label().is_none() } else { is_it(option) };
    index.others.iter().any(|one| other(one.option) && matches!(one.cost, Cost::Open { .. }))
}
