//! What people read, from results made up by hand.

use super::contest_text::contest_text;
use super::mattered_text::mattered_text;
use super::race_table::race_table;
use super::verdict_text::verdict_text;
use super::*;
use crate::document::samples;
use crate::document::{Against, ContenderPart, ContestPart, Effect, ForecastPart, Outcome, Step, VerdictPart};

fn contender(name: &str, outcome: Outcome, median_ms: f64, trips: u64) -> ContenderPart {
    let mut contender = samples::contender(name, vec![median_ms * 1e6]);
    contender.outcome = outcome;
    contender.latency_ns.median = Some(median_ms * 1e6);
    contender.against = Some(Against {
        leader: "joined.needed.raw".to_owned(),
        rounds: 20,
        ratio: median_ms,
        low: Some(median_ms * 0.98),
        high: Some(median_ms * 1.03),
        still_moving: false,
    });
    (contender.statements, contender.round_trips) = (Some(trips), Some(trips));
    (contender.rows, contender.bytes, contender.objects) = (Some(5_089), Some(14_336), Some(12));
    contender.heap_peak_bytes = Some(2 << 20);
    contender.counted.insert("round_trips".to_owned(), "modelled".to_owned());
    contender
}

fn contest(engine: &str, contenders: Vec<ContenderPart>, verdict: VerdictPart) -> ContestPart {
    let mut contest = samples::contest(contenders);
    contest.engine.name = engine.to_owned();
    contest.race.rounds = 9;
    contest.verdict = verdict;
    contest
}

fn chosen(name: &str) -> VerdictPart {
    VerdictPart { decided: true, leader: Some(name.to_owned()), choose: Some(name.to_owned()), ..VerdictPart::default() }
}

/// The text of a page without its colours.
fn plain(write: impl FnOnce(&mut Page)) -> String {
    let mut page = Page::new();
    write(&mut page);
    anstream::adapter::strip_str(&page.into_text()).to_string()
}

#[test]
fn a_race_is_shown_best_first_with_bars_and_a_legend() {
    let slow = contender("lazy.all.managed", Outcome::Outclassed, 40.0, 1201);
    let mut wrong = contender("mine", Outcome::Disagrees, 1.0, 1);
    (wrong.latency_ns.median, wrong.reason) = (None, Some("its answer differs; it was not timed".to_owned()));
    let mut contenders = vec![
        contender("joined.needed.raw", Outcome::Standing, 1.0, 1),
        contender("joined.all.map", Outcome::Tied, 1.01, 1),
        contender("joined.all.plain", Outcome::Unresolved, 1.1, 1),
        contender("batched.all.plain", Outcome::Slower, 2.5, 3),
        slow,
        wrong,
    ];
    contenders[0].against = None;
    (contenders[0].trade_off, contenders[1].trade_off) = (true, true);
    let contest = contest("sqlite", contenders, chosen("joined.needed.raw"));
    insta::assert_snapshot!(plain(|page| race_table(page, &contest)), @r"
                                                          │ in any language  │ in this build
    contender            a call takes   median    behind  statements   rows  held at most
    joined.needed.raw ◆  ███           1.00 ms      best           1  5,089       2.0 MiB
    joined.all.map ◆     ███           1.01 ms  = +1.0 %           1  5,089       2.0 MiB
    joined.all.plain     ███▎          1.10 ms   ? +10 %           1  5,089       2.0 MiB
    batched.all.plain    ███████▌      2.50 ms      x2.5           3  5,089       2.0 MiB
    lazy.all.managed     ███████████▶  40.0 ms       x40       1,201  5,089       2.0 MiB

    Statements, trips, rows and bytes are the same in any language; time and memory are those of Kampf's
    compiled layers, and usually larger elsewhere. Trips are what a server would need; this engine has
    none. ? cannot be told from the best with these rounds. = differs from the best by less than 2 %,
    surely. ◆ nobody beats it on time, memory and statements at once. Faint ones were so far behind that
    they were not run to the end.
      mine: its answer differs; it was not timed
    ");
}

#[test]
fn the_verdict_says_what_to_choose_and_what_it_costs() {
    let contenders = || {
        vec![
            contender("joined.needed.raw", Outcome::Standing, 1.0, 1),
            contender("joined.all.plain", Outcome::Slower, 1.1, 1),
            contender("lazy.all.plain", Outcome::Slower, 2.5, 31),
        ]
    };
    let text = |verdict: VerdictPart| plain(|page| verdict_text(page, &contest("sqlite", contenders(), verdict)));
    let words = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    let clear = words(&text(chosen("joined.needed.raw")));
    assert!(
        clear.starts_with(
            "Choose joined.needed.raw: 1.00 ms a call, the fastest here. The next, joined.all.plain, takes 100 us more, +10 %, sure to 3 %."
        ),
        "{clear}"
    );
    assert!(
        clear.contains("at 500 us each: joined.needed.raw and joined.all.plain +500 us (1 trip), lazy.all.plain +15.5 ms (31 trips)."),
        "{clear}"
    );
    let easy = words(&text(VerdictPart { comfortable: Some("lazy.all.plain".to_owned()), ..chosen("joined.needed.raw") }));
    assert!(easy.contains("Or choose lazy.all.plain: it leaves you no SQL instead of no SQL, and takes 1.50 ms more"), "{easy}");
    let tied = VerdictPart {
        tied: vec!["joined.all.plain".to_owned()],
        choose: Some("joined.all.plain".to_owned()),
        ..chosen("joined.needed.raw")
    };
    let tied = words(&text(tied));
    assert!(tied.starts_with("Choose joined.all.plain: 1.10 ms a call. joined.needed.raw is no different, surely within 2 %;"), "{tied}");
    let required = words(&text(VerdictPart { requirements_met: Some(true), ..chosen("lazy.all.plain") }));
    assert!(required.starts_with("Choose lazy.all.plain: of the 3 that meet the requirements it leaves you the least to do"), "{required}");
    let nobody =
        VerdictPart { requirements_met: Some(false), nearest: vec!["p95: joined.needed.raw, 1.2 ms".to_owned()], ..VerdictPart::default() };
    let nobody = text(nobody);
    assert!(nobody.starts_with("No contender meets the requirements. What comes nearest:\n  p95: joined.needed.raw"), "{nobody}");
    let nothing = plain(|page| verdict_text(page, &contest("sqlite", Vec::new(), VerdictPart::default())));
    assert!(nothing.starts_with("Nothing could be raced."), "{nothing}");
}

#[test]
fn an_end_without_decision_says_how_much_is_known_and_what_more_would_bring() {
    let mut part = contest(
        "sqlite",
        vec![contender("sql", Outcome::Standing, 1.0, 1), contender("mapper", Outcome::Unresolved, 1.02, 1)],
        VerdictPart { leader: Some("sql".to_owned()), alike: vec!["mapper".to_owned()], ..VerdictPart::default() },
    );
    part.contenders[0].by_hand = Some(kampf_contest::ByHand { statements: 1, columns: 4, characters: 90 });
    part.race.forecast = vec![ForecastPart { margin: 0.02, rounds: 749 }, ForecastPart { margin: 0.05, rounds: 51 }];
    part.race.noise = Some(0.08);
    let words = |part: &ContestPart| plain(|page| verdict_text(page, part)).split_whitespace().collect::<Vec<_>>().join(" ");
    let text = words(&part);
    assert_eq!(
        text,
        "Not decided after 9 rounds. Take any of sql and mapper: they differ by less than 5.1 %. sql leads with 1.00 ms a call; \
         mapper leaves you the least to do (no SQL). It is noisy here: one run varies by 8 %, which is much for a margin of 2 %. \
         About 740 more rounds (74 s) would settle 2 %, about 42 more rounds (4 s) would settle 5 %: --time 91s --rounds 900, or --margin 5%."
    );
    part.contenders[1].against = None;
    part.race.interrupted = true;
    part.race.forecast.clear();
    assert!(words(&part).starts_with("Interrupted after 9 rounds, too few to tell sql and mapper apart."), "{}", words(&part));
    part.race.rounds = 3;
    assert!(words(&part).contains("Give it more time (--time)."), "{}", words(&part));
    // Far apart as they may be, one is not to be taken for the other.
    part.contenders[1].against =
        Some(Against { leader: "sql".to_owned(), rounds: 9, ratio: 1.3, low: Some(0.9), high: Some(1.8), still_moving: true });
    let text = words(&part);
    assert!(text.contains("sql and mapper may still differ by 80 %.") && text.contains("mapper was still moving"), "{text}");
}

#[test]
fn what_mattered_is_shown_step_by_step_and_a_step_that_does_nothing_is_said_to() {
    let mut part = contest(
        "sqlite",
        vec![
            contender("computed.all.plain", Outcome::Standing, 4.0, 1),
            contender("computed.all.managed", Outcome::Slower, 4.01, 1),
            contender("lazy.all.managed", Outcome::Outclassed, 40.0, 301),
        ],
        chosen("computed.all.plain"),
    );
    part.contenders[2].heap_peak_bytes = Some(9 << 20);
    let step = |from: &str, to: &str, choice: &str, before: &str, after: &str, times: (f64, f64), sure: Option<(f64, f64)>| Step {
        from: from.to_owned(),
        to: to.to_owned(),
        choice: choice.to_owned(),
        before: before.to_owned(),
        after: after.to_owned(),
        before_ns: times.0 * 1e6,
        after_ns: times.1 * 1e6,
        ratio: times.1 / times.0,
        low: sure.map(|(low, _)| low),
        high: sure.map(|(_, high)| high),
    };
    part.mattered.ladder = vec![
        step("lazy.all.managed", "computed.all.managed", "loading", "lazy", "computed", (40.0, 4.0), None),
        step("computed.all.managed", "computed.all.plain", "hydration", "managed", "plain", (4.01, 4.0), Some((0.99, 1.004))),
    ];
    let effect = |after: &str, ratio: f64, pairs: usize, sure: Option<(f64, f64)>| Effect {
        choice: "loading".to_owned(),
        before: "lazy".to_owned(),
        after: after.to_owned(),
        pairs,
        ratio,
        low: sure.map(|(low, _)| low),
        high: sure.map(|(_, high)| high),
        least: ratio * 0.9,
        most: ratio * 1.1,
    };
    part.mattered.effects = vec![effect("joined", 0.5, 3, Some((0.4, 0.6))), effect("computed", 0.1, 1, None)];
    insta::assert_snapshot!(plain(|page| mattered_text(page, &part)), @r#"

    What mattered, a choice at a time from lazy.all.managed to computed.all.plain:
      choice                           a call takes      gain                   statements       held at most
      loading    lazy → computed  40.0 ms → 4.00 ms  -36.0 ms  about -90 %         301 → 1  9.0 MiB → 2.0 MiB
      hydration  managed → plain  4.01 ms → 4.00 ms   nothing  (1.0 % at most)        same               same

    Each choice by itself, on the time of a call, over all contenders that differ in nothing else:
      loading lazy → joined -50 % (-60 to -40 %; 3 pairs, -55 to -45 %), → computed about -90 %
      "About": too few rounds in common for an interval.
    "#);
}

#[test]
fn the_course_of_a_race_tells_what_disturbed_it() {
    let mut part = contest("sqlite", vec![contender("a", Outcome::Standing, 1.0, 1)], chosen("a"));
    part.about = Some("The calmest hives".to_owned());
    (part.race.noise, part.race.cpu_pressure, part.race.interrupted) = (Some(0.031), Some(34.0), true);
    part.race.reference_loop_ns = vec![100.0, 101.0, 102.0];
    part.conditions.insert("round_trip_ns".to_owned(), 2e6.into());
    part.conditions.insert("pinned_to_core".to_owned(), 1.into());
    let text = plain(|page| contest_text(page, &part));
    let head: String = text.split("\n\n").next().unwrap_or_default().split_whitespace().collect::<Vec<_>>().join(" ");
    assert_eq!(
        head,
        "calmest The calmest hives 1 contender agrees on 10 rows; 9 rounds in 2.0 s, 50 % of it measured, interrupted; one run varies by 3.1 %, \
         the machine itself by 1.5 %; the processor was busy with other things too: tasks waited 34 % of the time \
         simulated: this engine has no trips, each statement waits 2.00 ms instead; kept on core 1"
    );
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
    open.verdict.tied = vec!["lazy".to_owned()];
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
