//! From the texts of a write to the write itself.

use kampf_schema::expr::{self, Comparison, Expr, Mistake, Node};
use kampf_schema::{ColumnId, LogicalType, Relations, Schema, Span, Table, TableId, did_you_mean};

use super::leaves::Resolver;
use super::{NeedError, NeedPart, NeedText, parameters, unreadable, where_parts};
use crate::form::Form;
use crate::need::{Expect, Given, Leaf, Need, Part, usual_portions};
use crate::write::{Act, AlsoNew, OnDelete, Write, generated_key, on_delete};

/// The texts of a write, as a user writes them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct WriteText {
    /// What is done: `insert`, `update` or `delete`.
    pub word: String,
    /// The table.
    pub table: String,
    /// Which rows.
    pub filter: Option<String>,
    /// How many rows are new; one where nothing is said.
    pub count: Option<u64>,
    /// What columns are set to, `column = value`.
    pub set: Vec<String>,
    /// What goes with it: for an insert `inspection 3 each`, for a delete `inspection`.
    pub also: Vec<String>,
    /// Names of the parameters that have values.
    pub parameters: Vec<String>,
    /// Numbers of rows or statements that go together.
    pub sizes: Vec<u32>,
}

/// Rows that may be new in one call.
const MOST_NEW: u64 = 1_000_000;

/// Resolves a write.
///
/// # Errors
/// The first text that does not follow the grammar, names what the schema does not have, or asks for what cannot be written.
pub fn resolve_write(schema: &Schema, relations: &Relations, text: &WriteText) -> Result<Write, NeedError> {
    let root = table_of(schema, &text.table, 0).map_err(|mistake| NeedError::of(NeedPart::From, mistake))?;
    let table = schema.table(root);
    let whole = |part, message: String, hint: &str| NeedError::of(part, Mistake::new(Span::default(), message).hint(hint));
    let is_insert = text.word == "insert";
    if table.primary_key.is_empty() {
        let message = format!("`{}` has no primary key, by which its rows could be told apart afterwards", table.name);
        return Err(whole(NeedPart::From, message, "give it one, or write another table"));
    }
    let mut resolver = Resolver::new(schema, relations, root, &text.parameters);
    let filter = match (&text.filter, is_insert) {
        (Some(_), true) => {
            return Err(whole(
                NeedPart::Where,
                "rows that are new fulfil no condition".to_owned(),
                "leave `where` out, or `update` rows that are there",
            ));
        }
        (Some(filter), false) => where_parts(&mut resolver, filter).map_err(|mistake| NeedError::of(NeedPart::Where, mistake))?,
        (None, _) => Vec::new(),
    };
    if let Some(part) = filter.iter().find(|part| part.only_if.is_some()) {
        let mistake =
            Mistake::new(part.condition.span, "`if(…)` has no place where rows are written: not given, it would take all of them");
        return Err(NeedError::of(NeedPart::Where, mistake.hint("write the condition itself")));
    }
    let mut set: Vec<(ColumnId, Expr<Leaf>)> = Vec::new();
    for (at, one) in text.set.iter().enumerate() {
        let known: Vec<ColumnId> = set.iter().map(|(column, _)| *column).collect();
        let read = read_set(&mut resolver, schema, root, one, &known, text.word == "insert");
        set.push(read.map_err(|mistake| NeedError::of(NeedPart::Set(at), mistake))?);
    }
    let columns: Vec<ColumnId> = set.iter().map(|(column, _)| *column).collect();
    let act = match text.word.as_str() {
        "insert" => {
            let count = text.count.unwrap_or(1);
            if count == 0 || count > MOST_NEW {
                let message = format!("{count} new rows cannot be asked for");
                return Err(whole(NeedPart::Count, message, "ask for one to a million"));
            }
            Act::Insert { count, set: columns.clone(), also: also_new(schema, root, count, &text.also)? }
        }
        "update" if set.is_empty() => {
            return Err(whole(NeedPart::From, "nothing is said to be set".to_owned(), "add set = [\"column = value\"]"));
        }
        "update" => Act::Update { set: columns.clone() },
        _ => Act::Delete { also: also_gone(schema, root, &text.also)? },
    };
    let key = if is_insert { &[][..] } else { &table.primary_key[..] };
    let of_column = |column: ColumnId, value: Expr<Leaf>| Given {
        name: table.columns[column].name.clone(),
        value,
        form: Form::Value(table.columns[column].kind),
    };
    let keys = key.iter().map(|&column| of_column(column, Node::Leaf(Leaf::Column { source: 0, column }).into()));
    let give: Vec<Given> = keys.chain(set.into_iter().map(|(column, value)| of_column(column, value))).collect();
    let of_need = NeedText { parameters: text.parameters.clone(), ..NeedText::default() };
    let parameters = parameters(&resolver, &of_need)?;
    let Resolver { sources, aggregates, lists, .. } = resolver;
    let rows = need(sources, aggregates, lists, give, filter, parameters);
    Ok(Write { act, rows, sizes: text.sizes.clone() })
}

fn need(
    sources: Vec<crate::need::Source>,
    aggregates: Vec<crate::need::AggregateOver>,
    lists: Vec<crate::need::ListOver>,
    give: Vec<Given>,
    filter: Vec<Part>,
    parameters: Vec<crate::need::Parameter>,
) -> Need {
    Need {
        sources,
        aggregates,
        lists,
        give,
        filter,
        group: None,
        distinct: false,
        order: Vec::new(),
        limit: None,
        expect: Expect::Many,
        portions: usual_portions(),
        parameters,
    }
}

fn table_of(schema: &Schema, name: &str, at: usize) -> Result<TableId, Mistake> {
    schema.find(name.trim()).ok_or_else(|| {
        let mut mistake = Mistake::new(Span::new(at, at + name.len()), format!("there is no table `{}`", name.trim()));
        mistake.hint = did_you_mean(name.trim(), schema.tables.iter().map(|table| table.name.as_str()));
        mistake
    })
}

/// `column = value`: read as a comparison, so that a parameter has the column's type.
fn read_set(
    resolver: &mut Resolver<'_>,
    schema: &Schema,
    root: TableId,
    text: &str,
    known: &[ColumnId],
    is_insert: bool,
) -> Result<(ColumnId, Expr<Leaf>), Mistake> {
    let table = schema.table(root);
    let (name, behind) = text.split_once('=').ok_or_else(|| {
        Mistake::new(Span::new(0, text.len()), "this sets nothing").hint("write `column = value`, as in set = [\"frames = 10\"]")
    })?;
    let place = Span::new(0, name.trim_end().len());
    let column = table.find(name.trim().trim_matches('"')).ok_or_else(|| {
        let mut mistake = Mistake::new(place, format!("`{}` has no column `{}`", table.name, name.trim()));
        mistake.hint = did_you_mean(name.trim(), table.columns.iter().map(|column| column.name.as_str()));
        mistake
    })?;
    may_be_set(schema, root, column, is_insert).map_err(|(message, hint)| Mistake::new(place, message).hint(hint))?;
    if known.contains(&column) {
        return Err(Mistake::new(place, format!("`{}` is set twice", table.columns[column].name)).hint("keep one of the two"));
    }
    if behind.trim().eq_ignore_ascii_case("null") {
        if !table.columns[column].nullable {
            return Err(
                Mistake::new(place, format!("`{}.{}` cannot be null", table.name, table.columns[column].name)).hint("set it to a value")
            );
        }
        return Ok((column, Expr::literal(kampf_schema::Value::Null)));
    }
    let read = expr::read_condition(text).map_err(|error| unreadable(error, text))?;
    let condition = resolver.condition(&read)?;
    match condition.node {
        Node::Compare(Comparison::Equal, left, right) if matches!(left.as_leaf(), Some(Leaf::Column { source: 0, column: own }) if *own == column) =>
        {
            let (kind, of) = (table.columns[column].kind, resolver.kind_of(&right));
            if right.as_literal().is_none() && !is_kept(of, kind) {
                let name = format!("`{}.{}`", table.name, table.columns[column].name);
                return Err(Mistake::new(right.span, format!("this is {of}, which {name}, {kind}, does not keep on every engine alike"))
                    .hint("set it to a value of its own type"));
            }
            match right.as_literal().map(|value| expr::fit(value, kind)) {
                Some(Some(value)) => Ok((column, Expr { node: Node::Literal(value), ..*right })),
                Some(None) => {
                    let message = format!("this is no {kind}, which `{}.{}` holds", table.name, table.columns[column].name);
                    Err(Mistake::new(right.span, message).hint("set it to a value of its own type"))
                }
                None => Ok((column, *right)),
            }
        }
        _ => Err(Mistake::new(Span::new(0, text.len()), "one value is set here")
            .hint("put what is longer into parentheses: `active = (frames > 5)`")),
    }
}

/// Whether what is computed as one type is kept as another without being rounded.
fn is_kept(of: LogicalType, kind: LogicalType) -> bool {
    use LogicalType as T;
    match (of, kind) {
        (T::Integer, T::Decimal { .. } | T::Real) | (T::Decimal { .. }, T::Real) => true,
        (T::Decimal { scale, .. }, T::Decimal { scale: most, .. }) => scale <= most,
        (T::Text { .. }, T::Text { .. }) => true,
        (of, kind) => of == kind,
    }
}

/// Whether a column may be set; else why not, and what to do.
fn may_be_set(schema: &Schema, root: TableId, column: ColumnId, is_insert: bool) -> Result<(), (String, String)> {
    let table: &Table = schema.table(root);
    let name = format!("`{}.{}`", table.name, table.columns[column].name);
    if table.columns[column].computed.is_some() {
        return Err((format!("{name} is computed by the database"), "set what it is computed from".to_owned()));
    }
    if is_insert && generated_key(schema, root) == Some(column) {
        return Err((format!("{name} is numbered by the database"), "leave it out".to_owned()));
    }
    if table.primary_key.contains(&column) {
        return Err((
            format!("{name} is a part of the primary key, by which rows are told apart"),
            "set another column; a row with another key is another row".to_owned(),
        ));
    }
    let is_meant = |reference: &kampf_schema::Reference| reference.parent == root && reference.parent_columns.contains(&column);
    let referring = schema.tables.iter().find(|other| other.references.iter().any(is_meant));
    match referring.filter(|_| !is_insert) {
        Some(other) => Err((format!("rows of `{}` refer to {name}", other.name), "set another column".to_owned())),
        None => Ok(()),
    }
}

/// `inspection 3 each`.
fn also_new(schema: &Schema, root: TableId, count: u64, also: &[String]) -> Result<Vec<AlsoNew>, NeedError> {
    let mut tables: Vec<(TableId, u64)> = vec![(root, count)];
    let mut all = Vec::new();
    for (at, text) in also.iter().enumerate() {
        let wrong = |span: Span, message: String, hint: &str| NeedError::of(NeedPart::Also(at), Mistake::new(span, message).hint(hint));
        let whole = Span::new(0, text.len());
        let words: Vec<&str> = text.split_whitespace().collect();
        let [name, number, "each"] = words[..] else {
            return Err(wrong(whole, format!("`{text}` does not say how many rows hang on each"), "write \"inspection 3 each\""));
        };
        let each: u64 = number.replace('_', "").parse().ok().filter(|each| (1..=MOST_NEW).contains(each)).ok_or_else(|| {
            wrong(whole, format!("`{number}` is no number of rows"), "write a whole number from 1 on: \"inspection 3 each\"")
        })?;
        // By which of its columns, where several would do.
        let (name, by) = name.split_once('.').map_or((name, None), |(name, column)| (name, Some(column)));
        let table = table_of(schema, name, 0).map_err(|mistake| NeedError::of(NeedPart::Also(at), mistake))?;
        if schema.table(table).primary_key.is_empty() {
            return Err(wrong(
                whole,
                format!("`{name}` has no primary key, by which its rows could be told apart afterwards"),
                "leave it out",
            ));
        }
        let refers = |(under, (parent, _)): (usize, &(TableId, u64))| {
            let references = schema.table(table).references.iter().enumerate();
            let is_named =
                |columns: &[ColumnId]| by.is_none_or(|by| schema.table(table).find(by).is_some_and(|column| columns.contains(&column)));
            let meant = references.filter(|(_, reference)| reference.parent == *parent && is_named(&reference.columns));
            meant.map(|(at, _)| (under, at)).collect::<Vec<_>>()
        };
        let ways: Vec<(usize, usize)> = tables.iter().enumerate().flat_map(refers).collect();
        let (under, reference) = match ways[..] {
            [way] => way,
            [] => return Err(wrong(whole, format!("`{name}` does not refer to what is new here"), "name a table that refers to it")),
            [(_, first), (_, other), ..] => {
                let column = |reference: usize| {
                    let model = schema.table(table);
                    model.columns[model.references[reference].columns[0]].name.clone()
                };
                let hint = format!(
                    "say by which column: \"{name}.{} {number} each\" or \"{name}.{} {number} each\"",
                    column(first),
                    column(other)
                );
                return Err(wrong(whole, format!("`{name}` refers to what is new here in several ways"), &hint));
            }
        };
        if tables.iter().any(|(known, _)| *known == table) {
            return Err(wrong(whole, format!("rows of `{name}` are new twice"), "name each table once"));
        }
        let rows = tables[under].1.saturating_mul(each);
        if rows > MOST_NEW {
            return Err(wrong(whole, format!("that would be {rows} new rows of `{name}`"), "a million are the most"));
        }
        tables.push((table, rows));
        all.push(AlsoNew { table, under, reference, each });
    }
    Ok(all)
}

/// `inspection`.
fn also_gone(schema: &Schema, root: TableId, also: &[String]) -> Result<Vec<TableId>, NeedError> {
    let mut gone = vec![root];
    for (at, text) in also.iter().enumerate() {
        let table = table_of(schema, text, 0).map_err(|mistake| NeedError::of(NeedPart::Also(at), mistake))?;
        let wrong =
            |message: String, hint: &str| NeedError::of(NeedPart::Also(at), Mistake::new(Span::new(0, text.len()), message).hint(hint));
        if table == root {
            let message = format!("rows of `{text}` that hang on other rows of it do not go with them by themselves");
            return Err(wrong(message, "have the condition take them too, or the schema say ON DELETE CASCADE"));
        }
        if gone.contains(&table) {
            return Err(wrong(format!("`{text}` is there twice"), "name each table once"));
        }
        if schema.table(table).primary_key.is_empty() {
            return Err(wrong(format!("`{text}` has no primary key, by which its rows could be told apart afterwards"), "give it one"));
        }
        gone.push(table);
    }
    for (at, (text, &table)) in also.iter().zip(&gone[1..]).enumerate() {
        if !schema.table(table).references.iter().any(|reference| gone.contains(&reference.parent)) {
            let mistake = Mistake::new(Span::new(0, text.len()), format!("`{text}` does not refer to what is deleted"));
            return Err(NeedError::of(NeedPart::Also(at), mistake.hint("name tables that hang on it")));
        }
    }
    if let Some(table) = in_a_circle(schema, &gone) {
        let name = &schema.table(table).name;
        let at = gone.iter().position(|one| *one == table).map_or(0, |at| at.saturating_sub(1));
        let span = Span::new(0, also.get(at).map_or(0, String::len));
        let mistake = Mistake::new(span, format!("`{name}` is in a circle of tables that refer to each other, so that none can go first"));
        return Err(NeedError::of(NeedPart::Also(at), mistake.hint("have one of the references say ON DELETE SET NULL, or delete less")));
    }
    Ok(gone.split_off(1))
}

/// A table among some that hangs on itself over others of them, so that rows of none can go before those of the others; the first is where all begins,
/// and may be set to nothing.
fn in_a_circle(schema: &Schema, gone: &[TableId]) -> Option<TableId> {
    let parents = |table: TableId| {
        let holds = move |reference: &&kampf_schema::Reference| table != gone[0] || on_delete(&reference.manner) == OnDelete::Refuse;
        let references = schema.table(table).references.iter().filter(holds).map(|reference| reference.parent);
        references.filter(move |parent| *parent != table && gone.contains(parent)).collect::<Vec<_>>()
    };
    // Tables all of whose parents have been taken away before are in no circle.
    let mut left = gone.to_vec();
    loop {
        let free = left.iter().position(|&table| !parents(table).iter().any(|parent| left.contains(parent)));
        match free {
            Some(at) => drop(left.remove(at)),
            None => return left.first().copied(),
        }
    }
}
