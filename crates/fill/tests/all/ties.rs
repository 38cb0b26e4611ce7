//! How rows hang together: histories, answers, tenants, as guessed and as said.

use std::collections::HashMap;

use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{Schema, TableId, Value, ddl};

const GUIDE: &str = include_str!("../../../../docs/filling.md");

/// The block of code of a language behind a heading of the guide.
fn block(heading: &str, language: &str) -> &'static str {
    let behind = GUIDE.split_once(heading).unwrap().1;
    let inside = behind.split_once(&format!("```{language}\n")).unwrap().1;
    inside.split_once("```").unwrap().0
}

fn ordered(schema: &Schema, rows: &[(&str, &str)], values: &[(&str, &str)]) -> Order {
    let mut order = Order { seed: 5, ..Order::default() };
    for (table, count) in rows {
        order.rows.insert(schema.find(table).unwrap(), read_row_count(count).unwrap());
    }
    for (name, recipe) in values {
        let (table, column) = name.split_once('.').unwrap();
        let id = schema.find(table).unwrap();
        let recipe = read_recipe(recipe).unwrap_or_else(|error| panic!("{recipe}: {}", error.message));
        order.values.insert((id, schema.table(id).find(column).unwrap()), recipe);
    }
    order
}

/// Rows as texts by the names of their columns; none for nulls.
fn rows(schema: &Schema, blueprint: &Blueprint, table: &str) -> Vec<HashMap<String, Option<String>>> {
    let id = schema.find(table).unwrap();
    let columns = &schema.table(id).columns;
    let value = |row: u64, at: usize| match blueprint.value(id, row, at) {
        Value::Null => None,
        value => Some(value.to_string()),
    };
    (0..blueprint.rows(id)).map(|row| (0..columns.len()).map(|at| (columns[at].name.clone(), value(row, at))).collect()).collect()
}

type Row = HashMap<String, Option<String>>;

fn at<'r>(row: &'r Row, column: &str) -> &'r str {
    row[column].as_deref().unwrap_or("null")
}

/// Rows by the value of a column, in their order.
fn by<'r>(rows: &'r [Row], column: &str) -> HashMap<&'r str, Vec<&'r Row>> {
    let mut of: HashMap<&str, Vec<&Row>> = HashMap::new();
    rows.iter().for_each(|row| of.entry(at(row, column)).or_default().push(row));
    of
}

#[test]
fn the_guide_s_lines_say_what_is_guessed() {
    let schema = ddl::read(block("## How rows hang together", "sql")).unwrap().schema;
    let lines = block("## How rows hang together", "toml").lines().filter(|line| line.starts_with('"'));
    let values: Vec<(&str, &str)> = lines
        .map(|line| {
            let parts: Vec<&str> = line.split('"').collect();
            (parts[1], parts[3])
        })
        .collect();
    assert_eq!(values.len(), 6);
    let guessed = Blueprint::new(&schema, &ordered(&schema, &[], &[])).unwrap();
    let said = Blueprint::new(&schema, &ordered(&schema, &[], &values)).unwrap_or_else(|error| panic!("{}", error.message));
    for (name, recipe) in values {
        let (table, column) = name.split_once('.').unwrap();
        let id = schema.find(table).unwrap();
        let way = guessed.way(id, schema.table(id).find(column).unwrap());
        if !recipe.starts_with("same") {
            assert_eq!(way.how, recipe);
        }
        assert!(way.why.starts_with("guessed from"), "{name}: {}", way.why);
    }
    for id in schema.ids() {
        assert_eq!(guessed.digest(id), said.digest(id), "{}", schema.table(id).name);
    }
    // Each of them is so in the rows, whoever made them.
    let [hives, steps, notes, keepers] = ["hive", "hive_step", "note", "keeper"].map(|table| rows(&schema, &guessed, table));
    let hive: HashMap<&str, &Row> = hives.iter().map(|row| (at(row, "id"), row)).collect();
    let keeper: HashMap<&str, &Row> = keepers.iter().map(|row| (at(row, "id"), row)).collect();
    let note: HashMap<&str, &Row> = notes.iter().map(|row| (at(row, "id"), row)).collect();
    assert!(hives.iter().all(|row| at(keeper[at(row, "keeper_id")], "apiary_id") == at(row, "apiary_id")));
    let mut lengths = [0; 4];
    for (id, steps) in by(&steps, "hive_id") {
        let mut before = "null";
        for step in &steps {
            assert_eq!(at(step, "old_status"), before, "{steps:?}");
            before = at(step, "new_status");
            assert_ne!(before, "null");
            assert_eq!(at(step, "keeper_id"), at(hive[id], "keeper_id"));
        }
        assert_eq!(before, at(hive[id], "status"));
        let times: Vec<&str> = std::iter::once(at(hive[id], "created_at")).chain(steps.iter().map(|step| at(step, "changed_at"))).collect();
        assert!(times.is_sorted(), "{times:?}");
        assert!(times[times.len() - 1] < "2026-07-01");
        lengths[steps.len().min(4) - 1] += 1;
    }
    assert!(lengths.iter().all(|&count| count > 5), "histories of all lengths: {lengths:?}");
    let answers: Vec<&Row> = notes.iter().filter(|row| row["answers_id"].is_some()).collect();
    assert!(answers.len() * 10 > notes.len(), "{} of {}", answers.len(), notes.len());
    for answer in answers {
        let answered = note[at(answer, "answers_id")];
        assert_eq!(at(answer, "hive_id"), at(answered, "hive_id"));
        assert!(at(answer, "written_at") >= at(answered, "written_at"));
    }
}

const STEPS: &str = "CREATE TABLE box (id INTEGER PRIMARY KEY, state TEXT NOT NULL);
    CREATE TABLE box_step (id INTEGER PRIMARY KEY, box_id INTEGER NOT NULL REFERENCES box, nr INTEGER NOT NULL, was TEXT NOT NULL, is_now TEXT NOT NULL,
      UNIQUE (box_id, nr));";

#[test]
fn a_history_that_no_name_tells_of_can_be_said() {
    let schema = ddl::read(STEPS).unwrap().schema;
    let values = [
        ("box.state", "pick('open' 3, 'shut' 2, 'burnt' 1)"),
        ("box_step.is_now", "path(box.state, 'built', 'open', 'full')"),
        ("box_step.was", "previous(is_now, 'built')"),
    ];
    let order = ordered(&schema, &[("box", "300"), ("box_step", "0..7 per box")], &values);
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let (boxes, steps) = (rows(&schema, &blueprint, "box"), rows(&schema, &blueprint, "box_step"));
    let states: HashMap<&str, &str> = boxes.iter().map(|row| (at(row, "id"), at(row, "state"))).collect();
    for (id, mut steps) in by(&steps, "box_id") {
        // The number among siblings goes with their order.
        steps.sort_by_key(|row| at(row, "nr").parse::<u32>().unwrap());
        let mut before = "built";
        for step in &steps {
            assert_eq!(at(step, "was"), before);
            before = at(step, "is_now");
        }
        assert_eq!(before, states[id]);
        // What no row is on the way to is where only the last step of some ends.
        let on_the_way = steps[..steps.len() - 1]
            .iter()
            .all(|step| ["built", "open", "full"].contains(&at(step, "is_now")) || at(step, "is_now") == states[id]);
        assert!(on_the_way, "{steps:?}");
    }
}

#[test]
fn rows_can_be_made_in_any_order_and_alone() {
    let schema = ddl::read(block("## How rows hang together", "sql")).unwrap().schema;
    let whole = Blueprint::new(&schema, &ordered(&schema, &[], &[])).unwrap();
    for table in ["hive", "hive_step", "note"] {
        let id = schema.find(table).unwrap();
        let all = rows(&schema, &whole, table);
        // A plan of its own has nothing worked out yet.
        let fresh = Blueprint::new(&schema, &ordered(&schema, &[], &[])).unwrap();
        for row in (0..whole.rows(id)).rev().step_by(97) {
            for (at, column) in schema.table(id).columns.iter().enumerate() {
                let value = fresh.value(id, row, at);
                let text = if value == Value::Null { None } else { Some(value.to_string()) };
                assert_eq!(text, all[row as usize][&column.name], "{table} {row} {}", column.name);
            }
        }
    }
}

#[test]
fn what_hangs_together_in_no_way_is_said() {
    let wrong = |rows: &[(&str, &str)], values: &[(&str, &str)]| {
        let schema = ddl::read(
            "CREATE TABLE yard (id INTEGER PRIMARY KEY);
             CREATE TABLE box (id INTEGER PRIMARY KEY, yard_id INTEGER NOT NULL REFERENCES yard, state TEXT NOT NULL);
             CREATE TABLE lid (id INTEGER PRIMARY KEY);
             CREATE TABLE step (id INTEGER PRIMARY KEY, box_id INTEGER NOT NULL REFERENCES box, lid_id INTEGER NOT NULL REFERENCES lid,
               was TEXT NOT NULL, is_now TEXT NOT NULL, size INTEGER NOT NULL);",
        )
        .unwrap()
        .schema;
        let error = Blueprint::new(&schema, &ordered(&schema, rows, values)).unwrap_err();
        assert!(error.hint.is_some(), "{}", error.message);
        error.message
    };
    let counted = [("step", "3 per box")];
    let alone = [("step", "100")];
    assert_eq!(
        wrong(&counted, &[("step.lid_id", "same(yard)")]),
        "rows of `step` and of `lid` do not both lead to one of `yard` by other references"
    );
    assert_eq!(wrong(&counted, &[("step.lid_id", "same(garden)")]), "there is no table `garden`");
    assert_eq!(
        wrong(&counted, &[("step.box_id", "same(yard)")]),
        "which row of `box` it is follows from the counts and rules of `step` already"
    );
    assert_eq!(
        wrong(&alone, &[("step.was", "previous(is_now, 'new')")]),
        "rows of `step` are not counted for each row of a parent, so none stands before another"
    );
    assert_eq!(
        wrong(&counted, &[("step.was", "previous(is_now)")]),
        "`previous` takes a column, and what the first row has where it cannot be null"
    );
    assert_eq!(wrong(&counted, &[("step.was", "previous(size, 'new')")]), "`size` is integer, and this column text");
    assert_eq!(
        wrong(&counted, &[("step.was", "previous(box.state, 'new')")]),
        "`previous` takes a column of the row, like `to_state`, and what the first row has"
    );
    assert_eq!(
        wrong(&counted, &[("step.is_now", "path(was, 'new', 'old')")]),
        "`path` takes a parent's state, like `hive.state`, and the states on the way to it"
    );
    assert_eq!(wrong(&counted, &[("step.size", "path(box.state, 1, 2)")]), "`box.state` is text, and this column integer");
    assert_eq!(
        wrong(&counted, &[("step.is_now", "previous(was, 'new')"), ("step.was", "previous(is_now, 'new')")]),
        "the values of `step.was` are made from themselves, by way of others"
    );
}

#[test]
fn where_all_must_answer_the_first_answers_itself_and_nothing_is_made_from_that() {
    let schema = ddl::read(
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, label TEXT NOT NULL);
         CREATE TABLE note (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, parent_id INTEGER NOT NULL REFERENCES note (id),
           written_at TIMESTAMP NOT NULL);",
    )
    .unwrap()
    .schema;
    let counts = [("hive", "40"), ("note", "1..5 per hive")];
    let notes = rows(&schema, &Blueprint::new(&schema, &ordered(&schema, &counts, &[])).unwrap(), "note");
    let hives: HashMap<&str, &str> = notes.iter().map(|row| (at(row, "id"), at(row, "hive_id"))).collect();
    assert!(notes.iter().all(|row| hives[at(row, "parent_id")] == at(row, "hive_id")));
    assert_eq!(notes.iter().filter(|row| at(row, "parent_id") == at(row, "id")).count(), 40, "the first of each hive");
    let order = ordered(&schema, &counts, &[("note.written_at", "after(parent_id.written_at, '1 hour'..'2 days')")]);
    let error = Blueprint::new(&schema, &order).unwrap_err();
    assert_eq!(error.message, "the values of `note.written_at` are made from themselves, by way of others");
}

#[test]
fn two_references_that_would_be_chosen_by_each_other_are_refused() {
    let schema = ddl::read(
        "CREATE TABLE yard (id INTEGER PRIMARY KEY);
         CREATE TABLE lid (id INTEGER PRIMARY KEY, yard_id INTEGER NOT NULL REFERENCES yard);
         CREATE TABLE box (id INTEGER PRIMARY KEY, lid_id INTEGER NOT NULL REFERENCES lid, own_id INTEGER NOT NULL REFERENCES lid);",
    )
    .unwrap()
    .schema;
    let counts = [("yard", "5"), ("lid", "4 per yard"), ("box", "100")];
    let one = Blueprint::new(&schema, &ordered(&schema, &counts, &[("box.lid_id", "same(yard)")])).unwrap();
    let lids: HashMap<String, String> =
        rows(&schema, &one, "lid").iter().map(|row| (at(row, "id").to_owned(), at(row, "yard_id").to_owned())).collect();
    assert!(rows(&schema, &one, "box").iter().all(|row| lids[at(row, "lid_id")] == lids[at(row, "own_id")]));
    let both = ordered(&schema, &counts, &[("box.lid_id", "same(yard)"), ("box.own_id", "same(yard)")]);
    let error = Blueprint::new(&schema, &both).unwrap_err();
    assert_eq!(error.message, "rows of `box` and of `lid` do not both lead to one of `yard` by other references");
}

#[test]
fn who_belongs_to_nobody_is_found_nothing_in_common_with() {
    // Yards without lids of their own: a lid that may be missing is, one that must be there is any.
    let schema = ddl::read(
        "CREATE TABLE yard (id INTEGER PRIMARY KEY);
         CREATE TABLE lid (id INTEGER PRIMARY KEY, yard_id INTEGER NOT NULL REFERENCES yard);
         CREATE TABLE box (id INTEGER PRIMARY KEY, yard_id INTEGER NOT NULL REFERENCES yard, lid_id INTEGER REFERENCES lid, own_id INTEGER NOT NULL REFERENCES lid);",
    )
    .unwrap()
    .schema;
    let counts = [("yard", "40"), ("lid", "10"), ("box", "10 per yard")];
    let order = ordered(&schema, &counts, &[("box.lid_id", "same(yard)"), ("box.own_id", "same(yard)")]);
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let lids: HashMap<String, String> =
        rows(&schema, &blueprint, "lid").iter().map(|row| (at(row, "id").to_owned(), at(row, "yard_id").to_owned())).collect();
    let (mut missing, mut own, mut others) = (0, 0, 0);
    for row in rows(&schema, &blueprint, "box") {
        let has_lids = lids.values().any(|yard| *yard == at(&row, "yard_id"));
        match &row["lid_id"] {
            None => missing += u32::from(!has_lids),
            Some(lid) => assert_eq!(lids[lid], at(&row, "yard_id")),
        }
        let is_own = lids[at(&row, "own_id")] == at(&row, "yard_id");
        assert!(is_own || !has_lids);
        if is_own { own += 1 } else { others += 1 }
    }
    assert!(missing > 100 && own > 20 && others > 100, "{missing} {own} {others}");
    assert_eq!(blueprint.rows(TableId(2)), own + others);
}
