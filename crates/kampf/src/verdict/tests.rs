//! Verdicts on results made up by hand.

use kampf_contest::{ByHand, Choices, Columns, Hydration, Loading, Work};

use super::*;
use crate::document::samples::{contender, contest};
use crate::document::{Latency, Left};

fn choices(loading: Loading, work: Work, columns: Columns, hydration: Hydration) -> Option<Choices> {
    Some(Choices::default().with(loading).with(work).with(columns).with(hydration))
}

/// So many rounds around a time in milliseconds, with a little noise that differs between contenders.
fn rounds(milliseconds: f64, many: usize, salt: usize) -> Vec<f64> {
    (0..many).map(|at| milliseconds * 1e6 * (1.0 + 0.01 * ((at * 7 + salt * 3) % 11) as f64 / 11.0)).collect()
}

fn with_hand(mut contender: ContenderPart, statements: usize) -> ContenderPart {
    contender.by_hand = Some(ByHand { statements, columns: 0, characters: 0 });
    contender
}

#[test]
fn the_fastest_is_chosen_and_the_most_comfortable_near_it_named() {
    let mut part = contest(vec![
        with_hand(contender("easy", rounds(5.4, 30, 1)), 0),
        with_hand(contender("fast", rounds(5.0, 30, 2)), 1),
        with_hand(contender("slow", rounds(9.0, 30, 3)), 0),
    ]);
    decide(&mut part);
    let names: Vec<&str> = part.contenders.iter().map(|contender| contender.name.as_str()).collect();
    assert_eq!(names, ["fast", "easy", "slow"]);
    assert!(part.verdict.decided);
    assert_eq!(part.verdict.choose.as_deref(), Some("fast"));
    assert_eq!(part.verdict.comfortable.as_deref(), Some("easy"));
    let easy = part.contenders[1].against.as_ref().unwrap();
    assert!((1.06..1.1).contains(&easy.ratio) && easy.low.is_some_and(|low| low > 1.05), "{easy:?}");
    let fast = &part.contenders[0].latency_ns;
    assert!(fast.low < fast.median && fast.median < fast.high, "{fast:?}");
    // One whose answer turned out wrong is neither.
    part.contenders[1].outcome = Outcome::Disagrees;
    decide(&mut part);
    assert_eq!((part.verdict.choose.as_deref(), part.verdict.comfortable), (Some("fast"), None));
}

#[test]
fn of_those_that_are_tied_the_one_that_leaves_least_to_do_is_chosen() {
    let mut part = contest(vec![
        with_hand(contender("sql", rounds(5.0, 200, 1)), 1),
        with_hand(contender("mapper", rounds(5.01, 200, 5)), 0),
        with_hand(contender("slow", rounds(9.0, 200, 3)), 0),
    ]);
    decide(&mut part);
    assert_eq!(part.verdict.choose.as_deref(), Some("mapper"));
    let leader_and_tied: Vec<_> = part.verdict.leader.iter().chain(&part.verdict.tied).collect();
    assert_eq!(leader_and_tied.len(), 2);
    assert_eq!(part.verdict.comfortable, None);
}

#[test]
fn a_race_that_did_not_decide_chooses_nobody_and_says_what_it_would_take() {
    let wide = |salt: usize| (0..20).map(|at| 5e6 * (1.0 + 0.2 * ((at * at * 7 + salt * at * 3) % 11) as f64 / 11.0)).collect();
    let mut part = contest(vec![contender("one", wide(1)), contender("other", wide(4))]);
    decide(&mut part);
    assert!(!part.verdict.decided);
    assert_eq!(part.verdict.choose, None);
    assert_eq!((part.verdict.leader.is_some(), part.verdict.alike.len()), (true, 1));
    assert!(part.race.noise.is_some_and(|noise| noise > 0.02));
    assert!(part.race.forecast.iter().all(|forecast| forecast.rounds > 20), "{:?}", part.race.forecast);
    assert!(!part.race.forecast.is_empty());
}

#[test]
fn with_requirements_the_least_work_that_meets_them_is_chosen() {
    let field = || {
        let mut easy = with_hand(contender("easy", rounds(50.0, 3, 2)), 0);
        easy.p95_rounds = rounds(60.0, 3, 2);
        let mut fast = with_hand(contender("fast", rounds(5.0, 20, 1)), 1);
        fast.p95_rounds = rounds(6.0, 20, 1);
        contest(vec![fast, easy])
    };
    let mut meets = field();
    meets.require.p95_ns = Some(100e6);
    decide(&mut meets);
    assert_eq!((meets.verdict.choose.as_deref(), meets.verdict.requirements_met), (Some("easy"), Some(true)));
    let mut tight = field();
    tight.require = Require { p95_ns: Some(10e6), ..Require::default() };
    decide(&mut tight);
    assert_eq!(tight.verdict.choose.as_deref(), Some("fast"));
    let ruled_out = &tight.contenders[1];
    assert_eq!((ruled_out.outcome, ruled_out.reason.as_deref()), (Outcome::RuledOut, Some("p95 60.3 ms, 10.0 ms allowed")));
    assert!(!ruled_out.trade_off);
}

#[test]
fn where_nobody_meets_the_requirements_the_nearest_is_named_for_each() {
    let mut fast = contender("fast", rounds(5.0, 20, 1));
    fast.latency_ns = Latency { cold: Some(8e6), ..Latency::default() };
    fast.heap_peak_bytes = Some(5000);
    fast.rows = Some(7);
    let mut part = contest(vec![fast, contender("slow", rounds(50.0, 3, 2))]);
    part.require = Require {
        p95_ns: Some(1e6),
        median_ns: Some(1e6),
        cold_ns: Some(2e6),
        memory_bytes: Some(10),
        statements: Some(0),
        round_trips: Some(0),
        rows: Some(5),
    };
    decide(&mut part);
    assert_eq!((&part.verdict.choose, part.verdict.requirements_met), (&None, Some(false)));
    assert_eq!(
        part.verdict.nearest,
        [
            "p95: fast with 5.05 ms, 1.00 ms allowed",
            "median: fast with 5.02 ms, 1.00 ms allowed",
            "first call: fast with 8.00 ms, 2.00 ms allowed",
            "memory: slow with 1000 B, 10 B allowed",
            "statements: fast with 1, 0 allowed",
            "round trips: fast with 1, 0 allowed",
            "rows: fast with 7, 5 allowed",
        ]
    );
    // What is not known meets nothing.
    let reason = part.contenders[1].reason.clone().unwrap_or_default();
    assert!(reason.contains("p95 not known") && reason.contains("first call not known") && reason.contains("rows not known"), "{reason}");
}

#[test]
fn who_was_left_out_in_the_check_is_no_part_of_the_race() {
    let mut hopeless = contender("hopeless", Vec::new());
    hopeless.in_check_ns = Some(400e6);
    let mut failed = contender("failed", rounds(4.0, 3, 1));
    failed.outcome = Outcome::Failed;
    // Two race to the end: eight rounds decide.
    let steady = |time: f64| (0..10).map(|at| time * 1e6 * (1.0 + 1e-4 * f64::from(at % 2))).collect::<Vec<f64>>();
    let offset: Vec<f64> = (0..10).map(|at| 7e6 * (1.0 + 1e-4 * f64::from((at + 1) % 2))).collect();
    let mut part = contest(vec![hopeless, failed, contender("fast", steady(5.0)), contender("slow", offset)]);
    part.race.rounds = 10;
    decide(&mut part);
    let stands: Vec<(&str, Outcome)> = part.contenders.iter().map(|contender| (contender.name.as_str(), contender.outcome)).collect();
    assert_eq!(
        stands,
        [("fast", Outcome::Standing), ("slow", Outcome::Slower), ("hopeless", Outcome::Outclassed), ("failed", Outcome::Failed)]
    );
    assert_eq!(part.contenders[2].left, Some(Left { round: 0, leader: "fast".to_owned(), times: None }));
    assert_eq!(part.contenders[2].latency_ns.median, Some(400e6));
}

#[test]
fn trade_offs_are_those_that_nobody_beats_on_everything() {
    let made = |name: &str, time: f64, memory: u64, statements: u64, salt: usize| {
        let mut contender = contender(name, rounds(time, 30, salt));
        contender.heap_peak_bytes = Some(memory);
        contender.statements = Some(statements);
        contender
    };
    let mut part = contest(vec![
        made("fast", 5.0, 9000, 1, 1),
        made("lean", 7.0, 1000, 1, 2),
        made("beaten", 7.5, 9500, 2, 3),
        made("as lean", 7.02, 1004, 1, 4),
        made("other memory", 9.0, 9900, 3, 5),
    ]);
    let resident = part.contenders.iter_mut().find(|contender| contender.name == "other memory").unwrap();
    resident.counted.insert("heap_peak_bytes".to_owned(), "resident".to_owned());
    decide(&mut part);
    let mut marked: Vec<&str> = part.contenders.iter().filter(|contender| contender.trade_off).map(|one| one.name.as_str()).collect();
    marked.sort_unstable();
    assert_eq!(marked, ["as lean", "fast", "lean", "other memory"]);
}

#[test]
fn the_ladder_goes_by_single_changes_and_says_what_each_did() {
    let made = |name: &str, choices, time: f64, many: usize, salt: usize| {
        let mut contender = contender(name, rounds(time, many, salt));
        contender.choices = choices;
        contender
    };
    use Columns::{All, Needed};
    use Hydration::{Managed, Plain, Raw};
    use Loading::{Computed, Lazy};
    let mut part = contest(vec![
        made("lazy.app.all.managed", choices(Lazy, Work::App, All, Managed), 400.0, 2, 1),
        made("lazy.database.all.managed", choices(Lazy, Work::Database, All, Managed), 80.0, 30, 2),
        made("computed.database.all.managed", choices(Computed, Work::Database, All, Managed), 20.0, 30, 3),
        made("computed.database.all.plain", choices(Computed, Work::Database, All, Plain), 20.0, 30, 3),
        made("computed.database.needed.plain", choices(Computed, Work::Database, Needed, Plain), 17.0, 30, 4),
        made("computed.database.needed.raw", choices(Computed, Work::Database, Needed, Raw), 15.0, 30, 5),
        contender("mine", rounds(30.0, 30, 6)),
    ]);
    decide(&mut part);
    let steps: Vec<(&str, &str, &str)> =
        part.mattered.ladder.iter().map(|step| (step.choice.as_str(), step.before.as_str(), step.after.as_str())).collect();
    assert_eq!(
        steps,
        [
            ("work", "app", "database"),
            ("loading", "lazy", "computed"),
            ("hydration", "managed", "plain"),
            ("columns", "all", "needed"),
            ("hydration", "plain", "raw")
        ]
    );
    let ladder = &part.mattered.ladder;
    assert!((ladder[0].ratio - 0.2).abs() < 0.01 && ladder[0].low.is_none(), "two rounds are too few: {:?}", ladder[0]);
    assert!(ladder[1].high.is_some_and(|high| high < 0.26));
    assert_eq!((ladder[2].ratio, ladder[2].low, ladder[2].high), (1.0, Some(1.0), Some(1.0)), "it did nothing");
    let effect = |choice: &str, after: &str| {
        part.mattered
            .effects
            .iter()
            .find(|effect| effect.choice == choice && effect.after == after)
            .unwrap_or_else(|| panic!("{choice} {after}"))
    };
    assert_eq!(effect("hydration", "plain").pairs, 1);
    assert!((effect("loading", "computed").ratio - 0.25).abs() < 0.01);
    // Where nothing links them there is no ladder.
    part.contenders.retain(|contender| ["lazy.app.all.managed", "computed.database.needed.raw"].contains(&contender.name.as_str()));
    decide(&mut part);
    assert!(part.mattered.ladder.is_empty() && part.mattered.effects.is_empty());
}

#[test]
fn an_effect_is_the_mean_over_all_pairs_that_differ_in_it_alone() {
    let made = |loading, hydration, time: f64, salt: usize| {
        let choices = choices(loading, Work::Database, Columns::All, hydration);
        let mut contender = contender(&choices.unwrap().to_string(), rounds(time, 40, salt));
        contender.choices = choices;
        contender
    };
    let mut part = contest(vec![
        made(Loading::Lazy, Hydration::Managed, 40.0, 1),
        made(Loading::Joined, Hydration::Managed, 20.0, 2),
        made(Loading::Lazy, Hydration::Plain, 30.0, 3),
        made(Loading::Joined, Hydration::Plain, 10.0, 4),
    ]);
    part.race.exact = true;
    decide(&mut part);
    let loading = part.mattered.effects.iter().find(|effect| effect.choice == "loading").unwrap();
    assert_eq!((loading.before.as_str(), loading.after.as_str(), loading.pairs), ("lazy", "joined", 2));
    let expected = (0.5f64 / 3.0).sqrt();
    assert!((loading.ratio / expected - 1.0).abs() < 0.01, "{loading:?}");
    assert!(loading.low.is_some_and(|low| low < loading.ratio) && loading.high.is_some_and(|high| high > loading.ratio));
    assert!((loading.least - 1.0 / 3.0).abs() < 0.01 && (loading.most - 0.5).abs() < 0.01);
}
