//! What is known of each choice and its options.

use kampf_schema::HopKind;

use super::{ChoiceEntry, Columns, Fetch, Hydration, OptionEntry, Work};
use crate::plan::{Plan, PlanNode, Reach};

const fn option(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { word, former: &[], about, has_size: false, is_named: false, enters: true, applies: |_| true, refusal: |_, _, _| None }
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
    is_manner: false,
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
    is_manner: false,
    applies: |nature| nature.has_selection,
    options: &[option("app", "in the application, after everything was fetched"), option("database", "in the database")],
};

pub(super) static COLUMNS: ChoiceEntry = ChoiceEntry {
    word: "columns",
    about: "which columns are fetched",
    usual: None,
    turn: 2,
    is_manner: false,
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
    is_manner: false,
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
    is_manner: false,
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
    is_manner: false,
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

/// An option of fetch that brings rows in portions.
const fn portions(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { has_size: true, enters: false, ..option(word, about) }
}

/// Why the rows cannot be made use of before all are there.
fn wanted_whole(plan: &Plan) -> Option<&'static str> {
    let is_chosen = plan.filter.is_some() || plan.group.is_some() || !plan.order.is_empty() || plan.limit.is_some();
    is_chosen.then_some("the application chooses among the rows, so it wants them all")
}

pub(super) static FETCH: ChoiceEntry = ChoiceEntry {
    word: "fetch",
    about: "how many rows are read at a time",
    usual: Some(0),
    turn: 6,
    is_manner: true,
    applies: |nature| nature.many_rows,
    options: &[
        option("whole", "all, before the first is used"),
        OptionEntry {
            refusal: |nature, _, plan| {
                wanted_whole(plan).or((!nature.can_page).then_some("without a primary key or an order rows have no place to count from"))
            },
            ..portions("pages", "so many by limit and offset, again and again")
        },
        OptionEntry {
            refusal: |nature, _, plan| wanted_whole(plan).or(nature.no_chunks),
            ..portions("chunks", "so many behind the key of the last one, again and again")
        },
        OptionEntry {
            refusal: |_, _, plan| {
                let is_many = |node: &PlanNode| {
                    let link = node.link.as_ref();
                    node.with == 0 && link.is_some_and(|link| link.reach == Reach::Joined && link.kind == HopKind::Many)
                };
                let divided = plan.nodes.iter().any(is_many).then_some("the joined rows of one parent could come in two portions");
                wanted_whole(plan).or(divided)
            },
            ..portions("stream", "so many from a cursor that stays open")
        },
    ],
};

pub(super) static STATEMENT: ChoiceEntry = ChoiceEntry {
    word: "statement",
    about: "how statements are sent",
    usual: Some(2),
    turn: 7,
    is_manner: true,
    applies: |_| true,
    options: &[
        option("built", "their text is made anew for each, and sent to be read anew"),
        OptionEntry { enters: false, ..option("parsed", "their text is there, and sent to be read anew each time") },
        option("prepared", "prepared once, and kept for as long as the connection"),
    ],
};

pub(super) static UNIT: ChoiceEntry = ChoiceEntry {
    word: "unit",
    about: "what holds the statements of a call together",
    usual: Some(0),
    turn: 8,
    is_manner: true,
    applies: |nature| nature.has_relations || nature.has_habits || nature.many_rows,
    options: &[
        option("none", "nothing: each is by itself"),
        OptionEntry {
            enters: false,
            refusal: |_, ways, plan| match ways.fetch {
                Fetch::Stream => Some("an open cursor holds the call together already"),
                Fetch::Pages | Fetch::Chunks => None,
                Fetch::Whole => {
                    let is_single = plan.nodes.iter().all(|node| node.statement.is_none());
                    is_single.then_some("one statement is held together by itself")
                }
            },
            ..option("one", "a transaction that sees one state of the data throughout")
        },
    ],
};

pub(super) static CACHE: ChoiceEntry = ChoiceEntry {
    word: "cache",
    about: "whether answers are kept between calls",
    usual: Some(0),
    turn: 9,
    is_manner: true,
    applies: |_| true,
    options: &[
        option("none", "none is: each call asks the database"),
        OptionEntry {
            enters: false,
            refusal: |_, ways, _| {
                if ways.hydration == Hydration::Raw {
                    return Some("raw keeps nothing, so there is nothing to give again");
                }
                (ways.fetch != Fetch::Whole).then_some("an answer that is read in portions is nowhere whole, so it cannot be kept")
            },
            ..option("warm", "they are kept in the process by their parameters, and given again however old they are")
        },
    ],
};

pub(super) static INDEX: ChoiceEntry = ChoiceEntry {
    word: "index",
    about: "which indexes there are besides those of the schema",
    usual: Some(0),
    turn: 10,
    is_manner: true,
    applies: |_| true,
    options: &[
        option("none", "none: the schema as it is declared"),
        OptionEntry { is_named: true, enters: false, ..option("NAME", "those of the variant of that name, `[index.NAME]`") },
    ],
};

pub(super) static KEYS: ChoiceEntry = ChoiceEntry {
    word: "keys",
    about: "what the primary keys of a table, and all references to them, are made of",
    usual: Some(0),
    turn: 11,
    is_manner: true,
    applies: |_| true,
    options: &[
        option("own", "what the schema declares"),
        OptionEntry {
            is_named: true,
            enters: false,
            ..option("TABLE:TYPE", "those of the table, or of `all`, are of the type: integer, uuid4, uuid7 or text")
        },
    ],
};
