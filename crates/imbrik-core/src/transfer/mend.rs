//! Retries unreadable ranges and adds them to an image.

use super::{
    carry::{Before, carry, touches},
    save::of_image,
    saved::{OnUnfinished, Reused, SaveOptions, Saved},
};
use crate::{
    image::{Image, Output, TileDigest, tile_span},
    layout::View,
};
use imbrik_store::{
    Edited, Left, ReadAt, Rescue, Spill,
    error::{Error, Result},
    progress::{Cancel, Event, Step, Watch},
    units::{ByteLen, Span, joined},
};
use std::{
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

/// The unit in which recovered data are kept, in bytes.
const UNIT: u64 = 4096;
/// Bytes of recovered data that are kept in memory.
const MOST_IN_MEMORY: ByteLen = ByteLen::mib(32);

/// The result of retries.
struct Rescued {
    /// The content of the image with the recovered data.
    content: Edited,
    /// The recovered ranges, in order and joined.
    gained: Vec<Span>,
    /// The ranges that are still missing.
    left: Vec<Span>,
    was_cut_short: bool,
}

/// Bytes in tiles with data: the base for the share that is safe.
fn in_data(image: &Image, open: &[Span]) -> Result<ByteLen> {
    let size = image.content().size();
    let digests = image.manifest().map_or(Ok(Vec::new()), |known| known.tiles.digests())?;
    let tiles = (0u64..).zip(digests).filter_map(|(index, digest)| {
        let tile = tile_span(index, size)?;
        (digest != TileDigest::Zero || touches(open, tile)).then_some(tile.len())
    });
    Ok(tiles.sum())
}

/// Tries for `patience` to read the ranges `open` of `source`, and adds the recovered data to the content of `image`;
/// data that don't fit into memory go to `folder`.
fn try_again(
    image: &Image,
    source: &dyn ReadAt,
    open: &[Span],
    patience: Duration,
    folder: Option<&Path>,
    watch: Watch<'_>,
) -> Result<Rescued> {
    let Watch { observer, cancel } = watch;
    let all: ByteLen = open.iter().map(|span| span.len()).sum();
    let units = Spill::new(UNIT, MOST_IN_MEMORY, folder);
    let mut content = Edited::in_units(Arc::clone(image.content()), UNIT, units);
    let mut gained = Vec::new();
    let of = in_data(image, open)?;
    observer.on(&Event::Started { step: Step::TryingAgain, total: all });
    observer.on(&Event::Trying { areas: open.len(), open: all, of });
    let mut rescue = Rescue::new(source, cancel, Instant::now().checked_add(patience));
    let left = rescue.run(
        open,
        &mut |at, bytes| {
            gained.push(Span::between(at, at.plus(ByteLen::of(bytes))?));
            if gained.len() >= 1 << 16 {
                gained = joined(std::mem::take(&mut gained));
            }
            content.put(at, bytes)
        },
        &mut |Left { areas, len }| {
            observer.on(&Event::Trying { areas, open: len, of });
            observer.on(&Event::Advanced { done: all.saturating_sub(len) });
        },
    )?;
    let was_cut_short = rescue.was_cut_short();
    tracing::info!(open = open.len(), left = left.len(), "the missing data was tried");
    observer.on(&Event::Finished);
    for span in &left {
        observer.on(&Event::Unreadable { span: *span });
    }
    Ok(Rescued { content, gained: joined(gained), left, was_cut_short })
}

/// Writes the recovered data into the image `name`, in its place.
fn put_in(
    image: &Image,
    rescued: Rescued,
    name: &Path,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    let known = image.manifest();
    let known =
        known.ok_or_else(|| Error::unsupported("the image does not record what is missing"))?;
    let mut manifest = known.clone();
    manifest.lost = Vec::new();
    let view = View::whole(Arc::new(rescued.content));
    let pipeline = of_image(&view, Step::Mending, watch);
    let before =
        Before { changed: &rescued.gained, unreadable: rescued.left, ..Before::new(image) };
    let unfinished = OnUnfinished::Remove;
    let options = SaveOptions { replace: true, unfinished, ..options.clone() };
    let saved = carry(&pipeline, Some(before), manifest, Output::File(name), &options)?;
    let rescued_len = rescued.gained.iter().map(|span| span.len()).sum();
    Ok(Saved {
        rescued: rescued_len,
        was_cut_short: rescued.was_cut_short,
        reused: Reused::default(),
        copied: ByteLen::ZERO,
        ..saved
    })
}

/// The result of repairing an image.
pub struct Mended {
    /// The new image; `None` if nothing was recovered, and the image is unchanged.
    pub image: Option<Saved>,
    /// The ranges that are still missing.
    pub left: Vec<Span>,
    /// True if retries stopped early, because of the time limit or a request.
    pub was_cut_short: bool,
}

/// Tries for `patience` to read the missing ranges of `image`, with the name `name`, from `source`, the same card or a
/// copy of it, and adds the recovered data. The image is unchanged if nothing was recovered.
///
/// Cancelling is not an error: data that were recovered before are added.
///
/// # Errors
/// When the card is gone, or the new image can't be written: the old one is unchanged then.
pub fn mend(
    image: &Image,
    source: &dyn ReadAt,
    name: &Path,
    patience: Duration,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Mended> {
    let open = image.manifest().map_or(Vec::new(), |known| joined(known.unreadable_spans()));
    let folder = name.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.unwrap_or(Path::new("."));
    let rescued = try_again(image, source, &open, patience, Some(folder), watch)?;
    let (left, was_cut_short) = (rescued.left.clone(), rescued.was_cut_short);
    if rescued.gained.is_empty() {
        return Ok(Mended { image: None, left, was_cut_short });
    }
    watch.observer.on(&Event::StepAdded);
    if options.check {
        watch.observer.on(&Event::StepAdded);
    }
    // Recovered data are not discarded because the user stops waiting.
    let cancel = Cancel::new();
    let saved = put_in(image, rescued, name, options, Watch { cancel: &cancel, ..watch })?;
    Ok(Mended { image: Some(saved), left, was_cut_short })
}

/// The result for the image `name`, saved as `saved`, after its missing ranges of `view` were retried. Errors leave the
/// image as good as before.
pub(super) fn mended(
    saved: Saved,
    view: &View,
    name: &Path,
    patience: Duration,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Saved {
    watch.observer.on(&Event::StepAdded);
    let done = Image::open(name, None)
        .and_then(|image| mend(&image, view, name, patience, options, watch));
    match done {
        Ok(Mended { image: Some(mended), .. }) => Saved { resumed: saved.resumed, ..mended },
        Ok(Mended { was_cut_short, .. }) => Saved { was_cut_short, ..saved },
        Err(error) => Saved { not_mended: Some(error.to_string()), ..saved },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        image::{Manifest, Pack},
        layout::Survey,
        transfer::{OnDamage, save},
    };
    use imbrik_store::{
        SparseStore,
        progress::Unobserved,
        testing::{Faults, Faulty},
        units::{ByteOffset, SectorSize},
    };
    use jiff::Timestamp;
    use std::sync::Mutex;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    /// Records its read requests.
    struct Noted {
        inner: Faulty<SparseStore>,
        asked: Mutex<Vec<Span>>,
    }

    impl ReadAt for Noted {
        fn size(&self) -> ByteLen {
            self.inner.size()
        }

        fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
            let end = at.saturating_add(ByteLen::of(buf));
            self.asked.lock().unwrap().push(Span::between(at, end));
            self.inner.read_at(at, buf)
        }

        fn sector_size(&self) -> SectorSize {
            self.inner.sector_size()
        }
    }

    /// Fails if a long dead region is retried before the rest of the card is safe.
    #[test]
    fn bad_region_is_retried_after_the_rest_is_saved() {
        let dead = span((150 << 20) + 512, 100 << 20);
        let faults = Faults { unreadable: vec![dead], ..Faults::default() };
        let inner = Faulty::new(SparseStore::new(ByteLen::mib(400)), faults);
        let card = Arc::new(Noted { inner, asked: Mutex::default() });
        let survey = Survey::of(&*card).unwrap();
        card.asked.lock().unwrap().clear();
        let view = View::whole(Arc::<Noted>::clone(&card));
        let manifest = Manifest::new(&survey, "a test", Timestamp::UNIX_EPOCH);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x.img.zst");
        let options = SaveOptions {
            pack: Pack::usual(),
            level: 1,
            sums: Vec::new(),
            replace: false,
            check: false,
            in_pieces: false,
            owner: None,
            damage: OnDamage::TryFor(Duration::from_secs(60)),
            unfinished: OnUnfinished::Remove,
        };
        let cancel = Cancel::new();
        let watch = Watch { observer: &Unobserved, cancel: &cancel };
        let saved = save(&view, manifest, Output::File(&path), &options, watch).unwrap();
        assert_eq!(saved.unreadable, [dead]);
        let asked = card.asked.lock().unwrap();
        let is_dead = |asked: &&Span| asked.intersect(dead).is_some();
        // The readable data next to it were read earlier.
        let is_good = |asked: &Span| asked.intersect(dead).is_none();
        let last_good = asked.iter().rposition(is_good).unwrap();
        let before = asked[..last_good].iter().filter(is_dead).count();
        assert!(before < 200, "{before} requests before all else is safe");
        // Each of its sectors was tried in the end.
        let sectors = asked.iter().filter(is_dead).filter(|asked| asked.len().get() == 512);
        assert!(sectors.count() as u64 >= (100 << 20) / 512);
    }
}
