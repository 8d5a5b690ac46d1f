//! Any bytes as what stands beside an image: its manifest, its checksum file, a pasted hash.

#![no_main]

#[path = "../bodies/beside.rs"]
mod body;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| body::run(bytes));
