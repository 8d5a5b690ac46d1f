//! Any file as an image: opened, unpacked where that is needed, and read to its end.

use imbrik_core::{
    image::{Image, Unpack},
    progress::{Cancel, Unobserved, Watch},
    store::read_vec,
    units::ByteOffset,
};
use std::path::Path;

pub(crate) fn run(bytes: &[u8]) {
    let folder = Path::new("/dev/shm");
    let mut file = tempfile::NamedTempFile::new_in(folder).expect("room for a small file");
    std::io::Write::write_all(&mut file, bytes).expect("room for a small file");
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let unpack = Unpack { folder, watch, entry: None };
    let Ok(image) = Image::open_with(file.path(), None, Some(unpack)) else { return };
    if let Some(len) = image.content().size().to_usize().filter(|len| *len <= 16 << 20) {
        let _ = read_vec(&**image.content(), ByteOffset::ZERO, len);
    }
}
