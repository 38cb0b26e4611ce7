//! A saved result.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    kampf::odd_inputs::saved_result(text);
});
