//! A line of the protocol, in both directions.
#![no_main]

use kampf_protocol::{read_reply, read_request};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = (read_reply(text), read_request(text));
});
