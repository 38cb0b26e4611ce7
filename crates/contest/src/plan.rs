//! A contender as plain data: what it sends, and what it does with what comes back.

use kampf_schema::{HopKind, LogicalType, Value};
use serde::{Deserialize, Serialize};

use crate::choice::Hydration;
use crate::need::{Aggregate, Condition, OrderBy};

/// Everything a process needs to carry out a contender.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    /// What a row becomes.
    pub hydration: Hydration,
    /// How the rows of the other nodes are reached.
    pub reach: Reach,
    /// The statement that fetches the root rows, and with [`Reach::Joined`] all others too.
    pub root: RootStatement,
    /// One per table that rows are kept of.
    pub layouts: Vec<Layout>,
    /// The root, then every related set of rows, parents before children.
    pub nodes: Vec<PlanNode>,
    /// The values of the answer.
    pub give: Vec<AppTerm>,
    /// Filter left to the application.
    pub filter: Option<Condition<AppTerm>>,
    /// Sorting left to the application.
    pub order: Vec<OrderBy<AppTerm>>,
    /// Limit left to the application.
    pub limit: Option<u64>,
    /// Whether a call is wrapped in a transaction.
    #[serde(default)]
    pub transaction: bool,
    /// The columns are those the statement turns out to have, and all of them are the answer.
    #[serde(default)]
    pub open_columns: bool,
}

/// How the rows of nodes behind the root are reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Reach {
    /// There is only the root.
    Root,
    /// One statement per parent, when it is touched.
    Lazy,
    /// One statement per node and list of keys.
    Batched,
    /// All in the root's statement; repeated rows are recognised by their keys.
    Joined,
}

/// The statement for the root.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RootStatement {
    /// Its text.
    pub sql: String,
    /// What is bound to its placeholders, in order.
    pub binds: Vec<Bind>,
    /// Its result columns.
    pub columns: Vec<ResultColumn>,
}

/// What is bound to a placeholder.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Bind {
    /// A fixed value.
    Value(Value),
    /// The need's parameter at a place.
    Parameter(usize),
}

/// A result column.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ResultColumn {
    /// Its name.
    pub name: String,
    /// Its type; none where it is taken as the engine gives it.
    pub kind: Option<LogicalType>,
}

/// What is kept of a table's rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Layout {
    /// The table, or what the rows stand for.
    pub name: String,
    /// The columns kept.
    pub columns: Vec<LayoutColumn>,
    /// Places of the primary key's columns; empty where the table has none or they are not kept.
    pub key: Vec<usize>,
    /// How many relations of a row are kept with it.
    pub slots: usize,
}

/// A column that is kept.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LayoutColumn {
    /// Its name.
    pub name: String,
}

/// A set of related rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlanNode {
    /// Where its rows are kept.
    pub layout: usize,
    /// How it hangs on its parent; none for the root.
    pub link: Option<Link>,
    /// Nodes from below the root down to this one.
    pub path: Vec<usize>,
    /// Whether filter or order need its rows, for all roots; else only the rows of the answer need them.
    pub for_selection: bool,
    /// Its own statement, where it has one.
    pub statement: Option<RelationStatement>,
    /// Place of its first column in the joined row.
    pub offset: usize,
}

/// How a node hangs on its parent.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Link {
    /// The parent's node.
    pub parent: usize,
    /// The slot of the parent's rows.
    pub slot: usize,
    /// To one row or to many.
    pub kind: HopKind,
    /// Places of the linking columns in the parent's layout.
    pub from: Vec<usize>,
    /// Places of the linking columns in this node's layout.
    pub to: Vec<usize>,
    /// Whether `to` is the key that rows are known by, so that an identity map can answer.
    pub by_key: bool,
}

/// A statement that fetches related rows for one key, or for a list of keys.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RelationStatement {
    /// Text up to the keys.
    pub before: String,
    /// Text between two keys.
    pub between: String,
    /// Text behind the keys.
    pub after: String,
    /// Whether the columns of one key stand in parentheses.
    pub parentheses: bool,
    /// Most keys of one statement.
    pub most_keys: usize,
    /// Whether all keys are one parameter, a list.
    #[serde(default)]
    pub is_list: bool,
    /// The placeholder style: a text in which `#` stands for the number.
    pub placeholder: String,
    /// Its result columns.
    pub columns: Vec<ResultColumn>,
}

impl RelationStatement {
    /// The text for a number of keys of `width` columns.
    pub fn sql(&self, keys: usize, width: usize) -> String {
        // A list is one parameter, however many keys there are in it.
        let keys = if self.is_list { 1 } else { keys };
        let mut sql = String::with_capacity(self.before.len() + self.after.len() + keys * width * 6);
        sql.push_str(&self.before);
        let mut number = 0;
        for key in 0..keys {
            if key > 0 {
                sql.push_str(&self.between);
            }
            if self.parentheses {
                sql.push('(');
            }
            for column in 0..width {
                number += 1;
                if column > 0 {
                    sql.push_str(", ");
                }
                match self.placeholder.split_once('#') {
                    Some((head, tail)) => {
                        sql.push_str(head);
                        sql.push_str(&number.to_string());
                        sql.push_str(tail);
                    }
                    None => sql.push_str(&self.placeholder),
                }
            }
            if self.parentheses {
                sql.push(')');
            }
        }
        sql.push_str(&self.after);
        sql
    }
}

/// A value computed in the application from the rows that are there.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AppTerm {
    /// A kept column of the one row at a node.
    Column {
        /// The node; 0 for the root.
        node: usize,
        /// The column's place in the node's layout.
        column: usize,
    },
    /// An aggregate over the rows at a node.
    Aggregate {
        /// What is computed.
        function: Aggregate,
        /// The node.
        node: usize,
        /// The column's place; none where rows are counted.
        column: Option<usize>,
    },
}

impl Plan {
    /// Whether any of its statements has parameters.
    pub fn has_parameters(&self) -> bool {
        !self.root.binds.is_empty() || self.nodes.iter().any(|node| node.statement.is_some())
    }

    /// The texts a call sends, each once: the root's, then the one of each relation as it is for one key (lazy) or several (batched).
    pub fn statements(&self) -> Vec<String> {
        let mut statements = vec![self.root.sql.clone()];
        for node in &self.nodes {
            if let (Some(statement), Some(link)) = (&node.statement, &node.link) {
                let text = if statement.most_keys == 1 || statement.is_list {
                    statement.sql(1, link.to.len())
                } else {
                    format!("{}{}{}", statement.before, "…", statement.after)
                };
                if !statements.contains(&text) {
                    statements.push(text);
                }
            }
        }
        statements
    }
}
