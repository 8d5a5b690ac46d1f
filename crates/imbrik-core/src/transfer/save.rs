//! Card to image, and image to image.

use super::{
    mend,
    pipeline::{Journey, Sink, Tile, Travelled, run},
    resume,
    salvage::Damage,
    verify::{check_sums, check_tiles},
};
use crate::{
    image::{
        Encoded, Encoding, Image, ImageWriter, Manifest, Output, Owner, Pack, Sum, SumKind, TILE,
        TileData, TileDigest, sampled, tile_span,
    },
    layout::{Content, Lost, View, lost_in},
};
use imbrik_store::{
    FileStore, ReadAt,
    error::{Class, Error, Result},
    exact::Exact as _,
    progress::{Merged, Step, Watch},
    read_vec,
    units::{ByteLen, Span, joined},
};
use std::{sync::Arc, time::Duration};

/// How a card is to be saved.
#[derive(Clone, Debug)]
pub struct SaveOptions {
    /// The container.
    pub pack: Pack,
    /// The level, among [`Pack::levels`].
    pub level: i32,
    /// The checksum files to put beside the image.
    pub sums: Vec<SumKind>,
    /// Whether an image of that name may be replaced.
    pub replace: bool,
    /// Whether the image is read back and compared before it gets its name.
    pub check: bool,
    /// Who shall own the image.
    pub owner: Option<Owner>,
    /// What is done about places of the card that cannot be read.
    pub damage: OnDamage,
    /// What becomes of an image that a run ends before it is whole.
    pub unfinished: OnUnfinished,
}

/// What becomes of an image of a card that is not whole when a run ends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnUnfinished {
    /// It goes; what an earlier run left makes room.
    #[default]
    Remove,
    /// It stays when it can be gone on with; what an earlier run left makes room.
    Keep,
    /// It stays, and what an earlier run left is gone on with.
    Resume,
}

/// What is done about places of a card that cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnDamage {
    /// The first one ends the work.
    Stop,
    /// They are tried again and again, so long in all; what is left then is zeros, and named. For an
    /// image in a file, that is done once all else is safe in it.
    TryFor(Duration),
}

impl Default for OnDamage {
    /// A quarter of an hour.
    fn default() -> Self {
        Self::TryFor(Duration::from_secs(15 * 60))
    }
}

/// Whether an image was read back before it got its name, and from where.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadBack {
    /// It was not: that was waived, or it went into a pipe.
    Waived,
    /// The system had nothing of it in memory any more, as far as samples tell: its disk was read.
    Medium,
    /// The system had some of it in memory: what is on the disk was not looked at everywhere.
    Memory,
}

/// What was saved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Saved {
    /// Bytes of the image file, holes included.
    pub image_len: ByteLen,
    /// Its checksums.
    pub sums: Vec<Sum>,
    /// Spans of the card that could not be read and are zeros in the image.
    pub unreadable: Vec<Span>,
    /// Whose they were.
    pub lost: Vec<Lost>,
    /// Why nothing tells that, when it could not be found out.
    pub not_named: Option<String>,
    /// How much could be read only when it was tried again, all else being safe.
    pub rescued: ByteLen,
    /// Whether there was no time left, or stopping was requested, before all of that was tried.
    pub was_cut_short: bool,
    /// Why what could be read later is not in the image, or not all was tried.
    pub not_mended: Option<String>,
    /// How much of the card was in the image already, by an earlier run.
    pub resumed: ByteLen,
    /// How much of the card is in tiles that hold nothing but zeros.
    pub zeros: ByteLen,
    /// How many frames of another image were taken over as they are.
    pub taken_over: u64,
    /// Whether it was read back.
    pub read_back: ReadBack,
}

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

/// Saves `view` as the image `to`, which gets its name only when it is complete and, unless that
/// was waived, proved.
///
/// Spans that cannot be read are zeros in the image, and named in it. First the image is made of all
/// that reads well; what does not is tried then, and put into it.
///
/// # Errors
/// As for reading the card and writing the image; no file of the name `to` is left behind then.
/// [`crate::Class::Mismatch`] when what is read back differs from what was written. Once all that
/// reads well is in the image, nothing that comes afterwards is an error: see [`Saved::not_mended`].
pub fn save(
    view: &View,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    let name = match &to {
        Output::File(name) => Some(name.to_path_buf()),
        Output::Pipe(_) => None,
    };
    let damage = match (options.damage, &name) {
        (OnDamage::Stop, _) => Damage::Stop,
        (OnDamage::TryFor(_), Some(_)) => Damage::Later,
        (OnDamage::TryFor(patience), None) => Damage::Now(patience),
    };
    let journey =
        Journey { damage, in_turn: true, ..of_view(view, options.pack, Step::Saving, watch) };
    let saved = carry(&journey, None, manifest, to, options)?;
    match (options.damage, name) {
        (OnDamage::TryFor(patience), Some(name)) if !saved.unreadable.is_empty() => {
            Ok(mend::mended(saved, view, &name, patience, options, watch))
        }
        _ => Ok(saved),
    }
}

/// How much work `span` of a view is: what is read of it; of a raw file, every byte is hashed.
fn weight(view: &View, pack: Pack, span: Span) -> ByteLen {
    if pack.is_raw() { span.len() } else { view.copied_in(span) }
}

/// What is read of a view, in whatever order and to the first fault.
fn of_view<'a>(view: &'a View, pack: Pack, step: Step, watch: Watch<'a>) -> Journey<'a> {
    let total = weight(view, pack, Span::whole(view.size()));
    Journey {
        view,
        step,
        total,
        damage: Damage::Stop,
        in_turn: false,
        done: Travelled::default(),
        watch,
    }
}

/// As [`save`], with a view of an image instead of a card: what cannot be read ends the journey.
///
/// # Errors
/// As [`save`]; [`crate::Class::Mismatch`] when the image is damaged where it is read.
pub fn fit(
    view: &View,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    carry(&of_view(view, options.pack, Step::Fitting, watch), None, manifest, to, options)
}

/// Makes the image `to` of `image`, which has the same content in another container. Frames that
/// fit into it are taken over as they are when `takes_over` is set; in any case every tile is
/// decoded, and compared with the digest that the image has of it.
///
/// # Errors
/// As [`save`]; [`crate::Class::Mismatch`] when the image is damaged.
pub fn repack(
    image: &Image,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    takes_over: bool,
    watch: Watch<'_>,
) -> Result<Saved> {
    let view = View::whole(Arc::clone(image.content()));
    let before = Before {
        takes_over,
        unreadable: image.manifest().map_or(Vec::new(), Manifest::unreadable_spans),
        ..Before::new(image)
    };
    let journey = Journey {
        view: &view,
        step: Step::Repacking,
        total: view.size(),
        damage: Damage::Stop,
        in_turn: false,
        done: Travelled::default(),
        watch,
    };
    carry(&journey, Some(before), manifest, to, options)
}

/// Whether `tile` has something of `spans`, which are in order and joined.
fn touches(spans: &[Span], tile: Span) -> bool {
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
        // The hash of a raw file is that of its content: a second look would tell nothing more.
        let is_told = image.container().is_raw() && !written.sums.is_empty();
        let content = if is_told { ByteLen::ZERO } else { view.size() };
        let total = image.file().size().plus(content)?;
        // An image that is hashed and then decoded is still the same bytes of a card.
        let shown = view.size();
        let merged = Merged::start(watch.observer, Step::ReadingImageBack, shown, total);
        let watch = Watch { observer: &merged, cancel: watch.cancel };
        let wrong = |what: &str| {
            Error::mismatch(format!("the image read back differs from what was written: {what}"))
        };
        if check_sums(&image, &written.sums, watch)?.is_some() {
            return Err(wrong("its checksum is another one"));
        }
        if !is_told {
            let found = check_tiles(&image, &travelled.digests, watch)?;
            if let Some(first) = found.spans.first() {
                return Err(wrong(&format!("{first} of the card")));
            }
        }
        merged.finish();
    }
    watch.cancel.check()?;
    let zero_tiles = travelled.digests.iter().filter(|digest| **digest == TileDigest::Zero);
    let zeros = ByteLen::from_usize(zero_tiles.count());
    let zeros = TILE.checked_mul(zeros.get()).unwrap_or_default().min(view.size());
    let (image_len, sums) = (written.len, written.sums.clone());
    written.publish()?;
    Ok(Saved {
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

/// How many samples are taken of a card, and how long each is.
const SAMPLES: u64 = 48;
const SAMPLE: usize = 128 << 10;

/// A sample that packs to more of its size than this has nothing in it that repeats itself.
const DENSE: f64 = 0.5;

/// What part of what is in use an image will take, judged by a few samples of it: 0 for nothing, 1
/// for all of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sampled {
    /// How much is in use.
    pub used: ByteLen,
    /// Less than that it will not be, unless the content repeats itself in pieces that are longer
    /// than a sample and shorter than a tile.
    pub low: f64,
    /// The likely part.
    pub likely: f64,
}

/// Samples what `view` has in use.
///
/// # Errors
/// When a sample cannot be packed, or the view cannot be asked for its holes.
pub fn sample(view: &View, pack: Pack, level: i32) -> Result<Sampled> {
    let whole = Span::whole(view.size());
    let is_used =
        |content: &Content| matches!(content, Content::Copied { .. } | Content::Rewritten { .. });
    let used: Vec<Span> = view
        .segments_in(whole)
        .filter(|segment| is_used(&segment.content))
        .map(|segment| segment.span)
        .collect();
    let total: u64 = used.iter().map(|span| span.len().get()).sum();
    let step = total.over(SAMPLES)?.max(1);
    let mut next = step / 2;
    let mut before = 0u64;
    let mut ratios = Vec::new();
    for span in used {
        let end = before.plus(span.len().get())?;
        while next < end {
            let ahead = next.saturating_sub(before);
            let at = span.start().plus(ByteLen::new(ahead.saturating_sub(ahead % 4096)))?;
            let len = Span::between(at, span.end()).len().to_usize().unwrap_or(SAMPLE).min(SAMPLE);
            next = next.plus(step)?;
            let sample_end = at.plus(ByteLen::from_usize(len))?;
            if view.next_data(at)?.is_none_or(|data| data.start() >= sample_end) {
                // A hole is not read to learn that it packs to nothing.
                ratios.push(0.0);
                continue;
            }
            // A sample that cannot be read says nothing about the rest.
            let Ok(bytes) = read_vec(view, at, len) else { continue };
            let packed = sampled(pack, level, &bytes)?;
            if let (Ok(packed), Ok(len)) = (u32::try_from(packed), u32::try_from(len.max(1))) {
                ratios.push(f64::from(packed) / f64::from(len));
            }
        }
        before = end;
    }
    let (likely, _) = mean_and_error(&ratios);
    // What packs well packs better still in whole tiles: for the low estimate it counts as nothing, and
    // what is left as half of it. Of a raw file, half of a sample may be a hole.
    let dense: Vec<f64> =
        ratios.iter().map(|ratio| if *ratio > DENSE { *ratio } else { 0.0 }).collect();
    let (mean, error) = mean_and_error(&dense);
    let low = (mean - 3.0 * error) / 2.0;
    Ok(Sampled { used: ByteLen::new(total), low: low.max(0.0), likely })
}

/// The mean, and by how much it is likely to be off.
fn mean_and_error(ratios: &[f64]) -> (f64, f64) {
    let count = f64::from(u32::try_from(ratios.len().max(1)).unwrap_or(u32::MAX));
    let mean = ratios.iter().sum::<f64>() / count;
    let variance = ratios.iter().map(|ratio| (ratio - mean).powi(2)).sum::<f64>() / count;
    (mean, (variance / count).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::Survey;
    use imbrik_store::{
        SparseStore,
        progress::{Cancel, Unobserved},
    };
    use jiff::Timestamp;
    use proptest::prelude::*;

    fn noise(len: usize, seed: u64) -> Vec<u8> {
        let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
        let mut next = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.to_le_bytes()
        };
        std::iter::repeat_with(&mut next).flatten().take(len).collect()
    }

    /// Content as cards have it: sound, text, records that repeat, and zeros.
    fn content() -> impl Strategy<Value = Vec<u8>> {
        let piece = (0u8..4, 1usize..40, any::<u64>()).prop_map(|(kind, len, seed)| {
            let len = len * 65_536;
            match kind {
                0 => noise(len, seed),
                1 => vec![0; len],
                2 => noise(700, seed).into_iter().cycle().take(len).collect(),
                _ => noise(len, seed).into_iter().map(|byte| b'a' + byte % 23).collect(),
            }
        });
        proptest::collection::vec(piece, 1..8).prop_map(|pieces| pieces.concat())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]

        /// The low estimate refuses a save before it begins: would fail where an image is shorter.
        #[test]
        fn no_image_is_shorter_than_the_low_estimate(bytes in content(), pack in 0usize..4) {
            let pack = Pack::all().nth(pack).unwrap();
            let level = pack.levels().map_or(0, |levels| *levels.start()).max(1);
            let view = View::whole(Arc::new(SparseStore::of(&bytes)));
            let sampled = sample(&view, pack, level).unwrap();
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("x.img");
            let survey = Survey::of(&view).unwrap();
            let manifest = Manifest::new(&survey, "a test", Timestamp::UNIX_EPOCH);
            let options = SaveOptions {
                pack, level, sums: Vec::new(), replace: false, check: false, owner: None,
                damage: OnDamage::Stop, unfinished: OnUnfinished::Remove,
            };
            let cancel = Cancel::new();
            let watch = Watch { observer: &Unobserved, cancel: &cancel };
            save(&view, manifest, Output::File(&path), &options, watch).unwrap();
            let meta = std::fs::metadata(&path).unwrap();
            let taken = std::os::unix::fs::MetadataExt::blocks(&meta) * 512;
            let taken = if pack.is_raw() { taken } else { meta.len() };
            let low = sampled.used.get() as f64 * sampled.low;
            prop_assert!(low <= taken as f64, "{low} of {taken} as {pack:?}");
        }
    }
}
