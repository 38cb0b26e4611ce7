//! Makers: what turns a row number into a value.

use std::fmt::Write;

use kampf_schema::{Decimal, Value, ValueRef};

use crate::after::Step;
use crate::batch::Batch;
use crate::derived::Derived;
use crate::others::{Alone, Origin, Others};
use crate::period::{DAY, MILLI, Period, SECOND};
use crate::random::{Random, Zipf};
use crate::shape::Shape;
use crate::uuids::{marked, uuid_in_order, uuid_of_number, uuid_of_row};
use crate::vocabulary::Vocabulary;

/// Makes the values of a column that is neither a reference nor bound by a rule over several columns.
#[derive(Clone, Debug)]
pub(crate) enum Maker {
    Fixed(Value),
    /// Whole numbers, both ends included.
    Integers(i64, i64),
    /// Units of a decimal at a scale, both ends included.
    Decimals(i128, i128, u8),
    Reals(f64, f64),
    /// Numbers of a distribution, rounded to the kind and brought inside the bounds.
    Numbers {
        from: Distribution,
        bounds: Option<(f64, f64)>,
        kind: NumberKind,
    },
    /// Values with the upper ends of their shares in 2^32.
    Pick(Vec<(Value, u64)>),
    /// Row after row: first value, step.
    Sequence(i64, i64, NumberKind),
    Words(u64, u64),
    Text(u64, u64),
    /// Words with a capital at the front.
    Title(u64, u64),
    FirstName,
    LastName,
    Name,
    Place,
    Street,
    Email,
    Login,
    Url,
    Host,
    Slug(u64, u64),
    Code(Shape),
    Address,
    Dates(Period),
    Timestamps(Period),
    /// Seconds since 1970, in a whole number.
    Seconds(Period),
    /// Milliseconds since 1970.
    Millis(Period),
    /// True in so many of 100.
    Boolean(u64),
    Uuid,
    /// In the order of rows, as those of version 7 are.
    UuidInOrder(i64),
    Bytes(u64, u64),
    /// A time of day between two, in seconds.
    TimeOfDay(u32, u32),
    /// A length of time between two, in seconds.
    Length(u64, u64),
    /// Members of a JSON object, with shares of null in 100_000.
    Object(Vec<(String, Maker, u32)>),
    /// Several of a maker's values: fewest, most, and how they are written.
    List(Box<Maker>, u64, u64, ListForm),
    /// Some of several words, joined by commas.
    Several(Vec<String>),
    /// Made from other columns of the row, or from one of its parent.
    From(Box<Derived>),
}

/// A distribution of numbers.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Distribution {
    Normal {
        mean: f64,
        deviation: f64,
    },
    /// The median, and the standard deviation of the logarithm.
    LogNormal {
        median: f64,
        sigma: f64,
    },
    Exponential {
        mean: f64,
    },
    /// Ranks from the lower bound on.
    Zipf(Zipf, f64),
}

/// How the texts of a list are joined.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum ListForm {
    Json,
    Braces,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum NumberKind {
    Integer,
    Decimal(u8),
    Real,
}

impl Maker {
    /// Makes the value of the `row`-th row.
    #[inline]
    pub(crate) fn make(&self, random: &mut Random, row: u64, words: &Vocabulary, others: &dyn Others, out: &mut Batch) {
        match self {
            Maker::Fixed(value) => out.push(value.as_ref()),
            Maker::Integers(low, high) => out.push(ValueRef::Integer(random.between((*low).into(), (*high).into()) as i64)),
            Maker::Decimals(low, high, scale) => out.push(ValueRef::Decimal(random.between(*low, *high).into(), *scale)),
            Maker::Reals(low, high) => out.push(ValueRef::Real(low + (high - low) * random.unit())),
            Maker::Numbers { from, bounds, kind } => out.push(kind.value(bounded(from.draw(random), *bounds)).as_ref()),
            Maker::Pick(values) => {
                let at = random.next() >> 32;
                let chosen = values.partition_point(|(_, end)| *end <= at).min(values.len() - 1);
                out.push(values[chosen].0.as_ref());
            }
            Maker::Sequence(start, step, kind) => out.push(kind.units(start.wrapping_add(step.wrapping_mul(row as i64))).as_ref()),
            Maker::Dates(period) => out.push(ValueRef::Date(period.draw(random, 1) as i32)),
            Maker::Timestamps(period) => out.push(ValueRef::Timestamp(period.draw(random, DAY))),
            Maker::Seconds(period) => out.push(ValueRef::Integer(period.draw(random, DAY) / SECOND)),
            Maker::Millis(period) => out.push(ValueRef::Integer(period.draw(random, DAY) / MILLI + random.below(1000) as i64)),
            Maker::Boolean(share) => out.push(ValueRef::Boolean(random.below(100) < *share)),
            Maker::Uuid => {
                let bits = (u128::from(random.next()) << 64 | u128::from(random.next())).to_be_bytes();
                out.push(ValueRef::Uuid(marked(bits, 4)));
            }
            Maker::UuidInOrder(start) => out.push(ValueRef::Uuid(uuid_of_row(*start, row, random))),
            Maker::Bytes(low, high) => {
                let length = between(random, *low, *high);
                let bytes: Vec<u8> = (0..length).map(|_| random.next() as u8).collect();
                out.push(ValueRef::Blob(&bytes));
            }
            Maker::From(derived) => derived.make(random, row, words, others, out),
            text => out.push_text(|out| text.write(random, row, words, out)),
        }
    }

    /// Writes a text.
    fn write(&self, random: &mut Random, row: u64, words: &Vocabulary, out: &mut String) {
        match self {
            Maker::Words(low, high) => {
                let count = between(random, *low, *high);
                words.words(random, count, out);
            }
            Maker::Text(low, high) => {
                let count = between(random, *low, *high);
                words.text(random, count, out);
            }
            Maker::Title(low, high) => {
                let start = out.len();
                let count = between(random, *low, *high);
                words.words(random, count, out);
                if let Some(first) = out[start..].chars().next() {
                    let upper: String = first.to_uppercase().collect();
                    out.replace_range(start..start + first.len_utf8(), &upper);
                }
            }
            Maker::FirstName => words.first_name(random, out),
            Maker::LastName => words.last_name(random, out),
            Maker::Name => words.name(random, out),
            Maker::Place => words.place(random, out),
            Maker::Street => words.street(random, out),
            Maker::Email => {
                words.slug(random, 1, out);
                out.push('.');
                words.slug(random, 1, out);
                out.push_str("@example.org");
            }
            Maker::Login => {
                words.slug(random, 1, out);
                let _ = write!(out, "{}", random.below(100));
            }
            Maker::Url => {
                out.push_str("https://");
                words.slug(random, 1, out);
                out.push_str(".example.org/");
                words.slug(random, 2, out);
            }
            Maker::Host => {
                words.slug(random, 1, out);
                let _ = write!(out, "{:02}.example.org", random.below(100));
            }
            Maker::Slug(low, high) => {
                let count = between(random, *low, *high);
                words.slug(random, count, out);
            }
            Maker::Code(shape) => shape.draw(random, out),
            // The networks for private use (RFC 1918).
            Maker::Address => {
                let _ = write!(out, "10.{}.{}.{}", random.below(256), random.below(256), 1 + random.below(254));
            }
            Maker::TimeOfDay(low, high) => {
                let seconds = between(random, (*low).into(), (*high).into());
                let _ = write!(out, "{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
            }
            Maker::Length(low, high) => {
                let seconds = between(random, *low, *high);
                let _ = write!(out, "{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
            }
            Maker::Object(members) => {
                out.push('{');
                for (at, (key, maker, null_share)) in members.iter().enumerate() {
                    out.push_str(if at == 0 { "" } else { ", " });
                    json_text(key, out);
                    out.push_str(": ");
                    if random.chance(*null_share) {
                        out.push_str("null");
                    } else {
                        maker.write_json(random, row, words, out);
                    }
                }
                out.push('}');
            }
            Maker::List(maker, low, high, form) => {
                let count = between(random, *low, *high);
                out.push(if *form == ListForm::Json { '[' } else { '{' });
                for at in 0..count {
                    out.push_str(match (at, form) {
                        (0, _) => "",
                        (_, ListForm::Json) => ", ",
                        (_, ListForm::Braces) => ",",
                    });
                    maker.write_json(random, row, words, out);
                }
                out.push(if *form == ListForm::Json { ']' } else { '}' });
            }
            Maker::Several(members) => {
                let start = out.len();
                for member in members {
                    if random.below(2) == 1 {
                        out.push_str(if out.len() == start { "" } else { "," });
                        out.push_str(member);
                    }
                }
            }
            // Not texts; made another way.
            _ => {}
        }
    }

    /// Writes a value as JSON does.
    fn write_json(&self, random: &mut Random, row: u64, words: &Vocabulary, out: &mut String) {
        if matches!(self, Maker::Object(_) | Maker::List(..)) {
            return self.write(random, row, words, out);
        }
        let mut batch = Batch::new(1);
        self.make(random, row, words, &Alone, &mut batch);
        match batch.last() {
            ValueRef::Text(text) => json_text(text, out),
            value @ (ValueRef::Null | ValueRef::Integer(_) | ValueRef::Decimal(..) | ValueRef::Real(_) | ValueRef::Boolean(_)) => {
                let _ = write!(out, "{value}");
            }
            other => json_text(&other.to_string(), out),
        }
    }

    /// How many different values the maker can be made to give one for each number; none where it has no such order.
    pub(crate) fn capacity(&self) -> Option<u64> {
        let width = |low: i128, high: i128| u64::try_from(high - low + 1).unwrap_or(u64::MAX);
        match self {
            Maker::Fixed(_) => Some(1),
            Maker::Integers(low, high) => Some(width((*low).into(), (*high).into())),
            Maker::Decimals(low, high, _) => Some(width(*low, *high)),
            Maker::Dates(period) => Some(width(period.low.into(), period.high.into())),
            Maker::Timestamps(period) | Maker::Seconds(period) | Maker::Millis(period) => {
                Some(width((period.low / SECOND).into(), (period.high / SECOND).into()))
            }
            Maker::Code(shape) => Some(shape.count()),
            Maker::Pick(values) => Some(values.len() as u64),
            Maker::Boolean(_) => Some(2),
            Maker::Uuid | Maker::UuidInOrder(_) | Maker::Sequence(..) => Some(u64::MAX),
            Maker::Address => Some(1 << 24),
            Maker::Bytes(low, _) => Some(if *low >= 8 { u64::MAX } else { 1 << (8 * low) }),
            Maker::Several(members) => Some(1 << members.len().min(63)),
            Maker::TimeOfDay(low, high) => Some(u64::from(high - low) + 1),
            _ => None,
        }
    }

    /// The value of a number below the capacity: different numbers give different values.
    pub(crate) fn nth(&self, number: u64, key: u64, out: &mut Batch) {
        match self {
            Maker::Fixed(value) => out.push(value.as_ref()),
            Maker::Integers(low, _) => out.push(ValueRef::Integer(low + number as i64)),
            Maker::Decimals(low, _, scale) => out.push(ValueRef::Decimal((low + i128::from(number)).into(), *scale)),
            Maker::Dates(period) => out.push(ValueRef::Date((period.low + number as i64) as i32)),
            Maker::Timestamps(period) => out.push(ValueRef::Timestamp((period.low / SECOND + number as i64) * SECOND)),
            Maker::Seconds(period) => out.push(ValueRef::Integer(period.low / SECOND + number as i64)),
            Maker::Millis(period) => out.push(ValueRef::Integer((period.low / SECOND + number as i64) * (SECOND / MILLI))),
            Maker::Pick(values) => out.push(values[number as usize % values.len()].0.as_ref()),
            Maker::Boolean(_) => out.push(ValueRef::Boolean(number == 1)),
            Maker::Sequence(start, step, kind) => out.push(kind.units(start.wrapping_add(step.wrapping_mul(number as i64))).as_ref()),
            Maker::Uuid => out.push(ValueRef::Uuid(uuid_of_number(number, key))),
            Maker::UuidInOrder(start) => out.push(ValueRef::Uuid(uuid_in_order(*start, number, key))),
            Maker::Address => out.push_text(|out| {
                let _ = write!(out, "10.{}.{}.{}", number >> 16 & 255, number >> 8 & 255, number & 255);
            }),
            Maker::Bytes(low, _) => {
                let mut bytes = vec![0; *low as usize];
                let mut random = Random::at(key, number);
                bytes.iter_mut().for_each(|byte| *byte = random.next() as u8);
                let own = number.to_be_bytes();
                let inside = bytes.len().min(8);
                let from = bytes.len() - inside;
                bytes[from..].copy_from_slice(&own[8 - inside..]);
                out.push(ValueRef::Blob(&bytes));
            }
            Maker::TimeOfDay(low, _) => out.push_text(|out| {
                let seconds = u64::from(*low) + number;
                let _ = write!(out, "{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
            }),
            Maker::Several(members) => out.push_text(|out| {
                let chosen = members.iter().enumerate().filter(|(at, _)| number >> at & 1 == 1).map(|(_, member)| member.as_str());
                out.push_str(&chosen.collect::<Vec<_>>().join(","));
            }),
            Maker::Code(shape) => out.push_text(|text| shape.nth(number, &mut Random::at(key, number), text)),
            _ => out.push(ValueRef::Null),
        }
    }

    /// Whether it makes texts out of words and names of its own.
    pub(crate) fn is_text(&self) -> bool {
        matches!(
            self,
            Maker::Words(..)
                | Maker::Text(..)
                | Maker::Title(..)
                | Maker::FirstName
                | Maker::LastName
                | Maker::Name
                | Maker::Place
                | Maker::Street
                | Maker::Email
                | Maker::Login
                | Maker::Url
                | Maker::Host
                | Maker::Slug(..)
        )
    }

    /// Whether it makes what a step of a history has.
    pub(crate) fn is_of_history(&self) -> bool {
        matches!(self, Maker::From(derived) if matches!(**derived, Derived::Path(_) | Derived::Previous(_) | Derived::Step(_)))
    }

    /// Whether texts of the maker can carry a number without losing what they are.
    pub(crate) fn takes_number(&self) -> bool {
        let is_derived_text = |derived: &Derived| matches!(derived, Derived::Email(_) | Derived::Joined(_) | Derived::Slug(_));
        self.is_text() || matches!(self, Maker::From(derived) if is_derived_text(derived))
    }

    /// What other columns the maker looks at.
    pub(crate) fn origins(&self) -> Vec<Origin> {
        match self {
            Maker::From(derived) => match &**derived {
                Derived::Step(Step { of, .. }) | Derived::Linear { of, .. } | Derived::Slug(of) | Derived::Same(of) => vec![*of],
                Derived::After(after) => after.of.clone(),
                Derived::Path(path) => vec![path.of],
                // Of another row; but what that is made from must not be made from this one's.
                Derived::Previous(previous) => vec![Origin::Own(previous.column)],
                Derived::When(of, cases) => std::iter::once(*of).chain(cases.iter().flat_map(|(_, maker, _)| maker.origins())).collect(),
                Derived::Email(of) | Derived::Joined(of) => of.clone(),
                Derived::Count(..) => Vec::new(),
            },
            _ => Vec::new(),
        }
    }
}

impl Distribution {
    fn draw(self, random: &mut Random) -> f64 {
        match self {
            Distribution::Normal { mean, deviation } => mean + deviation * random.normal(),
            Distribution::LogNormal { median, sigma } => median * libm::exp(sigma * random.normal()),
            Distribution::Exponential { mean } => mean * random.exponential(),
            Distribution::Zipf(zipf, low) => low + (zipf.draw(random) - 1) as f64,
        }
    }
}

impl NumberKind {
    pub(crate) fn value(self, number: f64) -> Value {
        match self {
            NumberKind::Integer => Value::Integer(libm::round(number) as i64),
            NumberKind::Real => Value::Real(number),
            NumberKind::Decimal(scale) => {
                Value::Decimal(Decimal::from_real(number, scale).map_or(0, |decimal| decimal.units).into(), scale)
            }
        }
    }

    /// A whole number as the kind.
    fn units(self, number: i64) -> Value {
        match self {
            NumberKind::Integer => Value::Integer(number),
            NumberKind::Real => Value::Real(number as f64),
            NumberKind::Decimal(scale) => Value::Decimal((i128::from(number) * 10_i128.pow(scale.into())).into(), scale),
        }
    }
}

pub(crate) fn bounded(number: f64, bounds: Option<(f64, f64)>) -> f64 {
    bounds.map_or(number, |(low, high)| number.clamp(low, high))
}

fn between(random: &mut Random, low: u64, high: u64) -> u64 {
    if low == high { low } else { low + random.below(high - low + 1) }
}

/// A JSON string (RFC 8259).
fn json_text(text: &str, out: &mut String) {
    out.push('"');
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04x}", c as u32);
            }
            c => out.push(c),
        }
    }
    out.push('"');
}
