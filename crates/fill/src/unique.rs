//! Making rows differ where a unique rule wants it.

use kampf_schema::{ColumnId, LogicalType, Table};

use crate::link::Link;
use crate::maker::Maker;

/// What a column is made by.
#[derive(Clone, Debug)]
pub(crate) enum Source {
    /// The row number, from 1.
    RowNumber,
    /// The key of the parent that a link finds: link, place of the column in the reference.
    Linked(usize, usize),
    /// Drawn anew for each row.
    Drawn,
    /// A different value for each row.
    Distinct,
    /// A text ending in the row number.
    Numbered,
    /// The number among the rows of the same parent, from 1: the link that counts them.
    Ordinal(usize),
    /// A different value among the rows of the same parent.
    DistinctWithin(usize),
    /// A text ending in the number among the rows of the same parent.
    NumberedWithin(usize),
}

/// A column on its way to a plan.
#[derive(Clone, Debug)]
pub(crate) struct Draft {
    pub(crate) maker: Maker,
    pub(crate) from_user: bool,
    pub(crate) source: Source,
}

impl Draft {
    fn is_drawn(&self) -> bool {
        matches!(self.source, Source::Drawn)
    }

    fn differs_alone(&self) -> bool {
        matches!(self.source, Source::RowNumber | Source::Distinct | Source::Numbered)
    }
}

/// Makes the columns of a unique rule differ; the name of the column to give a recipe where it cannot be done.
pub(crate) fn settle(table: &Table, rule: &[ColumnId], drafts: &mut [Draft], links: &[Link], rows: u64) -> Result<(), ColumnId> {
    let linked = |drafts: &[Draft], column: ColumnId| match drafts[column].source {
        Source::Linked(link, _) => Some(link),
        _ => None,
    };
    if rule.iter().any(|&column| drafts[column].differs_alone()) {
        return Ok(());
    }
    let used: Vec<usize> = rule.iter().filter_map(|&column| linked(drafts, column)).collect();
    let distinct = used.iter().any(|&link| match &links[link] {
        Link::OneToOne(_) => true,
        Link::Pair { first: true, .. } => used.iter().any(|&other| matches!(links[other], Link::Pair { first: false, .. })),
        Link::Within { spread, .. } => used.contains(spread),
        _ => false,
    });
    if distinct {
        return Ok(());
    }
    let drawn: Vec<ColumnId> = rule.iter().copied().filter(|&column| drafts[column].is_drawn()).collect();
    let spread = used.iter().copied().find_map(|link| match &links[link] {
        Link::Spread(spread) => Some((link, spread.most())),
        _ => None,
    });
    if let Some((link, most)) = spread {
        for &column in &drawn {
            let room = drafts[column].maker.capacity();
            drafts[column].source = match table.columns[column].kind {
                LogicalType::Integer if !drafts[column].from_user => Source::Ordinal(link),
                _ if room.is_some_and(|room| room >= most) => Source::DistinctWithin(link),
                LogicalType::Text { length } if takes_number(&drafts[column].maker, length, most) => Source::NumberedWithin(link),
                _ => continue,
            };
            return Ok(());
        }
    }
    for &column in &drawn {
        let room = drafts[column].maker.capacity();
        drafts[column].source = match table.columns[column].kind {
            LogicalType::Integer if !drafts[column].from_user => Source::RowNumber,
            _ if room.is_some_and(|room| room >= rows) => Source::Distinct,
            LogicalType::Text { length } if takes_number(&drafts[column].maker, length, rows) => Source::Numbered,
            _ => continue,
        };
        return Ok(());
    }
    Err(drawn.first().or(rule.first()).copied().unwrap_or(0))
}

/// Whether texts of the maker can end in a number without breaking their form or their length.
fn takes_number(maker: &Maker, length: Option<u32>, most: u64) -> bool {
    let digits = most.max(1).ilog10() + 2;
    let free = matches!(maker, Maker::Words(..) | Maker::Name | Maker::Place | Maker::Text(..) | Maker::Email);
    free && length.is_none_or(|length| length > digits)
}
