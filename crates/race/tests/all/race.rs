//! Races fed with rounds written by hand.

use kampf_race::{Departure, FORECAST_LIMIT, Finding, Goal, Race, RaceSettings, Standing, Why, forecast};

/// Deterministic noise between -1 and 1, another for each contender and round, without likeness between neighbours.
fn noise(contender: usize, round: usize) -> f64 {
    let mixed = (contender as u64 * 7919 + round as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) as f64 / u64::MAX as f64 * 2.0 - 1.0
}

/// Hardly any noise, each round on the other side of the middle from the one before.
fn steady(contender: usize, round: usize) -> f64 {
    if (contender + round).is_multiple_of(2) { 1.0 } else { 1.0001 }
}

fn run(race: &mut Race, rounds: usize, time: impl Fn(usize, usize) -> f64) -> Vec<Departure> {
    let mut drops = Vec::new();
    for _ in 0..rounds {
        let running = race.running();
        let round = race.rounds();
        let last = running.last().map_or(0, |last| last + 1);
        let values: Vec<Option<f64>> = (0..last).map(|at| running.contains(&at).then(|| time(at, round))).collect();
        drops.extend(race.record(&values));
    }
    drops
}

fn findings(race: &Race) -> Vec<Finding> {
    race.standings().iter().map(|standing| standing.finding).collect()
}

fn standing(race: &Race, contender: usize) -> Standing {
    race.standings().swap_remove(contender)
}

const TWO_PERCENT: RaceSettings = RaceSettings {
    margin: 0.02,
    alpha: 0.05,
    most_rounds: 400,
    goal: Goal::Choice,
    rests: true,
    keep_below: None,
    entrants: 0,
    correct_likeness: true,
};

#[test]
fn a_contender_far_behind_drops_after_two_rounds_and_a_nearer_one_after_three() {
    let mut race = Race::new(4, TWO_PERCENT);
    let times = [1.0, 9.9, 4.0, 1.1];
    let drops = run(&mut race, 3, |at, round| times[at] * (1.0 + 0.05 * noise(at, round)));
    assert_eq!(drops.iter().map(|drop| (drop.contender, drop.round)).collect::<Vec<_>>(), [(1, 2), (2, 3)]);
    assert!(matches!(drops[0].why, Why::Outclassed { times } if times > 8.0));
    assert_eq!(race.racing(), [0, 3]);
    assert_eq!(findings(&race)[1..3], [Finding::Outclassed, Finding::Outclassed]);
    // What stood then is kept.
    run(&mut race, 20, |at, _| times[at] * 2.0);
    let gone = standing(&race, 1);
    assert_eq!((gone.rounds, gone.left.map(|(left, _)| left), gone.gap.map(|gap| gap.rounds)), (2, Some(drops[0]), Some(2)));
}

#[test]
fn slower_needs_enough_rounds_and_more_than_the_margin() {
    let mut race = Race::new(2, TWO_PERCENT);
    assert_eq!(run(&mut race, 7, |at, round| [1.0, 1.5][at] * steady(at, round)), []);
    assert_eq!(standing(&race, 1).finding, Finding::Open);
    let drops = run(&mut race, 1, |at, round| [1.0, 1.5][at] * steady(at, round));
    assert_eq!(drops, [Departure { contender: 1, leader: 0, round: 8, why: Why::Slower }]);
    assert!(race.is_decided());
    let gap = standing(&race, 1).gap.unwrap();
    assert!((gap.ratio - 1.5).abs() < 1e-3 && gap.interval.is_some_and(|interval| interval.low > 1.49));
    // One percent slower in every round is surely slower, but by less than the margin: a tie.
    let mut race = Race::new(2, TWO_PERCENT);
    run(&mut race, 8, |at, round| [1.0, 1.01][at] * steady(at, round));
    assert_eq!(findings(&race), [Finding::Leads, Finding::Tied]);
    let mut race = Race::new(2, RaceSettings { margin: 0.001, ..TWO_PERCENT });
    run(&mut race, 8, |at, round| [1.0, 1.01][at] * steady(at, round));
    assert_eq!(standing(&race, 1).finding, Finding::Slower);
}

#[test]
fn what_a_round_has_in_common_for_all_is_taken_out() {
    // The machine gets ten times slower from round to round; one contender is always 5 % behind.
    let mut race = Race::new(3, TWO_PERCENT);
    run(&mut race, 40, |at, round| [1.0, 1.05, 1.3][at] * 1.1f64.powi(round as i32) * (1.0 + 0.01 * noise(at, round)));
    assert!(race.is_decided());
    assert_eq!(findings(&race), [Finding::Leads, Finding::Slower, Finding::Slower]);
}

#[test]
fn a_new_leader_is_compared_over_all_rounds_since_the_first() {
    let mut race = Race::new(2, RaceSettings { goal: Goal::Exact, ..TWO_PERCENT });
    run(&mut race, 24, |at, round| [1.0, 1.5][at] * steady(at, round));
    assert_eq!((race.leader(), standing(&race, 1).finding), (Some(0), Finding::Slower));
    run(&mut race, 30, |at, round| [1.5, 1.0][at] * (1.0 + 0.05 * noise(at, round)));
    assert_eq!(race.leader(), Some(1));
    let behind = standing(&race, 0);
    assert_eq!(behind.gap.map(|gap| (gap.leader, gap.rounds)), Some((1, 54)));
    assert!(behind.gap.is_some_and(|gap| gap.is_moving), "the halves of the race contradict each other");
}

#[test]
fn exact_drops_nobody_and_a_limit_keeps_who_may_be_good_enough() {
    let mut race = Race::new(3, RaceSettings { goal: Goal::Exact, ..TWO_PERCENT });
    assert_eq!(run(&mut race, 12, |at, _| [1.0, 100.0, 2.0][at]), []);
    assert_eq!(findings(&race), [Finding::Leads, Finding::Slower, Finding::Slower]);
    let mut race = Race::new(3, RaceSettings { keep_below: Some(50.0), ..TWO_PERCENT });
    let drops = run(&mut race, 3, |at, _| [1.0, 40.0, 60.0][at]);
    assert_eq!(drops.iter().map(|drop| drop.contender).collect::<Vec<_>>(), [2]);
    assert_eq!(standing(&race, 1).finding, Finding::Outclassed, "as far as is known so far");
    assert_eq!(run(&mut race, 20, |at, _| [1.0, 40.0, 60.0][at]), [], "it is told to be slower, and stays");
    assert_eq!((standing(&race, 1).finding, race.is_decided(), race.racing()), (Finding::Slower, true, vec![0, 1]));
    let mut known = race.clone();
    known.hold(1, false);
    assert_eq!(run(&mut known, 1, |at, _| [1.0, 40.0, 60.0][at])[0].contender, 1, "it is known what it is good for");
    assert_eq!(run(&mut race, 1, |at, _| [1.0, 51.0, 60.0][at])[0].contender, 1, "beyond the limit nothing keeps it");
}

#[test]
fn those_that_fail_or_do_not_start_are_last_and_no_longer_counted() {
    let mut race = Race::new(4, TWO_PERCENT);
    race.leave_out(3);
    race.fail(2);
    // Two are left: eight rounds are enough, as for a race of two.
    run(&mut race, 8, |at, round| [1.0, 1.5][at] * steady(at, round));
    assert!(race.is_decided());
    assert_eq!(findings(&race)[..2], [Finding::Leads, Finding::Slower]);
    let mut race = Race::new(3, TWO_PERCENT);
    run(&mut race, 3, |at, _| [1.0, 1.1, 1.2][at]);
    race.fail(0);
    race.record(&[None, Some(1.1), Some(1.2)]);
    assert_eq!((race.leader(), standing(&race, 0).finding), (Some(1), Finding::Failed));
    // Who left because of one that fails is back.
    let mut race = Race::new(3, TWO_PERCENT);
    let drops = run(&mut race, 3, |at, _| [1.0, 40.0, 44.0][at]);
    assert_eq!((drops.len(), race.racing()), (2, vec![0]));
    race.fail(0);
    assert_eq!((race.leader(), race.racing()), (Some(1), vec![1, 2]));
    assert!(Race::new(0, TWO_PERCENT).is_decided());
    assert_eq!(Race::new(0, TWO_PERCENT).standings(), []);
}

#[test]
fn a_race_of_one_runs_until_its_time_is_known_to_the_margin() {
    let mut rounds = Vec::new();
    for margin in [0.02, 0.05] {
        let mut race = Race::new(1, RaceSettings { margin, ..TWO_PERCENT });
        run(&mut race, 8, |at, round| 1.0 + 0.1 * noise(at, round));
        assert!(!race.is_decided());
        while !race.is_decided() {
            run(&mut race, 1, |at, round| 1.0 + 0.1 * noise(at, round));
        }
        let interval = race.standings()[0].interval.unwrap();
        assert!(interval.high / interval.low <= (1.0 + margin).powi(2) + 1e-12, "{interval:?}");
        rounds.push(race.rounds());
    }
    assert!(rounds[0] > rounds[1], "{rounds:?}");
    // Who is the last one left of several has proved itself already.
    let mut race = Race::new(2, TWO_PERCENT);
    run(&mut race, 8, |at, round| [1.0, 20.0][at] * (1.0 + 0.3 * noise(at, round)));
    assert!(race.is_decided());
}

#[test]
fn the_noise_is_that_of_one_run() {
    let mut race = Race::new(4, RaceSettings { goal: Goal::Exact, ..TWO_PERCENT });
    // Uniform noise of 10 % either way has a median absolute deviation of 5 %.
    run(&mut race, 200, |at, round| (0.1 * noise(at, round)).exp());
    let found = race.noise().unwrap();
    assert!((0.055..0.08).contains(&found), "{found}");
}

#[test]
fn the_forecast_tells_when_the_race_will_be_decided() {
    for (gap, width) in [(1.03, 0.06), (1.0, 0.05), (1.06, 0.12)] {
        let mut ratios: Vec<f64> = (0..40)
            .map(|seed| {
                let time = |at: usize, round: usize| [1.0, gap][at] * (width * noise(at + 2 * seed, round)).exp();
                let mut race = Race::new(2, RaceSettings { most_rounds: 2000, ..TWO_PERCENT });
                run(&mut race, 25, time);
                let foretold = forecast(&race, 0.02).unwrap_or(FORECAST_LIMIT);
                while !race.is_decided() {
                    run(&mut race, 1, time);
                }
                foretold as f64 / race.rounds() as f64
            })
            .collect();
        ratios.sort_by(f64::total_cmp);
        assert!((0.4..2.5).contains(&ratios[20]), "{gap} {width}: {ratios:?}");
    }
    // A wider margin needs fewer rounds.
    let mut race = Race::new(2, TWO_PERCENT);
    run(&mut race, 20, |at, round| (0.1 * noise(at, round)).exp());
    let (five, ten) = (forecast(&race, 0.05), forecast(&race, 0.1));
    assert!(five.is_some_and(|five| ten.is_some_and(|ten| ten < five && five < FORECAST_LIMIT)), "{five:?} {ten:?}");
    assert_eq!(forecast(&Race::new(2, TWO_PERCENT), 0.02), None);
}

#[test]
fn who_surely_is_not_faster_rests_while_the_leader_leads_and_wakes_for_another() {
    // 3 % behind: told to be not faster long before it could be told to be slower or tied. Another is open: it gets faster.
    let mut race = Race::new(3, RaceSettings::default());
    let time = |at: usize, round: usize| match at {
        2 if round < 20 => [1.5, 0.8][round % 2],
        2 => 0.7,
        _ => [1.0, 1.03][at] * (0.04 * noise(at, round)).exp(),
    };
    run(&mut race, 20, time);
    let behind = standing(&race, 1);
    assert_eq!((race.leader(), behind.finding), (Some(0), Finding::NotFaster));
    assert_eq!((race.running(), race.racing()), (vec![0, 2], vec![0, 1, 2]));
    assert!(behind.rounds < 20 && behind.gap.is_some_and(|gap| gap.interval.is_some_and(|sure| sure.low > 1.0 / 1.05)), "{behind:?}");
    while race.leader() == Some(0) {
        assert!(race.rounds() < 100, "the other one comes to lead");
        run(&mut race, 1, time);
    }
    assert_eq!(race.running(), [0, 1, 2], "nothing is known of it against the new leader");
    run(&mut race, 1, time);
    assert_eq!(standing(&race, 1).rounds, behind.rounds + 1);
    run(&mut race, 30, time);
    assert_eq!(race.leader(), Some(2));
}

#[test]
fn who_is_not_to_be_chosen_is_judged_and_never_judges() {
    let mut race = Race::new(3, RaceSettings::default());
    race.put_beside(2);
    run(&mut race, 12, |at, round| [1.0, 1.2, 0.2][at] * steady(at, round));
    assert_eq!(findings(&race), [Finding::Leads, Finding::Slower, Finding::Faster], "the floor outclasses nobody and leads nobody");
    assert!(race.is_decided());
    let floor = standing(&race, 2).gap.unwrap();
    assert!((floor.leader, floor.rounds) == (0, 12) && (0.19..0.21).contains(&floor.ratio), "{floor:?}");
    // One that is slower than the leader drops like any other; where nobody else is left, it leads.
    let mut race = Race::new(2, RaceSettings::default());
    race.put_beside(1);
    let drops = run(&mut race, 8, |at, round| [1.0, 1.5][at] * steady(at, round));
    assert_eq!(drops.iter().map(|drop| drop.contender).collect::<Vec<_>>(), [1]);
    let mut race = Race::new(2, RaceSettings::default());
    race.put_beside(1);
    race.fail(0);
    run(&mut race, 3, |_, _| 1.0);
    assert_eq!(race.leader(), Some(1));
}

#[test]
fn a_pair_runs_until_its_difference_is_known_to_the_margin_and_neither_drops() {
    for gap in [1.0, 1.02, 1.3] {
        let mut race = Race::new(2, RaceSettings { goal: Goal::Pair, ..TWO_PERCENT });
        while !race.is_decided() {
            assert!(race.rounds() < 400);
            run(&mut race, 1, |at, round| [1.0, gap][at] * (0.04 * noise(at, round)).exp());
        }
        assert_eq!(race.racing().len(), 2);
        let leader = race.leader().unwrap();
        let sure = standing(&race, 1 - leader).gap.unwrap().interval.unwrap();
        assert!(sure.high / sure.low <= 1.02f64.powi(2) + 1e-12, "{gap}: {sure:?}");
    }
}

#[test]
fn any_two_are_compared_over_the_rounds_that_both_ran() {
    let mut race = Race::new(3, RaceSettings::default());
    run(&mut race, 30, |at, round| [1.0, 4.5, 1.2][at] * steady(at, round));
    let gap = race.between(1, 2).unwrap();
    assert_eq!((gap.rounds, standing(&race, 1).rounds), (3, 3));
    assert!((gap.ratio - 3.75).abs() < 0.01 && gap.interval.is_none(), "{gap:?}");
}

#[test]
fn who_left_as_slower_keeps_the_interval_that_it_left_by_whoever_leads_now() {
    let mut beside_another_leader = 0;
    for seed in 0..20 {
        let times = [1.0, 1.0, 1.08, 1.1, 1.12, 1.15];
        let mut race = Race::new(times.len(), TWO_PERCENT);
        run(&mut race, 60, |at, round| times[at] * (1.0 + 0.05 * noise(at + 6 * seed, round)));
        for standing in race.standings().into_iter().filter(|standing| standing.finding == Finding::Slower) {
            let (departure, gap) = standing.left.unwrap();
            assert!(gap.interval.is_some_and(|sure| sure.low > 1.0), "{seed}: {gap:?}");
            assert_eq!(departure.leader, gap.leader);
            beside_another_leader += usize::from(race.leader() != Some(gap.leader));
        }
    }
    assert!(beside_another_leader > 0, "no race had another leader at its end");
}

#[test]
fn who_is_compared_besides_runs_until_that_is_known() {
    let luck = |round: usize, salt: usize| {
        let mixed = (salt as u64 * 7919 + round as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        1.0 + 0.2 * ((mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 40) as f64 / (1_u64 << 24) as f64
    };
    let run = |compared: bool| {
        let mut race = Race::new(3, RaceSettings::default());
        if compared {
            race.compare(2, 1);
        }
        let (mut last, mut decided) = (vec![0; 3], None);
        for round in 0..200 {
            if race.is_decided() {
                decided.get_or_insert(round);
                if race.has_compared() {
                    break;
                }
            }
            let running = race.running();
            let values = [1.0, 2.0, 2.06].iter().enumerate().map(|(at, time)| running.contains(&at).then(|| time * luck(round, at)));
            running.iter().for_each(|&at| last[at] = round);
            race.record(&values.collect::<Vec<_>>());
        }
        (race, last, decided)
    };
    let (plain, dropped, decided) = run(false);
    let (race, last, also) = run(true);
    assert!(plain.is_decided() && race.is_decided() && race.leader() == plain.leader());
    assert!(dropped[2] < last[2], "it ran on: {dropped:?} {last:?}");
    assert!(race.has_compared() && decided <= also);
    let gap = race.against_base(2, 1).unwrap();
    assert!((1.0..1.10).contains(&gap.ratio) && gap.interval.unwrap().high <= 1.10, "{gap:?}");
    // What is told from the other at once is not kept: it is as if nobody had asked.
    let mut far = Race::new(3, RaceSettings::default());
    far.compare(2, 1);
    (0..4).for_each(|round| drop(far.record(&[Some(luck(round, 1)), Some(1.01 * luck(round, 2)), Some(9.0 * luck(round, 3))])));
    assert!(far.has_compared() && !far.racing().contains(&2));
}
