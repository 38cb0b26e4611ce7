//! Answers that are kept in the process by their parameters, in the form that the contender makes of rows.
//!
//! What is kept is the finished answer: what was reckoned of rows is not reckoned again, and nothing hangs on the database any more.

use std::collections::{HashMap, VecDeque};

use kampf_schema::{Value, ValueRef};

use super::consumer::Consumer;
use super::entity::{Managed, Plain};
use super::graph::{Call, Graph};
use super::map::Maps;
use super::record::Records;
use super::sending::Ready;
use super::store::{Slot, Store};
use super::whole::finish;
use crate::choice::Hydration;
use crate::engine::EngineError;
use crate::plan::{AppLeaf, Layout, LayoutColumn, Plan};

/// The parameters of a call but for one whole number alone, each value told from every other.
type CacheKey = Box<[u8]>;

fn asked(parameters: &[Value]) -> CacheKey {
    let mut bytes = Vec::new();
    parameters.iter().for_each(|value| write(value.as_ref(), &mut bytes));
    bytes.into()
}

/// By what an answer is found.
enum Key {
    Integer(i64),
    Other(CacheKey),
}

/// Writes a value so that no other begins or reads the same.
fn write(value: ValueRef<'_>, bytes: &mut Vec<u8>) {
    let mut sized = |tag: u8, content: &[u8]| {
        bytes.push(tag);
        bytes.extend_from_slice(&content.len().to_le_bytes());
        bytes.extend_from_slice(content);
    };
    match value {
        ValueRef::Null => sized(0, &[]),
        ValueRef::Integer(number) => sized(1, &number.to_le_bytes()),
        ValueRef::Decimal(units, scale) => {
            sized(2, &units.get().to_le_bytes());
            bytes.push(scale);
        }
        ValueRef::Real(number) => sized(3, &number.to_bits().to_le_bytes()),
        ValueRef::Text(text) => sized(4, text.as_bytes()),
        ValueRef::Boolean(truth) => sized(5, &[u8::from(truth)]),
        ValueRef::Date(days) => sized(6, &days.to_le_bytes()),
        ValueRef::Timestamp(micros) => sized(7, &micros.to_le_bytes()),
        ValueRef::Uuid(uuid) => sized(8, &uuid),
        ValueRef::Blob(content) => sized(9, content),
        ValueRef::List(values) => {
            sized(10, &values.len().to_le_bytes());
            values.iter().for_each(|value| write(value.as_ref(), bytes));
        }
    }
}

/// All answers that are kept.
pub(super) enum Answers {
    Record(KeptRows<Records>),
    Map(KeptRows<Maps>),
    Plain(KeptRows<Plain>),
    Managed(KeptRows<Managed>),
}

macro_rules! each {
    ($answers:expr, $kept:ident => $done:expr) => {
        match $answers {
            Answers::Record($kept) => $done,
            Answers::Map($kept) => $done,
            Answers::Plain($kept) => $done,
            Answers::Managed($kept) => $done,
        }
    };
}

impl Answers {
    /// Room for the answers of a plan.
    pub(super) fn of(plan: &Plan) -> Answers {
        match plan.hydration {
            Hydration::Raw | Hydration::Record => Answers::Record(KeptRows::of(plan)),
            Hydration::Map => Answers::Map(KeptRows::of(plan)),
            Hydration::Plain => Answers::Plain(KeptRows::of(plan)),
            Hydration::Managed => Answers::Managed(KeptRows::of(plan)),
        }
    }

    pub(super) fn clear(&mut self) {
        each!(self, kept => kept.clear());
    }

    /// Hands on the answer of such parameters; false where none is kept.
    #[inline]
    pub(super) fn give<C: Consumer>(&self, parameters: &[Value], consumer: &mut C) -> bool {
        each!(self, kept => kept.give(parameters, consumer))
    }

    /// Asks the database, hands on the answer, and keeps it. Gives how many objects were built.
    pub(super) fn ask<C: Consumer>(
        &mut self,
        plan: &Plan,
        call: &mut Call<'_>,
        root: &Ready,
        binds: &[ValueRef<'_>],
        consumer: &mut C,
    ) -> Result<u64, EngineError> {
        each!(self, kept => kept.ask(plan, call, root, binds, consumer))
    }
}

/// Rows of an answer, or of the lists at one place in it: what each holds, in order.
struct Level {
    items: Vec<Item>,
    layout: Layout,
}

#[derive(Clone, Copy)]
enum Item {
    /// The value at a place.
    Value(usize),
    /// A list, whose rows are at a level, in a slot.
    List(usize, usize),
}

/// Answers in one form.
pub(super) struct KeptRows<S> {
    levels: Vec<Level>,
    /// Whether there are no lists in them.
    is_flat: bool,
    /// By one whole number, as most are asked for.
    by_integer: HashMap<i64, Answer<S>>,
    /// By any other parameters.
    answers: HashMap<CacheKey, Answer<S>>,
    /// Who makes room first.
    oldest: VecDeque<Key>,
    most: usize,
}

/// One answer.
struct Answer<S> {
    /// The rows of the answer.
    root: S,
    /// Those of the lists, by their levels from 1 on.
    below: Box<[S]>,
    rows: u32,
    /// How many rows came, where that is not as expected.
    came: Option<u64>,
}

impl<S> Answer<S> {
    fn store(&self, level: usize) -> &S {
        if level == 0 { &self.root } else { &self.below[level - 1] }
    }

    fn store_mut(&mut self, level: usize) -> &mut S {
        if level == 0 { &mut self.root } else { &mut self.below[level - 1] }
    }
}

impl<S: Store> KeptRows<S> {
    fn of(plan: &Plan) -> KeptRows<S> {
        let mut levels = Vec::new();
        levels_of(plan, &plan.give, &mut levels);
        let most = usize::try_from(plan.manner.entries.max(1)).unwrap_or(usize::MAX);
        let is_flat = levels.len() == 1;
        KeptRows { levels, is_flat, by_integer: HashMap::new(), answers: HashMap::new(), oldest: VecDeque::new(), most }
    }

    fn clear(&mut self) {
        self.by_integer.clear();
        self.answers.clear();
        self.oldest.clear();
    }

    #[inline]
    fn give<C: Consumer>(&self, parameters: &[Value], consumer: &mut C) -> bool {
        let answer = match parameters {
            [Value::Integer(number)] => self.by_integer.get(number),
            _ => self.answers.get(&asked(parameters)),
        };
        let Some(answer) = answer else { return false };
        if let Some(came) = answer.came {
            consumer.came(came);
            return true;
        }
        for row in 0..answer.rows {
            consumer.row();
            if self.is_flat {
                answer.root.each_value(row, |value| consumer.value(value));
            } else {
                self.give_row(answer, 0, row, consumer);
            }
        }
        true
    }

    fn give_row<C: Consumer>(&self, answer: &Answer<S>, level: usize, row: u32, consumer: &mut C) {
        let store = answer.store(level);
        for item in &self.levels[level].items {
            match *item {
                Item::Value(place) => consumer.value(store.value(row, place)),
                Item::List(below, slot) => {
                    consumer.list();
                    if let Slot::Many(rows) = store.slot(row, slot) {
                        for &row in rows {
                            consumer.item();
                            self.give_row(answer, below, row, consumer);
                        }
                    }
                    consumer.end();
                }
            }
        }
    }

    fn ask<C: Consumer>(
        &mut self,
        plan: &Plan,
        call: &mut Call<'_>,
        root: &Ready,
        binds: &[ValueRef<'_>],
        consumer: &mut C,
    ) -> Result<u64, EngineError> {
        let mut graph = Graph::<S>::new(plan);
        let mut roots = graph.fetch(call.session, root.sent(), binds)?;
        let mut recording = Recording {
            to: consumer,
            levels: &self.levels,
            answer: Answer {
                root: S::new(&self.levels[0].layout),
                below: self.levels[1..].iter().map(|level| S::new(&level.layout)).collect(),
                rows: 0,
                came: None,
            },
            values: Vec::new(),
            open: vec![OpenAnswer::at(0, 0)],
        };
        let objects = finish(plan, call, &mut graph, &mut roots, &mut recording)?;
        let answer = recording.done();
        self.put(call.parameters, answer);
        Ok(objects)
    }

    fn put(&mut self, parameters: &[Value], answer: Answer<S>) {
        while self.oldest.len() >= self.most {
            match self.oldest.pop_front() {
                Some(Key::Integer(number)) => drop(self.by_integer.remove(&number)),
                Some(Key::Other(asked)) => drop(self.answers.remove(&asked)),
                None => break,
            }
        }
        if let [Value::Integer(number)] = parameters {
            self.oldest.push_back(Key::Integer(*number));
            self.by_integer.insert(*number, answer);
        } else {
            let asked = asked(parameters);
            self.oldest.push_back(Key::Other(asked.clone()));
            self.answers.insert(asked, answer);
        }
    }
}

/// Notes what rows hold, and those of the lists in them; gives the level's place.
fn levels_of(plan: &Plan, give: &[kampf_schema::expr::Expr<AppLeaf>], levels: &mut Vec<Level>) -> usize {
    let own = levels.len();
    let layout = Layout { name: String::new(), columns: Vec::new(), key: Vec::new(), slots: 0 };
    levels.push(Level { items: Vec::new(), layout });
    let (mut items, mut values, mut slots) = (Vec::new(), 0, 0);
    for value in give {
        if let Some(AppLeaf::List(list)) = value.as_leaf() {
            items.push(Item::List(levels_of(plan, &plan.lists[*list].give, levels), slots));
            slots += 1;
        } else {
            items.push(Item::Value(values));
            values += 1;
        }
    }
    levels[own].items = items;
    levels[own].layout.columns = (0..values).map(|at| LayoutColumn { name: format!("value {at}") }).collect();
    levels[own].layout.slots = slots;
    own
}

/// Hands an answer on, and keeps what goes by.
struct Recording<'a, S, C> {
    to: &'a mut C,
    levels: &'a [Level],
    answer: Answer<S>,
    /// Values of the rows that are not over, the outermost first.
    values: Vec<Value>,
    /// The root's rows, and the lists that are not over, the innermost last.
    open: Vec<OpenAnswer>,
}

/// Rows that are not all there yet.
struct OpenAnswer {
    level: usize,
    rows: Vec<u32>,
    /// Where the values of the last row begin; none before the first.
    row: Option<usize>,
    begins: usize,
    /// The lists of the last row.
    lists: Vec<Vec<u32>>,
}

impl OpenAnswer {
    fn at(level: usize, begins: usize) -> OpenAnswer {
        OpenAnswer { level, rows: Vec::new(), row: None, begins, lists: Vec::new() }
    }
}

impl<S: Store, C> Recording<'_, S, C> {
    /// Keeps the last row of the innermost list.
    fn end_row(&mut self) {
        let Some(open) = self.open.last_mut() else { return };
        let Some(begins) = open.row.take() else { return };
        let store = self.answer.store_mut(open.level);
        let row = store.push_values(&mut self.values, begins);
        for (slot, rows) in open.lists.drain(..).enumerate() {
            *store.slot_mut(row, slot) = Slot::Many(rows);
        }
        open.rows.push(row);
    }

    fn begin_row(&mut self) {
        self.end_row();
        if let Some(open) = self.open.last_mut() {
            open.row = Some(open.begins);
        }
    }

    fn done(mut self) -> Answer<S> {
        self.end_row();
        self.answer.rows = self.open.first().map_or(0, |open| u32::try_from(open.rows.len()).unwrap_or(u32::MAX));
        self.answer
    }
}

impl<S: Store, C: Consumer> Consumer for Recording<'_, S, C> {
    fn row(&mut self) {
        self.to.row();
        self.begin_row();
    }

    fn value(&mut self, value: ValueRef<'_>) {
        self.to.value(value);
        self.values.push(value.to_value());
    }

    fn list(&mut self) {
        self.to.list();
        let Some(open) = self.open.last() else { return };
        let mut below =
            self.levels[open.level].items.iter().filter_map(|item| if let Item::List(below, _) = item { Some(*below) } else { None });
        let level = below.nth(open.lists.len()).unwrap_or(open.level);
        self.open.push(OpenAnswer::at(level, self.values.len()));
    }

    fn item(&mut self) {
        self.to.item();
        self.begin_row();
    }

    fn end(&mut self) {
        self.to.end();
        self.end_row();
        if let (Some(done), Some(open)) = (self.open.pop(), self.open.last_mut()) {
            open.lists.push(done.rows);
        }
    }

    fn came(&mut self, rows: u64) {
        self.to.came(rows);
        self.answer.came = Some(rows);
    }
}
