//! Checksum files: lines of `HASH  NAME`, as the standard tools write and check them.

use super::tile::TILE;
use imbrik_store::{
    Pool, ReadAt,
    error::{Error, Result},
    for_pieces,
    units::{ByteLen, ByteOffset, Span},
};
use ring::digest;
use std::{
    ffi::{OsStr, OsString},
    fmt,
    os::unix::ffi::{OsStrExt, OsStringExt},
    path::{Path, PathBuf},
    str::FromStr,
};

/// The hashes that a checksum file can be made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SumKind {
    /// SHA-256: the default.
    Sha256,
    /// SHA-512.
    Sha512,
    /// SHA-1: only for comparing with published checksums.
    Sha1,
    /// MD5: only for comparing with published checksums.
    Md5,
    /// BLAKE3, 256 bits.
    Blake3,
}

impl SumKind {
    /// All algorithms, the default first.
    pub const ALL: [Self; 5] = [Self::Sha256, Self::Sha512, Self::Sha1, Self::Md5, Self::Blake3];

    /// Its name in lower case, which is also the extension of checksum files.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha256 => "sha256",
            Self::Sha512 => "sha512",
            Self::Sha1 => "sha1",
            Self::Md5 => "md5",
            Self::Blake3 => "blake3",
        }
    }

    /// The checksum file of this kind next to `image`.
    #[must_use]
    pub fn path_beside(self, image: &Path) -> PathBuf {
        let mut name = image.as_os_str().to_owned();
        name.push(".");
        name.push(self.name());
        name.into()
    }
}

impl fmt::Display for SumKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Sha256 => "SHA-256",
            Self::Sha512 => "SHA-512",
            Self::Sha1 => "SHA-1",
            Self::Md5 => "MD5",
            Self::Blake3 => "BLAKE3",
        })
    }
}

impl FromStr for SumKind {
    type Err = Error;

    fn from_str(name: &str) -> Result<Self> {
        let known = Self::ALL.into_iter().find(|kind| kind.name() == name);
        known.ok_or_else(|| Error::usage(format!("{name} is not a checksum algorithm")))
    }
}

/// The hashes that the pasted `text` can be: `HEX`, or `sha256:HEX` with any algorithm. 64 digits fit two algorithms.
///
/// # Errors
/// [`crate::Class::Usage`] when it can be none.
pub fn pasted(text: &str) -> Result<Vec<Sum>> {
    let text = text.trim().to_ascii_lowercase();
    let (named, hex) = match text.split_once(':') {
        Some((name, hex)) => (Some(name.parse::<SumKind>()?), hex.trim()),
        None => (None, text.as_str()),
    };
    let kinds: &[SumKind] = match hex.len() {
        32 => &[SumKind::Md5],
        40 => &[SumKind::Sha1],
        64 => &[SumKind::Sha256, SumKind::Blake3],
        128 => &[SumKind::Sha512],
        _ => &[],
    };
    let is_meant = |kind: &&SumKind| named.is_none_or(|named| named == **kind);
    let sums = kinds.iter().filter(is_meant);
    let sums: Vec<_> = sums.map(|kind| Sum { kind: *kind, hex: hex.to_owned() }).collect();
    if sums.is_empty() || !hex.chars().all(|c| c.is_ascii_hexdigit()) {
        return Err(Error::usage(format!(
            "this is not a hash: it has {} characters; md5 has 32, sha1 40, sha256 and blake3 64, \
             sha512 128, all of them 0 to 9 and a to f",
            hex.len()
        )));
    }
    Ok(sums)
}

/// The hashes that `text` can be of the file `name`: a hash, a line of a checksum file with any name,
/// or several lines of which one has that name.
///
/// # Errors
/// [`crate::Class::Usage`] when it contains no hash, or none for that name.
pub fn pasted_for(text: &str, name: &OsStr) -> Result<Vec<Sum>> {
    let lines = SumFile::decode(text.as_bytes());
    match lines.hash_of(name) {
        Some(hex) => pasted(hex),
        None if lines.0.is_empty() => pasted(text),
        None => Err(Error::usage(format!("no line of it is for {}", name.display()))),
    }
}

/// A finished checksum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sum {
    /// Which hash it is.
    pub kind: SumKind,
    /// Its digits, hexadecimal and lowercase.
    pub hex: String,
}

enum Hasher {
    /// SHA-256, SHA-512 and SHA-1.
    Sha(SumKind, digest::Context),
    Md5(md5::Context),
    Blake3(Box<blake3::Hasher>),
}

/// Several checksums of one stream of bytes at once.
pub struct Sums(Vec<Hasher>);

impl Sums {
    /// Starts the checksums `kinds`.
    #[must_use]
    pub fn new(kinds: &[SumKind]) -> Self {
        let start = |kind: &SumKind| match kind {
            SumKind::Sha256 => Hasher::Sha(*kind, digest::Context::new(&digest::SHA256)),
            SumKind::Sha512 => Hasher::Sha(*kind, digest::Context::new(&digest::SHA512)),
            SumKind::Sha1 => {
                let sha1 = &digest::SHA1_FOR_LEGACY_USE_ONLY;
                Hasher::Sha(*kind, digest::Context::new(sha1))
            }
            SumKind::Md5 => Hasher::Md5(md5::Context::new()),
            SumKind::Blake3 => Hasher::Blake3(Box::default()),
        };
        Self(kinds.iter().map(start).collect())
    }

    /// The next bytes of the stream.
    pub fn update(&mut self, bytes: &[u8]) {
        for hasher in &mut self.0 {
            match hasher {
                Hasher::Sha(_, hasher) => hasher.update(bytes),
                Hasher::Md5(hasher) => hasher.consume(bytes),
                Hasher::Blake3(hasher) => {
                    hasher.update(bytes);
                }
            }
        }
    }

    /// Returns whether it makes none at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// So many zeros are next.
    pub fn update_zeros(&mut self, len: ByteLen) {
        static ZEROS: [u8; 64 << 10] = [0; 64 << 10];
        let mut left = len.get();
        while left > 0 {
            let piece = usize::try_from(left).unwrap_or(usize::MAX).min(ZEROS.len());
            let piece = ZEROS.get(..piece).unwrap_or(&ZEROS);
            self.update(piece);
            left = left.saturating_sub(ByteLen::of(piece).get());
        }
    }

    /// Hashes all of `store`, without reading holes; `advanced` receives the progress.
    ///
    /// # Errors
    /// When it cannot be read, and those of `advanced`.
    pub fn update_from(
        &mut self,
        store: &dyn ReadAt,
        mut advanced: impl FnMut(ByteOffset) -> Result<()>,
    ) -> Result<()> {
        // Whole tiles: a packed image decodes each but once.
        let most = TILE.to_usize().unwrap_or(0);
        let mut buffer = Pool::new(most).take(most);
        let mut data = store.next_data(ByteOffset::ZERO)?;
        for_pieces(Span::whole(store.size()), TILE, |piece| {
            if data.is_some_and(|data| data.end() <= piece.start()) {
                data = store.next_data(piece.start())?;
            }
            if data.is_some_and(|data| data.start() < piece.end()) {
                let len = piece.len().to_usize().unwrap_or(0);
                let bytes = buffer.get_mut(..len).unwrap_or_default();
                store.read_at(piece.start(), bytes)?;
                self.update(bytes);
            } else {
                self.update_zeros(piece.len());
            }
            advanced(piece.end())
        })
    }

    /// The checksums of all bytes so far.
    #[must_use]
    pub fn finish(self) -> Vec<Sum> {
        let finish = |hasher| match hasher {
            Hasher::Sha(kind, hasher) => (kind, hex(hasher.finish().as_ref())),
            Hasher::Md5(hasher) => (SumKind::Md5, hex(&hasher.finalize().0)),
            Hasher::Blake3(hasher) => (SumKind::Blake3, hex(hasher.finalize().as_bytes())),
        };
        let sums = self.0.into_iter().map(finish);
        sums.map(|(kind, hex)| Sum { kind, hex }).collect()
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A checksum file.
///
/// A line is the hash, a blank, a blank or `*`, and the name to the line's end. A name that holds
/// a newline or a backslash is written with both escaped, and the line begins with a backslash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SumFile(Vec<(String, OsString)>);

impl SumFile {
    /// A file of one line: `sum` of the file called `name`.
    #[must_use]
    pub fn of(sum: &Sum, name: &OsStr) -> Self {
        Self(vec![(sum.hex.clone(), name.to_owned())])
    }

    /// Reads a checksum file. Lines that are none are passed over: people add remarks.
    #[must_use]
    pub fn decode(bytes: &[u8]) -> Self {
        Self(bytes.split(|byte| *byte == b'\n').filter_map(decode_line).collect())
    }

    /// The file's bytes.
    #[must_use]
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        for (hex, name) in &self.0 {
            let name = name.as_bytes();
            let special = name.iter().any(|byte| matches!(byte, b'\n' | b'\r' | b'\\'));
            if special {
                out.push(b'\\');
            }
            out.extend_from_slice(hex.as_bytes());
            out.extend_from_slice(b"  ");
            for byte in name {
                match byte {
                    b'\n' => out.extend_from_slice(b"\\n"),
                    b'\r' => out.extend_from_slice(b"\\r"),
                    b'\\' => out.extend_from_slice(b"\\\\"),
                    other => out.push(*other),
                }
            }
            out.push(b'\n');
        }
        out
    }

    /// Returns whether a line has just this file's name.
    #[must_use]
    pub fn has_line_for(&self, name: &OsStr) -> bool {
        self.0.iter().any(|(_, listed)| Path::new(listed).file_name().unwrap_or(listed) == name)
    }

    /// The hash of the file called `name`; of the only line there is, when the image was renamed
    /// together with its checksum file.
    #[must_use]
    pub fn hash_of(&self, name: &OsStr) -> Option<&str> {
        let named = self
            .0
            .iter()
            .find(|(_, listed)| Path::new(listed).file_name().unwrap_or(listed) == name);
        match (named, self.0.as_slice()) {
            (Some((hex, _)), _) | (None, [(hex, _)]) => Some(hex),
            _ => None,
        }
    }
}

fn decode_line(line: &[u8]) -> Option<(String, OsString)> {
    let (escaped, line) = match line.strip_prefix(b"\\") {
        Some(rest) => (true, rest),
        None => (false, line),
    };
    let digits = line.iter().take_while(|byte| byte.is_ascii_hexdigit()).count();
    let (hex, rest) = line.split_at_checked(digits)?;
    let name = rest.strip_prefix(b"  ").or_else(|| rest.strip_prefix(b" *"))?;
    let name = name.strip_suffix(b"\r").unwrap_or(name);
    if digits < 32 || name.is_empty() {
        return None;
    }
    let name = if escaped { unescaped(name) } else { name.to_vec() };
    let hex = String::from_utf8(hex.to_ascii_lowercase()).ok()?;
    Some((hex, OsString::from_vec(name)))
}

fn unescaped(name: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut bytes = name.iter();
    while let Some(byte) = bytes.next() {
        out.push(match (byte, byte == &b'\\') {
            (_, true) => match bytes.next() {
                Some(b'n') => b'\n',
                Some(b'r') => b'\r',
                Some(other) => *other,
                None => b'\\',
            },
            (other, false) => *other,
        });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{Counted, SparseStore, Tally, WriteAt as _};
    use proptest::prelude::*;

    #[test]
    fn the_published_hashes_of_nothing_and_of_abc() {
        let of = |bytes: &[u8]| {
            let mut sums = Sums::new(&SumKind::ALL);
            sums.update(bytes);
            sums.finish().into_iter().map(|sum| sum.hex[..8].to_owned()).collect::<Vec<_>>()
        };
        assert_eq!(of(b""), ["e3b0c442", "cf83e135", "da39a3ee", "d41d8cd9", "af1349b9"]);
        assert_eq!(of(b"abc"), ["ba7816bf", "ddaf35a1", "a9993e36", "90015098", "6437b3ac"]);
    }

    #[test]
    fn algorithm_of_a_pasted_hash_follows_from_its_length() {
        let kinds = |text: &str| -> Vec<SumKind> {
            pasted(text).map(|sums| sums.iter().map(|sum| sum.kind).collect()).unwrap_or_default()
        };
        assert_eq!(kinds(&format!(" {}\n", "A".repeat(64))), [SumKind::Sha256, SumKind::Blake3]);
        assert_eq!(kinds(&format!("blake3:{}", "a".repeat(64))), [SumKind::Blake3]);
        assert_eq!(kinds(&"0".repeat(32)), [SumKind::Md5]);
        assert_eq!(kinds(&"0".repeat(33)), []);
        assert_eq!(kinds(&"g".repeat(40)), []);
        assert_eq!(kinds("sha9:00"), []);
    }

    #[test]
    fn a_renamed_image_is_found_in_a_file_of_one_line_only() {
        let hash = "a".repeat(64);
        let one = SumFile::decode(format!("{hash} *old.img\r\n").as_bytes());
        assert_eq!(one.hash_of(OsStr::new("new.img")), Some(hash.as_str()));
        let two = SumFile::decode(format!("{hash}  x\n{hash}  ./sub/y\nremark\n").as_bytes());
        assert_eq!(two.hash_of(OsStr::new("new.img")), None);
        assert_eq!(two.hash_of(OsStr::new("y")), Some(hash.as_str()));
    }

    /// Fails when a hole is read, or counts for more or less than its zeros.
    #[test]
    fn holes_are_hashed_and_not_read() {
        let size = 3 * TILE.get() + 777;
        let store = SparseStore::new(ByteLen::new(size));
        store.write_at(ByteOffset::new(TILE.get() + 5), b"brood").unwrap();
        let mut bytes = vec![0; usize::try_from(size).unwrap()];
        store.read_at(ByteOffset::ZERO, &mut bytes).unwrap();
        let mut expected = Sums::new(&SumKind::ALL);
        expected.update(&bytes);
        let tally = Tally::default();
        let counted = Counted::new(store, &tally);
        let mut found = Sums::new(&SumKind::ALL);
        let mut ends = Vec::new();
        found
            .update_from(&counted, |end| {
                ends.push(end.get());
                Ok(())
            })
            .unwrap();
        assert_eq!(found.finish(), expected.finish());
        assert_eq!(ends.last(), Some(&size));
        assert_eq!(tally.read(), TILE);
    }

    proptest! {
        #[test]
        fn any_name_survives_the_round_trip(
            name in proptest::collection::vec(1u8..=255, 1..20)
                .prop_filter("no separators in a file name", |name| !name.contains(&b'/')),
        ) {
            let sum = Sum { kind: SumKind::Sha256, hex: "0f".repeat(32) };
            let file = SumFile::of(&sum, OsStr::from_bytes(&name));
            let encoded = file.encode();
            prop_assert_eq!(encoded.iter().filter(|byte| **byte == b'\n').count(), 1);
            prop_assert_eq!(SumFile::decode(&encoded), file);
        }

        #[test]
        fn random_bytes_never_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = SumFile::decode(&bytes);
        }
    }
}
