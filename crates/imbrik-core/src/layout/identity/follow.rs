//! Updating references to an id that changes.

use super::{Editing, MOST, names};
use crate::layout::{
    Change, Reference, Warning, references,
    start::{PLACES, included},
};
use imbrik_store::{
    bytes,
    error::{Class, Result},
    exact::Exact as _,
};

/// Further files that name volumes and partitions.
const MORE_PLACES: [&str; 4] =
    ["etc/crypttab", "etc/default/grub", "etc/kernel/cmdline", "etc/initramfs-tools/conf.d/resume"];
/// Folders in which all files with these extensions are read. A star matches any folder.
const FOLDERS: [(&str, &str); 15] = [
    ("syslinux", ".cfg"),
    ("boot/syslinux", ".cfg"),
    ("", "env.txt"),
    ("", ".ini"),
    ("", ".scr"),
    ("boot", "env.txt"),
    ("boot", ".ini"),
    ("boot", ".scr"),
    ("boot/firmware", "env.txt"),
    ("efi/*", "grub.cfg"),
    ("loader/entries", ".conf"),
    ("boot/loader/entries", ".conf"),
    ("etc/systemd/system", ".mount"),
    ("etc/systemd/system", ".swap"),
    ("etc/systemd/system", ".automount"),
];

/// The maximum number of files of a volume that are read, and the maximum depth.
const MOST_FILES: usize = 4000;
const DEEPEST: usize = 5;

/// An id and the one that takes its place, as files write them.
pub(super) struct NewId {
    pub(super) from: String,
    pub(super) to: String,
}

impl NewId {
    /// Returns whether it is unique: a missing table id reads as zeros.
    fn is_one(&self) -> bool {
        self.from.chars().any(|c| c != '0' && c != '-')
    }
}

impl Editing<'_> {
    /// Replaces ids in files that are known to contain some, and reports what remains shared.
    pub(super) fn follow(&mut self, ids: &[NewId]) -> Result<()> {
        for index in 0..self.parts.len() {
            let mut places = self.places(index)?;
            let mut next = 0usize;
            while let Some(path) = places.get(next).cloned() {
                next = next.plus(1)?;
                self.follow_in(index, &path, ids)?;
                let Some(content) = self.file(index, &path)? else { continue };
                for more in included(&path, &String::from_utf8_lossy(&content)) {
                    let is_known = places.iter().any(|known| known.eq_ignore_ascii_case(&more));
                    if !is_known && places.len() < MOST_FILES {
                        places.push(more);
                    }
                }
            }
            self.tell_what_is_left(index, ids)?;
        }
        self.tell_what_stays()
    }

    /// Reports small files of a boot volume that still contain an old id: their format is unknown, so they are not
    /// changed.
    fn tell_what_is_left(&mut self, index: usize, ids: &[NewId]) -> Result<()> {
        let part = self.parts.get(index);
        let is_boot = part
            .and_then(|part| part.volume.as_ref())
            .is_some_and(|volume| volume.kind.is_read_by_firmware());
        let mut waiting = vec![if is_boot { String::new() } else { "boot".to_owned() }];
        let mut looked = 0usize;
        while let Some(folder) = waiting.pop() {
            for path in self.names_in(index, &folder)? {
                looked = looked.plus(1)?;
                if looked > MOST_FILES {
                    return Ok(());
                }
                let Some(content) = self.file(index, &path)? else {
                    // No file, so perhaps a folder.
                    if path.matches('/').count() < DEEPEST {
                        waiting.push(path);
                    }
                    continue;
                };
                let is_text = content.len() < MOST && !content.contains(&0);
                let (_, left) = if is_text { replaced(&content, ids) } else { Default::default() };
                for id in left {
                    let title =
                        self.parts.get(index).map_or(String::new(), |part| part.short.clone());
                    let (path, id) = (path.clone(), id.from.clone());
                    self.changes.push(Change::Warning(Warning::StillNames { path, title, id }));
                }
            }
        }
        Ok(())
    }

    fn follow_in(&mut self, index: usize, path: &str, ids: &[NewId]) -> Result<()> {
        let Some(old) = self.file(index, path)?.filter(|old| old.len() < MOST) else {
            return Ok(());
        };
        let (mut new, used) = replaced(&old, ids);
        if used.is_empty() {
            return Ok(());
        }
        seal_script(&old, &mut new);
        match self.put(index, path, new, None, "the new ids") {
            Err(error) if matches!(error.class(), Class::Unsupported | Class::NoRoom) => {
                let why = error.to_string();
                self.changes.push(Change::Warning(Warning::NotFollowed { why }));
                Ok(())
            }
            other => other,
        }
    }

    /// Reports references without an id, which original and copy share.
    fn tell_what_stays(&mut self) -> Result<()> {
        for Reference { from, what, .. } in references(self.view, self.survey)? {
            let is_label = match what.as_str() {
                what if what.contains("LABEL=") || what.contains("/by-label/") => true,
                what if what.contains("/by-") => continue,
                what if what.contains("/dev/") => false,
                _ => continue,
            };
            let warning = Warning::Shared { file: from, what, is_label };
            self.changes.push(Change::Warning(warning));
        }
        Ok(())
    }

    /// The files of a partition that may name ids.
    fn places(&self, index: usize) -> Result<Vec<String>> {
        let known = PLACES.iter().chain(&MORE_PLACES);
        let mut places: Vec<String> = known.map(|place| (*place).to_owned()).collect();
        for (folder, ending) in FOLDERS {
            let folders = match folder.strip_suffix("/*") {
                None => vec![folder.to_owned()],
                Some(above) => self.names_in(index, above)?,
            };
            for folder in folders {
                let found = self.names_in(index, &folder)?;
                let wanted = found.into_iter().filter(|path| {
                    path.get(path.len().saturating_sub(ending.len())..)
                        .is_some_and(|end| end.eq_ignore_ascii_case(ending))
                });
                for path in wanted {
                    // Names on FAT are the same in either case.
                    if !places.iter().any(|known| known.eq_ignore_ascii_case(&path)) {
                        places.push(path);
                    }
                }
            }
        }
        Ok(places)
    }

    /// The paths of the files in a folder of a partition; empty if it does not exist.
    pub(super) fn names_in(&self, index: usize, folder: &str) -> Result<Vec<String>> {
        let part = self.parts.get(index);
        let Some((part, volume)) = part.and_then(|part| Some((part, part.volume.as_ref()?))) else {
            return Ok(Vec::new());
        };
        let files = volume.files(&*part.store)?;
        let found = files
            .map(|files| files.names(&names(folder)))
            .transpose()?
            .flatten()
            .unwrap_or_default();
        let paths = found.into_iter().filter_map(|name| {
            let name = String::from_utf8(name).ok()?;
            Some(if folder.is_empty() { name } else { format!("{folder}/{name}") })
        });
        Ok(paths.filter(|path| !path.ends_with('.')).collect())
    }
}

/// Replaces every id in `text` that is a complete word, in any case; also returns those that occurred, each once.
fn replaced<'a>(text: &[u8], ids: &'a [NewId]) -> (Vec<u8>, Vec<&'a NewId>) {
    let is_part = |byte: Option<&u8>| byte.is_some_and(|byte| byte.is_ascii_alphanumeric());
    let ids: Vec<&NewId> = ids.iter().filter(|id| id.is_one()).collect();
    let mut out = Vec::with_capacity(text.len());
    let mut used: Vec<&NewId> = Vec::new();
    let mut at = 0usize;
    while let Some(rest) = text.get(at..).filter(|rest| !rest.is_empty()) {
        let begins = !is_part(at.checked_sub(1).and_then(|before| text.get(before)));
        let found = ids.iter().filter(|_| begins).filter(|id| {
            let len = id.from.len();
            rest.get(..len).is_some_and(|word| word.eq_ignore_ascii_case(id.from.as_bytes()))
                && !is_part(rest.get(len))
        });
        // Of those that fit, the longest: a PARTUUID begins with the id of its table.
        match found.max_by_key(|id| id.from.len()) {
            Some(id) => {
                out.extend(id.to.as_bytes());
                at = at.saturating_add(id.from.len());
                if !used.iter().any(|known| known.from == id.from) {
                    used.push(id);
                }
            }
            None => {
                out.extend(rest.first());
                at = at.saturating_add(1);
            }
        }
    }
    (out, used)
}

/// The magic number of a packed boot script, and the length of its header: the magic number, a CRC-32 of the header, a
/// time, the length of the data, two addresses, and a CRC-32 of the data; big-endian.
const SCRIPT: [u8; 4] = [0x27, 0x05, 0x19, 0x56];
const SCRIPT_HEAD: usize = 64;
const SCRIPT_HEAD_SUM: usize = 4;
const SCRIPT_LEN: usize = 12;
const SCRIPT_SUM: usize = 24;

/// Updates the checksums of a packed boot script, if those of the `old` one were valid.
fn seal_script(old: &[u8], new: &mut [u8]) {
    let is_right = |at: usize, sum: Option<u32>| {
        sum.is_some() && bytes::array(old, at).map(u32::from_be_bytes) == sum
    };
    let is_script = old.starts_with(&SCRIPT)
        && old.len() == new.len()
        && is_right(SCRIPT_SUM, sum_of_script(old))
        && is_right(SCRIPT_HEAD_SUM, sum_of_head(old));
    if !is_script {
        return;
    }
    if let Some(sum) = sum_of_script(new) {
        let _ = bytes::put(new, SCRIPT_SUM, sum.to_be_bytes());
    }
    if let Some(sum) = sum_of_head(new) {
        let _ = bytes::put(new, SCRIPT_HEAD_SUM, sum.to_be_bytes());
    }
}

fn sum_of_script(script: &[u8]) -> Option<u32> {
    let len = bytes::array(script, SCRIPT_LEN).map(u32::from_be_bytes)?;
    let end = SCRIPT_HEAD.checked_add(usize::try_from(len).ok()?)?;
    script.get(SCRIPT_HEAD..end).map(crc32fast::hash)
}

fn sum_of_head(script: &[u8]) -> Option<u32> {
    let mut head = script.get(..SCRIPT_HEAD)?.to_vec();
    bytes::put(&mut head, SCRIPT_HEAD_SUM, [0; 4])?;
    Some(crc32fast::hash(&head))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn id(from: &str, to: &str) -> NewId {
        NewId { from: from.into(), to: to.into() }
    }

    #[test]
    fn ids_are_replaced_where_they_are_words() {
        let ids = [
            id("48560007", "11112222"),
            id("48560007-02", "11112222-02"),
            id("1A2B-3C4D", "5E6F-7081"),
            id("00000000", "99999999"),
        ];
        let new = |text: &str| {
            let (bytes, used) = replaced(text.as_bytes(), &ids);
            (String::from_utf8(bytes).unwrap(), used.len())
        };
        assert_eq!(
            new("root=PARTUUID=48560007-02 rootwait"),
            ("root=PARTUUID=11112222-02 rootwait".into(), 1)
        );
        assert_eq!(new("UUID=1a2b-3c4d /boot"), ("UUID=5E6F-7081 /boot".into(), 1));
        assert_eq!(new("148560007 48560007a 00000000"), ("148560007 48560007a 00000000".into(), 0));
    }

    #[test]
    fn packed_boot_script_keeps_a_valid_checksum() {
        let text = b"\0\0\0\x25\0\0\0\0setenv bootargs root=PARTUUID=48560007-02";
        let mut old = vec![0u8; 64];
        old[..4].copy_from_slice(&SCRIPT);
        old[12..16].copy_from_slice(&(text.len() as u32).to_be_bytes());
        old[24..28].copy_from_slice(&crc32fast::hash(text).to_be_bytes());
        old[32..42].copy_from_slice(b"hive-07 go");
        let head = crc32fast::hash(&old);
        old[4..8].copy_from_slice(&head.to_be_bytes());
        old.extend(text);
        let ids = [id("48560007-02", "11112222-02")];
        let (mut new, used) = replaced(&old, &ids);
        assert_eq!(used.len(), 1);
        seal_script(&old, &mut new);
        assert_eq!(
            bytes::array(&new, 24).map(u32::from_be_bytes),
            Some(crc32fast::hash(&new[64..]))
        );
        assert_eq!(bytes::array(&new, 4).map(u32::from_be_bytes), sum_of_head(&new));
        assert_ne!(new[..64], old[..64]);
        // One that was wrong before is not made right.
        old[70] ^= 1;
        let (mut new, _) = replaced(&old, &ids);
        let head = new[..64].to_vec();
        seal_script(&old, &mut new);
        assert_eq!(new[..64], head);
    }
}
