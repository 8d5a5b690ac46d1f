//! Decoding a container from its start to its end, whatever it is: for those that cannot be read
//! at random.

use super::{container::Container, xz::MOST_MEMORY};
use bzip2::bufread::BzDecoder;
use flate2::bufread::GzDecoder;
use imbrik_store::{
    FileStore,
    error::{Class, Error, Result},
};
use liblzma::{bufread::XzDecoder, stream::Stream};
use std::{
    fs::File,
    io::{self, BufRead, BufReader, Read, Seek, SeekFrom},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};
use zip::{CompressionMethod, ZipArchive, result::ZipError};

/// How many names are told when it is not plain which is meant.
const MOST_NAMED: usize = 5;
/// How many entries of an archive are looked at.
const MOST_ENTRIES: usize = 10_000;
const BUFFER: usize = 1 << 18;

/// A file that counts how many of its bytes were read.
struct CountedFile {
    file: File,
    read: Arc<AtomicU64>,
}

impl Read for CountedFile {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = self.file.read(buf)?;
        self.read.fetch_add(u64::try_from(len).unwrap_or(0), Ordering::Relaxed);
        Ok(len)
    }
}

impl Seek for CountedFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

/// Hands the content of `file`, a `container`, to `work` as a stream; of an archive, `entry`, or the
/// only image in it. `read` counts the bytes of
/// the file that were dealt with.
///
/// # Errors
/// [`Class::Unsupported`] when it holds no image or not plainly one, and what `work` answers. What
/// is wrong with the content itself is an error of the stream.
pub(super) fn with_content<T>(
    file: &FileStore,
    container: Container,
    entry: Option<&str>,
    read: &Arc<AtomicU64>,
    work: impl FnOnce(&mut dyn Read) -> Result<T>,
) -> Result<T> {
    // A handle of its own would share its place in the file: this one is only ever used here.
    let mut handle = file.file().try_clone().map_err(|e| Error::io("opening it again", e))?;
    handle.rewind().map_err(|e| Error::io("going to its start", e))?;
    let file =
        BufReader::with_capacity(BUFFER, CountedFile { file: handle, read: Arc::clone(read) });
    match container {
        Container::Raw => work(&mut { file }),
        Container::Zip => zip_content(file, entry, work),
        Container::SevenZip => seven_zip_content(file, entry, work),
        Container::Zstd | Container::Gzip | Container::Xz | Container::Bzip2 => {
            work(&mut Members { container, state: State::Between(file) })
        }
    }
}

/// One after the other, the members of a stream: gzip, xz and bzip2 files may be concatenated, and
/// padded with zeros.
struct Members<R: BufRead> {
    container: Container,
    state: State<R>,
}

enum State<R: BufRead> {
    Between(R),
    Gzip(Box<GzDecoder<R>>),
    Bzip2(Box<BzDecoder<R>>),
    Xz(Box<XzDecoder<R>>),
    Zstd(Box<zstd::stream::read::Decoder<'static, R>>),
    Done,
}

impl<R: BufRead> Members<R> {
    fn start(&self, source: R) -> io::Result<State<R>> {
        Ok(match self.container {
            Container::Gzip => State::Gzip(Box::new(GzDecoder::new(source))),
            Container::Bzip2 => State::Bzip2(Box::new(BzDecoder::new(source))),
            Container::Xz => {
                let stream = Stream::new_stream_decoder(MOST_MEMORY, 0)?;
                State::Xz(Box::new(XzDecoder::new_stream(source, stream)))
            }
            _ => {
                let decoder = zstd::stream::read::Decoder::with_buffer(source)?;
                State::Zstd(Box::new(decoder.single_frame()))
            }
        })
    }
}

impl<R: BufRead> Read for Members<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        if buf.is_empty() {
            return Ok(0);
        }
        loop {
            let len = match &mut self.state {
                State::Between(_) => 0,
                State::Gzip(decoder) => decoder.read(buf)?,
                State::Bzip2(decoder) => decoder.read(buf)?,
                State::Xz(decoder) => decoder.read(buf)?,
                State::Zstd(decoder) => decoder.read(buf)?,
                State::Done => return Ok(0),
            };
            if len > 0 {
                return Ok(len);
            }
            let mut source = match std::mem::replace(&mut self.state, State::Done) {
                State::Between(source) => source,
                State::Gzip(decoder) => decoder.into_inner(),
                State::Bzip2(decoder) => decoder.into_inner(),
                State::Xz(decoder) => decoder.into_inner(),
                State::Zstd(decoder) => decoder.finish(),
                State::Done => return Ok(0),
            };
            if !at_a_member(&mut source, self.container)? {
                return Ok(0);
            }
            self.state = self.start(source)?;
        }
    }
}

/// Whether another member begins here; `false` at the end, zeros in front of it passed over.
fn at_a_member(source: &mut impl BufRead, container: Container) -> io::Result<bool> {
    loop {
        let ahead = source.fill_buf()?;
        let zeros = ahead.iter().take_while(|byte| **byte == 0).count();
        match ahead.get(zeros..) {
            None | Some([]) if zeros == 0 => return Ok(false),
            None | Some([]) => source.consume(zeros),
            Some([first, ..]) => {
                let known: &[u8] = match container {
                    Container::Gzip => &[0x1f],
                    Container::Bzip2 => b"B",
                    Container::Xz => &[0xfd],
                    // A frame, or a skippable one.
                    _ => &[
                        0x28, 0x50, 0x51, 0x52, 0x53, 0x54, 0x55, 0x56, 0x57, 0x58, 0x59, 0x5a,
                        0x5b, 0x5c, 0x5d, 0x5e, 0x5f,
                    ],
                };
                if known.contains(first) {
                    source.consume(zeros);
                    return Ok(true);
                }
                return Err(io::Error::new(
                    io::ErrorKind::InvalidData,
                    format!("something that is no {container} stands behind its end"),
                ));
            }
        }
    }
}

/// An error of the stream itself, as an error of the image.
pub(super) fn broken(error: io::Error) -> Error {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => Error::corrupt("it is cut short"),
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::Other => {
            Error::corrupt(format!("it is damaged: {}", error.to_string().to_lowercase()))
        }
        _ => Error::io("unpacking it", error),
    }
}

/// Which entry is the image, from the names of all: the only file, or the only one whose name is
/// an image's. Names are only ever compared.
fn only_image(names: &[String], kind: &str, wanted: Option<&str>) -> Result<usize> {
    if let Some(wanted) = wanted {
        return names.iter().position(|name| name == wanted).ok_or_else(|| {
            let what = format!("there is no {wanted} in this {kind} archive");
            Error::new(Class::Usage, what)
        });
    }
    let is_file = |name: &str| {
        let is_extra = name.starts_with("__MACOSX/") || name.contains("/._");
        !name.ends_with('/') && !is_extra
    };
    let is_image = |name: &str| {
        let name = name.to_ascii_lowercase();
        [".img", ".iso", ".bin", ".raw"].iter().any(|end| name.ends_with(end))
    };
    let files = || names.iter().enumerate().filter(|(_, name)| is_file(name));
    let mut images = files().filter(|(_, name)| is_image(name)).map(|(index, _)| index);
    let mut all = files().map(|(index, _)| index);
    match (images.next(), images.next(), all.next(), all.next()) {
        (Some(index), None, _, _) | (None, _, Some(index), None) => Ok(index),
        (_, _, None, _) => {
            Err(Error::unsupported(format!("there is no file in this {kind} archive")))
        }
        _ => {
            let named = |pick: &dyn Fn(&str) -> bool| -> Vec<&str> {
                files().map(|(_, name)| name.as_str()).filter(|name| pick(name)).collect()
            };
            let images = named(&is_image);
            let all = if images.is_empty() { named(&|_| true) } else { images };
            let more = if all.len() > MOST_NAMED { ", ..." } else { "" };
            let shown = all.iter().take(MOST_NAMED).copied().collect::<Vec<_>>().join(", ");
            Err(Error::unsupported(format!(
                "this {kind} archive holds {} files that could be the image ({shown}{more}): name one \
                 as ARCHIVE:NAME",
                all.len()
            )))
        }
    }
}

fn zip_content<T>(
    file: impl Read + Seek,
    entry: Option<&str>,
    work: impl FnOnce(&mut dyn Read) -> Result<T>,
) -> Result<T> {
    let mut archive = ZipArchive::new(file).map_err(zip_error)?;
    if archive.len() > MOST_ENTRIES {
        return Err(Error::unsupported("this zip archive has too many entries: unpack it first"));
    }
    let mut names = Vec::new();
    for index in 0..archive.len() {
        let entry = archive.by_index_raw(index).map_err(zip_error)?;
        names.push(String::from_utf8_lossy(entry.name_raw()).into_owned());
    }
    let mut entry = archive.by_index(only_image(&names, "zip", entry)?).map_err(zip_error)?;
    if !matches!(entry.compression(), CompressionMethod::Stored | CompressionMethod::Deflated) {
        let how = entry.compression();
        return Err(Error::unsupported(format!(
            "this zip archive is packed with {how}, which is not read: unpack it first"
        )));
    }
    work(&mut entry)
}

fn zip_error(error: ZipError) -> Error {
    match error {
        ZipError::Io(error) => broken(error),
        ZipError::UnsupportedArchive(why) => Error::unsupported(format!(
            "this zip archive cannot be read: {}; unpack it first",
            why.to_lowercase()
        )),
        // The library's own words name parts of the format that only its authors know.
        _ => Error::corrupt("the zip archive is damaged, or not all of it is there"),
    }
}

fn seven_zip_content<T>(
    file: impl Read + Seek,
    entry: Option<&str>,
    work: impl FnOnce(&mut dyn Read) -> Result<T>,
) -> Result<T> {
    let failed = |error: sevenz_rust2::Error| match error {
        sevenz_rust2::Error::Io(error, _) => broken(error),
        sevenz_rust2::Error::PasswordRequired | sevenz_rust2::Error::MaybeBadPassword(_) => {
            Error::unsupported("this 7z archive is encrypted: unpack it first")
        }
        sevenz_rust2::Error::UnsupportedCompressionMethod(how) => Error::unsupported(format!(
            "this 7z archive is packed with {how}, which is not read: unpack it first"
        )),
        _ => Error::corrupt("the 7z archive is damaged, or not all of it is there"),
    };
    let mut archive = {
        let most = usize::try_from(MOST_MEMORY >> 10).unwrap_or(usize::MAX);
        let none = sevenz_rust2::Password::empty();
        sevenz_rust2::ArchiveReader::new_with_memory_limit(file, none, most).map_err(failed)?
    };
    let files = archive.archive().files.iter().filter(|entry| !entry.is_directory());
    let names: Vec<String> = files.map(|entry| entry.name().to_owned()).collect();
    if names.len() > MOST_ENTRIES {
        return Err(Error::unsupported("this 7z archive has too many entries: unpack it first"));
    }
    let name = names.get(only_image(&names, "7z", entry)?).cloned().unwrap_or_default();
    let mut work = Some(work);
    let mut result = None;
    archive
        .for_each_entries(|entry, content| {
            match (entry.name() == name, work.take()) {
                (true, Some(work)) => {
                    result = Some(work(content));
                    return Ok(false);
                }
                (_, unused) => work = unused,
            }
            // Entries may share a stream, so that those in front have to be passed through.
            io::copy(content, &mut io::sink())?;
            Ok(true)
        })
        .map_err(failed)?;
    result.unwrap_or_else(|| {
        Err(Error::new(Class::Corrupt, "the 7z archive is damaged: an entry is missing"))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_only_file_or_the_only_image_is_meant() {
        let of = |names: &[&str]| {
            let names: Vec<_> = names.iter().map(|name| (*name).to_owned()).collect();
            only_image(&names, "zip", None).ok()
        };
        assert_eq!(of(&["hive"]), Some(0));
        assert_eq!(of(&["a/", "a/x.IMG", "readme.txt"]), Some(1));
        assert_eq!(of(&["__MACOSX/._x.img", "x.img"]), Some(1));
        assert_eq!(of(&["x.img", "y.img"]), None);
        assert_eq!(of(&["x", "y"]), None);
        assert_eq!(of(&["a/"]), None);
    }
}
