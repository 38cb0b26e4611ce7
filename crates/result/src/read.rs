//! From a document to what was measured; what follows from that is worked out again.

use kampf_contest::Hydration;
use kampf_race::{Goal, RaceSettings};
use kampf_verdict::{ContenderFacts, Facts, Fault, FaultKind, HeatFacts, Outcome, Verdict};

use crate::parts::{ContenderPart, ContestPart, Document, HeatPart, KeptPart, MOST_ROUNDS};
use crate::run::{ContestKind, Course, Extra, RacedContest, RacedRun};

/// Levels are shared with far fewer: what is more was not written by a race.
const MOST_ENTRANTS: usize = 1_000;

impl ContestPart {
    /// What in it cannot be: it was not written by a race, and working with it could take for ever.
    pub fn contradiction(&self) -> Option<String> {
        let ContestPart { name, race, contenders, .. } = self;
        let is_share = |value: f64| value > 0.0 && value <= 1.0;
        let times = |contender: &ContenderPart| {
            contender.rounds.iter().chain(&contender.p95_rounds).chain(&contender.cold_rounds).all(|time| time.is_finite() && *time > 0.0)
        };
        if race.rounds > MOST_ROUNDS || race.most_rounds > MOST_ROUNDS {
            return Some(format!("`{name}` says it had {} of {} rounds", race.rounds, race.most_rounds));
        }
        if !is_share(race.margin) || !is_share(race.alpha) {
            return Some(format!("`{name}` has a margin of {} and an alpha of {}", race.margin, race.alpha));
        }
        let is_there = |name: &String| contenders.iter().any(|contender| contender.name == *name);
        // Nobody runs in a heat who enters for a later one.
        let enters_later = |at: usize, name: &String| race.heats[at + 1..].iter().any(|later| later.entered.contains(name));
        let is_heat = |(at, heat): (usize, &HeatPart)| {
            let mut runs = std::iter::once(&heat.anchor).chain(&heat.members).chain(&heat.entered);
            heat.after <= race.rounds && runs.all(|name| is_there(name) && !enters_later(at, name))
        };
        let mut entered: Vec<&String> = race.heats.iter().flat_map(|heat| &heat.entered).collect();
        let all = entered.len();
        entered.sort_unstable();
        entered.dedup();
        let in_order = race.heats.windows(2).all(|pair| pair[0].after <= pair[1].after);
        if !race.heats.iter().enumerate().all(is_heat) || !in_order || entered.len() != all || race.entrants > MOST_ENTRANTS {
            return Some(format!("the heats of `{name}` cannot be right"));
        }
        let stretches = |contender: &ContenderPart| {
            let ascend = contender.ran.windows(2).all(|pair| pair[0].1 < pair[1].0);
            let inside = contender.ran.iter().all(|&(first, last)| (1..=last).contains(&first) && last <= race.rounds);
            let sum: usize = contender.ran.iter().map(|&(first, last)| (last + 1).saturating_sub(first)).sum();
            contender.ran.is_empty() || (inside && ascend && sum == contender.rounds.len())
        };
        let is_odd = |contender: &&ContenderPart| contender.rounds.len() > race.rounds || !times(contender) || !stretches(contender);
        let odd = contenders.iter().find(is_odd)?;
        Some(format!("the rounds of `{}` in `{name}` cannot be right", odd.name))
    }
}

impl Document {
    /// What in it cannot be.
    pub fn contradiction(&self) -> Option<String> {
        self.contests.iter().find_map(ContestPart::contradiction)
    }

    /// What it says was measured, with the verdict that follows.
    pub fn into_run(self) -> RacedRun {
        let contests = self.contests.into_iter().map(|part| contest(part).judged()).collect();
        RacedRun { kampf: self.kampf, machine: self.machine, dataset: self.dataset, contests }
    }
}

fn contest(part: ContestPart) -> RacedContest {
    let race = part.race;
    let (circumstance, arranged) = part.conditions.told(&part.engine.name);
    let settings = RaceSettings {
        margin: race.margin,
        alpha: race.alpha,
        most_rounds: race.most_rounds,
        goal: match (race.exact, &race.pair) {
            (true, _) => Goal::Exact,
            (false, Some(_)) => Goal::Pair,
            (false, None) => Goal::Choice,
        },
        rests: race.rests,
        entrants: race.entrants,
        keep_below: race.keep_below_ns,
        ..RaceSettings::default()
    };
    // In a document they stand by how far they are behind; who entered later has its place behind the others.
    let entered: Vec<&String> = race.heats.iter().flat_map(|heat| &heat.entered).collect();
    let mut parts = part.contenders;
    parts.sort_by_key(|one| entered.iter().position(|name| **name == one.name).map_or(0, |at| at + 1));
    let (contenders, extras): (Vec<ContenderFacts>, Vec<Extra>) = parts.into_iter().map(contender).unzip();
    let place = |name: &str| contenders.iter().position(|contender| contender.name == name);
    let heat = |part: &HeatPart| {
        let places = |names: &[String]| names.iter().filter_map(|name| place(name)).collect::<Vec<usize>>();
        Some(HeatFacts { after: part.after, anchor: place(&part.anchor)?, members: places(&part.members), entered: part.entered.len() })
    };
    let heats = race.heats.iter().filter_map(heat).collect();
    let pair = race.pair.as_ref().and_then(|(old, new)| Some((place(old)?, place(new)?)));
    let facts = Facts {
        settings,
        keeps_nothing: race.keeps_nothing,
        require: part.require.0.with_fresh(!race.may_be_stale),
        rounds: race.rounds,
        contenders,
        heats,
        pair,
        hit_rate: circumstance.hit_rate,
        variants: part.variant.iter().map(|(name, variant)| (name.clone(), variant.facts())).collect(),
    };
    RacedContest {
        name: part.name,
        about: part.about,
        need: part.need,
        circumstance,
        kind: ContestKind::ALL.into_iter().find(|kind| kind.word() == part.kind).unwrap_or_default(),
        arranged,
        engine: part.engine,
        variants: part.variant,
        dataset: part.dataset,
        warnings: part.warnings,
        course: Course {
            seconds: race.seconds,
            measured_seconds: race.measured_seconds,
            interrupted: race.interrupted,
            not_confirmed: race.not_confirmed,
            reference: race.reference,
            check_seconds: race.check_seconds,
            confirm_seconds: race.confirm_seconds,
            time_seconds: race.time_seconds,
            seed: race.seed,
            round_seconds: race.round_seconds,
            reference_loop: race.reference_loop_ns,
            cpu_pressure: race.cpu_pressure,
        },
        facts,
        extras,
        verdict: Verdict::default(),
    }
}

fn contender(part: ContenderPart) -> (ContenderFacts, Extra) {
    // Of the outcome only what was found outside the rounds is a fact; all others follow from these.
    let kind = match Outcome::from_word(&part.outcome) {
        Some(Outcome::Disagrees) => Some(FaultKind::Disagrees),
        Some(Outcome::Failed) => Some(FaultKind::Failed),
        Some(Outcome::NotBelieved) => Some(FaultKind::NotBelieved),
        _ => None,
    };
    // The first rounds, one after the other, where it is not said which.
    let ran = if part.ran.is_empty() {
        (0..part.rounds.len()).collect()
    } else {
        part.ran.iter().flat_map(|&(first, last)| first.saturating_sub(1)..last).take(part.rounds.len()).collect()
    };
    let is_raw = part.choices.and_then(|choices| choices.get()) == Some(Hydration::Raw);
    let after = part.failed_after.unwrap_or(part.rounds.len());
    let facts = ContenderFacts {
        name: part.name,
        choices: part.choices,
        keeps_nothing: part.keeps_nothing || is_raw,
        ran,
        cold_rounds: part.cold_rounds,
        rounds: part.rounds,
        p95_rounds: part.p95_rounds,
        in_check: part.in_check_ns,
        cold: part.latency_ns.cold,
        measured: part.counts.measured(&part.counted, &part.counted_range),
        kept: part.kept.as_ref().map(KeptPart::facts),
        held: part.held,
        answer_rows: part.answer.as_ref().map(|answer| answer.rows),
        by_hand: part.by_hand,
        fault: kind.map(|kind| Fault { kind, reason: part.reason.unwrap_or_default(), after }),
    };
    (facts, Extra { sql: part.sql, cpu: part.cpu_ns, answer: part.answer })
}
