//! Verdicts on facts made up by hand.

use crate::common::{contender, counted, facts, failed, name_of, outcomes, rounds, with_hand};
use kampf_contest::{Choice, Measure, Opt};
use kampf_race::Goal;
use kampf_verdict::{
    Beside, ByChoice, ChoiceEnd, ContenderFacts, Cost, End, Facts, FaultKind, HeatFacts, Keeps, OptionChange, Outcome, PairFinding,
    Required, Requirements, Verdict, judge, next_anchor,
};

/// Rounds that vary widely, without likeness between neighbours or between contenders.
fn wild(milliseconds: f64, width: f64, many: usize, salt: usize) -> Vec<f64> {
    let noise = |at: usize| {
        let mixed = ((salt * 7919 + at) as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        (mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) as f64 / u64::MAX as f64 * 2.0 - 1.0
    };
    (0..many).map(|at| milliseconds * 1e6 * (width * noise(at)).exp()).collect()
}

#[test]
fn of_those_that_are_behind_by_little_the_one_that_leaves_least_to_do_is_taken() {
    let field = |easy: f64| {
        facts(vec![
            with_hand(contender("easy", rounds(easy, 40, 1)), 0),
            with_hand(contender("fast", rounds(50.0, 40, 2)), 1),
            with_hand(contender("slow", rounds(90.0, 40, 3)), 0),
        ])
    };
    let near = field(52.0);
    let verdict = judge(&near);
    assert_eq!((verdict.end, name_of(&near, verdict.leader), name_of(&near, verdict.choose)), (End::Decided, Some("fast"), Some("easy")));
    // Beyond a tenth comfort is too dear, but for less than a millisecond with no more round trips.
    let far = field(60.0);
    assert_eq!(name_of(&far, judge(&far).choose), Some("fast"));
    let mut short = facts(vec![with_hand(contender("easy", rounds(0.9, 40, 1)), 0), with_hand(contender("fast", rounds(0.3, 40, 2)), 1)]);
    assert_eq!(name_of(&short, judge(&short).choose), Some("easy"));
    short.contenders[0] = counted(short.contenders[0].clone(), Measure::RoundTrips, 9);
    assert_eq!(name_of(&short, judge(&short).choose), Some("fast"), "nine trips are not little on a server");
    // One whose answer turned out wrong is taken by nobody.
    let mut wrong = near;
    wrong.contenders[0] = failed(wrong.contenders[0].clone(), FaultKind::Disagrees);
    let verdict = judge(&wrong);
    assert_eq!((name_of(&wrong, verdict.choose), outcomes(&wrong, &verdict)[2].1), (Some("fast"), "disagrees"));
}

#[test]
fn rows_stand_by_how_far_they_are_behind_and_show_one_figure() {
    let field = facts(vec![
        contender("slow", rounds(9.0, 30, 3)),
        contender("fast", rounds(5.0, 30, 2)),
        contender("outclassed", rounds(40.0, 3, 4)),
        failed(contender("broken", rounds(5.0, 2, 4)), FaultKind::Failed),
    ]);
    let verdict = judge(&field);
    let names: Vec<String> = outcomes(&field, &verdict).into_iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["fast", "slow", "outclassed", "broken"]);
    let (fast, slow) = (&verdict.placed[1], &verdict.placed[0]);
    let ratio = slow.behind.expect("it ran").ratio;
    assert!((slow.shown.unwrap() - fast.shown.unwrap() * ratio).abs() < 1.0, "{slow:?}");
    assert_eq!((fast.shown, fast.behind.unwrap().ratio), (fast.median, 1.0));
    assert_eq!((slow.outcome, verdict.placed[2].outcome), (Outcome::Slower, Outcome::Outclassed));
    assert_eq!(verdict.placed[2].left.map(|left| left.round), Some(3));
}

#[test]
fn who_keeps_nothing_is_the_floor_unless_the_application_keeps_nothing() {
    let mut field = facts(vec![
        with_hand(contender("joined.needed.raw", rounds(2.0, 30, 1)), 1),
        with_hand(contender("joined.needed.record", rounds(5.0, 30, 2)), 1),
        with_hand(contender("joined.all.plain", rounds(9.0, 30, 3)), 0),
    ]);
    let verdict = judge(&field);
    assert_eq!(
        (name_of(&field, verdict.leader), name_of(&field, verdict.choose)),
        (Some("joined.needed.record"), Some("joined.needed.record"))
    );
    let floor = &verdict.placed[0];
    assert_eq!((floor.beside, floor.outcome, verdict.order[0]), (Some(Beside::Floor), Outcome::Faster, 0));
    field.keeps_nothing = true;
    let verdict = judge(&field);
    assert_eq!(name_of(&field, verdict.choose), Some("joined.needed.raw"));
    assert_eq!(verdict.placed[0].beside, None);
}

#[test]
fn a_race_without_an_end_takes_somebody_only_where_nobody_can_be_faster_by_a_tenth() {
    let field =
        |width: f64, many: usize| facts(vec![contender("one", wild(5.0, width, many, 1)), contender("other", wild(5.05, width, many, 2))]);
    let open = field(0.4, 16);
    let verdict = judge(&open);
    assert_eq!((verdict.end, verdict.choose), (End::Open, None));
    assert!(verdict.leader.is_some() && verdict.noise.is_some_and(|noise| noise > 0.05));
    assert!(verdict.forecasts.iter().all(|forecast| forecast.rounds.is_none_or(|rounds| rounds > 16)), "{:?}", verdict.forecasts);
    assert_eq!(verdict.forecasts[0].margin, 0.05);
    // At a margin of half a percent it is not decided, and known well enough to choose.
    let mut near = field(0.03, 24);
    near.settings.margin = 0.002;
    let verdict = judge(&near);
    assert_eq!(verdict.end, End::Enough);
    assert!(verdict.choose.is_some());
    let few = facts(vec![contender("one", rounds(5.0, 3, 1)), contender("other", rounds(5.1, 3, 2))]);
    assert_eq!((judge(&few).end, judge(&few).choose), (End::Open, None));
    let alone = facts(vec![contender("one", rounds(5.0, 12, 1))]);
    assert_eq!((judge(&alone).end, judge(&alone).choose), (End::Alone, Some(0)));
    assert_eq!(judge(&facts(vec![failed(contender("one", Vec::new()), FaultKind::Failed)])).end, End::Nothing);
    assert_eq!(judge(&Facts::default()).end, End::Nothing);
}

#[test]
fn who_misses_a_requirement_keeps_nobody_from_being_known_well_enough() {
    // The one that may be faster by a tenth is open, and at a margin of half a percent so is the other.
    let contenders = || {
        vec![
            contender("one", wild(5.0, 0.03, 24, 1)),
            contender("other", wild(5.05, 0.03, 24, 2)),
            contender("wild", wild(5.0, 0.9, 24, 3)),
        ]
    };
    let mut field = facts(contenders());
    field.settings.margin = 0.002;
    assert_eq!(judge(&field).end, End::Open);
    field.contenders[2] = counted(field.contenders[2].clone(), Measure::Statements, 90);
    field.require.set(Required::Count(Measure::Statements), 5.0);
    let verdict = judge(&field);
    assert_eq!((verdict.placed[2].beside, verdict.end), (Some(Beside::RuledOut), End::Enough));
}

fn choice<'a>(verdict: &'a Verdict, word: &str) -> &'a ByChoice {
    verdict.by_choice.iter().find(|one| one.choice.word() == word).unwrap_or_else(|| panic!("{word}: {:?}", verdict.by_choice))
}

fn cost(one: &ByChoice, word: &str) -> Cost {
    one.others.iter().find(|other| other.option.word() == word).unwrap_or_else(|| panic!("{word}: {one:?}")).cost
}

fn words(options: &[Opt]) -> Vec<&'static str> {
    options.iter().map(|option| option.word()).collect()
}

#[test]
fn each_choice_is_decided_costs_at_most_makes_no_difference_or_is_open() {
    let field = facts(vec![
        contender("lazy.database.all.managed", rounds(80.0, 40, 1)),
        contender("joined.database.all.managed", rounds(20.0, 40, 2)),
        contender("computed.database.all.managed", rounds(10.3, 40, 3)),
        contender("computed.database.all.plain", rounds(10.1, 40, 4)),
        contender("computed.database.needed.plain", rounds(10.0, 40, 5)),
        contender("computed.database.needed.map", rounds(10.8, 40, 6)),
        contender("computed.database.needed.raw", rounds(3.0, 40, 7)),
        contender("mine", rounds(9.0, 40, 8)),
    ]);
    let verdict = judge(&field);
    assert_eq!(name_of(&field, verdict.leader), Some("mine"), "SQL of one's own leads, beside the choices");
    // All is told around the best of those that are derived; who has joined differs from it in two more choices.
    let loading = choice(&verdict, "loading");
    assert_eq!((loading.option.word(), loading.end(0.05)), ("computed", ChoiceEnd::Known), "{loading:?}");
    assert!(matches!(cost(loading, "joined"), Cost::AtLeast(least) if (1.9..2.02).contains(&least)), "{loading:?}");
    assert!(matches!(cost(loading, "lazy"), Cost::AtLeast(least) if (3.0..8.1).contains(&least)), "{loading:?}");
    assert!(loading.others.iter().all(|other| words(&other.also) == ["all", "managed"]), "{loading:?}");
    let columns = choice(&verdict, "columns");
    assert_eq!(columns.end(0.05), ChoiceEnd::NoDifference);
    let hydration = choice(&verdict, "hydration");
    assert_eq!((hydration.option.word(), hydration.end(0.05)), ("plain", ChoiceEnd::Known));
    assert!(matches!(cost(hydration, "map"), Cost::AtLeast(_) | Cost::AtMost(_)), "{hydration:?}");
    assert!(hydration.others.iter().all(|other| other.option.word() != "raw"), "the floor is no choice");
    assert!(verdict.by_choice.iter().all(|one| one.choice.word() != "work"), "it was not raced");
    // What is raced with others besides is told with those, and is no decision.
    let apart = facts(vec![
        contender("grouped.database.all.managed", rounds(10.0, 40, 1)),
        contender("computed.database.all.managed", rounds(13.0, 40, 2)),
        contender("computed.database.needed.plain", rounds(12.0, 40, 3)),
    ]);
    let verdict = judge(&apart);
    assert_eq!(choice(&verdict, "loading").end(0.05), ChoiceEnd::Decided);
    assert_eq!(choice(&verdict, "loading").others[0].also, []);
    let [columns, hydration] = [choice(&verdict, "columns"), choice(&verdict, "hydration")];
    assert_eq!([columns.end(0.05), hydration.end(0.05)], [ChoiceEnd::Known; 2]);
    assert_eq!((words(&columns.others[0].also), words(&hydration.others[0].also)), (vec!["computed", "plain"], vec!["computed", "needed"]));
    // With few and wild rounds it is open, with what would settle it.
    let open = facts(vec![contender("joined.all.plain", wild(5.0, 0.3, 20, 1)), contender("joined.needed.plain", wild(5.2, 0.3, 20, 2))]);
    let verdict = judge(&open);
    let columns = choice(&verdict, "columns");
    assert_eq!(columns.end(0.05), ChoiceEnd::Open);
    assert!(
        matches!(columns.others[0].cost, Cost::Open { interval: Some(_), rounds } if rounds.is_none_or(|rounds| rounds > 20)),
        "{columns:?}"
    );
}

/// What each step of the ladder changes.
fn steps(verdict: &Verdict) -> Vec<String> {
    let option = |option: Option<Opt>| option.map_or("-".to_owned(), |option| option.to_string());
    let change = |change: &OptionChange| format!("{} {} {}", change.choice.word(), option(change.before), option(change.after));
    verdict.ladder.iter().map(|step| step.changes.iter().map(change).collect::<Vec<_>>().join(", ")).collect()
}

/// A contender on another schema, or on the plain one: an option of one of the two choices of schemas.
fn on(choice: Choice, option: &str, name: &str, rounds: Vec<f64>) -> ContenderFacts {
    let one = contender(name, rounds);
    let choices = one.choices.map(|choices| choices.with_opt(choice.option(option).unwrap()));
    ContenderFacts { name: format!("{name}@{option}"), choices, ..one }
}

#[test]
fn an_index_is_the_last_step_and_other_choices_are_told_on_one_schema_alone() {
    let field = facts(vec![
        on(Choice::Index, "none", "lazy.needed.plain", rounds(80.0, 40, 1)),
        on(Choice::Index, "none", "computed.needed.plain", rounds(40.0, 40, 2)),
        on(Choice::Index, "by_hive", "computed.needed.plain", rounds(1.0, 40, 3)),
        on(Choice::Index, "by_time", "computed.needed.plain", rounds(41.0, 40, 4)),
    ]);
    let verdict = judge(&field);
    let index = choice(&verdict, "index");
    assert_eq!((index.option.to_string().as_str(), index.end(0.05), index.others.len()), ("by_hive", ChoiceEnd::Decided, 2));
    assert!(index.others.iter().all(|other| matches!(other.cost, Cost::AtLeast(least) if least >= 3.0)), "{index:?}");
    // How rows are loaded was only raced without the index, which is said.
    let loading = choice(&verdict, "loading");
    assert_eq!((loading.end(0.05), words(&loading.others[0].also)), (ChoiceEnd::Known, vec!["none"]));
    assert_eq!(steps(&verdict), ["loading lazy computed", "index none by_hive"]);
}

#[test]
fn what_keys_cost_is_told_among_contenders_that_differ_in_nothing_else() {
    // The leanest one ran with the schema's own keys alone, and is twice as fast for another reason.
    let field = |uuid: f64, text: f64| {
        facts(vec![
            on(Choice::Keys, "own", "needed.record", rounds(10.0, 40, 1)),
            on(Choice::Keys, "own", "needed.plain", rounds(20.0, 40, 2)),
            on(Choice::Keys, "hive:uuid7", "needed.plain", rounds(uuid, 40, 3)),
            on(Choice::Keys, "hive:text", "needed.plain", rounds(text, 40, 4)),
            on(Choice::Keys, "own", "all.plain", rounds(60.0, 40, 5)),
            on(Choice::Keys, "hive:text", "all.plain", rounds(200.0, 40, 6)),
        ])
    };
    let told = |uuid: f64, text: f64| {
        let keys = choice(&judge(&field(uuid, text)), "keys").clone();
        let costs: Vec<String> = keys
            .others
            .iter()
            .map(|other| match other.cost {
                Cost::AtLeast(least) => format!("{} {:.1}", other.option, least),
                Cost::AtMost(most) => format!("{} at most {:.1}", other.option, most),
                _ => format!("{} open", other.option),
            })
            .collect();
        (keys.option.to_string(), keys.base, keys.end(0.05), costs.join(", "))
    };
    assert_eq!(told(24.0, 30.0), ("own".into(), 1, ChoiceEnd::Decided, "hive:text 1.5, hive:uuid7 1.2".into()));
    assert_eq!(told(20.1, 20.2), ("own".into(), 1, ChoiceEnd::NoDifference, "hive:text at most 1.0, hive:uuid7 at most 1.0".into()));
    // Far behind is far behind, however few its rounds.
    let far = told(20.0, 90.0);
    assert!(far.3.contains("hive:text 4.") || far.3.contains("hive:text 3."), "{far:?}");
    // Where another type is faster, the schema's own costs something.
    assert_eq!(told(16.0, 30.0), ("hive:uuid7".into(), 2, ChoiceEnd::Decided, "own 1.2, hive:text 1.9".into()));
    // Other choices are told on the schema's own keys alone.
    assert_eq!(choice(&judge(&field(24.0, 30.0)), "hydration").others.len(), 1);
}

fn with_p95(mut one: ContenderFacts, milliseconds: f64) -> ContenderFacts {
    one.p95_rounds = rounds(milliseconds, one.rounds.len(), 5);
    one
}

fn required(contenders: Vec<ContenderFacts>, limits: &[(Required, f64)]) -> Facts {
    let mut facts = facts(contenders);
    facts.settings.rests = false;
    limits.iter().for_each(|&(required, limit)| facts.require.set(required, limit));
    facts
}

#[test]
fn with_requirements_the_least_work_that_surely_meets_them_is_taken() {
    let field = |limit: f64| {
        required(
            vec![
                with_p95(with_hand(contender("easy", rounds(50.0, 20, 2)), 0), 60.0),
                with_p95(with_hand(contender("fast", rounds(5.0, 20, 1)), 1), 6.0),
            ],
            &[(Required::P95, limit)],
        )
    };
    let meets = field(100e6);
    let verdict = judge(&meets);
    assert_eq!((name_of(&meets, verdict.choose), &verdict.requirements), (Some("easy"), &Some(Requirements::Met { easier: Vec::new() })));
    let tight = field(10e6);
    let verdict = judge(&tight);
    assert_eq!((name_of(&tight, verdict.choose), verdict.placed[0].outcome), (Some("fast"), Outcome::RuledOut));
    assert_eq!(verdict.placed[0].readings.iter().map(|reading| reading.keeps).collect::<Vec<_>>(), [Keeps::No]);
    assert!(!verdict.misses_requirements());
    // A limit within the interval: it may meet it, and is not taken for one that does.
    let close = field(60.3e6);
    let verdict = judge(&close);
    assert_eq!((name_of(&close, verdict.choose), &verdict.requirements), (Some("fast"), &Some(Requirements::Met { easier: vec![0] })));
    let nobody = field(6.03e6);
    let verdict = judge(&nobody);
    assert_eq!((verdict.choose, &verdict.requirements), (None, &Some(Requirements::Provisional { contenders: vec![1] })));
    assert!(verdict.misses_requirements());
}

#[test]
fn of_calls_with_different_parameters_the_worst_has_to_meet_a_requirement() {
    let statements = |least, most| kampf_contest::Counted { mean: 3.0, least, most, how: kampf_contest::How::Inside };
    let mut field = required(
        vec![with_hand(contender("varies", rounds(5.0, 20, 1)), 0), with_hand(contender("steady", rounds(9.0, 20, 2)), 1)],
        &[(Required::Count(Measure::Statements), 4.0)],
    );
    for (least, most, chosen) in [(1, 4, "varies"), (1, 5, "steady"), (4, 4, "varies")] {
        field.contenders[0].measured.set(Measure::Statements, statements(least, most));
        let verdict = judge(&field);
        assert_eq!(name_of(&field, verdict.choose), Some(chosen), "{least} to {most}");
        assert_eq!(verdict.placed[0].readings[0].has, Some(most as f64));
    }
}

#[test]
fn who_is_not_believed_has_no_place_in_the_race() {
    let honest = || vec![contender("fast", rounds(5.0, 30, 1)), contender("slow", rounds(9.0, 30, 2))];
    let mut field = facts(honest());
    field.contenders.push(failed(contender("liar", Vec::new()), FaultKind::NotBelieved));
    let (with, without) = (judge(&field), judge(&facts(honest())));
    assert_eq!((with.end, with.leader, with.choose), (without.end, without.leader, without.choose));
    assert_eq!(with.placed[..2], without.placed[..]);
    assert_eq!((outcomes(&field, &with)[2].1, with.order[2]), ("not_believed", 2));
}

#[test]
fn a_percentile_of_too_few_calls_is_provisional_and_a_call_that_is_always_too_long_is_not() {
    let few = required(
        vec![with_p95(contender("few", rounds(5.0, 4, 1)), 6.0), contender("slow", rounds(500.0, 2, 2))],
        &[(Required::P95, 100e6)],
    );
    let verdict = judge(&few);
    assert_eq!(verdict.requirements, Some(Requirements::Provisional { contenders: vec![0] }));
    assert_eq!((verdict.placed[0].readings[0].keeps, verdict.placed[1].readings[0].keeps), (Keeps::Provisional, Keeps::No));
}

#[test]
fn what_every_round_misses_by_far_is_missed_however_few_rounds_there_are() {
    let of = |cold: f64, p95: f64| {
        let mut one = with_p95(contender("one", rounds(0.5, 2, 1)), p95);
        (one.cold, one.cold_rounds) = (Some(cold * 1e6), rounds(cold, 2, 1));
        one
    };
    let keeps = |one: ContenderFacts| {
        let verdict = judge(&required(vec![one, contender("two", rounds(9.0, 2, 2))], &[(Required::FirstCall, 1e6), (Required::P95, 1e6)]));
        verdict.placed[0].readings.iter().map(|reading| (reading.required.key(), reading.keeps)).collect::<Vec<_>>()
    };
    assert_eq!(keeps(of(2_000.0, 2_000.0)), [("p95", Keeps::No), ("cold", Keeps::No)]);
    assert_eq!(keeps(of(1.5, 1.5)), [("p95", Keeps::Provisional), ("cold", Keeps::Provisional)]);
    assert_eq!(keeps(of(0.7, 0.7)), [("p95", Keeps::Provisional), ("cold", Keeps::Provisional)]);
}

#[test]
fn what_comes_nearest_names_what_is_missed_and_who_misses_does_not_lead() {
    let one = |name: &'static str, milliseconds: f64, statements: u64, rows: u64| {
        counted(counted(contender(name, rounds(milliseconds, 20, 1)), Measure::Statements, statements), Measure::Rows, rows)
    };
    let (statements, rows) = (Required::Count(Measure::Statements), Required::Count(Measure::Rows));
    let nearest = |field: &Facts| {
        let verdict = judge(field);
        let Some(Requirements::Missed { nearest }) = &verdict.requirements else { panic!("{:?}", verdict.requirements) };
        let of = |one: &kampf_verdict::Nearest| (one.required.key(), field.contenders[one.contender].name.clone(), one.has);
        (nearest.iter().map(of).collect::<Vec<_>>(), verdict.leader, verdict.fastest)
    };
    // All have few enough rows; nobody has few enough statements.
    let field = required(vec![one("fast", 1.0, 9, 5), one("lean", 5.0, 4, 9)], &[(statements, 3.0), (rows, 10.0)]);
    assert_eq!(nearest(&field), (vec![("statements", "lean".to_owned(), 4.0)], None, Some(0)));
    // Each is met by one of them, and no one meets both.
    let field = required(vec![one("fast", 1.0, 9, 5), one("lean", 5.0, 3, 11)], &[(statements, 3.0), (rows, 10.0)]);
    assert_eq!(nearest(&field), (vec![("rows", "lean".to_owned(), 11.0)], None, Some(0)));
}

#[test]
fn where_nobody_meets_the_requirements_the_nearest_is_named_for_each() {
    let mut fast = contender("fast", rounds(5.0, 20, 1));
    (fast.cold, fast.cold_rounds) = (Some(8e6), rounds(8.0, 20, 1));
    let fast = counted(counted(fast, Measure::HeapPeak, 5000), Measure::Rows, 7);
    let slow = contender("slow", rounds(50.0, 3, 2));
    let limits: Vec<(Required, f64)> = Required::all().map(|required| (required, if required.is_time() { 1e6 } else { 0.0 })).collect();
    let field = required(vec![fast, slow], &limits);
    let verdict = judge(&field);
    let Some(Requirements::Missed { nearest }) = &verdict.requirements else { panic!("{:?}", verdict.requirements) };
    let named: Vec<(&str, &str)> = nearest.iter().map(|one| (one.required.key(), field.contenders[one.contender].name.as_str())).collect();
    assert_eq!(
        named,
        [
            ("p95", "fast"),
            ("median", "fast"),
            ("cold", "fast"),
            ("memory", "slow"),
            ("statements", "fast"),
            ("round_trips", "fast"),
            ("rows", "fast")
        ]
    );
    // What is counted exactly rules out before any time is known, and such a one leads nobody.
    assert_eq!(verdict.placed[0].beside, Some(Beside::RuledOut));
}

#[test]
fn who_was_left_out_in_the_check_is_no_part_of_the_race() {
    let mut hopeless = contender("hopeless", Vec::new());
    hopeless.in_check = Some(400e6);
    let broken = failed(contender("failed", rounds(4.0, 3, 1)), FaultKind::Failed);
    let field = facts(vec![hopeless, broken, contender("fast", rounds(5.0, 12, 1)), contender("slow", rounds(7.0, 12, 2))]);
    let verdict = judge(&field);
    assert_eq!(
        outcomes(&field, &verdict).iter().map(|(name, outcome)| (name.as_str(), *outcome)).collect::<Vec<_>>(),
        [("fast", "standing"), ("slow", "slower"), ("hopeless", "outclassed"), ("failed", "failed")]
    );
    assert_eq!(verdict.placed[0].shown, Some(400e6));
    assert_eq!(verdict.placed[0].left.map(|left| (left.round, left.leader)), Some((0, Some(2))));
}

#[test]
fn trade_offs_are_those_that_nobody_beats_on_everything() {
    let made = |name: &str, time: f64, memory: u64, statements: u64, salt: usize| {
        counted(counted(contender(name, rounds(time, 30, salt)), Measure::HeapPeak, memory), Measure::Statements, statements)
    };
    let mut field = facts(vec![
        made("fast", 5.0, 9000, 1, 1),
        made("lean", 7.0, 1000, 1, 2),
        made("beaten", 7.5, 9500, 2, 3),
        made("as lean", 7.02, 1004, 1, 4),
        made("grew", 9.0, 10, 1, 5),
        made("says little", 4.9, 10, 0, 6),
    ]);
    // Neither the growth of a process nor what a program says of itself is ranked: it earns nothing, and takes nothing from others.
    let word = |value, how| kampf_contest::Counted::always(value, how);
    field.contenders[4].measured.set(Measure::HeapPeak, word(10, kampf_contest::How::Resident));
    field.contenders[5].measured.set(Measure::Statements, word(0, kampf_contest::How::Reported));
    // Nor is one of which nothing was counted.
    let nothing = kampf_contest::Measured::default();
    field.contenders.push(kampf_verdict::ContenderFacts { measured: nothing, ..contender("stopped", rounds(4.0, 30, 7)) });
    let verdict = judge(&field);
    let marked: Vec<&str> = (0..7).filter(|&at| verdict.placed[at].trade_off).map(|at| field.contenders[at].name.as_str()).collect();
    assert_eq!(marked, ["fast", "lean", "as lean"]);
    // Of calls that differ the worst is ranked.
    let mixed = kampf_contest::Counted { mean: 1.5, least: 1, most: 2, how: kampf_contest::How::Inside };
    field.contenders[0].measured.set(Measure::Statements, mixed);
    assert!(judge(&field).placed[0].trade_off, "it is still the fastest");
    field.contenders[1].measured.set(Measure::Statements, mixed);
    assert!(!judge(&field).placed[1].trade_off, "the other is as lean, with fewer statements");
}

#[test]
fn the_ladder_goes_by_single_changes_and_tells_what_stands_in_the_table() {
    let names = [
        ("lazy.app.all.managed", 400.0, 2),
        ("lazy.database.all.managed", 80.0, 30),
        ("computed.database.all.managed", 22.0, 30),
        ("computed.database.all.plain", 21.0, 30),
        ("computed.database.needed.plain", 17.0, 30),
        ("computed.database.needed.record", 14.0, 30),
        ("mine", 30.0, 30),
    ];
    let mut field = facts(names.iter().enumerate().map(|(salt, &(name, time, many))| contender(name, rounds(time, many, salt))).collect());
    let verdict = judge(&field);
    assert_eq!(
        steps(&verdict),
        ["work app database", "loading lazy computed", "hydration managed plain", "columns all needed", "hydration plain record"]
    );
    for step in &verdict.ladder {
        assert_eq!((Some(step.before_ns), Some(step.after_ns)), (verdict.placed[step.from].shown, verdict.placed[step.to].shown));
    }
    assert!(verdict.ladder[0].ratio.interval.is_none(), "two rounds are too few: {:?}", verdict.ladder[0]);
    let last = verdict.ladder[4].ratio.interval.unwrap();
    assert!((0.8..0.85).contains(&last.low) && (0.8..0.85).contains(&last.high), "{last:?}");
    // What nobody raced by itself is told as one step.
    field.contenders.retain(|one| ["lazy.app.all.managed", "computed.database.needed.record"].contains(&one.name.as_str()));
    let verdict = judge(&field);
    assert_eq!(steps(&verdict), ["work app database, loading lazy computed, columns all needed, hydration managed record"]);
    assert!(verdict.effects.is_empty());
}

#[test]
fn each_step_of_the_ladder_makes_the_choice_that_gains_most_of_those_left() {
    // Without the index joining is worse than loading one by one; with it, it is far better.
    let field = facts(vec![
        on(Choice::Index, "none", "lazy.needed.plain", rounds(40.0, 40, 1)),
        on(Choice::Index, "none", "joined.needed.plain", rounds(300.0, 40, 2)),
        on(Choice::Index, "by_hive", "lazy.needed.plain", rounds(20.0, 40, 3)),
        on(Choice::Index, "by_hive", "joined.needed.plain", rounds(2.0, 40, 4)),
        // On the way by rank, and not needed for it.
        on(Choice::Index, "by_hive", "batched.needed.plain", rounds(1.9, 40, 5)),
    ]);
    let verdict = judge(&field);
    let goal = name_of(&field, verdict.choose);
    assert_eq!(goal, Some("batched.needed.plain@by_hive"));
    assert_eq!(steps(&verdict), ["index none by_hive", "loading lazy batched"]);
    let mut field = field;
    field.contenders.pop();
    assert_eq!(steps(&judge(&field)), ["index none by_hive", "loading lazy joined"]);
}

/// A race of two heats: the first of three, then of what differs in one choice from the one that would have been taken.
fn two_heats(lean: f64) -> Facts {
    let late = |name: &str, milliseconds: f64, salt: usize| {
        let one = contender(name, rounds(milliseconds, 20, salt));
        ContenderFacts { ran: (20..40).collect(), ..one }
    };
    let first = |name: &str, milliseconds: f64, salt: usize| contender(name, rounds(milliseconds, 20, salt));
    let mut field = facts(vec![
        first("lazy.database.all.managed", 60.0, 1),
        contender("joined.database.all.plain", rounds(10.0, 40, 2)),
        first("joined.database.all.managed", 15.0, 3),
        with_hand(late("joined.database.needed.plain", lean, 4), 1),
        late("computed.database.all.plain", 14.0, 5),
        failed(late("batched.database.all.plain", 12.0, 6), FaultKind::Disagrees),
    ]);
    field.settings.entrants = 24;
    field.heats = vec![HeatFacts { after: 20, anchor: 1, members: vec![2, 3, 4, 5], entered: 3 }];
    field.contenders[5].rounds.clear();
    field.contenders[5].ran.clear();
    field
}

#[test]
fn after_a_second_heat_all_is_told_around_its_anchor_which_is_taken() {
    // Faster by 4 %, with more to do by hand: the anchor is taken.
    let field = two_heats(9.6);
    let verdict = judge(&field);
    assert_eq!(verdict.choose, Some(1), "{:?}", verdict.end);
    let base: Vec<usize> = verdict.by_choice.iter().map(|one| one.base).collect();
    assert_eq!(base, [1; 3]);
    let told = |word: &str| choice(&verdict, word).others.iter().map(|other| (other.option.word(), words(&other.also))).collect::<Vec<_>>();
    assert_eq!(told("columns"), [("needed", vec![])]);
    assert!(matches!(cost(choice(&verdict, "columns"), "needed"), Cost::Less(sure) if sure.high < 1.0 && sure.low > 0.9));
    assert_eq!(told("loading"), [("lazy", vec!["managed"]), ("computed", vec![])], "who differs is not told of");
    assert_eq!(told("hydration"), [("managed", vec![])]);
    assert!(matches!(choice(&verdict, "loading").others[1].cost, Cost::AtLeast(least) if (1.3..1.41).contains(&least)));
    // One that is told from the one that was there before, and never ran with the other one.
    assert!(matches!(choice(&verdict, "hydration").others[0].cost, Cost::AtLeast(least) if (1.4..1.51).contains(&least)));
    assert_eq!((verdict.placed[5].outcome, verdict.placed[1].common_rounds), (Outcome::Disagrees, 20));
    // Much faster: it leads, and those that have not run with it stand by the anchor. With no time for a heat of its own it is taken all the same.
    let verdict = judge(&two_heats(4.0));
    assert_eq!((verdict.fastest, verdict.choose, next_anchor(&two_heats(4.0))), (Some(3), Some(3), Some(3)));
    assert_eq!(next_anchor(&two_heats(9.6)), None, "within a tenth, with more to do by hand");
    let behind = verdict.placed[2].behind.unwrap();
    assert!((behind.ratio / 3.75 - 1.0).abs() < 0.02 && behind.low() > 3.5, "{behind:?}");
    assert_eq!(steps(&judge(&field)), ["loading lazy joined", "hydration managed plain"]);
    // The next heat is around the one that beat it.
    let mut next = two_heats(4.0);
    next.heats.push(HeatFacts { after: 40, anchor: 3, members: Vec::new(), entered: 0 });
    let verdict = judge(&next);
    assert_eq!((verdict.choose, verdict.end), (Some(3), End::Decided));
    assert_eq!(steps(&verdict), ["loading lazy joined", "hydration managed plain", "columns all needed"]);
    // With a requirement all is told around whom that has taken.
    for (limit, base) in [(20e6, 1), (5e6, 3)] {
        next.require.set(Required::Median, limit);
        let verdict = judge(&next);
        assert_eq!((verdict.choose, verdict.by_choice[0].base), (Some(base), base));
    }
}

#[test]
fn an_effect_is_the_mean_over_all_pairs_that_differ_in_it_alone() {
    let mut field = facts(vec![
        contender("lazy.database.managed", rounds(40.0, 40, 1)),
        contender("joined.database.managed", rounds(20.0, 40, 2)),
        contender("lazy.database.plain", rounds(30.0, 40, 3)),
        contender("joined.database.plain", rounds(10.0, 40, 4)),
    ]);
    field.settings.goal = Goal::Exact;
    let verdict = judge(&field);
    let loading = verdict.effects.iter().find(|effect| effect.before.choice().word() == "loading").unwrap();
    assert_eq!((loading.before.word(), loading.after.word(), loading.pairs), ("lazy", "joined", 2));
    assert!((loading.ratio.ratio / (0.5f64 / 3.0).sqrt() - 1.0).abs() < 0.01, "{loading:?}");
    assert!(loading.ratio.low() < loading.ratio.ratio && loading.ratio.high() > loading.ratio.ratio);
    assert!((loading.least - 1.0 / 3.0).abs() < 0.01 && (loading.most - 0.5).abs() < 0.01);
}

#[test]
fn two_are_told_apart_in_both_directions() {
    let of = |old: f64, new: f64, many: usize| {
        let mut field = facts(vec![contender("stack-2", rounds(new, many, 1)), contender("stack-1", rounds(old, many, 2))]);
        field.settings.goal = Goal::Pair;
        field.pair = Some((1, 0));
        let pair = judge(&field).pair.unwrap();
        (pair.finding, pair.ratio.map(|ratio| (ratio.ratio * 10.0).round() / 10.0))
    };
    assert_eq!(of(5.0, 6.0, 20), (PairFinding::Slower, Some(1.2)));
    assert_eq!(of(5.0, 4.0, 20), (PairFinding::Faster, Some(0.8)));
    assert_eq!(of(5.0, 5.05, 20), (PairFinding::Same, Some(1.0)));
    assert_eq!(of(5.0, 6.0, 3), (PairFinding::Open, Some(1.2)));
}
