//! Any file as an image: opened, unpacked where that is needed, and read to its end.

#![no_main]

#[path = "../bodies/container.rs"]
mod body;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| body::run(bytes));
