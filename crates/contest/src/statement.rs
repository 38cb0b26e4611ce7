//! Statements as trees. They are printed when they are sent: what stands in them may depend on what parameters are given.

use kampf_schema::LogicalType;
use kampf_schema::expr::Expr;
use serde::{Deserialize, Serialize};

use crate::need::Aggregate;

/// A SELECT.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Select {
    /// Equal rows once.
    pub distinct: bool,
    /// What is selected; each group on a line of its own.
    pub columns: Vec<Vec<Selected>>,
    /// The first table.
    pub from: Table,
    /// What is joined to it.
    pub joins: Vec<Join>,
    /// What must hold, all of it.
    pub filter: Vec<Condition>,
    /// Parts of `filter` whose parameter is not given are left out of the text, with the joins that only they need; else each
    /// says so itself.
    pub only_given: bool,
    /// The columns of one key, or of each key of a list, that rows are wanted for.
    pub keys: Option<Keys>,
    /// What rows are grouped by.
    pub group: Vec<Expr<Term>>,
    /// What must hold of a group.
    pub having: Vec<Condition>,
    /// What is sorted by.
    pub order: Vec<SortKey>,
    /// At most so many rows.
    pub limit: Option<u64>,
    /// Only a portion of the rows, whose beginning and size are said when it is sent; they take the place of the limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<Window>,
}

/// Which portion of the rows is selected.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Window {
    /// Those from a place on.
    From,
    /// Those that are sorted behind the key of another row.
    Behind {
        /// The columns of the key.
        columns: Vec<Term>,
        /// Whether the largest comes first.
        descending: bool,
    },
}

/// A result column.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Selected {
    /// What it is.
    pub value: Expr<Term>,
    /// What it is called, where that is not what it would be called anyway.
    pub name: Option<String>,
}

/// A table of a FROM.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Table {
    /// One of the schema.
    Named {
        /// Its name.
        name: String,
        /// What it is called in the statement.
        alias: String,
    },
    /// The rows of another select.
    Derived {
        /// The select.
        select: Box<Select>,
        /// What it is called in the statement.
        alias: String,
        /// Whether it sees the row that it is joined to.
        lateral: bool,
    },
}

impl Table {
    /// What it is called in the statement.
    pub fn alias(&self) -> &str {
        match self {
            Table::Named { alias, .. } | Table::Derived { alias, .. } => alias,
        }
    }
}

/// A joined table.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Join {
    /// Rows without a partner stay.
    pub outer: bool,
    /// The table.
    pub table: Table,
    /// What must hold, all of it; nothing more for one that sees the row that it is joined to.
    pub on: Vec<Expr<Term>>,
    /// Only parts of the filter that may be left out need it.
    pub optional: bool,
}

/// Something that must hold.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Condition {
    /// What.
    pub condition: Expr<Term>,
    /// The parameter without which it does not count.
    pub only_if: Option<OnlyIf>,
}

/// A parameter that a condition counts only with.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct OnlyIf {
    /// Its place.
    pub parameter: usize,
    /// Its type.
    pub kind: LogicalType,
    /// Whether it is a list.
    pub is_list: bool,
}

/// The keys that rows are wanted for.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Keys {
    /// The columns that hold them.
    pub columns: Vec<Term>,
    /// Most keys of one statement; 1 where it is for a single key.
    pub most: usize,
    /// Whether all keys are one parameter, a list.
    pub is_list: bool,
}

/// What is sorted by.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SortKey {
    /// What.
    pub value: Expr<Term>,
    /// Largest first.
    pub descending: bool,
    /// Whether it may be null.
    pub nullable: bool,
}

/// What stands at the leaves of expressions in statements.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Term {
    /// A column of a table.
    Column {
        /// What the table is called; none where there is only one.
        table: Option<String>,
        /// Its name.
        name: String,
        /// Its type.
        kind: LogicalType,
    },
    /// A result column by its name.
    Output(String, LogicalType),
    /// The need's parameter at a place.
    Parameter(usize, LogicalType),
    /// A number of the statement's own, written and not bound.
    Constant(i64),
    /// An aggregate over the rows that are selected.
    Aggregate {
        /// The function.
        function: Aggregate,
        /// Whether equal values count once.
        distinct: bool,
        /// Of what; none where rows are counted.
        of: Option<Box<Expr<Term>>>,
        /// The type of the result.
        kind: LogicalType,
    },
    /// The one value of a select.
    Select(Box<Select>, LogicalType),
    /// Whether a select has any row.
    Exists(Box<Select>),
    /// The number of a row, from 1, among those of its part in an order.
    Place {
        /// What rows of a part have in common.
        part: Vec<Expr<Term>>,
        /// Their order.
        order: Vec<SortKey>,
    },
    /// The rows that are selected as one JSON text, an array of an array for each.
    JsonRows {
        /// What is wanted of each.
        items: Vec<JsonItem>,
        /// Their order; empty for any.
        order: Vec<SortKey>,
    },
    /// The JSON text that a select gives, for the application.
    Json(Box<Select>),
}

/// One item of each row in a JSON text.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct JsonItem {
    /// What it is.
    pub value: Expr<Term>,
    /// Whether it is an array of rows itself.
    pub is_json: bool,
}

impl Term {
    /// The type of its values.
    pub fn kind(&self) -> LogicalType {
        match self {
            Term::Column { kind, .. }
            | Term::Output(_, kind)
            | Term::Parameter(_, kind)
            | Term::Aggregate { kind, .. }
            | Term::Select(_, kind) => *kind,
            Term::Constant(_) | Term::Place { .. } => LogicalType::Integer,
            Term::JsonRows { .. } | Term::Json(_) => LogicalType::TEXT,
            Term::Exists(_) => LogicalType::Boolean,
        }
    }
}

impl Select {
    /// All rows and no columns of a table.
    pub(crate) fn from(table: Table) -> Select {
        Select {
            distinct: false,
            columns: Vec::new(),
            from: table,
            joins: Vec::new(),
            filter: Vec::new(),
            only_given: false,
            keys: None,
            group: Vec::new(),
            having: Vec::new(),
            order: Vec::new(),
            limit: None,
            window: None,
        }
    }

    /// The keys that rows are wanted for, where they stand.
    pub fn wanted_keys(&self) -> Option<&Keys> {
        match (&self.keys, &self.from) {
            (None, Table::Derived { select, .. }) => select.wanted_keys(),
            (keys, _) => keys.as_ref(),
        }
    }

    /// Whether the text of conditions depends on how many values a list has.
    pub(crate) fn varies_by(conditions: &[Condition]) -> bool {
        conditions.iter().any(|part| has_list(&part.condition))
    }

    /// Whether its text depends on which parameters are given, or on how many values a list has.
    pub fn varies(&self) -> bool {
        let varies = |conditions: &[Condition]| {
            conditions.iter().any(|part| (self.only_given && part.only_if.is_some()) || has_list(&part.condition))
        };
        varies(&self.filter)
            || varies(&self.having)
            || self.columns.iter().flatten().any(|column| has_list(&column.value))
            || self.group.iter().any(has_list)
            || self.order.iter().any(|key| has_list(&key.value))
            || self.joins.iter().any(|join| join.on.iter().any(has_list) || table_varies(&join.table))
            || table_varies(&self.from)
    }
}

fn table_varies(table: &Table) -> bool {
    matches!(table, Table::Derived { select, .. } if select.varies())
}

fn has_list(expr: &Expr<Term>) -> bool {
    use kampf_schema::expr::Node;
    match &expr.node {
        Node::InList(..) => true,
        Node::Leaf(Term::Select(select, _) | Term::Exists(select) | Term::Json(select)) => select.varies(),
        Node::Leaf(Term::Place { part, order }) => part.iter().any(has_list) || order.iter().any(|key| has_list(&key.value)),
        Node::Leaf(Term::JsonRows { items, order }) => {
            items.iter().any(|item| has_list(&item.value)) || order.iter().any(|key| has_list(&key.value))
        }
        Node::Leaf(Term::Aggregate { of: Some(of), .. }) => has_list(of),
        _ => expr.parts().into_iter().any(has_list),
    }
}
