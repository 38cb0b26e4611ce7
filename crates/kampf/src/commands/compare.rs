//! `kampf compare`

use kampf_race::Movement;
use serde_json::json;

use super::results::{find, read};
use super::{Ending, print, print_json, say};
use crate::arguments::{Compare, Format, General};
use crate::comparison::{Compared, ComparedContender, compare};
use crate::output::{Look, Page, comparison_text, paint, percent};
use crate::problem::Problem;

pub(super) fn run(general: &General, arguments: &Compare) -> Result<Ending, Problem> {
    let home = general.home();
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
    let counted = || compared.iter().flat_map(|one| one.contenders.iter().filter(|contender| counts(one, &contender.name)));
    let told = counted().filter(|contender| contender.gap.is_none() && contender.movement != Movement::CannotBeTold).count();
    // What was chosen is what is guarded; without it there is nothing to say.
    let missing: Vec<&Compared> = compared.iter().filter(|one| one.lacks_the_chosen()).collect();
    let end = match (regressions, told) {
        (0, _) if !missing.is_empty() => CompareEnd::NoVerdict,
        (0, 0) => CompareEnd::NoVerdict,
        (0, _) => CompareEnd::NoRegression,
        _ => CompareEnd::Regression,
    };
    match general.format {
        Format::Json => print_json(&format!("{:#}", as_json(&compared, regressions, end)))?,
        Format::Text => {
            let mut page = Page::new();
            compared.iter().for_each(|one| comparison_text(&mut page, one));
            let all: usize = compared.iter().map(|one| one.contenders.len()).sum();
            let which = if arguments.chosen { "what the old result chose" } else { "all contenders" };
            let allowed = percent(arguments.allow);
            page.paragraph(
                &match end {
                    CompareEnd::Regression => {
                        let word = paint(Look::Bad, "Regression");
                        format!("{word}: {regressions} of {all} contenders got worse ({allowed} allowed; {which} counted).")
                    }
                    CompareEnd::NoRegression => {
                        format!(
                            "{} in {which} ({all} compared, {told} told by their time; {allowed} allowed).",
                            paint(Look::Good, "No regression")
                        )
                    }
                    CompareEnd::NoVerdict if !missing.is_empty() => {
                        let of = |one: &&Compared| format!("{} in {}", one.chosen.0.as_deref().unwrap_or_default(), one.name);
                        let of: Vec<String> = missing.iter().map(of).collect();
                        format!(
                            "{}: what the old result chose is not in the new one: {}.",
                            paint(Look::Strong, "No verdict"),
                            crate::output::list(&of)
                        )
                    }
                    CompareEnd::NoVerdict => {
                        format!(
                            "{}: of {which} no time could be told ({all} compared; {allowed} allowed).",
                            paint(Look::Strong, "No verdict")
                        )
                    }
                },
                2,
            );
            let is_open = |contender: &&ComparedContender| contender.gap.is_none() && contender.movement == Movement::CannotBeTold;
            let open = compared.iter().flat_map(|one| &one.contenders).filter(is_open).count();
            if open > 0 {
                let times = if open == 1 { "time" } else { "times" };
                // What was just done is no advice.
                let has_open = |one: &&Compared| one.contenders.iter().any(|contender| is_open(&contender));
                let more = match compared.iter().filter(has_open).all(|one| one.exact) {
                    true => "the new race was one to the end (--exact) and ran out of time or rounds: --time and --rounds give it more",
                    false => {
                        "more rounds tell more: with --exact, or with one contender alone (--only), a race goes on until times are known to --margin"
                    }
                };
                page.paragraph(&format!("{open} {times} cannot be told; {more}."), 0);
            }
            print(&page.into_text())?;
        }
    }
    let is_no = end == CompareEnd::Regression || (arguments.strict && end == CompareEnd::NoVerdict);
    Ok(if is_no { Ending::No } else { Ending::Done })
}

/// How a comparison ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum CompareEnd {
    /// Something surely got worse.
    Regression,
    /// Nothing did, as far as could be told, and something could.
    NoRegression,
    /// Nothing could be told.
    NoVerdict,
}

impl CompareEnd {
    fn word(self) -> &'static str {
        match self {
            CompareEnd::Regression => "regression",
            CompareEnd::NoRegression => "no regression",
            CompareEnd::NoVerdict => "no verdict",
        }
    }
}

fn as_json(compared: &[Compared], regressions: usize, end: CompareEnd) -> serde_json::Value {
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
            json!({"name": one.name, "engine": one.engine, "conditions": one.conditions.0, "differs": one.warnings, "chosen_before": one.chosen.0, "chosen_after": one.chosen.1, "contenders": contenders})
        })
        .collect();
    json!({"end": end.word(), "regressions": regressions, "contests": contests})
}
