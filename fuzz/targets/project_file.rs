//! A project file.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    kampf::odd_inputs::project_file(text);
});
