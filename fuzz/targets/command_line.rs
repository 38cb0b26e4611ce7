//! A command line.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    kampf::odd_inputs::command_line(&text.split_whitespace().map(str::to_owned).collect::<Vec<_>>());
});
