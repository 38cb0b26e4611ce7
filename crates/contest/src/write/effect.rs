//! What becomes of the rows, by the meaning of a write alone.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;

use kampf_schema::expr::{Comparison, Expr, Node};
use kampf_schema::{ColumnId, Default as ColumnDefault, Schema, TableId, Value};

use super::{Act, OnDelete, Write, on_delete};
use crate::evaluate::{Overflow, PlainEvaluation, RowSource, key_of};
use crate::key::Key;
use crate::need::Leaf;

/// What becomes of the rows for one parameter set.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Effect {
    /// By tables.
    pub tables: BTreeMap<TableId, TableEffect>,
    /// Rows of the contest's own table that are new, changed or gone.
    pub own_rows: u64,
}

/// What becomes of a table's rows. Rows that are there are said by their numbers in the generated rows.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TableEffect {
    /// Those that go.
    pub gone: BTreeSet<u64>,
    /// Those that change, with what columns become.
    pub changed: BTreeMap<u64, Vec<(ColumnId, Value)>>,
    /// Those that are new.
    pub new: Vec<NewRow>,
}

/// A row that is new.
#[derive(Clone, Debug, PartialEq)]
pub struct NewRow {
    /// The values of all columns; null where the database makes one, or it is a new parent's.
    pub values: Vec<Value>,
    /// The new row that it hangs on, by its place among those of its table.
    pub under: Option<usize>,
}

/// Why a write cannot be carried out as it is asked for.
#[derive(Clone, Debug, PartialEq)]
pub enum WriteError {
    /// A number becomes too large.
    TooLarge(Overflow),
    /// It is a matter of the last digits of a real which rows are meant.
    Unclear,
    /// Rows hang on what goes, and nothing is said of them.
    Hangs {
        /// The table whose rows go.
        table: TableId,
        /// The table whose rows hang on them.
        child: TableId,
    },
    /// A rule of the schema would be broken, in words.
    Breaks(String),
}

impl fmt::Display for WriteError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            WriteError::TooLarge(overflow) => overflow.fmt(f),
            WriteError::Unclear => f.write_str("which rows are meant is a matter of the last digits of reals"),
            WriteError::Hangs { .. } => f.write_str("other rows hang on what is deleted"),
            WriteError::Breaks(what) => f.write_str(what),
        }
    }
}

impl std::error::Error for WriteError {}

impl From<Overflow> for WriteError {
    fn from(overflow: Overflow) -> WriteError {
        WriteError::TooLarge(overflow)
    }
}

type ByKey = HashMap<Key, Vec<u64>>;

/// Works out effects of one write over rows.
pub struct Effects<'a> {
    schema: &'a Schema,
    write: &'a Write,
    rows: &'a dyn RowSource,
    evaluation: PlainEvaluation<'a>,
    /// For each table that gets new rows, their numbers in the row source, and the places of the new rows that they hang on.
    new: &'a [Vec<(u64, Option<usize>)>],
    /// Those rows, without what is set with parameters; made when they are first asked for.
    made: OnceCell<Vec<Vec<NewRow>>>,
    /// A column of the own table that the condition wants to be equal to something that is the same for all rows.
    sought: Option<(ColumnId, Expr<Leaf>)>,
    /// Rows by columns, as they were asked for.
    indexes: RefCell<HashMap<(TableId, Vec<ColumnId>), ByKey>>,
}

impl<'a> Effects<'a> {
    /// Over some rows. `new` says of each table that gets new rows, in the order of [`Write::new_tables`], which of the source's rows those are: numbers
    /// behind its last row, which it must know the values of.
    pub fn of(schema: &'a Schema, write: &'a Write, rows: &'a dyn RowSource, new: &'a [Vec<(u64, Option<usize>)>]) -> Effects<'a> {
        let evaluation = PlainEvaluation::of(schema, &write.rows, rows);
        let parts = write.rows.filter.iter().flat_map(|part| part.condition.conjuncts());
        let sought = parts.into_iter().find_map(sought);
        Effects { schema, write, rows, evaluation, new, made: OnceCell::new(), sought, indexes: RefCell::default() }
    }

    /// The rows.
    pub fn rows(&self) -> &dyn RowSource {
        self.rows
    }

    /// What becomes of them, whatever rules that breaks ([`Effects::with`] sees to these).
    pub(super) fn meant(&self, parameters: &[Value]) -> Result<Effect, WriteError> {
        self.evaluation.overflows()?;
        match &self.write.act {
            Act::Insert { set, .. } => self.inserted(set, parameters),
            Act::Update { set } => self.updated(set, parameters),
            Act::Delete { also } => self.deleted(also, parameters),
        }
    }

    fn inserted(&self, set: &[ColumnId], parameters: &[Value]) -> Result<Effect, WriteError> {
        let made = self.made.get_or_init(|| self.new_rows());
        let mut effect = Effect { own_rows: self.new.first().map_or(0, Vec::len) as u64, ..Effect::default() };
        for (place, ((table, _), rows)) in self.write.new_tables().into_iter().zip(made).enumerate() {
            let mut rows = rows.clone();
            if place == 0 && !set.is_empty() {
                for (row, (number, _)) in rows.iter_mut().zip(&self.new[0]) {
                    let given = self.evaluation.root(*number, parameters)?;
                    set.iter().zip(given.values).for_each(|(&column, value)| row.values[column] = self.as_kept(column, value));
                }
            }
            effect.tables.entry(table).or_default().new = rows;
        }
        Ok(effect)
    }

    /// The rows that are new in each table, as they are made.
    fn new_rows(&self) -> Vec<Vec<NewRow>> {
        let of_table = |(place, (table, _)): (usize, (TableId, u64))| {
            let generated = super::generated_key(self.schema, table);
            let hung = hung_columns(self.schema, self.write, place);
            let row = |&(number, under): &(u64, Option<usize>)| {
                let is_open = |column: ColumnId| Some(column) == generated || (under.is_some() && hung.contains(&column));
                let own = |column: ColumnId| if is_open(column) { Value::Null } else { self.rows.value(table, number, column) };
                NewRow { values: (0..self.schema.table(table).columns.len()).map(own).collect(), under }
            };
            self.new[place].iter().map(row).collect()
        };
        self.write.new_tables().into_iter().enumerate().map(of_table).collect()
    }

    /// A value as a column of the own table keeps it: whole numbers in a column of decimals are decimals.
    fn as_kept(&self, column: ColumnId, value: Value) -> Value {
        let kind = self.schema.table(self.write.table()).columns[column].kind;
        kampf_schema::expr::fit(&value, kind).unwrap_or(value)
    }

    /// The schema.
    pub(super) fn schema(&self) -> &'a Schema {
        self.schema
    }

    /// The contest's own table.
    pub(super) fn own_table(&self) -> TableId {
        self.write.table()
    }

    /// The columns that are set.
    pub(super) fn set_columns(&self) -> &[ColumnId] {
        match &self.write.act {
            Act::Insert { set, .. } | Act::Update { set } => set,
            Act::Delete { .. } => &[],
        }
    }

    fn updated(&self, set: &[ColumnId], parameters: &[Value]) -> Result<Effect, WriteError> {
        let keys = self.schema.table(self.write.table()).primary_key.len();
        let mut own = TableEffect::default();
        for (row, values) in self.taken(parameters)? {
            let values = set.iter().zip(values.into_iter().skip(keys));
            own.changed.insert(row, values.map(|(&column, value)| (column, self.as_kept(column, value))).collect());
        }
        let own_rows = own.changed.len() as u64;
        Ok(Effect { tables: [(self.write.table(), own)].into(), own_rows })
    }

    fn deleted(&self, also: &[TableId], parameters: &[Value]) -> Result<Effect, WriteError> {
        let root = self.write.table();
        let own: BTreeSet<u64> = self.taken(parameters)?.into_iter().map(|(row, _)| row).collect();
        let mut effect = Effect { own_rows: own.len() as u64, ..Effect::default() };
        // What statements say: the rows that are meant, and of the tables that go with them those that hang on what goes so.
        let mut gone: Vec<(TableId, Vec<u64>)> = vec![(root, own.iter().copied().collect())];
        effect.tables.entry(root).or_default().gone.extend(&own);
        let mut at = 0;
        while let Some((parent, rows)) = gone.get(at).cloned() {
            at += 1;
            for &child in also.iter().filter(|child| **child != parent) {
                let new = self.hanging(child, parent, &rows).into_iter().map(|(_, row)| row);
                let of_child = &mut effect.tables.entry(child).or_default().gone;
                let new: Vec<u64> = new.filter(|row| of_child.insert(*row)).collect();
                if !new.is_empty() {
                    gone.push((child, new));
                }
            }
        }
        // What the schema says of all that hangs on these.
        let mut held = Vec::new();
        while let Some((parent, rows)) = gone.pop() {
            for child in self.schema.ids() {
                for (reference, row) in self.hanging(child, parent, &rows) {
                    let reference = &self.schema.table(child).references[reference];
                    let manner = on_delete(&reference.manner);
                    if manner == OnDelete::Cascade && child == root && own.contains(&row) {
                        return Err(WriteError::Breaks(format!(
                            "rows of `{}` that the condition takes go by a cascade from others that go, so that no database tells how many it deletes",
                            self.schema.table(child).name
                        )));
                    }
                    let of_child = effect.tables.entry(child).or_default();
                    match manner {
                        _ if of_child.gone.contains(&row) => {}
                        OnDelete::Cascade => {
                            of_child.gone.insert(row);
                            gone.push((child, vec![row]));
                        }
                        OnDelete::Refuse => held.push((parent, child, row)),
                        OnDelete::Null | OnDelete::Default => {
                            let becomes = |column: ColumnId| match (&self.schema.table(child).columns[column].default, manner) {
                                (Some(ColumnDefault::Value(value)), OnDelete::Default) => value.clone(),
                                _ => Value::Null,
                            };
                            let changed = of_child.changed.entry(row).or_default();
                            changed.extend(reference.columns.iter().map(|&column| (column, becomes(column))));
                        }
                    }
                }
            }
        }
        for TableEffect { gone, changed, .. } in effect.tables.values_mut() {
            changed.retain(|row, _| !gone.contains(row));
        }
        effect.tables.retain(|_, of_table| *of_table != TableEffect::default());
        effect.tables.entry(root).or_default();
        let is_left =
            |(_, child, row): &&(TableId, TableId, u64)| !effect.tables.get(child).is_some_and(|of_child| of_child.gone.contains(row));
        match held.iter().find(is_left) {
            Some(&(table, child, _)) => Err(WriteError::Hangs { table, child }),
            None => Ok(effect),
        }
    }

    /// The rows that the condition takes, with what is given of each.
    fn taken(&self, parameters: &[Value]) -> Result<Vec<(u64, Vec<Value>)>, WriteError> {
        let table = self.write.table();
        let candidates: Vec<u64> = match &self.sought {
            Some((column, value)) => {
                let value = match &value.node {
                    Node::Literal(value) => value.clone(),
                    Node::Leaf(Leaf::Parameter(at)) => parameters.get(*at).cloned().unwrap_or(Value::Null),
                    _ => Value::Null,
                };
                Key::of([value.as_ref()].into_iter()).map(|key| self.with_key(table, &[*column], &key)).unwrap_or_default()
            }
            None => (0..self.rows.count(table)).collect(),
        };
        let mut taken = Vec::new();
        for row in candidates {
            let found = self.evaluation.root(row, parameters)?;
            if found.free {
                return Err(WriteError::Unclear);
            }
            if found.taken {
                taken.push((row, found.values));
            }
        }
        Ok(taken)
    }

    /// The rows of a child that refer to some rows of a parent, each with the reference.
    fn hanging(&self, child: TableId, parent: TableId, rows: &[u64]) -> Vec<(usize, u64)> {
        let references = self.schema.table(child).references.iter().enumerate().filter(|(_, reference)| reference.parent == parent);
        let of_reference = |(at, reference): (usize, &kampf_schema::Reference)| {
            let keys = rows.iter().filter_map(|&row| key_of(self.rows, parent, &reference.parent_columns, row));
            keys.flat_map(|key| self.with_key(child, &reference.columns, &key)).map(|row| (at, row)).collect::<Vec<_>>()
        };
        references.flat_map(of_reference).collect()
    }

    /// The rows of a table with a key.
    pub(super) fn with_key(&self, table: TableId, columns: &[ColumnId], key: &Key) -> Vec<u64> {
        let mut indexes = self.indexes.borrow_mut();
        let index = indexes.entry((table, columns.to_vec())).or_insert_with(|| {
            let mut index = ByKey::new();
            for row in 0..self.rows.count(table) {
                if let Some(key) = key_of(self.rows, table, columns, row) {
                    index.entry(key).or_default().push(row);
                }
            }
            index
        });
        index.get(key).cloned().unwrap_or_default()
    }
}

/// The columns by which new rows of the table at a place hang on new rows whose keys the database makes.
pub(super) fn hung_columns(schema: &Schema, write: &Write, place: usize) -> Vec<ColumnId> {
    let Act::Insert { also, .. } = &write.act else { return Vec::new() };
    let Some(more) = place.checked_sub(1).and_then(|at| also.get(at)) else { return Vec::new() };
    let reference = &schema.table(more.table).references[more.reference];
    let generated = super::generated_key(schema, reference.parent);
    let pairs = reference.columns.iter().zip(&reference.parent_columns);
    pairs.filter(|(_, theirs)| Some(**theirs) == generated).map(|(own, _)| *own).collect()
}

/// A column of the own table that is to be equal to what is the same for all rows.
fn sought(condition: &Expr<Leaf>) -> Option<(ColumnId, Expr<Leaf>)> {
    let Node::Compare(Comparison::Equal, left, right) = &condition.node else { return None };
    let own = |expr: &Expr<Leaf>| match expr.as_leaf() {
        Some(Leaf::Column { source: 0, column }) => Some(*column),
        _ => None,
    };
    let is_fixed = |expr: &Expr<Leaf>| matches!(expr.node, Node::Literal(_) | Node::Leaf(Leaf::Parameter(_)));
    match (own(left), own(right)) {
        (Some(column), None) if is_fixed(right) => Some((column, (**right).clone())),
        (None, Some(column)) if is_fixed(left) => Some((column, (**left).clone())),
        _ => None,
    }
}
