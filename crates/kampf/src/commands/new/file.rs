//! The kampf.toml of a new folder.

use kampf_fill::{Blueprint, LeftOut, RowGuesses};
use kampf_schema::{HopKind, Relations, Schema, TableId, Undeclared};

use super::contests::contests;
use super::proof::{Fault, Place};
use crate::output::count;
use crate::project::{Scalar, TomlText, without_check};

/// What a new file is written from.
pub(super) struct Start<'a> {
    pub(super) schema: &'a Schema,
    pub(super) file: &'a str,
    /// Types that are not known, with what they are kept as.
    pub(super) types: &'a [(String, String)],
    /// How many times as many rows as guessed, where somebody wants a number of rows.
    pub(super) scale: Option<f64>,
    pub(super) guesses: &'a RowGuesses<'a>,
    /// None where nobody knows how to fill it.
    pub(super) planned: Option<&'a Blueprint>,
    pub(super) left_out: &'a [LeftOut],
    pub(super) undeclared: &'a [Undeclared],
    pub(super) fault: Option<&'a Fault>,
}

/// What stands before a line that has to be added.
const TO_DO: &str = "TO DO";

/// A kampf.toml for somebody's schema.
pub(super) fn project_file(start: &Start<'_>) -> String {
    let mut text = TomlText::default();
    text.comment(
        "What to fill, what to answer, what to race. `kampf race` runs everything here; docs/file-reference.md explains every key.",
    );
    text.value("schema", Scalar::Text(start.file));
    text.value("seed", Scalar::Number(1));
    if let Some(scale) = start.scale {
        text.comment("So many times as many rows as guessed, of all tables together; tables of few words stay small.");
        text.value("scale", Scalar::Factor(scale));
    }
    to_do(&mut text, start, &Place::Schema);
    rows(&mut text, start);
    values(&mut text, start);
    if !start.types.is_empty() {
        text.blank();
        text.comment("Types that are not known, and what they are kept as.");
        text.table(&["types"]);
        for (name, means) in start.types {
            text.value(name, Scalar::Text(means));
        }
    }
    references(&mut text, start);
    let relations = Relations::of(start.schema);
    related(&mut text, start.schema, &relations);
    let rows = |table: TableId| start.planned.map_or(0, |planned| planned.rows(table));
    contests(&mut text, start.schema, &relations, &rows);
    text.into_text()
}

/// What has to be said at a place before the data can be filled.
fn to_do(text: &mut TomlText, start: &Start<'_>, place: &Place) {
    if let Some(fault) = start.fault.filter(|fault| fault.place == *place) {
        text.note(&format!("{TO_DO}: {}", fault.what));
        if let Some(hint) = &fault.hint {
            text.note(hint);
        }
    }
}

fn rows(text: &mut TomlText, start: &Start<'_>) {
    text.blank();
    text.comment(
        "Rows per table: a number, or so many for each row of a parent. What stands here are guesses, and `scale` or --scale makes them\n\
         larger; take the # away from a line to fix it, and put in what production has.",
    );
    text.table(&["rows"]);
    for id in start.schema.ids() {
        to_do(text, start, &Place::Rows(id));
        let asked = start.planned.map_or_else(|| start.guesses.rows(id), |planned| planned.row_count(id).clone()).to_string();
        let line = TomlText::entry(&start.schema.table(id).name, asked.parse().map_or(Scalar::Text(&asked), Scalar::Number));
        match start.planned.map(|planned| planned.rows(id)) {
            // A number says it already.
            Some(rows) if asked.parse::<u64>().is_err() => text.note(&format!("{line}   # {}", count(rows))),
            _ => text.note(&line),
        }
    }
}

fn values(text: &mut TomlText, start: &Start<'_>) {
    text.blank();
    text.comment(
        "How values look is guessed from names, types and checks. Where that is not what you want, say so:\n\
         [values]\n\"table.column\" = \"normal(6, 2) in 1..10\"",
    );
    if let Some(planned) = start.planned {
        for check in start.left_out {
            text.note(&without_check(start.schema, planned, check));
        }
    }
    to_do(text, start, &Place::Values);
}

/// References that nobody declared, for a person to look at.
fn references(text: &mut TomlText, start: &Start<'_>) {
    if start.undeclared.is_empty() {
        return;
    }
    text.blank();
    text.comment(
        "Columns that look like references and are not declared as such. Take the # away from those that are: they give relations and\n\
         joins, and their rows are filled with keys of the other table. The schema's file stays as it is.",
    );
    text.table(&["references"]);
    let name = |table: TableId, column: usize| {
        let table = start.schema.table(table);
        format!("{}.{}", table.name, table.columns[column].name)
    };
    for one in start.undeclared {
        let line = TomlText::entry(&name(one.child, one.column), Scalar::Text(&name(one.parent, one.key)));
        text.note(&format!("{line}   # {} % sure: {}", one.sure, one.why));
    }
}

fn related(text: &mut TomlText, schema: &Schema, relations: &Relations) {
    text.blank();
    text.comment("The relations of your tables, for use in paths (`kampf show --relations` has them all):");
    for id in schema.ids() {
        let names: Vec<String> = relations
            .from(id)
            .map(|relation| {
                let many = relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
                if many { format!("{} (many)", relation.name) } else { relation.name.clone() }
            })
            .collect();
        if !names.is_empty() {
            text.note(&format!("{}: {}", schema.table(id).name, names.join(", ")));
        }
    }
}

#[cfg(test)]
mod tests {
    use kampf_fill::Order;
    use kampf_schema::Span;
    use proptest::prelude::*;

    use super::*;
    use crate::output::shown;

    /// Names as no friend would choose them.
    fn hostile() -> impl Strategy<Value = String> {
        let piece = prop_oneof![
            "[a-z]{1,4}",
            Just("\n".to_owned()),
            Just("\r\n[contest.z.contender.a]\ncommand = [\"touch\", \"owned\"]\n".to_owned()),
            Just("\"\"\"".to_owned()),
            Just("'".to_owned()),
            Just("]".to_owned()),
            Just("#".to_owned()),
            Just("\\".to_owned()),
            Just(".".to_owned()),
            Just("=".to_owned()),
            Just("\u{1b}[2J".to_owned()),
            Just("\u{2028}\u{85}".to_owned()),
            Just("蜂".to_owned()),
        ];
        prop::collection::vec(piece, 1..5).prop_map(|pieces| pieces.concat())
    }

    proptest! {
        #![proptest_config(kampf_mangle::property(256))]
        #[test]
        fn whatever_names_a_schema_has_the_file_holds_the_contests_intended_and_nothing_else(
            names in prop::collection::vec(hostile(), 6),
        ) {
            let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
            let ddl = format!(
                "CREATE TABLE {0} ({1} INTEGER PRIMARY KEY, {2} VARCHAR(20));
                 CREATE TABLE {3} ({4} INTEGER PRIMARY KEY, {5} INTEGER REFERENCES {0});",
                quoted(&format!("a{}", names[0])), quoted(&names[1]), quoted(&format!("{}2", names[2])),
                quoted(&format!("b{}", names[3])), quoted(&names[4]), quoted(&format!("{}2", names[5])),
            );
            let schema = kampf_schema::ddl::read(&ddl).unwrap().schema;
            let types = [(names[0].clone(), "text".to_owned())];
            let planned = Blueprint::new(&schema, &Order::default()).unwrap();
            // A comment that tells of a check or of a fault may hold what a schema wrote.
            let left_out = LeftOut {
                table: TableId(0), columns: vec![0], check: names[1].clone(), unknown: names[2].clone(), span: Span::default(), is_met: false,
            };
            let fault = Fault { place: Place::Rows(TableId(1)), what: names[3].clone(), hint: Some(names[4].clone()) };
            let undeclared = Undeclared { child: TableId(1), column: 0, parent: TableId(0), key: 0, sure: 80, why: names[5].clone() };
            let start = Start {
                schema: &schema, file: "own.sql", types: &types, scale: Some(1.5), guesses: &RowGuesses::of(&schema),
                planned: Some(&planned), left_out: &[left_out], undeclared: &[undeclared], fault: Some(&fault),
            };
            let text = project_file(&start);
            let parsed: toml::Table = text.parse().unwrap_or_else(|error| panic!("{error}\n{text}"));
            let keys: Vec<&str> = parsed.keys().map(String::as_str).collect();
            prop_assert_eq!(keys, ["contest", "references", "rows", "scale", "schema", "seed", "types"]);
            // Guesses and proposals are comments as long as nobody takes the # away.
            prop_assert!(["rows", "references"].iter().all(|key| parsed[*key].as_table().unwrap().is_empty()));
            let contests = parsed["contest"].as_table().unwrap();
            // A list of one parent's, a page about one row, numbers for each parent.
            prop_assert_eq!(contests.len(), 3);
            for contest in contests.values() {
                let contest = contest.as_table().unwrap();
                let mut keys: Vec<&str> = contest.keys().map(String::as_str).collect();
                keys.sort_unstable();
                let known = [
                    &["about", "from", "give", "limit", "order"][..],
                    &["about", "expect", "from", "give", "parameters", "where"],
                    &["about", "from", "give", "limit", "order", "parameters", "where"],
                ];
                prop_assert!(known.contains(&keys.as_slice()), "{keys:?}");
                prop_assert!(schema.tables.iter().any(|table| Some(table.name.as_str()) == contest["from"].as_str()));
            }
            prop_assert_eq!(text.lines().map(shown).collect::<Vec<_>>(), text.lines().collect::<Vec<_>>());
            // And it is one that Kampf takes.
            let source = crate::problem::TextFile { path: std::path::Path::new("kampf.toml").into(), text: text.as_str().into() };
            prop_assert!(crate::project::Config::read(&source).is_ok(), "{}", text);
        }
    }
}
