//! A schema file.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = kampf_schema::ddl::read(text);
});
