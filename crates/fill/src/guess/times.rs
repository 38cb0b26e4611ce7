//! Guesses for dates and timestamps: things are made, then changed, then closed; what belongs to another is made after it.

use kampf_schema::expr::{Comparison, Node};
use kampf_schema::{Column, ColumnId, LogicalType, Rule, TableId, Value, name_words};

use super::numbers::{MOMENTS, is_moment};
use super::{Guess, Subject, guess, named, written};

/// Words that name the beginning of something.
const BEGINNINGS: [&str; 40] = [
    "insert",
    "insertion",
    "receiving",
    "queued",
    "created",
    "start",
    "starts",
    "started",
    "begin",
    "begins",
    "from",
    "opened",
    "open",
    "since",
    "ordered",
    "registered",
    "inserted",
    "added",
    "entered",
    "joined",
    "hired",
    "issued",
    "sent",
    "ctime",
    "creation",
    "born",
    "placed",
    "submitted",
    "posted",
    "published",
    "requested",
    "booked",
    "bought",
    "purchased",
    "uploaded",
    "signed",
    "made",
    "logged",
    "measured",
    "recorded",
];

/// Words that name something that comes later.
const LATER: [&str; 55] = [
    "sending",
    "delivery",
    "timeout",
    "updated",
    "modified",
    "changed",
    "end",
    "ends",
    "ended",
    "until",
    "to",
    "closed",
    "finished",
    "completed",
    "delivered",
    "shipped",
    "expires",
    "expire",
    "expiry",
    "expiration",
    "due",
    "deleted",
    "resolved",
    "paid",
    "cancelled",
    "last",
    "seen",
    "login",
    "access",
    "accessed",
    "mtime",
    "stop",
    "stopped",
    "read",
    "received",
    "sold",
    "died",
    "returned",
    "refunded",
    "confirmed",
    "approved",
    "accepted",
    "rejected",
    "processed",
    "verified",
    "archived",
    "dispatched",
    "fulfilled",
    "revoked",
    "removed",
    "used",
    "activated",
    "left",
    "answered",
    "reviewed",
];

/// The last day of rows that nobody gave a period, by which what lies ahead is told.
pub const LAST_DAY: &str = "2026-06-30";

/// Where nothing else is known, things happened in these years.
const PERIOD: &str = "2021-01-01..2026-06-30";

fn is_beginning(column: &Column) -> bool {
    name_words(&column.name).iter().any(|word| BEGINNINGS.contains(&word.as_str()) || word.contains("created"))
}

fn is_later(column: &Column) -> bool {
    let words = name_words(&column.name);
    words.iter().any(|word| LATER.contains(&word.as_str()) || word.contains("modified") || word.contains("updated"))
        && !is_beginning(column)
}

/// Whether a column holds points in time, in one form or another.
fn is_time(subject: &Subject<'_>, at: ColumnId, kind: LogicalType) -> bool {
    let column = &subject.schema.table(subject.table).columns[at];
    let seconds = || {
        let words = name_words(&column.name);
        words.iter().any(|word| MOMENTS.contains(&word.as_str()))
    };
    column.kind == kind && (kind != LogicalType::Integer || seconds())
}

/// The column of the same row that this one comes later than.
fn own_beginning(subject: &Subject<'_>) -> Option<ColumnId> {
    let beginning = beginning_of(subject, subject.id)?;
    // Where names and checks contradict each other nothing comes first.
    let mut at = beginning;
    for _ in &subject.schema.table(subject.table).columns {
        match beginning_of(subject, at) {
            Some(earlier) if earlier == subject.id => return None,
            Some(earlier) => at = earlier,
            None => break,
        }
    }
    Some(beginning)
}

/// What a column of the subject's table comes later than, by a check or by their names.
fn beginning_of(subject: &Subject<'_>, id: ColumnId) -> Option<ColumnId> {
    let table = subject.schema.table(subject.table);
    let column = &table.columns[id];
    let fits = |at: ColumnId| {
        let other = &table.columns[at];
        at != id && is_time(subject, at, column.kind) && other.computed.is_none() && (column.nullable || !other.nullable)
    };
    let rules = table.checks.iter().filter_map(|check| check.rule.as_ref().ok());
    if let Some(earlier) = rules.filter_map(|rule| not_before(rule, id)).find(|&at| fits(at)) {
        return Some(earlier);
    }
    if !is_later(column) {
        return None;
    }
    let is_reference = |at: ColumnId| table.references.iter().any(|reference| reference.columns.contains(&at));
    let beginnings = (0..table.columns.len()).filter(|&at| fits(at) && is_beginning(&table.columns[at]) && !is_reference(at));
    // What is said to be made then comes before what merely starts then.
    beginnings.min_by_key(|&at| {
        let words = name_words(&table.columns[at].name);
        let made = ["created", "creation", "inserted", "entered", "added", "registered", "ctime"];
        !words.iter().any(|word| made.contains(&word.as_str()))
    })
}

/// The column that a rule says another does not come before.
fn not_before(rule: &Rule, later: ColumnId) -> Option<ColumnId> {
    match &rule.node {
        Node::Compare(comparison, one, other) => {
            let (one, other) = (*one.as_leaf()?, *other.as_leaf()?);
            match comparison {
                Comparison::GreaterOrEqual | Comparison::Greater if one == later => Some(other),
                Comparison::LessOrEqual | Comparison::Less if other == later => Some(one),
                _ => None,
            }
        }
        Node::And(rules) | Node::Or(rules) => rules.iter().find_map(|rule| not_before(rule, later)),
        _ => None,
    }
}

/// The column of a parent with the time when that was made.
fn parents_beginning(subject: &Subject<'_>) -> Option<(String, String)> {
    if !is_beginning(subject.column) {
        return None;
    }
    let table = subject.schema.table(subject.table);
    table.references.iter().find_map(|reference| {
        let [column] = reference.columns.as_slice() else { return None };
        if reference.parent == subject.table || table.columns[*column].nullable || leads_back(subject, reference.parent) {
            return None;
        }
        let parent = subject.schema.table(reference.parent);
        let beginning = parent.columns.iter().find(|column| {
            column.kind == subject.column.kind
                && is_beginning(column)
                && column.computed.is_none()
                && (subject.column.nullable || !column.nullable)
        })?;
        if subject.column.kind == LogicalType::Integer && !name_words(&beginning.name).iter().any(|word| MOMENTS.contains(&word.as_str())) {
            return None;
        }
        let ambiguous = table.references.iter().filter(|other| other.parent == reference.parent).count() > 1;
        let by = if ambiguous { &table.columns[*column].name } else { &parent.name };
        Some((by.clone(), beginning.name.clone()))
    })
}

/// Whether a parent refers to this table in its turn, by whatever way: then neither can come after the other.
fn leads_back(subject: &Subject<'_>, parent: TableId) -> bool {
    let mut seen = vec![parent];
    let mut at = 0;
    while at < seen.len() {
        for reference in &subject.schema.table(seen[at]).references {
            if reference.parent == subject.table {
                return true;
            }
            if !seen.contains(&reference.parent) {
                seen.push(reference.parent);
            }
        }
        at += 1;
    }
    false
}

fn bounds_are_free(subject: &Subject<'_>) -> bool {
    subject.column.kind == LogicalType::Integer || subject.bounds.least.is_none() && subject.bounds.most.is_none()
}

/// What follows something else in time.
fn following(subject: &Subject<'_>) -> Option<String> {
    if !bounds_are_free(subject) {
        return None;
    }
    if let Some(beginning) = own_beginning(subject) {
        let name = &subject.schema.table(subject.table).columns[beginning].name;
        let span = if subject.has(&["expires", "expire", "expiry", "expiration", "until", "due", "valid"]) {
            "'7 days'..'2 years'"
        } else if subject.column.kind == LogicalType::Date {
            "'0 days'..'90 days'"
        } else {
            "'1 minute'..'60 days'"
        };
        return Some(format!("after({}, {span})", named(name)));
    }
    parents_beginning(subject).map(|(parent, column)| format!("after({}.{}, '0 days'..'200 days')", named(&parent), named(&column)))
}

pub(super) fn time(subject: &Subject<'_>) -> Guess {
    if let Some(recipe) = following(subject) {
        return guess(recipe, "its name and its neighbour's");
    }
    let (period, manner) = match () {
        () if subject.has(&["birth", "born", "birthday", "dob", "birthdate"]) => ("1940-01-01..2008-12-31", ""),
        () if subject.has(&["due", "expires", "expire", "expiry", "expiration", "planned", "scheduled", "deadline", "next"]) => {
            ("2026-01-01..2027-12-31", "")
        }
        () if is_beginning(subject.column) || is_later(subject.column) || subject.has(&["at", "date", "time"]) => (PERIOD, "recent"),
        () => (PERIOD, ""),
    };
    let period = within_bounds(subject, period);
    guess(if manner.is_empty() { period } else { format!("{manner}({period})") }, if manner.is_empty() { "its type" } else { "its name" })
}

/// The period, moved to where the checks allow it.
fn within_bounds(subject: &Subject<'_>, period: &str) -> String {
    let (least, most) = (&subject.bounds.least, &subject.bounds.most);
    let days = |value: &Value| match value {
        Value::Date(days) => i64::from(*days),
        Value::Timestamp(micros) => micros.div_euclid(86_400_000_000),
        _ => 0,
    };
    let ends = period.split("..").map(|end| kampf_schema::parse_date(end).map_or(0, i64::from)).collect::<Vec<_>>();
    let (low, high) = (ends[0], ends[1]);
    let outside = |value: &Value, up: bool| if up { days(value) > low } else { days(value) < high };
    let later = |value: &Value, by: i64| match value {
        Value::Date(days) => Value::Date(days.saturating_add(i32::try_from(by).unwrap_or(0))),
        Value::Timestamp(micros) => Value::Timestamp(micros.saturating_add(by * 86_400_000_000)),
        other => other.clone(),
    };
    let text = |at: usize| period.split("..").nth(at).unwrap_or_default().to_owned();
    match (least, most) {
        (Some(least), Some(most)) if outside(least, true) || outside(most, false) => format!("{}..{}", written(least), written(most)),
        (Some(least), None) if days(least) >= high => format!("{}..{}", written(least), written(&later(least, high - low))),
        (Some(least), _) if outside(least, true) => format!("{}..{}", written(least), text(1)),
        (None, Some(most)) if days(most) <= low => format!("{}..{}", written(&later(most, low - high)), written(most)),
        (_, Some(most)) if outside(most, false) => format!("{}..{}", text(0), written(most)),
        _ => period.to_owned(),
    }
}

/// Whole numbers that count the seconds since 1970.
pub(super) fn seconds(subject: &Subject<'_>) -> Option<String> {
    is_moment(subject).then(|| following(subject).unwrap_or_else(|| format!("recent({PERIOD})")))
}
