//! Who is alive, and who is called when.

use kampf_protocol::Mode;
use kampf_race::Finding;

use super::script::{Actor, Lie, Script, lying, own, program};
use super::{checked, findings, options, race, raced};
use crate::event::Event;

/// Who was called in which order, between two starts of the first round.
fn slices(script: &Script) -> Vec<usize> {
    script.asked.iter().filter(|(_, mode, ..)| *mode == Mode::Time).map(|(at, ..)| *at).collect()
}

#[test]
fn all_are_started_first_and_then_called_by_turns_in_changing_orders() {
    let field: Vec<Actor> = ["one", "two", "three", "four"].into_iter().map(|name| own(name, 1.0)).collect();
    let mut script = Script::new(field);
    let checks = checked(&mut script);
    script.asked.clear();
    race(&mut script, &checks, &options(1), &mut |_| {}).unwrap();
    let called = slices(&script);
    // Each makes its first call, and then there are turns in which everybody has one slice.
    let turns: Vec<Vec<usize>> = called[4..].chunks(4).map(<[usize]>::to_vec).collect();
    assert!(turns.len() >= 5, "{called:?}");
    for turn in called.chunks(4) {
        let mut all = turn.to_vec();
        all.sort_unstable();
        assert_eq!(all, [0, 1, 2, 3], "{called:?}");
    }
    assert!(turns.iter().any(|turn| *turn != turns[0]), "{turns:?}");
}

#[test]
fn with_parameters_a_turn_has_one_set_the_same_for_all_and_long_calls_have_one_in_a_round() {
    let sets_a_round = |milliseconds: f64| {
        let mut script = Script::new(vec![own("one", milliseconds), own("two", milliseconds * 1.01)]).with_parameters();
        let checks = checked(&mut script);
        script.asked.clear();
        race(&mut script, &checks, &options(1), &mut |_| {}).unwrap();
        assert!(script.asked.iter().all(|(.., sets)| *sets == 1), "a slice is of one set: {:?}", script.asked);
        // Two first calls, and then slices of two.
        (script.asked.len() - 2) / 2
    };
    assert_eq!([1.0, 20.0, 300.0].map(sets_a_round), [24, 8, 1]);
}

#[test]
fn a_program_that_works_while_others_have_their_turn_is_stopped_meanwhile_and_it_is_said() {
    // 2 ms a slice: 10 us beside it are nothing, 100 us are 5 %.
    let idle = |name, idle| Actor { idle, ..program(name, 2.0) };
    let mut script = Script::new(vec![idle("busy", 100e3), idle("calm", 10e3), own("own", 2.0)]);
    let mut said = Vec::new();
    let checks = checked(&mut script);
    let report = race(&mut script, &checks, &options(3), &mut |event| {
        if let Event::Halted(name) = event {
            said.push(name.to_owned());
        }
    });
    let halted: Vec<bool> = report.unwrap().entrants.iter().map(|entrant| entrant.is_halted).collect();
    assert_eq!((halted, said), (vec![true, false, false], vec!["busy".to_owned()]));
    assert!(script.halted.len() > 10 && script.halted.iter().all(|at| *at == 0), "{:?}", script.halted);
}

#[test]
fn a_program_that_puts_its_time_into_one_slice_gains_nothing_by_it() {
    let shifty = Actor { lies_from: 3, ..lying(program("shifty", 4.0), Lie::Shifted) };
    let (_, report) = raced(&mut Script::new(vec![shifty, own("own", 4.0)]).with_parameters(), &options(20));
    let runs = &report.entrants[0].runs;
    assert!(runs.rounds.len() >= 8 && runs.rounds.iter().all(|nanos| *nanos > 3.9e6), "{:?}", runs.rounds);
}

#[test]
fn a_field_that_is_too_large_is_dealt_into_groups_with_the_leader_in_each() {
    let names: Vec<&'static str> = (0..10).map(|at| ["a", "b", "c", "d", "e", "f", "g", "h", "i", "j"][at]).collect();
    let field = names.iter().enumerate().map(|(at, name)| own(name, 1.0 + 0.2 * at as f64)).collect();
    let mut script = Script::new(field);
    script.most_alive = 4;
    let (_, report) = raced(&mut script, &options(400));
    assert_eq!(report.race.leader(), Some(0));
    assert!(report.race.is_decided(), "{:?}", report.race.standings());
    assert!(script.most_there <= 4, "{}", script.most_there);
    // The leader ran in every group, once it was known.
    let leader = &report.entrants[0].runs;
    assert!(leader.rounds.len() + 3 >= report.race.rounds(), "{} of {}", leader.rounds.len(), report.race.rounds());
    assert!(findings(&report)[1..].iter().all(|finding| *finding == Finding::Slower), "{:?}", findings(&report));
}

#[test]
fn a_server_that_takes_fewer_connections_makes_groups_smaller_and_nobody_fails() {
    for connections in [1, 2, 5] {
        let field: Vec<Actor> = ["one", "two", "three", "four", "five", "six"].into_iter().map(|name| own(name, 1.0)).collect();
        let mut script = Script::new(field);
        script.connections = connections;
        let (_, report) = raced(&mut script, &options(30));
        assert!(report.entrants.iter().all(|entrant| entrant.fault.is_none()), "{connections}");
        assert!(report.entrants.iter().all(|entrant| entrant.runs.rounds.len() >= 5), "{connections}");
        assert_eq!(script.most_there, connections);
    }
}
