use proptest::prelude::*;

use super::*;
use crate::place::Span;
use crate::value::{Decimal, Value};

fn at(text: &str) -> (String, usize) {
    let error = read_condition(text).unwrap_err();
    (error.message, error.span.start)
}

#[test]
fn a_condition_binds_not_before_and_before_or() {
    let read = read_condition("a = 1 or not b < 2.5 and c.d is not null").unwrap();
    assert_eq!(read.to_string(), "a = 1 or not b < 2.5 and not c.d is null");
    assert_eq!(read_condition("not not not a").unwrap().to_string(), "not a");
    assert_eq!(read_condition("(a or b) and c").unwrap().to_string(), "(a or b) and c");
    let words = "name in ('x', 'it''s') and day between 2026-01-01 and :until and remarks contains 'mite'";
    assert_eq!(read_condition(words).unwrap().to_string(), words);
}

#[test]
fn values_to_give_and_terms_to_sort_by_carry_their_places() {
    let give = read_give("avg(inspection.temper) as calm").unwrap();
    assert_eq!(give.to_string(), "avg(inspection.temper) as calm");
    assert_eq!(give.value.span, Span::new(0, 22));
    assert_eq!(give.alias.unwrap().span, Span::new(26, 30));
    assert!(read_order("calm DESC").unwrap().descending);
    assert!(!read_order("\"desc\" asc").unwrap().descending);
}

#[test]
fn mistakes_are_worded_and_placed() {
    assert_eq!(at("a = "), ("expected a value, a path or a function, found the end".to_owned(), 4));
    assert_eq!(at("a = 1 b"), ("`b` is not expected here".to_owned(), 6));
    assert_eq!(at("(a = 1"), ("expected `)`, found the end".to_owned(), 6));
    assert_eq!(at("a = 'x"), ("expected the closing quote, found the end".to_owned(), 6));
    assert_eq!(at("a = 2026-02-30").0, "expected a date that exists, like 2026-03-01 or 2026-03-01T07:30:00, found the end");
    assert_eq!(at("a is nothing"), ("expected `null`, found `nothing`".to_owned(), 5));
}

#[test]
fn what_is_nested_deeply_is_worded_too() {
    kampf_mangle::with_room(|| {
        for deep in ["(".repeat(10_000), "case when ".repeat(10_000), "not (".repeat(10_000), "count(a where ".repeat(1_000)] {
            assert!(at(&deep).0.starts_with("nested deeper"), "{}", at(&deep).0);
        }
        assert!(at(&format!("a{} = 1", " + a".repeat(10_000))).0.starts_with("more than 200 operators"));
        assert!(read_condition(&format!("{}a", "not ".repeat(10_000))).is_ok());
        assert!(read_condition(&format!("{}a = 1", "-".repeat(10_000))).is_ok());
    });
}

#[test]
fn mistakes_come_with_what_to_do() {
    let hint = |text: &str| read_give(text).unwrap_err().hint.unwrap_or_default();
    assert_eq!(hint("lowr(name)"), "did you mean `lower`?");
    assert!(hint("regexp_replace(name, 'a', 'b')").contains("SQL of your own"));
    assert_eq!(
        hint("inspection order mites"),
        "like `inspection order mites { … }`, or aggregate them, like `count(inspection order mites)`"
    );
    assert_eq!(hint("last(inspection order inspected_at)"), "name one, like `last(inspection order inspected_at).…`");
    let given = |text: &str| read_give(text).map(|give| give.to_string()).unwrap_or_else(|error| error.message);
    assert_eq!(given("inspection { mites"), "expected `}`, found the end");
    assert_eq!(given("inspection { mites } x"), "`x` is not expected here");
    assert_eq!(given("inspection limit few { mites }"), "expected a whole number, found `few`");
    assert_eq!(
        given("inspection limit 3 order mites { mites }"),
        "`order` is there twice, or in the wrong place: first `where`, then `order`, then `limit`"
    );
    assert_eq!(given("first(inspection order mites limit 3).mites"), "`limit` has no meaning here: one row is taken");
    assert_eq!(given(&"a { ".repeat(10_000)).split(" than").next(), Some("nested deeper"));
    assert!(hint("order").contains("double quotes"));
    assert!(hint("count(x) over (partition)").contains("SQL of your own"));
    assert_eq!(at("count(inspection order mites) > 3"), ("`order` has no meaning here: all rows count".to_owned(), 17));
    assert_eq!(at("substring(a, 1) = 'x'"), ("`substring` takes 3, not 2".to_owned(), 0));
    assert_eq!(at("a matches 'x\\d'"), ("`\\d` means different things to different engines".to_owned(), 13));
    assert_eq!(at("extract(fortnight from a) = 1").0, "`fortnight` is not a part of a time");
}

#[test]
fn the_forms_of_the_language_are_read() {
    for text in [
        "count() > 3",
        "count(inspection where mites > 3) >= 2",
        "count(distinct inspector from inspection where temper < 4) > 1",
        "avg(temper from inspection where mites > 3) > 5",
        "exists(weighing where kilograms > 60)",
        "case when frames > 8 then 'large' when frames is null then 'unknown' else 'small' end = 'large'",
        "start_of(month, inspected_at) = 2026-03-01",
        "extract(hour from inspected_at) between 6 and 9",
        "name || ' ' || \"order\" contains :part",
        "a - -5 - (b - c) * 2 % 7 > -(3)",
        "id in :list and not state in :states",
        "last(inspection where mites > 3 order inspected_at, temper desc).inspector.name = 'x'",
        "coalesce(first(weighing order kilograms).kilograms, 0) > 3",
        "if(:name, name contains :name) and if(:ids, id in :ids)",
        "a + b > 3 and -(a * b) < 0",
        "label matches '^HV-[0-9]+$'",
        "coalesce(nullif(name, ''), 'none') <> trim(name)",
    ] {
        let read = read_condition(text).unwrap_or_else(|error| panic!("{text}: {error:?}"));
        assert_eq!(read.to_string(), text);
    }
    assert_eq!(read_condition("(a + b) > 3").unwrap().to_string(), "a + b > 3");
}

#[test]
fn recipes_and_row_counts_read_and_print() {
    for text in [
        "1..100",
        "normal(6, 2) in 1..10",
        "pick('calm' 5, 'lively' 2, 'fierce')",
        "text(600) or null 30%",
        "text(20..600) or null 0.125%",
        "code('HV-####')",
        "2020-01-01..2026-06-30",
        "2020-01-01T00:00:00.000000..2026-06-30T12:00:00.000000",
        "'fixed'",
        "-1.50..2.25",
        "unique words(2)",
        "after(apiary.opened, '1 day'..'3 years')",
        "after(created_at, '1 minute'..'2 hours') or null 40%",
        "when(state, 'dead': null, 'weak': 1..3, else: normal(6, 2) in 1..10)",
        "{ colour: pick('red', 'blue'), size: 1..9 or null 10%, parts: list(words(1), 0..3), deep: { \"in\": true } }",
        "zipf(1.1) in 1..1000",
    ] {
        assert_eq!(read_recipe(text).unwrap().to_string(), text);
    }
    assert_eq!(read_row_count("200_000"), Ok(RowCount::Fixed(200_000)));
    let RowCount::Per { children, share, parent } = read_row_count("2.5..4 per hive").unwrap() else { panic!("not per parent") };
    let between = Children::Between(Decimal::parse("2.5").unwrap().into(), Value::Integer(4));
    assert_eq!((children, share, parent.text.as_str()), (between, 100, "hive"));
    for text in ["12 per hive", "poisson(2.5) per hive", "heavy(40) per 70% of hive", "1..1 per \"my hive\""] {
        assert_eq!(read_row_count(text).unwrap().to_string(), text);
    }
    for (wrong, message) in [
        ("many", "expected a number of rows, like 200_000 or `12 per apiary`, found `many`"),
        ("1..2", "expected `per` and the parent table, found the end"),
        ("-5", "expected `per` and the parent table, found the end"),
    ] {
        assert_eq!(read_row_count(wrong).unwrap_err().message, message);
    }
    assert_eq!(read_recipe("text(600) or null 130%").unwrap_err().message, "expected a percentage from 0 to 100, found `130`");
}

fn name() -> impl Strategy<Value = Name> {
    "[a-z_\" .]{1,8}".prop_map(|text| Name { text, span: Span::default() })
}

fn path() -> impl Strategy<Value = Vec<Name>> {
    prop::collection::vec(name(), 1..4)
}

fn leaf() -> impl Strategy<Value = Expr<Written>> {
    // Never a word of the grammar, which no parameter can be called by.
    let parameter =
        || name().prop_map(|name| Name { text: format!("p{}", name.text.replace(|c: char| !c.is_ascii_lowercase(), "p")), ..name });
    prop_oneof![
        any::<i64>().prop_map(|number| Node::Literal(Value::Integer(number))),
        (any::<i64>(), 1_u8..9).prop_map(|(units, scale)| Node::Literal(Decimal { units: units.into(), scale }.into())),
        "[a-z'é \\\\]{0,9}".prop_map(|text| Node::Literal(Value::Text(text.into()))),
        (-90_000_i32..90_000).prop_map(|days| Node::Literal(Value::Date(days))),
        any::<u32>().prop_map(|micros| Node::Literal(Value::Timestamp(i64::from(micros) * 1_000_003))),
        any::<bool>().prop_map(|truth| Node::Literal(Value::Boolean(truth))),
        Just(Node::Literal(Value::Null)),
        path().prop_map(|path| Node::Leaf(Written::Path(path))),
        parameter().prop_map(|name| Node::Leaf(Written::Parameter(name))),
    ]
    .prop_map(Expr::from)
}

fn aggregate(name: &str, distinct: bool, of: Option<Expr<Written>>, from: Option<WrittenSource>) -> Node<Written> {
    let name = Name { text: name.to_owned(), span: Span::default() };
    Node::Leaf(Written::Aggregate(Box::new(WrittenAggregate { name, distinct, of, from })))
}

fn expression() -> impl Strategy<Value = Expr<Written>> {
    leaf().prop_recursive(5, 32, 4, |inner| {
        let boxed = || inner.clone().prop_map(Box::new);
        let source = || {
            let source = |(path, filter)| WrittenSource { path, filter, order: Vec::new(), limit: None, span: Span::default() };
            (path(), prop::option::of(inner.clone())).prop_map(source)
        };
        let operators = [Operator::Add, Operator::Subtract, Operator::Multiply, Operator::Divide, Operator::Remainder, Operator::Join];
        let functions: Vec<Function> =
            vec![Function::Lower, Function::Extract(Part::Month), Function::StartOf(Part::Week), Function::Negate];
        prop_oneof![
            (prop::sample::select(operators.to_vec()), boxed(), boxed())
                .prop_map(|(operator, left, right)| Node::Arithmetic(operator, left, right)),
            (boxed(), boxed()).prop_map(|(left, right)| Node::Compare(Comparison::LessOrEqual, left, right)),
            (boxed(), prop::collection::vec(inner.clone(), 1..3)).prop_map(|(left, list)| Node::In(left, list)),
            (boxed(), boxed(), boxed()).prop_map(|(value, low, high)| Node::Between(value, low, high)),
            boxed().prop_map(Node::IsNull),
            boxed().prop_map(|text| Node::Fits(text, Pattern::written("^[a-c]+'x'?$").unwrap())),
            (prop::sample::select(TextMatch::ALL.to_vec()), boxed(), boxed())
                .prop_map(|(kind, text, pattern)| Node::Match(kind, text, pattern)),
            boxed().prop_filter("two nots cancel", |inner| !matches!(inner.node, Node::Not(_))).prop_map(Node::Not),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Node::And),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Node::Or),
            (prop::sample::select(functions), inner.clone())
                .prop_filter("two signs cancel", |(function, of)| {
                    *function != Function::Negate || !matches!(of.node, Node::Call(Function::Negate, _))
                })
                .prop_map(|(function, of)| Node::Call(function, vec![of])),
            prop::collection::vec(inner.clone(), 1..3).prop_map(|parts| Node::Call(Function::Coalesce, parts)),
            (prop::collection::vec((inner.clone(), inner.clone()), 1..3), prop::option::of(boxed()))
                .prop_map(|(cases, otherwise)| Node::Case(cases, otherwise)),
            (any::<bool>(), inner.clone(), prop::option::of(source())).prop_map(|(distinct, of, from)| aggregate(
                "sum",
                distinct,
                Some(of),
                from
            )),
            source().prop_map(|source| Node::Leaf(Written::Exists(Box::new(source)))),
            (any::<bool>(), source(), prop::collection::vec(order_term(inner.clone()), 1..3), path()).prop_map(
                |(last, source, order, path)| {
                    let source = WrittenSource { order, ..source };
                    Node::Leaf(Written::Pick(Box::new(WrittenPick { last, source, path, span: Span::default() })))
                }
            ),
        ]
        .prop_map(Expr::from)
    })
}

fn order_term(key: impl Strategy<Value = Expr<Written>>) -> impl Strategy<Value = OrderTerm> {
    (key, any::<bool>()).prop_map(|(key, descending)| OrderTerm { key, descending })
}

/// A value or a list, lists in lists among them.
fn give() -> impl Strategy<Value = Give> {
    let alias = || prop::option::of(name());
    let value = (expression(), alias()).prop_map(|(value, alias)| Give { value, alias });
    value.prop_recursive(3, 12, 3, move |inner| {
        let order = prop::collection::vec(order_term(leaf()), 0..3);
        let limit = prop::option::of(any::<u64>());
        (path(), prop::option::of(leaf()), order, limit, prop::collection::vec(inner, 1..4), alias()).prop_map(
            |(path, filter, order, limit, give, alias)| {
                let source = WrittenSource { path, filter, order, limit, span: Span::default() };
                Give { value: Node::Leaf(Written::List(Box::new(WrittenList { source, give }))).into(), alias }
            },
        )
    })
}

proptest! {
    #![proptest_config(kampf_mangle::property(256))]
    #[test]
    fn what_is_printed_reads_back(condition in expression()) {
        let printed = condition.to_string();
        let read = read_condition(&printed);
        prop_assert!(read.is_ok(), "{printed}: {read:?}");
        prop_assert_eq!(read.as_ref().unwrap().to_string(), printed);
    }

    #[test]
    fn what_is_given_reads_back(give in give()) {
        let printed = give.to_string();
        let read = read_give(&printed);
        prop_assert!(read.is_ok(), "{printed}: {read:?}");
        prop_assert_eq!(read.as_ref().unwrap().to_string(), printed);
    }

    #[test]
    fn no_text_makes_a_reader_panic(text in ".{0,60}", grammar in "[a-z0-9 ('\"):.,%=<>{}-]{0,60}") {
        for text in [text, grammar] {
            let _ = read_condition(&text);
            let _ = read_give(&text);
            let _ = read_order(&text);
            let _ = read_recipe(&text);
            let _ = read_row_count(&text);
        }
    }
}
