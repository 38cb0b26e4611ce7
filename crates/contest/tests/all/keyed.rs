//! Needs over keys of another type: which say the same, and when answers have the same rows.

use kampf_contest::{Agreement, Answer, KeyedNeed, Need, NeedText, Reference, Unclear, resolve};
use kampf_schema::{KeyColumns, Relations, Schema, TableId, Value, ddl};

const SCHEMA: &str = "
    CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL REFERENCES keeper (id), label VARCHAR(20) NOT NULL);
    CREATE TABLE visit (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive (id), minutes INTEGER NOT NULL);";

fn schema() -> Schema {
    ddl::read(SCHEMA).unwrap().schema
}

fn keys(schema: &Schema) -> Vec<KeyColumns> {
    schema.ids().map(|table| schema.key_columns(table).unwrap()).collect()
}

fn need(schema: &Schema, give: &[&str], filter: &str, order: &[&str], limit: Option<u64>) -> Need {
    let texts = |texts: &[&str]| texts.iter().map(|&text| text.to_owned()).collect::<Vec<_>>();
    let text = NeedText {
        from: "hive".into(),
        give: texts(give),
        filter: (!filter.is_empty()).then(|| filter.to_owned()),
        order: texts(order),
        limit,
        parameters: texts(&["one", "many"]).into_iter().filter(|name| filter.contains(&format!(":{name}"))).collect(),
        ..NeedText::default()
    };
    resolve(schema, &Relations::of(schema), &text).unwrap_or_else(|error| panic!("{error}: {give:?} {filter} {order:?}"))
}

fn over_keys(schema: &Schema, need: &Need) -> Result<KeyedNeed, String> {
    KeyedNeed::of(need, &keys(schema), &|value| need.said(schema, value))
}

/// A key of another type stands for the row a hundred below.
fn old_key(_: TableId, key: &Value) -> Option<Value> {
    match key {
        Value::Integer(number @ 100..) => Some(Value::Integer(number - 100)),
        _ => None,
    }
}

fn rows(rows: &[&[i64]]) -> Vec<Vec<Value>> {
    rows.iter().map(|row| row.iter().map(|number| Value::Integer(*number)).collect()).collect()
}

#[test]
fn a_need_says_the_same_where_no_keys_value_counts() {
    let schema = schema();
    for (give, filter, order) in [
        (&["id", "label"][..], "", &[][..]),
        (&["label"], "id = :one and keeper_id in :many", &["label", "id desc"]),
        (&["label"], "keeper.id = keeper_id and keeper_id is not null", &[]),
        (&["count(distinct visit.hive_id) as hives"], "exists(visit where minutes > 5)", &[]),
        (&["coalesce(keeper_id, keeper.id) as keeper", "case when label = 'a' then id end as own"], "", &[]),
        (&["last(visit order minutes).hive_id as hive", "visit order minutes { id, minutes } as visits"], "", &["label"]),
    ] {
        let said = over_keys(&schema, &need(&schema, give, filter, order, None));
        assert!(said.is_ok(), "{give:?} {filter}: {said:?}");
    }
    let need = need(&schema, &["label"], "id = :one and keeper_id in :many", &[], None);
    let [keeper, hive] = ["keeper", "hive"].map(|name| schema.find(name));
    assert_eq!(over_keys(&schema, &need).unwrap().parameters, [hive, keeper]);
}

#[test]
fn where_a_keys_value_counts_it_is_said_what_does_so() {
    let schema = schema();
    for (give, filter, order, why) in [
        (&["label"][..], "", &["id"][..], "`id` sorts by a key"),
        (&["label"], "", &["keeper.id", "label"], "`keeper.id` sorts by a key"),
        (&["label"], "id between 3 and 9", &[], "asks which of two keys is the larger one"),
        (&["label"], "id < :one", &[], "asks which of two keys is the larger one"),
        (&["label"], "id in (1, 2)", &[], "compares a key with something that is none"),
        (&["label"], "exists(visit where hive_id = id)", &[], "compares a key with something that is none"),
        (&["label"], "id = keeper_id", &[], "compares a key with something that is none"),
        (&["id % 2 as half"], "", &[], "computes with a key"),
        (&["min(visit.id) as first"], "", &[], "computes with a key"),
        (&["last(visit order id).minutes as newest"], "", &[], "sorts by a key"),
        (&["visit order id { minutes } as visits"], "", &[], "sorts by a key"),
    ] {
        let said = over_keys(&schema, &need(&schema, give, filter, order, None)).unwrap_err();
        assert!(said.contains(why), "{give:?} {filter} {order:?}: {said}");
    }
}

/// Three of four hives by a label that two of them share, where the plain schema has their keys in order.
fn plain(complete: bool) -> Reference {
    let keys = [[1, 0], [2, 1], [2, 2], [3, 3]];
    Reference {
        rows: rows(&[&[0, 1], &[1, 2], &[2, 2], &[3, 3]]),
        keys: keys.iter().map(|key| key.map(Value::Integer).to_vec()).collect(),
        complete,
        forms: Vec::new(),
        ..Reference::default()
    }
}

#[test]
fn answers_agree_where_keys_stand_for_the_same_rows_and_only_there() {
    let schema = schema();
    let need = need(&schema, &["id", "label"], "", &["label", "id"], Some(2));
    let over = over_keys(&schema, &need).unwrap();
    let agrees = |limit, answer: &[&[i64]]| over.agrees(&plain(true), limit, &Answer::from(rows(answer)), &old_key);
    assert_eq!(agrees(None, &[&[100, 1], &[101, 2], &[102, 2], &[103, 3]]), Agreement::Same);
    assert_eq!(agrees(None, &[&[100, 1], &[102, 2], &[101, 2], &[103, 3]]), Agreement::Same, "the order of ties is free");
    assert_eq!(agrees(Some(2), &[&[100, 1], &[102, 2]]), Agreement::Same, "and which of them come before a limit");
    for wrong in [
        &[&[101, 2][..], &[100, 1], &[102, 2], &[103, 3]][..],
        &[&[100, 1], &[101, 2], &[101, 2], &[103, 3]],
        &[&[100, 1], &[101, 2], &[102, 2]],
        // A key that no row has here, though it is one of the plain schema.
        &[&[0, 1], &[101, 2], &[102, 2], &[103, 3]],
    ] {
        assert!(matches!(agrees(None, wrong), Agreement::Differs(_)), "{wrong:?}");
    }
    // Where the ties go on behind what is known, nobody can tell which of them belong to the answer.
    let cut = Reference { rows: rows(&[&[0, 1], &[1, 2]]), keys: plain(false).keys[..2].to_vec(), complete: false, ..plain(false) };
    let open = over.agrees(&cut, Some(2), &Answer::from(rows(&[&[100, 1], &[102, 2]])), &old_key);
    assert_eq!(open, Agreement::Undecided(Unclear::AtTheLimit));
    // Without an order any row may come before the limit.
    let alone = over_keys(&schema, &self::need(&schema, &["id", "label"], "", &[], Some(1))).unwrap();
    let free = alone.agrees(
        &Reference { keys: (0..4).map(|key| vec![Value::Integer(key)]).collect(), ..plain(true) },
        Some(1),
        &Answer::from(rows(&[&[103, 3]])),
        &old_key,
    );
    assert_eq!(free, Agreement::Same);
}

#[test]
fn what_ties_decide_inside_of_a_row_is_not_compared() {
    let schema = schema();
    let list = |items: &[&[i64]]| Value::List(rows(items).into_iter().map(|row| Value::List(row.into())).collect());
    for (give, right, found, same) in [
        // In another order among equal minutes; and another visit.
        ("visit order minutes { id, minutes } as visits", list(&[&[1, 5], &[2, 5]]), list(&[&[102, 5], &[101, 5]]), true),
        ("visit order minutes { id, minutes } as visits", list(&[&[1, 5], &[2, 5]]), list(&[&[103, 5], &[101, 5]]), false),
        ("visit { id, minutes } as visits", list(&[&[1, 5], &[2, 6]]), list(&[&[102, 6], &[101, 5]]), true),
        ("visit order minutes limit 1 { id } as visits", list(&[&[1]]), list(&[&[102]]), true),
        ("last(visit order minutes).id as newest", Value::Integer(1), Value::Integer(102), true),
        ("count(visit) as visits", Value::Integer(1), Value::Integer(2), false),
        // What is aggregated is picked by a tie itself.
        ("max(last(visit order minutes).minutes from keeper.hive) as most", Value::Integer(5), Value::Integer(6), true),
    ] {
        let need = need(&schema, &[give], "", &[], None);
        let plain = Reference { rows: vec![vec![right]], complete: true, forms: need.forms(), ..Reference::default() };
        let agreement = over_keys(&schema, &need).unwrap().agrees(&plain, None, &Answer::from(vec![vec![found]]), &old_key);
        assert_eq!(agreement == Agreement::Same, same, "{give}: {agreement:?}");
    }
}
