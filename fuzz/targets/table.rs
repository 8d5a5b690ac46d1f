//! Any first or last bytes of a card of any size: its table, and the plans to put it elsewhere.

#![no_main]

#[path = "../bodies/table.rs"]
mod body;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| body::run(bytes));
