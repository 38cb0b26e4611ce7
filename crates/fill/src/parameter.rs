//! Values of recipes that belong to no column, for parameters.

use kampf_schema::expr::Recipe;
use kampf_schema::{LogicalType, Span, Value};

use crate::batch::Batch;
use crate::maker::Maker;
use crate::others::Alone;
use crate::random::{Random, key};
use crate::recipe::{NoColumns, maker};
use crate::vocabulary::Vocabulary;

/// Makes values of a recipe that belongs to no column, for parameters.
#[derive(Clone, Debug)]
pub struct RecipeMaker {
    maker: Maker,
    words: Vocabulary,
    key: u64,
}

impl RecipeMaker {
    /// The maker of a recipe for a type, under a name.
    ///
    /// # Errors
    /// What is wrong with the recipe: message, hint and place.
    pub fn new(recipe: &Recipe, kind: LogicalType, seed: u64, name: &str) -> Result<RecipeMaker, (String, Option<String>, Option<Span>)> {
        let maker = maker(recipe, kind, &NoColumns).map_err(|error| (error.message, error.hint, error.span))?;
        Ok(RecipeMaker { maker, words: Vocabulary::new(seed), key: key(seed, name) })
    }

    /// The n-th value.
    pub fn value(&self, n: u64) -> Value {
        let mut batch = Batch::new(1);
        self.maker.make(&mut Random::at(self.key, n), n, &self.words, &Alone, &mut batch);
        batch.last().to_value()
    }

    /// A number below `n` for the n-th drawing, for drawing rows.
    pub fn row(seed: u64, name: &str, drawing: u64, rows: u64) -> u64 {
        Random::at(key(seed, name), drawing).below(rows)
    }
}
