//! What each form of the language becomes, in a dialect that differs from the usual one in all it can.

use crate::common::{OTHER, need, schema, text};
use kampf_contest::{Dialect, Expect, Field, LeftPart, NeedText, Plan, Restriction, Shape, derive, rule_sql};
use kampf_schema::ddl;

static OTHERS: Dialect = OTHER;
static SCALED: Dialect = Dialect { decimals_are_reals: true, most_digits: 15, ..OTHER };

fn planned(text: &NeedText, name: &str, dialect: &'static Dialect) -> Plan {
    let schema = schema();
    let need = need(&schema, text);
    let field = Field::of(&schema, &need, dialect, &Restriction::default());
    let choices = field.valid.iter().find(|choices| choices.to_string() == name);
    derive(&schema, &need, dialect, choices.unwrap_or_else(|| panic!("{name} is not among {:?}", crate::common::names(&field.valid))))
}

fn sent(text: &NeedText, name: &str) -> String {
    planned(text, name, &OTHERS).statements(&OTHERS).join("\n--\n")
}

/// The part of the only statement that begins at a keyword.
fn clause(text: &NeedText, keyword: &str, dialect: &'static Dialect) -> String {
    let field = "database.needed.record";
    let sql = planned(text, field, dialect).statements(dialect).swap_remove(0);
    sql.lines().find(|line| line.starts_with(keyword)).unwrap_or_else(|| panic!("no {keyword} in {sql}")).to_owned()
}

fn grouped(from: &str, group: &[&str], give: &[&str], filter: &str, order: &[&str], limit: Option<u64>) -> NeedText {
    NeedText { group: Some(group.iter().map(|&term| term.to_owned()).collect()), ..text(from, give, filter, order, limit) }
}

fn with(parameters: &[&str], text: NeedText) -> NeedText {
    NeedText { parameters: parameters.iter().map(|&name| name.to_owned()).collect(), ..text }
}

#[test]
fn groups_are_made_where_the_work_is() {
    let keys = ["hive.label as hive", "start_of(month, hive.opened_on) as month"];
    let give = ["month", "count() as visits", "avg(temper)", "sum(temper * 2) as twice"];
    let need = grouped("inspection", &keys, &give, "temper > 1", &["visits desc"], Some(5));
    assert_eq!(
        sent(&need, "database.needed.record"),
        "SELECT month_of([hive].[opened_on]) AS [month],\n  \
         count(*) AS [visits],\n  \
         avg(CAST([inspection].[temper] AS real)) AS [avg(temper)],\n  \
         sum(([inspection].[temper] * $1)) AS [twice]\n\
         FROM [inspection]\n\
         JOIN [hive] ON [hive].[id] = [inspection].[hive_id]\n\
         WHERE [inspection].[temper] > $2\n\
         GROUP BY [hive].[label], 1\n\
         ORDER BY [visits] DESC, [hive].[label] DESC, [month] DESC NULLS LAST\n\
         LIMIT 5"
    );
    // Names that were given are known in any letters, as those of the schema are.
    let shouted = grouped(
        "inspection",
        &keys,
        &["MONTH", "count() as visits", "avg(temper)", "sum(temper * 2) as twice"],
        "temper > 1",
        &["Visits desc"],
        Some(5),
    );
    let lowered = |sql: String| sql.replace("[MONTH]", "[month]");
    assert_eq!(lowered(sent(&shouted, "database.needed.record")), sent(&need, "database.needed.record"));
    assert_eq!(
        sent(&need, "joined.app.needed.record"),
        "SELECT [hive].[label] AS [hive],\n  \
         month_of([hive].[opened_on]) AS [month],\n  \
         [inspection].[temper] AS [part],\n  \
         ([inspection].[temper] * $1) AS [part_2]\n\
         FROM [inspection]\n\
         JOIN [hive] ON [hive].[id] = [inspection].[hive_id]"
    );
    let plan = planned(&need, "joined.app.needed.record", &OTHERS);
    let group = plan.group.as_ref().expect("rows are grouped by the application");
    assert_eq!((group.keys.len(), plan.limit), (2, Some(5)));
}

#[test]
fn heads_are_one_row_of_aggregates() {
    let need = text("hive", &["count() as hives", "max(price) as dearest", "count(distinct apiary_id) as apiaries"], "alive", &[], None);
    assert_eq!(
        sent(&need, "database.needed.record"),
        "SELECT count(*) AS [hives],\n  max([hive].[price]) AS [dearest],\n  count(DISTINCT [hive].[apiary_id]) AS [apiaries]\n\
         FROM [hive]\n\
         WHERE [hive].[alive]"
    );
}

#[test]
fn aggregates_under_conditions_are_told_apart_by_every_loading() {
    let give = [
        "label",
        "count(inspection where temper > :most) as bad",
        "count(distinct inspection.temper) as kinds",
        "exists(inspection where note = 'x') as noted",
    ];
    let need = with(&["most"], text("hive", &give, "count(inspection) > 2", &["bad desc"], None));
    assert_eq!(
        sent(&need, "grouped.database.needed.record"),
        "SELECT [hive].[label],\n  \
         coalesce([inspection].[count_1], 0) AS [bad],\n  \
         coalesce([inspection_2].[count_1], 0) AS [kinds],\n  \
         coalesce([inspection_3].[exists_1], 0) > 0 AS [noted]\n\
         FROM [hive]\n\
         LEFT JOIN (\n  \
         SELECT [inspection].[hive_id], count(*) AS [count_1]\n  \
         FROM [inspection]\n  \
         WHERE [inspection].[temper] > $1\n  \
         GROUP BY [inspection].[hive_id]\n\
         ) AS [inspection] ON [inspection].[hive_id] = [hive].[id]\n\
         LEFT JOIN (\n  \
         SELECT [inspection].[hive_id], count(DISTINCT [inspection].[temper]) AS [count_1], count(*) AS [count_2]\n  \
         FROM [inspection]\n  \
         GROUP BY [inspection].[hive_id]\n\
         ) AS [inspection_2] ON [inspection_2].[hive_id] = [hive].[id]\n\
         LEFT JOIN (\n  \
         SELECT [inspection].[hive_id], count(*) AS [exists_1]\n  \
         FROM [inspection]\n  \
         WHERE [inspection].[note] = $2\n  \
         GROUP BY [inspection].[hive_id]\n\
         ) AS [inspection_3] ON [inspection_3].[hive_id] = [hive].[id]\n\
         WHERE coalesce([inspection_2].[count_2], 0) > $3\n\
         ORDER BY [bad] DESC, [hive].[id] DESC"
    );
    assert_eq!(
        sent(&need, "computed.database.needed.record"),
        "SELECT [hive].[label],\n  \
         (SELECT count(*) FROM [inspection] WHERE [inspection].[hive_id] = [hive].[id] AND [inspection].[temper] > $1) AS [bad],\n  \
         (SELECT count(DISTINCT [inspection].[temper]) FROM [inspection] WHERE [inspection].[hive_id] = [hive].[id]) AS [kinds],\n  \
         EXISTS (SELECT 1 FROM [inspection] WHERE [inspection].[hive_id] = [hive].[id] AND [inspection].[note] = $2) AS [noted]\n\
         FROM [hive]\n\
         WHERE (SELECT count(*) FROM [inspection] WHERE [inspection].[hive_id] = [hive].[id]) > $3\n\
         ORDER BY [bad] DESC, [hive].[id] DESC"
    );
    assert_eq!(
        sent(&need, "joined.database.needed.record"),
        "SELECT [hive].[id], [hive].[label],\n  \
         [inspection].[id], [inspection].[hive_id], [inspection].[temper],\n  \
         [inspection_2].[id], [inspection_2].[hive_id], [inspection_2].[temper],\n  \
         [inspection_3].[id], [inspection_3].[hive_id], [inspection_3].[temper]\n\
         FROM [hive]\n\
         LEFT JOIN [inspection] ON [inspection].[hive_id] = [hive].[id] AND [inspection].[temper] > $1\n\
         LEFT JOIN [inspection] AS [inspection_2] ON [inspection_2].[hive_id] = [hive].[id]\n\
         LEFT JOIN [inspection] AS [inspection_3] ON [inspection_3].[hive_id] = [hive].[id] AND [inspection_3].[note] = $2\n\
         WHERE (SELECT count(*) FROM [inspection] AS [inspection_4] WHERE [inspection_4].[hive_id] = [hive].[id]) > $3\n\
         ORDER BY (SELECT count(*) FROM [inspection] AS [inspection_4] WHERE [inspection_4].[hive_id] = [hive].[id] AND [inspection_4].[temper] > $1) DESC, [hive].[id] DESC"
    );
    assert_eq!(
        sent(&need, "lazy.app.needed.record"),
        "SELECT [hive].[id], [hive].[label]\n\
         FROM [hive]\n\
         --\n\
         SELECT [hive_id], [temper]\n\
         FROM [inspection]\n\
         WHERE [hive_id] = $1\n\
         --\n\
         SELECT [inspection].[hive_id], [inspection].[temper]\n\
         FROM [inspection]\n\
         WHERE [inspection].[hive_id] = $1 AND [inspection].[temper] > $2\n\
         --\n\
         SELECT [inspection].[hive_id], [inspection].[temper]\n\
         FROM [inspection]\n\
         WHERE [inspection].[hive_id] = $1 AND [inspection].[note] = $2"
    );
}

#[test]
fn optional_filters_are_one_text_or_only_what_is_given() {
    let need = with(
        &["name", "least"],
        text("hive", &["label"], "if(:name, apiary.name contains :name) and if(:least, price > :least) and alive", &[], None),
    );
    assert_eq!(
        sent(&need, "database.needed.record"),
        "SELECT [hive].[label]\n\
         FROM [hive]\n\
         JOIN [apiary] ON [apiary].[id] = [hive].[apiary_id]\n\
         WHERE ($1 IS NULL OR position($1 in [apiary].[name]) > 0) AND ($2 IS NULL OR [hive].[price] > $2) AND [hive].[alive]"
    );
    let plan = planned(&need, "database.needed.record+given", &OTHERS);
    let of_given = |given: [bool; 2]| plan.root.print(&OTHERS, &Shape { length: &|at| given[at].then_some(1), ..Shape::PLAIN }).sql;
    assert_eq!(
        of_given([true, true]),
        "SELECT [hive].[label]\n\
         FROM [hive]\n\
         JOIN [apiary] ON [apiary].[id] = [hive].[apiary_id]\n\
         WHERE position($1 in [apiary].[name]) > 0 AND [hive].[price] > $2 AND [hive].[alive]"
    );
    assert_eq!(
        of_given([true, false]),
        "SELECT [hive].[label]\n\
         FROM [hive]\n\
         JOIN [apiary] ON [apiary].[id] = [hive].[apiary_id]\n\
         WHERE position($1 in [apiary].[name]) > 0 AND [hive].[alive]"
    );
    assert_eq!(
        of_given([false, true]),
        "SELECT [hive].[label]\n\
         FROM [hive]\n\
         WHERE [hive].[price] > $1 AND [hive].[alive]"
    );
    assert_eq!(
        of_given([false, false]),
        "SELECT [hive].[label]\n\
         FROM [hive]\n\
         WHERE [hive].[alive]"
    );
}

#[test]
fn lists_are_as_long_as_they_come() {
    let need = with(&["labels"], text("hive", &["label"], "label in :labels and id in (1, 2)", &[], None));
    assert_eq!(clause(&need, "WHERE", &OTHERS), "WHERE [hive].[label] IN ($1) AND [hive].[id] IN ($2, $3)");
}

#[test]
fn distinct_rows_are_the_databases_or_the_applications() {
    let need = NeedText { distinct: true, ..text("hive", &["apiary.name", "alive"], "", &["apiary.name desc"], Some(3)) };
    assert_eq!(
        sent(&need, "database.needed.record"),
        "SELECT DISTINCT [apiary].[name] AS [apiary.name],\n  [hive].[alive]\n\
         FROM [hive]\n\
         JOIN [apiary] ON [apiary].[id] = [hive].[apiary_id]\n\
         ORDER BY [apiary.name] DESC, [hive].[alive] DESC\n\
         LIMIT 3"
    );
    assert_eq!(
        sent(&need, "lazy.app.needed.record"),
        "SELECT [hive].[apiary_id], [hive].[alive]\n\
         FROM [hive]\n\
         --\n\
         SELECT [id], [name]\n\
         FROM [apiary]\n\
         WHERE [id] = $1"
    );
}

#[test]
fn what_an_engine_cannot_say_goes_to_the_application_with_all_that_follows() {
    let need = text("hive", &["label"], "alive and start_of(year, opened_on) = 2024-01-01 and price > 3", &["label"], Some(3));
    let plan = planned(&need, "database.needed.record", &OTHERS);
    assert_eq!(
        plan.statements(&OTHERS),
        ["SELECT [hive].[label],\n  [hive].[opened_on]\n\
         FROM [hive]\n\
         WHERE [hive].[alive] AND [hive].[price] > $1\n\
         ORDER BY [hive].[label], [hive].[id]"]
    );
    assert!(plan.filter.is_some() && plan.limit == Some(3), "the limit counts rows that fulfil all of the condition");
    let left: Vec<_> = plan.left.iter().map(|left| (left.what, left.why.as_str())).collect();
    assert_eq!(left, [(LeftPart::Condition(1), "has no start of a year")]);
}

#[test]
fn no_more_rows_are_asked_for_than_show_that_there_are_too_many() {
    let ask = |expect| with(&["id"], NeedText { expect, ..text("hive", &["label"], "id = :id", &[], None) });
    for (expect, limit) in
        [(Expect::One, "LIMIT 2"), (Expect::ZeroOrOne, "LIMIT 2"), (Expect::OneOfMany, "LIMIT 1"), (Expect::ZeroOrOneOfMany, "LIMIT 1")]
    {
        assert_eq!(clause(&ask(expect), "LIMIT", &OTHERS), limit, "{expect:?}");
    }
    assert!(!sent(&ask(Expect::Many), "database.needed.record").contains("LIMIT"));
}

#[test]
fn values_are_reckoned_in_the_dialects_words() {
    for (value, sql) in [
        ("price * 2", "([hive].[price] * $1)"),
        ("round(price, 1)", "round([hive].[price], 1)"),
        ("case when alive then 1 else id end", "CASE WHEN [hive].[alive] THEN $1 ELSE [hive].[id] END"),
        ("coalesce(price, 0)", "coalesce([hive].[price], $1)"),
        ("nullif(label, 'x')", "nullif([hive].[label], $1)"),
        ("lower(label) || '-' || trim(label)", "((lower([hive].[label]) || $1) || trim([hive].[label]))"),
        ("substring(label, 2, 3)", "substr([hive].[label], 2, 3)"),
        ("days_between(opened_on, 2026-01-01)", "($1 - [hive].[opened_on])"),
        ("id / 2", "real([hive].[id]) / nullif($1, 0)"),
        ("id % 2", "mod([hive].[id], $1)"),
        ("-(id - 1)", "(- ([hive].[id] - $1))"),
    ] {
        let need = text("hive", &[&format!("{value} as x")], "", &[], None);
        let printed = planned(&need, "needed.record", &OTHERS).statements(&OTHERS).swap_remove(0);
        assert_eq!(printed.split(" AS [x]").next().unwrap(), format!("SELECT {sql}"), "{value}");
    }
}

#[test]
fn decimals_kept_as_reals_are_reckoned_in_whole_numbers() {
    let need = text("hive", &["label", "price * 1.05 as dearer"], "price + 0.5 > 2.25", &["dearer"], None);
    assert_eq!(
        planned(&need, "database.needed.record", &SCALED).statements(&SCALED),
        ["SELECT [hive].[label],\n  ((CAST(round([hive].[price] * 100) AS INTEGER) * 105) / 10000.0) AS [dearer]\n\
         FROM [hive]\n\
         WHERE ((CAST(round([hive].[price] * 100) AS INTEGER) + 50) / 100.0) > $1\n\
         ORDER BY [dearer] NULLS FIRST, [hive].[id]"]
    );
    assert_eq!(
        planned(&need, "database.needed.record", &OTHERS).statements(&OTHERS),
        ["SELECT [hive].[label],\n  ([hive].[price] * $1) AS [dearer]\n\
         FROM [hive]\n\
         WHERE ([hive].[price] + $2) > $3\n\
         ORDER BY [dearer] NULLS FIRST, [hive].[id]"]
    );
}

#[test]
fn whole_numbers_and_sums_are_taken_for_short_and_looked_at_before() {
    let keys = ["start_of(month, opened_on) as month"];
    let give = ["month", "sum(id * price) as worth", "sum(price) * 1.19 as gross"];
    let need = grouped("hive", &keys, &give, "price * id > 7", &["worth desc"], None);
    assert_eq!(
        planned(&need, "database.needed.record", &SCALED).statements(&SCALED),
        ["SELECT month_of([hive].[opened_on]) AS [month],\n  \
         (sum(([hive].[id] * CAST(round([hive].[price] * 100) AS INTEGER))) / 100.0) AS [worth],\n  \
         ((CAST(round((sum(CAST(round([hive].[price] * 100) AS INTEGER)) / 100.0) * 100) AS INTEGER) * 119) / 10000.0) AS [gross]\n\
         FROM [hive]\n\
         WHERE ((CAST(round([hive].[price] * 100) AS INTEGER) * [hive].[id]) / 100.0) > $1\n\
         GROUP BY 1\n\
         ORDER BY [worth] DESC NULLS LAST, [month] DESC NULLS LAST"]
    );
    let wide = grouped("hive", &keys, &["month", "sum(price * price) as square"], "", &[], None);
    let left = planned(&wide, "database.needed.record", &SCALED).left;
    assert_eq!(left[0].why, "keeps no more than 15 digits of a decimal");
}

#[test]
fn a_schemas_rules_are_printed_as_each_engine_says_them() {
    static BARE: Dialect = Dialect {
        has_booleans: false,
        has_dates: false,
        matches: None,
        schema_like: (None, Some("{0} LIKE {1}")),
        has_floor: false,
        ..OTHER
    };
    static RICH: Dialect = Dialect { matches: Some(("{0} ~ {1}", "{0} ~* {1}")), ..OTHER };
    let both = |check: &str| {
        let sql = format!("CREATE TABLE t (a INTEGER, b TEXT, c DATE, e BOOLEAN, CHECK ({check}))");
        let schema = ddl::read(&sql).expect("the schema is right").schema;
        let table = &schema.tables[0];
        let rule = table.checks[0].rule.as_ref().expect("the check is known");
        (rule_sql(&RICH, rule, table), rule_sql(&BARE, rule, table))
    };
    let (left, right) = both("e = true AND c > '2024-01-01' AND (a IS NULL OR a > 1)");
    assert_eq!(left.as_deref(), Some("[e] = true AND [c] > DATE '2024-01-01' AND ([a] IS NULL OR [a] > 1)"));
    assert_eq!(right.as_deref(), Some("[e] = 1 AND [c] > '2024-01-01' AND ([a] IS NULL OR [a] > 1)"));
    assert_eq!(both("b ~ '^x'"), (Some("[b] ~ '^x'".to_owned()), None));
    assert_eq!(both("b IN ('it''s')").0.as_deref(), Some("[b] IN ('it''s')"));
    assert_eq!(both("b LIKE 'A%'"), (Some("[b] LIKE 'A%'".to_owned()), None));
    assert_eq!(both("b ILIKE 'A%'"), (None, Some("[b] LIKE 'A%'".to_owned())));
}
