//! A way of making values as it stands in a recipe.

use kampf_schema::expr::{Argument, Name};
use kampf_schema::{LogicalType, Value};

use super::arguments::{lengths, real};
use super::columns::Columns;
use super::error::{RecipeError, suitable, wrong};
use crate::derived::Derived;
use crate::maker::{Distribution, Maker, NumberKind};
use crate::others::Origin;
use crate::shape::Shape;

/// A way as it stands in a recipe.
pub(super) struct Call<'a> {
    pub(super) name: &'a Name,
    /// How the way is written.
    pub(super) example: &'static str,
    pub(super) arguments: &'a [Argument],
    /// The type of the column.
    pub(super) kind: LogicalType,
    pub(super) bounds: &'a Option<(Value, Value)>,
    pub(super) columns: &'a dyn Columns,
}

impl Call<'_> {
    /// It is given what it does not take.
    pub(super) fn usage<T>(&self, takes: &str) -> Result<T, RecipeError> {
        let name = &self.name.text;
        match takes {
            "" => wrong(format!("`{name}` takes nothing in parentheses"), format!("write `{name}`")),
            takes => wrong(format!("`{name}` takes {takes}"), format!("like `{}`", self.example)),
        }
    }

    /// A maker that takes nothing.
    pub(super) fn plain(&self, maker: Maker) -> Result<Option<Maker>, RecipeError> {
        Ok(self.arguments.is_empty().then_some(maker))
    }

    /// A maker of things of a length, or of a range of lengths.
    pub(super) fn of_lengths(&self, usual: (u64, u64), what: &str, maker: fn(u64, u64) -> Maker) -> Result<Option<Maker>, RecipeError> {
        let (low, high) = lengths(self.name, self.arguments, usual, what)?;
        Ok(Some(maker(low, high)))
    }

    /// What numbers the column takes.
    pub(super) fn numbers(&self) -> Result<NumberKind, RecipeError> {
        match self.kind {
            LogicalType::Integer => Ok(NumberKind::Integer),
            LogicalType::Decimal { scale, .. } => Ok(NumberKind::Decimal(scale)),
            LogicalType::Real => Ok(NumberKind::Real),
            kind => wrong(format!("this makes numbers, but the column is {kind}"), format!("use {}", suitable(kind))),
        }
    }

    /// What stands behind `in`.
    pub(super) fn ends(&self) -> Result<Option<(f64, f64)>, RecipeError> {
        let Some((low, high)) = self.bounds else { return Ok(None) };
        match (real(low)?, real(high)?) {
            (least, most) if least <= most => Ok(Some((least, most))),
            _ => wrong(format!("`in {low}..{high}` has nothing inside"), format!("write the smaller one first, `in {high}..{low}`")),
        }
    }

    pub(super) fn of_numbers(&self, from: Distribution) -> Result<Option<Maker>, RecipeError> {
        Ok(Some(Maker::Numbers { from, bounds: self.ends()?, kind: self.numbers()? }))
    }

    pub(super) fn positive(&self, value: &Value, what: &str) -> Result<f64, RecipeError> {
        match real(value)? {
            number if number > 0.0 => Ok(number),
            _ => wrong(format!("{what} must be above 0"), format!("like `{}`", self.example)),
        }
    }

    /// The columns that it is made from; none where anything else is among them.
    pub(super) fn origins(&self) -> Result<Option<Vec<Origin>>, RecipeError> {
        let mut origins = Vec::new();
        for argument in self.arguments {
            let Argument::Path(path) = argument else { return Ok(None) };
            origins.push(self.columns.origin(path)?.0);
        }
        Ok(Some(origins))
    }

    pub(super) fn uuid(&self, maker: Maker) -> Result<Option<Maker>, RecipeError> {
        match self.kind {
            _ if !self.arguments.is_empty() => Ok(None),
            LogicalType::Uuid => Ok(Some(maker)),
            // Kept as text, a UUID is a code of hexadecimal digits.
            LogicalType::Text { .. } => Ok(Some(Maker::Code(Shape::code("~~~~~~~~-~~~~-4~~~-a~~~-~~~~~~~~~~~~")))),
            kind => wrong(format!("this makes UUIDs, but the column is {kind}"), format!("use {}", suitable(kind))),
        }
    }
}

pub(super) fn path_text(path: &[Name]) -> String {
    path.iter().map(|name| name.text.as_str()).collect::<Vec<_>>().join(".")
}

pub(super) fn derived(from: Derived) -> Option<Maker> {
    Some(Maker::From(Box::new(from)))
}
