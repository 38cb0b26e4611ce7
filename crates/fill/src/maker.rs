//! Makers: what turns a row number into a value.

use std::fmt::Write;

use kampf_schema::{ColumnId, Decimal, Value, ValueRef};

use crate::batch::Batch;
use crate::random::{Permutation, Random, Zipf};
use crate::shape::Shape;
use crate::vocabulary::{Vocabulary, cut, plain};

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

/// A span of time and how points of it are drawn: days or microseconds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Period {
    pub(crate) low: i64,
    pub(crate) high: i64,
    pub(crate) manner: Manner,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Manner {
    Even,
    /// The later, the more: nearly half of all in the last fifth.
    Recent,
    /// Mondays to Fridays, in the hours of the day.
    Office,
}

/// Where another value comes from.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Origin {
    /// A column of the same row.
    Own(ColumnId),
    /// A column of the parent that a link finds.
    Parent(usize, ColumnId),
}

/// Values made from others.
#[derive(Clone, Debug)]
pub(crate) enum Derived {
    /// Later by between so many and so many units of what it is, more often soon than late.
    After(Origin, i64, i64),
    /// Later than a parent's by its number among the parent's children times so much, give or take.
    Step(Origin, i64, i64),
    /// slope * other + intercept, and a normal deviation.
    Linear {
        of: Origin,
        slope: f64,
        intercept: f64,
        noise: f64,
        bounds: Option<(f64, f64)>,
        kind: NumberKind,
    },
    /// By the value of another column; the last one, without a value, for all others.
    When(Origin, Vec<(Option<Value>, Maker, u32)>),
    /// An address or login from names.
    Email(Vec<Origin>),
    Slug(Origin),
    /// The same value.
    Same(Origin),
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum NumberKind {
    Integer,
    Decimal(u8),
    Real,
}

/// Timestamps are whole seconds, as most that applications write are.
const SECOND: i64 = 1_000_000;
const DAY: i64 = 86_400 * SECOND;

/// What derived values are made from.
pub(crate) trait Others {
    /// The value at an origin.
    fn value(&self, origin: Origin) -> Value;
    /// The number of the row among its siblings, from 0.
    fn ordinal(&self, link: usize) -> u64;
}

/// For makers that look at nothing else.
pub(crate) struct Alone;

impl Others for Alone {
    fn value(&self, _: Origin) -> Value {
        Value::Null
    }

    fn ordinal(&self, _: usize) -> u64 {
        0
    }
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
            Maker::Boolean(share) => out.push(ValueRef::Boolean(random.below(100) < *share)),
            Maker::Uuid => {
                let bits = (u128::from(random.next()) << 64 | u128::from(random.next())).to_be_bytes();
                out.push(ValueRef::Uuid(marked(bits, 4)));
            }
            Maker::UuidInOrder(start) => out.push(ValueRef::Uuid(in_order(*start, row, random))),
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
            Maker::Timestamps(period) | Maker::Seconds(period) => Some(width((period.low / SECOND).into(), (period.high / SECOND).into())),
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
            Maker::Pick(values) => out.push(values[number as usize % values.len()].0.as_ref()),
            Maker::Boolean(_) => out.push(ValueRef::Boolean(number == 1)),
            Maker::Sequence(start, step, kind) => out.push(kind.units(start.wrapping_add(step.wrapping_mul(number as i64))).as_ref()),
            Maker::Uuid => {
                // The number itself is inside, encrypted, so that no two are alike.
                let hidden = Permutation::new(1 << 62, key).at(number & ((1 << 62) - 1));
                let bits = (u128::from(Random::at(key, number).next()) << 64 | u128::from(hidden)).to_be_bytes();
                out.push(ValueRef::Uuid(marked(bits, 4)));
            }
            Maker::UuidInOrder(start) => out.push(ValueRef::Uuid(in_order(*start, number, &mut Random::at(key, number)))),
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

    /// Whether texts of the maker can carry a number without losing what they are.
    pub(crate) fn takes_number(&self) -> bool {
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
        ) || matches!(self, Maker::From(derived) if matches!(**derived, Derived::Email(_) | Derived::Slug(_)))
    }

    /// Makes the text just made different from others by a number; others than texts are left as they are.
    pub(crate) fn number(&self, number: u64, longest: Option<u64>, out: &mut Batch) {
        out.amend_text(|text, start| {
            let mark = match self {
                Maker::Host => text[start..].find('.'),
                _ => text[start..].find('@'),
            };
            let (between, at) = match self {
                Maker::Email | Maker::Host => ("", mark),
                Maker::From(_) => (if mark.is_some() { "" } else { "-" }, mark),
                Maker::Url | Maker::Slug(..) => ("-", None),
                Maker::Login => ("", None),
                _ => (" ", None),
            };
            let tail = at.map_or_else(String::new, |at| text.split_off(start + at));
            let ending = format!("{between}{}{tail}", number + 1);
            if let Some(longest) = longest {
                cut(text, start, longest.saturating_sub(ending.len() as u64));
            }
            text.push_str(&ending);
        });
    }

    /// What other columns the maker looks at.
    pub(crate) fn origins(&self) -> Vec<Origin> {
        match self {
            Maker::From(derived) => match &**derived {
                Derived::After(of, ..) | Derived::Step(of, ..) | Derived::Linear { of, .. } | Derived::Slug(of) | Derived::Same(of) => {
                    vec![*of]
                }
                Derived::When(of, cases) => std::iter::once(*of).chain(cases.iter().flat_map(|(_, maker, _)| maker.origins())).collect(),
                Derived::Email(of) => of.clone(),
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

impl Period {
    /// A point of it; `day` units are a day, and points lie on whole seconds, or whole days.
    fn draw(&self, random: &mut Random, day: i64) -> i64 {
        let unit = if day == 1 { 1 } else { SECOND };
        let (low, high) = (self.low / unit, self.high / unit);
        let even = |random: &mut Random| random.between(low.into(), high.into()) as i64;
        match self.manner {
            Manner::Even => even(random) * unit,
            Manner::Recent => {
                let back = random.unit();
                let back = back * back;
                (high - ((high - low) as f64 * back) as i64) * unit
            }
            Manner::Office => {
                let at = even(random) * unit;
                let days = at.div_euclid(day);
                // 1970-01-01 was a Thursday; Saturdays and Sundays go to the Friday before, or the Monday after.
                let weekday = (days + 3).rem_euclid(7);
                let workday = match weekday {
                    5 => days - 1,
                    6 => days + 1,
                    _ => days,
                };
                let workday = if (workday * day) < self.low || (workday + 1) * day - 1 > self.high + day { days } else { workday };
                if day == 1 {
                    return workday;
                }
                // Most between eight and eighteen, around two peaks.
                let peak = if random.below(2) == 0 { 10.0 } else { 14.5 };
                let hours = (peak + 1.6 * random.normal()).clamp(7.0, 19.99);
                (workday * day + (hours * 3600.0) as i64 * SECOND).clamp(self.low, self.high.max(self.low))
            }
        }
    }
}

impl Derived {
    fn make(&self, random: &mut Random, row: u64, words: &Vocabulary, others: &dyn Others, out: &mut Batch) {
        match self {
            Derived::After(of, low, high) => {
                // Most follow soon: squared chances.
                let soon = random.unit();
                let later = low + ((high - low) as f64 * soon * soon) as i64;
                out.push(moved(&others.value(*of), later).as_ref());
            }
            Derived::Step(of, low, high) => {
                let link = if let Origin::Parent(link, _) = of { *link } else { 0 };
                let ordinal = others.ordinal(link) as i64;
                let later = ordinal * (low + high) / 2 + random.between((*low).into(), (*high).into()) as i64;
                out.push(moved(&others.value(*of), later).as_ref());
            }
            Derived::Linear { of, slope, intercept, noise, bounds, kind } => match others.value(*of).as_ref().as_real() {
                Some(other) => out.push(kind.value(bounded(slope * other + intercept + noise * random.normal(), *bounds)).as_ref()),
                None => out.push(ValueRef::Null),
            },
            Derived::When(of, cases) => {
                let other = others.value(*of);
                let fits = |value: &Option<Value>| value.as_ref().is_none_or(|value| value.as_ref().order(other.as_ref()).is_eq());
                match cases.iter().find(|(value, ..)| fits(value)) {
                    Some((_, _, null_share)) if random.chance(*null_share) => out.push(ValueRef::Null),
                    Some((_, maker, _)) => maker.make(random, row, words, others, out),
                    None => out.push(ValueRef::Null),
                }
            }
            Derived::Email(of) => {
                let names: Vec<String> = of
                    .iter()
                    .map(|origin| others.value(*origin))
                    .filter(|name| *name != Value::Null)
                    .map(|name| name.to_string())
                    .collect();
                out.push_text(|out| {
                    let start = out.len();
                    for name in names.iter().flat_map(|name| name.split(' ')) {
                        if out.len() > start {
                            out.push('.');
                        }
                        plain(name, out);
                    }
                    out.push_str("@example.org");
                });
            }
            Derived::Slug(of) => {
                let other = others.value(*of);
                match other {
                    Value::Null => out.push(ValueRef::Null),
                    other => out.push_text(|out| {
                        let start = out.len();
                        plain(&other.to_string(), out);
                        cut(out, start, 48);
                    }),
                }
            }
            Derived::Same(of) => out.push(others.value(*of).as_ref()),
        }
    }
}

/// A date, a timestamp or seconds since 1970, so much later: `later` is in microseconds.
fn moved(value: &Value, later: i64) -> Value {
    match value {
        Value::Date(days) => Value::Date(days.saturating_add(i32::try_from(later / DAY).unwrap_or(i32::MAX))),
        Value::Timestamp(micros) => Value::Timestamp(micros.saturating_add(later / SECOND * SECOND)),
        Value::Integer(seconds) => Value::Integer(seconds.saturating_add(later / SECOND)),
        _ => Value::Null,
    }
}

impl NumberKind {
    fn value(self, number: f64) -> Value {
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

fn bounded(number: f64, bounds: Option<(f64, f64)>) -> f64 {
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

/// The bits that mark a UUID of a version (RFC 9562).
fn marked(mut bytes: [u8; 16], version: u8) -> [u8; 16] {
    bytes[6] = bytes[6] & 0x0f | version << 4;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    bytes
}

/// A UUID of version 7: milliseconds at the front, one more a row, then chance (RFC 9562).
fn in_order(start: i64, row: u64, random: &mut Random) -> [u8; 16] {
    let millis = (start / 1000) as u64 + row;
    let bits = u128::from(millis & 0xffff_ffff_ffff) << 80 | u128::from(random.next() & 0xffff) << 64 | u128::from(random.next());
    marked(bits.to_be_bytes(), 7)
}
