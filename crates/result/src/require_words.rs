//! Requirements in words.

use kampf_contest::Quantity;
use kampf_verdict::{Nearest, Reading, Required};

use crate::numbers::{bytes, count, duration};

/// A reading of something that can be required, with its unit.
pub fn reading(required: Required, value: f64) -> String {
    match required {
        Required::Count(measure) if measure.entry().unit == Quantity::Bytes => bytes(value as u64),
        Required::Count(_) => count(value as u64),
        _ => duration(value),
    }
}

/// What a contender misses.
pub fn miss_text(Reading { required, has, limit, .. }: &Reading) -> String {
    let (name, limit) = (required.word(), reading(*required, *limit));
    match has {
        None => format!("{name} not known, {limit} allowed"),
        Some(has) => format!("{name} {}, {limit} allowed", reading(*required, *has)),
    }
}

/// Who comes nearest to what nobody meets.
pub fn nearest_text(Nearest { required, has, limit, .. }: &Nearest, name: &str) -> String {
    format!("{}: {name} with {}, {} allowed", required.word(), reading(*required, *has), reading(*required, *limit))
}
