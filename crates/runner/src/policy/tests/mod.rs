//! The policy on a stage where a script is played: no process, no clock, the same in every run.

mod heats;
mod script;
mod turns;
mod twin;

use std::time::Duration;

use kampf_contest::{Counted, How, Measure};
use kampf_protocol::Mode;
use kampf_race::{Finding, Goal, RaceSettings, TimeLimits};
use proptest::prelude::*;

use self::script::{Actor, Lie, Script, lying, own, program};
use super::check::{CheckedVerdict, Checks, Purpose, check};
use super::heats::{first_heat, last_question};
use super::pace::least_time;
use super::race::{EntrantFault, RaceOptions, RaceReport, Timed};
use super::stage::Stage;
use crate::event::Event;
use crate::trouble::Trouble;

fn options(rounds: usize) -> RaceOptions {
    RaceOptions {
        settings: RaceSettings { most_rounds: rounds, rests: true, ..RaceSettings::default() },
        time: Duration::from_secs(3600),
        compared: Vec::new(),
        least_calls: 1,
        seed: 7,
        beside: Vec::new(),
        limits: TimeLimits::default(),
    }
}

fn checked(script: &mut Script) -> Checks {
    check(script, None, FOR_RACE, &mut |_| {}).expect("the check ends")
}

/// A race of one heat.
pub(super) fn race(
    stage: &mut dyn Stage,
    checks: &Checks,
    options: &RaceOptions,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<RaceReport, Trouble> {
    let state = first_heat(stage, checks, options, events)?;
    last_question(stage, checks, options, state, events)
}

fn raced(script: &mut Script, options: &RaceOptions) -> (Checks, RaceReport) {
    let checks = checked(script);
    let report = race(script, &checks, options, &mut |_| {}).expect("the race ends");
    (checks, report)
}

fn trouble(checks: &Checks, at: usize) -> Option<&Trouble> {
    match &checks.entries[at].verdict {
        CheckedVerdict::Failed(trouble) => Some(trouble),
        _ => None,
    }
}

fn is_not_believed(checks: &Checks, at: usize) -> bool {
    matches!(trouble(checks, at), Some(Trouble::NotBelieved(_)))
}

fn findings(report: &RaceReport) -> Vec<Finding> {
    report.race.standings().iter().map(|standing| standing.finding).collect()
}

/// A check before a race that stops what is hopeless.
pub(super) const FOR_RACE: Purpose = Purpose { is_for_race: true, stop_above: Some(Duration::from_secs(1)) };

const HOUR_SETTINGS: fn(Goal) -> RaceSettings = |goal| RaceSettings { goal, ..RaceSettings::default() };

#[test]
fn everybody_runs_afresh_in_every_round_and_the_race_ends_when_it_is_decided() {
    let mut script = Script::new(vec![own("slow", 3.0), own("fast", 1.0), own("middle", 1.4)]);
    let (checks, report) = raced(&mut script, &options(400));
    assert!(checks.entries.iter().all(|entry| entry.verdict == CheckedVerdict::Agrees));
    assert_eq!((report.race.leader(), report.interrupted, &report.not_confirmed), (Some(1), false, &None));
    assert!(report.race.is_decided() && (8..40).contains(&report.race.rounds()), "{}", report.race.rounds());
    let fast = &report.entrants[1].runs;
    assert_eq!((fast.rounds.len(), fast.ran.len()), (report.race.rounds(), report.race.rounds()));
    assert!(fast.rounds.iter().all(|nanos| (1.0e6..1.011e6).contains(nanos)), "{:?}", fast.rounds);
    // One start in the check, one a round, one to confirm.
    assert_eq!(script.starts_of(1), 1 + report.race.rounds() + 1);
    assert_eq!(report.reference_loop.len(), report.race.rounds() + 1);
    // More of a round is measured than not.
    assert!(report.measured.as_secs_f64() > 0.5 * report.total.as_secs_f64(), "{:?} of {:?}", report.measured, report.total);
}

#[test]
fn what_a_program_says_of_its_spans_drops_nobody_before_it_is_believed() {
    let missing = lying(program("missing", 2.0), Lie::Missing);
    let micro = lying(program("micro", 2.0), Lie::Spans(1e-3));
    let half = lying(program("half", 2.0), Lie::Spans(0.5));
    let more = lying(program("more", 2.0), Lie::Spans(1.5));
    let zero = lying(program("zero", 2.0), Lie::Spans(0.0));
    let idle = lying(program("idle", 2.0), Lie::Idle);
    let counted = lying(program("counted", 2.0), Lie::Counted);
    let mut script = Script::new(vec![own("fast", 1.0), own("near", 1.3), missing, micro, half, more, zero, idle, counted]);
    let (checks, report) = raced(&mut script, &options(60));
    for at in 2..9 {
        assert!(is_not_believed(&checks, at), "{}: {:?}", checks.entries[at].name, checks.entries[at].verdict);
        assert_eq!(report.race.standings()[at].finding, Finding::Failed);
    }
    let said = |at: usize| trouble(&checks, at).unwrap().to_string();
    assert_eq!(said(2), "it reports 0 spans of a run of 1");
    assert!(
        said(3).starts_with("it says that a call takes 2.0") && said(3).contains(" us, and by the runner's clock it takes 2.0"),
        "{}",
        said(3)
    );
    assert!(said(3).ends_with(" ms"), "{}", said(3));
    assert!(said(5).starts_with("it says that a call takes 3.0"), "{}", said(5));
    assert_eq!(said(7), "it reports 0 rows of its first call, where the checked answer has 4");
    assert_eq!(said(8), "it reports 5 rows of its counted call, where the checked answer has 4");
    // The race is what it is without them.
    let mut alone = Script::new(vec![own("fast", 1.0), own("near", 1.3)]);
    let (_, other) = raced(&mut alone, &options(60));
    assert_eq!(findings(&report)[..2], findings(&other)[..]);
    assert_eq!(report.entrants[0].runs.rounds, other.entrants[0].runs.rounds);
    assert!(report.entrants.iter().all(|entrant| entrant.timed == Timed::InRounds), "nobody was left out because of a lie");
}

#[test]
fn spans_grow_until_taking_the_time_costs_little_and_runs_until_a_message_does() {
    let dear = Actor { beside_span: 2_000.0, ..program("dear clock", 0.001) };
    let slow = Actor { message: 400e3, ..program("slow pipe", 1.0) };
    let mut script = Script::new(vec![dear, slow, own("fast", 0.9)]);
    let (checks, report) = raced(&mut script, &options(12));
    let probe = |at: usize| checks.entries[at].probe.as_ref().expect("it is believed");
    // 2 us beside a span of 200 us or more are a hundredth.
    assert!(probe(0).calls_per_span >= 150, "{}", probe(0).calls_per_span);
    assert!((probe(0).call_ns / 1_000.0 - 1.0).abs() < 0.02, "{}", probe(0).call_ns);
    assert!((probe(1).message_ns.unwrap() / 400e3 - 1.0).abs() < 0.01);
    let longest = script.asked.iter().filter(|(at, mode, ..)| *at == 1 && *mode == Mode::Time).map(|(_, _, passes, ..)| *passes).max();
    assert!(longest >= Some(40), "40 ms, of which 0.4 ms are the message's: {longest:?}");
    assert!(report.entrants.iter().all(|entrant| entrant.fault.is_none()));
    // Who takes a second for nothing cannot be held against a clock.
    let mut script = Script::new(vec![Actor { message: 1e9, ..program("sleeper", 1.0) }, own("fast", 1.0)]);
    let checks = checked(&mut script);
    assert!(trouble(&checks, 0).unwrap().to_string().starts_with("a run without passes takes it 1.00 s"));
}

#[test]
fn the_length_of_runs_is_not_guessed_from_one_that_is_lost_beside_a_message() {
    // On a busy machine messages take 2 ms, and then the first run goes through at once: it seems to have taken no time at all.
    let quick = Actor { message: 2e6, quick_run: Some(6), ..program("quick", 0.02) };
    let mut script = Script::new(vec![quick, own("other", 0.02)]);
    let (checks, _) = raced(&mut script, &options(10));
    let probe = checks.entries[0].probe.as_ref().expect("it is believed");
    assert!((probe.call_ns / 20e3 - 1.0).abs() < 0.02, "{}", probe.call_ns);
    let longest = script.asked.iter().map(|(_, _, passes, calls, sets)| passes * calls * *sets as u64).max();
    assert!(longest < Some(40_000), "no run lasts much longer than 200 ms: {longest:?} calls");
}

#[test]
fn a_busy_machine_makes_no_program_a_liar() {
    // In its sixth start a program waits for the processor for as long as it runs.
    let held = Actor { held_up: Some((6, 20e6)), ..program("held", 1.0) };
    let mut script = Script::new(vec![held, own("other", 1.02)]);
    let (_, report) = raced(&mut script, &options(40));
    assert_eq!(report.entrants[0].fault, None);
    let slowest = report.entrants[0].runs.rounds.iter().copied().fold(0.0, f64::max);
    assert!(slowest > 1.2e6, "such a round has the clock's time: {slowest}");
    assert_eq!(report.race.leader(), Some(0));
}

#[test]
fn a_machine_that_becomes_busier_makes_runs_longer_and_no_program_a_liar() {
    // From the fifth start on a message takes a millisecond more: a tenth of a run of 10 ms.
    let slower = Actor { slower_from: Some((5, 1e6)), ..program("slower", 1.0) };
    let mut script = Script::new(vec![slower, own("other", 1.03)]);
    let exact = RaceSettings { goal: Goal::Exact, most_rounds: 30, margin: 0.0001, ..RaceSettings::default() };
    let (_, report) = raced(&mut script, &RaceOptions { settings: exact, ..options(30) });
    let runs = &report.entrants[0].runs;
    assert_eq!((report.entrants[0].fault, runs.rounds.len()), (None, 30));
    // Three rounds count with the clock's time; then it was tried afresh, once, and from then on its word is good.
    let doubtful = runs.rounds.iter().filter(|nanos| **nanos > 1.05e6).count();
    assert_eq!(doubtful, 3, "{:?}", runs.rounds);
    // Two starts in the check, thirty rounds, one to be tried afresh, one to confirm.
    assert_eq!(script.starts_of(0), 2 + 30 + 1 + 1);
}

#[test]
fn a_program_that_begins_to_lie_is_taken_out_and_the_race_is_as_if_it_had_never_been_there() {
    // Twice as fast as the others, it drops them before it lies.
    let liar = Actor { lies_from: 20, ..lying(program("liar", 0.4), Lie::Spans(1e-3)) };
    let mut script = Script::new(vec![liar, own("one", 1.0), own("other", 1.01), own("far", 1.5)]);
    let checks = checked(&mut script);
    let mut failed = Vec::new();
    // Whether it keeps a limit is open, so that the race goes on.
    let options = RaceOptions { limits: TimeLimits { median: Some(0.402e6), ..TimeLimits::default() }, ..options(60) };
    let report = race(&mut script, &checks, &options, &mut |event| {
        if let Event::Failed(name, reason) = event {
            failed.push((name.to_owned(), reason));
        }
    })
    .unwrap();
    let liar = &report.entrants[0];
    assert_eq!((liar.fault, liar.failed_after, liar.runs.rounds.len()), (Some(EntrantFault::NotBelieved), Some(0), 0));
    assert!(failed.len() == 1 && failed[0].0 == "liar" && failed[0].1.contains("by the runner's clock"), "{failed:?}");
    assert_eq!(findings(&report)[0], Finding::Failed);
    assert_eq!(report.race.leader(), Some(1));
    let left: Vec<_> = report.race.standings().iter().filter_map(|standing| standing.left).map(|(left, _)| left.leader).collect();
    assert!(!left.contains(&0), "nobody is out because of it: {left:?}");
    // They had left, and came back.
    let other = &report.entrants[2].runs;
    assert!(other.ran.windows(2).any(|pair| pair[1] > pair[0] + 1), "{:?}", other.ran);
    assert!(report.race.rounds() > 20);
}

#[test]
fn who_was_left_out_because_of_a_program_that_is_not_believed_later_comes_back() {
    let liar = Actor { lies_from: 5, ..lying(program("liar", 0.04), Lie::Spans(1e-3)) };
    let mut script = Script::new(vec![liar, own("one", 1.0), own("far", 30.0)]);
    let (checks, report) = raced(&mut script, &options(60));
    assert!(checks.entries.iter().all(|entry| entry.verdict == CheckedVerdict::Agrees));
    assert_eq!(report.entrants[0].fault, Some(EntrantFault::NotBelieved));
    assert_eq!((report.race.leader(), report.entrants[1].timed), (Some(1), Timed::InRounds));
    // One that is hopeless anyway stays out.
    assert!(matches!(report.entrants[2].timed, Timed::InCheck(_)));
    assert_eq!(findings(&report)[2], Finding::Outclassed);
}

#[test]
fn who_left_because_of_one_that_differs_or_fails_later_comes_back_and_the_race_goes_on() {
    // So fast that the others do not start: as one that does nothing where it is not looked at.
    let fast = || program("fast", 0.04);
    for (odd, fault) in [
        (Actor { wrong_from: 2, ..fast() }, EntrantFault::Disagrees),
        (Actor { breaks_at: Some(4), ..fast() }, EntrantFault::Failed),
        (Actor { breaks_at: Some(11), ..fast() }, EntrantFault::Failed),
    ] {
        let mut script = Script::new(vec![odd, own("one", 1.0), own("two", 1.5), own("far", 30.0)]).with_parameters();
        let (_, report) = raced(&mut script, &options(60));
        assert_eq!((report.entrants[0].fault, report.entrants[0].runs.rounds.len()), (Some(fault), 0));
        assert_eq!((report.race.leader(), &report.not_confirmed), (Some(1), &None), "{fault:?}");
        assert!(report.entrants[1].runs.rounds.len() >= 8 && report.race.is_decided(), "{fault:?}");
        assert_eq!(findings(&report)[2..], [Finding::Slower, Finding::Outclassed], "{fault:?}");
        // Everybody who is left at the end was asked once more.
        let asked = script.compared.iter().filter(|(at, sets)| *at == 1 && *sets > 1).count();
        assert_eq!(asked, 2, "{fault:?}");
    }
    // However little time is left, who came back runs a round.
    let mut script = Script::new(vec![Actor { wrong_from: 2, ..fast() }, own("one", 1.0)]).with_parameters();
    let (_, report) = raced(&mut script, &RaceOptions { time: Duration::ZERO, ..options(60) });
    assert_eq!((report.race.leader(), report.entrants[1].runs.rounds.len()), (Some(1), 1));
}

#[test]
fn with_parameters_kampf_s_own_contenders_tell_how_many_rows_are_right_in_a_round() {
    let liar = Actor { lies_from: 4, ..lying(program("idle later", 1.0), Lie::Idle) };
    let mut script = Script::new(vec![own("one", 1.0), liar.clone(), program("honest", 1.1)]).with_parameters();
    let (_, report) = raced(&mut script, &options(20));
    assert_eq!(report.entrants[1].fault, Some(EntrantFault::NotBelieved));
    assert!(report.entrants[1].reason.as_ref().unwrap().starts_with("it reports 0 rows of its first call, where the checked answer has"));
    assert_eq!((report.entrants[0].fault, report.entrants[2].fault), (None, None));
    // Where only programs race, the right answer is worked out.
    let mut script = Script::new(vec![liar, program("honest", 1.1)]).with_parameters();
    let (_, report) = raced(&mut script, &options(20));
    assert_eq!([report.entrants[0].fault, report.entrants[1].fault], [Some(EntrantFault::NotBelieved), None]);
    // And where that cannot be had nobody is accused.
    let mut script = Script::new(vec![program("honest", 1.0), program("other", 1.1)]).with_parameters();
    script.no_right_after = Some(4);
    let (_, report) = raced(&mut script, &options(12));
    assert!(report.entrants.iter().all(|entrant| entrant.fault.is_none()));
}

#[test]
fn every_parameter_set_is_counted_and_the_mean_the_least_and_the_most_are_kept() {
    let various = Actor { statements: |number| if number == 5 { 12 } else { 4 }, ..own("various", 1.0) };
    let silent = Actor { can: vec![Mode::Answer, Mode::Time], ..program("silent", 1.0) };
    let mut script = Script::new(vec![various, program("growing", 1.0), silent]).with_parameters();
    let checks = checked(&mut script);
    let measured = |at: usize| &checks.entries[at].probe.as_ref().unwrap().measured;
    let expected = Counted { mean: 5.0, least: 4, most: 12, how: How::Inside };
    assert_eq!(measured(0).counted(Measure::Statements), Some(expected));
    assert_eq!(measured(1).how(Measure::Statements), Some(How::Reported));
    assert_eq!(measured(1).counted(Measure::HeapPeak), Some(Counted::always(4096, How::Resident)));
    assert_eq!(measured(2).iter().count(), 0);
    assert_eq!(script.asked.iter().filter(|(at, mode, ..)| *at == 0 && *mode == Mode::Count).count(), 8);
}

#[test]
fn a_slow_way_is_called_seldom_before_a_race_and_no_call_is_made_only_to_learn_a_time() {
    let calls = |milliseconds: f64, probe: bool| {
        let mut script = Script::new(vec![own("way", milliseconds)]).with_parameters();
        let checks = check(&mut script, None, if probe { FOR_RACE } else { Purpose::default() }, &mut |_| {}).unwrap();
        let answers: usize = script.compared.iter().map(|(_, sets)| sets).sum();
        let counted = script.asked.iter().filter(|(_, mode, ..)| *mode == Mode::Count).count();
        let call = checks.entries[0].probe.as_ref().map(|probe| probe.call_ns);
        (answers, counted, script.asked.len() - counted, script.starts_of(0), call)
    };
    assert_eq!(calls(1.0, true), (8, 8, 0, 1, Some(1e6)));
    // As many answers as fit into half a second, and two at least where nothing was proven on few rows.
    assert_eq!(calls(80.0, true), (6, 2, 0, 1, Some(80e6)));
    assert_eq!(calls(800.0, true), (2, 2, 0, 1, Some(800e6)));
    // A check that is asked for compares all of them.
    assert_eq!(calls(80.0, false), (8, 0, 0, 1, None));
}

#[test]
fn a_program_that_is_far_quicker_with_what_it_was_asked_before_is_pointed_out() {
    let keeps = Actor { kept: 0.1, ..program("keeps", 1.0) };
    // One that gets warm with time is slow at the beginning, whatever it was asked.
    let warms = Actor { cold: 8.0, ..program("warms", 1.0) };
    let field = || vec![own("own", 1.0), keeps.clone(), warms.clone(), program("plain", 1.1)];
    let seen = |checks: &Checks| checks.entries.iter().map(|entry| entry.seen_before.is_some()).collect::<Vec<_>>();
    let checks = checked(&mut Script::new(field()).with_parameters());
    assert_eq!(seen(&checks), [false, true, false, false]);
    let said = checks.entries[1].seen_before.unwrap();
    assert!((0.09..0.12).contains(&said.own) && (0.9..1.1).contains(&said.others), "{said:?}");
    // Where all are as much quicker, as on data that is cold at first, nobody is.
    let cold = Actor { kept: 0.15, ..own("own", 1.0) };
    assert_eq!(seen(&checked(&mut Script::new(vec![cold, keeps.clone()]).with_parameters())), [false, false]);
    // Without parameters nobody can tell, and a check alone does not look.
    assert_eq!(seen(&checked(&mut Script::new(field()))), [false; 4]);
    let alone = check(&mut Script::new(field()).with_parameters(), None, Purpose::default(), &mut |_| {}).unwrap();
    assert_eq!(seen(&alone), [false; 4]);
}

#[test]
fn an_end_while_survivors_are_asked_once_more_keeps_the_rounds() {
    let field = || Script::new(vec![own("one", 1.0), own("other", 1.5)]).with_parameters();
    let mut script = field();
    let (_, whole) = raced(&mut script, &options(400));
    let starts = script.starts_of(0) + script.starts_of(1);
    // Ctrl-C after the last round, before and between the two that are asked.
    for stops_after in [starts - 1, starts - 2].into_iter().take(whole.race.racing().len()) {
        let mut script = field();
        let checks = checked(&mut script);
        script.stops_after = Some(stops_after);
        let report = race(&mut script, &checks, &options(400), &mut |_| {}).unwrap();
        assert_eq!((report.not_confirmed.as_deref(), report.race.rounds()), (Some("interrupted"), whole.race.rounds()));
        assert_eq!(report.race.leader(), whole.race.leader());
    }
    let mut script = field();
    let checks = checked(&mut script);
    script.no_right_after = Some(starts - whole.race.racing().len());
    let report = race(&mut script, &checks, &options(400), &mut |_| {}).unwrap();
    assert_eq!((report.not_confirmed.as_deref(), report.race.rounds()), (Some("the server went away"), whole.race.rounds()));
    // In the middle of a round: the whole rounds before are kept, and before the first there is nothing to keep.
    let mut script = field();
    let checks = checked(&mut script);
    script.stops_after = Some(2 + 5);
    let report = race(&mut script, &checks, &options(400), &mut |_| {}).unwrap();
    assert_eq!((report.interrupted, report.race.rounds(), report.not_confirmed.as_deref()), (true, 2, Some("interrupted")));
    let mut script = field();
    let checks = checked(&mut script);
    script.stops_after = Some(3);
    assert_eq!(race(&mut script, &checks, &options(400), &mut |_| {}).unwrap_err(), Trouble::Interrupted);
}

#[test]
fn a_wrong_answer_after_the_race_and_one_that_breaks_in_it_are_told_apart() {
    let wrong = Actor { wrong_from: 11, ..own("wrong", 1.0) };
    let breaks = Actor { breaks_at: Some(5), ..own("breaks", 1.0) };
    let never = Actor { breaks_at: Some(1), ..own("never", 1.0) };
    let silent = Actor { can: vec![Mode::Answer], ..program("silent", 1.0) };
    let mut script = Script::new(vec![wrong, breaks, own("right", 1.02), never, silent]);
    let (checks, report) = raced(&mut script, &RaceOptions { settings: HOUR_SETTINGS(Goal::Exact), ..options(400) });
    let fault = |at: usize| (report.entrants[at].fault, report.entrants[at].failed_after);
    assert_eq!(fault(0), (Some(EntrantFault::Disagrees), Some(report.race.rounds())));
    assert_eq!((fault(1), report.entrants[1].runs.rounds.len()), ((Some(EntrantFault::Failed), Some(3)), 3));
    assert_eq!(fault(2), (None, None));
    assert!(matches!(trouble(&checks, 3), Some(Trouble::Ended(..))));
    assert_eq!(report.entrants[4].reason.as_deref(), Some("it cannot be timed"));
    assert_eq!(report.race.leader(), Some(2));
}

#[test]
fn who_is_hopeless_in_the_check_does_not_start_unless_it_may_be_good_enough() {
    let field = || Script::new(vec![own("fast", 1.0), own("hopeless", 55.0)]);
    let mut script = field();
    let (_, report) = raced(&mut script, &options(20));
    assert!(matches!(report.entrants[1].timed, Timed::InCheck(nanos) if nanos >= 50e6));
    assert_eq!(script.starts_of(1), 1, "the check, where its answer and what was counted have taken long");
    // Two long calls say enough; shorter ones may be those of a slow start.
    for (milliseconds, calls) in [(40.0, 2), (60.0, 0)] {
        let mut script = Script::new(vec![own("fast", 1.0), own("hopeless", milliseconds)]);
        raced(&mut script, &options(20));
        assert_eq!(script.asked.iter().filter(|(at, mode, ..)| *at == 1 && *mode == Mode::Time).count(), calls);
    }
    // Within what is required it may be chosen; one beside the race outclasses nobody; a pair is raced to its end.
    let kept = RaceSettings { keep_below: Some(60e6), ..options(20).settings };
    for options in [
        RaceOptions { settings: kept, ..options(20) },
        RaceOptions { beside: vec![true, false], ..options(20) },
        RaceOptions { settings: RaceSettings { goal: Goal::Pair, ..options(20).settings }, ..options(20) },
    ] {
        let (_, report) = raced(&mut field(), &options);
        assert_eq!(report.entrants[1].timed, Timed::InRounds, "{options:?}");
    }
}

#[test]
fn no_round_begins_that_cannot_end_in_time_and_a_limit_that_is_open_keeps_a_race_going() {
    let field = || Script::new(vec![own("one", 1.0), own("other", 1.001)]);
    let exact = RaceSettings { goal: Goal::Exact, margin: 0.0001, ..RaceSettings::default() };
    let (_, report) = raced(&mut field(), &RaceOptions { settings: exact, time: Duration::from_millis(500), ..options(400) });
    assert!(report.total <= Duration::from_millis(500) && report.race.rounds() > 3, "{:?}", report.total);
    // The median lies on the limit: a race that is decided goes on for it.
    let limits = TimeLimits { median: Some(1.005e6), ..TimeLimits::default() };
    let (_, decided) = raced(&mut field(), &options(60));
    let (_, open) = raced(&mut field(), &RaceOptions { limits, ..options(60) });
    assert!(open.race.rounds() > decided.race.rounds(), "{} {}", open.race.rounds(), decided.race.rounds());
    // The 95th percentile needs twenty calls of a round.
    let (_, report) = raced(&mut field(), &RaceOptions { least_calls: 20, ..options(10) });
    assert_eq!(report.entrants[0].runs.p95.len(), report.race.rounds());
}

#[test]
fn the_least_time_is_that_of_the_rounds_that_those_near_the_best_need() {
    let time = |field: Vec<Actor>, options: &RaceOptions| {
        let mut script = Script::new(field);
        let checks = checked(&mut script);
        least_time(&script, &checks, options).as_secs_f64()
    };
    let near = time(vec![own("one", 1.0), own("other", 1.2)], &options(400));
    let with_far = time(vec![own("one", 1.0), own("other", 1.2), own("far", 10.0)], &options(400));
    let with_hopeless = time(vec![own("one", 1.0), own("other", 1.2), own("hopeless", 100.0)], &options(400));
    assert!(near > 0.05 && near < 1.0, "{near}");
    assert!(with_far > near && with_far < 1.6 * near, "two rounds of the far one: {with_far} {near}");
    // More contenders need more rounds; one that does not start takes none of its own.
    assert!(with_hopeless < with_far, "{with_hopeless} {with_far}");
}

fn any_actor() -> impl Strategy<Value = (f64, u8, u8, bool)> {
    (0.3f64..4.0, 0u8..8, 0u8..12, any::<bool>())
}

proptest! {
    #![proptest_config(kampf_mangle::property(60))]

    #[test]
    fn honest_contenders_are_never_accused_and_liars_are_nowhere(field in prop::collection::vec(any_actor(), 2..6), parameters in any::<bool>()) {
        const NAMES: [&str; 6] = ["a", "b", "c", "d", "e", "f"];
        let lies = [Lie::Spans(0.001), Lie::Spans(0.5), Lie::Missing, Lie::Idle];
        let mut actors = vec![own("kampf", 1.0)];
        let mut liars = vec![false];
        for ((call, kind, from, is_program), name) in field.into_iter().zip(NAMES) {
            let honest = if is_program { program(name, call) } else { own(name, call) };
            let lie = lies.get(usize::from(kind)).copied().filter(|_| is_program);
            liars.push(lie.is_some());
            actors.push(lie.map_or(honest.clone(), |lie| Actor { lies_from: usize::from(from), ..lying(honest, lie) }));
        }
        let play = |actors: Vec<Actor>| {
            let script = Script::new(actors);
            let mut script = if parameters { script.with_parameters() } else { script };
            raced(&mut script, &options(40))
        };
        let (checks, report) = play(actors.clone());
        for (at, is_liar) in liars.iter().enumerate() {
            let accused = is_not_believed(&checks, at) || report.entrants[at].fault == Some(EntrantFault::NotBelieved);
            // One that was out before it began to lie has not lied.
            let ran = report.entrants[at].runs.ran.len();
            if !is_liar {
                prop_assert!(!accused, "{}: {:?} {:?}", actors[at].name, checks.entries[at].verdict, report.entrants[at].reason);
            } else if accused {
                prop_assert_eq!(ran, 0);
                prop_assert!(report.race.standings().iter().all(|standing| standing.left.is_none_or(|(left, _)| left.leader != at)));
            } else {
                // Its times are the clock's.
                let real = actors[at].call;
                let least = report.entrants[at].runs.rounds.iter().copied().fold(f64::INFINITY, f64::min);
                prop_assert!(least >= 0.99 * real, "{}: {least} of {real}", actors[at].name);
            }
        }
        prop_assert!(report.race.leader().is_some_and(|leader| !is_not_believed(&checks, leader)));
    }
}
