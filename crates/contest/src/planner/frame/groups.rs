//! Aggregates at hand in a select by joining and grouping.

use kampf_schema::expr::{Expr, Function, Node};
use kampf_schema::{ColumnId, HopKind, LogicalType};

use super::{Frame, ToOne, always, at_least_one, folded};
use crate::need::{Aggregate, Fold, Leaf};
use crate::statement::{Selected, Term};

impl Frame<'_> {
    /// Makes aggregates at hand by joining and grouping. One branch of related rows is joined and grouped as it is, which asks for
    /// the statement to be grouped by what is given back; several would multiply each other's rows, so each is grouped in a table
    /// of its own first. `dependent` is what the statement is grouped by besides the root's key.
    pub(super) fn group(&mut self, level: usize, aggregates: &[usize], dependent: &[(usize, ColumnId)], alone: bool) {
        let need = self.ground.need;
        let mut branches: Vec<usize> = Vec::new();
        for &at in aggregates {
            let branch = self.branch(level, need.aggregates[at].over);
            if !branches.contains(&branch) {
                branches.push(branch);
            }
        }
        let table = need.sources[level].table;
        let key = &self.ground.schema.table(table).primary_key;
        if branches.len() == 1 && !key.is_empty() && alone {
            let root = self.first_alias().to_owned();
            let mut group: Vec<Expr<Term>> = key.iter().map(|&column| self.column(&root, table, column)).collect();
            for &(source, column) in dependent {
                let alias = self.reach(source);
                let column = self.column(&alias, need.sources[source].table, column);
                if !group.contains(&column) {
                    group.push(column);
                }
            }
            self.select.group = group;
            for &at in aggregates {
                let value = self.joined(at, false);
                self.values.push((at, value));
            }
            return;
        }
        for branch in branches {
            let of_branch: Vec<usize> =
                aggregates.iter().copied().filter(|&at| self.branch(level, need.aggregates[at].over) == branch).collect();
            self.derive_branch(level, branch, &of_branch);
        }
    }

    /// The last source to many on the way to one: aggregates that share it do not multiply each other's rows.
    fn branch(&self, level: usize, over: usize) -> usize {
        let need = self.ground.need;
        let is_many = |source: &usize| need.sources[*source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many);
        need.way(level, over).into_iter().rev().find(is_many).unwrap_or(over)
    }

    /// An aggregate over joined rows, of which some may be there only because nothing met. `whole` says that every joined row is one
    /// of the branch's own.
    fn joined(&mut self, at: usize, whole: bool) -> Expr<Term> {
        let need = self.ground.need;
        let aggregate = &need.aggregates[at];
        let alias = self.reach(aggregate.over);
        let Some(hop) = &need.sources[aggregate.over].hop else { return Node::Literal(kampf_schema::Value::Null).into() };
        let met = self.column(&alias, hop.to, hop.to_columns[0]);
        let fold = &aggregate.fold;
        let count = |of| {
            let count = Fold { function: Aggregate::Count, distinct: false, of: None, order: Vec::new(), kind: LogicalType::Integer };
            folded(&count, of)
        };
        let own = whole && self.known[0].source == aggregate.over;
        match (&fold.of, fold.function) {
            (None, Aggregate::Exists) => at_least_one(count(if own { None } else { Some(met) })),
            (None, _) => count(if own { None } else { Some(met) }),
            (Some(of), _) => {
                let said = self.say(of, ToOne::Join);
                let is_column = matches!(of.as_leaf(), Some(Leaf::Column { .. }));
                let said = if is_column || own {
                    said
                } else {
                    let there = Node::Not(Box::new(Node::IsNull(Box::new(met)).into())).into();
                    Node::Case(vec![(there, said)], None).into()
                };
                folded(fold, Some(said))
            }
        }
    }

    fn derive_branch(&mut self, level: usize, branch: usize, aggregates: &[usize]) {
        let need = self.ground.need;
        let way = need.way(level, branch);
        let Some(&first) = way.first() else { return };
        let Some(hop) = need.sources[first].hop.clone() else { return };
        let alias = self.name(&self.ground.schema.table(hop.to).name.clone());
        // Its own frame starts at the branch's first table; what lies behind is joined to that.
        let mut inner = Frame::new(self.ground, first);
        let own = inner.first_alias().to_owned();
        let keys: Vec<Expr<Term>> = hop.to_columns.iter().map(|&column| inner.column(&own, hop.to, column)).collect();
        for part in need.sources[first].filter.iter().flat_map(Expr::conjuncts) {
            let said = inner.say(part, ToOne::Join);
            inner.select.filter.push(always(said));
        }
        let mut columns: Vec<Selected> = keys.iter().map(|key| Selected { value: key.clone(), name: None }).collect();
        for (number, &at) in aggregates.iter().enumerate() {
            let fold = &need.aggregates[at].fold;
            let counts = fold.function == Aggregate::Exists;
            let name = format!("{}_{}", fold.function.word(), number + 1);
            let value = if counts { inner.counted(at) } else { inner.joined(at, true) };
            columns.push(Selected { value, name: Some(name.clone()) });
            let kind = if counts { LogicalType::Integer } else { fold.kind };
            let outer: Expr<Term> = Node::Leaf(Term::Column { table: Some(alias.clone()), name, kind }).into();
            let or_none = |outer| Node::Call(Function::Coalesce, vec![outer, Node::Leaf(Term::Constant(0)).into()]).into();
            let value = match fold.function {
                Aggregate::Count => or_none(outer),
                Aggregate::Exists => at_least_one(or_none(outer)),
                _ => outer,
            };
            self.values.push((at, value));
        }
        inner.select.columns = vec![columns];
        inner.select.group = keys;
        self.join_derived(level, &hop, &alias, inner.select, Vec::new());
    }

    /// How many rows an aggregate goes over.
    fn counted(&mut self, at: usize) -> Expr<Term> {
        match self.joined(at, true).node {
            Node::Compare(_, count, _) => *count,
            other => other.into(),
        }
    }
}
