//! Making rows differ where a unique rule wants it.

use kampf_schema::expr::{Function, Node};
use kampf_schema::{ColumnId, LogicalType, Reference, Rule, Schema, Table, UniqueIndex, Value};

use crate::bounds::single;
use crate::link::{How, Link};
use crate::maker::Maker;
use crate::shape::Shape;

/// What a column is made by.
#[derive(Clone, Debug)]
pub(crate) enum ValueSource {
    /// The row number, from this on.
    RowNumber(i64),
    /// The key of the parent that a link finds: link, place of the column in the reference.
    Linked(usize, usize),
    /// Drawn anew for each row.
    Drawn,
    /// A different value for each row.
    Distinct,
    /// A text with the row number in it.
    Numbered,
    /// The number among the rows of the same parent, from 1: the link that counts them.
    Ordinal(usize),
    /// A different value among the rows of the same parent.
    DistinctWithin(usize),
    /// A text with the number among the rows of the same parent in it.
    NumberedWithin(usize),
    /// A digit of a number that is different for each row, or for each row of the same parent: all combinations there are, what
    /// one step of this column is worth, and how many steps it has.
    Digit { link: Option<usize>, all: u64, worth: u64, steps: u64, key: u64 },
    /// One value for the first row of each parent, another one for all others.
    Once { link: usize, inside: Option<Value>, outside: Option<Value> },
    /// What other columns of the row give.
    Computed(Rule),
}

impl ValueSource {
    /// Whether rows differ in it by their number.
    pub(crate) fn counts(&self) -> bool {
        matches!(self, ValueSource::RowNumber(_) | ValueSource::Distinct | ValueSource::Digit { link: None, .. })
    }

    /// Whether those of the same parent do by theirs.
    pub(crate) fn counts_within(&self) -> bool {
        matches!(self, ValueSource::Ordinal(_) | ValueSource::DistinctWithin(_) | ValueSource::Digit { link: Some(_), .. })
    }
}

/// A column on its way to a plan.
#[derive(Clone, Debug)]
pub(crate) struct Draft {
    pub(crate) maker: Maker,
    pub(crate) from_user: bool,
    /// Whether it may as well look otherwise: neither the user nor a check says how.
    pub(crate) free: bool,
    /// Whether a check asks for more than its bounds say.
    pub(crate) checked: bool,
    /// The recipe by which it does.
    pub(crate) instead: Option<String>,
    pub(crate) source: ValueSource,
    /// Most characters within which the value must differ.
    pub(crate) longest: Option<u64>,
}

impl Draft {
    fn is_drawn(&self) -> bool {
        matches!(self.source, ValueSource::Drawn)
    }

    fn differs_alone(&self) -> bool {
        matches!(self.source, ValueSource::RowNumber(_) | ValueSource::Distinct | ValueSource::Numbered)
    }
}

/// The columns that must differ so that a rule over expressions holds; none where an expression hides too much of them. How
/// many characters of a text count is noted in the drafts.
pub(crate) fn faithful(index: &UniqueIndex, drafts: &mut [Draft]) -> Vec<ColumnId> {
    let mut columns = Vec::new();
    for term in &index.terms {
        let mut term = term;
        loop {
            match &term.node {
                Node::Leaf(column) => {
                    columns.push(*column);
                    break;
                }
                // Generated texts differ whatever the size of their letters and the spaces around them.
                Node::Call(Function::LowerAll | Function::UpperAll | Function::Trim | Function::Coalesce, terms) => match terms.first() {
                    Some(inner) => term = inner,
                    None => break,
                },
                Node::Call(Function::Substring, terms) => {
                    if let [text, from, length] = terms.as_slice()
                        && let (Some(column), Some(Value::Integer(1)), Some(Value::Integer(length @ 1..))) =
                            (text.as_leaf(), from.as_literal(), length.as_literal())
                    {
                        let length = length.unsigned_abs();
                        let longest = &mut drafts[*column].longest;
                        *longest = Some(longest.map_or(length, |longest| longest.min(length)));
                        columns.push(*column);
                    }
                    break;
                }
                _ => break,
            }
        }
    }
    columns.sort_unstable();
    columns.dedup();
    columns
}

/// The rows among which a unique rule holds.
#[derive(Clone, Copy)]
pub(crate) struct Filled {
    pub(crate) rows: u64,
    /// How many of them are given.
    pub(crate) given: u64,
    /// Whether some of those leave out a column of the rule.
    pub(crate) left_out: bool,
}

/// Makes the columns of a unique rule differ; the column to give a recipe where it cannot be done.
pub(crate) fn settle(
    schema: &Schema,
    table: &Table,
    rule: &[ColumnId],
    drafts: &mut [Draft],
    links: &[Link],
    Filled { rows, given, left_out }: Filled,
    key: u64,
) -> Result<(), ColumnId> {
    let generated = rows - given;
    let linked = |drafts: &[Draft], column: ColumnId| match drafts[column].source {
        ValueSource::Linked(link, _) => Some(link),
        _ => None,
    };
    if generated == 0 && !left_out || rows <= 1 || rule.iter().any(|&column| drafts[column].differs_alone()) {
        return Ok(());
    }
    // Part of a reference says which row it is only where that part is a key there: children of several parents may have it in common.
    let says_which = |link: &usize| {
        let Reference { columns, parent, parent_columns, .. } = &table.references[*link];
        let covered: Vec<ColumnId> =
            columns.iter().zip(parent_columns).filter(|(own, _)| rule.contains(own)).map(|(_, there)| *there).collect();
        covered.len() == columns.len() || schema.table(*parent).is_unique_key(&covered)
    };
    let used: Vec<usize> = rule.iter().filter_map(|&column| linked(drafts, column)).filter(says_which).collect();
    let distinct = used.iter().any(|&link| match &links[link].how {
        How::OneToOne(_) => true,
        How::Pair { first: true, .. } => used.iter().any(|&other| matches!(links[other].how, How::Pair { first: false, .. })),
        How::Within { spread, .. } => used.contains(spread),
        // It differs as the one it goes with does.
        How::With { other, .. } => {
            let differs = |at: &usize| matches!(links[*at].how, How::Within { spread } if spread == *other);
            used.iter().any(differs)
        }
        _ => false,
    });
    let combined = rule.iter().any(|&column| match drafts[column].source {
        ValueSource::Digit { link, key, .. } => {
            let of_it = |draft: &Draft| matches!(draft.source, ValueSource::Digit { key: other, .. } if other == key);
            let whole = drafts.iter().enumerate().all(|(column, draft)| !of_it(draft) || rule.contains(&column));
            whole && link.is_none_or(|link| used.contains(&link))
        }
        ValueSource::Ordinal(link) | ValueSource::DistinctWithin(link) | ValueSource::NumberedWithin(link) => used.contains(&link),
        _ => false,
    });
    if distinct || combined {
        return Ok(());
    }
    let mut drawn: Vec<ColumnId> = rule.iter().copied().filter(|&column| drafts[column].is_drawn()).collect();
    // What is numbered cannot be drawn again for a check.
    drawn.sort_by_key(|&column| drafts[column].checked);
    let spread = used.iter().copied().find_map(|link| links[link].spread().map(|spread| (link, spread.most())));
    let most = spread.map_or(generated, |(_, most)| most);
    if most <= 1 && spread.is_some() {
        return Ok(());
    }
    for &column in &drawn {
        let draft = &drafts[column];
        let room = draft.maker.capacity();
        let numbers = table.columns[column].kind == LogicalType::Integer
            && !draft.from_user
            // Numbers in order begin behind the given ones, wherever those end.
            && (is_plain_number(table, column)
                || given == 0 && room.is_none_or(|room| room >= most) && counts_up_to(table, column, most));
        let source = match spread {
            Some((link, most)) => match () {
                () if numbers => ValueSource::Ordinal(link),
                () if room.is_some_and(|room| room >= most) => ValueSource::DistinctWithin(link),
                () if takes_number(draft, most) => ValueSource::NumberedWithin(link),
                () => continue,
            },
            None => match () {
                () if numbers => ValueSource::RowNumber(1),
                () if room.is_some_and(|room| room >= generated.saturating_add(given)) => ValueSource::Distinct,
                () if takes_number(draft, rows) => ValueSource::Numbered,
                () => continue,
            },
        };
        drafts[column].source = source;
        return Ok(());
    }
    // Texts that were only guessed may as well be others, of which there are enough.
    for &column in &drawn {
        let LogicalType::Text { .. } = table.columns[column].kind else { continue };
        let Draft { free: true, longest, .. } = drafts[column] else { continue };
        let room = longest.unwrap_or(u64::MAX);
        let (maker, recipe) = if room >= 12 {
            (Maker::Slug(1, 2), "slug(1..2)".to_owned())
        } else {
            let pattern = "~".repeat(room as usize);
            (Maker::Code(Shape::code(&pattern)), format!("code('{pattern}')"))
        };
        if maker.capacity().is_some_and(|room| room < most.saturating_add(given)) {
            continue;
        }
        let draft = &mut drafts[column];
        draft.source = match (spread, maker.takes_number()) {
            (Some((link, _)), true) => ValueSource::NumberedWithin(link),
            (Some((link, _)), false) => ValueSource::DistinctWithin(link),
            (None, true) => ValueSource::Numbered,
            (None, false) => ValueSource::Distinct,
        };
        (draft.maker, draft.instead) = (maker, Some(recipe));
        return Ok(());
    }
    // No column has room enough alone; together they may have.
    let rooms: Option<Vec<(ColumnId, u64)>> =
        drawn.iter().map(|&column| drafts[column].maker.capacity().map(|room| (column, room))).collect();
    if let Some(rooms) = rooms.filter(|rooms| rooms.len() > 1) {
        let all = rooms.iter().fold(1_u64, |all, (_, room)| all.saturating_mul(*room));
        if all >= most.saturating_add(given) && all < u64::MAX {
            let mut worth = 1;
            for (column, steps) in rooms {
                drafts[column].source = ValueSource::Digit { link: spread.map(|(link, _)| link), all, worth, steps, key };
                worth *= steps;
            }
            return Ok(());
        }
    }
    Err(drawn.first().or(rule.first()).copied().unwrap_or(0))
}

/// Whether nothing but its type limits a column of whole numbers.
fn is_plain_number(table: &Table, column: ColumnId) -> bool {
    let (bounds, _) = crate::bounds::bounds(table);
    bounds[column].one_of.is_none()
        && match table.columns[column].limits {
            Some((low, high)) => bounds[column].least == Some(Value::Integer(low)) && bounds[column].most == Some(Value::Integer(high)),
            None => bounds[column].least.is_none() && bounds[column].most.is_none(),
        }
}

/// Whether the numbers from 1 up to `most` are within a column's bounds.
fn counts_up_to(table: &Table, column: ColumnId, most: u64) -> bool {
    let (bounds, _) = crate::bounds::bounds(table);
    let most = Value::Integer(i64::try_from(most).unwrap_or(i64::MAX));
    let bounds = &bounds[column];
    bounds.one_of.is_none()
        && bounds.least.as_ref().is_none_or(|least| least.as_ref().order(Value::Integer(1).as_ref()).is_le())
        && bounds.most.as_ref().is_none_or(|highest| highest.as_ref().order(most.as_ref()).is_ge())
}

/// Whether texts can carry a number up to `most` within their length.
fn takes_number(draft: &Draft, most: u64) -> bool {
    let digits = u64::from(most.max(1).ilog10()) + 2;
    let tail = if matches!(draft.maker, Maker::Email | Maker::Host) { 13 } else { 0 };
    draft.maker.takes_number() && draft.longest.is_none_or(|longest| longest > digits + tail)
}

/// Makes a rule over a part of the rows hold by letting only the first row of each parent be of that part.
pub(crate) fn settle_once(table: &Table, rule: &[ColumnId], among: &Rule, drafts: &mut [Draft], links: &[Link]) -> bool {
    let link = rule.iter().find_map(|&column| match drafts[column].source {
        ValueSource::Linked(link, _) if links[link].spread().is_some() => Some(link),
        _ => None,
    });
    let Some(link) = link else { return false };
    for part in among.conjuncts() {
        let Some((column, value)) = single(part) else { continue };
        if !drafts[column].is_drawn() {
            continue;
        }
        let (inside, outside) = match value {
            Some(Value::Boolean(truth)) => (Some(Value::Boolean(truth)), Some(Value::Boolean(!truth))),
            // Null for the first; anything else for the others.
            Some(Value::Null) => (Some(Value::Null), None),
            // Anything but null for the first.
            None if table.columns[column].nullable => (None, Some(Value::Null)),
            Some(value) => match &drafts[column].maker {
                Maker::Pick(values) => match values.iter().map(|(other, _)| other).find(|other| **other != value) {
                    Some(other) => (Some(value), Some(other.clone())),
                    None => continue,
                },
                _ if table.columns[column].nullable => (Some(value), Some(Value::Null)),
                _ => continue,
            },
            None => continue,
        };
        drafts[column].source = ValueSource::Once { link, inside, outside };
        return true;
    }
    false
}
