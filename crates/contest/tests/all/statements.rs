//! What contenders send, in a dialect that differs from the usual one in all it can.

use crate::common::{OTHER, need, plan, schema, text};
use kampf_contest::{Bind, Dialect, Field, KeyList, NeedText, Reach, Restriction, Shape, derive};
use kampf_schema::Value;

fn statements(text: &NeedText, name: &str) -> Vec<String> {
    let schema = schema();
    plan(&schema, &need(&schema, text), name).statements(&OTHER)
}

fn calmest() -> NeedText {
    let give = ["label", "apiary.name", "avg(inspection.temper) as calm"];
    text("hive", &give, "alive and apiary.altitude > 300", &["calm desc", "price"], Some(10))
}

#[test]
fn lazy_sends_the_root_and_a_statement_per_touched_parent() {
    let sent = statements(&calmest(), "lazy.database.needed.record");
    assert_eq!(
        sent[1..],
        ["SELECT [id], [name]\nFROM [apiary]\nWHERE [id] = $1", "SELECT [hive_id], [temper]\nFROM [inspection]\nWHERE [hive_id] = $1",]
    );
    assert_eq!(
        sent[0],
        "SELECT [hive].[id], [hive].[apiary_id], [hive].[label]\nFROM [hive]\nJOIN [apiary] ON [apiary].[id] = [hive].[apiary_id]\n\
         WHERE [hive].[alive] AND [apiary].[altitude] > $1\n\
         ORDER BY (SELECT avg(CAST([inspection].[temper] AS real)) FROM [inspection] WHERE [inspection].[hive_id] = [hive].[id]) DESC \
         NULLS LAST, [hive].[price] NULLS FIRST, [hive].[id]\nLIMIT 10"
    );
}

#[test]
fn work_in_the_application_asks_the_database_for_everything() {
    let sent = statements(&calmest(), "lazy.app.all.managed");
    assert!(!sent[0].contains("WHERE") && !sent[0].contains("ORDER") && !sent[0].contains("LIMIT"), "{}", sent[0]);
    let schema = schema();
    let plan = plan(&schema, &need(&schema, &calmest()), "lazy.app.all.managed");
    assert!(plan.filter.is_some() && plan.order.len() == 3 && plan.limit == Some(10));
    assert!(plan.nodes[1..].iter().all(|node| node.for_selection), "filter and order need both relations");
}

#[test]
fn batches_are_lists_within_the_parameter_limit() {
    let schema = schema();
    let plan = plan(&schema, &need(&schema, &calmest()), "batched.database.needed.record");
    assert_eq!(plan.nodes[1].link.as_ref().map(|link| link.reach), Some(Reach::Batched));
    let statement = plan.nodes[1].statement.as_ref().expect("a batched node has a statement");
    assert_eq!(statement.most_keys(), 100);
    assert_eq!(statement.print(&OTHER, 3, &[]).sql, "SELECT [id], [name]\nFROM [apiary]\nWHERE [id] IN ($1, $2, $3)");
}

#[test]
fn a_list_of_keys_is_one_parameter_where_the_engine_knows_lists() {
    static LISTS: Dialect = Dialect { key_list: KeyList::Array, ..OTHER };
    let schema = schema();
    let need = need(&schema, &calmest());
    let field = Field::of(&schema, &need, &LISTS, &Restriction::default());
    let choices = field.valid.iter().find(|choices| choices.to_string() == "batched.database.needed.record").unwrap();
    let plan = derive(&schema, &need, &LISTS, choices);
    let statement = plan.nodes[1].statement.as_ref().expect("a batched node has a statement");
    assert!(statement.most_keys() > LISTS.max_parameters);
    for keys in [1, 7, 1000] {
        assert_eq!(statement.print(&LISTS, keys, &[]).sql, "SELECT [id], [name]\nFROM [apiary]\nWHERE [id] = ANY($1)");
    }
    assert!(plan.statements(&LISTS)[1].ends_with("= ANY($1)"));
}

#[test]
fn a_limit_counts_parents_where_a_join_multiplies_rows() {
    let sent = statements(&calmest(), "joined.database.needed.record");
    let [sent] = &sent[..] else { panic!("one statement is sent, not {sent:?}") };
    let inner = sent.find("LIMIT 10").expect("the limit stands inside");
    let joined = sent.find("LEFT JOIN [inspection]").expect("the children are joined");
    assert!(inner < joined, "{sent}");
    assert!(sent.ends_with("ORDER BY [hive].[sort_1] DESC NULLS LAST, [hive].[sort_2] NULLS FIRST, [hive].[sort_3]"), "{sent}");
}

#[test]
fn one_branch_of_children_is_grouped_as_it_is_and_several_each_in_a_table_of_their_own() {
    let one = statements(&text("hive", &["label", "count(inspection) as visits"], "", &[], None), "grouped.needed.record");
    assert_eq!(
        one,
        ["SELECT [hive].[label],\n  count([inspection].[hive_id]) AS [visits]\nFROM [hive]\n\
          LEFT JOIN [inspection] ON [inspection].[hive_id] = [hive].[id]\nGROUP BY [hive].[id]"]
    );
    let two = text("apiary", &["name", "count(hive) as hives", "count(visit) as days"], "", &[], None);
    let two = &statements(&two, "grouped.needed.record")[0];
    assert_eq!(two.matches("GROUP BY").count(), 2, "{two}");
    assert_eq!(two.matches("LEFT JOIN (").count(), 2, "{two}");
}

#[test]
fn computed_values_are_sub_selects() {
    let sent = statements(&calmest(), "computed.database.needed.raw");
    let [sent] = &sent[..] else { panic!("one statement is sent, not {sent:?}") };
    assert!(sent.contains("(SELECT [apiary].[name] FROM [apiary] WHERE [apiary].[id] = [hive].[apiary_id]) AS [apiary.name]"), "{sent}");
    assert!(sent.contains("AS [calm]") && sent.contains("ORDER BY [calm] DESC"), "{sent}");
}

#[test]
fn a_table_may_meet_itself() {
    let sent = &statements(&text("hive", &["label", "mother.label"], "", &[], None), "joined.needed.raw")[0];
    assert_eq!(
        sent,
        "SELECT [hive].[label],\n  [hive_2].[label] AS [mother.label]\nFROM [hive]\nLEFT JOIN [hive] AS [hive_2] ON [hive_2].[id] = [hive].[mother_id]"
    );
}

#[test]
fn values_are_bound_and_never_written() {
    let schema = schema();
    let hostile =
        text("hive", &["label"], "label = 'x''); DROP TABLE hive; --' and price in (1.50, 2) and opened_on < 2026-03-01", &[], None);
    let plan = plan(&schema, &need(&schema, &hostile), "database.needed.raw");
    let printed = plan.root.print(&OTHER, &Shape::PLAIN);
    assert!(!printed.sql.contains("DROP") && !printed.sql.contains("2026"), "{}", printed.sql);
    let values = printed.binds.iter().map(|bind| match bind {
        Bind::Value(value) => value.to_string(),
        other => format!("{other:?}"),
    });
    assert_eq!(values.collect::<Vec<_>>(), ["x'); DROP TABLE hive; --", "1.50", "2", "2026-03-01"]);
    assert!(matches!(printed.binds[0], Bind::Value(Value::Text(_))));
}

#[test]
fn texts_are_matched_the_dialects_way() {
    let filter = |filter: &str| statements(&text("hive", &["label"], filter, &[], None), "database.needed.raw")[0].clone();
    assert!(filter("label like 'A%'").ends_with("WHERE [hive].[label] LIKE $1"));
    assert!(filter("label contains '%'").ends_with("WHERE position($1 in [hive].[label]) > 0"));
    assert!(filter("not label starts 'A'").ends_with("WHERE NOT (left([hive].[label], length($1)) = $1)"));
}
