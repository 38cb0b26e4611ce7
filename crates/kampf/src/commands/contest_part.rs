//! From what was run to its part of the result document.

use std::collections::BTreeMap;

use kampf_race::median;
use kampf_runner::{CheckedVerdict, Checks, Contest, EntryWay, RaceOptions, RaceReport, Timed};

use super::circumstances::Circumstances;
use crate::document::{AnswerPart, ContenderPart, ContestPart, EnginePart, Latency, Mattered, Outcome, RacePart, VerdictPart};
use crate::project::{ContestConfig, Project};
use crate::store::Dataset;
use crate::verdict::decide;

/// What a contest ran on.
pub(super) struct Surroundings<'a> {
    pub(super) project: &'a Project,
    pub(super) dataset: &'a Dataset,
    pub(super) circumstances: &'a Circumstances,
}

/// The contest's part, with everything that follows from the rounds.
pub(super) fn contest_part(
    on: &Surroundings<'_>,
    config: &ContestConfig,
    contest: &Contest,
    checks: &Checks,
    options: &RaceOptions,
    report: &RaceReport,
) -> ContestPart {
    let settings = options.settings;
    let mut part = ContestPart {
        name: contest.name.clone(),
        about: config.about.clone(),
        kind: "read".to_owned(),
        need: contest.need_text.clone(),
        conditions: on.circumstances.document(),
        variant: BTreeMap::new(),
        engine: EnginePart {
            name: on.project.engine.name().to_owned(),
            version: on.dataset.record.engine_version.clone(),
            settings: real_settings(on.project, on.dataset),
        },
        dataset: on.dataset.record.fingerprint.clone(),
        require: config.require.clone(),
        race: RacePart {
            rounds: report.race.rounds(),
            seconds: report.total.as_secs_f64(),
            measured_seconds: report.measured.as_secs_f64(),
            interrupted: report.interrupted,
            reference: checks.reference_by.clone(),
            margin: settings.margin,
            alpha: settings.alpha,
            most_rounds: settings.most_rounds,
            time_seconds: options.time.as_secs_f64(),
            exact: settings.exact,
            keep_below_ns: settings.keep_below,
            seed: options.seed,
            round_seconds: report.last_round.as_secs_f64(),
            noise: None,
            forecast: Vec::new(),
            reference_loop_ns: report.reference_loop.clone(),
            cpu_pressure: report.pressure,
        },
        contenders: contenders(contest, checks, report, on.project.engine.trips_are_modelled()),
        verdict: VerdictPart::default(),
        mattered: Mattered::default(),
    };
    decide(&mut part);
    part
}

/// The engine's settings as they really are, which on a server of somebody else's only the server knows.
fn real_settings(project: &Project, dataset: &Dataset) -> BTreeMap<String, String> {
    let settings = project.engine.connect(dataset.served.url(), &project.settings).and_then(|connection| connection.settings());
    let settings = match settings {
        Ok(settings) => settings,
        // The server may be gone by now; what was asked for is known.
        Err(_) => project.settings.clone(),
    };
    settings.into_iter().map(|setting| (setting.name, setting.value)).collect()
}

/// The contenders as they were measured; how they stand is worked out later.
fn contenders(contest: &Contest, checks: &Checks, report: &RaceReport, modelled_trips: bool) -> Vec<ContenderPart> {
    let digest = checks.references.first().map(|reference| {
        let answer = reference.answer(contest.limit());
        AnswerPart { rows: answer.len() as u64, digest: kampf_contest::digest(answer, reference.is_ordered()) }
    });
    let failed: Vec<usize> =
        report.race.standings().iter().filter(|one| one.outcome == kampf_race::Outcome::Failed).map(|one| one.contender).collect();
    let part = |at: usize| {
        let (entry, entrant, checked) = (&contest.entries[at], &report.entrants[at], &checks.entries[at]);
        let outcome = match &checked.verdict {
            CheckedVerdict::Disagrees(..) => Outcome::Disagrees,
            _ if entrant.disagrees => Outcome::Disagrees,
            CheckedVerdict::Failed(_) | CheckedVerdict::Undecided => Outcome::Failed,
            CheckedVerdict::Agrees if failed.contains(&at) => Outcome::Failed,
            CheckedVerdict::Agrees => Outcome::Unresolved,
        };
        let reason = entrant.reason.clone().or_else(|| match &checked.verdict {
            CheckedVerdict::Agrees => None,
            CheckedVerdict::Disagrees(..) => Some("its answer differs; it was not timed".to_owned()),
            CheckedVerdict::Undecided => Some("its answer cannot be decided; add an order term".to_owned()),
            CheckedVerdict::Failed(trouble) => Some(trouble.to_string()),
        });
        let raced = &entrant.raced;
        let mut part = ContenderPart {
            name: entry.name.clone(),
            choices: entry.choices,
            sql: match &entry.way {
                EntryWay::Plan(plan) => plan.statements(),
                EntryWay::Program(..) => Vec::new(),
            },
            outcome,
            reason,
            rounds: raced.rounds.clone(),
            p95_rounds: raced.p95.clone(),
            in_check_ns: match entrant.timed {
                Timed::InRounds => None,
                Timed::InCheck(nanos) => Some(nanos),
            },
            latency_ns: Latency { cold: median(&raced.cold), ..Latency::default() },
            against: None,
            left: None,
            trade_off: false,
            cpu_ns: median(&raced.cpu),
            statements: None,
            round_trips: None,
            rows: None,
            bytes: None,
            wire_bytes: None,
            objects: None,
            heap_peak_bytes: None,
            allocations: None,
            engine_bytes: None,
            counted: BTreeMap::new(),
            answer: digest.clone().filter(|_| checked.verdict == CheckedVerdict::Agrees),
            by_hand: entry.by_hand,
        };
        if let Some(counts) = &raced.counts {
            part.take_counts(counts, matches!(entry.way, EntryWay::Program(..)), modelled_trips);
        }
        part
    };
    (0..contest.entries.len()).map(part).collect()
}
