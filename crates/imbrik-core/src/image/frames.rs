//! An image in independent frames, readable at any offset: the shape that Zstandard frames, gzip
//! members and xz blocks have in common.

use super::tile::TILE;
use imbrik_store::{
    Keep, Page, Pages, ReadAt,
    bytes::is_zero,
    check_range,
    error::{Error, Result},
    read_vec,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{
    sync::{
        Arc, OnceLock,
        atomic::{AtomicUsize, Ordering},
        mpsc::{self, SyncSender},
    },
    thread,
};

/// Frames up to this content are read at random; larger ones would cost memory and time without
/// bound for a few bytes.
pub(super) const MOST_CONTENT: ByteLen = ByteLen::mib(64);
/// The maximum number of frames, as 64 TiB have in tiles: their list is in memory.
pub(super) const MOST_FRAMES: usize = 1 << 24;
/// How much longer than its content a frame may be: incompressible data are stored with a few extra bytes.
const MOST_OVERHEAD: ByteLen = ByteLen::kib(64);
/// A frame this short is worth comparing with the known frame of zeros.
const ZERO_FRAME: usize = 8192;
/// The size of the cache for small reads.
const KEPT: ByteLen = ByteLen::mib(16);

/// A frame with content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Frame {
    /// Its range in the file; empty if its content is all zeros and not stored.
    pub(super) packed: Span,
    /// Which bytes of the image it holds.
    pub(super) content: Span,
}

/// The frames of a file, in order and without a hole in their content.
#[derive(Clone, Debug, Default)]
pub(super) struct Frames {
    list: Vec<Frame>,
    size: ByteLen,
}

impl Frames {
    /// Adds the frame at `packed`, which holds the next `content` bytes.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when the content exceeds 64 bits, or the frame is far longer than its content;
    /// [`crate::Class::Unsupported`] when there are too many frames.
    pub(super) fn push(&mut self, packed: Span, content: ByteLen) -> Result<()> {
        let start = ByteOffset::new(self.size.get());
        let content = Span::new(start, content)
            .ok_or_else(|| Error::corrupt("the frames hold more than 2^64 bytes"))?;
        let most = content.len().get().saturating_add(content.len().get() / 16);
        if packed.len() > ByteLen::new(most).saturating_add(MOST_OVERHEAD) {
            return Err(Error::corrupt(format!(
                "the frame at {} has {} for {} of content",
                packed.start(),
                packed.len(),
                content.len()
            )));
        }
        if self.list.len() >= MOST_FRAMES {
            return Err(Error::unsupported(format!("it has more than {MOST_FRAMES} frames")));
        }
        self.list.push(Frame { packed, content });
        self.size = ByteLen::new(content.end().get());
        Ok(())
    }

    /// How much content there is so far.
    pub(super) fn size(&self) -> ByteLen {
        self.size
    }
}

/// Decodes frames of one format.
pub(super) trait Codec: Send + Sync {
    /// Decodes the frame `packed`, from `at` in the file, into `out`, which has exactly the length of its content.
    ///
    /// # Errors
    /// In a few words, when it is damaged or its content is shorter or longer.
    fn decode(&self, packed: &[u8], at: Span, out: &mut [u8]) -> std::result::Result<(), String>;

    /// Returns whether the frame at `at` is self-contained, so that it can be copied into another file.
    fn is_complete(&self, _at: Span) -> bool {
        true
    }
}

/// The content of a file in frames. For sequential small reads, the next frame is decoded ahead.
pub(super) struct FramedStore {
    inner: Arc<Inner>,
    /// The frame of the last small read.
    last: AtomicUsize,
    /// Takes the numbers of frames that will be wanted; `None` where there could be no thread for it.
    ahead: OnceLock<Option<SyncSender<usize>>>,
}

struct Inner {
    file: Arc<dyn ReadAt>,
    codec: Box<dyn Codec>,
    frames: Frames,
    kept: Pages,
    zero_frame: OnceLock<Vec<u8>>,
}

impl FramedStore {
    /// The content of `frames` of `file`, whose locations were validated against its size.
    pub(super) fn new(file: Arc<dyn ReadAt>, codec: Box<dyn Codec>, frames: Frames) -> Self {
        let kept = Pages::new(KEPT, Keep::Last);
        let inner = Inner { file, codec, frames, kept, zero_frame: OnceLock::new() };
        let last = AtomicUsize::new(usize::MAX);
        Self { inner: Arc::new(inner), last, ahead: OnceLock::new() }
    }

    /// The location in the file and the content length of the frames that contain exactly `span`; `None` if no frames
    /// do.
    pub(super) fn places_of(&self, span: Span) -> Option<Vec<(Span, ByteLen)>> {
        let (first, _) = self.inner.frame_at(span.start())?;
        let mut at = span.start();
        let mut places = Vec::new();
        for frame in self.inner.frames.list.get(first..)? {
            if at == span.end() {
                break;
            }
            let fits = frame.content.start() == at
                && frame.content.end() <= span.end()
                && !frame.packed.is_empty()
                && self.inner.codec.is_complete(frame.packed);
            fits.then_some(())?;
            places.push((frame.packed, frame.content.len()));
            at = frame.content.end();
        }
        (at == span.end()).then_some(places)
    }

    /// Returns whether there is a frame with so much content that is not the last.
    pub(super) fn has_content_of(&self, len: ByteLen) -> bool {
        let list = &self.inner.frames.list;
        list.iter().rev().skip(1).any(|frame| frame.content.len() == len)
    }

    /// A small read of frame `index`: if it continues the previous one, the next frame will be needed soon.
    fn look_ahead(&self, index: usize) {
        let last = self.last.swap(index, Ordering::Relaxed);
        let next = index.saturating_add(1);
        if last.checked_add(1) != Some(index) || next >= self.inner.frames.list.len() {
            return;
        }
        let ahead = self.ahead.get_or_init(|| Inner::decode_ahead(&self.inner));
        if let Some(ahead) = ahead {
            // If the thread is busy, the reader decodes the frame.
            let _ = ahead.try_send(next);
        }
    }
}

impl Inner {
    /// Starts a thread that decodes frames before they are wanted, for as long as the store is there.
    fn decode_ahead(this: &Arc<Self>) -> Option<SyncSender<usize>> {
        let (sender, wanted) = mpsc::sync_channel::<usize>(1);
        let store = Arc::downgrade(this);
        let work = move || {
            for index in wanted {
                let Some(this) = store.upgrade() else { return };
                if let Some(frame) = this.frames.list.get(index) {
                    // The reader of this frame gets its error.
                    let _ = this.decoded(index, *frame);
                }
            }
        };
        let started = thread::Builder::new().name("ahead".to_owned()).spawn(work);
        started.is_ok().then_some(sender)
    }

    fn frame_at(&self, at: ByteOffset) -> Option<(usize, Frame)> {
        let index = self.frames.list.partition_point(|frame| frame.content.end() <= at);
        self.frames.list.get(index).map(|frame| (index, *frame))
    }

    fn packed_bytes(&self, frame: Frame) -> Result<Vec<u8>> {
        // Bounded by the file: a frame's place was checked against its size.
        read_vec(&*self.file, frame.packed.start(), frame.packed.len().to_usize().unwrap_or(0))
    }

    /// Decodes a whole frame into `out`, which has exactly the length of its content.
    fn decode(&self, frame: Frame, out: &mut [u8]) -> Result<()> {
        if frame.packed.is_empty() {
            out.fill(0);
            return Ok(());
        }
        let packed = self.packed_bytes(frame)?;
        if self.is_zero_frame(&packed, frame) {
            out.fill(0);
            return Ok(());
        }
        self.codec.decode(&packed, frame.packed, out).map_err(|why| {
            Error::mismatch(format!("the image is damaged at its {}: {why}", frame.packed))
        })?;
        if frame.content.len() == TILE && packed.len() <= ZERO_FRAME && is_zero(out) {
            let _ = self.zero_frame.set(packed);
        }
        Ok(())
    }

    /// Returns whether a frame is byte for byte the one that was decoded to zeros before.
    fn is_zero_frame(&self, packed: &[u8], frame: Frame) -> bool {
        frame.content.len() == TILE && self.zero_frame.get().is_some_and(|zero| zero == packed)
    }

    /// Decodes a frame for a small read, or takes it from the cache. Other frames can be decoded at the same time.
    fn decoded(&self, index: usize, frame: Frame) -> Result<Page> {
        self.kept.get_or_make(u64::try_from(index).unwrap_or(u64::MAX), || {
            let len = frame.content.len().to_usize().unwrap_or(0);
            let mut content = vec![0; len];
            self.decode(frame, &mut content)?;
            Ok(Arc::new(content))
        })
    }
}

impl ReadAt for FramedStore {
    fn size(&self) -> ByteLen {
        self.inner.frames.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.inner.frames.size)?;
        let mut at = at;
        let mut rest = buf;
        while !rest.is_empty() {
            let Some((index, frame)) = self.inner.frame_at(at) else {
                return Err(Error::corrupt(format!("no frame holds {at}")));
            };
            let room = frame.content.end().saturating_since(at).to_usize().unwrap_or(0);
            let (now, later) = rest.split_at_mut(room.min(rest.len()));
            let number = u64::try_from(index).unwrap_or(u64::MAX);
            let is_whole = at == frame.content.start() && ByteLen::of(now) == frame.content.len();
            if is_whole && let Some(content) = self.inner.kept.get(number) {
                now.copy_from_slice(&content);
            } else if is_whole {
                self.inner.decode(frame, now)?;
            } else {
                self.look_ahead(index);
                let content = self.inner.decoded(index, frame)?;
                let skip = at.saturating_since(frame.content.start()).to_usize().unwrap_or(0);
                let part = content.get(skip..skip.saturating_add(now.len())).unwrap_or_default();
                now.copy_from_slice(part);
            }
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let Some((index, _)) = self.inner.frame_at(from) else { return Ok(None) };
        for frame in self.inner.frames.list.get(index..).unwrap_or_default() {
            if frame.packed.is_empty() {
                continue;
            }
            let short = frame.packed.len() <= ByteLen::from_usize(ZERO_FRAME);
            if short && self.inner.zero_frame.get().is_some() {
                let packed = self.inner.packed_bytes(*frame)?;
                if self.inner.is_zero_frame(&packed, *frame) {
                    continue;
                }
            }
            return Ok(Some(Span::between(frame.content.start().max(from), frame.content.end())));
        }
        Ok(None)
    }

    fn sector_size(&self) -> SectorSize {
        SectorSize::B512
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::Class;

    /// Every frame repeats its single byte.
    struct Repeated;

    impl Codec for Repeated {
        fn decode(
            &self,
            packed: &[u8],
            _: Span,
            out: &mut [u8],
        ) -> std::result::Result<(), String> {
            out.fill(packed[0]);
            match packed[0] {
                9 => Err("a nine".to_owned()),
                _ => Ok(()),
            }
        }
    }

    /// Fails if data decoded ahead differ, or their error is reported too early or never.
    #[test]
    fn read_ahead_returns_the_same_bytes() {
        let packed: Vec<u8> = (1..=12).collect();
        let mut frames = Frames::default();
        for number in 0..12 {
            frames.push(span(number, 1), ByteLen::mib(1)).unwrap();
        }
        let file = Arc::new(imbrik_store::SparseStore::of(&packed));
        let store = FramedStore::new(file, Box::new(Repeated), frames);
        for frame in 0..12u64 {
            for part in 0..4 {
                let at = ByteOffset::new((frame << 20) + part * 1000);
                let found = read_vec(&store, at, 900);
                match frame {
                    8 => assert_eq!(found.unwrap_err().class(), Class::Mismatch),
                    _ => assert_eq!(found.unwrap(), [frame as u8 + 1; 900]),
                }
            }
        }
        assert!(store.ahead.get().is_some(), "nothing was decoded ahead");
    }

    fn span(start: u64, len: u64) -> Span {
        Span::between(ByteOffset::new(start), ByteOffset::new(start + len))
    }

    #[test]
    fn frame_is_hardly_longer_than_its_content() {
        let mut frames = Frames::default();
        frames.push(span(0, 5 << 20), ByteLen::mib(5)).unwrap();
        frames.push(span(5 << 20, 65_000), ByteLen::new(1)).unwrap();
        for (len, content) in [(1 << 30, ByteLen::mib(4)), (70_000, ByteLen::new(1))] {
            let error = frames.push(span(6 << 20, len), content).unwrap_err();
            assert_eq!(error.class(), Class::Corrupt, "{error}");
        }
        assert_eq!(frames.size(), ByteLen::new((5 << 20) + 1));
    }

    #[test]
    fn number_of_frames_is_limited() {
        let mut frames = Frames::default();
        let one = Frame { packed: span(0, 1), content: span(0, 1) };
        frames.list = vec![one; MOST_FRAMES - 1];
        frames.push(span(1, 1), ByteLen::new(1)).unwrap();
        let error = frames.push(span(2, 1), ByteLen::new(1)).unwrap_err();
        assert_eq!(error.class(), Class::Unsupported, "{error}");
    }
}
