//! Any bytes as a card or a bare volume: what is on it, what is in use, what refers to what, and
//! the view of it.

#![no_main]

use imbrik_core::{
    layout::{Occupancy, Plan, Survey, references},
    store::{ReadAt, SparseStore, read_vec},
    units::ByteOffset,
};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|bytes: &[u8]| {
    let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(bytes));
    let Ok(survey) = Survey::of(&*store) else { return };
    let _ = references(&*store, &survey);
    let Ok(occupancy) = Occupancy::of(&store, &survey) else { return };
    let view = Plan::save(store, &occupancy).expect("a plan without holes").view;
    read_vec(&view, ByteOffset::ZERO, bytes.len()).expect("a view that can be read");
});
