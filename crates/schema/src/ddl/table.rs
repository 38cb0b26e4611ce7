//! One CREATE TABLE: its columns, keys, references and checks.

use sqlparser::ast::{self, ColumnOption, Spanned, TableConstraint};

use super::column;
use super::read::{Ddl, DdlError, Places, is_quoted, table_name};
use crate::model::{Check, CheckRule, Column, ColumnId, Reference, Table, Unique};
use crate::names::did_you_mean;
use crate::place::Span;
use crate::types::LogicalType;
use crate::value::Value;

/// A reference whose parent may only be made by a later statement.
pub(super) struct Pending {
    columns: Vec<ColumnId>,
    parent: String,
    parent_columns: Vec<String>,
    span: Span,
}

/// Adds the table without its references, which are returned.
pub(super) fn columns(ddl: &mut Ddl, create: &ast::CreateTable, places: &Places<'_>) -> Result<Vec<Pending>, DdlError> {
    let name = table_name(&create.name);
    let mut table = Table {
        name: name.clone(),
        quoted: is_quoted(&create.name),
        columns: Vec::new(),
        primary_key: Vec::new(),
        uniques: Vec::new(),
        references: Vec::new(),
        indexes: Vec::new(),
        checks: Vec::new(),
        span: places.span(create.name.span()),
    };
    for definition in &create.columns {
        let span = places.span(definition.name.span);
        if table.find(&definition.name.value).is_some() {
            return Err(DdlError::new(format!("column `{}` is there twice", definition.name.value), span));
        }
        let kind = column::logical_type(&definition.data_type).unwrap_or_else(|| {
            let message = format!("`{name}.{}` has the type {}, which is not understood", definition.name.value, definition.data_type);
            let hint = "use one of: integer, decimal, real, text, boolean, date, timestamp, uuid, blob";
            ddl.not_understood.push((name.clone(), DdlError::new(message, span).hint(hint)));
            LogicalType::TEXT
        });
        let quoted = definition.name.quote_style.is_some();
        table.columns.push(Column { name: definition.name.value.clone(), quoted, kind, nullable: true, default: None, span });
    }
    if table.columns.is_empty() {
        return Err(DdlError::new(format!("table `{name}` has no columns"), table.span));
    }
    let mut pending = Vec::new();
    for (at, definition) in create.columns.iter().enumerate() {
        for option in &definition.options {
            match &option.option {
                ColumnOption::NotNull => table.columns[at].nullable = false,
                ColumnOption::PrimaryKey(_) => primary_key(&mut table, vec![at])?,
                ColumnOption::Unique(_) => table.uniques.push(Unique { columns: vec![at] }),
                ColumnOption::ForeignKey(key) => pending.push(Pending {
                    columns: vec![at],
                    parent: table_name(&key.foreign_table),
                    parent_columns: key.referred_columns.iter().map(|column| column.value.clone()).collect(),
                    span: places.span(key.foreign_table.span()),
                }),
                ColumnOption::Check(check) => add_check(&mut table, check, places),
                ColumnOption::Default(value) => table.columns[at].default = Some(column::default(value, table.columns[at].kind)),
                ColumnOption::Generated { generation_expr: Some(_), .. } => {
                    let message = format!("`{name}.{}` is computed by the database, which is not understood yet", definition.name.value);
                    let error = DdlError::new(message, table.columns[at].span).hint("make it a plain column, or remove it");
                    ddl.not_understood.push((name.clone(), error));
                }
                // Collations, comments and the like say nothing about which values may stand there.
                _ => {}
            }
        }
    }
    for constraint in &create.constraints {
        match constraint {
            TableConstraint::PrimaryKey(key) => {
                let columns = key_columns(&table, &key.columns, places)?;
                primary_key(&mut table, columns)?;
            }
            TableConstraint::Unique(key) => {
                let columns = key_columns(&table, &key.columns, places)?;
                table.uniques.push(Unique { columns });
            }
            TableConstraint::ForeignKey(key) => pending.push(Pending {
                columns: key.columns.iter().map(|column| own_column(&table, column, places)).collect::<Result<_, _>>()?,
                parent: table_name(&key.foreign_table),
                parent_columns: key.referred_columns.iter().map(|column| column.value.clone()).collect(),
                span: places.span(key.foreign_table.span()),
            }),
            TableConstraint::Check(check) => add_check(&mut table, check, places),
            _ => {}
        }
    }
    ddl.schema.tables.push(table);
    Ok(pending)
}

fn primary_key(table: &mut Table, columns: Vec<ColumnId>) -> Result<(), DdlError> {
    if !table.primary_key.is_empty() {
        return Err(DdlError::new(format!("table `{}` has two primary keys", table.name), table.span));
    }
    for &column in &columns {
        table.columns[column].nullable = false;
    }
    table.primary_key = columns;
    Ok(())
}

/// The plain columns of a key or an index.
pub(super) fn key_columns(table: &Table, columns: &[ast::IndexColumn], places: &Places<'_>) -> Result<Vec<ColumnId>, DdlError> {
    columns
        .iter()
        .map(|column| match &column.column.expr {
            ast::Expr::Identifier(name) => own_column(table, name, places),
            other => {
                Err(DdlError::new(format!("a unique rule over the expression {other} is not understood yet"), places.span(other.span()))
                    .hint("make it a rule over plain columns, or remove it"))
            }
        })
        .collect()
}

fn own_column(table: &Table, name: &ast::Ident, places: &Places<'_>) -> Result<ColumnId, DdlError> {
    table.find(&name.value).ok_or_else(|| {
        let mut error = DdlError::new(format!("table `{}` has no column `{}`", table.name, name.value), places.span(name.span));
        error.hint = did_you_mean(&name.value, table.columns.iter().map(|column| column.name.as_str()));
        error
    })
}

/// Joins a reference to its parent, now that all tables are there.
pub(super) fn refer(ddl: &mut Ddl, child: usize, pending: Pending) -> Result<(), DdlError> {
    let child_name = ddl.schema.tables[child].name.clone();
    let Some(parent) = ddl.schema.find(&pending.parent) else {
        let mut error = DdlError::new(format!("`{child_name}` refers to `{}`, which no statement makes", pending.parent), pending.span);
        error.hint = did_you_mean(&pending.parent, ddl.schema.tables.iter().map(|table| table.name.as_str()));
        return Err(error);
    };
    let table = ddl.schema.table(parent);
    let parent_columns = if pending.parent_columns.is_empty() {
        table.primary_key.clone()
    } else {
        let find = |name: &String| {
            table.find(name).ok_or_else(|| {
                let mut error = DdlError::new(format!("`{}` has no column `{name}` to refer to", table.name), pending.span);
                error.hint = did_you_mean(name, table.columns.iter().map(|column| column.name.as_str()));
                error
            })
        };
        pending.parent_columns.iter().map(find).collect::<Result<_, _>>()?
    };
    let unique = table.primary_key == parent_columns || table.is_unique_key(&parent_columns) || {
        // A nullable unique column can be referred to as well.
        table.uniques.iter().any(|unique| unique.columns == parent_columns)
    };
    if parent_columns.len() != pending.columns.len() || !unique {
        let message = format!("`{child_name}` refers to columns of `{}` that are not a key there", table.name);
        let hint = format!("refer to the primary key of `{}`, or declare the columns UNIQUE", table.name);
        return Err(DdlError::new(message, pending.span).hint(hint));
    }
    for (&own, &theirs) in pending.columns.iter().zip(&parent_columns) {
        let (own, theirs) = (&ddl.schema.tables[child].columns[own], &table.columns[theirs]);
        if !own.kind.comparable_with(theirs.kind) {
            let message = format!(
                "`{child_name}.{}` is {}, but refers to `{}.{}`, which is {}",
                own.name, own.kind, table.name, theirs.name, theirs.kind
            );
            return Err(DdlError::new(message, own.span).hint("give both the same type"));
        }
    }
    let reference = Reference { columns: pending.columns, parent, parent_columns, span: pending.span };
    let references = &mut ddl.schema.tables[child].references;
    if !references.iter().any(|known| known.columns == reference.columns && known.parent == parent) {
        references.push(reference);
    }
    Ok(())
}

fn add_check(table: &mut Table, check: &ast::CheckConstraint, places: &Places<'_>) {
    let mut rules = Vec::new();
    let understood = read_rules(table, &check.expr, &mut rules);
    table.checks.push(Check { sql: check.expr.to_string(), rules, understood, span: places.span(check.expr.span()) });
}

/// Collects what a condition demands; false where it says something else besides.
fn read_rules(table: &Table, expr: &ast::Expr, rules: &mut Vec<(ColumnId, CheckRule)>) -> bool {
    use ast::BinaryOperator::{And, Eq, Gt, GtEq, Lt, LtEq};
    match expr {
        ast::Expr::Nested(inner) => read_rules(table, inner, rules),
        ast::Expr::BinaryOp { left, op: And, right } => {
            let left = read_rules(table, left, rules);
            read_rules(table, right, rules) && left
        }
        ast::Expr::In { expr, target: ast::InTarget::List(list), negated: false, .. } => {
            let Some(column) = column_of(table, expr) else { return false };
            let values: Option<Vec<Value>> = list.iter().map(|item| column::fixed(item, table.columns[column].kind)).collect();
            let Some(values) = values else { return false };
            rules.push((column, CheckRule::OneOf(values)));
            true
        }
        ast::Expr::Between { expr, negated: false, low, high } => {
            let Some(column) = column_of(table, expr) else { return false };
            let kind = table.columns[column].kind;
            let (Some(low), Some(high)) = (column::fixed(low, kind), column::fixed(high, kind)) else { return false };
            rules.push((column, CheckRule::AtLeast(low, true)));
            rules.push((column, CheckRule::AtMost(high, true)));
            true
        }
        ast::Expr::BinaryOp { left, op, right } => {
            let (subject, bound, op) = match (op, is_fixed(left)) {
                (Gt | GtEq | Lt | LtEq | Eq, false) => (left, right, op.clone()),
                (Gt, true) => (right, left, Lt),
                (GtEq, true) => (right, left, LtEq),
                (Lt, true) => (right, left, Gt),
                (LtEq, true) => (right, left, GtEq),
                _ => return false,
            };
            if let Some(column) = length_of(table, subject) {
                let Some(Value::Integer(number)) = column::fixed(bound, LogicalType::Integer) else { return false };
                let Ok(number) = u32::try_from(number) else { return false };
                match op {
                    Gt => rules.push((column, CheckRule::LengthAtLeast(number + 1))),
                    GtEq => rules.push((column, CheckRule::LengthAtLeast(number))),
                    Lt => rules.push((column, CheckRule::LengthAtMost(number.saturating_sub(1)))),
                    LtEq => rules.push((column, CheckRule::LengthAtMost(number))),
                    _ => rules.extend([(column, CheckRule::LengthAtLeast(number)), (column, CheckRule::LengthAtMost(number))]),
                }
                return true;
            }
            let Some(column) = column_of(table, subject) else { return false };
            let Some(value) = column::fixed(bound, table.columns[column].kind) else { return false };
            rules.push(match op {
                Gt => (column, CheckRule::AtLeast(value, false)),
                GtEq => (column, CheckRule::AtLeast(value, true)),
                Lt => (column, CheckRule::AtMost(value, false)),
                LtEq => (column, CheckRule::AtMost(value, true)),
                _ => (column, CheckRule::OneOf(vec![value])),
            });
            true
        }
        _ => false,
    }
}

fn is_fixed(expr: &ast::Expr) -> bool {
    match expr {
        ast::Expr::Value(_) => true,
        ast::Expr::UnaryOp { expr, .. } | ast::Expr::Nested(expr) => is_fixed(expr),
        _ => false,
    }
}

fn column_of(table: &Table, expr: &ast::Expr) -> Option<ColumnId> {
    match expr {
        ast::Expr::Identifier(name) => table.find(&name.value),
        ast::Expr::Nested(inner) => column_of(table, inner),
        _ => None,
    }
}

/// The column inside `length(column)`.
fn length_of(table: &Table, expr: &ast::Expr) -> Option<ColumnId> {
    let ast::Expr::Function(function) = expr else { return None };
    if !["length", "char_length", "character_length"].contains(&function.name.to_string().to_lowercase().as_str()) {
        return None;
    }
    let ast::FunctionArguments::List(list) = &function.args else { return None };
    match list.args.as_slice() {
        [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(inner))] => column_of(table, inner),
        _ => None,
    }
}
