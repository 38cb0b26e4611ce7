//! A need in words: its expressions as the language writes them, and what it asks for in a sentence.

use kampf_schema::expr::{Expr, Name, Node};
use kampf_schema::{HopKind, Schema, Span, TableId};

use crate::need::{Aggregate, AggregateOver, Expect, Fold, Given, Leaf, Need};

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

/// What is known besides the need to say it in a sentence.
pub struct Telling<'a> {
    /// The schema.
    pub schema: &'a Schema,
    /// How many rows a table has.
    pub rows: &'a dyn Fn(TableId) -> u64,
    /// A number as people read it.
    pub number: &'a dyn Fn(u64) -> String,
}

impl Telling<'_> {
    /// What a need asks for, in a sentence or two of plain words, so that a mistake is seen before a race.
    pub fn sentence(&self, need: &Need) -> String {
        let table = &self.schema.table(need.root()).name;
        let rows = format!("{} rows of {table}", (self.number)((self.rows)(need.root())));
        let give = and(need.give.iter().map(|given| self.given(need, given)).collect());
        // How many there are is said before some of them are chosen.
        let filter = self.filter(need);
        let those = |all: &str, chosen: &str| match &filter {
            None => all.to_owned(),
            Some(filter) => format!("Of {rows}, {chosen} where {filter}"),
        };
        let mut text = match &need.group {
            None => format!("{} gives {give}", those(&format!("Each of {rows}"), "each")),
            Some(group) if need.distinct => {
                let terms = and(group.keys.iter().map(|key| self.given(need, key)).collect());
                format!("{} give each different combination of {terms} once", those(&rows, "those"))
            }
            Some(group) if group.keys.is_empty() => format!("{} together give {give}", those(&rows, "all")),
            Some(group) => {
                let keys = and(group.keys.iter().map(|key| self.named(need, key)).collect());
                format!("{}, in groups, one for each {keys}, give {give}", those(&rows, "those"))
            }
        };
        let order: Vec<String> = need
            .order
            .iter()
            .filter(|by| !by.appended)
            .map(|by| {
                let said = need.give.iter().find(|given| given.value == by.value).map(|given| given.name.clone());
                let said = said.unwrap_or_else(|| need.said(self.schema, &by.value));
                format!("{said}, {}", if by.descending { "largest first" } else { "smallest first" })
            })
            .collect();
        if !order.is_empty() {
            text += &format!("; by {}", order.join(", then by "));
        }
        if let Some(limit) = need.limit {
            text += &format!("; at most {} of them", (self.number)(limit));
        }
        match need.expect {
            Expect::Many => {}
            Expect::One => text += "; exactly one must come",
            Expect::ZeroOrOne => text += "; one may come, or none",
            Expect::OneOfMany => text += "; the first of them, and one must come",
            Expect::ZeroOrOneOfMany => text += "; the first of them, where there is any",
        }
        text + "."
    }

    fn filter(&self, need: &Need) -> Option<String> {
        let parts: Vec<String> = need
            .filter
            .iter()
            .map(|part| {
                let said = need.said(self.schema, &part.condition);
                match part.only_if {
                    Some(at) => format!("{said} (if :{} is given)", need.parameters[at].name),
                    None => said,
                }
            })
            .collect();
        (!parts.is_empty()).then(|| parts.join(" and "))
    }

    /// A value with its name, where that says more than the value.
    fn named(&self, need: &Need, given: &Given) -> String {
        let said = self.value(need, &given.value);
        if said == given.name { said } else { format!("{} ({said})", given.name) }
    }

    fn given(&self, need: &Need, given: &Given) -> String {
        match given.value.as_leaf() {
            Some(Leaf::Aggregate(_) | Leaf::Total(_)) => self.value(need, &given.value),
            Some(Leaf::Key(_)) => given.name.clone(),
            _ => self.named(need, given),
        }
    }

    fn value(&self, need: &Need, value: &Expr<Leaf>) -> String {
        match value.as_leaf() {
            Some(Leaf::Aggregate(at)) => self.aggregate(need, &need.aggregates[*at]),
            Some(Leaf::Total(at)) => need.group.as_ref().map_or(String::new(), |group| self.total(need, &group.totals[*at])),
            _ => need.said(self.schema, value),
        }
    }

    fn aggregate(&self, need: &Need, aggregate: &AggregateOver) -> String {
        let AggregateOver { at, over, fold } = aggregate;
        let filter = need.sources[*over].filter.as_ref().map(|filter| need.said_at(self.schema, filter, *over));
        let path = need.path(*at, *over);
        let many = self.average(need, *at, *over).map_or(String::new(), |many| format!("about {many} "));
        let of = fold.of.as_ref().map(|of| need.said_at(self.schema, of, *over));
        let its = format!("its {many}rows of {path}");
        let with = filter.as_ref().map_or(String::new(), |filter| format!(" with {filter}"));
        match (fold.function, of) {
            (Aggregate::Exists, _) => format!("whether any of {its} has {}", filter.unwrap_or_else(|| "come at all".to_owned())),
            (Aggregate::Count, None) => match filter {
                Some(filter) => format!("how many of {its} have {filter}"),
                None => format!(
                    "how many rows of {path} it has{}",
                    if many.is_empty() { String::new() } else { format!(" ({})", many.trim_end()) }
                ),
            },
            (_, of) => format!("{} {its}{with}", folded(fold, &of.unwrap_or_default(), "of")),
        }
    }

    fn total(&self, need: &Need, fold: &Fold) -> String {
        match &fold.of {
            None => "how many rows there are".to_owned(),
            Some(of) => {
                let of = match of.as_leaf() {
                    Some(Leaf::Aggregate(_)) => format!("({})", self.value(need, of)),
                    _ => need.said(self.schema, of),
                };
                folded(fold, &of, "").trim_end().to_owned()
            }
        }
    }

    /// How many rows of a source hang on one of another, on average; none where that is not told by their numbers.
    fn average(&self, need: &Need, from: usize, to: usize) -> Option<String> {
        let mut many = 1.0;
        for source in need.way(from, to) {
            let hop = need.sources[source].hop.as_ref()?;
            if hop.kind == HopKind::Many {
                let parents = (self.rows)(hop.from);
                many *= (self.rows)(hop.to) as f64 / parents.max(1) as f64;
            }
        }
        Some(if many >= 10.0 { (self.number)(many.round() as u64) } else { format!("{}", (many * 10.0).round() / 10.0) })
    }
}

/// What an aggregate computes, in words before what it goes over.
fn folded(fold: &Fold, of: &str, over: &str) -> String {
    let different = if fold.distinct { "different " } else { "" };
    match fold.function {
        Aggregate::Count => format!("how many {different}values of {of} there are{}", if over.is_empty() { "" } else { " among" }),
        Aggregate::Sum => format!("the sum of {different}{of} {}", if over.is_empty() { "" } else { "over" }),
        Aggregate::Avg => format!("the mean {different}{of} {over}"),
        Aggregate::Min => format!("the smallest {of} {over}"),
        Aggregate::Max => format!("the largest {of} {over}"),
        Aggregate::Exists => "whether there is any".to_owned(),
    }
}

/// A list in words.
fn and(mut parts: Vec<String>) -> String {
    match parts.pop() {
        Some(last) if !parts.is_empty() => format!("{} and {last}", parts.join(", ")),
        Some(last) => last,
        None => String::new(),
    }
}

fn name(text: &str) -> String {
    Name { text: text.to_owned(), span: Span::default() }.to_string()
}
