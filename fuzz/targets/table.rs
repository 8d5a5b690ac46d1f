//! Any first bytes of a card of any size: its table, and the plan to restore it elsewhere.

#![no_main]

use imbrik_core::{
    layout::{Plan, Survey, Target},
    store::{SparseStore, WriteAt},
    units::{ByteLen, ByteOffset, SectorSize},
};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|input: (u64, u64, bool, &[u8])| {
    let (size, target, at_the_end, bytes) = input;
    let size = (size % (1 << 42)).max(bytes.len() as u64);
    let store = SparseStore::new(ByteLen::new(size));
    let at = if at_the_end { size - bytes.len() as u64 } else { 0 };
    if store.write_at(ByteOffset::new(at), bytes).is_err() {
        return;
    }
    let Ok(survey) = Survey::of(&store) else { return };
    let target = Target { size: ByteLen::new(target % (1 << 42)), sector: SectorSize::B512 };
    let _ = Plan::restore(Arc::new(store), &survey, None, target);
});
