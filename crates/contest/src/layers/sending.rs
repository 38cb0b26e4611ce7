//! Statements as a call sends them.

use std::rc::Rc;

use kampf_schema::{LogicalType, Value, ValueRef};

use crate::choice::Statement;
use crate::engine::{EngineError, Sent, Session, StatementId};
use crate::sql::Bind;

/// A statement that is ready to be sent, with what is bound to it.
#[derive(Clone)]
pub(crate) struct Ready {
    pub(crate) form: SentForm,
    pub(crate) binds: Vec<Bind>,
}

/// In what form it is sent.
#[derive(Clone)]
pub(crate) enum SentForm {
    /// Prepared, and kept by the session.
    Kept(StatementId),
    /// As a text, with what its columns mean.
    Text(Rc<str>, Rc<[Option<LogicalType>]>),
}

impl Ready {
    pub(crate) fn of(
        session: &mut dyn Session,
        statement: Statement,
        sql: String,
        binds: Vec<Bind>,
        kinds: &[Option<LogicalType>],
    ) -> Result<Ready, EngineError> {
        let form = match statement {
            Statement::Prepared => SentForm::Kept(session.prepare(&sql, kinds)?),
            Statement::Built | Statement::Parsed => SentForm::Text(sql.into(), kinds.into()),
        };
        Ok(Ready { form, binds })
    }

    pub(crate) fn sent(&self) -> Sent<'_> {
        match &self.form {
            SentForm::Kept(id) => Sent::Kept(*id),
            SentForm::Text(sql, kinds) => Sent::Text { sql, kinds },
        }
    }
}

/// How far rows have been read in portions.
#[derive(Default)]
pub(crate) struct Progress {
    /// Rows read before.
    pub(crate) before: u64,
    /// The key of the last one.
    pub(crate) last: Vec<Value>,
}

impl Progress {
    /// Nothing was read.
    pub(crate) const NONE: &'static Progress = &Progress { before: 0, last: Vec::new() };
}

/// What is bound to a statement, in order.
pub(crate) fn bound<'v>(binds: &'v [Bind], parameters: &'v [Value], keys: &'v [Value], progress: &'v Progress) -> Vec<ValueRef<'v>> {
    let one = |bind: &'v Bind| match bind {
        Bind::Value(value) => value.as_ref(),
        Bind::Parameter(at) => parameters.get(*at).map_or(ValueRef::Null, Value::as_ref),
        Bind::Item(at, item) => match parameters.get(*at) {
            Some(Value::List(values)) => values.get(*item).map_or(ValueRef::Null, Value::as_ref),
            _ => ValueRef::Null,
        },
        Bind::Key(at) => keys.get(*at).map_or(ValueRef::Null, Value::as_ref),
        Bind::Keys => ValueRef::List(keys),
        Bind::Before => ValueRef::Integer(progress.before.cast_signed()),
        Bind::Last(at) => progress.last.get(*at).map_or(ValueRef::Null, Value::as_ref),
    };
    binds.iter().map(one).collect()
}
