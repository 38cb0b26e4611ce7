//! Aggregates: over related rows, and over the rows of a group.

use kampf_schema::expr::{Expr, Mistake, Name, Written, WrittenAggregate};
use kampf_schema::{LogicalType, Span};

use super::leaves::{AT_ROOT, Place, Resolver, Standing, at, is_many, joined};
use crate::need::{Aggregate, AggregateOver, Fold, Leaf};

impl Resolver<'_> {
    /// Whether all of a value is aggregates over the rows themselves.
    pub(super) fn is_over_rows(&self, value: &Expr<Written>) -> bool {
        let leaves = value.leaves();
        let mut aggregates = 0;
        let all = leaves.into_iter().all(|leaf| match leaf {
            Written::Aggregate(aggregate) => {
                aggregates += 1;
                self.is_total(aggregate)
            }
            Written::Parameter(_) => true,
            _ => false,
        });
        all && aggregates > 0
    }

    /// Whether an aggregate goes over the rows themselves, not over related ones.
    fn is_total(&self, aggregate: &WrittenAggregate) -> bool {
        let root = self.sources[0].table;
        match (&aggregate.from, &aggregate.of) {
            (Some(_), _) => false,
            (None, None) => true,
            (None, Some(of)) => match of.as_leaf() {
                Some(Written::Path(names)) => {
                    // A name that leads nowhere is told as what it most likely is.
                    !self.goes_to_many(names, root) && self.hops(&names[..names.len() - 1], root).is_ok()
                }
                _ => true,
            },
        }
    }

    pub(super) fn aggregate(&mut self, written: &WrittenAggregate, place: Place) -> Result<Expr<Leaf>, Mistake> {
        let function = Aggregate::NAMED.into_iter().find(|function| function.word().eq_ignore_ascii_case(&written.name.text));
        let Some(function) = function else {
            return Err(Mistake::new(written.name.span, format!("`{}` is not a function", written.name.text)));
        };
        if place.of_group {
            return self.total(function, written);
        }
        let (over, of, named) = match (&written.from, &written.of) {
            (Some(source), of) => {
                let over = self.source(source, place.source)?;
                (over, of.as_ref(), joined(&source.path))
            }
            (None, Some(of)) => match of.as_leaf() {
                Some(Written::Path(names)) => return self.over_path(function, written, names, place),
                _ => {
                    let relation = self.relations.from(self.sources[place.source].table).find(|relation| is_many(&relation.hops));
                    let relation = relation.map_or("inspection", |relation| relation.name.as_str());
                    return Err(Mistake::new(of.span, "it is not said which rows this goes over")
                        .hint(format!("write `{}({of} from {relation})`, or group the rows", function.word())));
                }
            },
            (None, None) => {
                return Err(Mistake::new(
                    written.name.span,
                    format!("`{}()` counts the rows themselves, beside values of each row", function.word()),
                )
                .hint("name a relation, like `count(inspection)`, or group the rows with `group`"));
            }
        };
        self.must_be_many(over, place.source, &named, written.name.span)?;
        let of = match of {
            Some(of) => Some(self.checked(of, Place { source: over, ..AT_ROOT })?),
            None => None,
        };
        self.folded(function, written, over, of, &named, place)
    }

    /// `avg(inspection.temper)`, `count(inspection)`: a path to many, over a relation or to a column of it.
    fn over_path(&mut self, function: Aggregate, written: &WrittenAggregate, names: &[Name], place: Place) -> Result<Expr<Leaf>, Mistake> {
        let from = self.sources[place.source].table;
        let Some((last, before)) = names.split_last() else { return Err(Mistake::new(written.name.span, "a path has a name")) };
        let mut hops = self.hops(before, from)?;
        let table = hops.last().map_or(from, |step| step.hop.to);
        let relation = self.relations.get(table, &last.text);
        let column = match (self.schema.table(table).find(&last.text), relation) {
            (Some(column), None) => Some(column),
            // A name that is both is the relation where rows are counted, and where it stands alone.
            (column, Some(relation)) if column.is_none() || before.is_empty() || function == Aggregate::Count => {
                hops.extend(self.steps(relation));
                None
            }
            (Some(column), _) => Some(column),
            (None, _) => return Err(self.hops(names, from).err().unwrap_or_else(|| Mistake::new(last.span, "this is not known"))),
        };
        let named = joined(names);
        let over = self.reach(place.source, &hops);
        self.must_be_many(over, place.source, &named, names[0].span.join(last.span))?;
        let of = column.map(|column| {
            let kind = self.schema.table(self.sources[over].table).columns[column].kind;
            (at(Leaf::Column { source: over, column }, last.span), kind)
        });
        self.folded(function, written, over, of, &named, place)
    }

    fn must_be_many(&self, over: usize, from: usize, named: &str, span: Span) -> Result<(), Mistake> {
        if self.leads_to_many(over, from) {
            return Ok(());
        }
        let many: Vec<&str> = self
            .relations
            .from(self.sources[from].table)
            .filter(|relation| is_many(&relation.hops))
            .map(|relation| relation.name.as_str())
            .collect();
        let hint = match many.as_slice() {
            [] => "give it as it is, or group the rows with `group`".to_owned(),
            names => format!("give it as it is, aggregate over {}, or group the rows with `group`", names.join(", ")),
        };
        Err(Mistake::new(span, format!("`{named}` has one value at most for each row, so there is nothing to aggregate")).hint(hint))
    }

    fn folded(
        &mut self,
        function: Aggregate,
        written: &WrittenAggregate,
        over: usize,
        of: Option<(Expr<Leaf>, LogicalType)>,
        named: &str,
        place: Place,
    ) -> Result<Expr<Leaf>, Mistake> {
        if of.is_none() && function != Aggregate::Count {
            let first = &self.schema.table(self.sources[over].table).columns[0].name;
            let mistake = Mistake::new(written.name.span, format!("`{}` needs a column of `{named}`", function.word()));
            return Err(mistake.hint(format!("like `{}({named}.{first})`", function.word())));
        }
        let fold = fold(function, written, of)?;
        Ok(at(self.over(AggregateOver { at: place.source, over, fold }), written.name.span))
    }

    /// An aggregate over the rows of a group.
    fn total(&mut self, function: Aggregate, written: &WrittenAggregate) -> Result<Expr<Leaf>, Mistake> {
        let root = self.sources[0].table;
        let over_relation = match (&written.from, &written.of) {
            (Some(_), _) => true,
            (None, Some(of)) => matches!(of.as_leaf(), Some(Written::Path(names)) if self.goes_to_many(names, root)),
            (None, None) => false,
        };
        if over_relation {
            return Err(Mistake::new(written.name.span, format!("`{written}` is a value of each row, and rows are grouped here"))
                .hint(format!("aggregate it once more, like `sum({written})`")));
        }
        let of = match &written.of {
            Some(of) => Some(self.checked(of, AT_ROOT)?),
            None if function != Aggregate::Count => {
                return Err(Mistake::new(written.name.span, format!("`{}` needs a value of each row", function.word()))
                    .hint(format!("like `{}(…)` of a column", function.word())));
            }
            None => None,
        };
        let total = fold(function, written, of)?;
        let Standing::Group(group) = &mut self.standing else {
            return Err(Mistake::new(written.name.span, "there are no groups here"));
        };
        let place = group.totals.iter().position(|known| *known == total).unwrap_or_else(|| {
            group.totals.push(total);
            group.totals.len() - 1
        });
        Ok(at(Leaf::Total(place), written.name.span))
    }
}

/// What an aggregate computes, where its values can be aggregated so.
fn fold(function: Aggregate, written: &WrittenAggregate, of: Option<(Expr<Leaf>, LogicalType)>) -> Result<Fold, Mistake> {
    let (of, kind) = of.map_or((None, None), |(of, kind)| (Some(of), Some(kind)));
    let span = written.of.as_ref().map_or(written.name.span, |of| of.span);
    match (function, kind) {
        (Aggregate::Sum | Aggregate::Avg, Some(kind)) if !kind.is_number() => {
            return Err(Mistake::new(span, format!("`{}` of {kind} values means nothing", function.word()))
                .hint("aggregate a numeric column, or use `count`, `min` or `max`"));
        }
        (Aggregate::Min | Aggregate::Max, Some(kind @ (LogicalType::Boolean | LogicalType::Uuid | LogicalType::Blob))) => {
            return Err(Mistake::new(span, format!("`{}` of {kind} values is not the same on every engine", function.word())));
        }
        (_, Some(LogicalType::Real)) if written.distinct => {
            return Err(Mistake::new(span, "reals are not told apart alike by every engine").hint("leave `distinct` out"));
        }
        (_, None) if written.distinct => {
            return Err(Mistake::new(written.name.span, "`distinct` needs a value").hint("like `count(distinct name from …)`"));
        }
        _ => {}
    }
    Ok(Fold { function, distinct: written.distinct, of, order: Vec::new(), kind: function.kind(kind) })
}
