//! Single related rows that are picked, and lists of them.

use kampf_schema::expr::{Expr, Give, Mistake, Name, Written, WrittenList, WrittenPick, WrittenSource};
use kampf_schema::{Span, TableId};

use super::leaves::{AT_ROOT, Place, Resolver, Step, at, joined};
use super::order::{make_total_at, without_repeats};
use crate::choice::Loading;
use crate::form::Form;
use crate::need::{Aggregate, AggregateOver, Fold, Given, Leaf, ListOver, OrderBy, Source};

impl Resolver<'_> {
    /// Fixes how what a relation leads to is loaded, wherever it is used.
    pub(super) fn fix(&mut self, path: &str, loading: Loading) -> Result<(), Mistake> {
        let whole = Span::new(0, path.len());
        let names: Vec<Name> = path.split('.').map(|name| Name { text: name.trim().to_owned(), span: whole }).collect();
        let steps = self.hops(&names, self.sources[0].table)?;
        let last = self.hops(&names[..names.len() - 1], self.sources[0].table)?.len();
        let leads = |mut at: usize| {
            let mut hops = Vec::new();
            while at != 0 {
                hops.insert(0, self.sources[at].hop.clone());
                at = self.sources[at].parent;
            }
            hops
        };
        let ways: Vec<_> = (0..self.sources.len()).map(leads).collect();
        let mut found = false;
        for (source, way) in self.sources.iter_mut().zip(ways) {
            let is_on_it = way.len() > last && way.len() <= steps.len();
            if is_on_it && way.iter().zip(&steps).all(|(hop, step)| hop.as_ref() == Some(&step.hop)) {
                source.fixed = Some(loading);
                found = true;
            }
        }
        if found {
            return Ok(());
        }
        Err(Mistake::new(whole, format!("nothing is asked of `{path}` here")).hint("remove this line, or ask for something of it"))
    }

    /// Adds what entities are used to having: the relations that are loaded whenever an entity of their table is, and those of what is
    /// loaded so, but never back to a table that they come from.
    pub(super) fn add_habits(&mut self, habits: &[(TableId, String)]) -> Result<(), Mistake> {
        let mut at = 0;
        while at < self.sources.len() {
            let table = self.sources[at].table;
            for (_, relation) in habits.iter().filter(|(of, _)| *of == table) {
                let name = Name { text: relation.clone(), span: Span::new(0, relation.len()) };
                let steps = self.hops(std::slice::from_ref(&name), table)?;
                let Some(to) = steps.last().map(|step| step.hop.to) else { continue };
                let comes_from = |mut source: usize| {
                    let mut tables = vec![self.sources[source].table];
                    while self.sources[source].by_habit {
                        source = self.sources[source].parent;
                        tables.push(self.sources[source].table);
                    }
                    tables
                };
                if comes_from(at).contains(&to) && to != table {
                    continue;
                }
                if self.sources[at].by_habit && to == table {
                    continue;
                }
                let mut parent = at;
                for Step { name, hop } in steps {
                    let same = |known: &Source| {
                        known.parent == parent && known.hop.as_ref() == Some(&hop) && known.filter.is_none() && known.by_habit
                    };
                    parent = self.sources.iter().position(same).unwrap_or_else(|| {
                        self.sources.push(Source { by_habit: true, ..Source::along(parent, &hop, &name) });
                        self.sources.len() - 1
                    });
                }
            }
            at += 1;
        }
        Ok(())
    }

    /// `last(inspection order inspected_at).mites`: the first row in an order, the last one being the first in the opposite order.
    pub(super) fn pick(&mut self, written: &WrittenPick, place: Place) -> Result<Expr<Leaf>, Mistake> {
        let word = if written.last { "last" } else { "first" };
        if place.of_group {
            return Err(Mistake::new(written.span, format!("`{word}(…)` is a value of each row, and rows are grouped here"))
                .hint(format!("aggregate it once more, like `max({written})`")));
        }
        let path = joined(&written.source.path);
        if written.source.order.is_empty() {
            return Err(Mistake::new(written.source.span, format!("it is not said which of these rows is the {word} one")).hint(format!(
                "write `{word}({} order …).{}`",
                written.source,
                joined(&written.path)
            )));
        }
        let over = self.source(&written.source, place.source)?;
        let one = format!("give `{path}.{}`", joined(&written.path));
        self.must_lead_to_many(over, place.source, &written.source, &one)?;
        let mut order = self.order_at(&written.source, over)?;
        if written.last {
            order.iter_mut().for_each(|by| by.descending = !by.descending);
        }
        let here = Place { source: over, ..AT_ROOT };
        let path = Expr { node: kampf_schema::expr::Node::Leaf(Written::Path(written.path.clone())), span: written.span };
        let (of, kind) = self.checked(&path, here)?;
        let fold = Fold { function: Aggregate::First, distinct: false, of: Some(of), order, kind };
        Ok(at(self.over(AggregateOver { at: place.source, over, fold }), written.span))
    }

    /// Related rows with what is given of each; `text` is what they stand in.
    pub(super) fn list(&mut self, written: &WrittenList, from: usize, text: &str) -> Result<(Expr<Leaf>, Form), Mistake> {
        let source = &written.source;
        let over = self.source(source, from)?;
        let path = joined(&source.path);
        let columns = written.give.iter().filter(|give| matches!(give.value.as_leaf(), Some(Written::Path(_))));
        let columns: Vec<String> = columns.map(|give| format!("`{path}.{}`", give.value)).collect();
        let one = format!("give {}", if columns.is_empty() { format!("`{path}.…`") } else { columns.join(", ") });
        self.must_lead_to_many(over, from, source, &one)?;
        let order = self.order_at(source, over)?;
        let mut give: Vec<Given> = Vec::new();
        for item in &written.give {
            let given = self.given(item, Place { source: over, ..AT_ROOT }, text)?;
            if give.iter().any(|known| known.name == given.name) {
                return Err(given_twice(&given.name, item));
            }
            give.push(given);
        }
        let list = ListOver { at: from, over, order, limit: source.limit, give };
        let place = self.lists.iter().position(|known| *known == list).unwrap_or_else(|| {
            self.lists.push(list);
            self.lists.len() - 1
        });
        let form = Form::List(self.form_of(place));
        Ok((at(Leaf::List(place), source.span), form))
    }

    /// One thing that is given, and its name.
    pub(super) fn given(&mut self, give: &Give, place: Place, text: &str) -> Result<Given, Mistake> {
        let alias = give.alias.as_ref().map(|alias| alias.text.clone());
        if let Some(Written::List(list)) = give.value.as_leaf() {
            if place.of_group {
                return Err(Mistake::new(list.source.span, "a list is of one row, and rows are grouped here")
                    .hint("leave it out, or ask without groups and `distinct`"));
            }
            let (value, form) = self.list(list, place.source, text)?;
            return Ok(Given { name: alias.unwrap_or_else(|| joined(&list.source.path)), value, form });
        }
        let (value, kind) = self.checked(&give.value, place)?;
        let written = text.get(give.value.span.start..give.value.span.end).unwrap_or(text).trim();
        Ok(Given { name: alias.unwrap_or_else(|| written.to_owned()), value, form: Form::Value(kind) })
    }

    /// The order that is written behind a source, made total where it can be, or must be for a limit.
    fn order_at(&mut self, written: &WrittenSource, over: usize) -> Result<Vec<OrderBy<Leaf>>, Mistake> {
        let mut order = Vec::new();
        for term in &written.order {
            let (value, _) = self.checked(&term.key, Place { source: over, ..AT_ROOT })?;
            if value.leaves().is_empty() {
                return Err(Mistake::new(term.key.span, "this is the same for all rows").hint("sort by something of the row"));
            }
            order.push(OrderBy { value, descending: term.descending, appended: false });
        }
        let mut order = without_repeats(order);
        if order.is_empty() && written.limit.is_none() {
            return Ok(order);
        }
        let table = self.schema.table(self.sources[over].table);
        if !make_total_at(table, over, &mut order) {
            let message = format!("`{}` has no unique key, so it is not known which of its rows come first", table.name);
            return Err(Mistake::new(written.span, message).hint(format!("give `{}` a primary key, or ask for all of them", table.name)));
        }
        Ok(order)
    }

    /// A path to one is written out instead.
    fn must_lead_to_many(&self, over: usize, from: usize, source: &WrittenSource, instead: &str) -> Result<(), Mistake> {
        if self.leads_to_many(over, from) {
            return Ok(());
        }
        let span = source.path.iter().map(|name: &Name| name.span).reduce(Span::join).unwrap_or(source.span);
        Err(Mistake::new(span, format!("`{}` leads to one row at most", joined(&source.path))).hint(instead.to_owned()))
    }
}

pub(super) fn given_twice(name: &str, give: &Give) -> Mistake {
    let span = give.alias.as_ref().map_or(give.value.span, |alias| alias.span);
    Mistake::new(span, format!("`{name}` is given twice")).hint("give one of them another name with `as`")
}

/// A list where a value is asked for.
pub(super) fn no_value(list: &WrittenList) -> Mistake {
    Mistake::new(list.source.span, "a list stands alone in what is given").hint(format!(
        "aggregate its rows for one value, like `count({})`, or take one of them, like `first({} order …).…`",
        joined(&list.source.path),
        joined(&list.source.path)
    ))
}
