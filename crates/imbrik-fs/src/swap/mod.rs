//! Linux swap: the header in the area's first page, version 1.
//!
//! The signature is in the last ten bytes of the page, and the page size depends on the machine.

use crate::{
    DerivedVolume, Examined, Least, NewSize, ResizeOptions, ResizedVolume, State, Usage, Volume,
    VolumeKind,
    filesystem::{Filesystem, Resize},
    ids::uuid_text,
};
use imbrik_store::{
    Concatenated, Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    progress::Cancel,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;
use uuid::Uuid;

const SWAP: VolumeKind = VolumeKind::new("swap");

/// Swap areas.
pub(crate) struct Swap;

impl Filesystem for Swap {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[SWAP]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        recognise(store)
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        examine(&**store)
    }

    /// There are no files in it, and nothing that could contradict its header.
    fn check(&self, _store: &Arc<dyn ReadAt>, _cancel: &Cancel) -> Result<()> {
        Ok(())
    }

    fn with_id(
        &self,
        store: &Arc<dyn ReadAt>,
        _kind: VolumeKind,
        id: Uuid,
        _options: ResizeOptions<'_>,
    ) -> Result<DerivedVolume> {
        with_uuid(store, *id.as_bytes()).map(DerivedVolume::from)
    }

    fn resize(&self) -> Option<&dyn Resize> {
        Some(self)
    }

    fn is_scratch(&self) -> bool {
        true
    }
}

impl Resize for Swap {
    fn names(&self) -> &'static [&'static str] {
        &["swap"]
    }

    fn resize(
        &self,
        store: &Arc<dyn ReadAt>,
        _replayed: &[Span],
        size: NewSize,
        _options: ResizeOptions<'_>,
    ) -> Result<ResizedVolume> {
        resize(store, size)
    }

    fn smallest(
        &self,
        _store: &Arc<dyn ReadAt>,
        least: &Least,
        _cancel: &Cancel,
    ) -> Result<ByteLen> {
        Ok(least.size)
    }
}

const PAGES: [usize; 5] = [4096, 8192, 16384, 32768, 65536];
/// `version`, `last_page`, `nr_badpages`, `sws_uuid` and `sws_volume`.
const VERSION: usize = 1024;
const LAST_PAGE: usize = 1028;
const BAD_PAGES: usize = 1032;
const UUID: usize = 1036;
const LABEL: usize = 1052;
/// The minimum useful size of swap space.
const LEAST: ByteLen = ByteLen::mib(1);

/// The page size of an area, and its number of pages.
struct Header {
    page: usize,
    pages: u64,
}

impl Header {
    fn of(head: &[u8]) -> Option<Self> {
        let marked = |page: &&usize| {
            page.checked_sub(10).and_then(|at| bytes::array::<10>(head, at)) == Some(*b"SWAPSPACE2")
        };
        let page = *PAGES.iter().find(marked)?;
        // The signature alone may be left over under something newer, or in the first partition.
        bytes::le_u32(head, VERSION).filter(|version| *version == 1)?;
        let pages = u64::from(bytes::le_u32(head, LAST_PAGE).unwrap_or(0)).checked_add(1)?;
        Some(Self { page, pages })
    }

    fn len(&self) -> ByteLen {
        ByteLen::from_usize(self.page).checked_mul(self.pages).unwrap_or_default()
    }
}

fn head(store: &dyn ReadAt) -> Result<Vec<u8>> {
    let largest_page = PAGES.last().copied().unwrap_or(0);
    read_up_to(store, ByteOffset::ZERO, largest_page)
}

/// The header is all that a swap area holds while the machine is off.
fn examine(store: &dyn ReadAt) -> Result<Examined> {
    let head = head(store)?;
    let usage = Usage::of(vec![Span::whole(ByteLen::of(&head))], Vec::new());
    let least = Header::of(&head).map(|header| Least {
        size: header.len().min(LEAST),
        limit: "less is not worth swapping to",
        is_exact: true,
    });
    Ok(Examined { state: State::Clean, usage, recovered: None, least })
}

/// Names a swap area, whatever the page size of the machine that made it.
fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let head = head(store)?;
    let Some(header) = Header::of(&head) else { return Ok(None) };
    Ok(Some(Volume {
        kind: SWAP,
        label: head.get(LABEL..LABEL.plus(16)?).and_then(bytes::text),
        uuid: bytes::array(&head, UUID).and_then(uuid_text),
        size: header.len(),
    }))
}

/// Resizes the area in `store`: only its header has content.
///
/// # Errors
/// [`imbrik_store::Class::NoRoom`] below the minimum, [`imbrik_store::Class::Unsupported`] with a list of bad pages.
fn resize(store: &Arc<dyn ReadAt>, goal: NewSize) -> Result<ResizedVolume> {
    let head = head(&**store)?;
    let header = Header::of(&head).ok_or_else(|| Error::corrupt("its header is gone"))?;
    if bytes::le_u32(&head, BAD_PAGES).unwrap_or(0) != 0 {
        return Err(Error::unsupported("it has a list of bad pages"));
    }
    let least = header.len().min(LEAST);
    let wanted = match goal {
        NewSize::Bytes(len) => len,
        NewSize::Smallest { room } => least.saturating_add(room),
    };
    let page = ByteLen::from_usize(header.page);
    let most = u64::from(u32::MAX).plus(1)?;
    let pages = wanted.get().over(page.get())?.min(most);
    let len = page.checked_mul(pages).unwrap_or_default();
    if len < least {
        return Err(Error::no_room(format!(
            "{} are missing for a swap",
            least.saturating_sub(len)
        ))
        .with_shortfall(least.saturating_sub(len)));
    }
    let mut pieces = Concatenated::new(store.sector_size());
    let kept = ByteLen::of(&head).min(len);
    pieces.push(store, ByteOffset::ZERO, kept);
    pieces.push_zeros(len.saturating_sub(kept));
    let mut draft = Edited::new(Arc::new(pieces));
    let last = pages.saturating_sub(1).exact_as::<u32>()?;
    draft.put(at(LAST_PAGE), &last.to_le_bytes())?;
    // All that counts as used: a short area's source has less than that.
    let largest = ByteLen::from_usize(PAGES.last().copied().unwrap_or(0));
    let rewritten = vec![Span::whole(largest.min(len))];
    Ok(ResizedVolume {
        volume: DerivedVolume { store: Arc::new(draft), rewritten },
        moved: Vec::new(),
        had_to_move: ByteLen::ZERO,
        copied: ByteLen::ZERO,
        inodes_moved: 0,
        aside: ByteLen::ZERO,
        limit: None,
        warnings: Vec::new(),
        kept_faults: Vec::new(),
    })
}

/// The area in `store` under the UUID `uuid`.
///
/// # Errors
/// When the store cannot be read.
fn with_uuid(store: &Arc<dyn ReadAt>, uuid: [u8; 16]) -> Result<Edited> {
    let mut draft = Edited::new(Arc::clone(store));
    draft.put(at(UUID), &uuid)?;
    Ok(draft)
}

fn at(field: usize) -> ByteOffset {
    ByteOffset::new(ByteLen::from_usize(field).get())
}
