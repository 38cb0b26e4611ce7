//! Keys by which rows are recognised.

use kampf_schema::{Decimal, ValueRef};

/// A key by which rows are recognised.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Key {
    /// A single whole number, the common case.
    Integer(i64),
    /// A single value of another kind.
    One(Part),
    /// Several values.
    Several(Box<[Part]>),
}

/// A value of a key, as what it is.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Part {
    /// No value; only keys of groups have such parts.
    Null,
    Integer(i64),
    /// Without zeros at its end, so that equal ones are the same.
    Decimal(i128, u8),
    /// Its bits, where it is not whole.
    Real(u64),
    Boolean(bool),
    Date(i32),
    Timestamp(i64),
    Uuid([u8; 16]),
    Text(Box<str>),
    Blob(Box<[u8]>),
}

impl Key {
    /// The key of some values; none where one of them is null.
    pub(crate) fn of<'a>(mut values: impl ExactSizeIterator<Item = ValueRef<'a>>) -> Option<Key> {
        if values.len() != 1 {
            return Some(Key::Several(values.map(Part::of).collect::<Option<_>>()?));
        }
        match Part::of(values.next()?)? {
            Part::Integer(number) => Some(Key::Integer(number)),
            part => Some(Key::One(part)),
        }
    }
}

impl Key {
    /// The one value that it was made of, where that is known: other values may be equal to some of them.
    pub(crate) fn as_it_was(&self) -> Option<ValueRef<'_>> {
        match self {
            Key::Integer(number) => Some(ValueRef::Integer(*number)),
            Key::One(Part::Uuid(bytes)) => Some(ValueRef::Uuid(*bytes)),
            Key::One(Part::Text(text)) => Some(ValueRef::Text(text)),
            Key::One(Part::Blob(bytes)) => Some(ValueRef::Blob(bytes)),
            _ => None,
        }
    }

    /// The key of a group: nulls are alike.
    pub(crate) fn of_group<'a>(values: impl Iterator<Item = ValueRef<'a>>) -> Key {
        Key::Several(values.map(|value| Part::of(value).unwrap_or(Part::Null)).collect())
    }
}

impl Part {
    fn of(value: ValueRef<'_>) -> Option<Part> {
        Some(match value {
            // Lists are no keys.
            ValueRef::Null | ValueRef::List(_) => return None,
            ValueRef::Integer(number) => Part::Integer(number),
            ValueRef::Decimal(units, scale) => Part::of_decimal(Decimal { units: units.get(), scale }),
            // Databases join a real with the whole number that it equals.
            ValueRef::Real(number) if number.fract() == 0.0 && number.abs() < 9e15 => Part::Integer(number as i64),
            ValueRef::Real(number) => Part::Real(number.to_bits()),
            ValueRef::Boolean(truth) => Part::Boolean(truth),
            ValueRef::Date(days) => Part::Date(days),
            ValueRef::Timestamp(micros) => Part::Timestamp(micros),
            ValueRef::Uuid(bytes) => Part::Uuid(bytes),
            ValueRef::Text(text) => Part::Text(text.into()),
            ValueRef::Blob(bytes) => Part::Blob(bytes.into()),
        })
    }

    /// A whole decimal is the whole number that it equals.
    fn of_decimal(Decimal { mut units, mut scale }: Decimal) -> Part {
        while scale > 0 && units % 10 == 0 {
            (units, scale) = (units / 10, scale - 1);
        }
        match i64::try_from(units) {
            Ok(number) if scale == 0 => Part::Integer(number),
            _ => Part::Decimal(units, scale),
        }
    }
}

#[cfg(test)]
mod tests {
    use kampf_schema::Value;

    use super::*;

    fn key(values: &[Value]) -> Option<Key> {
        Key::of(values.iter().map(Value::as_ref))
    }

    #[test]
    fn keys_are_equal_where_their_values_are_and_only_there() {
        let decimal = |units: i128, scale| Value::Decimal(units.into(), scale);
        let uuid = |last: u8| Value::Uuid([0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, last]);
        assert_eq!(key(&[Value::Integer(7)]), Some(Key::Integer(7)));
        for (one, other) in [
            (decimal(700, 2), Value::Integer(7)),
            (decimal(725, 2), decimal(7250, 3)),
            (Value::Real(0.0), Value::Real(-0.0)),
            (Value::Real(7.0), Value::Integer(7)),
            (Value::from("a"), Value::from("a")),
            (uuid(1), uuid(1)),
        ] {
            assert_eq!(key(std::slice::from_ref(&one)), key(std::slice::from_ref(&other)), "{one} {other}");
        }
        for (one, other) in [
            (Value::Integer(7), Value::from("7")),
            (Value::from("a"), Value::from("A")),
            (uuid(1), uuid(2)),
            (uuid(1), Value::from("00000000-0000-0000-0000-000000000001")),
            (Value::Date(1), Value::Integer(1)),
            (Value::Date(1), Value::Timestamp(86_400_000_000)),
            (Value::Boolean(true), Value::Integer(1)),
            (Value::Blob([1].into()), Value::from("01")),
        ] {
            assert_ne!(key(std::slice::from_ref(&one)), key(std::slice::from_ref(&other)), "{one} {other}");
        }
        // What joins the parts cannot be forged by them.
        assert_ne!(key(&[Value::from("a\u{1}1b"), Value::from("c")]), key(&[Value::from("a"), Value::from("1b\u{1}c")]));
        assert_ne!(key(&[Value::from("ab"), Value::from("c")]), key(&[Value::from("a"), Value::from("bc")]));
        assert_eq!(key(&[Value::Integer(1), Value::Null]), None);
        assert_eq!(key(&[Value::Null]), None);
    }
}
