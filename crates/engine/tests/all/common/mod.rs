//! Random schemas and needs, and the property that all contenders answer alike.

pub(crate) mod files;
pub(crate) mod needs;
pub(crate) mod schemas;
pub(crate) mod servers;

use std::io::Write;

use kampf_contest::{Agreement, Collect, Execution, Fetch, Field, Need, Restriction, Touch, compare, derive, evaluate};
use kampf_engine::{Connection, Engine, GeneratedRows};
use kampf_fill::Blueprint;
use kampf_schema::Schema;

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

/// Numbers that look drawn by chance and are the same each time, but for another seed.
pub(crate) fn mixed(number: u64) -> u32 {
    (number
        .wrapping_add(kampf_mangle::seed() << 32)
        .wrapping_add(1)
        .wrapping_mul(0x9e37_79b9_7f4a_7c15)
        .rotate_left(23)
        .wrapping_mul(0xbf58_476d_1ce4_e5b9)
        >> 33) as u32
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
        assert!(field.all().any(|other| other == *choices));
    }
    for (at, choices) in field.entered.iter().enumerate().skip(1) {
        let near = field.entered.iter().any(|other| choices.distance(other) == 1);
        assert!(near, "{choices} ({at}) differs from no other in one choice only\n{shown}");
    }
    // Of manners only the usual one is among the valid combinations; chunks count where they are so small that rows take several.
    let is_small = need.portions.iter().any(|&size| size < 10);
    let chunked = field.all().filter(|choices| is_small && choices.get() == Some(Fetch::Chunks));
    for choices in field.valid.iter().copied().chain(chunked) {
        let plan = derive(schema, need, engine.dialect(), &choices);
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
