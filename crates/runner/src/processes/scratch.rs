//! A scratch while contenders write to it: what must become of its rows, whether it has, and how all is taken back.

use std::collections::{BTreeMap, HashMap};
use std::rc::Rc;
use std::time::{Duration, Instant};

use kampf_contest::{
    Act, BatchPlan, Difference, Effect, Effects, Flow, InsertStep, NewColumn, NewRow, RowSource, Sent, Session, Statement, TableEffect,
    TableReader, TableState, WriteExecution, WritePlan, WriteStep, generated_key, value_to_json,
};
use kampf_engine::Connection;
use kampf_protocol::{Mode, NewRows};
use kampf_schema::{ColumnId, LogicalType, Table, TableId, Value, ValueRef};

use super::talk::Talk;
use crate::contest::{ScratchPlace, Setup};
use crate::job::WriteJob;
use crate::policy::Done;
use crate::trouble::Trouble;

/// Effects that are kept for sets that come again.
const KEPT_EFFECTS: usize = 32;

/// Of the time of a round so much may go into looking whether all is as it was.
const LOOKING: f64 = 0.25;

/// What is written to.
pub(crate) struct ScratchState<'a> {
    setup: &'a Setup<'a>,
    job: &'a WriteJob,
    place: ScratchPlace<'a>,
    connection: Box<dyn Connection>,
    effects: Effects<'a>,
    /// What the tables were like.
    before: BTreeMap<TableId, TableState>,
    /// The largest key that the database had made of each.
    largest: BTreeMap<TableId, i64>,
    known: Vec<(Vec<Value>, Rc<Effect>)>,
    /// How long it takes to look at all of it, and when that was done last.
    looking: Duration,
    looked: Instant,
    bytes: u64,
}

impl<'a> ScratchState<'a> {
    pub(crate) fn open(setup: &'a Setup<'a>, job: &'a WriteJob) -> Result<ScratchState<'a>, Trouble> {
        let place = setup.scratch.ok_or_else(|| Trouble::NotStarted("there is no copy of the data to write to".to_owned()))?;
        let connection = setup.engine.connect_scratch(place.scratch.own_url(), &setup.settings, false, None).map_err(of_engine)?;
        let effects = Effects::of(setup.schema, &job.write, &job.rows, &job.new);
        let (before, largest, known) = (BTreeMap::new(), BTreeMap::new(), Vec::new());
        let now = Instant::now();
        let mut state =
            ScratchState { setup, job, place, connection, effects, before, largest, known, looking: Duration::ZERO, looked: now, bytes: 0 };
        state.before = state.sums()?;
        (state.looking, state.looked) = (now.elapsed(), Instant::now());
        for &table in &job.touched {
            if let Some(column) = generated_key(setup.schema, table) {
                let model = setup.schema.table(table);
                let quote = setup.engine.dialect().quote;
                let sql = format!("SELECT max({}) FROM {}", quote(&model.columns[column].name), quote(&model.name));
                let mut largest = 0;
                state.read(&sql, &[Some(LogicalType::Integer)], &mut |row| {
                    if let [ValueRef::Integer(number)] = row {
                        largest = *number;
                    }
                })?;
                state.largest.insert(table, largest);
            }
        }
        state.bytes = place.scratch.bytes().map_err(of_engine)?;
        Ok(state)
    }

    fn table(&self, table: TableId) -> &'a Table {
        self.setup.schema.table(table)
    }

    fn read(&self, sql: &str, kinds: &[Option<LogicalType>], take: &mut dyn FnMut(&[ValueRef<'_>])) -> Result<(), Trouble> {
        let mut session = self.connection.session();
        let mut sink = |row: &[ValueRef<'_>]| {
            take(row);
            Flow::More
        };
        session.carry_out(Sent::Text { sql, kinds }, &[], &mut sink).map(|_| ()).map_err(of_engine)
    }

    /// All rows of a table, with all their columns.
    fn rows_of(&self, table: TableId, take: &mut dyn FnMut(&[ValueRef<'_>])) -> Result<(), Trouble> {
        let model = self.table(table);
        let quote = self.setup.engine.dialect().quote;
        let columns: Vec<String> = model.columns.iter().map(|column| quote(&column.name)).collect();
        let kinds: Vec<Option<LogicalType>> = model.columns.iter().map(|column| Some(column.kind)).collect();
        self.read(&format!("SELECT {} FROM {}", columns.join(", "), quote(&model.name)), &kinds, take)
    }

    fn sums(&self) -> Result<BTreeMap<TableId, TableState>, Trouble> {
        let sum = |&table: &TableId| {
            let mut state = TableState::default();
            self.rows_of(table, &mut |row| state.take(row))?;
            Ok((table, state))
        };
        self.job.touched.iter().map(sum).collect()
    }

    /// What becomes of the rows for a parameter set.
    pub(crate) fn effect(&mut self, set: &[Value]) -> Result<Rc<Effect>, Trouble> {
        if let Some((_, effect)) = self.known.iter().find(|(known, _)| known == set) {
            return Ok(Rc::clone(effect));
        }
        let effect = Rc::new(self.effects.with(set).map_err(|error| Trouble::Refused(error.to_string()))?);
        if self.known.len() >= KEPT_EFFECTS {
            self.known.remove(0);
        }
        self.known.push((set.to_vec(), Rc::clone(&effect)));
        Ok(effect)
    }

    /// What a contender is told to put in.
    fn messages(&self, effect: &Effect) -> Vec<NewRows> {
        let message = |(table, _): (TableId, u64)| {
            let new = effect.tables.get(&table).map(|of_table| of_table.new.as_slice()).unwrap_or_default();
            let rows = new.iter().map(|row| row.values.iter().map(|value| value_to_json(value.as_ref())).collect()).collect();
            NewRows { table: self.table(table).name.clone(), rows, under: new.iter().filter_map(|row| row.under).collect() }
        };
        self.job.write.new_tables().into_iter().map(message).collect()
    }

    /// Has a contender write once, and gives what it says; what it has written is there.
    fn write(&mut self, talk: &mut Talk<'_>, mode: Mode, set: &[Value], effect: &Effect) -> Result<Done, Trouble> {
        let log = |place: &ScratchPlace<'_>| if mode == Mode::Count { place.scratch.log_bytes().ok().flatten() } else { None };
        let before = log(&self.place);
        let mut done = talk.write(mode, set, self.messages(effect))?;
        if let (Some(counts), Some((before, after))) = (&mut done.ran.counts, before.zip(log(&self.place))) {
            counts.complete("log_bytes", after.saturating_sub(before));
        }
        Ok(done)
    }

    /// Has a contender write once, and takes it back.
    pub(crate) fn run(&mut self, talk: &mut Talk<'_>, mode: Mode, set: &[Value]) -> Result<Done, Trouble> {
        let effect = self.effect(set)?;
        let done = self.write(talk, mode, set, &effect);
        self.takes_back(&effect, &done)?;
        done
    }

    /// Takes back what was written. Of one that has failed nobody knows how far it came.
    fn takes_back<T>(&mut self, effect: &Effect, done: &Result<T, Trouble>) -> Result<(), Trouble> {
        match done {
            Ok(_) => self.undo(effect),
            Err(Trouble::Interrupted) => Ok(()),
            Err(_) => self.repair(),
        }
    }

    /// Has a contender write once, looks at what has become of the rows, and takes it back. The first difference from what must have.
    pub(crate) fn proven(&mut self, talk: &mut Talk<'_>, set: &[Value]) -> Result<Option<Difference>, Trouble> {
        let effect = self.effect(set)?;
        let done = self.write(talk, Mode::Answer, set, &effect);
        let found = done.as_ref().map_or(Ok(None), |done| self.difference(&effect, done.ran.rows));
        let undone = self.takes_back(&effect, &done);
        done?;
        if let Ok(Some(difference)) = found {
            // Who writes something else may have written anything.
            if undone.is_err() || self.sums()? != self.before {
                self.repair()?;
            }
            return Ok(Some(difference));
        }
        undone?;
        found
    }

    fn difference(&self, effect: &Effect, said: u64) -> Result<Option<Difference>, Trouble> {
        let nothing = TableEffect::default();
        let mut readers = Vec::new();
        for &table in &self.job.touched {
            let of_table = effect.tables.get(&table).unwrap_or(&nothing);
            let mut reader = TableReader::of(self.setup.schema, &self.effects, table, of_table, self.largest.get(&table).copied());
            self.rows_of(table, &mut |row| reader.take(row))?;
            readers.push(reader);
        }
        let difference = effect.difference(self.setup.schema, &self.job.write, &self.effects, &self.before, &readers);
        let miscounted = || {
            (said != effect.own_rows).then(|| Difference {
                expected_rows: effect.own_rows as usize,
                found_rows: said as usize,
                row: 0,
                column: None,
                expected: None,
                found: None,
                came: Some((effect.own_rows, said)),
                inside: None,
                table: Some(self.job.write.table()),
            })
        };
        Ok(difference.or_else(miscounted))
    }

    /// Takes back what an effect says has been written, in one transaction.
    fn undo(&self, effect: &Effect) -> Result<(), Trouble> {
        let mut session = self.connection.session();
        let undone = self.undo_in(session.as_mut(), effect);
        if undone.is_err() {
            let _ = send(session.as_mut(), self.setup.engine.dialect().rollback);
        }
        drop(session);
        undone.map_err(|error| {
            Trouble::Refused(format!("what it wrote cannot be taken back, as if it had left a transaction open: {error}"))
        })?;
        self.place.scratch.settle().map_err(of_engine)
    }

    fn undo_in(&self, session: &mut dyn Session, effect: &Effect) -> Result<(), kampf_contest::EngineError> {
        let dialect = self.setup.engine.dialect();
        send(session, dialect.begin_writing)?;
        for sql in self.place.scratch.undo_begins() {
            send(session, sql)?;
        }
        let mut order = self.setup.schema.parents_first();
        order.reverse();
        for &table in &order {
            if let Some(new) = effect.tables.get(&table).map(|of_table| &of_table.new).filter(|new| !new.is_empty()) {
                self.remove_new(session, table, new)?;
            }
        }
        order.reverse();
        for &table in &order {
            let Some(of_table) = effect.tables.get(&table) else { continue };
            let gone: Vec<Vec<Value>> = of_table.gone.iter().map(|&row| self.image(table, row)).collect();
            self.put_back(session, table, gone)?;
            for (&row, set) in &of_table.changed {
                let columns: Vec<ColumnId> = set.iter().map(|(column, _)| *column).collect();
                self.set_back(session, table, &columns, &self.image(table, row))?;
            }
        }
        send(session, dialect.commit)
    }

    /// The values of a row as it was.
    fn image(&self, table: TableId, row: u64) -> Vec<Value> {
        (0..self.table(table).columns.len()).map(|column| self.job.rows.value(table, row, column)).collect()
    }

    fn remove_new(&self, session: &mut dyn Session, table: TableId, new: &[NewRow]) -> Result<(), kampf_contest::EngineError> {
        let (model, dialect) = (self.table(table), self.setup.engine.dialect());
        let name = (dialect.quote)(&model.name);
        if let (Some(column), Some(largest)) = (generated_key(self.setup.schema, table), self.largest.get(&table)) {
            let sql = format!("DELETE FROM {name} WHERE {} > {largest}", (dialect.quote)(&model.columns[column].name));
            return send(session, &sql);
        }
        let sql = format!("DELETE FROM {name} WHERE {}", self.is_key(model, 1));
        new.iter().try_for_each(|row| self.with_key(session, &sql, model, &row.values, &[]))
    }

    /// The condition that a row has a key, whose values are parameters from a number on.
    fn is_key(&self, model: &Table, first: usize) -> String {
        let dialect = self.setup.engine.dialect();
        let one = |(at, &column): (usize, &ColumnId)| {
            format!("{} = {}", (dialect.quote)(&model.columns[column].name), (dialect.placeholder)(first + at))
        };
        model.primary_key.iter().enumerate().map(one).collect::<Vec<_>>().join(" AND ")
    }

    fn with_key(
        &self,
        session: &mut dyn Session,
        sql: &str,
        model: &Table,
        values: &[Value],
        before: &[ColumnId],
    ) -> Result<(), kampf_contest::EngineError> {
        let id = session.prepare(sql, &[])?;
        let parameters: Vec<ValueRef<'_>> = before.iter().chain(&model.primary_key).map(|&column| values[column].as_ref()).collect();
        session.carry_out(Sent::Kept(id), &parameters, &mut |_: &[ValueRef<'_>]| Flow::More).map(|_| ())
    }

    fn set_back(
        &self,
        session: &mut dyn Session,
        table: TableId,
        columns: &[ColumnId],
        values: &[Value],
    ) -> Result<(), kampf_contest::EngineError> {
        let (model, dialect) = (self.table(table), self.setup.engine.dialect());
        let set = |(at, &column): (usize, &ColumnId)| {
            format!("{} = {}", (dialect.quote)(&model.columns[column].name), (dialect.placeholder)(at + 1))
        };
        let set: Vec<String> = columns.iter().enumerate().map(set).collect();
        let sql = format!("UPDATE {} SET {} WHERE {}", (dialect.quote)(&model.name), set.join(", "), self.is_key(model, columns.len() + 1));
        self.with_key(session, &sql, model, values, columns)
    }

    fn put_back(&self, session: &mut dyn Session, table: TableId, rows: Vec<Vec<Value>>) -> Result<(), kampf_contest::EngineError> {
        if rows.is_empty() {
            return Ok(());
        }
        let (model, dialect) = (self.table(table), self.setup.engine.dialect());
        let column = |(at, column): (usize, &kampf_schema::Column)| NewColumn {
            name: column.name.clone(),
            kind: column.kind,
            column: at,
            is_parents: false,
        };
        let columns: Vec<NewColumn> = model.columns.iter().enumerate().map(column).collect();
        let most = (dialect.max_parameters / columns.len().max(1)).clamp(1, 100);
        let step = InsertStep {
            table: model.name.clone(),
            place: 0,
            columns,
            key: None,
            under: None,
            back: None,
            batch: BatchPlan::Values(u32::try_from(most).unwrap_or(1)),
            written: None,
        };
        let plan = WritePlan { steps: vec![WriteStep::Insert(step)], commit: None, statement: Statement::Prepared, parameters: 0 };
        let rows: Vec<NewRow> = rows.into_iter().map(|values| NewRow { values, under: None }).collect();
        WriteExecution::new(plan, dialect).call(session, &[], &[rows]).map(|_| ())
    }

    /// Whether all is as it was; not looked at every time, where that takes long. What has grown is made smaller again.
    pub(crate) fn is_whole(&mut self) -> Result<bool, Trouble> {
        if self.looked.elapsed().mul_f64(LOOKING) < self.looking {
            return Ok(true);
        }
        let begun = Instant::now();
        let whole = self.sums()? == self.before;
        if self.place.scratch.bytes().map_err(of_engine)? > self.bytes + self.bytes / 10 {
            self.place.scratch.make_room().map_err(of_engine)?;
            self.bytes = self.bytes.max(self.place.scratch.bytes().map_err(of_engine)?);
        }
        (self.looking, self.looked) = (begun.elapsed(), Instant::now());
        Ok(whole)
    }

    /// Whether all is as it was.
    pub(crate) fn sums_are_as_before(&self) -> Result<bool, Trouble> {
        Ok(self.sums()? == self.before)
    }

    /// Sets all touched tables to what they were, whatever has become of them.
    pub(crate) fn repair(&mut self) -> Result<(), Trouble> {
        let key_of = |model: &Table, values: &[Value]| {
            let parts = model.primary_key.iter().map(|&column| values[column].to_string());
            parts.map(|part| format!("{}:{part}", part.len())).collect::<String>()
        };
        let mut wrong: Vec<(TableId, Vec<Vec<Value>>, Vec<Vec<Value>>, Vec<Vec<Value>>)> = Vec::new();
        for &table in &self.job.touched {
            let model = self.table(table);
            let mut there: HashMap<String, Vec<Value>> = HashMap::new();
            self.rows_of(table, &mut |row| {
                let values: Vec<Value> = row.iter().map(|value| value.to_value()).collect();
                there.insert(key_of(model, &values), values);
            })?;
            let (mut missing, mut changed) = (Vec::new(), Vec::new());
            for row in 0..self.job.rows.count(table) {
                let image = self.image(table, row);
                match there.remove(&key_of(model, &image)) {
                    None => missing.push(image),
                    Some(found) if found != image => changed.push(image),
                    Some(_) => {}
                }
            }
            wrong.push((table, there.into_values().collect(), missing, changed));
        }
        let order = self.setup.schema.parents_first();
        let place = |table: &TableId| order.iter().position(|one| one == table);
        wrong.sort_by_key(|(table, ..)| place(table));
        let mut session = self.connection.session();
        let mut all = || {
            let dialect = self.setup.engine.dialect();
            send(session.as_mut(), dialect.begin_writing)?;
            for sql in self.place.scratch.undo_begins() {
                send(session.as_mut(), sql)?;
            }
            for (table, strange, ..) in wrong.iter().rev() {
                let model = self.table(*table);
                let sql = format!("DELETE FROM {} WHERE {}", (dialect.quote)(&model.name), self.is_key(model, 1));
                strange.iter().try_for_each(|values| self.with_key(session.as_mut(), &sql, model, values, &[]))?;
            }
            for (table, _, missing, changed) in &wrong {
                self.put_back(session.as_mut(), *table, missing.clone())?;
                let model = self.table(*table);
                let others: Vec<ColumnId> = (0..model.columns.len()).filter(|column| !model.primary_key.contains(column)).collect();
                changed.iter().try_for_each(|values| self.set_back(session.as_mut(), *table, &others, values))?;
            }
            send(session.as_mut(), dialect.commit)
        };
        let done = all();
        drop(session);
        done.map_err(|error: kampf_contest::EngineError| {
            Trouble::Refused(format!("the copy that is written to cannot be repaired: {error}"))
        })?;
        self.place.scratch.settle().map_err(of_engine)?;
        if self.sums()? == self.before {
            return Ok(());
        }
        Err(Trouble::Refused("the copy that is written to is not as it was, and does not become so again".to_owned()))
    }

    /// Rows of the right answer: one for each row of the contest's own table that is written, by what is known of it.
    pub(crate) fn own_rows(&mut self, set: &[Value]) -> Result<Vec<Vec<Value>>, Trouble> {
        let effect = self.effect(set)?;
        let own = self.job.write.table();
        let Some(of_table) = effect.tables.get(&own) else { return Ok(Vec::new()) };
        let key =
            |row: u64| self.table(own).primary_key.iter().map(|&column| self.job.rows.value(own, row, column)).collect::<Vec<Value>>();
        Ok(match &self.job.write.act {
            Act::Insert { .. } => of_table.new.iter().map(|row| row.values.clone()).collect(),
            Act::Update { .. } => of_table
                .changed
                .iter()
                .map(|(&row, set)| key(row).into_iter().chain(set.iter().map(|(_, value)| value.clone())).collect())
                .collect(),
            Act::Delete { .. } => {
                let mut rows: Vec<Vec<Value>> = of_table.gone.iter().map(|&row| key(row)).collect();
                rows.truncate(effect.own_rows as usize);
                rows
            }
        })
    }
}

fn send(session: &mut dyn Session, sql: &str) -> Result<(), kampf_contest::EngineError> {
    session.carry_out(Sent::Text { sql, kinds: &[] }, &[], &mut |_: &[ValueRef<'_>]| Flow::More).map(|_| ())
}

fn of_engine(error: kampf_contest::EngineError) -> Trouble {
    Trouble::Refused(format!("the copy that is written to: {error}"))
}
