//! Random schemas, rows and needs over the whole language, and the property that all contenders answer alike.

use std::collections::BTreeMap;

use kampf_contest::{
    Agreement, Collect, Execution, Expect, Field, Need, NeedText, Restriction, Touch, compare, derive, evaluate, overflows, resolve,
};
use kampf_engine::{Connection, Engine, GeneratedRows};
use kampf_fill::{Blueprint, Order};
use kampf_schema::{HopKind, LogicalType, Relations, Schema, TableId, Value, ddl, expr};

use super::Dice;

/// What was tried.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    pub(crate) needs: usize,
    pub(crate) accepted: usize,
    /// Those with numbers too large for their type.
    pub(crate) overflowed: usize,
    pub(crate) contenders: usize,
    /// Answers of which it could not be told whether they are right.
    pub(crate) open: usize,
    /// How often each form of the language was in a need that was answered.
    pub(crate) forms: BTreeMap<&'static str, usize>,
}

/// Forms of the language, by what stands in the need's text.
const FORMS: [(&str, &str); 24] = [
    ("group", "group: Some"),
    ("distinct", "distinct: true"),
    ("head", "give: [\"count()"),
    ("expect", "expect: One"),
    ("condition of a source", " where "),
    ("distinct aggregate", "(distinct "),
    ("expression aggregated", " from "),
    ("exists", "exists("),
    ("list", "in :l"),
    ("optional", "if(:"),
    ("parameter", ":p"),
    ("case", "case when"),
    ("coalesce", "coalesce("),
    ("nullif", "nullif("),
    ("round", "round("),
    ("substring", "substring("),
    ("start_of", "start_of("),
    ("extract", "extract("),
    ("days_between", "days_between("),
    ("matches", " matches "),
    ("joined texts", " || "),
    ("quotient", " / "),
    ("remainder", " % "),
    ("text function", "lower("),
];

fn one_of<'a>(dice: &mut Dice, options: &[&'a str]) -> &'a str {
    options[dice.roll(options.len())]
}

/// A random schema with rows that hold nulls, ties, doubles, extremes and letters beyond ASCII.
pub(crate) fn random_data(dice: &mut Dice) -> (String, Schema, Blueprint) {
    let tables = 1 + dice.roll(4);
    let mut text = String::new();
    let mut keys: Vec<Vec<(String, &str)>> = Vec::new();
    let mut values: Vec<(String, String)> = Vec::new();
    for table in 0..tables {
        let mut parts = Vec::new();
        let key: Vec<(String, &str)> = match dice.roll(9) {
            0 => vec![("code".to_owned(), "VARCHAR(40)")],
            1 => vec![("id".to_owned(), "UUID")],
            2 => vec![("k1".to_owned(), "INTEGER"), ("k2".to_owned(), "VARCHAR(20)")],
            3 => vec![("raw".to_owned(), "BLOB")],
            4 if table > 0 => Vec::new(),
            _ => vec![("id".to_owned(), "INTEGER")],
        };
        parts.extend(key.iter().map(|(name, kind)| format!("{name} {kind} NOT NULL")));
        let names = |key: &[(String, &str)]| key.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
        let refer = |parts: &mut Vec<String>, to: usize, prefix: &str, key: &[(String, &str)], null: &str| {
            let own: Vec<String> = names(key).iter().map(|name| format!("{prefix}_{name}")).collect();
            parts.extend(own.iter().zip(key).map(|(own, (_, kind))| format!("{own} {kind}{null}")));
            format!("FOREIGN KEY ({}) REFERENCES t{to} ({})", own.join(", "), names(key).join(", "))
        };
        let mut rules = Vec::new();
        for (parent, key) in keys.iter().enumerate() {
            if !key.is_empty() && dice.roll(4) != 0 {
                let null = one_of(dice, &["", " NOT NULL"]);
                rules.push(refer(&mut parts, parent, &format!("p{parent}"), key, null));
            }
        }
        if !key.is_empty() && dice.roll(5) == 0 {
            rules.push(refer(&mut parts, table, "up", &key, ""));
        }
        for (column, kind) in
            ["INTEGER", "DECIMAL(9, 2)", "REAL", "VARCHAR(80)", "BOOLEAN", "DATE", "TIMESTAMP", "INTEGER", "DECIMAL(6, 1)"]
                .iter()
                .enumerate()
        {
            if dice.roll(2) != 0 {
                continue;
            }
            let null = dice.roll(2) == 0;
            parts.push(format!("c{column} {kind}{}", if null { "" } else { " NOT NULL" }));
            let recipe = match (column, dice.roll(4)) {
                (0 | 7, 0) => "pick(0 3, 1, -1, 7, 9223372036854775807, -9223372036854775807)".to_owned(),
                (0 | 7, _) => "-3..9".to_owned(),
                (1, 0) => "-9999999.99..9999999.99".to_owned(),
                (1, _) => "pick(0.00, 1.25, 1.35, -0.05, 10.00, 99.99)".to_owned(),
                (8, _) => "-2.5..2.5".to_owned(),
                (3, 0) => "pick('a', 'ä', 'Ä', ' A b ', 'Straße', 'aB', '', '%_', 'hive 7')".to_owned(),
                (5, 0) => "2023-12-28..2024-03-02".to_owned(),
                (6, 0) => "2024-02-28T22:00:00..2024-03-01T03:00:00".to_owned(),
                _ => continue,
            };
            values.push((format!("t{table}.c{column}"), format!("{recipe}{}", if null { " or null 25%" } else { "" })));
        }
        if parts.is_empty() {
            parts.push("c0 INTEGER".to_owned());
        }
        if !key.is_empty() {
            rules.push(format!("PRIMARY KEY ({})", names(&key).join(", ")));
        }
        parts.extend(rules);
        text += &format!("CREATE TABLE t{table} ({});\n", parts.join(", "));
        keys.push(key);
    }
    let schema = ddl::read(&text).unwrap_or_else(|error| panic!("{error}\n{text}")).schema;
    let mut order = Order { seed: dice.roll(1000) as u64, ..Order::default() };
    order.rows = schema.ids().map(|id| (id, expr::read_row_count(["7", "25", "40"][dice.roll(3)]).unwrap())).collect();
    for (name, recipe) in &values {
        let (table, column) = name.split_once('.').unwrap();
        let table = schema.find(table).unwrap();
        let column = schema.table(table).find(column).unwrap();
        let recipe = expr::read_recipe(recipe).unwrap_or_else(|error| panic!("{error:?} {recipe}"));
        order.values.insert((table, column), recipe);
    }
    let blueprint = Blueprint::new(&schema, &order).unwrap_or_else(|error| panic!("{error}\n{text}"));
    (text, schema, blueprint)
}

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

struct Writer<'a, 'd> {
    dice: &'a mut Dice,
    schema: &'d Schema,
    relations: &'d Relations,
    parameters: Vec<(String, Vec<Value>)>,
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
            let (names, at, many) = self.walk(table, 3, true);
            many.then_some((names, at))
        })?;
        let filter = if depth > 0 && self.dice.roll(2) == 0 { format!(" where {}", self.condition(at, depth - 1)) } else { String::new() };
        Some((format!("{}{filter}", names.join(".")), at))
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
        let want = WANTS[self.dice.roll(WANTS.len())];
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
                    let (word, pattern) =
                        [("contains", "'a'"), ("starts", "'h'"), ("matches", "'7$|^.?b'"), ("like", "'%a_'"), ("matches", "'^[a-hä]+'")]
                            [self.dice.roll(5)];
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
    let mut writer = Writer { dice, schema, relations, parameters: Vec::new() };
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
                text.give.push(format!("{} as g{at}", writer.value(root, want, 2)));
            }
        }
    }
    let mut conditions = Vec::new();
    for _ in 0..writer.dice.roll(3) {
        let known = writer.parameters.len();
        let condition = writer.condition(root, 2);
        let own = writer.parameters.get(known).map(|(name, _)| name.clone());
        conditions.push(match own {
            Some(name) if writer.dice.roll(2) == 0 => format!("if(:{name}, {condition})"),
            _ => format!("({condition})"),
        });
    }
    if !conditions.is_empty() {
        text.filter = Some(conditions.join(" and "));
    }
    for _ in 0..writer.dice.roll(3) {
        let names: Vec<String> = text.give.iter().filter_map(|give| give.rsplit_once(" as ")).map(|(_, name)| name.to_owned()).collect();
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
    if writer.dice.roll(3) == 0 {
        text.limit = Some(writer.dice.roll(12) as u64);
    }
    if writer.dice.roll(6) == 0 {
        text.expect = [Expect::One, Expect::ZeroOrOne, Expect::OneOfMany, Expect::ZeroOrOneOfMany][writer.dice.roll(4)];
    }
    let parameters = std::mem::take(&mut writer.parameters);
    text.parameters = parameters.iter().map(|(name, _)| name.clone()).collect();
    let sets = (0..2).map(|set| parameters.iter().map(|(_, values)| values[set].clone()).collect()).collect();
    (text, sets)
}

/// Tries some random needs on loaded rows.
pub(crate) fn check_needs(
    engine: &'static dyn Engine,
    connection: &dyn Connection,
    dice: &mut Dice,
    (ddl, schema, blueprint): (&str, &Schema, &Blueprint),
    needs: usize,
    tally: &mut Tally,
) {
    let relations = Relations::of(schema);
    for _ in 0..needs {
        let (text, sets) = random_need(dice, schema, &relations);
        tally.needs += 1;
        let shown = format!("{ddl}\n{text:?}\n{sets:?}");
        match resolve(schema, &relations, &text) {
            Ok(need) => check_need(engine, connection, (schema, blueprint), &need, &sets, &shown, dice, tally),
            Err(error) => {
                if std::env::var_os("KAMPF_REFUSED").is_some() {
                    told(&format!("{error}: {text:?}"));
                }
            }
        }
    }
}

/// Most contenders of one need that are tried.
const MOST: usize = 20;

#[expect(clippy::too_many_arguments, reason = "what a failure is to be told with comes along")]
fn check_need(
    engine: &'static dyn Engine,
    connection: &dyn Connection,
    (schema, blueprint): (&Schema, &Blueprint),
    need: &Need,
    sets: &[Vec<Value>],
    shown: &str,
    dice: &mut Dice,
    tally: &mut Tally,
) {
    let rows = GeneratedRows(blueprint);
    let references = overflows(schema, need, &rows)
        .and_then(|()| sets.iter().map(|set| evaluate(schema, need, &rows, set)).collect::<Result<Vec<_>, _>>());
    let Ok(references) = references else {
        tally.overflowed += 1;
        return;
    };
    tally.accepted += 1;
    for (form, sign) in FORMS {
        if shown.contains(sign) {
            *tally.forms.entry(form).or_default() += 1;
        }
    }
    let field = Field::of(schema, need, engine.dialect(), &Restriction::default());
    for choices in &field.entered {
        assert!(field.valid.contains(choices), "{choices} entered and is not valid\n{shown}");
    }
    for (at, choices) in field.entered.iter().enumerate().skip(1) {
        let near = field.entered.iter().any(|other| choices.distance(other) == 1);
        assert!(near, "{choices} ({at}) differs from no other in one choice only\n{shown}");
    }
    assert!(!field.entered.is_empty(), "nobody enters\n{shown}");
    let mut chosen = field.entered.clone();
    let others: Vec<_> = field.valid.iter().filter(|choices| !field.entered.contains(choices)).collect();
    let first = if others.is_empty() { 0 } else { dice.roll(others.len()) };
    chosen.extend((0..others.len()).map(|at| *others[(first + at * 7) % others.len()]));
    chosen.truncate(MOST);
    for choices in &chosen {
        let plan = derive(schema, need, engine.dialect(), choices);
        let mut session = connection.session();
        let mut execution = Execution::new(plan.clone(), engine.dialect());
        for (set, reference) in sets.iter().zip(&references) {
            let mut collect = Collect::default();
            let context = || format!("{choices}\n{shown}\n{}\nwith {set:?}", plan.statements(engine.dialect()).join("\n"));
            let called = execution.call(session.as_mut(), set, &mut collect);
            called.unwrap_or_else(|error| panic!("{error}\n{}\n{}", error.sql.clone().unwrap_or_default(), context()));
            match compare(reference, need.limit, &collect.answer) {
                Agreement::Same => {}
                Agreement::Undecided(_) => tally.open += 1,
                Agreement::Differs(difference) => {
                    panic!("{}\n{difference:?}\nexpected {:?}\nfound {:?}", context(), reference.rows, collect.answer)
                }
            }
        }
        session.count();
        session.observe();
        execution.call(session.as_mut(), &sets[0], &mut Touch::default()).unwrap();
        assert_eq!(session.counted().statements, session.observed().len() as u64, "{choices}\n{shown}");
        tally.contenders += 1;
    }
}

impl Tally {
    /// That enough of what was tried was answered, and every form among it.
    pub(crate) fn is_enough(&self) {
        told(&format!("{self:?}"));
        assert!(self.accepted * 2 >= self.needs, "hardly half of the needs were accepted: {self:?}");
        assert!(self.open * 50 <= self.contenders, "of too many answers it is not known whether they are right: {self:?}");
        if self.accepted >= 150 {
            let missing: Vec<_> = FORMS.iter().map(|(form, _)| *form).filter(|form| !self.forms.contains_key(form)).collect();
            assert!(missing.is_empty(), "no need had {missing:?}");
        }
    }
}

/// Not by a macro, whose words the tests' runner would keep to itself.
fn told(text: &str) {
    let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("{text}\n").as_bytes());
}

/// How many schemas are tried: so many, or as many as `KAMPF_NEEDS` asks for, with five needs each.
pub(crate) fn schemas(usual: u32) -> u32 {
    std::env::var("KAMPF_NEEDS").ok().and_then(|needs| needs.parse::<u32>().ok()).map_or(usual, |needs| needs.div_ceil(5))
}

/// A need of every form that sends statements of its own, over a table, a parent, a text, a child and a number of that; with
/// parameters.
pub(crate) fn every_form(root: &str, parent: &str, text: &str, child: &str, number: &str) -> Vec<(NeedText, Vec<Value>)> {
    let texts = |texts: &[String]| texts.to_vec();
    let need = |give: &[String]| NeedText { from: root.into(), give: texts(give), ..NeedText::default() };
    let (name, average) = (format!("{parent}.name"), format!("avg({child}.{number})"));
    let some = format!("count({child} where {number} > 5)");
    vec![
        (NeedText { order: vec![text.into()], limit: Some(30), ..need(&[name.clone(), average.clone()]) }, vec![]),
        (NeedText { order: vec![format!("{some} desc")], limit: Some(9), ..need(&[text.into(), format!("{some} as many")]) }, vec![]),
        (
            NeedText { filter: Some(format!("exists({child} where {number} > 8)")), ..need(&[text.into(), format!("upper({name}) as x")]) },
            vec![],
        ),
        (
            NeedText { group: Some(vec![format!("{name} as n")]), ..need(&["n".into(), "count()".into(), format!("sum({some}) as all")]) },
            vec![],
        ),
        (need(&["count()".into()]), vec![]),
        (NeedText { distinct: true, order: vec![name.clone()], ..need(&[name.clone()]) }, vec![]),
        (
            NeedText { filter: Some("id in :ids".into()), parameters: vec!["ids".into()], ..need(&[text.into(), name.clone()]) },
            vec![Value::List([1, 2, 3].map(Value::Integer).into())],
        ),
        (
            NeedText {
                filter: Some(format!("if(:part, {text} contains :part) and if(:name, {name} = :name)")),
                parameters: vec!["part".into(), "name".into()],
                ..need(&[text.into(), average])
            },
            vec![Value::from("1"), Value::Null],
        ),
        (
            NeedText { filter: Some("id = :id".into()), parameters: vec!["id".into()], expect: Expect::One, ..need(&[text.into(), name]) },
            vec![Value::Integer(3)],
        ),
        (NeedText { expect: Expect::ZeroOrOne, ..need(&[text.into(), some]) }, vec![]),
        (
            NeedText {
                filter: Some(format!("{text} matches '1'")),
                limit: Some(5),
                ..need(&[text.into(), format!("max({number} from {child} where id % 2 = 0) as m")])
            },
            vec![],
        ),
    ]
}
