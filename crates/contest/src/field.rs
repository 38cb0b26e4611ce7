//! Which contenders enter, and why others do not.

use std::fmt;

use kampf_schema::{HopKind, Schema};

use crate::choice::{Choices, Columns, Hydration, Loading, Work};
use crate::dialect::Dialect;
use crate::need::Need;
use crate::sql::{Ways, derive};

/// The options a contest is limited to; an empty list allows all.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Restriction {
    /// Ways of loading.
    pub loading: Vec<Loading>,
    /// Places of work.
    pub work: Vec<Work>,
    /// Columns.
    pub columns: Vec<Columns>,
    /// Hydrations.
    pub hydration: Vec<Hydration>,
}

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

/// The options of each choice that apply to a need; a choice that changes nothing has the one option "none".
struct Options {
    loading: Vec<Option<Loading>>,
    work: Vec<Option<Work>>,
    columns: Vec<Option<Columns>>,
    hydration: Vec<Hydration>,
}

impl Field {
    /// The field of a need.
    ///
    /// The default entry begins with the naive end (the first option of every choice), moves the work to the database, tries
    /// every other way of loading there, and then, at the leanest loading, each step down in hydration, fetching only needed
    /// columns from the first hydration that allows it. So every member but the first differs from another in one choice.
    pub fn of(schema: &Schema, need: &Need, dialect: &Dialect, restriction: &Restriction) -> Field {
        let options = Options::of(schema, need, dialect, restriction);
        let mut field = Field::default();
        let mut plans = Vec::new();
        for choices in options.all() {
            match why_not(schema, need, &choices) {
                Some(reason) => field.not_derived.push(NotDerived { choices, reason }),
                None => {
                    let plan = derive(schema, need, dialect, &choices);
                    if plans.contains(&plan) {
                        field.not_derived.push(NotDerived { choices, reason: "it does the very same as another contender" });
                    } else {
                        plans.push(plan);
                        field.valid.push(choices);
                    }
                }
            }
        }
        field.entered = options.default_entry(need, &field.valid);
        field
    }
}

impl Options {
    fn of(schema: &Schema, need: &Need, dialect: &Dialect, restriction: &Restriction) -> Options {
        fn allowed<T: Copy + PartialEq>(all: &[T], only: &[T]) -> Vec<T> {
            all.iter().copied().filter(|option| only.is_empty() || only.contains(option)).collect()
        }
        fn if_applies<T>(applies: bool, options: Vec<T>) -> Vec<Option<T>> {
            if applies { options.into_iter().map(Some).collect() } else { vec![None] }
        }
        let loading = allowed(Loading::ALL, &restriction.loading);
        let loading = loading.into_iter().filter(|loading| *loading != Loading::Grouped || need.has_aggregates()).collect();
        Options {
            loading: if_applies(need.has_relations(), loading),
            work: if_applies(need.has_selection(), allowed(Work::ALL, &restriction.work)),
            columns: if_applies(columns_matter(schema, need, dialect), allowed(Columns::ALL, &restriction.columns)),
            hydration: allowed(Hydration::ALL, &restriction.hydration),
        }
    }

    fn all(&self) -> Vec<Choices> {
        let mut all = Vec::new();
        for &loading in &self.loading {
            for &work in &self.work {
                for &columns in &self.columns {
                    for &hydration in &self.hydration {
                        all.push(Choices { loading, work, columns, hydration });
                    }
                }
            }
        }
        all
    }

    fn default_entry(&self, need: &Need, valid: &[Choices]) -> Vec<Choices> {
        let mut entered: Vec<Choices> = Vec::new();
        let mut enter = |choices: Choices| {
            let enters = valid.contains(&choices);
            if enters && !entered.contains(&choices) {
                entered.push(choices);
            }
            enters
        };
        let (Some(&loading), Some(&work), Some(&columns)) = (self.loading.first(), self.work.first(), self.columns.first()) else {
            return entered;
        };
        // The first hydration that is valid at the naive end; without a primary key nothing can be tracked.
        let naive =
            self.hydration.iter().map(|&hydration| Choices { loading, work, columns, hydration }).find(|choices| valid.contains(choices));
        let Some(mut at) = naive.or_else(|| valid.first().copied()) else { return entered };
        enter(at);
        at.work = self.work.last().copied().flatten();
        enter(at);
        for &loading in &self.loading {
            enter(Choices { loading, ..at });
        }
        at.loading = self.leanest_loading(need);
        enter(at);
        let needed = self.columns.last().copied().flatten();
        let first = self.hydration.iter().position(|&hydration| hydration == at.hydration).unwrap_or(0);
        for &hydration in &self.hydration[first..] {
            let next = Choices { hydration, ..at };
            let lean = Choices { columns: needed, ..next };
            if at.columns != needed {
                enter(next);
            }
            if valid.contains(&lean) {
                enter(lean);
                at = lean;
            } else {
                at.hydration = hydration;
            }
        }
        entered
    }

    /// The last loading that computes in the database; with references to one row only, the join.
    fn leanest_loading(&self, need: &Need) -> Option<Loading> {
        let to_one = !need.has_aggregates();
        let joined = self.loading.iter().copied().find(|loading| to_one && *loading == Some(Loading::Joined));
        joined.or_else(|| self.loading.last().copied()).flatten()
    }
}

/// Whether fetching only what is needed differs from fetching everything, in any way of loading and wherever the work is done:
/// keys that link rows, and what rows are chosen and sorted by, are needed where the application does that, and not where the
/// database does.
fn columns_matter(schema: &Schema, need: &Need, dialect: &Dialect) -> bool {
    let mut ways = [Loading::Batched, Loading::Joined, Loading::Computed]
        .into_iter()
        .flat_map(|loading| Work::ALL.iter().map(move |&work| (loading, work)));
    ways.any(|(loading, work)| {
        let kept = |columns| {
            let loading = need.has_relations().then_some(loading);
            let work = need.has_selection().then_some(work);
            let choices = Choices { loading, work, columns: Some(columns), hydration: Hydration::Record };
            derive(schema, need, dialect, &choices).layouts.iter().map(|layout| layout.columns.len()).sum::<usize>()
        };
        kept(Columns::All) != kept(Columns::Needed)
    })
}

/// Why a combination is not derived; none where it is.
fn why_not(schema: &Schema, need: &Need, choices: &Choices) -> Option<&'static str> {
    let ways = Ways::of(choices);
    let to_many = need.terms().any(|term| term.path().iter().any(|hop| hop.kind == HopKind::Many));
    if choices.hydration == Hydration::Raw {
        if need.has_relations() && matches!(ways.loading, Loading::Lazy | Loading::Batched) {
            return Some("raw keeps nothing, so there is no row to load relations for");
        }
        if ways.work == Work::App {
            return Some("raw keeps nothing, so there is nothing to filter, sort or cut in the application");
        }
        if to_many && ways.loading == Loading::Joined {
            return Some("raw keeps nothing, so rows that a join repeats cannot be recognised");
        }
    }
    if choices.hydration == Hydration::Tracked && choices.columns == Some(Columns::Needed) {
        return Some("an entity with some of its columns cannot be compared and saved");
    }
    let has_key = |table| !schema.table(table).primary_key.is_empty();
    if choices.hydration == Hydration::Tracked {
        let tables = if ways.is_flat(need) { vec![need.root] } else { need.tables() };
        if !tables.into_iter().all(has_key) {
            return Some("without a primary key an entity has no identity");
        }
    }
    if ways.loading == Loading::Joined && to_many && !need.tables().into_iter().all(has_key) {
        return Some("without a primary key rows that a join repeats cannot be recognised");
    }
    None
}
