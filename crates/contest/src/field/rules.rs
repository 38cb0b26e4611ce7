//! When a choice changes anything for a need, and which options go together.

use kampf_schema::HopKind;

use super::nature::Nature;
use crate::choice::{Cache, Choice, ChoiceOption, Columns, Fetch, Habit, Hydration, Loading, Opt, Unit, Ways, Work};
use crate::plan::{Plan, PlanNode, Reach};

/// Why an option is not derived together with others; none where it is.
type Refusal = Option<&'static str>;

/// Whether a choice can change anything for a need.
pub(super) fn applies(choice: Choice, nature: &Nature) -> bool {
    match choice {
        Choice::Loading => nature.has_relations || nature.has_habits,
        Choice::Work => nature.has_selection,
        Choice::Columns => nature.columns_matter,
        Choice::Filters => nature.has_optional,
        Choice::Habit => nature.has_habits,
        Choice::Fetch => nature.many_rows,
        Choice::Unit => nature.has_relations || nature.has_habits || nature.many_rows,
        Choice::Hydration | Choice::Statement | Choice::Cache | Choice::Index | Choice::Keys => true,
        Choice::Path | Choice::Batch | Choice::Commit | Choice::Back | Choice::Hang => false,
    }
}

/// Whether an option is one for a need at all.
pub(super) fn is_option(option: Opt, nature: &Nature) -> bool {
    if option.choice() != Choice::Loading {
        return true;
    }
    match typed(option) {
        Loading::Lazy | Loading::Batched | Loading::Joined => true,
        Loading::Grouped => nature.has_grouped,
        Loading::Ranked => nature.has_ranked,
        Loading::Computed => nature.has_computed,
        Loading::Nested => nature.has_nested,
    }
}

/// Why an option cannot be taken with the others of a contender, for what its plan is.
pub(super) fn refusal(option: Opt, nature: &Nature, ways: &Ways, plan: &Plan) -> Refusal {
    match option.choice() {
        Choice::Loading => of_loading(typed(option), nature, plan),
        Choice::Columns => of_columns(typed(option), nature, plan),
        Choice::Hydration => of_hydration(typed(option), nature, ways, plan),
        Choice::Habit => of_habit(typed(option), ways, plan),
        Choice::Fetch => of_fetch(typed(option), nature, plan),
        Choice::Unit => of_unit(typed(option), ways, plan),
        Choice::Cache => of_cache(typed(option), ways),
        Choice::Work | Choice::Filters | Choice::Statement | Choice::Index | Choice::Keys => None,
        // They say how something is written.
        Choice::Path | Choice::Batch | Choice::Commit | Choice::Back | Choice::Hang => None,
    }
}

fn typed<O: ChoiceOption>(option: Opt) -> O {
    O::ALL[option.rank()]
}

const UNKNOWN_REPEATS: &str = "without a primary key rows that a join repeats cannot be recognised";

/// Under every option rows may be joined: where it has no form of its own, or a relation is fixed.
fn of_loading(loading: Loading, nature: &Nature, plan: &Plan) -> Refusal {
    let unknown = loading == Loading::Joined && nature.reaches_many && !nature.has_all_keys;
    unknown.then_some(UNKNOWN_REPEATS).or_else(|| unknown_repeats(plan))
}

/// Where a statement's join repeats rows, each must have a key.
fn unknown_repeats(plan: &Plan) -> Refusal {
    let is_joined = |node: &&PlanNode| node.link.as_ref().is_none_or(|link| link.reach != Reach::Nested);
    let is_many = |node: &PlanNode| node.link.as_ref().is_some_and(|link| link.reach == Reach::Joined && link.kind == HopKind::Many);
    let is_unknown = |with: usize| {
        let mut members = plan.nodes.iter().filter(|node| node.with == with).filter(is_joined);
        members.any(|node| plan.layouts[node.layout].key.is_empty())
    };
    plan.nodes.iter().any(|node| is_many(node) && is_unknown(node.with)).then_some(UNKNOWN_REPEATS)
}

fn of_columns(columns: Columns, nature: &Nature, plan: &Plan) -> Refusal {
    let is_made = columns == Columns::All && nature.groups_in_database(plan);
    is_made.then_some("a grouped statement gives only what is asked for")
}

fn of_hydration(hydration: Hydration, nature: &Nature, ways: &Ways, plan: &Plan) -> Refusal {
    match hydration {
        Hydration::Managed => unmanaged(nature, ways, plan),
        Hydration::Raw => unkept(ways, plan),
        Hydration::Plain | Hydration::Map | Hydration::Record => None,
    }
}

/// Why rows cannot be managed.
fn unmanaged(nature: &Nature, ways: &Ways, plan: &Plan) -> Refusal {
    if nature.groups_in_database(plan) {
        return Some("a group has no identity, so it cannot be managed");
    }
    if plan.nodes.iter().any(|node| node.link.as_ref().is_some_and(|link| link.reach == Reach::Nested)) {
        return Some("rows out of a JSON text are no entities that could be saved");
    }
    if nature.columns_matter && ways.columns == Columns::Needed {
        return Some("an entity with some of its columns cannot be compared and saved");
    }
    let has_keys = if plan.nodes.len() == 1 { nature.has_root_key } else { nature.has_all_keys };
    (!has_keys).then_some("without a primary key an entity has no identity")
}

/// Why rows have to be kept.
fn unkept(ways: &Ways, plan: &Plan) -> Refusal {
    if plan.is_plain_stream() {
        return None;
    }
    if ways.work == Work::App {
        return Some("raw keeps nothing, so there is nothing to filter, sort, group or cut in the application");
    }
    let joined = plan.nodes.iter().filter_map(|node| node.link.as_ref()).any(|link| link.reach == Reach::Joined);
    Some(match plan.nodes.len() {
        2.. if joined => "raw keeps nothing, so rows that a join repeats cannot be recognised",
        2.. if plan.left.is_empty() => "raw keeps nothing, so there is no row to load relations for",
        _ => "raw keeps nothing, so there is nothing to do in the application what the engine cannot say",
    })
}

fn of_habit(habit: Habit, ways: &Ways, plan: &Plan) -> Refusal {
    if habit == Habit::Dropped {
        return None;
    }
    if !matches!(ways.hydration, Hydration::Managed | Hydration::Plain) {
        return Some("only entities have habits");
    }
    if let Some(unknown) = unknown_repeats(plan) {
        return Some(unknown);
    }
    (!plan.nodes.iter().any(|node| node.always)).then_some("the database makes what is asked for, and no entities")
}

fn of_fetch(fetch: Fetch, nature: &Nature, plan: &Plan) -> Refusal {
    match fetch {
        Fetch::Whole => None,
        Fetch::Pages => {
            wanted_whole(plan).or((!nature.can_page).then_some("without a primary key or an order rows have no place to count from"))
        }
        Fetch::Chunks => wanted_whole(plan).or(nature.no_chunks),
        Fetch::Stream => {
            let is_many = |node: &PlanNode| {
                let link = node.link.as_ref();
                node.with == 0 && link.is_some_and(|link| link.reach == Reach::Joined && link.kind == HopKind::Many)
            };
            let divided = plan.nodes.iter().any(is_many).then_some("the joined rows of one parent could come in two portions");
            wanted_whole(plan).or(divided)
        }
    }
}

/// Why the rows cannot be made use of before all are there.
fn wanted_whole(plan: &Plan) -> Refusal {
    let is_chosen = plan.filter.is_some() || plan.group.is_some() || !plan.order.is_empty() || plan.limit.is_some();
    is_chosen.then_some("the application chooses among the rows, so it wants them all")
}

fn of_unit(unit: Unit, ways: &Ways, plan: &Plan) -> Refusal {
    match (unit, ways.fetch) {
        (Unit::None, _) | (Unit::One, Fetch::Pages | Fetch::Chunks) => None,
        (Unit::One, Fetch::Stream) => Some("an open cursor holds the call together already"),
        (Unit::One, Fetch::Whole) => {
            let is_single = plan.nodes.iter().all(|node| node.statement.is_none());
            is_single.then_some("one statement is held together by itself")
        }
    }
}

fn of_cache(cache: Cache, ways: &Ways) -> Refusal {
    if cache == Cache::None {
        return None;
    }
    if ways.hydration == Hydration::Raw {
        return Some("raw keeps nothing, so there is nothing to give again");
    }
    (ways.fetch != Fetch::Whole).then_some("an answer that is read in portions is nowhere whole, so it cannot be kept")
}
