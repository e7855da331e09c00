#![no_main]

#[path = "../../crates/nut-cellar-core/tests/support/typed.rs"]
mod typed;

libfuzzer_sys::fuzz_target!(|input: &[u8]| typed::query(input));
