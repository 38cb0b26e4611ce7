//! Whether numbers can become too large for their type, told by how large the columns are: where there are too many rows to look at.

use kampf_schema::expr::{Expr, Function, Node, Operator};
use kampf_schema::{ColumnId, LogicalType, Schema, TableId};

use crate::evaluate::Overflow;
use crate::need::{Aggregate, Fold, Leaf, Need};

/// What is known of the columns and tables.
pub struct Ranges<'a> {
    /// The schema.
    pub schema: &'a Schema,
    /// The largest number of a column without its sign; none where it is no number, or has none.
    pub largest: &'a dyn Fn(TableId, ColumnId) -> Option<f64>,
    /// How many rows a table has.
    pub rows: &'a dyn Fn(TableId) -> u64,
}

impl Ranges<'_> {
    /// The first value of a need that could become too large for its type, if every column had its largest number on one row.
    ///
    /// # Errors
    /// That value, in the language of needs.
    pub fn overflows(&self, need: &Need) -> Result<(), Overflow> {
        let filter = need.filter.iter().map(|part| &part.condition);
        let filter = filter.chain(need.sources.iter().filter_map(|source| source.filter.as_ref()));
        let given = need.give.iter().chain(need.lists.iter().flat_map(|list| &list.give)).map(|given| &given.value);
        let sorted =
            need.lists.iter().flat_map(|list| &list.order).chain(need.aggregates.iter().flat_map(|aggregate| &aggregate.fold.order));
        let values = need.per_row().into_iter().chain(filter).chain(given).chain(sorted.map(|by| &by.value));
        for value in values.chain(need.order.iter().map(|by| &by.value)) {
            self.size(need, value).map_err(|()| Overflow { what: need.said(self.schema, value) })?;
        }
        Ok(())
    }

    /// The largest size that a value can have; 0 for what is no number.
    fn size(&self, need: &Need, value: &Expr<Leaf>) -> Result<f64, ()> {
        let mut parts = Vec::new();
        for part in value.parts() {
            parts.push(self.size(need, part)?);
        }
        let most = parts.iter().copied().fold(0.0, f64::max);
        let size = match &value.node {
            Node::Literal(literal) => literal.as_ref().as_real().map_or(0.0, f64::abs),
            Node::Leaf(Leaf::Column { source, column }) => (self.largest)(need.sources[*source].table, *column).unwrap_or(0.0),
            Node::Leaf(Leaf::Aggregate(at)) => {
                let aggregate = &need.aggregates[*at];
                self.fold(need, &aggregate.fold, (self.rows)(need.sources[aggregate.over].table))?
            }
            Node::Leaf(Leaf::Total(at)) => match &need.group {
                Some(group) => self.fold(need, &group.totals[*at], (self.rows)(need.root()))?,
                None => 0.0,
            },
            Node::Leaf(Leaf::Key(at)) => match &need.group {
                Some(group) => self.size(need, &group.keys[*at].value)?,
                None => 0.0,
            },
            Node::Leaf(Leaf::Parameter(_) | Leaf::List(_)) => 0.0,
            Node::Arithmetic(Operator::Add | Operator::Subtract, ..) => parts.iter().sum(),
            Node::Arithmetic(Operator::Multiply, ..) => parts.iter().product(),
            Node::Arithmetic(Operator::Join, ..) => 0.0,
            Node::Call(Function::Length | Function::Extract(_) | Function::DaysBetween, _) => 1e7,
            _ => most,
        };
        let holds = match need.kind_of(self.schema, value) {
            LogicalType::Integer => size < 9.2e18,
            LogicalType::Decimal { scale, .. } => {
                let most = if need.is_taken_for_short(self.schema, value) { 1e15 } else { 1e36 };
                size * 10_f64.powi(scale.into()) < most
            }
            _ => size.is_finite(),
        };
        if holds { Ok(size) } else { Err(()) }
    }

    fn fold(&self, need: &Need, fold: &Fold, rows: u64) -> Result<f64, ()> {
        let of = fold.of.as_ref().map_or(Ok(1.0), |of| self.size(need, of))?;
        let size = match fold.function {
            Aggregate::Sum => of * rows as f64,
            Aggregate::Count => rows as f64,
            _ => of,
        };
        let holds = match fold.kind {
            LogicalType::Integer => size < 9.2e18,
            // As scaled whole numbers that become reals of 15 digits, where an engine keeps decimals so.
            LogicalType::Decimal { scale, .. } if fold.function == Aggregate::Sum => size * 10_f64.powi(scale.into()) < 1e15,
            _ => true,
        };
        if holds { Ok(size) } else { Err(()) }
    }
}

#[cfg(test)]
mod tests {
    use kampf_schema::{Relations, ddl};

    use super::*;
    use crate::resolve::{NeedText, resolve};

    #[test]
    fn what_could_become_too_large_is_found_by_the_sizes_of_columns_and_tables() {
        let schema = ddl::read(
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, frames INTEGER, worth DECIMAL(9, 2));
             CREATE TABLE visit (id INTEGER PRIMARY KEY, hive_id INTEGER REFERENCES hive, mites INTEGER)",
        );
        let schema = schema.unwrap().schema;
        let told = |give: &str, largest: f64| {
            let text = NeedText { from: "hive".into(), give: vec![give.into()], ..NeedText::default() };
            let need = resolve(&schema, &Relations::of(&schema), &text).unwrap_or_else(|error| panic!("{give}: {error}"));
            let ranges = Ranges { schema: &schema, largest: &|_, _| Some(largest), rows: &|_| 1_000_000 };
            ranges.overflows(&need).map_err(|overflow| overflow.what)
        };
        assert_eq!(told("frames * frames + 1", 1e9), Ok(()));
        assert_eq!(told("frames * frames + 1", 4e9), Err("frames * frames + 1".to_owned()));
        assert_eq!(told("sum(visit.mites)", 1e12), Ok(()));
        assert_eq!(told("sum(visit.mites)", 1e13), Err("sum(mites from visit)".to_owned()));
        assert_eq!(told("sum(worth)", 9_999_999.99), Ok(()));
        assert_eq!(told("sum(worth)", 99_999_999.0), Err("sum(worth)".to_owned()));
        let of_some = "count(visit where mites * mites > 3)";
        assert_eq!((told(of_some, 1e9), told(of_some, 4e9)), (Ok(()), Err("visit.mites * visit.mites > 3".to_owned())));
        assert_eq!(told("frames * worth", 1e6), Ok(()));
        assert_eq!(told("frames * worth", 1e7), Err("frames * worth".to_owned()));
        assert_eq!(told("case when frames > 4 then length('x') else 0 end", 1e18), Ok(()));
    }
}
