//! What people read, from results made up by hand.

use std::collections::BTreeMap;

use kampf_contest::ByHand;

use super::*;
use crate::document::{ContenderPart, ContestPart, EnginePart, Latency, Outcome, RacePart, VerdictPart};
use crate::verdict::Verdict;

fn contender(name: &str, outcome: Outcome, median_ms: f64, trips: u64) -> ContenderPart {
    ContenderPart {
        name: name.to_owned(),
        choices: None,
        sql: Vec::new(),
        outcome,
        reason: None,
        rounds: vec![median_ms * 1e6],
        latency_ns: Latency { median: Some(median_ms * 1e6), behind: Some(median_ms), ..Latency::default() },
        cpu_ns: None,
        statements: Some(trips),
        round_trips: Some(trips),
        rows: Some(5_089),
        bytes: Some(14_336),
        wire_bytes: None,
        objects: Some(12),
        heap_peak_bytes: Some(2 << 20),
        allocations: None,
        engine_bytes: None,
        counted: BTreeMap::from([("round_trips".to_owned(), "modelled".to_owned())]),
        answer: None,
        by_hand: Some(ByHand { statements: 0, columns: 0, characters: 0 }),
    }
}

fn contest(engine: &str, contenders: Vec<ContenderPart>, verdict: VerdictPart) -> ContestPart {
    ContestPart {
        name: "calmest".to_owned(),
        kind: "read".to_owned(),
        need: serde_json::Value::Null,
        conditions: BTreeMap::new(),
        variant: BTreeMap::new(),
        engine: EnginePart { name: engine.to_owned(), version: "1".to_owned(), settings: BTreeMap::new() },
        dataset: "f".to_owned(),
        race: RacePart { rounds: 9, seconds: 2.0, measured_seconds: 1.0, interrupted: false, reference: "us".to_owned() },
        contenders,
        verdict,
    }
}

fn chosen(name: &str) -> VerdictPart {
    VerdictPart { choose: Some(name.to_owned()), ..VerdictPart::default() }
}

/// The text of a page without its colours.
fn plain(write: impl FnOnce(&mut Page)) -> String {
    let mut page = Page::new();
    write(&mut page);
    anstream::adapter::strip_str(&page.into_text()).to_string()
}

#[test]
fn a_race_is_shown_best_first_with_bars_and_a_legend() {
    let mut slow = contender("lazy.all.tracked", Outcome::Outclassed, 40.0, 1201);
    slow.reason = Some("outclassed after round 2".to_owned());
    let mut wrong = contender("mine", Outcome::Disagrees, 1.0, 1);
    (wrong.latency_ns.median, wrong.reason) = (None, Some("its answer differs; it was not timed".to_owned()));
    let contenders = vec![
        contender("joined.needed.raw", Outcome::Standing, 1.0, 1),
        contender("joined.all.plain", Outcome::Unresolved, 1.1, 1),
        contender("batched.all.plain", Outcome::Slower, 2.5, 3),
        slow,
        wrong,
    ];
    let contest = contest("sqlite", contenders, chosen("joined.needed.raw"));
    insta::assert_snapshot!(plain(|page| race_table(page, &contest)), @r"
                                                       │ in any language                 │ in this build
    contender          a call takes   median   behind  statements  trips   rows   bytes  held at most
    joined.needed.raw  ███           1.00 ms     best           1      1  5,089  14 KiB       2.0 MiB
    joined.all.plain   ███▎          1.10 ms  ? +10 %           1      1  5,089  14 KiB       2.0 MiB
    batched.all.plain  ███████▌      2.50 ms     x2.5           3      3  5,089  14 KiB       2.0 MiB
    lazy.all.tracked   ███████████▶  40.0 ms      x40       1,201  1,201  5,089  14 KiB       2.0 MiB

    Statements, trips, rows and bytes are the same in any language; time and memory are those of Kampf's
    compiled layers, and usually larger elsewhere. Trips are what a server would need; this engine has
    none. ? cannot be told from the best with these rounds. Faint ones were so far behind that they were
    not run to the end.
      mine: its answer differs; it was not timed
    ");
}

#[test]
fn the_verdict_says_what_to_choose_and_what_it_costs() {
    let contenders = vec![
        contender("joined.needed.raw", Outcome::Standing, 1.0, 1),
        contender("joined.all.plain", Outcome::Unresolved, 1.1, 1),
        contender("lazy.all.plain", Outcome::Slower, 2.5, 31),
    ];
    let contest = contest("sqlite", contenders, VerdictPart::default());
    let text = |verdict: Verdict| plain(|page| verdict_text(page, &contest, &verdict));
    let clear = text(Verdict { choose: Some(0), ..Verdict::default() });
    assert!(clear.starts_with("Choose joined.needed.raw: 1.00 ms a call, the fastest here.\n"), "{clear}");
    let trips = clear.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        trips.contains("at 500 us each: joined.needed.raw and joined.all.plain +500 us (1 trip), lazy.all.plain +15.5 ms (31 trips)."),
        "{clear}"
    );
    let open = text(Verdict { choose: Some(0), alike: vec![1], ..Verdict::default() });
    assert!(
        open.starts_with("Not decided in 9 rounds: joined.needed.raw leads with 1.00 ms, but joined.all.plain cannot be told"),
        "{open}"
    );
    let easy = text(Verdict { choose: Some(0), comfortable: Some(2), ..Verdict::default() });
    assert!(easy.contains("Or choose lazy.all.plain: it leaves you no SQL instead of no SQL, and takes 1.50 ms more"), "{easy}");
    let required = text(Verdict { choose: Some(2), required: true, ..Verdict::default() });
    assert!(required.starts_with("Choose lazy.all.plain: of those that meet the requirements it leaves you the least to do"), "{required}");
    let nobody = text(Verdict { required: true, nearest: vec!["p95: joined.needed.raw, 1.2 ms".to_owned()], ..Verdict::default() });
    assert!(nobody.starts_with("No contender meets the requirements. What comes nearest:\n  p95: joined.needed.raw"), "{nobody}");
    assert!(text(Verdict::default()).starts_with("Nothing could be raced."));
}

#[test]
fn circumstances_stand_side_by_side_and_say_where_the_choice_changes() {
    let near = contest(
        "postgres",
        vec![contender("lazy", Outcome::Standing, 2.0, 31), contender("joined", Outcome::Slower, 3.0, 1)],
        chosen("lazy"),
    );
    let mut gone = contender("lazy", Outcome::Failed, 0.0, 31);
    gone.latency_ns.median = None;
    let far = contest("postgres", vec![contender("joined", Outcome::Standing, 4.0, 1), gone], chosen("joined"));
    let columns = [("+0 a trip".to_owned(), &near), ("+1 ms a trip".to_owned(), &far)];
    insta::assert_snapshot!(plain(|page| across(page, "calmest", &columns)), @r"
    calmest  side by side

    contender  trips  +0 a trip  +1 ms a trip
    lazy          31  2.00 ms ◂        failed
    joined         1  3.00 ms       4.00 ms ◂

    Medians of a call; ◂ the choice, ? not to be told from the fastest.
      +0 a trip: lazy
      +1 ms a trip: joined
    The choice changes between +0 a trip and +1 ms a trip: lazy gives way to joined.
    ");
    // A choice that was among those that could not be told apart has not changed.
    let mut open = far.clone();
    open.verdict.alike = vec!["lazy".to_owned()];
    let columns = [("a".to_owned(), &near), ("b".to_owned(), &open)];
    assert!(!plain(|page| across(page, "calmest", &columns)).contains("changes"));
}

#[test]
fn columns_yield_where_there_is_no_room_and_the_others_stay() {
    let columns = [Column::left("contender"), Column::right("x".repeat(60)).yielding(1), Column::right("y".repeat(60)).yielding(2)];
    let row = ["a", "1", "2"].map(|cell| (Look::Plain, cell.to_owned()));
    let text = plain(|page| page.table(&columns, &[row.into()]));
    assert!(text.contains("contender") && text.contains('x') && !text.contains('y'), "{text}");
}

#[test]
fn paragraphs_wrap_at_words_and_statements_stay_whole_on_a_pipe() {
    let words = "bee ".repeat(60);
    let text = plain(|page| page.paragraph(&format!("  {}", words.trim()), 6));
    assert!(text.lines().count() > 2 && text.lines().all(|line| line.len() <= 100), "{text}");
    assert!(text.starts_with("  bee") && text.lines().skip(1).all(|line| line.starts_with("      bee")), "{text}");
    let long = format!("SELECT {}\nFROM hive", "label, ".repeat(40));
    assert_eq!(plain(|page| page.sql(&long, 4)), format!("    {}\n    FROM hive\n", long.lines().next().unwrap().trim_end()));
}
