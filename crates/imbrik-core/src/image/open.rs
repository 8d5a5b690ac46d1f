//! Opening an image: which container it is, what it holds, what it knows about itself.

use super::{container::Container, manifest::Manifest, zst::ZstStore};
use crate::{
    error::{Error, Result},
    store::{FileStore, ReadAt, read_up_to},
    units::{ByteLen, ByteOffset},
};
use std::{
    fs,
    io::Read,
    path::{Path, PathBuf},
    sync::Arc,
};

/// The longest manifest that is read from beside an image, in bytes.
const MOST_MANIFEST: u64 = 64 << 20;

/// An image file, open for reading.
pub struct Image {
    path: PathBuf,
    container: Container,
    file: Arc<FileStore>,
    content: Arc<dyn ReadAt>,
    manifest: Option<Manifest>,
    findings: Vec<String>,
}

/// Where the manifest of an image stands whose container cannot hold one.
#[must_use]
pub fn manifest_path(image: &Path) -> PathBuf {
    let mut name = image.as_os_str().to_owned();
    name.push(".manifest.json");
    name.into()
}

impl Image {
    /// Opens the image at `path`, going by its content.
    ///
    /// # Errors
    /// - [`crate::Class::Corrupt`] when it is empty, cut short, or its container is damaged.
    /// - [`crate::Class::Unsupported`] when its container cannot be read at random.
    /// - [`crate::Class::Usage`] when it is no file.
    pub fn open(path: &Path) -> Result<Self> {
        let beside = match fs::File::open(manifest_path(path)) {
            Ok(file) => {
                let mut json = Vec::new();
                let read = file.take(MOST_MANIFEST).read_to_end(&mut json);
                read.map_err(|e| Error::io(manifest_path(path).display().to_string(), e))?;
                Some(json)
            }
            Err(_) => None,
        };
        Self::open_with(path, beside.as_deref())
    }

    /// Opens the image at `path` with the manifest that stands, or will stand, beside it.
    ///
    /// # Errors
    /// As [`Image::open`].
    pub fn open_with(path: &Path, beside: Option<&[u8]>) -> Result<Self> {
        let kind = fs::metadata(path)
            .map_err(|e| Error::io(format!("opening {}", path.display()), e))?
            .file_type();
        if !kind.is_file() {
            let what = if kind.is_dir() { "a folder" } else { "no regular file" };
            return Err(Error::usage(format!("{} is {what}, not an image", path.display())));
        }
        let file = Arc::new(FileStore::open(path)?);
        if file.size().is_zero() {
            return Err(Error::corrupt(format!("{} is empty", path.display())));
        }
        let container = Container::of(&read_up_to(&*file, ByteOffset::ZERO, 16)?);
        let at_path = |e: Error| e.at(path.display());
        let mut findings = Vec::new();
        let mut raw_manifest = None;
        let content: Arc<dyn ReadAt> = match container {
            Container::Raw => {
                raw_manifest = beside.map(<[u8]>::to_vec);
                Arc::<FileStore>::clone(&file)
            }
            Container::Zstd => {
                let store = ZstStore::open(Arc::clone(&file)).map_err(at_path)?;
                if store.manifest().is_some() && !store.has_seek_table() {
                    findings.push("the seek table at its end is missing".to_owned());
                }
                raw_manifest = store.manifest().map(<[u8]>::to_vec).or(raw_manifest);
                Arc::new(store)
            }
            other => {
                return Err(at_path(Error::unsupported(format!(
                    "this is a {other} file, which cannot be read yet: unpack it first"
                ))));
            }
        };
        let manifest = match raw_manifest.map(|json| Manifest::decode(&json)) {
            None => None,
            Some(Ok(manifest)) if ByteLen::new(manifest.card_size) == content.size() => {
                Some(manifest)
            }
            Some(Ok(manifest)) => {
                findings.push(format!(
                    "the manifest speaks of a card of {} bytes, the image holds {}",
                    manifest.card_size,
                    content.size()
                ));
                None
            }
            Some(Err(error)) => {
                findings.push(error.to_string());
                None
            }
        };
        let path = path.to_owned();
        Ok(Self { path, container, file, content, manifest, findings })
    }

    /// Where it stands.
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
    pub fn file(&self) -> &Arc<FileStore> {
        &self.file
    }

    /// The card's bytes.
    #[must_use]
    pub fn content(&self) -> &Arc<dyn ReadAt> {
        &self.content
    }

    /// What the image knows about itself; `None` for an image made by others.
    #[must_use]
    pub fn manifest(&self) -> Option<&Manifest> {
        self.manifest.as_ref()
    }

    /// What is wrong with it, a sentence each; empty for a sound image.
    #[must_use]
    pub fn findings(&self) -> &[String] {
        &self.findings
    }
}
