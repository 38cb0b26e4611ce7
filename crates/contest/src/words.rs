//! A need in words: its expressions as the language writes them, and what it asks for in a sentence.

use kampf_schema::expr::{Expr, Name, Node};
use kampf_schema::{HopKind, Schema, Span, TableId};

use crate::need::{Aggregate, AggregateOver, Expect, Fold, Given, Leaf, ListOver, Need, OrderBy};

impl Need {
    /// An expression as the language writes it.
    pub fn said(&self, schema: &Schema, value: &Expr<Leaf>) -> String {
        self.said_at(schema, value, 0)
    }

    pub(crate) fn said_at(&self, schema: &Schema, value: &Expr<Leaf>, at: usize) -> String {
        let leaf = |leaf: &Leaf| match leaf {
            Leaf::Column { source, column } => {
                let column = name(&schema.table(self.sources[*source].table).columns[*column].name);
                let path = self.path(at, *source);
                if path.is_empty() { column } else { format!("{path}.{column}") }
            }
            Leaf::Parameter(at) => format!(":{}", self.parameters[*at].name),
            Leaf::Aggregate(place) => {
                let AggregateOver { at, over, fold } = &self.aggregates[*place];
                let source = self.said_source(schema, *at, *over, &fold.order, None);
                match (fold.function, &fold.of) {
                    (Aggregate::First, Some(of)) => format!("first({source}).{}", self.said_at(schema, of, *over)),
                    _ => self.said_fold(schema, fold, *over, Some(source)),
                }
            }
            Leaf::List(place) => {
                let ListOver { at, over, order, limit, give } = &self.lists[*place];
                let source = self.said_source(schema, *at, *over, order, *limit);
                let items = give.iter().map(|given| self.said_at(schema, &given.value, *over));
                format!("{source} {{ {} }}", items.collect::<Vec<_>>().join(", "))
            }
            Leaf::Key(at) => self.group.as_ref().map_or(String::new(), |group| name(&group.keys[*at].name)),
            Leaf::Total(at) => self.group.as_ref().map_or(String::new(), |group| self.said_fold(schema, &group.totals[*at], 0, None)),
        };
        value.map(&mut |of| Node::Leaf(leaf(of)).into()).to_string()
    }

    /// Related rows as the language writes them, without terms that were added to the order.
    fn said_source(&self, schema: &Schema, at: usize, over: usize, order: &[OrderBy<Leaf>], limit: Option<u64>) -> String {
        let mut said = self.path(at, over);
        if let Some(filter) = &self.sources[over].filter {
            said += &format!(" where {}", self.said_at(schema, filter, over));
        }
        let terms = order.iter().filter(|by| !by.appended);
        let terms = terms.map(|by| format!("{}{}", self.said_at(schema, &by.value, over), if by.descending { " desc" } else { "" }));
        let terms: Vec<String> = terms.collect();
        if !terms.is_empty() {
            said += &format!(" order {}", terms.join(", "));
        }
        said + &limit.map_or(String::new(), |limit| format!(" limit {limit}"))
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
        let give = self.all_given(need, &need.give);
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
        let order = sorted(need.order.iter().filter(|by| !by.appended).map(|by| {
            let said = need.give.iter().find(|given| given.value == by.value).map(|given| given.name.clone());
            (said.unwrap_or_else(|| need.said(self.schema, &by.value)), by.descending)
        }));
        if !order.is_empty() {
            text += &format!("; by {order}");
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

    /// What is given of each row; several columns of one picked row are told together.
    fn all_given(&self, need: &Need, give: &[Given]) -> String {
        let pick = |given: &Given| match given.value.as_leaf() {
            Some(Leaf::Aggregate(at)) => Some(&need.aggregates[*at]).filter(|aggregate| aggregate.fold.function == Aggregate::First),
            _ => None,
        };
        let mut parts: Vec<(Vec<String>, Option<&AggregateOver>)> = Vec::new();
        for given in give {
            let Some(one) = pick(given) else {
                parts.push((vec![self.given(need, given)], None));
                continue;
            };
            let of = one.fold.of.as_ref().map(|of| need.said_at(self.schema, of, one.over)).unwrap_or_default();
            match parts.last_mut() {
                Some((columns, Some(last))) if (last.at, last.over, &last.fold.order) == (one.at, one.over, &one.fold.order) => {
                    columns.push(of);
                }
                _ => parts.push((vec![of], Some(one))),
            }
        }
        let said = |(columns, picked): (Vec<String>, Option<&AggregateOver>)| match picked {
            Some(picked) => format!("{} of {}", and(columns), self.picked(need, picked)),
            None => columns.concat(),
        };
        and(parts.into_iter().map(said).collect())
    }

    /// The row that is picked.
    fn picked(&self, need: &Need, AggregateOver { at, over, fold }: &AggregateOver) -> String {
        let many = self.average(need, *at, *over).map_or(String::new(), |many| format!("about {many} "));
        let filter = need.sources[*over].filter.as_ref().map(|filter| format!(" with {}", need.said_at(self.schema, filter, *over)));
        let terms = fold.order.iter().filter(|by| !by.appended);
        let order = sorted(terms.map(|by| (need.said_at(self.schema, &by.value, *over), by.descending)));
        format!("the first of its {many}rows of {}{} by {order}", need.path(*at, *over), filter.unwrap_or_default())
    }

    pub(crate) fn filter(&self, need: &Need) -> Option<String> {
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
            Some(Leaf::List(_)) => format!("{}: {}", given.name, self.value(need, &given.value)),
            Some(Leaf::Key(_)) => given.name.clone(),
            _ => self.named(need, given),
        }
    }

    fn value(&self, need: &Need, value: &Expr<Leaf>) -> String {
        match value.as_leaf() {
            Some(Leaf::Aggregate(at)) => self.aggregate(need, &need.aggregates[*at]),
            Some(Leaf::Total(at)) => need.group.as_ref().map_or(String::new(), |group| self.total(need, &group.totals[*at])),
            Some(Leaf::List(at)) => self.list(need, &need.lists[*at]),
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
            (Aggregate::First, of) => format!("{} of {}", of.unwrap_or_default(), self.picked(need, aggregate)),
            (Aggregate::Exists, _) => format!("whether any of {its} has {}", filter.unwrap_or_else(|| "come at all".to_owned())),
            (Aggregate::Count, None) => match filter {
                Some(filter) => format!("how many of {its} meet {filter}"),
                None => format!(
                    "how many rows of {path} it has{}",
                    if many.is_empty() { String::new() } else { format!(" ({})", many.trim_end()) }
                ),
            },
            (_, of) => format!("{} {its}{with}", folded(fold, &of.unwrap_or_default(), "of")),
        }
    }

    /// A list in words: how many of which rows, in which order, and what is given of each.
    fn list(&self, need: &Need, list: &ListOver) -> String {
        let ListOver { at, over, order, limit, give } = list;
        let many = self.average(need, *at, *over).map_or(String::new(), |many| format!("about {many} "));
        let which = match limit {
            Some(limit) => format!("the first {} of its {many}rows of {}", (self.number)(*limit), need.path(*at, *over)),
            None => format!("its {many}rows of {}", need.path(*at, *over)),
        };
        let filter = need.sources[*over].filter.as_ref().map(|filter| format!(" with {}", need.said_at(self.schema, filter, *over)));
        let order = sorted(order.iter().filter(|by| !by.appended).map(|by| (need.said_at(self.schema, &by.value, *over), by.descending)));
        let order = if order.is_empty() { order } else { format!(" by {order}") };
        let give = and(give
            .iter()
            .map(|given| match given.value.as_leaf() {
                Some(Leaf::List(at)) => format!("{} ({})", given.name, self.list(need, &need.lists[*at])),
                Some(Leaf::Aggregate(_)) => self.value(need, &given.value),
                _ => given.name.clone(),
            })
            .collect());
        format!("{which}{}{order}, each with {give}", filter.unwrap_or_default())
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
        Aggregate::First => format!("the first {of} {over}"),
    }
}

/// Terms to sort by, in words.
fn sorted(terms: impl Iterator<Item = (String, bool)>) -> String {
    let said = terms.map(|(said, descending)| format!("{said}, {}", if descending { "largest first" } else { "smallest first" }));
    said.collect::<Vec<_>>().join(", then by ")
}

/// A list in words.
pub(crate) fn and(mut parts: Vec<String>) -> String {
    match parts.pop() {
        Some(last) if !parts.is_empty() => format!("{} and {last}", parts.join(", ")),
        Some(last) => last,
        None => String::new(),
    }
}

fn name(text: &str) -> String {
    Name { text: text.to_owned(), span: Span::default() }.to_string()
}
