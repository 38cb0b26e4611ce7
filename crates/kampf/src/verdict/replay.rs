//! The race again, from the values of its rounds.

use kampf_race::{Forecaster, Outcome as Raced, Race, RaceSettings, Standing, Why, p95};

use crate::document::{Against, ContenderPart, ContestPart, ForecastPart, Left, Outcome};

/// Margins that a forecast is made for, besides the one asked for.
const MARGINS: [f64; 4] = [0.02, 0.03, 0.05, 0.1];

/// Runs the race again from the saved rounds, enters how each contender stands, and sorts them, best first. Whether it decided.
pub(super) fn stand(part: &mut ContestPart) -> bool {
    let race = replayed(part);
    let names: Vec<String> = part.contenders.iter().map(|contender| contender.name.clone()).collect();
    let mut order = Vec::with_capacity(names.len());
    for standing in race.standings() {
        order.push(standing.contender);
        enter(&mut part.contenders[standing.contender], &standing, &names);
    }
    part.race.noise = race.noise();
    // Where only one has started there is nothing to decide, however well its time is known.
    let decided = race.leader().is_some() && (race.is_told() || race.starters() == 1);
    part.race.forecast = if decided { Vec::new() } else { forecasts(&race, part.race.margin) };
    let leader = race.leader().map(|leader| names[leader].clone()).unwrap_or_default();
    let mut contenders: Vec<Option<ContenderPart>> = part.contenders.drain(..).map(Some).collect();
    part.contenders.extend(order.into_iter().filter_map(|at| contenders[at].take()));
    for contender in part.contenders.iter_mut().filter(|contender| contender.in_check_ns.is_some()) {
        contender.left = Some(Left { round: 0, leader: leader.clone(), times: None });
    }
    let place = |contender: &ContenderPart| match contender.outcome {
        Outcome::Standing => (0, 0.0),
        Outcome::Disagrees | Outcome::Failed => (2, contender.latency_ns.median.unwrap_or(f64::INFINITY)),
        _ => (1, contender.latency_ns.median.unwrap_or(f64::INFINITY)),
    };
    part.contenders.sort_by(|left, right| {
        let ((left_class, left), (right_class, right)) = (place(left), place(right));
        left_class.cmp(&right_class).then(left.total_cmp(&right))
    });
    decided
}

/// The race of a contest's rounds; places are those of its contenders.
fn replayed(part: &ContestPart) -> Race {
    let settings = RaceSettings {
        margin: part.race.margin,
        alpha: part.race.alpha,
        most_rounds: part.race.most_rounds,
        exact: part.race.exact,
        keep_below: part.race.keep_below_ns,
        ..RaceSettings::default()
    };
    let contenders = &part.contenders;
    let mut race = Race::new(contenders.len(), settings);
    for (at, contender) in contenders.iter().enumerate().filter(|(_, contender)| contender.rounds.is_empty()) {
        if contender.in_check_ns.is_some() { race.leave_out(at) } else { race.fail(at) }
    }
    for round in 0..part.race.rounds {
        fail_after(&mut race, contenders, round);
        let values: Vec<Option<f64>> = contenders.iter().map(|contender| contender.rounds.get(round).copied()).collect();
        race.record(&values);
    }
    fail_after(&mut race, contenders, part.race.rounds);
    race
}

/// Takes out those that failed, or gave another answer, after so many rounds.
fn fail_after(race: &mut Race, contenders: &[ContenderPart], rounds: usize) {
    for (at, contender) in contenders.iter().enumerate() {
        let failed = matches!(contender.outcome, Outcome::Failed | Outcome::Disagrees);
        if failed && rounds > 0 && contender.rounds.len() == rounds {
            race.fail(at);
        }
    }
}

fn enter(contender: &mut ContenderPart, standing: &Standing, names: &[String]) {
    if !matches!(contender.outcome, Outcome::Disagrees | Outcome::Failed) {
        contender.outcome = match standing.outcome {
            Raced::Standing => Outcome::Standing,
            Raced::Tied => Outcome::Tied,
            Raced::Slower => Outcome::Slower,
            Raced::Outclassed => Outcome::Outclassed,
            Raced::Unresolved => Outcome::Unresolved,
            Raced::Failed => Outcome::Failed,
        };
    }
    let interval = standing.interval.map(|interval| (interval.low, interval.high)).or(standing.range);
    let latency = &mut contender.latency_ns;
    latency.median = standing.median.or(contender.in_check_ns);
    latency.low = interval.map(|(low, _)| low);
    latency.high = interval.map(|(_, high)| high);
    latency.p95 = p95(&contender.rounds, &contender.p95_rounds);
    contender.against = standing.gap.map(|gap| Against {
        leader: names[gap.leader].clone(),
        rounds: gap.rounds,
        ratio: gap.ratio,
        low: gap.interval.map(|interval| interval.low),
        high: gap.interval.map(|interval| interval.high),
        still_moving: gap.is_moving,
    });
    contender.left = standing.left.map(|drop| Left {
        round: drop.round,
        leader: names[drop.leader].clone(),
        times: match drop.why {
            Why::Outclassed { times } => Some(times),
            Why::Slower => None,
        },
    });
}

/// Rounds in all that a decision would take, for the margin asked for and for wider ones.
fn forecasts(race: &Race, margin: f64) -> Vec<ForecastPart> {
    let forecaster = Forecaster::new(race);
    let margins = std::iter::once(margin).chain(MARGINS.into_iter().filter(|wider| *wider > margin));
    margins.filter_map(|margin| Some(ForecastPart { margin, rounds: forecaster.rounds(race, margin)? })).collect()
}
