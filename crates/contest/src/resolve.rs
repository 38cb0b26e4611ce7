//! From the texts of a need to the need itself.

use std::fmt;

use kampf_schema::expr::{self, Expr, Name, Node};
use kampf_schema::{Hop, HopKind, LogicalType, Relations, Schema, Span, TableId, Value, did_you_mean, parse_date, parse_timestamp};

use crate::need::{Aggregate, Condition, Given, Need, Operand, OrderBy, Parameter, Term};

/// The texts of a need, as a user writes them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NeedText {
    /// The root table.
    pub from: String,
    /// The values to give back.
    pub give: Vec<String>,
    /// The condition.
    pub filter: Option<String>,
    /// The terms to sort by.
    pub order: Vec<String>,
    /// At most how many rows.
    pub limit: Option<u64>,
    /// Names of the parameters that have values.
    pub parameters: Vec<String>,
}

/// The part of a need that an error is in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NeedPart {
    /// The root table.
    From,
    /// The value at this place, from 0.
    Give(usize),
    /// The condition.
    Where,
    /// The sort term at this place, from 0.
    Order(usize),
    /// The limit.
    Limit,
    /// The parameter at this place, from 0.
    Parameter(usize),
}

/// A need that cannot be resolved.
#[derive(Clone, Debug, PartialEq)]
pub struct NeedError {
    /// In which text.
    pub part: NeedPart,
    /// Where in it.
    pub span: Span,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
}

impl fmt::Display for NeedError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for NeedError {}

/// What is wrong inside one text.
struct Wrong {
    span: Span,
    message: String,
    hint: Option<String>,
}

impl Wrong {
    fn new(span: Span, message: impl Into<String>) -> Wrong {
        Wrong { span, message: message.into(), hint: None }
    }

    fn hint(mut self, hint: impl Into<String>) -> Wrong {
        self.hint = Some(hint.into());
        self
    }

    fn in_part(self, part: NeedPart) -> NeedError {
        NeedError { part, span: self.span, message: self.message, hint: self.hint }
    }
}

impl From<expr::ReadError> for Wrong {
    fn from(error: expr::ReadError) -> Self {
        Wrong::new(error.span, error.message)
    }
}

/// Resolves a need.
///
/// Where the order does not end in a unique key, the primary key of the root (or another unique key of not-null columns) is
/// appended, marked as such.
///
/// # Errors
/// The first text that does not follow the grammar, names what the schema does not have, or compares what cannot be compared.
pub fn resolve(schema: &Schema, relations: &Relations, text: &NeedText) -> Result<Need, NeedError> {
    let root = schema.find(text.from.trim()).ok_or_else(|| {
        let mut wrong = Wrong::new(Span::new(0, text.from.len()), format!("there is no table `{}`", text.from));
        wrong.hint = did_you_mean(&text.from, schema.tables.iter().map(|table| table.name.as_str()));
        wrong.in_part(NeedPart::From)
    })?;
    let mut resolver =
        Resolver { schema, relations, root, given: Vec::new(), parameters: &text.parameters, kinds: vec![None; text.parameters.len()] };
    for (at, give) in text.give.iter().enumerate() {
        let given = resolver.give(give).map_err(|wrong| wrong.in_part(NeedPart::Give(at)))?;
        resolver.given.push(given);
    }
    let filter = text
        .filter
        .as_ref()
        .map(|filter| expr::read_condition(filter).map_err(Wrong::from).and_then(|read| resolver.condition(&read)))
        .transpose()
        .map_err(|wrong| wrong.in_part(NeedPart::Where))?;
    let mut order = Vec::new();
    for (at, term) in text.order.iter().enumerate() {
        order.push(resolver.order(term).map_err(|wrong| wrong.in_part(NeedPart::Order(at)))?);
    }
    if !order.is_empty() || text.limit.is_some() {
        make_total(schema, root, &mut order, text.limit).map_err(|wrong| wrong.in_part(NeedPart::Limit))?;
    }
    let Resolver { given: give, kinds, .. } = resolver;
    let parameters = text
        .parameters
        .iter()
        .zip(kinds)
        .enumerate()
        .map(|(at, (name, kind))| match kind {
            Some(kind) => Ok(Parameter { name: name.clone(), kind }),
            None => Err(Wrong::new(Span::default(), format!("the parameter `{name}` is not used in this need"))
                .hint(format!("use it as `:{name}` in `where`, or remove it"))
                .in_part(NeedPart::Parameter(at))),
        })
        .collect::<Result<_, _>>()?;
    Ok(Need { root, give, filter, order, limit: text.limit, parameters })
}

/// Appends a unique key unless the order holds one already.
fn make_total(schema: &Schema, root: TableId, order: &mut Vec<OrderBy<Term>>, limit: Option<u64>) -> Result<(), Wrong> {
    let table = schema.table(root);
    let own: Vec<usize> = order.iter().filter(|order| order.term.path().is_empty()).filter_map(|order| order.term.column()).collect();
    if table.is_unique_key(&own) {
        return Ok(());
    }
    let unique = table.uniques.iter().map(|unique| &unique.columns).find(|columns| table.is_unique_key(columns));
    let key = if table.primary_key.is_empty() { unique } else { Some(&table.primary_key) };
    let Some(key) = key else {
        return match limit {
            None => Ok(()),
            Some(_) => Err(Wrong::new(
                Span::default(),
                format!("`{}` has no unique key, so a limit could cut anywhere among equal rows", table.name),
            )
            .hint(format!("give `{}` a primary key, or ask without a limit", table.name))),
        };
    };
    order.extend(key.iter().filter(|column| !own.contains(column)).map(|&column| OrderBy {
        term: Term::Column { path: Vec::new(), column },
        descending: false,
        appended: true,
    }));
    Ok(())
}

struct Resolver<'a> {
    schema: &'a Schema,
    relations: &'a Relations,
    root: TableId,
    given: Vec<Given>,
    parameters: &'a [String],
    kinds: Vec<Option<LogicalType>>,
}

impl Resolver<'_> {
    fn give(&self, text: &str) -> Result<Given, Wrong> {
        let read = expr::read_give(text)?;
        let term = self.term(&read.value)?;
        let name = read.alias.as_ref().map_or_else(|| text.trim().to_owned(), |alias| alias.text.clone());
        if self.given.iter().any(|given| given.name == name) {
            let span = read.alias.map_or(read.value.span, |alias| alias.span);
            return Err(Wrong::new(span, format!("`{name}` is given twice")).hint("give one of them another name with `as`"));
        }
        let kind = term.kind(self.schema, self.root);
        Ok(Given { name, term, kind })
    }

    fn order(&self, text: &str) -> Result<OrderBy<Term>, Wrong> {
        let read = expr::read_order(text)?;
        let alias = match &read.key.node {
            Node::Path(names) if names.len() == 1 => self.given.iter().find(|given| given.name == names[0].text),
            _ => None,
        };
        let term = match alias {
            Some(given) => given.term.clone(),
            None => self.term(&read.key).map_err(|wrong| match wrong.hint {
                None if !self.given.is_empty() => wrong.hint("sort by a column, a path, an aggregate, or a name from `give`"),
                _ => wrong,
            })?,
        };
        Ok(OrderBy { term, descending: read.descending, appended: false })
    }

    /// A column or an aggregate; nothing else can be given or sorted by.
    fn term(&self, expr: &Expr) -> Result<Term, Wrong> {
        match &expr.node {
            Node::Path(names) => self.column(names),
            Node::Call { name, arguments } => self.aggregate(name, arguments, expr.span),
            _ => Err(Wrong::new(expr.span, "a column, a path or an aggregate is needed here")),
        }
    }

    fn column(&self, names: &[Name]) -> Result<Term, Wrong> {
        let (last, relations) = names.split_last().expect("a path has a name");
        let path = self.hops(relations)?;
        let table = path.last().map_or(self.root, |hop| hop.to);
        let many = path.iter().position(|hop| hop.kind == HopKind::Many);
        let model = self.schema.table(table);
        let Some(column) = model.find(&last.text) else {
            if self.relations.get(table, &last.text).is_some() {
                let hint = format!("give one of its columns, `{}.…`, or `count({})`", join(names), join(names));
                return Err(Wrong::new(last.span, format!("`{}` is a relation, not a value", last.text)).hint(hint));
            }
            let known = model.columns.iter().map(|column| column.name.as_str());
            let mut wrong = Wrong::new(last.span, format!("`{}` has no column `{}`", model.name, last.text));
            wrong.hint = did_you_mean(&last.text, known.chain(self.relations.from(table).map(|relation| relation.name.as_str())));
            return Err(wrong);
        };
        if many.is_some() {
            let span = names[0].span.join(last.span);
            return Err(Wrong::new(span, format!("`{}` has many values for one row", join(names)))
                .hint(format!("use an aggregate: `count`, `sum`, `avg`, `min` or `max`, like `max({})`", join(names))));
        }
        Ok(Term::Column { path, column })
    }

    fn aggregate(&self, name: &Name, arguments: &[Expr], span: Span) -> Result<Term, Wrong> {
        let Some(function) = Aggregate::ALL.into_iter().find(|function| function.word().eq_ignore_ascii_case(&name.text)) else {
            let mut wrong = Wrong::new(name.span, format!("`{}` is not a function", name.text));
            wrong.hint = did_you_mean(&name.text, Aggregate::ALL.map(Aggregate::word));
            return Err(wrong);
        };
        let [Expr { node: Node::Path(names), .. }] = arguments else {
            return Err(Wrong::new(span, format!("`{}` needs one relation or column, like `{0}(inspection.temper)`", function.word())));
        };
        let (last, before) = names.split_last().expect("a path has a name");
        let mut path = self.hops(before)?;
        let table = path.last().map_or(self.root, |hop| hop.to);
        let column = match (self.schema.table(table).find(&last.text), self.relations.get(table, &last.text)) {
            (Some(column), None) => Some(column),
            (column, Some(relation)) if column.is_none() || before.is_empty() => {
                path.extend(relation.hops.iter().cloned());
                None
            }
            (Some(column), _) => Some(column),
            (None, _) => return Err(self.hops(names).err().unwrap_or_else(|| Wrong::new(last.span, "this is not known"))),
        };
        if !path.iter().any(|hop| hop.kind == HopKind::Many) {
            let message = format!("`{}` has one value at most for each row, so there is nothing to aggregate", join(names));
            let many: Vec<&str> = self
                .relations
                .from(self.root)
                .filter(|relation| relation.hops.iter().any(|hop| hop.kind == HopKind::Many))
                .map(|relation| relation.name.as_str())
                .collect();
            let hint = match many.as_slice() {
                [] => "give it as it is".to_owned(),
                names => format!("give it as it is, or aggregate over {}", names.join(", ")),
            };
            return Err(Wrong::new(names[0].span.join(last.span), message).hint(hint));
        }
        let term = Term::Aggregate { function, path, column };
        let leaf = self.schema.table(term.table(self.root));
        match (function, column.map(|column| leaf.columns[column].kind)) {
            (Aggregate::Count, _) => {}
            (_, None) => {
                return Err(Wrong::new(span, format!("`{}` needs a column of `{}`", function.word(), join(names))).hint(format!(
                    "like `{}({}.{})`",
                    function.word(),
                    join(names),
                    leaf.columns[0].name
                )));
            }
            (Aggregate::Sum | Aggregate::Avg, Some(kind)) if !kind.is_number() => {
                return Err(Wrong::new(span, format!("`{}` of {kind} values means nothing", function.word()))
                    .hint("aggregate a numeric column, or use `count`, `min` or `max`"));
            }
            (Aggregate::Min | Aggregate::Max, Some(kind @ (LogicalType::Boolean | LogicalType::Uuid | LogicalType::Blob))) => {
                return Err(Wrong::new(span, format!("`{}` of {kind} values is not the same on every engine", function.word())));
            }
            _ => {}
        }
        Ok(term)
    }

    fn hops(&self, names: &[Name]) -> Result<Vec<Hop>, Wrong> {
        let mut table = self.root;
        let mut path = Vec::new();
        for name in names {
            let relation = self.relations.find(self.schema, table, &name.text).map_err(|error| Wrong {
                span: name.span,
                message: error.message,
                hint: error.hint,
            })?;
            path.extend(relation.hops.iter().cloned());
            table = relation.hops.last().map_or(table, |hop| hop.to);
        }
        Ok(path)
    }

    fn condition(&mut self, expr: &Expr) -> Result<Condition<Term>, Wrong> {
        Ok(match &expr.node {
            Node::And(parts) => Condition::And(parts.iter().map(|part| self.condition(part)).collect::<Result<_, _>>()?),
            Node::Or(parts) => Condition::Or(parts.iter().map(|part| self.condition(part)).collect::<Result<_, _>>()?),
            Node::Not(inner) => Condition::Not(Box::new(self.condition(inner)?)),
            Node::Compare(comparison, left, right) => {
                let [left, right] = self.comparable([left, right])?;
                Condition::Compare(*comparison, left, right)
            }
            Node::Between(value, low, high) => {
                let [value, low, high] = self.comparable([value, low, high])?;
                Condition::Between(value, low, high)
            }
            Node::In(value, list) => {
                let mut operands = self.comparable_all(std::iter::once(&**value).chain(list).collect())?;
                let value = operands.remove(0);
                Condition::In(value, operands)
            }
            Node::IsNull(value) => Condition::IsNull(Operand::Term(self.term(value)?)),
            Node::Match(kind, text, pattern) => {
                let [text, pattern] = self.comparable([text, pattern])?;
                if let Operand::Term(term) = &text
                    && !matches!(term.kind(self.schema, self.root), LogicalType::Text { .. })
                {
                    return Err(Wrong::new(expr.span, format!("`{}` needs a text", kind.word())));
                }
                if *kind == expr::TextMatch::Like && !matches!(pattern, Operand::Literal(_)) {
                    return Err(Wrong::new(expr.span, "the pattern of `like` must be written out")
                        .hint("use `contains`, `starts` or `ends` with a parameter"));
                }
                Condition::Match(*kind, text, pattern)
            }
            Node::Path(_) => {
                let term = self.term(expr)?;
                if term.kind(self.schema, self.root) != LogicalType::Boolean {
                    return Err(Wrong::new(expr.span, "a condition is needed here").hint("compare it with something, like `… > 5`"));
                }
                Condition::Truth(Operand::Term(term))
            }
            Node::Literal(_) | Node::Parameter(_) | Node::Call { .. } => {
                return Err(Wrong::new(expr.span, "a condition is needed here").hint("compare it with something, like `… > 5`"));
            }
        })
    }

    fn comparable<const N: usize>(&mut self, sides: [&Expr; N]) -> Result<[Operand<Term>; N], Wrong> {
        let operands = self.comparable_all(sides.to_vec())?;
        Ok(operands.try_into().expect("as many operands as sides"))
    }

    /// Operands of one type: that of the first term, or of the first literal where there is no term.
    fn comparable_all(&mut self, sides: Vec<&Expr>) -> Result<Vec<Operand<Term>>, Wrong> {
        let mut kind: Option<LogicalType> = None;
        for side in &sides {
            if let Node::Path(_) | Node::Call { .. } = side.node {
                let own = self.term(side)?.kind(self.schema, self.root);
                match kind {
                    Some(kind) if !kind.comparable_with(own) => {
                        return Err(Wrong::new(side.span, format!("this is {own} and cannot be compared with {kind}")));
                    }
                    Some(_) => {}
                    None => kind = Some(own),
                }
            }
        }
        let Some(kind) = kind else {
            return Err(Wrong::new(sides[0].span, "this compares nothing of the row").hint("compare a column, a path or an aggregate"));
        };
        sides.into_iter().map(|side| self.operand(side, kind)).collect()
    }

    fn operand(&mut self, side: &Expr, kind: LogicalType) -> Result<Operand<Term>, Wrong> {
        match &side.node {
            Node::Literal(Value::Null) => Err(Wrong::new(side.span, "nothing is equal to null").hint("write `is null` or `is not null`")),
            Node::Literal(value) => fit(value, kind)
                .map(Operand::Literal)
                .ok_or_else(|| Wrong::new(side.span, format!("this is compared with {kind}, which it is not"))),
            Node::Parameter(name) => {
                let Some(at) = self.parameters.iter().position(|known| known == name) else {
                    let mut wrong = Wrong::new(side.span, format!("the parameter `:{name}` has no value"));
                    wrong.hint = did_you_mean(name, self.parameters.iter().map(String::as_str))
                        .or_else(|| Some(format!("give it one under [contest.….parameters], like `{name} = \"1..100\"`")));
                    return Err(wrong);
                };
                self.kinds[at].get_or_insert(kind);
                Ok(Operand::Parameter(at))
            }
            _ => self.term(side).map(Operand::Term),
        }
    }
}

/// A literal as a value of the type it is compared with; `None` where it is no such value.
pub(crate) fn fit(value: &Value, kind: LogicalType) -> Option<Value> {
    Some(match (value, kind) {
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Real) => Value::Real(value.as_ref().as_real()?),
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Integer | LogicalType::Decimal { .. })
        | (Value::Text(_), LogicalType::Text { .. })
        | (Value::Boolean(_), LogicalType::Boolean)
        | (Value::Date(_), LogicalType::Date)
        | (Value::Timestamp(_), LogicalType::Timestamp) => value.clone(),
        (Value::Date(days), LogicalType::Timestamp) => Value::Timestamp(i64::from(*days) * 86_400_000_000),
        (Value::Text(text), LogicalType::Date) => Value::Date(parse_date(text)?),
        (Value::Text(text), LogicalType::Timestamp) => Value::Timestamp(parse_timestamp(text)?),
        (Value::Text(text), LogicalType::Uuid) => Value::Uuid(parse_uuid(text)?),
        _ => return None,
    })
}

/// Reads a UUID with or without its hyphens.
pub(crate) fn parse_uuid(text: &str) -> Option<[u8; 16]> {
    let digits: String = text.chars().filter(|&c| c != '-').collect();
    if digits.len() != 32 || !digits.is_ascii() {
        return None;
    }
    let mut bytes = [0; 16];
    for (at, byte) in bytes.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&digits[at * 2..at * 2 + 2], 16).ok()?;
    }
    Some(bytes)
}

fn join(names: &[Name]) -> String {
    names.iter().map(Name::to_string).collect::<Vec<_>>().join(".")
}
