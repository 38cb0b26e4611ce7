//! Verdicts on facts made up by hand: who stands how, who is taken, what is required.

use crate::common::{contender, counted, facts, failed, name_of, outcomes, rounds, wild, with_hand};
use kampf_contest::Measure;
use kampf_race::Goal;
use kampf_verdict::{ContenderFacts, End, Facts, FaultKind, Keeps, Outcome, PairFinding, Required, Requirements, RunsBeside, judge};

#[test]
fn of_those_that_are_behind_by_little_the_one_that_leaves_least_to_do_is_taken() {
    let field = |easy: f64| {
        facts(vec![
            with_hand(contender("easy", rounds(easy, 40, 1)), 0),
            with_hand(contender("fast", rounds(50.0, 40, 2)), 1),
            with_hand(contender("slow", rounds(90.0, 40, 3)), 0),
        ])
    };
    let near = field(52.0);
    let verdict = judge(&near);
    assert_eq!((verdict.end, name_of(&near, verdict.leader), name_of(&near, verdict.choose)), (End::Decided, Some("fast"), Some("easy")));
    // Beyond a tenth comfort is too dear, but for less than a millisecond with no more round trips.
    let far = field(60.0);
    assert_eq!(name_of(&far, judge(&far).choose), Some("fast"));
    let mut short = facts(vec![with_hand(contender("easy", rounds(0.9, 40, 1)), 0), with_hand(contender("fast", rounds(0.3, 40, 2)), 1)]);
    assert_eq!(name_of(&short, judge(&short).choose), Some("easy"));
    short.contenders[0] = counted(short.contenders[0].clone(), Measure::RoundTrips, 9);
    assert_eq!(name_of(&short, judge(&short).choose), Some("fast"), "nine trips are not little on a server");
    // One whose answer turned out wrong is taken by nobody.
    let mut wrong = near;
    wrong.contenders[0] = failed(wrong.contenders[0].clone(), FaultKind::Disagrees);
    let verdict = judge(&wrong);
    assert_eq!((name_of(&wrong, verdict.choose), outcomes(&wrong, &verdict)[2].1), (Some("fast"), "disagrees"));
}

#[test]
fn rows_stand_by_how_far_they_are_behind_and_show_one_figure() {
    let field = facts(vec![
        contender("slow", rounds(9.0, 30, 3)),
        contender("fast", rounds(5.0, 30, 2)),
        contender("outclassed", rounds(40.0, 3, 4)),
        failed(contender("broken", rounds(5.0, 2, 4)), FaultKind::Failed),
    ]);
    let verdict = judge(&field);
    let names: Vec<String> = outcomes(&field, &verdict).into_iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["fast", "slow", "outclassed", "broken"]);
    let (fast, slow) = (&verdict.placed[1], &verdict.placed[0]);
    let ratio = slow.behind.expect("it ran").ratio;
    assert!((slow.shown.unwrap() - fast.shown.unwrap() * ratio).abs() < 1.0, "{slow:?}");
    assert_eq!((fast.shown, fast.behind.unwrap().ratio), (fast.median, 1.0));
    assert_eq!((slow.outcome, verdict.placed[2].outcome), (Outcome::Slower, Outcome::Outclassed));
    assert_eq!(verdict.placed[2].left.map(|left| left.round), Some(3));
}

#[test]
fn who_keeps_nothing_is_the_floor_unless_the_application_keeps_nothing() {
    let mut field = facts(vec![
        with_hand(contender("joined.needed.raw", rounds(2.0, 30, 1)), 1),
        with_hand(contender("joined.needed.record", rounds(5.0, 30, 2)), 1),
        with_hand(contender("joined.all.plain", rounds(9.0, 30, 3)), 0),
    ]);
    let verdict = judge(&field);
    assert_eq!(
        (name_of(&field, verdict.leader), name_of(&field, verdict.choose)),
        (Some("joined.needed.record"), Some("joined.needed.record"))
    );
    let floor = &verdict.placed[0];
    assert_eq!((floor.beside, floor.outcome, verdict.order[0]), (Some(RunsBeside::Floor), Outcome::Faster, 0));
    field.keeps_nothing = true;
    let verdict = judge(&field);
    assert_eq!(name_of(&field, verdict.choose), Some("joined.needed.raw"));
    assert_eq!(verdict.placed[0].beside, None);
}

#[test]
fn a_race_without_an_end_takes_somebody_only_where_nobody_can_be_faster_by_a_tenth() {
    let field =
        |width: f64, many: usize| facts(vec![contender("one", wild(5.0, width, many, 1)), contender("other", wild(5.05, width, many, 2))]);
    let open = field(0.4, 16);
    let verdict = judge(&open);
    assert_eq!((verdict.end, verdict.choose), (End::Open, None));
    assert!(verdict.leader.is_some() && verdict.noise.is_some_and(|noise| noise > 0.05));
    assert!(verdict.forecasts.iter().all(|forecast| forecast.rounds.is_none_or(|rounds| rounds > 16)), "{:?}", verdict.forecasts);
    assert_eq!(verdict.forecasts[0].margin, 0.05);
    // At a margin of half a percent it is not decided, and known well enough to choose.
    let mut near = field(0.03, 24);
    near.settings.margin = 0.002;
    let verdict = judge(&near);
    assert_eq!(verdict.end, End::Enough);
    assert!(verdict.choose.is_some());
    let few = facts(vec![contender("one", rounds(5.0, 3, 1)), contender("other", rounds(5.1, 3, 2))]);
    assert_eq!((judge(&few).end, judge(&few).choose), (End::Open, None));
    let alone = facts(vec![contender("one", rounds(5.0, 12, 1))]);
    assert_eq!((judge(&alone).end, judge(&alone).choose), (End::Alone, Some(0)));
    assert_eq!(judge(&facts(vec![failed(contender("one", Vec::new()), FaultKind::Failed)])).end, End::Nothing);
    assert_eq!(judge(&Facts::default()).end, End::Nothing);
}

#[test]
fn who_misses_a_requirement_keeps_nobody_from_being_known_well_enough() {
    // The one that may be faster by a tenth is open, and at a margin of half a percent so is the other.
    let contenders = || {
        vec![
            contender("one", wild(5.0, 0.03, 24, 1)),
            contender("other", wild(5.05, 0.03, 24, 2)),
            contender("wild", wild(5.0, 0.9, 24, 3)),
        ]
    };
    let mut field = facts(contenders());
    field.settings.margin = 0.002;
    assert_eq!(judge(&field).end, End::Open);
    field.contenders[2] = counted(field.contenders[2].clone(), Measure::Statements, 90);
    field.require.set(Required::Count(Measure::Statements), 5.0);
    let verdict = judge(&field);
    assert_eq!((verdict.placed[2].beside, verdict.end), (Some(RunsBeside::RuledOut), End::Enough));
}

fn with_p95(mut one: ContenderFacts, milliseconds: f64) -> ContenderFacts {
    one.p95_rounds = rounds(milliseconds, one.rounds.len(), 5);
    one
}

fn required(contenders: Vec<ContenderFacts>, limits: &[(Required, f64)]) -> Facts {
    let mut facts = facts(contenders);
    facts.settings.rests = false;
    limits.iter().for_each(|&(required, limit)| facts.require.set(required, limit));
    facts
}

#[test]
fn with_requirements_the_least_work_that_surely_meets_them_is_taken() {
    let field = |limit: f64| {
        required(
            vec![
                with_p95(with_hand(contender("easy", rounds(50.0, 20, 2)), 0), 60.0),
                with_p95(with_hand(contender("fast", rounds(5.0, 20, 1)), 1), 6.0),
            ],
            &[(Required::P95, limit)],
        )
    };
    let meets = field(100e6);
    let verdict = judge(&meets);
    assert_eq!((name_of(&meets, verdict.choose), &verdict.requirements), (Some("easy"), &Some(Requirements::Met { easier: Vec::new() })));
    let tight = field(10e6);
    let verdict = judge(&tight);
    assert_eq!((name_of(&tight, verdict.choose), verdict.placed[0].outcome), (Some("fast"), Outcome::RuledOut));
    assert_eq!(verdict.placed[0].readings.iter().map(|reading| reading.keeps).collect::<Vec<_>>(), [Keeps::No]);
    assert!(!verdict.misses_requirements());
    // A limit within the interval: it may meet it, and is not taken for one that does.
    let close = field(60.3e6);
    let verdict = judge(&close);
    assert_eq!((name_of(&close, verdict.choose), &verdict.requirements), (Some("fast"), &Some(Requirements::Met { easier: vec![0] })));
    let nobody = field(6.03e6);
    let verdict = judge(&nobody);
    assert_eq!((verdict.choose, &verdict.requirements), (None, &Some(Requirements::Provisional { contenders: vec![1] })));
    assert!(verdict.misses_requirements());
}

#[test]
fn of_calls_with_different_parameters_the_worst_has_to_meet_a_requirement() {
    let statements = |least, most| kampf_contest::Counted { mean: 3.0, least, most, how: kampf_contest::How::Inside };
    let mut field = required(
        vec![with_hand(contender("varies", rounds(5.0, 20, 1)), 0), with_hand(contender("steady", rounds(9.0, 20, 2)), 1)],
        &[(Required::Count(Measure::Statements), 4.0)],
    );
    for (least, most, chosen) in [(1, 4, "varies"), (1, 5, "steady"), (4, 4, "varies")] {
        field.contenders[0].measured.set(Measure::Statements, statements(least, most));
        let verdict = judge(&field);
        assert_eq!(name_of(&field, verdict.choose), Some(chosen), "{least} to {most}");
        assert_eq!(verdict.placed[0].readings[0].has, Some(most as f64));
    }
}

#[test]
fn who_is_not_believed_has_no_place_in_the_race() {
    let honest = || vec![contender("fast", rounds(5.0, 30, 1)), contender("slow", rounds(9.0, 30, 2))];
    let mut field = facts(honest());
    field.contenders.push(failed(contender("liar", Vec::new()), FaultKind::NotBelieved));
    let (with, without) = (judge(&field), judge(&facts(honest())));
    assert_eq!((with.end, with.leader, with.choose), (without.end, without.leader, without.choose));
    assert_eq!(with.placed[..2], without.placed[..]);
    assert_eq!((outcomes(&field, &with)[2].1, with.order[2]), ("not_believed", 2));
}

#[test]
fn a_percentile_of_too_few_calls_is_provisional_and_a_call_that_is_always_too_long_is_not() {
    let few = required(
        vec![with_p95(contender("few", rounds(5.0, 4, 1)), 6.0), contender("slow", rounds(500.0, 2, 2))],
        &[(Required::P95, 100e6)],
    );
    let verdict = judge(&few);
    assert_eq!(verdict.requirements, Some(Requirements::Provisional { contenders: vec![0] }));
    assert_eq!((verdict.placed[0].readings[0].keeps, verdict.placed[1].readings[0].keeps), (Keeps::Provisional, Keeps::No));
}

#[test]
fn what_every_round_misses_by_far_is_missed_however_few_rounds_there_are() {
    let of = |cold: f64, p95: f64| {
        let mut one = with_p95(contender("one", rounds(0.5, 2, 1)), p95);
        (one.cold, one.cold_rounds) = (Some(cold * 1e6), rounds(cold, 2, 1));
        one
    };
    let keeps = |one: ContenderFacts| {
        let verdict = judge(&required(vec![one, contender("two", rounds(9.0, 2, 2))], &[(Required::FirstCall, 1e6), (Required::P95, 1e6)]));
        verdict.placed[0].readings.iter().map(|reading| (reading.required.key(), reading.keeps)).collect::<Vec<_>>()
    };
    assert_eq!(keeps(of(2_000.0, 2_000.0)), [("p95", Keeps::No), ("cold", Keeps::No)]);
    assert_eq!(keeps(of(1.5, 1.5)), [("p95", Keeps::Provisional), ("cold", Keeps::Provisional)]);
    assert_eq!(keeps(of(0.7, 0.7)), [("p95", Keeps::Provisional), ("cold", Keeps::Provisional)]);
}

#[test]
fn what_comes_nearest_names_what_is_missed_and_who_misses_does_not_lead() {
    let one = |name: &'static str, milliseconds: f64, statements: u64, rows: u64| {
        counted(counted(contender(name, rounds(milliseconds, 20, 1)), Measure::Statements, statements), Measure::Rows, rows)
    };
    let (statements, rows) = (Required::Count(Measure::Statements), Required::Count(Measure::Rows));
    let nearest = |field: &Facts| {
        let verdict = judge(field);
        let Some(Requirements::Missed { nearest }) = &verdict.requirements else { panic!("{:?}", verdict.requirements) };
        let of = |one: &kampf_verdict::Nearest| (one.required.key(), field.contenders[one.contender].name.clone(), one.has);
        (nearest.iter().map(of).collect::<Vec<_>>(), verdict.leader, verdict.fastest)
    };
    // All have few enough rows; nobody has few enough statements.
    let field = required(vec![one("fast", 1.0, 9, 5), one("lean", 5.0, 4, 9)], &[(statements, 3.0), (rows, 10.0)]);
    assert_eq!(nearest(&field), (vec![("statements", "lean".to_owned(), 4.0)], None, Some(0)));
    // Each is met by one of them, and no one meets both.
    let field = required(vec![one("fast", 1.0, 9, 5), one("lean", 5.0, 3, 11)], &[(statements, 3.0), (rows, 10.0)]);
    assert_eq!(nearest(&field), (vec![("rows", "lean".to_owned(), 11.0)], None, Some(0)));
}

#[test]
fn where_nobody_meets_the_requirements_the_nearest_is_named_for_each() {
    let mut fast = contender("fast", rounds(5.0, 20, 1));
    (fast.cold, fast.cold_rounds) = (Some(8e6), rounds(8.0, 20, 1));
    let fast = counted(counted(fast, Measure::HeapPeak, 5000), Measure::Rows, 7);
    let slow = contender("slow", rounds(50.0, 3, 2));
    let limits: Vec<(Required, f64)> = Required::all().map(|required| (required, if required.is_time() { 1e6 } else { 0.0 })).collect();
    let field = required(vec![fast, slow], &limits);
    let verdict = judge(&field);
    let Some(Requirements::Missed { nearest }) = &verdict.requirements else { panic!("{:?}", verdict.requirements) };
    let named: Vec<(&str, &str)> = nearest.iter().map(|one| (one.required.key(), field.contenders[one.contender].name.as_str())).collect();
    assert_eq!(
        named,
        [
            ("p95", "fast"),
            ("median", "fast"),
            ("cold", "fast"),
            ("memory", "slow"),
            ("statements", "fast"),
            ("round_trips", "fast"),
            ("rows", "fast")
        ]
    );
    // What is counted exactly rules out before any time is known, and such a one leads nobody.
    assert_eq!(verdict.placed[0].beside, Some(RunsBeside::RuledOut));
}

#[test]
fn who_was_left_out_in_the_check_is_no_part_of_the_race() {
    let mut hopeless = contender("hopeless", Vec::new());
    hopeless.in_check = Some(400e6);
    let broken = failed(contender("failed", rounds(4.0, 3, 1)), FaultKind::Failed);
    let field = facts(vec![hopeless, broken, contender("fast", rounds(5.0, 12, 1)), contender("slow", rounds(7.0, 12, 2))]);
    let verdict = judge(&field);
    assert_eq!(
        outcomes(&field, &verdict).iter().map(|(name, outcome)| (name.as_str(), *outcome)).collect::<Vec<_>>(),
        [("fast", "standing"), ("slow", "slower"), ("hopeless", "outclassed"), ("failed", "failed")]
    );
    assert_eq!(verdict.placed[0].shown, Some(400e6));
    assert_eq!(verdict.placed[0].left.map(|left| (left.round, left.leader)), Some((0, Some(2))));
}

#[test]
fn trade_offs_are_those_that_nobody_beats_on_everything() {
    let made = |name: &str, time: f64, memory: u64, statements: u64, salt: usize| {
        counted(counted(contender(name, rounds(time, 30, salt)), Measure::HeapPeak, memory), Measure::Statements, statements)
    };
    let mut field = facts(vec![
        made("fast", 5.0, 9000, 1, 1),
        made("lean", 7.0, 1000, 1, 2),
        made("beaten", 7.5, 9500, 2, 3),
        made("as lean", 7.02, 1004, 1, 4),
        made("grew", 9.0, 10, 1, 5),
        made("says little", 4.9, 10, 0, 6),
    ]);
    // Neither the growth of a process nor what a program says of itself is ranked: it earns nothing, and takes nothing from others.
    let word = |value, how| kampf_contest::Counted::always(value, how);
    field.contenders[4].measured.set(Measure::HeapPeak, word(10, kampf_contest::How::Resident));
    field.contenders[5].measured.set(Measure::Statements, word(0, kampf_contest::How::Reported));
    // Nor is one of which nothing was counted.
    let nothing = kampf_contest::Measured::default();
    field.contenders.push(kampf_verdict::ContenderFacts { measured: nothing, ..contender("stopped", rounds(4.0, 30, 7)) });
    let verdict = judge(&field);
    let marked: Vec<&str> = (0..7).filter(|&at| verdict.placed[at].trade_off).map(|at| field.contenders[at].name.as_str()).collect();
    assert_eq!(marked, ["fast", "lean", "as lean"]);
    // Of calls that differ the worst is ranked.
    let mixed = kampf_contest::Counted { mean: 1.5, least: 1, most: 2, how: kampf_contest::How::Inside };
    field.contenders[0].measured.set(Measure::Statements, mixed);
    assert!(judge(&field).placed[0].trade_off, "it is still the fastest");
    field.contenders[1].measured.set(Measure::Statements, mixed);
    assert!(!judge(&field).placed[1].trade_off, "the other is as lean, with fewer statements");
}

#[test]
fn two_are_told_apart_in_both_directions() {
    let of = |old: f64, new: f64, many: usize| {
        let mut field = facts(vec![contender("stack-2", rounds(new, many, 1)), contender("stack-1", rounds(old, many, 2))]);
        field.settings.goal = Goal::Pair;
        field.pair = Some((1, 0));
        let pair = judge(&field).pair.unwrap();
        (pair.finding, pair.ratio.map(|ratio| (ratio.ratio * 10.0).round() / 10.0))
    };
    assert_eq!(of(5.0, 6.0, 20), (PairFinding::Slower, Some(1.2)));
    assert_eq!(of(5.0, 4.0, 20), (PairFinding::Faster, Some(0.8)));
    assert_eq!(of(5.0, 5.05, 20), (PairFinding::Same, Some(1.0)));
    assert_eq!(of(5.0, 6.0, 3), (PairFinding::Open, Some(1.2)));
}
