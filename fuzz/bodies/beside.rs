//! Any bytes as what stands beside an image: its manifest, its checksum file, a pasted hash.

use imbrik_core::image::{Manifest, SumFile, pasted};
use std::ffi::OsStr;

pub(crate) fn run(bytes: &[u8]) {
    if let Ok(manifest) = Manifest::decode(bytes) {
        let _ = manifest.unreadable_spans();
        // A list of tiles grows with the card: bounded, since it is checked against the image.
        if manifest.tiles.count < 1 << 20 {
            let _ = manifest.tiles.digests();
        }
    }
    let _ = SumFile::decode(bytes).hash_of(OsStr::new("hive-07.img"));
    let _ = std::str::from_utf8(bytes).map(pasted);
}
