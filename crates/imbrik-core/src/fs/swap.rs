//! Linux swap: the header in the area's first page, version 1.
//!
//! The mark stands in the last ten bytes of the page, and pages differ between machines.

use super::{Usage, Volume, VolumeKind, uuid_text};
use crate::{
    bytes,
    error::Result,
    store::{ReadAt, read_up_to},
    units::{ByteLen, ByteOffset, Span},
};

/// The header is all that a swap area holds while the machine is off.
pub(super) fn usage(store: &dyn ReadAt) -> Result<Usage> {
    let largest_page = PAGES.last().copied().unwrap_or(0);
    let header = Span::whole(ByteLen::from_usize(largest_page).min(store.size()));
    Ok(Usage::of(vec![header], Vec::new()))
}

const PAGES: [usize; 5] = [4096, 8192, 16384, 32768, 65536];

/// Names a swap area, whatever the page size of the machine that made it.
pub(super) fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let head = read_up_to(store, ByteOffset::ZERO, 65536)?;
    let marked = |page: &&usize| {
        page.checked_sub(10).and_then(|at| bytes::array::<10>(&head, at)) == Some(*b"SWAPSPACE2")
    };
    let Some(page) = PAGES.iter().find(marked) else { return Ok(None) };
    let pages = u64::from(bytes::le_u32(&head, 1028).unwrap_or(0)).saturating_add(1);
    Ok(Some(Volume {
        kind: VolumeKind::Swap,
        label: head.get(1052..1068).and_then(bytes::text),
        uuid: bytes::array(&head, 1036).and_then(uuid_text),
        size: ByteLen::from_usize(*page).checked_mul(pages).unwrap_or_default(),
    }))
}
