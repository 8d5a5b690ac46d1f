//! Any bytes as a volume: the tree of its files, with all that is known of each, and the content.

#![no_main]

#[path = "../bodies/files.rs"]
mod body;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| body::run(bytes));
