//! A contest: what must come back, the ways of getting it, and what each way sends and does.
//!
//! A need is resolved against a schema ([`resolve`]); contenders follow from it ([`Field`]); each contender becomes a
//! [`Plan`], plain data that can be printed, compared and sent to another process; the layers carry a plan out over a
//! [`Session`] ([`Execution`]); answers are compared ([`compare`]) against one reference, which for small data is the plain
//! evaluation over the generated rows ([`evaluate`]). No driver, clock, terminal or environment is known here.

mod answer;
mod by_hand;
mod candidates;
mod choice;
mod compare;
mod dialect;
mod engine;
mod evaluate;
mod field;
mod form;
mod key;
mod keyed;
mod layers;
mod manner;
mod matching;
mod measure;
mod multiplied;
mod need;
mod plan;
mod planner;
mod query_plan;
mod ranges;
mod resolve;
mod sql;
mod statement;
mod words;
mod write;

pub use answer::{Answer, AnswerError, answer_row_from_json, digest, value_from_json, value_to_json};
pub use by_hand::ByHand;
pub use candidates::{IndexCandidate, bare_references, candidates};
pub use choice::{
    Back, Batch, Cache, Choice, ChoiceEntry, ChoiceOption, Choices, Columns, Commit, Fetch, Filters, Habit, Hang, Hydration, Label,
    Loading, Opt, OptionEntry, Path, Restriction, Statement, Unit, Work,
};
pub use compare::{Agreement, Difference, Reference, Unclear, compare};
pub use dialect::{Dialect, Fidelity, Json, KeyList, RowList};
pub use engine::{
    BulkInto, EngineError, EngineErrorKind, Flow, GroupUnit, Grouped, Observed, Portions, Sent, Session, Sink, StatementId, Traffic,
};
pub use evaluate::{Overflow, PlainEvaluation, RootRow, RowSource, evaluate, rows_with_keys};
pub use field::{Field, NotDerived};
pub use form::{Form, Item, ListForm, Sequence};
pub use keyed::{KeyedNeed, OldKey};
pub use layers::{Collect, Consumer, Execution, Touch};
pub use manner::Manner;
pub use matching::agree as rows_agree;
pub use measure::{Counted, Counter, Grain, How, Measure, MeasureEntry, Measured, Quantity};
pub use multiplied::Multiplied;
pub use need::{Aggregate, AggregateOver, Expect, Fold, Given, Group, Leaf, ListOver, Need, OrderBy, Parameter, Part, Source};
pub use plan::{
    AppAggregate, AppFold, AppGroup, AppLeaf, Body, Layout, LayoutColumn, LeftPart, LeftToApp, Link, Plan, PlanNode, Reach,
    RelationStatement, ResultColumn, RootStatement,
};
pub use planner::{Reached, derive, reached};
pub use query_plan::{Access, Came, JoinWay, QueryAct, QueryPlan, QueryStep};
pub use ranges::Ranges;
pub use resolve::{NeedError, NeedPart, NeedText, WriteText, resolve, resolve_write};
pub use sql::{Bind, OwnSqlError, Printed, Shape, literal, own_sql, print_select, rule_sql};
pub use statement::{Condition, Join, Keys, OnlyIf, Select, Selected, SortKey, Table, Term, Window};
pub use words::Telling;
pub use write::{
    Act, AlsoNew, BatchPlan, Change, Effect, Effects, InsertStep, NewColumn, NewRow, OwnWrite, RowsOf, TableEffect, TableReader,
    TableState, Write, WriteError, WriteExecution, WritePlan, WriteStep, Written, derive_write, generated_key, own_write,
};
