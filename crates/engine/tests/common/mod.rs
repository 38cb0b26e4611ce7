//! Random schemas and needs, and the property that all contenders answer alike.

#![allow(dead_code, reason = "each test uses its part")]

pub(crate) mod servers;

use std::io::Write;

use kampf_contest::{Agreement, Collect, Execution, Field, Need, NeedText, Restriction, Touch, compare, derive, evaluate};
use kampf_engine::{Connection, Engine, GeneratedRows};
use kampf_fill::{Blueprint, Order};
use kampf_schema::{HopKind, Relations, Schema, TableId, ddl, expr};

/// A stream of choices drawn by proptest, so that cases shrink.
pub(crate) struct Dice(pub(crate) Vec<u32>, pub(crate) usize);

impl Dice {
    pub(crate) fn roll(&mut self, sides: usize) -> usize {
        self.1 += 1;
        self.0.get(self.1 - 1).map_or(0, |number| *number as usize % sides)
    }
}

/// Whether an engine can be had here; where servers are required, its absence is a failure.
pub(crate) fn is_here(engine: &dyn Engine) -> bool {
    let missing = match engine.version(None) {
        Ok(_) => return true,
        Err(error) => error,
    };
    assert!(std::env::var("KAMPF_REQUIRE_SERVERS").as_deref() != Ok("1"), "{missing}");
    // Not by a macro, whose words the tests' runner would keep to itself.
    let _ = writeln!(std::io::stderr(), "skipped: {missing}");
    false
}

/// Numbers that look drawn by chance and are the same each time.
pub(crate) fn mixed(number: u64) -> u32 {
    (number.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(23).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 33) as u32
}

fn random_ddl(dice: &mut Dice) -> String {
    let tables = 1 + dice.roll(4);
    let mut ddl = String::new();
    for table in 0..tables {
        let mut parts = Vec::new();
        let text_key = dice.roll(4) == 0;
        let keyed = dice.roll(8) != 0;
        match (keyed, text_key) {
            (true, true) => parts.push("id VARCHAR(90) PRIMARY KEY".to_owned()),
            (true, false) => parts.push("id INTEGER PRIMARY KEY".to_owned()),
            _ => parts.push("no INTEGER".to_owned()),
        }
        for parent in 0..table {
            if dice.roll(4) != 0 && ddl.contains(&format!("CREATE TABLE t{parent} (id")) {
                let kind = if ddl.contains(&format!("CREATE TABLE t{parent} (id V")) { "VARCHAR(90)" } else { "INTEGER" };
                let not_null = if dice.roll(2) == 0 { " NOT NULL" } else { "" };
                parts.push(format!("p{parent}_id {kind}{not_null} REFERENCES t{parent}"));
            }
        }
        if keyed && dice.roll(5) == 0 {
            let kind = if text_key { "VARCHAR(90)" } else { "INTEGER" };
            parts.push(format!("up_id {kind} REFERENCES t{table}"));
        }
        for (column, kind) in ["INTEGER", "DECIMAL(9, 2)", "REAL", "VARCHAR(80)", "BOOLEAN", "DATE", "TIMESTAMP"].iter().enumerate() {
            if dice.roll(2) == 0 {
                parts.push(format!("c{column} {kind}{}", if dice.roll(2) == 0 { " NOT NULL" } else { "" }));
            }
        }
        if parts.len() == 1 {
            parts.push("c0 INTEGER".to_owned());
        }
        ddl += &format!("CREATE TABLE t{table} ({});\n", parts.join(", "));
    }
    ddl
}

/// A walk along relations, with the names walked.
fn walk(dice: &mut Dice, schema: &Schema, relations: &Relations, root: TableId) -> (Vec<String>, TableId, bool) {
    let (mut names, mut at, mut many) = (Vec::new(), root, false);
    for _ in 0..dice.roll(4) {
        let next: Vec<_> = relations.from(at).collect();
        if next.is_empty() {
            break;
        }
        let relation = next[dice.roll(next.len())];
        names.push(relation.name.clone());
        many |= relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
        at = relation.hops.last().map_or(at, |hop| hop.to);
    }
    debug_assert!(at.0 < schema.tables.len());
    (names, at, many)
}

fn term(dice: &mut Dice, schema: &Schema, relations: &Relations, root: TableId) -> String {
    let (names, at, many) = walk(dice, schema, relations, root);
    let columns = &schema.table(at).columns;
    let column = &columns[dice.roll(columns.len())];
    let path = names.iter().chain([&column.name]).cloned().collect::<Vec<_>>().join(".");
    if !many {
        return path;
    }
    match dice.roll(4) {
        0 => format!("count({})", names.join(".")),
        1 if column.kind.is_number() => format!("sum({path})"),
        2 if column.kind.is_number() => format!("avg({path})"),
        3 if !matches!(column.kind, kampf_schema::LogicalType::Boolean) => format!("max({path})"),
        _ => format!("count({path})"),
    }
}

pub(crate) fn random_need(dice: &mut Dice, schema: &Schema, relations: &Relations) -> NeedText {
    let root = TableId(dice.roll(schema.tables.len()));
    let mut text = NeedText { from: schema.table(root).name.clone(), ..NeedText::default() };
    for number in 0..1 + dice.roll(4) {
        text.give.push(format!("{} as g{number}", term(dice, schema, relations, root)));
    }
    let mut conditions = Vec::new();
    for _ in 0..dice.roll(4) {
        let subject = term(dice, schema, relations, root);
        conditions.push(match dice.roll(7) {
            0 => format!("{subject} is null"),
            1 => format!("not {subject} is null"),
            2 => format!("{subject} = {subject}"),
            3 => format!(
                "count({}) > 1",
                relations
                    .from(root)
                    .find(|relation| relation.hops.iter().any(|hop| hop.kind == HopKind::Many))
                    .map_or("x", |relation| relation.name.as_str())
            ),
            4 => format!("{subject} between 10 and 500"),
            5 => format!("{subject} contains 'a'"),
            _ => format!("{subject} >= 50"),
        });
    }
    if !conditions.is_empty() {
        text.filter = Some(conditions.join(if dice.roll(2) == 0 { " and " } else { " or " }));
    }
    for _ in 0..dice.roll(3) {
        text.order.push(format!("{}{}", term(dice, schema, relations, root), if dice.roll(2) == 0 { " desc" } else { "" }));
    }
    if dice.roll(2) == 0 {
        text.limit = Some(dice.roll(12) as u64);
    }
    text
}

/// A random schema with rows for it.
pub(crate) fn random_data(dice: &mut Dice) -> (String, Schema, Blueprint) {
    let ddl = random_ddl(dice);
    let schema = ddl::read(&ddl).unwrap().schema;
    let rows = schema.ids().map(|id| (id, expr::read_row_count(["7", "25", "40"][dice.roll(3)]).unwrap())).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: dice.roll(1000) as u64, ..Order::default() }).unwrap();
    (ddl, schema, blueprint)
}

/// Asserts that all contenders of a need answer like the plain evaluation, and count the statements that were observed.
pub(crate) fn check_need(
    engine: &'static dyn Engine,
    connection: &dyn Connection,
    schema: &Schema,
    need: &Need,
    blueprint: &Blueprint,
    shown: &str,
) -> usize {
    let reference = evaluate(schema, need, &GeneratedRows(blueprint), &[]).unwrap();
    let field = Field::of(schema, need, engine.dialect(), &Restriction::default());
    for choices in &field.entered {
        assert!(field.valid.contains(choices));
    }
    for (at, choices) in field.entered.iter().enumerate().skip(1) {
        let near = field.entered.iter().any(|other| choices.distance(other) == 1);
        assert!(near, "{choices} ({at}) differs from no other in one choice only\n{shown}");
    }
    for choices in &field.valid {
        let plan = derive(schema, need, engine.dialect(), choices);
        let mut session = connection.session();
        let mut execution = Execution::new(plan.clone(), engine.dialect());
        let mut collect = Collect::default();
        let context = || format!("{choices}\n{shown}\n{}", plan.statements(engine.dialect()).join("\n"));
        execution.call(session.as_mut(), &[], &mut collect).unwrap_or_else(|error| panic!("{error}\n{}", context()));
        let agreement = compare(&reference, need.limit, &collect.answer);
        assert_eq!(
            agreement,
            Agreement::Same,
            "{}\nexpected {:?}\nfound {:?}",
            context(),
            reference.answer(need.limit),
            collect.answer.rows
        );
        session.count();
        session.observe();
        execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        assert_eq!(session.counted().statements, session.observed().len() as u64);
    }
    field.valid.len()
}
