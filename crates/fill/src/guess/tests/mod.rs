use kampf_schema::expr::read_recipe;
use kampf_schema::{TableId, ddl};

use super::*;
use crate::bounds::bounds;

/// The recipe guessed for the last column of a table.
fn guessed(table: &str, columns: &str) -> String {
    let schema = ddl::read(&format!("CREATE TABLE {table} (id INTEGER PRIMARY KEY, {columns})")).unwrap().schema;
    let model = &schema.tables[0];
    let last = model.columns.len() - 1;
    let guess = recipe(&schema, TableId(0), last, &bounds(model).0[last], &[None]);
    assert!(read_recipe(&guess.recipe).is_ok(), "{} for {columns} is no recipe", guess.recipe);
    guess.recipe
}

#[test]
fn names_are_cut_into_words() {
    assert_eq!(name_words("created_at"), ["created", "at"]);
    assert_eq!(name_words("createdAt"), ["created", "at"]);
    assert_eq!(name_words("User ID"), ["user", "id"]);
    assert_eq!(name_words("HTTPStatus2"), ["httpstatus2"]);
}

#[test]
fn names_types_defaults_and_checks_say_what_columns_look_like() {
    for (column, recipe) in [
        ("email VARCHAR(120) NOT NULL", "email"),
        ("name VARCHAR(80)", "title(1..3)"),
        ("phone VARCHAR(30)", "phone"),
        ("password_hash CHAR(64)", "hex(64)"),
        ("guid VARCHAR(36)", "uuid4"),
        ("currency CHAR(3)", "pick('EUR' 6, 'USD' 3, 'GBP' 1, 'CHF' 1)"),
        ("active CHAR(1) DEFAULT 'Y'", "pick('Y' 5, 'N' 1)"),
        ("body TEXT", "text(300..3000)"),
        ("note VARCHAR(10)", "words(1)"),
        ("settings TEXT", "{ mode: pick('plain' 5, 'rich' 2), limit: exponential(40) in 1..500, tags: list(words(1), 0..3) }"),
        ("whatever VARCHAR(2)", "code('@@')"),
        ("whatever VARCHAR(200)", "words(1..2)"),
        ("whatever VARCHAR(40)", "words(1)"),
        ("whatever TEXT", "words(1..4)"),
        ("arch VARCHAR(10)", "pick('amd64' 7, 'arm64' 3, 'i386' 1, 'all' 1)"),
        ("result TEXT", "pick('success' 14, 'failure' 3, 'cancelled' 1, 'skipped' 1)"),
        ("role VARCHAR(20)", "pick('member' 12, 'editor' 4, 'admin' 1, 'guest' 1)"),
        ("card TEXT", "text(200..3000)"),
        ("cache_key VARCHAR(90)", "slug(1..2)"),
        ("sender_number VARCHAR(20)", "phone"),
        ("creator_id TEXT", "hex(16)"),
        ("filename TEXT", r"matching('^[a-z]{3,12}\.(txt|csv|log|pdf|jpg|zip)$')"),
        ("is_active BOOLEAN DEFAULT false", "share(12)"),
        ("code VARCHAR(9) CHECK (code ~ '^[A-Z]{3}$')", "matching('^[A-Z]{3}$')"),
        ("label TEXT CHECK (label = lower(label))", "slug(1..2)"),
        ("state TEXT DEFAULT 'new' CHECK (state IN ('old', 'new', 'gone'))", "pick('old' 2, 'new' 2, 'gone' 2)"),
        ("year INTEGER", "2000..2026"),
        ("is_open SMALLINT", "pick(0 4, 1 1)"),
        ("created_on BIGINT", "recent(2021-01-01..2026-06-30)"),
        ("session_time BIGINT", "lognormal(600, 1.2) in 0..1_000_000"),
        ("last_updated_by INTEGER", "1..500"),
        ("boxes INTEGER CHECK (boxes BETWEEN 2 AND 5)", "2..5"),
        ("tiny SMALLINT NOT NULL DEFAULT 0", "pick(0 6, 1 1)"),
        ("price DECIMAL(6, 2) CHECK (price > 0)", "lognormal(38, 1) in 0.01..9999.99"),
        ("latitude REAL", "47..55"),
        ("deleted BOOLEAN", "share(4)"),
        ("open BOOLEAN DEFAULT true", "share(88)"),
        ("born DATE", "1940-01-01..2008-12-31"),
        ("seen TIMESTAMP CHECK (seen > '2030-01-01')", "recent(2030-01-01T00:00:01.000000..2035-06-30T00:00:01.000000, '07:00'..'23:00')"),
        ("created TIMESTAMP NOT NULL, closed TIMESTAMP", "after(created, '1 hour'..'200 days', '07:00'..'23:00', 2026-06-30)"),
        ("placed TIMESTAMP NOT NULL, shipped TIMESTAMP", "after(placed, '1 minute'..'60 days', '07:00'..'23:00', 2026-06-30)"),
        ("one TIMESTAMP NOT NULL, two TIMESTAMP CHECK (two IS NULL OR two >= one)", "after(one, '1 minute'..'60 days', 2026-06-30)"),
        ("one DATE NOT NULL, two DATE, CHECK (one < two)", "after(one, '0 days'..'90 days', 2026-06-30)"),
        ("updated DATE NOT NULL, created DATE NOT NULL CHECK (created >= updated)", "recent(2021-01-01..2026-06-30)"),
        ("opened DATE NOT NULL, expires DATE", "after(opened, '7 days'..'2 years')"),
        ("digest BYTEA", "bytes(16..64)"),
        ("host INET", "address"),
        ("tags TEXT[]", "list(words(1), 0..4)"),
        ("height_mm INTEGER CHECK (height_mm BETWEEN 20 AND 900)", "lognormal(240, 0.6) in 20..900"),
        ("weight_grams INTEGER CHECK (weight_grams BETWEEN 20 AND 20000)", "lognormal(800, 0.9) in 20..20000"),
        ("width_mm INTEGER CHECK (width_mm BETWEEN 2 AND 8)", "normal(5, 1) in 2..8"),
        ("dose_ml DECIMAL(6, 1)", "lognormal(350, 0.8) in 0..10000"),
        ("weight INTEGER CHECK (weight BETWEEN 20 AND 20000)", "lognormal(1667, 0.8) in 20..20000"),
        ("vat_rate DECIMAL(4, 2) DEFAULT 19.00", "pick(19.00 8, 9.50 1, 23.75 1)"),
        ("tax_percent DECIMAL(4, 2) DEFAULT 80.00", "pick(80.00 8, 40.00 1, 100.00 1)"),
        ("price DECIMAL(6, 2) DEFAULT 0.00", "lognormal(38, 1) in 0..9999.99"),
        ("time_zone VARCHAR(40) DEFAULT 'Europe/Berlin'", "pick('Europe/Berlin' 10, 'UTC' 5, '+01:00' 3, '+02:00' 1, '-05:00' 1)"),
        ("theme VARCHAR(20) DEFAULT 'light'", "pick('light' 9, 'other' 1)"),
        ("currency CHAR(3) CHECK (currency = upper(currency) AND length(currency) = 3)", "pick('EUR' 6, 'USD' 3, 'GBP' 1, 'CHF' 1)"),
        ("status VARCHAR(9) DEFAULT 'new'", "pick('new' 2, 'active' 6, 'pending' 2, 'closed' 2, 'failed' 1)"),
        ("status TEXT DEFAULT 'open' CHECK (status IN ('open', 'sent', 'paid', 'void'))", "pick('open' 2, 'sent' 2, 'paid' 6, 'void' 1)"),
        ("status TEXT DEFAULT 'on' CHECK (status IN ('on', 'off', 'idle'))", "pick('on' 6, 'off' 1, 'idle' 1)"),
        ("discontinued BOOLEAN", "share(4)"),
        ("invoice_number VARCHAR(20)", "matching('^20(2[1-6])-[0-9]{5}$')"),
        ("log TEXT", "text(300..3000)"),
        ("recipe TEXT", "text(120..1200)"),
        ("reading_ts BIGINT", "recent(2021-01-01..2026-06-30, 'milliseconds')"),
        ("sent_epoch INTEGER", "recent(2021-01-01..2026-06-30)"),
        // The order of a life, dates and timestamps together, and what lies ahead.
        ("created_at TIMESTAMP NOT NULL, scheduled_at TIMESTAMP", "after(created_at, '1 day'..'60 days', '07:00'..'23:00')"),
        ("scheduled_at TIMESTAMP NOT NULL, started_at TIMESTAMP", "after(scheduled_at, '0 minutes'..'3 hours', 2026-06-30)"),
        ("started_at TIMESTAMP NOT NULL, scheduled_at TIMESTAMP NOT NULL", "office(2021-01-01..2026-06-30)"),
        ("scheduled_at TIMESTAMP, started_at TIMESTAMP, finished_at TIMESTAMP", "after(started_at, '15 minutes'..'5 hours', 2026-06-30)"),
        ("created_at TIMESTAMP NOT NULL, issued_on DATE NOT NULL, due_on DATE", "after(issued_on, '14 days'..'30 days')"),
        (
            "issued_on DATE NOT NULL, due_on DATE NOT NULL, paid_at TIMESTAMP",
            "after(issued_on, '1 hour'..'45 days', '07:00'..'23:00', 2026-06-30)",
        ),
        ("issued_on DATE, created_at TIMESTAMP NOT NULL, due_on DATE NOT NULL", "after(created_at, '7 days'..'60 days')"),
        (
            "closed_at TIMESTAMP, created_at TIMESTAMP, deleted_at TIMESTAMP",
            "after(closed_at, created_at, '1 day'..'2 years', '07:00'..'23:00', 2026-06-30)",
        ),
    ] {
        assert_eq!(guessed("thing", column), recipe, "{column}");
    }
    assert_eq!(guessed("customer", "name VARCHAR(80)"), "name", "whose rows are people");
    let lasts = "started_at TIMESTAMP NOT NULL, ended_at TIMESTAMP NOT NULL";
    assert_eq!(
        guessed("subscription", lasts),
        "after(started_at, '30 days'..'2 years', '07:00'..'23:00', 2026-06-30)",
        "which go on for long"
    );
    assert_eq!(guessed("job", lasts), "after(started_at, '1 second'..'20 minutes', 2026-06-30)", "which machines do");
    let person = "first_name VARCHAR(40) NOT NULL, last_name VARCHAR(40) NOT NULL, email VARCHAR(120)";
    assert_eq!(guessed("customer", person), "email(first_name, last_name)");
}

#[test]
fn children_come_after_their_parents_and_tables_that_refer_to_each_other_do_not() {
    let guess = |ddl: &str| {
        let schema = ddl::read(ddl).unwrap().schema;
        let table = schema.find("hive").unwrap();
        let column = schema.table(table).find("created").unwrap();
        recipe(&schema, table, column, &bounds(schema.table(table)).0[column], &[]).recipe
    };
    let apiary = |more: &str| format!("CREATE TABLE apiary (id INTEGER PRIMARY KEY, created DATE NOT NULL{more});");
    let hive = "CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, created DATE NOT NULL);";
    assert_eq!(guess(&format!("{}{hive}", apiary(""))), "after(apiary.created, '0 days'..'200 days', 2026-06-30)");
    assert_eq!(guess(&format!("{}{hive}", apiary(", first INTEGER REFERENCES hive"))), "recent(2021-01-01..2026-06-30)");
}

#[test]
fn row_counts_follow_from_the_place_in_the_schema() {
    let schema = ddl::read(
        "CREATE TABLE kind (id INTEGER PRIMARY KEY, name TEXT);
         CREATE TABLE keeper (id INTEGER PRIMARY KEY, name TEXT, born DATE, town TEXT);
         CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL REFERENCES keeper, kind_id INTEGER NOT NULL REFERENCES kind);
         CREATE TABLE keeper_kind (keeper_id INTEGER NOT NULL REFERENCES keeper, kind_id INTEGER NOT NULL REFERENCES kind, PRIMARY KEY (keeper_id, kind_id));
         CREATE TABLE passport (hive_id INTEGER PRIMARY KEY REFERENCES hive, issued DATE);
         CREATE TABLE switch (id BOOLEAN PRIMARY KEY CHECK (id));
         CREATE TABLE log (id INTEGER PRIMARY KEY, a TEXT, b TEXT, c TEXT, d TEXT);",
    )
    .unwrap()
    .schema;
    let counts: Vec<String> = schema.ids().map(|id| RowGuesses::of(&schema).rows(id).to_string()).collect();
    assert_eq!(counts[..2], ["24", "500"]);
    assert!(counts[2].starts_with("heavy(") && counts[2].ends_with(" per keeper") || counts[2] == "3 per keeper", "{}", counts[2]);
    assert_eq!(counts[3..], ["3 per keeper", "1..1 per hive", "1", "2000"]);
}
