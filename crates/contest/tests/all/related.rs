//! Lists and picks: what each way of reaching them sends, in a dialect that differs from the usual one in all it can.

use crate::common::{OTHER, field, names, need, plan, schema, text};
use kampf_contest::{Choice, ChoiceOption, Loading, Need, NeedText, Reach, reached, resolve};
use kampf_schema::{Relations, TableId};

fn worst() -> NeedText {
    let list = "inspection where temper > 2 order temper, note desc limit 3 { temper, hive.label as home } as worst";
    text("hive", &["label", list], "", &["label"], Some(10))
}

fn newest() -> NeedText {
    let pick = |column: &str| format!("last(inspection order temper).{column} as {column}");
    text("hive", &["label", &pick("temper"), &pick("note")], "", &[], None)
}

fn sent(text: &NeedText, name: &str) -> Vec<String> {
    let schema = schema();
    plan(&schema, &need(&schema, text), name).statements(&OTHER)
}

#[test]
fn a_ranked_list_is_cut_in_the_database_and_keyed_by_its_parents() {
    let sent = sent(&worst(), "ranked.database.needed.record");
    assert_eq!(sent.len(), 2);
    insta::assert_snapshot!(sent[1], @"
    SELECT [inspection].[temper], [inspection].[home], [inspection].[key_1]
    FROM (
      SELECT [inspection].[temper],
        [hive].[label] AS [home],
        [inspection].[hive_id] AS [key_1],
        row_number() OVER (PARTITION BY [inspection].[hive_id] ORDER BY [inspection].[temper], [inspection].[note] DESC NULLS LAST, [inspection].[id] DESC) AS [place]
      FROM [inspection]
      JOIN [hive] ON [hive].[id] = [inspection].[hive_id]
      WHERE [inspection].[hive_id] IN (…) AND [inspection].[temper] > $1
    ) AS [inspection]
    WHERE [inspection].[place] <= 3
    ORDER BY [inspection].[place]
    ");
}

#[test]
fn a_nested_list_is_a_text_of_its_parents_row() {
    insta::assert_snapshot!(sent(&worst(), "nested.database.needed.record")[0], @"
    SELECT [hive].[label],
      text((
        SELECT rows_json(row_json([inspection].[item_1], [inspection].[item_2]) ORDER BY [inspection].[item_1], [inspection].[sort_2] DESC NULLS LAST, [inspection].[sort_3] DESC)
        FROM (
          SELECT [inspection].[temper] AS [item_1],
            [hive_2].[label] AS [item_2],
            [inspection].[note] AS [sort_2],
            [inspection].[id] AS [sort_3]
          FROM [inspection]
          JOIN [hive] AS [hive_2] ON [hive_2].[id] = [inspection].[hive_id]
          WHERE [inspection].[hive_id] = [hive].[id] AND [inspection].[temper] > $1
          ORDER BY [inspection].[temper], [inspection].[note] DESC NULLS LAST, [inspection].[id] DESC
          LIMIT 3
        ) AS [inspection]
      )) AS [worst]
    FROM [hive]
    ORDER BY [hive].[label], [hive].[id]
    LIMIT 10
    ");
    // A list in a list is an item of it.
    let inner = text("apiary", &["name", "hive { label, inspection { temper } as visits } as hives"], "", &[], None);
    let sent = sent(&inner, "nested.needed.raw").remove(0);
    assert!(
        sent.contains("row_json([hive].[label], as_json((SELECT rows_json(row_json([inspection].[temper])) FROM [inspection]"),
        "{sent}"
    );
}

#[test]
fn batches_fetch_the_whole_list_and_leave_order_and_limit_to_the_application() {
    let schema = schema();
    let need = need(&schema, &worst());
    let plan = plan(&schema, &need, "batched.database.needed.record");
    let list = &plan.lists[0];
    assert_eq!((list.limit, list.order.len()), (Some(3), 3));
    let sent = plan.statements(&OTHER);
    assert!(
        sent[1].contains("WHERE [inspection].[hive_id] IN (…) AND [inspection].[temper] > $1") && !sent[1].contains("ORDER"),
        "{}",
        sent[1]
    );
}

#[test]
fn picks_are_numbered_or_found_by_their_extremes_or_looked_up_for_each() {
    insta::assert_snapshot!(sent(&newest(), "ranked.needed.record")[0], @"
    SELECT [hive].[label],
      [inspection].[first_1] AS [temper],
      [inspection].[first_2] AS [note]
    FROM [hive]
    LEFT JOIN (
      SELECT [inspection].[hive_id], [inspection].[temper] AS [first_1], [inspection].[note] AS [first_2], row_number() OVER (PARTITION BY [inspection].[hive_id] ORDER BY [inspection].[temper] DESC, [inspection].[id] DESC) AS [place]
      FROM [inspection]
    ) AS [inspection] ON [inspection].[hive_id] = [hive].[id] AND [inspection].[place] = 1
    ");
    insta::assert_snapshot!(sent(&newest(), "grouped.needed.record")[0], @"
    SELECT [hive].[label],
      [inspection].[first_1] AS [temper],
      [inspection].[first_2] AS [note]
    FROM [hive]
    LEFT JOIN (
      SELECT [inspection].[hive_id], [inspection].[temper] AS [first_1], [inspection].[note] AS [first_2]
      FROM [inspection]
      JOIN (
        SELECT [inspection].[hive_id], [extremes].[extreme_1] AS [extreme_1], max([inspection].[id]) AS [extreme_2]
        FROM [inspection]
        JOIN (
          SELECT [inspection].[hive_id], max([inspection].[temper]) AS [extreme_1]
          FROM [inspection]
          GROUP BY [inspection].[hive_id]
        ) AS [extremes] ON [extremes].[hive_id] = [inspection].[hive_id] AND [extremes].[extreme_1] = [inspection].[temper]
        GROUP BY [inspection].[hive_id], [extremes].[extreme_1]
      ) AS [extremes] ON [extremes].[hive_id] = [inspection].[hive_id] AND [extremes].[extreme_1] = [inspection].[temper] AND [extremes].[extreme_2] = [inspection].[id]
    ) AS [inspection] ON [inspection].[hive_id] = [hive].[id]
    ");
    // Several at once by a select that sees the row; one alone is a sub-select.
    let sent_by = |text: &NeedText| sent(text, "computed.needed.record").remove(0);
    let several = sent_by(&newest());
    assert!(several.contains("LEFT JOIN LATERAL (") && several.ends_with("LIMIT 1\n) AS [inspection] ON TRUE"), "{several}");
    let one = sent_by(&text("hive", &["first(inspection order note).temper as x"], "", &[], None));
    let looked_up = "(SELECT [inspection].[temper] FROM [inspection] WHERE [inspection].[hive_id] = [hive].[id] \
                     ORDER BY [inspection].[note] NULLS FIRST, [inspection].[id] LIMIT 1)";
    assert!(one.contains(looked_up), "{one}");
}

#[test]
fn what_has_no_form_of_its_own_takes_the_nearest_one() {
    let schema = schema();
    let list = "inspection { temper } as all";
    let text = text("hive", &["apiary.name", "count(inspection) as n", "first(inspection order note).temper as x", list], "", &[], None);
    let need = need(&schema, &text);
    let got = |loading: Loading| {
        let found = field(&schema, &need).valid.into_iter().find(|choices| choices.get() == Some(loading)).unwrap();
        reached(&schema, &need, &OTHER, &found).into_iter().map(|got| got.by.word()).collect::<Vec<_>>().join(" ")
    };
    // A row to one, an aggregate, a pick whose order may be null, and a list without a limit.
    assert_eq!(got(Loading::Lazy), "lazy lazy lazy lazy");
    assert_eq!(got(Loading::Joined), "joined joined joined joined");
    assert_eq!(got(Loading::Grouped), "joined grouped joined joined");
    assert_eq!(got(Loading::Ranked), "joined grouped ranked batched");
    assert_eq!(got(Loading::Computed), "computed computed computed batched");
    assert_eq!(got(Loading::Nested), "computed computed computed nested");
}

#[test]
fn an_option_without_any_form_of_its_own_is_not_entered() {
    let schema = schema();
    let loadings = |give: &[&str]| {
        let need = need(&schema, &text("hive", give, "", &[], None));
        let field = field(&schema, &need);
        let mut words: Vec<&str> =
            field.valid.iter().filter_map(|choices| choices.of(Choice::Loading)).map(|option| option.word()).collect();
        words.dedup();
        words.join(" ")
    };
    assert_eq!(loadings(&["inspection { temper }"]), "lazy batched joined nested");
    assert_eq!(loadings(&["inspection limit 2 { temper }"]), "lazy batched joined ranked nested");
    assert_eq!(loadings(&["first(inspection order temper).note"]), "lazy batched joined grouped ranked computed");
    let need = need(&schema, &worst());
    let field = field(&schema, &need);
    let managed = field.not_derived.iter().find(|not| not.choices.to_string() == "nested.database.all.managed").unwrap();
    assert_eq!(managed.reason, "rows out of a JSON text are no entities that could be saved");
    assert!(names(&field.entered).contains(&"nested.database.needed.plain".to_owned()), "{:?}", names(&field.entered));
}

#[test]
fn a_relation_may_be_fixed_and_a_wrong_one_is_told() {
    let schema = schema();
    let relations = Relations::of(&schema);
    let fixed = |path: &str| resolve(&schema, &relations, &NeedText { loading: vec![(path.into(), Loading::Batched)], ..worst() });
    let plan = plan(&schema, &fixed("inspection").unwrap(), "joined.database.needed.record");
    assert_eq!(plan.nodes[1].link.as_ref().map(|link| link.reach), Some(Reach::Batched));
    let error = |path: &str| fixed(path).unwrap_err().message;
    assert_eq!(error("inspection.apiary"), "`inspection` has no relation `apiary`");
    assert_eq!(error("apiary"), "nothing is asked of `apiary` here");
}

#[test]
fn entities_come_with_what_they_always_load_and_never_back_to_where_they_came_from() {
    let schema = schema();
    let table = |name: &str| schema.find(name).unwrap();
    let always =
        |pairs: &[(&str, &str)]| pairs.iter().map(|(of, relation)| (table(of), (*relation).to_owned())).collect::<Vec<(TableId, String)>>();
    let text = NeedText {
        always: always(&[("hive", "apiary"), ("apiary", "region"), ("apiary", "hive")]),
        ..text("hive", &["label"], "", &[], None)
    };
    let need: Need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let habits: Vec<&str> = need.sources.iter().filter(|source| source.by_habit).map(|source| source.name.as_str()).collect();
    assert_eq!(habits, ["apiary", "region"]);
    assert_eq!(need.tables(), [table("hive")], "what nobody asks for is not among what is read");
    let names = names(&field(&schema, &need).entered);
    for loading in ["lazy", "batched", "joined"] {
        assert!(names.contains(&format!("{loading}.needed.plain+kept")), "{names:?}");
    }
    let kept = plan(&schema, &need, "lazy.needed.plain+kept");
    assert_eq!(kept.nodes.iter().filter(|node| node.always).count(), 2);
    assert_eq!(kept.statements(&OTHER)[1], "SELECT [id], [region_id], [name], [altitude]\nFROM [apiary]\nWHERE [id] = $1");
}

#[test]
fn lists_at_several_levels_that_share_their_rows_are_one_level() {
    let schema = schema();
    let inner = "hive { mother.label, inspection limit 2 { temper, hive.label as home } as some }";
    let text = text("apiary", &["name", inner, "hive.inspection { count(hive.inspection) as many } as all"], "", &[], None);
    let need = need(&schema, &text);
    for choices in field(&schema, &need).valid {
        let plan = kampf_contest::derive(&schema, &need, &OTHER, &choices);
        let is_there = |leaf: &kampf_contest::AppLeaf| match leaf {
            kampf_contest::AppLeaf::Column { node, column } => plan.layouts[plan.nodes[*node].layout].columns.len() > *column,
            kampf_contest::AppLeaf::Aggregate(at) => *at < plan.aggregates.len(),
            kampf_contest::AppLeaf::List(at) => *at < plan.lists.len(),
            _ => true,
        };
        let given = plan.lists.iter().flat_map(|list| &list.give).chain(&plan.give);
        given.flat_map(|value| value.leaves()).for_each(|leaf| assert!(is_there(leaf), "{choices}: {leaf:?}"));
    }
}
