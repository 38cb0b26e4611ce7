//! Carrying out a way of writing, call after call.

use std::cell::RefCell;
use std::collections::HashMap;

use kampf_schema::{LogicalType, Value, ValueRef};

use super::effect::NewRow;
use super::plan::{BatchPlan, Change, InsertStep, WritePlan, WriteStep};
use crate::choice::{Commit, Statement};
use crate::dialect::{Dialect, KeyList};
use crate::engine::{BulkInto, EngineError, EngineErrorKind, Flow, GroupUnit, Grouped, Session};
use crate::layers::sending::{Progress, Ready, SentForm, bound};
use crate::plan::{Body, length_of};
use crate::sql::{Printed, Shape};

/// A way of writing with its statements in one session.
pub struct WriteExecution {
    plan: WritePlan,
    dialect: &'static Dialect,
    /// Statements that are kept: by step, and by what their text depends on.
    kept: HashMap<(usize, usize), Ready>,
    /// What begins and ends a transaction around a call, and takes it back; and what asks for the last key.
    around: [Option<Ready>; 4],
}

/// What a call has written, by its own word.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Written {
    /// Rows of the contest's own table.
    pub own_rows: u64,
    /// Rows of all tables, as the statements say.
    pub rows: u64,
}

impl WriteExecution {
    /// Nothing is sent yet.
    pub fn new(plan: WritePlan, dialect: &'static Dialect) -> WriteExecution {
        WriteExecution { plan, dialect, kept: HashMap::new(), around: [const { None }; 4] }
    }

    /// The plan.
    pub fn plan(&self) -> &WritePlan {
        &self.plan
    }

    /// One call: from the parameters and the new rows of each table to the last commit.
    ///
    /// # Errors
    /// Those of the session; nothing of the call is left then where one transaction holds it.
    pub fn call(&mut self, session: &mut dyn Session, parameters: &[Value], new: &[Vec<NewRow>]) -> Result<Written, EngineError> {
        if self.plan.commit != Some(Commit::Once) {
            return self.steps(session, parameters, new);
        }
        let Dialect { begin_writing, commit, rollback, .. } = self.dialect;
        self.around(session, 0, begin_writing)?;
        let written = self.steps(session, parameters, new);
        match written {
            Ok(written) => self.around(session, 1, commit).map(|()| written),
            // What went wrong says more than that it cannot be taken back.
            Err(error) => {
                let _ = self.around(session, 2, rollback);
                Err(error)
            }
        }
    }

    fn around(&mut self, session: &mut dyn Session, at: usize, sql: &str) -> Result<(), EngineError> {
        self.fixed(session, at, sql, &mut |_: &[ValueRef<'_>]| Flow::More)
    }

    fn fixed(
        &mut self,
        session: &mut dyn Session,
        at: usize,
        sql: &str,
        sink: &mut dyn FnMut(&[ValueRef<'_>]) -> Flow,
    ) -> Result<(), EngineError> {
        if self.around[at].is_none() {
            self.around[at] = Some(Ready::of(session, self.plan.statement, sql.to_owned(), Vec::new(), &[None])?);
        }
        let Some(ready) = &self.around[at] else { return Ok(()) };
        session.carry_out(ready.sent(), &[], &mut |row: &[ValueRef<'_>]| sink(row)).map(|_| ())
    }

    fn steps(&mut self, session: &mut dyn Session, parameters: &[Value], new: &[Vec<NewRow>]) -> Result<Written, EngineError> {
        let mut written = Written::default();
        let mut keys: Vec<Value> = Vec::new();
        let mut made: Vec<Vec<Value>> = vec![Vec::new(); new.len()];
        for at in 0..self.plan.steps.len() {
            // Statements are made while the plan is looked at.
            let step = std::mem::replace(&mut self.plan.steps[at], WriteStep::NOTHING);
            let done = match &step {
                WriteStep::Once { change, is_own } => self.once(session, (at, change), parameters, new, &keys).map(|rows| {
                    written.rows += rows;
                    written.own_rows += if *is_own { rows } else { 0 };
                }),
                WriteStep::Keys { select, kinds } => {
                    let length = |at: usize| length_of(parameters, at);
                    let printed = crate::sql::print_select(self.dialect, select, &Shape { length: &length, ..Shape::PLAIN });
                    keys.clear();
                    let kinds: Vec<Option<LogicalType>> = kinds.iter().copied().map(Some).collect();
                    self.ready(session, (at, 0), select.varies(), &kinds, || printed).and_then(|ready| {
                        let binds = bound(&ready.binds, parameters, &[], Progress::NONE);
                        let mut take = |row: &[ValueRef<'_>]| {
                            keys.extend(row.iter().map(|value| value.to_value()));
                            Flow::More
                        };
                        session.carry_out(ready.sent(), &binds, &mut take).map(|_| ())
                    })
                }
                WriteStep::Insert(insert) => self.insert(session, (at, insert), parameters, &new[insert.place], &made).map(|keys| {
                    let rows = new[insert.place].len() as u64;
                    written.rows += rows;
                    written.own_rows += if insert.place == 0 { rows } else { 0 };
                    made[insert.place] = keys;
                }),
            };
            self.plan.steps[at] = step;
            done?;
        }
        Ok(written)
    }

    /// A statement that is ready to be sent; one that is kept is looked up by `place`.
    fn ready(
        &mut self,
        session: &mut dyn Session,
        place: (usize, usize),
        varies: bool,
        kinds: &[Option<LogicalType>],
        print: impl FnOnce() -> Printed,
    ) -> Result<Ready, EngineError> {
        let is_kept = !varies && self.plan.statement != Statement::Built;
        if let Some(ready) = self.kept.get(&place).filter(|_| is_kept) {
            return Ok(ready.clone());
        }
        let Printed { sql, binds } = print();
        let ready = Ready::of(session, self.plan.statement, sql, binds, kinds)?;
        if is_kept {
            self.kept.insert(place, ready.clone());
        }
        Ok(ready)
    }

    /// Carries out a statement once, or for so many keys at a time; gives how many rows it changed.
    fn once(
        &mut self,
        session: &mut dyn Session,
        (at, change): (usize, &Change),
        parameters: &[Value],
        new: &[Vec<NewRow>],
        keys: &[Value],
    ) -> Result<u64, EngineError> {
        let dialect = self.dialect;
        let Some(by) = change.wanted_keys() else {
            let rows: Vec<Value>;
            let mut parameters = parameters;
            if let Change::Written(_) = change
                && !new.is_empty()
            {
                // All new rows as one text, behind the contest's parameters.
                rows = parameters.iter().cloned().chain([super::planner::rows_as_json(new)]).collect();
                parameters = &rows;
            }
            let length = |at: usize| length_of(parameters, at);
            let ready =
                self.ready(session, (at, 0), change.varies(), &[], || change.print(dialect, &Shape { length: &length, ..Shape::PLAIN }))?;
            return send(session, &ready, &bound(&ready.binds, parameters, &[], Progress::NONE));
        };
        let width = by.columns.len().max(1);
        let mut changed = 0;
        for chunk in keys.chunks(width * by.most.max(1)) {
            let many = chunk.len() / width;
            let text_is_one = by.is_list && dialect.key_list == KeyList::Array;
            let print = || change.print(dialect, &Shape { keys: many, ..Shape::PLAIN });
            let ready = self.ready(session, (at, if text_is_one { 0 } else { many }), false, &[], print)?;
            changed += send(session, &ready, &bound(&ready.binds, parameters, chunk, Progress::NONE))?;
        }
        Ok(changed)
    }

    /// Has new rows go in; gives their keys where those are wanted and the database made them.
    fn insert(
        &mut self,
        session: &mut dyn Session,
        (at, step): (usize, &InsertStep),
        parameters: &[Value],
        rows: &[NewRow],
        made: &[Vec<Value>],
    ) -> Result<Vec<Value>, EngineError> {
        let parent = |row: &NewRow| row.under.and_then(|under| made.get(step.under?)?.get(under).cloned()).unwrap_or(Value::Null);
        let parents: Vec<Value> = rows.iter().map(parent).collect();
        let value = |row: usize, column: usize| {
            let of = &step.columns[column];
            if of.is_parents { parents[row].as_ref() } else { rows[row].values[of.column].as_ref() }
        };
        let (dialect, width) = (self.dialect, step.columns.len());
        let kinds: Vec<Option<LogicalType>> = step.key.iter().map(|(_, kind)| Some(*kind)).collect();
        let mut keys = Vec::new();
        match step.batch {
            BatchPlan::Single => {
                for (row, new) in rows.iter().enumerate() {
                    let key = RefCell::new(Value::Null);
                    let mut take = |row: &[ValueRef<'_>]| {
                        *key.borrow_mut() = row.first().map_or(Value::Null, |value| value.to_value());
                        Flow::More
                    };
                    if let Some(body) = &step.written {
                        let own: Vec<Value> = parameters.iter().chain(&new.values).cloned().chain([parents[row].clone()]).collect();
                        let ready = self.ready(session, (at, 1), false, &kinds, || body.print(dialect, &Shape::PLAIN))?;
                        session.carry_out(ready.sent(), &bound(&ready.binds, &own, &[], Progress::NONE), &mut take)?;
                    } else {
                        let ready = self.ready(session, (at, 1), false, &kinds, || step.print(dialect, 1))?;
                        let values: Vec<ValueRef<'_>> = (0..width).map(|column| value(row, column)).collect();
                        session.carry_out(ready.sent(), &values, &mut take)?;
                    }
                    if let Some(asks) = step.asks(dialect).filter(|_| *key.borrow() == Value::Null) {
                        self.fixed(session, 3, asks, &mut take)?;
                    }
                    keys.push(key.into_inner());
                }
            }
            BatchPlan::Sent(size) => {
                let ready = self.ready(session, (at, 1), false, &kinds, || step.print(dialect, 1))?;
                let SentForm::Kept(statement) = ready.form else { return Err(unkept()) };
                let unit = if self.plan.commit == Some(Commit::Once) { GroupUnit::Open } else { GroupUnit::Own };
                for first in (0..rows.len()).step_by(size.max(1) as usize) {
                    let last = rows.len().min(first + size.max(1) as usize);
                    let values: Vec<Vec<ValueRef<'_>>> =
                        (first..last).map(|row| (0..width).map(|column| value(row, column)).collect()).collect();
                    let mut came = vec![Value::Null; last - first];
                    let mut sinks: Vec<_> = came
                        .iter_mut()
                        .map(|key| {
                            move |row: &[ValueRef<'_>]| {
                                *key = row.first().map_or(Value::Null, |value| value.to_value());
                                Flow::More
                            }
                        })
                        .collect();
                    let mut group: Vec<Grouped<'_>> =
                        sinks.iter_mut().zip(&values).map(|(sink, parameters)| Grouped { statement, parameters, sink }).collect();
                    session.group(&mut group, unit)?;
                    drop(group);
                    drop(sinks);
                    keys.extend(came);
                }
            }
            BatchPlan::Values(size) => {
                for first in (0..rows.len()).step_by(size.max(1) as usize) {
                    let last = rows.len().min(first + size.max(1) as usize);
                    let ready = self.ready(session, (at, last - first), false, &kinds, || step.print(dialect, last - first))?;
                    let values: Vec<ValueRef<'_>> = (first..last)
                        .flat_map(|row| (0..width).map(move |column| (row, column)))
                        .map(|(row, column)| value(row, column))
                        .collect();
                    let mut take = |row: &[ValueRef<'_>]| {
                        keys.extend(row.first().map(|value| value.to_value()));
                        Flow::More
                    };
                    session.carry_out(ready.sent(), &values, &mut take)?;
                }
            }
            BatchPlan::Bulk => {
                let columns: Vec<(String, LogicalType)> = step.columns.iter().map(|column| (column.name.clone(), column.kind)).collect();
                let values: Vec<Vec<ValueRef<'_>>> =
                    (0..rows.len()).map(|row| (0..width).map(|column| value(row, column)).collect()).collect();
                session.bulk(&BulkInto { table: &step.table, columns: &columns }, &values)?;
            }
        }
        Ok(keys)
    }
}

/// Sends a statement that gives nothing; how many rows it changed.
fn send(session: &mut dyn Session, ready: &Ready, binds: &[ValueRef<'_>]) -> Result<u64, EngineError> {
    let mut rows = 0;
    let mut take = |_: &[ValueRef<'_>]| {
        rows += 1;
        Flow::More
    };
    let changed = session.carry_out(ready.sent(), binds, &mut take)?;
    Ok(changed.unwrap_or(rows))
}

fn unkept() -> EngineError {
    EngineError {
        kind: EngineErrorKind::Statement,
        message: "only statements that are prepared go in one trip".to_owned(),
        sql: None,
        cause: None,
    }
}

impl WriteStep {
    /// Stands for a step that is being carried out.
    const NOTHING: WriteStep = WriteStep::Once { change: Change::Written(Body::Written(Vec::new(), Vec::new())), is_own: false };
}
