//! Any first or last bytes of a card of any size: its table, and the plans to put it elsewhere.

use imbrik_core::{
    fs::ResizeOptions,
    layout::{Fit, Identity, Occupancy, Plan, Survey, TargetSize},
    progress::Cancel,
    store::{ReadAt, SparseStore, WriteAt},
    units::{ByteLen, ByteOffset, SectorSize},
};
use std::sync::Arc;

pub(crate) fn run(input: &[u8]) {
    // The card's size, the target's, whether the bytes are its last ones, and these.
    let Some((size, rest)) = input.split_first_chunk() else { return };
    let Some((target, rest)) = rest.split_first_chunk() else { return };
    let Some((at_the_end, bytes)) = rest.split_first() else { return };
    let (size, target) = (u64::from_le_bytes(*size), u64::from_le_bytes(*target));
    let at_the_end = at_the_end & 1 == 1;
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
        let _ = plan.with_identity(&ids, ResizeOptions::in_memory(&Cancel::new()));
    }
    let Ok(occupancy) = Occupancy::of(&store, &survey) else { return };
    let give_to = survey.last_resizable();
    let fit = Fit::Card { size: target.size, take_from: Vec::new(), give_to };
    let _ = Plan::fit(store, &survey, &occupancy, &fit, ResizeOptions::in_memory(&Cancel::new()));
}
