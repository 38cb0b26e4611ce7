//! The named ways that make histories.

use kampf_schema::Value;
use kampf_schema::expr::Argument;

use super::arguments::fit;
use super::call::{Call, derived, path_text};
use super::error::{RecipeError, wrong};
use crate::derived::Derived;
use crate::maker::Maker;
use crate::others::Origin;
use crate::path::{Path, Previous};

/// Values of the column's type.
fn values(call: &Call<'_>, arguments: &[Argument]) -> Result<Option<Vec<Value>>, RecipeError> {
    let value = |argument: &Argument| match argument {
        Argument::Value(value, None) => Some(fit(value, call.kind)),
        _ => None,
    };
    arguments.iter().map(value).collect::<Option<Result<_, _>>>().transpose()
}

pub(super) fn path(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Path(path), states @ ..] = call.arguments else { return Ok(None) };
    let (of, kind) = call.columns.origin(path)?;
    let Origin::Parent(link, _) = of else { return call.usage("a parent's state, like `hive.state`, and the states on the way to it") };
    if std::mem::discriminant(&kind) != std::mem::discriminant(&call.kind) {
        return wrong(format!("`{}` is {kind}, and this column {}", path_text(path), call.kind), "both must be of one type");
    }
    let Some(on_the_way) = values(call, states)?.filter(|states| states.len() > 1) else { return Ok(None) };
    Ok(derived(Derived::Path(Path { link, of, on_the_way })))
}

pub(super) fn previous(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Path(path), first @ ..] = call.arguments else { return Ok(None) };
    let (Origin::Own(column), kind) = call.columns.origin(path)? else {
        return call.usage("a column of the row, like `to_state`, and what the first row has");
    };
    if std::mem::discriminant(&kind) != std::mem::discriminant(&call.kind) {
        return wrong(format!("`{}` is {kind}, and this column {}", path_text(path), call.kind), "both must be of one type");
    }
    let first = match values(call, first)?.as_deref() {
        Some([]) if call.columns.nullable() => Value::Null,
        Some([first]) => first.clone(),
        Some([]) => return call.usage("a column, and what the first row has where it cannot be null"),
        _ => return Ok(None),
    };
    let link = call.columns.counted_by()?;
    Ok(derived(Derived::Previous(Previous { link, column, first })))
}
