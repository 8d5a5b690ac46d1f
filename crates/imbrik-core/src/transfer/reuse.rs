//! Detection of data that an earlier image of a card contains, so that they are not read again.

use super::{damaged::DamagedSpans, snapshot::Snapshot};
use crate::{
    image::{Image, Proved},
    layout::{Content, Occupancy, Part, Survey},
};
use imbrik_fs::Unchanged;
use imbrik_store::{
    Cached, Keep, ReadAt, Recorded,
    error::{Class, Error, Result},
    for_pieces,
    progress::Cancel,
    units::{ByteLen, ByteOffset, SectorSize, Span, common, joined, without},
};
use std::sync::Arc;

/// Bytes of decoded metadata of an image that are cached.
const MOST_KEPT: ByteLen = ByteLen::mib(48);
/// Bytes that are read of both and compared, besides metadata.
const MOST_COMPARED: ByteLen = ByteLen::mib(64);

/// A card and an earlier image of it.
pub struct Reuse {
    /// The earlier image.
    pub image: Arc<Image>,
    /// Reads like the card: [`Reuse::known`] ranges are read from the image, if that is intact.
    pub source: Arc<dyn ReadAt>,
    /// The content of the image; each tile is compared with its digest.
    pub(super) earlier: Arc<dyn ReadAt>,
    /// Content of the card that is unchanged according to metadata, in order and joined.
    pub known: Vec<Span>,
    /// Ranges in which an image of used space has the same bytes as the earlier one: known ranges, and those that are
    /// free in both. In order and joined. To be cleared for an image with another layout.
    pub same: Vec<Span>,
    /// Ranges of the image that are as intact as in the image before it, and need not be read back when they are reused
    /// unread. In order and joined.
    pub trusted: Vec<Span>,
    /// Ranges that were found damaged in the image: they are read from the card.
    pub(super) damaged: Arc<DamagedSpans>,
    /// Further bytes that were read of both and are equal.
    pub compared: ByteLen,
    /// Count of files that are unchanged.
    pub files: u64,
    /// Why partitions are read in full, one sentence each.
    pub read_in_full: Vec<String>,
    /// Partitions whose files were compared only by name, size, time and position: a file that was rewritten in place
    /// with its old time is not noticed.
    pub by_names: Vec<String>,
}

impl Reuse {
    /// Compares `card`, with its survey and occupancy, with `image`, an earlier image of it. Reads metadata of both,
    /// and short ranges of unknown state.
    ///
    /// # Errors
    /// - When the card cannot be read, or stopping was requested.
    /// - [`Class::Unsupported`] when the image has no digests.
    pub fn of(
        image: Arc<Image>,
        card: &Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: &Occupancy,
        cancel: &Cancel,
    ) -> Result<Self> {
        let mut this = Self::nothing(image, card)?;
        let proved = Arc::clone(&this.earlier);
        let earlier = match Survey::of(&*proved) {
            Err(error) if is_of_the_image(&error) => {
                this.read_in_full.push(format!("the card is read in full: {error}"));
                return Ok(this);
            }
            earlier => earlier?,
        };
        let mut known = Vec::new();
        for part in &survey.parts {
            let Some(before) = counterpart(part, &earlier) else { continue };
            let title = part.full_title();
            match unchanged(part, card, before, &proved, cancel) {
                Err(error) if is_of_the_image(&error) => {
                    this.read_in_full.push(format!("{title} is read in full: {error}"));
                }
                Err(error) => return Err(error),
                Ok(Unchanged { why_not: Some(why), .. }) => {
                    this.read_in_full.push(format!("{title} is read in full: {why}"));
                }
                Ok(Unchanged { spans, files, by_names, .. }) => {
                    this.by_names.extend(by_names.then_some(title));
                    this.files = this.files.saturating_add(files);
                    known.extend(part.on_card(spans));
                }
            }
        }
        let before = Occupancy::of(&proved, &earlier).ok();
        this.judge(card, &joined(known), occupancy, before.as_ref(), cancel)?;
        Ok(this)
    }

    /// The same for a card in use at the snapshot `snapshot`, and `image`, which was saved after the snapshot `before`,
    /// and of which `trusted` was reused from an earlier image. Nothing more is read from the card.
    ///
    /// # Errors
    /// As [`Reuse::of`].
    pub fn at(
        image: Arc<Image>,
        snapshot: &Snapshot,
        before: &Snapshot,
        trusted: Vec<Span>,
        cancel: &Cancel,
    ) -> Result<Self> {
        let card: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&snapshot.store);
        let mut this = Self::nothing(image, &card)?;
        let before = Some(&before.occupancy);
        this.judge(&card, &snapshot.known, &snapshot.occupancy, before, cancel)?;
        Ok(Self { trusted, ..this })
    }

    /// Determines the ranges that need not be read, and those that are equal in both, from the content that is `known`
    /// to be unchanged, and the space that was used `before`.
    fn judge(
        &mut self,
        card: &Arc<dyn ReadAt>,
        known: &[Span],
        occupancy: &Occupancy,
        before: Option<&Occupancy>,
        cancel: &Cancel,
    ) -> Result<()> {
        let proved = Arc::clone(&self.earlier);
        let end = proved.size().min(card.size());
        let (now, end) = (Use::of(occupancy), Span::whole(end));
        let manifest = self.image.manifest().ok_or_else(no_digests)?;
        // The image doesn't contain ranges that were unreadable when it was saved.
        let had = without(&[end], &joined(manifest.unreadable_spans()));
        let judged = common(known, &had);
        let both = Both { card, image: &proved, damaged: &self.damaged };
        let known = both.with_the_same(&judged, &common(&now.copied, &had), cancel)?;
        self.compared = without(&known, &judged).iter().map(|span| span.len()).sum();
        self.same = common(&known, &now.copied);
        if let Some(before) = before.filter(|_| !manifest.exact) {
            let mut before = Use::of(before);
            if !manifest.holes_are_zeros {
                before.used = joined([before.used, before.holes].concat());
            }
            self.same.extend(without(&without(&[end], &now.used), &before.used));
            self.same = joined(std::mem::take(&mut self.same));
        }
        // Free space need not be read from the card either.
        let mut from_image = known.clone();
        from_image.extend(common(&now.holes, &[end]));
        let from_image = joined(from_image);
        let (image, card) = (proved, Arc::clone(card));
        let damaged = Arc::clone(&self.damaged);
        self.source = Arc::new(Preferring { image, card, known: from_image, damaged });
        self.known = judged;
        Ok(())
    }

    /// The same without relying on metadata: all of the card is read.
    ///
    /// # Errors
    /// [`Class::Unsupported`] when the image has no digests.
    pub fn nothing(image: Arc<Image>, card: &Arc<dyn ReadAt>) -> Result<Self> {
        let earlier = Proved::of(&image)?.ok_or_else(no_digests)?;
        let earlier: Arc<dyn ReadAt> = Arc::new(Cached::new(earlier, MOST_KEPT, Keep::First));
        let source = Arc::clone(card);
        Ok(Self {
            trusted: vec![Span::whole(image.content().size())],
            image,
            source,
            earlier,
            known: Vec::new(),
            same: Vec::new(),
            damaged: Arc::default(),
            compared: ByteLen::ZERO,
            files: 0,
            read_in_full: Vec::new(),
            by_names: Vec::new(),
        })
    }
}

/// A card and an earlier image of it.
struct Both<'a> {
    card: &'a Arc<dyn ReadAt>,
    image: &'a Arc<dyn ReadAt>,
    damaged: &'a DamagedSpans,
}

impl Both<'_> {
    /// Adds to `known` the ranges of the rest of `copied` that are equal in both. Compares nothing if the rest is long:
    /// most of it are metadata that were read anyway.
    fn with_the_same(&self, known: &[Span], copied: &[Span], cancel: &Cancel) -> Result<Vec<Span>> {
        let rest = without(copied, known);
        if rest.iter().map(|span| span.len()).sum::<ByteLen>() > MOST_COMPARED {
            return Ok(known.to_vec());
        }
        let mut all = known.to_vec();
        let mut buffers = [const { Vec::new() }; 2];
        for span in rest {
            cancel.check()?;
            for_pieces(span, ByteLen::kib(64), |piece| {
                let [is, was] = &mut buffers;
                for buffer in [&mut *is, &mut *was] {
                    buffer.resize(piece.len().to_usize().unwrap_or(0), 0);
                }
                let image = self.image.read_at(piece.start(), was);
                if image.as_ref().is_err_and(is_of_the_image) {
                    self.damaged.add(piece);
                }
                // Unreadable ranges of the card are retried when it is copied.
                let is_read = image.is_ok() && self.card.read_at(piece.start(), is).is_ok();
                if is_read && is == was {
                    all.push(piece);
                }
                Ok(())
            })?;
        }
        Ok(joined(all))
    }
}

fn no_digests() -> Error {
    Error::unsupported("the image has no digests of its content")
}

/// Returns whether the image is damaged, rather than the card.
fn is_of_the_image(error: &Error) -> bool {
    matches!(error.class(), Class::Corrupt | Class::Unsupported | Class::Mismatch)
}

/// The partition of the earlier card with the same start as `part` and the same volume.
fn counterpart<'a>(part: &Part, earlier: &'a Survey) -> Option<&'a Part> {
    let id = part.volume.as_ref()?;
    earlier.parts.iter().find(|before| {
        let same = before.volume.as_ref().is_some_and(|volume| {
            volume.kind == id.kind && volume.uuid == id.uuid && volume.uuid.is_some()
        });
        same && before.span.start() == part.span.start()
    })
}

fn unchanged(
    part: &Part,
    card: &Arc<dyn ReadAt>,
    before: &Part,
    image: &Arc<dyn ReadAt>,
    cancel: &Cancel,
) -> Result<Unchanged> {
    match (part.open(card)?, before.open(image)?) {
        (Some(now), Some(then)) => now.unchanged_since(&then, cancel),
        _ => Ok(Unchanged::unknown("it holds no volume that is known")),
    }
}

/// The used space of a card, to the byte.
struct Use {
    /// Ranges that are copied.
    copied: Vec<Span>,
    /// These, and rewritten ones: all that can be other than zeros in an image.
    used: Vec<Span>,
    holes: Vec<Span>,
}

impl Use {
    fn of(occupancy: &Occupancy) -> Self {
        let all = |is_wanted: fn(&Content) -> bool| {
            let segments = occupancy.segments.iter();
            let wanted = segments.filter(|one| is_wanted(&one.content)).map(|one| one.span);
            without(&joined(wanted.collect()), &occupancy.holes)
        };
        Self {
            copied: all(|content| matches!(content, Content::Copied { .. })),
            used: all(|content| {
                matches!(content, Content::Copied { .. } | Content::Rewritten { .. })
            }),
            holes: occupancy.holes.clone(),
        }
    }
}

impl Snapshot {
    /// Reads like the card at that snapshot: known ranges from `copy`, which was saved after the snapshot before, and
    /// the others as recorded.
    #[must_use]
    pub fn over(&self, copy: Arc<dyn ReadAt>) -> Arc<dyn ReadAt> {
        let card: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&self.store);
        // Free space was not recorded.
        let known = joined([&self.known[..], &self.occupancy.holes].concat());
        Arc::new(Preferring { image: copy, card, known, damaged: Arc::default() })
    }
}

/// A card of which parts are read from an image of it, as long as that is intact.
struct Preferring {
    image: Arc<dyn ReadAt>,
    card: Arc<dyn ReadAt>,
    known: Vec<Span>,
    /// Ranges that the image no longer provides.
    damaged: Arc<DamagedSpans>,
}

/// How a store is read.
type ReadHow = fn(&dyn ReadAt, ByteOffset, &mut [u8]) -> Result<()>;

impl Preferring {
    fn read(&self, at: ByteOffset, buf: &mut [u8], how: ReadHow) -> Result<()> {
        let (mut at, mut rest) = (at, buf);
        while !rest.is_empty() {
            let end = at.saturating_add(ByteLen::of(rest));
            let first = self.known.partition_point(|span| span.end() <= at);
            let (is_known, until) = match self.known.get(first) {
                Some(span) if span.start() <= at => (true, span.end().min(end)),
                Some(span) => (false, span.start().min(end)),
                None => (false, end),
            };
            let is_known = is_known && !self.damaged.touches(Span::between(at, until));
            let len = until.saturating_since(at).to_usize().unwrap_or(0);
            let (now, later) = rest.split_at_mut(len);
            let from_image = if is_known { self.image.read_at(at, now) } else { Ok(()) };
            match from_image {
                Ok(()) if is_known => {}
                Err(error) if !is_of_the_image(&error) => return Err(error),
                other => {
                    if let Err(error) = other {
                        tracing::warn!(%error, "the card is read instead");
                        self.damaged.add(Span::between(at, until));
                    }
                    how(&*self.card, at, now)?;
                }
            }
            at = until;
            rest = later;
        }
        Ok(())
    }
}

impl ReadAt for Preferring {
    fn size(&self) -> ByteLen {
        self.card.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.read(at, buf, |card, at, buf| card.read_at(at, buf))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.read(at, buf, |card, at, buf| card.read_once(at, buf))
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        self.card.next_data(from)
    }

    fn sector_size(&self) -> SectorSize {
        self.card.sector_size()
    }
}
