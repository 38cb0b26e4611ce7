//! The plan of a dataset: how many rows, and what makes each column.

use std::collections::HashMap;
use std::fmt;

use kampf_schema::expr::{Recipe, RowCount};
use kampf_schema::{ColumnId, LogicalType, Reference, Schema, Span, Table, TableId, Value, did_you_mean};

use crate::batch::{BATCH_ROWS, Batch};
use crate::guess;
use crate::link::{Link, Spread};
use crate::maker::Maker;
use crate::random::{Permutation, Random, key, mix};
use crate::recipe;
use crate::unique::{Draft, Source, settle};
use crate::vocabulary::Vocabulary;

/// What the user asks for.
#[derive(Clone, Debug, Default)]
pub struct Order {
    /// Row counts; tables without one get a guess.
    pub rows: HashMap<TableId, RowCount>,
    /// Recipes; columns without one get a guess.
    pub values: HashMap<(TableId, ColumnId), Recipe>,
    /// The seed.
    pub seed: u64,
}

/// What an error is about.
#[derive(Clone, Debug, PartialEq)]
pub enum FillSubject {
    /// The row count of a table.
    Rows(TableId),
    /// The values of a column.
    Values(TableId, ColumnId),
    /// A place in the DDL.
    Schema(Span),
}

/// Rows that cannot be made as asked.
#[derive(Clone, Debug, PartialEq)]
pub struct FillError {
    /// About what.
    pub subject: FillSubject,
    /// Where in the text of the row count or recipe; none for all of it.
    pub span: Option<Span>,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
}

impl FillError {
    fn new(subject: FillSubject, message: impl Into<String>) -> FillError {
        FillError { subject, span: None, message: message.into(), hint: None }
    }

    fn hint(mut self, hint: impl Into<String>) -> FillError {
        self.hint = Some(hint.into());
        self
    }
}

impl fmt::Display for FillError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for FillError {}

/// One column, ready to be made.
#[derive(Clone, Debug)]
struct ColumnPlan {
    key: u64,
    null_share: u32,
    maker: Maker,
    source: Source,
    distinct: Option<Permutation>,
    longest: Option<u64>,
}

#[derive(Clone, Debug)]
struct TablePlan {
    rows: u64,
    columns: Vec<ColumnPlan>,
    links: Vec<Link>,
    references: Vec<Reference>,
}

/// A dataset that can be made.
#[derive(Clone, Debug)]
pub struct Blueprint {
    tables: Vec<TablePlan>,
    words: Vocabulary,
    width: Vec<usize>,
}

impl Blueprint {
    /// Plans a dataset.
    ///
    /// # Errors
    /// Row counts, recipes and rules that cannot be met together, with the line of the order that would help.
    pub fn new(schema: &Schema, order: &Order) -> Result<Blueprint, FillError> {
        let mut tables: Vec<Option<TablePlan>> = vec![None; schema.tables.len()];
        let mut counts = vec![None; schema.tables.len()];
        for id in schema.ids() {
            count(schema, order, id, &mut counts, &mut Vec::new())?;
        }
        let counts: Vec<Counted> = counts.into_iter().flatten().collect();
        for id in schema.ids() {
            tables[id.0] = Some(plan_table(schema, order, id, &counts)?);
        }
        let width = schema.tables.iter().map(|table| table.columns.len()).collect();
        Ok(Blueprint { tables: tables.into_iter().flatten().collect(), words: Vocabulary::new(order.seed), width })
    }

    /// How many rows a table has.
    pub fn rows(&self, table: TableId) -> u64 {
        self.tables[table.0].rows
    }

    /// One value. The row must be below [`Blueprint::rows`].
    pub fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        let mut batch = Batch::new(1);
        self.make(table, row, column, &mut batch);
        batch.last().to_value()
    }

    /// Makes the rows from `first` on, as many as fit a batch, and says how many that are; 0 behind the last row.
    pub fn batch(&self, table: TableId, first: u64, batch: &mut Batch) -> usize {
        let width = self.width[table.0];
        batch.clear(width);
        let end = self.rows(table).min(first + BATCH_ROWS as u64);
        for row in first..end {
            for column in 0..width {
                self.make(table, row, column, batch);
            }
        }
        batch.rows()
    }

    fn make(&self, table: TableId, row: u64, column: ColumnId, out: &mut Batch) {
        let plan = &self.tables[table.0];
        let column = &plan.columns[column];
        let mut random = Random::at(column.key, row);
        if column.null_share > 0 && random.below(100_000) < u64::from(column.null_share) {
            return out.push(kampf_schema::ValueRef::Null);
        }
        let counted = |link: usize| match &plan.links[link] {
            Link::Spread(spread) => spread.of(row),
            _ => (0, row),
        };
        match column.source {
            Source::RowNumber => out.push(kampf_schema::ValueRef::Integer(row as i64 + 1)),
            Source::Linked(link, place) => match plan.links[link].parent(&plan.links, row) {
                Some(parent) => {
                    let reference = &plan.references[link];
                    self.make(reference.parent, parent, reference.parent_columns[place], out);
                }
                None => out.push(kampf_schema::ValueRef::Null),
            },
            Source::Drawn => column.maker.make(&mut random, &self.words, out),
            Source::Distinct => column.maker.nth(column.distinct.map_or(row, |distinct| distinct.at(row)), column.key, out),
            Source::Numbered => column.maker.make_numbered(&mut random, &self.words, row, column.longest, out),
            Source::Ordinal(link) => out.push(kampf_schema::ValueRef::Integer(counted(link).1 as i64 + 1)),
            Source::DistinctWithin(link) => {
                let (parent, ordinal) = counted(link);
                let room = column.maker.capacity().unwrap_or(u64::MAX);
                column.maker.nth(Permutation::new(room, mix(column.key ^ parent)).at(ordinal), column.key, out);
            }
            Source::NumberedWithin(link) => {
                column.maker.make_numbered(&mut random, &self.words, counted(link).1, column.longest, out);
            }
        }
    }
}

/// The rows of a table, with its counted parent where it has one.
#[derive(Clone, Debug)]
struct Counted {
    rows: u64,
    /// The reference by which children were counted, and the children before each parent.
    spread: Option<(usize, Vec<u32>)>,
}

fn count(
    schema: &Schema,
    order: &Order,
    id: TableId,
    counts: &mut Vec<Option<Counted>>,
    above: &mut Vec<TableId>,
) -> Result<u64, FillError> {
    if let Some(counted) = &counts[id.0] {
        return Ok(counted.rows);
    }
    let table = schema.table(id);
    let guessed = guess::rows(schema, id);
    let asked = order.rows.get(&id).unwrap_or(&guessed);
    let counted = match asked {
        // Tables that refer to each other in a circle: a guess must begin somewhere.
        RowCount::Per { parent, .. } if !order.rows.contains_key(&id) && schema.find(&parent.text).is_none_or(|at| above.contains(&at)) => {
            Counted { rows: 1000, spread: None }
        }
        RowCount::Fixed(rows) => Counted { rows: *rows, spread: None },
        RowCount::Per { low, high, parent } => {
            let wrong = |message: String| FillError { span: Some(parent.span), ..FillError::new(FillSubject::Rows(id), message) };
            let at = schema.find(&parent.text).ok_or_else(|| {
                let mut error = wrong(format!("there is no table `{}`", parent.text));
                error.hint = did_you_mean(&parent.text, schema.tables.iter().map(|table| table.name.as_str()));
                error
            })?;
            let reference = main_reference(table, at).ok_or_else(|| {
                wrong(format!("`{}` does not refer to `{}`", table.name, schema.table(at).name)).hint(match table.references.as_slice() {
                    [] => "give a fixed number of rows".to_owned(),
                    references => {
                        let parents: Vec<&str> = references.iter().map(|reference| schema.table(reference.parent).name.as_str()).collect();
                        format!("it refers to {}", parents.join(", "))
                    }
                })
            })?;
            if above.contains(&id) || at == id {
                return Err(wrong(format!("the rows of `{}` depend on themselves", table.name))
                    .hint("give one of the tables a fixed number of rows"));
            }
            above.push(id);
            let parents = count(schema, order, at, counts, above)?;
            above.pop();
            let real = |value: &Value| value.as_ref().as_real().unwrap_or(0.0);
            let (low, high) = high.as_ref().map_or((real(low) * 0.5, real(low) * 1.5), |high| (real(low), real(high)));
            if low < 0.0 || high < low {
                return Err(FillError::new(FillSubject::Rows(id), "this is no range of row counts").hint("like `20..60 per hive`"));
            }
            let before = spread_counts(key(order.seed, &format!("{}.rows", table.name)), parents, low, high);
            let before = before.ok_or_else(|| {
                FillError::new(FillSubject::Rows(id), format!("`{}` would have more than four thousand million rows", table.name))
                    .hint("give fewer rows per parent")
            })?;
            Counted { rows: u64::from(before.last().copied().unwrap_or(0)), spread: Some((reference, before)) }
        }
    };
    let rows = counted.rows;
    counts[id.0] = Some(counted);
    Ok(rows)
}

/// The reference to a parent by which children are counted: one inside a unique rule before others.
fn main_reference(table: &Table, parent: TableId) -> Option<usize> {
    let in_rule = |reference: &Reference| {
        let rules = table.uniques.iter().map(|unique| &unique.columns).chain([&table.primary_key]);
        rules.into_iter().any(|rule| rule.len() > reference.columns.len() && reference.columns.iter().all(|column| rule.contains(column)))
    };
    let of_parent = || table.references.iter().enumerate().filter(|(_, reference)| reference.parent == parent);
    of_parent().find(|(_, reference)| in_rule(reference)).or_else(|| of_parent().next()).map(|(at, _)| at)
}

fn spread_counts(key: u64, parents: u64, low: f64, high: f64) -> Option<Vec<u32>> {
    let mut before = Vec::with_capacity(usize::try_from(parents).ok()? + 1);
    let mut sum = 0_u32;
    before.push(0);
    for parent in 0..parents {
        let mut random = Random::at(key, parent);
        let wanted = low + (high - low) * random.unit();
        let whole = wanted as u32;
        let more = u32::from(random.unit() < wanted - f64::from(whole));
        sum = sum.checked_add(whole)?.checked_add(more)?;
        before.push(sum);
    }
    Some(before)
}

/// So many rows shared among parents, give or take half of the mean.
fn share_rows(key: u64, parents: u64, rows: u64) -> Option<Vec<u32>> {
    let rows = u32::try_from(rows).ok()?;
    let mut sum = 0.0;
    let weights: Vec<f64> = (0..parents)
        .map(|parent| {
            sum += 0.5 + Random::at(key, parent).unit();
            sum
        })
        .collect();
    let before = weights.iter().map(|weight| (weight / sum * f64::from(rows)) as u32);
    Some(std::iter::once(0).chain(before).collect::<Vec<u32>>()).map(|mut before| {
        if let Some(last) = before.last_mut() {
            *last = rows;
        }
        before
    })
}

fn plan_table(schema: &Schema, order: &Order, id: TableId, counts: &[Counted]) -> Result<TablePlan, FillError> {
    let table = schema.table(id);
    let Counted { rows, spread } = &counts[id.0];
    let rows = *rows;
    let mut drafts = Vec::new();
    for (at, column) in table.columns.iter().enumerate() {
        let recipe = order.values.get(&(id, at));
        let subject = FillSubject::Values(id, at);
        let reference = table.references.iter().find(|reference| reference.columns.contains(&at));
        if let (Some(reference), Some(_)) = (reference, recipe) {
            let parent = &schema.table(reference.parent).name;
            return Err(FillError::new(
                subject,
                format!("`{}.{}` refers to `{parent}`, so its values are keys from there", table.name, column.name),
            )
            .hint("remove this line"));
        }
        let maker = match recipe {
            Some(recipe) => recipe::maker(recipe, column.kind).map_err(|error| FillError {
                subject: subject.clone(),
                span: error.span,
                message: error.message,
                hint: error.hint,
            })?,
            None => guess::maker(schema, id, at),
        };
        if recipe.is_some_and(|recipe| recipe.null_share > 0 || recipe.source == kampf_schema::expr::Source::Literal(Value::Null))
            && !column.nullable
        {
            return Err(FillError::new(subject, format!("`{}.{}` cannot be null", table.name, column.name)).hint("leave out `or null`"));
        }
        drafts.push(Draft { maker, from_user: recipe.is_some(), source: Source::Drawn });
    }
    for check in table.checks.iter().filter(|check| !check.understood) {
        let covered =
            table.columns.iter().enumerate().any(|(at, column)| mentions(&check.sql, &column.name) && order.values.contains_key(&(id, at)));
        if !covered {
            let example =
                table.columns.iter().find(|column| mentions(&check.sql, &column.name)).map_or("…", |column| column.name.as_str());
            return Err(FillError::new(
                FillSubject::Schema(check.span),
                format!("the check `{}` of `{}` is not understood", check.sql, table.name),
            )
            .hint(format!("say under [values] how to meet it, like `\"{}.{example}\" = \"…\"`", table.name)));
        }
    }
    let links = plan_links(schema, order, id, counts, spread.as_ref())?;
    for (link, reference) in table.references.iter().enumerate() {
        for (place, &column) in reference.columns.iter().enumerate() {
            if matches!(drafts[column].source, Source::Linked(..)) {
                let message =
                    format!("`{}.{}` is part of two references, which is not understood yet", table.name, table.columns[column].name);
                return Err(FillError::new(FillSubject::Schema(reference.span), message).hint("remove one of the two references"));
            }
            drafts[column].source = Source::Linked(link, place);
        }
    }
    if let [column] = table.primary_key[..]
        && matches!(drafts[column].source, Source::Drawn)
        && table.columns[column].kind == LogicalType::Integer
        && !drafts[column].from_user
    {
        drafts[column].source = Source::RowNumber;
    }
    let mut rules: Vec<&[ColumnId]> = table.uniques.iter().map(|unique| unique.columns.as_slice()).collect();
    rules.push(&table.primary_key);
    rules.retain(|rule| !rule.is_empty());
    rules.sort_by_key(|rule| rule.len());
    for rule in rules {
        settle(table, rule, &mut drafts, &links, rows).map_err(|column| {
            let names: Vec<&str> = rule.iter().map(|&column| table.columns[column].name.as_str()).collect();
            let message = format!("{rows} rows of `{}` cannot all differ in {}", table.name, names.join(", "));
            let subject = if order.values.contains_key(&(id, column)) { FillSubject::Values(id, column) } else { FillSubject::Rows(id) };
            FillError::new(subject, message).hint(format!(
                "ask for fewer rows under [rows], or give `\"{}.{}\"` more different values under [values]",
                table.name, table.columns[column].name
            ))
        })?;
    }
    let columns = drafts
        .into_iter()
        .enumerate()
        .map(|(at, draft)| {
            let column = &table.columns[at];
            let key = key(order.seed, &format!("{}.{}", table.name, column.name));
            let linked = matches!(draft.source, Source::Linked(..));
            let null_share = match order.values.get(&(id, at)) {
                Some(recipe) => recipe.null_share,
                None if column.nullable && !linked => guess::NULL_SHARE,
                None => 0,
            };
            let distinct = match draft.source {
                Source::Distinct => draft.maker.capacity().map(|room| Permutation::new(room, key)),
                _ => None,
            };
            let longest = match column.kind {
                LogicalType::Text { length } => length.map(u64::from),
                _ => None,
            };
            ColumnPlan { key, null_share, maker: draft.maker, source: draft.source, distinct, longest }
        })
        .collect();
    Ok(TablePlan { rows, columns, links, references: table.references.clone() })
}

/// Whether a condition's text names a column.
fn mentions(sql: &str, column: &str) -> bool {
    sql.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(|word| word.eq_ignore_ascii_case(column))
}

fn plan_links(
    schema: &Schema,
    order: &Order,
    id: TableId,
    counts: &[Counted],
    spread: Option<&(usize, Vec<u32>)>,
) -> Result<Vec<Link>, FillError> {
    let table = schema.table(id);
    let rows = counts[id.0].rows;
    let link_key = |at: usize| {
        let names: Vec<&str> = table.references[at].columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
        key(order.seed, &format!("{}.{}>", table.name, names.join(",")))
    };
    let nullable = |reference: &Reference| reference.columns.iter().any(|&column| table.columns[column].nullable);
    let mut links: Vec<Link> = Vec::new();
    for (at, reference) in table.references.iter().enumerate() {
        let parents = counts[reference.parent.0].rows;
        let can_be_null = nullable(reference);
        let null_share = if can_be_null { guess::NULL_SHARE } else { 0 };
        links.push(match spread {
            Some((main, before)) if *main == at => Link::Spread(Spread::new(before.clone(), link_key(at))),
            _ if reference.parent == id => Link::Earlier { key: link_key(at), null_share, nullable: can_be_null },
            _ if parents == 0 && (can_be_null || rows == 0) => Link::Never,
            _ if parents == 0 => {
                let parent = &schema.table(reference.parent).name;
                return Err(FillError::new(FillSubject::Rows(id), format!("`{}` needs rows of `{parent}`, which has none", table.name))
                    .hint(format!("give `{parent}` rows under [rows]")));
            }
            _ => Link::Scatter { key: link_key(at), parents, null_share },
        });
    }
    let rules = table.uniques.iter().map(|unique| &unique.columns).chain([&table.primary_key]);
    for rule in rules.filter(|rule| !rule.is_empty()) {
        let inside: Vec<usize> =
            (0..table.references.len()).filter(|&at| table.references[at].columns.iter().all(|column| rule.contains(column))).collect();
        let covered = inside.iter().flat_map(|&at| &table.references[at].columns).count() == rule.len();
        let parents = |at: usize| counts[table.references[at].parent.0].rows;
        let too_many = |room: u64, what: String| {
            FillError::new(
                FillSubject::Rows(id),
                format!("{rows} rows of `{}` cannot all refer to different {what}; there are {room}", table.name),
            )
            .hint("ask for fewer rows under [rows]")
        };
        match (inside.as_slice(), covered) {
            ([one], true) => {
                if rows > parents(*one) {
                    return Err(too_many(parents(*one), format!("rows of `{}`", schema.table(table.references[*one].parent).name)));
                }
                links[*one] = Link::OneToOne(Permutation::new(parents(*one), link_key(*one)));
            }
            ([first, second, ..], true) => {
                let counted = [*first, *second].into_iter().find(|&at| matches!(links[at], Link::Spread(_)));
                match counted {
                    Some(main) => {
                        let other = if main == *first { *second } else { *first };
                        let most = if let Link::Spread(spread) = &links[main] { spread.most() } else { 0 };
                        if most > parents(other) {
                            let name = &schema.table(table.references[other].parent).name;
                            return Err(too_many(
                                parents(other),
                                format!("pairs: one parent has {most} of them, each with another row of `{name}`"),
                            ));
                        }
                        links[other] = Link::Within { spread: main, parents: parents(other), key: link_key(other) };
                    }
                    None => {
                        let room = parents(*first).saturating_mul(parents(*second));
                        if rows > room {
                            return Err(too_many(room, "pairs".to_owned()));
                        }
                        let pairs = Permutation::new(room, link_key(*first));
                        links[*first] = Link::Pair { pairs, others: parents(*second), first: true };
                        links[*second] = Link::Pair { pairs, others: parents(*second), first: false };
                    }
                }
            }
            ([one, ..], false) if matches!(links[*one], Link::Scatter { .. }) && spread.is_none() => {
                if let Some(before) = share_rows(link_key(*one), parents(*one), rows) {
                    links[*one] = Link::Spread(Spread::new(before, link_key(*one)));
                }
            }
            _ => {}
        }
    }
    let counted: u64 = links.iter().map(|link| if let Link::Spread(spread) = link { spread.rows() } else { rows }).min().unwrap_or(rows);
    debug_assert_eq!(counted, rows, "a spread hands out as many children as there are rows");
    Ok(links)
}

#[cfg(test)]
mod tests;
