//! Writing an image: tiles in order, then what the image knows about itself.

use super::{
    container::Pack,
    encode::Encoded,
    manifest::Manifest,
    open::manifest_path,
    part_file::{Owner, PartFile},
    sums::{Sum, SumKind, Sums},
    tile::TILE,
    zst::{Entry, MANIFEST_MAGIC, MANIFEST_TAG, encode_seek_table, skippable_header},
};
use crate::{
    bytes::is_zero,
    error::{Error, Result},
    units::ByteLen,
};
use std::{
    io::Write,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

/// How fine the holes of a raw image are, in bytes.
const HOLE: usize = 64 << 10;

/// An image in the making: `NAME.part` until it is published.
pub struct ImageWriter {
    part: PartFile,
    pack: Pack,
    sums: Sums,
    entries: Vec<Entry>,
    /// Bytes of the file so far, holes included.
    len: ByteLen,
    name: PathBuf,
    owner: Option<Owner>,
    replace: bool,
    side_manifest: Option<Vec<u8>>,
}

/// An image that is complete on the medium but does not have its name yet.
pub struct Written {
    writer: ImageWriter,
    /// The checksums of the file.
    pub sums: Vec<Sum>,
    /// Bytes of the file, holes included.
    pub len: ByteLen,
}

impl ImageWriter {
    /// Starts the image `name`.
    ///
    /// # Errors
    /// As [`PartFile::create`].
    pub fn create(
        name: &Path,
        pack: Pack,
        sums: &[SumKind],
        replace: bool,
        owner: Option<Owner>,
    ) -> Result<Self> {
        Ok(Self {
            part: PartFile::create(name, replace, owner)?,
            pack,
            sums: Sums::new(sums),
            entries: Vec::new(),
            len: ByteLen::ZERO,
            name: name.to_owned(),
            owner,
            replace,
            side_manifest: None,
        })
    }

    /// Appends the next tile.
    ///
    /// # Errors
    /// When it cannot be written: [`crate::Class::NoRoom`] when the disk is full.
    pub fn append(&mut self, tile: Encoded) -> Result<()> {
        match tile {
            Encoded::Packed { frame, content } => self.append_frame(&frame, content),
            Encoded::PackedZeros { frame } => self.append_frame(&frame, TILE),
            Encoded::Plain(tile) => self.append_plain(&tile),
            Encoded::Zeros(len) => {
                static ZEROS: [u8; HOLE] = [0; HOLE];
                let mut left = len.to_usize().unwrap_or(0);
                while left > 0 {
                    let piece = ZEROS.get(..left.min(HOLE)).unwrap_or(&ZEROS);
                    self.sums.update(piece);
                    left = left.saturating_sub(piece.len());
                }
                self.len = self.len.saturating_add(len);
                Ok(())
            }
        }
    }

    fn append_frame(&mut self, frame: &[u8], content: ByteLen) -> Result<()> {
        let too_long = |_| Error::corrupt("a frame is longer than its format allows");
        self.entries.push(Entry {
            packed: u32::try_from(frame.len()).map_err(too_long)?,
            content: u32::try_from(content.get()).map_err(too_long)?,
        });
        self.write(frame)
    }

    fn append_plain(&mut self, tile: &[u8]) -> Result<()> {
        self.sums.update(tile);
        for piece in tile.chunks(HOLE) {
            if !is_zero(piece) {
                let at = self.len.get();
                self.part.file().write_all_at(piece, at).map_err(|e| self.failed(e))?;
            }
            self.len = self.len.saturating_add(ByteLen::of(piece));
        }
        Ok(())
    }

    fn write(&mut self, bytes: &[u8]) -> Result<()> {
        self.sums.update(bytes);
        self.part.file().write_all(bytes).map_err(|e| self.failed(e))?;
        self.len = self.len.saturating_add(ByteLen::of(bytes));
        Ok(())
    }

    fn failed(&self, cause: std::io::Error) -> Error {
        Error::io(format!("writing {}", self.part.path().display()), cause)
    }

    /// Writes what the image knows about itself, and syncs it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn finish(mut self, manifest: &Manifest) -> Result<Written> {
        let json = manifest.encode();
        match self.pack {
            Pack::Raw => {
                let len = self.len.get();
                self.part.file().set_len(len).map_err(|e| self.failed(e))?;
                self.side_manifest = Some(json);
            }
            Pack::Zst => {
                let len = json.len().checked_add(MANIFEST_TAG.len());
                let len = len.and_then(|len| u32::try_from(len).ok());
                let len = len.ok_or_else(|| Error::corrupt("the manifest is too long"))?;
                let mut frame = skippable_header(MANIFEST_MAGIC, len).to_vec();
                frame.extend_from_slice(MANIFEST_TAG);
                frame.extend_from_slice(&json);
                self.append_frame(&frame, ByteLen::ZERO)?;
                let table = encode_seek_table(&self.entries)
                    .ok_or_else(|| Error::unsupported("the card has too many tiles"))?;
                self.write(&table)?;
            }
        }
        self.part.sync()?;
        let sums = std::mem::replace(&mut self.sums, Sums::new(&[])).finish();
        Ok(Written { len: self.len, sums, writer: self })
    }
}

impl Written {
    /// Where the image stands until it is published.
    #[must_use]
    pub fn path(&self) -> &Path {
        self.writer.part.path()
    }

    /// The manifest that will stand beside it, when its container cannot hold one.
    #[must_use]
    pub fn side_manifest(&self) -> Option<&[u8]> {
        self.writer.side_manifest.as_deref()
    }

    /// Gives the image its name, and puts its checksum files and its manifest beside it.
    ///
    /// Files beside an image that is replaced go first, so that no image ever stands beside the
    /// checksum of another.
    ///
    /// # Errors
    /// When a file cannot be written or renamed; what has its name by then is complete.
    pub fn publish(self) -> Result<()> {
        let ImageWriter { part, name, owner, replace, side_manifest, .. } = self.writer;
        if replace {
            let beside = SumKind::ALL.into_iter().map(|kind| kind.path_beside(&name));
            for old in beside.chain([manifest_path(&name)]) {
                // Missing is as good as removed; anything else shows when the new one is written.
                let _ = std::fs::remove_file(old);
            }
        }
        let beside = |path: &Path, bytes: &[u8]| {
            let side = PartFile::create(path, true, owner)?;
            let failed = |e| Error::io(format!("writing {}", path.display()), e);
            side.file().write_all_at(bytes, 0).map_err(failed)?;
            side.publish()
        };
        part.publish()?;
        if let Some(json) = side_manifest {
            beside(&manifest_path(&name), &json)?;
        }
        for sum in &self.sums {
            let file_name = name.file_name().unwrap_or(name.as_os_str());
            let lines = super::sums::SumFile::of(sum, file_name);
            beside(&sum.kind.path_beside(&name), &lines.encode())?;
        }
        Ok(())
    }
}
