//! Two results of the same contest: what moved, what stood still, what cannot be told.

use std::collections::BTreeMap;

use kampf_contest::{Grain, Measure};
use kampf_race::{Change, Goal, Movement, Nanos, change, median};
use kampf_verdict::FaultKind;

use kampf_result::{DatasetPart, Machine, RacedContest, RacedRun, Shown};

/// The chance that any contender of a contest is said to have moved, or stood still, without having.
const ALPHA: f64 = 0.05;

/// One contest in two results.
#[derive(Clone, Debug)]
pub(crate) struct Compared {
    pub(crate) name: String,
    pub(crate) engine: String,
    /// What contenders were given besides, by which the two were joined: for programs and for people.
    pub(crate) conditions: (String, String),
    /// Whether the new race went on until every time was known.
    pub(crate) exact: bool,
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
    pub(crate) medians: (Option<Nanos>, Option<Nanos>),
    pub(crate) change: Option<Change>,
    pub(crate) movement: Movement,
    /// Counts that differ: before, after.
    pub(crate) counts: Vec<(Measure, u64, u64)>,
    /// What is worse than before, in words.
    pub(crate) regressions: Vec<String>,
    /// Why it cannot be compared, where it cannot.
    pub(crate) gap: Option<String>,
}

/// Compares every contest that is in both results, under the same circumstances. Contests of another need are named instead.
pub(crate) fn compare(old: &RacedRun, new: &RacedRun, allowed: f64) -> (Vec<Compared>, Vec<String>) {
    let (mut compared, mut left_out) = (Vec::new(), Vec::new());
    let common = common_warnings(old, new);
    let pairs = pairs(&old.contests, &new.contests);
    for (part, later) in old.contests.iter().zip(&pairs) {
        let on = named(part);
        let Some(later) = later.map(|at| &new.contests[at]) else {
            left_out.push(format!("{on} is only in the old result"));
            continue;
        };
        if part.need != later.need {
            left_out.push(format!("{on} asks for something else in the new result"));
            continue;
        }
        let mut warnings = common.clone();
        warnings.extend(contest_warnings(part, later));
        let judge_times = is_same_machine(&old.machine, &new.machine);
        compared.push(contest(part, later, warnings, judge_times, allowed));
    }
    let is_new =
        |(at, part): (usize, &RacedContest)| (!pairs.contains(&Some(at))).then(|| format!("{} is only in the new result", named(part)));
    left_out.extend(new.contests.iter().enumerate().filter_map(is_new));
    (compared, left_out)
}

/// A contest with its engine and circumstances.
fn named(part: &RacedContest) -> String {
    let label = part.circumstance.label();
    let given = if label.is_empty() { label } else { format!(" ({label})") };
    format!("{} on {}{given}", part.name, part.engine.name)
}

/// Which of the new contests each of the old ones meets: the same by name, engine and all circumstances. What is left over meets where there is
/// one alone of a name, engine and round trip on either side: then it is said that the circumstances differ.
fn pairs(old: &[RacedContest], new: &[RacedContest]) -> Vec<Option<usize>> {
    let mut pairs = vec![None; old.len()];
    let mut is_taken = vec![false; new.len()];
    for (part, pair) in old.iter().zip(&mut pairs) {
        let is_same = |other: &RacedContest| part.name == other.name && part.circumstance.key() == other.circumstance.key();
        *pair = (0..new.len()).find(|&at| !is_taken[at] && is_same(&new[at]));
        pair.iter().for_each(|at| is_taken[*at] = true);
    }
    let of_trip = |one: &RacedContest, other: &RacedContest| {
        let (given, others) = (&one.circumstance, &other.circumstance);
        one.name == other.name && given.engine == others.engine && given.round_trip() == others.round_trip()
    };
    for (at, part) in old.iter().enumerate() {
        let left: Vec<usize> = (0..new.len()).filter(|&at| !is_taken[at] && of_trip(part, &new[at])).collect();
        let alone = (0..old.len()).all(|other| other == at || pairs[other].is_some() || !of_trip(part, &old[other]));
        if let ([one], true, None) = (left.as_slice(), alone, pairs[at]) {
            pairs[at] = Some(*one);
            is_taken[*one] = true;
        }
    }
    pairs
}

fn is_same_machine(old: &Machine, new: &Machine) -> bool {
    old.cpu == new.cpu && old.cores == new.cores
}

fn common_warnings(old: &RacedRun, new: &RacedRun) -> Vec<String> {
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

fn contest_warnings(old: &RacedContest, new: &RacedContest) -> Vec<String> {
    let mut warnings = Vec::new();
    if old.engine.version != new.engine.version {
        warnings.push(format!("{} {} / {}", old.engine.name, old.engine.version, new.engine.version));
    }
    let names = old.engine.settings.keys().chain(new.engine.settings.keys().filter(|name| !old.engine.settings.contains_key(*name)));
    for name in names {
        let setting = |part: &RacedContest| part.engine.settings.get(name).cloned().unwrap_or_else(|| "not set".to_owned());
        if setting(old) != setting(new) {
            warnings.push(format!("setting {name}: {} / {}", setting(old), setting(new)));
        }
    }
    let mut differing = old.circumstance.differing(&new.circumstance);
    if old.arranged.durable != new.arranged.durable {
        differing.push("durable");
    }
    if !differing.is_empty() {
        warnings.push(format!("conditions differ: {}", differing.join(", ")));
    }
    if let (Some(before), Some(after)) = (old.arranged.commit_ns, new.arranged.commit_ns) {
        let (before, after) = (before as f64, after as f64);
        // What waits for a disk varies more than the machine does.
        if !(0.8..=1.25).contains(&(after / before.max(1.0))) {
            let duration = crate::output::duration;
            warnings.push(format!("a commit of one changed row took {} / {}", duration(before), duration(after)));
        }
    }
    if let (Some(before), Some(after)) = (median(&old.course.reference_loop), median(&new.course.reference_loop)) {
        let ratio = after / before;
        if !(0.97..=1.03).contains(&ratio) {
            warnings.push(format!("the machine itself took {} by the reference loop", crate::output::share(ratio - 1.0)));
        }
    }
    warnings
}

fn contest(old: &RacedContest, new: &RacedContest, warnings: Vec<String>, judge_times: bool, allowed: f64) -> Compared {
    let machine = median(&old.course.reference_loop).zip(median(&new.course.reference_loop)).map_or(1.0, |(old, new)| new / old);
    let both = old.contenders().filter(|one| new.find(&one.facts.name).is_some()).count();
    // What was chosen is what is guarded: it gets half of alpha, the others share the rest.
    let chosen = |name: &str| old.verdict.choose.is_some_and(|at| old.name_of(at) == name);
    let alpha = |name: &str| if chosen(name) { ALPHA / 2.0 } else { ALPHA / 2.0 / both.saturating_sub(1).max(1) as f64 };
    let mut contenders: Vec<ComparedContender> = old
        .contenders()
        .map(|before| match new.find(&before.facts.name) {
            None => missing(before, "only in the old result"),
            Some(after) => contender(before, after, alpha(&before.facts.name), judge_times.then_some(machine), allowed),
        })
        .collect();
    let only_new = new.contenders().filter(|after| old.find(&after.facts.name).is_none());
    contenders.extend(only_new.map(|after| missing(after, "only in the new result")));
    let choice = |part: &RacedContest| part.verdict.choose.map(|at| part.name_of(at).to_owned());
    Compared {
        name: old.name.clone(),
        engine: old.engine.name.clone(),
        conditions: (old.circumstance.given(), old.circumstance.label()),
        exact: new.facts.settings.goal == Goal::Exact,
        warnings,
        contenders,
        chosen: (choice(old), choice(new)),
    }
}

impl Compared {
    /// Whether what the old result chose did not take part in the new one.
    pub(crate) fn lacks_the_chosen(&self) -> bool {
        let Some(chosen) = &self.chosen.0 else { return false };
        self.contenders.iter().any(|contender| contender.name == *chosen && contender.gap.is_some())
    }
}

fn missing(contender: Shown<'_>, why: &str) -> ComparedContender {
    ComparedContender {
        name: contender.facts.name.clone(),
        medians: (None, None),
        change: None,
        movement: Movement::CannotBeTold,
        counts: Vec::new(),
        regressions: Vec::new(),
        gap: Some(why.to_owned()),
    }
}

fn contender(old: Shown<'_>, new: Shown<'_>, alpha: f64, machine: Option<f64>, allowed: f64) -> ComparedContender {
    let change = change(&old.facts.rounds, &new.facts.rounds, alpha);
    let movement = match (change, machine) {
        (Some(change), Some(machine)) => change.movement(allowed, machine),
        _ => Movement::CannotBeTold,
    };
    let mut compared = ComparedContender {
        name: old.facts.name.clone(),
        medians: (old.placed.median, new.placed.median),
        change,
        movement,
        counts: Vec::new(),
        regressions: Vec::new(),
        gap: None,
    };
    if old.facts.is_eligible() && !new.facts.is_eligible() {
        let fault = new.facts.fault.as_ref();
        let how = match fault.map(|fault| fault.kind) {
            Some(FaultKind::Disagrees) => "disagrees",
            Some(FaultKind::NotBelieved) => "is not believed",
            _ => "fails",
        };
        compared.regressions.push(format!("it {how} now: {}", fault.map_or("no reason given", |fault| &fault.reason)));
        return compared;
    }
    if movement == Movement::Up {
        compared.regressions.push("it is slower".to_owned());
    }
    for measure in Measure::ALL.into_iter().filter(|measure| measure.entry().grain != Grain::Never) {
        let (before, after) = (&old.facts.measured, &new.facts.measured);
        // Memory of a whole process is not compared with that of a heap.
        let is_comparable = measure != Measure::HeapPeak || before.how(measure) == after.how(measure);
        let (Some(before), Some(after)) = (before.get(measure), after.get(measure).filter(|_| is_comparable)) else { continue };
        if before == after {
            continue;
        }
        compared.counts.push((measure, before, after));
        let limit = if measure.entry().grain == Grain::Exact { before as f64 } else { before as f64 * (1.0 + allowed) };
        if after as f64 > limit {
            let (before, after) = (crate::output::count(before), crate::output::count(after));
            compared.regressions.push(format!("{} rose from {before} to {after}", measure.entry().word));
        }
    }
    compared
}
