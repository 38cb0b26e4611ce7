//! Conditions evaluated in the application, with SQL's unknown.

use kampf_schema::{Value, ValueRef};

use crate::need::{Condition, Operand};

/// Whether a condition holds; `None` where null leaves it unknown. `term` gives a term's value.
pub(crate) fn truth<T, E>(
    condition: &Condition<T>,
    parameters: &[Value],
    term: &mut impl FnMut(&T) -> Result<Value, E>,
) -> Result<Option<bool>, E> {
    let mut value = |operand: &Operand<T>| match operand {
        Operand::Term(of) => term(of),
        Operand::Literal(value) => Ok(value.clone()),
        Operand::Parameter(at) => Ok(parameters.get(*at).cloned().unwrap_or(Value::Null)),
    };
    let known = |left: &Value, right: &Value, holds: &dyn Fn(ValueRef<'_>, ValueRef<'_>) -> bool| {
        (*left != Value::Null && *right != Value::Null).then(|| holds(left.as_ref(), right.as_ref()))
    };
    Ok(match condition {
        Condition::Compare(comparison, left, right) => {
            let (left, right) = (value(left)?, value(right)?);
            known(&left, &right, &|left, right| comparison.holds(left.order(right)))
        }
        Condition::In(of, list) => {
            let of = value(of)?;
            let mut found = Some(false);
            for item in list {
                match known(&of, &value(item)?, &|left, right| left.order(right).is_eq()) {
                    Some(true) => {
                        found = Some(true);
                        break;
                    }
                    None => found = None,
                    Some(false) => {}
                }
            }
            found
        }
        Condition::Between(of, low, high) => {
            let (of, low, high) = (value(of)?, value(low)?, value(high)?);
            both(known(&of, &low, &|of, low| of.order(low).is_ge()), known(&of, &high, &|of, high| of.order(high).is_le()))
        }
        Condition::IsNull(of) => Some(value(of)? == Value::Null),
        Condition::Match(kind, text, pattern) => {
            let (text, pattern) = (value(text)?, value(pattern)?);
            known(&text, &pattern, &|text, pattern| match (text, pattern) {
                (ValueRef::Text(text), ValueRef::Text(pattern)) => kind.holds(text, pattern),
                _ => false,
            })
        }
        Condition::Truth(of) => match value(of)? {
            Value::Boolean(truth) => Some(truth),
            _ => None,
        },
        Condition::Not(inner) => truth(inner, parameters, term)?.map(|truth| !truth),
        Condition::And(parts) => {
            let mut all = Some(true);
            for part in parts {
                all = both(all, truth(part, parameters, term)?);
                if all == Some(false) {
                    break;
                }
            }
            all
        }
        Condition::Or(parts) => {
            let mut none = Some(true);
            for part in parts {
                none = both(none, truth(part, parameters, term)?.map(|truth| !truth));
                if none == Some(false) {
                    break;
                }
            }
            none.map(|none| !none)
        }
    })
}

/// Three-valued "and".
fn both(left: Option<bool>, right: Option<bool>) -> Option<bool> {
    match (left, right) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}
