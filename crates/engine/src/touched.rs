//! The tables of a scratch that are written to: what they were like, what has become of them, and how all is taken back.

use std::collections::{BTreeMap, HashMap};

use kampf_contest::{
    BatchPlan, Effect, Effects, EngineError, Flow, InsertStep, NewColumn, NewRow, RowSource, Sent, Session, Statement, TableEffect,
    TableReader, TableState, WriteExecution, WritePlan, WriteStep, generated_key,
};
use kampf_schema::{ColumnId, LogicalType, Schema, Table, TableId, Value, ValueRef};

use crate::engine::{Connection, Engine, Scratch, Setting};

/// The tables of a scratch that are written to. Rows that were there are known as they were generated.
pub struct TouchedTables<'a> {
    engine: &'a dyn Engine,
    schema: &'a Schema,
    scratch: &'a dyn Scratch,
    rows: &'a dyn RowSource,
    touched: &'a [TableId],
    connection: Box<dyn Connection>,
    /// What they were like.
    before: BTreeMap<TableId, TableState>,
    /// The largest key that the database had made of each.
    largest: BTreeMap<TableId, i64>,
}

/// Rows of a table that are not as they were.
struct Wrong {
    table: TableId,
    strange: Vec<Vec<Value>>,
    missing: Vec<Vec<Value>>,
    changed: Vec<Vec<Value>>,
}

impl<'a> TouchedTables<'a> {
    /// Of a scratch that nobody has written to yet.
    ///
    /// # Errors
    /// Those of the engine.
    pub fn open(
        engine: &'a dyn Engine,
        settings: &[Setting],
        schema: &'a Schema,
        scratch: &'a dyn Scratch,
        rows: &'a dyn RowSource,
        touched: &'a [TableId],
    ) -> Result<TouchedTables<'a>, EngineError> {
        let connection = engine.connect_scratch(scratch.own_url(), settings, false, None)?;
        let (before, largest) = (BTreeMap::new(), BTreeMap::new());
        let mut tables = TouchedTables { engine, schema, scratch, rows, touched, connection, before, largest };
        tables.before = tables.sums()?;
        for &table in touched {
            let Some(column) = generated_key(schema, table) else { continue };
            let model = schema.table(table);
            let quote = engine.dialect().quote;
            let sql = format!("SELECT max({}) FROM {}", quote(&model.columns[column].name), quote(&model.name));
            let mut largest = 0;
            tables.read(&sql, &[Some(LogicalType::Integer)], &mut |row| {
                if let [ValueRef::Integer(number)] = row {
                    largest = *number;
                }
            })?;
            tables.largest.insert(table, largest);
        }
        Ok(tables)
    }

    /// What each table was like.
    pub fn before(&self) -> &BTreeMap<TableId, TableState> {
        &self.before
    }

    fn table(&self, table: TableId) -> &'a Table {
        self.schema.table(table)
    }

    fn read(&self, sql: &str, kinds: &[Option<LogicalType>], take: &mut dyn FnMut(&[ValueRef<'_>])) -> Result<(), EngineError> {
        let mut session = self.connection.session();
        let mut sink = |row: &[ValueRef<'_>]| {
            take(row);
            Flow::More
        };
        session.carry_out(Sent::Text { sql, kinds }, &[], &mut sink).map(|_| ())
    }

    /// All rows of a table, with all their columns.
    fn rows_of(&self, table: TableId, take: &mut dyn FnMut(&[ValueRef<'_>])) -> Result<(), EngineError> {
        let model = self.table(table);
        let quote = self.engine.dialect().quote;
        let columns: Vec<String> = model.columns.iter().map(|column| quote(&column.name)).collect();
        let kinds: Vec<Option<LogicalType>> = model.columns.iter().map(|column| Some(column.kind)).collect();
        self.read(&format!("SELECT {} FROM {}", columns.join(", "), quote(&model.name)), &kinds, take)
    }

    fn sums(&self) -> Result<BTreeMap<TableId, TableState>, EngineError> {
        let sum = |&table: &TableId| {
            let mut state = TableState::default();
            self.rows_of(table, &mut |row| state.take(row))?;
            Ok((table, state))
        };
        self.touched.iter().map(sum).collect()
    }

    /// Whether all is as it was before anybody wrote.
    ///
    /// # Errors
    /// Those of the engine.
    pub fn are_as_before(&self) -> Result<bool, EngineError> {
        Ok(self.sums()? == self.before)
    }

    /// The rows as they are after a call that was to have an effect.
    ///
    /// # Errors
    /// Those of the engine.
    pub fn after(&self, effects: &Effects<'_>, effect: &Effect) -> Result<Vec<TableReader>, EngineError> {
        let nothing = TableEffect::default();
        let of_table = |&table: &TableId| {
            let effect = effect.tables.get(&table).unwrap_or(&nothing);
            let mut reader = TableReader::of(self.schema, effects, table, effect, self.largest.get(&table).copied());
            self.rows_of(table, &mut |row| reader.take(row))?;
            Ok(reader)
        };
        self.touched.iter().map(of_table).collect()
    }

    /// Takes back what an effect says has been written, in one transaction.
    ///
    /// # Errors
    /// Those of the engine: something else was written, or is locked.
    pub fn take_back(&self, effect: &Effect) -> Result<(), EngineError> {
        let mut session = self.connection.session();
        let undone = self.undo_in(session.as_mut(), effect);
        if undone.is_err() {
            let _ = send(session.as_mut(), self.engine.dialect().rollback);
        }
        drop(session);
        undone?;
        self.scratch.settle()
    }

    fn undo_in(&self, session: &mut dyn Session, effect: &Effect) -> Result<(), EngineError> {
        let dialect = self.engine.dialect();
        send(session, dialect.begin_writing)?;
        for sql in self.scratch.undo_begins() {
            send(session, sql)?;
        }
        let mut order = self.schema.parents_first();
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
        (0..self.table(table).columns.len()).map(|column| self.rows.value(table, row, column)).collect()
    }

    fn remove_new(&self, session: &mut dyn Session, table: TableId, new: &[NewRow]) -> Result<(), EngineError> {
        let (model, dialect) = (self.table(table), self.engine.dialect());
        let name = (dialect.quote)(&model.name);
        if let (Some(column), Some(largest)) = (generated_key(self.schema, table), self.largest.get(&table)) {
            let sql = format!("DELETE FROM {name} WHERE {} > {largest}", (dialect.quote)(&model.columns[column].name));
            return send(session, &sql);
        }
        let sql = format!("DELETE FROM {name} WHERE {}", self.is_key(model, 1));
        new.iter().try_for_each(|row| self.with_key(session, &sql, model, &row.values, &[]))
    }

    /// The condition that a row has a key, whose values are parameters from a number on.
    fn is_key(&self, model: &Table, first: usize) -> String {
        let dialect = self.engine.dialect();
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
    ) -> Result<(), EngineError> {
        let id = session.prepare(sql, &[])?;
        let parameters: Vec<ValueRef<'_>> = before.iter().chain(&model.primary_key).map(|&column| values[column].as_ref()).collect();
        session.carry_out(Sent::Kept(id), &parameters, &mut |_: &[ValueRef<'_>]| Flow::More).map(|_| ())
    }

    fn set_back(&self, session: &mut dyn Session, table: TableId, columns: &[ColumnId], values: &[Value]) -> Result<(), EngineError> {
        let (model, dialect) = (self.table(table), self.engine.dialect());
        let set = |(at, &column): (usize, &ColumnId)| {
            format!("{} = {}", (dialect.quote)(&model.columns[column].name), (dialect.placeholder)(at + 1))
        };
        let set: Vec<String> = columns.iter().enumerate().map(set).collect();
        let sql = format!("UPDATE {} SET {} WHERE {}", (dialect.quote)(&model.name), set.join(", "), self.is_key(model, columns.len() + 1));
        self.with_key(session, &sql, model, values, columns)
    }

    fn put_back(&self, session: &mut dyn Session, table: TableId, rows: Vec<Vec<Value>>) -> Result<(), EngineError> {
        if rows.is_empty() {
            return Ok(());
        }
        let (model, dialect) = (self.table(table), self.engine.dialect());
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

    /// Sets all touched tables to what they were, whatever has become of them.
    ///
    /// # Errors
    /// Those of the engine; false where that did not do.
    pub fn repair(&self) -> Result<bool, EngineError> {
        let key_of = |model: &Table, values: &[Value]| {
            let parts = model.primary_key.iter().map(|&column| values[column].to_string());
            parts.map(|part| format!("{}:{part}", part.len())).collect::<String>()
        };
        let mut wrong: Vec<Wrong> = Vec::new();
        for &table in self.touched {
            let model = self.table(table);
            let mut there: HashMap<String, Vec<Value>> = HashMap::new();
            self.rows_of(table, &mut |row| {
                let values: Vec<Value> = row.iter().map(|value| value.to_value()).collect();
                there.insert(key_of(model, &values), values);
            })?;
            let (mut missing, mut changed) = (Vec::new(), Vec::new());
            for row in 0..self.rows.count(table) {
                let image = self.image(table, row);
                match there.remove(&key_of(model, &image)) {
                    None => missing.push(image),
                    Some(found) if found != image => changed.push(image),
                    Some(_) => {}
                }
            }
            wrong.push(Wrong { table, strange: there.into_values().collect(), missing, changed });
        }
        let order = self.schema.parents_first();
        let place = |table: &TableId| order.iter().position(|one| one == table);
        wrong.sort_by_key(|of| place(&of.table));
        let mut session = self.connection.session();
        let mut all = || -> Result<(), EngineError> {
            let dialect = self.engine.dialect();
            send(session.as_mut(), dialect.begin_writing)?;
            for sql in self.scratch.undo_begins() {
                send(session.as_mut(), sql)?;
            }
            for Wrong { table, strange, .. } in wrong.iter().rev() {
                let model = self.table(*table);
                let sql = format!("DELETE FROM {} WHERE {}", (dialect.quote)(&model.name), self.is_key(model, 1));
                strange.iter().try_for_each(|values| self.with_key(session.as_mut(), &sql, model, values, &[]))?;
            }
            for Wrong { table, missing, changed, .. } in &wrong {
                self.put_back(session.as_mut(), *table, missing.clone())?;
                let model = self.table(*table);
                let others: Vec<ColumnId> = (0..model.columns.len()).filter(|column| !model.primary_key.contains(column)).collect();
                changed.iter().try_for_each(|values| self.set_back(session.as_mut(), *table, &others, values))?;
            }
            send(session.as_mut(), dialect.commit)
        };
        let done = all();
        drop(session);
        done?;
        self.scratch.settle()?;
        self.are_as_before()
    }
}

fn send(session: &mut dyn Session, sql: &str) -> Result<(), EngineError> {
    session.carry_out(Sent::Text { sql, kinds: &[] }, &[], &mut |_: &[ValueRef<'_>]| Flow::More).map(|_| ())
}
