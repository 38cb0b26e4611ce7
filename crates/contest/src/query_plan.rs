//! How an engine means to carry out a statement: one model for all engines.

use serde::Serialize;

/// A query plan.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct QueryPlan {
    /// What is done, the last step first; each with those before it below.
    pub steps: Vec<QueryStep>,
    /// The same in the engine's own lines, indented by depth.
    pub own: Vec<String>,
}

/// One step of a plan.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct QueryStep {
    /// What is done.
    #[serde(flatten)]
    pub act: QueryAct,
    /// Rows that are expected each time it is done, where the engine says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<f64>,
    /// The engine's own measure of the work up to here, in its own unit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<f64>,
    /// Bytes of a row that are expected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub width: Option<u64>,
    /// What came of it, where the statement was carried out to see.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub came: Option<Came>,
    /// A condition that rows of the step are held against.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Whether it is done again for each row of the step above.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub repeated: bool,
    /// The steps that it works on.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub below: Vec<QueryStep>,
}

/// What came of a step.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Came {
    /// Rows each time, on average.
    pub rows: f64,
    /// Times that it was done.
    pub times: f64,
    /// Rows that its filter took away each time, on average.
    pub dropped: f64,
    /// Nanoseconds of all times together, those of the steps below included.
    pub nanos: f64,
}

/// What a step does.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "does")]
pub enum QueryAct {
    /// Reads rows of a table.
    Read {
        /// The table, or what the statement calls it where more is not known.
        table: String,
        /// How it gets at them.
        #[serde(flatten)]
        access: Access,
    },
    /// Joins the rows of the steps below.
    Join {
        /// How.
        way: JoinWay,
    },
    /// Sorts rows.
    Sort {
        /// By what, where the engine says.
        #[serde(skip_serializing_if = "Option::is_none")]
        by: Option<String>,
        /// Kibibytes on disk, where they did not fit into the memory for it.
        #[serde(skip_serializing_if = "Option::is_none")]
        on_disk: Option<u64>,
    },
    /// Makes groups of rows, or leaves out equal ones.
    Group,
    /// Ends after so many rows.
    Limit,
    /// Something else, in the engine's words.
    Other {
        /// These.
        words: String,
    },
}

/// How a step gets at the rows of a table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "access")]
pub enum Access {
    /// It reads all of them.
    Whole,
    /// It reads all of them, in the order of an index.
    WholeInOrder {
        /// The index.
        index: String,
    },
    /// It finds them by an index, and looks up each in the table.
    Index {
        /// The index.
        index: String,
        /// By what.
        by: String,
    },
    /// It reads the index alone, which holds all that is wanted.
    IndexOnly {
        /// The index.
        index: String,
        /// By what; all of it where there is nothing.
        by: String,
    },
    /// It finds them by the table's own key.
    Key {
        /// By what.
        by: String,
    },
    /// It makes an index for this one statement.
    MadeForIt {
        /// By what.
        by: String,
    },
}

/// How rows are joined.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum JoinWay {
    /// For each row of the first the rows of the others are looked for.
    Nested,
    /// By a hash of the smaller side.
    Hash,
    /// Along the order of both.
    Merge,
}

impl QueryStep {
    /// A step that says nothing else.
    pub fn of(act: QueryAct) -> QueryStep {
        QueryStep { act, rows: None, cost: None, width: None, came: None, filter: None, repeated: false, below: Vec::new() }
    }

    fn visit<'a>(&'a self, each: &mut dyn FnMut(&'a QueryStep)) {
        each(self);
        self.below.iter().for_each(|step| step.visit(each));
    }
}

impl QueryPlan {
    /// All steps, those above before those below.
    pub fn all(&self) -> Vec<&QueryStep> {
        let mut all = Vec::new();
        self.steps.iter().for_each(|step| step.visit(&mut |step| all.push(step)));
        all
    }

    /// Whether an index of a name is used.
    pub fn uses(&self, name: &str) -> bool {
        self.all().into_iter().any(|step| match &step.act {
            QueryAct::Read {
                access: Access::WholeInOrder { index } | Access::Index { index, .. } | Access::IndexOnly { index, .. },
                ..
            } => index == name,
            _ => false,
        })
    }

    /// How each table is read, in the order of the plan.
    pub fn reads<'a>(&'a self) -> Vec<(&'a str, &'a Access)> {
        let read = |step: &'a QueryStep| match &step.act {
            QueryAct::Read { table, access } => Some((table.as_str(), access)),
            _ => None,
        };
        self.all().into_iter().filter_map(read).collect()
    }
}
