//! The schema on its way: tables as the statements so far have made them, everything still under its name.

use std::collections::HashMap;
use std::ops::{Deref, DerefMut};

use sqlparser::ast;

use super::read::DdlError;
use super::tokens::Name;
use crate::model::ColumnForm;
use crate::place::Span;
use crate::types::LogicalType;

/// What a type means for a column.
#[derive(Clone, Debug)]
pub(super) struct Meaning {
    pub(super) kind: LogicalType,
    pub(super) form: ColumnForm,
    pub(super) limits: Option<(i64, i64)>,
    pub(super) words: Vec<String>,
    pub(super) numbered: bool,
    pub(super) nullable: bool,
    pub(super) default: Option<ast::Expr>,
    /// Conditions on `VALUE`, of a domain.
    pub(super) checks: Vec<Condition>,
}

impl Meaning {
    pub(super) fn of(kind: LogicalType) -> Meaning {
        Meaning {
            kind,
            form: ColumnForm::Plain,
            limits: None,
            words: Vec::new(),
            numbered: false,
            nullable: true,
            default: None,
            checks: Vec::new(),
        }
    }
}

/// A condition with its text and place.
#[derive(Clone, Debug)]
pub(super) struct Condition {
    pub(super) expr: ast::Expr,
    pub(super) sql: String,
    pub(super) span: Span,
}

/// A column.
#[derive(Clone, Debug)]
pub(super) struct DraftColumn {
    pub(super) name: Name,
    /// Names it had before; conditions written then still use them.
    pub(super) former: Vec<String>,
    pub(super) meaning: Result<Meaning, DdlError>,
    pub(super) nullable: bool,
    pub(super) default: Option<ast::Expr>,
    pub(super) computed: Option<ast::Expr>,
    pub(super) numbered: bool,
}

/// One part of a key or an index.
#[derive(Clone, Debug)]
pub(super) struct KeyPart {
    pub(super) expr: ast::Expr,
    /// So many characters of it only.
    pub(super) length: Option<u32>,
    pub(super) descending: bool,
    pub(super) nulls_first: Option<bool>,
}

impl KeyPart {
    pub(super) fn of(expr: ast::Expr) -> KeyPart {
        KeyPart { expr, length: None, descending: false, nulls_first: None }
    }
}

/// What an index is besides its parts.
#[derive(Clone, Debug, std::default::Default)]
pub(super) struct IndexManner {
    pub(super) hashed: bool,
    pub(super) include: Vec<Name>,
    pub(super) among: Option<Condition>,
}

/// A rule of a table.
#[derive(Clone, Debug)]
pub(super) struct Constraint {
    pub(super) name: Option<String>,
    pub(super) kind: ConstraintKind,
    pub(super) span: Span,
}

#[derive(Clone, Debug)]
pub(super) enum ConstraintKind {
    Primary(Vec<KeyPart>),
    Unique(Vec<KeyPart>, Option<Condition>),
    Index(Vec<KeyPart>, IndexManner),
    Refers { columns: Vec<String>, parent: Name, parent_columns: Vec<Name>, manner: String },
    Check(Condition),
}

/// A fixed value as a statement that puts rows in writes it.
#[derive(Clone, Debug)]
pub(super) enum Seed {
    Null,
    Number(String),
    Text(String),
    Boolean(bool),
    Bytes(String),
}

/// A statement's rows: the columns it names, and a value for each; none where it computes one.
#[derive(Clone, Debug)]
pub(super) struct SeedRows {
    pub(super) columns: Option<Vec<String>>,
    pub(super) rows: Vec<Vec<Option<Seed>>>,
}

/// Tables in their order, found by their names.
#[derive(Debug, Default)]
pub(super) struct DraftTables {
    list: Vec<DraftTable>,
    /// The first table of each name, as it is written and in small letters.
    exact: HashMap<String, usize>,
    folded: HashMap<String, usize>,
}

impl DraftTables {
    /// The table of a name, upper and lower case alike.
    pub(super) fn find(&self, name: &str) -> Option<usize> {
        self.exact.get(name).or_else(|| self.folded.get(&name.to_ascii_lowercase())).copied()
    }

    pub(super) fn push(&mut self, table: DraftTable) {
        self.note(self.list.len(), &table.name.text);
        self.list.push(table);
    }

    pub(super) fn remove(&mut self, at: usize) {
        self.list.remove(at);
        self.note_all();
    }

    /// Gives a table another name and gives the one it had.
    pub(super) fn rename(&mut self, at: usize, new: &Name) -> Name {
        let old = std::mem::replace(&mut self.list[at].name, new.clone());
        self.note_all();
        old
    }

    pub(super) fn into_list(self) -> Vec<DraftTable> {
        self.list
    }

    fn note(&mut self, at: usize, name: &str) {
        self.exact.entry(name.to_owned()).or_insert(at);
        self.folded.entry(name.to_ascii_lowercase()).or_insert(at);
    }

    fn note_all(&mut self) {
        self.exact.clear();
        self.folded.clear();
        let names: Vec<String> = self.list.iter().map(|table| table.name.text.clone()).collect();
        names.iter().enumerate().for_each(|(at, name)| self.note(at, name));
    }
}

/// A table may be changed in place, but for its name.
impl Deref for DraftTables {
    type Target = [DraftTable];

    fn deref(&self) -> &[DraftTable] {
        &self.list
    }
}

impl DerefMut for DraftTables {
    fn deref_mut(&mut self) -> &mut [DraftTable] {
        &mut self.list
    }
}

/// A table.
#[derive(Clone, Debug)]
pub(super) struct DraftTable {
    pub(super) name: Name,
    pub(super) columns: Vec<DraftColumn>,
    pub(super) constraints: Vec<Constraint>,
    pub(super) seeds: Vec<SeedRows>,
    /// How many rows these are.
    pub(super) seeded: usize,
    /// Why it cannot be used, if it is still there in the end.
    pub(super) unreadable: Option<DdlError>,
}

impl DraftTable {
    pub(super) fn new(name: Name) -> DraftTable {
        DraftTable { name, columns: Vec::new(), constraints: Vec::new(), seeds: Vec::new(), seeded: 0, unreadable: None }
    }

    pub(super) fn column(&self, name: &str) -> Option<usize> {
        let at = |fits: &dyn Fn(&DraftColumn) -> bool| self.columns.iter().position(fits);
        at(&|column| column.name.text == name)
            .or_else(|| at(&|column| column.name.text.eq_ignore_ascii_case(name)))
            .or_else(|| at(&|column| column.former.iter().any(|former| former.eq_ignore_ascii_case(name))))
    }

    /// The name a rule has by itself where it was given none, as PostgreSQL makes it.
    pub(super) fn own_name(&self, constraint: &Constraint) -> String {
        let table = &self.name.text;
        let columns = |parts: &[KeyPart]| parts.iter().map(|part| part.expr.to_string()).collect::<Vec<_>>().join("_");
        match &constraint.kind {
            ConstraintKind::Primary(_) => format!("{table}_pkey"),
            ConstraintKind::Unique(parts, _) => format!("{table}_{}_key", columns(parts)),
            ConstraintKind::Index(parts, _) => format!("{table}_{}_idx", columns(parts)),
            ConstraintKind::Refers { columns, .. } => format!("{table}_{}_fkey", columns.join("_")),
            ConstraintKind::Check(condition) => {
                let mut named = Vec::new();
                let words = condition.sql.split(|c: char| !(c.is_alphanumeric() || c == '_'));
                named.extend(words.filter_map(|word| self.column(word)));
                named.dedup();
                match named.as_slice() {
                    [one] => format!("{table}_{}_check", self.columns[*one].name.text),
                    _ => format!("{table}_check"),
                }
            }
        }
    }

    /// Removes the rule of a name; false where there is none.
    pub(super) fn drop_constraint(&mut self, name: &str) -> bool {
        let named = |constraint: &Constraint| constraint.name.as_deref().is_some_and(|own| own.eq_ignore_ascii_case(name));
        let at = self.constraints.iter().position(named);
        let at = at.or_else(|| self.constraints.iter().position(|constraint| self.own_name(constraint).eq_ignore_ascii_case(name)));
        at.map(|at| self.constraints.remove(at)).is_some()
    }

    /// Removes a column with the rules that name it.
    pub(super) fn drop_column(&mut self, at: usize) {
        let name = self.columns[at].name.text.clone();
        let is = |other: &str| other.eq_ignore_ascii_case(&name);
        let in_text = |text: &str| text.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(is);
        let in_parts = |parts: &[KeyPart]| parts.iter().any(|part| in_text(&part.expr.to_string()));
        self.constraints.retain(|constraint| match &constraint.kind {
            ConstraintKind::Primary(parts) | ConstraintKind::Unique(parts, _) => !in_parts(parts),
            ConstraintKind::Index(parts, manner) => {
                !in_parts(parts)
                    && !manner.include.iter().any(|column| is(&column.text))
                    && !manner.among.as_ref().is_some_and(|among| in_text(&among.sql))
            }
            ConstraintKind::Refers { columns, .. } => !columns.iter().any(|column| is(column)),
            ConstraintKind::Check(condition) => !in_text(&condition.sql),
        });
        for seeds in &mut self.seeds {
            match &mut seeds.columns {
                Some(columns) => {
                    if let Some(place) = columns.iter().position(|column| column.eq_ignore_ascii_case(&name)) {
                        columns.remove(place);
                        seeds.rows.iter_mut().filter(|row| row.len() > place).for_each(|row| {
                            row.remove(place);
                        });
                    }
                }
                None => seeds.rows.iter_mut().filter(|row| row.len() > at).for_each(|row| {
                    row.remove(at);
                }),
            }
        }
        self.columns.remove(at);
    }

    /// Gives a column another name, in the rules that name it too.
    pub(super) fn rename_column(&mut self, at: usize, new: &Name) {
        let old = std::mem::replace(&mut self.columns[at].name, new.clone()).text;
        for constraint in &mut self.constraints {
            match &mut constraint.kind {
                ConstraintKind::Refers { columns, .. } => {
                    columns.iter_mut().filter(|column| column.eq_ignore_ascii_case(&old)).for_each(|column| column.clone_from(&new.text));
                }
                ConstraintKind::Primary(parts) | ConstraintKind::Unique(parts, _) | ConstraintKind::Index(parts, _) => {
                    for part in parts {
                        if let ast::Expr::Identifier(ident) = &mut part.expr
                            && ident.value.eq_ignore_ascii_case(&old)
                        {
                            ident.value.clone_from(&new.text);
                        }
                    }
                }
                ConstraintKind::Check(_) => {}
            }
        }
        for seeds in &mut self.seeds {
            let columns = seeds.columns.iter_mut().flatten();
            columns.filter(|column| column.eq_ignore_ascii_case(&old)).for_each(|column| column.clone_from(&new.text));
        }
        self.columns[at].former.push(old);
    }
}
