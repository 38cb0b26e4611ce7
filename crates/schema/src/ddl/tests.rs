use super::*;
use crate::model::{CheckRule, Default};
use crate::place::LineColumn;
use crate::types::LogicalType;
use crate::value::Value;
use crate::{HopKind, Relations, Schema};

const APIARY: &str = "
PRAGMA foreign_keys = ON;
-- People and places
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, email TEXT UNIQUE);
CREATE TABLE hive (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    apiary_id INTEGER NOT NULL REFERENCES apiary,
    label TEXT NOT NULL DEFAULT 'new',
    made_by INTEGER REFERENCES keeper (id) ON DELETE SET NULL,
    sold_by INTEGER REFERENCES keeper (id),
    price DECIMAL(8, 2) DEFAULT 0 CHECK (price >= 0 AND price < 1000),
    state TEXT CHECK (state IN ('alive', 'dead')),
    code CHAR(4) CHECK (length(code) = 4),
    since TIMESTAMP DEFAULT CURRENT_TIMESTAMP,
    UNIQUE (apiary_id, label)
);
CREATE TABLE apiary (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE plant (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE apiary_plant (
    apiary_id INTEGER NOT NULL, plant_id INTEGER NOT NULL,
    PRIMARY KEY (apiary_id, plant_id),
    FOREIGN KEY (apiary_id) REFERENCES apiary (id), FOREIGN KEY (plant_id) REFERENCES plant (id)
);
CREATE INDEX hive_state ON hive (state);
CREATE UNIQUE INDEX plant_name ON plant (name);
CREATE VIEW v AS SELECT 1;
";

fn schema() -> Schema {
    read(APIARY).unwrap().schema
}

#[test]
fn tables_keys_references_defaults_and_checks_are_read() {
    let ddl = read(APIARY).unwrap();
    assert_eq!(
        ddl.passed_over.iter().map(|passed| passed.what.as_str()).collect::<Vec<_>>(),
        ["PRAGMA foreign_keys = ON", "CREATE VIEW v AS SELECT 1"]
    );
    let schema = ddl.schema;
    let hive = schema.table(schema.find("HIVE").unwrap());
    assert_eq!(hive.columns[0].kind, LogicalType::Integer);
    assert_eq!(hive.columns[5].kind, LogicalType::Decimal { precision: 8, scale: 2 });
    assert_eq!(hive.columns[2].default, Some(Default::Value(Value::from("new"))));
    assert_eq!(hive.columns[8].default, Some(Default::Computed("CURRENT_TIMESTAMP".to_owned())));
    assert!(!hive.columns[0].nullable && !hive.columns[2].nullable && hive.columns[3].nullable);
    assert_eq!(hive.uniques[0].columns, [1, 2]);
    assert_eq!(hive.references[0].parent_columns, [0]);
    assert_eq!(hive.checks.len(), 3);
    assert!(hive.checks.iter().all(|check| check.understood));
    assert_eq!(hive.checks[2].rules, [(7, CheckRule::LengthAtLeast(4)), (7, CheckRule::LengthAtMost(4))]);
    assert_eq!(hive.indexes[0].name.as_deref(), Some("hive_state"));
    let plant = schema.table(schema.find("plant").unwrap());
    assert_eq!(plant.uniques.len(), 1);
    let order: Vec<&str> = schema.parents_first().into_iter().map(|id| schema.table(id).name.as_str()).collect();
    assert_eq!(order, ["keeper", "apiary", "hive", "plant", "apiary_plant"]);
}

#[test]
fn relations_are_named_by_columns_tables_and_junctions() {
    let schema = schema();
    let mut relations = Relations::of(&schema);
    let names = |relations: &Relations, table: &str| {
        relations.from(schema.find(table).unwrap()).map(|relation| relation.name.clone()).collect::<Vec<_>>()
    };
    assert_eq!(names(&relations, "hive"), ["apiary", "made_by", "sold_by"]);
    assert_eq!(names(&relations, "apiary"), ["hive", "apiary_plant", "plant"]);
    assert_eq!(names(&relations, "keeper"), ["hive_made_by", "hive_sold_by"]);
    let apiary = schema.find("apiary").unwrap();
    let plants = relations.find(&schema, apiary, "plant").unwrap();
    assert_eq!(plants.hops.iter().map(|hop| hop.kind).collect::<Vec<_>>(), [HopKind::Many, HopKind::One]);
    let keeper = schema.find("keeper").unwrap();
    let error = relations.find(&schema, keeper, "hive").unwrap_err();
    assert_eq!(error.hint.as_deref(), Some("write `hive_made_by` or `hive_sold_by`, or name it under [relations]"));
    relations.name(&schema, schema.find("hive").unwrap(), "sold_by", true, "sales").unwrap();
    assert!(relations.find(&schema, keeper, "sales").is_ok());
    assert!(relations.name(&schema, keeper, "nmae", true, "x").unwrap_err().message.contains("keeper.nmae"));
}

#[test]
fn mistakes_are_placed() {
    let wrong = |text: &str| {
        let error = read(text).unwrap_err();
        (error.message, LineColumn::of(text, error.span.start).line, error.hint)
    };
    let (message, line, hint) = wrong("CREATE TABLE a (id INT PRIMARY KEY);\nCREATE TABLE b (\n  a_id INT REFERENCES aa (id)\n);");
    assert_eq!((message.as_str(), line, hint.as_deref()), ("`b` refers to `aa`, which no statement makes", 3, Some("did you mean `a`?")));
    let (message, line, _) = wrong("CREATE TABLE a (id INT PRIMARY KEY);\n\nCREATE TABLE b (id INT,\n  PRIMARY (id));");
    assert_eq!(line, 4, "{message}");
    let (message, ..) = wrong("CREATE TABLE a (id INT, other INT REFERENCES a (id));");
    assert_eq!(message, "`a` refers to columns of `a` that are not a key there");
    assert_eq!(wrong("SELECT 1").0, "there is no CREATE TABLE in this file");
    assert_eq!(wrong("CREATE TABLE a (id INT, id TEXT)").0, "column `id` is there twice");
    let ddl = read("CREATE TABLE a (id INT PRIMARY KEY, spot POINT, place GEOMETRY);").unwrap();
    assert_eq!(ddl.not_understood.len(), 2);
    assert!(ddl.not_understood[0].1.message.contains("`a.spot` has the type POINT"));
}

#[test]
fn types_mean_the_same_under_the_names_that_databases_give_them() {
    let text = |length| LogicalType::Text { length };
    let decimal = |precision, scale| LogicalType::Decimal { precision, scale };
    let kinds: [(LogicalType, &[&str]); 11] = [
        (LogicalType::Integer, &["INT", "INTEGER", "BIGINT", "SMALLINT", "TINYINT", "MEDIUMINT", "INT8", "BIGSERIAL", "INT UNSIGNED"]),
        (LogicalType::Real, &["REAL", "FLOAT", "DOUBLE PRECISION", "DOUBLE", "FLOAT8"]),
        (decimal(9, 2), &["DECIMAL(9, 2)", "NUMERIC(9, 2)", "DEC(9, 2)"]),
        (decimal(15, 2), &["DECIMAL", "NUMERIC"]),
        (decimal(7, 0), &["NUMERIC(7)"]),
        (text(None), &["TEXT", "CLOB", "LONGTEXT", "VARCHAR", ""]),
        (text(Some(40)), &["VARCHAR(40)", "CHARACTER VARYING(40)", "NVARCHAR(40)", "CHAR(40)"]),
        (text(Some(1)), &["CHAR"]),
        (LogicalType::Timestamp, &["TIMESTAMP", "DATETIME", "TIMESTAMPTZ", "TIMESTAMP WITH TIME ZONE"]),
        (LogicalType::Blob, &["BLOB", "BYTEA", "VARBINARY(20)"]),
        (LogicalType::Boolean, &["BOOLEAN", "BOOL"]),
    ];
    for (kind, names) in kinds {
        for name in names {
            let ddl =
                read(&format!("CREATE TABLE t (id INTEGER PRIMARY KEY, c {name})")).unwrap_or_else(|error| panic!("{name}: {error:?}"));
            assert!(ddl.not_understood.is_empty(), "{name} is not understood");
            assert_eq!(ddl.schema.tables[0].columns[1].kind, kind, "{name}");
        }
    }
}

#[test]
fn names_without_quotes_can_be_folded_and_those_in_quotes_stay() {
    let mut schema =
        read("CREATE TABLE Hive (Id INT PRIMARY KEY, \"Paid At\" DATE, \"Size\" INT); CREATE TABLE \"Order\" (Id INT);").unwrap().schema;
    assert_eq!(schema.tables[0].name, "Hive");
    schema.fold_names();
    let names: Vec<&str> = schema.tables.iter().flat_map(|table| table.columns.iter().map(|column| column.name.as_str())).collect();
    assert_eq!((schema.tables[0].name.as_str(), schema.tables[1].name.as_str()), ("hive", "Order"));
    assert_eq!(names, ["id", "Paid At", "Size", "id"]);
    assert_eq!((schema.find("HIVE"), schema.tables[0].find("paid at")), (Some(crate::TableId(0)), Some(1)));
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(400))]
    #[test]
    fn no_text_makes_the_reader_panic(
        parts in proptest::collection::vec(
            proptest::sample::select(vec![
                "CREATE", "TABLE", "INDEX", "UNIQUE", "a", "b", "(", ")", ",", ";", "INT", "PRIMARY", "KEY", "REFERENCES", "CHECK",
                "'x", "\"", "--", "\n", "NOT", "NULL", "DEFAULT", "-", "1", "ü", "IN", "length", "ON", "AS", "SELECT", "=", "DECIMAL(9,400)",
            ]),
            0..25,
        )
    ) {
        let _ = read(&parts.join(" "));
        let _ = read(&format!("CREATE TABLE t ({}", parts.join(" ")));
        let _ = read(&format!("CREATE TABLE t (a {})", parts.join(" ")));
    }
}
