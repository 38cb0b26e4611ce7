//! No verdict contradicts itself, whatever was measured.

use crate::common::{contender, facts, failed};
use kampf_contest::{ByHand, Measure};
use kampf_verdict::{
    ContenderFacts, Cost, End, Facts, FaultKind, HeatFacts, Keeps, Outcome, Required, Requirements, RunsBeside, Verdict, judge,
};
use proptest::prelude::*;

const NAMES: [&str; 9] = [
    "lazy.app.all.managed",
    "lazy.database.all.managed",
    "joined.database.all.managed",
    "computed.database.all.managed",
    "computed.database.all.plain",
    "computed.database.needed.plain",
    "computed.database.needed.record",
    "computed.database.needed.raw",
    "mine",
];

/// One contender: its time, its noise, and in which rounds it runs.
fn various() -> impl Strategy<Value = (f64, f64, u8, u8)> {
    (0.0f64..2.0, 0.0f64..0.5, 0u8..20, 0u8..4)
}

fn field() -> impl Strategy<Value = Facts> {
    let race = (1usize..60, 0usize..4, any::<u64>(), any::<bool>());
    (prop::collection::vec(various(), 1..NAMES.len()), race).prop_map(|(all, (many, require, seed, keeps_nothing))| {
        let mut state = seed | 1;
        let mut chance = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as f64 / f64::from(1u32 << 31)
        };
        let contenders = all.iter().zip(NAMES).map(|(&(time, noise, kind, hand), name)| {
            let value = |chance: f64| 1e6 * time.exp() * (noise * (chance * 2.0 - 1.0)).exp();
            let values: Vec<f64> = (0..many).map(|_| value(chance())).collect();
            let mut one = contender(name, values);
            match kind {
                // Some rest for a while, some leave, one fails, one did not start.
                0..4 => {
                    let ran: Vec<usize> =
                        (0..many).filter(|round| *round < 9 || (round / 5 + usize::from(kind)).is_multiple_of(2)).collect();
                    one.rounds = ran.iter().map(|&round| one.rounds[round]).collect();
                    one.ran = ran;
                }
                4 => {
                    one.rounds.truncate(3);
                    one.ran.truncate(3);
                }
                5 => one = failed(one, FaultKind::Failed),
                6 => {
                    one.in_check = one.rounds.first().map(|first| first * 30.0);
                    (one.rounds, one.ran) = (Vec::new(), Vec::new());
                }
                _ => {}
            }
            one.p95_rounds = one.rounds.iter().map(|value| value * 1.3).collect();
            one.by_hand = Some(ByHand { statements: usize::from(hand), columns: 0, characters: 0 });
            one
        });
        let mut facts = facts(contenders.collect());
        facts.rounds = many;
        if seed % 3 == 0 {
            heats(&mut facts, seed / 3);
        }
        facts.keeps_nothing = keeps_nothing;
        if require == 1 {
            facts.require.set(Required::P95, 2.5e6);
        }
        if require == 2 {
            facts.require.set(Required::Count(Measure::Statements), 1.0);
        }
        facts
    })
}

/// Makes a race of two or three heats of one: the last ones enter later, some of the first heat do not go on.
fn heats(facts: &mut Facts, seed: u64) {
    let (all, rounds) = (facts.contenders.len(), facts.rounds);
    let late = (seed % 4) as usize;
    let starters = all.saturating_sub(late).max(1);
    let (after, anchor) = (1 + (seed / 4) as usize % rounds, (seed / 64) as usize % starters);
    let members: Vec<usize> = (0..all).filter(|at| *at != anchor && (*at >= starters || (seed >> (16 + at)) & 1 == 0)).collect();
    for (at, one) in facts.contenders.iter_mut().enumerate() {
        let is_there = |round: usize| if at >= starters { round >= after } else { round < after || at == anchor || members.contains(&at) };
        let kept: Vec<(usize, f64)> =
            one.ran.iter().copied().zip(one.rounds.iter().copied()).filter(|(round, _)| is_there(*round)).collect();
        (one.ran, one.rounds) = kept.into_iter().unzip();
        one.p95_rounds = one.rounds.iter().map(|value| value * 1.3).collect();
        if one.rounds.is_empty() && one.in_check.is_none() && one.fault.is_none() {
            *one = failed(one.clone(), FaultKind::Failed);
        }
    }
    facts.settings.entrants = 24;
    facts.heats = vec![HeatFacts { after, anchor, members, entered: all - starters }];
    let next = after + (rounds - after) / 2;
    if seed & 1 == 0 && next > after {
        facts.heats.push(HeatFacts { after: next, anchor: all - 1, members: Vec::new(), entered: 0 });
    }
}

/// What a verdict says in any of its parts of one contender's time over another's: who, over whom, and between what it lies.
fn said(verdict: &Verdict) -> Vec<(&'static str, usize, usize, f64, f64)> {
    let base = verdict.fastest.expect("somebody was timed");
    let mut said = Vec::new();
    for (at, placed) in verdict.placed.iter().enumerate().filter(|(at, _)| *at != base) {
        if let Some(sure) = placed.behind.and_then(|behind| behind.interval) {
            said.push(("table", at, base, sure.low, sure.high));
        }
        // Who left was slower than the leader of then, and the table says when.
        let is_of_now = placed.left.is_none_or(|left| left.leader == Some(base));
        if is_of_now && matches!(placed.outcome, Outcome::Slower | Outcome::Outclassed) {
            said.push(("word", at, base, 1.0 + f64::EPSILON, f64::INFINITY));
        }
    }
    for step in &verdict.ladder {
        if let Some(sure) = step.ratio.interval {
            said.push(("ladder", step.to, step.from, sure.low, sure.high));
        }
    }
    for one in &verdict.by_choice {
        for other in &one.others {
            match other.cost {
                Cost::AtLeast(least) => said.push(("by choice", other.contender, one.base, least, f64::INFINITY)),
                Cost::AtMost(most) => said.push(("by choice", other.contender, one.base, 0.0, most)),
                Cost::Less(sure) | Cost::Open { interval: Some(sure), .. } => {
                    said.push(("by choice", other.contender, one.base, sure.low, sure.high));
                }
                _ => {}
            }
        }
    }
    said
}

proptest! {
    #![proptest_config(kampf_mangle::property(400))]

    #[test]
    fn no_verdict_contradicts_itself(facts in field()) {
        let verdict = judge(&facts);
        prop_assert_eq!(&judge(&facts), &verdict, "it follows from the facts alone");
        let mut order = verdict.order.clone();
        order.sort_unstable();
        prop_assert_eq!(order, (0..facts.contenders.len()).collect::<Vec<_>>());
        let Some(leader) = verdict.fastest else {
            prop_assert_eq!((verdict.end, verdict.choose, verdict.leader), (End::Nothing, None, None));
            return Ok(());
        };
        // Who surely misses what is required does not lead.
        let is_out = verdict.placed[leader].beside == Some(RunsBeside::RuledOut);
        prop_assert_eq!(verdict.leader, (!is_out).then_some(leader));
        if let Some(Requirements::Missed { nearest }) = &verdict.requirements {
            // Who keeps nothing comes near to nothing.
            let may_come = |(at, one): (usize, &ContenderFacts)| {
                one.is_eligible() && one.measured != Default::default() && facts.beside(at) != Some(RunsBeside::Floor)
            };
            prop_assert!(!nearest.is_empty() || !facts.contenders.iter().enumerate().any(may_come));
            for one in nearest {
                let reading = verdict.placed[one.contender].readings.iter().find(|reading| reading.required == one.required);
                prop_assert!(reading.is_some_and(|reading| reading.keeps != Keeps::Yes && reading.has == Some(one.has)), "{:?}", one);
            }
        }
        // What is known of two is the same in the table, up the ladder and by choice: who is slower there is not perhaps faster here.
        let said = said(&verdict);
        let turned = |&(part, one, other, low, high): &(&'static str, usize, usize, f64, f64)| (part, other, one, 1.0 / high, 1.0 / low);
        for first in &said {
            for second in said.iter().copied().chain(said.iter().map(turned)).filter(|second| (second.1, second.2) == (first.1, first.2)) {
                let (low, high) = (first.3.max(second.3), first.4.min(second.4));
                prop_assert!(low <= high * (1.0 + 1e-9), "{:?} and {:?} cannot both be so", first, second);
                let is_told = |low: f64, high: f64| low > 1.0 || high < 1.0;
                // A bound to one side is told too.
                let is_open = |low: f64, high: f64| low > 0.0 && low < 1.0 && high > 1.1 && high < f64::INFINITY;
                prop_assert!(!(is_told(first.3, first.4) && is_open(second.3, second.4)), "{:?} is told and {:?} is not", first, second);
            }
        }
        let best = verdict.placed[leader].shown.unwrap();
        // One figure of each: the leader's times the ratio, and rows in the order of that.
        let mut before = 0.0;
        for &at in &verdict.order {
            let placed = &verdict.placed[at];
            if matches!(placed.outcome, Outcome::Disagrees | Outcome::Failed) {
                continue;
            }
            let (shown, ratio) = (placed.shown.unwrap(), placed.behind.unwrap());
            prop_assert!((shown / best / ratio.ratio - 1.0).abs() < 1e-9);
            prop_assert!(ratio.ratio >= before, "rows stand by what they are behind");
            before = ratio.ratio;
            if let Some(sure) = ratio.interval {
                prop_assert!(sure.low <= ratio.ratio && ratio.ratio <= sure.high, "{:?}", placed);
            }
            // The word says what the interval says.
            let (margin, word) = (1.0 + facts.settings.margin, placed.outcome);
            match word {
                Outcome::Standing => prop_assert_eq!(Some(at), verdict.leader),
                Outcome::Tied => prop_assert!(ratio.low() > 1.0 / margin && ratio.high() < margin),
                Outcome::Faster => prop_assert!(placed.beside.is_some() && ratio.high() < 1.0),
                Outcome::Slower => prop_assert!(placed.left.is_some() || ratio.ratio > margin),
                _ => {}
            }
        }
        // What is decided is decided for all that may be chosen.
        let open = |at: &usize| verdict.placed[*at].outcome == Outcome::Unresolved && verdict.placed[*at].beside.is_none();
        if verdict.end == End::Decided {
            prop_assert!(!(0..facts.contenders.len()).any(|at| open(&at)));
            prop_assert!(verdict.forecasts.is_empty());
        }
        if let Some(choose) = verdict.choose {
            prop_assert!(facts.contenders[choose].is_eligible() && verdict.placed[choose].beside.is_none(), "{choose} {:?}", verdict.placed);
            prop_assert!(verdict.placed[choose].readings.iter().all(|reading| reading.keeps == Keeps::Yes));
        }
        match &verdict.requirements {
            Some(Requirements::Met { .. }) => prop_assert!(verdict.choose.is_some()),
            Some(_) => prop_assert!(verdict.choose.is_none()),
            None => prop_assert!(facts.require.is_empty(), "{:?}", verdict.end),
        }
        // The ladder goes up and down by the figures of the table, each step from where the last one ended.
        for pair in verdict.ladder.windows(2) {
            prop_assert_eq!((pair[0].to, pair[0].after_ns), (pair[1].from, pair[1].before_ns));
        }
        for step in &verdict.ladder {
            prop_assert_eq!((Some(step.before_ns), Some(step.after_ns)), (verdict.placed[step.from].shown, verdict.placed[step.to].shown));
            prop_assert!((step.after_ns / step.before_ns / step.ratio.ratio - 1.0).abs() < 1e-9);
            prop_assert!(step.ratio.low() <= step.ratio.ratio * (1.0 + 1e-9) && step.ratio.ratio <= step.ratio.high() * (1.0 + 1e-9));
        }
        // A choice says of an option what the table says of those that have it.
        for one in &verdict.by_choice {
            prop_assert_eq!(facts.contenders[one.base].choices.and_then(|choices| choices.of(one.choice)), Some(one.option));
            for other in &one.others {
                prop_assert_ne!(other.option, one.option);
                prop_assert_eq!(facts.contenders[other.contender].choices.and_then(|choices| choices.of(one.choice)), Some(other.option));
                let behind = verdict.placed[other.contender].behind.unwrap();
                // Who costs something by what is sure is not shown as much faster.
                let shown = |at: usize| verdict.placed[at].shown.unwrap();
                if let Cost::AtLeast(least) = other.cost {
                    prop_assert!(shown(other.contender) > 0.5 * least * shown(one.base), "{:?} of {:?}", other, one);
                }
                match other.cost {
                    Cost::AtMost(most) if one.base == leader => {
                        prop_assert!(most <= 1.1 + 1e-9 && (most - behind.high()).abs() < 1e-9);
                    }
                    Cost::AtLeast(least) => prop_assert!(least >= 1.0),
                    _ => {}
                }
            }
        }
    }
}
