//! Makers: what turns a row number into a value.

use kampf_schema::{Decimal, Value, ValueRef};

use crate::batch::Batch;
use crate::random::{Permutation, Random};
use crate::vocabulary::{Vocabulary, cut};

/// Makes the values of a column that is neither a reference nor bound by a rule over several columns.
#[derive(Clone, Debug)]
pub(crate) enum Maker {
    Fixed(Value),
    /// Whole numbers, both ends included.
    Integers(i64, i64),
    /// Units of a decimal at a scale, both ends included.
    Decimals(i128, i128, u8),
    Reals(f64, f64),
    /// Normal with mean and standard deviation, rounded to the kind and brought inside the bounds.
    Normal {
        mean: f64,
        deviation: f64,
        bounds: Option<(f64, f64)>,
        kind: NumberKind,
    },
    /// Values with the upper ends of their shares in 2^32.
    Pick(Vec<(Value, u64)>),
    Words(u64, u64),
    Text(u64, u64),
    Name,
    Place,
    Email,
    /// `#` a digit, `@` a capital letter, anything else itself.
    Code(String),
    Dates(i32, i32),
    Timestamps(i64, i64),
    /// True in so many of 100.
    Boolean(u64),
    Uuid,
    Bytes(u64),
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum NumberKind {
    Integer,
    Decimal(u8),
    Real,
}

/// Timestamps are whole seconds, as most that applications write are.
const SECOND: i64 = 1_000_000;

impl Maker {
    pub(crate) fn make(&self, random: &mut Random, words: &Vocabulary, out: &mut Batch) {
        match self {
            Maker::Fixed(value) => out.push(value.as_ref()),
            Maker::Integers(low, high) => out.push(ValueRef::Integer(random.between((*low).into(), (*high).into()) as i64)),
            Maker::Decimals(low, high, scale) => out.push(ValueRef::Decimal(random.between(*low, *high).into(), *scale)),
            Maker::Reals(low, high) => out.push(ValueRef::Real(low + (high - low) * random.unit())),
            Maker::Normal { mean, deviation, bounds, kind } => {
                let mut number = mean + deviation * random.normal();
                if let Some((low, high)) = bounds {
                    number = number.clamp(*low, *high);
                }
                out.push(match kind {
                    NumberKind::Integer => ValueRef::Integer(libm::round(number) as i64),
                    NumberKind::Real => ValueRef::Real(number),
                    NumberKind::Decimal(scale) => {
                        let units = Decimal::from_real(number, *scale).map_or(0, |decimal| decimal.units);
                        ValueRef::Decimal(units.into(), *scale)
                    }
                });
            }
            Maker::Pick(values) => {
                let at = random.next() >> 32;
                let chosen = values.partition_point(|(_, end)| *end <= at).min(values.len() - 1);
                out.push(values[chosen].0.as_ref());
            }
            Maker::Words(low, high) => {
                let count = between(random, *low, *high);
                out.push_text(|text| words.words(random, count, text));
            }
            Maker::Text(low, high) => {
                let characters = between(random, *low, *high);
                out.push_text(|text| words.text(random, characters, text));
            }
            Maker::Name => out.push_text(|text| words.name(random, text)),
            Maker::Place => out.push_text(|text| words.place(random, text)),
            Maker::Email => out.push_text(|text| {
                words.words(random, 1, text);
                text.push('.');
                words.words(random, 1, text);
                text.push_str("@example.org");
            }),
            Maker::Code(pattern) => out.push_text(|text| {
                for c in pattern.chars() {
                    match c {
                        '#' => text.push(char::from(b'0' + random.below(10) as u8)),
                        '@' => text.push(char::from(b'A' + random.below(26) as u8)),
                        other => text.push(other),
                    }
                }
            }),
            Maker::Dates(low, high) => out.push(ValueRef::Date(random.between((*low).into(), (*high).into()) as i32)),
            Maker::Timestamps(low, high) => {
                let seconds = random.between((low / SECOND).into(), (high / SECOND).into()) as i64;
                out.push(ValueRef::Timestamp(seconds * SECOND));
            }
            Maker::Boolean(share) => out.push(ValueRef::Boolean(random.below(100) < *share)),
            Maker::Uuid => {
                let bits = (u128::from(random.next()) << 64 | u128::from(random.next())).to_be_bytes();
                out.push(ValueRef::Uuid(version_4(bits)));
            }
            Maker::Bytes(length) => {
                let bytes: Vec<u8> = (0..*length).map(|_| random.next() as u8).collect();
                out.push(ValueRef::Blob(&bytes));
            }
        }
    }

    /// How many different values the maker can be made to give one for each number; none where it has no such order.
    pub(crate) fn capacity(&self) -> Option<u64> {
        let width = |low: i128, high: i128| u64::try_from(high - low + 1).unwrap_or(u64::MAX);
        match self {
            Maker::Integers(low, high) => Some(width((*low).into(), (*high).into())),
            Maker::Decimals(low, high, _) => Some(width(*low, *high)),
            Maker::Dates(low, high) => Some(width((*low).into(), (*high).into())),
            Maker::Timestamps(low, high) => Some(width((low / SECOND).into(), (high / SECOND).into())),
            Maker::Code(pattern) => pattern.chars().try_fold(1_u64, |all, c| match c {
                '#' => Some(all.saturating_mul(10)),
                '@' => Some(all.saturating_mul(26)),
                _ => Some(all),
            }),
            Maker::Pick(values) => Some(values.len() as u64),
            Maker::Uuid => Some(u64::MAX),
            _ => None,
        }
    }

    /// The value of a number below the capacity: different numbers give different values.
    pub(crate) fn nth(&self, number: u64, key: u64, out: &mut Batch) {
        match self {
            Maker::Integers(low, _) => out.push(ValueRef::Integer(low + number as i64)),
            Maker::Decimals(low, _, scale) => out.push(ValueRef::Decimal((low + i128::from(number)).into(), *scale)),
            Maker::Dates(low, _) => out.push(ValueRef::Date(low + number as i32)),
            Maker::Timestamps(low, _) => out.push(ValueRef::Timestamp((low / SECOND + number as i64) * SECOND)),
            Maker::Pick(values) => out.push(values[number as usize % values.len()].0.as_ref()),
            Maker::Uuid => {
                // The number itself is inside, encrypted, so that no two are alike.
                let hidden = Permutation::new(1 << 62, key).at(number & ((1 << 62) - 1));
                let bits = (u128::from(Random::at(key, number).next()) << 64 | u128::from(hidden)).to_be_bytes();
                out.push(ValueRef::Uuid(version_4(bits)));
            }
            Maker::Code(pattern) => {
                let mut rest = number;
                let mut letters: Vec<char> = pattern.chars().collect();
                for c in letters.iter_mut().rev() {
                    let base = match c {
                        '#' => 10,
                        '@' => 26,
                        _ => continue,
                    };
                    let digit = (rest % base) as u8;
                    rest /= base;
                    *c = char::from(if base == 10 { b'0' + digit } else { b'A' + digit });
                }
                out.push_text(|text| text.extend(letters));
            }
            _ => out.push(ValueRef::Null),
        }
    }

    /// Makes texts different from each other by a number at their end; others are left as they are.
    pub(crate) fn make_numbered(&self, random: &mut Random, words: &Vocabulary, number: u64, longest: Option<u64>, out: &mut Batch) {
        self.make(random, words, out);
        out.amend_text(|text, start| {
            let ending = match self {
                Maker::Email => {
                    let at = text[start..].find('@').map_or(text.len(), |at| start + at);
                    text.insert_str(at, &number.to_string());
                    return;
                }
                _ => format!(" {}", number + 1),
            };
            if let Some(longest) = longest {
                cut(text, start, longest.saturating_sub(ending.len() as u64));
            }
            text.push_str(&ending);
        });
    }
}

fn between(random: &mut Random, low: u64, high: u64) -> u64 {
    low + random.below(high - low + 1)
}

/// The bits that mark a random UUID (RFC 9562).
fn version_4(mut bytes: [u8; 16]) -> [u8; 16] {
    bytes[6] = bytes[6] & 0x0f | 0x40;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    bytes
}
