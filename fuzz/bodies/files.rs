//! Any bytes as a volume: the tree of its files, with all that is known of each, and the content.

use imbrik_core::{
    fs::{FileId, FileKind, Files, OpenVolume},
    store::SparseStore,
};
use std::{ops::ControlFlow, sync::Arc};

/// A folder that holds itself has no end.
const MOST: usize = 300;

pub(crate) fn run(bytes: &[u8]) {
    let Ok(Some(volume)) = OpenVolume::open(Arc::new(SparseStore::of(bytes))) else { return };
    let Ok(Some(files)) = volume.files() else { return };
    let mut waiting = vec![files.root()];
    let mut seen = 0;
    while let Some(file) = waiting.pop() {
        seen += 1;
        let Some(kind) = look_at(&*files, file) else { continue };
        if kind == FileKind::Folder && seen < MOST {
            let _ = files.entries(file, &mut |entry| {
                waiting.push(entry.file);
                Ok(if waiting.len() < MOST {
                    ControlFlow::Continue(())
                } else {
                    ControlFlow::Break(())
                })
            });
        }
    }
    let _ = files.faults();
}

fn look_at(files: &dyn Files, file: FileId) -> Option<FileKind> {
    let kind = files.info(file).ok()?.kind;
    let _ = files.read(file, 1 << 20);
    let _ = files.attributes(file);
    Some(kind)
}
