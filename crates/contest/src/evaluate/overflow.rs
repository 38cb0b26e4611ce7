//! Numbers that become too large for their types.

use kampf_schema::expr::{Expr, Function, Node, Operator};
use kampf_schema::{Decimal, HopKind, LogicalType, Span};

use super::{Evaluation, Here, MOST_UNITS, Overflow};
use crate::need::{Aggregate, Leaf};

impl Evaluation<'_> {
    /// All values that are asked of single rows, each with its source.
    fn row_values(&self) -> Vec<(usize, Expr<Leaf>)> {
        let need = self.need;
        let filter = need.filter.iter().map(|part| &part.condition);
        let order = need.order.iter().filter(|_| need.group.is_none()).map(|by| &by.value);
        let mut values: Vec<_> = need.per_row().into_iter().chain(filter).chain(order).map(|value| (0, value.clone())).collect();
        values.extend(need.sources.iter().enumerate().filter_map(|(at, source)| Some((at, source.filter.clone()?))));
        for (at, aggregate) in need.aggregates.iter().enumerate() {
            values.extend(aggregate.fold.of.clone().map(|of| (aggregate.over, of)));
            values.extend(aggregate.fold.order.iter().map(|by| (aggregate.over, by.value.clone())));
            // Also those that a case or `coalesce` would not come to.
            let ones = self.ones_before_many(aggregate.at, aggregate.over);
            values.extend(ones.into_iter().map(|one| (one, Node::Leaf(Leaf::Aggregate(at)).into())));
        }
        for list in &need.lists {
            let given = list.give.iter().map(|given| &given.value);
            values.extend(given.chain(list.order.iter().map(|by| &by.value)).map(|value| (list.over, value.clone())));
        }
        let mut below = Vec::new();
        values.iter().for_each(|(source, value)| self.parts_below(*source, value, &mut below));
        values.extend(below);
        values
    }

    /// What is reckoned with values of a row below the one that is asked: a database may do that on all rows of that table.
    fn parts_below(&self, source: usize, value: &Expr<Leaf>, found: &mut Vec<(usize, Expr<Leaf>)>) {
        if let Some(common) = self.common_source(value).filter(|common| *common != source && value.is_reckoned()) {
            found.push((common, value.clone()));
        }
        value.parts().into_iter().for_each(|part| self.parts_below(source, part, found));
    }

    /// The lowest source that all values of an expression are of, or hang on.
    fn common_source(&self, value: &Expr<Leaf>) -> Option<usize> {
        let way_down = |mut source: usize| {
            let mut way = vec![source];
            while source != 0 {
                source = self.need.sources[source].parent;
                way.insert(0, source);
            }
            way
        };
        let ways = value.leaves().into_iter().filter_map(|leaf| match leaf {
            Leaf::Column { source, .. } => Some(way_down(*source)),
            Leaf::Aggregate(at) => Some(way_down(self.need.aggregates[*at].at)),
            Leaf::Parameter(_) | Leaf::Key(_) | Leaf::Total(_) | Leaf::List(_) => None,
        });
        let common =
            ways.reduce(|one, other| one.into_iter().zip(other).take_while(|(one, other)| one == other).map(|(one, _)| one).collect());
        common?.last().copied()
    }

    pub(super) fn try_everywhere(&self, is_tried: impl Fn(&Expr<Leaf>) -> bool) -> Result<(), Overflow> {
        for (source, value) in self.row_values().iter().filter(|(_, value)| self.can_overflow(value) && is_tried(value)) {
            let short = self.short_parts(value);
            for row in 0..self.rows.count(self.need.sources[*source].table) {
                let here = || Here { evaluation: self, source: *source, row, group: None };
                value.value(&mut here()).map_err(|_| self.overflow(value))?;
                short.iter().try_for_each(|part| self.try_short(part, here()))?;
            }
        }
        for (at, aggregate) in self.need.aggregates.iter().enumerate() {
            let value = Node::Leaf(Leaf::Aggregate(at)).into();
            if self.can_overflow(&value) && is_tried(&value) {
                let above = self.ones_before_many(aggregate.at, aggregate.over).pop().unwrap_or(aggregate.at);
                let tried = self.orphans(above, aggregate.over).and_then(|rows| self.fold(&aggregate.fold, aggregate.over, &rows));
                tried.map_err(|_| self.overflow(&value))?;
            }
        }
        Ok(())
    }

    /// The source that an aggregate is asked at and those to one on the way from it: a database may group by any of their rows.
    fn ones_before_many(&self, at: usize, over: usize) -> Vec<usize> {
        let is_one = |source: &usize| self.need.sources[*source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::One);
        std::iter::once(at).chain(self.need.way(at, over).into_iter().take_while(is_one)).collect()
    }

    /// The rows of a source that hang on no row of another above it, which a database that groups them first takes for a group.
    fn orphans(&self, from: usize, to: usize) -> Result<Vec<u64>, Span> {
        let Some(&step) = self.need.way(from, to).first() else { return Ok(Vec::new()) };
        let source = &self.need.sources[step];
        let Some(hop) = &source.hop else { return Ok(Vec::new()) };
        let mut rows = Vec::new();
        for row in (0..self.rows.count(hop.to)).filter(|&row| self.key(hop.to, &hop.to_columns, row).is_none()) {
            let here = &mut Here { evaluation: self, source: step, row, group: None };
            if source.filter.as_ref().map_or(Ok(Some(true)), |filter| filter.truth(here))? == Some(true) {
                rows.extend(self.reach(step, row, to)?);
            }
        }
        Ok(rows)
    }

    /// What a value is made of, that of aggregates and of conditions of their sources too.
    fn any_part(&self, value: &Expr<Leaf>, is_it: &dyn Fn(&Expr<Leaf>) -> bool) -> bool {
        if is_it(value) || value.parts().into_iter().any(|part| self.any_part(part, is_it)) {
            return true;
        }
        let Some(Leaf::Aggregate(at)) = value.as_leaf() else { return false };
        let aggregate = &self.need.aggregates[*at];
        let filters =
            self.need.way(aggregate.at, aggregate.over).into_iter().filter_map(|source| self.need.sources[source].filter.as_ref());
        let order = aggregate.fold.order.iter().map(|by| &by.value);
        aggregate.fold.of.iter().chain(order).chain(filters).any(|part| self.any_part(part, is_it))
    }

    fn can_overflow(&self, value: &Expr<Leaf>) -> bool {
        self.any_part(value, &|part| match &part.node {
            Node::Arithmetic(operator, ..) => {
                matches!(operator, Operator::Add | Operator::Subtract | Operator::Multiply | Operator::Divide)
            }
            Node::Call(Function::Negate | Function::Absolute, _) => true,
            Node::Leaf(Leaf::Aggregate(at)) => matches!(self.need.aggregates[*at].fold.function, Aggregate::Sum | Aggregate::Avg),
            _ => false,
        })
    }

    pub(super) fn has_parameters(&self, value: &Expr<Leaf>) -> bool {
        self.any_part(value, &|part| matches!(part.as_leaf(), Some(Leaf::Parameter(_))))
    }

    /// The parts of a value whose type could have more digits than every engine keeps, though they are not taken to.
    pub(super) fn short_parts(&self, value: &Expr<Leaf>) -> Vec<Expr<Leaf>> {
        let own = self.need.is_taken_for_short(self.schema, value).then(|| value.clone());
        own.into_iter().chain(value.parts().into_iter().flat_map(|part| self.short_parts(part))).collect()
    }

    pub(super) fn try_short(&self, part: &Expr<Leaf>, mut here: Here<'_, '_>) -> Result<(), Overflow> {
        let value = part.value(&mut here).map_err(|_| self.overflow(part))?;
        let LogicalType::Decimal { scale, .. } = self.need.kind_of(self.schema, part) else { return Ok(()) };
        let is_long = |decimal: Decimal| decimal.rescaled(scale).is_none_or(|decimal| decimal.units.unsigned_abs() >= MOST_UNITS as u128);
        if value.as_ref().as_decimal().is_some_and(is_long) { Err(self.overflow(part)) } else { Ok(()) }
    }
}
