//! The layers over a database that is only a table of rows in memory: what they send, when, and what they make of it.

use std::collections::HashMap;

use crate::common::{OTHER, need, schema, text};
use kampf_contest::{
    BulkInto, Cache, Choices, Collect, EngineError, EngineErrorKind, Execution, Fetch, Flow, GroupUnit, Grouped, Hydration, Loading,
    NeedText, Observed, Plan, Portions, QueryPlan, Sent, Session, Sink, StatementId, Touch, Traffic, Unit, derive,
};
use kampf_schema::{LogicalType, Schema, Value, ValueRef};

/// Answers statements by what they ask of which table: rows by the first words behind FROM and the parameters.
#[derive(Default)]
struct Scripted {
    /// Rows for the text between FROM and the next line, where a parameter is given only those whose key column has it.
    tables: HashMap<&'static str, (usize, Vec<Vec<Value>>)>,
    prepared: Vec<String>,
    /// What was sent, with the parameters.
    sent: Vec<(String, Vec<Value>)>,
    /// Rows that were handed over.
    rows: u64,
    /// Fails from this statement on.
    fails_at: Option<usize>,
}

impl Scripted {
    fn table(mut self, name: &'static str, key: usize, rows: Vec<Vec<Value>>) -> Scripted {
        self.tables.insert(name, (key, rows));
        self
    }

    fn of_table(&self, name: &str) -> usize {
        self.sent.iter().filter(|(sql, _)| first_table(sql) == name).count()
    }
}

/// The table that a statement reads first.
fn first_table(statement: &str) -> &str {
    statement.split("FROM [").nth(1).and_then(|rest| rest.split(']').next()).unwrap_or_default()
}

impl Scripted {
    /// The rows of a statement's table that have one of its parameters as their key; without parameters all.
    fn rows_of(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>]) -> Result<Vec<Vec<Value>>, EngineError> {
        let sql = match statement {
            Sent::Kept(id) => self.prepared[id.0].clone(),
            Sent::Text { sql, .. } => sql.to_owned(),
        };
        if self.fails_at == Some(self.sent.len()) {
            return Err(EngineError { kind: EngineErrorKind::Unreachable, message: "gone".to_owned(), sql: Some(sql), cause: None });
        }
        self.sent.push((sql.clone(), parameters.iter().map(|value| value.to_value()).collect()));
        let Some((key, rows)) = self.tables.get(first_table(&sql)) else { return Ok(Vec::new()) };
        let wanted = |row: &&Vec<Value>| parameters.is_empty() || parameters.iter().any(|value| *value == row[*key].as_ref());
        Ok(rows.iter().filter(wanted).cloned().collect())
    }
}

impl Session for Scripted {
    fn bulk(&mut self, into: &BulkInto<'_>, _: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError> {
        panic!("nothing is written to {} here", into.table)
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    fn prepare(&mut self, sql: &str, _: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        self.prepared.push(sql.to_owned());
        Ok(StatementId(self.prepared.len() - 1))
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        let list = self.prepared[statement.0].split("FROM").next().unwrap_or_default();
        list.split(',').map(|column| column.trim().to_owned()).collect()
    }

    fn carry_out(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<Option<u64>, EngineError> {
        let rows = self.rows_of(statement, parameters)?;
        for row in rows {
            let values: Vec<ValueRef<'_>> = row.iter().map(Value::as_ref).collect();
            self.rows += 1;
            if sink.row(&values) == Flow::Stop {
                break;
            }
        }
        Ok(None)
    }

    fn stream(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], size: u32, to: &mut dyn Portions) -> Result<(), EngineError> {
        let rows = self.rows_of(statement, parameters)?;
        for portion in rows.chunks(size as usize) {
            for row in portion {
                let values: Vec<ValueRef<'_>> = row.iter().map(Value::as_ref).collect();
                self.rows += 1;
                to.row(&values);
            }
            if to.portion(self)? == Flow::Stop {
                break;
            }
        }
        Ok(())
    }

    fn group(&mut self, group: &mut [Grouped<'_>], _: GroupUnit) -> Result<(), EngineError> {
        group.iter_mut().try_for_each(|one| self.run(one.statement, one.parameters, one.sink))
    }

    fn count(&mut self) {}

    fn counted(&mut self) -> Traffic {
        Traffic::default()
    }

    fn observe(&mut self) {}

    fn observed(&mut self) -> Vec<Observed> {
        Vec::new()
    }

    fn explain(&mut self, _: &str, _: &[ValueRef<'_>], _: bool) -> Result<QueryPlan, EngineError> {
        Ok(QueryPlan::default())
    }
}

fn plan(schema: &Schema, text: &NeedText, name: &str) -> Plan {
    crate::common::plan(schema, &need(schema, text), name)
}

fn integer(number: i64) -> Value {
    Value::Integer(number)
}

fn word(text: &str) -> Value {
    Value::from(text)
}

/// Hives of two apiaries, one of them without a mother; columns in the order in which the plans ask for them.
fn mothers() -> NeedText {
    text("hive", &["label", "mother.label"], "", &[], None)
}

#[test]
fn a_null_reference_sends_no_statement_and_gives_null() {
    let schema = schema();
    // Fetched are id, mother_id and label.
    let rows =
        vec![vec![integer(1), Value::Null, word("A")], vec![integer(2), integer(1), word("B")], vec![integer(3), integer(1), word("C")]];
    let answer = |name: &str| {
        let mut session = Scripted::default().table("hive", 0, rows.clone());
        let mut collect = Collect::default();
        Execution::new(plan(&schema, &mothers(), name), &OTHER).call(&mut session, &[], &mut collect).unwrap();
        (collect.answer.rows, session)
    };
    let expected = vec![vec![word("A"), Value::Null], vec![word("B"), word("A")], vec![word("C"), word("A")]];
    let (found, session) = answer("lazy.needed.record");
    assert_eq!(found, expected);
    assert_eq!(session.of_table("hive"), 1 + 2, "one statement for each mother that there is: {:?}", session.sent);
    let (found, session) = answer("batched.needed.record");
    assert_eq!(found, expected);
    let lists: Vec<&Vec<Value>> = session.sent.iter().map(|(_, parameters)| parameters).filter(|list| !list.is_empty()).collect();
    assert_eq!(lists, [&vec![integer(1)]], "each key stands in the list once");
}

#[test]
fn the_identity_map_answers_for_parents_it_knows() {
    let schema = schema();
    let text = text("hive", &["label", "apiary.name"], "", &[], None);
    // All columns of hive, then all of apiary.
    let hive =
        |id: i64, apiary: i64| vec![integer(id), integer(apiary), Value::Null, word("H"), Value::Null, Value::Boolean(true), Value::Null];
    let apiaries =
        vec![vec![integer(7), integer(1), word("Talva"), Value::Null], vec![integer(8), integer(1), word("Morrin"), Value::Null]];
    let hives = vec![hive(1, 7), hive(2, 7), hive(3, 8), hive(4, 7)];
    let sent = |name: &str| {
        let mut session = Scripted::default().table("hive", 0, hives.clone()).table("apiary", 0, apiaries.clone());
        let mut execution = Execution::new(plan(&schema, &text, name), &OTHER);
        let mut collect = Collect::default();
        execution.call(&mut session, &[], &mut collect).unwrap();
        assert_eq!(
            collect.answer.rows.iter().map(|row| row[1].clone()).collect::<Vec<_>>(),
            ["Talva", "Talva", "Morrin", "Talva"].map(word)
        );
        (session.of_table("apiary"), execution.objects())
    };
    assert_eq!(sent("lazy.all.managed"), (2, 4 + 2), "a managed parent is asked for once");
    assert_eq!(sent("lazy.all.plain"), (4, 4 + 4), "a plain one each time it is touched");
    assert_eq!(sent("batched.all.plain"), (1, 4 + 2));
}

#[test]
fn lists_stay_within_the_parameter_limit() {
    let schema = schema();
    let text = text("apiary", &["name", "count(hive) as hives"], "", &[], None);
    let apiaries: Vec<Vec<Value>> = (0..250).map(|id| vec![integer(id), word("A")]).collect();
    let hives: Vec<Vec<Value>> = (0..500).map(|id| vec![integer(id % 250)]).collect();
    let mut session = Scripted::default().table("apiary", 0, apiaries).table("hive", 0, hives);
    let mut collect = Collect::default();
    let mut execution = Execution::new(plan(&schema, &text, "batched.needed.record"), &OTHER);
    execution.call(&mut session, &[], &mut collect).unwrap();
    let sizes: Vec<usize> =
        session.sent.iter().filter(|(sql, _)| first_table(sql) == "hive").map(|(_, parameters)| parameters.len()).collect();
    assert_eq!(sizes, [100, 100, 50], "the dialect allows 100 parameters");
    assert!(collect.answer.rows.iter().all(|row| row[1] == integer(2)));
    // Statements are prepared once for each length and kept for the next call.
    let prepared = session.prepared.len();
    execution.call(&mut session, &[], &mut Collect::default()).unwrap();
    assert_eq!(session.prepared.len(), prepared);
}

#[test]
fn rows_that_a_join_repeats_are_recognised() {
    let schema = schema();
    let text = text("apiary", &["name", "count(hive) as hives", "count(visit) as days"], "", &[], None);
    let choices = kampf_contest::Field::of(&schema, &need(&schema, &text), &OTHER, &Default::default());
    // Visits have no key, so they cannot be joined with hives; hives alone can.
    assert!(choices.not_derived.iter().any(|not| not.reason.contains("rows that a join repeats")));
    let text = crate::common::text("apiary", &["name", "count(hive) as hives", "max(hive.inspection.temper) as worst"], "", &[], None);
    let plan = plan(&schema, &text, "joined.needed.record");
    let width = plan.root.columns.len();
    let names: Vec<&str> = plan.root.columns.iter().map(|column| column.name.as_str()).collect();
    // Apiary 1 with two hives, the first with two inspections, the second with none; apiary 2 with none.
    let row = |apiary: i64, hive: Option<i64>, inspection: Option<(i64, i64)>| {
        let mut seen = 0;
        names
            .iter()
            .map(|name| {
                let own = |value: Option<i64>| value.map_or(Value::Null, integer);
                match *name {
                    "id" => {
                        seen += 1;
                        match seen {
                            1 => integer(apiary),
                            2 => own(hive),
                            _ => own(inspection.map(|(id, _)| id)),
                        }
                    }
                    "name" => word("A"),
                    "apiary_id" => own(hive.map(|_| apiary)),
                    "hive_id" => own(inspection.and(hive)),
                    "temper" => own(inspection.map(|(_, temper)| temper)),
                    other => panic!("{other} is not needed"),
                }
            })
            .collect::<Vec<_>>()
    };
    let rows = vec![row(1, Some(10), Some((100, 4))), row(1, Some(10), Some((101, 9))), row(1, Some(11), None), row(2, None, None)];
    assert!(rows.iter().all(|row| row.len() == width));
    let mut session = Scripted::default().table("apiary", 0, rows);
    let mut collect = Collect::default();
    let mut execution = Execution::new(plan, &OTHER);
    execution.call(&mut session, &[], &mut collect).unwrap();
    assert_eq!(collect.answer.rows, [vec![word("A"), integer(2), integer(9)], vec![word("A"), integer(0), Value::Null]]);
    assert_eq!(execution.objects(), 2 + 2 + 2);
    assert_eq!(session.sent.len(), 1);
}

#[test]
fn conditions_left_to_the_application_know_unknown() {
    let schema = schema();
    let answer = |filter: &str, order: &[&str], limit: Option<u64>| {
        let text = text("apiary", &["name"], filter, order, limit);
        let plan = plan(&schema, &text, "app.needed.record");
        let columns: Vec<String> = plan.root.columns.iter().map(|column| column.name.clone()).collect();
        let rows = [(1, "Ost", Some(300)), (2, "West", None), (3, "Süd", Some(700)), (4, "nord", Some(300))];
        let rows = rows.map(|(id, name, altitude)| {
            let value = |column: &String| match column.as_str() {
                "id" => integer(id),
                "name" => word(name),
                _ => altitude.map_or(Value::Null, integer),
            };
            columns.iter().map(value).collect::<Vec<_>>()
        });
        let mut session = Scripted::default().table("apiary", 0, rows.into());
        let mut collect = Collect::default();
        Execution::new(plan, &OTHER).call(&mut session, &[], &mut collect).unwrap();
        assert_eq!(session.rows, 4, "everything is fetched first");
        collect.answer.rows.into_iter().map(|row| row[0].to_string()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(answer("altitude > 300", &[], None), "Süd");
    assert_eq!(answer("not altitude > 300", &[], None), "Ost nord");
    assert_eq!(answer("altitude > 300 or altitude is null", &[], None), "West Süd");
    assert_eq!(answer("altitude in (300, 5) and name like '_st'", &[], None), "Ost");
    assert_eq!(answer("name contains 'S'", &[], None), "Süd");
    assert_eq!(answer("", &["altitude", "name desc"], None), "West nord Ost Süd");
    assert_eq!(answer("", &["altitude desc", "name"], Some(3)), "Süd Ost nord");
    assert_eq!(answer("", &["name"], Some(0)), "");
}

#[test]
fn a_transaction_stands_around_the_whole_call() {
    let schema = schema();
    let text = text("region", &["id", "name"], "", &[], None);
    let choices = Choices::default().with(Hydration::Raw);
    let plan = derive(&schema, &need(&schema, &text), &OTHER, &choices.with(Unit::One));
    let mut session = Scripted::default().table("region", 0, vec![vec![integer(1), word("Ost")]]);
    let mut touch = Touch::default();
    Execution::new(plan, &OTHER).call(&mut session, &[], &mut touch).unwrap();
    let sent: Vec<&str> = session.sent.iter().map(|(sql, _)| sql.split('\n').next().unwrap_or_default()).collect();
    assert_eq!(sent, ["BEGIN", "SELECT [region].[id],", "COMMIT"]);
    assert_eq!(touch.rows(), 1);
}

#[test]
fn an_engines_error_ends_the_call_wherever_it_comes() {
    let schema = schema();
    let hive = |id: i64| vec![integer(id), integer(1), word("H")];
    for at in 0..3 {
        let mut session = Scripted::default().table("hive", 0, vec![hive(2), hive(3)]);
        session.fails_at = Some(at);
        let plan = plan(&schema, &mothers(), "lazy.needed.record");
        let error = Execution::new(plan, &OTHER).call(&mut session, &[], &mut Touch::default()).unwrap_err();
        assert_eq!((error.kind, session.sent.len()), (EngineErrorKind::Unreachable, at));
    }
}

#[test]
fn every_value_is_touched() {
    let mixed = |values: &[ValueRef<'_>]| {
        let mut touch = Touch::default();
        kampf_contest::Consumer::row(&mut touch);
        values.iter().for_each(|value| kampf_contest::Consumer::value(&mut touch, *value));
        touch.mixed()
    };
    let all = [
        ValueRef::Integer(5),
        ValueRef::Real(1.5),
        ValueRef::Text("calm"),
        ValueRef::Boolean(true),
        ValueRef::Date(3),
        ValueRef::Timestamp(9),
        ValueRef::Uuid([7; 16]),
        ValueRef::Blob(&[1, 2]),
        ValueRef::Null,
    ];
    let whole = mixed(&all);
    for at in 0..all.len() {
        let mut others = all;
        others[at] = ValueRef::Integer(6);
        assert_ne!(mixed(&others), whole, "value {at} does not count");
    }
}

/// A plan that keeps answers, so many at most, and asks for a region of one id.
fn kept(entries: u32, hydration: Hydration) -> Execution {
    let schema = schema();
    let text = NeedText { parameters: vec!["id".to_owned()], ..text("region", &["id", "name"], "id = :id", &[], None) };
    let choices = Choices::default().with(hydration).with(Cache::Warm);
    let mut plan = derive(&schema, &need(&schema, &text), &OTHER, &choices);
    plan.manner.entries = entries;
    Execution::new(plan, &OTHER)
}

#[test]
fn kept_answers_are_given_without_a_statement_until_the_oldest_makes_room() {
    let rows = || (1..=3).map(|id| vec![integer(id), word(&format!("region {id}"))]).collect();
    for hydration in [Hydration::Record, Hydration::Map, Hydration::Plain, Hydration::Managed] {
        let mut session = Scripted::default().table("region", 0, rows());
        let mut execution = kept(2, hydration);
        let mut asks = |execution: &mut Execution, id: i64| {
            let before = session.sent.len();
            let mut collect = Collect::default();
            execution.call(&mut session, &[integer(id)], &mut collect).unwrap();
            assert_eq!(collect.answer.rows, [vec![integer(id), word(&format!("region {id}"))]], "{hydration:?}");
            let sent = session.sent.len() - before;
            assert_eq!(execution.objects() > 0, sent > 0, "nothing is built of what is kept");
            sent
        };
        let sent = [1, 2, 1, 3, 2, 1, 3].map(|id| asks(&mut execution, id));
        assert_eq!(sent, [1, 1, 0, 1, 0, 1, 0], "the third lets the first go, and the first then the second: {hydration:?}");
        execution.forget();
        assert_eq!(asks(&mut execution, 3), 1);
    }
}

#[test]
fn parameters_that_look_alike_have_answers_of_their_own() {
    let mut session = Scripted::default();
    let mut execution = kept(100, Hydration::Record);
    let day = |days: i32| Value::List([Value::Date(days)].into());
    let alike = [
        vec![integer(1)],
        vec![word("1")],
        vec![Value::Boolean(true)],
        vec![Value::Date(1)],
        vec![Value::Timestamp(1)],
        vec![Value::Real(1.0)],
        vec![Value::Null],
        vec![word("")],
        vec![Value::Blob(b"1".as_slice().into())],
        vec![day(1)],
        vec![day(2)],
        vec![Value::List([].into())],
    ];
    for turn in 0..2 {
        for parameters in &alike {
            let before = session.sent.len();
            execution.call(&mut session, parameters, &mut Touch::default()).unwrap();
            let expected = usize::from(turn == 0);
            assert_eq!(session.sent.len() - before, expected, "{parameters:?}, turn {turn}");
        }
    }
}

#[test]
fn a_kept_answer_has_its_lists_and_the_lists_in_them() {
    let schema = schema();
    let lists = text("apiary", &["name", "hive { label, inspection { temper } as visits } as hives", "altitude"], "", &[], None);
    let choices = Choices::default().with(Loading::Batched);
    let plan = |cache| derive(&schema, &need(&schema, &lists), &OTHER, &choices.with(cache));
    // Apiary 1 with two hives, the first with two visits, the second with none; apiary 2 with a hive of one visit; apiary 3 with none.
    let apiaries = [1, 2, 3].map(|id| vec![integer(id), word(&format!("apiary {id}")), integer(id * 100)]);
    let hives = [(10, 1), (11, 1), (20, 2)].map(|(id, apiary)| vec![integer(id), integer(apiary), word(&format!("hive {id}"))]);
    let visits = [(10, 4), (10, 5), (20, 6)].map(|(hive, temper)| vec![integer(hive), integer(temper)]);
    let mut session = Scripted::default().table("apiary", 0, apiaries.into()).table("hive", 1, hives.into());
    session = session.table("inspection", 0, visits.into());
    let mut answer = |execution: &mut Execution| {
        let mut collect = Collect::default();
        execution.call(&mut session, &[], &mut collect).unwrap();
        (collect.answer, session.sent.len())
    };
    let (expected, sent) = answer(&mut Execution::new(plan(Cache::None), &OTHER));
    assert_eq!(sent, 3);
    let mut keeps = Execution::new(plan(Cache::Warm), &OTHER);
    assert_eq!(answer(&mut keeps), (expected.clone(), 6), "what is asked for is handed on as it is kept");
    assert_eq!(answer(&mut keeps), (expected.clone(), 6), "and comes out as it went in");
    let written = format!("{:?}", expected.rows);
    for part in ["apiary 3", "hive 11", "hive 20", "Integer(4)", "Integer(5)", "Integer(6)"] {
        assert_eq!(written.matches(part).count(), 1, "{part} in {written}");
    }
}

#[test]
fn what_hangs_on_a_portion_is_loaded_with_it() {
    let schema = schema();
    let text = text("apiary", &["name", "count(hive) as hives"], "", &[], None);
    let choices = Choices::default().with(Loading::Batched).with(Fetch::Stream);
    let mut plan = derive(&schema, &need(&schema, &text), &OTHER, &choices);
    plan.manner.size = 2;
    let apiaries = (1..=5).map(|id| vec![integer(id), word(&format!("apiary {id}"))]).collect();
    let hives = [1, 1, 2, 5].map(|apiary| vec![integer(apiary)]).into();
    let mut session = Scripted::default().table("apiary", 0, apiaries).table("hive", 0, hives);
    let mut collect = Collect::default();
    Execution::new(plan, &OTHER).call(&mut session, &[], &mut collect).unwrap();
    let counts = [2, 1, 0, 0, 1].into_iter().zip(1..);
    let expected: Vec<Vec<Value>> = counts.map(|(hives, id)| vec![word(&format!("apiary {id}")), integer(hives)]).collect();
    assert_eq!(collect.answer.rows, expected);
    let lists: Vec<&Vec<Value>> = session.sent.iter().map(|(_, parameters)| parameters).filter(|list| !list.is_empty()).collect();
    assert_eq!(lists, [&vec![integer(1), integer(2)], &vec![integer(3), integer(4)], &vec![integer(5)]]);
}
