//! Guesses for numbers.

use kampf_schema::{LogicalType, TableId, Value, name_words};

use super::room::{fitting, unit};
use super::{Guess, Subject, guess, named};

/// Words that name a point in time.
pub(super) const MOMENTS: [&str; 45] = [
    "created",
    "updated",
    "modified",
    "changed",
    "clock",
    "timestamp",
    "date",
    "datetime",
    "expires",
    "expire",
    "expiry",
    "expiration",
    "started",
    "ended",
    "finished",
    "registered",
    "deleted",
    "opened",
    "closed",
    "seen",
    "login",
    "lastlogin",
    "lastaccess",
    "accessed",
    "access",
    "visited",
    "inserted",
    "added",
    "published",
    "sent",
    "received",
    "starttime",
    "endtime",
    "ctime",
    "mtime",
    "atime",
    "lastupdated",
    "stime",
    "createdat",
    "updatedat",
    "lastchange",
    "lastcheck",
    "lastseen",
    "lastchanged",
    "lastmodified",
];

/// Words at the end of a name that say that a number counts seconds since 1970, or milliseconds where there is room for them.
pub(super) const TICKS: [&str; 4] = ["ts", "epoch", "unixtime", "millis"];

/// Whether a column of whole numbers counts the seconds since 1970.
pub(super) fn is_moment(subject: &Subject<'_>) -> bool {
    let wide = subject.column.limits.is_none_or(|(_, high)| high >= i64::from(i32::MAX));
    let free = subject.bounds.least.as_ref().is_none_or(|least| matches!(least, Value::Integer(low) if *low <= 1_500_000_000))
        && subject.bounds.most.as_ref().is_none_or(|most| matches!(most, Value::Integer(high) if *high >= i64::from(i32::MAX)));
    let named = subject.has(&MOMENTS)
        || subject.ends(&TICKS)
        || subject.ends(&["at", "since", "until"]) && subject.words.len() > 1
        || subject.is(&["time", "starttime", "endtime", "stoptime"])
        || subject.words.first().is_some_and(|word| word == "last")
            && subject.ends(&["access", "backup", "check", "login", "modified", "notify", "ping", "run", "seen", "sync", "used", "visit"])
        || subject.ends(&["time"])
            && subject.has(&[
                "start", "end", "stop", "begin", "from", "until", "event", "check", "update", "change", "create", "creation", "log",
                "entry",
            ]);
    let counted = subject.has(&[
        "count", "counter", "num", "nb", "interval", "period", "limit", "max", "min", "delay", "id", "status", "type", "mode", "flag",
        "flags", "right", "rights", "by", "user", "uid", "no",
    ]);
    wide && free && named && !counted
}

pub(super) fn whole(subject: &Subject<'_>) -> Guess {
    fitting(subject, guessed_whole(subject))
}

fn guessed_whole(subject: &Subject<'_>) -> Guess {
    let has = |words: &[&str]| subject.has(words);
    if let Some(recipe) = super::times::seconds(subject) {
        return guess(recipe, "its name");
    }
    if let Some(child) = counted_child(subject) {
        return guess(format!("count({})", named(&child)), "its name");
    }
    if let Some(unit) = unit(subject) {
        let (low, high) = bounded(subject, (1, unit.most));
        return guess(format!("{} in {low}..{high}", unit.distribution(low as f64, high as f64)), "the unit in its name");
    }
    let flag = has(&[
        "is", "has", "can", "flag", "enabled", "disabled", "active", "visible", "deleted", "hidden", "allow", "allowed", "use", "locked",
        "notify", "show",
    ]) && !has(&["count", "id"]);
    let named = match () {
        () if has(&["year"]) => Some((2000, 2026, "2000..2026")),
        () if has(&["month"]) => Some((1, 12, "1..12")),
        () if has(&["day", "dom"]) => Some((1, 31, "1..31")),
        () if has(&["weekday", "dow"]) => Some((0, 6, "0..6")),
        () if has(&["hour", "hours"]) => Some((0, 23, "0..23")),
        () if has(&["minute", "minutes"]) => Some((0, 59, "0..59")),
        () if has(&["age"]) => Some((0, 90, "normal(41, 17) in 0..90")),
        () if has(&["port"]) => {
            Some((1, 65_535, "pick(22 2, 25 1, 53 1, 80 4, 110 1, 143 1, 161 1, 443 6, 993 1, 3306 1, 5432 1, 8080 2)"))
        }
        () if has(&["percent", "percentage", "share", "score", "progress", "quality", "humidity", "battery", "signal"]) => {
            Some((0, 100, "normal(62, 20) in 0..100"))
        }
        () if has(&["rating", "stars", "grade"]) => Some((1, 5, "pick(1 1, 2 1, 3 3, 4 6, 5 5)")),
        () if flag => Some((0, 1, if subject.default() == Some(&Value::Integer(1)) { "pick(1 6, 0 1)" } else { "pick(0 4, 1 1)" })),
        () if has(&["priority", "prio", "severity", "level", "importance"]) => Some((0, 5, "pick(0 2, 1 5, 2 4, 3 3, 4 1, 5 1)")),
        () if has(&["status", "state", "type", "kind", "mode", "category", "class", "flags", "method", "action", "direction"]) => {
            Some((0, 4, "pick(0 6, 1 3, 2 2, 3 1, 4 1)"))
        }
        () if has(&["version", "revision", "rev", "generation"]) => Some((1, 40, "zipf(1.2) in 1..40")),
        () if subject.words.len() > 1 && subject.ends(&["time"]) => Some((0, 1_000_000, "lognormal(600, 1.2) in 0..1_000_000")),
        () if has(&[
            "timeout",
            "interval",
            "delay",
            "ttl",
            "duration",
            "sessiontime",
            "period",
            "refresh",
            "retry",
            "expire",
            "minimum",
            "lifetime",
            "wait",
        ]) =>
        {
            Some((1, 86_400, "pick(5 1, 10 2, 30 5, 60 6, 300 5, 600 2, 900 1, 1800 1, 3600 3, 86400 1)"))
        }
        () if has(&[
            "position",
            "rank",
            "sort",
            "sortorder",
            "order",
            "ordering",
            "seq",
            "sequence",
            "index",
            "step",
            "row",
            "col",
            "column",
        ]) =>
        {
            Some((0, 24, "0..24"))
        }
        () if has(&["width", "height"]) => Some((1, 1920, "pick(320 1, 640 2, 800 2, 1024 3, 1280 5, 1920 4)")),
        () if has(&["size", "bytes", "length", "octets", "filesize"]) || subject.holds(&["octets", "bytes"]) => {
            Some((0, 2_000_000_000, "lognormal(6000, 1.8) in 0..2_000_000_000"))
        }
        () if has(&["price", "amount", "total", "cost", "sum", "balance", "salary", "revenue", "fee"]) => {
            Some((0, 10_000_000, "lognormal(2400, 1) in 0..10_000_000"))
        }
        () if has(&[
            "count", "counter", "quantity", "qty", "hits", "views", "visits", "attempts", "tries", "retries", "num", "number", "nb",
            "items", "pages", "stock", "usage",
        ]) || subject.holds(&["count"]) =>
        {
            Some((0, 100_000, "exponential(14) in 0..100_000"))
        }
        () if has(&["uid", "gid"]) => Some((1000, 60_000, "1000..60_000")),
        () if has(&["weight", "mass"]) => Some((0, 100, "0..100")),
        () if has(&["code"]) => Some((100, 999, "100..999")),
        () if subject.ends(&["id", "by", "creator", "owner", "uid", "parent", "ref"]) || has(&["creator", "owner"]) => {
            Some((1, 500, "1..500"))
        }
        () => None,
    };
    let (low, high) = bounded(subject, named.map_or((0, 1000), |(low, high, _)| (low, high)));
    match named {
        // As it stands where the checks allow all of it; else the part of its range that they allow.
        Some((from, to, recipe)) if (from, to) == (low, high) => guess(recipe, "its name"),
        Some((_, _, recipe)) if recipe.contains(" in ") && low < high => {
            let distribution = recipe.split(" in ").next().unwrap_or(recipe);
            guess(format!("{distribution} in {low}..{high}"), "its name")
        }
        Some(_) => guess(format!("{low}..{high}"), "its name"),
        None => match subject.default() {
            // A small number that is 0 or 1 by default is mostly a yes or a no.
            Some(Value::Integer(usual @ 0..=1))
                if high <= 1 || subject.column.limits.is_some_and(|(_, most)| most <= 32_767) && low <= 0 && high >= 1 =>
            {
                guess(format!("pick({usual} 6, {} 1)", 1 - usual), "its default")
            }
            Some(Value::Integer(0)) if low <= 0 && high > 100 => guess(format!("exponential(9) in 0..{high}"), "its default"),
            Some(Value::Integer(usual)) if (low..=high).contains(usual) && high - low >= 4 => {
                let others = [usual / 2, usual * 2, usual * 4].into_iter().filter(|other| other != usual && (low..=high).contains(other));
                let others: Vec<String> = others.map(|other| format!(", {other} 1")).collect();
                guess(format!("pick({usual} 9{})", others.concat()), "its default")
            }
            _ => guess(format!("{low}..{high}"), if checked(subject) { "a check" } else { "its type" }),
        },
    }
}

/// Whether a check, and not only its type, bounds a column of whole numbers.
fn checked(subject: &Subject<'_>) -> bool {
    let of_type = subject.column.limits.map(|(low, high)| (Some(Value::Integer(low)), Some(Value::Integer(high))));
    of_type.unwrap_or_default() != (subject.bounds.least.clone(), subject.bounds.most.clone())
}

/// A guessed range, moved to where type and checks allow it.
fn bounded(subject: &Subject<'_>, (mut low, mut high): (i64, i64)) -> (i64, i64) {
    let whole = |value: &Option<Value>| if let Some(Value::Integer(number)) = value { Some(*number) } else { None };
    let (least, most) = (whole(&subject.bounds.least), whole(&subject.bounds.most));
    let width = high - low;
    if let Some(least) = least
        && low < least
    {
        low = least;
        if high < low {
            high = low.saturating_add(width);
        }
    }
    if let Some(most) = most
        && high > most
    {
        high = most;
        if low > high {
            low = least.unwrap_or_else(|| high.saturating_sub(width)).min(high);
        }
    }
    (low, high)
}

/// Decimals and reals.
pub(super) fn broken(subject: &Subject<'_>) -> Guess {
    fitting(subject, guessed_broken(subject))
}

fn guessed_broken(subject: &Subject<'_>) -> Guess {
    let has = |words: &[&str]| subject.has(words);
    let (scale, room) = match subject.column.kind {
        LogicalType::Decimal { precision, scale } => (u32::from(scale), 10_f64.powi(i32::from(precision.min(15)) - i32::from(scale))),
        _ => (2, 1e15),
    };
    let named = match () {
        () if has(&["lat", "latitude"]) => Some((47.0, 55.0, "")),
        () if has(&["lon", "lng", "long", "longitude"]) => Some((6.0, 15.0, "")),
        () if has(&["price", "amount", "total", "cost", "sum", "balance", "salary", "revenue", "fee", "subtotal", "net", "gross"]) => {
            Some((0.0, 100_000.0, "lognormal(38, 1)"))
        }
        () if has(&["rate", "ratio", "factor", "probability", "prob", "fraction", "tax", "discount"]) => Some((0.0, 1.0, "")),
        () if has(&["percent", "percentage", "score", "progress", "humidity", "load"]) => Some((0.0, 100.0, "normal(55, 20)")),
        () if has(&["temperature", "temp"]) => Some((-10.0, 40.0, "normal(14, 8)")),
        () if has(&["weight", "mass", "kg", "height", "length", "width", "distance", "size", "area", "volume"]) => {
            Some((0.0, 1000.0, "lognormal(12, 0.7)"))
        }
        () if has(&["quantity", "qty", "count", "stock"]) => Some((0.0, 10_000.0, "exponential(9)")),
        () if has(&["rating", "stars"]) => Some((1.0, 5.0, "normal(3.8, 0.8)")),
        () if has(&["value", "measure", "reading", "level"]) => Some((0.0, 1000.0, "normal(240, 90)")),
        () => None,
    };
    let unit = unit(subject);
    let named = unit.map(|unit| (0.0, unit.most as f64, "")).or(named);
    let (mut low, mut high, distribution): (f64, f64, &str) = named.unwrap_or((0.0, 1000.0, ""));
    let real = |value: &Option<Value>| value.as_ref().and_then(|value| value.as_ref().as_real());
    let (least, most) = (real(&subject.bounds.least), real(&subject.bounds.most));
    let width = high - low;
    if let Some(least) = least {
        low = low.max(least);
        high = if high < low { low + width } else { high };
    }
    high = high.min(most.unwrap_or(f64::MAX)).min(room - 10_f64.powi(-(scale as i32)));
    if low > high {
        low = least.unwrap_or(high - width).min(high);
    }
    // Whole numbers are written without a fraction, others with the digits that the type keeps.
    let digits = scale.min(6) as usize;
    let written = |number: f64, up: bool| {
        let unit = 10_f64.powi(digits as i32);
        // Nothing is no less than nothing.
        let rounded = if up { (number * unit - 1e-6).ceil() } else { (number * unit + 1e-6).floor() } / unit + 0.0;
        if rounded == rounded.trunc() && rounded.abs() < 1e15 { format!("{rounded:.0}") } else { format!("{rounded:.digits$}") }
    };
    let of_unit = unit.map(|unit| unit.distribution(low, high));
    let distribution = of_unit.as_deref().unwrap_or(distribution);
    let (low, high) = (written(low, true), written(high, false));
    let why = match () {
        () if unit.is_some() => "the unit in its name",
        () if named.is_some() => "its name",
        () => "its type",
    };
    let range = if low == high {
        low
    } else if distribution.is_empty() {
        format!("{low}..{high}")
    } else {
        format!("{distribution} in {low}..{high}")
    };
    guess(range, why)
}

/// The table whose rows a column counts by its name: `comment_count`, `num_comments`, of rows that are counted for each of this table.
fn counted_child(subject: &Subject<'_>) -> Option<String> {
    const COUNTS: [&str; 6] = ["count", "num", "number", "total", "of", "cnt"];
    let is_count = subject.has(&["count", "num", "cnt"]) || subject.has(&["number"]) && subject.has(&["of"]);
    if !is_count {
        return None;
    }
    // What is counted cannot be another number where a check wants one.
    let bounds = subject.bounds;
    let above = bounds.most.as_ref().is_none_or(|most| matches!(most, Value::Integer(most) if *most >= i64::from(i16::MAX)));
    let below = bounds.least.as_ref().is_none_or(|least| matches!(least, Value::Integer(..=0)));
    let table = subject.schema.table(subject.table);
    let rules = table.checks.iter().filter_map(|check| check.rule.as_ref().ok().map(kampf_schema::Rule::column_set));
    let alone = rules.into_iter().all(|columns| !columns.contains(&subject.id) || columns == [subject.id]);
    if !above || !below || !alone || bounds.one_of.is_some() {
        return None;
    }
    let one = |word: &str| word.strip_suffix('s').unwrap_or(word).to_owned();
    let what: Vec<String> = subject.words.iter().filter(|word| !COUNTS.contains(&word.as_str())).map(|word| one(word)).collect();
    let is_meant = |id: &TableId| {
        let table = subject.schema.table(*id);
        let words: Vec<String> = name_words(&table.name).iter().map(|word| one(word)).collect();
        let by = subject.counted.get(id.0).copied().flatten();
        !what.is_empty()
            && words.ends_with(&what)
            && by.is_some_and(|by| table.references[by].parent == subject.table)
            && *id != subject.table
    };
    let mut meant = subject.schema.ids().filter(is_meant);
    let child = meant.next()?;
    meant.next().is_none().then(|| subject.schema.table(child).name.clone())
}
