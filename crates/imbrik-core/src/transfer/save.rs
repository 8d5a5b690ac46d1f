//! Card to image, and image to image.

use super::{
    carry::{Before, Copies, carry, weight},
    mend,
    pipeline::{Pipeline, Transferred},
    reuse::Reuse,
    salvage::Damage,
    saved::{OnDamage, SaveOptions, Saved},
};
use crate::{
    image::{Image, Manifest, Output, Pack, sampled},
    layout::{Content, View},
};
use imbrik_store::{
    ReadAt,
    error::Result,
    exact::Exact as _,
    progress::{Step, Watch},
    read_vec,
    units::{ByteLen, Span, without},
};
use std::{
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

/// Saves `view` as the image `to`, which gets its name only when it is complete and, unless that was waived, verified.
///
/// Unreadable ranges are zeros in the image, and listed in it. First the image is written with everything that is easy
/// to read; then the rest is retried and added.
///
/// # Errors
/// Those of reading the card and writing the image; no file `to` exists then. [`crate::Class::Mismatch`] when the
/// read-back differs from the written data. Once everything readable is in the image, later failures are not errors:
/// see [`Saved::not_mended`].
pub fn save(
    view: &View,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    saved(view, None, manifest, to, options, watch)
}

/// As [`save`], but data of an earlier image of the same card are reused, as `reuse` found them: tiles in
/// [`Reuse::same`] without reading them, and frames of all others with the same content.
///
/// # Errors
/// As [`save`].
pub fn save_again(
    view: &View,
    reuse: &Reuse,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    let changed = without(&[Span::whole(view.size())], &reuse.same);
    let content = &reuse.earlier;
    let copies = Copies::new(&reuse.image, &to, Copies::Verified(&reuse.damaged));
    let before = Before {
        content,
        changed: &changed,
        reads_all: false,
        trusted: &reuse.trusted,
        copies,
        ..Before::new(&reuse.image)
    };
    let mut saved = saved(view, Some(before), manifest, to, options, watch)?;
    saved.reused.damaged = reuse.damaged.list();
    Ok(saved)
}

fn saved(
    view: &View,
    before: Option<Before<'_>>,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    let name = to.path().map(Path::to_path_buf);
    let damage = match (options.damage, &name) {
        (OnDamage::Stop, _) => Damage::Stop,
        (OnDamage::TryFor(_), Some(_)) => Damage::Later,
        (OnDamage::TryFor(patience), None) => Damage::Now(patience),
    };
    // Data from an image are decoded on all cores; the remaining reads of the card are scattered anyway.
    let in_turn = before.is_none();
    let pipeline = Pipeline { damage, in_turn, ..of_view(view, options.pack, Step::Saving, watch) };
    let saved = carry(&pipeline, before, manifest, to, options)?;
    match (options.damage, name) {
        (OnDamage::TryFor(patience), Some(name)) if !saved.unreadable.is_empty() => {
            Ok(mend::mended(saved, view, &name, patience, options, watch))
        }
        _ => Ok(saved),
    }
}

/// Reading a view in any order, up to the first error.
fn of_view<'a>(view: &'a View, pack: Pack, step: Step, watch: Watch<'a>) -> Pipeline<'a> {
    let total = weight(view, pack, Span::whole(view.size()));
    Pipeline {
        view,
        step,
        total,
        damage: Damage::Stop,
        in_turn: false,
        in_pieces: false,
        done: Transferred::default(),
        is_intact: None,
        watch,
    }
}

/// As [`save`], with a view of an image instead of a card: what cannot be read ends the transfer.
///
/// # Errors
/// As [`save`]; [`crate::Class::Mismatch`] when the needed part of the image is damaged.
pub fn fit(
    view: &View,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    carry(&of_view(view, options.pack, Step::MinimumSizes, watch), None, manifest, to, options)
}

/// Creates the image `to` from `image`, with the same content in another container. With `takes_over`, suitable frames
/// are copied unchanged; in any case every tile is decoded, and compared with its digest in the image.
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
    let unreadable = image.manifest().map_or(Vec::new(), Manifest::unreadable_spans);
    let before = Before { takes_over, unreadable, ..Before::new(image) };
    carry(&of_image(&view, Step::Repacking, watch), Some(before), manifest, to, options)
}

/// Creates the image `to` from `image` with the content of `view`, which differs in `changed`, in order and joined. All
/// other tiles are copied without reading them, if the container is that of `options`: they are as intact as in the
/// image.
///
/// # Errors
/// Those of [`repack`], for the data that are read.
pub fn edited(
    image: &Image,
    view: &View,
    changed: &[Span],
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Saved> {
    let unreadable = image.manifest().map_or(Vec::new(), Manifest::unreadable_spans);
    let trusted = &[Span::whole(image.content().size())];
    let copies = Copies::new(image, &to, Copies::Strict);
    let before =
        Before { changed, unreadable, reads_all: false, trusted, copies, ..Before::new(image) };
    carry(&of_image(view, Step::Editing, watch), Some(before), manifest, to, options)
}

/// The transfer of a view of an image, all of which is decoded.
pub(super) fn of_image<'a>(view: &'a View, step: Step, watch: Watch<'a>) -> Pipeline<'a> {
    Pipeline {
        view,
        step,
        total: view.size(),
        damage: Damage::Stop,
        in_turn: false,
        in_pieces: false,
        done: Transferred::default(),
        is_intact: None,
        watch,
    }
}

/// The number of samples of a card, and the length of each.
const SAMPLES: u64 = 48;
const SAMPLE: usize = 128 << 10;

/// A sample whose compressed size is a larger fraction than this is incompressible.
const DENSE: f64 = 0.5;

/// The size of an image relative to its used space, estimated from a few samples: 0 for nothing, 1 for all of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sampled {
    /// How much is in use.
    pub used: ByteLen,
    /// Less than that it will not be, unless the content repeats itself in pieces that are longer
    /// than a sample and shorter than a tile.
    pub low: f64,
    /// The most likely fraction.
    pub likely: f64,
    /// The time in which one thread would compress all of it, judged by the samples.
    pub packing: Duration,
}

/// Samples the used space of `view`.
///
/// # Errors
/// When a sample cannot be compressed, or the holes of the view cannot be queried.
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
    let mut packing = Duration::ZERO;
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
            // An unreadable sample is ignored.
            let Ok(bytes) = read_vec(view, at, len) else { continue };
            let started = Instant::now();
            let packed = sampled(pack, level, &bytes)?;
            packing = packing.saturating_add(started.elapsed());
            if let (Ok(packed), Ok(len)) = (u32::try_from(packed), u32::try_from(len.max(1))) {
                ratios.push(f64::from(packed) / f64::from(len));
            }
        }
        before = end;
    }
    let (likely, _) = mean_and_error(&ratios);
    // Compressible data are smaller still in whole tiles: the low estimate counts them as nothing, and the rest as
    // half. Of a raw file, half of a sample may be a hole.
    let dense: Vec<f64> =
        ratios.iter().map(|ratio| if *ratio > DENSE { *ratio } else { 0.0 }).collect();
    let (mean, error) = mean_and_error(&dense);
    let low = (mean - 3.0 * error) / 2.0;
    // Each sample stands for as many bytes as the others, holes included.
    let count = u64::try_from(ratios.len()).unwrap_or(u64::MAX);
    let sampled = ByteLen::from_usize(SAMPLE).checked_mul(count).unwrap_or_default();
    let nanoseconds = packing.as_nanos().saturating_mul(u128::from(total));
    let nanoseconds = nanoseconds.checked_div(u128::from(sampled.get())).unwrap_or(0);
    let packing = Duration::from_nanos(u64::try_from(nanoseconds).unwrap_or(u64::MAX));
    Ok(Sampled { used: ByteLen::new(total), low: low.max(0.0), likely, packing })
}

/// The mean, and its standard error.
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
    use crate::transfer::OnUnfinished;
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

        /// The low estimate can refuse a save before it begins: fails if an image is shorter.
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
                pack, level, sums: Vec::new(), replace: false, check: false, in_pieces: false, owner: None,
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
