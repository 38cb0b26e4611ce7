//! Texts of a shape: patterns of codes, regular expressions of checks. A shape can be drawn from, and counted through.

use regex_syntax::hir::{Class, Hir, HirKind};

use crate::random::Random;

/// Repetitions without an upper end stop so many beyond their lower one.
const BEYOND: u64 = 8;

/// The characters before and behind the surrogates.
const GAP: (char, char) = ('\u{d7ff}', '\u{e000}');

/// The shape of a text.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Shape {
    /// Always this.
    Fixed(String),
    /// One character of these ranges, both ends included.
    OneOf(Vec<(char, char)>),
    /// One after the other.
    Joined(Vec<Shape>),
    /// One of them.
    Either(Vec<Shape>),
    /// Between so many and so many times.
    Times(Box<Shape>, u64, u64),
}

impl Shape {
    /// `#` is a digit, `@` a capital letter, `&` a small letter, `~` a hexadecimal digit, anything else itself.
    pub(crate) fn code(pattern: &str) -> Shape {
        let part = |c: char| match c {
            '#' => Shape::OneOf(vec![('0', '9')]),
            '@' => Shape::OneOf(vec![('A', 'Z')]),
            '&' => Shape::OneOf(vec![('a', 'z')]),
            '~' => Shape::OneOf(vec![('0', '9'), ('a', 'f')]),
            other => Shape::Fixed(other.to_string()),
        };
        Shape::Joined(pattern.chars().map(part).collect())
    }

    /// The texts that a regular expression matches as a whole; `None` where it uses what cannot be made. Where the expression
    /// may match anywhere in a text, the text is nothing but the match.
    pub(crate) fn regex(pattern: &str) -> Option<Shape> {
        let hir = regex_syntax::Parser::new().parse(pattern).ok()?;
        of(&hir)
    }

    /// How many different texts there are.
    pub(crate) fn count(&self) -> u64 {
        match self {
            Shape::Fixed(_) => 1,
            Shape::OneOf(ranges) => width(ranges),
            Shape::Joined(parts) => parts.iter().fold(1, |all, part| all.saturating_mul(part.count())),
            Shape::Either(parts) => parts.iter().fold(0, |all, part| all.saturating_add(part.count())),
            Shape::Times(part, low, high) => {
                let each = part.count();
                (*low..=*high).fold(0_u64, |all, times| all.saturating_add(power(each, times)))
            }
        }
    }

    /// Most characters of a text, and fewest.
    pub(crate) fn lengths(&self) -> (u64, u64) {
        match self {
            Shape::Fixed(text) => {
                let length = text.chars().count() as u64;
                (length, length)
            }
            Shape::OneOf(_) => (1, 1),
            Shape::Joined(parts) => parts.iter().map(Shape::lengths).fold((0, 0), |(low, high), part| (low + part.0, high + part.1)),
            Shape::Either(parts) => {
                let lengths = || parts.iter().map(Shape::lengths);
                (lengths().map(|(low, _)| low).min().unwrap_or(0), lengths().map(|(_, high)| high).max().unwrap_or(0))
            }
            Shape::Times(part, low, high) => {
                let each = part.lengths();
                (each.0 * low, each.1 * high)
            }
        }
    }

    /// The shape with repetitions cut so that no text is longer, where that can be done.
    pub(crate) fn shortened(self, longest: u64) -> Shape {
        let (_, most) = self.lengths();
        if most <= longest {
            return self;
        }
        match self {
            Shape::Times(part, low, high) => {
                let each = part.lengths().1.max(1);
                Shape::Times(part, low, high.min((longest / each).max(low)))
            }
            Shape::Joined(mut parts) => {
                // The last repetition gives way first.
                let mut over = most - longest;
                for part in parts.iter_mut().rev() {
                    let own = part.lengths();
                    if over == 0 || own.1 == own.0 {
                        continue;
                    }
                    let shorter = part.clone().shortened(own.1.saturating_sub(over).max(own.0));
                    over = over.saturating_sub(own.1 - shorter.lengths().1);
                    *part = shorter;
                }
                Shape::Joined(parts)
            }
            other => other,
        }
    }

    pub(crate) fn draw(&self, random: &mut Random, out: &mut String) {
        match self {
            Shape::Fixed(text) => out.push_str(text),
            Shape::OneOf(ranges) => out.extend(nth_char(ranges, random.below(width(ranges)))),
            Shape::Joined(parts) => parts.iter().for_each(|part| part.draw(random, out)),
            Shape::Either(parts) => {
                if let Some(part) = parts.get(random.below(parts.len() as u64) as usize) {
                    part.draw(random, out);
                }
            }
            Shape::Times(part, low, high) => (0..low + random.below(high - low + 1)).for_each(|_| part.draw(random, out)),
        }
    }

    /// The text of a number below the count: different numbers give different texts. Where there are more texts than numbers,
    /// chance says the rest.
    pub(crate) fn nth(&self, number: u64, random: &mut Random, out: &mut String) {
        match self {
            Shape::Fixed(text) => out.push_str(text),
            Shape::OneOf(ranges) => out.extend(nth_char(ranges, number)),
            Shape::Joined(parts) => {
                // The last part counts fastest.
                let mut digits = Vec::with_capacity(parts.len());
                let (mut rest, mut worth) = (number, 1_u64);
                for part in parts.iter().rev() {
                    let count = part.count().max(1);
                    digits.push(if worth == u64::MAX { random.below(count) } else { rest % count });
                    rest /= count;
                    worth = worth.saturating_mul(count);
                }
                for (part, digit) in parts.iter().zip(digits.into_iter().rev()) {
                    part.nth(digit, random, out);
                }
            }
            Shape::Either(parts) => {
                let mut rest = number;
                for part in parts {
                    let count = part.count();
                    if rest < count {
                        return part.nth(rest, random, out);
                    }
                    rest -= count;
                }
            }
            Shape::Times(part, low, high) => {
                let each = part.count();
                let mut rest = number;
                for times in *low..=*high {
                    let count = power(each, times);
                    if rest < count {
                        for place in (0..times).rev() {
                            let unit = power(each, place);
                            let digit = if unit == u64::MAX { random.below(each) } else { rest / unit % each.max(1) };
                            part.nth(digit, random, out);
                        }
                        return;
                    }
                    rest -= count;
                }
            }
        }
    }
}

fn power(base: u64, times: u64) -> u64 {
    base.saturating_pow(u32::try_from(times).unwrap_or(u32::MAX))
}

fn width(ranges: &[(char, char)]) -> u64 {
    ranges.iter().map(|(low, high)| u64::from(*high as u32 - *low as u32 + 1)).sum()
}

fn nth_char(ranges: &[(char, char)], number: u64) -> Option<char> {
    let mut rest = number as u32;
    for (low, high) in ranges {
        let size = *high as u32 - *low as u32 + 1;
        if rest < size {
            return char::from_u32(*low as u32 + rest);
        }
        rest -= size;
    }
    None
}

fn of(hir: &Hir) -> Option<Shape> {
    Some(match hir.kind() {
        HirKind::Empty | HirKind::Look(_) => Shape::Fixed(String::new()),
        HirKind::Literal(literal) => Shape::Fixed(std::str::from_utf8(&literal.0).ok()?.to_owned()),
        HirKind::Class(class) => Shape::OneOf(ranges(class)?),
        HirKind::Repetition(repetition) => {
            let low = u64::from(repetition.min);
            let high = repetition.max.map_or(low + BEYOND, u64::from);
            Shape::Times(Box::new(of(&repetition.sub)?), low, high)
        }
        HirKind::Capture(capture) => of(&capture.sub)?,
        HirKind::Concat(parts) => Shape::Joined(parts.iter().map(of).collect::<Option<_>>()?),
        HirKind::Alternation(parts) => Shape::Either(parts.iter().map(of).collect::<Option<_>>()?),
    })
}

/// The plain characters of a class before all others: what can be typed and read.
fn ranges(class: &Class) -> Option<Vec<(char, char)>> {
    let all: Vec<(char, char)> = match class {
        Class::Unicode(class) => class.iter().map(|range| (range.start(), range.end())).collect(),
        Class::Bytes(class) => class.iter().map(|range| (char::from(range.start()), char::from(range.end()))).collect(),
    };
    let within = |low: char, high: char| -> Vec<(char, char)> {
        all.iter().filter(|(start, end)| *start <= high && *end >= low).map(|(start, end)| ((*start).max(low), (*end).min(high))).collect()
    };
    // Letters and digits of a class that allows nearly everything; else what of it can be typed.
    let wide = width(&within(' ', '~')) > 80;
    let plain = if wide { [within('0', '9'), within('A', 'Z'), within('a', 'z')].concat() } else { within('!', '~') };
    let found = [plain, within(' ', ' '), all.clone()].into_iter().find(|ranges| !ranges.is_empty())?;
    // A range that goes over the gap of surrogates cannot be counted through.
    let splits = |(low, high): (char, char)| match low < GAP.0 && high > GAP.1 {
        true => vec![(low, GAP.0), (GAP.1, high)],
        false => vec![(low, high)],
    };
    Some(found.into_iter().flat_map(splits).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(shape: &Shape) -> Vec<String> {
        (0..shape.count()).map(|number| text(|out| shape.nth(number, &mut Random::at(1, number), out))).collect()
    }

    fn text(write: impl FnOnce(&mut String)) -> String {
        let mut out = String::new();
        write(&mut out);
        out
    }

    #[test]
    fn a_shape_counts_through_all_its_texts() {
        let shape = Shape::regex("^(?:a[xy]{1,2}|b)\\d?$").unwrap();
        assert_eq!(shape.count(), 77);
        let all = all(&shape);
        assert_eq!(all.iter().collect::<std::collections::HashSet<_>>().len(), 77);
        let regex = |text: &str| text.starts_with('a') || text.starts_with('b');
        assert!(all.iter().all(|text| regex(text)) && all.contains(&"axy7".to_owned()) && all.contains(&"b".to_owned()));
        assert_eq!(Shape::code("AB-##@").count(), 2600);
        assert_eq!(text(|out| Shape::code("AB-##@").nth(2599, &mut Random::at(1, 1), out)), "AB-99Z");
        assert_eq!(Shape::regex("^[a-z]+$").unwrap().shortened(4).lengths(), (1, 4));
        assert!(Shape::regex("(?=x)").is_none());
        let long = |number| text(|out| Shape::code(&"~".repeat(40)).nth(number, &mut Random::at(1, number), out));
        assert!(long(1).len() == 40 && !long(1).starts_with("0000") && long(1) != long(2));
    }

    proptest::proptest! {
        #![proptest_config(kampf_mangle::property(256))]
        #[test]
        fn drawn_texts_fit_the_expression(row in 0_u64..1000, pattern in proptest::sample::select(vec![
            "^[A-Z]{2}-[0-9]{4}$", "^[^@\\s]+@[^@\\s]+\\.[a-z]{2,}$", "^(calm|lively)?$", "^#[0-9a-fA-F]{6}$", "^\\w+$", "^v\\d+(\\.\\d+)*$", "x",
        ])) {
            let drawn = text(|out| Shape::regex(pattern).unwrap().draw(&mut Random::at(1, row), out));
            let compiled = kampf_schema::expr::Pattern::regex(pattern, false).unwrap();
            proptest::prop_assert!(compiled.fits(&drawn), "{} does not fit {}", drawn, pattern);
        }
    }
}
