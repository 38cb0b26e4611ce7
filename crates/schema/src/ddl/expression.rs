//! Conditions and terms of SQL, read into what can be evaluated.

use std::cell::Cell;

use sqlparser::ast::{self, BinaryOperator as B, UnaryOperator};

use super::dialect::SqlDialect;
use crate::calendar::{parse_date, parse_timestamp};
use crate::expr::Comparison;
use crate::model::{ColumnId, Table};
use crate::rule::{Function, Operator, Pattern, Rule, Scalar};
use crate::types::LogicalType;
use crate::value::{Decimal, Value};

/// What is not known, in words.
pub(super) type Unknown = String;

/// Reads expressions about one table.
pub(super) struct Reading<'a> {
    pub(super) table: &'a Table,
    /// Finds a column, by the names it had before too.
    pub(super) column: &'a dyn Fn(&str) -> Option<ColumnId>,
    /// The column that `VALUE` stands for, in the conditions of a domain.
    pub(super) value: Option<ColumnId>,
    pub(super) dialect: SqlDialect,
    depth: Cell<usize>,
}

/// Deeper trees than this are not read: they are evaluated for each row, wherever there is little stack.
const DEEPEST: usize = 100;

impl<'a> Reading<'a> {
    pub(super) fn new(
        table: &'a Table,
        column: &'a dyn Fn(&str) -> Option<ColumnId>,
        value: Option<ColumnId>,
        dialect: SqlDialect,
    ) -> Reading<'a> {
        Reading { table, column, value, dialect, depth: Cell::new(0) }
    }

    /// Goes one level down, if it is not too deep.
    fn below<T>(&self, read: impl FnOnce() -> Result<T, Unknown>) -> Result<T, Unknown> {
        if self.depth.get() >= DEEPEST {
            return Err(format!("an expression nested more than {DEEPEST} levels deep"));
        }
        self.depth.set(self.depth.get() + 1);
        let done = read();
        self.depth.set(self.depth.get() - 1);
        done
    }

    /// A condition.
    pub(super) fn rule(&self, expr: &ast::Expr) -> Result<Rule, Unknown> {
        self.below(|| self.read_rule(expr))
    }

    /// Conditions joined by the same word, however many: `a OR b OR c` is parsed as `(a OR b) OR c`.
    fn chain(&self, mut expr: &ast::Expr, word: &B) -> Result<Rule, Unknown> {
        let mut conditions = Vec::new();
        while let ast::Expr::BinaryOp { left, op, right } = expr
            && op == word
        {
            conditions.push(&**right);
            expr = left;
        }
        conditions.push(expr);
        let all = *word == B::And;
        let mut rules = Vec::with_capacity(conditions.len());
        for condition in conditions.into_iter().rev() {
            match (self.rule(condition)?, all) {
                (Rule::And(inner), true) | (Rule::Or(inner), false) => rules.extend(inner),
                (other, _) => rules.push(other),
            }
        }
        Ok(if all { Rule::And(rules) } else { Rule::Or(rules) })
    }

    fn read_rule(&self, expr: &ast::Expr) -> Result<Rule, Unknown> {
        use ast::Expr as E;
        Ok(match expr {
            E::Nested(inner) => self.rule(inner)?,
            E::BinaryOp { op: word @ (B::And | B::Or), .. } => self.chain(expr, word)?,
            E::BinaryOp { left, op, right } if comparison(op).is_some() => {
                let (left, right) = self.pair(left, right)?;
                Rule::Compare(comparison(op).unwrap_or(Comparison::Equal), left, right)
            }
            E::BinaryOp { left, op, right } if pattern_of(op).is_some() => {
                let (like, any_case, negated) = pattern_of(op).unwrap_or_default();
                let any_case = any_case || self.dialect == SqlDialect::Mysql;
                let rule = self.matches(left, right, like, any_case)?;
                if negated { Rule::Not(Box::new(rule)) } else { rule }
            }
            E::UnaryOp { op: UnaryOperator::Not, expr } => Rule::Not(Box::new(self.rule(expr)?)),
            E::IsNull(inner) => Rule::IsNull(self.term(inner, None)?),
            E::IsNotNull(inner) => Rule::Not(Box::new(Rule::IsNull(self.term(inner, None)?))),
            E::IsTrue(inner) => Rule::Same(self.term(inner, None)?, Scalar::Literal(Value::Boolean(true))),
            E::IsFalse(inner) => Rule::Same(self.term(inner, None)?, Scalar::Literal(Value::Boolean(false))),
            E::IsNotTrue(inner) => Rule::Not(Box::new(Rule::Same(self.term(inner, None)?, Scalar::Literal(Value::Boolean(true))))),
            E::IsNotFalse(inner) => Rule::Not(Box::new(Rule::Same(self.term(inner, None)?, Scalar::Literal(Value::Boolean(false))))),
            E::IsDistinctFrom(left, right) => {
                let (left, right) = self.pair(left, right)?;
                Rule::Not(Box::new(Rule::Same(left, right)))
            }
            E::IsNotDistinctFrom(left, right) => {
                let (left, right) = self.pair(left, right)?;
                Rule::Same(left, right)
            }
            E::In { expr, target: ast::InTarget::List(list), negated, .. } => {
                let term = self.term(expr, None)?;
                let kind = self.kind(&term);
                let list = list.iter().map(|item| self.term(item, kind)).collect::<Result<_, _>>()?;
                negate(Rule::In(term, list), *negated)
            }
            E::AnyOp { left, compare_op: B::Eq, right, .. } => {
                let term = self.term(left, None)?;
                let list = self.list(right, self.kind(&term))?;
                Rule::In(term, list)
            }
            E::AllOp { left, compare_op: B::NotEq, right } => {
                let term = self.term(left, None)?;
                let list = self.list(right, self.kind(&term))?;
                negate(Rule::In(term, list), true)
            }
            E::Between { expr, negated, low, high } => {
                let (term, low) = self.pair(expr, low)?;
                let high = self.term(high, self.kind(&term))?;
                let rule = Rule::And(vec![
                    Rule::Compare(Comparison::GreaterOrEqual, term.clone(), low),
                    Rule::Compare(Comparison::LessOrEqual, term, high),
                ]);
                negate(rule, *negated)
            }
            E::Like { negated, any: false, expr, pattern, escape_char: None } => {
                // Only PostgreSQL's LIKE tells capital letters apart.
                let any_case = matches!(self.dialect, SqlDialect::Sqlite | SqlDialect::Mysql);
                negate(self.matches(expr, pattern, true, any_case)?, *negated)
            }
            E::ILike { negated, any: false, expr, pattern, escape_char: None } => {
                negate(self.matches(expr, pattern, true, true)?, *negated)
            }
            E::RLike { negated, expr, pattern, .. } => {
                negate(self.matches(expr, pattern, false, self.dialect == SqlDialect::Mysql)?, *negated)
            }
            E::SimilarTo { negated, expr, pattern, escape_char: None } => {
                let Scalar::Literal(Value::Text(text)) = self.term(pattern, None)? else {
                    return Err("a pattern that is not fixed".to_owned());
                };
                let text = format!("^(?:{})$", text.replace('%', ".*").replace('_', "."));
                negate(self.pattern(expr, &text, false)?, *negated)
            }
            other => Rule::Truth(self.term(other, Some(LogicalType::Boolean))?),
        })
    }

    fn matches(&self, expr: &ast::Expr, pattern: &ast::Expr, like: bool, any_case: bool) -> Result<Rule, Unknown> {
        let Scalar::Literal(Value::Text(text)) = self.term(pattern, Some(LogicalType::TEXT))? else {
            return Err("a pattern that is not fixed".to_owned());
        };
        if like {
            let pattern = Pattern::like(&text, any_case).ok_or_else(|| format!("the pattern {text}"))?;
            return Ok(Rule::Matches(self.term(expr, None)?, pattern));
        }
        self.pattern(expr, &text, any_case)
    }

    fn pattern(&self, expr: &ast::Expr, text: &str, any_case: bool) -> Result<Rule, Unknown> {
        let pattern = Pattern::regex(text, any_case).ok_or_else(|| format!("the pattern {text}"))?;
        Ok(Rule::Matches(self.term(expr, None)?, pattern))
    }

    /// Two terms, a fixed value on either side taken as what the other side is.
    fn pair(&self, left: &ast::Expr, right: &ast::Expr) -> Result<(Scalar, Scalar), Unknown> {
        if is_fixed(left) {
            let right = self.term(right, None)?;
            return Ok((self.term(left, self.kind(&right))?, right));
        }
        let left = self.term(left, None)?;
        let right = self.term(right, self.kind(&left))?;
        Ok((left, right))
    }

    /// The items of `ARRAY[…]` or `'{…}'`, casts around it left out.
    fn list(&self, expr: &ast::Expr, kind: Option<LogicalType>) -> Result<Vec<Scalar>, Unknown> {
        match expr {
            ast::Expr::Nested(inner) | ast::Expr::Cast { expr: inner, .. } => self.list(inner, kind),
            ast::Expr::Array(array) => array.elem.iter().map(|item| self.term(item, kind)).collect(),
            ast::Expr::Tuple(items) => items.iter().map(|item| self.term(item, kind)).collect(),
            ast::Expr::Value(value) => match text_of(&value.value) {
                Some(text) if text.starts_with('{') && text.ends_with('}') => {
                    let items = text[1..text.len() - 1].split(',').map(|item| item.trim().trim_matches('"'));
                    Ok(items.map(|item| Scalar::Literal(typed(item, kind).unwrap_or_else(|| Value::from(item)))).collect())
                }
                _ => Err(format!("the list {expr}")),
            },
            _ => Err(format!("the list {expr}")),
        }
    }

    /// A term; a fixed value is taken as `want`.
    pub(super) fn term(&self, expr: &ast::Expr, want: Option<LogicalType>) -> Result<Scalar, Unknown> {
        self.below(|| self.read_term(expr, want))
    }

    fn read_term(&self, expr: &ast::Expr, want: Option<LogicalType>) -> Result<Scalar, Unknown> {
        use ast::Expr as E;
        Ok(match expr {
            E::Nested(inner) => self.term(inner, want)?,
            E::Identifier(name) if name.value.eq_ignore_ascii_case("value") && self.value.is_some() => {
                Scalar::Column(self.value.unwrap_or_default())
            }
            E::Identifier(name) => match (self.column)(&name.value) {
                Some(column) => Scalar::Column(column),
                // SQLite takes a name in double quotes that is no column for a text.
                None if name.quote_style == Some('"') => Scalar::Literal(Value::from(name.value.as_str())),
                None => return Err(format!("the name {name}")),
            },
            E::CompoundIdentifier(names) => {
                let column = names.last().and_then(|name| (self.column)(&name.value));
                Scalar::Column(column.ok_or_else(|| format!("the name {expr}"))?)
            }
            E::Value(ast::ValueWithSpan { value: ast::Value::Placeholder(unreadable), .. }) => return Err(unreadable.clone()),
            E::Value(_) | E::Prefixed { .. } | E::TypedString(_) => {
                Scalar::Literal(fixed(expr, want).ok_or_else(|| format!("the value {expr}"))?)
            }
            E::UnaryOp { op: UnaryOperator::Minus, .. } if is_fixed(expr) => {
                Scalar::Literal(fixed(expr, want).ok_or_else(|| format!("the value {expr}"))?)
            }
            E::UnaryOp { op: UnaryOperator::Plus, expr } => self.term(expr, want)?,
            E::UnaryOp { op: UnaryOperator::Minus, expr } => {
                Scalar::Arithmetic(Operator::Subtract, Box::new(Scalar::Literal(Value::Integer(0))), Box::new(self.term(expr, want)?))
            }
            E::Cast { expr: inner, data_type, .. } => {
                let kind = super::types::of_word(&data_type.to_string()).map(|meaning| meaning.kind);
                match (self.term(inner, kind.or(want))?, kind) {
                    (Scalar::Literal(value), Some(kind)) => Scalar::Literal(fixed(inner, Some(kind)).unwrap_or(value)),
                    (term, _) => term,
                }
            }
            E::Convert { expr, .. } | E::Collate { expr, .. } => self.term(expr, want)?,
            E::BinaryOp { left, op, right } if operator(op).is_some() => {
                let operator = operator(op).unwrap_or(Operator::Add);
                Scalar::Arithmetic(operator, Box::new(self.term(left, None)?), Box::new(self.term(right, None)?))
            }
            E::Function(function) => self.call(function)?,
            E::Trim { expr, trim_what: None, trim_characters: None, trim_where: None } => {
                Scalar::Call(Function::Trim, vec![self.term(expr, None)?])
            }
            E::Substring { expr, substring_from, substring_for, .. } => {
                let mut terms = vec![self.term(expr, None)?];
                for part in [substring_from, substring_for].into_iter().flatten() {
                    terms.push(self.term(part, Some(LogicalType::Integer))?);
                }
                Scalar::Call(Function::Part, terms)
            }
            E::Position { expr, r#in } => Scalar::Call(Function::Position, vec![self.term(r#in, None)?, self.term(expr, None)?]),
            E::Floor { expr, .. } => Scalar::Call(Function::Floor, vec![self.term(expr, None)?]),
            E::Ceil { expr, .. } => Scalar::Call(Function::Ceiling, vec![self.term(expr, None)?]),
            E::Extract { field: ast::DateTimeField::Year, expr, .. } => Scalar::Call(Function::Year, vec![self.term(expr, None)?]),
            E::Case { operand, conditions, else_result, .. } => {
                let mut cases = Vec::new();
                for case in conditions {
                    let rule = match operand {
                        Some(operand) => {
                            let (left, right) = self.pair(operand, &case.condition)?;
                            Rule::Compare(Comparison::Equal, left, right)
                        }
                        None => self.rule(&case.condition)?,
                    };
                    cases.push((rule, self.term(&case.result, want)?));
                }
                if let Some(other) = else_result {
                    cases.push((Rule::Truth(Scalar::Literal(Value::Boolean(true))), self.term(other, want)?));
                }
                Scalar::Choose(cases)
            }
            E::Subquery(_) | E::Exists { .. } => return Err("a query inside".to_owned()),
            E::BinaryOp { op, .. } if comparison(op).is_none() && pattern_of(op).is_none() && !matches!(op, B::And | B::Or) => {
                return Err(format!("the operator {op}"));
            }
            E::BinaryOp { .. }
            | E::IsNull(_)
            | E::IsNotNull(_)
            | E::In { .. }
            | E::Between { .. }
            | E::Like { .. }
            | E::ILike { .. }
            | E::RLike { .. }
            | E::SimilarTo { .. }
            | E::AnyOp { .. }
            | E::AllOp { .. }
            | E::IsTrue(_)
            | E::IsFalse(_)
            | E::IsNotTrue(_)
            | E::IsNotFalse(_)
            | E::IsDistinctFrom(..)
            | E::IsNotDistinctFrom(..)
            | E::UnaryOp { op: UnaryOperator::Not, .. } => Scalar::Whether(Box::new(self.rule(expr)?)),
            other => return Err(format!("`{other}`")),
        })
    }

    fn call(&self, function: &ast::Function) -> Result<Scalar, Unknown> {
        use Function as F;
        let name = function.name.to_string().to_lowercase();
        let ast::FunctionArguments::List(list) = &function.args else { return Err(format!("the function {name}")) };
        let arguments = list.args.iter().map(|argument| match argument {
            ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(inner)) => Ok(inner),
            _ => Err(format!("the function {name}")),
        });
        let arguments: Vec<&ast::Expr> = arguments.collect::<Result<_, _>>()?;
        let kind = arguments.iter().find_map(|argument| self.term(argument, None).ok().and_then(|term| self.kind(&term)));
        let terms = |want| arguments.iter().map(|argument| self.term(argument, want)).collect::<Result<Vec<_>, _>>();
        let name = name.rsplit('.').next().unwrap_or_default();
        let known = match (name.trim_matches(['"', '`']), arguments.len()) {
            ("length" | "char_length" | "character_length", 1) => F::Length,
            ("octet_length", 1) => F::Octets,
            ("lower" | "lcase", 1) => F::Lower,
            ("upper" | "ucase", 1) => F::Upper,
            ("trim" | "btrim", 1) => F::Trim,
            ("substr" | "substring" | "mid", 2 | 3) => F::Part,
            ("left", 2) => {
                let mut terms = terms(None)?;
                terms.insert(1, Scalar::Literal(Value::Integer(1)));
                return Ok(Scalar::Call(F::Part, terms));
            }
            ("abs", 1) => F::Absolute,
            ("round", 1 | 2) => F::Round,
            ("floor", 1) => F::Floor,
            ("ceil" | "ceiling", 1) => F::Ceiling,
            ("coalesce" | "ifnull" | "nvl", 1..) => return Ok(Scalar::Call(F::FirstKnown, terms(kind)?)),
            ("nullif", 2) => return Ok(Scalar::Call(F::NullIf, terms(kind)?)),
            ("greatest", 1..) => return Ok(Scalar::Call(F::Greatest, terms(kind)?)),
            ("least", 1..) => return Ok(Scalar::Call(F::Least, terms(kind)?)),
            ("num_nonnulls", 1..) => F::Known,
            ("num_nulls", 1..) => F::Unknown,
            ("year", 1) => F::Year,
            ("json_valid", 1) => F::IsJson,
            ("strpos" | "instr", 2) => F::Position,
            ("replace", 3) => F::Replace,
            ("mod", 2) => {
                let [left, right] = <[Scalar; 2]>::try_from(terms(None)?).map_err(|_| "the function mod".to_owned())?;
                return Ok(Scalar::Arithmetic(Operator::Remainder, Box::new(left), Box::new(right)));
            }
            ("concat", 1..) => {
                let joined =
                    terms(None)?.into_iter().reduce(|left, right| Scalar::Arithmetic(Operator::Join, Box::new(left), Box::new(right)));
                return joined.ok_or_else(|| "the function concat".to_owned());
            }
            ("regexp_like", 2) => return Ok(Scalar::Whether(Box::new(self.matches(arguments[0], arguments[1], false, false)?))),
            (other, _) => return Err(format!("the function {other}")),
        };
        Ok(Scalar::Call(known, terms(None)?))
    }

    /// What values of a term are, where that can be told.
    pub(super) fn kind(&self, term: &Scalar) -> Option<LogicalType> {
        use Function as F;
        Some(match term {
            Scalar::Column(column) => self.table.columns[*column].kind,
            Scalar::Literal(value) => match value {
                Value::Integer(_) => LogicalType::Integer,
                Value::Real(_) => LogicalType::Real,
                Value::Boolean(_) => LogicalType::Boolean,
                Value::Date(_) => LogicalType::Date,
                Value::Timestamp(_) => LogicalType::Timestamp,
                _ => return None,
            },
            Scalar::Call(F::Length | F::Octets | F::Known | F::Unknown | F::Year | F::Position | F::Floor | F::Ceiling, _) => {
                LogicalType::Integer
            }
            Scalar::Call(F::Lower | F::Upper | F::Trim | F::Part | F::Replace, _) | Scalar::Arithmetic(Operator::Join, ..) => {
                LogicalType::TEXT
            }
            Scalar::Call(F::IsJson, _) | Scalar::Whether(_) => LogicalType::Boolean,
            Scalar::Call(_, terms) => return terms.iter().find_map(|term| self.kind(term)),
            Scalar::Arithmetic(..) => return None,
            Scalar::Choose(cases) => return cases.iter().find_map(|(_, term)| self.kind(term)),
        })
    }
}

fn negate(rule: Rule, negated: bool) -> Rule {
    if negated { Rule::Not(Box::new(rule)) } else { rule }
}

fn comparison(op: &B) -> Option<Comparison> {
    Some(match op {
        B::Eq => Comparison::Equal,
        B::NotEq => Comparison::Unequal,
        B::Lt => Comparison::Less,
        B::LtEq => Comparison::LessOrEqual,
        B::Gt => Comparison::Greater,
        B::GtEq => Comparison::GreaterOrEqual,
        _ => return None,
    })
}

/// Whether it is LIKE, takes no notice of case, and is turned round.
fn pattern_of(op: &B) -> Option<(bool, bool, bool)> {
    Some(match op {
        B::PGRegexMatch | B::Regexp => (false, false, false),
        B::PGRegexIMatch => (false, true, false),
        B::PGRegexNotMatch => (false, false, true),
        B::PGRegexNotIMatch => (false, true, true),
        B::PGLikeMatch => (true, false, false),
        B::PGILikeMatch => (true, true, false),
        B::PGNotLikeMatch => (true, false, true),
        B::PGNotILikeMatch => (true, true, true),
        _ => return None,
    })
}

fn operator(op: &B) -> Option<Operator> {
    Some(match op {
        B::Plus => Operator::Add,
        B::Minus => Operator::Subtract,
        B::Multiply => Operator::Multiply,
        B::Divide | B::MyIntegerDivide => Operator::Divide,
        B::Modulo => Operator::Remainder,
        B::StringConcat => Operator::Join,
        _ => return None,
    })
}

fn is_fixed(expr: &ast::Expr) -> bool {
    match expr {
        ast::Expr::Value(_) | ast::Expr::TypedString(_) | ast::Expr::Prefixed { .. } => true,
        ast::Expr::UnaryOp { op: UnaryOperator::Minus, expr } | ast::Expr::Nested(expr) | ast::Expr::Cast { expr, .. } => is_fixed(expr),
        _ => false,
    }
}

pub(super) fn text_of(value: &ast::Value) -> Option<&str> {
    use ast::Value as V;
    match value {
        V::SingleQuotedString(text) | V::EscapedStringLiteral(text) | V::DoubleQuotedString(text) | V::NationalStringLiteral(text) => {
            Some(text)
        }
        V::DollarQuotedString(text) => Some(&text.value),
        _ => None,
    }
}

/// A fixed value as a type, or as what it is by itself; `None` where it is not fixed or does not fit.
pub(super) fn fixed(expr: &ast::Expr, want: Option<LogicalType>) -> Option<Value> {
    match expr {
        ast::Expr::Nested(inner) | ast::Expr::Prefixed { value: inner, .. } | ast::Expr::Collate { expr: inner, .. } => fixed(inner, want),
        ast::Expr::Cast { expr: inner, .. } => fixed(inner, want),
        ast::Expr::TypedString(typed) => fixed(
            &ast::Expr::Value(typed.value.clone()),
            want.or_else(|| super::types::of_word(&typed.data_type.to_string()).map(|meaning| meaning.kind)),
        ),
        ast::Expr::Identifier(name) if name.quote_style == Some('"') => typed(&name.value, want),
        ast::Expr::UnaryOp { op: UnaryOperator::Minus, expr } => match fixed(expr, want)? {
            Value::Integer(number) => Some(Value::Integer(-number)),
            Value::Real(number) => Some(Value::Real(-number)),
            Value::Decimal(units, scale) => Some(Value::Decimal((-units.get()).into(), scale)),
            _ => None,
        },
        ast::Expr::Value(value) => match (&value.value, want) {
            (ast::Value::Null, _) => Some(Value::Null),
            (ast::Value::Number(text, _), _) => number(text, want),
            (ast::Value::Boolean(truth), Some(LogicalType::Integer)) => Some(Value::Integer(i64::from(*truth))),
            (ast::Value::Boolean(truth), _) => Some(Value::Boolean(*truth)),
            (ast::Value::SingleQuotedByteStringLiteral(bits), _) => number(&i64::from_str_radix(bits, 2).ok()?.to_string(), want),
            (other, _) => typed(text_of(other)?, want),
        },
        _ => None,
    }
}

/// A number as a type.
pub(super) fn number(text: &str, want: Option<LogicalType>) -> Option<Value> {
    match want {
        Some(LogicalType::Integer) => text.parse().ok().map(Value::Integer).or_else(|| number(text, None)),
        Some(LogicalType::Real) => text.parse().ok().map(Value::Real),
        Some(LogicalType::Decimal { scale, .. }) => {
            let decimal = Decimal::parse(text)?;
            Some(decimal.rescaled(scale).unwrap_or(decimal).into())
        }
        Some(LogicalType::Boolean) => Some(Value::Boolean(text.parse::<f64>().ok()? != 0.0)),
        Some(LogicalType::Text { .. }) => Some(Value::from(text)),
        Some(LogicalType::Timestamp | LogicalType::Date) => None,
        _ => text
            .parse()
            .ok()
            .map(Value::Integer)
            .or_else(|| Decimal::parse(text).map(Value::from))
            .or_else(|| text.parse().ok().map(Value::Real)),
    }
}

/// A text as a type.
pub(super) fn typed(text: &str, want: Option<LogicalType>) -> Option<Value> {
    match want {
        None | Some(LogicalType::Text { .. }) => Some(Value::from(text)),
        Some(LogicalType::Boolean) => match text.to_ascii_lowercase().as_str() {
            "t" | "true" | "1" | "y" | "yes" | "on" => Some(Value::Boolean(true)),
            "f" | "false" | "0" | "n" | "no" | "off" => Some(Value::Boolean(false)),
            _ => None,
        },
        Some(LogicalType::Date) => {
            parse_date(text).or_else(|| parse_timestamp(text).map(|micros| micros.div_euclid(86_400_000_000) as i32)).map(Value::Date)
        }
        Some(LogicalType::Timestamp) => {
            // A zone behind it is taken off: the dumps of databases write UTC.
            let plain = text.trim_end_matches("+00").trim_end_matches("+00:00");
            parse_timestamp(plain).map(Value::Timestamp)
        }
        Some(LogicalType::Uuid) => uuid(text).map(Value::Uuid),
        Some(LogicalType::Blob) => Some(match text.strip_prefix("\\x").map(hex) {
            Some(bytes) => Value::Blob(bytes?.into()),
            None => Value::Blob(text.as_bytes().into()),
        }),
        Some(LogicalType::Integer | LogicalType::Real | LogicalType::Decimal { .. }) => number(text, want),
    }
}

pub(super) fn hex(text: &str) -> Option<Vec<u8>> {
    let digits: Option<Vec<u8>> = text.chars().map(|c| c.to_digit(16).map(|digit| digit as u8)).collect();
    Some(digits?.chunks(2).map(|pair| pair[0] << 4 | pair.get(1).copied().unwrap_or(0)).collect())
}

fn uuid(text: &str) -> Option<[u8; 16]> {
    hex(&text.replace('-', ""))?.try_into().ok()
}
