//! Races between made-up contenders whose true times are known: is the right one found, how often is a word wrong, and at what
//! cost? `KAMPF_SIMULATIONS=2000` runs more races of each kind than the 500 of a usual test run; `--nocapture` shows what came of them.

#![allow(clippy::print_stdout, reason = "figures for the documentation")]

use kampf_race::{Drop, Outcome, Race, RaceSettings, Why};
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
    /// The truly fastest stands at the end, and everybody else is slower.
    right: f64,
    /// The truly fastest was dropped.
    best_dropped: f64,
    /// Anybody was dropped.
    any_drop: f64,
    /// Everybody is tied with the leader.
    all_tied: f64,
    /// Of all runs together, in times of one round of all.
    cost: f64,
    rounds: f64,
}

fn races() -> usize {
    std::env::var("KAMPF_SIMULATIONS").ok().and_then(|number| number.parse().ok()).unwrap_or(500)
}

fn simulate(name: &str, times: &[f64], noise: Noise, settings: RaceSettings) -> Tally {
    let mut tally = Tally::default();
    for seed in 0..races() as u64 {
        let mut random = Pcg64Mcg::seed_from_u64(seed);
        let mut luck: Vec<f64> = times.iter().map(|_| normal(&mut random)).collect();
        let mut race = Race::new(times.len(), settings);
        let mut drops: Vec<Drop> = Vec::new();
        let (mut spent, all) = (0.0, times.iter().sum::<f64>());
        while race.rounds() < settings.most_rounds && !race.is_decided() {
            let racing = race.racing();
            let fresh = (1.0 - noise.memory * noise.memory).sqrt();
            luck.iter_mut().for_each(|luck| *luck = noise.memory * *luck + fresh * normal(&mut random));
            let round: Vec<Option<f64>> = (0..times.len())
                .map(|at| {
                    let spiked = random.random::<f64>() < noise.spikes;
                    let long = if spiked { 2.0 + 8.0 * random.random::<f64>() } else { 1.0 };
                    racing.contains(&at).then(|| times[at] * (noise.sigma * luck[at]).exp() * long)
                })
                .collect();
            spent += racing.iter().map(|&at| times[at]).sum::<f64>();
            drops.extend(race.record(&round));
        }
        let standings = race.standings();
        let others = |outcomes: &[Outcome]| standings[1..].iter().all(|standing| outcomes.contains(&standing.outcome));
        let truth = |truth: bool| f64::from(u8::from(truth));
        tally.races += 1.0;
        tally.right += truth(standings[0].contender == 0 && others(&[Outcome::Slower, Outcome::Outclassed]));
        tally.best_dropped += truth(drops.iter().any(|drop| drop.contender == 0));
        tally.any_drop += truth(!drops.is_empty());
        tally.all_tied += truth(race.is_decided() && others(&[Outcome::Tied]));
        tally.cost += spent / all;
        tally.rounds += race.rounds() as f64;
    }
    let races = tally.races;
    for sum in [&mut tally.right, &mut tally.best_dropped, &mut tally.any_drop, &mut tally.all_tied, &mut tally.cost, &mut tally.rounds] {
        *sum /= races;
    }
    println!("{name}: {tally:?}");
    tally
}

/// A normal value (Box and Muller 1958).
fn normal(random: &mut Pcg64Mcg) -> f64 {
    (-2.0 * (1.0 - random.random::<f64>()).ln()).sqrt() * (std::f64::consts::TAU * random.random::<f64>()).cos()
}

/// Twelve from 1 to 100 times.
fn geometric() -> Vec<f64> {
    (0..12).map(|at| 100f64.powf(f64::from(at) / 11.0)).collect()
}

fn at_most(rounds: usize) -> RaceSettings {
    RaceSettings { most_rounds: rounds, ..RaceSettings::default() }
}

#[test]
fn wide_fields_are_decided_at_little_cost() {
    let tally = simulate("1x to 100x, 10 %", &geometric(), noise(0.1), at_most(400));
    assert!(tally.best_dropped <= 0.005 && tally.right >= 0.99 && tally.cost <= 2.8, "{tally:?}");
    let spiky = Noise { spikes: 0.05, ..noise(0.05) };
    let tally = simulate("1x to 100x, 5 % and spikes", &geometric(), spiky, at_most(400));
    assert!(tally.right >= 0.99 && tally.cost <= 3.5, "{tally:?}");
}

#[test]
fn a_difference_of_three_percent_is_found() {
    let mut times = vec![1.0, 1.03];
    times.extend((0..10).map(|at| 1.3 * (30f64 / 1.3).powf(f64::from(at) / 9.0)));
    let tally = simulate("1, 1.03, ten slower, 3 %", &times, noise(0.03), at_most(400));
    assert!(tally.right >= 0.98 && tally.rounds <= 80.0 && tally.cost <= 5.0, "{tally:?}");
}

#[test]
fn equals_are_not_separated_and_are_found_to_be_equal() {
    let spiky = Noise { spikes: 0.05, ..noise(0.05) };
    let tally = simulate("twelve equals, 5 % and spikes, 60 rounds", &[1.0; 12], spiky, at_most(60));
    assert!(tally.any_drop <= 0.02, "{tally:?}");
    let tally = simulate("four equals, 3 %", &[1.0; 4], noise(0.03), at_most(400));
    assert!(tally.all_tied >= 0.97 && tally.any_drop <= 0.025, "{tally:?}");
}

#[test]
fn luck_that_lasts_is_seen_and_without_looking_for_it_equals_are_separated() {
    let lasting = Noise { memory: 0.5, ..noise(0.1) };
    let tally = simulate("twelve equals, lasting luck, 120 rounds", &[1.0; 12], lasting, at_most(120));
    assert!(tally.any_drop <= 0.06, "{tally:?}");
    let blind = RaceSettings { correct_likeness: false, ..at_most(120) };
    let tally = simulate("the same, not looked for", &[1.0; 12], lasting, blind);
    assert!(tally.any_drop > 0.06, "{tally:?}");
}

#[test]
fn no_more_contenders_are_outclassed_than_really_are() {
    // Twice as slow is slower, and takes some rounds to tell; it is never outclassed.
    let mut random = Pcg64Mcg::seed_from_u64(3);
    for _ in 0..races() {
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
