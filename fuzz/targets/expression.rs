//! Conditions, values, order terms, recipes and row counts.
#![no_main]

use kampf_schema::expr::{read_condition, read_give, read_order, read_recipe, read_row_count};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = (read_condition(text), read_give(text), read_order(text), read_recipe(text), read_row_count(text));
});
