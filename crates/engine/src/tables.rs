//! The schema model as an engine's own statements. Names are always quoted.

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Fidelity};
use kampf_schema::{ColumnId, Reference, Schema, Table};

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
            });
        }
        parts.push(format!("{} {kind}{}", quote(&column.name), if column.nullable { "" } else { " NOT NULL" }));
    }
    if with_keys {
        if !table.primary_key.is_empty() {
            parts.push(format!("PRIMARY KEY ({})", column_list(dialect, table, &table.primary_key)));
        }
        parts.extend(table.references.iter().map(|reference| refers(dialect, schema, table, reference)));
    }
    parts.extend(table.checks.iter().map(|check| format!("CHECK ({})", check.sql)));
    Ok(format!("CREATE TABLE {} (\n  {}\n)", quote(&table.name), parts.join(",\n  ")))
}

fn refers(dialect: &Dialect, schema: &Schema, table: &Table, reference: &Reference) -> String {
    let parent = schema.table(reference.parent);
    let own = column_list(dialect, table, &reference.columns);
    let theirs = column_list(dialect, parent, &reference.parent_columns);
    format!("FOREIGN KEY ({own}) REFERENCES {} ({theirs})", (dialect.quote)(&parent.name))
}

/// A table's primary key, added to it.
pub(crate) fn primary_key(dialect: &Dialect, table: &Table) -> String {
    format!("ALTER TABLE {} ADD PRIMARY KEY ({})", (dialect.quote)(&table.name), column_list(dialect, table, &table.primary_key))
}

/// A table's reference, added to it.
pub(crate) fn foreign_key(dialect: &Dialect, schema: &Schema, table: &Table, reference: &Reference) -> String {
    format!("ALTER TABLE {} ADD {}", (dialect.quote)(&table.name), refers(dialect, schema, table, reference))
}

/// An index.
pub(crate) fn index(dialect: &Dialect, table: &Table, columns: &[ColumnId], unique: bool, name: &str) -> String {
    let quote = dialect.quote;
    let unique = if unique { "UNIQUE " } else { "" };
    format!("CREATE {unique}INDEX {} ON {} ({})", quote(name), quote(&table.name), column_list(dialect, table, columns))
}
