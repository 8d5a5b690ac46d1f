//! See `benches/journey.rs`.
