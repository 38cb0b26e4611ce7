//! From the tables that all statements have made to the schema: every name looked up, every condition read.

use std::collections::HashMap;

use sqlparser::ast;

use super::draft::{Condition, Constraint, ConstraintKind, DraftTable, IndexManner, KeyPart, Meaning, Seed};
use super::expression::ExpressionReader;
use super::literal::{fixed, hex, number, text_of, typed};
use super::read::{DdlError, Replay};
use super::tokens::Name;
use crate::expr::{Function, Node, Rule};
use crate::index::{Index, IndexTerm};
use crate::model::{Check, Column, ColumnForm, ColumnId, Default, Reference, Schema, Table, TableId, Unique, UniqueIndex};
use crate::names::did_you_mean;
use crate::types::LogicalType;
use crate::value::Value;

impl Replay<'_> {
    pub(super) fn finish(&mut self) -> Result<Schema, DdlError> {
        let drafts = std::mem::take(&mut self.tables).into_list();
        let mut schema = Schema { dialect: self.dialect, ..Schema::default() };
        for draft in &drafts {
            if let Some(error) = &draft.unreadable {
                return Err(error.clone());
            }
            schema.tables.push(columns(draft)?);
        }
        for (at, draft) in drafts.iter().enumerate() {
            self.rules(&mut schema.tables[at], draft)?;
        }
        let mut names: HashMap<String, TableId> = HashMap::new();
        // Names that differ in the size of letters alone are told apart where they are written out.
        let folded = schema.ids().map(|id| (schema.table(id).name.to_ascii_lowercase(), id));
        let exact = schema.ids().map(|id| (schema.table(id).name.clone(), id));
        for (name, id) in exact.chain(folded) {
            names.entry(name).or_insert(id);
        }
        let find = |name: &str| names.get(name).or_else(|| names.get(&name.to_ascii_lowercase())).copied();
        for (at, draft) in drafts.iter().enumerate() {
            for constraint in &draft.constraints {
                if let ConstraintKind::Refers { parent, .. } = &constraint.kind
                    && self.dialect == super::SqlDialect::Sqlite
                    && find(&parent.text).is_none()
                {
                    // SQLite makes such a table, and looks for the other one only when rows go in.
                    let what = format!("the reference to `{}` is left out: no statement makes that table", parent.text);
                    self.warn(parent.span, what);
                    continue;
                }
                if let Some(what) = refer(&mut schema, &find, at, draft, constraint)? {
                    self.warn(constraint.span, what);
                }
            }
        }
        follow_types(&mut schema);
        for (at, draft) in drafts.iter().enumerate() {
            let (rows, left_out) = seeds(&schema.tables[at], draft);
            if left_out > 0 {
                let (are, they) =
                    if left_out == 1 { ("row that the file gives is", "it does") } else { ("rows that the file gives are", "they do") };
                let what = format!("{left_out} {are} left out of `{}`: {they} not fit its columns", draft.name.text);
                self.warn(draft.name.span, what);
            }
            schema.tables[at].seeds = rows;
        }
        Ok(schema)
    }

    /// Keys, unique rules, indexes, checks and computed columns.
    fn rules(&mut self, table: &mut Table, draft: &DraftTable) -> Result<(), DdlError> {
        let find = |name: &str| draft.column(name);
        let dialect = self.dialect;
        for constraint in &draft.constraints {
            match &constraint.kind {
                ConstraintKind::Primary(parts) => {
                    let columns = plain(draft, parts, constraint)?
                        .ok_or_else(|| DdlError::new("a primary key is over plain columns", constraint.span))?;
                    if !table.primary_key.is_empty() && table.primary_key != columns {
                        return Err(DdlError::new(format!("table `{}` has two primary keys", table.name), table.span));
                    }
                    for &column in &columns {
                        table.columns[column].nullable = false;
                    }
                    table.primary_key = columns;
                }
                ConstraintKind::Unique(parts, among) => {
                    let columns = plain(draft, parts, constraint)?;
                    if let (Some(columns), None) = (&columns, among)
                        && parts.iter().all(|part| part.length.is_none())
                    {
                        if *columns != table.primary_key && !table.uniques.iter().any(|unique| unique.columns == *columns) {
                            table.uniques.push(Unique { columns: columns.clone() });
                        }
                        continue;
                    }
                    let reading = ExpressionReader::new(table, &find, None, dialect);
                    let terms: Result<Vec<Rule>, String> = parts
                        .iter()
                        .map(|part| {
                            let term = reading.term(&part.expr, None)?;
                            Ok(match part.length {
                                Some(length) => {
                                    let literal = |number| Rule::literal(Value::Integer(number));
                                    Node::Call(Function::Substring, vec![term, literal(1), literal(length.into())]).into()
                                }
                                None => term,
                            })
                        })
                        .collect();
                    let among = among.as_ref().map(|condition| reading.rule(&condition.expr)).transpose();
                    match terms.and_then(|terms| among.map(|among| (terms, among))) {
                        Ok((terms, among)) => table.unique_indexes.push(UniqueIndex { terms, among, span: constraint.span }),
                        Err(unknown) => {
                            self.warn(
                                constraint.span,
                                format!("a unique rule is left out: it has {unknown} in it, which is not known here"),
                            );
                        }
                    }
                }
                ConstraintKind::Index(parts, manner) => {
                    // What it names must be there; what is not known in it only makes reading faster.
                    plain(draft, parts, constraint)?;
                    match index(&ExpressionReader::new(table, &find, None, dialect), parts, manner) {
                        Ok(index) => table.indexes.push(Index { name: constraint.name.clone(), ..index }),
                        Err(_) => self.pass_over_part(constraint.span),
                    }
                }
                ConstraintKind::Check(condition) => check(table, condition, &find, None, dialect),
                ConstraintKind::Refers { .. } => {}
            }
        }
        for (at, column) in draft.columns.iter().enumerate() {
            if let Ok(meaning) = &column.meaning {
                for condition in &meaning.checks {
                    check(table, condition, &find, Some(at), dialect);
                }
                if !meaning.words.is_empty() && meaning.form == ColumnForm::Plain {
                    let words = meaning.words.iter().map(|word| Rule::literal(word.as_str())).collect();
                    let rule = Node::In(Box::new(Node::Leaf(at).into()), words).into();
                    let sql = format!("{} is one of its type's words", column.name.text);
                    table.checks.push(Check { sql, rule: Ok(rule), span: column.name.span });
                }
            }
            if let Some(expr) = &column.computed {
                let reading = ExpressionReader::new(table, &find, None, dialect);
                let kind = table.columns[at].kind;
                table.columns[at].computed = Some(reading.term(expr, Some(kind)));
            }
        }
        Ok(())
    }
}

fn columns(draft: &DraftTable) -> Result<Table, DdlError> {
    let mut columns = Vec::new();
    for column in &draft.columns {
        let meaning: &Meaning = column.meaning.as_ref().map_err(Clone::clone)?;
        if column.default.as_ref().and_then(text_default).is_some_and(|text| text.len() > MOST_DEFAULT) {
            let message = format!("the default of `{}.{}` is longer than {} KiB", draft.name.text, column.name.text, MOST_DEFAULT >> 10);
            return Err(DdlError::new(message, column.name.span).hint("make it shorter, or leave it out: it would stand in most rows"));
        }
        // A sequence as default is how a numbered column was written before there was a word for it.
        let by_sequence = column.default.as_ref().is_some_and(|expr| expr.to_string().to_ascii_lowercase().starts_with("nextval"));
        let numbered = column.numbered || by_sequence;
        let default = column.default.as_ref().filter(|_| !numbered);
        columns.push(Column {
            name: column.name.text.clone(),
            quoted: column.name.quoted,
            kind: meaning.kind,
            form: meaning.form,
            limits: meaning.limits,
            words: meaning.words.clone(),
            nullable: column.nullable,
            default: default
                .map(|expr| fixed(expr, Some(meaning.kind)).map_or_else(|| Default::Computed(expr.to_string()), Default::Value)),
            numbered,
            computed: None,
            span: column.name.span,
        });
    }
    Ok(Table {
        name: draft.name.text.clone(),
        quoted: draft.name.quoted,
        columns,
        primary_key: Vec::new(),
        uniques: Vec::new(),
        unique_indexes: Vec::new(),
        references: Vec::new(),
        indexes: Vec::new(),
        checks: Vec::new(),
        seeds: Vec::new(),
        span: draft.name.span,
    })
}

/// Bytes of a default at most.
const MOST_DEFAULT: usize = 64 << 10;

/// The text that a default is, where it is one.
fn text_default(expr: &ast::Expr) -> Option<&str> {
    match expr {
        ast::Expr::Value(value) => text_of(&value.value),
        ast::Expr::Nested(inner) | ast::Expr::Cast { expr: inner, .. } => text_default(inner),
        _ => None,
    }
}

/// An index of some parts, each once; or what in it is not known.
pub(super) fn index(reading: &ExpressionReader<'_>, parts: &[KeyPart], manner: &IndexManner) -> Result<Index, String> {
    let mut terms: Vec<IndexTerm> = Vec::new();
    for part in parts {
        let what = reading.term(&part.expr, None)?;
        if !terms.iter().any(|term| term.what == what) {
            terms.push(IndexTerm { what, descending: part.descending, nulls_first: part.nulls_first });
        }
    }
    let column = |name: &Name| (reading.column)(&name.text).ok_or_else(|| format!("the column `{}`", name.text));
    let include = manner.include.iter().map(column).collect::<Result<_, _>>()?;
    let among = manner.among.as_ref().map(|condition| reading.rule(&condition.expr)).transpose()?;
    Ok(Index { name: None, terms, unique: false, hashed: manner.hashed, include, among })
}

/// The columns of a key; none where one of its parts is an expression.
fn plain(draft: &DraftTable, parts: &[KeyPart], constraint: &Constraint) -> Result<Option<Vec<ColumnId>>, DdlError> {
    let mut columns = Vec::new();
    for part in parts {
        let ast::Expr::Identifier(name) = &part.expr else { return Ok(None) };
        let column = draft.column(&name.value).ok_or_else(|| {
            let mut error = DdlError::new(format!("table `{}` has no column `{}`", draft.name.text, name.value), constraint.span);
            error.hint = did_you_mean(&name.value, draft.columns.iter().map(|column| column.name.text.as_str()));
            error
        })?;
        if !columns.contains(&column) {
            columns.push(column);
        }
    }
    Ok(Some(columns))
}

fn check(
    table: &mut Table,
    condition: &Condition,
    find: &dyn Fn(&str) -> Option<ColumnId>,
    value: Option<ColumnId>,
    dialect: super::SqlDialect,
) {
    let rule = ExpressionReader::new(table, find, value, dialect).rule(&condition.expr);
    // A text that must be JSON is made as JSON.
    if let Ok(rule) = &rule {
        for part in rule.conjuncts() {
            if let Node::Call(Function::IsJson, terms) = &part.node
                && let Some(column) = terms.first().and_then(Rule::as_leaf)
                && matches!(table.columns[*column].kind, LogicalType::Text { .. })
            {
                table.columns[*column].form = ColumnForm::Json;
            }
        }
    }
    table.checks.push(Check { sql: condition.sql.clone(), rule, span: condition.span });
}

/// Joins a reference to its parent, now that all tables are there; gives what is other than the file says.
fn refer(
    schema: &mut Schema,
    find_table: &dyn Fn(&str) -> Option<TableId>,
    child: usize,
    draft: &DraftTable,
    constraint: &Constraint,
) -> Result<Option<String>, DdlError> {
    let ConstraintKind::Refers { columns, parent: parent_name, parent_columns, manner } = &constraint.kind else { return Ok(None) };
    let child_name = draft.name.text.clone();
    let span = parent_name.span;
    let Some(parent) = find_table(&parent_name.text) else {
        let mut error = DdlError::new(format!("`{child_name}` refers to `{}`, which no statement makes", parent_name.text), span);
        error.hint = did_you_mean(&parent_name.text, schema.tables.iter().map(|table| table.name.as_str()));
        return Err(error);
    };
    let find = |table: &Table, name: &str| {
        table.find(name).ok_or_else(|| {
            let mut error = DdlError::new(format!("table `{}` has no column `{name}`", table.name), constraint.span);
            error.hint = did_you_mean(name, table.columns.iter().map(|column| column.name.as_str()));
            error
        })
    };
    let own = &schema.tables[child];
    let columns: Vec<ColumnId> =
        columns.iter().map(|name| draft.column(name).map_or_else(|| find(own, name), Ok)).collect::<Result<_, _>>()?;
    let table = schema.table(parent);
    let parent_columns: Vec<ColumnId> = if parent_columns.is_empty() {
        table.primary_key.clone()
    } else {
        let theirs = parent_columns.iter().map(|name| {
            let to_refer = |error: DdlError| DdlError { message: format!("{} to refer to", error.message), span: name.span, ..error };
            find(table, &name.text).map_err(to_refer)
        });
        theirs.collect::<Result<_, _>>()?
    };
    let same = |key: &[ColumnId]| key.len() == parent_columns.len() && key.iter().all(|column| parent_columns.contains(column));
    let unique = !parent_columns.is_empty() && (same(&table.primary_key) || table.uniques.iter().any(|unique| same(&unique.columns)));
    let unique = unique || table.is_unique_key(&parent_columns);
    let (mut made_unique, fits) = (None, parent_columns.len() == columns.len());
    if fits && !unique && may_lead_to_index(schema.dialect) && table.is_indexed(&parent_columns) {
        let names: Vec<&str> = parent_columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
        made_unique = Some(format!(
            "`{child_name}` refers to {} of `{}`, which is indexed and not unique; its values are all made different, and a unique rule says so",
            names.join(", "),
            table.name
        ));
    } else if !fits || !unique {
        let message = format!("`{child_name}` refers to columns of `{}` that are not a key there", table.name);
        let hint = format!("refer to the primary key of `{}`, or declare the columns UNIQUE", table.name);
        return Err(DdlError::new(message, span).hint(hint));
    }
    if made_unique.is_some() {
        schema.tables[parent.0].uniques.push(Unique { columns: parent_columns.clone() });
    }
    let reference = Reference { columns, parent, parent_columns, manner: manner.clone(), span };
    let references = &mut schema.tables[child].references;
    if !references.iter().any(|known| known.columns == reference.columns && known.parent == parent) {
        references.push(reference);
    }
    Ok(made_unique)
}

/// Whether a reference may lead to columns that are indexed alone. MySQL lets it; where a file shows no dialect it may be MySQL's.
fn may_lead_to_index(dialect: super::SqlDialect) -> bool {
    matches!(dialect, super::SqlDialect::Mysql | super::SqlDialect::Standard)
}

/// Columns that refer hold the keys of their parents, whatever type they were given.
fn follow_types(schema: &mut Schema) {
    // A chain of references is as long as there are tables at most.
    for _ in 0..schema.tables.len().min(8) {
        let mut changed = false;
        for at in 0..schema.tables.len() {
            for reference in schema.tables[at].references.clone() {
                for (&own, &theirs) in reference.columns.iter().zip(&reference.parent_columns) {
                    let parent = &schema.tables[reference.parent.0].columns[theirs];
                    let (kind, form) = (parent.kind, parent.form);
                    let column = &mut schema.tables[at].columns[own];
                    if !column.kind.comparable_with(kind) {
                        (column.kind, column.form, column.default) = (kind, form, None);
                        changed = true;
                    }
                }
            }
        }
        if !changed {
            return;
        }
    }
}

/// The rows that statements of the file put in, those that fit: as many values as columns, each of its column's type. And how many do not.
fn seeds(table: &Table, draft: &DraftTable) -> (Vec<Vec<Option<Value>>>, usize) {
    let (mut rows, mut left_out) = (Vec::new(), 0);
    for seeds in &draft.seeds {
        let columns: Vec<Option<ColumnId>> = match &seeds.columns {
            Some(names) => names.iter().map(|name| draft.column(name)).collect(),
            None => (0..table.columns.len()).filter(|&at| table.columns[at].computed.is_none()).map(Some).collect(),
        };
        'rows: for row in &seeds.rows {
            if row.len() != columns.len() {
                left_out += 1;
                continue;
            }
            let mut values: Vec<Option<Value>> = vec![None; table.columns.len()];
            for (seed, column) in row.iter().zip(&columns) {
                let (Some(seed), Some(column)) = (seed, column) else { continue };
                let kind = table.columns[*column].kind;
                let value = match seed {
                    Seed::Null => Some(Value::Null),
                    Seed::Number(text) => number(text, Some(kind)),
                    Seed::Text(text) => typed(text, Some(kind)),
                    Seed::Boolean(truth) => match kind {
                        LogicalType::Integer => Some(Value::Integer(i64::from(*truth))),
                        _ => Some(Value::Boolean(*truth)),
                    },
                    Seed::Bytes(text) => hex(text).map(|bytes| Value::Blob(bytes.into())),
                };
                // A value that is not of the column's type, like a date of zeros, makes the row one that cannot be kept.
                let Some(value) = value.filter(|value| fits(value, kind)) else {
                    left_out += 1;
                    continue 'rows;
                };
                values[*column] = Some(value);
            }
            rows.push(values);
        }
    }
    (rows, left_out)
}

fn fits(value: &Value, kind: LogicalType) -> bool {
    match (value, kind) {
        (Value::Null, _)
        | (Value::Integer(_), LogicalType::Integer)
        | (Value::Decimal(..), LogicalType::Decimal { .. })
        | (Value::Real(_), LogicalType::Real)
        | (Value::Boolean(_), LogicalType::Boolean)
        | (Value::Date(_), LogicalType::Date)
        | (Value::Timestamp(_), LogicalType::Timestamp)
        | (Value::Uuid(_), LogicalType::Uuid)
        | (Value::Blob(_), LogicalType::Blob) => true,
        (Value::Text(text), LogicalType::Text { length }) => length.is_none_or(|length| text.chars().count() <= length as usize),
        _ => false,
    }
}
