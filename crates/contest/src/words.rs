//! A need in words: its expressions as the language writes them, and what it asks for in a sentence.

use kampf_schema::expr::{Expr, Name, Node};
use kampf_schema::{Schema, Span};

use crate::need::{AggregateOver, Fold, Leaf, Need};

impl Need {
    /// An expression as the language writes it.
    pub fn said(&self, schema: &Schema, value: &Expr<Leaf>) -> String {
        self.said_at(schema, value, 0)
    }

    fn said_at(&self, schema: &Schema, value: &Expr<Leaf>, at: usize) -> String {
        let leaf = |leaf: &Leaf| match leaf {
            Leaf::Column { source, column } => {
                let column = name(&schema.table(self.sources[*source].table).columns[*column].name);
                let path = self.path(at, *source);
                if path.is_empty() { column } else { format!("{path}.{column}") }
            }
            Leaf::Parameter(at) => format!(":{}", self.parameters[*at].name),
            Leaf::Aggregate(place) => {
                let AggregateOver { at, over, fold } = &self.aggregates[*place];
                let filter = self.sources[*over].filter.as_ref().map(|filter| self.said_at(schema, filter, *over));
                let source = format!("{}{}", self.path(*at, *over), filter.map_or(String::new(), |filter| format!(" where {filter}")));
                self.said_fold(schema, fold, *over, Some(source))
            }
            Leaf::Key(at) => self.group.as_ref().map_or(String::new(), |group| name(&group.keys[*at].name)),
            Leaf::Total(at) => self.group.as_ref().map_or(String::new(), |group| self.said_fold(schema, &group.totals[*at], 0, None)),
        };
        value.map(&mut |of| Node::Leaf(leaf(of)).into()).to_string()
    }

    fn said_fold(&self, schema: &Schema, fold: &Fold, at: usize, source: Option<String>) -> String {
        let distinct = if fold.distinct { "distinct " } else { "" };
        let of = fold.of.as_ref().map(|of| self.said_at(schema, of, at));
        let inside = match (of, source) {
            (Some(of), Some(source)) => format!("{of} from {source}"),
            (of, source) => of.or(source).unwrap_or_default(),
        };
        format!("{}({distinct}{inside})", fold.function.word())
    }

    /// The relations from one source to another, joined by points.
    pub(crate) fn path(&self, from: usize, to: usize) -> String {
        let names = self.way(from, to).into_iter().map(|source| name(&self.sources[source].name));
        names.collect::<Vec<_>>().join(".")
    }
}

fn name(text: &str) -> String {
    Name { text: text.to_owned(), span: Span::default() }.to_string()
}
