//! Any first or last bytes of a card of any size: its table, and the plans to put it elsewhere.

#![no_main]

use imbrik_core::{
    fs::ReshapeOptions,
    layout::{Fit, Identity, Occupancy, Plan, Survey, TargetSize},
    progress::Cancel,
    store::{ReadAt, SparseStore, WriteAt},
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
    let target = TargetSize { size: ByteLen::new(target % (1 << 42)), sector: SectorSize::B512 };
    let store: Arc<dyn ReadAt> = Arc::new(store);
    if let Ok(plan) = Plan::restore(Arc::clone(&store), &survey, None, target) {
        let ids = Identity { ids: true, ..Identity::default() };
        let _ = plan.with_identity(&ids, ReshapeOptions::in_memory(&Cancel::new()));
    }
    let Ok(occupancy) = Occupancy::of(&store, &survey) else { return };
    let give_to = survey.last_reshapable();
    let fit = Fit::Card { size: target.size, take_from: Vec::new(), give_to };
    let _ = Plan::fit(store, &survey, &occupancy, &fit, ReshapeOptions::in_memory(&Cancel::new()));
});
