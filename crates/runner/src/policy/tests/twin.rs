//! What few rows prove, and what a contradiction on many leads to.

use super::FOR_RACE;
use super::script::{Actor, Script, own, program};
use crate::event::Event;
use crate::policy::check::{CheckedVerdict, Checks, Known, Purpose, check, prove};
use crate::trouble::Trouble;
use kampf_contest::Unclear;
use kampf_protocol::Mode;

/// The check of some contenders on many rows, after that on few.
fn checked(on_twin: Vec<Actor>, here: Vec<Actor>, decides: bool) -> Checks {
    let mut twin = Script::new(on_twin).with_parameters();
    let proof = prove(&mut twin, 0, &mut |_| {}).expect("the check ends");
    let mut script = Script::new(here).with_parameters();
    (script.known, script.decides) = (Known::Sampled(1_000), decides);
    let checks = check(&mut script, Some(&proof), FOR_RACE, &mut |_| {}).expect("the check ends");
    assert_eq!(checks.twin.as_ref().map(|twin| twin.rows), Some(20_000));
    checks
}

fn wrong(actor: Actor) -> Actor {
    Actor { wrong_from: 1, ..actor }
}

#[test]
fn who_differs_on_few_rows_is_not_asked_on_many() {
    let field = || vec![own("one", 1.0), own("two", 1.0)];
    let checks = checked(vec![own("one", 1.0), wrong(own("two", 1.0))], field(), false);
    assert_eq!(checks.entries[0].verdict, CheckedVerdict::Agrees);
    assert!(matches!(checks.entries[1].verdict, CheckedVerdict::Disagrees(..)) && checks.entries[1].on_twin);
    assert!(checks.entries[0].probe.is_some() && checks.entries[1].probe.is_none());
    assert_eq!((checks.known, checks.contradiction), (Known::Sampled(1_000), None));
}

#[test]
fn where_derived_ones_differ_on_many_and_nothing_decides_nobody_is_right() {
    let few = || vec![own("one", 1.0), own("two", 1.0), program("third", 1.0)];
    let many = vec![own("one", 1.0), wrong(own("two", 1.0)), program("third", 1.0)];
    let checks = checked(few(), many, false);
    for entry in &checks.entries {
        assert_eq!((&entry.verdict, &entry.probe), (&CheckedVerdict::Undecided(Unclear::NobodyKnows), &None), "{}", entry.name);
    }
    assert_eq!(checks.contradiction.map(|contradiction| contradiction.name), Some("two".to_owned()));
}

#[test]
fn where_plain_evaluation_decides_who_is_wrong_differs() {
    let few = || vec![own("one", 1.0), own("two", 1.0)];
    let checks = checked(few(), vec![own("one", 1.0), wrong(own("two", 1.0))], true);
    assert_eq!((&checks.known, &checks.contradiction), (&Known::Plainly, &None));
    assert_eq!(checks.entries[0].verdict, CheckedVerdict::Agrees);
    assert!(matches!(checks.entries[1].verdict, CheckedVerdict::Disagrees(..)) && !checks.entries[1].on_twin);
}

#[test]
fn what_is_not_derived_differs_from_what_derived_ones_agree_on() {
    let few = || vec![own("one", 1.0), program("two", 1.0)];
    let checks = checked(few(), vec![own("one", 1.0), wrong(program("two", 1.0))], false);
    assert_eq!((&checks.known, &checks.contradiction), (&Known::Sampled(1_000), &None));
    assert_eq!(checks.entries[0].verdict, CheckedVerdict::Agrees);
    assert!(matches!(checks.entries[1].verdict, CheckedVerdict::Disagrees(..)));
}

#[test]
fn a_program_that_is_right_on_many_rows_alone_does_not_use_its_address() {
    let many = vec![own("one", 1.0), program("two", 1.0), program("three", 1.0)];
    let checks = checked(vec![own("one", 1.0), wrong(program("two", 1.0)), wrong(program("three", 1.0))], many, false);
    for entry in &checks.entries[1..] {
        assert!(matches!(&entry.verdict, CheckedVerdict::Failed(Trouble::NotBelieved(why)) if why.contains("address")), "{entry:?}");
    }
    let many = vec![own("one", 1.0), wrong(program("two", 1.0))];
    let checks = checked(vec![own("one", 1.0), wrong(program("two", 1.0))], many, false);
    assert!(matches!(checks.entries[1].verdict, CheckedVerdict::Disagrees(..)), "it is wrong everywhere");
}

#[test]
fn parameters_at_the_edges_are_only_for_what_is_derived() {
    let mut twin = Script::new(vec![own("one", 1.0), program("two", 1.0)]).with_parameters();
    prove(&mut twin, 0, &mut |_| {}).expect("the check ends");
    assert_eq!(twin.compared, [(0, 1), (0, 8), (1, 1), (1, 7)]);
}

#[test]
fn who_has_proven_itself_is_stopped_where_it_takes_too_long_to_start_anyway() {
    use super::race;
    use crate::policy::race::Timed;
    // The leanest stand last in a field and are checked first; a call of 30 ms makes 630 ms long, and a second is.
    let field = || vec![own("hopeless", 5_000.0), program("program", 1_500.0), own("far", 900.0), own("lean", 30.0)];
    let proof = prove(&mut Script::new(field()), 0, &mut |_| {}).expect("the check ends");
    let checked = |proof: Option<&super::super::check::Proof>, purpose| {
        let mut script = Script::new(field());
        let checks = check(&mut script, proof, purpose, &mut |_| {}).expect("the check ends");
        let stopped: Vec<bool> = checks.entries.iter().map(|entry| entry.stopped_after.is_some()).collect();
        (checks, stopped)
    };
    let (checks, stopped) = checked(Some(&proof), FOR_RACE);
    assert_eq!(stopped, [true, false, false, false]);
    assert!(checks.entries.iter().all(|entry| entry.verdict == CheckedVerdict::Agrees));
    let probe = checks.entries[0].probe.as_ref().unwrap();
    assert!((probe.call_ns / 1e9 - 1.0).abs() < 1e-6 && probe.measured.iter().count() == 0, "{probe:?}");
    // So it is left out, with the time that it took at least.
    let report = race(&mut Script::new(field()), &checks, &super::options(3), &mut |_| {}).unwrap();
    assert!(matches!(report.entrants[0].timed, Timed::InCheck(nanos) if nanos >= 1e9), "{:?}", report.entrants[0].timed);
    // Who has not proven itself, or is to run to the end, is waited for.
    assert_eq!(checked(None, FOR_RACE).1, [false; 4]);
    assert_eq!(checked(Some(&proof), Purpose { stop_above: None, ..FOR_RACE }).1, [false; 4]);
    assert_eq!(checked(Some(&proof), Purpose { stop_above: Some(std::time::Duration::from_secs(6)), ..FOR_RACE }).1, [false; 4]);
}

#[test]
fn those_that_are_quick_on_few_rows_are_asked_first_and_the_hopeless_are_counted_once() {
    let field = |factor: f64| vec![own("naive", 5_000.0 * factor), own("quick", 5.0 * factor), own("lean", 300.0 * factor)];
    let mut twin = Script::new(field(0.1)).with_parameters();
    let proof = prove(&mut twin, 0, &mut |_| {}).expect("the check ends");
    // Slow ways answer two usual sets there and the one at the edge.
    assert_eq!(twin.compared, [(0, 1), (0, 2), (1, 1), (1, 8), (2, 1), (2, 8)]);
    let mut script = Script::new(field(1.0)).with_parameters();
    let mut order = Vec::new();
    let checks = check(&mut script, Some(&proof), FOR_RACE, &mut |event| {
        if let Event::Checking(checking) = event {
            order.push((checking.name.to_owned(), checking.at_most));
        }
    });
    let checks = checks.expect("the check ends");
    let second = std::time::Duration::from_secs(1);
    assert_eq!(order, [("quick".to_owned(), None), ("lean".to_owned(), Some(2 * second)), ("naive".to_owned(), Some(second))]);
    assert_eq!(checks.entries.iter().map(|entry| entry.stopped_after).collect::<Vec<_>>(), [Some(second), None, None]);
    let counted = |at: usize| script.asked.iter().filter(|asked| asked.0 == at && asked.1 == Mode::Count).count();
    assert_eq!([counted(0), counted(1), counted(2)], [0, 8, 1]);
    // A check without a race after it stops them too, if it is to.
    let stopped = |stop_above| {
        let checks = check(&mut Script::new(field(1.0)), Some(&proof), Purpose { is_for_race: false, stop_above }, &mut |_| {}).unwrap();
        checks.entries.iter().filter(|entry| entry.stopped_after.is_some()).count()
    };
    assert_eq!((stopped(Some(second)), stopped(None)), (1, 0));
}
