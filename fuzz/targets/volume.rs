//! Any bytes as a card or a bare volume: what is on it, what is in use, what refers to what, the
//! view of it, the view of it at other sizes, and with an identity of its own.

#![no_main]

#[path = "../bodies/volume.rs"]
mod body;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| body::run(bytes));
