//! Random needs over the whole language.

use kampf_contest::{ChoiceOption, Expect, Loading, NeedText};
use kampf_schema::{HopKind, LogicalType, Relations, Schema, TableId, Value};

use super::one_of;
use crate::common::Dice;

/// What kind of value is wanted.
#[derive(Clone, Copy, PartialEq)]
enum Want {
    Integer,
    Decimal,
    Real,
    Text,
    Time,
    Day,
    Any,
}

impl Want {
    fn fits(self, kind: LogicalType) -> bool {
        match self {
            Want::Integer => kind == LogicalType::Integer,
            Want::Decimal => matches!(kind, LogicalType::Decimal { .. }),
            Want::Real => kind == LogicalType::Real,
            Want::Text => matches!(kind, LogicalType::Text { .. }),
            Want::Time => kind == LogicalType::Timestamp,
            Want::Day => kind == LogicalType::Date,
            Want::Any => true,
        }
    }

    /// A written value.
    fn literal(self, dice: &mut Dice) -> String {
        match self {
            Want::Integer => one_of(dice, &["0", "1", "-2", "3", "7"]),
            Want::Decimal => one_of(dice, &["0.0", "1.25", "-0.05", "10", "2.5"]),
            Want::Real => one_of(dice, &["0.5", "10", "500"]),
            Want::Text => one_of(dice, &["'a'", "'ä'", "''", "'hive 7'", "'B'"]),
            Want::Time => one_of(dice, &["2024-02-29T00:00:00", "2024-03-01"]),
            Want::Day | Want::Any => one_of(dice, &["2024-01-01", "2024-02-29"]),
        }
        .to_owned()
    }

    fn value(self, dice: &mut Dice) -> Value {
        match self {
            Want::Integer => Value::Integer([0, 1, -1, 3, 7][dice.roll(5)]),
            Want::Decimal => Value::Decimal([0, 125, -5, 1000][dice.roll(4)].into(), 2),
            Want::Real => Value::Real([0.5, 10.0][dice.roll(2)]),
            Want::Text => Value::from(one_of(dice, &["a", "ä", "", "hive 7"])),
            Want::Time => Value::Timestamp(1_709_164_800_000_000),
            Want::Day | Want::Any => Value::Date([19_783, 19_782][dice.roll(2)]),
        }
    }
}

const WANTS: [Want; 6] = [Want::Integer, Want::Decimal, Want::Real, Want::Text, Want::Time, Want::Day];

/// Something that can be summed.
fn one_of_wants(dice: &mut Dice) -> Want {
    [Want::Integer, Want::Decimal, Want::Decimal][dice.roll(3)]
}

struct Writer<'a, 'd> {
    dice: &'a mut Dice,
    schema: &'d Schema,
    relations: &'d Relations,
    parameters: Vec<(String, Vec<Value>)>,
    /// Relations that lead to related rows at most: in lists few, since rows multiply with each.
    longest: usize,
}

impl Writer<'_, '_> {
    /// A walk along relations: the names, where it ends, and whether it goes to many.
    fn walk(&mut self, from: TableId, longest: usize, many: bool) -> (Vec<String>, TableId, bool) {
        let (mut names, mut at, mut is_many) = (Vec::new(), from, false);
        for _ in 0..self.dice.roll(longest + 1) {
            let goes_to_many = |relation: &kampf_schema::NamedRelation| relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
            let next: Vec<_> = self.relations.from(at).filter(|relation| many || !goes_to_many(relation)).collect();
            if next.is_empty() {
                break;
            }
            let relation = next[self.dice.roll(next.len())];
            names.push(relation.name.clone());
            is_many |= goes_to_many(relation);
            at = relation.hops.last().map_or(at, |hop| hop.to);
        }
        (names, at, is_many)
    }

    /// A column of a kind of the row or a row to one.
    fn column(&mut self, table: TableId, want: Want) -> Option<String> {
        for _ in 0..4 {
            let (mut names, at, _) = self.walk(table, 2, false);
            let columns: Vec<&str> =
                self.schema.table(at).columns.iter().filter(|column| want.fits(column.kind)).map(|column| column.name.as_str()).collect();
            if !columns.is_empty() {
                names.push(columns[self.dice.roll(columns.len())].to_owned());
                return Some(names.join("."));
            }
        }
        None
    }

    /// Related rows, sometimes under a condition.
    fn source(&mut self, table: TableId, depth: usize) -> Option<(String, TableId)> {
        let (names, at) = (0..4).find_map(|_| {
            let (names, at, many) = self.walk(table, self.longest, true);
            many.then_some((names, at))
        })?;
        let filter = if depth > 0 && self.dice.roll(2) == 0 { format!(" where {}", self.condition(at, depth - 1)) } else { String::new() };
        Some((format!("{}{filter}", names.join(".")), at))
    }

    /// Terms to sort related rows by.
    fn order(&mut self, at: TableId, depth: usize) -> String {
        let terms: Vec<String> = (0..1 + self.dice.roll(2))
            .map(|_| {
                let want = WANTS[self.dice.roll(WANTS.len())];
                // Most often columns, which have nulls and ties.
                let deep = if self.dice.roll(3) == 0 { depth } else { 0 };
                let term = self.column(at, want).filter(|_| deep == 0).unwrap_or_else(|| self.value(at, want, deep.max(1)));
                format!("{term}{}", one_of(self.dice, &["", " desc"]))
            })
            .collect();
        format!(" order {}", terms.join(", "))
    }

    /// A value of the first or last of related rows.
    fn pick(&mut self, table: TableId, want: Want, depth: usize) -> Option<String> {
        let (source, at) = self.source(table, depth.saturating_sub(1))?;
        let column = self.column(at, want)?;
        let order = self.order(at, depth.saturating_sub(1));
        Some(format!("{}({source}{order}).{column}", one_of(self.dice, &["first", "last"])))
    }

    /// Related rows, with lists of their own now and then.
    fn list(&mut self, table: TableId, depth: usize) -> Option<String> {
        let before = std::mem::replace(&mut self.longest, if depth > 1 { 2 } else { 1 });
        let list = self.list_of(table, depth);
        self.longest = before;
        list
    }

    fn list_of(&mut self, table: TableId, depth: usize) -> Option<String> {
        let (source, at) = self.source(table, 1)?;
        self.longest = 1;
        let order = if self.dice.roll(3) == 0 { String::new() } else { self.order(at, 1) };
        let limit = if self.dice.roll(2) == 0 { format!(" limit {}", self.dice.roll(4)) } else { String::new() };
        let mut items = Vec::new();
        for item in 0..1 + self.dice.roll(3) {
            let list = if depth > 0 && self.dice.roll(3) == 0 { self.list(at, depth - 1) } else { None };
            let value = list.unwrap_or_else(|| {
                let want = WANTS[self.dice.roll(WANTS.len())];
                self.value(at, want, 1)
            });
            items.push(format!("{value} as i{item}"));
        }
        // Several aggregates over the same rows, and what is the same in every row.
        if self.dice.roll(3) == 0
            && let Some((below, under)) = self.source(at, 0)
        {
            let value = self.value(under, Want::Integer, 0);
            items.push(format!("min({value} from {below}) as least, max({value} from {below}) as most"));
            items.push(format!("count({}{value} from {below}) as many", one_of(self.dice, &["", "distinct "])));
        }
        if self.dice.roll(6) == 0 {
            items.push(one_of(self.dice, &["false as same", "true as same", "'' as same", "7 as same", "2024-02-29 as same"]).to_owned());
        }
        Some(format!("{source}{order}{limit} {{ {} }}", items.join(", ")))
    }

    /// A value of a kind.
    fn value(&mut self, table: TableId, want: Want, depth: usize) -> String {
        let column = self.column(table, want);
        let plain = |this: &mut Self| column.clone().unwrap_or_else(|| want.literal(this.dice));
        if depth == 0 || self.dice.roll(3) == 0 {
            return plain(self);
        }
        let deeper = |this: &mut Self, want| this.value(table, want, depth - 1);
        if self.dice.roll(6) == 0 {
            let (one, other) = (deeper(self, want), deeper(self, want));
            return match self.dice.roll(3) {
                0 => format!("coalesce({one}, {other})"),
                1 => format!("nullif({one}, {other})"),
                _ => format!("case when {} then {one} else {other} end", self.condition(table, depth - 1)),
            };
        }
        if self.dice.roll(6) == 0
            && let Some(pick) = self.pick(table, want, depth)
        {
            return pick;
        }
        if self.dice.roll(3) == 0
            && let Some((source, at)) = self.source(table, depth)
        {
            let word = match want {
                Want::Integer => {
                    return match self.dice.roll(3) {
                        0 => format!("count({source})"),
                        1 => format!(
                            "count({}{} from {source})",
                            one_of(self.dice, &["", "distinct "]),
                            self.value(at, Want::Text, depth - 1)
                        ),
                        _ => format!(
                            "{}({} from {source})",
                            one_of(self.dice, &["sum", "min", "max", "sum"]),
                            self.value(at, Want::Integer, depth - 1)
                        ),
                    };
                }
                Want::Real => {
                    return match self.dice.roll(2) {
                        0 => format!("avg({} from {source})", self.value(at, Want::Integer, depth - 1)),
                        _ => format!("avg({} from {source})", self.value(at, Want::Decimal, depth - 1)),
                    };
                }
                Want::Decimal => one_of(self.dice, &["sum", "min", "max", "sum"]),
                _ => one_of(self.dice, &["min", "max"]),
            };
            return format!("{word}({} from {source})", self.value(at, want, depth - 1));
        }
        match (want, self.dice.roll(6)) {
            (Want::Integer, 0) => format!("({} + {})", deeper(self, want), deeper(self, want)),
            (Want::Integer, 1) => format!("{} * {}", plain(self), want.literal(self.dice)),
            (Want::Integer, 2) => format!("length({})", deeper(self, Want::Text)),
            (Want::Integer, 3) => format!("({} % {})", deeper(self, want), plain(self)),
            (Want::Integer, 4) => {
                let part = one_of(self.dice, &["year", "month", "day", "hour", "minute"]);
                format!("extract({part} from {})", deeper(self, Want::Time))
            }
            (Want::Integer, _) => format!("days_between({}, {})", deeper(self, Want::Day), deeper(self, Want::Time)),
            (Want::Decimal, 0 | 1) => format!("({} - {})", plain(self), deeper(self, want)),
            (Want::Decimal, 2) => format!("{} * {}", plain(self), want.literal(self.dice)),
            (Want::Decimal, 3) => format!("-{}", plain(self)),
            (Want::Decimal, _) => match column.clone() {
                Some(column) => format!("round({column} * 1.05, {})", self.dice.roll(3)),
                None => want.literal(self.dice),
            },
            (Want::Real, 0) => format!("{} * {}", plain(self), want.literal(self.dice)),
            (Want::Real, 1) => format!("({} / {})", deeper(self, Want::Integer), deeper(self, Want::Decimal)),
            (Want::Real, 2) => match self.source(table, 0) {
                Some((source, at)) => {
                    let want = one_of_wants(self.dice);
                    let sum = self.value(at, want, 0);
                    format!("({} / sum({sum} from {source}))", deeper(self, Want::Integer))
                }
                None => plain(self),
            },
            (Want::Real, _) => format!("({} / {})", deeper(self, Want::Integer), deeper(self, Want::Integer)),
            (Want::Text, 0) => format!("lower({})", deeper(self, want)),
            (Want::Text, 1) => format!("upper({})", deeper(self, want)),
            (Want::Text, 2) => format!("trim({})", deeper(self, want)),
            (Want::Text, 3) => format!("({} || {})", deeper(self, want), plain(self)),
            (Want::Text, _) => {
                let places = match self.dice.roll(3) {
                    0 => format!("{}, {}", deeper(self, Want::Integer), deeper(self, Want::Integer)),
                    1 => "-1, 3".to_owned(),
                    _ => "2, 2".to_owned(),
                };
                format!("substring({}, {places})", plain(self))
            }
            (Want::Day, 0..=3) => {
                let part = one_of(self.dice, &["year", "month", "week", "day"]);
                let time = if self.dice.roll(2) == 0 { Want::Time } else { Want::Day };
                format!("start_of({part}, {})", deeper(self, time))
            }
            _ => plain(self),
        }
    }

    fn parameter(&mut self, value: Value, is_list: bool) -> String {
        let name = format!("{}{}", if is_list { "l" } else { "p" }, self.parameters.len());
        let other = match (&value, self.dice.roll(4)) {
            (_, 0) => Value::Null,
            (Value::List(_), 1) => Value::List(Box::new([])),
            _ => value.clone(),
        };
        self.parameters.push((name.clone(), vec![value, other]));
        name
    }

    fn condition(&mut self, table: TableId, depth: usize) -> String {
        if depth > 0 && self.dice.roll(4) == 0 {
            let (one, other) = (self.condition(table, depth - 1), self.condition(table, depth - 1));
            return format!("({one} {} {other})", one_of(self.dice, &["and", "or"]));
        }
        // Texts twice as often: their forms are the most.
        let want = WANTS.get(self.dice.roll(WANTS.len() + 1)).copied().unwrap_or(Want::Text);
        let want = if self.column(table, want).is_some() { want } else { Want::Integer };
        let subject = self.value(table, want, depth);
        let subject = if subject.starts_with(|c: char| c.is_ascii_digit() || c == '\'' || c == '-') {
            self.column(table, Want::Any).map_or_else(|| "1 = 1".to_owned(), |column| format!("not {column} is null"))
        } else {
            let sign = one_of(self.dice, &["=", "<>", "<", "<=", ">", ">="]);
            match (self.dice.roll(9), want) {
                (0, _) => format!("{subject} is null"),
                (1, Want::Integer | Want::Text | Want::Day) => {
                    format!(
                        "{subject} {}in ({}, {})",
                        one_of(self.dice, &["", "not "]),
                        want.literal(self.dice),
                        self.value(table, want, 0)
                    )
                }
                (2, _) => format!("{subject} between {} and {}", want.literal(self.dice), want.literal(self.dice)),
                (3, Want::Integer | Want::Text | Want::Day) => {
                    let list = (0..self.dice.roll(4)).map(|_| want.value(self.dice)).collect::<Vec<_>>();
                    let name = self.parameter(Value::List(list.into()), true);
                    format!("{subject} {}in :{name}", one_of(self.dice, &["", "not "]))
                }
                (4 | 5, _) => {
                    let value = want.value(self.dice);
                    let name = self.parameter(value, false);
                    format!("{subject} {sign} :{name}")
                }
                (6..=8, Want::Text) => {
                    let (word, pattern) = [
                        ("contains", "'a'"),
                        ("matches", "'b'"),
                        ("starts", "'h'"),
                        ("matches", "'7$|^.?b'"),
                        ("like", "'%a_'"),
                        ("matches", "'^[a-hä]+'"),
                        ("ends", "''"),
                        ("starts", "''"),
                        ("contains", "''"),
                        ("ends", "'e'"),
                    ][self.dice.roll(10)];
                    format!("{subject} {word} {pattern}")
                }
                _ => format!("{subject} {sign} {}", self.value(table, want, depth.saturating_sub(1))),
            }
        };
        if depth > 0
            && self.dice.roll(8) == 0
            && let Some((source, _)) = self.source(table, depth - 1)
        {
            return format!("{subject} or exists({source})");
        }
        if self.dice.roll(6) == 0 { format!("not ({subject})") } else { subject }
    }
}

/// A random need with two sets of parameters.
pub(crate) fn random_need(dice: &mut Dice, schema: &Schema, relations: &Relations) -> (NeedText, Vec<Vec<Value>>) {
    let root = TableId(dice.roll(schema.tables.len()));
    let mut text = NeedText { from: schema.table(root).name.clone(), ..NeedText::default() };
    let form = dice.roll(8);
    let mut writer = Writer { dice, schema, relations, parameters: Vec::new(), longest: 3 };
    match form {
        0 | 1 => {
            let keys = writer.dice.roll(3);
            let mut group = Vec::new();
            for key in 0..keys {
                let want = [Want::Integer, Want::Text, Want::Day, Want::Decimal][writer.dice.roll(4)];
                group.push(format!("{} as k{key}", writer.value(root, want, 2)));
                text.give.push(format!("k{key}"));
            }
            for total in 0..1 + writer.dice.roll(3) {
                let of = |writer: &mut Writer<'_, '_>, want| writer.value(root, want, 2);
                let value = match writer.dice.roll(6) {
                    0 => "count()".to_owned(),
                    1 => format!("sum({})", of(&mut writer, Want::Integer)),
                    2 => format!("avg({})", of(&mut writer, Want::Decimal)),
                    3 => format!("count(distinct {})", of(&mut writer, Want::Text)),
                    4 => format!("max({})", of(&mut writer, Want::Time)),
                    _ => format!("sum({}) + count()", of(&mut writer, Want::Decimal)),
                };
                // Sometimes by its own text.
                text.give.push(if total == 0 && value == "count()" { value } else { format!("{value} as g{total}") });
            }
            if keys > 0 || writer.dice.roll(2) == 0 {
                text.group = Some(group);
            }
        }
        2 => {
            for at in 0..1 + writer.dice.roll(3) {
                let want = [Want::Integer, Want::Text, Want::Day, Want::Decimal][writer.dice.roll(4)];
                text.give.push(format!("{} as g{at}", writer.value(root, want, 2)));
            }
            text.distinct = true;
        }
        _ => {
            for at in 0..1 + writer.dice.roll(4) {
                let want = WANTS[writer.dice.roll(WANTS.len())];
                let list = if writer.dice.roll(3) == 0 { writer.list(root, 2) } else { None };
                text.give.push(format!("{} as g{at}", list.unwrap_or_else(|| writer.value(root, want, 2))));
            }
        }
    }
    let mut conditions = Vec::new();
    for _ in 0..writer.dice.roll(3) {
        let known = writer.parameters.len();
        let condition = writer.condition(root, 2);
        let own = writer.parameters.get(known).map(|(name, _)| name.clone());
        conditions.push(match own {
            // A list that stands nowhere else has no type that says so.
            Some(name) if writer.dice.roll(2) == 0 && condition.contains(&format!(":{name}")) => format!("if(:{name}, {condition})"),
            _ => format!("({condition})"),
        });
    }
    if !conditions.is_empty() {
        text.filter = Some(conditions.join(" and "));
    }
    for _ in 0..writer.dice.roll(3) {
        let names: Vec<String> = text
            .give
            .iter()
            .filter(|give| !give.contains('}'))
            .filter_map(|give| give.rsplit_once(" as "))
            .map(|(_, name)| name.to_owned())
            .collect();
        let term = match writer.dice.roll(3) {
            0 | 1 if !names.is_empty() => names[writer.dice.roll(names.len())].clone(),
            _ if form < 3 => continue,
            _ => {
                let want = WANTS[writer.dice.roll(WANTS.len())];
                writer.value(root, want, 2)
            }
        };
        text.order.push(format!("{term}{}", one_of(writer.dice, &["", " desc"])));
    }
    // Now and then rows are sorted by columns of their own, which is what chunks need.
    if form >= 3 && text.order.is_empty() && writer.dice.roll(2) == 0 {
        let sure: Vec<&str> =
            schema.table(root).columns.iter().filter(|column| !column.nullable).map(|column| column.name.as_str()).collect();
        let direction = one_of(writer.dice, &["", " desc"]);
        for _ in 0..1 + writer.dice.roll(2) {
            if !sure.is_empty() {
                let term = format!("{}{direction}", sure[writer.dice.roll(sure.len())]);
                if !text.order.contains(&term) {
                    text.order.push(term);
                }
            }
        }
    }
    text.chunk = vec![1 + writer.dice.roll(9) as u32];
    if writer.dice.roll(6) == 0 {
        text.page = Some(1 + writer.dice.roll(5) as u32);
        text.pages = Some(writer.dice.roll(4) as u32).filter(|pages| *pages > 0);
    }
    if writer.dice.roll(3) == 0 {
        text.limit = Some(writer.dice.roll(12) as u64);
    }
    if writer.dice.roll(6) == 0 {
        text.expect = [Expect::One, Expect::ZeroOrOne, Expect::OneOfMany, Expect::ZeroOrOneOfMany][writer.dice.roll(4)];
    }
    // Now and then one relation is loaded in its own way, and entities are used to more than they are asked for.
    if writer.dice.roll(5) == 0 {
        let (names, ..) = writer.walk(root, 2, true);
        let loading = Loading::ALL[writer.dice.roll(Loading::ALL.len())];
        if !names.is_empty() && text.give.iter().any(|give| give.contains(&names.join("."))) {
            text.loading = vec![(names.join("."), loading)];
        }
    }
    if writer.dice.roll(5) == 0 {
        let table = TableId(writer.dice.roll(schema.tables.len()));
        text.always = relations.from(table).take(2).map(|relation| (table, relation.name.clone())).collect();
    }
    let parameters = std::mem::take(&mut writer.parameters);
    text.parameters = parameters.iter().map(|(name, _)| name.clone()).collect();
    let sets = (0..2).map(|set| parameters.iter().map(|(_, values)| values[set].clone()).collect()).collect();
    (text, sets)
}
