//! Contenders that enter after the first heat: what is said of them, and how often that is wrong.

#![allow(clippy::print_stdout, reason = "figures for the documentation")]

use crate::chance::{CLOSE, normal, races};
use kampf_race::{Departure, Finding, Race, RaceSettings, Why};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// As many as may enter after the first heat, by the design.
const ENTRANTS: usize = 24;

fn settings() -> RaceSettings {
    RaceSettings { most_rounds: 400, entrants: ENTRANTS, ..RaceSettings::default() }
}

/// Rounds in which those that run take these times, with a little luck of their own.
fn run(race: &mut Race, rounds: usize, times: &[f64]) -> Vec<Departure> {
    let mut drops = Vec::new();
    for _ in 0..rounds {
        let (round, running) = (race.rounds(), race.running());
        let luck = |at: usize| 1.0 + 0.004 * ((round * 7 + at * 3) % 11) as f64 / 11.0;
        let values: Vec<Option<f64>> = (0..times.len()).map(|at| running.contains(&at).then(|| times[at] * luck(at))).collect();
        drops.extend(race.record(&values));
    }
    drops
}

fn finding(race: &Race, at: usize) -> Finding {
    race.standings()[at].finding
}

#[test]
fn who_enters_late_leads_from_the_eighth_round_that_it_and_the_leader_ran() {
    let mut race = Race::new(3, settings());
    run(&mut race, 12, &[1.0, 1.2, 1.5]);
    assert_eq!((race.leader(), race.rounds()), (Some(0), 12));
    let late = race.enter();
    race.begin_heat(0, &[late]);
    assert_eq!((late, race.anchor(), race.running(), race.is_late(late)), (3, Some(0), vec![0, 3], true));
    let times = [1.0, 1.2, 1.5, 0.5];
    run(&mut race, 7, &times);
    assert_eq!((race.leader(), finding(&race, late), race.standings()[late].rounds), (Some(0), Finding::Open, 7));
    assert!(!race.beats_anchor() && !race.is_decided());
    run(&mut race, 1, &times);
    assert_eq!(race.leader(), Some(late));
    // How it stands is known as soon as the level for those that enter allows a word.
    run(&mut race, 12, &times);
    assert!(race.beats_anchor() && race.is_decided());
    assert_eq!(race.standings()[0].gap.map(|gap| (gap.ratio * 10.0).round()), Some(20.0));
}

#[test]
fn the_anchor_never_rests_and_members_rest_or_leave_by_their_pair_with_it() {
    let mut race = Race::new(4, settings());
    // The second leads by little; the first one is to be taken.
    let times = [1.0, 0.98, 1.01, 1.4];
    run(&mut race, 14, &times);
    assert_eq!(race.leader(), Some(1));
    let (same, slow, far) = (race.enter(), race.enter(), race.enter());
    race.begin_heat(0, &[same, slow, far]);
    let times = [1.0, 0.98, 1.01, 1.4, 1.0, 1.3, 30.0];
    let drops = run(&mut race, 40, &times);
    assert!(race.is_decided());
    assert_eq!(race.running(), [0, 1], "the anchor, and whoever leads");
    let of = |at: usize| drops.iter().find(|drop| drop.contender == at).unwrap();
    assert_eq!((of(slow).leader, of(slow).why), (0, Why::Slower));
    assert!(matches!(of(far).why, Why::Outclassed { times } if times > 20.0));
    assert!(of(far).round == 14 + 2, "{of:?}", of = of(far));
    assert!(race.standings()[same].rounds < 40 && race.standings()[0].rounds == 54);
    // It rests from when it surely is not faster.
    assert!(matches!(finding(&race, same), Finding::Tied | Finding::NotFaster), "{:?}", finding(&race, same));
}

#[test]
fn who_has_no_round_with_the_leader_is_told_by_one_that_ran_with_both() {
    let mut race = Race::new(3, settings());
    let times = [1.0, 1.02, 3.5];
    run(&mut race, 12, &times);
    let late = race.enter();
    race.begin_heat(0, &[late]);
    let times = [1.0, 1.02, 3.5, 0.5];
    run(&mut race, 20, &times);
    assert_eq!(race.leader(), Some(late));
    for (at, ratio) in [(1, 2.04), (2, 7.0)] {
        let standing = race.standings()[at].clone();
        let gap = standing.gap.expect("it is chained");
        assert!((gap.ratio / ratio - 1.0).abs() < 0.02 && gap.leader == late, "{standing:?}");
    }
    let gap = race.standings()[1].gap.unwrap();
    assert_eq!((finding(&race, 1), gap.rounds), (Finding::Slower, 0));
    assert!(gap.interval.is_some_and(|sure| sure.low > 1.9 && sure.high < 2.2), "{gap:?}");
    assert!(race.is_told());
    // Nothing leads to one whose link could not be run in the end.
    race.fail(0);
    assert_eq!((finding(&race, 1), race.anchor()), (Finding::Open, None));
    assert!(!race.is_told());
}

#[test]
fn one_that_is_open_in_the_first_heat_is_a_member_of_the_next() {
    let mut race = Race::new(3, settings());
    // After six rounds nothing is known of anybody.
    run(&mut race, 6, &[1.0, 1.05, 1.6]);
    race.begin_heat(0, &[]);
    assert_eq!(race.running(), [0, 1, 2]);
    run(&mut race, 24, &[1.0, 1.05, 1.6]);
    assert!(race.is_decided() && race.is_told());
    assert_eq!(finding(&race, 2), Finding::Slower);
}

#[test]
fn it_is_known_enough_when_nobody_can_be_faster_by_a_tenth() {
    let known_after = |times: &[f64]| {
        let mut race = Race::new(times.len(), settings());
        let decided = (1..60).find(|_| {
            run(&mut race, 1, times);
            race.is_decided()
        });
        let mut race = Race::new(times.len(), settings());
        let known = (1..60).find(|_| {
            run(&mut race, 1, times);
            race.is_known_enough()
        });
        (known, decided)
    };
    // As soon as there is an interval at all; one that is behind by a third stays open until it is slower.
    assert_eq!(known_after(&[1.0, 1.03]), (Some(8), Some(8)));
    let (known, decided) = known_after(&[1.0, 1.03, 1.35]);
    assert!(known < decided, "{known:?} {decided:?}");
    assert_eq!(known_after(&[1.0]).0, Some(8));
}

#[test]
fn with_some_to_enter_the_chance_of_a_wrong_word_is_shared_with_them() {
    let rounds_to_drop = |entrants: usize| {
        let mut race = Race::new(2, RaceSettings { entrants, ..RaceSettings::default() });
        (1..40).find(|_| !run(&mut race, 1, &[1.0, 1.6]).is_empty()).unwrap()
    };
    // E(8, 8) is 28, for the levels 1/20 x 1/2 and half of that: 40 and 80 need one more round each.
    assert_eq!((rounds_to_drop(0), rounds_to_drop(ENTRANTS)), (8, 9));
}

#[derive(Debug, Default)]
struct Tally {
    races: f64,
    right: f64,
    decided: f64,
    best_dropped: f64,
    anchor_changed: f64,
    rounds: f64,
}

/// The close field; twelve enter after twenty rounds, half of them better and half worse than the anchor by up to a fifth; where whoever leads beats the
/// anchor by more than a tenth, it is the next one, and those that are open beside it go on.
#[test]
fn late_entrants_drop_nobody_wrongly_and_the_right_one_is_found() {
    const SIGMA: f64 = 0.05;
    let mut tally = Tally::default();
    for number in 0..races(500) as u64 {
        let mut random = Pcg64Mcg::seed_from_u64((kampf_mangle::seed() << 32) + number);
        let mut times = CLOSE.to_vec();
        let mut race = Race::new(times.len(), settings());
        let (mut drops, mut changed) = (Vec::new(), 0);
        while race.rounds() < settings().most_rounds {
            if race.anchor().is_none() && race.rounds() == 20 {
                let anchor = race.leader().unwrap();
                let shares = (0..6).map(|at| 0.2 * (f64::from(at) + 0.5) / 6.0);
                times.extend(shares.flat_map(|share| [times[anchor] * (1.0 - share), times[anchor] * (1.0 + share)]).collect::<Vec<_>>());
                let members: Vec<usize> = (0..12).map(|_| race.enter()).collect();
                race.begin_heat(anchor, &members);
            }
            if race.anchor().is_some() && race.beats_anchor() {
                changed += 1;
                race.begin_heat(race.leader().unwrap(), &[]);
            } else if race.anchor().is_some() && race.is_decided() {
                break;
            }
            let running = race.running();
            let round: Vec<Option<f64>> = (0..times.len())
                .map(|at| Some(times[at] * (SIGMA * normal(&mut random)).exp()).filter(|_| running.contains(&at)))
                .collect();
            let left = race.record(&round);
            let ran = |at: usize| race.standings()[at].rounds;
            let is_early = |at: usize| race.is_late(at) && ran(at) < 8;
            assert!(!race.leader().is_some_and(is_early) && !left.iter().any(|drop| is_early(drop.leader)), "race {number}");
            drops.extend(left);
        }
        let best = times.iter().copied().fold(f64::INFINITY, f64::min);
        let truth = |truth: bool| f64::from(u8::from(truth));
        let is_decided = race.is_decided();
        tally.races += 1.0;
        tally.decided += truth(is_decided);
        tally.right += truth(is_decided && race.leader().is_some_and(|leader| times[leader] <= best * (1.0 + settings().margin)));
        tally.best_dropped += truth(drops.iter().any(|drop| times[drop.contender] <= best));
        tally.anchor_changed += f64::from(changed);
        tally.rounds += race.rounds() as f64;
    }
    let races = tally.races;
    for sum in [&mut tally.right, &mut tally.decided, &mut tally.best_dropped, &mut tally.anchor_changed, &mut tally.rounds] {
        *sum /= races;
    }
    println!("late entrants: {tally:?}");
    assert!(tally.best_dropped <= 0.01, "{tally:?}");
    assert!(tally.right >= 0.99 * tally.decided && tally.decided >= 0.97, "{tally:?}");
}
