//! What the choices did, as a table of steps and a line per choice.

use super::numbers::{behind, bytes, count, duration, interval, share};
use super::page::{Column, Page};
use super::style::{Look, paint, quiet_words};
use crate::document::{ContenderPart, ContestPart, Effect, Step};

/// The ladder, and each choice by itself.
pub(crate) fn mattered_text(page: &mut Page, part: &ContestPart) {
    ladder(page, part);
    effects(page, &part.mattered.effects);
}

fn ladder(page: &mut Page, part: &ContestPart) {
    let steps = &part.mattered.ladder;
    let (Some(first), Some(last)) = (steps.first(), steps.last()) else { return };
    page.blank();
    page.paragraph(
        &format!("What mattered, a choice at a time from {} to {}:", paint(Look::Strong, &first.from), paint(Look::Strong, &last.to)),
        2,
    );
    let columns = [
        Column::left("  choice"),
        Column::left(""),
        Column::right("a call takes"),
        Column::right("gain"),
        Column::left(""),
        Column::right("statements"),
        Column::right("rows").yielding(2),
        Column::right("objects").yielding(3),
        Column::right("held at most"),
    ];
    let rows: Vec<_> = steps.iter().filter_map(|step| step_row(part, step)).collect();
    page.table(&columns, &rows);
}

fn step_row(part: &ContestPart, step: &Step) -> Option<Vec<(Look, String)>> {
    let find = |name: &str| part.contenders.iter().find(|contender| contender.name == *name);
    let (from, to) = (find(&step.from)?, find(&step.to)?);
    let (look, gain, how) = gain(step, part.race.margin);
    let number = |pick: fn(&ContenderPart) -> Option<u64>, say: fn(u64) -> String| match (pick(from), pick(to)) {
        (Some(before), Some(after)) if say(before) == say(after) => (Look::Quiet, "same".to_owned()),
        (Some(before), Some(after)) => (Look::Plain, format!("{} → {}", say(before), say(after))),
        _ => (Look::Quiet, "-".to_owned()),
    };
    Some(vec![
        (Look::Strong, format!("  {}", step.choice)),
        (Look::Plain, format!("{} → {}", step.before, step.after)),
        (Look::Plain, format!("{} → {}", duration(step.before_ns), duration(step.after_ns))),
        (look, gain),
        (Look::Quiet, how),
        number(|contender| contender.statements, count),
        number(|contender| contender.rows, count),
        number(|contender| contender.objects, count),
        number(|contender| contender.heap_peak_bytes, bytes),
    ])
}

/// What a step gains, absolute and relative, and how sure that is.
fn gain(step: &Step, margin: f64) -> (Look, String, String) {
    // From the ratio within rounds, so that what the machine did meanwhile is not in it.
    let (ratio, moved) = (step.ratio, step.before_ns * (step.ratio - 1.0));
    let absolute = format!("{}{}", if moved < 0.0 { "-" } else { "+" }, duration(moved.abs()));
    match (step.low, step.high) {
        (Some(low), Some(high)) if low > 1.0 / (1.0 + margin) && high < 1.0 + margin => {
            (Look::Quiet, "nothing".to_owned(), format!("({} at most)", share((high - 1.0).max(1.0 - low)).trim_start_matches('+')))
        }
        (Some(low), Some(high)) if low <= 1.0 && high >= 1.0 => {
            (Look::Quiet, "cannot be told".to_owned(), format!("({})", interval(low, high)))
        }
        (Some(low), Some(high)) => {
            let look = if moved < 0.0 { Look::Good } else { Look::Bad };
            (look, absolute, format!("{} ({})", behind(ratio), interval(low, high)))
        }
        _ => (Look::Plain, absolute, format!("about {}", behind(ratio))),
    }
}

/// Each choice by itself: from its most naive option to the others.
fn effects(page: &mut Page, effects: &[Effect]) {
    if effects.is_empty() {
        return;
    }
    page.blank();
    page.paragraph("Each choice by itself, on the time of a call, over all contenders that differ in nothing else:", 0);
    let mut done: Vec<(&str, &str)> = Vec::new();
    for effect in effects {
        let kind = (effect.choice.as_str(), effect.before.as_str());
        if done.contains(&kind) {
            continue;
        }
        done.push(kind);
        let same = effects.iter().filter(|other| (other.choice.as_str(), other.before.as_str()) == kind);
        let parts: Vec<String> = same.map(effect_words).collect();
        page.paragraph(&format!("  {} {} {}", paint(Look::Strong, kind.0), kind.1, parts.join(", ")), 4);
    }
    if effects.iter().any(|effect| effect.low.is_none()) {
        page.paragraph(&quiet_words("  \"About\": too few rounds in common for an interval."), 2);
    }
}

fn effect_words(effect: &Effect) -> String {
    let ratio = behind(effect.ratio);
    let mut sure = match (effect.low, effect.high) {
        (Some(low), Some(high)) => interval(low, high),
        _ => String::new(),
    };
    if effect.pairs > 1 {
        let pairs = format!("{} pairs, {}", effect.pairs, interval(effect.least, effect.most));
        sure = if sure.is_empty() { pairs } else { format!("{sure}; {pairs}") };
    }
    let about = if effect.low.is_none() { "about " } else { "" };
    let sure = if sure.is_empty() { String::new() } else { format!(" {}", quiet_words(&format!("({sure})"))) };
    format!("→ {} {about}{ratio}{sure}", effect.after)
}
