use super::*;
use crate::expr::{Written, read_give};

/// Columns by the first letter of their names: i integer, d decimal(9, 2), r real, t text, b boolean, y date, m time; parameters are open.
#[derive(Default)]
struct Letters {
    settled: Vec<(String, LogicalType, bool)>,
}

impl Kinds<Written> for Letters {
    fn of(&self, leaf: &Written) -> Option<LogicalType> {
        match leaf {
            Written::Path(names) => Some(match names[0].text.chars().next()? {
                'i' => LogicalType::Integer,
                'd' => LogicalType::Decimal { precision: 9, scale: 2 },
                'r' => LogicalType::Real,
                'b' => LogicalType::Boolean,
                'y' => LogicalType::Date,
                'm' => LogicalType::Timestamp,
                _ => LogicalType::TEXT,
            }),
            Written::Parameter(name) => self.settled.iter().find(|(known, ..)| *known == name.text).map(|(_, kind, _)| *kind),
            _ => None,
        }
    }

    fn settle(&mut self, leaf: &Written, kind: LogicalType, is_list: bool, _: Span) -> Result<(), Mistake> {
        if let Written::Parameter(name) = leaf {
            self.settled.push((name.text.clone(), kind, is_list));
        }
        Ok(())
    }
}

fn checked(text: &str) -> Result<(String, LogicalType, Letters), Mistake> {
    let read = read_give(text).unwrap_or_else(|error| panic!("{text}: {error:?}"));
    let mut letters = Letters::default();
    let (expr, kind) = check(&read.value, None, &mut letters)?;
    Ok((format!("{:?}", expr.node), kind, letters))
}

fn kind(text: &str) -> LogicalType {
    checked(text).unwrap_or_else(|mistake| panic!("{text}: {mistake:?}")).1
}

#[test]
fn every_form_has_its_type() {
    let decimal = |precision, scale| LogicalType::Decimal { precision, scale };
    for (text, expected) in [
        ("i + 1", LogicalType::Integer),
        ("i / 2", LogicalType::Real),
        ("d / i", LogicalType::Real),
        ("d + 1", decimal(10, 2)),
        ("d * 1.05", decimal(12, 4)),
        ("d * d", decimal(18, 4)),
        ("d + i", decimal(22, 2)),
        ("r * d", LogicalType::Real),
        ("round(d * 1.05, 1)", decimal(13, 1)),
        ("-d", decimal(9, 2)),
        ("coalesce(i, d)", decimal(21, 2)),
        ("coalesce(d, 1)", decimal(9, 2)),
        ("coalesce(d, r)", LogicalType::Real),
        ("coalesce(y, m)", LogicalType::Timestamp),
        ("case when b then 1 else 2.5 end", decimal(2, 1)),
        ("case when i > 1 then t end", LogicalType::TEXT),
        ("nullif(i, 3)", LogicalType::Integer),
        ("lower(t) || trim(t)", LogicalType::TEXT),
        ("length(t) % 2", LogicalType::Integer),
        ("start_of(month, m)", LogicalType::Date),
        ("extract(hour from m)", LogicalType::Integer),
        ("days_between(y, m)", LogicalType::Integer),
        ("t like 'a%' and not b", LogicalType::Boolean),
        ("i in (1, 2.5) or m between 2024-01-01 and y", LogicalType::Boolean),
    ] {
        assert_eq!(kind(text), expected, "{text}");
    }
}

#[test]
fn what_stands_beside_gives_a_parameter_its_type() {
    for (text, kind, is_list) in [
        ("i > :p", LogicalType::Integer, false),
        ("i + :p > 3", LogicalType::Integer, false),
        ("coalesce(:p, t) = 'x'", LogicalType::TEXT, false),
        ("t contains :p", LogicalType::TEXT, false),
        ("case when b then :p else y end = 2024-01-01", LogicalType::Date, false),
        ("m = :p", LogicalType::Timestamp, false),
        ("extract(hour from :p) = i", LogicalType::Timestamp, false),
        ("i in :p", LogicalType::Integer, true),
        (":p", LogicalType::Boolean, false),
    ] {
        if text == ":p" {
            assert!(checked(text).is_err(), "a parameter alone has no type");
            continue;
        }
        let (_, _, letters) = checked(text).unwrap_or_else(|mistake| panic!("{text}: {mistake:?}"));
        assert_eq!(letters.settled, [("p".to_owned(), kind, is_list)], "{text}");
    }
}

#[test]
fn values_are_brought_to_one_type_where_one_of_them_is_the_result() {
    assert!(checked("coalesce(i, d)").unwrap().0.contains("To(Decimal"));
    assert!(checked("y < m").unwrap().0.contains("To(Timestamp)"), "a date beside a time is made one");
    assert!(checked("m > 2024-03-01").unwrap().0.contains("Literal(Timestamp"), "a written one is one at once");
    assert!(!checked("i < d").unwrap().0.contains("To("), "numbers are compared as they are");
}

#[test]
fn what_cannot_stand_together_is_told_where_it_stands() {
    for (text, place, message) in [
        ("i + t", (4, 5), "`+` needs numbers, and this is text"),
        ("t + 1", (0, 1), "`+` needs numbers, and this is text"),
        ("t + :p", (0, 1), "`+` needs numbers, and this is text"),
        ("t || i", (5, 6), "`||` needs a text, and this is integer"),
        ("y - y", (0, 1), "`-` needs numbers, and this is date"),
        ("d % 2", (0, 1), "`%` is for whole numbers"),
        ("i = t", (4, 5), "this is text and cannot be compared with integer"),
        ("i = 'x'", (4, 7), "this is compared with integer, which it is not"),
        ("coalesce(i, t)", (12, 13), "this is text and cannot be compared with integer"),
        ("case when i then 1 end", (10, 11), "a condition is needed here"),
        ("not i", (4, 5), "a condition is needed here"),
        ("round(r, 1)", (6, 7), "this is real, which rounds differently from engine to engine"),
        ("round(d, i)", (9, 10), "how many digits is written out, from 0"),
        ("extract(hour from y)", (18, 19), "a date has no hour"),
        ("start_of(hour, m)", (0, 17), "`start_of` gives a date, and a date has no hour"),
        ("length(i)", (7, 8), "`length` needs a text, and this is integer"),
        ("i = null", (4, 8), "nothing is equal to null"),
        ("1 = 2", (0, 1), "this compares nothing of the row"),
        ("-t", (1, 2), "a number is needed here, and this is text"),
        ("d * d * d * d * d * d", (0, 17), "this may have more than 36 digits"),
    ] {
        let mistake = checked(text).err().unwrap_or_else(|| panic!("{text} is taken"));
        assert_eq!((mistake.message.as_str(), (mistake.span.start, mistake.span.end)), (message, place), "{text}");
    }
}
