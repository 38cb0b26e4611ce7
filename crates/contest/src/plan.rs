//! A contender as plain data: what it sends, and what it does with what comes back.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{HopKind, LogicalType, Value};
use serde::{Deserialize, Serialize};

use crate::choice::{Fetch, Hydration};
use crate::dialect::Dialect;
use crate::form::{Form, Item};
use crate::manner::Manner;
use crate::need::{Aggregate, Expect, Given, OrderBy};
use crate::sql::{Printed, Shape, print_select};
use crate::statement::Select;

/// Everything a process needs to carry out a contender.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    /// What a row becomes.
    pub hydration: Hydration,
    /// The statement that fetches the root rows, and those of all joined nodes.
    pub root: RootStatement,
    /// One per table that rows are kept of.
    pub layouts: Vec<Layout>,
    /// The root, then every related set of rows, parents before children.
    pub nodes: Vec<PlanNode>,
    /// Aggregates computed in the application.
    pub aggregates: Vec<AppAggregate>,
    /// Lists of the answer.
    #[serde(default)]
    pub lists: Vec<AppList>,
    /// Filter left to the application.
    pub filter: Option<Expr<AppLeaf>>,
    /// Grouping left to the application.
    pub group: Option<AppGroup>,
    /// The values of the answer.
    pub give: Vec<Expr<AppLeaf>>,
    /// Sorting left to the application.
    pub order: Vec<OrderBy<AppLeaf>>,
    /// Limit left to the application.
    pub limit: Option<u64>,
    /// How many rows must come.
    pub expect: Expect,
    /// What the engine was meant to do and cannot say.
    pub left: Vec<LeftToApp>,
    /// In what manner it is carried out.
    #[serde(default)]
    pub manner: Manner,
    /// The columns are those the statement turns out to have, and all of them are the answer.
    #[serde(default)]
    pub open_columns: bool,
}

/// How the rows of a node are reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Reach {
    /// In the root's statement.
    Joined,
    /// One statement for a list of keys.
    Batched,
    /// One statement per parent, when it is touched.
    Lazy,
    /// In a JSON text of the parent's row.
    Nested,
}

/// The statement for the root.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RootStatement {
    /// The statement.
    pub body: Body,
    /// Its result columns.
    pub columns: Vec<ResultColumn>,
}

/// A statement, not yet printed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Body {
    /// Made by Kampf.
    Select(Box<Select>),
    /// Written by a developer: texts, and behind each but the last the parameter that stands there.
    Written(Vec<String>, Vec<WrittenParameter>),
}

/// A parameter in a developer's SQL.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WrittenParameter {
    /// Its place among the contest's.
    pub at: usize,
    /// Whether it is a list.
    pub is_list: bool,
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
    /// Whether its rows are loaded as soon as their parents are, whoever needs them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub always: bool,
    /// Which of its rows count, as far as their statement does not say it.
    pub filter: Option<Expr<AppLeaf>>,
    /// Its own statement, where it has one.
    pub statement: Option<RelationStatement>,
    /// The node whose statement brings its rows: itself, or one above it.
    pub with: usize,
    /// Place of its first column in that statement's row; of a nested one the place of its text behind the first column of its parent.
    pub offset: usize,
    /// Of a nested one what the array of each row holds; the values are its layout's, in their order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cells: Vec<Cell>,
    /// The places of its layout's columns behind its first one, where they are not one after the other.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub takes: Vec<usize>,
}

/// One item of the array that is a row in a JSON text.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Cell {
    /// A value of a type.
    Value(LogicalType),
    /// The rows of a node.
    List(usize),
}

/// How a node hangs on its parent.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Link {
    /// How its rows are reached.
    pub reach: Reach,
    /// The parent's node.
    pub parent: usize,
    /// The slot of the parent's rows.
    pub slot: usize,
    /// To one row or to many.
    pub kind: HopKind,
    /// Places of the linking columns in the parent's layout.
    pub from: Vec<usize>,
    /// Places of the linking columns behind this node's first column in its statement's row.
    pub to: Vec<usize>,
    /// Whether `to` is the key that rows are known by, so that an identity map can answer.
    pub by_key: bool,
}

/// A statement that fetches related rows for one key, or for a list of keys.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RelationStatement {
    /// The statement; its keys say for how many it is.
    pub select: Select,
    /// Its result columns.
    pub columns: Vec<ResultColumn>,
}

impl RelationStatement {
    /// Most keys of one statement.
    pub fn most_keys(&self) -> usize {
        self.select.wanted_keys().map_or(1, |keys| keys.most)
    }

    /// Whether all keys are one parameter.
    pub fn is_list(&self) -> bool {
        self.select.wanted_keys().is_some_and(|keys| keys.is_list)
    }

    /// The text for a number of keys and some parameters.
    pub fn print(&self, dialect: &Dialect, keys: usize, parameters: &[Value]) -> Printed {
        let length = |at: usize| length_of(parameters, at);
        print_select(dialect, &self.select, &Shape { keys, length: &length, ..Shape::PLAIN })
    }
}

/// What the application knows of the rows that are there.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AppLeaf {
    /// A kept column of the one row at a node, seen from the row at hand.
    Column {
        /// The node; 0 for the root.
        node: usize,
        /// The column's place in the node's layout.
        column: usize,
    },
    /// The aggregate at a place.
    Aggregate(usize),
    /// The parameter at a place.
    Parameter(usize),
    /// The group's term at a place.
    Key(usize),
    /// The group's aggregate at a place.
    Total(usize),
    /// The list at a place; all of what is given there.
    List(usize),
}

/// A list of the rows at a node.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AppList {
    /// The node at whose rows it stands.
    pub at: usize,
    /// The node of its rows.
    pub over: usize,
    /// Sorting left to the application.
    pub order: Vec<OrderBy<AppLeaf>>,
    /// Limit left to the application.
    pub limit: Option<u64>,
    /// What is given of each row.
    pub give: Vec<Expr<AppLeaf>>,
}

/// An aggregate over the rows at a node.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AppAggregate {
    /// The node at whose rows it stands.
    pub at: usize,
    /// The node that it goes over.
    pub over: usize,
    /// What is computed.
    pub fold: AppFold,
}

/// What is computed of several rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AppFold {
    /// The function.
    pub function: Aggregate,
    /// Whether equal values count once.
    pub distinct: bool,
    /// Of what; none where rows are counted.
    pub of: Option<Expr<AppLeaf>>,
    /// In which order the first row is looked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub order: Vec<OrderBy<AppLeaf>>,
}

/// What root rows are grouped by, and what is computed of each group.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AppGroup {
    /// The terms; without any, all rows are one group.
    pub keys: Vec<Expr<AppLeaf>>,
    /// The aggregates over a group's rows.
    pub totals: Vec<AppFold>,
}

/// Something that the engine was meant to do and cannot say.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LeftToApp {
    /// What it is.
    pub what: LeftPart,
    /// Why, in words that follow on the engine's name.
    pub why: String,
}

/// A part of a need that is done where it is left to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum LeftPart {
    /// A part of the condition, by its place.
    Condition(usize),
    /// The order, and with it the limit and the groups that are in order.
    Order,
    /// Grouping, with all that follows.
    Grouping,
    /// An aggregate over related rows, by its place.
    Aggregate(usize),
    /// A list of related rows, by its place.
    List(usize),
}

impl Plan {
    /// Rows of one statement whose columns are the answer as they come.
    pub(crate) fn as_it_comes(hydration: Hydration, body: Body, row: &str, give: &[Given], expect: Expect) -> Plan {
        let items: Vec<Item> = give.iter().map(|given| Item { name: given.name.clone(), form: given.form.clone() }).collect();
        let mut read = AsItComes::default();
        let give = read.rows(row, &items, PlanNode::root());
        let values = items.iter().enumerate().filter(|(_, item)| item.form.kind().is_some()).map(|(at, _)| at);
        if !read.lists.is_empty() {
            read.nodes[0].takes = values.collect();
        }
        Plan {
            hydration,
            root: RootStatement {
                body,
                columns: items
                    .iter()
                    .map(|item| ResultColumn { name: item.name.clone(), kind: Some(item.form.kind().unwrap_or(LogicalType::TEXT)) })
                    .collect(),
            },
            layouts: read.layouts,
            nodes: read.nodes,
            aggregates: Vec::new(),
            lists: read.lists,
            filter: None,
            group: None,
            give,
            order: Vec::new(),
            limit: None,
            expect,
            left: Vec::new(),
            manner: Manner::default(),
            open_columns: false,
        }
    }

    /// Whether any of its statements has parameters.
    pub fn has_parameters(&self, dialect: &Dialect) -> bool {
        !self.root.print(dialect, &Shape::PLAIN).binds.is_empty() || self.nodes.iter().any(|node| node.statement.is_some())
    }

    /// Whether nothing is given but columns that are kept of the root's rows.
    pub(crate) fn gives_columns(&self) -> bool {
        self.give.iter().all(|value| matches!(value.as_leaf(), Some(AppLeaf::Column { node: 0, .. })))
    }

    /// The place in the row of the root's statement of a column that is kept of it.
    pub(crate) fn place(&self, column: usize) -> usize {
        self.nodes[0].takes.get(column).copied().unwrap_or(column)
    }

    /// The places in that row of all that is given; none where something else than columns is given.
    pub(crate) fn places(&self) -> Option<Vec<usize>> {
        let place = |leaf: &AppLeaf| if let AppLeaf::Column { column, .. } = leaf { Some(self.place(*column)) } else { None };
        self.give.iter().map(|value| value.as_leaf().and_then(place)).collect()
    }

    /// Whether the root's rows come one by one as they are, so that values can be used in place.
    pub fn is_plain_stream(&self) -> bool {
        let is_there = |node: &PlanNode| node.link.as_ref().is_none_or(|link| link.reach == Reach::Nested);
        self.nodes.iter().all(is_there) && self.filter.is_none() && self.group.is_none() && self.order.is_empty() && self.limit.is_none()
    }

    /// The texts a call sends, each once: the root's, then the one of each relation as it is for one key (lazy) or several (batched).
    pub fn statements(&self, dialect: &Dialect) -> Vec<String> {
        self.sent(dialect).into_iter().map(|(text, _)| text).collect()
    }

    /// The same, each with how rows are reached by it; none for the root's.
    pub fn sent(&self, dialect: &Dialect) -> Vec<(String, Option<Reach>)> {
        self.each_sent(dialect, &|printed| printed.sql.clone())
    }

    /// The same as a person copies it, with the names of parameters.
    pub fn named(&self, dialect: &Dialect, parameters: &[String]) -> Vec<(String, Option<Reach>)> {
        self.each_sent(dialect, &|printed| printed.named(dialect, parameters))
    }

    fn each_sent(&self, dialect: &Dialect, text: &dyn Fn(&Printed) -> String) -> Vec<(String, Option<Reach>)> {
        let first = Shape { size: u64::from(self.manner.size), ..Shape::PLAIN };
        let mut statements = vec![(text(&self.root.print(dialect, &first)), None)];
        if self.manner.fetch == Fetch::Chunks {
            statements.push((text(&self.root.print(dialect, &Shape { is_first: false, ..first })), None));
        }
        for (node, statement) in self.nodes.iter().filter_map(|node| Some((node, node.statement.as_ref()?))) {
            let below = text(&print_select(dialect, &statement.select, &Shape { abridged: true, ..Shape::PLAIN }));
            if !statements.iter().any(|(known, _)| *known == below) {
                statements.push((below, node.link.as_ref().map(|link| link.reach)));
            }
        }
        statements
    }
}

/// Rows as a statement gives them, with lists as JSON texts.
#[derive(Default)]
struct AsItComes {
    layouts: Vec<Layout>,
    nodes: Vec<PlanNode>,
    lists: Vec<AppList>,
}

impl AsItComes {
    /// Adds the node of some rows and those of the lists in them, and says what is given of each row.
    fn rows(&mut self, name: &str, items: &[Item], node: PlanNode) -> Vec<Expr<AppLeaf>> {
        let own = self.nodes.len();
        let columns = items.iter().filter(|item| item.form.kind().is_some()).map(|item| LayoutColumn { name: item.name.clone() });
        let slots = items.iter().filter(|item| item.form.list().is_some()).count();
        self.layouts.push(Layout { name: name.to_owned(), columns: columns.collect(), key: Vec::new(), slots });
        let path = node.path.clone();
        self.nodes.push(node);
        let (mut give, mut values, mut slot) = (Vec::new(), 0, 0);
        for (place, item) in items.iter().enumerate() {
            let leaf = match &item.form {
                Form::Value(kind) => {
                    self.nodes[own].cells.push(Cell::Value(*kind));
                    values += 1;
                    AppLeaf::Column { node: own, column: values - 1 }
                }
                Form::List(form) => {
                    let over = self.nodes.len();
                    self.nodes[own].cells.push(Cell::List(over));
                    let link = Some(Link::nested(own, slot));
                    let path = path.iter().copied().chain([over]).collect();
                    let inside =
                        self.rows(&item.name, &form.items, PlanNode { layout: over, link, path, offset: place, ..PlanNode::root() });
                    slot += 1;
                    self.lists.push(AppList { at: own, over, order: Vec::new(), limit: None, give: inside });
                    AppLeaf::List(self.lists.len() - 1)
                }
            };
            give.push(Node::Leaf(leaf).into());
        }
        if own == 0 {
            self.nodes[0].cells.clear();
        }
        give
    }
}

impl Link {
    /// Rows in a JSON text of their parent's.
    pub(crate) fn nested(parent: usize, slot: usize) -> Link {
        Link { reach: Reach::Nested, parent, slot, kind: HopKind::Many, from: Vec::new(), to: Vec::new(), by_key: false }
    }
}

impl PlanNode {
    /// The root's.
    pub(crate) fn root() -> PlanNode {
        PlanNode {
            layout: 0,
            link: None,
            path: Vec::new(),
            for_selection: true,
            always: false,
            filter: None,
            statement: None,
            with: 0,
            offset: 0,
            cells: Vec::new(),
            takes: Vec::new(),
        }
    }
}

impl AppLeaf {
    /// A column of the root's row.
    pub(crate) fn of_root(column: usize) -> Expr<AppLeaf> {
        Node::Leaf(AppLeaf::Column { node: 0, column }).into()
    }
}

impl RootStatement {
    /// The text for a shape.
    pub fn print(&self, dialect: &Dialect, shape: &Shape<'_>) -> Printed {
        self.body.print(dialect, shape)
    }

    /// Whether its text depends on which parameters are given, or on how many values a list has.
    pub fn varies(&self) -> bool {
        match &self.body {
            Body::Select(select) => select.varies(),
            Body::Written(_, parameters) => parameters.iter().any(|parameter| parameter.is_list),
        }
    }
}

/// How many values a parameter has, for the shape of a statement.
pub(crate) fn length_of(parameters: &[Value], at: usize) -> Option<usize> {
    match parameters.get(at) {
        None | Some(Value::Null) => None,
        Some(Value::List(values)) => Some(values.len()),
        Some(_) => Some(1),
    }
}
