use super::*;
use crate::model::{ColumnForm, Default};
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
    assert!(hive.checks.iter().all(|check| check.rule.is_ok()));
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
    let (message, line, hint) = wrong("CREATE TABLE a (id INT PRIMARY KEY,\n spot strange(4) NOT NULL)");
    assert_eq!((message.as_str(), line), ("`a.spot`: the type strange is not known", 2));
    assert!(hint.unwrap().contains("`strange = \"text\"`"));
    let types = [("strange".to_owned(), "text".to_owned())];
    assert!(read_with("CREATE TABLE a (id INT PRIMARY KEY, spot strange(4) NOT NULL)", None, &types).is_ok());
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
            let ddl = read(&format!("CREATE TABLE t (id INTEGER, c {name})")).unwrap_or_else(|error| panic!("{name}: {error:?}"));
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

/// Table and columns as `table: column kind, …`, with `!` for not null.
fn outline(schema: &Schema) -> Vec<String> {
    let column = |column: &crate::Column| format!("{} {}{}", column.name, column.kind, if column.nullable { "" } else { "!" });
    let table = |table: &crate::Table| format!("{}: {}", table.name, table.columns.iter().map(column).collect::<Vec<_>>().join(", "));
    schema.tables.iter().map(table).collect()
}

#[test]
fn statements_are_replayed_in_their_order() {
    let schema = read(
        "CREATE TABLE a (id INT PRIMARY KEY, old TEXT, gone INT REFERENCES a);
         CREATE TABLE b (id INT PRIMARY KEY, a_id INT, n INT);
         ALTER TABLE a ADD COLUMN size INT NOT NULL DEFAULT 3, DROP COLUMN gone;
         ALTER TABLE a RENAME COLUMN old TO label;
         ALTER TABLE ONLY b ADD CONSTRAINT b_a FOREIGN KEY (a_id) REFERENCES a (id) ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED;
         ALTER TABLE b ADD CONSTRAINT small CHECK (n < 9), ADD UNIQUE (n);
         ALTER TABLE b ALTER COLUMN n SET NOT NULL, ALTER COLUMN n TYPE bigint;
         ALTER TABLE b DROP CONSTRAINT small;
         ALTER TABLE b DROP CONSTRAINT b_n_key;
         ALTER TABLE a RENAME TO alpha;
         CREATE TABLE c (x INT); DROP TABLE c;
         CREATE TABLE d AS SELECT 1; DROP TABLE IF EXISTS d, e;",
    )
    .unwrap()
    .schema;
    assert_eq!(outline(&schema), ["alpha: id integer!, label text, size integer!", "b: id integer!, a_id integer, n integer!"]);
    let b = &schema.tables[1];
    assert!(b.checks.is_empty() && b.uniques.is_empty());
    assert_eq!((b.references[0].parent.0, b.references[0].manner.as_str()), (0, " ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED"));
}

#[test]
fn a_dump_of_mysql_is_understood() {
    let ddl = read(
        "/*!40101 SET NAMES utf8 */;
         CREATE TABLE `hive` (
           `id` int(10) unsigned NOT NULL AUTO_INCREMENT, `strain` enum('a','it''s') CHARACTER SET latin1 NOT NULL DEFAULT 'a',
           `open` tinyint(1) NOT NULL DEFAULT '0' COMMENT 'yes; or no', `doc` longtext COLLATE utf8mb4_bin CHECK (json_valid(`doc`)),
           `changed` timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(), `name` varchar(60) BINARY DEFAULT NULL,
           `tags` set('x','y'), `hash` binary(16), key varchar(8),
           PRIMARY KEY (`id`), UNIQUE KEY `n` (`name`(20)), KEY `s` (`strain`) USING BTREE, FULLTEXT KEY `f` (`doc`),
           CONSTRAINT `self` FOREIGN KEY (`id`) REFERENCES `hive` (`id`)
         ) ENGINE=InnoDB AUTO_INCREMENT=7 DEFAULT CHARSET=utf8mb4 COMMENT='it''s';
         ALTER TABLE hive MODIFY `open` tinyint(1) NULL AFTER id, CHANGE `hash` `digest` binary(20) NOT NULL, DROP KEY s;
         LOCK TABLES `hive` WRITE;
         INSERT INTO `hive` (id, strain, open) VALUES (1,'it\\'s',1),(2,_utf8mb4'a',NOW());",
    )
    .unwrap();
    assert_eq!(ddl.dialect, SqlDialect::Mysql);
    let hive = &ddl.schema.tables[0];
    assert_eq!(
        outline(&ddl.schema),
        [
            "hive: id integer!, open boolean, strain text!, doc text, changed timestamp!, name text(60), tags text, digest blob!, key text(8)"
        ]
    );
    assert!(hive.columns[0].numbered && hive.columns[0].limits == Some((0, 4_294_967_295)));
    assert_eq!((hive.columns[3].form, hive.columns[7].limits), (ColumnForm::Json, Some((20, 20))));
    assert_eq!(hive.columns[2].words, ["a", "it's"]);
    assert_eq!((hive.indexes.len(), hive.unique_indexes.len(), hive.uniques.len()), (0, 1, 0));
    assert_eq!(hive.seeds.len(), 2);
    assert_eq!((&hive.seeds[0][2], &hive.seeds[0][1], &hive.seeds[1][1]), (&Some(Value::from("it's")), &Some(Value::Boolean(true)), &None));
}

#[test]
fn a_dump_of_postgresql_is_understood() {
    let ddl = read(
        "SET search_path = public;
         CREATE TYPE public.mood AS ENUM ('calm', 'fierce');
         CREATE DOMAIN public.code AS character varying(8) NOT NULL CHECK (VALUE ~ '^[A-Z]+$');
         CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $_$ BEGIN x; y; END $_$;
         CREATE TABLE public.hive (
           id integer NOT NULL, mood public.mood DEFAULT 'calm'::public.mood, code public.code, tags text[] DEFAULT '{}'::text[],
           seen timestamp(3) without time zone DEFAULT now() NOT NULL, doc jsonb, host inet, wide numeric(20,0),
           whole character varying(20) GENERATED ALWAYS AS (((code)::text || '!'::text)) STORED,
           CONSTRAINT states CHECK (((mood)::text = ANY ((ARRAY['calm'::character varying, 'fierce'::character varying])::text[])))
         );
         ALTER TABLE public.hive OWNER TO x;
         CREATE SEQUENCE public.hive_id_seq START WITH 1;
         ALTER TABLE ONLY public.hive ALTER COLUMN id SET DEFAULT nextval('public.hive_id_seq'::regclass);
         COPY public.hive (id, mood, code, tags) FROM stdin;
1\tcalm\tAB\t{x}
2\t\\N\tC\\\\D\t{}
\\.
         ALTER TABLE ONLY public.hive ADD CONSTRAINT hive_pkey PRIMARY KEY (id);
         CREATE UNIQUE INDEX lowered ON public.hive USING btree (lower((code)::text)) WHERE (mood IS NOT NULL);
         CREATE INDEX part ON public.hive USING gin (doc jsonb_path_ops);",
    )
    .unwrap();
    let hive = &ddl.schema.tables[0];
    assert_eq!(
        outline(&ddl.schema),
        ["hive: id integer!, mood text, code text(8)!, tags text, seen timestamp!, doc text, host text, wide integer, whole text(20)"]
    );
    assert_eq!((hive.columns[3].form, hive.columns[6].form), (ColumnForm::Array(LogicalType::TEXT), ColumnForm::Address));
    assert!(hive.columns[0].numbered && matches!(hive.columns[8].computed, Some(Ok(_))));
    assert_eq!((hive.checks.len(), hive.unique_indexes.len(), hive.seeds.len()), (3, 1, 2));
    assert!(hive.checks.iter().all(|check| check.rule.is_ok()), "{:?}", hive.checks);
    assert_eq!(hive.seeds[1][2], Some(Value::from("C\\D")));
    assert!(ddl.passed_over.iter().any(|passed| passed.what.starts_with("CREATE FUNCTION")));
}

#[test]
fn tables_made_like_others_and_renamed_types_are_followed() {
    let schema = read(
        "CREATE TABLE a (id SERIAL PRIMARY KEY, n INT CHECK (n > 0)); CREATE TABLE b (LIKE a INCLUDING ALL, more TEXT);
         CREATE TABLE c (extra DATE) INHERITS (a); CREATE TYPE t AS ENUM ('x'); CREATE TABLE d (v t); ALTER TYPE t ADD VALUE 'y';",
    )
    .unwrap()
    .schema;
    assert_eq!(outline(&schema)[1..3], ["b: id integer!, n integer, more text", "c: id integer!, n integer, extra date"]);
    assert_eq!((schema.tables[1].primary_key.len(), schema.tables[1].checks.len(), schema.tables[2].checks.len()), (1, 1, 1));
    assert_eq!(schema.tables[3].columns[0].words, ["x", "y"]);
}

proptest::proptest! {
    #![proptest_config(kampf_mangle::property(400))]
    #[test]
    fn no_text_makes_the_reader_panic(
        parts in proptest::collection::vec(
            proptest::sample::select(vec![
                "CREATE", "TABLE", "INDEX", "UNIQUE", "a", "b", "(", ")", ",", ";", "INT", "PRIMARY", "KEY", "REFERENCES", "CHECK",
                "'x", "\"", "--", "\n", "NOT", "NULL", "DEFAULT", "-", "1", "ü", "IN", "length", "ON", "AS", "SELECT", "=", "DECIMAL(9,400)",
                "ADD", "DROP", "COLUMN", "RENAME", "TO", "INSERT", "INTO", "VALUES", "ENUM('a')", "t", "[", "]", "LIKE", "CHANGE", "`c`",
            ]),
            0..25,
        )
    ) {
        for dialect in SqlDialect::ALL {
            let _ = read_with(&parts.join(" "), Some(dialect), &[]);
            let _ = read_with(&format!("CREATE TABLE t ({}", parts.join(" ")), Some(dialect), &[]);
            let _ = read_with(&format!("CREATE TABLE t (a {})", parts.join(" ")), Some(dialect), &[]);
            let _ = read_with(&format!("CREATE TABLE t (a int, b text); ALTER TABLE t {}", parts.join(" ")), Some(dialect), &[]);
        }
    }
}
