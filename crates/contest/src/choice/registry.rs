//! What is known of each choice and its options.

use kampf_schema::HopKind;

use super::{ChoiceEntry, Columns, Hydration, OptionEntry, Work};
use crate::plan::{Plan, PlanNode, Reach};

const fn option(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { word, former: &[], about, applies: |_| true, refusal: |_, _, _| None }
}

const UNKNOWN_REPEATS: &str = "without a primary key rows that a join repeats cannot be recognised";

/// An option of loading, under which rows may be joined all the same: where it has no form of its own, or a relation is fixed.
const fn loading(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { refusal: |_, _, plan| unknown_repeats(plan), ..option(word, about) }
}

/// Where a statement's join repeats rows, each must have a key.
fn unknown_repeats(plan: &Plan) -> Option<&'static str> {
    let is_joined = |node: &&PlanNode| node.link.as_ref().is_none_or(|link| link.reach != Reach::Nested);
    let is_many = |node: &PlanNode| node.link.as_ref().is_some_and(|link| link.reach == Reach::Joined && link.kind == HopKind::Many);
    let is_unknown = |with: usize| {
        let mut members = plan.nodes.iter().filter(|node| node.with == with).filter(is_joined);
        members.any(|node| plan.layouts[node.layout].key.is_empty())
    };
    plan.nodes.iter().any(|node| is_many(node) && is_unknown(node.with)).then_some(UNKNOWN_REPEATS)
}

pub(super) static LOADING: ChoiceEntry = ChoiceEntry {
    word: "loading",
    about: "how related rows are reached",
    usual: None,
    turn: 1,
    applies: |nature| nature.has_relations || nature.has_habits,
    options: &[
        loading("lazy", "a statement for each parent, when it is touched"),
        loading("batched", "one more statement for each relation, by a list of keys"),
        OptionEntry {
            refusal: |nature, _, plan| {
                let unknown = nature.reaches_many && !nature.has_all_keys;
                unknown.then_some(UNKNOWN_REPEATS).or_else(|| unknown_repeats(plan))
            },
            ..option("joined", "one statement; repeated parents are recognised by their keys")
        },
        OptionEntry { applies: |nature| nature.has_grouped, ..loading("grouped", "joined and grouped in the database") },
        OptionEntry {
            applies: |nature| nature.has_ranked,
            ..loading("ranked", "related rows numbered in the database, and only the first ones fetched")
        },
        OptionEntry { applies: |nature| nature.has_computed, ..loading("computed", "sub-selects in the database") },
        OptionEntry {
            applies: |nature| nature.has_nested,
            ..loading("nested", "related rows as one JSON text of their parent, made in the database and read in the application")
        },
    ],
};

pub(super) static WORK: ChoiceEntry = ChoiceEntry {
    word: "work",
    about: "where rows are filtered, sorted and cut",
    usual: None,
    turn: 0,
    applies: |nature| nature.has_selection,
    options: &[option("app", "in the application, after everything was fetched"), option("database", "in the database")],
};

pub(super) static COLUMNS: ChoiceEntry = ChoiceEntry {
    word: "columns",
    about: "which columns are fetched",
    usual: None,
    turn: 2,
    applies: |nature| nature.columns_matter,
    options: &[
        OptionEntry {
            refusal: |nature, _, plan| nature.groups_in_database(plan).then_some("a grouped statement gives only what is asked for"),
            ..option("all", "all of them")
        },
        option("needed", "only those that are used"),
    ],
};

pub(super) static HYDRATION: ChoiceEntry = ChoiceEntry {
    word: "hydration",
    about: "what a row becomes",
    usual: None,
    turn: 3,
    applies: |_| true,
    options: &[
        OptionEntry {
            former: &["tracked"],
            refusal: |nature, ways, plan| {
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
            },
            ..option("managed", "an entity, its place in an identity map, and a snapshot to find changes by")
        },
        option("plain", "an entity"),
        option("map", "a map from name to value"),
        option("record", "a record by position"),
        OptionEntry {
            refusal: |_, ways, plan| {
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
            },
            ..option("raw", "nothing: values are used in place")
        },
    ],
};

pub(super) static FILTERS: ChoiceEntry = ChoiceEntry {
    word: "filters",
    about: "what becomes of conditions whose parameter is not given",
    usual: Some(0),
    turn: 4,
    applies: |nature| nature.has_optional,
    options: &[
        option("one-text", "they stand in one text for all cases, and say that they do not count"),
        option("given", "they are left out of the text, with the joins that only they need"),
    ],
};

pub(super) static HABIT: ChoiceEntry = ChoiceEntry {
    word: "habit",
    about: "whether entities come with the relations that they always load",
    usual: Some(1),
    turn: 5,
    applies: |nature| nature.has_habits,
    options: &[
        OptionEntry {
            refusal: |_, ways, plan| {
                let is_entity = matches!(ways.hydration, Hydration::Managed | Hydration::Plain);
                if !is_entity {
                    return Some("only entities have habits");
                }
                if let Some(unknown) = unknown_repeats(plan) {
                    return Some(unknown);
                }
                (!plan.nodes.iter().any(|node| node.always)).then_some("the database makes what is asked for, and no entities")
            },
            ..option("kept", "entities come with the relations that they always load")
        },
        option("dropped", "only what is asked for is loaded"),
    ],
};
