//! Two results side by side.

use kampf_contest::Quantity;
use kampf_race::Movement;
use kampf_result::numbers::{behind, bytes, count, duration, interval};

use super::out::one_line;
use super::page::Page;
use super::style::{Look, paint, quiet_words};
use super::table::Column;
use crate::comparison::{Compared, ComparedContender};

/// Counts that moved and are told in the table; exact ones come first, and what got worse is told in full below it.
const SHOWN: usize = 2;

/// A contest: what else differs, the times, the counts that moved.
pub(crate) fn comparison_text(page: &mut Page, compared: &Compared) {
    let label = &compared.conditions.1;
    let given = if label.is_empty() { String::new() } else { format!(", {label}") };
    page.line(format!("{}  on {}{given}", paint(Look::Title, &compared.name), compared.engine));
    for warning in &compared.warnings {
        page.paragraph(&format!("  {} {}", paint(Look::Bad, "!"), quiet_words(warning)), 4);
    }
    page.blank();
    let columns = [
        Column::left("contender"),
        Column::right("before").yielding(2),
        Column::right("after"),
        Column::right("change"),
        Column::right("surely").yielding(1),
        Column::left("its time"),
        Column::left("its counts").open(),
    ];
    let chosen = [&compared.chosen.0, &compared.chosen.1];
    let rows: Vec<_> = compared.contenders.iter().map(|contender| row(contender, &chosen)).collect();
    page.table(&columns, &rows);
    page.blank();
    match chosen {
        [Some(old), Some(new)] if old == new => page.paragraph(&format!("Both choose {} (◂).", paint(Look::Good, old)), 2),
        [Some(old), Some(new)] => {
            page.paragraph(
                &format!("The old result chooses {}, the new one {} (◂).", paint(Look::Strong, old), paint(Look::Strong, new)),
                2,
            );
        }
        [Some(one), None] => page.paragraph(&format!("The old result chooses {} (◂), the new one nothing.", paint(Look::Strong, one)), 2),
        [None, Some(one)] => page.paragraph(&format!("The new result chooses {} (◂), the old one nothing.", paint(Look::Strong, one)), 2),
        [None, None] => page.paragraph("Neither result chooses.", 2),
    }
    for contender in compared.contenders.iter().filter(|contender| !contender.regressions.is_empty()) {
        page.paragraph(&format!("  {} {}: {}", paint(Look::Bad, "worse"), contender.name, one_line(&contender.regressions.join("; "))), 4);
    }
    page.blank();
}

fn row(contender: &ComparedContender, chosen: &[&Option<String>; 2]) -> Vec<(Look, String)> {
    let is_chosen = chosen.contains(&&Some(contender.name.clone()));
    let name = (if is_chosen { Look::Good } else { Look::Strong }, format!("{}{}", contender.name, if is_chosen { " ◂" } else { "" }));
    let time = |nanos: Option<f64>| (Look::Plain, nanos.map_or_else(|| "-".to_owned(), duration));
    let (look, word) = match (&contender.gap, contender.movement) {
        (Some(gap), _) => (Look::Quiet, gap.clone()),
        (None, Movement::Up) => (Look::Bad, "moved, slower".to_owned()),
        (None, Movement::Down) => (Look::Good, "moved, faster".to_owned()),
        (None, Movement::StoodStill) => (Look::Plain, "stood still".to_owned()),
        (None, Movement::CannotBeTold) => (Look::Quiet, "cannot be told".to_owned()),
    };
    let change = contender.change.map_or_else(|| "-".to_owned(), |change| behind(change.ratio));
    let sure = contender.change.and_then(|change| change.interval).map_or_else(|| "-".to_owned(), |sure| interval(sure.low, sure.high));
    vec![
        name,
        time(contender.medians.0),
        time(contender.medians.1),
        (Look::Plain, change),
        (Look::Quiet, sure),
        (look, word),
        counts(contender),
    ]
}

fn counts(contender: &ComparedContender) -> (Look, String) {
    if contender.gap.is_some() {
        return (Look::Quiet, "-".to_owned());
    }
    let moved = contender.counts.iter().map(|(measure, before, after)| {
        let entry = measure.entry();
        let say = if entry.unit == Quantity::Bytes { bytes } else { count };
        // Where rounding hides what moved, the numbers are told in full.
        let say = if say(*before) == say(*after) { count } else { say };
        format!("{} {} → {}", entry.word, say(*before), say(*after))
    });
    let moved: Vec<String> = moved.collect();
    match moved.len() {
        0 => (Look::Quiet, "the same".to_owned()),
        few if few <= SHOWN => (Look::Plain, moved.join(", ")),
        many => (Look::Plain, format!("{}, {} more moved", moved[..SHOWN].join(", "), many - SHOWN)),
    }
}
