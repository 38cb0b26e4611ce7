//! What is said of choices on facts made up by hand: each by itself, on the way from the naive end, and around the anchor of a heat.

use crate::common::{contender, facts, failed, name_of, rounds, wild, with_hand};
use kampf_contest::{Choice, Opt};
use kampf_race::Goal;
use kampf_verdict::{
    ByChoice, ChoiceEnd, ContenderFacts, Cost, End, Facts, FaultKind, HeatFacts, OptionChange, Outcome, Required, Verdict, judge,
    next_anchor,
};

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
pub(crate) fn on(choice: Choice, option: &str, name: &str, rounds: Vec<f64>) -> ContenderFacts {
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
    // It begins where the work is in the application, whoever else sends statements in a more naive manner.
    let mut entered = field.clone();
    entered.contenders.push(on(Choice::Statement, "built", "lazy.database.all.managed", rounds(500.0, 30, 9)));
    entered.contenders.iter_mut().take(6).for_each(|one| {
        one.choices = one.choices.map(|choices| choices.with_opt(Choice::Statement.option("prepared").unwrap()));
    });
    assert_eq!(steps(&judge(&entered))[0], "work app database");
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
