//! The schema model as an engine's own statements. Names are always quoted.

use std::collections::HashSet;
use std::time::Instant;

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Fidelity, literal, rule_sql};
use kampf_schema::ddl::SqlDialect;
use kampf_schema::expr::Node;
use kampf_schema::{ColumnId, Default, Index, IndexTerm, LogicalType, Reference, Rule, Schema, Table};

use crate::event::LoadEvent;

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
    parts.extend(checks(dialect, schema, table).map(|sql| format!("CHECK ({sql})")));
    Ok(format!("CREATE TABLE {} (\n  {}\n)", quote(&table.name), parts.join(",\n  ")))
}

/// The checks of a table that an engine can say. The others hold all the same: the rows are made so.
pub(crate) fn checks<'t>(dialect: &'t Dialect, schema: &'t Schema, table: &'t Table) -> impl Iterator<Item = String> + 't {
    let own = schema.dialect == SqlDialect::Standard || schema.dialect.word() == dialect.name;
    table.checks.iter().filter_map(move |check| match &check.rule {
        // Reals do not reckon with decimals as the check means it: 0.1 * 3 would not be 0.3.
        Ok(rule) if dialect.decimals_are_reals && reckons_with_decimals(rule, table) => None,
        Ok(rule) => rule_sql(dialect, rule, table),
        // What is not known here, the engine that it was written for knows.
        Err(_) => own.then(|| check.sql.clone()),
    })
}

/// Whether an expression adds or multiplies decimals with anything.
fn reckons_with_decimals(rule: &Rule, table: &Table) -> bool {
    let is_decimal = |column: &&ColumnId| matches!(table.columns[**column].kind, LogicalType::Decimal { .. });
    let reckons = matches!(rule.node, Node::Arithmetic(..)) && rule.leaves().iter().any(is_decimal);
    reckons || rule.parts().into_iter().any(|part| reckons_with_decimals(part, table))
}

fn refers(dialect: &Dialect, schema: &Schema, table: &Table, reference: &Reference) -> String {
    let parent = schema.table(reference.parent);
    let own = column_list(dialect, table, &reference.columns);
    let theirs = column_list(dialect, parent, &reference.parent_columns);
    format!("FOREIGN KEY ({own}) REFERENCES {} ({theirs}){}", (dialect.quote)(&parent.name), reference.manner)
}

/// The statements that make a schema's tables with their keys, checks and indexes, parents first.
///
/// # Errors
/// When the engine has no type for a column.
pub fn schema_sql(dialect: &Dialect, schema: &Schema) -> Result<Vec<String>, EngineError> {
    let tables = || schema.parents_first().into_iter().map(|table| schema.table(table));
    let mut names = taken_names(schema);
    let made = tables().map(|table| create_table(dialect, schema, table, true)).collect::<Result<Vec<_>, _>>()?;
    let indexes = tables().flat_map(|table| indexes(dialect, table, &mut names)).map(|index| index.sql);
    Ok(made.into_iter().chain(indexes.collect::<Vec<_>>()).collect())
}

/// A table's primary key, added to it.
pub(crate) fn primary_key(dialect: &Dialect, table: &Table) -> String {
    format!("ALTER TABLE {} ADD PRIMARY KEY ({})", (dialect.quote)(&table.name), column_list(dialect, table, &table.primary_key))
}

/// A table's reference, added to it.
pub(crate) fn foreign_key(dialect: &Dialect, schema: &Schema, table: &Table, reference: &Reference) -> String {
    format!("ALTER TABLE {} ADD {}", (dialect.quote)(&table.name), refers(dialect, schema, table, reference))
}

/// A statement that makes an index.
pub(crate) struct MakesIndex {
    /// The name that the index gets.
    pub(crate) name: String,
    pub(crate) sql: String,
    /// Whether the rows are as they should be without it.
    pub(crate) only_faster: bool,
}

impl MakesIndex {
    /// Makes the index by a function, and tells of it. One that only makes reading faster and that the engine has no way to make is told of
    /// as refused.
    pub(crate) fn make(
        &self,
        progress: &mut dyn FnMut(LoadEvent<'_>),
        execute: impl FnOnce(&str) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let begun = Instant::now();
        match execute(&self.sql) {
            Err(error) if self.only_faster && error.kind == EngineErrorKind::Statement => {
                progress(LoadEvent::Refused(&self.name, &error.message));
            }
            done => {
                done?;
                progress(LoadEvent::Indexed(&self.name, begun.elapsed()));
            }
        }
        Ok(())
    }
}

/// The statements that make a table's unique rules and indexes, unique ones first. `names` holds the names that are taken:
/// engines differ in whether two tables may have indexes of the same name.
pub(crate) fn indexes(dialect: &Dialect, table: &Table, names: &mut HashSet<String>) -> Vec<MakesIndex> {
    let quote = dialect.quote;
    let mut statements = Vec::new();
    let mut unique = |what: &str, among: &str| {
        let name = free_name(names, None, &format!("{}_unique", table.name));
        let sql = format!("CREATE UNIQUE INDEX {} ON {} ({what}){among}", quote(&name), quote(&table.name));
        statements.push(MakesIndex { name, sql, only_faster: false });
    };
    for rule in &table.uniques {
        unique(&column_list(dialect, table, &rule.columns), "");
    }
    for index in &table.unique_indexes {
        let terms: Option<Vec<String>> = index.terms.iter().map(|term| term_sql(dialect, table, term)).collect();
        let among = index.among.as_ref().map(|rule| rule_sql(dialect, rule, table));
        // A rule that the engine cannot say holds all the same.
        if let (Some(terms), None | Some(Some(_))) = (terms, &among) {
            let among = among.flatten().map_or_else(String::new, |sql| format!(" WHERE {sql}"));
            unique(&terms.join(", "), &among);
        }
    }
    for index in &table.indexes {
        // What the schema's file wants and the engine does not have comes as near as it can, or not at all: it only makes reading faster.
        let plainer = Index { hashed: false, include: Vec::new(), terms: index.terms.iter().map(anywhere).collect(), ..index.clone() };
        let Some(of) = [index, &plainer].into_iter().find(|index| create_index(dialect, table, index, "").is_ok()) else { continue };
        let name = free_name(names, index.name.as_deref(), &format!("{}_index", table.name));
        statements.extend(create_index(dialect, table, of, &name).ok().map(|sql| MakesIndex { name, sql, only_faster: !of.unique }));
    }
    statements
}

/// The same term with nulls where the engine puts them.
fn anywhere(term: &IndexTerm) -> IndexTerm {
    IndexTerm { nulls_first: None, ..term.clone() }
}

fn term_sql(dialect: &Dialect, table: &Table, term: &Rule) -> Option<String> {
    let sql = rule_sql(dialect, term, table)?;
    Some(if term.as_leaf().is_some() { sql } else { format!("({sql})") })
}

/// The statement that makes an index of a name; or why the engine has none like it, in words.
///
/// # Errors
/// When the engine has no such index.
pub fn create_index(dialect: &Dialect, table: &Table, index: &Index, name: &str) -> Result<String, String> {
    let quote = dialect.quote;
    let engine = dialect.name;
    let mut using = String::new();
    if index.hashed {
        let hash = dialect.hash_index.ok_or_else(|| format!("{engine} has no hash indexes"))?;
        let has_order = |term: &IndexTerm| term.descending || term.nulls_first.is_some();
        if index.terms.len() != 1 || index.unique || !index.include.is_empty() || index.terms.iter().any(has_order) {
            return Err(
                "a hash index finds rows by one column or expression: it has no order, holds nothing else and is not unique".to_owned()
            );
        }
        using = format!(" {hash}");
    }
    let term = |term: &IndexTerm| {
        let what =
            term_sql(dialect, table, &term.what).ok_or_else(|| format!("an expression in it cannot be said in the SQL of {engine}"))?;
        let nulls = match term.nulls_first {
            Some(first) if dialect.index_places_nulls => format!(" NULLS {}", if first { "FIRST" } else { "LAST" }),
            Some(first) if first == (dialect.nulls_first != term.descending) => String::new(),
            Some(_) => return Err(format!("an index of {engine} has nulls where they come in order, which cannot be chosen")),
            None => String::new(),
        };
        Ok(format!("{what}{}{nulls}", if term.descending { " DESC" } else { "" }))
    };
    let terms = index.terms.iter().map(term).collect::<Result<Vec<String>, String>>()?.join(", ");
    let include = match index.include.as_slice() {
        [] => String::new(),
        _ if !dialect.index_includes => {
            return Err(format!("an index of {engine} holds no columns besides those that it is sorted by; add them to these"));
        }
        columns => format!(" INCLUDE ({})", column_list(dialect, table, columns)),
    };
    let among = match &index.among {
        None => String::new(),
        Some(rule) => {
            let sql = rule_sql(dialect, rule, table).ok_or_else(|| format!("its condition cannot be said in the SQL of {engine}"))?;
            format!(" WHERE {sql}")
        }
    };
    let unique = if index.unique { "UNIQUE " } else { "" };
    Ok(format!("CREATE {unique}INDEX {} ON {}{using} ({terms}){include}{among}", quote(name), quote(&table.name)))
}

/// The name that is wanted, or one like it that is not taken; not longer than any engine allows.
fn free_name(names: &mut HashSet<String>, wanted: Option<&str>, otherwise: &str) -> String {
    let cut = |name: &str| name.chars().take(48).collect::<String>();
    let numbered = (1..).map(|number| format!("{}_{number}", cut(otherwise)));
    let candidates = wanted.map(cut).into_iter().chain(numbered);
    let free = candidates.into_iter().find(|name| names.insert(name.to_lowercase()));
    free.unwrap_or_default()
}
