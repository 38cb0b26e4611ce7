//! From what was raced to its document.

use kampf_contest::Opt;
use kampf_race::{Goal, Interval};
use kampf_verdict::{
    ByChoice, ChoiceEnd, Cost, Effect, FetchWorth, HeatFacts, IndexWorth, Keeps, KeptWorth, KeysOfType, Left, OptionChange, OtherOption,
    Outcome, Pair, Ratio, Reading, Requirements, RunsBeside, Step, Verdict, Wins,
};

use crate::counts::{CountsPart, RequirePart, counted_part, range_part};
use crate::parse::{FORMAT, VERSION};
use crate::parts::{
    AgainstPart, ByChoicePart, ConditionsPart, ContenderPart, ContestPart, Document, EffectPart, FetchWorthPart, ForecastPart, HeatPart,
    IndexWorthPart, KeptPart, KeptWorthPart, KeysWorthPart, LatencyPart, LeftPart, MatteredPart, OptionChangePart, OtherOptionPart,
    PairPart, RacePart, RequiredPart, StepPart, VerdictPart, WorthPart,
};
use crate::require_words::{miss_text, nearest_text};
use crate::run::{RacedContest, RacedRun, Shown};

impl Document {
    /// The document of a run.
    pub fn of(run: &RacedRun) -> Document {
        Document {
            format: FORMAT.to_owned(),
            version: VERSION,
            kampf: run.kampf.clone(),
            machine: run.machine.clone(),
            dataset: run.dataset.clone(),
            contests: run.contests.iter().map(contest).collect(),
        }
    }
}

fn contest(raced: &RacedContest) -> ContestPart {
    let (course, settings, verdict) = (&raced.course, &raced.facts.settings, &raced.verdict);
    ContestPart {
        name: raced.name.clone(),
        about: raced.about.clone(),
        kind: raced.kind.word().to_owned(),
        need: raced.need.clone(),
        conditions: ConditionsPart::of(&raced.circumstance, &raced.arranged),
        variant: raced.variants.clone(),
        engine: raced.engine.clone(),
        dataset: raced.dataset.clone(),
        warnings: raced.warnings.clone(),
        require: RequirePart(raced.facts.require.clone()),
        race: RacePart {
            rounds: raced.facts.rounds,
            seconds: course.seconds,
            measured_seconds: course.measured_seconds,
            interrupted: course.interrupted,
            not_confirmed: course.not_confirmed.clone(),
            reference: course.reference.clone(),
            margin: settings.margin,
            alpha: settings.alpha,
            most_rounds: settings.most_rounds,
            time_seconds: course.time_seconds,
            exact: settings.goal == Goal::Exact,
            pair: raced.facts.pair.map(|(old, new)| (raced.name_of(old).to_owned(), raced.name_of(new).to_owned())),
            heats: heats(raced),
            entrants: settings.entrants,
            rests: settings.rests,
            keeps_nothing: raced.facts.keeps_nothing,
            check_seconds: course.check_seconds,
            confirm_seconds: course.confirm_seconds,
            keep_below_ns: settings.keep_below,
            may_be_stale: !raced.facts.require.fresh,
            seed: course.seed,
            round_seconds: course.round_seconds,
            noise: verdict.noise,
            forecast: verdict.forecasts.iter().filter_map(|one| Some(ForecastPart { margin: one.margin, rounds: one.rounds? })).collect(),
            reference_loop_ns: course.reference_loop.clone(),
            cpu_pressure: course.cpu_pressure,
        },
        contenders: raced.contenders().map(|one| contender(raced, one)).collect(),
        verdict: verdict_part(raced),
        worth: worth(raced),
        mattered: MatteredPart {
            ladder: verdict.ladder.iter().map(|one| step(raced, one)).collect(),
            effects: verdict.effects.iter().map(effect).collect(),
        },
    }
}

fn heats(raced: &RacedContest) -> Vec<HeatPart> {
    let name = |at: usize| raced.name_of(at).to_owned();
    let mut there = raced.facts.starters();
    let part = |heat: &HeatFacts| {
        let entered = there..there + heat.entered;
        there = entered.end;
        HeatPart {
            after: heat.after,
            anchor: name(heat.anchor),
            members: heat.members.iter().map(|&at| name(at)).collect(),
            entered: entered.map(name).collect(),
        }
    };
    raced.facts.heats.iter().map(part).collect()
}

fn contender(raced: &RacedContest, Shown { at, facts, placed, extra }: Shown<'_>) -> ContenderPart {
    let misses = || placed.readings.iter().filter(|reading| reading.keeps == Keeps::No).map(miss_text).collect::<Vec<_>>().join("; ");
    let ruled_out = (placed.outcome == Outcome::RuledOut).then(misses);
    ContenderPart {
        name: facts.name.clone(),
        choices: facts.choices,
        sql: extra.sql.clone(),
        outcome: placed.outcome.word().to_owned(),
        reason: facts.fault.as_ref().map(|fault| fault.reason.clone()).or(ruled_out),
        beside: placed.beside.map(|beside| beside_word(beside).to_owned()),
        keeps_nothing: facts.keeps_nothing,
        failed_after: facts.fault.as_ref().map(|fault| fault.after),
        rounds: facts.rounds.clone(),
        ran: stretches(&facts.ran),
        cold_rounds: facts.cold_rounds.clone(),
        p95_rounds: facts.p95_rounds.clone(),
        in_check_ns: facts.in_check,
        latency_ns: LatencyPart {
            median: placed.median,
            shown: placed.shown,
            low: placed.range.map(|(low, _)| low),
            high: placed.range.map(|(_, high)| high),
            p95: placed.p95,
            cold: facts.cold,
        },
        required: placed.readings.iter().map(required).collect(),
        against: against(raced, at),
        left: placed.left.as_ref().map(|one| left(raced, one)),
        trade_off: placed.trade_off,
        cpu_ns: extra.cpu,
        kept: facts.kept.as_ref().map(KeptPart::of),
        held: facts.held.clone(),
        counts: CountsPart::of(&facts.measured),
        counted: counted_part(&facts.measured),
        counted_range: range_part(&facts.measured),
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

fn against(raced: &RacedContest, at: usize) -> Option<AgainstPart> {
    let (placed, leader) = (&raced.verdict.placed[at], raced.verdict.fastest?);
    let ratio = placed.behind.filter(|ratio| at != leader && (placed.common_rounds > 0 || ratio.interval.is_some()))?;
    Some(AgainstPart {
        leader: raced.name_of(leader).to_owned(),
        rounds: placed.common_rounds,
        ratio: ratio.ratio,
        low: low(&ratio),
        high: high(&ratio),
        still_moving: placed.still_moving,
    })
}

fn beside_word(beside: RunsBeside) -> &'static str {
    match beside {
        RunsBeside::Floor => "floor",
        RunsBeside::Stale => "stale",
        RunsBeside::RuledOut => "ruled_out",
    }
}

/// Rounds as stretches of one after the other, from 1; nothing where they are simply the first ones.
fn stretches(ran: &[usize]) -> Vec<(usize, usize)> {
    let mut stretches: Vec<(usize, usize)> = Vec::new();
    for round in ran.iter().map(|round| round + 1) {
        match stretches.last_mut() {
            Some((_, last)) if *last + 1 == round => *last = round,
            _ => stretches.push((round, round)),
        }
    }
    if stretches.len() <= 1 && stretches.first().is_none_or(|(first, _)| *first == 1) { Vec::new() } else { stretches }
}

fn required(reading: &Reading) -> RequiredPart {
    RequiredPart {
        name: reading.required.name(),
        has: reading.has,
        low: reading.interval.map(|sure| sure.low),
        high: reading.interval.map(|sure| sure.high),
        limit: reading.limit,
        keeps: match reading.keeps {
            Keeps::Yes => "yes",
            Keeps::Provisional => "provisional",
            Keeps::No => "no",
        }
        .to_owned(),
    }
}

fn by_choice(raced: &RacedContest, one: &ByChoice) -> ByChoicePart {
    let other = |OtherOption { option, contender, also, cost }: &OtherOption| {
        let part = OtherOptionPart {
            option: option.to_string(),
            contender: raced.name_of(*contender).to_owned(),
            also: also.iter().map(Opt::to_string).collect(),
            at_least: None,
            at_most: None,
            between: None,
        };
        match *cost {
            Cost::AtLeast(least) => OtherOptionPart { at_least: Some(least), ..part },
            Cost::AtMost(most) => OtherOptionPart { at_most: Some(most), ..part },
            Cost::Less(sure) => OtherOptionPart { between: Some((sure.low, sure.high)), ..part },
            Cost::Open { interval, .. } => OtherOptionPart { between: interval.map(|sure| (sure.low, sure.high)), ..part },
        }
    };
    let end = match one.end(raced.facts.settings.margin) {
        ChoiceEnd::Decided => "decided",
        ChoiceEnd::NoDifference => "no_difference",
        ChoiceEnd::Known => "known",
        ChoiceEnd::Open => "open",
    };
    ByChoicePart {
        choice: one.choice.word().to_owned(),
        end: end.to_owned(),
        option: one.option.to_string(),
        contender: raced.name_of(one.base).to_owned(),
        others: one.others.iter().map(other).collect(),
    }
}

fn pair(raced: &RacedContest, pair: &Pair) -> PairPart {
    PairPart {
        old: raced.name_of(pair.old).to_owned(),
        new: raced.name_of(pair.new).to_owned(),
        ratio: pair.ratio.map(|ratio| ratio.ratio),
        low: pair.ratio.as_ref().and_then(low),
        high: pair.ratio.as_ref().and_then(high),
        finding: pair.finding.word().to_owned(),
    }
}

fn left(raced: &RacedContest, Left { round, leader, times, .. }: &Left) -> LeftPart {
    LeftPart { round: *round, leader: leader.map(|leader| raced.name_of(leader).to_owned()).unwrap_or_default(), times: *times }
}

fn verdict_part(raced: &RacedContest) -> VerdictPart {
    let verdict: &Verdict = &raced.verdict;
    let name = |at: Option<usize>| at.map(|at| raced.name_of(at).to_owned());
    let named = |outcome: Outcome| {
        let with = raced.contenders().filter(|contender| contender.placed.outcome == outcome);
        with.map(|contender| contender.facts.name.clone()).collect::<Vec<_>>()
    };
    let names = |places: &[usize]| places.iter().map(|&at| raced.name_of(at).to_owned()).collect::<Vec<_>>();
    let (provisional, nearest) = match &verdict.requirements {
        Some(Requirements::Provisional { contenders }) => (names(contenders), Vec::new()),
        Some(Requirements::Met { easier }) => (names(easier), Vec::new()),
        Some(Requirements::Missed { nearest }) => {
            (Vec::new(), nearest.iter().map(|nearest| nearest_text(nearest, raced.name_of(nearest.contender))).collect())
        }
        None => (Vec::new(), Vec::new()),
    };
    VerdictPart {
        decided: verdict.is_decided(),
        end: verdict.end.word().to_owned(),
        leader: name(verdict.leader),
        choose: name(verdict.choose),
        tied: named(Outcome::Tied),
        not_faster: named(Outcome::NotFaster),
        alike: named(Outcome::Unresolved),
        requirements_met: verdict.requirements.as_ref().map(|_| verdict.choose.is_some()),
        provisional,
        nearest,
        by_choice: verdict.by_choice.iter().map(|one| by_choice(raced, one)).collect(),
        pair: verdict.pair.as_ref().map(|one| pair(raced, one)),
    }
}

fn worth(raced: &RacedContest) -> WorthPart {
    let worth = &raced.verdict.worth;
    let name = |at: usize| raced.name_of(at).to_owned();
    let kept = |one: &KeptWorth| KeptWorthPart {
        contender: name(one.contender),
        mixed_ns: one.mixed,
        best: one.best.map(name),
        wins_from: match one.wins {
            Some(Wins::Always) => Some(0.0),
            Some(Wins::From(share)) => Some(share),
            Some(Wins::Never) | None => None,
        },
        bytes: one.bytes,
        spared_ns: one.spared,
    };
    let fetch = |one: &FetchWorth| FetchWorthPart {
        contenders: one.contenders.iter().map(|&at| name(at)).collect(),
        rows: one.rows,
        row_bytes: one.row_bytes,
        fitting_rows: one.fitting,
    };
    let index = |one: &IndexWorth| IndexWorthPart {
        variant: one.variant.clone(),
        plain: one.plain.map(name),
        best: one.best.map(name),
        finding: one.finding.word().to_owned(),
        load_share: one.load_share,
    };
    let of_type = |own: Option<usize>, one: &KeysOfType| KeysWorthPart {
        variant: one.variant.clone(),
        contender: one.contender.map(name),
        own: own.map(name),
        time: one.time,
        bytes: one.bytes,
        load: one.load,
    };
    WorthPart {
        kept: worth.kept.iter().map(kept).collect(),
        fetch: worth.fetch.as_ref().map(fetch),
        indexes: worth.indexes.iter().map(index).collect(),
        keys: worth.keys.iter().flat_map(|keys| keys.types.iter().map(|one| of_type(keys.own, one))).collect(),
    }
}

fn step(raced: &RacedContest, step: &Step) -> StepPart {
    StepPart {
        from: raced.name_of(step.from).to_owned(),
        to: raced.name_of(step.to).to_owned(),
        changes: step.changes.iter().map(change).collect(),
        before_ns: step.before_ns,
        after_ns: step.after_ns,
        ratio: step.ratio.ratio,
        low: low(&step.ratio),
        high: high(&step.ratio),
    }
}

fn change(change: &OptionChange) -> OptionChangePart {
    let word = |option: Option<Opt>| option.map(|option| option.to_string());
    OptionChangePart { choice: change.choice.word().to_owned(), before: word(change.before), after: word(change.after) }
}

fn effect(effect: &Effect) -> EffectPart {
    EffectPart {
        choice: effect.before.choice().word().to_owned(),
        before: effect.before.to_string(),
        after: effect.after.to_string(),
        pairs: effect.pairs,
        ratio: effect.ratio.ratio,
        low: low(&effect.ratio),
        high: high(&effect.ratio),
        least: effect.least,
        most: effect.most,
    }
}
