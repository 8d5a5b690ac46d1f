//! See `benches/transfer.rs`.
