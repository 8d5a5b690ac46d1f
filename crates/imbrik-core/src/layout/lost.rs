//! The owners of unreadable bytes: which files of a card are damaged, and how much of each.

use crate::layout::{Part, Survey};
use imbrik_fs::{FileId, FileKind, Files, OpenVolume, Stretch};
use imbrik_store::{
    Concatenated, ReadAt, Window,
    error::{Class, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    collections::{BTreeMap, HashSet},
    ops::ControlFlow,
    sync::Arc,
};

/// Something that is lost in whole or in part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lost {
    /// The partition: "partition 2 (ext4, hive-07)"; `None` between partitions.
    pub part: Option<String>,
    /// The unreadable part of the file.
    pub what: LostWhat,
}

/// The kind of loss.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum LostWhat {
    /// Bytes of a file's content.
    OfFile {
        /// The path from the root; it may have any encoding.
        path: Vec<u8>,
        /// The number of unreadable bytes.
        len: ByteLen,
        /// The size of the file in bytes.
        size: ByteLen,
    },
    /// Entries of a folder: files in it may be lost without a name.
    OfFolder {
        /// The path from the root.
        path: Vec<u8>,
        /// The number of unreadable bytes of entries.
        len: ByteLen,
    },
    /// The metadata of a file or folder, and so all of its content, unless another name leads to it.
    Whole {
        /// The path from the root.
        path: Vec<u8>,
    },
    /// Bytes of the volume's own metadata, of its journal, or of no known file.
    Elsewhere {
        /// The number of unreadable bytes.
        len: ByteLen,
    },
}

/// Finds the files in `spans` of the card in `source`, in order and joined; these ranges are not read. If the files of
/// a volume are not supported, only the number of bytes is returned.
///
/// # Errors
/// When the source cannot be read elsewhere, or stopping was requested.
pub fn lost_in(source: &Arc<dyn ReadAt>, spans: &[Span], cancel: &Cancel) -> Result<Vec<Lost>> {
    let readable: Arc<dyn ReadAt> = Arc::new(Concatenated::with_zeros(source, spans));
    let survey = Survey::of(&*readable)?;
    let mut found = Vec::new();
    let mut between = spans.iter().map(|span| span.len()).sum::<ByteLen>();
    for part in &survey.parts {
        let inside: Vec<Span> = spans.iter().filter_map(|span| span.intersect(part.span)).collect();
        let all: ByteLen = inside.iter().map(|span| span.len()).sum();
        if all.is_zero() {
            continue;
        }
        between = between.saturating_sub(all);
        let mut part = part.clone();
        let named = of_part(&readable, &mut part, &inside, cancel)?;
        let told = named.iter().map(|what| match what {
            LostWhat::OfFile { len, .. } | LostWhat::OfFolder { len, .. } => *len,
            LostWhat::Whole { .. } | LostWhat::Elsewhere { .. } => ByteLen::ZERO,
        });
        let rest = all.saturating_sub(told.sum());
        let elsewhere = Some(LostWhat::Elsewhere { len: rest }).filter(|_| !rest.is_zero());
        let title = Some(part.full_title());
        found.extend(
            named.into_iter().chain(elsewhere).map(|what| Lost { part: title.clone(), what }),
        );
    }
    if !between.is_zero() {
        found.push(Lost { part: None, what: LostWhat::Elsewhere { len: between } });
    }
    Ok(found)
}

/// The files of a partition in `spans` of the card, which has zeros there. If only a backup identifies the volume, that
/// is reported for the partition.
fn of_part(
    card: &Arc<dyn ReadAt>,
    part: &mut Part,
    spans: &[Span],
    cancel: &Cancel,
) -> Result<Vec<LostWhat>> {
    let Some(place) = part.span.intersect(Span::whole(card.size())) else { return Ok(Vec::new()) };
    let inside = |at: ByteOffset| ByteOffset::new(at.saturating_since(part.span.start()).get());
    let spans: Vec<Span> =
        spans.iter().map(|span| Span::between(inside(span.start()), inside(span.end()))).collect();
    let window: Arc<dyn ReadAt> = Arc::new(Window::new(Arc::clone(card), place)?);
    let Some(volume) = OpenVolume::open_with_copies(window, &spans)? else { return Ok(Vec::new()) };
    part.volume.get_or_insert_with(|| volume.volume().clone());
    // The recovered volume, if the rest is sufficient for that.
    let recovered = volume.examine().ok().and_then(|found| found.recovered);
    let recovered =
        recovered.map(|recovered| OpenVolume::known(recovered.store, volume.volume().clone()));
    let volume = recovered.as_ref().unwrap_or(&volume);
    let Some(files) = volume.files()? else { return Ok(Vec::new()) };
    let mut walk =
        Walk { files: &*files, spans, cancel, seen: HashSet::new(), found: BTreeMap::new() };
    walk.all()?;
    Ok(walk.found.into_values().collect())
}

struct Walk<'a> {
    files: &'a dyn Files,
    /// The lost ranges in the volume, in order.
    spans: Vec<Span>,
    cancel: &'a Cancel,
    seen: HashSet<u64>,
    found: BTreeMap<Vec<u8>, LostWhat>,
}

/// Returns whether an error means that metadata are lost: zeros in their place are invalid.
fn is_damage(class: Class) -> bool {
    matches!(class, Class::Corrupt | Class::Unsupported)
}

impl Walk<'_> {
    fn all(&mut self) -> Result<()> {
        let mut waiting = vec![(self.files.root(), Vec::new())];
        while let Some((file, path)) = waiting.pop() {
            self.cancel.check()?;
            if !self.seen.insert(file.number()) {
                continue;
            }
            match self.file(file, &path, &mut waiting) {
                Err(error) if is_damage(error.class()) => {
                    let path = if path.is_empty() { b"/".to_vec() } else { path };
                    self.found.insert(path.clone(), LostWhat::Whole { path });
                }
                looked => looked?,
            }
        }
        Ok(())
    }

    fn file(
        &mut self,
        file: FileId,
        path: &[u8],
        waiting: &mut Vec<(FileId, Vec<u8>)>,
    ) -> Result<()> {
        let info = self.files.info(file)?;
        if !matches!(info.kind, FileKind::File | FileKind::Folder | FileKind::Link) {
            return Ok(());
        }
        let size = ByteLen::new(info.size);
        let len =
            self.lost_of(file, if info.kind == FileKind::File { Some(size) } else { None })?;
        let is_folder = info.kind == FileKind::Folder;
        if !len.is_zero() {
            let path = if path.is_empty() { b"/".to_vec() } else { path.to_vec() };
            let what = match is_folder {
                true => LostWhat::OfFolder { path: path.clone(), len },
                false => LostWhat::OfFile { path: path.clone(), len, size },
            };
            self.found.insert(path, what);
        }
        if !is_folder {
            return Ok(());
        }
        self.files.entries(file, &mut |entry| {
            waiting.push((entry.file, [path, b"/", entry.name].concat()));
            Ok(ControlFlow::Continue(()))
        })
    }

    /// The number of lost bytes of a file's content; bytes past its end, `size`, don't count.
    fn lost_of(&self, file: FileId, size: Option<ByteLen>) -> Result<ByteLen> {
        let mut lost = ByteLen::ZERO;
        self.files.content(file, &mut |at, stretch| {
            let Stretch::InVolume(span) = stretch else { return Ok(ControlFlow::Continue(())) };
            let left = size.map_or(span.len(), |size| size.saturating_sub(ByteLen::new(at)));
            let end = span.start().saturating_add(span.len().min(left));
            let span = Span::between(span.start(), end);
            let first = self.spans.partition_point(|lost| lost.end() <= span.start());
            let near = self.spans.get(first..).unwrap_or_default().iter();
            let both = near.map_while(|lost| lost.intersect(span)).map(|both| both.len());
            lost = lost.saturating_add(both.sum());
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(lost)
    }
}
