//! A need over keys of another type: whether it says the same, which of its parameters and values are keys, and where answers may differ all
//! the same because a key decides between rows that are alike in all else.

use kampf_schema::expr::{ByValue, Expr, KeyLeaves, KeyUse};
use kampf_schema::{KeyColumns, TableId, Value};

use crate::answer::Answer;
use crate::compare::{Agreement, Reference, compare};
use crate::form::{Form, Sequence};
use crate::need::{Aggregate, Fold, Given, Leaf, Need, OrderBy};

/// What keys of another type change of a need's parameters and answers.
#[derive(Clone, Debug, PartialEq)]
pub struct KeyedNeed {
    /// For each parameter the table whose key it stands for, where it does.
    pub parameters: Vec<Option<TableId>>,
    /// What is given of each row.
    give: Vec<Part>,
    /// So many terms of the order are the same whatever the keys are.
    order: usize,
    /// Whether which rows come back never depends on a key that decides between rows that are alike.
    is_certain: bool,
}

/// One thing that is given.
#[derive(Clone, Debug, PartialEq)]
enum Part {
    /// Nothing that keys change.
    Plain,
    /// A key of a table.
    Key(TableId),
    /// What may be another row's, where several are alike but for their keys.
    Unsure,
    /// Rows, in an order that is the same or not.
    List(Vec<Part>, bool),
}

/// Makes a key of a table what it is in the plain schema; none for one that no row has.
pub type OldKey<'k> = &'k dyn Fn(TableId, &Value) -> Option<Value>;

impl KeyedNeed {
    /// What keys of another type change of a need, whose columns of keys are given.
    ///
    /// # Errors
    /// Where a key's value counts, so that the need does not say the same over keys of another type: in words, with what does so.
    pub fn of(need: &Need, keys: &[KeyColumns], said: &dyn Fn(&Expr<Leaf>) -> String) -> Result<KeyedNeed, String> {
        let leaves = Leaves { need, keys, parameters: vec![None; need.parameters.len()] };
        let mut reading = KeyReading { leaves, said, ties: Vec::new(), lists: vec![None; need.lists.len()] };
        let group = need.group.as_ref();
        let filters = need.sources.iter().filter_map(|source| source.filter.as_ref());
        let selecting: Vec<&Expr<Leaf>> = filters.chain(need.filter.iter().map(|part| &part.condition)).collect();
        for condition in &selecting {
            reading.use_of(condition)?;
        }
        for aggregate in &need.aggregates {
            reading.fold(&aggregate.fold)?;
            let counted = reading.before_key(&aggregate.fold.order)?;
            reading.ties.push(counted < aggregate.fold.order.len());
        }
        let totals = || group.iter().flat_map(|group| &group.totals);
        totals().try_for_each(|total| reading.fold(total))?;
        let grouping = group.iter().flat_map(|group| &group.keys).map(|key| &key.value);
        grouping.clone().try_for_each(|key| reading.use_of(key).map(drop))?;
        let order = reading.before_key(&need.order)?;
        let give = need.give.iter().map(|given| reading.part(given)).collect::<Result<Vec<_>, _>>()?;
        let deciding = selecting.into_iter().chain(grouping).chain(totals().filter_map(|total| total.of.as_ref()));
        let is_certain = !deciding.chain(need.order.iter().map(|by| &by.value)).any(|value| reading.is_unsure(value));
        Ok(KeyedNeed { parameters: reading.leaves.parameters, give, order, is_certain })
    }

    /// Whether an answer over keys of another type has the rows of the plain schema's: those whose keys stand for the same rows. Where a key
    /// breaks ties, the order of the rows that are alike is free, and which of them come before a limit; what is picked by such an order is not
    /// compared.
    pub fn agrees(&self, plain: &Reference, limit: Option<u64>, answer: &Answer, old_key: OldKey<'_>) -> Agreement {
        if !self.is_certain {
            return Agreement::Same;
        }
        let keys =
            if self.order == 0 { Vec::new() } else { plain.keys.iter().map(|keys| keys[..self.order.min(keys.len())].to_vec()).collect() };
        // Where the order consists of a key alone, all rows are alike in it, and any of them may come before a limit.
        let is_cut = limit.is_some() || plain.expect.asked().is_some();
        let keys = if keys.is_empty() && plain.is_ordered() && is_cut { vec![Vec::new(); plain.rows.len()] } else { keys };
        let masked = |row: &Vec<Value>| row.iter().zip(&self.give).map(|(value, part)| part.masked(value)).collect();
        let loosened = Reference {
            rows: plain.rows.iter().map(masked).collect(),
            keys,
            forms: plain.forms.iter().zip(&self.give).map(|(form, part)| part.loosened(form)).collect(),
            ..plain.clone()
        };
        let restored =
            |row: &Vec<Value>| row.iter().zip(&self.give).map(|(value, part)| part.masked(&part.restored(value, old_key))).collect();
        let answer = Answer { rows: answer.rows.iter().map(restored).collect(), came: answer.came };
        compare(&loosened, limit, &answer)
    }
}

impl Part {
    /// A value with what cannot be compared left out.
    fn masked(&self, value: &Value) -> Value {
        match (self, value) {
            (Part::Unsure, _) => Value::Null,
            (Part::List(parts, _), Value::List(rows)) => rows_with(rows, parts, &|part, value| part.masked(value)),
            _ => value.clone(),
        }
    }

    /// A value with keys as they are in the plain schema.
    fn restored(&self, value: &Value, old_key: OldKey<'_>) -> Value {
        match (self, value) {
            (Part::Key(table), value) if *value != Value::Null => {
                // Which may be a key of the plain schema, and must not pass for one.
                old_key(*table, value).unwrap_or_else(|| Value::from(format!("{value}, a key of no row").as_str()))
            }
            (Part::List(parts, _), Value::List(rows)) => rows_with(rows, parts, &|part, value| part.restored(value, old_key)),
            _ => value.clone(),
        }
    }

    /// A form in which the order of a list counts only where keys do not decide it.
    fn loosened(&self, form: &Form) -> Form {
        match (self, form) {
            (Part::List(parts, is_ordered), Form::List(list)) => {
                let mut list = list.clone();
                if !is_ordered {
                    list.sequence = Sequence::Any;
                }
                list.items.iter_mut().zip(parts).for_each(|(item, part)| item.form = part.loosened(&item.form));
                Form::List(list)
            }
            _ => form.clone(),
        }
    }
}

/// The rows of a list with each value made another.
fn rows_with(rows: &[Value], parts: &[Part], other: &dyn Fn(&Part, &Value) -> Value) -> Value {
    let row = |row: &Value| match row {
        Value::List(values) => Value::List(values.iter().zip(parts).map(|(value, part)| other(part, value)).collect()),
        value => value.clone(),
    };
    Value::List(rows.iter().map(row).collect())
}

/// A need being read.
struct KeyReading<'n> {
    leaves: Leaves<'n>,
    said: &'n dyn Fn(&Expr<Leaf>) -> String,
    /// For each aggregate whether a key decides which row it takes.
    ties: Vec<bool>,
    /// The parts of each list's rows, once they are known.
    lists: Vec<Option<Vec<Part>>>,
}

impl KeyReading<'_> {
    fn use_of(&mut self, value: &Expr<Leaf>) -> Result<KeyUse, String> {
        value.key_use(&mut self.leaves).map_err(|why| format!("`{}` {}", (self.said)(value), why.0))
    }

    /// What is computed of several rows, which keys may only be counted for, or picked.
    fn fold(&mut self, fold: &Fold) -> Result<(), String> {
        let takes_keys = matches!(fold.function, Aggregate::Count | Aggregate::Exists | Aggregate::First);
        match &fold.of {
            Some(value) if matches!(self.use_of(value)?, KeyUse::Key(_)) && !takes_keys => {
                Err(format!("`{}({})` computes with a key", fold.function.word(), (self.said)(value)))
            }
            _ => Ok(()),
        }
    }

    /// How many terms of an order count before the first key in it, which only breaks ties.
    fn before_key(&mut self, order: &[OrderBy<Leaf>]) -> Result<usize, String> {
        for (at, by) in order.iter().enumerate() {
            if let KeyUse::Key(_) = self.use_of(&by.value)? {
                let sorts = at == 0 && !by.appended;
                return if sorts { Err(format!("`{}` sorts by a key", (self.said)(&by.value))) } else { Ok(at) };
            }
        }
        Ok(order.len())
    }

    /// Whether a value may be of another row where a key decides between several, in whatever is computed of it.
    fn is_unsure(&self, value: &Expr<Leaf>) -> bool {
        let is_aggregate_unsure = |at: usize| {
            let fold = &self.leaves.need.aggregates[at].fold;
            let mut parts = fold.of.iter().chain(fold.order.iter().map(|by| &by.value));
            self.ties[at] || parts.any(|part| self.is_unsure(part))
        };
        value.leaves().into_iter().any(|leaf| matches!(leaf, Leaf::Aggregate(at) if is_aggregate_unsure(*at)))
    }

    fn part(&mut self, given: &Given) -> Result<Part, String> {
        let need = self.leaves.need;
        let Some(&Leaf::List(at)) = given.value.as_leaf() else {
            let used = self.use_of(&given.value)?;
            return Ok(match used {
                _ if self.is_unsure(&given.value) => Part::Unsure,
                KeyUse::Key(table) => Part::Key(table),
                _ => Part::Plain,
            });
        };
        let list = &need.lists[at];
        let ties = self.before_key(&list.order)? < list.order.len() || list.order.iter().any(|by| self.is_unsure(&by.value));
        let parts = match &self.lists[at] {
            Some(parts) => parts.clone(),
            None => list.give.iter().map(|given| self.part(given)).collect::<Result<Vec<_>, _>>()?,
        };
        self.lists[at] = Some(parts.clone());
        Ok(if ties && list.limit.is_some() { Part::Unsure } else { Part::List(parts, !ties) })
    }
}

/// A need's leaves.
struct Leaves<'n> {
    need: &'n Need,
    keys: &'n [KeyColumns],
    parameters: Vec<Option<TableId>>,
}

impl KeyLeaves<Leaf> for Leaves<'_> {
    fn leaf(&mut self, leaf: &Leaf) -> Result<KeyUse, ByValue> {
        let need = self.need;
        match leaf {
            Leaf::Column { source, column } => {
                let table = need.sources[*source].table;
                let whose = self.keys.iter().find(|keys| keys.hold(table, *column));
                Ok(whose.map_or(KeyUse::Plain, |keys| KeyUse::Key(keys.table)))
            }
            Leaf::Aggregate(at) => {
                let fold = &need.aggregates[*at].fold;
                match &fold.of {
                    Some(of) if fold.function == Aggregate::First => of.key_use(self),
                    _ => Ok(KeyUse::Plain),
                }
            }
            Leaf::Key(at) => need.group.as_ref().map_or(Ok(KeyUse::Plain), |group| group.keys[*at].value.key_use(self)),
            Leaf::Parameter(at) => Ok(KeyUse::Open(*at)),
            Leaf::Total(_) | Leaf::List(_) => Ok(KeyUse::Plain),
        }
    }

    fn meets(&mut self, parameter: usize, table: TableId) {
        self.parameters[parameter] = Some(table);
    }
}
