//! How the rows of a table find their parents.

use std::collections::HashSet;

use kampf_schema::expr::{Argument, Recipe, RecipeSource};
use kampf_schema::{ColumnId, LogicalType, Reference, Schema, Table, TableId, Value};

use crate::count::{CountedRows, first_parent, most_of, share_evenly, share_rows};
use crate::guess;
use crate::link::{How, Link, ReferenceId, Spread};
use crate::names;
use crate::order::{FillError, FillSubject, Order};
use crate::random::{Permutation, Zipf, key};
use crate::relate::{KnownFamilies, Relating};

/// The link and the place in its reference by which a column is made; none for columns that refer to nothing.
pub(crate) type MadeBy = Option<(usize, usize)>;

/// References that overlap with others: a row of theirs must be chosen among those with the same parent. To be able to, children
/// must be counted by the reference of the parent's table to that common parent.
pub(crate) fn counted_too(schema: &Schema) -> HashSet<(TableId, ReferenceId)> {
    let mut counted = HashSet::new();
    for id in schema.ids() {
        let table = schema.table(id);
        for reference in &table.references {
            for other in &table.references {
                if let Some(at) = common(schema, reference, other) {
                    counted.insert((reference.parent, at));
                }
            }
        }
    }
    counted
}

/// The reference of `wide`'s parent that says by which of `narrow`'s parents the columns they share are meant.
fn common(schema: &Schema, wide: &Reference, narrow: &Reference) -> Option<ReferenceId> {
    let shared: Vec<ColumnId> = wide.columns.iter().copied().filter(|column| narrow.columns.contains(column)).collect();
    if std::ptr::eq(wide, narrow) || shared.is_empty() || shared.len() == wide.columns.len() {
        return None;
    }
    let there: Vec<ColumnId> =
        wide.columns.iter().zip(&wide.parent_columns).filter(|(own, _)| shared.contains(own)).map(|(_, there)| *there).collect();
    let references = &schema.table(wide.parent).references;
    references
        .iter()
        .position(|reference| reference.parent == narrow.parent && reference.columns.iter().all(|column| there.contains(column)))
}

/// The order in which references are given their columns: the one that children are counted by, those that must be there from
/// the widest on, then those that may be missing.
pub(crate) fn order_of(table: &Table, main: Option<ReferenceId>) -> Vec<ReferenceId> {
    let mut order: Vec<ReferenceId> = (0..table.references.len()).collect();
    order.sort_by_key(|&at| {
        let reference = &table.references[at];
        let nullable = reference.columns.iter().any(|&column| table.columns[column].nullable);
        let narrow_first = if nullable { reference.columns.len() } else { 100 - reference.columns.len().min(100) };
        (Some(at) != main, nullable, narrow_first, at)
    });
    order
}

/// Everything that links are made from.
pub(crate) struct Connecting<'a> {
    pub(crate) schema: &'a Schema,
    pub(crate) order: &'a Order,
    pub(crate) counts: &'a [CountedRows],
    /// Given rows of each table.
    pub(crate) given: &'a [u64],
    pub(crate) counted_too: &'a HashSet<(TableId, ReferenceId)>,
    /// Links of the tables planned so far.
    pub(crate) done: &'a [Option<Vec<Link>>],
    pub(crate) families: &'a KnownFamilies,
    pub(crate) tenants: &'a [TableId],
}

impl Connecting<'_> {
    /// The links of a table, one for each of its references, and the link and place by which each column is made.
    pub(crate) fn links(&self, id: TableId) -> Result<(Vec<Link>, Vec<MadeBy>), FillError> {
        let table = self.schema.table(id);
        let main = self.counts[id.0].spread.as_ref().map(|(at, _)| *at);
        let mut links: Vec<Option<Link>> = vec![None; table.references.len()];
        let mut made_by: Vec<MadeBy> = vec![None; table.columns.len()];
        for at in order_of(table, main) {
            let reference = &table.references[at];
            let known: Vec<(usize, usize)> = reference.columns.iter().filter_map(|&column| made_by[column]).collect();
            let mut link = self.link(id, at)?;
            if known.len() == reference.columns.len() {
                link.how = How::Implied;
            } else if !known.is_empty() {
                link.how = self.cousin(id, at, &made_by, &links)?;
            }
            for (place, &column) in reference.columns.iter().enumerate() {
                made_by[column].get_or_insert((at, place));
            }
            // A row that has no such parent may still have others: only what is left of its columns is null.
            links[at] = Some(link);
        }
        let mut links: Vec<Link> = links.into_iter().flatten().collect();
        self.by_rules(id, &mut links)?;
        let &Connecting { schema, order, counts, given, done, families, tenants, .. } = self;
        Relating { schema, order, counts, given, done, families, tenants }.relate(id, &mut links)?;
        Ok((links, made_by))
    }

    fn key_of(&self, id: TableId, at: ReferenceId) -> u64 {
        let table = self.schema.table(id);
        let names: Vec<&str> = table.references[at].columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
        key(self.order.seed, &format!("{}.{}>", table.name, names.join(",")))
    }

    /// A reference by itself.
    fn link(&self, id: TableId, at: ReferenceId) -> Result<Link, FillError> {
        let table = self.schema.table(id);
        let reference = &table.references[at];
        let given = self.given[id.0];
        let generated = self.counts[id.0].rows - given;
        let all = self.counts[reference.parent.0].rows;
        let first = first_parent(given, self.given[reference.parent.0], all);
        let parents = all - first;
        let nullable = reference.columns.iter().any(|&column| table.columns[column].nullable);
        let recipe = reference.columns.iter().find_map(|&column| self.order.values.get(&(id, column)).map(|recipe| (column, recipe)));
        let null_share = match recipe {
            Some((_, recipe)) => recipe.null_share,
            None if nullable && reference.parent == id && !names::says_answer(&table.columns[reference.columns[0]]) => 25_000,
            None if nullable => guess::null_share(table, &table.columns[reference.columns[0]]),
            None => 0,
        };
        let key = self.key_of(id, at);
        let uneven = recipe.map(|(column, recipe)| self.manner(id, column, reference, recipe, parents)).transpose()?.flatten();
        let mut link = Link { how: How::Scatter, key, null_share, nullable, first, parents, given, kin: None, tail: None };
        link.how = match (&self.counts[id.0].spread, uneven) {
            (Some((main, before)), _) if *main == at => {
                link.null_share = 0;
                How::Spread(Spread::new(before.clone(), key))
            }
            _ if reference.parent == id => How::Earlier,
            _ if parents == 0 && (nullable || generated == 0) => How::Never,
            _ if parents == 0 => {
                let parent = &self.schema.table(reference.parent).name;
                return Err(FillError::new(FillSubject::Rows(id), format!("`{}` needs rows of `{parent}`, which has none", table.name))
                    .hint(format!("give `{parent}` rows under [rows]")));
            }
            (_, Some(zipf)) => How::Uneven(zipf, Permutation::new(parents, key)),
            _ if self.counted_too.contains(&(id, at)) && !nullable => match share_rows(key, parents, generated) {
                Some(before) => How::Spread(Spread::new(before, key)),
                None => How::Scatter,
            },
            _ => How::Scatter,
        };
        if matches!(link.how, How::Never) {
            link.null_share = 100_000;
        }
        Ok(link)
    }

    /// What a user's recipe says about how parents are chosen.
    fn manner(
        &self,
        id: TableId,
        column: ColumnId,
        reference: &Reference,
        recipe: &Recipe,
        parents: u64,
    ) -> Result<Option<Zipf>, FillError> {
        let table = self.schema.table(id);
        let parent = &self.schema.table(reference.parent).name;
        let wrong = || {
            let message =
                format!("`{}.{}` refers to `{parent}`, so its values are keys from there", table.name, table.columns[column].name);
            let hint = "say how parents are chosen: `uniform`, `zipf(1.1)`, `same(table)`, each with `or null 30%`; or remove this line";
            Err(FillError::new(FillSubject::Values(id, column), message).hint(hint))
        };
        match &recipe.source {
            RecipeSource::Call { name, arguments } if recipe.bounds.is_none() => {
                match (name.text.to_lowercase().as_str(), arguments.as_slice()) {
                    ("uniform", []) | ("same", [Argument::Path(_)]) => Ok(None),
                    ("zipf", [Argument::Value(exponent, None)]) => match exponent.as_ref().as_real() {
                        Some(exponent) if exponent > 0.0 => Ok(Some(Zipf::new(parents, exponent))),
                        _ => wrong(),
                    },
                    _ => wrong(),
                }
            }
            RecipeSource::Literal(Value::Null) => Ok(None),
            _ => wrong(),
        }
    }

    /// A reference some of whose columns another one has made already.
    fn cousin(&self, id: TableId, at: ReferenceId, made_by: &[MadeBy], links: &[Option<Link>]) -> Result<How, FillError> {
        let table = self.schema.table(id);
        let reference = &table.references[at];
        let through: HashSet<usize> = reference.columns.iter().filter_map(|&column| made_by[column].map(|(link, _)| link)).collect();
        let found = through.iter().copied().find_map(|other| {
            let common = common(self.schema, reference, &table.references[other])?;
            let parents_links = self.done[reference.parent.0].as_ref()?;
            let link = &parents_links[common];
            let spread = link.spread()?.clone();
            links[other].as_ref()?;
            Some(How::Cousin { through: other, spread, above: link.first, given: link.given })
        });
        let nullable = reference.columns.iter().any(|&column| table.columns[column].nullable && made_by[column].is_none());
        match found {
            Some(how) if through.len() == 1 => Ok(how),
            _ if nullable => Ok(How::Never),
            _ => {
                let columns: Vec<&str> = reference.columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
                let message = format!(
                    "the reference of `{}` by {} shares columns with another one in a way that is not understood",
                    table.name,
                    columns.join(", ")
                );
                Err(FillError::new(FillSubject::Schema(reference.span), message)
                    .hint("remove one of the two references from the schema file"))
            }
        }
    }

    /// Unique rules over two references each that have one of them in common: it is that one by which children are counted, so that the
    /// others differ among its children.
    fn overlapping(&self, id: TableId, links: &mut [Link]) {
        let table = self.schema.table(id);
        let rows = self.counts[id.0].rows - self.given[id.0];
        let mut pairs: Vec<[ReferenceId; 2]> = Vec::new();
        for rule in table.keys() {
            let (inside, linked) = links_in(table, rule, links);
            if let ([one, other], true) = (inside.as_slice(), linked.len() == rule.len())
                && is_free(&links[*one])
                && is_free(&links[*other])
            {
                pairs.push([*one, *other]);
            }
        }
        let partners = |at: ReferenceId| {
            pairs.iter().filter_map(move |&[one, other]| match at {
                _ if one == at => Some(other),
                _ if other == at => Some(one),
                _ => None,
            })
        };
        let Some(shared) = (0..links.len()).filter(|&at| partners(at).count() > 1).max_by_key(|&at| partners(at).count()) else { return };
        let counted = partners(shared).find(|&at| links[at].spread().is_some());
        let room = links[shared].parents;
        if links[shared].spread().is_some() {
            return;
        }
        let Some(counted) = counted else {
            let most = partners(shared).map(|at| links[at].parents).min().unwrap_or(0);
            // Where there is little room the children are as many of each.
            let uneven = share_rows(links[shared].key, room, rows).filter(|before| most_of(before) <= most);
            let before = uneven.or_else(|| share_evenly(room, rows));
            if let Some(before) = before {
                links[shared].how = How::Spread(Spread::new(before, links[shared].key));
            }
            return;
        };
        if rows <= room {
            links[shared].how = How::OneToOne(Permutation::new(room, links[shared].key));
            return;
        }
        // Children are counted by another: what hangs on that differs with it.
        for other in partners(shared).filter(|&at| at != counted).collect::<Vec<_>>() {
            if links[counted].parents <= links[other].parents {
                links[other].how = How::With { other: counted, each: Permutation::new(links[other].parents, links[other].key) };
            }
        }
    }

    /// Makes rows differ by what they refer to, where unique rules over references want it.
    fn by_rules(&self, id: TableId, links: &mut [Link]) -> Result<(), FillError> {
        let table = self.schema.table(id);
        let rows = self.counts[id.0].rows - self.given[id.0];
        let spread = self.counts[id.0].spread.is_some();
        self.overlapping(id, links);
        for rule in table.keys() {
            let (inside, linked) = links_in(table, rule, links);
            let covered = linked.len() == rule.len();
            let too_many = |room: u64, what: String| {
                FillError::new(
                    FillSubject::Rows(id),
                    format!("{rows} rows of `{}` cannot all refer to different {what}; there are {room}", table.name),
                )
                .hint("ask for fewer rows under [rows]")
                .room(room + self.given[id.0])
            };
            let parent_name = |at: usize| &self.schema.table(table.references[at].parent).name;
            match (inside.as_slice(), covered) {
                ([one], true) => {
                    let parents = links[*one].parents;
                    if rows > parents {
                        return Err(too_many(parents, format!("rows of `{}`", parent_name(*one))));
                    }
                    links[*one].how = How::OneToOne(Permutation::new(parents, links[*one].key));
                    // A row without a parent would only waste one.
                }
                ([first, second, ..], true) => {
                    if !is_free(&links[*first]) || !is_free(&links[*second]) {
                        continue;
                    }
                    let main = [*first, *second].into_iter().find(|&at| links[at].spread().is_some());
                    match main {
                        Some(main) => {
                            let other = if main == *first { *second } else { *first };
                            let most = links[main].spread().map_or(0, Spread::most);
                            let parents = links[other].parents;
                            if most > parents {
                                let what =
                                    format!("pairs: one parent has {most} of them, each with another row of `{}`", parent_name(other));
                                return Err(too_many(parents, what));
                            }
                            links[other].how = How::Within { spread: main };
                        }
                        None => {
                            let others = links[*second].parents;
                            let room = links[*first].parents.saturating_mul(others);
                            if rows > room {
                                return Err(too_many(room, "pairs".to_owned()));
                            }
                            let pairs = Permutation::new(room, links[*first].key);
                            links[*first].how = How::Pair { pairs, others, first: true };
                            links[*second].how = How::Pair { pairs, others, first: false };
                        }
                    }
                }
                ([one, ..], false)
                    if matches!(links[*one].how, How::Scatter)
                        && !spread
                        && (!links[*one].nullable || rule.iter().all(|&column| linked.contains(&column) || is_narrow(table, column))) =>
                {
                    (links[*one].nullable, links[*one].null_share) = (false, 0);
                    if let Some(before) = share_rows(links[*one].key, links[*one].parents, rows) {
                        links[*one].how = How::Spread(Spread::new(before, links[*one].key));
                    }
                }
                _ => {}
            }
        }
        for index in &table.unique_indexes {
            // Children are counted where a rule over a part of them is about one parent's.
            let at = index.terms.iter().find_map(|term| {
                let column = term.as_leaf()?;
                (0..table.references.len()).find(|&at| table.references[at].columns == [*column])
            });
            if let Some(at) = at
                && matches!(links[at].how, How::Scatter)
                && !links[at].nullable
                && let Some(before) = share_rows(links[at].key, links[at].parents, rows)
            {
                links[at].how = How::Spread(Spread::new(before, links[at].key));
            }
        }
        Ok(())
    }
}

/// The references that lie within a unique rule, and the columns of it that they make.
fn links_in(table: &Table, rule: &[ColumnId], links: &[Link]) -> (Vec<ReferenceId>, Vec<ColumnId>) {
    let is_inside = |at: &ReferenceId| {
        !matches!(links[*at].how, How::Implied | How::Never) && table.references[*at].columns.iter().all(|column| rule.contains(column))
    };
    let inside: Vec<ReferenceId> = (0..table.references.len()).filter(is_inside).collect();
    let mut linked: Vec<ColumnId> = inside.iter().flat_map(|&at| table.references[at].columns.iter().copied()).collect();
    linked.sort_unstable();
    linked.dedup();
    (inside, linked)
}

/// Whether a link may still find its parents in another way.
fn is_free(link: &Link) -> bool {
    matches!(link.how, How::Scatter | How::Uneven(..) | How::Spread(_))
}

/// Whether a column has room for few values only.
fn is_narrow(table: &Table, column: ColumnId) -> bool {
    match table.columns[column].kind {
        LogicalType::Boolean => true,
        LogicalType::Text { length } => !table.columns[column].words.is_empty() || length.is_some_and(|length| length <= 16),
        LogicalType::Integer => table.columns[column].limits.is_some_and(|(low, high)| high - low < 1000),
        _ => false,
    }
}
