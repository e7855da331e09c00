#![no_main]

#[path = "../../crates/nut-cellar-core/tests/support/forge.rs"]
#[allow(dead_code, reason = "each target uses a part")]
mod forge;

libfuzzer_sys::fuzz_target!(|input: &[u8]| forge::manifest(input));
