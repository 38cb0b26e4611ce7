//! Conditions and sort terms as SQL.

use kampf_schema::Value;
use kampf_schema::expr::TextMatch;

use super::fragment::Sql;
use crate::dialect::Dialect;
use crate::need::{Condition, Operand};

/// A condition as SQL; `term` gives the SQL of a term.
pub(crate) fn condition<T>(dialect: &Dialect, of: &Condition<T>, term: &mut impl FnMut(&T) -> Sql) -> Sql {
    match of {
        Condition::Compare(comparison, left, right) => {
            let mut sql = operand(left, term);
            sql.push(&format!(" {} ", comparison.symbol())).add(operand(right, term));
            sql
        }
        Condition::In(value, list) => {
            let mut sql = operand(value, term);
            sql.push(" IN (").add(Sql::join(list.iter().map(|item| operand(item, term)), ", ")).push(")");
            sql
        }
        Condition::Between(value, low, high) => {
            let mut sql = operand(value, term);
            sql.push(" BETWEEN ").add(operand(low, term)).push(" AND ").add(operand(high, term));
            sql
        }
        Condition::IsNull(value) => {
            let mut sql = operand(value, term);
            sql.push(" IS NULL");
            sql
        }
        Condition::Match(kind, text, pattern) => {
            let template = match kind {
                TextMatch::Like => dialect.like,
                TextMatch::Contains => dialect.contains,
                TextMatch::Starts => dialect.starts,
                TextMatch::Ends => dialect.ends,
            };
            let value = match (kind, pattern) {
                (TextMatch::Like, Operand::Literal(Value::Text(pattern))) => {
                    Sql::value(Value::from((dialect.like_pattern)(pattern).as_str()))
                }
                _ => operand(pattern, term),
            };
            Sql::template(template, &operand(text, term), &value)
        }
        Condition::Truth(value) => operand(value, term),
        Condition::Not(inner) => {
            let mut sql = Sql::text("NOT (");
            sql.add(condition(dialect, inner, term)).push(")");
            sql
        }
        Condition::And(parts) => Sql::join(parts.iter().map(|part| parenthesised(dialect, part, term)), " AND "),
        Condition::Or(parts) => Sql::join(parts.iter().map(|part| parenthesised(dialect, part, term)), " OR "),
    }
}

fn parenthesised<T>(dialect: &Dialect, of: &Condition<T>, term: &mut impl FnMut(&T) -> Sql) -> Sql {
    match of {
        Condition::And(_) | Condition::Or(_) | Condition::Between(..) => {
            let mut sql = Sql::text("(");
            sql.add(condition(dialect, of, term)).push(")");
            sql
        }
        _ => condition(dialect, of, term),
    }
}

fn operand<T>(of: &Operand<T>, term: &mut impl FnMut(&T) -> Sql) -> Sql {
    match of {
        Operand::Term(of) => term(of),
        Operand::Literal(value) => Sql::value(value.clone()),
        Operand::Parameter(at) => Sql::parameter(*at),
    }
}

/// `expression`, with direction and place of nulls: nulls come first ascending and last descending.
pub(crate) fn sort_key(dialect: &Dialect, expression: Sql, descending: bool, nullable: bool) -> Sql {
    let mut sql = expression;
    if descending {
        sql.push(" DESC");
    }
    if nullable && !dialect.nulls_first {
        sql.push(if descending { " NULLS LAST" } else { " NULLS FIRST" });
    }
    sql
}
