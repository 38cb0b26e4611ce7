//! Answers that are right and wrong, against root rows that are worked out by themselves.

use kampf_contest::{Form, Given, Leaf, Need, NeedText, PlainEvaluation, resolve};
use kampf_engine::GeneratedRows;
use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::{Expr, Node, RowCount};
use kampf_schema::{LogicalType, Relations, Schema, Value, ddl};

use crate::job::FullerNeed;
use crate::processes::sample::{FullerAnswer, Sampled, sampled};

const HIVES: &str =
    "CREATE TABLE hive (id INTEGER PRIMARY KEY, label TEXT NOT NULL, frames INTEGER NOT NULL CHECK (frames BETWEEN 8 AND 24));
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive (id), temper INTEGER NOT NULL);";

struct RunOrder {
    schema: Schema,
    blueprint: Blueprint,
    need: Need,
    longer: FullerNeed,
    sets: Vec<Vec<Value>>,
}

impl RunOrder {
    fn of(text: &NeedText, sets: Vec<Vec<Value>>) -> RunOrder {
        let schema = ddl::read(HIVES).unwrap().schema;
        let rows = [(schema.find("hive").unwrap(), RowCount::Fixed(3_000)), (schema.find("inspection").unwrap(), RowCount::Fixed(9_000))];
        let blueprint = Blueprint::new(&schema, &Order { rows: rows.into(), seed: 5, ..Order::default() }).unwrap();
        let need = resolve(&schema, &Relations::of(&schema), text).unwrap();
        let mut longer = need.clone();
        longer.limit = need.limit.map(|limit| limit * 2);
        let keys = need.order.iter().map(|by| by.value.clone());
        let identity = Expr::from(Node::Leaf(Leaf::Column { source: 0, column: 0 }));
        longer.give.extend(keys.chain([identity]).map(|value| Given {
            name: "more".into(),
            value,
            form: Form::Value(LogicalType::Integer),
        }));
        let longer = FullerNeed { need: longer, plans: Vec::new(), identity: vec![0] };
        RunOrder { schema, blueprint, need, longer, sets }
    }

    /// The right answers as a contender gives them: cut at the larger limit, with what is given besides.
    fn right(&self) -> Vec<FullerAnswer> {
        let rows = GeneratedRows(&self.blueprint);
        let evaluation = PlainEvaluation::of(&self.schema, &self.longer.need, &rows);
        let of = |set: &Vec<Value>| {
            let mut reference = evaluation.answer(set).unwrap();
            let most = self.longer.need.limit.map_or(usize::MAX, |limit| limit as usize);
            reference.complete = reference.rows.len() < most;
            reference.rows.truncate(most);
            reference.keys.truncate(most);
            let width = self.need.give.len();
            let identities = reference.rows.iter().map(|row| row[row.len() - 1..].to_vec()).collect();
            reference.rows.iter_mut().for_each(|row| row.truncate(width));
            FullerAnswer { reference, identities }
        };
        self.sets.iter().map(of).collect()
    }

    fn looked_at(&self, answers: &[FullerAnswer]) -> Sampled {
        sampled((&self.schema, &self.blueprint), &self.longer, 1, &self.sets, answers).unwrap()
    }

    fn is_refuted(&self, change: impl Fn(&mut FullerAnswer)) -> bool {
        let mut answers = self.right();
        answers.iter_mut().for_each(change);
        matches!(self.looked_at(&answers), Sampled::Apart(_))
    }
}

fn text(order: &[&str], limit: Option<u64>) -> NeedText {
    NeedText {
        from: "hive".into(),
        give: vec!["label".into(), "count(inspection where temper > 2)".into()],
        filter: Some("frames >= :least".into()),
        order: order.iter().map(|&by| by.into()).collect(),
        limit,
        parameters: vec!["least".into()],
        ..NeedText::default()
    }
}

fn all() -> [RunOrder; 3] {
    let sets = || vec![vec![Value::Integer(10)], vec![Value::Integer(20)]];
    [
        RunOrder::of(&text(&[], None), sets()),
        RunOrder::of(&text(&["frames desc", "id"], None), sets()),
        RunOrder::of(&text(&["label", "id"], Some(400)), sets()),
    ]
}

#[test]
fn right_answers_hold() {
    for asked in all() {
        assert!(matches!(asked.looked_at(&asked.right()), Sampled::Holds(500..=1_000)), "{:?}", asked.need);
    }
}

#[test]
fn a_value_that_is_wrong_in_many_rows_is_found() {
    for asked in all() {
        assert!(asked.is_refuted(|answer| answer.reference.rows.iter_mut().step_by(50).for_each(|row| row[1] = Value::Integer(-1))));
    }
}

#[test]
fn rows_that_are_missing_or_should_be_are_found() {
    for asked in all() {
        let without = |answer: &mut FullerAnswer, is_left_out: &dyn Fn(usize) -> bool| {
            let mut at = 0..;
            answer.reference.rows.retain(|_| !is_left_out(at.next().unwrap()));
            let mut at = 0..;
            answer.reference.keys.retain(|_| !is_left_out(at.next().unwrap()));
            let mut at = 0..;
            answer.identities.retain(|_| !is_left_out(at.next().unwrap()));
        };
        assert!(asked.is_refuted(|answer| without(answer, &|at| at % 8 == 3)), "{:?}", asked.need);
        // Rows that the condition leaves out: the answer to another parameter.
        let mut answers = asked.right();
        answers[1] = answers[0].clone();
        assert!(matches!(asked.looked_at(&answers), Sampled::Apart(_)), "{:?}", asked.need);
        // A row of none that there is.
        assert!(asked.is_refuted(|answer| answer.identities[0] = vec![Value::Integer(1_000_000)]));
    }
}

#[test]
fn groups_cannot_be_worked_out_from_some_rows() {
    let grouped = NeedText { group: Some(vec!["frames".into()]), give: vec!["frames".into(), "count()".into()], ..text(&[], None) };
    let schema = ddl::read(HIVES).unwrap().schema;
    let need = resolve(&schema, &Relations::of(&schema), &grouped).unwrap();
    let mut asked = RunOrder::of(&text(&[], None), vec![vec![Value::Integer(10)]]);
    asked.longer = FullerNeed { need, plans: Vec::new(), identity: Vec::new() };
    assert_eq!(asked.looked_at(&[]), Sampled::Holds(0));
}
