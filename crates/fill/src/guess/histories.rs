//! Guesses for tables that hold the history of another one's rows: steps follow one another, from the state in which rows begin to the row's own.

use kampf_schema::expr::{Argument, Recipe, RecipeSource, read_recipe};
use kampf_schema::{LogicalType, Value};

use super::times::{hours, is_like, until};
use super::{Guess, Subject, guess, named, named_parent, written};
use crate::bounds::bounds;
use crate::names;
use crate::ties::{self, History};

/// What suits a column of a history.
pub(super) fn step(subject: &Subject<'_>) -> Option<Guess> {
    // Only what is counted by the row that it tells of has a place among that row's steps.
    let counted = subject.counted.get(subject.table.0).copied().flatten()?;
    let history = ties::history(subject.schema, subject.table).filter(|history| history.reference == counted)?;
    let table = subject.schema.table(subject.table);
    let reference = &table.references[history.reference];
    let [key] = reference.columns.as_slice() else { return None };
    if table.columns[*key].nullable {
        return None;
    }
    if history.at == Some(subject.id) {
        return time(subject, &history);
    }
    if subject.id != history.from && subject.id != history.to {
        return None;
    }
    let states = on_the_way(subject, &history)?;
    let recipe = if subject.id == history.to {
        let parent = subject.schema.table(reference.parent);
        let state = &parent.columns[history.state?].name;
        let states: Vec<String> = states.iter().map(written).collect();
        format!("path({}.{}, {})", named_parent(subject, reference), named(state), states.join(", "))
    } else {
        let first = Some(&states[0]).filter(|first| **first != Value::Null).map_or(String::new(), |first| format!(", {}", written(first)));
        format!("previous({}{first})", named(&table.columns[history.to].name))
    };
    Some(guess(recipe, "the history that the table holds"))
}

/// The states on the way, from that before the first step on: those that nothing ends in. None where they are not known, or rules say more of them.
fn on_the_way(subject: &Subject<'_>, history: &History) -> Option<Vec<Value>> {
    let table = subject.schema.table(subject.table);
    let rules = table.checks.iter().filter_map(|check| check.rule.as_ref().ok().map(kampf_schema::Rule::column_set));
    let is_of_steps = |column| column == history.from || column == history.to;
    if rules.into_iter().any(|columns| columns.len() > 1 && columns.iter().any(|&column| is_of_steps(column))) {
        return None;
    }
    let parent = table.references[history.reference].parent;
    let (column, of_parent) = (history.state?, bounds(subject.schema.table(parent)).0);
    let of_rows = super::recipe(subject.schema, parent, column, &of_parent[column], subject.counted);
    let Ok(Recipe { source: RecipeSource::Call { name, arguments }, .. }) = read_recipe(&of_rows.recipe) else { return None };
    let value = |argument: &Argument| if let Argument::Value(value, _) = argument { Some(value.clone()) } else { None };
    let all: Vec<Value> = arguments.iter().map(value).collect::<Option<_>>().filter(|_| name.text == "pick")?;
    let own = bounds(table).0;
    let allows = |at: usize| own[at].one_of.as_ref().is_none_or(|allowed| all.iter().all(|state| allowed.contains(state)));
    if !allows(history.from) || !allows(history.to) {
        return None;
    }
    let first = match &subject.schema.table(parent).columns[column].default {
        Some(kampf_schema::Default::Value(first)) if all.contains(first) => first.clone(),
        _ => all.first()?.clone(),
    };
    let goes_on = |state: &&Value| **state != first && matches!(state, Value::Text(text) if names::state_weight(text) == 2);
    let further: Vec<Value> = all.iter().filter(goes_on).cloned().collect();
    let before = table.columns[history.from].nullable.then_some(Value::Null);
    let states: Vec<Value> = before.into_iter().chain([first]).chain(further).collect();
    // Where the first state is all there is on the way, its steps go back to what they ended in.
    Some(if states.len() > 1 { states } else { states.into_iter().chain(all.iter().find(|state| **state != all[0]).cloned()).collect() })
}

/// When steps were: one after the other from when their row was made.
fn time(subject: &Subject<'_>, history: &History) -> Option<Guess> {
    let reference = &subject.schema.table(subject.table).references[history.reference];
    let parent = subject.schema.table(reference.parent);
    let fits = |column: &kampf_schema::Column| {
        is_like(subject, column) && names::stage(column) == Some(names::Stage::Made) && (subject.column.nullable || !column.nullable)
    };
    let made = parent.columns.iter().find(|column| fits(column))?;
    let least = if subject.column.kind == LogicalType::Date { "0 days" } else { "1 hour" };
    let recipe = format!(
        "step({}.{}, '{least}'..'20 days'{}{})",
        named_parent(subject, reference),
        named(&made.name),
        hours(subject),
        until(subject)
    );
    Some(guess(recipe, "the history that the table holds"))
}
