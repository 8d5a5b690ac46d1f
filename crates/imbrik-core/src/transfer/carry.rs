//! A view carried into an image: begun or gone on with, encoded, read back, and given its name.

use super::{
    pipeline::{Journey, Sink, Tile, Travelled, run},
    resume,
    saved::{OnUnfinished, ReadBack, SaveOptions, Saved},
    verify::{check_sums, check_tiles},
};
use crate::{
    image::{
        Encoded, Encoding, Image, ImageWriter, Manifest, Output, Pack, TILE, TileData, TileDigest,
        tile_span,
    },
    layout::{Lost, View, lost_in},
};
use imbrik_store::{
    FileStore, ReadAt,
    error::{Class, Error, Result},
    exact::Exact as _,
    progress::{Merged, Step, Watch},
    units::{ByteLen, Span, joined},
};
use std::sync::Arc;

/// Encodes tiles on all cores and appends them in order.
struct ToImage<'a> {
    view: &'a View,
    pack: Pack,
    encoding: Encoding,
    writer: ImageWriter,
    /// The image whose frames are taken over as they are, but for those with something of `changed`.
    reuse: Option<&'a Image>,
    changed: &'a [Span],
    taken_over: u64,
}

impl<'a> Sink for ToImage<'a> {
    type Worker = Box<dyn FnMut(Tile) -> Result<(bool, Encoded)> + Send + 'a>;
    type Piece = (bool, Encoded);

    fn worker(&self) -> Result<Self::Worker> {
        let mut encoder = self.encoding.encoder()?;
        let (reuse, changed) = (self.reuse, self.changed);
        Ok(Box::new(move |tile| {
            let frame = match (&tile.data, reuse) {
                (TileData::Bytes(_), Some(image)) if !touches(changed, tile.span) => {
                    image.frame_of(tile.span)?
                }
                _ => None,
            };
            match frame {
                Some(frame) => Ok((true, Encoded::Packed { frame, content: tile.span.len() })),
                None => Ok((false, encoder.encode(tile.data)?)),
            }
        }))
    }

    fn lost(&mut self, spans: &[Span]) -> Result<()> {
        self.writer.lost(spans)
    }

    fn commit(&mut self, _: Span, (is_taken_over, piece): (bool, Encoded)) -> Result<()> {
        self.taken_over = self.taken_over.plus(u64::from(is_taken_over))?;
        self.writer.append(piece)
    }

    fn weight(&self, span: Span) -> ByteLen {
        weight(self.view, self.pack, span)
    }
}

/// How much work `span` of a view is: what is read of it; of a raw file, every byte is hashed.
pub(super) fn weight(view: &View, pack: Pack, span: Span) -> ByteLen {
    if pack.is_raw() { span.len() } else { view.copied_in(span) }
}

/// Whether `tile` has something of `spans`, which are in order and joined.
pub(super) fn touches(spans: &[Span], tile: Span) -> bool {
    let first = spans.partition_point(|span| span.end() <= tile.start());
    spans.get(first).is_some_and(|span| span.intersect(tile).is_some())
}

/// The image of which another one is made.
pub(super) struct Before<'a> {
    pub(super) image: &'a Image,
    /// Whether frames that fit are taken over as they are.
    pub(super) takes_over: bool,
    /// What is another content now than the image has there, in order and joined.
    pub(super) changed: &'a [Span],
    /// What of the card is not in the new image.
    pub(super) unreadable: Vec<Span>,
}

impl<'a> Before<'a> {
    pub(super) fn new(image: &'a Image) -> Self {
        Self { image, takes_over: true, changed: &[], unreadable: Vec::new() }
    }

    /// The image, when its frames may stand in one of `pack`.
    fn frames(&self, pack: Pack) -> Option<&'a Image> {
        let fits = self.takes_over && self.image.container() == pack.container();
        Some(self.image).filter(|_| fits && !pack.is_raw())
    }

    /// Compares what was read of it, a digest a tile, with the digests that it has.
    fn compare(&self, found: &[TileDigest], size: ByteLen) -> Result<()> {
        let Some(known) = self.image.manifest() else { return Ok(()) };
        let digests = known.tiles.digests()?;
        let differs = (0u64..)
            .zip(digests.iter().zip(found))
            .filter(|(_, (a, b))| a != b)
            .filter_map(|(index, _)| tile_span(index, size))
            .find(|span| !touches(self.changed, *span));
        match differs {
            None => Ok(()),
            Some(span) => Err(Error::mismatch(format!(
                "the image is damaged: {span} of the card do not match their digest"
            ))),
        }
    }
}

/// The image `to` begun, or gone on with: as it is, and what of the card is in it already.
fn begun(
    journey: &Journey<'_>,
    manifest: &Manifest,
    to: Output<'_>,
    options: &SaveOptions,
) -> Result<(ImageWriter, Travelled)> {
    let SaveOptions { pack, sums, replace, owner, unfinished, .. } = options;
    if let (OnUnfinished::Resume, Output::File(name)) = (unfinished, &to) {
        let found = resume::resumed(journey.view, manifest, name, options, journey.watch)?;
        if let Some(resumed) = found {
            return Ok(resumed);
        }
    }
    let mut writer = ImageWriter::create(to, *pack, sums, *replace, *owner)?;
    if *unfinished != OnUnfinished::Remove && pack.can_be_gone_on_with() {
        writer.note(manifest)?;
    }
    Ok((writer, Travelled::default()))
}

pub(super) fn carry(
    journey: &Journey<'_>,
    before: Option<Before<'_>>,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
) -> Result<Saved> {
    let (view, watch) = (journey.view, journey.watch);
    let (writer, done) = begun(journey, &manifest, to, options)?;
    let resumed = ByteLen::from_usize(done.digests.len()).get();
    let resumed = TILE.times(resumed)?.min(view.size());
    let journey = &Journey { done, ..journey.clone() };
    let encoding = Encoding::new(options.pack, options.level, view.size());
    let reuse = before.as_ref().and_then(|before| before.frames(options.pack));
    let changed = before.as_ref().map_or(&[][..], |before| before.changed);
    let mut sink =
        ToImage { view, pack: options.pack, encoding, writer, reuse, changed, taken_over: 0 };
    let travelled = match run(journey, &mut sink) {
        Ok(travelled) => travelled,
        Err(error) => {
            sink.writer.keep();
            return Err(error);
        }
    };
    let mut unreadable = travelled.unreadable.clone();
    let mut to_name = travelled.unreadable.clone();
    if let Some(before) = &before {
        before.compare(&travelled.digests, view.size())?;
        unreadable.extend(&before.unreadable);
        if !before.changed.is_empty() {
            to_name.extend(&before.unreadable);
        }
    }
    let (lost, not_named) = match named(view, &to_name, watch) {
        Err(error) if error.class() == Class::Cancelled => return Err(error),
        Err(error) => (Vec::new(), Some(error.to_string())),
        Ok(lost) => (lost, None),
    };
    let manifest = manifest.with_content(&travelled.digests, unreadable).with_lost(&lost);
    let taken_over = sink.taken_over;
    let written = sink.writer.finish(&manifest)?;
    let mut read_back = ReadBack::Waived;
    if let Some(path) = written.path().filter(|_| options.check) {
        let file = Arc::new(FileStore::open(path)?);
        read_back = match file.drop_cache()? {
            true => ReadBack::Medium,
            false => ReadBack::Memory,
        };
        let image = Image::of_store(path, file, written.side_manifest(), None)?;
        // The tiles of a raw file are all of it, and many cores digest them at once: its hash was made
        // of the very bytes that they were, and would tell nothing more.
        let sums = if image.container().is_raw() { &[][..] } else { &written.sums };
        let file = if sums.is_empty() { ByteLen::ZERO } else { image.file().size() };
        // An image that is hashed and then decoded is still the same bytes of a card.
        let shown = view.size();
        let total = file.plus(shown)?;
        let merged = Merged::start(watch.observer, Step::ReadingImageBack, shown, total);
        let watch = Watch { observer: &merged, cancel: watch.cancel };
        let wrong = |what: &str| {
            Error::mismatch(format!("the image read back differs from what was written: {what}"))
        };
        if !sums.is_empty() && check_sums(&image, sums, watch)?.is_some() {
            return Err(wrong("its checksum is another one"));
        }
        let found = check_tiles(&image, &travelled.digests, watch)?;
        if let Some(first) = found.spans.first() {
            return Err(wrong(&format!("{first} of the card")));
        }
        merged.finish();
    }
    watch.cancel.check()?;
    let zero_tiles = travelled.digests.iter().filter(|digest| **digest == TileDigest::Zero);
    let zeros = ByteLen::from_usize(zero_tiles.count());
    let zeros = TILE.checked_mul(zeros.get()).unwrap_or_default().min(view.size());
    let (image_len, sums) = (written.len, written.sums.clone());
    let not_beside = written.publish()?.map(|error| error.to_string());
    Ok(Saved {
        not_beside,
        image_len,
        sums,
        unreadable: joined(to_name),
        lost,
        not_named,
        rescued: ByteLen::ZERO,
        resumed,
        was_cut_short: false,
        not_mended: None,
        zeros,
        taken_over,
        read_back,
    })
}

/// Whose the bytes of a view are that could not be read.
fn named(view: &View, unreadable: &[Span], watch: Watch<'_>) -> Result<Vec<Lost>> {
    match unreadable {
        [] => Ok(Vec::new()),
        spans => {
            let view: Arc<dyn ReadAt> = Arc::new(view.clone());
            lost_in(&view, &joined(spans.to_vec()), watch.cancel)
        }
    }
}
