//! Rows with keys of other types: those that the schema's file gives, keys that no row has, and keys of every kind read back.

use std::collections::HashSet;

use kampf_fill::{Batch, Blueprint, Order};
use kampf_schema::expr::read_row_count;
use kampf_schema::{KeyType, LogicalType, Schema, Value, ddl};

const SCHEMA: &str = "
    CREATE TABLE strain (id VARCHAR(36) PRIMARY KEY, name VARCHAR(20) NOT NULL);
    CREATE TABLE keeper (id UUID PRIMARY KEY, name VARCHAR(20) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id UUID REFERENCES keeper (id), strain_id VARCHAR(36) NOT NULL REFERENCES strain (id),
      mother_id INTEGER REFERENCES hive (id));
    INSERT INTO keeper (id, name) VALUES ('00000000-0000-4000-8000-000000000001', 'the first');
    INSERT INTO strain (id, name) VALUES ('calm', 'calm'), ('fierce', 'fierce');
    INSERT INTO hive (id, keeper_id, strain_id, mother_id) VALUES
      (40, '00000000-0000-4000-8000-000000000001', 'fierce', NULL), (7, NULL, 'calm', 40);";

fn data() -> (Schema, Blueprint) {
    let schema = ddl::read(SCHEMA).unwrap().schema;
    let rows = schema.ids().map(|id| (id, read_row_count("1200").unwrap())).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, ..Order::default() }).unwrap();
    (schema, blueprint)
}

#[test]
fn keys_of_given_and_generated_rows_are_exchanged_and_read_back() {
    let (schema, plain) = data();
    for uuid in [LogicalType::Uuid, LogicalType::Blob] {
        for key_type in KeyType::ALL {
            let keys: Vec<_> = schema.ids().map(|table| (schema.key_columns(table).unwrap(), key_type)).collect();
            let keyed = plain.with_keys(&keys, uuid, 3);
            for (columns, _) in &keys {
                let (table, own) = (columns.table, columns.own());
                let mut seen = HashSet::new();
                for row in 0..keyed.rows(table) {
                    let (old, new) = (plain.value(table, row, own), keyed.value(table, row, own));
                    assert_eq!(keyed.old_key(table, &new).as_ref(), Some(&old), "{key_type:?} {row}");
                    assert_eq!(keyed.new_key(table, &old), new, "{key_type:?} {row}");
                    assert!(seen.insert(new.to_string()), "{key_type:?}: {new} twice");
                }
            }
            // The second hive is given with its mother, which is the first.
            let hive = schema.find("hive").unwrap();
            assert_eq!(keyed.value(hive, 1, 3), keyed.value(hive, 0, 0), "{key_type:?}");
            assert_eq!((keyed.value(hive, 1, 1), keyed.value(hive, 0, 3)), (Value::Null, Value::Null));
            // Batch by batch as one by one, beyond the first too.
            let mut batch = Batch::default();
            let first = 512;
            let rows = keyed.batch(hive, first, &mut batch) as u64;
            for (at, row) in (first..first + rows).enumerate() {
                assert!(
                    batch.row(at).enumerate().all(|(column, value)| value == keyed.value(hive, row, column).as_ref()),
                    "{key_type:?} {row}"
                );
            }
        }
    }
}

#[test]
fn a_key_that_no_row_has_becomes_one_that_no_row_has() {
    let (schema, plain) = data();
    let hive = schema.find("hive").unwrap();
    for key_type in KeyType::ALL {
        let keyed = plain.with_keys(&[(schema.key_columns(hive).unwrap(), key_type)], LogicalType::Uuid, 3);
        let there: HashSet<String> = (0..keyed.rows(hive)).map(|row| keyed.value(hive, row, 0).to_string()).collect();
        for missing in [-1, 0, 1, 8, 39, 100_000, i64::MAX, i64::MIN] {
            let key = keyed.new_key(hive, &Value::Integer(missing));
            assert!(!there.contains(&key.to_string()) && keyed.old_key(hive, &key).is_none(), "{key_type:?} {missing}: {key}");
        }
        let list = keyed.new_key(hive, &Value::List([Value::Integer(40), Value::Null, Value::Integer(-1)].into()));
        let Value::List(list) = list else { panic!("a list stays one") };
        assert_eq!((&list[0], &list[1]), (&keyed.value(hive, 0, 0), &Value::Null), "{key_type:?}");
        for odd in [Value::Null, Value::from("no key"), Value::Integer(0), Value::Uuid([9; 16]), Value::Blob([1, 2].into())] {
            assert_eq!(keyed.old_key(hive, &odd), None, "{key_type:?} {odd}");
        }
    }
    // What is not exchanged stays as it is.
    let keeper = schema.find("keeper").unwrap();
    assert_eq!(plain.new_key(keeper, &Value::Integer(5)), Value::Integer(5));
}
