//! Conditions and terms of SQL, read into what can be evaluated.

use std::cell::Cell;

use sqlparser::ast::{self, BinaryOperator as B, UnaryOperator};

use super::dialect::SqlDialect;
use super::literal::{fixed, is_fixed, text_of, typed};
use crate::expr::{Comparison, Function, Node, Operator, Part, Pattern, Rule};
use crate::model::{ColumnId, Table, UNKNOWN_FUNCTION};
use crate::types::LogicalType;
use crate::value::Value;

/// What is not known, in words.
pub(super) type Unknown = String;

/// Reads expressions about one table.
pub(super) struct ExpressionReader<'a> {
    pub(super) table: &'a Table,
    /// Finds a column, by the names it had before too.
    pub(super) column: &'a dyn Fn(&str) -> Option<ColumnId>,
    /// The column that `VALUE` stands for, in the conditions of a domain.
    pub(super) value: Option<ColumnId>,
    pub(super) dialect: SqlDialect,
    /// Whether functions mean what they mean in needs, where that is not quite the same.
    pub(super) as_needs: bool,
    depth: Cell<usize>,
}

/// Deeper trees than this are not read: they are evaluated for each row, wherever there is little stack.
const DEEPEST: usize = 100;

impl<'a> ExpressionReader<'a> {
    pub(super) fn new(
        table: &'a Table,
        column: &'a dyn Fn(&str) -> Option<ColumnId>,
        value: Option<ColumnId>,
        dialect: SqlDialect,
    ) -> ExpressionReader<'a> {
        ExpressionReader { table, column, value, dialect, as_needs: false, depth: Cell::new(0) }
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
        self.term(expr, Some(LogicalType::Boolean))
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
            match (self.rule(condition)?.node, all) {
                (Node::And(inner), true) | (Node::Or(inner), false) => rules.extend(inner),
                (other, _) => rules.push(other.into()),
            }
        }
        Ok(if all { Node::And(rules) } else { Node::Or(rules) }.into())
    }

    fn matches(&self, expr: &ast::Expr, pattern: &ast::Expr, like: bool, any_case: bool) -> Result<Node<ColumnId>, Unknown> {
        let text = self.written_pattern(pattern, Some(LogicalType::TEXT))?;
        if like {
            let pattern = Pattern::like(&text, any_case).ok_or_else(|| format!("the pattern {text}"))?;
            return Ok(Node::Fits(Box::new(self.term(expr, None)?), pattern));
        }
        self.pattern(expr, &text, any_case)
    }

    fn written_pattern(&self, pattern: &ast::Expr, want: Option<LogicalType>) -> Result<Box<str>, Unknown> {
        match self.term(pattern, want)?.node {
            Node::Literal(Value::Text(text)) => Ok(text),
            _ => Err("a pattern that is not fixed".to_owned()),
        }
    }

    fn pattern(&self, expr: &ast::Expr, text: &str, any_case: bool) -> Result<Node<ColumnId>, Unknown> {
        let pattern = Pattern::regex(text, any_case).ok_or_else(|| format!("the pattern {text}"))?;
        Ok(Node::Fits(Box::new(self.term(expr, None)?), pattern))
    }

    /// Two terms, a fixed value on either side taken as what the other side is.
    fn pair(&self, left: &ast::Expr, right: &ast::Expr) -> Result<(Box<Rule>, Box<Rule>), Unknown> {
        if is_fixed(left) {
            let right = self.term(right, None)?;
            return Ok((Box::new(self.term(left, self.kind(&right))?), Box::new(right)));
        }
        let left = self.term(left, None)?;
        let right = self.term(right, self.kind(&left))?;
        Ok((Box::new(left), Box::new(right)))
    }

    /// The items of `ARRAY[…]` or `'{…}'`, casts around it left out.
    fn list(&self, expr: &ast::Expr, kind: Option<LogicalType>) -> Result<Vec<Rule>, Unknown> {
        match expr {
            ast::Expr::Nested(inner) | ast::Expr::Cast { expr: inner, .. } => self.list(inner, kind),
            ast::Expr::Array(array) => array.elem.iter().map(|item| self.term(item, kind)).collect(),
            ast::Expr::Tuple(items) => items.iter().map(|item| self.term(item, kind)).collect(),
            ast::Expr::Value(value) => match text_of(&value.value) {
                Some(text) if text.starts_with('{') && text.ends_with('}') => {
                    let items = text[1..text.len() - 1].split(',').map(|item| item.trim().trim_matches('"'));
                    Ok(items.map(|item| Rule::literal(typed(item, kind).unwrap_or_else(|| Value::from(item)))).collect())
                }
                _ => Err(format!("the list {expr}")),
            },
            _ => Err(format!("the list {expr}")),
        }
    }

    /// A term; a fixed value is taken as `want`.
    pub(super) fn term(&self, expr: &ast::Expr, want: Option<LogicalType>) -> Result<Rule, Unknown> {
        self.below(|| match expr {
            ast::Expr::Nested(inner) => self.term(inner, want),
            ast::Expr::BinaryOp { op: word @ (B::And | B::Or), .. } => self.chain(expr, word),
            ast::Expr::UnaryOp { op: UnaryOperator::Plus, expr } => self.term(expr, want),
            ast::Expr::Convert { expr, .. } | ast::Expr::Collate { expr, .. } => self.term(expr, want),
            ast::Expr::Function(function) => self.call(function),
            _ => match self.condition(expr)? {
                Some(condition) => Ok(condition.into()),
                None => self.value(expr, want).map(Rule::from),
            },
        })
    }

    /// What is true or false; none where the form is not that of a condition.
    fn condition(&self, expr: &ast::Expr) -> Result<Option<Node<ColumnId>>, Unknown> {
        use ast::Expr as E;
        let truth = |inner: &ast::Expr, truth: bool| {
            Ok::<_, Unknown>(Node::Same(Box::new(self.term(inner, None)?), Box::new(Rule::literal(Value::Boolean(truth)))))
        };
        Ok(Some(match expr {
            E::BinaryOp { left, op, right } if comparison(op).is_some() => {
                let (left, right) = self.pair(left, right)?;
                Node::Compare(comparison(op).unwrap_or(Comparison::Equal), left, right)
            }
            E::BinaryOp { left, op, right } if pattern_of(op).is_some() => {
                let (like, any_case, negated) = pattern_of(op).unwrap_or_default();
                let any_case = any_case || self.dialect == SqlDialect::Mysql;
                negate(self.matches(left, right, like, any_case)?, negated)
            }
            E::UnaryOp { op: UnaryOperator::Not, expr } => Node::Not(Box::new(self.rule(expr)?)),
            E::IsNull(inner) => Node::IsNull(Box::new(self.term(inner, None)?)),
            E::IsNotNull(inner) => negate(Node::IsNull(Box::new(self.term(inner, None)?)), true),
            E::IsTrue(inner) => truth(inner, true)?,
            E::IsFalse(inner) => truth(inner, false)?,
            E::IsNotTrue(inner) => negate(truth(inner, true)?, true),
            E::IsNotFalse(inner) => negate(truth(inner, false)?, true),
            E::IsDistinctFrom(left, right) => {
                let (left, right) = self.pair(left, right)?;
                negate(Node::Same(left, right), true)
            }
            E::IsNotDistinctFrom(left, right) => {
                let (left, right) = self.pair(left, right)?;
                Node::Same(left, right)
            }
            E::In { expr, target: ast::InTarget::List(list), negated, .. } => {
                let term = self.term(expr, None)?;
                let kind = self.kind(&term);
                let list = list.iter().map(|item| self.term(item, kind)).collect::<Result<_, _>>()?;
                negate(Node::In(Box::new(term), list), *negated)
            }
            E::AnyOp { left, compare_op: B::Eq, right, .. } => {
                let term = self.term(left, None)?;
                let list = self.list(right, self.kind(&term))?;
                Node::In(Box::new(term), list)
            }
            E::AllOp { left, compare_op: B::NotEq, right } => {
                let term = self.term(left, None)?;
                let list = self.list(right, self.kind(&term))?;
                negate(Node::In(Box::new(term), list), true)
            }
            E::Between { expr, negated, low, high } => {
                let (term, low) = self.pair(expr, low)?;
                let high = Box::new(self.term(high, self.kind(&term))?);
                let rule = Node::And(vec![
                    Node::Compare(Comparison::GreaterOrEqual, term.clone(), low).into(),
                    Node::Compare(Comparison::LessOrEqual, term, high).into(),
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
                let text = self.written_pattern(pattern, None)?;
                let text = format!("^(?:{})$", text.replace('%', ".*").replace('_', "."));
                negate(self.pattern(expr, &text, false)?, *negated)
            }
            _ => return Ok(None),
        }))
    }

    /// What has a value of another kind.
    fn value(&self, expr: &ast::Expr, want: Option<LogicalType>) -> Result<Node<ColumnId>, Unknown> {
        use ast::Expr as E;
        let boxed = |expr: &ast::Expr, want| self.term(expr, want).map(Box::new);
        let call = |function, expr: &ast::Expr| Ok::<_, Unknown>(Node::Call(function, vec![self.term(expr, None)?]));
        Ok(match expr {
            E::Identifier(name) if name.value.eq_ignore_ascii_case("value") && self.value.is_some() => {
                Node::Leaf(self.value.unwrap_or_default())
            }
            E::Identifier(name) => match (self.column)(&name.value) {
                Some(column) => Node::Leaf(column),
                // SQLite takes a name in double quotes that is no column for a text.
                None if name.quote_style == Some('"') => Node::Literal(Value::from(name.value.as_str())),
                None => return Err(format!("the name {name}")),
            },
            E::CompoundIdentifier(names) => {
                let column = names.last().and_then(|name| (self.column)(&name.value));
                Node::Leaf(column.ok_or_else(|| format!("the name {expr}"))?)
            }
            E::Value(ast::ValueWithSpan { value: ast::Value::Placeholder(unreadable), .. }) => return Err(unreadable.clone()),
            E::Value(_) | E::Prefixed { .. } | E::TypedString(_) => {
                Node::Literal(fixed(expr, want).ok_or_else(|| format!("the value {expr}"))?)
            }
            E::UnaryOp { op: UnaryOperator::Minus, .. } if is_fixed(expr) => {
                Node::Literal(fixed(expr, want).ok_or_else(|| format!("the value {expr}"))?)
            }
            E::UnaryOp { op: UnaryOperator::Minus, expr } => {
                Node::Arithmetic(Operator::Subtract, Box::new(Rule::literal(Value::Integer(0))), boxed(expr, want)?)
            }
            E::Cast { expr: inner, data_type, .. } => {
                let kind = super::types::of_word(&data_type.to_string()).map(|meaning| meaning.kind);
                match (self.term(inner, kind.or(want))?.node, kind) {
                    (Node::Literal(value), Some(kind)) => Node::Literal(fixed(inner, Some(kind)).unwrap_or(value)),
                    (term, _) => term,
                }
            }
            E::BinaryOp { left, op, right } if operator(op).is_some() => {
                Node::Arithmetic(operator(op).unwrap_or(Operator::Add), boxed(left, None)?, boxed(right, None)?)
            }
            E::Trim { expr, trim_what: None, trim_characters: None, trim_where: None } => call(Function::Trim, expr)?,
            E::Substring { expr, substring_from, substring_for, .. } => {
                let mut terms = vec![self.term(expr, None)?];
                for part in [substring_from, substring_for].into_iter().flatten() {
                    terms.push(self.term(part, Some(LogicalType::Integer))?);
                }
                Node::Call(Function::Substring, terms)
            }
            E::Position { expr, r#in } => Node::Call(Function::Position, vec![self.term(r#in, None)?, self.term(expr, None)?]),
            E::Floor { expr, .. } => call(Function::Floor, expr)?,
            E::Ceil { expr, .. } => call(Function::Ceiling, expr)?,
            E::Extract { field: ast::DateTimeField::Year, expr, .. } => call(Function::Extract(Part::Year), expr)?,
            E::Case { operand, conditions, else_result, .. } => {
                let mut cases = Vec::new();
                for case in conditions {
                    let rule = match operand {
                        Some(operand) => {
                            let (left, right) = self.pair(operand, &case.condition)?;
                            Node::Compare(Comparison::Equal, left, right).into()
                        }
                        None => self.rule(&case.condition)?,
                    };
                    cases.push((rule, self.term(&case.result, want)?));
                }
                Node::Case(cases, else_result.as_ref().map(|other| boxed(other, want)).transpose()?)
            }
            E::Subquery(_) | E::Exists { .. } => return Err("a query inside".to_owned()),
            E::BinaryOp { op, .. } => return Err(format!("the operator {op}")),
            other => return Err(format!("`{other}`")),
        })
    }

    fn call(&self, function: &ast::Function) -> Result<Rule, Unknown> {
        use Function as F;
        let name = function.name.to_string().to_lowercase();
        let ast::FunctionArguments::List(list) = &function.args else { return Err(unknown_function(&name)) };
        let arguments = list.args.iter().map(|argument| match argument {
            ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(inner)) => Ok(inner),
            _ => Err(unknown_function(&name)),
        });
        let arguments: Vec<&ast::Expr> = arguments.collect::<Result<_, _>>()?;
        let kind = arguments.iter().find_map(|argument| self.term(argument, None).ok().and_then(|term| self.kind(&term)));
        let terms = |want| arguments.iter().map(|argument| self.term(argument, want)).collect::<Result<Vec<_>, _>>();
        let name = name.rsplit('.').next().unwrap_or_default();
        let known = match (name.trim_matches(['"', '`']), arguments.len()) {
            ("length" | "char_length" | "character_length", 1) => F::Length,
            ("octet_length", 1) => F::Octets,
            ("bit_length", 1) => {
                let bytes = Rule::from(Node::Call(F::Octets, terms(None)?));
                return Ok(Node::Arithmetic(Operator::Multiply, Box::new(bytes), Box::new(Rule::literal(Value::Integer(8)))).into());
            }
            // As needs mean it where it is to serve them: an index on another function is of no use to them.
            ("lower" | "lcase", 1) if self.as_needs => F::Lower,
            ("upper" | "ucase", 1) if self.as_needs => F::Upper,
            ("lower" | "lcase", 1) => F::LowerAll,
            ("upper" | "ucase", 1) => F::UpperAll,
            ("trim" | "btrim", 1) => F::Trim,
            ("substr" | "substring" | "mid", 2 | 3) => F::Substring,
            ("left", 2) => {
                let mut terms = terms(None)?;
                terms.insert(1, Rule::literal(Value::Integer(1)));
                return Ok(Node::Call(F::Substring, terms).into());
            }
            ("abs", 1) => F::Absolute,
            ("round", 1 | 2) => F::Round,
            ("floor", 1) => F::Floor,
            ("ceil" | "ceiling", 1) => F::Ceiling,
            ("coalesce" | "ifnull" | "nvl", 1..) => return Ok(Node::Call(F::Coalesce, terms(kind)?).into()),
            ("nullif", 2) => return Ok(Node::Call(F::NullIf, terms(kind)?).into()),
            ("greatest", 1..) => return Ok(Node::Call(F::Greatest, terms(kind)?).into()),
            ("least", 1..) => return Ok(Node::Call(F::Least, terms(kind)?).into()),
            ("num_nonnulls", 1..) => F::Known,
            ("num_nulls", 1..) => F::Unknown,
            ("year", 1) => F::Extract(Part::Year),
            ("json_valid", 1) => F::IsJson,
            ("strpos" | "instr", 2) => F::Position,
            ("replace", 3) => F::Replace,
            ("mod", 2) => {
                let [left, right] = <[Rule; 2]>::try_from(terms(None)?).map_err(|_| unknown_function("mod"))?;
                return Ok(Node::Arithmetic(Operator::Remainder, Box::new(left), Box::new(right)).into());
            }
            ("concat", 1..) => {
                let join = |left, right| Node::Arithmetic(Operator::Join, Box::new(left), Box::new(right)).into();
                let joined = terms(None)?.into_iter().reduce(join);
                return joined.ok_or_else(|| unknown_function("concat"));
            }
            ("regexp_like", 2) => return Ok(self.matches(arguments[0], arguments[1], false, false)?.into()),
            (other, _) => return Err(unknown_function(other)),
        };
        Ok(Node::Call(known, terms(None)?).into())
    }

    /// What values of a term are, where that can be told.
    pub(super) fn kind(&self, term: &Rule) -> Option<LogicalType> {
        match &term.node {
            // Schemas take dates and times apart in ways of their own, and write a fixed decimal with any number of digits.
            Node::Arithmetic(operator, ..) if *operator != Operator::Join => None,
            Node::Literal(Value::Text(_) | Value::Decimal(..)) => None,
            _ => term.kind(&|column| Some(self.table.columns[*column].kind)),
        }
    }
}

fn unknown_function(name: &str) -> Unknown {
    format!("{UNKNOWN_FUNCTION}{name}")
}

fn negate(rule: Node<ColumnId>, negated: bool) -> Node<ColumnId> {
    if negated { Node::Not(Box::new(rule.into())) } else { rule }
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
        B::Divide | B::MyIntegerDivide => Operator::DivideWhole,
        B::Modulo => Operator::Remainder,
        B::StringConcat => Operator::Join,
        _ => return None,
    })
}
