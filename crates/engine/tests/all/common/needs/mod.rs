//! Random schemas, rows and needs over the whole language, and the property that all contenders answer alike.

pub(crate) mod data;
mod writer;

use std::collections::BTreeMap;

use kampf_contest::{
    Agreement, Cache, Choices, Collect, Execution, Expect, Fetch, Field, Loading, Need, NeedText, PlainEvaluation, Reach, Reference,
    Restriction, RowSource, Touch, Unit, compare, derive, resolve,
};
use kampf_engine::{Connection, Engine, GeneratedRows};
use kampf_fill::Blueprint;
use kampf_schema::{Relations, Schema, Value};

pub(crate) use self::writer::random_need;
use super::Dice;

/// What was tried.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    pub(crate) needs: usize,
    pub(crate) accepted: usize,
    /// Those with numbers too large for their type.
    pub(crate) overflowed: usize,
    pub(crate) contenders: usize,
    /// Those that were passed over because their joins multiply rows too much.
    pub(crate) multiplied: usize,
    /// Answers of which it could not be told whether they are right.
    pub(crate) open: usize,
    /// How often rows were fetched in each way.
    pub(crate) manners: BTreeMap<String, usize>,
    /// How often each form of the language was in a need that was answered.
    pub(crate) forms: BTreeMap<&'static str, usize>,
}

/// Forms of the language, by what stands in the need's text.
const FORMS: [(&str, &str); 32] = [
    ("group", "group: Some"),
    ("distinct", "distinct: true"),
    ("head", "give: [\"count()"),
    ("expect", "expect: One"),
    ("condition of a source", " where "),
    ("distinct aggregate", "(distinct "),
    ("expression aggregated", " from "),
    ("exists", "exists("),
    ("list", "in :l"),
    ("optional", "if(:"),
    ("parameter", ":p"),
    ("case", "case when"),
    ("coalesce", "coalesce("),
    ("nullif", "nullif("),
    ("round", "round("),
    ("substring", "substring("),
    ("start_of", "start_of("),
    ("extract", "extract("),
    ("days_between", "days_between("),
    ("matches", " matches "),
    ("joined texts", " || "),
    ("quotient", " / "),
    ("remainder", " % "),
    ("text function", "lower("),
    ("first", "first("),
    ("last", "last("),
    ("rows", " } as g"),
    ("rows of rows", " } as i"),
    ("some rows of each", " limit 2 {"),
    ("no rows of each", " limit 0 {"),
    ("loading of a relation", "loading: [("),
    ("habit", "always: [("),
];

fn one_of<'a>(dice: &mut Dice, options: &[&'a str]) -> &'a str {
    options[dice.roll(options.len())]
}

/// Tries some random needs on loaded rows.
pub(crate) fn check_needs(
    engine: &'static dyn Engine,
    connection: &dyn Connection,
    dice: &mut Dice,
    (ddl, schema, blueprint): (&str, &Schema, &Blueprint),
    needs: usize,
    tally: &mut Tally,
) {
    let relations = Relations::of(schema);
    for _ in 0..needs {
        let (text, sets) = random_need(dice, schema, &relations);
        tally.needs += 1;
        let shown = format!("{ddl}\n{text:?}\n{sets:?}");
        match resolve(schema, &relations, &text) {
            Ok(need) => check_need(engine, connection, (schema, blueprint), &need, &sets, &shown, dice, tally),
            Err(error) => {
                if std::env::var_os("KAMPF_REFUSED").is_some() {
                    told(&format!("{error}: {text:?}"));
                }
            }
        }
    }
}

/// Most contenders of one need that are tried in the usual manner, and how many in any.
const MOST: usize = 14;
const MANNERS: usize = 8;

/// Rows that a join may bring, by estimate.
const MOST_ROWS: f64 = 50_000.0;

/// A few root rows worked out by themselves: those that belong to the answer are in it.
fn roots_are_like_the_answer(schema: &Schema, need: &Need, rows: &GeneratedRows<'_>, set: &[Value], reference: &Reference) {
    if need.group.is_some() {
        return;
    }
    let count = rows.count(need.root());
    let roots: Vec<u64> = (0..count).step_by(3.max(usize::try_from(count).unwrap() / 20)).collect();
    let some = PlainEvaluation::of_roots(schema, need, rows, &roots);
    for row in roots {
        let root = some.root(row, set).expect("all rows were worked out");
        assert!(!root.taken || reference.rows.contains(&root.values), "{need:?}\n{set:?}\n{root:?}");
        assert!(!root.taken || need.order.is_empty() || reference.keys.contains(&root.keys), "{need:?}\n{set:?}\n{root:?}");
    }
}

#[expect(clippy::too_many_arguments, reason = "what a failure is to be told with comes along")]
fn check_need(
    engine: &'static dyn Engine,
    connection: &dyn Connection,
    (schema, blueprint): (&Schema, &Blueprint),
    need: &Need,
    sets: &[Vec<Value>],
    shown: &str,
    dice: &mut Dice,
    tally: &mut Tally,
) {
    let rows = GeneratedRows(blueprint);
    let evaluation = PlainEvaluation::of(schema, need, &rows);
    let references = evaluation.overflows().and_then(|()| sets.iter().map(|set| evaluation.answer(set)).collect::<Result<Vec<_>, _>>());
    let Ok(references) = references else {
        tally.overflowed += 1;
        return;
    };
    tally.accepted += 1;
    sets.iter().zip(&references).for_each(|(set, reference)| roots_are_like_the_answer(schema, need, &rows, set, reference));
    for (form, sign) in FORMS {
        if shown.contains(sign) {
            *tally.forms.entry(form).or_default() += 1;
        }
    }
    let field = Field::of(schema, need, engine.dialect(), &Restriction::default());
    let all: Vec<Choices> = field.all().collect();
    for choices in &field.entered {
        assert!(all.contains(choices), "{choices} entered and is not valid\n{shown}");
    }
    for (at, choices) in field.entered.iter().enumerate().skip(1) {
        let near = field.entered.iter().any(|other| choices.distance(other) == 1);
        assert!(near, "{choices} ({at}) differs from no other in one choice only\n{shown}");
    }
    // A relation may be fixed to what cannot be.
    let is_fixed = need.sources.iter().any(|source| source.fixed.is_some());
    assert!(is_fixed || !field.entered.is_empty(), "nobody enters\n{shown}");
    let mut chosen = field.entered.clone();
    let others: Vec<_> = field.valid.iter().filter(|choices| !field.entered.contains(choices)).collect();
    let first = if others.is_empty() { 0 } else { dice.roll(others.len()) };
    chosen.extend((0..others.len()).map(|at| *others[(first + at * 7) % others.len()]));
    chosen.truncate(MOST);
    // Those that differ from them in how rows are fetched, statements sent and answers kept.
    let chunks: Vec<Choices> = all.iter().copied().filter(|choices| choices.get() == Some(Fetch::Chunks)).collect();
    for (from, many) in [(&all, MANNERS - 3), (&chunks, 3)] {
        if !from.is_empty() {
            chosen.extend((0..many).map(|_| from[dice.roll(from.len())]));
        }
    }
    // A statement for each of very many rows takes minutes.
    if schema.ids().any(|table| blueprint.rows(table) > 100_000) {
        chosen.retain(|choices| choices.get() != Some(Loading::Lazy));
        chosen.truncate(5);
    }
    let rows_of = |table: &str| schema.find(table).map_or(1, |table| blueprint.rows(table));
    for choices in &chosen {
        let _told = ToldOnPanic(&|| format!("{choices}\n{shown}"));
        let plan = derive(schema, need, engine.dialect(), choices);
        // Joined lists multiply each other without bound.
        if (0..plan.nodes.len()).any(|with| plan.multiplied(with, &rows_of, None).rows > MOST_ROWS) {
            tally.multiplied += 1;
            continue;
        }
        let mut session = connection.session();
        let mut execution = Execution::new(plan.clone(), engine.dialect());
        let manner = plan.manner.clone();
        let keeps = manner.cache == Cache::Warm;
        // What was kept is given again.
        let calls = || sets.iter().zip(&references).cycle().take(sets.len() * if keeps { 2 } else { 1 });
        for (set, reference) in calls() {
            let mut collect = Collect::default();
            let context = || format!("{choices}\n{shown}\n{}\nwith {set:?}", plan.statements(engine.dialect()).join("\n"));
            let called = execution.call(session.as_mut(), set, &mut collect);
            called.unwrap_or_else(|error| panic!("{error}\n{}\n{}", error.sql.clone().unwrap_or_default(), context()));
            match compare(reference, need.limit, &collect.answer) {
                Agreement::Same => {}
                Agreement::Undecided(_) => tally.open += 1,
                Agreement::Differs(difference) => {
                    panic!("{}\n{difference:?}\nexpected {:?}\nfound {:?}", context(), reference.rows, collect.answer)
                }
            }
        }
        session.count();
        session.observe();
        execution.call(session.as_mut(), &sets[0], &mut Touch::default()).unwrap();
        let counted = session.counted().statements;
        let observed = session.observed().len() as u64;
        *tally.manners.entry(format!("{:?}", manner.fetch)).or_default() += 1;
        // What a cursor's transaction is begun and ended by is the driver's own.
        if manner.fetch != Fetch::Stream {
            assert_eq!(counted, observed, "{choices}\n{shown}");
        }
        assert!(!keeps || counted == 0, "{choices} asks for what it has kept\n{shown}");
        tally.contenders += 1;
        if manner.fetch != Fetch::Whole || manner.unit == Unit::One {
            continue;
        }
        // Who does not ask for each parent by itself sends each statement once: there are fewer keys than one list takes.
        let is_lazy = plan.nodes.iter().any(|node| node.link.as_ref().is_some_and(|link| link.reach == Reach::Lazy));
        let own = plan.nodes.iter().filter(|node| node.statement.is_some()).count() as u64;
        assert!(is_lazy || counted <= 1 + own, "{choices} sends {counted} statements\n{shown}");
    }
}

/// Tells what was being tried where something panics.
struct ToldOnPanic<'a>(&'a dyn Fn() -> String);

impl Drop for ToldOnPanic<'_> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            told(&self.0());
        }
    }
}

impl Tally {
    /// That enough of what was tried was answered, and every form among it.
    pub(crate) fn is_enough(&self) {
        told(&format!("{self:?}"));
        assert!(self.accepted * 2 >= self.needs, "hardly half of the needs were accepted: {self:?}");
        assert!(self.open * 50 <= self.contenders, "of too many answers it is not known whether they are right: {self:?}");
        if self.accepted >= 150 {
            let missing: Vec<_> = FORMS.iter().map(|(form, _)| *form).filter(|form| !self.forms.contains_key(form)).collect();
            assert!(missing.is_empty(), "no need had {missing:?}");
        }
    }
}

/// Not by a macro, whose words the tests' runner would keep to itself.
pub(crate) fn told(text: &str) {
    let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("{text}\n").as_bytes());
}

/// How many schemas are tried: so many, or as many as `KAMPF_NEEDS` asks for, with five needs each.
pub(crate) fn schemas(usual: u32) -> u32 {
    std::env::var("KAMPF_NEEDS").ok().and_then(|needs| needs.parse::<u32>().ok()).map_or(usual, |needs| needs.div_ceil(5))
}

/// A need of every form that sends statements of its own, over a table, a parent, a text, a child and a number of that; with
/// parameters.
pub(crate) fn every_form(root: &str, parent: &str, text: &str, child: &str, number: &str) -> Vec<(NeedText, Vec<Value>)> {
    let texts = |texts: &[String]| texts.to_vec();
    let need = |give: &[String]| NeedText { from: root.into(), give: texts(give), ..NeedText::default() };
    let (name, average) = (format!("{parent}.name"), format!("avg({child}.{number})"));
    let some = format!("count({child} where {number} > 5)");
    vec![
        (NeedText { order: vec![text.into()], limit: Some(30), ..need(&[name.clone(), average.clone()]) }, vec![]),
        (NeedText { order: vec![format!("{some} desc")], limit: Some(9), ..need(&[text.into(), format!("{some} as many")]) }, vec![]),
        (
            NeedText { filter: Some(format!("exists({child} where {number} > 8)")), ..need(&[text.into(), format!("upper({name}) as x")]) },
            vec![],
        ),
        (
            NeedText { group: Some(vec![format!("{name} as n")]), ..need(&["n".into(), "count()".into(), format!("sum({some}) as all")]) },
            vec![],
        ),
        (need(&["count()".into()]), vec![]),
        (NeedText { distinct: true, order: vec![name.clone()], ..need(std::slice::from_ref(&name)) }, vec![]),
        (
            NeedText { filter: Some("id in :ids".into()), parameters: vec!["ids".into()], ..need(&[text.into(), name.clone()]) },
            vec![Value::List([1, 2, 3].map(Value::Integer).into())],
        ),
        (
            NeedText {
                filter: Some(format!("if(:part, {text} contains :part) and if(:name, {name} = :name)")),
                parameters: vec!["part".into(), "name".into()],
                ..need(&[text.into(), average])
            },
            vec![Value::from("1"), Value::Null],
        ),
        (
            NeedText { filter: Some("id = :id".into()), parameters: vec!["id".into()], expect: Expect::One, ..need(&[text.into(), name]) },
            vec![Value::Integer(3)],
        ),
        (NeedText { expect: Expect::ZeroOrOne, ..need(&[text.into(), some]) }, vec![]),
        (
            need(&[text.into(), format!("last({child} order {number}).id as newest"), format!("first({child} order id).{number} as old")]),
            vec![],
        ),
        (
            NeedText {
                order: vec![text.into()],
                limit: Some(20),
                ..need(&[text.into(), format!("{child} where {number} > 2 order {number}, id desc limit 3 {{ id, {number} }} as worst")])
            },
            vec![],
        ),
        (
            NeedText {
                from: parent.into(),
                ..need(&["name".into(), format!("{root} {{ {text}, {child} {{ {number} }} as all, count({child}) }} as those")])
            },
            vec![],
        ),
        (
            NeedText {
                loading: vec![(child.into(), Loading::Batched)],
                ..need(&[text.into(), format!("{parent}.name"), format!("{child} order id limit 1 {{ {number} }} as one")])
            },
            vec![],
        ),
        (
            NeedText {
                filter: Some(format!("{text} matches '1'")),
                limit: Some(5),
                ..need(&[text.into(), format!("max({number} from {child} where id % 2 = 0) as m")])
            },
            vec![],
        ),
    ]
}
