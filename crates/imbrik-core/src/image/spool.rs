//! A container that can only be decoded from its start is decoded once, into a temporary file of
//! frames that can be read at random.

use super::{
    container::Container,
    formats::{Stream, ZstCodec, broken},
    frames::{FramedStore, Frames},
    open::Unpack,
    tile::TILE,
};
use imbrik_store::{
    FileStore, ReadAt,
    bytes::is_zero,
    error::{Error, Result},
    progress::{Event, Step},
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    fs::File,
    io::{self, Read, Write},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
        mpsc,
    },
    thread,
};

/// The fastest level: the file lives for minutes.
const LEVEL: i32 = 1;
/// The largest possible card: a file that unpacks to more is malicious.
const MOST: ByteLen = ByteLen::mib(4 << 20);
/// Tiles on their way from decoding to encoding.
const AHEAD: usize = 2;

/// A temporary file in `folder` that has no name, so that nothing is left of it in any case.
///
/// # Errors
/// When there can be none.
pub(super) fn temporary(folder: &Path) -> Result<File> {
    let made = tempfile::tempfile_in(folder);
    made.map_err(|e| Error::io(format!("making a temporary file in {}", folder.display()), e))
}

/// The content of `file`, a `container`, unpacked to a temporary file.
///
/// # Errors
/// [`crate::Class::Corrupt`] when it is truncated or damaged, [`crate::Class::NoRoom`] when the
/// temporary file does not fit; [`crate::Class::Unsupported`] when it holds no image or not
/// plainly one.
pub(super) fn unpacked(
    file: &Arc<dyn ReadAt>,
    container: Container,
    unpack: Unpack<'_>,
) -> Result<FramedStore> {
    let Unpack { folder, watch, entry } = unpack;
    let read = Arc::new(AtomicU64::new(0));
    let total = file.size();
    watch.observer.on(&Event::Started { step: Step::Unpacking, total });
    let stream = Stream::of(Arc::clone(file), Arc::clone(&read));
    let mut kept = None;
    container.format().decode(stream, entry, &mut |content| {
        let advanced = || {
            watch.cancel.check()?;
            let done = ByteLen::new(read.load(Ordering::Relaxed)).min(total);
            watch.observer.on(&Event::Advanced { done });
            Ok(())
        };
        let store = keep(content, temporary(folder)?, advanced).map_err(|error| {
            if error.class() == imbrik_store::Class::NoRoom {
                error.at(format!("keeping the unpacked image in {}", folder.display()))
            } else {
                error
            }
        })?;
        kept = Some(store);
        Ok(())
    })?;
    watch.observer.on(&Event::Finished);
    kept.ok_or_else(|| Error::bug("a container was decoded without storing it"))
}

/// Reads `content` to its end and keeps it in `file`, a frame a tile; nothing for tiles of zeros.
fn keep(
    content: &mut dyn Read,
    file: File,
    advanced: impl Fn() -> Result<()>,
) -> Result<FramedStore> {
    thread::scope(|scope| {
        let (sender, tiles) = mpsc::sync_channel::<Vec<u8>>(AHEAD);
        let keeper = scope.spawn(move || encode(&tiles, file));
        let mut held = ByteLen::ZERO;
        let decoded = loop {
            let mut tile = Vec::new();
            let most = TILE.get();
            let read = content.take(most).read_to_end(&mut tile).map_err(broken);
            held = held.plus(ByteLen::of(&tile))?;
            let is_last = ByteLen::of(&tile) < TILE;
            match read.and_then(|_| advanced()) {
                Err(error) => break Err(error),
                Ok(()) if held > MOST => {
                    break Err(Error::unsupported(format!(
                        "it unpacks to more than {MOST}, the largest card"
                    )));
                }
                Ok(()) => {}
            }
            // A keeper that went away has the better reason.
            if (!tile.is_empty() && sender.send(tile).is_err()) || is_last {
                break Ok(());
            }
        };
        drop(sender);
        let kept = keeper.join().map_err(|_| Error::bug("the unpacking thread ended early"));
        let kept = kept?;
        decoded?;
        kept
    })
}

fn encode(tiles: &mpsc::Receiver<Vec<u8>>, mut file: File) -> Result<FramedStore> {
    let failed = |e: io::Error| Error::io("writing a temporary file", e);
    let mut compressor = zstd::bulk::Compressor::new(LEVEL).map_err(failed)?;
    let mut frames = Frames::default();
    let mut end = ByteOffset::ZERO;
    for tile in tiles {
        let start = end;
        if !is_zero(&tile) {
            let frame = compressor.compress(&tile).map_err(failed)?;
            file.write_all(&frame).map_err(failed)?;
            end = start.plus(ByteLen::of(&frame))?;
        }
        frames.push(Span::between(start, end), ByteLen::of(&tile))?;
    }
    let file: Arc<dyn ReadAt> = Arc::new(FileStore::from_file(file)?);
    Ok(FramedStore::new(file, Box::<ZstCodec>::default(), frames))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::read_vec;

    #[test]
    fn spooled_bytes_read_back_and_zeros_take_no_space() {
        let tile = TILE.to_usize().unwrap();
        let mut content = vec![0; tile * 3 + 77];
        content[tile * 2 + 5] = 9;
        content[tile * 3 + 76] = 8;
        let kept = keep(&mut &content[..], tempfile::tempfile().unwrap(), || Ok(())).unwrap();
        assert!(read_vec(&kept, ByteOffset::ZERO, content.len()).unwrap() == content);
        let data = kept.next_data(ByteOffset::new(3)).unwrap().unwrap();
        assert_eq!(data.start(), ByteOffset::new(TILE.get() * 2));
    }

    #[test]
    fn empty_input_and_a_failure_midway_terminate() {
        let kept = keep(&mut io::empty(), tempfile::tempfile().unwrap(), || Ok(())).unwrap();
        assert_eq!(kept.size(), ByteLen::ZERO);
        let mut long = io::repeat(7).take(TILE.get() * 9);
        let file = tempfile::tempfile().unwrap();
        let error = keep(&mut long, file, || Err(Error::cancelled())).err().unwrap();
        assert_eq!(error.class(), imbrik_store::Class::Cancelled);
    }
}
