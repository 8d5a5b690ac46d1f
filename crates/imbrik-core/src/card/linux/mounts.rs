//! The mount table and the swap list: `/proc/self/mountinfo` and `/proc/swaps`.

use super::Roots;
use imbrik_store::error::{Error, Result};
use std::{
    ffi::OsString,
    fs,
    os::unix::ffi::{OsStrExt, OsStringExt},
    path::PathBuf,
};

/// A line of the mount table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mount {
    /// The device's number as `major:minor`; made up for filesystems that span several.
    pub(super) number: String,
    /// The source, as given to the mount call.
    pub(super) source: PathBuf,
    /// The mount point.
    pub(super) at: PathBuf,
    /// The kind of filesystem, as the kernel calls it.
    pub(super) kind: String,
    /// The mount options.
    pub(super) options: String,
}

impl Mount {
    /// The folder into which an overlay of folders writes.
    pub(super) fn upper(&self) -> Option<PathBuf> {
        let mut options = self.options.split(',').filter(|_| self.kind == "overlay");
        options.find_map(|option| option.strip_prefix("upperdir=")).map(PathBuf::from)
    }
}

/// The kernel's names of network filesystems.
const OF_A_NETWORK: [&str; 12] = [
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "9p",
    "ceph",
    "afs",
    "davfs",
    "ncpfs",
    "glusterfs",
    "lustre",
];

impl Mount {
    /// Returns whether it is a network filesystem; a FUSE filesystem without a device counts as one.
    pub(super) fn is_of_a_network(&self) -> bool {
        OF_A_NETWORK.contains(&self.kind.as_str())
            || self.kind.starts_with("fuse.") && !self.source.starts_with("/dev")
    }
}

/// All mounts, in the order in which they were made.
pub(super) fn read(roots: &Roots) -> Result<Vec<Mount>> {
    let path = roots.proc.join("self/mountinfo");
    let table = fs::read(&path).map_err(|e| Error::io(format!("reading {}", path.display()), e))?;
    Ok(table.split(|byte| *byte == b'\n').filter_map(decode_line).collect())
}

/// `36 35 98:0 /root /at options optional... - type source options`
fn decode_line(line: &[u8]) -> Option<Mount> {
    let mut fields = line.split(|byte| *byte == b' ');
    let number = fields.nth(2)?;
    let at = fields.nth(1)?;
    let text = |field: &[u8]| String::from_utf8_lossy(field).into_owned();
    let mut behind = fields.skip_while(|field| *field != b"-").skip(1);
    let kind = text(behind.next()?);
    Some(Mount {
        kind,
        number: String::from_utf8(number.to_vec()).ok()?,
        source: unescaped(behind.next()?),
        at: unescaped(at),
        options: text(behind.next().unwrap_or_default()),
    })
}

/// The swap devices and files; none without a list.
pub(super) fn swaps(roots: &Roots) -> Vec<PathBuf> {
    let list = fs::read(roots.proc.join("swaps")).unwrap_or_default();
    let lines = list.split(|byte| *byte == b'\n').skip(1);
    let first = lines.filter_map(|line| line.split(|byte| matches!(byte, b' ' | b'\t')).next());
    first.filter(|path| path.starts_with(b"/")).map(unescaped).collect()
}

/// Spaces and backslashes in paths are escaped as a backslash and three octal digits.
fn unescaped(field: &[u8]) -> PathBuf {
    let mut out = Vec::new();
    let mut rest = field;
    while let Some((first, behind)) = rest.split_first() {
        let digits = behind.get(..3).filter(|_| *first == b'\\');
        let byte = digits
            .and_then(|digits| std::str::from_utf8(digits).ok())
            .and_then(|digits| u8::from_str_radix(digits, 8).ok());
        out.push(byte.unwrap_or(*first));
        rest = if byte.is_some() { behind.get(3..).unwrap_or_default() } else { behind };
    }
    PathBuf::from(OsString::from_vec(out))
}

/// The last part of a device's path, as the kernel names it; symlinks are followed.
pub(super) fn kernel_name(roots: &Roots, path: &std::path::Path) -> Option<String> {
    let inside = path.strip_prefix("/dev").ok()?;
    let real = fs::canonicalize(roots.dev.join(inside)).unwrap_or_else(|_| path.to_owned());
    let name = real.file_name()?;
    String::from_utf8(name.as_bytes().to_vec()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escaped_spaces_and_optional_fields_are_parsed() {
        let line =
            b"61 28 8:17 / /media/keeper/HIVE\\040BOOT rw,nosuid shared:30 - vfat /dev/sdb1 rw";
        let mount = decode_line(line).unwrap();
        assert_eq!(mount.at, PathBuf::from("/media/keeper/HIVE BOOT"));
        assert_eq!((mount.kind.as_str(), mount.options.as_str()), ("vfat", "rw"));
        assert_eq!((mount.number.as_str(), mount.source.to_str()), ("8:17", Some("/dev/sdb1")));
        assert_eq!(decode_line(b"61 28"), None);
        let is_far = |line: &[u8]| decode_line(line).unwrap().is_of_a_network();
        assert!(!is_far(line));
        assert!(is_far(b"61 28 0:17 / /mnt/cards rw - nfs4 shed:/cards rw"));
        assert!(is_far(b"61 28 0:18 / /mnt/cards rw - fuse.sshfs keeper@shed:/cards rw"));
        assert!(!is_far(b"61 28 7:0 / /mnt/cards rw - fuseblk /dev/loop0 rw"));
        assert_eq!(unescaped(b"a\\13"), PathBuf::from("a\\13"));
    }
}
