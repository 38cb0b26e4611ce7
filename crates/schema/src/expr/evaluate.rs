//! The one evaluator.
//!
//! Null means what it means in SQL: what is made of it is null, a comparison with it is neither true nor false.

use std::cmp::Ordering;

use super::functions::call;
use super::tree::{Expr, Function, Node, Operator};
use crate::place::Span;
use crate::value::{Decimal, Value, ValueRef};

/// Where the leaves of an expression have their values from.
pub trait Scope<L> {
    /// What may fail.
    type Error;

    /// The value of a leaf.
    fn leaf(&mut self, leaf: &L) -> Result<Value, Self::Error>;

    /// What becomes of a number that 64 bits, or the digits of a decimal, do not hold: null, unless the scope knows better.
    /// `nearest` is the nearest real, where one was at hand.
    fn overflow(&mut self, _place: Span, nearest: Option<f64>) -> Result<Value, Self::Error> {
        Ok(nearest.map_or(Value::Null, Value::Real))
    }

    /// Whether every part of `and`, `or` and `in` is looked at, also where the result is known before: databases may look at them in
    /// any order.
    fn looks_at_all(&self) -> bool {
        false
    }

    /// Two reals that agree within tolerance were compared: the other side of the edge would be right too.
    fn near_an_edge(&mut self) {}
}

impl<L> Expr<L> {
    /// The value.
    ///
    /// # Errors
    /// Those of the scope.
    pub fn value<S: Scope<L>>(&self, scope: &mut S) -> Result<Value, S::Error> {
        match &self.node {
            Node::Leaf(leaf) => scope.leaf(leaf),
            Node::Literal(value) => Ok(value.clone()),
            Node::Call(function, parts) => {
                let mut values = Vec::with_capacity(parts.len());
                for part in parts {
                    let value = part.value(scope)?;
                    if *function == Function::Coalesce && value != Value::Null {
                        return Ok(value);
                    }
                    values.push(value);
                }
                call(*function, values, self.span, scope)
            }
            Node::Arithmetic(operator, left, right) => {
                let (left, right) = (left.value(scope)?, right.value(scope)?);
                arithmetic(*operator, &left, &right, self.span, scope)
            }
            Node::Case(cases, otherwise) => {
                for (condition, value) in cases {
                    if condition.truth(scope)? == Some(true) {
                        return value.value(scope);
                    }
                }
                otherwise.as_ref().map_or(Ok(Value::Null), |value| value.value(scope))
            }
            _ => Ok(self.truth(scope)?.map_or(Value::Null, Value::Boolean)),
        }
    }

    /// Whether a condition holds; `None` where it is unknown.
    ///
    /// # Errors
    /// Those of the scope.
    pub fn truth<S: Scope<L>>(&self, scope: &mut S) -> Result<Option<bool>, S::Error> {
        Ok(match &self.node {
            Node::Compare(comparison, left, right) => {
                let (left, right) = (left.value(scope)?, right.value(scope)?);
                compare(&left, &right, scope).map(|order| comparison.holds(order))
            }
            Node::In(value, list) => {
                let value = value.value(scope)?;
                let mut found = Some(false);
                for item in list {
                    let item = item.value(scope)?;
                    match compare(&value, &item, scope) {
                        Some(Ordering::Equal) => found = Some(true),
                        None if found == Some(false) => found = None,
                        _ => {}
                    }
                    if found == Some(true) && !scope.looks_at_all() {
                        break;
                    }
                }
                found
            }
            Node::InList(value, list) => {
                let (value, list) = (value.value(scope)?, list.value(scope)?);
                let Value::List(items) = list else { return Ok(None) };
                let mut found = Some(false);
                for item in &items {
                    match compare(&value, item, scope) {
                        Some(Ordering::Equal) => return Ok(Some(true)),
                        Some(_) => {}
                        None => found = None,
                    }
                }
                found
            }
            Node::Between(value, low, high) => {
                let (value, low, high) = (value.value(scope)?, low.value(scope)?, high.value(scope)?);
                let not_below = compare(&value, &low, scope).map(Ordering::is_ge);
                both(not_below, compare(&value, &high, scope).map(Ordering::is_le))
            }
            Node::IsNull(inner) => Some(inner.value(scope)? == Value::Null),
            Node::Same(left, right) => {
                let (left, right) = (left.value(scope)?, right.value(scope)?);
                Some(compare(&left, &right, scope).map_or(left == right, Ordering::is_eq))
            }
            Node::Match(kind, text, pattern) => match (text.value(scope)?, pattern.value(scope)?) {
                (Value::Text(text), Value::Text(pattern)) => Some(kind.holds(&text, &pattern)),
                (Value::Null, _) | (_, Value::Null) => None,
                _ => Some(false),
            },
            Node::Fits(inner, pattern) => match inner.value(scope)? {
                Value::Null => None,
                Value::Text(text) => Some(pattern.fits(&text)),
                other => Some(pattern.fits(&other.to_string())),
            },
            Node::Not(inner) => inner.truth(scope)?.map(|holds| !holds),
            Node::And(parts) => {
                let mut all = Some(true);
                for part in parts {
                    all = both(all, part.truth(scope)?);
                    if all == Some(false) && !scope.looks_at_all() {
                        break;
                    }
                }
                all
            }
            Node::Or(parts) => {
                let mut none = Some(true);
                for part in parts {
                    none = both(none, part.truth(scope)?.map(|holds| !holds));
                    if none == Some(false) && !scope.looks_at_all() {
                        break;
                    }
                }
                none.map(|none| !none)
            }
            Node::Leaf(_) | Node::Literal(_) | Node::Call(..) | Node::Arithmetic(..) | Node::Case(..) => match self.value(scope)? {
                Value::Null => None,
                Value::Boolean(truth) => Some(truth),
                // Engines without a boolean type write 0 and 1.
                other => other.as_ref().as_real().map(|number| number != 0.0),
            },
        })
    }
}

/// Three-valued "and".
fn both(left: Option<bool>, right: Option<bool>) -> Option<bool> {
    match (left, right) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

pub(super) fn compare<L, S: Scope<L>>(left: &Value, right: &Value, scope: &mut S) -> Option<Ordering> {
    // Engines without a boolean type write 0 and 1.
    let number = |truth: bool| ValueRef::Integer(i64::from(truth));
    Some(match (left, right) {
        (Value::Null, _) | (_, Value::Null) => return None,
        (Value::Boolean(left), Value::Integer(_)) => number(*left).order(right.as_ref()),
        (Value::Integer(_), Value::Boolean(right)) => left.as_ref().order(number(*right)),
        _ => {
            if matches!((left, right), (Value::Real(_), _) | (_, Value::Real(_))) && left.as_ref().agrees_with(right.as_ref()) {
                scope.near_an_edge();
            }
            left.as_ref().order(right.as_ref())
        }
    })
}

fn arithmetic<L, S: Scope<L>>(operator: Operator, left: &Value, right: &Value, place: Span, scope: &mut S) -> Result<Value, S::Error> {
    if *left == Value::Null || *right == Value::Null {
        return Ok(Value::Null);
    }
    if operator == Operator::Join {
        return Ok(Value::from((left.to_string() + &right.to_string()).as_str()));
    }
    if let (Value::Integer(left), Value::Integer(right)) = (left, right)
        && operator != Operator::Divide
    {
        let result = match operator {
            Operator::Add => left.checked_add(*right),
            Operator::Subtract => left.checked_sub(*right),
            Operator::Multiply => left.checked_mul(*right),
            _ if *right == 0 => return Ok(Value::Null),
            Operator::DivideWhole => left.checked_div(*right),
            _ => Some(left.wrapping_rem(*right)),
        };
        return result.map_or_else(|| scope.overflow(place, None), |number| Ok(Value::Integer(number)));
    }
    // Exact as long as all is exact; a quotient is a real.
    let decimals = left.as_ref().as_decimal().zip(right.as_ref().as_decimal());
    if let Some((left, right)) = decimals
        && let Some(exact) = exact(operator, left, right)
    {
        return Ok(exact.into());
    }
    let (Some(left), Some(right)) = (number(left), number(right)) else { return Ok(Value::Null) };
    let real = match operator {
        Operator::Add => left + right,
        Operator::Subtract => left - right,
        Operator::Multiply => left * right,
        Operator::Divide if right == 0.0 => return Ok(Value::Null),
        Operator::Divide | Operator::DivideWhole => left / right,
        Operator::Remainder => left % right,
        Operator::Join => return Ok(Value::Null),
    };
    let vanished = operator == Operator::Multiply && real == 0.0 && left != 0.0 && right != 0.0;
    let lost = decimals.is_some() && matches!(operator, Operator::Add | Operator::Subtract | Operator::Multiply);
    if lost || vanished || !real.is_finite() {
        return scope.overflow(place, Some(real));
    }
    Ok(Value::Real(real))
}

/// Dates count as days and timestamps as microseconds, so that two of a kind can be subtracted.
fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Date(days) => Some(f64::from(*days)),
        Value::Timestamp(micros) => Some(*micros as f64),
        Value::Boolean(truth) => Some(f64::from(u8::from(*truth))),
        other => other.as_ref().as_real(),
    }
}

fn exact(operator: Operator, left: Decimal, right: Decimal) -> Option<Decimal> {
    let scale = left.scale.max(right.scale);
    match operator {
        Operator::Add | Operator::Subtract => {
            let (left, right) = (left.rescaled(scale)?.units, right.rescaled(scale)?.units);
            let units = if operator == Operator::Add { left.checked_add(right) } else { left.checked_sub(right) }?;
            Some(Decimal { units, scale })
        }
        Operator::Multiply => Some(Decimal { units: left.units.checked_mul(right.units)?, scale: left.scale.checked_add(right.scale)? }),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::Part;

    /// A scope without leaves in which numbers that are too large are told.
    struct Bare;

    impl Scope<()> for Bare {
        type Error = Span;

        fn leaf(&mut self, (): &()) -> Result<Value, Span> {
            Ok(Value::Null)
        }

        fn overflow(&mut self, place: Span, _: Option<f64>) -> Result<Value, Span> {
            Err(place)
        }
    }

    fn of(node: Node<()>) -> Result<Value, Span> {
        Expr::from(node).value(&mut Bare)
    }

    fn literal(value: impl Into<Value>) -> Expr<()> {
        Expr::literal(value)
    }

    fn arithmetic(operator: Operator, left: impl Into<Value>, right: impl Into<Value>) -> Result<Value, Span> {
        of(Node::Arithmetic(operator, Box::new(literal(left)), Box::new(literal(right))))
    }

    fn call(function: Function, values: Vec<Value>) -> Value {
        of(Node::Call(function, values.into_iter().map(literal).collect())).unwrap()
    }

    #[test]
    fn numbers_stay_exact_and_those_that_do_not_fit_are_told() {
        let cents = |units: i128| Value::from(Decimal { units, scale: 2 });
        let whole = |number: i64| Value::Integer(number);
        assert_eq!(arithmetic(Operator::Divide, whole(7), whole(2)), Ok(Value::Real(3.5)));
        assert_eq!(arithmetic(Operator::DivideWhole, whole(7), whole(2)), Ok(whole(3)));
        assert_eq!(arithmetic(Operator::Divide, cents(10), whole(0)), Ok(Value::Null));
        assert_eq!(arithmetic(Operator::Remainder, whole(-7), whole(2)), Ok(whole(-1)));
        assert_eq!(arithmetic(Operator::Remainder, whole(-7), whole(0)), Ok(Value::Null));
        assert_eq!(arithmetic(Operator::Remainder, whole(i64::MIN), whole(-1)), Ok(whole(0)));
        assert_eq!(arithmetic(Operator::Multiply, cents(150), cents(150)), Ok(Decimal { units: 22_500, scale: 4 }.into()));
        assert_eq!(arithmetic(Operator::Add, cents(1), whole(1)), Ok(cents(101)));
        for (operator, left, right) in [
            (Operator::Add, whole(i64::MAX), whole(1)),
            (Operator::Multiply, Value::Real(1e200), Value::Real(1e200)),
            (Operator::Multiply, Value::Real(1e-200), Value::Real(1e-200)),
            (Operator::Multiply, cents(i128::MAX), cents(200)),
        ] {
            assert!(arithmetic(operator, left, right).is_err());
        }
        assert!(of(Node::Call(Function::Negate, vec![literal(whole(i64::MIN))])).is_err());
    }

    #[test]
    fn functions_mean_what_the_language_says() {
        let texts = |text: &str, start: i64, length: i64| vec![Value::from(text), Value::Integer(start), Value::Integer(length)];
        assert_eq!(call(Function::Substring, texts("abc", -1, 3)), Value::from("a"));
        assert_eq!(call(Function::Substring, texts("äbc", 1, 2)), Value::from("äb"));
        assert_eq!(call(Function::Substring, texts("abc", 2, -1)), Value::Null);
        assert_eq!(call(Function::Lower, vec!["ÄB".into()]), Value::from("Äb"));
        assert_eq!(call(Function::LowerAll, vec!["ÄB".into()]), Value::from("äb"));
        let rounded = |units: i128| call(Function::Round, vec![Decimal { units, scale: 2 }.into(), Value::Integer(1)]);
        assert_eq!(
            (rounded(125), rounded(-125), rounded(-124)),
            (Decimal { units: 13, scale: 1 }.into(), Decimal { units: -13, scale: 1 }.into(), Decimal { units: -12, scale: 1 }.into())
        );
        let at = |text: &str| Value::Timestamp(crate::calendar::parse_timestamp(text).unwrap());
        let date = |text: &str| Value::Date(crate::calendar::parse_date(text).unwrap());
        let sunday = at("2026-03-01T23:59:00");
        assert_eq!(call(Function::StartOf(Part::Week), vec![sunday.clone()]), date("2026-02-23"));
        assert_eq!(call(Function::StartOf(Part::Week), vec![date("2026-02-23")]), date("2026-02-23"));
        assert_eq!(call(Function::StartOf(Part::Year), vec![sunday.clone()]), date("2026-01-01"));
        assert_eq!(call(Function::Extract(Part::Hour), vec![sunday.clone()]), Value::Integer(23));
        assert_eq!(call(Function::DaysBetween, vec![sunday, date("2026-03-02")]), Value::Integer(1));
        assert_eq!(call(Function::Coalesce, vec![Value::Null, Value::Integer(3)]), Value::Integer(3));
    }

    #[test]
    fn a_list_that_is_empty_holds_nothing_and_one_with_null_leaves_it_open() {
        let within = |value: Value, list: Vec<Value>| {
            let list = literal(Value::List(list.into()));
            Expr::<()>::from(Node::InList(Box::new(literal(value)), Box::new(list))).truth(&mut Bare).unwrap()
        };
        assert_eq!(within(Value::Null, Vec::new()), Some(false));
        assert_eq!(within(Value::Integer(1), vec![Value::Integer(1), Value::Null]), Some(true));
        assert_eq!(within(Value::Integer(2), vec![Value::Integer(1), Value::Null]), None);
    }
}
