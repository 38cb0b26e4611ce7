//! The twin: few rows by the same order, on which every way is proven.

use kampf_contest::Dialect;
use kampf_fill::{Blueprint, FillError};
use kampf_schema::{KeyColumns, KeyType};

use super::Project;
use super::variant::Variant;

/// Rows of a twin, about.
const ROWS: u64 = 20_000;
/// Of a dataset of at most so many rows, which can be worked out whole, a twin of a tenth says who may be stopped where it takes long.
const WHOLE: u64 = 50_000;
const TENTH: u64 = 10;
/// A dataset of at most so many rows needs no other.
const OWN_TWIN: u64 = 10_000;
/// What twins are called by; nothing else can be.
const NAME: &str = "twin~";

/// What a variant's twin is called by; that of the plain schema, where there is none.
pub(crate) fn twin_name(variant: Option<&str>) -> String {
    format!("{NAME}{}", variant.unwrap_or_default())
}

impl Project {
    /// Whether answers are known without a twin, as all rows can be worked out.
    pub(crate) fn needs_no_twin(&self) -> bool {
        self.blueprint.all_rows() <= WHOLE
    }

    /// Twins of the plain schema and of some variants; none where the dataset has few rows itself.
    ///
    /// # Errors
    /// Rules that cannot be met with few rows.
    pub(crate) fn twins(&self, variants: &[&Variant]) -> Result<Vec<Variant>, FillError> {
        if self.blueprint.all_rows() <= OWN_TWIN {
            return Ok(Vec::new());
        }
        let all = self.blueprint.all_rows();
        let wanted = if all > WHOLE { ROWS } else { all / TENTH };
        let rows = self.blueprint.twin(&self.schema, &self.order, wanted)?;
        let plain = Variant { twin: Some(rows.clone()), ..Variant::with(&twin_name(None), &self.schema, Vec::new()) };
        let of = |variant: &&Variant| Variant {
            name: twin_name(Some(&variant.name)),
            twin: Some(keyed(&rows, variant, self.engine.dialect(), self.config.seed)),
            ..(*variant).clone()
        };
        Ok(std::iter::once(plain).chain(variants.iter().map(of)).collect())
    }
}

/// Few rows with the keys of a variant.
fn keyed(rows: &Blueprint, variant: &Variant, dialect: &Dialect, seed: u64) -> Blueprint {
    let Some(keys) = &variant.keys else { return rows.clone() };
    let pairs: Vec<(KeyColumns, KeyType)> = keys.columns.iter().map(|columns| (columns.clone(), keys.key_type)).collect();
    rows.with_keys(&pairs, dialect.uuid_key, seed)
}
