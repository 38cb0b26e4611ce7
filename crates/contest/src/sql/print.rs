//! Expressions as an engine's SQL: one printer for conditions of needs, values of statements and checks of a schema.

use kampf_schema::expr::{Expr, Function, Node, Operator, Pattern, TextMatch};
use kampf_schema::{Decimal, LogicalType, Rule, Value, format_date, format_timestamp};

use super::fragment::{Bind, Sql, in_list, typed};
use crate::dialect::Dialect;

/// What an engine cannot say, in words that follow on its name.
pub(crate) type Unsaid = String;

/// How leaves of one kind are printed.
pub(crate) trait Leaves<L> {
    /// A leaf as SQL.
    fn leaf(&mut self, leaf: &L) -> Result<Sql, Unsaid>;

    /// Its type.
    fn kind(&self, leaf: &L) -> Option<LogicalType>;

    /// The parameter that it is.
    fn parameter(&self, _leaf: &L) -> Option<usize> {
        None
    }

    /// How many digits a decimal may come to, where that is asked.
    fn digits(&self, _value: &Expr<L>) -> u8 {
        0
    }

    /// Whether fixed values are bound; else they are written.
    fn binds(&self) -> bool {
        true
    }
}

/// Prints an expression.
///
/// # Errors
/// What the engine cannot say.
pub(crate) fn print<L>(dialect: &Dialect, expr: &Expr<L>, leaves: &mut dyn Leaves<L>) -> Result<Sql, Unsaid> {
    Printer { dialect, leaves }.value(expr)
}

/// A check of a schema, or a term of one of its indexes, as SQL; none where the engine cannot say it.
pub fn rule_sql(dialect: &Dialect, rule: &Rule, table: &kampf_schema::Table) -> Option<String> {
    struct Columns<'a>(&'a Dialect, &'a kampf_schema::Table);

    impl Leaves<usize> for Columns<'_> {
        fn leaf(&mut self, column: &usize) -> Result<Sql, Unsaid> {
            Ok(Sql::text((self.0.quote)(&self.1.columns[*column].name)))
        }

        fn kind(&self, column: &usize) -> Option<LogicalType> {
            Some(self.1.columns[*column].kind)
        }

        fn binds(&self) -> bool {
            false
        }
    }

    let sql = print(dialect, rule, &mut Columns(dialect, table)).ok()?;
    Some(sql.finish(dialect, &|_| None).sql)
}

/// A fixed value as SQL.
pub fn literal(dialect: &Dialect, value: &Value) -> String {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "''"));
    let dated = |word: &str, text: &str| if dialect.has_dates { format!("{word} '{text}'") } else { quoted(text) };
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Integer(number) => number.to_string(),
        Value::Decimal(units, scale) => Decimal { units: units.get(), scale: *scale }.to_string(),
        Value::Real(number) => format!("{number:?}"),
        Value::Text(text) => quoted(text),
        Value::Boolean(truth) if dialect.has_booleans => truth.to_string(),
        Value::Boolean(truth) => u8::from(*truth).to_string(),
        Value::Date(days) => dated("DATE", &format_date(*days)),
        Value::Timestamp(micros) => dated("TIMESTAMP", &format_timestamp(*micros)),
        Value::Uuid(_) => quoted(&value.to_string()),
        Value::Blob(_) => format!("X{}", quoted(&value.to_string())),
        Value::List(values) => format!("({})", values.iter().map(|value| literal(dialect, value)).collect::<Vec<_>>().join(", ")),
    }
}

struct Printer<'a, L> {
    dialect: &'a Dialect,
    leaves: &'a mut dyn Leaves<L>,
}

impl<L> Printer<'_, L> {
    fn kind(&self, expr: &Expr<L>) -> Option<LogicalType> {
        expr.kind(&|leaf| self.leaves.kind(leaf))
    }

    /// An expression by itself; bound values say their type.
    fn value(&mut self, expr: &Expr<L>) -> Result<Sql, Unsaid> {
        if let Some(LogicalType::Decimal { scale, .. }) = self.kind(expr)
            && self.leaves.binds()
            && expr.is_reckoned()
        {
            if self.leaves.digits(expr) > self.dialect.most_digits {
                return Err(format!("keeps no more than {} digits of a decimal", self.dialect.most_digits));
            }
            if self.dialect.decimals_are_reals {
                let scaled = self.scaled(expr, scale)?;
                return Ok(if scale == 0 { scaled } else { scaled.within("(", &format!(" / {}.0)", power(scale))) });
            }
        }
        match &expr.node {
            Node::Leaf(leaf) if self.leaves.parameter(leaf).is_some() => {
                let (sql, kind) = (self.leaves.leaf(leaf)?, self.leaves.kind(leaf));
                Ok(typed(self.dialect, sql, kind))
            }
            Node::Leaf(leaf) => self.leaves.leaf(leaf),
            Node::Literal(value) => Ok(self.literal(value, true)),
            Node::Call(function, parts) => self.call(*function, parts),
            Node::Arithmetic(operator, left, right) => self.arithmetic(*operator, left, right),
            Node::Case(cases, otherwise) => {
                let mut sql = Sql::text("CASE");
                for (condition, value) in cases {
                    let (condition, value) = (self.value(condition)?, self.operand(value)?);
                    sql.push(" WHEN ").add(condition).push(" THEN ").add(value);
                }
                if let Some(value) = otherwise {
                    let value = self.operand(value)?;
                    sql.push(" ELSE ").add(value);
                }
                sql.push(" END");
                Ok(sql)
            }
            _ => self.condition(expr),
        }
    }

    fn literal(&self, value: &Value, says_type: bool) -> Sql {
        if !self.leaves.binds() || *value == Value::Null {
            return Sql::text(literal(self.dialect, value));
        }
        let bound = Sql::bind(Bind::Value(value.clone()));
        if says_type { typed(self.dialect, bound, kampf_schema::expr::kind_of(value)) } else { bound }
    }

    /// A part of a larger form: conditions stand in parentheses.
    fn operand(&mut self, expr: &Expr<L>) -> Result<Sql, Unsaid> {
        let sql = self.value(expr)?;
        Ok(if is_condition(expr) { sql.within("(", ")") } else { sql })
    }

    /// Something compared with others: beside a column of its type a bound value needs not say what it is.
    fn beside(&mut self, expr: &Expr<L>, others: &[&Expr<L>]) -> Result<Sql, Unsaid> {
        let own = self.kind(expr);
        let known = others
            .iter()
            .any(|other| other.as_leaf().is_some_and(|leaf| self.leaves.parameter(leaf).is_none()) && same_family(self.kind(other), own));
        match &expr.node {
            Node::Literal(value) if known => Ok(self.literal(value, false)),
            Node::Leaf(leaf) if known && self.leaves.parameter(leaf).is_some() => self.leaves.leaf(leaf),
            _ => self.operand(expr),
        }
    }

    fn condition(&mut self, expr: &Expr<L>) -> Result<Sql, Unsaid> {
        Ok(match &expr.node {
            Node::Compare(comparison, left, right) => {
                let mut sql = self.beside(left, &[right])?;
                let right = self.beside(right, &[left])?;
                sql.push(&format!(" {} ", comparison.symbol())).add(right);
                sql
            }
            Node::Same(left, right) => {
                let mut sql = self.beside(left, &[right])?;
                let right = self.beside(right, &[left])?;
                sql.push(" IS NOT DISTINCT FROM ").add(right);
                sql
            }
            Node::In(value, list) => {
                let others: Vec<&Expr<L>> = list.iter().collect();
                let mut sql = self.beside(value, &others)?;
                let list = list.iter().map(|item| self.beside(item, &[value])).collect::<Result<Vec<_>, _>>()?;
                sql.push(" IN (").add(Sql::join(list, ", ")).push(")");
                sql
            }
            Node::InList(value, list) => {
                let value = self.operand(value)?;
                match list.as_leaf().and_then(|leaf| self.leaves.parameter(leaf)) {
                    Some(parameter) => in_list(self.dialect, value, parameter),
                    None => return Err("knows no lists but parameters".to_owned()),
                }
            }
            Node::Between(value, low, high) => {
                let mut sql = self.beside(value, &[low, high])?;
                let (low, high) = (self.beside(low, &[value])?, self.beside(high, &[value])?);
                sql.push(" BETWEEN ").add(low).push(" AND ").add(high);
                sql
            }
            Node::IsNull(value) => {
                let mut sql = self.operand(value)?;
                sql.push(" IS NULL");
                sql
            }
            Node::Match(kind, text, pattern) => {
                let template = match kind {
                    TextMatch::Like => self.dialect.like,
                    TextMatch::Contains => self.dialect.contains,
                    TextMatch::Starts => self.dialect.starts,
                    TextMatch::Ends => self.dialect.ends,
                };
                let pattern = match (kind, &pattern.node) {
                    (TextMatch::Like, Node::Literal(Value::Text(pattern))) => {
                        self.literal(&Value::from((self.dialect.like_pattern)(pattern).as_str()), false)
                    }
                    (TextMatch::Like, _) => return Err("is not asked for patterns that are not written out".to_owned()),
                    _ => self.beside(pattern, &[text])?,
                };
                Sql::template(template, &[self.operand(text)?, pattern])
            }
            Node::Fits(text, pattern) => {
                let template = self.pattern(pattern)?;
                let wanted = pattern.like.as_ref().or(pattern.written.as_ref()).unwrap_or(&pattern.text);
                Sql::template(template, &[self.operand(text)?, self.literal(&Value::from(wanted.as_str()), false)])
            }
            Node::Not(inner) => match &inner.node {
                Node::IsNull(value) => {
                    let mut sql = self.operand(value)?;
                    sql.push(" IS NOT NULL");
                    sql
                }
                _ => self.value(inner)?.within("NOT (", ")"),
            },
            Node::And(parts) => self.joined(parts, " AND ")?,
            Node::Or(parts) => self.joined(parts, " OR ")?,
            _ => return self.value(expr),
        })
    }

    fn pattern(&self, pattern: &Pattern) -> Result<&'static str, Unsaid> {
        let (told_apart, any_case) = match pattern.like {
            Some(_) => self.dialect.schema_like,
            None => self.dialect.matches.map_or((None, None), |(one, other)| (Some(one), Some(other))),
        };
        let template = if pattern.any_case { any_case } else { told_apart };
        template.ok_or_else(|| "has no regular expressions".to_owned())
    }

    fn joined(&mut self, parts: &[Expr<L>], word: &str) -> Result<Sql, Unsaid> {
        let parts = parts.iter().map(|part| {
            let sql = self.value(part)?;
            let apart = matches!(part.node, Node::And(_) | Node::Or(_) | Node::Between(..));
            Ok(if apart { sql.within("(", ")") } else { sql })
        });
        Ok(Sql::join(parts.collect::<Result<Vec<_>, Unsaid>>()?, word))
    }

    fn all(&mut self, parts: &[Expr<L>]) -> Result<Vec<Sql>, Unsaid> {
        parts.iter().map(|part| self.operand(part)).collect()
    }

    fn call(&mut self, function: Function, parts: &[Expr<L>]) -> Result<Sql, Unsaid> {
        use Function as F;
        let dialect = self.dialect;
        let unsaid = |what: &str| Err(format!("has no {what}"));
        let template = match function {
            F::Lower => dialect.lower,
            F::Upper => dialect.upper,
            F::Length if self.leaves.binds() => dialect.length,
            F::Trim if self.leaves.binds() => dialect.trim,
            F::Substring if self.leaves.binds() => return self.substring(parts),
            F::DaysBetween => dialect.days_between,
            F::Extract(part) => match (dialect.extract)(part) {
                Some(template) => template,
                None => return unsaid(&format!("{} of a time", part.word())),
            },
            F::StartOf(part) => match (dialect.start_of)(part) {
                Some(template) => template,
                None => return unsaid(&format!("start of a {}", part.word())),
            },
            F::To(LogicalType::Real) => dialect.to_real,
            F::To(LogicalType::Timestamp) => dialect.to_timestamp,
            F::Negate => "(- {0})",
            F::Length => "length({0})",
            F::Trim => "trim({0})",
            F::LowerAll => "lower({0})",
            F::UpperAll => "upper({0})",
            F::Absolute => "abs({0})",
            F::To(_) => "{0}",
            F::Floor if dialect.has_floor => "floor({0})",
            F::Ceiling if dialect.has_floor => "ceil({0})",
            F::Round => {
                let mut sql = self.operand(&parts[0])?.within("round(", "");
                if let Some(digits) = parts.get(1) {
                    let digits = match digits.as_literal() {
                        Some(Value::Integer(digits)) => Sql::text(digits.to_string()),
                        _ => self.operand(digits)?,
                    };
                    sql.push(", ").add(digits);
                }
                sql.push(")");
                return Ok(sql);
            }
            F::Coalesce | F::NullIf | F::Replace | F::Substring => {
                let name = match function {
                    F::Coalesce => "coalesce(",
                    F::NullIf => "nullif(",
                    F::Replace => "replace(",
                    _ => "substr(",
                };
                return Ok(Sql::join(self.all(parts)?, ", ").within(name, ")"));
            }
            F::Known | F::Unknown => {
                let word = if function == F::Known { "NOT NULL" } else { "NULL" };
                let counted = self.all(parts)?.into_iter().map(|part| part.within("CASE WHEN ", &format!(" IS {word} THEN 1 ELSE 0 END")));
                return Ok(Sql::join(counted, " + ").within("(", ")"));
            }
            // Generated JSON is JSON; the others are written in ways that differ too much to be worth it.
            other => return Err(format!("is not asked for {other:?}")),
        };
        Ok(Sql::template(template, &self.all(parts)?))
    }

    /// Written places and lengths are brought inside of the text here, where engines mean different things by others.
    fn substring(&mut self, parts: &[Expr<L>]) -> Result<Sql, Unsaid> {
        let text = self.operand(&parts[0])?;
        if let (Some(Value::Integer(start)), Some(Value::Integer(length))) = (parts[1].as_literal(), parts[2].as_literal()) {
            if *length < 0 {
                return Ok(Sql::text("NULL"));
            }
            let end = start.saturating_add(*length).clamp(1, i64::from(i32::MAX));
            let start = (*start).clamp(1, i64::from(i32::MAX));
            return Ok(text.within("substr(", &format!(", {start}, {})", (end - start).max(0))));
        }
        Ok(Sql::template(self.dialect.substring, &[text, self.operand(&parts[1])?, self.operand(&parts[2])?]))
    }

    fn arithmetic(&mut self, operator: Operator, left: &Expr<L>, right: &Expr<L>) -> Result<Sql, Unsaid> {
        let (mut one, other) = (self.operand(left)?, self.operand(right)?);
        if operator == Operator::Divide {
            return Ok(Sql::template(self.dialect.divide, &[one, other]));
        }
        if operator == Operator::Remainder && self.leaves.binds() {
            return Ok(Sql::template(self.dialect.remainder, &[one, other]));
        }
        one.push(&format!(" {} ", operator.symbol())).add(other);
        Ok(one.within("(", ")"))
    }

    /// A number times ten to the `scale`, as a whole number: exact where decimals are kept as reals.
    fn scaled(&mut self, expr: &Expr<L>, scale: u8) -> Result<Sql, Unsaid> {
        let own = match self.kind(expr) {
            Some(LogicalType::Decimal { scale, .. }) => scale,
            _ => 0,
        };
        let lifted = |whole: Sql, from: u8| if scale > from { whole.within("(", &format!(" * {})", power(scale - from))) } else { whole };
        Ok(match &expr.node {
            Node::Literal(value) => match value.as_ref().as_decimal().and_then(|decimal| decimal.rescaled(scale)) {
                Some(decimal) => Sql::text(decimal.units.to_string()),
                None => Sql::text("NULL"),
            },
            Node::Arithmetic(operator @ (Operator::Add | Operator::Subtract), left, right) => {
                let (mut one, other) = (self.scaled(left, scale)?, self.scaled(right, scale)?);
                one.push(&format!(" {} ", operator.symbol())).add(other);
                one.within("(", ")")
            }
            Node::Arithmetic(Operator::Multiply, left, right) => {
                let mut one = self.scaled_as_is(left)?;
                let other = self.scaled_as_is(right)?;
                one.push(" * ").add(other);
                lifted(one.within("(", ")"), own)
            }
            Node::Call(Function::Negate, parts) => self.scaled(&parts[0], scale)?.within("(- ", ")"),
            Node::Call(Function::Absolute, parts) => self.scaled(&parts[0], scale)?.within("abs(", ")"),
            Node::Call(Function::To(_), parts) => self.scaled(&parts[0], scale)?,
            Node::Call(Function::Round, parts) => {
                let from = match self.kind(&parts[0]) {
                    Some(LogicalType::Decimal { scale, .. }) => scale,
                    _ => 0,
                };
                let whole = self.scaled(&parts[0], from)?;
                if from <= own {
                    return Ok(lifted(whole, from));
                }
                let step = power(from - own);
                let half = step / 2;
                let rounded = Sql::template(&format!("(({{0}} + CASE WHEN {{0}} < 0 THEN -{half} ELSE {half} END) / {step})"), &[whole]);
                lifted(rounded, own)
            }
            _ if own == 0 => lifted(self.operand(expr)?, 0),
            _ => lifted(self.operand(expr)?.within("CAST(round(", &format!(" * {}) AS INTEGER)", power(own))), own),
        })
    }

    fn scaled_as_is(&mut self, expr: &Expr<L>) -> Result<Sql, Unsaid> {
        let own = match self.kind(expr) {
            Some(LogicalType::Decimal { scale, .. }) => scale,
            _ => 0,
        };
        self.scaled(expr, own)
    }
}

/// The value of an aggregate, where decimals are kept as reals: sums go over scaled whole numbers.
pub(crate) fn scaled_sum<L>(dialect: &Dialect, of: &Expr<L>, scale: u8, leaves: &mut dyn Leaves<L>) -> Result<Sql, Unsaid> {
    Printer { dialect, leaves }.scaled(of, scale)
}

fn is_condition<L>(expr: &Expr<L>) -> bool {
    !matches!(expr.node, Node::Leaf(_) | Node::Literal(_) | Node::Call(..) | Node::Arithmetic(..) | Node::Case(..))
}

/// Whether a bound value of one type needs not be told beside a column of the other.
fn same_family(column: Option<LogicalType>, value: Option<LogicalType>) -> bool {
    use LogicalType as T;
    match (column, value) {
        (Some(T::Decimal { .. }), Some(T::Decimal { .. } | T::Integer)) | (Some(T::Text { .. }), Some(T::Text { .. })) => true,
        (Some(column), Some(value)) => column == value,
        _ => true,
    }
}

fn power(scale: u8) -> i128 {
    10_i128.pow(u32::from(scale.min(36)))
}
