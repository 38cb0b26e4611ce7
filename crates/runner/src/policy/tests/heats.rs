//! Heats after the first: who enters, who runs, how long.

use std::time::Duration;

use kampf_race::{Finding, RaceSettings, TimeLimits};

use super::script::{Actor, Lie, Script, lying, own, program};
use super::{FOR_RACE, checked, findings, options};
use crate::event::Event;
use crate::policy::check::{CheckedVerdict, Checks, check_more};
use crate::policy::heats::{Around, first_heat, last_question, next_heat};
use crate::policy::race::{EntrantFault, HeatRun, RaceOptions, RaceReport, State, Timed};

fn two_heats(rounds: usize) -> RaceOptions {
    let settings = RaceSettings { entrants: 24, ..options(rounds).settings };
    RaceOptions { settings, ..options(rounds) }
}

/// The first heat of some, and what is known when others have entered: their check, and a stage with all.
fn first(field: &[Actor], more: Vec<Actor>, options: &RaceOptions) -> (State, Checks, Script) {
    let mut script = Script::new(field.to_vec());
    let checks = checked(&mut script);
    let state = first_heat(&mut script, &checks, options, &mut |_| {}).expect("the first heat ends");
    let mut all = Script::new(field.iter().cloned().chain(more).collect());
    let checks = check_more(&mut all, &checks, None, FOR_RACE, &mut |_| {}).expect("the check ends");
    (state, checks, all)
}

fn ended(script: &mut Script, checks: &Checks, options: &RaceOptions, state: State) -> RaceReport {
    last_question(script, checks, options, state, &mut |_| {}).expect("the race ends")
}

#[test]
fn those_that_enter_are_checked_alone_and_run_beside_the_anchor() {
    let options = two_heats(200);
    let field = [own("naive", 6.0), own("one", 1.0), own("two", 1.3)];
    let (state, checks, mut script) = first(&field, vec![own("lean", 0.6), own("dear", 1.7), own("hopeless", 70.0)], &options);
    let asked: Vec<usize> = script.compared.iter().map(|(at, _)| *at).collect();
    assert_eq!((asked, checks.entries.len()), (vec![5, 4, 3], 6));
    let rounds = state.race().rounds();
    // It ends when nobody can be faster by a tenth, be it open by how much others are behind.
    assert!(state.race().is_known_enough() && rounds < 30, "{rounds}");
    let mut begun = Vec::new();
    let around = Around { anchor: 1, members: &[3, 4, 5], beside: &[false; 6] };
    let between = Duration::from_millis(300);
    let state = next_heat(&mut script, &checks, &options, (state, Some(around)), between, &mut |event| {
        if let Event::Heat(heat) = event {
            begun.push((heat.anchor.to_owned(), heat.entered.to_vec()));
        }
    })
    .unwrap();
    assert_eq!(begun, [("one".to_owned(), vec!["lean".to_owned(), "dear".to_owned(), "hopeless".to_owned()])]);
    assert!(state.race().beats_anchor() && state.race().leader() == Some(3));
    // The next one is around the one that beats it; nobody enters for it.
    let second = state.race().rounds();
    let around = Around { anchor: 3, members: &[], beside: &[false; 6] };
    let state = next_heat(&mut script, &checks, &options, (state, Some(around)), Duration::ZERO, &mut |_| {}).unwrap();
    let report = ended(&mut script, &checks, &options, state);
    let heats = [
        HeatRun { after: rounds, anchor: 1, members: vec![3, 4, 5], entered: 3 },
        HeatRun { after: second, anchor: 3, members: Vec::new(), entered: 0 },
    ];
    assert_eq!(report.heats, heats);
    assert!(matches!(report.entrants[5].timed, Timed::InCheck(_)), "it does not start");
    // One that was open in the first heat goes on until it is slower, the anchor always.
    assert!(report.entrants[2].runs.ran.contains(&rounds) && report.entrants[2].runs.ran.len() < second);
    assert!((rounds..second).all(|round| report.entrants[1].runs.ran.contains(&round)));
    assert!(report.entrants[3].runs.ran.iter().all(|round| *round >= rounds));
    // Beside the new leader all are told, though most have not run with it.
    assert_eq!(
        findings(&report),
        [Finding::Outclassed, Finding::Slower, Finding::Slower, Finding::Leads, Finding::Slower, Finding::Outclassed]
    );
    // The time between heats is none of the rounds.
    assert!(report.total < Duration::from_secs(2) && report.total > Duration::ZERO, "{:?}", report.total);
}

#[test]
fn the_first_heat_has_half_of_the_time_and_the_check_of_others_counts() {
    // Whether it keeps a limit on time is open all the time.
    let settings = RaceSettings { margin: 0.0001, ..two_heats(4000).settings };
    let limits = TimeLimits { median: Some(1.005e6), ..TimeLimits::default() };
    let options = RaceOptions { settings, limits, time: Duration::from_secs(4), ..two_heats(4000) };
    let field = [own("one", 1.0), own("two", 1.001)];
    let (state, checks, mut script) = first(&field, vec![own("three", 1.0)], &options);
    let first_rounds = state.race().rounds();
    let spent = state.report().total;
    assert!(spent <= Duration::from_secs(2) && spent > Duration::from_millis(1800), "{spent:?}");
    let around = Around { anchor: 0, members: &[2], beside: &[false; 3] };
    let between = Duration::from_secs(1);
    let state = next_heat(&mut script, &checks, &options, (state, Some(around)), between, &mut |_| {}).unwrap();
    let spent = state.report().total;
    assert!(spent <= Duration::from_secs(3) && spent > Duration::from_millis(2800), "{spent:?}");
    assert!(state.race().rounds() > first_rounds && state.report().entrants[1].runs.rounds.len() > first_rounds, "who is open goes on");
    // Where nobody enters, the first heat goes on with all of the time.
    let (state, checks, _) = first(&field, Vec::new(), &options);
    let mut script = Script::new(field.to_vec());
    let state = next_heat(&mut script, &checks, &options, (state, None), Duration::ZERO, &mut |_| {}).unwrap();
    let spent = state.report().total;
    assert!(spent <= Duration::from_secs(4) && spent > Duration::from_millis(3800), "{spent:?}");
    assert!(state.report().heats.is_empty());
}

#[test]
fn who_enters_and_fails_or_differs_is_out_and_the_heat_goes_on() {
    let options = two_heats(200);
    let field = [own("one", 1.0), own("two", 1.4)];
    let wrong = Actor { wrong_from: 1, ..own("wrong", 0.5) };
    let breaks = Actor { breaks_at: Some(4), ..own("breaks", 0.9) };
    let (state, checks, mut script) = first(&field, vec![wrong, breaks, own("right", 1.2)], &options);
    assert!(matches!(checks.entries[2].verdict, CheckedVerdict::Disagrees(..)));
    let around = Around { anchor: 0, members: &[2, 3, 4], beside: &[false; 5] };
    let state = next_heat(&mut script, &checks, &options, (state, Some(around)), Duration::ZERO, &mut |_| {}).unwrap();
    let report = ended(&mut script, &checks, &options, state);
    assert_eq!(findings(&report), [Finding::Leads, Finding::Slower, Finding::Failed, Finding::Failed, Finding::Slower]);
    assert_eq!((report.entrants[3].fault, report.entrants[3].runs.rounds.len()), (Some(EntrantFault::Failed), 2));
}

#[test]
fn an_anchor_that_is_not_believed_later_takes_its_heat_with_it() {
    let options = two_heats(60);
    let liar = Actor { lies_from: 14, ..lying(program("liar", 0.5), Lie::Spans(1e-3)) };
    let field = [liar, own("one", 1.0), own("two", 1.02)];
    let (state, checks, mut script) = first(&field, vec![own("three", 1.1)], &options);
    assert_eq!(state.race().leader(), Some(0));
    let around = Around { anchor: 0, members: &[3], beside: &[false; 4] };
    // On the other stage it has been started less often.
    for _ in 0..14 {
        crate::policy::stage::Stage::start(&mut script, 0).unwrap();
    }
    let state = next_heat(&mut script, &checks, &options, (state, Some(around)), Duration::ZERO, &mut |_| {}).unwrap();
    let report = ended(&mut script, &checks, &options, state);
    assert_eq!((report.entrants[0].fault, report.race.anchor()), (Some(EntrantFault::NotBelieved), None));
    assert_eq!((report.race.leader(), findings(&report)[0]), (Some(1), Finding::Failed));
    // Everybody runs again, the one that entered too.
    assert!(report.entrants[3].runs.rounds.len() > 8 && report.race.is_decided(), "{:?}", findings(&report));
}
