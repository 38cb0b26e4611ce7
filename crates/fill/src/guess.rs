//! Guessing how a column's values look, from its name, type and checks.

use kampf_schema::expr::RowCount;
use kampf_schema::{CheckRule, ColumnId, LogicalType, Schema, TableId, Value, days_from_civil};

use crate::maker::Maker;
use crate::recipe::pick_evenly;

/// Thousandths of a percent of nulls where nothing is said: one in ten.
pub(crate) const NULL_SHARE: u32 = 10_000;

/// The maker that suits a column's name, type and checks.
pub(crate) fn maker(schema: &Schema, table: TableId, column: ColumnId) -> Maker {
    let model = schema.table(table);
    let rules: Vec<&CheckRule> =
        model.checks.iter().flat_map(|check| &check.rules).filter(|(of, _)| *of == column).map(|(_, rule)| rule).collect();
    for rule in &rules {
        if let CheckRule::OneOf(values) = rule
            && !values.is_empty()
        {
            return pick_evenly(values);
        }
    }
    let name = model.columns[column].name.to_lowercase();
    let has = |parts: &[&str]| parts.iter().any(|part| name.split('_').any(|word| word == *part));
    match model.columns[column].kind {
        LogicalType::Integer => {
            let (low, high) = match () {
                () if has(&["year"]) => (2000, 2026),
                () if has(&["age"]) => (0, 90),
                () if has(&["percent", "share", "score"]) => (0, 100),
                () if name.starts_with("is_") || name.starts_with("has_") => (0, 1),
                () if has(&["count", "quantity", "amount", "number", "position", "rank"]) => (0, 100),
                () => (0, 1000),
            };
            let (low, high) = bounded(&rules, low, high, |value| match value {
                Value::Integer(number) => Some(*number),
                _ => None,
            });
            Maker::Integers(low, high)
        }
        LogicalType::Decimal { precision, scale } => {
            let unit = 10_i128.pow(u32::from(scale));
            let most = 10_i128.pow(u32::from(precision.min(15))) - 1;
            let (low, high) = bounded(&rules, 0, (1000 * unit).min(most), |value| match value {
                Value::Decimal(units, _) => Some(units.get()),
                _ => None,
            });
            Maker::Decimals(low, high, scale)
        }
        LogicalType::Real => {
            let low = rules.iter().find_map(|rule| if let CheckRule::AtLeast(value, _) = rule { value.as_ref().as_real() } else { None });
            let high = rules.iter().find_map(|rule| if let CheckRule::AtMost(value, _) = rule { value.as_ref().as_real() } else { None });
            let place: Option<(f64, f64)> =
                if has(&["lat", "latitude"]) { Some((47.0, 55.0)) } else { has(&["lon", "lng", "longitude"]).then_some((6.0, 15.0)) };
            let (from, to) = place.unwrap_or((0.0, 100.0));
            let low = low.unwrap_or(from.min(high.map_or(from, |high| high - 1.0)));
            Maker::Reals(low, high.unwrap_or(to.max(low + 1.0)))
        }
        LogicalType::Text { length } => text(&name, &rules, length),
        LogicalType::Boolean => Maker::Boolean(50),
        LogicalType::Date => {
            let (low, high) = if has(&["birth", "born", "birthday"]) { (1940, 2008) } else { (2015, 2026) };
            let (low, high) = bounded(&rules, days_from_civil(low, 1, 1), days_from_civil(high, 6, 30), |value| match value {
                Value::Date(days) => Some(*days),
                _ => None,
            });
            Maker::Dates(low, high)
        }
        LogicalType::Timestamp => {
            let micros = |year, month, day| i64::from(days_from_civil(year, month, day)) * 86_400_000_000;
            let (low, high) = bounded(&rules, micros(2020, 1, 1), micros(2026, 6, 30), |value| match value {
                Value::Timestamp(micros) => Some(*micros),
                _ => None,
            });
            Maker::Timestamps(low, high)
        }
        LogicalType::Uuid => Maker::Uuid,
        LogicalType::Blob => Maker::Bytes(32),
    }
}

/// The guessed range, moved to where the checks allow it.
fn bounded<T>(rules: &[&CheckRule], mut low: T, mut high: T, read: impl Fn(&Value) -> Option<T>) -> (T, T)
where
    T: Copy + PartialOrd + std::ops::Add<Output = T> + std::ops::Sub<Output = T> + From<u8>,
{
    let width = high - low;
    let (mut least, mut most) = (None, None);
    for rule in rules {
        match rule {
            CheckRule::AtLeast(value, included) => least = read(value).map(|bound| if *included { bound } else { bound + T::from(1) }),
            CheckRule::AtMost(value, included) => most = read(value).map(|bound| if *included { bound } else { bound - T::from(1) }),
            _ => {}
        }
    }
    if let Some(least) = least
        && low < least
    {
        low = least;
        if high < low {
            high = low + width;
        }
    }
    if let Some(most) = most
        && high > most
    {
        high = most;
        if low > high {
            low = least.unwrap_or(high - width);
        }
    }
    (low, high)
}

fn text(name: &str, rules: &[&CheckRule], length: Option<u32>) -> Maker {
    let mut longest = length.map(u64::from);
    let mut shortest = 1;
    for rule in rules {
        match rule {
            CheckRule::LengthAtMost(most) => longest = Some(longest.unwrap_or(u64::MAX).min(u64::from(*most))),
            CheckRule::LengthAtLeast(least) => shortest = u64::from(*least).max(1),
            _ => {}
        }
    }
    let most = |wanted: u64| longest.map_or(wanted, |longest| longest.min(wanted)).max(shortest);
    let has = |parts: &[&str]| parts.iter().any(|part| name.split('_').any(|word| word == *part));
    let room = longest.unwrap_or(u64::MAX);
    if shortest > 1 || room < 12 {
        return Maker::Code("@#".repeat(most(12) as usize).chars().take(most(12) as usize).collect());
    }
    match () {
        () if has(&["email", "mail"]) && room >= 60 => Maker::Email,
        () if has(&["city", "place", "region", "location", "town", "village", "country"]) && room >= 40 => Maker::Place,
        () if has(&["person", "author", "owner", "keeper", "firstname", "lastname", "surname", "username", "user", "name"])
            && room >= 60 =>
        {
            Maker::Name
        }
        () if has(&["code", "sku", "label", "number", "key", "token", "serial", "reference"]) => Maker::Code("@@-#####".to_owned()),
        () if has(&[
            "text",
            "body",
            "content",
            "description",
            "remarks",
            "remark",
            "note",
            "notes",
            "comment",
            "comments",
            "message",
            "bio",
        ]) =>
        {
            Maker::Text(most(40).min(40), most(300))
        }
        () if room >= 60 => Maker::Words(1, 3),
        () => Maker::Text(most(8).min(8), most(20)),
    }
}

/// Row counts where none are given: tables that refer to nothing are small where others refer to them, children are several
/// for each row of their first parent.
pub fn rows(schema: &Schema, table: TableId) -> RowCount {
    let model = schema.table(table);
    let parent = model.references.iter().find(|reference| reference.parent != table);
    let Some(parent) = parent else {
        let has_children =
            schema.ids().any(|id| id != table && schema.table(id).references.iter().any(|reference| reference.parent == table));
        return RowCount::Fixed(if has_children { 50 } else { 1000 });
    };
    let name = kampf_schema::expr::Name { text: schema.table(parent.parent).name.clone(), span: kampf_schema::Span::default() };
    if model.is_unique_key(&parent.columns) {
        return RowCount::Per { low: Value::Integer(1), high: Some(Value::Integer(1)), parent: name };
    }
    let junction = model.references.len() > 1 && model.columns.len() <= model.references.len() + 2;
    RowCount::Per { low: Value::Integer(if junction { 3 } else { 10 }), high: None, parent: name }
}
