use crate::parameter::RecipeMaker;
use kampf_schema::Decimal;
use kampf_schema::expr::read_recipe;
use kampf_schema::{LogicalType, Value};

fn values(text: &str, kind: LogicalType) -> Vec<Value> {
    let maker = RecipeMaker::new(&read_recipe(text).unwrap(), kind, 7, "test").unwrap();
    (0..500).map(|n| maker.value(n)).collect()
}

fn error(text: &str, kind: LogicalType) -> String {
    RecipeMaker::new(&read_recipe(text).unwrap(), kind, 7, "test").unwrap_err().0
}

#[test]
fn every_recipe_makes_what_it_says() {
    let inside = |text: &str, kind, low: &str, high: &str| {
        for value in values(text, kind) {
            let shown = value.as_ref();
            let bound = |text: &str| Decimal::parse(text).map_or_else(|| Value::from(text), Value::from);
            if let Value::Text(text) = &value {
                assert!((low.len()..=high.len()).contains(&text.chars().count()), "{text}");
            } else if !matches!(value, Value::Date(_) | Value::Timestamp(_)) {
                assert!(shown.order(bound(low).as_ref()).is_ge() && shown.order(bound(high).as_ref()).is_le(), "{value}");
            } else {
                assert!((low..=high).contains(&value.to_string().as_str()), "{value}");
            }
        }
    };
    inside("1..100", LogicalType::Integer, "1", "100");
    inside("-1.50..2.25", LogicalType::Decimal { precision: 8, scale: 2 }, "-1.50", "2.25");
    inside("0..1", LogicalType::Real, "0", "1");
    inside("normal(6, 2) in 1..10", LogicalType::Integer, "1", "10");
    inside("2020-01-01..2020-01-31", LogicalType::Date, "2020-01-01", "2020-01-31");
    inside("2020-01-01..2020-01-31", LogicalType::Timestamp, "2020-01-01 00:00:00.000000", "2020-01-31 00:00:00.000000");
    inside("text(5..9)", LogicalType::TEXT, "12345", "123456789");
    inside("lognormal(40, 1) in 1..500", LogicalType::Integer, "1", "500");
    inside("exponential(3) in 0..20", LogicalType::Real, "0", "20");
    inside("zipf(1.1) in 5..9", LogicalType::Integer, "5", "9");
    inside("sequence(10, 5)", LogicalType::Integer, "10", "2505");
    inside("recent(2020-01-01..2020-01-31)", LogicalType::Date, "2020-01-01", "2020-01-31");
    inside("office(2020-01-06..2020-01-31)", LogicalType::Timestamp, "2020-01-06 00:00:00.000000", "2020-01-31 23:00:00.000000");
    inside("2020-01-01..2020-01-02", LogicalType::Integer, "1577836800", "1577923200");
    inside("hex(4..6)", LogicalType::TEXT, "1234", "123456");
    for text in values("{ size: 1..9, name: name, parts: list(words(1), 0..3), \"a \"\"b\": true or null 50% }", LogicalType::TEXT) {
        let text = text.to_string();
        assert!(text.starts_with("{\"size\": ") && text.ends_with('}') && text.contains("\"a \\\"b\""), "{text}");
    }
    let codes = values("code('AB-##@')", LogicalType::TEXT);
    assert!(codes.iter().all(|code| code.to_string().starts_with("AB-") && code.to_string().len() == 6));
    let calm = values("pick('calm' 9, 'lively' 1)", LogicalType::TEXT).iter().filter(|value| value.to_string() == "calm").count();
    assert!((420..480).contains(&calm), "{calm}");
}

#[test]
fn recipes_that_do_not_suit_are_refused() {
    assert_eq!(error("text(5)", LogicalType::Integer), "this makes text, but the column is integer");
    assert_eq!(error("9..1", LogicalType::Integer), "the range ends before it begins");
    assert_eq!(error("nromal(1, 2)", LogicalType::Real), "`nromal` is not a recipe");
    assert_eq!(error("pick('a')", LogicalType::Integer), "`a` is not integer");
    assert_eq!(error("text(0)", LogicalType::TEXT), "`text` takes a number of characters, from 1 on");
    assert_eq!(error("normal(5.5, 1.2) in 9..1", LogicalType::Real), "`in 9..1` has nothing inside");
    assert_eq!(error("1..3 in 1..2", LogicalType::Integer), "`in` bounds only distributions of numbers");
}
