//! A tile in the file of another image, to be copied without compressing it again.

use imbrik_store::{
    FileStore, ReadAt,
    error::Result,
    exact::Exact as _,
    for_pieces,
    units::{ByteLen, ByteOffset, Span},
};
use std::{fmt, fs::File, os::unix::fs::FileExt, sync::Arc};

/// A multiple of the unit in which filesystems share blocks between files: a power of two, in bytes.
pub(super) const BLOCK: u64 = 4096;
/// The request size for copying without the system's help.
const PIECE: ByteLen = ByteLen::mib(1);

/// A frame, or a tile of a raw image, in another file.
#[derive(Clone)]
pub struct Standing {
    pub(super) file: Arc<dyn ReadAt>,
    /// The same file, if it is a regular file.
    pub(super) disk: Option<Arc<FileStore>>,
    /// Its range in that file.
    pub(super) packed: Span,
    /// How much content it holds.
    pub(super) content: ByteLen,
    /// True if what pads it is compared before it is copied along: its own content was verified.
    pub(super) is_verified: bool,
}

impl fmt::Debug for Standing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} bytes of content at {}", self.content, self.packed)
    }
}

impl Standing {
    /// The same frame, after its content was verified.
    #[must_use]
    pub fn verified(self) -> Self {
        Self { is_verified: true, ..self }
    }

    /// Returns whether the header of `padding` is in its file at `at`. Decoders go by it; what follows it is ignored.
    pub(super) fn is_padded_with(&self, padding: &[u8], at: ByteOffset) -> bool {
        let mut header = [0; 8];
        !self.is_verified
            || self.file.read_at(at, &mut header).is_ok() && padding.starts_with(&header)
    }

    /// All of it.
    ///
    /// # Errors
    /// When its file cannot be read.
    pub fn bytes(&self) -> Result<Vec<u8>> {
        let mut all = Vec::new();
        self.read(|bytes| all.extend_from_slice(bytes))?;
        Ok(all)
    }

    /// Reads it in pieces.
    pub(super) fn read(&self, mut take: impl FnMut(&[u8])) -> Result<()> {
        let mut buffer = vec![0; PIECE.to_usize().unwrap_or(0)];
        for_pieces(self.packed, PIECE, |piece| {
            let len = piece.len().to_usize().unwrap_or(0);
            let buffer = buffer.get_mut(..len).unwrap_or_default();
            self.file.read_at(piece.start(), buffer)?;
            take(buffer);
            Ok(())
        })
    }

    /// Copies its part in `span` of its file to `at` of `to`: by the system, which shares blocks between both files if
    /// the filesystem supports it, or lets a server copy; otherwise by reading and writing.
    pub(super) fn copy(&self, span: Span, to: &File, at: u64) -> Result<std::io::Result<()>> {
        // Only complete blocks can be shared: not the bytes before the first or after the last one.
        let ahead = span.start().get().wrapping_neg() % BLOCK;
        let is_alike = span.start().get() % BLOCK == at % BLOCK;
        let ahead = if is_alike { ahead.min(span.len().get()) } else { 0 };
        let blocks = span.len().get().saturating_sub(ahead) & !BLOCK.saturating_sub(1);
        let mut done = ahead;
        if let Some(disk) = &self.disk {
            let end = ahead.plus(blocks)?;
            while done < end {
                let mut from = span.start().get().plus(done)?;
                let mut place = at.plus(done)?;
                let len = usize::try_from(end.saturating_sub(done)).unwrap_or(usize::MAX);
                let copied = rustix::fs::copy_file_range(
                    disk.file(),
                    Some(&mut from),
                    to,
                    Some(&mut place),
                    len,
                );
                match copied {
                    Ok(len) if len > 0 => done = done.plus(len.exact_as::<u64>()?)?,
                    // The manual copy will report the error.
                    _ => break,
                }
            }
        }
        let middle = |at: u64| span.start().saturating_add(ByteLen::new(at));
        let head = Span::between(span.start(), middle(ahead));
        let tail = Span::between(middle(done), span.end());
        for part in [head, tail] {
            let place = at.plus(part.start().saturating_since(span.start()).get())?;
            let written = self.copy_by_hand(part, to, place)?;
            if written.is_err() {
                return Ok(written);
            }
        }
        Ok(Ok(()))
    }

    fn copy_by_hand(&self, span: Span, to: &File, at: u64) -> Result<std::io::Result<()>> {
        let mut place = at;
        let mut written = Ok(());
        let mut buffer = vec![0; span.len().min(PIECE).to_usize().unwrap_or(0)];
        for_pieces(span, PIECE, |piece| {
            let buffer = buffer.get_mut(..piece.len().to_usize().unwrap_or(0)).unwrap_or_default();
            self.file.read_at(piece.start(), buffer)?;
            if written.is_ok() {
                written = to.write_all_at(buffer, place);
            }
            place = place.plus(piece.len().get())?;
            Ok(())
        })?;
        Ok(written)
    }

    /// The next of its bytes from `from` on, in its file, that are no hole.
    pub(super) fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let rest = Span::between(from, self.packed.end());
        Ok(self.file.next_data(from)?.and_then(|data| data.intersect(rest)))
    }
}
