//! Which contenders enter, and why others do not.

use std::collections::BTreeSet;
use std::fmt;

use kampf_schema::Schema;

use crate::choice::{Choice, ChoiceOption, Choices, Columns, Loading, Opt, Restriction};
use crate::dialect::Dialect;
use crate::nature::Nature;
use crate::need::Need;
use crate::sql::{Ways, kept};

/// A combination that is not derived.
#[derive(Clone, Debug, PartialEq)]
pub struct NotDerived {
    /// The combination.
    pub choices: Choices,
    /// Why.
    pub reason: &'static str,
}

impl fmt::Display for NotDerived {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.choices, self.reason)
    }
}

/// The derived contenders of a contest.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Field {
    /// Those that enter by default, from the naive end on.
    pub entered: Vec<Choices>,
    /// Every valid combination.
    pub valid: Vec<Choices>,
    /// The others.
    pub not_derived: Vec<NotDerived>,
}

/// For each choice that applies to a need, in the order of names, the options that may be taken.
struct Axes {
    axes: Vec<Vec<Opt>>,
}

impl Field {
    /// The field of a need.
    ///
    /// The default entry begins with the naive end (the first option of every choice), moves the work to the database, tries
    /// every other way of loading there, and then, at the leanest loading, each step down in hydration, fetching only needed
    /// columns from the first hydration that allows it. So every member but the first differs from another in one choice.
    pub fn of(schema: &Schema, need: &Need, dialect: &Dialect, restriction: &Restriction) -> Field {
        let nature = Nature::of(schema, need, dialect);
        let axes = Axes::of(&nature, restriction);
        let mut field = Field::default();
        let mut known = BTreeSet::new();
        for choices in axes.combinations() {
            let ways = Ways::of(&choices);
            let refusal = choices.options().find_map(|option| (option.entry().refusal)(&nature, &ways));
            let refusal = refusal.or_else(|| {
                let is_new = known.insert(effective(schema, need, dialect, &choices));
                (!is_new).then_some("it does the very same as another contender")
            });
            match refusal {
                Some(reason) => field.not_derived.push(NotDerived { choices, reason }),
                None => field.valid.push(choices),
            }
        }
        field.entered = axes.default_entry(&nature, &field.valid);
        field
    }
}

/// The options that a combination comes to for a need: where leaving columns out leaves none out, all are fetched. Combinations
/// that come to the same send the same statements and do the same with what comes back.
pub fn effective(schema: &Schema, need: &Need, dialect: &Dialect, choices: &Choices) -> Choices {
    let ways = Ways::of(choices);
    let kept = |columns| kept(schema, need, dialect, Ways { columns, ..ways });
    let leaves_none_out = choices.get() == Some(Columns::Needed) && kept(Columns::Needed) == kept(Columns::All);
    if leaves_none_out { choices.with(Columns::All) } else { *choices }
}

impl Axes {
    fn of(nature: &Nature, restriction: &Restriction) -> Axes {
        let options = |choice: Choice| {
            let options = choice.options().filter(|option| (option.entry().applies)(nature) && restriction.allows(*option));
            options.collect()
        };
        Axes { axes: Choice::ALL.into_iter().filter(|choice| (choice.entry().applies)(nature)).map(options).collect() }
    }

    /// All combinations, the option of the last choice changing fastest, made one at a time.
    fn combinations(&self) -> impl Iterator<Item = Choices> + '_ {
        let all = self.axes.iter().map(Vec::len).product::<usize>();
        (0..all).map(|number| {
            let mut rest = number;
            let mut choices = Choices::default();
            for options in self.axes.iter().rev() {
                choices = choices.with_opt(options[rest % options.len()]);
                rest /= options.len();
            }
            choices
        })
    }

    /// The options of a choice that may be taken; none where it does not apply.
    fn options(&self, choice: Choice) -> &[Opt] {
        self.axes.iter().find(|options| options.first().is_some_and(|first| first.choice() == choice)).map_or(&[], Vec::as_slice)
    }

    fn default_entry(&self, nature: &Nature, valid: &[Choices]) -> Vec<Choices> {
        let mut entered: Vec<Choices> = Vec::new();
        let mut enter = |choices: Choices| {
            let enters = valid.contains(&choices);
            if enters && !entered.contains(&choices) {
                entered.push(choices);
            }
            enters
        };
        if self.axes.iter().any(Vec::is_empty) {
            return entered;
        }
        let last = |choices: Choices, choice| self.options(choice).last().map_or(choices, |&option| choices.with_opt(option));
        // The first hydration that is valid at the naive end; without a primary key nothing can be managed.
        let first = self.axes.iter().fold(Choices::default(), |choices, options| choices.with_opt(options[0]));
        let hydrations = self.options(Choice::Hydration);
        let naive = hydrations.iter().map(|&hydration| first.with_opt(hydration)).find(|choices| valid.contains(choices));
        let Some(mut at) = naive.or_else(|| valid.first().copied()) else { return entered };
        enter(at);
        at = last(at, Choice::Work);
        enter(at);
        for &loading in self.options(Choice::Loading) {
            enter(at.with_opt(loading));
        }
        at = self.leanest_loading(nature).map_or(at, |loading| at.with_opt(loading));
        enter(at);
        let needed = last(at, Choice::Columns).of(Choice::Columns);
        let first = hydrations.iter().position(|&hydration| Some(hydration) == at.of(Choice::Hydration)).unwrap_or(0);
        for &hydration in &hydrations[first..] {
            let next = at.with_opt(hydration);
            let lean = needed.map_or(next, |needed| next.with_opt(needed));
            if at.of(Choice::Columns) != needed {
                enter(next);
            }
            at = if valid.contains(&lean) {
                enter(lean);
                lean
            } else {
                next
            };
        }
        entered
    }

    /// The last loading that computes in the database; with references to one row only, the join.
    fn leanest_loading(&self, nature: &Nature) -> Option<Opt> {
        let options = self.options(Choice::Loading);
        let joined = options.iter().find(|&&loading| !nature.has_aggregates && loading == Loading::Joined.opt());
        joined.or(options.last()).copied()
    }
}
