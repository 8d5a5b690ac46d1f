//! Writes a view into an image: started or resumed, encoded, read back, and published.

use super::{
    damaged::DamagedSpans,
    pipeline::{KnownTile, Pipeline, Sink, Tile, Transferred, run_knowing},
    resume,
    saved::{OnUnfinished, ReadBack, Reused, SaveOptions, Saved},
    verify::{check_sums, check_tiles_outside, to_read},
};
use crate::{
    image::{
        Encoded, Encoder, Encoding, Image, ImageWriter, KnownPiece, Manifest, Output, PIECE, Pack,
        PieceHashes, TILE, TileData, TileDigest, Written, shares_blocks, tile_span,
    },
    layout::{Lost, View, lost_in},
};
use imbrik_store::{
    Counted, FileStore, ReadAt, Tally,
    bytes::is_zero,
    error::{Class, Error, Result},
    progress::{Merged, Step, Watch},
    read_vec,
    units::{ByteLen, Span, common, joined},
};
use std::{collections::HashMap, path::Path, sync::Arc};

/// Encodes tiles on all cores and appends them in order.
struct ToImage<'a> {
    view: &'a View,
    pack: Pack,
    encoding: Encoding,
    writer: ImageWriter,
    /// The image whose frames are reused, if any.
    frames: Option<Arc<Frames<'a>>>,
    /// True if tiles are compressed in pieces.
    in_pieces: bool,
    reused: Reused,
}

fn folder_of(file: &Path) -> &Path {
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty());
    folder.unwrap_or(Path::new("."))
}

/// A tile that is being written.
struct Piece {
    encoded: Encoded,
    taken: Taken,
}

/// The reused part of a tile.
enum Taken {
    Nothing,
    /// All of it, after it was read and compared.
    Read,
    /// All of it, unread.
    Unread,
    /// Pieces of it ...
    Pieces {
        /// ... that were read and compared ...
        read: Vec<Span>,
        /// ... and that were not read.
        unread: Vec<Span>,
    },
}

/// The image whose frames are reused.
struct Frames<'a> {
    image: &'a Image,
    /// Its content.
    content: &'a Arc<dyn ReadAt>,
    /// Ranges with another content than in the image; only frames outside of them are reused by position.
    changed: &'a [Span],
    digests: Vec<TileDigest>,
    pieces: Vec<PieceHashes>,
    by_digest: HashMap<blake3::Hash, u64>,
    copies: Copies<'a>,
}

/// How frames of the other image are copied into the new file.
#[derive(Clone, Copy)]
pub(super) enum Copies<'a> {
    /// Both files share blocks of the disk, so the frames are as intact as in the other image.
    Shared,
    /// They are copied, so each is verified first. A damaged one is added to these spans, and its content is read from
    /// the card.
    Verified(&'a DamagedSpans),
    /// They are copied, so each is verified first. A damaged one is an error.
    Strict,
}

impl<'a> Copies<'a> {
    /// How frames of `image` get into `to`: `verified` if they can't be shared.
    pub(super) fn new(image: &Image, to: &Output<'_>, verified: Self) -> Self {
        match to.path() {
            Some(name) if shares_blocks(image.path(), folder_of(name)) => Self::Shared,
            _ => verified,
        }
    }
}

impl<'a> Frames<'a> {
    /// The reusable frames of the image in `before`, for an image in the format `pack` of a card of `size`.
    fn of(before: &Before<'a>, pack: Pack, size: ByteLen) -> Result<Option<Self>> {
        let image = before.image;
        let is_fitting = image.container() == pack.container()
            && (pack.frames_fit_any_card() || image.content().size() == size);
        if !before.takes_over || !is_fitting {
            return Ok(None);
        }
        let digests = image.manifest().map_or(Ok(Vec::new()), |known| known.tiles.digests())?;
        let hashes = (0u64..).zip(&digests).filter_map(|(index, digest)| match digest {
            TileDigest::Zero => None,
            TileDigest::Hash(hash) => Some((*hash, index)),
        });
        let by_digest = hashes.collect();
        let pieces = image.manifest().map_or(Ok(Vec::new()), |known| known.tiles.pieces(&digests));
        let pieces = pieces.unwrap_or_else(|error| {
            tracing::warn!(%error, "all of each tile is read instead");
            Vec::new()
        });
        let Before { content, changed, copies, .. } = *before;
        Ok(Some(Self { image, content, changed, digests, pieces, by_digest, copies }))
    }

    /// Returns whether the frames of `span` match their digest. Reads and decodes them only if they will be copied.
    fn is_intact(&self, span: Span, digest: &TileDigest) -> Result<bool> {
        if matches!(self.copies, Copies::Shared) {
            return Ok(true);
        }
        let found = self.read(span);
        self.judge(span, found, |bytes| TileDigest::Hash(blake3::hash(bytes)) == *digest)
    }

    fn read(&self, span: Span) -> Result<Vec<u8>> {
        let len = span.len().to_usize().ok_or_else(|| Error::bug("a tile is too long"))?;
        read_vec(&**self.image.content(), span.start(), len)
    }

    /// The same for a piece of a tile.
    fn is_piece_intact(&self, tile: Span, piece: &KnownPiece) -> Result<bool> {
        let Some(span) = piece.span(tile).filter(|_| !matches!(self.copies, Copies::Shared)) else {
            return Ok(true);
        };
        let found = self.read(span);
        self.judge(span, found, |bytes| piece.holds(bytes))
    }

    fn judge(
        &self,
        span: Span,
        found: Result<Vec<u8>>,
        is_right: impl Fn(&[u8]) -> bool,
    ) -> Result<bool> {
        let fault = match found {
            Ok(bytes) if is_right(&bytes) => return Ok(true),
            Ok(_) => Error::mismatch(format!(
                "the image is damaged: {span} of the card do not match their digest"
            )),
            Err(error) if !matches!(error.class(), Class::Corrupt | Class::Io) => {
                return Err(error);
            }
            Err(error) => error,
        };
        match self.copies {
            Copies::Verified(damaged) => {
                tracing::warn!(image = %self.image.path().display(), %fault, "the card is read instead");
                damaged.add(span);
                Ok(false)
            }
            Copies::Shared | Copies::Strict => Err(fault.at(self.image.path().display())),
        }
    }

    fn is_damaged(&self, span: Span) -> bool {
        matches!(self.copies, Copies::Verified(damaged) if damaged.touches(span))
    }

    /// The frames of the tile `index` in the image, outside of `changed`: all of it, or with `in_pieces` some pieces.
    fn known(&self, index: u64, span: Span, in_pieces: bool) -> KnownTile<Piece> {
        let number = usize::try_from(index).unwrap_or(usize::MAX);
        let digest = match self.digests.get(number) {
            Some(digest @ TileDigest::Hash(_))
                if tile_span(index, self.image.content().size()) == Some(span) =>
            {
                *digest
            }
            _ => return KnownTile::Nothing,
        };
        let unknown = PieceHashes::default();
        let pieces = self.pieces.get(number).unwrap_or(&unknown);
        if !touches(self.changed, span)
            && let Some(encoded) = self.standing(span)
        {
            let pieces = pieces.clone();
            return KnownTile::All(digest, pieces, Piece { encoded, taken: Taken::Unread });
        }
        let is_there = |piece| !touches(self.changed, piece) && self.standing(piece).is_some();
        match in_pieces {
            true => match self.intact_pieces(span, pieces.known(span, is_there)) {
                Ok(known) => KnownTile::Some(known),
                Err(error) => KnownTile::Failed(error),
            },
            false => KnownTile::Nothing,
        }
    }

    fn intact_pieces(&self, tile: Span, pieces: Vec<KnownPiece>) -> Result<Vec<KnownPiece>> {
        let mut intact = Vec::new();
        for piece in pieces {
            if self.is_piece_intact(tile, &piece)? {
                intact.push(piece);
            }
        }
        Ok(intact)
    }

    /// The frames with exactly `span` of the card, if the image has them.
    fn standing(&self, span: Span) -> Option<Encoded> {
        let is_verified = !matches!(self.copies, Copies::Shared);
        let standing = self.image.standing(span)?.into_iter();
        let pieces =
            standing.map(|one| Encoded::Standing(if is_verified { one.verified() } else { one }));
        Some(Encoded::Several(pieces.collect()))
    }

    /// The frame of a piece that was read, if the image has the same content there.
    fn piece(&self, span: Span, bytes: &[u8]) -> Option<Encoded> {
        let standing = self.standing(span)?;
        self.holds(span, bytes).then_some(standing)
    }

    /// Returns whether the image has `bytes` at `span`.
    fn holds(&self, span: Span, bytes: &[u8]) -> bool {
        match read_vec(&**self.content, span.start(), bytes.len()) {
            Ok(there) => there == bytes,
            Err(error) => {
                if let (Class::Corrupt | Class::Mismatch, Copies::Verified(damaged)) =
                    (error.class(), self.copies)
                {
                    damaged.add(span);
                }
                false
            }
        }
    }

    /// A frame of the image with the same content as a tile that was read, at any position, after decoding and
    /// comparing it.
    fn like(&self, tile: &Tile, bytes: &[u8]) -> Result<Option<Encoded>> {
        if self.image.container().is_raw() {
            // Holes are equivalent.
            return Ok(None);
        }
        if !touches(self.changed, tile.span) && self.digests.is_empty() {
            // This frame itself was read.
            return Ok(self.standing(tile.span));
        }
        let TileDigest::Hash(hash) = &tile.digest else { return Ok(None) };
        let size = self.image.content().size();
        let found = self.by_digest.get(hash).and_then(|index| tile_span(*index, size));
        let is_usable = |span: &Span| span.len() == tile.span.len() && !self.is_damaged(*span);
        let Some(span) = found.filter(is_usable) else {
            return Ok(None);
        };
        if span == tile.span && !touches(self.changed, span) {
            let is_intact = self.is_intact(span, &tile.digest)?;
            return Ok(self.standing(span).filter(|_| is_intact));
        }
        let Some(standing) = self.standing(span) else { return Ok(None) };
        Ok(self.holds(span, bytes).then_some(standing))
    }
}

impl<'a> Sink for ToImage<'a> {
    type Worker = Box<dyn FnMut(Tile) -> Result<Piece> + Send + 'a>;
    type Piece = Piece;

    fn worker(&self) -> Result<Self::Worker> {
        let mut encoder = self.encoding.encoder()?;
        let (frames, in_pieces) = (self.frames.clone(), self.in_pieces);
        Ok(Box::new(move |tile| {
            let standing = match (&tile.data, &frames) {
                (TileData::Bytes(bytes), Some(frames)) if tile.unread.is_empty() => {
                    frames.like(&tile, bytes)?
                }
                _ => None,
            };
            if let Some(encoded) = standing {
                return Ok(Piece { encoded, taken: Taken::Read });
            }
            match tile.data {
                TileData::Bytes(bytes) if in_pieces => {
                    pieces(tile.span, &bytes, &tile.unread, frames.as_deref(), &mut encoder)
                }
                data => Ok(Piece { encoded: encoder.encode(data)?, taken: Taken::Nothing }),
            }
        }))
    }

    fn lost(&mut self, spans: &[Span]) -> Result<()> {
        self.writer.lost(spans)
    }

    fn commit(&mut self, span: Span, piece: Piece) -> Result<()> {
        let reused = &mut self.reused;
        match piece.taken {
            Taken::Nothing => {}
            Taken::Read => reused.read.push(span),
            Taken::Unread => reused.unread.push(span),
            Taken::Pieces { read, unread } => {
                reused.read.extend(read);
                reused.unread.extend(unread);
            }
        }
        self.writer.append(piece.encoded)
    }

    fn weight(&self, span: Span) -> ByteLen {
        weight(self.view, self.pack, span)
    }
}

/// A tile in pieces of [`PIECE`]: each one reused, unread or compared, or compressed.
fn pieces(
    tile: Span,
    bytes: &[u8],
    unread: &[Span],
    frames: Option<&Frames<'_>>,
    encoder: &mut Encoder,
) -> Result<Piece> {
    let mut at = tile.start();
    let mut encoded = Vec::new();
    let mut read = Vec::new();
    for bytes in bytes.chunks(PIECE.to_usize().unwrap_or(usize::MAX)) {
        let span = Span::between(at, at.saturating_add(ByteLen::of(bytes)));
        at = span.end();
        if unread.contains(&span) {
            let standing = frames.and_then(|frames| frames.standing(span));
            encoded.push(standing.ok_or_else(|| Error::bug("a piece was known and is not there"))?);
        } else if let Some(standing) = frames.and_then(|frames| frames.piece(span, bytes)) {
            encoded.push(standing);
            // Zeros do not count as read: most are free space.
            if !is_zero(bytes) {
                read.push(span);
            }
        } else {
            encoded.push(encoder.encode_piece(bytes)?);
        }
    }
    let taken = Taken::Pieces { read, unread: unread.to_vec() };
    Ok(Piece { encoded: Encoded::Several(encoded), taken })
}

/// The amount of work for `span` of a view: bytes that are read; of a raw file, all, since every byte is hashed.
pub(super) fn weight(view: &View, pack: Pack, span: Span) -> ByteLen {
    if pack.is_raw() { span.len() } else { view.copied_in(span) }
}

/// Returns whether `tile` overlaps `spans`, which are in order and joined.
pub(super) fn touches(spans: &[Span], tile: Span) -> bool {
    let first = spans.partition_point(|span| span.end() <= tile.start());
    spans.get(first).is_some_and(|span| span.intersect(tile).is_some())
}

/// The image that a new one is based on.
pub(super) struct Before<'a> {
    pub(super) image: &'a Image,
    /// Its content, with a cache.
    pub(super) content: &'a Arc<dyn ReadAt>,
    /// True if suitable frames are reused unchanged.
    pub(super) takes_over: bool,
    /// Ranges with another content than in the image, in order and joined.
    pub(super) changed: &'a [Span],
    /// True if tiles outside of these ranges are read nevertheless.
    pub(super) reads_all: bool,
    /// Ranges that need not be read back when they are reused, in order and joined.
    pub(super) trusted: &'a [Span],
    /// Ranges of the card that are missing in the new image.
    pub(super) unreadable: Vec<Span>,
    /// How its frames get into the new image, and the treatment of damaged ones.
    pub(super) copies: Copies<'a>,
}

impl<'a> Before<'a> {
    pub(super) fn new(image: &'a Image) -> Self {
        let unreadable = Vec::new();
        let content = image.content();
        let (takes_over, reads_all) = (true, true);
        // All of it is decoded anyway.
        let copies = Copies::Shared;
        Self {
            image,
            content,
            takes_over,
            changed: &[],
            reads_all,
            trusted: &[],
            unreadable,
            copies,
        }
    }

    /// Compares the digests of its tiles, as read, with its stored digests.
    fn compare(&self, found: &[TileDigest], size: ByteLen) -> Result<()> {
        let Some(known) = self.image.manifest().filter(|_| self.reads_all) else { return Ok(()) };
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

/// Starts or resumes the image `to`. Returns it with the ranges of the card that it contains already.
fn begun(
    pipeline: &Pipeline<'_>,
    manifest: &Manifest,
    to: Output<'_>,
    options: &SaveOptions,
) -> Result<(ImageWriter, Transferred)> {
    let SaveOptions { pack, sums, replace, owner, unfinished, .. } = options;
    if let (OnUnfinished::Resume, Some(name)) = (unfinished, to.path()) {
        let found = resume::resumed(pipeline.view, manifest, name, options, pipeline.watch)?;
        if let Some(resumed) = found {
            return Ok(resumed);
        }
    }
    let mut writer = ImageWriter::create(to, *pack, sums, *replace, *owner)?;
    if *unfinished != OnUnfinished::Remove && pack.can_be_gone_on_with() {
        writer.note(manifest)?;
    }
    Ok((writer, Transferred::default()))
}

pub(super) fn carry(
    pipeline: &Pipeline<'_>,
    before: Option<Before<'_>>,
    manifest: Manifest,
    to: Output<'_>,
    options: &SaveOptions,
) -> Result<Saved> {
    let (view, watch) = (pipeline.view, pipeline.watch);
    let (writer, done) = begun(pipeline, &manifest, to, options)?;
    let resumed = ByteLen::from_usize(done.digests.len()).get();
    let resumed = TILE.times(resumed)?.min(view.size());
    let in_pieces = options.is_in_pieces();
    let encoding = Encoding::new(options.pack, options.level, view.size());
    let frames = match &before {
        Some(before) => Frames::of(before, options.pack, view.size())?.map(Arc::new),
        None => None,
    };
    let unread = frames.clone().filter(|_| before.as_ref().is_some_and(|before| !before.reads_all));
    let is_intact = |span: Span, digest: &TileDigest| match &unread {
        Some(frames) => frames.is_intact(span, digest),
        None => Ok(true),
    };
    let pipeline = &Pipeline { done, in_pieces, is_intact: Some(&is_intact), ..pipeline.clone() };
    let reused = Reused::default();
    let pack = options.pack;
    let known = |index, span| match &unread {
        Some(frames) => frames.known(index, span, in_pieces),
        None => KnownTile::Nothing,
    };
    let mut sink = ToImage { view, pack, encoding, writer, frames, in_pieces, reused };
    let transferred = match run_knowing(pipeline, &mut sink, &known) {
        Ok(transferred) => transferred,
        Err(error) => {
            sink.writer.keep();
            return Err(error);
        }
    };
    let mut unreadable = transferred.unreadable.clone();
    let mut to_report = transferred.unreadable.clone();
    if let Some(before) = &before {
        before.compare(&transferred.digests, view.size())?;
        unreadable.extend(&before.unreadable);
        if !before.changed.is_empty() {
            to_report.extend(&before.unreadable);
        }
    }
    let (lost, not_named) = match named(view, &to_report, watch) {
        Err(error) if error.class() == Class::Cancelled => return Err(error),
        Err(error) => (Vec::new(), Some(error.to_string())),
        Ok(lost) => (lost, None),
    };
    let manifest = manifest
        .with_content(&transferred.digests, &transferred.pieces, unreadable)
        .with_lost(&lost);
    let mut reused = sink.reused;
    reused.read = joined(reused.read);
    reused.unread = joined(reused.unread);
    reused.is_verified = matches!(before, Some(Before { copies: Copies::Verified(_), .. }));
    let written = sink.writer.finish(&manifest)?;
    let (mut read_back, mut read_back_len) = (ReadBack::Waived, ByteLen::ZERO);
    if let Some(path) = written.path().filter(|_| options.check) {
        // Tiles that were reused without being read are in the same blocks as before, or in a copy that the
        // system made: they are not read for this either.
        let skipped = match (&before, reused.unread.is_empty()) {
            (Some(before), false) => common(&reused.all(), before.trusted),
            _ => Vec::new(),
        };
        (read_back, read_back_len) =
            compare_written(path, &written, view, &transferred, &skipped, watch)?;
    }
    watch.cancel.check()?;
    let zero_tiles = transferred.digests.iter().filter(|digest| **digest == TileDigest::Zero);
    let zeros = ByteLen::from_usize(zero_tiles.count());
    let zeros = TILE.checked_mul(zeros.get()).unwrap_or_default().min(view.size());
    let (image_len, copied, sums) = (written.len, written.copied, written.sums.clone());
    let not_beside = written.publish()?.map(|error| error.to_string());
    Ok(Saved {
        not_beside,
        image_len,
        sums,
        unreadable: joined(to_report),
        lost,
        not_named,
        rescued: ByteLen::ZERO,
        resumed,
        was_cut_short: false,
        not_mended: None,
        zeros,
        reused,
        copied,
        read_back_len,
        read_back,
    })
}

/// Reads the image at `path` and compares it with the written data, except for the tiles in `skipped`. Returns the
/// source of the reads, and the number of bytes.
fn compare_written(
    path: &Path,
    written: &Written,
    view: &View,
    transferred: &Transferred,
    skipped: &[Span],
    watch: Watch<'_>,
) -> Result<(ReadBack, ByteLen)> {
    let tally = Tally::default();
    let file = FileStore::open(path)?;
    let read_back = if file.drop_cache()? { ReadBack::Medium } else { ReadBack::Memory };
    let file = Arc::new(Counted::new(file, &tally));
    let image = Image::of_store(path, file, written.side_manifest(), None)?;
    // The tiles of a raw image are the whole file, and are hashed on all cores: the file's checksum, computed from the
    // same bytes while they were written, would confirm nothing more.
    let is_raw = image.container().is_raw();
    let sums = if is_raw || !skipped.is_empty() { &[][..] } else { &written.sums };
    let file = if sums.is_empty() { ByteLen::ZERO } else { image.file().size() };
    // An image that is hashed and then decoded counts twice.
    let tiles = (0..).map_while(|index| tile_span(index, view.size()));
    let shown = tiles.map(|tile| to_read(tile, &transferred.digests, skipped)).sum();
    let total = file.plus(shown)?;
    let merged = Merged::start(watch.observer, Step::ReadingImageBack, shown, total);
    let watch = Watch { observer: &merged, cancel: watch.cancel };
    let differs = |what: &str| {
        Error::mismatch(format!("the image read back differs from what was written: {what}"))
    };
    if !sums.is_empty() && check_sums(&image, sums, watch)?.is_some() {
        return Err(differs("its checksum is another one"));
    }
    let found = check_tiles_outside(&image, transferred, skipped, watch)?;
    if let Some(first) = found.spans.first() {
        return Err(differs(&format!("{first} of the card")));
    }
    merged.finish();
    Ok((read_back, tally.read()))
}

/// Files that the unreadable bytes of a view belong to.
fn named(view: &View, unreadable: &[Span], watch: Watch<'_>) -> Result<Vec<Lost>> {
    match unreadable {
        [] => Ok(Vec::new()),
        spans => {
            let view: Arc<dyn ReadAt> = Arc::new(view.clone());
            lost_in(&view, &joined(spans.to_vec()), watch.cancel)
        }
    }
}
