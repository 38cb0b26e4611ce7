//! Which contenders enter, what they are called, and why others do not.

use crate::common::{OTHER, field, names, need, schema, text};
use kampf_contest::{Choice, ChoiceOption, Choices, Expect, Fetch, Field, Hydration, Loading, NeedText, Restriction, Work, derive};

#[test]
fn the_default_field_goes_from_the_naive_end_to_the_leanest_in_single_steps() {
    let schema = schema();
    let with_children = need(&schema, &text("hive", &["label", "avg(inspection.temper) as calm"], "alive", &["calm desc"], Some(9)));
    let entered = field(&schema, &with_children).entered;
    assert_eq!(
        names(&entered),
        [
            "lazy.app.all.managed",
            "lazy.database.all.managed",
            "batched.database.all.managed",
            "joined.database.all.managed",
            "grouped.database.all.managed",
            "computed.database.all.managed",
            "computed.database.all.plain",
            "computed.database.needed.plain",
            "computed.database.needed.map",
            "computed.database.needed.record",
            "computed.database.needed.raw",
            "computed.database.needed.plain+built",
        ]
    );
    for at in 1..entered.len() {
        let near = (0..entered.len()).any(|other| other != at && entered[at].distance(&entered[other]) == 1);
        assert!(near, "{} differs from no other in one choice", entered[at]);
    }
}

#[test]
fn another_schema_is_tried_at_the_naive_end_and_at_the_comfortable_member() {
    let schema = schema();
    let need = need(&schema, &text("hive", &["label", "avg(inspection.temper) as calm"], "alive", &["calm desc"], Some(9)));
    let mut restriction = Restriction::default();
    restriction.label(Choice::Index.option("by_hive").unwrap());
    let indexed = Field::of(&schema, &need, &OTHER, &restriction);
    let plain = field(&schema, &need);
    let own =
        |field: &Field| names(&field.entered).iter().filter(|name| !name.contains('@')).map(|name| (*name).to_owned()).collect::<Vec<_>>();
    assert_eq!(own(&indexed), own(&plain), "who runs on the plain schema is as before");
    let others: Vec<String> = indexed.entered.iter().map(ToString::to_string).filter(|name| name.contains('@')).collect();
    assert_eq!(others, ["lazy.app.all.managed@by_hive", "computed.database.needed.plain@by_hive"]);
    assert_eq!(indexed.count(), 2 * plain.count(), "every combination can run on it");
    // Keys are another choice, and nobody runs on two other schemas at once.
    restriction.label(Choice::Keys.option("hive:uuid7").unwrap());
    let keyed = Field::of(&schema, &need, &OTHER, &restriction);
    let on_keys: Vec<String> = keyed.entered.iter().map(ToString::to_string).filter(|name| name.contains(':')).collect();
    assert_eq!(on_keys, ["lazy.app.all.managed@hive:uuid7", "computed.database.needed.plain@hive:uuid7"]);
    assert_eq!(keyed.count(), 3 * plain.count());
    assert!(keyed.all().all(|choices| keyed.holds(&choices)) && !plain.holds(&keyed.entered[keyed.entered.len() - 1]));
    let mut restriction = Restriction::default();
    restriction.label(Choice::Index.option("by_hive").unwrap());
    // Where only the other schema is allowed everybody runs on it.
    restriction.allow(Choice::Index.option("by_hive").unwrap());
    let alone = Field::of(&schema, &need, &OTHER, &restriction);
    assert!(alone.entered.len() > 5 && alone.entered.iter().all(|member| member.to_string().ends_with("@by_hive")));
}

#[test]
fn references_to_one_row_are_leanest_joined_and_know_no_grouping() {
    let schema = schema();
    let to_one = need(&schema, &text("hive", &["label", "apiary.region.name"], "alive", &[], None));
    let field = field(&schema, &to_one);
    assert!(names(&field.valid).iter().all(|name| !name.starts_with("grouped")), "{:?}", names(&field.valid));
    assert_eq!(names(&field.entered)[field.entered.len() - 2..], ["joined.database.needed.raw", "joined.database.needed.plain+built"]);
}

#[test]
fn choices_that_change_nothing_are_left_out_of_the_name() {
    let schema = schema();
    let plain = need(&schema, &text("region", &["id", "name"], "", &[], None));
    assert_eq!(names(&field(&schema, &plain).entered), ["managed", "plain", "map", "record", "raw", "plain+built"]);
    let some = need(&schema, &text("region", &["name"], "", &[], None));
    assert_eq!(
        names(&field(&schema, &some).entered),
        ["all.managed", "all.plain", "needed.plain", "needed.map", "needed.record", "needed.raw", "needed.plain+built"]
    );
    let filtered = need(&schema, &text("region", &["id", "name"], "name = 'Talva'", &[], None));
    assert_eq!(names(&field(&schema, &filtered).entered)[..2], ["app.managed", "database.managed"]);
}

#[test]
fn what_is_not_derived_has_its_reason() {
    let schema = schema();
    let of = |name: &str, text| {
        let not = field(&schema, &need(&schema, &text)).not_derived;
        not.iter().find(|not| not.choices.to_string() == name).map(|not| not.reason)
    };
    let children = || text("hive", &["label", "count(inspection) as visits"], "alive", &[], None);
    let keeps_nothing = |name: &str| of(name, children()).is_some_and(|reason| reason.starts_with("raw keeps nothing"));
    for name in ["lazy.database.all.raw", "batched.database.needed.raw", "joined.database.all.raw", "computed.app.all.raw"] {
        assert!(keeps_nothing(name), "{name}: {:?}", of(name, children()));
    }
    assert!(!keeps_nothing("computed.database.needed.raw"));
    assert_eq!(of("computed.database.needed.managed", children()), Some("an entity with some of its columns cannot be compared and saved"));
    let keyless = || text("visit", &["day", "apiary.name"], "", &[], None);
    assert_eq!(of("lazy.all.managed", keyless()), Some("without a primary key an entity has no identity"));
    let keyless_children = || text("apiary", &["name", "count(visit) as days"], "", &[], None);
    assert_eq!(of("joined.all.plain", keyless_children()), Some("without a primary key rows that a join repeats cannot be recognised"));
}

#[test]
fn no_two_contenders_do_the_very_same() {
    let schema = schema();
    let needs = [
        text("hive", &["label", "avg(inspection.temper) as calm"], "alive", &["calm desc"], Some(9)),
        text("hive", &["label", "mother.label", "apiary.name"], "price > 10", &["price"], None),
        text("apiary", &["name", "count(hive) as hives", "max(hive.inspection.temper) as worst"], "", &["name"], Some(3)),
        text("visit", &["day"], "", &[], None),
    ];
    for text in needs {
        let need = need(&schema, &text);
        let field = field(&schema, &need);
        let plans: Vec<_> = field.valid.iter().map(|choices| derive(&schema, &need, &OTHER, choices)).collect();
        for (at, plan) in plans.iter().enumerate() {
            assert!(!plans[..at].contains(plan), "{} does what another does", field.valid[at]);
        }
        let all: Vec<_> = field.all().collect();
        assert_eq!(all.len(), field.count());
        assert!(field.entered.iter().all(|choices| all.contains(choices)));
        // In whatever manner.
        let some: Vec<_> = all.iter().filter(|choices| choices.get() == Some(Hydration::Record)).collect();
        let plans: Vec<_> = some.iter().map(|choices| derive(&schema, &need, &OTHER, choices)).collect();
        for (at, plan) in plans.iter().enumerate() {
            assert!(!plans[..at].contains(plan), "{} does what another does", some[at]);
        }
    }
}

#[test]
fn a_restriction_limits_the_field_and_leaves_it_connected() {
    let schema = schema();
    let need = need(&schema, &text("hive", &["label", "apiary.name"], "alive", &[], None));
    let mut only = Restriction::default();
    for option in [Loading::Batched.opt(), Loading::Joined.opt(), Work::Database.opt(), Hydration::Plain.opt(), Hydration::Record.opt()] {
        only.allow(option);
    }
    let field = Field::of(&schema, &need, &OTHER, &only);
    assert_eq!(
        names(&field.entered),
        [
            "batched.database.all.plain",
            "joined.database.all.plain",
            "joined.database.needed.plain",
            "joined.database.needed.record",
            "joined.database.needed.plain+built"
        ]
    );
    assert!(field.valid.iter().all(|choices| choices.get() == Some(Work::Database)));
}

#[test]
fn columns_are_a_choice_wherever_any_loading_can_leave_some_out() {
    let schema = kampf_schema::ddl::read("CREATE TABLE t (id INTEGER PRIMARY KEY, up_id INTEGER REFERENCES t, size REAL NOT NULL);");
    let schema = schema.unwrap().schema;
    // Batches need all three columns, a statement that groups only one.
    let need = need(&schema, &text("t", &["sum(t.size) as sizes", "up.id"], "", &[], None));
    let valid = names(&field(&schema, &need).valid);
    assert!(valid.contains(&"grouped.all.managed".to_owned()) && valid.contains(&"grouped.needed.raw".to_owned()), "{valid:?}");
    let managed = crate::common::plan(&schema, &need, "grouped.all.managed");
    assert_eq!(managed.layouts[0].key.len(), 1, "a managed entity is known by its key");
}

#[test]
fn letters_in_which_a_column_is_asked_for_make_no_other_contender() {
    let schema = kampf_schema::ddl::read("CREATE TABLE t (id INTEGER PRIMARY KEY, label TEXT NOT NULL);").unwrap().schema;
    let field = |give: &[&str]| names(&field(&schema, &need(&schema, &text("t", give, "", &[], None))).valid);
    assert_eq!(field(&["Id", "LABEL"]), field(&["id", "label"]));
    assert!(field(&["Id", "LABEL"]).iter().all(|name| !name.contains("needed")), "all columns are needed");
    let plan = crate::common::plan(&schema, &need(&schema, &text("t", &["Id", "LABEL"], "", &[], None)), "raw");
    assert!(!plan.statements(&OTHER)[0].contains(" AS "));
}

/// Every combination of a few terms, of a filter, an order and a limit.
fn various_needs() -> impl Iterator<Item = kampf_contest::NeedText> {
    let gives: [&[&str]; 9] = [
        &["id", "name"],
        &["name"],
        &["name", "id", "region_id", "altitude"],
        &["id", "region_id", "name", "altitude"],
        &["name", "region.name"],
        &["name", "region.id", "region.name"],
        &["count(hive) as hives"],
        &["name", "region.name", "max(hive.inspection.temper) as worst"],
        &["id", "count(visit) as days", "sum(hive.price) as worth"],
    ];
    let filters = ["", "altitude > 3", "region.name = 'Talva'", "count(hive) > 2"];
    let orders: [&[&str]; 3] = [&[], &["name"], &["count(hive) desc"]];
    gives.into_iter().flat_map(move |give| {
        filters.into_iter().flat_map(move |filter| {
            orders
                .into_iter()
                .flat_map(move |order| [None, Some(5)].into_iter().map(move |limit| text("apiary", give, filter, order, limit)))
        })
    })
}

#[test]
fn a_combination_that_does_the_same_as_another_has_its_plan() {
    let schema = schema();
    let mut same = 0;
    for text in various_needs() {
        let need = need(&schema, &text);
        let field = field(&schema, &need);
        let doubles = field.not_derived.iter().filter(|not| not.reason.contains("the very same")).map(|not| not.choices);
        for double in doubles {
            let plan = derive(&schema, &need, &OTHER, &double);
            assert!(field.valid.iter().any(|choices| derive(&schema, &need, &OTHER, choices) == plan), "{double} for {text:?}");
            same += 1;
        }
    }
    assert!(same > 100, "the needs have hardly any combinations of equal effect: {same}");
}

#[test]
fn how_rows_are_fetched_is_tried_where_it_is_asked_for_and_can_be() {
    let schema = schema();
    let entered = |text: &NeedText, only: &Restriction| {
        let field = Field::of(&schema, &need(&schema, text), &OTHER, only);
        names(&field.entered).into_iter().filter_map(|name| name.split_once('+').map(|(_, manner)| manner.to_owned())).collect::<Vec<_>>()
    };
    let mut tried = Restriction::default();
    tried.try_others(Choice::Fetch);
    let hives = || text("hive", &["label", "apiary.name"], "alive", &["label desc"], None);
    assert_eq!(entered(&hives(), &Restriction::default()), ["built"]);
    assert_eq!(entered(&hives(), &tried), ["pages:1000", "chunks:1000", "stream:1000", "built"]);
    // Sizes are those of the contest, or those that are asked for with an option.
    let mut sized = Restriction::default();
    sized.allow(Fetch::Whole.opt());
    sized.allow(Choice::Fetch.option("pages:5").unwrap());
    sized.allow(Choice::Fetch.option("stream").unwrap());
    let chunks = NeedText { chunk: vec![10, 200], ..hives() };
    assert_eq!(entered(&chunks, &sized), ["pages:5", "stream:10", "stream:200", "built"]);
    assert_eq!(entered(&NeedText { page: Some(7), ..hives() }, &tried), ["pages:7", "chunks:7", "stream:7", "built"]);
    // Rows are read from the key of the last one on only where they are sorted by one.
    let by_value = text("hive", &["label", "apiary.name"], "alive", &["apiary.name"], None);
    assert_eq!(entered(&by_value, &tried), ["pages:1000", "stream:1000", "built"]);
    let keyless = text("visit", &["day"], "", &[], None);
    assert_eq!(entered(&keyless, &tried), ["stream:1000", "built"]);
    let one = NeedText { expect: Expect::ZeroOrOne, ..text("hive", &["label"], "id = 5", &[], None) };
    assert_eq!(entered(&one, &tried), ["built"]);
}

#[test]
fn manners_that_cannot_be_are_no_combinations() {
    let schema = schema();
    let need = need(&schema, &text("apiary", &["name", "count(hive) as hives"], "altitude > 3", &["name"], None));
    let all: Vec<String> = field(&schema, &need).all().map(|choices| choices.to_string()).collect();
    let some = |pattern: &[&str]| all.iter().any(|name| pattern.iter().all(|part| name.contains(part)));
    assert!(some(&["batched.database", "+pages:1000", "+built", "+one"]) && some(&["lazy.app.all.plain", "+warm"]));
    for impossible in
        [&["app.", "+chunks"][..], &["joined.database", "+stream"], &["raw", "+warm"], &["+stream", "+one"], &["+pages", "+warm"]]
    {
        assert!(!some(impossible), "{impossible:?}");
    }
    assert!(!some(&["computed.database.all.record+one"]), "one statement needs nothing to hold it together");
}

#[test]
fn neighbours_differ_in_one_choice_and_those_that_may_gain_most_come_first() {
    let schema = schema();
    let need = need(&schema, &text("hive", &["label", "avg(inspection.temper) as calm"], "alive", &["calm desc"], Some(9)));
    let mut restriction = Restriction::default();
    restriction.label(Choice::Index.option("by_hive").unwrap());
    let field = Field::of(&schema, &need, &OTHER, &restriction);
    let of = |name: &str| {
        let member = field.all().find(|choices| choices.to_string() == name).expect("it is valid");
        (member, field.neighbours(&member, &restriction))
    };
    let (member, neighbours) = of("grouped.database.all.plain");
    assert!(neighbours.iter().all(|other| member.distance(other) == 1 && field.holds(other)));
    assert_eq!(
        names(&neighbours),
        [
            "grouped.database.needed.plain",
            "grouped.database.all.map",
            "grouped.database.all.record",
            "grouped.database.all.raw",
            "computed.database.all.plain",
            "grouped.database.all.plain@by_hive",
            "grouped.database.all.managed",
            "lazy.database.all.plain",
            "batched.database.all.plain",
            "joined.database.all.plain",
            "grouped.database.all.plain+built",
        ]
    );
    // From the naive end the work stays where it is.
    let (naive, around) = of("lazy.app.all.managed");
    assert!(!around.is_empty() && around.iter().all(|other| other.of(Choice::Work) == naive.of(Choice::Work)));
    // What enters only where there is reason to is none: other sizes of fetch, answers that are kept.
    let is_manner = |other: &&Choices| [Choice::Fetch, Choice::Cache].iter().any(|&choice| other.of(choice) != member.of(choice));
    assert_eq!(neighbours.iter().filter(is_manner).count(), 0);
    restriction.try_others(Choice::Cache);
    restriction.try_others(Choice::Fetch);
    let with_fetch = Field::of(&schema, &need, &OTHER, &restriction).neighbours(&member, &restriction);
    assert!(with_fetch.iter().any(|other| other.of(Choice::Fetch) != member.of(Choice::Fetch)));
    assert!(with_fetch.iter().all(|other| other.of(Choice::Cache) == member.of(Choice::Cache)), "what is stale is no neighbour");
}
