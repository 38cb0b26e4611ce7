//! What checks say about single columns, so that values can be made to hold them.

use kampf_schema::expr::Comparison;
use kampf_schema::{ColumnId, Decimal, Function, LogicalType, Rule, Scalar, Table, Value};

use crate::shape::Shape;

/// What the values of a column must be, null apart.
#[derive(Clone, Debug, Default)]
pub(crate) struct Bounds {
    /// One of these.
    pub(crate) one_of: Option<Vec<Value>>,
    /// At least this, itself allowed.
    pub(crate) least: Option<Value>,
    /// At most this, itself allowed.
    pub(crate) most: Option<Value>,
    /// At least so many characters.
    pub(crate) shortest: u64,
    /// At most so many.
    pub(crate) longest: Option<u64>,
    /// Only small letters, or only capital ones.
    pub(crate) lower: bool,
    pub(crate) upper: bool,
    /// The shape of a regular expression.
    pub(crate) shape: Option<String>,
    /// Never null, though the column would allow it.
    pub(crate) known: bool,
    /// Always null.
    pub(crate) unknown: bool,
}

/// The bounds of all columns of a table, and the checks that say more than bounds can.
pub(crate) fn bounds(table: &Table) -> (Vec<Bounds>, Vec<usize>) {
    let mut bounds: Vec<Bounds> = table
        .columns
        .iter()
        .map(|column| {
            let longest = if let LogicalType::Text { length } = column.kind { length.map(u64::from) } else { None };
            let whole = column.limits.filter(|_| column.kind == LogicalType::Integer);
            let (least, most) = (whole.map(|(low, _)| Value::Integer(low)), whole.map(|(_, high)| Value::Integer(high)));
            Bounds { longest, least, most, ..Bounds::default() }
        })
        .collect();
    let mut more = Vec::new();
    for (at, check) in table.checks.iter().enumerate() {
        let Ok(rule) = &check.rule else { continue };
        if !take_all(table, rule, &mut bounds) {
            more.push(at);
        }
    }
    (bounds, more)
}

/// Takes all that must hold at once into the bounds; false where some of it says more.
fn take_all(table: &Table, rule: &Rule, bounds: &mut [Bounds]) -> bool {
    let mut all = true;
    for rule in rule.conjuncts() {
        all &= take(table, rule, bounds);
    }
    all
}

/// Takes a rule into the bounds; false where it says more.
fn take(table: &Table, rule: &Rule, bounds: &mut [Bounds]) -> bool {
    match rule {
        Rule::In(Scalar::Column(column), list) => match literals(list) {
            Some(values) => one_of(&mut bounds[*column], values),
            None => false,
        },
        Rule::Compare(comparison, left, right) => match (left, right) {
            (Scalar::Literal(value), term) => compare(table, turned(*comparison), term, value, bounds),
            (term, Scalar::Literal(value)) => compare(table, *comparison, term, value, bounds),
            (Scalar::Column(own), Scalar::Call(function @ (Function::Lower | Function::Upper), of))
            | (Scalar::Call(function @ (Function::Lower | Function::Upper), of), Scalar::Column(own))
                if *comparison == Comparison::Equal && of.as_slice() == [Scalar::Column(*own)] =>
            {
                if *function == Function::Lower {
                    bounds[*own].lower = true;
                } else {
                    bounds[*own].upper = true;
                }
                true
            }
            _ => false,
        },
        Rule::Matches(Scalar::Column(column), pattern) => {
            let bounds = &mut bounds[*column];
            let shape = if pattern.any_case { format!("(?i){}", pattern.text) } else { pattern.text.clone() };
            let fits = bounds.shape.is_none() && Shape::regex(&shape).is_some();
            if fits {
                bounds.shape = Some(shape);
            }
            fits
        }
        Rule::IsNull(Scalar::Column(column)) => {
            bounds[*column].unknown = true;
            true
        }
        Rule::Not(inner) => match &**inner {
            Rule::IsNull(Scalar::Column(column)) => {
                bounds[*column].known = true;
                true
            }
            Rule::Truth(Scalar::Column(column)) => one_of(&mut bounds[*column], vec![Value::Boolean(false)]),
            _ => false,
        },
        Rule::Truth(Scalar::Column(column)) => one_of(&mut bounds[*column], vec![Value::Boolean(true)]),
        Rule::Truth(Scalar::Call(Function::IsJson, _)) => true,
        Rule::Or(rules) => {
            let columns = rule.column_set();
            let [column] = columns.as_slice() else { return false };
            // Null, or else something: what is not null must be that.
            let rest: Vec<&Rule> = rules.iter().filter(|rule| !matches!(rule, Rule::IsNull(Scalar::Column(_)))).collect();
            if let [one] = rest.as_slice() {
                return take_all(table, one, bounds);
            }
            let mut values = Vec::new();
            for rule in rest {
                match rule {
                    Rule::Compare(Comparison::Equal, Scalar::Column(_), Scalar::Literal(value)) => values.push(value.clone()),
                    Rule::In(Scalar::Column(_), list) => match literals(list) {
                        Some(list) => values.extend(list),
                        None => return false,
                    },
                    _ => return false,
                }
            }
            one_of(&mut bounds[*column], values)
        }
        _ => false,
    }
}

fn literals(terms: &[Scalar]) -> Option<Vec<Value>> {
    terms.iter().map(|term| if let Scalar::Literal(value) = term { Some(value.clone()) } else { None }).collect()
}

fn one_of(bounds: &mut Bounds, mut values: Vec<Value>) -> bool {
    values.retain(|value| *value != Value::Null);
    if let Some(known) = &bounds.one_of {
        values.retain(|value| known.contains(value));
    }
    bounds.one_of = Some(values);
    true
}

/// The comparison with its sides exchanged.
fn turned(comparison: Comparison) -> Comparison {
    match comparison {
        Comparison::Less => Comparison::Greater,
        Comparison::LessOrEqual => Comparison::GreaterOrEqual,
        Comparison::Greater => Comparison::Less,
        Comparison::GreaterOrEqual => Comparison::LessOrEqual,
        same => same,
    }
}

fn compare(table: &Table, comparison: Comparison, term: &Scalar, value: &Value, bounds: &mut [Bounds]) -> bool {
    let length = match term {
        Scalar::Call(Function::Length | Function::Octets, of) => match of.as_slice() {
            [Scalar::Column(column)] => Some(*column),
            [Scalar::Call(Function::Trim, of)] => match of.as_slice() {
                [Scalar::Column(column)] => Some(*column),
                _ => None,
            },
            _ => None,
        },
        _ => None,
    };
    if let Some(column) = length {
        let Value::Integer(number) = value else { return false };
        let Ok(number) = u64::try_from(*number) else { return false };
        // Bytes are as many as characters only where all are plain.
        let bounds = &mut bounds[column];
        let at_most = |bounds: &mut Bounds, most: u64| bounds.longest = Some(bounds.longest.map_or(most, |longest| longest.min(most)));
        match comparison {
            Comparison::Greater => bounds.shortest = bounds.shortest.max(number + 1),
            Comparison::GreaterOrEqual => bounds.shortest = bounds.shortest.max(number),
            Comparison::Less => at_most(bounds, number.saturating_sub(1)),
            Comparison::LessOrEqual => at_most(bounds, number),
            Comparison::Equal => {
                bounds.shortest = bounds.shortest.max(number);
                at_most(bounds, number);
            }
            // Texts are never empty.
            Comparison::Unequal => return number == 0,
        }
        return true;
    }
    let trimmed = |of: &[Scalar]| if let [Scalar::Column(column)] = of { Some(*column) } else { None };
    let column = match term {
        Scalar::Column(column) => Some(*column),
        Scalar::Call(Function::Trim, of) if comparison == Comparison::Unequal => trimmed(of),
        _ => None,
    };
    let Some(column) = column else { return false };
    let kind = table.columns[column].kind;
    if *value == Value::Null {
        return false;
    }
    let bounds = &mut bounds[column];
    match (comparison, value) {
        (Comparison::Equal, _) => one_of(bounds, vec![value.clone()]),
        (Comparison::Unequal | Comparison::Greater, Value::Text(text)) => {
            bounds.shortest = bounds.shortest.max(1);
            text.is_empty()
        }
        (Comparison::Unequal, _) => false,
        (_, Value::Text(_)) => false,
        (Comparison::Greater, _) => least(bounds, next(value, kind, true)),
        (Comparison::GreaterOrEqual, _) => least(bounds, next(value, kind, false)),
        (Comparison::Less, _) => most(bounds, before(value, kind, true)),
        (Comparison::LessOrEqual, _) => most(bounds, before(value, kind, false)),
    }
}

fn least(bounds: &mut Bounds, value: Option<Value>) -> bool {
    let Some(value) = value else { return false };
    if bounds.least.as_ref().is_none_or(|known| known.as_ref().order(value.as_ref()).is_lt()) {
        bounds.least = Some(value);
    }
    true
}

fn most(bounds: &mut Bounds, value: Option<Value>) -> bool {
    let Some(value) = value else { return false };
    if bounds.most.as_ref().is_none_or(|known| known.as_ref().order(value.as_ref()).is_gt()) {
        bounds.most = Some(value);
    }
    true
}

/// The smallest value of a kind that is larger, or as large where that is allowed.
fn next(value: &Value, kind: LogicalType, beyond: bool) -> Option<Value> {
    shifted(value, kind, i64::from(beyond), true)
}

fn before(value: &Value, kind: LogicalType, beyond: bool) -> Option<Value> {
    shifted(value, kind, -i64::from(beyond), false)
}

fn shifted(value: &Value, kind: LogicalType, by: i64, up: bool) -> Option<Value> {
    Some(match (value, kind) {
        (Value::Integer(number), LogicalType::Integer) => Value::Integer(number.checked_add(by)?),
        (Value::Decimal(..), LogicalType::Integer) => {
            let number = value.as_ref().as_real()?;
            let whole = if up { number.ceil() } else { number.floor() };
            Value::Integer((if whole == number { whole + by as f64 } else { whole }) as i64)
        }
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Decimal { scale, .. }) => {
            let units = value.as_ref().as_decimal()?.rescaled(scale)?.units;
            Decimal { units: units.checked_add(i128::from(by))?, scale }.into()
        }
        (Value::Integer(_) | Value::Decimal(..) | Value::Real(_), LogicalType::Real) => {
            let number = value.as_ref().as_real()?;
            Value::Real(number + by as f64 * number.abs().max(1.0) * 1e-9)
        }
        (Value::Date(days), LogicalType::Date) => Value::Date(days.checked_add(i32::try_from(by).ok()?)?),
        (Value::Timestamp(micros), LogicalType::Timestamp) => Value::Timestamp(micros.checked_add(by * 1_000_000)?),
        _ => return None,
    })
}

/// The column and the value where a rule is about one column being one value, or being true.
pub(crate) fn single(rule: &Rule) -> Option<(ColumnId, Option<Value>)> {
    match rule {
        Rule::Truth(Scalar::Column(column)) => Some((*column, Some(Value::Boolean(true)))),
        Rule::Compare(Comparison::Equal, Scalar::Column(column), Scalar::Literal(value)) => Some((*column, Some(value.clone()))),
        Rule::In(Scalar::Column(column), list) => match list.as_slice() {
            [Scalar::Literal(value)] => Some((*column, Some(value.clone()))),
            _ => None,
        },
        Rule::Same(Scalar::Column(column), Scalar::Literal(value)) => Some((*column, Some(value.clone()))),
        Rule::IsNull(Scalar::Column(column)) => Some((*column, Some(Value::Null))),
        Rule::Not(inner) => match &**inner {
            Rule::IsNull(Scalar::Column(column)) => Some((*column, None)),
            Rule::Truth(Scalar::Column(column)) => Some((*column, Some(Value::Boolean(false)))),
            _ => None,
        },
        _ => None,
    }
}
