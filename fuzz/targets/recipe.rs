//! A recipe, and values made by it.
#![no_main]

use kampf_fill::RecipeMaker;
use kampf_schema::LogicalType;
use kampf_schema::expr::read_recipe;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let Ok(recipe) = read_recipe(text) else { return };
    for kind in [LogicalType::TEXT, LogicalType::Integer, LogicalType::Real, LogicalType::Date, LogicalType::Timestamp] {
        if let Ok(maker) = RecipeMaker::new(&recipe, kind, 7, "p") {
            let _ = (maker.value(0), maker.value(u64::MAX));
        }
    }
});
