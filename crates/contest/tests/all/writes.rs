//! Writes: what is refused, which ways there are, what they send, what becomes of rows, and how something else is noticed.

use std::collections::BTreeMap;

use kampf_contest::{
    Dialect, Effect, Effects, Field, NewRow, Restriction, RowSource, TableReader, TableState, Write, WriteError, WriteText, derive_write,
    resolve_write,
};
use kampf_schema::{ColumnId, Relations, Schema, TableId, Value, ddl};

use crate::common::{OTHER, names, schema};

fn text(word: &str, table: &str, filter: &str, set: &[&str], also: &[&str]) -> WriteText {
    WriteText {
        word: word.to_owned(),
        table: table.to_owned(),
        filter: (!filter.is_empty()).then(|| filter.to_owned()),
        set: set.iter().map(|&one| one.to_owned()).collect(),
        also: also.iter().map(|&one| one.to_owned()).collect(),
        parameters: if filter.contains(":p") { vec!["p".to_owned()] } else { Vec::new() },
        ..WriteText::default()
    }
}

fn write(schema: &Schema, text: &WriteText) -> Write {
    resolve_write(schema, &Relations::of(schema), text).unwrap_or_else(|error| panic!("the write is right, but: {error}"))
}

/// The statements of the contender of a name.
fn statements(schema: &Schema, write: &Write, dialect: &Dialect, name: &str) -> Vec<String> {
    let field = Field::of_write(schema, write, dialect, &Restriction::default());
    let all = || field.all().map(|choices| choices.to_string()).collect::<Vec<_>>();
    let choices = field.all().find(|choices| choices.to_string() == name).unwrap_or_else(|| panic!("{name} is not among {:?}", all()));
    let plan = derive_write(schema, write, dialect, &choices, &[100, 100]).expect("the engine can say it");
    plan.statements(dialect, &["p".to_owned()])
}

#[test]
fn what_cannot_be_written_is_said_with_the_way_out() {
    let schema = schema();
    for (wrong, message, hint) in [
        (text("insert", "visit", "", &[], &[]), "has no primary key", "write another table"),
        (text("insert", "hives", "", &[], &[]), "no table `hives`", "`hive`"),
        (text("insert", "hive", "id = 3", &[], &[]), "fulfil no condition", "`update`"),
        (text("update", "hive", "if(:p, id = :p)", &["label = 'x'"], &[]), "it would take all of them", "the condition itself"),
        (text("update", "hive", "id = 3", &["id = 4"], &[]), "part of the primary key", "another column"),
        (text("update", "hive", "id = 3", &["label = 'x'", "label = 'y'"], &[]), "is set twice", "keep one"),
        (text("update", "hive", "id = 3", &["labels = 'x'"], &[]), "no column `labels`", "`label`"),
        (text("update", "hive", "id = 3", &["label = 3"], &[]), "text, which it is not", ""),
        (text("delete", "hive", "id = 3", &[], &["region"]), "does not refer to what is deleted", "hang on it"),
        (text("insert", "hive", "", &[], &["inspection"]), "how many rows hang on each", "3 each"),
        (text("insert", "hive", "", &[], &["region 3 each"]), "region", ""),
    ] {
        let error = resolve_write(&schema, &Relations::of(&schema), &wrong).expect_err(&format!("{wrong:?}"));
        assert!(error.message.contains(message), "{wrong:?}: {error:?}");
        assert!(error.hint.clone().unwrap_or_default().contains(hint), "{wrong:?}: {error:?}");
    }
}

#[test]
fn the_field_begins_with_the_naive_end_and_each_member_differs_from_another_in_one_choice() {
    let schema = schema();
    let many = WriteText { count: Some(50), ..text("insert", "region", "", &[], &[]) };
    let field = Field::of_write(&schema, &write(&schema, &many), &OTHER, &Restriction::default());
    let entered = names(&field.entered);
    assert_eq!(entered[0], "direct.single.each", "{entered:?}");
    assert!(entered.contains(&"direct.single.once".to_owned()) && entered.iter().any(|name| name.contains("sent:auto")), "{entered:?}");
    for (at, choices) in field.entered.iter().enumerate().skip(1) {
        let nearest = field.entered[..at].iter().map(|other| choices.distance(other)).min();
        assert_eq!(nearest, Some(1), "{choices} among {entered:?}");
    }
    // One row is one statement: nothing to put together, nothing to hold together.
    let one = Field::of_write(&schema, &write(&schema, &text("insert", "region", "", &[], &[])), &OTHER, &Restriction::default());
    assert!(
        one.all().all(|choices| !choices.to_string().contains("single") && !choices.to_string().contains("once")),
        "{:?}",
        names(&one.entered)
    );
    // A way that needs no trips is none where there are none.
    let without = Dialect { has_trips: false, ..OTHER };
    let field = Field::of_write(&schema, &write(&schema, &many), &without, &Restriction::default());
    assert!(field.all().all(|choices| !choices.to_string().contains("sent")));
    assert!(field.not_derived.iter().any(|not| not.reason.contains("no trips to save")));
    // Keys that children need cannot be left unasked.
    let parents = WriteText { count: Some(5), ..text("insert", "apiary", "", &[], &["hive 2 each"]) };
    let field = Field::of_write(&schema, &write(&schema, &parents), &OTHER, &Restriction::default());
    assert!(field.all().all(|choices| !choices.to_string().contains("unasked")));
}

#[test]
fn each_way_sends_what_its_name_says() {
    let schema = schema();
    let of = |text: &WriteText, name: &str| statements(&schema, &write(&schema, text), &OTHER, name);
    let many = WriteText { count: Some(50), ..text("insert", "region", "", &[], &[]) };
    assert_eq!(of(&many, "direct.single.each"), ["INSERT INTO [region] ([name])\nVALUES (:name)\nSELECT last_key()"]);
    let returned = of(&many, "direct.values:auto.once+returned");
    assert!(returned[0].ends_with("VALUES (:name), …\nRETURNING [id]"), "{returned:?}");
    let update = text("update", "hive", "alive and apiary.region.name = :p", &["price = price + 1", "opened_on = null"], &[]);
    let sent = of(&update, "direct");
    assert!(sent.len() == 1 && sent[0].starts_with("UPDATE [hive]\nSET [price] = ") && sent[0].contains("[opened_on] = NULL"), "{sent:?}");
    assert!(sent[0].contains("[region].[name] = :p"), "{sent:?}");
    // Children first.
    let sent = of(&text("delete", "apiary", "region_id = :p", &[], &["hive", "inspection"]), "direct.each");
    let tables: Vec<&str> = sent.iter().map(|sql| sql.split(['[', ']']).nth(1).unwrap()).collect();
    let place = |name: &str| tables.iter().position(|&table| table == name).unwrap_or_else(|| panic!("{sent:?}"));
    assert!(place("inspection") < place("hive") && place("hive") < place("apiary"), "{sent:?}");
}

/// Three keepers, each with hives; the labels of hives are unique, boxes go with a hive, and notes stay without it.
const RULES: &str = "
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(8) NOT NULL);
CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL REFERENCES keeper, label TEXT NOT NULL UNIQUE,
  frames INTEGER NOT NULL CHECK (frames <= 12));
CREATE TABLE box (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive ON DELETE CASCADE);
CREATE TABLE note (id INTEGER PRIMARY KEY, hive_id INTEGER REFERENCES hive ON DELETE SET NULL);
";
const KEEPER: TableId = TableId(0);
const HIVE: TableId = TableId(1);
const BOX: TableId = TableId(2);
const NOTE: TableId = TableId(3);

struct Rows(Vec<Vec<Vec<Value>>>);

impl RowSource for Rows {
    fn count(&self, table: TableId) -> u64 {
        // What stands behind is new.
        [3, 4, 3, 2][table.0]
    }

    fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        self.0[table.0][usize::try_from(row).unwrap()][column].clone()
    }
}

fn rows() -> Rows {
    let int = Value::Integer;
    let text = |text: &str| Value::Text(text.into());
    let hive = |id, keeper, label: &str, frames| vec![int(id), int(keeper), text(label), int(frames)];
    Rows(vec![
        vec![
            vec![int(1), text("Ada")],
            vec![int(2), text("Bo")],
            vec![int(3), text("Cy")],
            vec![int(4), text("Di")],
            vec![int(5), text("Ed")],
        ],
        vec![
            hive(10, 1, "a", 8),
            hive(11, 1, "b", 10),
            hive(12, 2, "c", 12),
            hive(13, 3, "d", 9),
            hive(14, 4, "e", 8),
            hive(15, 5, "f", 9),
        ],
        vec![vec![int(1), int(10)], vec![int(2), int(10)], vec![int(3), int(12)]],
        vec![vec![int(1), int(10)], vec![int(2), Value::Null]],
    ])
}

/// What a table holds, by its rows.
type There = BTreeMap<TableId, Vec<Vec<Value>>>;

/// The first four rows and so on: what was there before anybody wrote.
fn there(rows: &Rows, touched: &[TableId]) -> There {
    touched.iter().map(|&table| (table, rows.0[table.0][..usize::try_from(rows.count(table)).unwrap()].to_vec())).collect()
}

/// Whether what is there afterwards is what must be; the table of the first difference.
fn found(schema: &Schema, write: &Write, effects: &Effects<'_>, effect: &Effect, before: &There, after: &There) -> Option<TableId> {
    let state = |rows: &Vec<Vec<Value>>| {
        let mut state = TableState::default();
        rows.iter().for_each(|row| state.take(&row.iter().map(Value::as_ref).collect::<Vec<_>>()));
        state
    };
    let states = before.iter().map(|(&table, rows)| (table, state(rows))).collect();
    let readers: Vec<TableReader> = before
        .iter()
        .map(|(&table, was)| {
            let largest = was.iter().filter_map(|row| if let Value::Integer(key) = row[0] { Some(key) } else { None }).max();
            let nothing = kampf_contest::TableEffect::default();
            let mut reader = TableReader::of(schema, effects, table, effect.tables.get(&table).unwrap_or(&nothing), largest);
            after[&table].iter().for_each(|row| reader.take(&row.iter().map(Value::as_ref).collect::<Vec<_>>()));
            reader
        })
        .collect();
    effect.difference(schema, write, effects, &states, &readers).map(|difference| difference.table.expect("a table"))
}

#[test]
fn what_is_changed_is_worked_out_from_the_rows_and_anything_else_is_noticed() {
    let schema = ddl::read(RULES).expect("it is right").schema;
    let rows = rows();
    let write = write(&schema, &text("update", "hive", "keeper.name = :p", &["frames = frames + 1"], &[]));
    let effects = Effects::of(&schema, &write, &rows, &[]);
    // Those of Ada's with eight and ten frames.
    let effect = effects.with(&[Value::Text("Ada".into())]).unwrap();
    let changed: Vec<(u64, Vec<(ColumnId, Value)>)> = effect.tables[&HIVE].changed.clone().into_iter().collect();
    assert_eq!(changed, [(0, vec![(3, Value::Integer(9))]), (1, vec![(3, Value::Integer(11))])]);
    assert_eq!((effect.own_rows, effect.tables.len()), (2, 1));
    // A hive of Bo's would have thirteen.
    assert!(matches!(effects.with(&[Value::Text("Bo".into())]), Err(WriteError::Breaks(why)) if why.contains("frames <= 12")));
    let before = there(&rows, &[HIVE]);
    let mut right = before.clone();
    (right.get_mut(&HIVE).unwrap()[0][3], right.get_mut(&HIVE).unwrap()[1][3]) = (Value::Integer(9), Value::Integer(11));
    let is_found = |after: &There| found(&schema, &write, &effects, &effect, &before, after);
    assert_eq!(is_found(&right), None);
    right.get_mut(&HIVE).unwrap().reverse();
    assert_eq!(is_found(&right), None, "the order of rows is nothing");
    // Each value of each row matters: one that is not meant to change, one that is, and one more or less.
    for row in 0..4 {
        for column in 0..4 {
            let mut wrong = right.clone();
            let value = &mut wrong.get_mut(&HIVE).unwrap()[row][column];
            *value = if let Value::Integer(number) = value { Value::Integer(*number + 100) } else { Value::Text("other".into()) };
            assert_eq!(is_found(&wrong), Some(HIVE), "row {row}, column {column}");
        }
        let mut fewer = right.clone();
        fewer.get_mut(&HIVE).unwrap().remove(row);
        assert_eq!(is_found(&fewer), Some(HIVE));
        let mut more = right.clone();
        let again = right[&HIVE][row].clone();
        more.get_mut(&HIVE).unwrap().push(again);
        assert_eq!(is_found(&more), Some(HIVE));
    }
    assert_eq!(is_found(&before), Some(HIVE), "nothing was done");
}

#[test]
fn rules_that_would_break_and_rows_that_would_be_left_over_are_named() {
    let schema = ddl::read(RULES).expect("it is right").schema;
    let rows = rows();
    let broken = |text: &WriteText| {
        let write = write(&schema, text);
        Effects::of(&schema, &write, &rows, &[])
            .with(&[Value::Integer(1)][..write.rows.parameters.len()])
            .expect_err(&format!("{text:?}"))
            .to_string()
    };
    for (set, says) in [
        ("label = 'd'", "label of `hive` would not be unique any more"),
        ("keeper_id = 9", "would lead to no row of `keeper`"),
        ("frames = 13", "frames <= 12"),
    ] {
        let said = broken(&text("update", "hive", "id = 10", &[set], &[]));
        assert!(said.contains(says), "{set}: {said}");
    }
    let said = broken(&text("update", "hive", "keeper_id = 1", &["label = 'same'"], &[]));
    assert!(said.contains("would not be unique any more"), "among themselves: {said}");
    let said = broken(&text("update", "keeper", "id = :p", &["name = 'nine long'"], &[]));
    assert!(said.contains("longer than the 8 characters"), "{said}");
    let deleted = write(&schema, &text("delete", "keeper", "id = :p", &[], &[]));
    let error = Effects::of(&schema, &deleted, &rows, &[]).with(&[Value::Integer(1)]).unwrap_err();
    assert_eq!(error, WriteError::Hangs { table: KEEPER, child: HIVE });
}

#[test]
fn what_hangs_on_a_row_that_goes_goes_or_refers_to_nothing_as_the_schema_says() {
    let schema = ddl::read(RULES).expect("it is right").schema;
    let rows = rows();
    let write = write(&schema, &text("delete", "hive", "id = :p", &[], &[]));
    assert_eq!(write.touched(&schema), [HIVE, BOX, NOTE]);
    let effects = Effects::of(&schema, &write, &rows, &[]);
    let effect = effects.with(&[Value::Integer(10)]).unwrap();
    assert_eq!(effect.tables[&HIVE].gone.iter().collect::<Vec<_>>(), [&0]);
    assert_eq!(effect.tables[&BOX].gone.iter().collect::<Vec<_>>(), [&0, &1]);
    assert_eq!(effect.tables[&NOTE].changed.iter().collect::<Vec<_>>(), [(&0, &vec![(1, Value::Null)])]);
    assert_eq!(effect.own_rows, 1);
    let before = there(&rows, &[HIVE, BOX, NOTE]);
    let mut right = before.clone();
    right.get_mut(&HIVE).unwrap().remove(0);
    right.get_mut(&BOX).unwrap().drain(..2);
    right.get_mut(&NOTE).unwrap()[0][1] = Value::Null;
    let is_found = |after: &There| found(&schema, &write, &effects, &effect, &before, after);
    assert_eq!(is_found(&right), None);
    for table in [HIVE, BOX, NOTE] {
        let mut undone = right.clone();
        undone.insert(table, before[&table].clone());
        assert_eq!(is_found(&undone), Some(table));
    }
}

#[test]
fn new_rows_are_matched_by_what_they_hold_and_by_what_they_hang_on() {
    let schema = ddl::read(RULES).expect("it is right").schema;
    let rows = rows();
    let write = write(&schema, &WriteText { count: Some(2), ..text("insert", "keeper", "", &[], &["hive 1 each"]) });
    // The fourth and the fifth keeper, each with one hive.
    let new = [vec![(3, None), (4, None)], vec![(4, Some(0)), (5, Some(1))]];
    let effects = Effects::of(&schema, &write, &rows, &new);
    let effect = effects.with(&[]).unwrap();
    let made = |table: TableId| effect.tables[&table].new.iter().map(|NewRow { under, .. }| *under).collect::<Vec<_>>();
    assert_eq!((made(KEEPER), made(HIVE)), (vec![None, None], vec![Some(0), Some(1)]));
    assert_eq!(effect.tables[&KEEPER].new[0].values, [Value::Null, Value::Text("Di".into())], "the database makes its key");
    let before = there(&rows, &[KEEPER, HIVE]);
    let after = |keepers: [(i64, &str); 2], hives: [(i64, i64, &str); 2]| {
        let mut after = before.clone();
        let (int, text) = (Value::Integer, |text: &str| Value::Text(text.into()));
        after.get_mut(&KEEPER).unwrap().extend(keepers.map(|(id, name)| vec![int(id), text(name)]));
        let frames = |label: &str| int(if label == "e" { 8 } else { 9 });
        after.get_mut(&HIVE).unwrap().extend(hives.map(|(id, keeper, label)| vec![int(id), int(keeper), text(label), frames(label)]));
        found(&schema, &write, &effects, &effect, &before, &after)
    };
    // Whatever keys the database has made, behind the largest.
    assert_eq!(after([(4, "Di"), (5, "Ed")], [(14, 4, "e"), (15, 5, "f")]), None);
    assert_eq!(after([(90, "Ed"), (80, "Di")], [(70, 90, "f"), (60, 80, "e")]), None);
    assert_eq!(
        after([(4, "Di"), (5, "Ed")], [(14, 5, "e"), (15, 4, "f")]),
        Some(KEEPER),
        "each is without its hive: they hang on each other's keepers"
    );
    assert_eq!(after([(4, "Di"), (5, "Ed")], [(14, 4, "e"), (15, 4, "f")]), Some(KEEPER), "both hang on one");
    assert_eq!(after([(4, "Di"), (5, "Ed")], [(14, 1, "e"), (15, 5, "f")]), Some(KEEPER), "one hangs on a keeper who was there");
    assert_eq!(after([(4, "Di"), (5, "Di")], [(14, 4, "e"), (15, 5, "f")]), Some(KEEPER), "a name twice");
    assert_eq!(after([(4, "Di"), (5, "Ed")], [(14, 4, "e"), (15, 5, "e")]), Some(HIVE), "a label twice");
}
