//! Indexes that could serve a need, worked out from what it says. Whether an engine uses one is for its plans to tell.

use kampf_schema::expr::{Comparison, Expr, Node};
use kampf_schema::{ColumnId, HopKind, Index, IndexTerm, Rule, Schema, Table, TableId};

use crate::dialect::Dialect;
use crate::need::{Aggregate, Leaf, Need, OrderBy};

/// An index that could serve a need.
#[derive(Clone, Debug, PartialEq)]
pub struct IndexCandidate {
    /// The table.
    pub table: TableId,
    /// The index.
    pub index: Index,
    /// How many of its terms rows are sought and sorted by; what else it holds spares looking at the table.
    pub sought: usize,
}

impl IndexCandidate {
    /// Whether it holds all that is asked of its table's rows, so that these need not be looked up.
    pub fn covers(&self) -> bool {
        self.sought < self.index.terms.len() || !self.index.include.is_empty()
    }
}

/// At most so many for one need.
const MOST: usize = 8;
/// Columns that an index holds so that its table need not be looked at: with more it is as wide as the table.
const MOST_HELD: usize = 5;

/// The indexes that could serve a need and are not there, the plainest first: references that rows are found along and that have no index; then those
/// for what is asked of the root, then those along which related rows are found. Columns of equality come first, then those of order or of a range; the same index with all the columns
/// that are asked of its table comes as one more.
pub fn candidates(schema: &Schema, need: &Need, dialect: &Dialect) -> Vec<IndexCandidate> {
    let mut found = Found { schema, all: Vec::new() };
    // The plainest first: references that rows are found along and that have no index at all.
    for (at, source) in need.asked() {
        let of = Of { need, dialect, source: at, table: schema.table(source.table) };
        match &source.hop {
            Some(hop) if hop.kind == HopKind::Many => found.bare(source.table, &hop.to_columns),
            Some(_) => {}
            None => {
                let mut sought = Sought::default();
                of.conditions(&mut sought);
                let is_equal = |column: &ColumnId| sought.equal.iter().any(|rule| rule.as_leaf() == Some(column));
                let sought = of.table.references.iter().filter(|reference| reference.columns.iter().all(is_equal));
                sought.for_each(|reference| found.bare(source.table, &reference.columns));
            }
        }
    }
    for (at, source) in need.asked() {
        let of = Of { need, dialect, source: at, table: schema.table(source.table) };
        let mut sought = Sought::default();
        of.conditions(&mut sought);
        let orders = of.orders();
        let along = source.hop.as_ref().filter(|hop| hop.kind == HopKind::Many);
        match along {
            None if at > 0 => {}
            None => {
                found.add(&of, &sought.keys(&[]), &orders);
                // Rows are reached from a related one that is chosen.
                for columns in of.chosen_parents() {
                    found.add(&of, &Sought::default().keys(&columns), &orders);
                }
                for range in &sought.ranges {
                    let keys: Vec<Rule> = sought.keys(&[]).into_iter().chain([range.clone()]).collect();
                    found.add(&of, &keys, &[]);
                }
            }
            Some(hop) => {
                found.add(&of, &sought.keys(&hop.to_columns), &orders);
            }
        }
    }
    found.all.truncate(MOST);
    found.all
}

/// What is asked of the rows of one source.
struct Of<'a> {
    need: &'a Need,
    dialect: &'a Dialect,
    source: usize,
    table: &'a Table,
}

/// What rows are sought by.
#[derive(Default)]
struct Sought {
    equal: Vec<Rule>,
    /// Several values of one column: behind those of one.
    among: Vec<Rule>,
    ranges: Vec<Rule>,
}

impl Sought {
    /// The terms that have to be equal, those along which rows are reached first.
    fn keys(&self, first: &[ColumnId]) -> Vec<Rule> {
        let first = first.iter().map(|&column| Node::Leaf(column).into());
        let mut keys: Vec<Rule> = Vec::new();
        first.chain(self.equal.iter().cloned()).chain(self.among.iter().cloned()).for_each(|key| {
            if !keys.contains(&key) {
                keys.push(key);
            }
        });
        keys
    }
}

impl Of<'_> {
    /// An expression over columns of this source's rows alone.
    fn own(&self, expr: &Expr<Leaf>) -> Option<Rule> {
        let leaves = expr.leaves();
        let is_own = |leaf: &&Leaf| matches!(leaf, Leaf::Column { source, .. } if *source == self.source);
        (!leaves.is_empty() && leaves.iter().all(is_own)).then(|| {
            expr.map(&mut |leaf| match leaf {
                Leaf::Column { column, .. } => Node::Leaf(*column).into(),
                _ => Node::Literal(kampf_schema::Value::Null).into(),
            })
        })
    }

    /// Whether an expression says nothing of this source's rows.
    fn is_foreign(&self, expr: &Expr<Leaf>) -> bool {
        expr.leaves().iter().all(|leaf| match leaf {
            Leaf::Column { source, .. } => *source != self.source,
            Leaf::Parameter(_) => true,
            _ => false,
        })
    }

    fn conditions(&self, sought: &mut Sought) {
        let of_root = self.need.filter.iter().filter(|_| self.source == 0).flat_map(|part| part.condition.conjuncts());
        let of_source = self.need.sources[self.source].filter.iter().flat_map(Expr::conjuncts);
        for condition in of_root.chain(of_source) {
            let (to, value) = match &condition.node {
                Node::Compare(Comparison::Equal, one, other) if self.is_foreign(other) => (&mut sought.equal, one),
                Node::Compare(Comparison::Equal, one, other) if self.is_foreign(one) => (&mut sought.equal, other),
                Node::IsNull(one) => (&mut sought.equal, one),
                Node::In(one, others) if others.iter().all(|other| self.is_foreign(other)) => (&mut sought.among, one),
                Node::InList(one, other) if self.is_foreign(other) => (&mut sought.among, one),
                Node::Compare(Comparison::Unequal, ..) => continue,
                Node::Compare(_, one, other) if self.is_foreign(other) => (&mut sought.ranges, one),
                Node::Compare(_, one, other) if self.is_foreign(one) => (&mut sought.ranges, other),
                Node::Between(one, low, high) if self.is_foreign(low) && self.is_foreign(high) => (&mut sought.ranges, one),
                _ => continue,
            };
            if let Some(own) = self.own(value).filter(|own| !to.contains(own)) {
                to.push(own);
            }
        }
    }

    /// What its rows are sorted by, where that is columns of their own: the need's order, a list's, or that of the first row picked.
    fn orders(&self) -> Vec<IndexTerm> {
        let picks = self.need.aggregates.iter().filter(|one| one.over == self.source && one.fold.function == Aggregate::First);
        let lists = self.need.lists.iter().filter(|list| list.over == self.source);
        let order: &[OrderBy<Leaf>] = match self.source {
            0 if self.need.group.is_none() => &self.need.order,
            0 => &[],
            _ => picks.map(|one| one.fold.order.as_slice()).chain(lists.map(|list| list.order.as_slice())).next().unwrap_or_default(),
        };
        let mut terms: Vec<IndexTerm> = Vec::new();
        // Rows that are alike but for the key that makes the order total are sorted in no time.
        let order = &order[..order.iter().take_while(|by| !by.appended).count()];
        for by in order {
            let Some(what) = self.own(&by.value) else { break };
            // Nulls stand where they do in the answer.
            let nullable = what.column_set().iter().any(|&column| self.table.columns[column].nullable);
            let placed = nullable && self.dialect.index_places_nulls && !self.dialect.nulls_first;
            terms.push(IndexTerm { what, descending: by.descending, nulls_first: placed.then_some(!by.descending) });
        }
        // Half an order still has to be sorted.
        if terms.len() == order.len() { terms } else { Vec::new() }
    }

    /// The columns that lead from this table to one whose rows are chosen by a condition.
    fn chosen_parents(&self) -> Vec<Vec<ColumnId>> {
        let is_chosen = |at: usize| {
            self.need
                .filter
                .iter()
                .any(|part| part.condition.leaves().iter().any(|leaf| matches!(leaf, Leaf::Column { source, .. } if *source == at)))
        };
        let to_one = self.need.asked().filter(|(at, source)| *at > 0 && source.parent == self.source && is_chosen(*at));
        to_one
            .filter_map(|(_, source)| source.hop.as_ref())
            .filter(|hop| hop.kind == HopKind::One)
            .map(|hop| hop.from_columns.clone())
            .collect()
    }

    /// The columns of this source that anything asks for.
    fn asked_columns(&self) -> Vec<ColumnId> {
        let mut columns: Vec<ColumnId> = Vec::new();
        let mut take = |expr: &Expr<Leaf>| {
            expr.for_each_leaf(&mut |leaf| {
                if let Leaf::Column { source, column } = leaf
                    && *source == self.source
                    && !columns.contains(column)
                {
                    columns.push(*column);
                }
            });
        };
        let need = self.need;
        need.per_row().into_iter().chain(need.selection()).for_each(&mut take);
        need.lists.iter().flat_map(|list| &list.give).for_each(|given| take(&given.value));
        need.aggregates.iter().filter_map(|one| one.fold.of.as_ref()).for_each(&mut take);
        need.sources.iter().filter_map(|source| source.filter.as_ref()).for_each(&mut take);
        // What leads on to other rows is read too.
        for source in need.sources.iter().skip(1).filter(|source| source.parent == self.source) {
            for &column in source.hop.iter().flat_map(|hop| &hop.from_columns) {
                if !columns.contains(&column) {
                    columns.push(column);
                }
            }
        }
        columns
    }
}

/// The candidates so far.
struct Found<'a> {
    schema: &'a Schema,
    all: Vec<IndexCandidate>,
}

impl Found<'_> {
    /// The index of a reference that has none.
    fn bare(&mut self, table: TableId, columns: &[ColumnId]) {
        let model = self.schema.table(table);
        let is_reference = model.references.iter().any(|reference| reference.columns == columns);
        if is_reference && !model.is_indexed(columns) {
            self.push(table, Index::of(columns.iter().copied()), columns.len());
        }
    }

    /// An index over keys, then in an order; and the same that holds all that is asked for.
    fn add(&mut self, of: &Of<'_>, keys: &[Rule], order: &[IndexTerm]) {
        let mut terms: Vec<IndexTerm> =
            keys.iter().map(|what| IndexTerm { what: what.clone(), descending: false, nulls_first: None }).collect();
        let table = of.need.sources[of.source].table;
        for term in order {
            if !terms.iter().any(|known| known.what == term.what) {
                terms.push(term.clone());
            }
        }
        if terms.is_empty() {
            return;
        }
        let plain = Index { terms, ..Index::of([]) };
        // By a key a row is found as fast as can be, however many columns an index holds besides.
        if is_by_key(self.schema.table(table), &plain) {
            return;
        }
        let sought = plain.terms.len();
        self.push(table, plain.clone(), sought);
        let held: Vec<ColumnId> =
            of.asked_columns().into_iter().filter(|column| !plain.terms.iter().any(|term| term.column() == Some(*column))).collect();
        if !held.is_empty() && held.len() <= MOST_HELD {
            let mut covering = plain;
            match of.dialect.index_includes {
                true => covering.include = held,
                false => covering.terms.extend(held.into_iter().map(IndexTerm::of)),
            }
            self.push(table, covering, sought);
        }
    }

    fn push(&mut self, table: TableId, index: Index, sought: usize) {
        let is_known = self.all.iter().any(|one| one.table == table && one.index == index);
        if !is_known && !is_there(self.schema.table(table), &index) {
            self.all.push(IndexCandidate { table, index, sought });
        }
    }
}

/// Whether the keys of a table do what an index is for.
fn is_by_key(table: &Table, index: &Index) -> bool {
    let columns = index.leading_columns();
    let begins = |key: &[ColumnId]| key.len() >= columns.len() && key[..columns.len()] == columns[..];
    // What is unique to its first column is found by that alone, in whatever order the rest would be.
    let is_key = |key: &[ColumnId]| !key.is_empty() && columns.len() >= key.len() && columns[..key.len()] == key[..];
    let sorted_up = index.terms.iter().all(|term| !term.descending) || index.terms.iter().all(|term| term.descending);
    columns.len() == index.terms.len() && table.keys().any(|key| (sorted_up && begins(key)) || is_key(key))
}

/// Whether a table has an index that does the same already: one by the same terms, whatever follows.
fn is_there(table: &Table, index: &Index) -> bool {
    table.indexes.iter().any(|known| {
        let same_terms = known.terms.len() >= index.terms.len() && known.terms[..index.terms.len()] == index.terms[..];
        known.among.is_none() && !known.hashed && same_terms && index.include.iter().all(|column| known.include.contains(column))
    })
}

/// References without an index along which rows are found: of each its table and its columns.
pub fn bare_references(schema: &Schema) -> Vec<(TableId, Vec<ColumnId>)> {
    let of = |id: TableId| {
        let table = schema.table(id);
        table
            .references
            .iter()
            .filter(|reference| !table.is_indexed(&reference.columns))
            .map(move |reference| (id, reference.columns.clone()))
    };
    schema.ids().flat_map(of).collect()
}
