//! `kampf compare`

use std::path::Path;

use kampf_race::Movement;
use serde_json::json;

use super::results::{find, read};
use super::{Ending, print, print_json, say};
use crate::arguments::{Compare, Format, General};
use crate::comparison::{Compared, ComparedContender, compare};
use crate::output::{Page, comparison_text, percent};
use crate::problem::Problem;

pub(super) fn run(general: &General, arguments: &Compare) -> Result<Ending, Problem> {
    let home = general.file.parent().unwrap_or(Path::new("")).to_owned();
    let (old, new) = (read(&find(&home, &arguments.old)?)?, read(&find(&home, &arguments.new)?)?);
    let (compared, left_out) = compare(&old, &new, arguments.allow);
    left_out.iter().for_each(|what| say(general.quiet, what));
    if compared.is_empty() {
        return Err(
            Problem::wrong("the two results have no contest in common").hint("contests are the same by name, engine and round trip")
        );
    }
    let counts = |compared: &Compared, name: &str| !arguments.chosen || compared.chosen.0.as_deref() == Some(name);
    let regressions: usize = compared
        .iter()
        .map(|one| one.contenders.iter().filter(|contender| !contender.regressions.is_empty() && counts(one, &contender.name)).count())
        .sum();
    match general.format {
        Format::Json => print_json(&format!("{:#}", as_json(&compared, regressions)))?,
        Format::Text => {
            let mut page = Page::new();
            compared.iter().for_each(|one| comparison_text(&mut page, one));
            let all: usize = compared.iter().map(|one| one.contenders.len()).sum();
            let which = if arguments.chosen { "what the old result chose" } else { "all contenders" };
            page.line(match regressions {
                0 => format!("No regression in {which} ({all} compared; {} allowed).", percent(arguments.allow)),
                some => format!("{some} of {all} contenders got worse ({} allowed; {which} counted).", percent(arguments.allow)),
            });
            let is_open = |contender: &&ComparedContender| contender.gap.is_none() && contender.movement == Movement::CannotBeTold;
            let open = compared.iter().flat_map(|one| &one.contenders).filter(is_open).count();
            if open > 0 {
                let times = if open == 1 { "time" } else { "times" };
                let more = "more rounds tell more: with --exact, or with one contender alone (--only), a race goes on until times are known to --margin";
                page.paragraph(&format!("{open} {times} cannot be told; {more}."), 0);
            }
            print(&page.into_text())?;
        }
    }
    Ok(if regressions > 0 { Ending::No } else { Ending::Done })
}

fn as_json(compared: &[Compared], regressions: usize) -> serde_json::Value {
    let movement = |movement: Movement| match movement {
        Movement::Up | Movement::Down => "moved",
        Movement::StoodStill => "stood still",
        Movement::CannotBeTold => "cannot be told",
    };
    let contests: Vec<_> = compared
        .iter()
        .map(|one| {
            let contenders: Vec<_> = one
                .contenders
                .iter()
                .map(|contender| {
                    let sure = contender.change.and_then(|change| change.interval);
                    let counts: Vec<_> =
                        contender.counts.iter().map(|(measure, before, after)| json!({"name": measure.entry().word, "before": before, "after": after})).collect();
                    json!({
                        "name": contender.name, "before_ns": contender.medians.0, "after_ns": contender.medians.1,
                        "ratio": contender.change.map(|change| change.ratio), "low": sure.map(|sure| sure.low), "high": sure.map(|sure| sure.high),
                        "time": movement(contender.movement), "counts": counts, "worse": contender.regressions, "not_compared": contender.gap,
                    })
                })
                .collect();
            json!({"name": one.name, "engine": one.engine, "differs": one.warnings, "chosen_before": one.chosen.0, "chosen_after": one.chosen.1, "contenders": contenders})
        })
        .collect();
    json!({"regressions": regressions, "contests": contests})
}
