use super::*;
use crate::ddl;
use crate::model::Table;
use crate::value::Decimal;

/// The check of a table with columns a (integer), b (text), c (date), d (decimal), e (boolean).
fn check(sql: &str) -> (Table, Rule) {
    let text = format!("CREATE TABLE t (a INTEGER, b TEXT, c DATE, d DECIMAL(8, 2), e BOOLEAN, CHECK ({sql}))");
    let ddl = ddl::read(&text).unwrap_or_else(|error| panic!("{sql}: {error:?}"));
    let table = ddl.schema.tables[0].clone();
    let rule = table.checks[0].rule.clone().unwrap_or_else(|unknown| panic!("{sql}: {unknown}"));
    (table, rule)
}

fn holds(sql: &str, a: Option<i64>, b: Option<&str>) -> Option<bool> {
    let row = |column: ColumnId| match column {
        0 => a.map_or(Value::Null, Value::Integer),
        1 => b.map_or(Value::Null, Value::from),
        2 => Value::Date(20_000),
        3 => Value::from(Decimal { units: 250, scale: 2 }),
        _ => Value::Boolean(true),
    };
    check(sql).1.holds(&row)
}

#[test]
fn conditions_mean_what_they_mean_in_sql() {
    for (sql, a, b, expected) in [
        ("a > 0 AND a < 10", Some(5), None, Some(true)),
        ("a > 0 AND a < 10", None, None, None),
        ("a > 0 OR b = 'x'", None, Some("x"), Some(true)),
        ("a BETWEEN 3 AND 5", Some(6), None, Some(false)),
        ("a NOT BETWEEN 3 AND 5", Some(6), None, Some(true)),
        ("b IN ('x', 'y')", None, Some("y"), Some(true)),
        ("b = ANY (ARRAY['x'::text, 'y'::text])", None, Some("z"), Some(false)),
        ("b NOT IN ('x', NULL)", None, Some("z"), None),
        ("(a IS NULL) = (b IS NULL)", None, None, Some(true)),
        ("(a IS NULL) = (b IS NULL)", Some(1), None, Some(false)),
        ("num_nonnulls(a, b) = 1", Some(1), None, Some(true)),
        ("length(b) = 3 AND b = lower(b)", None, Some("abc"), Some(true)),
        ("length(trim(b)) > 0", None, Some("  "), Some(false)),
        ("b ~ '^[a-z]{2}$'", None, Some("ab"), Some(true)),
        ("b ~ '^[a-z]{2}$'", None, Some("AB"), Some(false)),
        ("b ~* '^[a-z]{2}$'", None, Some("AB"), Some(true)),
        ("b GLOB '[0-9][0-9]-*'", None, Some("07-x"), Some(true)),
        ("b LIKE 'a%'", None, Some("abc"), Some(true)),
        ("a % 2 = 0", Some(3), None, Some(false)),
        ("a * 2 + 1 > 6", Some(3), None, Some(true)),
        ("d > 2 AND d <= 2.50", None, None, Some(true)),
        ("c >= '2024-01-01'", None, None, Some(true)),
        ("c < DATE '2024-01-01'", None, None, Some(false)),
        ("e", None, None, Some(true)),
        ("NOT e OR a > 1", Some(1), None, Some(false)),
        ("e = 1", None, None, Some(true)),
        ("coalesce(a, 7) = 7", None, None, Some(true)),
        ("CASE WHEN e THEN a > 1 ELSE a < 1 END", Some(0), None, Some(false)),
        ("a IS DISTINCT FROM 3", None, None, Some(true)),
        ("substr(b, 1, 2) = 'ab'", None, Some("abc"), Some(true)),
        ("b || '!' = 'x!'", None, Some("x"), Some(true)),
        ("((b)::text <> ''::text)", None, Some(""), Some(false)),
    ] {
        assert_eq!(holds(sql, a, b), expected, "{sql} with a = {a:?}, b = {b:?}");
    }
}

#[test]
fn what_is_not_known_is_named() {
    let unknown = |sql: &str| {
        let ddl = ddl::read(&format!("CREATE TABLE t (a INTEGER, b TEXT, CHECK ({sql}))")).unwrap();
        ddl.schema.tables[0].checks[0].rule.clone().unwrap_err()
    };
    assert_eq!(unknown("soundex(b) = 'x'"), "the function soundex");
    assert_eq!(unknown("a > (SELECT 1)"), "a query inside");
    assert_eq!(unknown("b ~ '(?=x)'"), "the pattern (?=x)");
}
