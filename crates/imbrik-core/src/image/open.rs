//! Opening an image: its container, its content and its manifest.

use super::{
    container::Container,
    formats::Inside,
    frames::FramedStore,
    manifest::Manifest,
    spool::{temporary, unpacked},
    standing::Standing,
    stranger,
    tile::{PIECE, TILE},
};
use crate::image::ImageFinding;
use imbrik_store::{
    FileStore, ReadAt,
    bytes::is_zero,
    error::{Error, Result},
    progress::{Event, Step, Watch},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    fs,
    io::Read,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::Arc,
};

/// The maximum length of a manifest file next to an image, in bytes.
const MOST_MANIFEST: u64 = 64 << 20;

/// An image, open for reading: a file, or any other store.
pub struct Image {
    path: PathBuf,
    container: Container,
    file: Arc<dyn ReadAt>,
    /// The same file, when it is one of the system's.
    disk: Option<Arc<FileStore>>,
    content: Arc<dyn ReadAt>,
    /// The same content, if it is in frames of this file.
    framed: Option<Arc<FramedStore>>,
    manifest: Option<Manifest>,
    manifest_digest: Option<blake3::Hash>,
    findings: Vec<ImageFinding>,
}

/// The path of the manifest, for containers that can't contain it.
#[must_use]
pub fn manifest_path(image: &Path) -> PathBuf {
    let mut name = image.as_os_str().to_owned();
    name.push(".manifest.json");
    name.into()
}

/// How an image is opened that cannot be read at random: unpacked to a temporary file.
#[derive(Clone, Copy)]
pub struct Unpack<'a> {
    /// The folder for the temporary file, which is removed when the image is dropped.
    pub folder: &'a Path,
    /// The observer and the cancel token.
    pub watch: Watch<'a>,
    /// The name of the image in an archive that holds several files.
    pub entry: Option<&'a str>,
}

impl Image {
    /// Opens the image at `path`, going by its content. Without `unpack`, only if it can be read
    /// at random.
    ///
    /// # Errors
    /// - [`crate::Class::Corrupt`] when it is empty, truncated, or its container is damaged.
    /// - [`crate::Class::Unsupported`] when it is an archive without an image or with several, or when it has no random
    ///   access and may not be unpacked.
    /// - [`crate::Class::NoRoom`] when the temporary file does not fit.
    /// - [`crate::Class::Usage`] when it is not a file.
    pub fn open(path: &Path, unpack: Option<Unpack<'_>>) -> Result<Self> {
        let beside = match fs::File::open(manifest_path(path)) {
            Ok(file) => {
                let mut json = Vec::new();
                let read = file.take(MOST_MANIFEST).read_to_end(&mut json);
                read.map_err(|e| Error::io(manifest_path(path).display().to_string(), e))?;
                Some(json)
            }
            Err(_) => None,
        };
        Self::open_with(path, beside.as_deref(), unpack)
    }

    /// Opens the image at `path` with its manifest from another file.
    ///
    /// # Errors
    /// As [`Image::open`].
    pub fn open_with(
        path: &Path,
        beside: Option<&[u8]>,
        unpack: Option<Unpack<'_>>,
    ) -> Result<Self> {
        let kind = fs::metadata(path)
            .map_err(|e| Error::io(format!("opening {}", path.display()), e))?
            .file_type();
        if !kind.is_file() {
            let what = if kind.is_dir() { "a folder" } else { "no regular file" };
            return Err(Error::usage(format!("{} is {what}, not an image", path.display())));
        }
        let disk = Arc::new(FileStore::open(path)?);
        let file: Arc<dyn ReadAt> = Arc::<FileStore>::clone(&disk);
        Ok(Self { disk: Some(disk), ..Self::of_store(path, file, beside, unpack)? })
    }

    /// The kind of content if it is obviously not a card, in common terms.
    #[must_use]
    pub fn is_rather(&self) -> Option<&'static str> {
        let head = read_up_to(&**self.content(), ByteOffset::ZERO, stranger::HEAD);
        stranger::kind(&head.ok()?)
    }

    /// Reads an image from a pipe: its bytes are copied to a temporary file first, because some formats have their
    /// metadata at the end.
    ///
    /// # Errors
    /// As [`Image::open`].
    pub fn from_pipe(pipe: &mut dyn Read, unpack: Unpack<'_>) -> Result<Self> {
        let file = taken_in(pipe, unpack).map_err(|e| e.at("the pipe"))?;
        Self::of_store(Path::new("-"), Arc::new(file), None, Some(unpack))
    }

    /// Takes the image out of any store, `file`, that is called `path` in messages.
    ///
    /// # Errors
    /// As [`Image::open`].
    pub fn of_store(
        path: &Path,
        file: Arc<dyn ReadAt>,
        beside: Option<&[u8]>,
        unpack: Option<Unpack<'_>>,
    ) -> Result<Self> {
        if file.size().is_zero() {
            return Err(Error::corrupt(format!("{} is empty", path.display())));
        }
        let at_path = |e: Error| e.at(path.display());
        let container = Container::of(&read_up_to(&*file, ByteOffset::ZERO, 16)?);
        let inside = container.format().look(&file).map_err(at_path)?;
        let Inside { framed, manifest: embedded, mut findings } = inside;
        let is_unpacked = framed.is_none() && !container.is_raw();
        let framed = match (framed, unpack) {
            (Some(framed), _) => Some(framed),
            (None, _) if container.is_raw() => None,
            (None, Some(unpack)) => {
                let unpacked = unpacked(&file, container, unpack);
                Some(unpacked.map_err(at_path)?)
            }
            (None, None) => {
                return Err(at_path(Error::unsupported(format!(
                    "this {container} file has no random access"
                ))));
            }
        };
        let framed = framed.map(Arc::new);
        let content: Arc<dyn ReadAt> = match &framed {
            Some(framed) => Arc::<FramedStore>::clone(framed),
            None => Arc::clone(&file),
        };
        if content.size().is_zero() {
            return Err(at_path(Error::corrupt("it is empty")));
        }
        if is_unpacked {
            let nested = Container::of(&read_up_to(&*content, ByteOffset::ZERO, 16)?);
            if !nested.is_raw() {
                return Err(at_path(Error::unsupported(format!(
                    "inside this {container} file is a {nested} file: unpack the {container} first"
                ))));
            }
        }
        let json = embedded.or_else(|| beside.map(<[u8]>::to_vec));
        let manifest_digest = json.as_ref().map(|json| blake3::hash(json));
        let manifest = match json.map(|json| Manifest::decode(&json)) {
            None => None,
            Some(Ok(manifest)) if ByteLen::new(manifest.card_size) == content.size() => {
                Some(manifest)
            }
            Some(Ok(manifest)) => {
                let said = ByteLen::new(manifest.card_size);
                findings.push(ImageFinding::OtherCard { said, holds: content.size() });
                None
            }
            Some(Err(error)) => {
                findings.push(ImageFinding::ManifestDamaged { why: error.to_string() });
                None
            }
        };
        let path = path.to_owned();
        let framed = framed.filter(|_| !is_unpacked);
        Ok(Self {
            path,
            container,
            file,
            disk: None,
            content,
            framed,
            manifest,
            manifest_digest,
            findings,
        })
    }

    /// Its path.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Which container it is.
    #[must_use]
    pub fn container(&self) -> Container {
        self.container
    }

    /// The file itself.
    #[must_use]
    pub fn file(&self) -> &Arc<dyn ReadAt> {
        &self.file
    }

    /// The frames, members or streams in the file that together contain exactly the bytes of `span`, or these bytes of
    /// a raw image; `None` if there are none.
    #[must_use]
    pub fn standing(&self, span: Span) -> Option<Vec<Standing>> {
        let places = match &self.framed {
            Some(framed) => framed.places_of(span)?,
            None => vec![self.container.is_raw().then_some((span, span.len()))?],
        };
        let whole = Span::whole(self.file.size());
        let standing = |(packed, content): (Span, ByteLen)| {
            let is_there = packed.intersect(whole) == Some(packed);
            let (file, disk) = (Arc::clone(&self.file), self.disk.clone());
            is_there.then_some(Standing { file, disk, packed, content, is_verified: false })
        };
        places.into_iter().map(standing).collect()
    }

    /// Returns whether its tiles are packed in pieces.
    #[must_use]
    pub fn is_in_pieces(&self) -> bool {
        self.framed.as_ref().is_some_and(|framed| framed.has_content_of(PIECE))
    }

    /// The card's bytes.
    #[must_use]
    pub fn content(&self) -> &Arc<dyn ReadAt> {
        &self.content
    }

    /// The manifest; `None` for an image from another program.
    #[must_use]
    pub fn manifest(&self) -> Option<&Manifest> {
        self.manifest.as_ref()
    }

    /// BLAKE3 of the manifest's bytes, which identifies the image; `None` without a manifest.
    #[must_use]
    pub fn manifest_digest(&self) -> Option<blake3::Hash> {
        self.manifest_digest
    }

    /// Verifies data that other decoders need, and this one does not.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn verify_container(&self) -> Result<Option<ImageFinding>> {
        let refused = self.container.format().verify(&self.file)?;
        Ok(refused.map(|what| ImageFinding::OthersRefuse { what }))
    }

    /// Problems of the image; empty if it is intact.
    #[must_use]
    pub fn findings(&self) -> &[ImageFinding] {
        &self.findings
    }
}

/// Copies `pipe` to a temporary file, with zeros as holes.
fn taken_in(pipe: &mut dyn Read, unpack: Unpack<'_>) -> Result<FileStore> {
    let file = temporary(unpack.folder)?;
    let failed = |e| Error::io(format!("keeping it in {}", unpack.folder.display()), e);
    // How much will come is not known.
    unpack.watch.observer.on(&Event::Started { step: Step::TakingIn, total: ByteLen::ZERO });
    let mut at = 0u64;
    let mut piece = Vec::new();
    loop {
        unpack.watch.cancel.check()?;
        piece.clear();
        let read = pipe.take(TILE.get()).read_to_end(&mut piece);
        unpack.watch.cancel.check()?;
        read.map_err(|e| Error::io("reading", e))?;
        if !is_zero(&piece) {
            file.write_all_at(&piece, at).map_err(failed)?;
        }
        at = at.saturating_add(ByteLen::of(&piece).get());
        unpack.watch.observer.on(&Event::Advanced { done: ByteLen::new(at) });
        if ByteLen::of(&piece) < TILE {
            break;
        }
    }
    file.set_len(at).map_err(failed)?;
    unpack.watch.observer.on(&Event::Finished);
    FileStore::from_file(file)
}
