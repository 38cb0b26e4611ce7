//! The plan of a dataset: how many rows, and what makes each column.

use std::sync::Arc;

use kampf_schema::expr::RowCount;
use kampf_schema::{ColumnId, TableId, Value, ValueRef};

use crate::batch::{BATCH_ROWS, Batch};
use crate::guard::Guard;
use crate::keys::Rekeyed;
use crate::kinds::as_kind;
use crate::others::{Origin, Others};
use crate::random::{NULLS_STAY, Permutation, Random, is_null, mix};
use crate::tables::{ColumnPlan, TablePlan, Way};
use crate::unique::ValueSource;
use crate::vocabulary::{Vocabulary, cut};

/// So often values are drawn for a check until it counts as one that cannot be met.
pub(crate) const ATTEMPTS: u64 = 4_000;

/// So often only those are drawn again that need not differ.
const OTHERS_FIRST: u64 = 64;

/// A dataset that can be made.
#[derive(Clone, Debug)]
pub struct Blueprint {
    pub(crate) tables: Vec<TablePlan>,
    pub(crate) words: Vocabulary,
    /// Row counts as asked for or guessed.
    pub(crate) counts: Vec<RowCount>,
    pub(crate) notes: Vec<String>,
    /// Keys that are other than planned.
    pub(crate) rekeyed: Option<Arc<Rekeyed>>,
}

impl Blueprint {
    /// How many rows a table has.
    pub fn rows(&self, table: TableId) -> u64 {
        self.tables[table.0].rows
    }

    /// How that number was said or guessed.
    pub fn row_count(&self, table: TableId) -> &RowCount {
        &self.counts[table.0]
    }

    /// How many of them the schema's own file gives.
    pub fn given(&self, table: TableId) -> u64 {
        self.tables[table.0].given.len() as u64
    }

    /// How a column is made, and why so.
    pub fn way(&self, table: TableId, column: ColumnId) -> &Way {
        &self.tables[table.0].columns[column].way
    }

    /// What was found out while planning that a user may want to know.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// One value. The row must be below [`Blueprint::rows`], or one of those that [`Blueprint::with_more`] has added.
    pub fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        self.exchanged(table, row, column).unwrap_or_else(|| self.as_planned(table, row, column))
    }

    /// One value as it was planned, whatever keys there are instead.
    pub(crate) fn as_planned(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        let mut batch = Batch::new(1);
        self.make(table, row, column, &mut batch);
        batch.last().to_value()
    }

    /// Makes the rows from `first` on, as many as fit a batch, and says how many that are; 0 behind the last row.
    pub fn batch(&self, table: TableId, first: u64, batch: &mut Batch) -> usize {
        let plan = &self.tables[table.0];
        let end = plan.rows.min(first + BATCH_ROWS as u64);
        batch.clear(plan.columns.len(), usize::try_from(end.saturating_sub(first)).unwrap_or(0));
        for column in 0..plan.columns.len() {
            if plan.columns[column].guard.is_some() {
                continue;
            }
            batch.begin(column);
            for row in first..end {
                self.make(table, row, column, batch);
            }
        }
        for guard in plan.guards.iter().filter(|guard| !guard.columns.is_empty()) {
            for row in first..end {
                let values = self.guarded(table, row, guard);
                for (&column, value) in guard.columns.iter().zip(&values) {
                    batch.begin(column);
                    batch.push(value.as_ref());
                }
            }
        }
        self.exchange_keys(table, first, batch);
        batch.rows()
    }

    /// The digest of a table's whole content: that of all its batches.
    pub fn digest(&self, table: TableId) -> u64 {
        let (mut batch, mut first, mut sum) = (Batch::default(), 0, 0_u64);
        loop {
            let rows = self.batch(table, first, &mut batch);
            if rows == 0 {
                return sum;
            }
            sum = sum.wrapping_add(batch.digest(first));
            first += rows as u64;
        }
    }

    fn make(&self, table: TableId, row: u64, column: ColumnId, out: &mut Batch) {
        let plan = &self.tables[table.0];
        match plan.columns[column].guard {
            None => self.draw(table, row, column, 0, None, out),
            Some(guard) => {
                let guard = &plan.guards[guard];
                let values = self.guarded(table, row, guard);
                let at = guard.columns.iter().position(|own| *own == column).unwrap_or(0);
                out.push(values[at].as_ref());
            }
        }
    }

    /// The values of the columns under a guard, drawn until its checks hold, or the last ones drawn.
    fn guarded(&self, table: TableId, row: u64, guard: &Guard) -> Vec<Value> {
        let given = usize::try_from(row).ok().and_then(|row| self.tables[table.0].given.get(row));
        let said = |column: ColumnId| given.is_some_and(|given| given[column].is_some());
        // A given row that says all of it says what it says.
        let settled = guard.columns.iter().all(|&column| said(column));
        let mut values: Vec<Option<Value>> = Vec::new();
        for attempt in 0..ATTEMPTS {
            values = vec![None; guard.columns.len()];
            let mut is_hinted = false;
            let value_of = |values: &[Option<Value>], column: ColumnId| match guard.columns.iter().position(|own| *own == column) {
                Some(at) => values[at].clone().unwrap_or(Value::Null),
                None => self.as_planned(table, row, column),
            };
            for (at, &column) in guard.columns.iter().enumerate() {
                let of = &self.tables[table.0].columns[column];
                let free = !said(column) && of.free && matches!(of.source, ValueSource::Drawn);
                let free = free && (of.null_share == 0 || attempt >= NULLS_STAY || !is_null(of.null_share, of.key, row, attempt));
                let so_far = |other: ColumnId| value_of(&values, other);
                let hinted = if free { guard.hinted(at, of.kind, of.key, row, attempt, &so_far) } else { None };
                // Neither a hint nor a number further on was made with the other checks in mind.
                is_hinted |= hinted.is_some() || attempt > 0 && matches!(of.source, ValueSource::RowNumber(_));
                // What must differ changes only where the others alone do not find what the checks want.
                let attempt = if (of.source.counts() || of.source.counts_within()) && attempt < OTHERS_FIRST { 0 } else { attempt };
                let value = hinted.unwrap_or_else(|| self.drawn(table, row, column, attempt, Some((guard, &values))));
                values[at] = Some(value);
            }
            let value = |column: ColumnId| value_of(&values, column);
            let others = if is_hinted { guard.others.as_slice() } else { &[] };
            if guard.rules.iter().chain(others).all(|rule| rule.allows(&value)) || settled {
                break;
            }
        }
        values.into_iter().map(|value| value.unwrap_or(Value::Null)).collect()
    }

    fn drawn(&self, table: TableId, row: u64, column: ColumnId, attempt: u64, under: Under<'_>) -> Value {
        let mut batch = Batch::new(1);
        self.draw(table, row, column, attempt, under, &mut batch);
        batch.last().to_value()
    }

    /// Makes a value, with another `attempt` another one where it is a matter of chance.
    fn draw(&self, table: TableId, row: u64, column: ColumnId, attempt: u64, under: Under<'_>, out: &mut Batch) {
        let plan = &self.tables[table.0];
        let of = &plan.columns[column];
        let given = plan.given.len() as u64;
        if row < given
            && let Some(value) = &plan.given[row as usize][column]
        {
            return out.push(value.as_ref());
        }
        if of.null_share > 0 && is_null(of.null_share, of.key, row, attempt) {
            return out.push(ValueRef::Null);
        }
        let mut random = Random::at(if attempt == 0 { of.key } else { of.key ^ mix(attempt) }, row);
        // What a given row leaves out is numbered behind all that is generated, and rows behind the last one behind that.
        let own = match row {
            row if row < given => plan.rows - given + row,
            row if row >= plan.rows => row,
            row => row - given,
        };
        // With another attempt a row takes a number further on, which no other row has: each has those of its own, `rows` apart.
        let another = |room: u64| own + attempt % (room / plan.rows.max(1)).max(1) * plan.rows;
        let others = Row { blueprint: self, table, row, attempt, under };
        let place = |link: usize| plan.links[link].place(row);
        match &of.source {
            ValueSource::RowNumber(first) => out.push(ValueRef::Integer(first + another(u64::MAX) as i64)),
            ValueSource::Linked(link, place) => match plan.links[*link].parent(&plan.links, row, attempt) {
                Some(parent) => {
                    let reference = &plan.references[*link];
                    let theirs = reference.parent_columns[*place];
                    // Whole numbers in order are by far the most common keys.
                    let key = &self.tables[reference.parent.0].columns[theirs];
                    match &key.source {
                        ValueSource::RowNumber(first)
                            if key.guard.is_none() && parent >= self.tables[reference.parent.0].given.len() as u64 =>
                        {
                            let theirs = &self.tables[reference.parent.0];
                            let own = if parent >= theirs.rows { parent } else { parent - theirs.given.len() as u64 };
                            out.push(ValueRef::Integer(first + own as i64));
                        }
                        _ => self.make(reference.parent, parent, theirs, out),
                    }
                }
                None => out.push(ValueRef::Null),
            },
            ValueSource::Drawn => {
                of.maker.make(&mut random, own, &self.words, &others, out);
                self.fit(of, out);
            }
            ValueSource::Distinct => {
                let Some(distinct) = of.distinct else { return out.push(ValueRef::Null) };
                self.distinct(of, &distinct, another(of.maker.capacity().unwrap_or(0)), plan.rows - given, out);
            }
            ValueSource::Numbered => {
                of.maker.make(&mut random, own, &self.words, &others, out);
                of.maker.number(own, of.key, of.longest, &self.words, out);
                let mut again = own;
                while self.taken_by(of, out).is_some() {
                    again += plan.rows;
                    out.retract();
                    of.maker.make(&mut random, own, &self.words, &others, out);
                    of.maker.number(again, of.key, of.longest, &self.words, out);
                }
            }
            ValueSource::Ordinal(link) => out.push(ValueRef::Integer(plan.links[*link].rank(row) as i64 + 1)),
            ValueSource::DistinctWithin(link) => {
                let (parent, ordinal) = place(*link);
                let room = of.maker.capacity().unwrap_or(u64::MAX);
                of.maker.nth(Permutation::new(room, mix(of.key ^ parent)).at(ordinal.min(room - 1)), of.key, out);
                self.fit(of, out);
            }
            ValueSource::NumberedWithin(link) => {
                of.maker.make(&mut random, own, &self.words, &others, out);
                let (parent, ordinal) = place(*link);
                of.maker.number(ordinal, mix(of.key ^ parent), of.longest, &self.words, out);
            }
            ValueSource::Digit { link, all, worth, steps, key } => {
                let (parent, number) = link.map_or_else(|| (0, another(*all)), place);
                let number = Permutation::new(*all, mix(key ^ parent)).at(number % all);
                of.maker.nth(number / worth % steps, of.key, out);
                self.fit(of, out);
            }
            ValueSource::Once { link, inside, outside } => {
                let fixed = if place(*link).1 == 0 { inside } else { outside };
                match fixed {
                    Some(value) => out.push(value.as_ref()),
                    None => {
                        of.maker.make(&mut random, own, &self.words, &others, out);
                        self.fit(of, out);
                    }
                }
            }
            ValueSource::Computed(term) => {
                let value = |column: ColumnId| others.value(Origin::Own(column));
                out.push(as_kind(term.value_on(&value), of.kind).as_ref());
                self.fit(of, out);
            }
        }
    }

    /// The value of a number, another one where a given row has it.
    fn distinct(&self, of: &ColumnPlan, distinct: &Permutation, number: u64, generated: u64, out: &mut Batch) {
        of.maker.nth(distinct.at(number), of.key, out);
        // Each given value is met by one row at most. That row takes the number of the given row, which has no use for it.
        while let Some(row) = self.taken_by(of, out) {
            out.retract();
            of.maker.nth(distinct.at(generated + row), of.key, out);
        }
    }

    /// The given row that has the value just made.
    fn taken_by(&self, of: &ColumnPlan, out: &Batch) -> Option<u64> {
        of.taken.as_ref()?.get(&out.last().to_string()).copied()
    }

    /// Cuts a text to the column's length.
    fn fit(&self, of: &ColumnPlan, out: &mut Batch) {
        if let Some(longest) = of.longest {
            out.amend_text(|text, start| {
                if (text.len() - start) as u64 > longest {
                    cut(text, start, longest);
                    while text.len() > start + 1 && text.ends_with(' ') {
                        text.pop();
                    }
                }
            });
        }
    }
}

/// Columns whose values are being drawn together, and those drawn so far.
type Under<'a> = Option<(&'a Guard, &'a [Option<Value>])>;

/// What a row's values are made from: its other values, and those of its parents.
struct Row<'a> {
    blueprint: &'a Blueprint,
    table: TableId,
    row: u64,
    attempt: u64,
    under: Under<'a>,
}

impl Others for Row<'_> {
    fn value(&self, origin: Origin) -> Value {
        match origin {
            Origin::Own(column) => match self.under {
                Some((guard, values)) => match guard.columns.iter().position(|own| *own == column) {
                    Some(at) => match &values[at] {
                        Some(value) => value.clone(),
                        None => self.blueprint.drawn(self.table, self.row, column, self.attempt, self.under),
                    },
                    None => self.blueprint.as_planned(self.table, self.row, column),
                },
                None => self.blueprint.as_planned(self.table, self.row, column),
            },
            Origin::Parent(link, column) => {
                let plan = &self.blueprint.tables[self.table.0];
                match plan.links[link].parent(&plan.links, self.row, self.attempt) {
                    Some(parent) => self.blueprint.as_planned(plan.references[link].parent, parent, column),
                    None => Value::Null,
                }
            }
        }
    }

    fn children(&self, child: TableId, reference: usize) -> u64 {
        let link = &self.blueprint.tables[child.0].links[reference];
        // What a row that is there says of its children stays as it is.
        if self.row < self.blueprint.rows(self.table) { link.children(self.row) } else { link.children_and_new(self.row) }
    }

    fn ordinal(&self, link: usize) -> u64 {
        self.blueprint.tables[self.table.0].links[link].rank(self.row)
    }

    fn siblings(&self, link: usize) -> (u64, u64) {
        let links = &self.blueprint.tables[self.table.0].links;
        let children =
            |parent| if links[link].is_new(self.row) { links[link].children_and_new(parent) } else { links[link].children(parent) };
        links[link].parent(links, self.row, self.attempt).map_or((0, 0), |parent| (parent, children(parent)))
    }

    fn previous(&self, link: usize, column: ColumnId) -> Option<Value> {
        let before = self.blueprint.tables[self.table.0].links[link].before(self.row)?;
        Some(self.blueprint.as_planned(self.table, before, column))
    }
}

#[cfg(test)]
mod tests;
