//! What keeping answers, reading in portions, other indexes and other keys are worth.

use kampf_contest::Counted;
use kampf_contest::{Choice, How, Measure};
use kampf_verdict::{ContenderFacts, Facts, IndexFinding, KeptFacts, KeysFacts, Require, Required, VariantFacts, Wins, judge};

use crate::choices::on;
use crate::common::{contender, counted, facts, rounds};

#[test]
fn answers_that_are_kept_are_held_against_the_best_that_keeps_none() {
    let kept = |hit: f64, miss: f64| {
        let one = counted(contender("computed.needed.plain+warm", rounds(2.0, 40, 3)), Measure::KeptBytes, 200);
        ContenderFacts { kept: Some(KeptFacts { hit, miss, entries: 1_000 }), ..one }
    };
    let field = |one: ContenderFacts| Facts {
        hit_rate: Some(0.5),
        require: Require::default().with_fresh(false),
        ..facts(vec![contender("computed.needed.plain", rounds(6.0, 40, 1)), contender("lazy.needed.plain", rounds(9.0, 40, 2)), one])
    };
    let worth = judge(&field(kept(1e6, 11e6))).worth;
    let [one] = worth.kept.as_slice() else { panic!("{worth:?}") };
    // At half of the calls: half of a hit and half of a miss.
    assert_eq!((one.contender, one.mixed, one.best, one.bytes, one.spared), (2, Some(6e6), Some(0), Some(200_000), None));
    assert!(matches!(one.wins, Some(Wins::From(share)) if (share - 0.5).abs() < 0.02), "{one:?}");
    assert_eq!(judge(&field(kept(7e6, 11e6))).worth.kept[0].wins, Some(Wins::Never));
    assert_eq!(judge(&field(kept(1e6, 5e6))).worth.kept[0].wins, Some(Wins::Always));
    // Where there is a wire, what of a miss is waiting is known: thousandths of it.
    let mut waiting = counted(kept(1e6, 10e6), Measure::Waiting, 400);
    waiting.measured.set(Measure::WireBytes, Counted::always(1, How::Wire));
    assert_eq!(judge(&field(waiting)).worth.kept[0].spared, Some(4e6));
}

#[test]
fn portions_are_told_among_contenders_that_differ_in_nothing_else() {
    let fetches = |option: &str, held: Vec<(u64, u64)>, peak: u64| {
        let one = counted(on(Choice::Fetch, option, "needed.plain", rounds(5.0, 40, 1)), Measure::HeapPeak, peak);
        ContenderFacts { held, answer_rows: Some(100), ..one }
    };
    let other = ContenderFacts { held: vec![(1, 9)], ..on(Choice::Fetch, "whole", "needed.record", rounds(4.0, 40, 2)) };
    let field = |require: Require| Facts {
        require,
        ..facts(vec![
            fetches("stream:10", vec![(1, 50), (100, 50)], 50),
            other.clone(),
            fetches("whole", vec![(1, 100), (100, 5_000)], 5_000),
        ])
    };
    let worth = judge(&field(Require::default())).worth.fetch.expect("two differ in it alone");
    assert_eq!((worth.contenders.as_slice(), worth.rows, worth.most), ([2, 0].as_slice(), 100, 5_000));
    assert_eq!((worth.row_bytes, worth.fitting), (Some(50.0), None));
    let mut require = Require::default();
    require.set(Required::Count(Measure::HeapPeak), 2_000.0);
    assert_eq!(judge(&field(require)).worth.fetch.and_then(|worth| worth.fitting), Some(40));
    assert_eq!(judge(&facts(vec![other])).worth.fetch, None);
}

#[test]
fn the_best_on_a_variant_is_held_against_the_best_on_the_plain_schema() {
    let variant = VariantFacts { seconds: 1.0, load_seconds: 4.0, keys: None };
    let field = Facts {
        variants: ["by_hive", "by_time", "unused"].map(|name| (name.to_owned(), variant)).into(),
        ..facts(vec![
            on(Choice::Index, "none", "computed.needed.plain", rounds(40.0, 40, 2)),
            on(Choice::Index, "by_time", "computed.needed.plain", rounds(40.1, 40, 4)),
            on(Choice::Index, "by_hive", "computed.needed.plain", rounds(1.0, 40, 3)),
        ])
    };
    let worth = judge(&field).worth.indexes;
    let told: Vec<_> = worth.iter().map(|one| (one.variant.as_str(), one.plain, one.best, one.finding)).collect();
    assert_eq!(
        told,
        [
            ("by_hive", Some(0), Some(2), IndexFinding::Differs),
            ("by_time", Some(0), Some(1), IndexFinding::Same),
            ("unused", Some(0), None, IndexFinding::Nobody)
        ]
    );
    assert!(worth.iter().all(|one| one.load_share == Some(0.25)));
}

#[test]
fn keys_are_held_against_the_schema_s_own() {
    let keys = KeysFacts { bytes: 300, seconds: 3.0, own_bytes: 200, own_seconds: 2.0 };
    let short = KeysFacts { seconds: 0.3, own_seconds: 0.09, ..keys };
    let of = |keys| VariantFacts { keys: Some(keys), ..VariantFacts::default() };
    let field = Facts {
        variants: [("hive:text".to_owned(), of(keys)), ("hive:uuid7".to_owned(), of(short))].into(),
        ..facts(vec![
            on(Choice::Keys, "own", "needed.plain", rounds(20.0, 40, 1)),
            on(Choice::Keys, "hive:text", "needed.plain", rounds(40.0, 40, 2)),
            on(Choice::Keys, "hive:uuid7", "needed.plain", rounds(30.0, 40, 3)),
        ])
    };
    let worth = judge(&field).worth.keys.expect("two types were raced");
    let told: Vec<_> = worth.types.iter().map(|one| (one.variant.as_str(), one.contender, one.bytes, one.load)).collect();
    // The fastest first; so short a load as the second one's says nothing of another.
    assert_eq!(told, [("hive:uuid7", Some(2), Some(1.5), None), ("hive:text", Some(1), Some(1.5), Some(1.5))]);
    assert_eq!(worth.own, Some(0));
    assert!(worth.types.iter().zip([1.5, 2.0]).all(|(one, time)| one.time.is_some_and(|own| (own / time - 1.0).abs() < 0.02)));
    assert_eq!(judge(&facts(vec![contender("needed.plain", rounds(1.0, 40, 1))])).worth.keys, None);
}
