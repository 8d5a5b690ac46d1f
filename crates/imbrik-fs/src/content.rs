//! The content of a file as a store.

use crate::files::{FileId, Files, Stretch};
use imbrik_store::{
    Concatenated, PieceOf, ReadAt, SparseStore, check_range,
    error::{Error, Result},
    next_data_in, read_pieces,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{ops::ControlFlow, sync::Arc};

/// The content of a file, with a hole wherever nothing was written.
pub struct FileContent<'a> {
    volume: &'a dyn ReadAt,
    size: ByteLen,
    /// Content that is stored inside the file's metadata.
    here: Arc<SparseStore>,
    /// In order, without gaps.
    pieces: Vec<(Span, Option<Place>)>,
}

/// The location of bytes.
#[derive(Clone, Copy)]
enum Place {
    InVolume(ByteOffset),
    Here(ByteOffset),
}

impl dyn Files + '_ {
    /// Opens the content of `file` for random access. Only its block map is read.
    ///
    /// # Errors
    /// As [`Files::content`] and [`Files::info`]; [`imbrik_store::Class::Corrupt`] when two stretches
    /// claim the same bytes of it.
    pub fn content_of(&self, file: FileId) -> Result<FileContent<'_>> {
        let size = ByteLen::new(self.info(file)?.size);
        let mut content = FileContent {
            volume: self.store(),
            size,
            here: Arc::new(SparseStore::of(&[])),
            pieces: Vec::new(),
        };
        let mut here = Vec::new();
        let mut at = ByteOffset::ZERO;
        self.content(file, &mut |from, stretch| {
            let start = ByteOffset::new(from);
            if start >= Span::whole(size).end() {
                return Ok(ControlFlow::Break(()));
            }
            if start < at {
                return Err(Error::corrupt(
                    "two stretches are said to be the same bytes of a file",
                ));
            }
            let (len, place) = match stretch {
                Stretch::InVolume(span) => (span.len(), Place::InVolume(span.start())),
                Stretch::Here(bytes) => {
                    let place = Place::Here(ByteOffset::new(ByteLen::of(&here).get()));
                    here.extend(bytes);
                    (ByteLen::of(bytes), place)
                }
            };
            content.push(Span::between(at, start), None);
            at = start.saturating_add(len).min(Span::whole(size).end());
            content.push(Span::between(start, at), Some(place));
            Ok(ControlFlow::Continue(()))
        })?;
        content.push(Span::between(at, Span::whole(size).end()), None);
        content.here = Arc::new(SparseStore::of(&here));
        Ok(content)
    }
}

impl FileContent<'_> {
    fn push(&mut self, span: Span, place: Option<Place>) {
        if !span.is_empty() {
            self.pieces.push((span, place));
        }
    }

    fn pieces_from(&self, at: ByteOffset) -> impl Iterator<Item = PieceOf<'_>> {
        let first = self.pieces.partition_point(|(span, _)| span.end() <= at);
        let pieces = self.pieces.get(first..).unwrap_or_default().iter();
        pieces.map(|(span, place)| {
            let from: Option<(&dyn ReadAt, ByteOffset)> = match place {
                Some(Place::InVolume(at)) => Some((self.volume, *at)),
                Some(Place::Here(at)) => Some((&*self.here, *at)),
                None => None,
            };
            (*span, from)
        })
    }

    /// The same content, read from `store`, which contains the volume, without borrowing the files.
    #[must_use]
    pub fn owned(&self, store: &Arc<dyn ReadAt>) -> Arc<dyn ReadAt> {
        let mut all = Concatenated::new(store.sector_size());
        let here: Arc<dyn ReadAt> = Arc::<SparseStore>::clone(&self.here);
        for (span, place) in &self.pieces {
            match place {
                Some(Place::InVolume(at)) => all.push(store, *at, span.len()),
                Some(Place::Here(at)) => all.push(&here, *at, span.len()),
                None => all.push_zeros(span.len()),
            }
        }
        Arc::new(all)
    }

    /// The written ranges, in order; all others are holes. Written ranges can contain zeros.
    pub fn written(&self) -> impl Iterator<Item = Span> {
        self.pieces.iter().filter(|(_, place)| place.is_some()).map(|(span, _)| *span)
    }

    /// The locations in the volume, in file order.
    pub fn places(&self) -> impl Iterator<Item = Span> {
        self.pieces.iter().filter_map(|(span, place)| match place {
            Some(Place::InVolume(at)) => Some(Span::between(*at, at.saturating_add(span.len()))),
            _ => None,
        })
    }
}

impl ReadAt for FileContent<'_> {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        read_pieces(self.pieces_from(at), at, buf, |store, at, buf| store.read_at(at, buf))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        read_pieces(self.pieces_from(at), at, buf, |store, at, buf| store.read_once(at, buf))
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        next_data_in(self.pieces_from(from), from)
    }

    fn sector_size(&self) -> SectorSize {
        self.volume.sector_size()
    }
}
