//! A scratch while contenders write to it: what must become of its rows, whether it has, and that all is taken back.

use std::rc::Rc;
use std::time::{Duration, Instant};

use kampf_contest::{Act, Difference, Effect, Effects, RowSource, value_to_json};
use kampf_engine::TouchedTables;
use kampf_protocol::{Mode, NewRows};
use kampf_schema::{TableId, Value};

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
    tables: TouchedTables<'a>,
    effects: Effects<'a>,
    known: Vec<(Vec<Value>, Rc<Effect>)>,
    /// How long it takes to look at all of it, and when that was done last.
    looking: Duration,
    looked: Instant,
    bytes: u64,
}

impl<'a> ScratchState<'a> {
    pub(crate) fn open(setup: &'a Setup<'a>, job: &'a WriteJob) -> Result<ScratchState<'a>, Trouble> {
        let place = setup.scratch.ok_or_else(|| Trouble::NotStarted("there is no copy of the data to write to".to_owned()))?;
        let begun = Instant::now();
        let tables = TouchedTables::open(setup.engine, &setup.settings, setup.schema, place.scratch, &job.rows, &job.touched);
        let effects = Effects::of(setup.schema, &job.write, &job.rows, &job.new);
        let (tables, bytes) = (tables.map_err(|error| of_engine(&error))?, place.scratch.bytes().map_err(|error| of_engine(&error))?);
        Ok(ScratchState { setup, job, place, tables, effects, known: Vec::new(), looking: begun.elapsed(), looked: Instant::now(), bytes })
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
            NewRows { table: self.setup.schema.table(table).name.clone(), rows, under: new.iter().filter_map(|row| row.under).collect() }
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
            Ok(_) => self.tables.take_back(effect).map_err(|error| {
                Trouble::Refused(format!("what it wrote cannot be taken back, as if it had left a transaction open: {error}"))
            }),
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
            if undone.is_err() || !self.sums_are_as_before()? {
                self.repair()?;
            }
            return Ok(Some(difference));
        }
        undone?;
        found
    }

    fn difference(&self, effect: &Effect, said: u64) -> Result<Option<Difference>, Trouble> {
        let found = self.tables.after(&self.effects, effect).map_err(|error| of_engine(&error))?;
        let difference = effect.difference(self.setup.schema, &self.job.write, &self.effects, self.tables.before(), &found);
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

    /// Whether all is as it was; not looked at every time, where that takes long. What has grown is made smaller again.
    pub(crate) fn is_whole(&mut self) -> Result<bool, Trouble> {
        if self.looked.elapsed().mul_f64(LOOKING) < self.looking {
            return Ok(true);
        }
        let begun = Instant::now();
        let whole = self.sums_are_as_before()?;
        if self.place.scratch.bytes().map_err(|error| of_engine(&error))? > self.bytes + self.bytes / 10 {
            self.place.scratch.make_room().map_err(|error| of_engine(&error))?;
            self.bytes = self.bytes.max(self.place.scratch.bytes().map_err(|error| of_engine(&error))?);
        }
        (self.looking, self.looked) = (begun.elapsed(), Instant::now());
        Ok(whole)
    }

    /// Whether all is as it was.
    pub(crate) fn sums_are_as_before(&self) -> Result<bool, Trouble> {
        self.tables.are_as_before().map_err(|error| of_engine(&error))
    }

    /// Sets all touched tables to what they were, whatever has become of them.
    pub(crate) fn repair(&mut self) -> Result<(), Trouble> {
        match self.tables.repair() {
            Ok(true) => Ok(()),
            Ok(false) => Err(Trouble::Refused("the copy that is written to is not as it was, and does not become so again".to_owned())),
            Err(error) => Err(Trouble::Refused(format!("the copy that is written to cannot be repaired: {error}"))),
        }
    }

    /// Rows of the right answer: one for each row of the contest's own table that is written, by what is known of it.
    pub(crate) fn own_rows(&mut self, set: &[Value]) -> Result<Vec<Vec<Value>>, Trouble> {
        let effect = self.effect(set)?;
        let own = self.job.write.table();
        let Some(of_table) = effect.tables.get(&own) else { return Ok(Vec::new()) };
        let key = |row: u64| {
            self.setup.schema.table(own).primary_key.iter().map(|&column| self.job.rows.value(own, row, column)).collect::<Vec<Value>>()
        };
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

fn of_engine(error: &kampf_contest::EngineError) -> Trouble {
    Trouble::Refused(format!("the copy that is written to: {error}"))
}
