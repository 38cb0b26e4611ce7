//! What checks say about single columns, so that values can be made to hold them.

use kampf_schema::expr::{Comparison, Function, Node, Operator};
use kampf_schema::{ColumnId, Decimal, LogicalType, Rule, Table, Value};

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
    match &rule.node {
        Node::Leaf(column) => one_of(&mut bounds[*column], vec![Value::Boolean(true)]),
        Node::Call(Function::IsJson, _) => true,
        Node::In(term, list) => match (term.as_leaf(), literals(list)) {
            (Some(column), Some(values)) => one_of(&mut bounds[*column], values),
            (None, Some(values)) => {
                one_of_lengths(term, &values, bounds);
                false
            }
            _ => false,
        },
        Node::Compare(comparison, left, right) => {
            if let Some(value) = left.as_literal() {
                return compare(table, turned(*comparison), right, value, bounds);
            }
            if let Some(value) = right.as_literal() {
                return compare(table, *comparison, left, value, bounds);
            }
            *comparison == Comparison::Equal && (one_case(left, right, bounds) || one_case(right, left, bounds))
        }
        Node::Fits(term, pattern) => {
            let Some(column) = term.as_leaf() else { return false };
            let bounds = &mut bounds[*column];
            let shape = if pattern.any_case { format!("(?i){}", pattern.text) } else { pattern.text.clone() };
            let fits = bounds.shape.is_none() && Shape::regex(&shape).is_some();
            if fits {
                bounds.shape = Some(shape);
            }
            fits
        }
        Node::IsNull(term) => match term.as_leaf() {
            Some(column) => {
                bounds[*column].unknown = true;
                true
            }
            None => false,
        },
        Node::Not(inner) => match &inner.node {
            Node::IsNull(term) => match term.as_leaf() {
                Some(column) => {
                    bounds[*column].known = true;
                    true
                }
                None => false,
            },
            Node::Leaf(column) => one_of(&mut bounds[*column], vec![Value::Boolean(false)]),
            _ => false,
        },
        Node::Or(rules) => {
            let columns = rule.column_set();
            let [column] = columns.as_slice() else { return false };
            // Null, or else something: what is not null must be that.
            let is_null = |rule: &&Rule| matches!(&rule.node, Node::IsNull(term) if term.as_leaf().is_some());
            let rest: Vec<&Rule> = rules.iter().filter(|rule| !is_null(rule)).collect();
            if let [one] = rest.as_slice() {
                return take_all(table, one, bounds);
            }
            let mut values = Vec::new();
            for rule in rest {
                match &rule.node {
                    Node::Compare(Comparison::Equal, term, value) if term.as_leaf().is_some() => match value.as_literal() {
                        Some(value) => values.push(value.clone()),
                        None => return false,
                    },
                    Node::In(term, list) if term.as_leaf().is_some() => match literals(list) {
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

/// `column = lower(column)`, or likewise with capital letters.
fn one_case(own: &Rule, other: &Rule, bounds: &mut [Bounds]) -> bool {
    let (Some(column), Node::Call(function, of)) = (own.as_leaf(), &other.node) else { return false };
    if of.as_slice() != std::slice::from_ref(own) {
        return false;
    }
    match function {
        Function::LowerAll => bounds[*column].lower = true,
        Function::UpperAll => bounds[*column].upper = true,
        _ => return false,
    }
    true
}

fn literals(terms: &[Rule]) -> Option<Vec<Value>> {
    terms.iter().map(|term| term.as_literal().cloned()).collect()
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

/// The column whose value, spaces around it taken off or not, a term is.
fn trimmed(term: &Rule) -> Option<ColumnId> {
    match &term.node {
        Node::Leaf(column) => Some(*column),
        Node::Call(Function::Trim, of) => of.first()?.as_leaf().copied(),
        _ => None,
    }
}

/// The column whose length a term is, and how much of the term's unit one character or byte is: 8 where bits are counted.
fn length_of(term: &Rule) -> Option<(ColumnId, u64)> {
    match &term.node {
        Node::Call(Function::Length | Function::Octets, of) => Some((of.first().and_then(trimmed)?, 1)),
        Node::Arithmetic(Operator::Multiply, of, by) => match by.as_literal() {
            Some(Value::Integer(by @ 1..)) => length_of(of).and_then(|(column, each)| Some((column, each.checked_mul(by.unsigned_abs())?))),
            _ => None,
        },
        _ => None,
    }
}

/// A length that is one of some numbers lies between the least and the most of them.
fn one_of_lengths(term: &Rule, values: &[Value], bounds: &mut [Bounds]) {
    let Some((column, 1)) = length_of(term) else { return };
    let numbers =
        values.iter().filter_map(|value| if let Value::Integer(number @ 0..) = value { Some(number.unsigned_abs()) } else { None });
    let Some((least, most)) = numbers.fold(None, |range: Option<(u64, u64)>, number| {
        Some(range.map_or((number, number), |(least, most)| (least.min(number), most.max(number))))
    }) else {
        return;
    };
    let bounds = &mut bounds[column];
    bounds.shortest = bounds.shortest.max(least);
    bounds.longest = Some(bounds.longest.map_or(most, |longest| longest.min(most)));
}

fn compare(table: &Table, comparison: Comparison, term: &Rule, value: &Value, bounds: &mut [Bounds]) -> bool {
    if let Some((column, each)) = length_of(term) {
        let Value::Integer(number) = value else { return false };
        let Ok(number) = u64::try_from(*number) else { return false };
        let number = match comparison {
            Comparison::Equal | Comparison::Unequal if number % each != 0 => return false,
            Comparison::Less | Comparison::GreaterOrEqual => number.div_ceil(each),
            _ => number / each,
        };
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
    let column = if comparison == Comparison::Unequal { trimmed(term) } else { term.as_leaf().copied() };
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
    let column = |term: &Rule| term.as_leaf().copied();
    match &rule.node {
        Node::Leaf(column) => Some((*column, Some(Value::Boolean(true)))),
        Node::Compare(Comparison::Equal, term, value) | Node::Same(term, value) => Some((column(term)?, Some(value.as_literal()?.clone()))),
        Node::In(term, list) => match list.as_slice() {
            [value] => Some((column(term)?, Some(value.as_literal()?.clone()))),
            _ => None,
        },
        Node::IsNull(term) => Some((column(term)?, Some(Value::Null))),
        Node::Not(inner) => match &inner.node {
            Node::IsNull(term) => Some((column(term)?, None)),
            Node::Leaf(column) => Some((*column, Some(Value::Boolean(false)))),
            _ => None,
        },
        _ => None,
    }
}
