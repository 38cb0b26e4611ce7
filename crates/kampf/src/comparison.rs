//! Two results of the same contest: what moved, what stood still, what cannot be told.

use std::collections::BTreeMap;

use kampf_race::{Change, Movement, change, median};
use kampf_runner::Machine;

use crate::document::{ContenderPart, ContestPart, DatasetPart, Document, Outcome};
use crate::verdict::is_eligible;

/// The chance that any contender of a contest is said to have moved, or stood still, without having.
const ALPHA: f64 = 0.05;

/// One contest in two results.
#[derive(Clone, Debug)]
pub(crate) struct Compared {
    pub(crate) name: String,
    pub(crate) engine: String,
    /// What else differs between the results, in words.
    pub(crate) warnings: Vec<String>,
    pub(crate) contenders: Vec<ComparedContender>,
    /// What each result chose, where it chose.
    pub(crate) chosen: (Option<String>, Option<String>),
}

/// One contender in two results.
#[derive(Clone, Debug)]
pub(crate) struct ComparedContender {
    pub(crate) name: String,
    pub(crate) medians: (Option<f64>, Option<f64>),
    pub(crate) change: Option<Change>,
    pub(crate) movement: Movement,
    /// Counts that differ: name, before, after.
    pub(crate) counts: Vec<(&'static str, u64, u64)>,
    /// What is worse than before, in words.
    pub(crate) regressions: Vec<String>,
    /// Why it cannot be compared, where it cannot.
    pub(crate) gap: Option<String>,
}

/// How exactly a count is the same from run to run.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Grain {
    /// It may not rise at all.
    Exact,
    /// It may rise by the share allowed.
    Allowed,
}

/// Compares every contest that is in both results. Contests of another need are named instead.
pub(crate) fn compare(old: &Document, new: &Document, allowed: f64) -> (Vec<Compared>, Vec<String>) {
    let (mut compared, mut left_out) = (Vec::new(), Vec::new());
    let common = common_warnings(old, new);
    for part in &old.contests {
        let same = |other: &&ContestPart| {
            let trip = |part: &ContestPart| part.conditions.get("round_trip_ns").cloned();
            other.name == part.name && other.engine.name == part.engine.name && trip(other) == trip(part)
        };
        let Some(later) = new.contests.iter().find(same) else {
            left_out.push(format!("{} on {} is only in the old result", part.name, part.engine.name));
            continue;
        };
        if part.need != later.need {
            left_out.push(format!("{} asks for something else in the new result", part.name));
            continue;
        }
        let mut warnings = common.clone();
        warnings.extend(contest_warnings(part, later));
        let judge_times = is_same_machine(&old.machine, &new.machine);
        compared.push(contest(part, later, warnings, judge_times, allowed));
    }
    (compared, left_out)
}

fn is_same_machine(old: &Machine, new: &Machine) -> bool {
    old.cpu == new.cpu && old.cores == new.cores
}

fn common_warnings(old: &Document, new: &Document) -> Vec<String> {
    let mut warnings = Vec::new();
    if !is_same_machine(&old.machine, &new.machine) {
        let machine = |machine: &Machine| format!("{}, {} cores", machine.cpu.as_deref().unwrap_or("unknown processor"), machine.cores);
        warnings.push(format!("another machine ({} / {}): times are shown and not judged", machine(&old.machine), machine(&new.machine)));
    }
    if old.machine.governor != new.machine.governor {
        warnings.push("the processor's clock is governed in another way".to_owned());
    }
    if old.kampf != new.kampf {
        warnings.push(format!("kampf {} / {}", old.kampf, new.kampf));
    }
    warnings.extend(data_warning(&old.dataset, &new.dataset));
    warnings
}

fn data_warning(old: &DatasetPart, new: &DatasetPart) -> Option<String> {
    if old.fingerprint == new.fingerprint {
        return None;
    }
    let tables = |dataset: &DatasetPart| -> BTreeMap<String, (u64, String)> {
        dataset.tables.iter().map(|table| (table.name.clone(), (table.rows, table.digest.clone()))).collect()
    };
    let (old, new) = (tables(old), tables(new));
    let mut differences = Vec::new();
    for (name, (rows, digest)) in &old {
        match new.get(name) {
            None => differences.push(format!("{name} is gone")),
            Some((later, _)) if later != rows => {
                differences.push(format!("{name} {} → {} rows", crate::output::count(*rows), crate::output::count(*later)));
            }
            Some((_, later)) if later != digest => differences.push(format!("{name} has other values")),
            Some(_) => {}
        }
    }
    differences.extend(new.keys().filter(|name| !old.contains_key(*name)).map(|name| format!("{name} is new")));
    let what = if differences.is_empty() { "the schema or the engine's file layout".to_owned() } else { differences.join(", ") };
    Some(format!("the data differs: {what}"))
}

fn contest_warnings(old: &ContestPart, new: &ContestPart) -> Vec<String> {
    let mut warnings = Vec::new();
    if old.engine.version != new.engine.version {
        warnings.push(format!("{} {} / {}", old.engine.name, old.engine.version, new.engine.version));
    }
    let names = old.engine.settings.keys().chain(new.engine.settings.keys().filter(|name| !old.engine.settings.contains_key(*name)));
    for name in names {
        let setting = |part: &ContestPart| part.engine.settings.get(name).cloned().unwrap_or_else(|| "not set".to_owned());
        if setting(old) != setting(new) {
            warnings.push(format!("setting {name}: {} / {}", setting(old), setting(new)));
        }
    }
    if old.conditions != new.conditions {
        // The relay's own cost is measured anew each time.
        let differs = |name: &&String| old.conditions.get(*name) != new.conditions.get(*name) && *name != "relay_adds_ns";
        let names: Vec<&str> = old.conditions.keys().chain(new.conditions.keys()).filter(differs).map(String::as_str).collect();
        if !names.is_empty() {
            warnings.push(format!("conditions differ: {}", names.join(", ")));
        }
    }
    if let (Some(before), Some(after)) = (median(&old.race.reference_loop_ns), median(&new.race.reference_loop_ns)) {
        let ratio = after / before;
        if !(0.97..=1.03).contains(&ratio) {
            warnings.push(format!("the machine itself took {} by the reference loop", crate::output::share(ratio - 1.0)));
        }
    }
    warnings
}

fn contest(old: &ContestPart, new: &ContestPart, warnings: Vec<String>, judge_times: bool, allowed: f64) -> Compared {
    let machine = median(&old.race.reference_loop_ns).zip(median(&new.race.reference_loop_ns)).map_or(1.0, |(old, new)| new / old);
    let both = old.contenders.iter().filter(|one| new.contenders.iter().any(|other| other.name == one.name)).count();
    // What was chosen is what is guarded: it gets half of alpha, the others share the rest.
    let chosen = |name: &str| old.verdict.choose.as_deref() == Some(name);
    let alpha = |name: &str| if chosen(name) { ALPHA / 2.0 } else { ALPHA / 2.0 / both.saturating_sub(1).max(1) as f64 };
    let mut contenders: Vec<ComparedContender> = old
        .contenders
        .iter()
        .map(|before| match new.contenders.iter().find(|after| after.name == before.name) {
            None => missing(before, "only in the old result"),
            Some(after) => contender(before, after, alpha(&before.name), judge_times.then_some(machine), allowed),
        })
        .collect();
    let known = |name: &str| old.contenders.iter().any(|before| before.name == name);
    contenders.extend(new.contenders.iter().filter(|after| !known(&after.name)).map(|after| missing(after, "only in the new result")));
    let choice = |part: &ContestPart| part.verdict.choose.clone();
    Compared { name: old.name.clone(), engine: old.engine.name.clone(), warnings, contenders, chosen: (choice(old), choice(new)) }
}

fn missing(contender: &ContenderPart, why: &str) -> ComparedContender {
    ComparedContender {
        name: contender.name.clone(),
        medians: (None, None),
        change: None,
        movement: Movement::CannotBeTold,
        counts: Vec::new(),
        regressions: Vec::new(),
        gap: Some(why.to_owned()),
    }
}

fn contender(old: &ContenderPart, new: &ContenderPart, alpha: f64, machine: Option<f64>, allowed: f64) -> ComparedContender {
    let change = change(&old.rounds, &new.rounds, alpha);
    let movement = match (change, machine) {
        (Some(change), Some(machine)) => change.movement(allowed, machine),
        _ => Movement::CannotBeTold,
    };
    let mut compared = ComparedContender {
        name: old.name.clone(),
        medians: (old.latency_ns.median, new.latency_ns.median),
        change,
        movement,
        counts: Vec::new(),
        regressions: Vec::new(),
        gap: None,
    };
    if is_eligible(old) && !is_eligible(new) {
        let how = if new.outcome == Outcome::Disagrees { "disagrees" } else { "fails" };
        compared.regressions.push(format!("it {how} now: {}", new.reason.as_deref().unwrap_or("no reason given")));
        return compared;
    }
    if movement == Movement::Up {
        compared.regressions.push("it is slower".to_owned());
    }
    let memory = if old.counted.get("heap_peak_bytes") == new.counted.get("heap_peak_bytes") { new.heap_peak_bytes } else { None };
    let counts: [(&'static str, Option<u64>, Option<u64>, Grain); 7] = [
        ("statements", old.statements, new.statements, Grain::Exact),
        ("round trips", old.round_trips, new.round_trips, Grain::Exact),
        ("rows", old.rows, new.rows, Grain::Exact),
        ("bytes", old.bytes, new.bytes, Grain::Allowed),
        ("objects", old.objects, new.objects, Grain::Allowed),
        ("memory", old.heap_peak_bytes, memory, Grain::Allowed),
        ("allocations", old.allocations, new.allocations, Grain::Allowed),
    ];
    for (name, before, after, grain) in counts {
        let (Some(before), Some(after)) = (before, after) else { continue };
        if before == after {
            continue;
        }
        compared.counts.push((name, before, after));
        let limit = if grain == Grain::Exact { before as f64 } else { before as f64 * (1.0 + allowed) };
        if after as f64 > limit {
            compared.regressions.push(format!("{name} rose from {} to {}", crate::output::count(before), crate::output::count(after)));
        }
    }
    compared
}
