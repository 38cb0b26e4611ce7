//! Races on a machine whose speed comes in phases: at a stretch, and by turns. `KAMPF_SIMULATIONS=2000` runs more races of each kind than the
//! 300 of a usual test run; `--nocapture` shows what came of them.

#![allow(clippy::print_stdout, reason = "figures for the documentation")]

use crate::chance::{CLOSE, normal, races};
use kampf_race::{Departure, Finding, Race, RaceSettings, Turns};
use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// Microseconds of 40,000 equal calls, one after the other, on two shared cores.
const TRACE: &str = include_str!("../data/calls-on-shared-cores.txt");
const SLOW: f64 = 1.8;

/// What calls take besides what they are.
trait Machine {
    /// How long a call takes that would take so many nanoseconds on a machine that does nothing else, now.
    fn call(&mut self, nanos: f64) -> f64;
    /// Time passes with starts.
    fn passes(&mut self, nanos: f64);
    /// What has passed.
    fn now(&self) -> f64;
}

/// A machine with two speeds, each for times that are drawn by the exponential distribution, and a little noise beside it.
struct TwoSpeeds {
    random: Pcg64Mcg,
    dwell: f64,
    is_slow: bool,
    left: f64,
    sigma: f64,
    now: f64,
}

impl TwoSpeeds {
    fn new(seed: u64, dwell: f64, sigma: f64) -> TwoSpeeds {
        let mut machine = TwoSpeeds { random: Pcg64Mcg::seed_from_u64(seed), dwell, is_slow: false, left: 0.0, sigma, now: 0.0 };
        machine.is_slow = machine.random.random::<f64>() < 0.5;
        machine.left = machine.stay();
        machine
    }

    fn stay(&mut self) -> f64 {
        -self.dwell * (1.0 - self.random.random::<f64>()).ln()
    }
}

impl Machine for TwoSpeeds {
    fn call(&mut self, nanos: f64) -> f64 {
        let mut work = nanos * (self.sigma * normal(&mut self.random)).exp();
        let mut took = 0.0;
        loop {
            let factor = if self.is_slow { SLOW } else { 1.0 };
            if work * factor <= self.left {
                self.left -= work * factor;
                self.now += took + work * factor;
                return took + work * factor;
            }
            took += self.left;
            work -= self.left / factor;
            self.is_slow = !self.is_slow;
            self.left = self.stay();
        }
    }

    fn now(&self) -> f64 {
        self.now
    }

    fn passes(&mut self, nanos: f64) {
        self.now += nanos;
        let mut left = nanos;
        while left > self.left {
            left -= self.left;
            self.is_slow = !self.is_slow;
            self.left = self.stay();
        }
        self.left -= left;
    }
}

/// A machine that takes as long as one has taken, call by call.
struct Recorded {
    calls: Vec<f64>,
    at: usize,
}

impl Recorded {
    fn from(start: usize) -> Recorded {
        let calls: Vec<f64> = TRACE.lines().filter(|line| !line.starts_with('#')).map(|line| line.parse().unwrap()).collect();
        assert_eq!(calls.len(), 40_000);
        Recorded { at: start % calls.len(), calls }
    }
}

impl Machine for Recorded {
    fn call(&mut self, nanos: f64) -> f64 {
        self.at = (self.at + 1) % self.calls.len();
        nanos * self.calls[self.at]
    }

    fn passes(&mut self, _: f64) {}

    fn now(&self) -> f64 {
        0.0
    }
}

/// What a call of a contender takes with a parameter set.
type Cost<'a> = &'a dyn Fn(usize, usize) -> f64;

#[derive(Clone, Copy)]
enum Manner {
    /// Each has all its calls at a stretch; the value is their mean.
    Stretch,
    Turns,
}

/// What is not measured of one in a round: its process and its first call.
fn starts(machine: &mut dyn Machine, call: f64) {
    machine.passes(5e6 + 1.5 * call);
}

/// A round of those that run.
fn round(
    machine: &mut dyn Machine,
    order: &mut [usize],
    all: usize,
    cost: Cost<'_>,
    turns: Turns,
    manner: Manner,
    random: &mut Pcg64Mcg,
) -> Vec<Option<f64>> {
    let mut slices: Vec<Option<Vec<f64>>> = vec![None; all];
    order.shuffle(random);
    order.iter().for_each(|&at| slices[at] = Some(Vec::new()));
    match manner {
        Manner::Stretch => {
            for &at in &*order {
                starts(machine, cost(at, 0));
                slices[at] = Some((0..turns.count()).map(|turn| machine.call(cost(at, turns.set(turn)))).collect());
            }
            slices.iter().map(|own| own.as_ref().map(|own| own.iter().sum::<f64>() / own.len() as f64)).collect()
        }
        Manner::Turns => {
            order.iter().for_each(|&at| starts(machine, cost(at, 0)));
            let mut played = Vec::new();
            for turn in 0..turns.count() {
                order.shuffle(random);
                for &at in &*order {
                    let took = machine.call(cost(at, turns.set(turn)));
                    slices[at].as_mut().unwrap().push(took);
                    played.push(at);
                }
            }
            turns.values(&played, &slices)
        }
    }
}

/// What came of many races.
#[derive(Debug, Default)]
struct Tally {
    /// Shares of races: decided; of those, with a leader at most the margin behind the best; with anybody dropped; with a best one dropped.
    decided: f64,
    right: f64,
    any_drop: f64,
    best_dropped: f64,
    /// The median of the rounds, of those that were not decided as many as there could be.
    rounds: f64,
    /// The median of the time, in seconds.
    seconds: f64,
    /// In how many somebody in particular was told faster than the first.
    second_faster: f64,
}

struct Cell<'a> {
    name: &'a str,
    contenders: usize,
    cost: Cost<'a>,
    /// How often each set is drawn: the true time of a contender is the mean over them.
    sets: usize,
    turns: Turns,
    manner: Manner,
    settings: RaceSettings,
}

fn simulate(cell: &Cell<'_>, machine: &dyn Fn(u64) -> Box<dyn Machine>) -> Tally {
    let truth: Vec<f64> =
        (0..cell.contenders).map(|at| (0..cell.sets).map(|set| (cell.cost)(at, set)).sum::<f64>() / cell.sets as f64).collect();
    let best = truth.iter().copied().fold(f64::INFINITY, f64::min);
    let (mut tally, mut rounds, mut seconds) = (Tally::default(), Vec::new(), Vec::new());
    let races = races(300);
    for number in 0..races as u64 {
        let seed = (kampf_mangle::seed() << 32) + number;
        let (mut machine, mut random) = (machine(seed), Pcg64Mcg::seed_from_u64(seed ^ 0x7077));
        let mut race = Race::new(cell.contenders, cell.settings);
        let mut drops: Vec<Departure> = Vec::new();
        while race.rounds() < cell.settings.most_rounds && !race.is_decided() {
            let mut order = race.running();
            let values = round(machine.as_mut(), &mut order, cell.contenders, cell.cost, cell.turns, cell.manner, &mut random);
            drops.extend(race.record(&values));
        }
        let leader = race.leader().unwrap();
        let share = |is_so: bool| f64::from(u8::from(is_so)) / races as f64;
        tally.decided += share(race.is_decided());
        tally.right += share(race.is_decided() && truth[leader] <= best * (1.0 + cell.settings.margin));
        tally.any_drop += share(!drops.is_empty());
        tally.best_dropped += share(drops.iter().any(|drop| truth[drop.contender] <= best));
        tally.second_faster += share(
            drops.iter().any(|drop| drop.contender == 0)
                || (race.is_decided() && leader == 1 && race.standings()[0].finding != Finding::Tied),
        );
        rounds.push(race.rounds() as f64);
        seconds.push(machine.now() / 1e9);
    }
    tally.right /= tally.decided.max(1e-9);
    tally.rounds = kampf_race::median(&rounds).unwrap();
    tally.seconds = kampf_race::median(&seconds).unwrap();
    println!("{}: {tally:?}", cell.name);
    tally
}

fn close(at: usize, _: usize) -> f64 {
    16e6 * CLOSE[at]
}

fn equal(_: usize, _: usize) -> f64 {
    16e6
}

fn at_most(rounds: usize) -> RaceSettings {
    RaceSettings { most_rounds: rounds, ..RaceSettings::default() }
}

const FOUR: Turns = Turns { sets: 1, passes: 4 };

fn two_speeds(dwell: f64) -> impl Fn(u64) -> Box<dyn Machine> {
    move |seed| Box::new(TwoSpeeds::new(seed, dwell * 1e9, 0.04))
}

/// The close field, at a stretch and by turns.
fn both(dwell: f64) -> (Tally, Tally) {
    let run = |manner, name: &str| {
        let name = format!("phases of {dwell} s, {name}");
        let cell = Cell { name: &name, contenders: 12, cost: &close, sets: 1, turns: FOUR, manner, settings: at_most(120) };
        simulate(&cell, &two_speeds(dwell))
    };
    (run(Manner::Stretch, "at a stretch"), run(Manner::Turns, "by turns"))
}

#[test]
fn phases_shorter_than_a_round_leave_a_race_by_turns_decided() {
    let (stretch, turns) = both(0.1);
    assert!(stretch.decided < 0.5, "else the phases are too harmless to show anything: {stretch:?}");
    assert!(turns.decided >= 0.97 && turns.rounds <= 58.0 && turns.right >= 0.99 && turns.best_dropped <= 0.02, "{turns:?}");
}

#[test]
fn phases_of_half_a_second_cost_a_race_by_turns_little() {
    let (stretch, turns) = both(0.5);
    assert!(turns.decided >= 0.99 && turns.rounds <= 30.0 && turns.right >= 0.99 && turns.best_dropped <= 0.02, "{turns:?}");
    assert!(turns.rounds < 0.7 * stretch.rounds, "{stretch:?} {turns:?}");
}

#[test]
fn phases_of_seconds_cost_a_race_by_turns_next_to_nothing() {
    let (_, turns) = both(2.0);
    assert!(turns.decided >= 0.99 && turns.rounds <= 26.0 && turns.right >= 0.99 && turns.best_dropped <= 0.02, "{turns:?}");
}

#[test]
fn calls_of_a_real_machine_are_told_apart_by_turns_where_they_are_and_equals_are_not() {
    let recorded = |seed: u64| -> Box<dyn Machine> { Box::new(Recorded::from(seed.wrapping_mul(0x9e37_79b9) as usize % 40_000)) };
    let ten = Turns { sets: 1, passes: 10 };
    let cell = |cost, name| Cell { name, contenders: 12, cost, sets: 1, turns: ten, manner: Manner::Turns, settings: at_most(120) };
    let tally = simulate(&cell(&close, "recorded calls, close field"), &recorded);
    assert!(tally.decided >= 0.999 && tally.rounds <= 26.0 && tally.right >= 0.99, "{tally:?}");
    let tally = simulate(&cell(&equal, "recorded calls, twelve equals"), &recorded);
    assert!(tally.decided >= 0.999 && tally.rounds <= 25.0 && tally.any_drop <= 0.02, "{tally:?}");
}

#[test]
fn equals_are_not_separated_while_the_speed_comes_and_goes() {
    for dwell in [0.1, 0.5, 2.0] {
        let name = format!("phases of {dwell} s, twelve equals");
        let cell = Cell { name: &name, contenders: 12, cost: &equal, sets: 1, turns: FOUR, manner: Manner::Turns, settings: at_most(120) };
        let tally = simulate(&cell, &two_speeds(dwell));
        assert!(tally.any_drop <= 0.02, "{tally:?}");
    }
}

#[test]
fn with_parameters_in_one_pass_or_three_the_right_one_is_found() {
    for (call, passes) in [(1e6, 3), (16e6, 1)] {
        let cost = move |at: usize, set: usize| call * CLOSE[at] * (1.0 + 0.3 * set as f64);
        let name = format!("eight sets, {passes} passes, calls of {} ms", call / 1e6);
        let cell = Cell {
            name: &name,
            contenders: 12,
            cost: &cost,
            sets: 8,
            turns: Turns { sets: 8, passes },
            manner: Manner::Turns,
            settings: at_most(120),
        };
        let tally = simulate(&cell, &two_speeds(0.5));
        assert!(tally.decided >= 0.97 && tally.right >= 0.99 && tally.best_dropped <= 0.02, "{tally:?}");
    }
}

#[test]
fn two_alone_and_one_that_is_twenty_times_slower_are_told_apart() {
    let alone = |at: usize, _: usize| 16e6 * [1.0, 1.1][at];
    let settings = at_most(120);
    let cell = Cell { name: "two alone, 1 and 1.1", contenders: 2, cost: &alone, sets: 1, turns: FOUR, manner: Manner::Turns, settings };
    let tally = simulate(&cell, &two_speeds(0.5));
    assert!(tally.decided >= 0.99 && tally.right >= 0.99 && tally.rounds <= 40.0, "{tally:?}");
    let far = |at: usize, _: usize| 16e6 * if at == 11 { 20.0 } else { CLOSE[at] };
    let cell = Cell { name: "one twenty times slower", contenders: 12, cost: &far, ..cell };
    let tally = simulate(&cell, &two_speeds(0.5));
    assert!(tally.decided >= 0.99 && tally.right >= 0.99, "{tally:?}");
}

#[test]
fn one_that_is_dear_with_one_set_in_eight_is_not_told_faster() {
    // The second takes 3 % less with seven sets, and three times as long with the eighth: more in the mean.
    let cost = |at: usize, set: usize| {
        1e6 * if at == 0 {
            1.0
        } else if set == 7 {
            3.0
        } else {
            0.97
        }
    };
    let cell = Cell {
        name: "3 % faster, dear with one set",
        contenders: 2,
        cost: &cost,
        sets: 8,
        turns: Turns { sets: 8, passes: 3 },
        manner: Manner::Turns,
        settings: at_most(120),
    };
    let tally = simulate(&cell, &two_speeds(0.5));
    assert!(tally.second_faster == 0.0 && tally.right >= 0.99 && tally.decided >= 0.99, "{tally:?}");
}

/// How many passes decide soonest, by the length of calls and of phases: figures for a decision.
#[test]
#[ignore = "prints figures, asserts nothing"]
fn passes_that_decide_soonest() {
    let recorded = |seed: u64| -> Box<dyn Machine> { Box::new(Recorded::from(seed.wrapping_mul(0x9e37_79b9) as usize % 40_000)) };
    for passes in [1, 2, 3, 4, 5, 7, 10] {
        let (name, turns) = (format!("recorded calls, {passes} passes"), Turns { sets: 1, passes });
        let cell = Cell { name: &name, contenders: 12, cost: &close, sets: 1, turns, manner: Manner::Turns, settings: at_most(300) };
        simulate(&cell, &recorded);
    }
    for call in [2e6, 16e6, 30e6, 60e6, 120e6, 300e6] {
        for dwell in [0.1, 0.5, 2.0] {
            for passes in [1, 2, 3, 4, 5, 7, 10] {
                let cost = move |at: usize, _: usize| call * CLOSE[at];
                let name = format!("calls of {} ms, phases of {dwell} s, {passes} passes", call / 1e6);
                let turns = Turns { sets: 1, passes };
                let cell = Cell { name: &name, contenders: 12, cost: &cost, sets: 1, turns, manner: Manner::Turns, settings: at_most(150) };
                simulate(&cell, &two_speeds(dwell));
            }
        }
    }
}
