//! Facts made up by hand.

use kampf_contest::{ByHand, Choice, Choices, Counted, How, Hydration, Measure, Measured};
use kampf_race::RaceSettings;
use kampf_verdict::{ContenderFacts, Facts, Fault, FaultKind, Verdict};

/// The choices of a name: its options, joined by points.
pub(crate) fn choices(name: &str) -> Option<Choices> {
    let mut choices = Choices::default();
    for word in name.split('.') {
        choices =
            choices.with_opt(Choice::ALL.into_iter().find_map(|choice| choice.option(word).filter(|option| option.label().is_none()))?);
    }
    Some(choices)
}

/// So many rounds around a time in milliseconds, with a little noise that differs between contenders.
pub(crate) fn rounds(milliseconds: f64, many: usize, salt: usize) -> Vec<f64> {
    (0..many).map(|at| milliseconds * 1e6 * (1.0 + 0.01 * ((at * 7 + salt * 3) % 11) as f64 / 11.0)).collect()
}

/// A contender that ran the first rounds; derived, where its name is made of options.
pub(crate) fn contender(name: &str, rounds: Vec<f64>) -> ContenderFacts {
    let choices = choices(name);
    let mut measured = Measured::default();
    for (measure, value) in [(Measure::Statements, 1), (Measure::RoundTrips, 1), (Measure::HeapPeak, 1000)] {
        measured.set(measure, Counted::always(value, How::Inside));
    }
    ContenderFacts {
        name: name.to_owned(),
        choices,
        keeps_nothing: choices.and_then(|choices| choices.get()) == Some(Hydration::Raw),
        ran: (0..rounds.len()).collect(),
        rounds,
        measured,
        by_hand: Some(ByHand { statements: 0, columns: 0, characters: 0 }),
        ..ContenderFacts::default()
    }
}

pub(crate) fn with_hand(mut contender: ContenderFacts, statements: usize) -> ContenderFacts {
    contender.by_hand = Some(ByHand { statements, columns: 0, characters: 0 });
    contender
}

pub(crate) fn counted(mut contender: ContenderFacts, measure: Measure, value: u64) -> ContenderFacts {
    contender.measured.set(measure, Counted::always(value, How::Inside));
    contender
}

pub(crate) fn failed(mut contender: ContenderFacts, kind: FaultKind) -> ContenderFacts {
    let after = contender.rounds.len();
    contender.fault = Some(Fault { kind, reason: "it broke".to_owned(), after });
    contender
}

/// A race of them to 5 %.
pub(crate) fn facts(contenders: Vec<ContenderFacts>) -> Facts {
    Facts {
        settings: RaceSettings::default(),
        rounds: contenders.iter().flat_map(|one| one.ran.last()).max().map_or(0, |last| last + 1),
        contenders,
        ..Facts::default()
    }
}

pub(crate) fn name_of(facts: &Facts, at: Option<usize>) -> Option<&str> {
    at.map(|at| facts.contenders[at].name.as_str())
}

pub(crate) fn outcomes(facts: &Facts, verdict: &Verdict) -> Vec<(String, &'static str)> {
    verdict.order.iter().map(|&at| (facts.contenders[at].name.clone(), verdict.placed[at].outcome.word())).collect()
}

/// Rounds that vary widely, without likeness between neighbours or between contenders.
pub(crate) fn wild(milliseconds: f64, width: f64, many: usize, salt: usize) -> Vec<f64> {
    let noise = |at: usize| {
        let mixed = ((salt * 7919 + at) as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        (mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) as f64 / u64::MAX as f64 * 2.0 - 1.0
    };
    (0..many).map(|at| milliseconds * 1e6 * (width * noise(at)).exp()).collect()
}
