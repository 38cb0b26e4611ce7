use super::*;
use crate::layers::Accumulator;

#[test]
fn aggregates_mean_what_they_say_and_the_layers_have_come_to_the_same_by_themselves() {
    let cents = |units: i128| Value::Decimal(units.into(), 2);
    let reals = [1e100, 1.0, -1e100, 1e-9].map(Value::Real);
    let cases: [(Aggregate, &[Value], Value); 12] = [
        (Aggregate::Count, &[], Value::Integer(0)),
        (Aggregate::Count, &[Value::from("a"), Value::from("a")], Value::Integer(2)),
        (Aggregate::Sum, &[], Value::Null),
        (Aggregate::Sum, &[cents(10), cents(20)], cents(30)),
        (Aggregate::Sum, &[Value::Integer(3), Value::Integer(-5)], Value::Integer(-2)),
        (Aggregate::Sum, &[Value::Integer(i64::MAX), Value::Integer(1)], Value::Decimal((i128::from(i64::MAX) + 1).into(), 0)),
        (Aggregate::Sum, &reals[..3], Value::Real(1.0)),
        (Aggregate::Avg, &[Value::Integer(1), Value::Integer(2)], Value::Real(1.5)),
        (Aggregate::Avg, &[cents(10), cents(15)], Value::Real(0.125)),
        (Aggregate::Avg, &[Value::Real(0.5), Value::Real(0.25)], Value::Real(0.375)),
        (Aggregate::Min, &[Value::Date(7), Value::Date(-3), Value::Date(9)], Value::Date(-3)),
        (Aggregate::Max, &[Value::from("b"), Value::from("ä"), Value::from("a")], Value::from("ä")),
    ];
    for (function, values, expected) in cases {
        assert_eq!(aggregate(function, values.to_vec()), expected, "{function:?} of {values:?}");
        let mut accumulator = Accumulator::new(function);
        values.iter().for_each(|value| accumulator.value(value.as_ref()));
        assert!(accumulator.finish().as_ref().agrees_with(expected.as_ref()), "{function:?} of {values:?}");
    }
    // A thousand small ones that would each be lost beside the large one.
    let many: Vec<Value> = std::iter::once(1e16).chain(std::iter::repeat_n(0.1, 1000)).map(Value::Real).collect();
    assert_eq!(real_sum(&many), 1e16 + 100.0);
}

#[test]
fn what_becomes_too_large_is_found_on_rows_that_nobody_asks_for() {
    struct Rows;
    impl RowSource for Rows {
        fn count(&self, _: TableId) -> u64 {
            4
        }

        /// The second hive refers to the first apiary; the last apiary is the highest and nobody refers to it. The other hives
        /// have no apiary, and more frames together than a number holds.
        fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
            match (table, column) {
                (_, 0) => Value::Integer(row as i64),
                (TableId(0), 1) => Value::Integer(if row == 3 { i64::MAX } else { 1 }),
                (TableId(1), 1) if row == 1 => Value::Integer(0),
                (TableId(1), 2) => Value::Integer(i64::MAX / 2),
                _ => Value::Null,
            }
        }
    }
    let sql = "CREATE TABLE apiary (id INTEGER PRIMARY KEY, altitude INTEGER);
        CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER REFERENCES apiary, frames INTEGER)";
    let schema = kampf_schema::ddl::read(sql).expect("the schema is right").schema;
    let told = |from: &str, give: &str| {
        let text = crate::NeedText { from: from.into(), give: vec![give.into()], ..Default::default() };
        let need = crate::resolve(&schema, &kampf_schema::Relations::of(&schema), &text).expect("the need is right");
        let told = PlainEvaluation::of(&schema, &need, &Rows).overflows();
        assert!(evaluate(&schema, &need, &Rows, &[]).is_ok() || from == "apiary");
        told.err().map(|overflow| overflow.what)
    };
    assert_eq!(told("apiary", "altitude - 1"), None);
    assert_eq!(told("apiary", "altitude + 1").as_deref(), Some("altitude + 1"));
    assert_eq!(told("hive", "sum(altitude + 1 from apiary.hive.apiary)").as_deref(), Some("apiary.hive.apiary.altitude + 1"));
    assert_eq!(told("hive", "apiary.altitude + 1").as_deref(), Some("apiary.altitude + 1"));
    assert_eq!(told("hive", "id + apiary.altitude"), None, "there are no more rows of both than are referred to");
    assert_eq!(told("apiary", "sum(hive.frames)").as_deref(), Some("sum(frames from hive)"));
    assert_eq!(told("apiary", "coalesce(id, sum(hive.frames))").as_deref(), Some("sum(frames from hive)"));
    assert_eq!(told("apiary", "count(hive where apiary.altitude * 9 > 0)").as_deref(), Some("hive.apiary.altitude * 9"));
}
