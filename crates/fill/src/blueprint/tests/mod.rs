use std::collections::{HashMap, HashSet};

use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{Schema, Value, ddl};

use super::*;
use crate::order::Order;

fn schema(ddl: &str) -> Schema {
    ddl::read(ddl).unwrap().schema
}

fn order(schema: &Schema, rows: &[(&str, &str)], values: &[(&str, &str)]) -> Order {
    let rows = rows.iter().map(|(table, text)| (schema.find(table).unwrap(), read_row_count(text).unwrap())).collect();
    let values = values.iter().map(|(name, text)| {
        let (table, column) = name.split_once('.').unwrap();
        let table = schema.find(table).unwrap();
        ((table, schema.table(table).find(column).unwrap()), read_recipe(text).unwrap())
    });
    Order { rows, values: values.collect(), seed: 7, ..Order::default() }
}

/// All rows of a table, as texts.
fn rows(schema: &Schema, blueprint: &Blueprint, table: &str) -> Vec<Vec<String>> {
    let id = schema.find(table).unwrap();
    let columns = schema.table(id).columns.len();
    (0..blueprint.rows(id)).map(|row| (0..columns).map(|column| blueprint.value(id, row, column).to_string()).collect()).collect()
}

fn distinct(rows: &[Vec<String>], columns: &[usize]) -> usize {
    rows.iter().map(|row| columns.iter().map(|&column| row[column].clone()).collect::<Vec<_>>()).collect::<HashSet<_>>().len()
}

const APIARY: &str = "
CREATE TABLE region (id INTEGER PRIMARY KEY, code CHAR(3) NOT NULL UNIQUE);
CREATE TABLE apiary (id UUID PRIMARY KEY, region_id INTEGER NOT NULL REFERENCES region, name VARCHAR(80) NOT NULL,
  UNIQUE (region_id, name));
CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id UUID NOT NULL REFERENCES apiary, number INTEGER NOT NULL,
  mother_id INTEGER REFERENCES hive (id), state TEXT NOT NULL CHECK (state IN ('alive', 'dead')),
  boxes INTEGER CHECK (boxes BETWEEN 2 AND 5), UNIQUE (apiary_id, number));
CREATE TABLE plant (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE apiary_plant (apiary_id UUID NOT NULL REFERENCES apiary, plant_id INTEGER NOT NULL REFERENCES plant,
  PRIMARY KEY (apiary_id, plant_id));
CREATE TABLE passport (hive_id INTEGER PRIMARY KEY REFERENCES hive, issued DATE NOT NULL);
";

#[test]
fn all_constraints_hold_and_parents_are_scattered() {
    let schema = schema(APIARY);
    let rows_wanted = [
        ("region", "20"),
        ("apiary", "5 per region"),
        ("hive", "8..12 per apiary"),
        ("apiary_plant", "3 per apiary"),
        ("plant", "30"),
        ("passport", "100"),
    ];
    let blueprint = Blueprint::new(&schema, &order(&schema, &rows_wanted, &[])).unwrap();
    let all = |table| rows(&schema, &blueprint, table);
    let (region, apiary, hive) = (all("region"), all("apiary"), all("hive"));
    assert_eq!(distinct(&region, &[1]), 20);
    assert!(region.iter().all(|row| row[1].chars().count() == 3));
    assert_eq!((distinct(&apiary, &[0]), distinct(&apiary, &[1, 2])), (apiary.len(), apiary.len()));
    assert_eq!(distinct(&hive, &[1, 2]), hive.len());
    let apiaries: HashSet<&String> = apiary.iter().map(|row| &row[0]).collect();
    let mut per_apiary: HashMap<&String, u32> = HashMap::new();
    for row in &hive {
        assert!(apiaries.contains(&row[1]));
        *per_apiary.entry(&row[1]).or_default() += 1;
        assert!(matches!(row[4].as_str(), "alive" | "dead"));
        assert!(row[5] == "null" || (2..=5).contains(&row[5].parse::<i64>().unwrap()), "{}", row[5]);
        assert!(row[3] == "null" || row[3].parse::<usize>().unwrap() < row[0].parse().unwrap());
    }
    assert!(per_apiary.values().all(|count| (8..=12).contains(count)));
    let neighbours = hive.windows(2).filter(|pair| pair[0][1] == pair[1][1]).count();
    assert!(neighbours < hive.len() / 20, "{neighbours} of {} lie next to a sibling", hive.len());
    assert_eq!(distinct(&all("apiary_plant"), &[0, 1]), all("apiary_plant").len());
    assert_eq!(distinct(&all("passport"), &[0]), 100);
    assert_eq!(distinct(&all("plant"), &[1]), 30);
}

#[test]
fn a_value_is_the_same_in_a_batch_alone_and_again() {
    let schema = schema(APIARY);
    let order = order(&schema, &[("region", "3"), ("hive", "5000")], &[("hive.boxes", "normal(3, 1) in 2..5 or null 50%")]);
    let (one, two) = (Blueprint::new(&schema, &order).unwrap(), Blueprint::new(&schema, &order).unwrap());
    let hive = schema.find("hive").unwrap();
    let mut batch = Batch::default();
    let made = two.batch(hive, 2048, &mut batch);
    assert_eq!(made, BATCH_ROWS);
    for row in 0..made {
        for (column, value) in batch.row(row).enumerate() {
            assert_eq!(one.value(hive, 2048 + row as u64, column), value.to_value());
        }
    }
    assert_eq!(two.batch(hive, 4900, &mut batch), 100);
    assert_eq!(two.batch(hive, 5000, &mut batch), 0);
    let nulls = (0..5000).filter(|&row| one.value(hive, row, 5) == Value::Null).count();
    assert!((2300..2700).contains(&nulls), "{nulls}");
    let other = Blueprint::new(&schema, &Order { seed: 8, ..order }).unwrap();
    assert!((0..100).any(|row| one.value(hive, row, 4) != other.value(hive, row, 4)));
}

#[test]
fn the_content_of_a_seed_is_pinned() {
    let schema = schema(APIARY);
    let blueprint = Blueprint::new(&schema, &order(&schema, &[("region", "3"), ("hive", "3000")], &[])).unwrap();
    let digest = |table| {
        let mut batch = Batch::default();
        let (mut first, mut sum) = (0, 0_u64);
        while blueprint.batch(schema.find(table).unwrap(), first, &mut batch) > 0 {
            sum = sum.wrapping_add(batch.digest(first));
            first += batch.rows() as u64;
        }
        format!("{sum:016x}")
    };
    // A change here changes every dataset: count GENERATOR_VERSION up with it.
    assert_eq!(
        ["region", "apiary", "hive", "passport"].map(digest),
        ["73a7f2f94015f219", "92541cd4121a3968", "49693ed7bfec10dd", "6857dcb61a74ccb5"]
    );
}

fn schema_of_checks(check: &str) -> Schema {
    schema(&format!(
        "CREATE TABLE a (id INTEGER PRIMARY KEY, b INTEGER NOT NULL, c TEXT NOT NULL, d DATE NOT NULL, e DATE, f TEXT, g INTEGER, CHECK ({check}))"
    ))
}

#[test]
fn checks_of_many_forms_hold() {
    for check in [
        "b > 5 AND b < 9",
        "b % 7 = 1",
        "b BETWEEN 100 AND 105 OR b = 3",
        "length(c) = 5 AND c = lower(c)",
        "c = upper(c)",
        "length(c) >= 3 AND length(c) <= 4",
        "c ~ '^[A-Z]{2}-[0-9]{3}$'",
        "c LIKE 'AB%'",
        "c <> '' AND trim(c) <> ''",
        "e >= d",
        "e IS NULL OR e > d",
        "(f IS NULL) = (g IS NULL)",
        "(f IS NULL AND g IS NULL) OR (f IS NOT NULL AND g IS NOT NULL)",
        "num_nonnulls(e, f, g) = 1",
        "b < g OR g IS NULL",
        "c IN ('calm', 'lively') AND (c <> 'calm' OR b > 500)",
        "d > '2030-01-01'",
        "d < '1990-01-01' AND d >= '1980-01-01'",
        "coalesce(g, 0) < 10",
        "NOT (b = 7 AND c = 'x')",
        "f IS NOT NULL",
        "b + coalesce(g, 0) <= 300",
    ] {
        let schema = schema_of_checks(check);
        let blueprint = Blueprint::new(&schema, &order(&schema, &[("a", "3000")], &[])).unwrap_or_else(|error| panic!("{check}: {error}"));
        let rule = schema.tables[0].checks[0].rule.clone().unwrap();
        let table = kampf_schema::TableId(0);
        let mut batch = Batch::default();
        let made = blueprint.batch(table, 0, &mut batch);
        for row in 0..made {
            let value = |column: usize| batch.value(row, column).to_value();
            assert!(rule.allows(&value), "{check}: {:?}", batch.row(row).collect::<Vec<_>>());
            assert_eq!(blueprint.value(table, row as u64, 2), value(2));
        }
    }
}

#[test]
fn what_a_database_would_number_is_numbered() {
    let schema = schema("CREATE TABLE a (code TEXT PRIMARY KEY, nr SERIAL, other INTEGER NOT NULL DEFAULT nextval('a_seq'));");
    let blueprint = Blueprint::new(&schema, &order(&schema, &[("a", "30")], &[])).unwrap();
    let all = rows(&schema, &blueprint, "a");
    assert!(all.iter().zip(1..).all(|(row, number)| row[1] == number.to_string() && row[2] == row[1]));
}

#[test]
fn what_a_row_says_of_its_children_and_of_itself_is_so() {
    let sql = "CREATE TABLE post (id INTEGER PRIMARY KEY, comment_count INTEGER NOT NULL, num_votes INTEGER NOT NULL CHECK (num_votes < 9),
          first_name VARCHAR(40) NOT NULL, last_name VARCHAR(40) NOT NULL, full_name VARCHAR(90) NOT NULL, draft BOOLEAN NOT NULL DEFAULT FALSE);
        CREATE TABLE comment (id INTEGER PRIMARY KEY, post_id INTEGER NOT NULL REFERENCES post);
        CREATE TABLE votes (id INTEGER PRIMARY KEY, post_id INTEGER NOT NULL REFERENCES post);";
    let schema = schema(sql);
    let wanted = [("post", "60"), ("comment", "heavy(5) per post"), ("votes", "3 per post")];
    let blueprint = Blueprint::new(&schema, &order(&schema, &wanted, &[])).unwrap();
    assert_eq!(
        (blueprint.way(TableId(0), 1).how.as_str(), blueprint.way(TableId(0), 5).how.as_str()),
        ("count(comment)", "name(first_name, last_name)")
    );
    let (posts, comments) = (rows(&schema, &blueprint, "post"), rows(&schema, &blueprint, "comment"));
    for post in &posts {
        let own = comments.iter().filter(|comment| comment[1] == post[0]).count();
        assert_eq!(post[1], own.to_string());
        assert_eq!(post[5], format!("{} {}", post[3], post[4]));
    }
    assert!(posts.iter().filter(|post| post[6] == "true").count() < 20);
    // A check that the children may not meet comes before their number, and what nobody counts cannot be said.
    assert_ne!(blueprint.way(TableId(0), 2).how, "count(votes)");
    let wrong = |recipe: &str, rows: &str| {
        let refused = Blueprint::new(&schema, &order(&schema, &[("comment", rows)], &[("post.comment_count", recipe)])).unwrap_err();
        (refused.message, refused.hint.unwrap_or_default())
    };
    let (message, hint) = wrong("count(comment)", "700");
    assert_eq!(
        (message.as_str(), hint.as_str()),
        ("rows of `comment` are not counted for each row of `post`", "say so under [rows], like \"3 per post\"")
    );
    assert_eq!(wrong("count(coment)", "700").1, "did you mean `comment`?");
}

#[test]
fn what_cannot_be_met_is_said_with_the_line_that_would_help() {
    let schema = schema(APIARY);
    let error = |rows: &[(&str, &str)], values: &[(&str, &str)]| {
        let error = Blueprint::new(&schema, &order(&schema, rows, values)).unwrap_err();
        (error.message, error.hint.unwrap_or_default())
    };
    assert_eq!(error(&[("region", "5 per hive")], &[]).0, "`region` does not refer to `hive`");
    assert!(error(&[("passport", "9999999")], &[]).0.contains("cannot all refer to different rows of `hive`"));
    assert_eq!(error(&[("region", "50")], &[("region.code", "pick('a', 'b')")]).0, "50 rows of `region` cannot all differ in code");
    assert_eq!(error(&[], &[("hive.apiary_id", "1..3")]).1.rsplit(';').next(), Some(" or remove this line"));
    assert_eq!(error(&[("region", "0"), ("apiary", "5")], &[]).0, "`apiary` needs rows of `region`, which has none");
    assert_eq!(error(&[], &[("hive.state", "'alive' or null 5%")]).0, "`hive.state` cannot be null");
    let empty = schema_of_checks("b > 5 AND b % 7 = 1 AND b * 2 < 14 AND c = 'x' AND length(c) = 2");
    let refused = Blueprint::new(&empty, &Order::default()).unwrap_err();
    assert!(refused.message.starts_with("no values were found for `a` that fulfil the check"), "{}", refused.message);
}

proptest::proptest! {
    #![proptest_config(kampf_mangle::property(256))]
    #[test]
    fn unique_rules_hold_for_any_counts(regions in 1_u32..30, per in 1_u32..9, plants in 1_u32..12, seed in 0_u64..1000) {
        let schema = schema(APIARY);
        let (regions, per, plants) = (regions.to_string(), format!("{per} per region"), plants.to_string());
        let wanted = [("region", regions.as_str()), ("apiary", per.as_str()), ("plant", plants.as_str()), ("apiary_plant", plants.as_str())];
        let order = Order { seed, ..order(&schema, &wanted, &[]) };
        if let Ok(blueprint) = Blueprint::new(&schema, &order) {
            for (table, columns) in [("region", &[1][..]), ("apiary", &[1, 2]), ("hive", &[1, 2]), ("apiary_plant", &[0, 1]), ("plant", &[1])] {
                let all = rows(&schema, &blueprint, table);
                proptest::prop_assert_eq!(distinct(&all, columns), all.len());
            }
        }
    }
}

#[test]
fn given_rows_get_what_they_leave_out_and_nobody_else_has_it() {
    let schema = schema(
        "CREATE TABLE a (id INTEGER PRIMARY KEY, nr INTEGER NOT NULL UNIQUE, code CHAR(2) NOT NULL UNIQUE CHECK (code ~ '^[a-c][x-z]$'),
           name VARCHAR(30) NOT NULL UNIQUE);
         INSERT INTO a (id) VALUES (1), (2), (5);
         INSERT INTO a (id, code, name) VALUES (9, 'ax', 'hill 1'), (10, 'cz', 'hill 2');",
    );
    for seed in 0..40 {
        let order = Order { seed, ..order(&schema, &[("a", "9")], &[]) };
        let blueprint = Blueprint::new(&schema, &order).unwrap();
        let all = rows(&schema, &blueprint, "a");
        assert_eq!((all[3][2].as_str(), all[8][0].as_str()), ("ax", "14"));
        for column in 0..4 {
            assert_eq!(distinct(&all, &[column]), 9, "column {column} with seed {seed}: {all:?}");
        }
    }
}

#[test]
fn checks_over_keys_of_tables_that_refer_to_each_other_come_to_an_end() {
    let schema = schema(
        "CREATE TABLE a (code VARCHAR(20) PRIMARY KEY, b_code VARCHAR(20) NOT NULL REFERENCES b, CHECK (code <> b_code));
         CREATE TABLE b (code VARCHAR(20) PRIMARY KEY, a_code VARCHAR(20) NOT NULL REFERENCES a, CHECK (code <> a_code));
         CREATE TABLE c (code VARCHAR(20) PRIMARY KEY, boss VARCHAR(20) REFERENCES c, CHECK (code <> boss));",
    );
    let blueprint = Blueprint::new(&schema, &order(&schema, &[("a", "50"), ("b", "50"), ("c", "200")], &[])).unwrap();
    for table in ["a", "b", "c"] {
        let all = rows(&schema, &blueprint, table);
        assert_eq!(distinct(&all, &[0]), all.len());
        assert!(all.iter().all(|row| row[0] != row[1]), "{table}");
    }
    let keys: HashSet<String> = rows(&schema, &blueprint, "b").into_iter().map(|row| row[0].clone()).collect();
    assert!(rows(&schema, &blueprint, "a").iter().all(|row| keys.contains(&row[1])));
}

#[test]
fn the_largest_number_is_found_without_a_look_at_all_rows() {
    let schema = schema(
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL);
         INSERT INTO hive VALUES (900, 'the first'), (7, 'the second');
         CREATE TABLE bee (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive);",
    );
    let blueprint = Blueprint::new(&schema, &order(&schema, &[("hive", "40"), ("bee", "300")], &[])).unwrap();
    for table in ["hive", "bee"] {
        let table = schema.find(table).unwrap();
        let all = (0..blueprint.rows(table)).map(|row| blueprint.value(table, row, 0));
        let largest = all.max_by(|one, other| one.as_ref().order(other.as_ref())).unwrap();
        let found = blueprint.row_of_largest(table, 0).map(|row| blueprint.value(table, row, 0));
        assert_eq!(found, Some(largest));
        assert_eq!(blueprint.row_of_largest(table, 1), None, "it is not numbered");
    }
}

#[test]
fn nothing_lies_above_what_is_said_to_be_the_ceiling_of_a_column() {
    let schema = schema(
        "CREATE TABLE odd (id INTEGER PRIMARY KEY, number INTEGER NOT NULL, bell INTEGER NOT NULL, price DECIMAL(8, 2) NOT NULL,
           heavy DECIMAL(8, 2) NOT NULL, share DOUBLE PRECISION NOT NULL, state VARCHAR(10) NOT NULL, day DATE NOT NULL,
           at TIMESTAMP NOT NULL, remark TEXT NOT NULL, maybe INTEGER);
         CREATE TABLE given (id INTEGER PRIMARY KEY, number INTEGER NOT NULL);
         INSERT INTO given VALUES (1, 5000), (2, 3);
         CREATE TABLE child (id INTEGER PRIMARY KEY, odd_id INTEGER NOT NULL REFERENCES odd);",
    );
    let values = [
        ("odd.number", "1..100"),
        ("odd.bell", "normal(50, 15) in 1..100"),
        ("odd.price", "1.00..20.00"),
        ("odd.heavy", "lognormal(20, 0.6) in 1..100"),
        ("odd.share", "0..1"),
        ("odd.state", "pick('weak', 'strong' 3)"),
        ("odd.day", "2020-01-01..2020-03-01"),
        ("odd.at", "office(2020-01-01..2020-03-01)"),
        ("odd.maybe", "1..9 or null 50%"),
        ("given.number", "1..100"),
    ];
    let blueprint = Blueprint::new(&schema, &order(&schema, &[("odd", "3000"), ("given", "200"), ("child", "1000")], &values)).unwrap();
    let mut known = 0;
    for (table, model) in schema.ids().map(|id| (id, schema.table(id))) {
        for column in 1..model.columns.len() {
            let name = &model.columns[column].name;
            let ceiling = blueprint.ceiling(table, column).expect(name);
            known += 1;
            for row in 0..blueprint.rows(table) {
                let value = blueprint.value(table, row, column);
                match name.as_str() {
                    "remark" => assert!(!value.to_string().starts_with('~') && ceiling == kampf_schema::Value::from("~"), "{value}"),
                    _ => assert!(value.as_ref().is_null() || value.as_ref().order(ceiling.as_ref()).is_le(), "{name}: {value} {ceiling}"),
                }
            }
        }
    }
    assert_eq!(known, 12);
    let given = schema.find("given").unwrap();
    assert_eq!(blueprint.ceiling(given, 1), Some(kampf_schema::Value::Integer(5000)), "a given row has more");
    assert_eq!(blueprint.ceiling(given, 0), Some(kampf_schema::Value::Integer(200)), "the last row's number");
}
