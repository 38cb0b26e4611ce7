//! Selects as an engine's SQL.

use std::collections::BTreeSet;

use kampf_schema::LogicalType;
use kampf_schema::expr::{Expr, Node};

use super::fragment::{Bind, Printed, Sql, typed};
use super::print::{Leaves, Unsaid, print, scaled_sum};
use crate::dialect::{Dialect, Json, KeyList, RowList};
use crate::need::Aggregate;
use crate::statement::{Condition, Join, JsonItem, Keys, OnlyIf, Select, Selected, SortKey, Table, Term, Window};

/// What the text of a statement depends on besides its tree.
pub struct Shape<'a> {
    /// Keys that rows are wanted for.
    pub keys: usize,
    /// How many values a list parameter has; none where it is null, and for one value whether it is given: `Some(1)` where it is.
    pub length: &'a dyn Fn(usize) -> Option<usize>,
    /// For people: a list of keys is left out.
    pub abridged: bool,
    /// How many rows are read at a time.
    pub size: u64,
    /// Whether they are the first ones, so that there is no key to go on behind.
    pub is_first: bool,
}

impl Shape<'_> {
    /// Every parameter is given, lists hold one value, rows are wanted for one key.
    pub const PLAIN: Shape<'static> = Shape { keys: 1, length: &|_| Some(1), abridged: false, size: 0, is_first: true };
}

/// The text of a select for a shape. What an engine cannot say is no part of the selects that are made for it.
pub fn print_select(dialect: &Dialect, select: &Select, shape: &Shape<'_>) -> Printed {
    let sql = Printer { dialect, shape, lines: true }.select(select).unwrap_or_else(Sql::text);
    sql.finish(dialect, shape.length)
}

/// The same as a part of another statement.
pub(crate) fn select_sql(dialect: &Dialect, select: &Select, shape: &Shape<'_>) -> Sql {
    Printer { dialect, shape, lines: false }.select(select).unwrap_or_else(Sql::text)
}

/// A value of a statement.
pub(crate) fn print_terms(dialect: &Dialect, value: &Expr<Term>, shape: &Shape<'_>) -> Sql {
    Printer { dialect, shape, lines: false }.expr(value).unwrap_or_else(Sql::text)
}

/// A condition of a statement, as one of several that must all hold.
pub(crate) fn print_condition(dialect: &Dialect, condition: &Expr<Term>, shape: &Shape<'_>) -> Sql {
    let sql = print_terms(dialect, condition, shape);
    if matches!(condition.node, Node::And(_) | Node::Or(_) | Node::Between(..)) { sql.within("(", ")") } else { sql }
}

/// The keys that rows are wanted for.
pub(crate) fn print_keys(dialect: &Dialect, keys: &Keys, shape: &Shape<'_>) -> Sql {
    Printer { dialect, shape, lines: false }.keys(keys).unwrap_or_else(Sql::text)
}

#[derive(Clone, Copy)]
struct Printer<'a> {
    dialect: &'a Dialect,
    shape: &'a Shape<'a>,
    /// Whether parts stand on lines of their own; else all on one.
    lines: bool,
}

impl Leaves<Term> for Printer<'_> {
    fn leaf(&mut self, term: &Term) -> Result<Sql, Unsaid> {
        let quote = self.dialect.quote;
        Ok(match term {
            Term::Column { table: Some(table), name, .. } => Sql::text(format!("{}.{}", quote(table), quote(name))),
            Term::Column { table: None, name, .. } | Term::Output(name, _) => Sql::text(quote(name)),
            Term::Parameter(at, _) => Sql::bind(Bind::Parameter(*at)),
            Term::Constant(number) => Sql::text(number.to_string()),
            Term::Aggregate { function, distinct, of, kind } => self.aggregate(*function, *distinct, of.as_deref(), *kind)?,
            Term::Select(select, _) => self.inner().select(select)?.within("(", ")"),
            Term::Exists(select) => self.inner().select(select)?.within("EXISTS (", ")"),
            Term::Place { part, order } => {
                let part = part.iter().map(|term| self.expr(term)).collect::<Result<Vec<_>, _>>()?;
                let mut sql = Sql::text("row_number() OVER (PARTITION BY ");
                sql.add(Sql::join(part, ", ")).push(" ORDER BY ").add(self.sort_keys(order)?).push(")");
                sql
            }
            Term::JsonRows { items, order } => {
                let json = self.json()?;
                let items = items.iter().map(|item| self.json_item(json, item)).collect::<Result<Vec<_>, _>>()?;
                let mut rows = Sql::template(json.row, &[Sql::join(items, ", ")]);
                if !order.is_empty() {
                    rows.push(" ORDER BY ").add(self.sort_keys(order)?);
                }
                Sql::template(json.rows, &[rows])
            }
            Term::Json(select) => Sql::template(self.json()?.text, &[self.inner().select(select)?.within("(", ")")]),
        })
    }

    fn kind(&self, term: &Term) -> Option<LogicalType> {
        Some(term.kind())
    }

    fn parameter(&self, term: &Term) -> Option<usize> {
        if let Term::Parameter(at, _) = term { Some(*at) } else { None }
    }
}

impl Printer<'_> {
    fn inner(self) -> Self {
        Printer { lines: false, ..self }
    }

    fn json(&self) -> Result<&'static Json, Unsaid> {
        self.dialect.json.ok_or_else(|| "makes no JSON".to_owned())
    }

    /// A value as it stands in JSON.
    fn json_item(&self, json: &Json, item: &JsonItem) -> Result<Sql, Unsaid> {
        let sql = self.expr(&item.value)?;
        if item.is_json {
            return Ok(Sql::template(json.inner, &[sql]));
        }
        let kind = item.value.kind(&|term: &Term| Some(term.kind()));
        Ok(kind.and_then(json.value).map_or(sql.clone(), |template| Sql::template(&template, &[sql])))
    }

    fn sort_keys(&self, order: &[SortKey]) -> Result<Sql, Unsaid> {
        Ok(Sql::join(order.iter().map(|key| self.sort_key(key)).collect::<Result<Vec<_>, _>>()?, ", "))
    }

    fn expr(&self, expr: &Expr<Term>) -> Result<Sql, Unsaid> {
        print(self.dialect, expr, &mut self.inner())
    }

    fn aggregate(&self, function: Aggregate, distinct: bool, of: Option<&Expr<Term>>, kind: LogicalType) -> Result<Sql, Unsaid> {
        let Some(of) = of else { return Ok(Sql::text("count(*)")) };
        let before = format!("{}({}", function.word(), if distinct { "DISTINCT " } else { "" });
        if let (Aggregate::Sum, LogicalType::Decimal { scale, .. }, true) = (function, kind, self.dialect.decimals_are_reals)
            && scale > 0
        {
            let scaled = scaled_sum(self.dialect, of, scale, &mut self.inner())?;
            // One value, whatever stands beside it.
            return Ok(scaled.within(&format!("({before}"), &format!(") / {}.0)", 10_i128.pow(u32::from(scale)))));
        }
        let value = self.expr(of)?;
        let real = (self.dialect.column_type)(LogicalType::Real).0;
        let value =
            if function == Aggregate::Avg && !self.dialect.avg_is_real { value.within("CAST(", &format!(" AS {real})")) } else { value };
        Ok(value.within(&before, ")"))
    }

    fn between(&self) -> &'static str {
        if self.lines { "\n" } else { " " }
    }

    fn select(&self, select: &Select) -> Result<Sql, Unsaid> {
        let mut sql = Sql::text(if select.distinct { "SELECT DISTINCT " } else { "SELECT " });
        let mut lines = Vec::new();
        for line in &select.columns {
            lines.push(Sql::join(line.iter().map(|column| self.selected(column)).collect::<Result<Vec<_>, _>>()?, ", "));
        }
        sql.add(Sql::join(lines, if self.lines { ",\n  " } else { ", " }));
        let first = self.table(&select.from)?;
        sql.push(self.between()).push("FROM ").add(first);
        for join in self.needed_joins(select) {
            let on = join.on.iter().map(|on| self.part(on, join.on.len())).collect::<Result<Vec<_>, _>>()?;
            sql.push(self.between()).push(if join.outer { "LEFT JOIN " } else { "JOIN " }).add(self.table(&join.table)?);
            sql.push(" ON ").add(if on.is_empty() { Sql::text("TRUE") } else { Sql::join(on, " AND ") });
        }
        let mut conditions: Vec<Sql> = select.keys.iter().map(|keys| self.keys(keys)).collect::<Result<_, _>>()?;
        let window = select.window.as_ref().filter(|_| !self.shape.is_first);
        let behind = window.map(|window| self.behind(window)).transpose()?.flatten();
        conditions.extend(self.conditions(&select.filter, select.only_given, conditions.len() + usize::from(behind.is_some()))?);
        conditions.extend(behind);
        if !conditions.is_empty() {
            sql.push(self.between()).push("WHERE ").add(Sql::join(conditions, " AND "));
        }
        if !select.group.is_empty() {
            let group = select.group.iter().map(|term| self.group_term(term, select)).collect::<Result<Vec<_>, _>>()?;
            sql.push(self.between()).push("GROUP BY ").add(Sql::join(group, ", "));
        }
        let having = self.conditions(&select.having, select.only_given, 0)?;
        if !having.is_empty() {
            sql.push(self.between()).push("HAVING ").add(Sql::join(having, " AND "));
        }
        if !select.order.is_empty() {
            sql.push(self.between()).push("ORDER BY ").add(self.sort_keys(&select.order)?);
        }
        if let Some(window) = &select.window {
            sql.push(self.between()).push(&format!("LIMIT {}", self.shape.size));
            if *window == Window::From {
                sql.push(" OFFSET ").add(Sql::bind(Bind::Before));
            }
        } else if let Some(limit) = select.limit {
            sql.push(self.between()).push(&format!("LIMIT {limit}"));
        }
        Ok(sql)
    }

    /// What holds of rows that are sorted behind the key of the last one.
    fn behind(&self, window: &Window) -> Result<Option<Sql>, Unsaid> {
        let Window::Behind { columns, descending } = window else { return Ok(None) };
        let own = columns.iter().map(|column| self.inner().leaf(column)).collect::<Result<Vec<_>, _>>()?;
        let last = columns.iter().enumerate().map(|(at, column)| typed(self.dialect, Sql::bind(Bind::Last(at)), Some(column.kind())));
        let (own, last) = (Sql::join(own, ", "), Sql::join(last, ", "));
        let (own, last) = if columns.len() > 1 { (own.within("(", ")"), last.within("(", ")")) } else { (own, last) };
        Ok(Some(own.join_with(last.within(if *descending { " < " } else { " > " }, ""))))
    }

    fn selected(&self, column: &Selected) -> Result<Sql, Unsaid> {
        let mut sql = match (&column.value.node, self.dialect.json) {
            // A text of rows is long: its parts stand on lines of their own.
            (Node::Leaf(Term::Json(select)), Some(json)) if self.lines => {
                Sql::template(json.text, &[self.select(select)?.indented("    ").within("(\n    ", "\n  )")])
            }
            _ => self.expr(&column.value)?,
        };
        if let Some(name) = &column.name {
            sql.push(&format!(" AS {}", (self.dialect.quote)(name)));
        }
        Ok(sql)
    }

    fn table(&self, table: &Table) -> Result<Sql, Unsaid> {
        let quote = self.dialect.quote;
        Ok(match table {
            Table::Named { name, alias } if name == alias => Sql::text(quote(name)),
            Table::Named { name, alias } => Sql::text(format!("{} AS {}", quote(name), quote(alias))),
            Table::Derived { select, alias, lateral } => {
                let (before, after) = if self.lines { ("(\n  ", "\n)") } else { ("(", ")") };
                let before = format!("{}{before}", if *lateral { "LATERAL " } else { "" });
                self.select(select)?.indented("  ").within(&before, &format!("{after} AS {}", quote(alias)))
            }
        })
    }

    /// A condition among so many that are joined by AND.
    fn part(&self, condition: &Expr<Term>, many: usize) -> Result<Sql, Unsaid> {
        let sql = self.expr(condition)?;
        let apart = many > 1 && matches!(condition.node, Node::Or(_) | Node::And(_) | Node::Between(..));
        Ok(if apart { sql.within("(", ")") } else { sql })
    }

    fn conditions(&self, parts: &[Condition], only_given: bool, beside: usize) -> Result<Vec<Sql>, Unsaid> {
        let many = parts.len() + beside;
        let mut said = Vec::new();
        for part in parts {
            let Some(OnlyIf { parameter, kind, is_list }) = part.only_if else {
                said.push(self.part(&part.condition, many)?);
                continue;
            };
            let is_given = (self.shape.length)(parameter).is_some();
            if only_given {
                if is_given {
                    said.push(self.part(&part.condition, many)?);
                }
                continue;
            }
            let condition = self.part(&part.condition, 2)?;
            said.push(match is_list {
                // A list is written value by value, so it is known whether there is any.
                true if self.dialect.key_list == KeyList::Placeholders => {
                    if is_given {
                        condition
                    } else {
                        Sql::text("1 = 1")
                    }
                }
                true => condition.within("(", " OR ").join_with(Sql::bind(Bind::Parameter(parameter)).within("", " IS NULL)")),
                false => {
                    let own = typed(self.dialect, Sql::bind(Bind::Parameter(parameter)), Some(kind));
                    own.within("(", " IS NULL OR ").join_with(condition.within("", ")"))
                }
            });
        }
        Ok(said)
    }

    /// The joins that are printed: of those that only parts which may be left out need, the ones that printed parts need.
    fn needed_joins<'s>(&self, select: &'s Select) -> Vec<&'s Join> {
        if !select.only_given || select.joins.iter().all(|join| !join.optional) {
            return select.joins.iter().collect();
        }
        let mut used = BTreeSet::new();
        let given = |part: &&Condition| part.only_if.is_none_or(|only_if| (self.shape.length)(only_if.parameter).is_some());
        select.filter.iter().chain(&select.having).filter(given).for_each(|part| aliases(&part.condition, &mut used));
        select.columns.iter().flatten().for_each(|column| aliases(&column.value, &mut used));
        select.order.iter().for_each(|key| aliases(&key.value, &mut used));
        select.group.iter().for_each(|term| aliases(term, &mut used));
        let mut kept = Vec::new();
        for join in select.joins.iter().rev() {
            if !join.optional || used.contains(join.table.alias()) {
                join.on.iter().for_each(|on| aliases(on, &mut used));
                kept.push(join);
            }
        }
        kept.reverse();
        kept
    }

    fn keys(&self, keys: &Keys) -> Result<Sql, Unsaid> {
        let columns = keys.columns.iter().map(|column| self.inner().leaf(column)).collect::<Result<Vec<_>, _>>()?;
        let width = columns.len();
        let left = if width == 1 { Sql::join(columns, "") } else { Sql::join(columns, ", ").within("(", ")") };
        if keys.is_list {
            return Ok(left.within("", " = ANY(").join_with(Sql::bind(Bind::Keys).within("", ")")));
        }
        let key = |number: usize| {
            let values = (0..width).map(|column| Sql::bind(Bind::Key(number * width + column)));
            let values = Sql::join(values, ", ");
            if width == 1 { values } else { values.within("(", ")") }
        };
        if keys.most == 1 {
            return Ok(left.within("", " = ").join_with(key(0)));
        }
        let list = if self.shape.abridged { Sql::text("…") } else { Sql::join((0..self.shape.keys).map(key), ", ") };
        let before = if width > 1 && self.dialect.row_list == RowList::Values { " IN (VALUES " } else { " IN (" };
        Ok(left.within("", before).join_with(list.within("", ")")))
    }

    /// A column as it is; anything else by its place among what is selected, so that both are the same to every engine.
    fn group_term(&self, term: &Expr<Term>, select: &Select) -> Result<Sql, Unsaid> {
        let place = select.columns.iter().flatten().position(|column| column.value == *term);
        match (&term.node, place) {
            (Node::Leaf(Term::Column { .. }), _) | (_, None) => self.expr(term),
            (_, Some(place)) => Ok(Sql::text((place + 1).to_string())),
        }
    }

    /// With direction and place of nulls: they come first ascending and last descending.
    fn sort_key(&self, key: &SortKey) -> Result<Sql, Unsaid> {
        let mut sql = self.expr(&key.value)?;
        if key.descending {
            sql.push(" DESC");
        }
        if key.nullable && !self.dialect.nulls_first {
            sql.push(if key.descending { " NULLS LAST" } else { " NULLS FIRST" });
        }
        Ok(sql)
    }
}

fn aliases(expr: &Expr<Term>, used: &mut BTreeSet<String>) {
    terms(expr, &mut |term| {
        if let Term::Column { table: Some(table), .. } = term {
            used.insert(table.clone());
        }
    });
}

/// Calls `each` with every term, those in sub-selects too.
fn terms(expr: &Expr<Term>, each: &mut dyn FnMut(&Term)) {
    expr.for_each_leaf(&mut |term| {
        each(term);
        match term {
            Term::Aggregate { of: Some(of), .. } => terms(of, each),
            Term::Place { part, order } => {
                part.iter().chain(order.iter().map(|key| &key.value)).for_each(|expr| terms(expr, each));
            }
            Term::JsonRows { items, order } => {
                items.iter().map(|item| &item.value).chain(order.iter().map(|key| &key.value)).for_each(|expr| terms(expr, each));
            }
            Term::Select(select, _) | Term::Exists(select) | Term::Json(select) => {
                let values = select.columns.iter().flatten().map(|column| &column.value);
                let conditions = select.filter.iter().map(|part| &part.condition);
                values.chain(conditions).chain(select.joins.iter().flat_map(|join| &join.on)).for_each(|expr| terms(expr, each));
            }
            _ => {}
        }
    });
}
