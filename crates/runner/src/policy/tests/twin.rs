//! What few rows prove, and what a contradiction on many leads to.

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
    let checks = check(&mut script, Some(&proof), true, &mut |_| {}).expect("the check ends");
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
