//! Guesses for dates and timestamps: things are made, then changed, then closed; what belongs to another is made after it.

use kampf_schema::expr::{Comparison, Node};
use kampf_schema::{Column, ColumnId, LogicalType, Rule, TableId, Value, name_words};

use super::numbers::{MOMENTS, is_moment};
use super::{Guess, Subject, guess, named, named_parent, written};
use crate::names::{self, Stage};

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

/// When people are up.
const HOURS: &str = ", '07:00'..'23:00'";

/// Words of the days on which people and animals come into the world.
const BIRTHS: [&str; 5] = ["birth", "born", "birthday", "dob", "birthdate"];

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

/// Whether a column holds points in time that are told in the same way as the subject's: dates and timestamps together, or seconds.
pub(super) fn is_like(subject: &Subject<'_>, column: &Column) -> bool {
    match subject.column.kind {
        LogicalType::Integer => {
            column.kind == LogicalType::Integer && name_words(&column.name).iter().any(|word| MOMENTS.contains(&word.as_str()))
        }
        _ => names::is_time(column),
    }
}

/// The columns of the same row that this one comes later than, the last of them in front.
fn own_beginnings(subject: &Subject<'_>) -> Vec<ColumnId> {
    // Where names and checks contradict each other nothing comes first.
    let is_made_from_this = |mut at: ColumnId| {
        for _ in &subject.schema.table(subject.table).columns {
            match beginning_of(subject, at) {
                Some(earlier) if earlier == subject.id => return true,
                Some(earlier) => at = earlier,
                None => break,
            }
        }
        false
    };
    let Some(beginning) = beginning_of(subject, subject.id).filter(|&at| !is_made_from_this(at)) else { return Vec::new() };
    // What was never finished can be closed all the same.
    let columns = &subject.schema.table(subject.table).columns;
    let goes_without = matches!(names::stage(subject.column), Some(Stage::Closed | Stage::Deleted)) && columns[beginning].nullable;
    let comes_before = |at: &ColumnId| {
        let other = &columns[*at];
        let stages = names::stage(subject.column).zip(names::stage(other));
        *at != beginning
            && is_like(subject, other)
            && other.computed.is_none()
            && stages.is_some_and(|(own, other)| names::comes_after(own, other))
    };
    let others = (0..columns.len()).filter(|at| goes_without && comes_before(at) && !is_made_from_this(*at));
    std::iter::once(beginning).chain(others).collect()
}

/// What a column of the subject's table comes later than: by a check, by where in a life their names say they stand, or by other words.
fn beginning_of(subject: &Subject<'_>, id: ColumnId) -> Option<ColumnId> {
    let table = subject.schema.table(subject.table);
    let column = &table.columns[id];
    let is_reference = |at: ColumnId| table.references.iter().any(|reference| reference.columns.contains(&at));
    let fits = |at: ColumnId| {
        let other = &table.columns[at];
        at != id && is_like(subject, other) && other.computed.is_none() && (column.nullable || !other.nullable)
    };
    let rules = table.checks.iter().filter_map(|check| check.rule.as_ref().ok());
    if let Some(earlier) = rules.filter_map(|rule| not_before(rule, id)).find(|&at| fits(at)) {
        return Some(earlier);
    }
    let others = || (0..table.columns.len()).filter(|&at| fits(at) && !is_reference(at));
    if let Some(own) = names::stage(column) {
        // The last of those that come before has the others before it.
        let before = others().filter_map(|at| Some((names::stage(&table.columns[at])?, at)));
        let before = before.filter(|(stage, _)| names::comes_after(own, *stage));
        if let Some((_, at)) = before.max_by_key(|&(stage, at)| (stage, std::cmp::Reverse(at))) {
            return Some(at);
        }
    }
    if !is_later(column) {
        return None;
    }
    // What is said to be made then comes before what merely starts then.
    others().filter(|&at| is_beginning(&table.columns[at])).min_by_key(|&at| {
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

/// The times of parents when those were made, as recipes name them: what belongs to something comes after it.
fn parents_beginnings(subject: &Subject<'_>) -> Vec<String> {
    let has_time = is_beginning(subject.column) || names::stage(subject.column).is_some() || names::happened(subject.column);
    if !has_time || subject.has(&BIRTHS) {
        return Vec::new();
    }
    let table = subject.schema.table(subject.table);
    let mut always = false;
    let mut found = Vec::new();
    for reference in &table.references {
        let [column] = reference.columns.as_slice() else { continue };
        let is_own = reference.parent == subject.table;
        let made = if is_own {
            // An answer comes after what it answers; where each must answer one, the first answers itself.
            let answers = names::says_answer(&table.columns[*column]) && table.columns[*column].nullable;
            let answers = answers && subject.column.kind != LogicalType::Integer;
            Some(subject.id).filter(|_| answers)
        } else {
            made(subject, reference.parent).filter(|_| !leads_back(subject, reference.parent))
        };
        let Some(made) = made else { continue };
        let parent = subject.schema.table(reference.parent);
        always |= !table.columns[*column].nullable && !parent.columns[made].nullable;
        found.push(format!("{}.{}", named_parent(subject, reference), named(&parent.columns[made].name)));
    }
    // Where none is always known, the row may have no time.
    if always || subject.column.nullable { found } else { Vec::new() }
}

/// The column of a parent that says when it was made.
fn made(subject: &Subject<'_>, parent: TableId) -> Option<ColumnId> {
    let columns = &subject.schema.table(parent).columns;
    let fits = |at: &ColumnId| {
        let column = &columns[*at];
        is_like(subject, column)
            && column.computed.is_none()
            && !name_words(&column.name).iter().any(|word| BIRTHS.contains(&word.as_str()))
    };
    let all = || (0..columns.len()).filter(fits);
    all().find(|&at| names::stage(&columns[at]) == Some(Stage::Made)).or_else(|| all().find(|&at| is_beginning(&columns[at])))
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

/// How much later than an earlier time of the same row, by what the two say.
fn span(subject: &Subject<'_>, beginning: &Column) -> &'static str {
    use Stage::{Begun, Cancelled, Closed, Deleted, Due, Ended, Issued, Made, Paid, Planned};

    let table = subject.schema.table(subject.table);
    let days = subject.column.kind == LogicalType::Date;
    let long = names::goes_on_for_long(table);
    match (names::stage(beginning), names::stage(subject.column)) {
        _ if subject.has(&["expires", "expire", "expiry", "expiration", "until", "valid"]) => "'7 days'..'2 years'",
        (Some(Made), Some(Planned)) => "'1 day'..'60 days'",
        (Some(Planned), Some(Begun)) => "'0 minutes'..'3 hours'",
        (_, Some(Ended)) if long => "'30 days'..'2 years'",
        (Some(Begun | Planned), Some(Ended)) if names::is_of_machines(table, subject.column) => "'1 second'..'20 minutes'",
        (Some(Begun | Planned), Some(Ended)) if days => "'0 days'..'5 days'",
        (Some(Begun | Planned), Some(Ended)) => "'15 minutes'..'5 hours'",
        (_, Some(Begun)) if names::is_of_machines(table, subject.column) => "'0 seconds'..'5 minutes'",
        (_, Some(Begun)) => "'1 hour'..'14 days'",
        (_, Some(Issued)) => "'1 minute'..'3 days'",
        (Some(Issued), Some(Due)) => "'14 days'..'30 days'",
        (_, Some(Due)) => "'7 days'..'60 days'",
        (_, Some(Paid)) => "'1 hour'..'45 days'",
        (_, Some(Cancelled)) => "'1 hour'..'30 days'",
        (_, Some(Closed)) => "'1 hour'..'200 days'",
        (_, Some(Deleted)) => "'1 day'..'2 years'",
        _ if subject.has(&["due", "deadline"]) => "'7 days'..'60 days'",
        _ if days => "'0 days'..'90 days'",
        _ => "'1 minute'..'60 days'",
    }
}

/// What follows something else in time.
fn following(subject: &Subject<'_>) -> Option<String> {
    if !bounds_are_free(subject) {
        return None;
    }
    let columns = &subject.schema.table(subject.table).columns;
    let own = own_beginnings(subject);
    let (before, span, is_short) = match own.first() {
        Some(&beginning) => {
            let beginning = &columns[beginning];
            let span = span(subject, beginning);
            // What lasts for hours from a time may end at night; a day has no hours to begin with.
            let is_short = !span.contains("day") && beginning.kind == subject.column.kind;
            (own.iter().map(|&at| named(&columns[at].name)).collect(), span, is_short)
        }
        None => {
            let span = match subject.column.kind {
                LogicalType::Date => "'0 days'..'200 days'",
                _ => "'1 minute'..'200 days'",
            };
            (parents_beginnings(subject), span, false)
        }
    };
    if before.is_empty() {
        return None;
    }
    let hours = if is_short { "" } else { hours(subject) };
    Some(format!("after({}, {span}{hours}{})", before.join(", "), until(subject)))
}

/// The last day, as a recipe's further argument, of what does not lie ahead.
pub(super) fn until(subject: &Subject<'_>) -> String {
    if lies_ahead(subject) { String::new() } else { format!(", {LAST_DAY}") }
}

/// The hours in which people do something, as a recipe's further argument.
pub(super) fn hours(subject: &Subject<'_>) -> &'static str {
    let told = names::stage(subject.column).is_some()
        || names::happened(subject.column)
        || is_beginning(subject.column)
        || is_later(subject.column);
    let people = subject.column.kind == LogicalType::Timestamp && told;
    if people && !names::is_of_machines(subject.schema.table(subject.table), subject.column) { HOURS } else { "" }
}

/// Whether a time may lie ahead: its name says so, and nothing that must have happened comes after it.
fn lies_ahead(subject: &Subject<'_>) -> bool {
    let columns = &subject.schema.table(subject.table).columns;
    let own = names::stage(subject.column);
    let is_past = |column: &Column| {
        let after = own.zip(names::stage(column)).is_some_and(|(own, other)| names::comes_after(other, own));
        after && !column.nullable && !names::may_lie_ahead(column)
    };
    names::may_lie_ahead(subject.column) && !columns.iter().any(is_past)
}

pub(super) fn time(subject: &Subject<'_>) -> Guess {
    if let Some(recipe) = following(subject) {
        return guess(recipe, "its name and what comes before it");
    }
    let is_told = is_beginning(subject.column) || is_later(subject.column) || subject.has(&["at", "on", "date", "time"]);
    match () {
        () if subject.has(&BIRTHS) => guess(within_bounds(subject, "1940-01-01..2008-12-31"), "its name"),
        () if subject.has(&["due", "expires", "expire", "expiry", "expiration", "planned", "scheduled", "deadline", "next"]) => {
            let period = within_bounds(subject, if lies_ahead(subject) { "2026-01-01..2027-12-31" } else { PERIOD });
            let has_hours = subject.column.kind == LogicalType::Timestamp && !hours(subject).is_empty();
            guess(if has_hours { format!("office({period})") } else { period }, "its name")
        }
        () if is_told => guess(format!("recent({}{})", within_bounds(subject, PERIOD), hours(subject)), "its name"),
        () => guess(within_bounds(subject, PERIOD), "its type"),
    }
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

/// Whole numbers that count the seconds since 1970, or milliseconds.
pub(super) fn seconds(subject: &Subject<'_>) -> Option<String> {
    let says_millis = subject.ends(&["millis", "milliseconds", "ms"]) && subject.has(&MOMENTS);
    let is_wide = subject.column.limits.is_none_or(|(_, high)| high > i64::from(u32::MAX));
    // What counts from the epoch counts seconds, as everywhere where the word comes from.
    if is_wide && is_moment(subject) && (says_millis || subject.ends(&["ts", "millis"])) {
        return Some(format!("recent({PERIOD}, 'milliseconds')"));
    }
    is_moment(subject).then(|| following(subject).unwrap_or_else(|| format!("recent({PERIOD})")))
}
