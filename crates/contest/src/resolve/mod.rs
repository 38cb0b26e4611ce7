//! From the texts of a need to the need itself.

mod aggregates;
mod leaves;
mod order;
mod related;
mod writes;

use std::fmt;

use kampf_schema::expr::{self, Mistake};
use kampf_schema::{LogicalType, Relations, Schema, Span, TableId, did_you_mean};

use crate::choice::Loading;
use crate::form::Form;
use crate::need::{Expect, Given, Group, Need, Parameter, Part, usual_portions};
use leaves::{AT_ROOT, OWN_SQL, Place, Resolver, Standing};
pub(crate) use order::make_total_at;
use related::given_twice;
pub use writes::{WriteText, resolve_write};

/// The texts of a need, as a user writes them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NeedText {
    /// The root table.
    pub from: String,
    /// The values to give back.
    pub give: Vec<String>,
    /// The condition.
    pub filter: Option<String>,
    /// The terms to group by; none where rows are not grouped.
    pub group: Option<Vec<String>>,
    /// Whether equal rows count once.
    pub distinct: bool,
    /// The terms to sort by.
    pub order: Vec<String>,
    /// At most how many rows.
    pub limit: Option<u64>,
    /// How many rows must come.
    pub expect: Expect,
    /// How many rows are on a page, where the answer is read page after page.
    pub page: Option<u32>,
    /// How many pages are read; all where it is left out.
    pub pages: Option<u32>,
    /// How many rows are read at a time where there are no pages and they are not read at once; 1,000 where it is left out.
    pub chunk: Vec<u32>,
    /// Names of the parameters that have values.
    pub parameters: Vec<String>,
    /// Relations, as paths from the root table, that are loaded in one way whatever else a contender does.
    pub loading: Vec<(String, Loading)>,
    /// Relations that are loaded whenever an entity of a table is.
    pub always: Vec<(TableId, String)>,
}

impl NeedText {
    /// At most how many rows: the limit, and what so many pages hold.
    fn most_rows(&self) -> Option<u64> {
        let of_pages = self.page.zip(self.pages).map(|(page, pages)| u64::from(page) * u64::from(pages));
        self.limit.into_iter().chain(of_pages).min()
    }

    fn portions(&self) -> Vec<u32> {
        let mut portions: Vec<u32> = self.page.map_or_else(|| self.chunk.clone(), |page| vec![page]);
        portions.retain(|&size| size > 0);
        if portions.is_empty() { usual_portions() } else { portions }
    }
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
    /// The term to group by at this place, from 0.
    Group(usize),
    /// The sort term at this place, from 0.
    Order(usize),
    /// The limit.
    Limit,
    /// The parameter at this place, from 0.
    Parameter(usize),
    /// The relation with a loading of its own at this place, from 0.
    Loading(usize),
    /// What is set at this place, from 0.
    Set(usize),
    /// What goes with it at this place, from 0.
    Also(usize),
    /// How many rows are new.
    Count,
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

impl NeedError {
    fn of(part: NeedPart, mistake: Mistake) -> NeedError {
        NeedError { part, span: mistake.span, message: mistake.message, hint: mistake.hint }
    }
}

/// What of a text could not be read.
fn unreadable(error: expr::ReadError, text: &str) -> Mistake {
    let asks_twice = text.split(|c: char| !c.is_alphanumeric()).any(|word| word.eq_ignore_ascii_case("select"));
    let no_selects = || format!("a need has no sub-selects: say it by relations, `exists(…)` and aggregates; {OWN_SQL}");
    let is_doubled = text.get(error.span.start.saturating_sub(1)..).is_some_and(|rest| rest.starts_with("=="));
    let one_is_enough = || "one `=` compares two values".to_owned();
    let hint = error.hint.or_else(|| is_doubled.then(one_is_enough)).or_else(|| asks_twice.then(no_selects));
    Mistake { hint, ..Mistake::new(error.span, error.message) }
}

/// A mistake in a condition that is about a name of the answer.
fn of_the_answer(mistake: Mistake, filter: &str, given: &[Given], is_grouped: bool) -> Mistake {
    let place = filter.get(mistake.span.start..mistake.span.end);
    let Some(given) = given.iter().find(|given| mistake.is_unknown && Some(given.name.as_str()) == place) else { return mistake };
    let message = format!("`{}` is a name of the answer, and `where` looks at rows before there is one", given.name);
    let hint = if is_grouped { format!("a need has no condition on groups; {OWN_SQL}") } else { "say the value itself here".to_owned() };
    Mistake { message, hint: Some(hint), ..mistake }
}

/// Resolves a need.
///
/// Where the order does not end in a unique key, the primary key of the root (or another unique key of not-null columns) is
/// appended in the direction of the last written term, marked as such. With groups their terms are, with `distinct` what is given.
///
/// # Errors
/// The first text that does not follow the grammar, names what the schema does not have, or puts together what cannot stand
/// together.
pub fn resolve(schema: &Schema, relations: &Relations, text: &NeedText) -> Result<Need, NeedError> {
    let root = schema.find(text.from.trim()).ok_or_else(|| {
        let mut mistake = Mistake::new(Span::new(0, text.from.len()), format!("there is no table `{}`", text.from));
        mistake.hint = did_you_mean(&text.from, schema.tables.iter().map(|table| table.name.as_str()));
        NeedError::of(NeedPart::From, mistake)
    })?;
    let mut resolver = Resolver::new(schema, relations, root, &text.parameters);
    let mut keys: Option<Vec<Given>> = None;
    if let Some(terms) = &text.group {
        for (at, term) in terms.iter().enumerate() {
            let key = key(&mut resolver, term, keys.as_deref().unwrap_or_default())
                .map_err(|mistake| NeedError::of(NeedPart::Group(at), mistake))?;
            keys.get_or_insert_default().push(key);
        }
        keys.get_or_insert_default();
    }
    let mut read = Vec::new();
    for (at, give) in text.give.iter().enumerate() {
        read.push(expr::read_give(give).map_err(|error| NeedError::of(NeedPart::Give(at), unreadable(error, give)))?);
    }
    // Without groups, nothing but aggregates over the rows themselves is a single row.
    let heads: Vec<bool> = read.iter().map(|give| resolver.is_over_rows(&give.value)).collect();
    if keys.is_none() && !heads.is_empty() && heads.iter().all(|head| *head) {
        keys = Some(Vec::new());
    }
    resolver.standing = match keys {
        Some(keys) => Standing::Group(Group { keys, totals: Vec::new() }),
        None => Standing::Row,
    };
    for (at, (give, text)) in read.iter().zip(&text.give).enumerate() {
        give_one(&mut resolver, give, text).map_err(|mistake| NeedError::of(NeedPart::Give(at), mistake))?;
    }
    let given = std::mem::take(&mut resolver.given);
    let standing = std::mem::replace(&mut resolver.standing, Standing::Row);
    let filter = match &text.filter {
        Some(filter) => where_parts(&mut resolver, filter).map_err(|mistake| {
            let is_grouped = matches!(standing, Standing::Group(_));
            NeedError::of(NeedPart::Where, of_the_answer(mistake, filter, &given, is_grouped))
        })?,
        None => Vec::new(),
    };
    (resolver.given, resolver.standing) = (given, standing);
    let mut order = Vec::with_capacity(text.order.len());
    for (at, term) in text.order.iter().enumerate() {
        order.push(resolver.order(term).map_err(|mistake| NeedError::of(NeedPart::Order(at), mistake))?);
    }
    let mut order = order::without_repeats(order);
    let group = match std::mem::replace(&mut resolver.standing, Standing::Row) {
        Standing::Group(group) => Some(group),
        Standing::Row => None,
    };
    let (give, group) = if text.distinct {
        distinct(&mut resolver, group.is_some(), &mut order).map_err(|(at, mistake)| NeedError::of(at, mistake))?
    } else {
        (std::mem::take(&mut resolver.given), group)
    };
    for (at, (path, loading)) in text.loading.iter().enumerate() {
        resolver.fix(path, *loading).map_err(|mistake| NeedError::of(NeedPart::Loading(at), mistake))?;
    }
    resolver.add_habits(&text.always).map_err(|mistake| NeedError::of(NeedPart::From, mistake))?;
    let parameters = parameters(&resolver, text)?;
    let Resolver { sources, aggregates, lists, .. } = resolver;
    let mut need = Need {
        sources,
        aggregates,
        lists,
        give,
        filter,
        group,
        distinct: text.distinct,
        order,
        limit: text.most_rows(),
        expect: text.expect,
        portions: text.portions(),
        parameters,
    };
    order::make_total(schema, &mut need).map_err(|mistake| NeedError::of(NeedPart::Limit, mistake))?;
    Ok(need)
}

/// A term to group by.
fn key(resolver: &mut Resolver<'_>, text: &str, known: &[Given]) -> Result<Given, Mistake> {
    let read = expr::read_give(text).map_err(|error| unreadable(error, text))?;
    let name = read.alias.as_ref().map_or_else(|| text.trim().to_owned(), |alias| alias.text.clone());
    let span = read.alias.as_ref().map_or(read.value.span, |alias| alias.span);
    if known.iter().any(|key| key.name == name) {
        return Err(Mistake::new(span, format!("`{name}` is there twice")).hint("give one of them another name with `as`"));
    }
    let (value, kind) = resolver.value(&read.value)?;
    if value.leaves().into_iter().all(|leaf| matches!(leaf, crate::need::Leaf::Parameter(_))) {
        return Err(Mistake::new(read.value.span, "this is the same for all rows").hint("group by something of the row"));
    }
    if kind == LogicalType::Real {
        return Err(Mistake::new(read.value.span, "groups by reals are not the same on every engine")
            .hint("group by a whole number, a text or a part of a date"));
    }
    Ok(Given { name, value, form: Form::Value(kind) })
}

fn give_one(resolver: &mut Resolver<'_>, give: &expr::Give, text: &str) -> Result<(), Mistake> {
    let place = Place { of_group: matches!(resolver.standing, Standing::Group(_)), ..AT_ROOT };
    let given = resolver.given(give, place, text)?;
    if resolver.given.iter().any(|known| known.name == given.name) {
        return Err(given_twice(&given.name, give));
    }
    resolver.given.push(given);
    Ok(())
}

/// The parts that must all hold, those that count only with a parameter marked.
fn where_parts(resolver: &mut Resolver<'_>, text: &str) -> Result<Vec<Part>, Mistake> {
    let read = expr::read_condition(text).map_err(|error| unreadable(error, text))?;
    let mut parts = Vec::new();
    for part in read.conjuncts() {
        let (written, only_if) = match part.as_leaf() {
            Some(expr::Written::If(parameter, condition)) => (&**condition, Some(resolver.parameter(parameter)?)),
            _ => (part, None),
        };
        parts.push(Part { condition: resolver.condition(written)?, only_if });
    }
    Ok(parts)
}

type Distinct = (Vec<Given>, Option<Group>);

/// Equal rows count once: they are groups of all that is given, and sorted by nothing else.
fn distinct(
    resolver: &mut Resolver<'_>,
    is_grouped: bool,
    order: &mut [crate::need::OrderBy<crate::need::Leaf>],
) -> Result<Distinct, (NeedPart, Mistake)> {
    let given = std::mem::take(&mut resolver.given);
    if is_grouped {
        let mistake = Mistake::new(Span::default(), "`distinct` and groups do not go together");
        return Err((NeedPart::Give(0), mistake.hint("each group is a row already; leave `distinct` out")));
    }
    for (at, given) in given.iter().enumerate() {
        let what = match given.form {
            Form::Value(LogicalType::Real) => "reals are not told apart alike by every engine",
            Form::List(_) => "lists are not told apart",
            Form::Value(_) => continue,
        };
        return Err((NeedPart::Give(at), Mistake::new(given.value.span, what).hint("leave it out, or leave `distinct` out")));
    }
    for (at, by) in order.iter_mut().enumerate() {
        match given.iter().position(|given| given.value == by.value) {
            Some(key) => by.value = order::key(key),
            None => {
                let mistake = Mistake::new(by.value.span, "under `distinct` only what is given can be sorted by");
                return Err((NeedPart::Order(at), mistake.hint("add it to `give`")));
            }
        }
    }
    let give = given.iter().enumerate().map(|(at, given)| Given { value: order::key(at), ..given.clone() }).collect();
    Ok((give, Some(Group { keys: given, totals: Vec::new() })))
}

/// The parameters with the types they have got.
fn parameters(resolver: &Resolver<'_>, text: &NeedText) -> Result<Vec<Parameter>, NeedError> {
    let typed = text.parameters.iter().enumerate().map(|(at, name)| match resolver.kinds[at] {
        Some((kind, is_list)) => Ok(Parameter { name: name.clone(), kind, is_list }),
        None if resolver.used[at] => Ok(Parameter { name: name.clone(), kind: LogicalType::Boolean, is_list: false }),
        None => Err(NeedError::of(
            NeedPart::Parameter(at),
            Mistake::new(Span::default(), format!("the parameter `{name}` is not used in this need"))
                .hint(format!("use it as `:{name}` in `where`, or remove it")),
        )),
    });
    typed.collect()
}
