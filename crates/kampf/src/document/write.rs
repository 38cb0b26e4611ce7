//! From what was raced to its document.

use std::collections::BTreeMap;

use kampf_race::Interval;
use kampf_verdict::{Against, Effect, Left, Outcome, Ratio, Step, Verdict};

use super::counts::{CountsPart, RequirePart, counted_part};
use super::parts::{
    AgainstPart, ContenderPart, ContestPart, Document, EffectPart, ForecastPart, LatencyPart, LeftPart, MatteredPart, RacePart, StepPart,
    VerdictPart,
};
use crate::output::{miss_text, nearest_text};
use crate::raced::{RacedContest, RacedRun, Shown};

impl Document {
    /// The document of a run.
    pub(crate) fn of(run: &RacedRun) -> Document {
        Document {
            format: "kampf-result".to_owned(),
            version: 1,
            kampf: run.kampf.clone(),
            machine: run.machine.clone(),
            dataset: run.dataset.clone(),
            contests: run.contests.iter().map(contest).collect(),
        }
    }
}

fn contest(raced: &RacedContest) -> ContestPart {
    let (course, rules, verdict) = (&raced.course, &raced.facts.rules, &raced.verdict);
    ContestPart {
        name: raced.name.clone(),
        about: raced.about.clone(),
        kind: "read".to_owned(),
        need: raced.need.clone(),
        conditions: raced.conditions.clone(),
        variant: BTreeMap::new(),
        engine: raced.engine.clone(),
        dataset: raced.dataset.clone(),
        require: RequirePart(raced.facts.require.clone()),
        race: RacePart {
            rounds: raced.facts.rounds,
            seconds: course.seconds,
            measured_seconds: course.measured_seconds,
            interrupted: course.interrupted,
            reference: course.reference.clone(),
            margin: rules.margin,
            alpha: rules.alpha,
            most_rounds: rules.most_rounds,
            time_seconds: course.time_seconds,
            exact: rules.exact,
            keep_below_ns: rules.keep_below,
            seed: course.seed,
            round_seconds: course.round_seconds,
            noise: verdict.noise,
            forecast: verdict.forecasts.iter().map(|one| ForecastPart { margin: one.margin, rounds: one.rounds }).collect(),
            reference_loop_ns: course.reference_loop.clone(),
            cpu_pressure: course.cpu_pressure,
        },
        contenders: raced.contenders().map(|one| contender(raced, one)).collect(),
        verdict: verdict_part(raced),
        mattered: MatteredPart {
            ladder: verdict.ladder.iter().map(|one| step(raced, one)).collect(),
            effects: verdict.effects.iter().map(effect).collect(),
        },
    }
}

fn contender(raced: &RacedContest, Shown { facts, placed, extra, .. }: Shown<'_>) -> ContenderPart {
    let misses = || placed.misses.iter().map(miss_text).collect::<Vec<_>>().join("; ");
    let ruled_out = (placed.outcome == Outcome::RuledOut).then(misses);
    ContenderPart {
        name: facts.name.clone(),
        choices: facts.choices,
        sql: extra.sql.clone(),
        outcome: placed.outcome.word().to_owned(),
        reason: facts.fault.as_ref().map(|fault| fault.reason.clone()).or(ruled_out),
        rounds: facts.rounds.clone(),
        p95_rounds: facts.p95_rounds.clone(),
        in_check_ns: facts.in_check,
        latency_ns: LatencyPart {
            median: placed.median,
            low: placed.range.map(|(low, _)| low),
            high: placed.range.map(|(_, high)| high),
            p95: placed.p95,
            cold: facts.cold,
        },
        against: placed.against.as_ref().map(|one| against(raced, one)),
        left: placed.left.as_ref().map(|one| left(raced, one)),
        trade_off: placed.trade_off,
        cpu_ns: extra.cpu,
        counts: CountsPart::of(&facts.measured),
        counted: counted_part(&facts.measured),
        answer: extra.answer.clone(),
        by_hand: facts.by_hand,
    }
}

fn low(ratio: &Ratio) -> Option<f64> {
    ratio.interval.map(|Interval { low, .. }| low)
}

fn high(ratio: &Ratio) -> Option<f64> {
    ratio.interval.map(|Interval { high, .. }| high)
}

fn against(raced: &RacedContest, Against { leader, rounds, ratio, still_moving }: &Against) -> AgainstPart {
    AgainstPart {
        leader: raced.name_of(*leader).to_owned(),
        rounds: *rounds,
        ratio: ratio.ratio,
        low: low(ratio),
        high: high(ratio),
        still_moving: *still_moving,
    }
}

fn left(raced: &RacedContest, Left { round, leader, times }: &Left) -> LeftPart {
    LeftPart { round: *round, leader: leader.map(|leader| raced.name_of(leader).to_owned()).unwrap_or_default(), times: *times }
}

fn verdict_part(raced: &RacedContest) -> VerdictPart {
    let verdict: &Verdict = &raced.verdict;
    let name = |at: Option<usize>| at.map(|at| raced.name_of(at).to_owned());
    let named = |outcome: Outcome| {
        let with = raced.contenders().filter(|contender| contender.placed.outcome == outcome);
        with.map(|contender| contender.facts.name.clone()).collect::<Vec<_>>()
    };
    VerdictPart {
        decided: verdict.decided,
        leader: name(verdict.leader),
        choose: name(verdict.choose),
        comfortable: name(verdict.comfortable),
        tied: named(Outcome::Tied),
        alike: named(Outcome::Unresolved),
        requirements_met: verdict.requirements_met,
        nearest: verdict.nearest.iter().map(|nearest| nearest_text(nearest, raced.name_of(nearest.contender))).collect(),
    }
}

fn step(raced: &RacedContest, step: &Step) -> StepPart {
    StepPart {
        from: raced.name_of(step.from).to_owned(),
        to: raced.name_of(step.to).to_owned(),
        choice: step.before.choice().word().to_owned(),
        before: step.before.word().to_owned(),
        after: step.after.word().to_owned(),
        before_ns: step.before_ns,
        after_ns: step.after_ns,
        ratio: step.ratio.ratio,
        low: low(&step.ratio),
        high: high(&step.ratio),
    }
}

fn effect(effect: &Effect) -> EffectPart {
    EffectPart {
        choice: effect.before.choice().word().to_owned(),
        before: effect.before.word().to_owned(),
        after: effect.after.word().to_owned(),
        pairs: effect.pairs,
        ratio: effect.ratio.ratio,
        low: low(&effect.ratio),
        high: high(&effect.ratio),
        least: effect.least,
        most: effect.most,
    }
}
