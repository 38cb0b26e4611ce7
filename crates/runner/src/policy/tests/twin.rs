//! What few rows prove, and what a contradiction on many leads to.

use super::FOR_RACE;
use super::script::{Actor, Script, own, program};
use crate::policy::check::{CheckedVerdict, Checks, Known, check, prove};
use crate::trouble::Trouble;
use kampf_contest::Unclear;

/// The check of some contenders on many rows, after that on few.
fn checked(on_twin: Vec<Actor>, here: Vec<Actor>, decides: bool) -> Checks {
    let mut twin = Script::new(on_twin).with_parameters();
    let proof = prove(&mut twin, &mut |_| {}).expect("the check ends");
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
    prove(&mut twin, &mut |_| {}).expect("the check ends");
    assert_eq!(twin.compared, [(0, 9), (1, 8)]);
}

#[test]
fn who_has_proven_itself_is_stopped_where_it_takes_too_long_to_start_anyway() {
    use crate::policy::check::Purpose;
    use crate::policy::race::{Timed, race};
    // The leanest stand last in a field and are checked first; a call of 30 ms makes 630 ms long, and a second is.
    let field = || vec![own("hopeless", 5_000.0), program("program", 1_500.0), own("far", 900.0), own("lean", 30.0)];
    let proof = prove(&mut Script::new(field()), &mut |_| {}).expect("the check ends");
    let checked = |proof: Option<&super::super::check::Proof>, purpose| {
        let mut script = Script::new(field());
        let checks = check(&mut script, proof, purpose, &mut |_| {}).expect("the check ends");
        let stopped: Vec<bool> = checks.entries.iter().map(|entry| entry.probe.as_ref().is_some_and(|probe| probe.is_stopped)).collect();
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
    assert_eq!(checked(Some(&proof), Purpose::Race { stop_above: None }).1, [false; 4]);
    assert_eq!(checked(Some(&proof), Purpose::Race { stop_above: Some(std::time::Duration::from_secs(6)) }).1, [false; 4]);
}
