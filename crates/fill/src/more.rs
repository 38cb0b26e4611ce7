//! Rows behind the last one of a table, made as all others are, without any change to those.

use std::collections::HashSet;

use kampf_schema::{ColumnId, Schema, TableId, Value};

use crate::blueprint::Blueprint;
use crate::link::{How, Link, Tail};
use crate::order::{FillError, FillSubject};
use crate::random::{Random, mix};
use crate::unique::ValueSource;

/// More rows that are wanted of a table.
#[derive(Clone, Debug, PartialEq)]
pub struct MoreRows {
    /// The table.
    pub table: TableId,
    /// How many; or where they hang on others of these, how many on each.
    pub count: u64,
    /// The place among what is wanted of the rows that they hang on, and by which reference.
    pub under: Option<(usize, usize)>,
    /// The column whose values the database will make, so that nothing depends on them.
    pub made: Option<ColumnId>,
}

/// The numbers of new rows of a table, each with the place of the new row that it hangs on.
pub type NewNumbers = Vec<(u64, Option<usize>)>;

/// For each row that is wanted so many are tried, and some besides, until one breaks no rule.
const TRIED: u64 = 4;
const TRIED_BESIDES: u64 = 1_000;

impl Blueprint {
    /// The same dataset with rows behind the last ones of some tables, which have parents as the others do and keep the schema's rules together with
    /// what is there. They do not count as rows ([`Blueprint::rows`]).
    ///
    /// # Errors
    /// When rules leave no room for so many.
    pub fn with_more(&self, schema: &Schema, wanted: &[MoreRows]) -> Result<(Blueprint, Vec<NewNumbers>), FillError> {
        let mut more = self.clone();
        let mut all: Vec<NewNumbers> = Vec::new();
        for one in wanted {
            let parents: Vec<(Option<u64>, Option<usize>)> = match one.under {
                None => (0..one.count).map(|_| (None, None)).collect(),
                Some((place, _)) => {
                    let of_parent = |(at, (row, _)): (usize, &(u64, Option<usize>))| vec![(Some(*row), Some(at)); one.count as usize];
                    all[place].iter().enumerate().flat_map(of_parent).collect()
                }
            };
            let numbers = more.add(schema, one, &parents)?;
            all.push(numbers);
        }
        Ok((more, all))
    }

    fn add(&mut self, schema: &Schema, wanted: &MoreRows, parents: &[(Option<u64>, Option<usize>)]) -> Result<NewNumbers, FillError> {
        let id = wanted.table;
        let first = self.rows(id);
        for link in &mut self.tables[id.0].links {
            link.tail = Some(Tail::new(first));
        }
        let mut known = Known::of(self, schema, wanted);
        let mut numbers = Vec::with_capacity(parents.len());
        let (mut row, most) = (first, first + parents.len() as u64 * TRIED + TRIED_BESIDES);
        for &(parent, under) in parents {
            loop {
                if row == most {
                    let table = &schema.table(id).name;
                    return Err(FillError::new(
                        FillSubject::Rows(id),
                        format!("there is no room for {} more rows of `{table}`", parents.len()),
                    )
                    .hint("what must differ in them differs already in those that are there; ask for fewer, or fill fewer"));
                }
                let is_linked = self.link_new(id, row, wanted.under.map(|(_, reference)| reference).zip(parent));
                row += 1;
                if is_linked && self.has_values_for(id, row - 1) && known.takes(self, schema, row - 1) {
                    break;
                }
            }
            numbers.push((row - 1, under));
        }
        Ok(numbers)
    }

    /// Finds the parents of a row behind the last one; false where a link has none left for it.
    fn link_new(&mut self, id: TableId, row: u64, given: Option<(usize, u64)>) -> bool {
        let plan = &mut self.tables[id.0];
        let rows = plan.rows;
        let mut is_linked = true;
        // Others may go by those whose children are counted, and kin by any.
        let turn = |link: &Link, at: usize| match () {
            () if link.spread().is_some() || given.is_some_and(|(reference, _)| reference == at) => 0,
            () if link.kin.is_none() => 1,
            () => 2,
        };
        for now in 0..3 {
            for at in 0..plan.links.len() {
                if turn(&plan.links[at], at) != now {
                    continue;
                }
                let link = &plan.links[at];
                let parent = match given.filter(|(reference, _)| *reference == at) {
                    Some((_, parent)) => Some(parent),
                    None => {
                        let mut random = Random::at(mix(link.key ^ 0x006e_6577), row);
                        match &link.how {
                            How::Spread(_) if rows == 0 => (link.parents > 0).then(|| link.first + random.below(link.parents)),
                            // As the others have them: the parent of one of those.
                            How::Spread(_) => {
                                let mut old = link.clone();
                                old.tail = None;
                                old.parent(&plan.links, random.below(rows), 0)
                            }
                            How::Earlier => (!link.nullable && rows > 0).then(|| random.below(rows)),
                            _ => {
                                let mut old = link.clone();
                                old.tail = None;
                                is_linked &= old.reaches(&plan.links, row);
                                if is_linked { old.parent(&plan.links, row, 0) } else { None }
                            }
                        }
                    }
                };
                let is_missing = parent.is_none() && !link.nullable && !matches!(link.how, How::Implied | How::Never);
                is_linked &= !is_missing;
                if let Some(tail) = &mut plan.links[at].tail {
                    tail.push(parent);
                }
            }
        }
        is_linked
    }

    /// Whether columns whose values must differ have one left for a row behind the last one.
    fn has_values_for(&self, id: TableId, row: u64) -> bool {
        let plan = &self.tables[id.0];
        plan.columns.iter().all(|column| match &column.source {
            ValueSource::Distinct => column.maker.capacity().is_none_or(|room| row < room),
            ValueSource::Digit { link: None, all, .. } => row < *all,
            ValueSource::Digit { link: Some(link), all, .. } => plan.links[*link].place(row).1 < *all,
            ValueSource::DistinctWithin(link) => column.maker.capacity().is_none_or(|room| plan.links[*link].place(row).1 < room),
            _ => true,
        })
    }
}

/// What must not come again.
struct Known {
    table: TableId,
    rules: Vec<(Unique, HashSet<String>)>,
}

/// A rule by which rows differ.
enum Unique {
    Columns(Vec<ColumnId>),
    /// The index of that place among those over expressions.
    Index(usize),
}

impl Known {
    fn of(blueprint: &Blueprint, schema: &Schema, wanted: &MoreRows) -> Known {
        let table = schema.table(wanted.table);
        let counts = |column: &ColumnId| {
            Some(*column) == wanted.made || matches!(blueprint.tables[wanted.table.0].columns[*column].source, ValueSource::RowNumber(_))
        };
        let columns = table.keys().filter(|columns| !columns.iter().any(counts)).map(|columns| Unique::Columns(columns.to_vec()));
        let indexes = (0..table.unique_indexes.len()).map(Unique::Index);
        let mut known = Known { table: wanted.table, rules: columns.chain(indexes).map(|rule| (rule, HashSet::new())).collect() };
        for (rule, seen) in &mut known.rules {
            seen.extend((0..blueprint.rows(wanted.table)).filter_map(|row| value_of(blueprint, schema, wanted.table, rule, row)));
        }
        known
    }

    /// Whether a row breaks no rule; it is known from then on.
    fn takes(&mut self, blueprint: &Blueprint, schema: &Schema, row: u64) -> bool {
        let value = |column: ColumnId| blueprint.value(self.table, row, column);
        let checks = &schema.table(self.table).checks;
        if !checks.iter().filter_map(|check| check.rule.as_ref().ok()).all(|rule| rule.allows(&value)) {
            return false;
        }
        let own: Vec<Option<String>> = self.rules.iter().map(|(rule, _)| value_of(blueprint, schema, self.table, rule, row)).collect();
        let is_new = self.rules.iter().zip(&own).all(|((_, seen), own)| own.as_ref().is_none_or(|own| !seen.contains(own)));
        if is_new {
            self.rules.iter_mut().zip(own).for_each(|((_, seen), own)| seen.extend(own));
        }
        is_new
    }
}

/// What a rule looks at in a row; none where the rule is not about it.
fn value_of(blueprint: &Blueprint, schema: &Schema, id: TableId, rule: &Unique, row: u64) -> Option<String> {
    let value = |column: ColumnId| blueprint.value(id, row, column);
    let values: Vec<Value> = match rule {
        Unique::Columns(columns) => columns.iter().map(|&column| value(column)).collect(),
        Unique::Index(at) => {
            let index = &schema.table(id).unique_indexes[*at];
            if index.among.as_ref().is_some_and(|among| among.holds(&value) != Some(true)) {
                return None;
            }
            index.terms.iter().map(|term| term.value_on(&value)).collect()
        }
    };
    if values.contains(&Value::Null) {
        return None;
    }
    Some(
        values
            .iter()
            .map(|value| {
                let text = value.to_string();
                format!("{}:{text}", text.len())
            })
            .collect(),
    )
}
