//! Races between made-up contenders whose true times are known: is the right one found, how often is a word wrong, and at what
//! cost? `KAMPF_SIMULATIONS=2000` runs more races of each kind than the 500 of a usual test run; `--nocapture` shows what came of them.

#![allow(clippy::print_stdout, reason = "figures for the documentation")]

use crate::chance::{CLOSE, normal, races};
use kampf_race::{Departure, Finding, Goal, Race, RaceSettings, Why};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// How one run varies.
#[derive(Clone, Copy)]
struct Noise {
    /// Standard deviation of the logarithm.
    sigma: f64,
    /// Share of runs that last 2 to 10 times as long.
    spikes: f64,
    /// Correlation of a contender's luck from round to round.
    memory: f64,
}

const fn noise(sigma: f64) -> Noise {
    Noise { sigma, spikes: 0.0, memory: 0.0 }
}

/// What came of many races.
#[derive(Debug, Default)]
struct Tally {
    races: f64,
    /// The race is decided, and its leader at most the margin behind the truly fastest.
    right: f64,
    /// Contenders called slower or outclassed.
    slower: f64,
    /// It is decided.
    decided: f64,
    /// One that is truly the fastest was dropped.
    best_dropped: f64,
    /// Anybody was dropped.
    any_drop: f64,
    /// Everybody is tied with the leader.
    all_tied: f64,
    /// Of all runs together, in times of one round of all.
    cost: f64,
    rounds: f64,
}

fn simulate(name: &str, times: &[f64], noise: Noise, settings: RaceSettings) -> Tally {
    let mut tally = Tally::default();
    for number in 0..races(500) as u64 {
        let mut random = Pcg64Mcg::seed_from_u64((kampf_mangle::seed() << 32) + number);
        let mut luck: Vec<f64> = times.iter().map(|_| normal(&mut random)).collect();
        let mut race = Race::new(times.len(), settings);
        let mut drops: Vec<Departure> = Vec::new();
        let (mut spent, all) = (0.0, times.iter().sum::<f64>());
        while race.rounds() < settings.most_rounds && !race.is_decided() {
            let running = race.running();
            let fresh = (1.0 - noise.memory * noise.memory).sqrt();
            luck.iter_mut().for_each(|luck| *luck = noise.memory * *luck + fresh * normal(&mut random));
            let round: Vec<Option<f64>> = (0..times.len())
                .map(|at| {
                    let spiked = random.random::<f64>() < noise.spikes;
                    let long = if spiked { 2.0 + 8.0 * random.random::<f64>() } else { 1.0 };
                    running.contains(&at).then(|| times[at] * (noise.sigma * luck[at]).exp() * long)
                })
                .collect();
            spent += running.iter().map(|&at| times[at]).sum::<f64>();
            drops.extend(race.record(&round));
        }
        let standings = race.standings();
        let is_slower = |finding| matches!(finding, Finding::Slower | Finding::Outclassed);
        let leader = standings.iter().position(|standing| standing.finding == Finding::Leads);
        let best = times.iter().copied().fold(f64::INFINITY, f64::min);
        let is_right = race.is_decided() && leader.is_some_and(|leader| times[leader] <= best * (1.0 + settings.margin));
        let truth = |truth: bool| f64::from(u8::from(truth));
        tally.races += 1.0;
        tally.right += truth(is_right);
        tally.decided += truth(race.is_decided());
        tally.slower += standings.iter().filter(|standing| is_slower(standing.finding)).count() as f64;
        tally.best_dropped += truth(drops.iter().any(|drop| times[drop.contender] <= best));
        tally.any_drop += truth(!drops.is_empty());
        let tied = standings.iter().filter(|standing| matches!(standing.finding, Finding::Leads | Finding::Tied)).count();
        tally.all_tied += truth(race.is_decided() && tied == times.len());
        tally.cost += spent / all;
        tally.rounds += race.rounds() as f64;
    }
    let races = tally.races;
    for sum in [
        &mut tally.right,
        &mut tally.decided,
        &mut tally.slower,
        &mut tally.best_dropped,
        &mut tally.any_drop,
        &mut tally.all_tied,
        &mut tally.cost,
        &mut tally.rounds,
    ] {
        *sum /= races;
    }
    println!("{name}: {tally:?}");
    tally
}

/// Twelve from 1 to 100 times.
fn geometric() -> Vec<f64> {
    (0..12).map(|at| 100f64.powf(f64::from(at) / 11.0)).collect()
}

fn at_most(rounds: usize) -> RaceSettings {
    RaceSettings { most_rounds: rounds, ..RaceSettings::default() }
}

fn exact(rounds: usize) -> RaceSettings {
    RaceSettings { goal: Goal::Exact, ..two_percent(rounds) }
}

fn two_percent(rounds: usize) -> RaceSettings {
    RaceSettings { margin: 0.02, ..at_most(rounds) }
}

const SPIKY: Noise = Noise { sigma: 0.05, spikes: 0.05, memory: 0.0 };

#[test]
fn wide_fields_are_decided_at_little_cost() {
    let tally = simulate("1x to 100x, 10 %", &geometric(), noise(0.1), two_percent(400));
    assert!(tally.best_dropped <= 0.005 && tally.right >= 0.99 && tally.cost <= 2.8, "{tally:?}");
    let tally = simulate("1x to 100x, 5 % and spikes", &geometric(), SPIKY, two_percent(400));
    assert!(tally.right >= 0.99 && tally.cost <= 3.5, "{tally:?}");
    let steps: Vec<f64> = (0..12).map(|at| 1.0 + 0.15 * f64::from(at.min(1)) + 0.165 * f64::from((at - 1).max(0))).collect();
    let tally = simulate("1, 1.15 to 2.8, 5 %", &steps, noise(0.05), at_most(400));
    assert!(tally.right >= 0.99 && tally.slower >= 10.3 && tally.cost <= 20.0, "{tally:?}");
}

#[test]
fn a_leader_that_nobody_beats_by_the_margin_is_found_among_near_ones() {
    let tally = simulate("seven within 5 % and five from 1.3 to 5, 5 %", &CLOSE, noise(0.05), at_most(300));
    assert!(tally.right >= 0.99 && tally.rounds <= 52.0 && tally.cost <= 19.0 && tally.slower >= 2.8, "{tally:?}");
    let mut times = vec![1.0, 1.03];
    times.extend((0..10).map(|at| 1.3 * (30f64 / 1.3).powf(f64::from(at) / 9.0)));
    let tally = simulate("1, 1.03, ten slower, 3 %, to 2 %", &times, noise(0.03), two_percent(400));
    assert!(tally.right >= 0.98 && tally.rounds <= 28.0 && tally.cost <= 5.0, "{tally:?}");
    let tally = simulate("1 and 1.1, 5 %", &[1.0, 1.1], noise(0.05), at_most(300));
    assert!(tally.right >= 0.98 && tally.rounds <= 12.0, "{tally:?}");
}

#[test]
fn equals_are_not_separated_and_soon_nobody_is_faster() {
    let tally = simulate("twelve equals, 5 %", &[1.0; 12], noise(0.05), at_most(200));
    assert!(tally.rounds <= 92.0 && tally.cost <= 58.0 && tally.best_dropped <= 0.02 && tally.right >= 0.99, "{tally:?}");
    let tally = simulate("twelve equals, 5 % and spikes", &[1.0; 12], SPIKY, at_most(200));
    assert!(tally.rounds <= 108.0 && tally.cost <= 69.0 && tally.best_dropped <= 0.02, "{tally:?}");
    let tally = simulate("twelve equals, 5 % and spikes, 60 rounds, to 2 %", &[1.0; 12], SPIKY, two_percent(60));
    assert!(tally.any_drop <= 0.02, "{tally:?}");
    let tally = simulate("twelve equals, 2 %, to 2 %, all to the end", &[1.0; 12], noise(0.02), exact(100));
    assert!(tally.slower <= 0.01, "{tally:?}");
    let tally = simulate("four equals, 3 %, to 2 %, all to the end", &[1.0; 4], noise(0.03), exact(400));
    assert!(tally.all_tied >= 0.97, "{tally:?}");
}

#[test]
fn luck_that_lasts_is_seen_and_without_looking_for_it_equals_are_separated() {
    let lasting = Noise { memory: 0.5, ..noise(0.1) };
    let seen = RaceSettings { rests: false, ..two_percent(120) };
    let tally = simulate("twelve equals, lasting luck, 120 rounds", &[1.0; 12], lasting, seen);
    assert!(tally.any_drop <= 0.06, "{tally:?}");
    let blind = RaceSettings { correct_likeness: false, ..seen };
    let tally = simulate("the same, not looked for", &[1.0; 12], lasting, blind);
    assert!(tally.any_drop > 0.06, "{tally:?}");
}

#[test]
fn no_more_contenders_are_outclassed_than_really_are() {
    // Twice as slow is slower, and takes some rounds to tell; it is never outclassed.
    let mut random = Pcg64Mcg::seed_from_u64((kampf_mangle::seed() << 32) + 3);
    for _ in 0..races(500) {
        let mut race = Race::new(2, RaceSettings::default());
        let mut left = Vec::new();
        while !race.is_decided() {
            let mut run = |time: f64| Some(time * (1.0 + 0.1 * random.random::<f64>()));
            let round = [run(1.0), run(2.0)];
            left.extend(race.record(&round));
        }
        assert!(left.iter().all(|drop| drop.why == Why::Slower && drop.round >= 8), "{left:?}");
    }
}
