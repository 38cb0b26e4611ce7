//! The schema model as an engine's own statements. Names are always quoted.

use std::collections::HashSet;

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Fidelity, literal, rule_sql};
use kampf_schema::ddl::SqlDialect;
use kampf_schema::{ColumnId, Default, LogicalType, Reference, Rule, Schema, Table};

/// The names that indexes of a schema cannot have.
pub(crate) fn taken_names(schema: &Schema) -> HashSet<String> {
    schema.tables.iter().map(|table| table.name.to_lowercase()).collect()
}

/// Columns of a table, quoted.
pub(crate) fn column_list(dialect: &Dialect, table: &Table, columns: &[ColumnId]) -> String {
    columns.iter().map(|&column| (dialect.quote)(&table.columns[column].name)).collect::<Vec<_>>().join(", ")
}

/// A table, with its keys or without: they can be made when the rows are in.
pub(crate) fn create_table(dialect: &Dialect, schema: &Schema, table: &Table, with_keys: bool) -> Result<String, EngineError> {
    let quote = dialect.quote;
    let mut parts = Vec::new();
    for column in &table.columns {
        let (kind, fidelity) = (dialect.column_type)(column.kind);
        if fidelity == Fidelity::None {
            return Err(EngineError {
                kind: EngineErrorKind::Value,
                message: format!("`{}.{}` is {}, which {} cannot keep", table.name, column.name, column.kind, dialect.name),
                sql: None,
                cause: None,
            });
        }
        let default = match &column.default {
            // Bytes are written differently everywhere, and defaults of them are next to unheard of.
            Some(Default::Value(value)) if column.kind != LogicalType::Blob => format!(" DEFAULT {}", literal(dialect, value)),
            _ => String::new(),
        };
        parts.push(format!("{} {kind}{default}{}", quote(&column.name), if column.nullable { "" } else { " NOT NULL" }));
    }
    if with_keys {
        if !table.primary_key.is_empty() {
            parts.push(format!("PRIMARY KEY ({})", column_list(dialect, table, &table.primary_key)));
        }
        parts.extend(table.references.iter().map(|reference| refers(dialect, schema, table, reference)));
    }
    // What the engine cannot say holds all the same: the rows are made so.
    let own = schema.dialect == SqlDialect::Standard || schema.dialect.word() == dialect.name;
    let said = table.checks.iter().filter_map(|check| match &check.rule {
        Ok(rule) => rule_sql(dialect, rule, table),
        // What is not known here, the engine that it was written for knows.
        Err(_) => own.then(|| check.sql.clone()),
    });
    parts.extend(said.map(|sql| format!("CHECK ({sql})")));
    Ok(format!("CREATE TABLE {} (\n  {}\n)", quote(&table.name), parts.join(",\n  ")))
}

fn refers(dialect: &Dialect, schema: &Schema, table: &Table, reference: &Reference) -> String {
    let parent = schema.table(reference.parent);
    let own = column_list(dialect, table, &reference.columns);
    let theirs = column_list(dialect, parent, &reference.parent_columns);
    format!("FOREIGN KEY ({own}) REFERENCES {} ({theirs}){}", (dialect.quote)(&parent.name), reference.manner)
}

/// A table's primary key, added to it.
pub(crate) fn primary_key(dialect: &Dialect, table: &Table) -> String {
    format!("ALTER TABLE {} ADD PRIMARY KEY ({})", (dialect.quote)(&table.name), column_list(dialect, table, &table.primary_key))
}

/// A table's reference, added to it.
pub(crate) fn foreign_key(dialect: &Dialect, schema: &Schema, table: &Table, reference: &Reference) -> String {
    format!("ALTER TABLE {} ADD {}", (dialect.quote)(&table.name), refers(dialect, schema, table, reference))
}

/// The statements that make a table's unique rules and indexes, unique ones first. `names` holds the names that are taken:
/// engines differ in whether two tables may have indexes of the same name.
pub(crate) fn indexes(dialect: &Dialect, table: &Table, names: &mut HashSet<String>) -> Vec<String> {
    let quote = dialect.quote;
    let mut statements = Vec::new();
    let mut add = |unique: bool, name: Option<&str>, kind: &str, what: &str, among: &str| {
        let name = free_name(names, name, &format!("{}_{kind}", table.name));
        let unique = if unique { "UNIQUE " } else { "" };
        statements.push(format!("CREATE {unique}INDEX {} ON {} ({what}){among}", quote(&name), quote(&table.name)));
    };
    for unique in &table.uniques {
        add(true, None, "unique", &column_list(dialect, table, &unique.columns), "");
    }
    for index in &table.unique_indexes {
        let term = |term: &Rule| {
            let sql = rule_sql(dialect, term, table)?;
            Some(if term.as_leaf().is_some() { sql } else { format!("({sql})") })
        };
        let terms: Option<Vec<String>> = index.terms.iter().map(term).collect();
        let among = index.among.as_ref().map(|rule| rule_sql(dialect, rule, table));
        // A rule that the engine cannot say holds all the same.
        if let (Some(terms), None | Some(Some(_))) = (terms, &among) {
            let among = among.flatten().map_or_else(String::new, |sql| format!(" WHERE {sql}"));
            add(true, None, "unique", &terms.join(", "), &among);
        }
    }
    for index in &table.indexes {
        add(false, index.name.as_deref(), "index", &column_list(dialect, table, &index.columns), "");
    }
    statements
}

/// The name that is wanted, or one like it that is not taken; not longer than any engine allows.
fn free_name(names: &mut HashSet<String>, wanted: Option<&str>, otherwise: &str) -> String {
    let cut = |name: &str| name.chars().take(40).collect::<String>();
    let numbered = (1..).map(|number| format!("{}_{number}", cut(otherwise)));
    let candidates = wanted.map(cut).into_iter().chain(numbered);
    let free = candidates.into_iter().find(|name| names.insert(name.to_lowercase()));
    free.unwrap_or_default()
}
