//! The list of results. It tells of each what was saved as its verdict: to judge a thousand races anew takes as long as to race one.

use std::path::{Path, PathBuf};

use kampf_result::{ConditionsPart, LOST, LatencyPart, ReadError, VerdictPart, is_known};
use kampf_verdict::End;
use serde::Deserialize;
use serde_json::json;

use super::{folder, refused, text_of};
use crate::arguments::{Format, General};
use crate::commands::{Ending, print, print_json};
use crate::output::{Column, Gate, Look, Page, count, duration, end_words};
use crate::problem::Problem;

/// What of a result is listed; all else is passed over unread.
#[derive(Deserialize)]
struct Listed {
    contests: Vec<ListedContest>,
}

#[derive(Deserialize)]
struct ListedContest {
    name: String,
    engine: ListedEngine,
    conditions: ConditionsPart,
    race: ListedRace,
    contenders: Vec<ListedContender>,
    verdict: VerdictPart,
}

#[derive(Deserialize)]
struct ListedEngine {
    name: String,
}

#[derive(Deserialize)]
struct ListedRace {
    rounds: u64,
    interrupted: bool,
}

#[derive(Deserialize)]
struct ListedContender {
    name: String,
    latency_ns: LatencyPart,
}

fn read(path: &Path) -> Result<Listed, Problem> {
    let text = text_of(path)?;
    let listed = is_known(&text).and_then(|()| {
        let listed: Listed = serde_json::from_str(&text).map_err(|error| ReadError::Damaged(error.to_string()))?;
        let is_lost = listed.contests.iter().any(|contest| contest.engine.name == LOST);
        if is_lost { Err(ReadError::EngineLost) } else { Ok(listed) }
    });
    listed.map_err(|error| refused(path, &text, &error))
}

pub(super) fn run(general: &General, home: &Path) -> Result<Ending, Problem> {
    let mut paths: Vec<PathBuf> = std::fs::read_dir(folder(home))
        .into_iter()
        .flatten()
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "json"))
        .collect();
    paths.sort();
    let results = paths.iter().map(|path| (path, read(path)));
    if general.format == Format::Json {
        let contest = |part: &ListedContest| json!({"name": part.name, "engine": part.engine.name, "verdict": part.verdict});
        let all: Vec<_> = results
            .map(|(path, result)| match result {
                Ok(result) => json!({"file": path, "contests": result.contests.iter().map(contest).collect::<Vec<_>>()}),
                Err(problem) => json!({"file": path, "unreadable": problem.message}),
            })
            .collect();
        print_json(&format!("{:#}", json!({"results": all})))?;
        return Ok(Ending::Done);
    }
    if paths.is_empty() {
        print("no results yet; `kampf race` makes one\n")?;
        return Ok(Ending::Done);
    }
    let mut rows = Vec::new();
    for (path, result) in results {
        let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        match result {
            Ok(result) => {
                let name = |at: usize| if at == 0 { name.clone() } else { String::new() };
                rows.extend(result.contests.iter().enumerate().map(|(at, contest)| row(name(at), contest)));
            }
            Err(problem) => {
                let quiet = || (Look::Quiet, String::new());
                rows.push(vec![(Look::Strong, name), quiet(), quiet(), quiet(), (Look::Bad, format!("unreadable: {}", problem.message))]);
            }
        }
    }
    let columns = [
        Column::left("result"),
        Column::left("contest"),
        Column::left("engine").yielding(2),
        Column::right("rounds").yielding(1),
        Column::left("verdict").open(),
    ];
    let mut page = Page::new();
    page.table(&columns, &rows);
    print(&page.into_text())?;
    Ok(Ending::Done)
}

fn row(result: String, contest: &ListedContest) -> Vec<(Look, String)> {
    let engine = match contest.conditions.round_trip_ns {
        Some(trip) => format!("{} +{}", contest.engine.name, duration(trip as f64)),
        None => contest.engine.name.clone(),
    };
    vec![
        (Look::Strong, result),
        (Look::Plain, contest.name.clone()),
        (Look::Quiet, engine),
        (Look::Quiet, count(contest.race.rounds)),
        verdict(contest),
    ]
}

/// A verdict in a few words.
fn verdict(contest: &ListedContest) -> (Look, String) {
    let ListedContest { verdict, race, .. } = contest;
    let gate = match verdict.requirements_met {
        None => None,
        Some(true) => Some(Gate::Met),
        Some(false) if verdict.provisional.is_empty() => Some(Gate::Missed),
        Some(false) => Some(Gate::Provisional),
    };
    // Results of earlier versions did not say how they ended.
    let ended =
        End::ALL.into_iter().find(|end| end.word() == verdict.end).unwrap_or(if verdict.decided { End::Decided } else { End::Open });
    let (look, ended) = end_words(gate, ended, race.interrupted);
    let named = |name: &String| {
        let shown = contest.contenders.iter().find(|one| one.name == *name).and_then(|one| one.latency_ns.shown.or(one.latency_ns.median));
        format!("{name}  {}", shown.map_or_else(String::new, duration))
    };
    match (&verdict.choose, &verdict.leader) {
        (Some(chosen), _) if race.interrupted => (Look::Good, format!("{}, interrupted", named(chosen))),
        (Some(chosen), _) => (Look::Good, named(chosen)),
        (None, Some(leader)) => (look, format!("{ended}, {} leads", named(leader))),
        (None, None) => (look, ended),
    }
}
