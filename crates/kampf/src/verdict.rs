//! The least work that is good enough.

use kampf_contest::{ByHand, Hydration};

use crate::document::{ContenderPart, Outcome};
use crate::output::{bytes, count, duration};
use crate::project::Require;

/// What to choose. Numbers are places among the contenders.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Verdict {
    /// The contender to choose; none where nothing could be raced or nobody meets the requirements.
    pub(crate) choose: Option<usize>,
    /// The most comfortable one that costs hardly more than the fastest.
    pub(crate) comfortable: Option<usize>,
    /// Those that cannot be told from the fastest.
    pub(crate) alike: Vec<usize>,
    /// Whether there are requirements.
    pub(crate) required: bool,
    /// Where nobody meets them: what comes nearest on each, in words.
    pub(crate) nearest: Vec<String>,
}

/// A contender is hardly slower than the fastest within a tenth, or within a millisecond.
const HARDLY_SHARE: f64 = 1.10;
const HARDLY_NS: f64 = 1e6;

/// Decides. Contenders that miss a requirement are marked as ruled out, with the reason.
pub(crate) fn decide(contenders: &mut [ContenderPart], require: &Require) -> Verdict {
    let raced = |contender: &ContenderPart| {
        contender.latency_ns.median.is_some() && !matches!(contender.outcome, Outcome::Disagrees | Outcome::Failed)
    };
    let eligible: Vec<usize> = (0..contenders.len()).filter(|&at| raced(&contenders[at])).collect();
    if require.is_empty() {
        return without_requirements(contenders, &eligible);
    }
    let missed: Vec<(usize, Vec<String>)> = eligible.iter().map(|&at| (at, misses(&contenders[at], require))).collect();
    let meeting: Vec<usize> = missed.iter().filter(|(_, missed)| missed.is_empty()).map(|(at, _)| *at).collect();
    let choose = meeting.iter().copied().min_by(|&left, &right| comfort(&contenders[left], &contenders[right]));
    let nearest = if choose.is_none() { nearest(contenders, &eligible, require) } else { Vec::new() };
    for (at, reasons) in missed.into_iter().filter(|(_, reasons)| !reasons.is_empty()) {
        contenders[at].outcome = Outcome::RuledOut;
        contenders[at].reason = Some(reasons.join("; "));
    }
    Verdict { choose, required: true, nearest, ..Verdict::default() }
}

fn without_requirements(contenders: &[ContenderPart], eligible: &[usize]) -> Verdict {
    let Some(&fastest) = eligible.iter().find(|&&at| contenders[at].outcome == Outcome::Standing) else { return Verdict::default() };
    let best = contenders[fastest].latency_ns.median.unwrap_or(f64::INFINITY);
    let limit = (best * HARDLY_SHARE).max(best + HARDLY_NS);
    let near = eligible.iter().copied().filter(|&at| contenders[at].latency_ns.median.is_some_and(|median| median <= limit));
    let comfortable = near
        .min_by(|&left, &right| comfort(&contenders[left], &contenders[right]))
        .filter(|&at| at != fastest && contenders[at].by_hand.is_some() && is_less_work(&contenders[at], &contenders[fastest]));
    let alike = eligible.iter().copied().filter(|&at| contenders[at].outcome == Outcome::Unresolved).collect();
    Verdict { choose: Some(fastest), comfortable, alike, ..Verdict::default() }
}

/// Order of comfort: least by hand, then the form that does most by itself, then the faster.
fn comfort(left: &ContenderPart, right: &ContenderPart) -> std::cmp::Ordering {
    let form = |contender: &ContenderPart| contender.choices.map_or(Hydration::Raw, |choices| choices.hydration);
    let median = |contender: &ContenderPart| contender.latency_ns.median.unwrap_or(f64::INFINITY);
    by_hand(left).cmp(&by_hand(right)).then(form(left).cmp(&form(right))).then(median(left).total_cmp(&median(right)))
}

/// What a contender leaves to the developer; a program leaves everything.
fn by_hand(contender: &ContenderPart) -> ByHand {
    contender.by_hand.unwrap_or(ByHand { statements: usize::MAX, columns: usize::MAX, characters: usize::MAX })
}

/// Whether there are fewer statements or columns; a few characters less are no comfort.
fn is_less_work(left: &ContenderPart, right: &ContenderPart) -> bool {
    let (left, right) = (by_hand(left), by_hand(right));
    (left.statements, left.columns) < (right.statements, right.columns)
}

type Reading = (&'static str, Option<f64>, f64, fn(f64) -> String);

/// Each requirement: its name, what the contender has, what is allowed, and how to say it.
fn readings(contender: &ContenderPart, require: &Require) -> Vec<Reading> {
    let time = |limit: Option<std::time::Duration>| limit.map(|limit| limit.as_nanos() as f64);
    let whole = |number: Option<u64>| number.map(|number| number as f64);
    let number: fn(f64) -> String = |number| count(number as u64);
    let size: fn(f64) -> String = |number| bytes(number as u64);
    let all = [
        ("p95", contender.latency_ns.p95, time(require.p95), duration as fn(f64) -> String),
        ("median", contender.latency_ns.median, time(require.median), duration),
        ("memory", whole(contender.heap_peak_bytes), whole(require.memory), size),
        ("statements", whole(contender.statements), whole(require.statements), number),
        ("round trips", whole(contender.round_trips), whole(require.round_trips), number),
        ("rows", whole(contender.rows), whole(require.rows), number),
    ];
    all.into_iter().filter_map(|(name, has, limit, say)| Some((name, has, limit?, say))).collect()
}

fn misses(contender: &ContenderPart, require: &Require) -> Vec<String> {
    let missed = readings(contender, require).into_iter().filter_map(|(name, has, limit, say)| match has {
        None => Some(format!("{name} not known, {} allowed", say(limit))),
        Some(has) if has > limit => Some(format!("{name} {}, {} allowed", say(has), say(limit))),
        Some(_) => None,
    });
    missed.collect()
}

/// The contender that comes nearest to each requirement.
fn nearest(contenders: &[ContenderPart], eligible: &[usize], require: &Require) -> Vec<String> {
    let Some(&first) = eligible.first() else { return Vec::new() };
    let names = readings(&contenders[first], require).len();
    let best = (0..names).filter_map(|which| {
        let has = eligible.iter().filter_map(|&at| Some((at, readings(&contenders[at], require)[which].1?)));
        let (at, value) = has.min_by(|(_, left), (_, right)| left.total_cmp(right))?;
        let (name, _, limit, say) = readings(&contenders[at], require)[which];
        Some(format!("{name}: {} with {}, {} allowed", contenders[at].name, say(value), say(limit)))
    });
    best.collect()
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::document::Latency;

    fn contender(name: &str, median: f64, outcome: Outcome, statements: usize) -> ContenderPart {
        ContenderPart {
            name: name.to_owned(),
            choices: None,
            sql: Vec::new(),
            outcome,
            reason: None,
            rounds: Vec::new(),
            latency_ns: Latency { median: Some(median), p95: Some(median * 1.2), ..Latency::default() },
            cpu_ns: None,
            statements: Some(1),
            round_trips: None,
            rows: None,
            bytes: None,
            wire_bytes: None,
            objects: None,
            heap_peak_bytes: Some(1000),
            allocations: None,
            engine_bytes: None,
            counted: Default::default(),
            answer: None,
            by_hand: Some(ByHand { statements, columns: 0, characters: 0 }),
        }
    }

    #[test]
    fn without_requirements_the_fastest_and_the_most_comfortable_near_it() {
        let mut field = [
            contender("fast", 5e6, Outcome::Standing, 1),
            contender("alike", 5.1e6, Outcome::Unresolved, 2),
            contender("easy", 5.9e6, Outcome::Slower, 0),
            contender("easy but slow", 9e6, Outcome::Outclassed, 0),
        ];
        let verdict = decide(&mut field, &Require::default());
        assert_eq!((verdict.choose, verdict.comfortable, verdict.alike), (Some(0), Some(2), vec![1]));
        field[2].outcome = Outcome::Disagrees;
        assert_eq!(decide(&mut field, &Require::default()).comfortable, None);
    }

    #[test]
    fn with_requirements_the_least_work_that_meets_them() {
        let field = || [contender("fast", 5e6, Outcome::Standing, 1), contender("easy", 50e6, Outcome::Outclassed, 0)];
        let mut meets = field();
        let require = Require { p95: Some(Duration::from_millis(100)), ..Require::default() };
        assert_eq!(decide(&mut meets, &require).choose, Some(1));
        let mut tight = field();
        let require = Require { p95: Some(Duration::from_millis(10)), ..Require::default() };
        assert_eq!(decide(&mut tight, &require).choose, Some(0));
        assert_eq!(tight[1].outcome, Outcome::RuledOut);
        assert_eq!(tight[1].reason.as_deref(), Some("p95 60.0 ms, 10.0 ms allowed"));
        let mut nobody = field();
        nobody[0].latency_ns.p95 = None;
        let require = Require { p95: Some(Duration::from_millis(1)), memory: Some(10), ..Require::default() };
        let verdict = decide(&mut nobody, &require);
        assert_eq!(verdict.choose, None);
        assert_eq!(verdict.nearest, ["p95: easy with 60.0 ms, 1.00 ms allowed", "memory: fast with 1000 B, 10 B allowed"]);
        assert_eq!(nobody[0].reason.as_deref(), Some("p95 not known, 1.00 ms allowed; memory 1000 B, 10 B allowed"));
    }
}
