//! From a document to what was measured; what follows from that is worked out again.

use kampf_verdict::{ContenderFacts, Facts, Fault, FaultKind, Outcome, Rules, Verdict};

use super::parts::{ContenderPart, ContestPart, Document, MOST_ROUNDS};
use crate::raced::{Course, Extra, RacedContest, RacedRun};

impl ContestPart {
    /// What in it cannot be: it was not written by a race, and working with it could take for ever.
    pub(crate) fn contradiction(&self) -> Option<String> {
        let ContestPart { name, race, contenders, .. } = self;
        let is_share = |value: f64| value > 0.0 && value <= 1.0;
        let times =
            |contender: &ContenderPart| contender.rounds.iter().chain(&contender.p95_rounds).all(|time| time.is_finite() && *time > 0.0);
        if race.rounds > MOST_ROUNDS || race.most_rounds > MOST_ROUNDS {
            return Some(format!("`{name}` says it had {} of {} rounds", race.rounds, race.most_rounds));
        }
        if !is_share(race.margin) || !is_share(race.alpha) {
            return Some(format!("`{name}` has a margin of {} and an alpha of {}", race.margin, race.alpha));
        }
        let odd = contenders.iter().find(|contender| contender.rounds.len() > race.rounds || !times(contender))?;
        Some(format!("the rounds of `{}` in `{name}` cannot be right", odd.name))
    }
}

impl Document {
    /// What in it cannot be.
    pub(crate) fn contradiction(&self) -> Option<String> {
        self.contests.iter().find_map(ContestPart::contradiction)
    }

    /// What it says was measured, with the verdict that follows.
    pub(crate) fn into_run(self) -> RacedRun {
        let contests = self.contests.into_iter().map(|part| contest(part).judged()).collect();
        RacedRun { kampf: self.kampf, machine: self.machine, dataset: self.dataset, contests }
    }
}

fn contest(part: ContestPart) -> RacedContest {
    let race = part.race;
    let rules =
        Rules { margin: race.margin, alpha: race.alpha, most_rounds: race.most_rounds, exact: race.exact, keep_below: race.keep_below_ns };
    let (contenders, extras) = part.contenders.into_iter().map(contender).unzip();
    RacedContest {
        name: part.name,
        about: part.about,
        need: part.need,
        conditions: part.conditions,
        engine: part.engine,
        dataset: part.dataset,
        course: Course {
            seconds: race.seconds,
            measured_seconds: race.measured_seconds,
            interrupted: race.interrupted,
            reference: race.reference,
            time_seconds: race.time_seconds,
            seed: race.seed,
            round_seconds: race.round_seconds,
            reference_loop: race.reference_loop_ns,
            cpu_pressure: race.cpu_pressure,
        },
        facts: Facts { rules, require: part.require.0, rounds: race.rounds, contenders },
        extras,
        verdict: Verdict::default(),
    }
}

fn contender(part: ContenderPart) -> (ContenderFacts, Extra) {
    // Of the outcome only what was found outside the rounds is a fact; all others follow from these.
    let kind = match Outcome::from_word(&part.outcome) {
        Some(Outcome::Disagrees) => Some(FaultKind::Disagrees),
        Some(Outcome::Failed) => Some(FaultKind::Failed),
        _ => None,
    };
    let facts = ContenderFacts {
        name: part.name,
        choices: part.choices,
        rounds: part.rounds,
        p95_rounds: part.p95_rounds,
        in_check: part.in_check_ns,
        cold: part.latency_ns.cold,
        measured: part.counts.measured(&part.counted),
        by_hand: part.by_hand,
        fault: kind.map(|kind| Fault { kind, reason: part.reason.unwrap_or_default() }),
    };
    (facts, Extra { sql: part.sql, cpu: part.cpu_ns, answer: part.answer })
}
