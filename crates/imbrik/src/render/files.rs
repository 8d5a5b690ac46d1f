//! Files as people read them in a listing.

use imbrik_core::fs::{FileInfo, FileKind, FileTime};
use jiff::{Timestamp, tz::TimeZone};
use std::fmt::Write;

/// A name or path of a volume: control characters and invalid UTF-8 are escaped.
pub(crate) fn name(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '\\' => text.push_str("\\\\"),
                '\n' => text.push_str("\\n"),
                '\t' => text.push_str("\\t"),
                c if c.is_control() => {
                    let _ = write!(text, "\\x{:02x}", u32::from(c));
                }
                c => text.push(c),
            }
        }
        for byte in chunk.invalid() {
            let _ = write!(text, "\\x{byte:02x}");
        }
    }
    text
}

/// "drwxr-xr-x"; only the type on filesystems without owners.
pub(crate) fn mode(info: &FileInfo) -> String {
    let kind = match info.kind {
        FileKind::Folder => 'd',
        FileKind::Link => 'l',
        FileKind::CharacterDevice(..) => 'c',
        FileKind::BlockDevice(..) => 'b',
        FileKind::Pipe => 'p',
        FileKind::Socket => 's',
        _ => '-',
    };
    let Some(ownership) = info.ownership else { return kind.to_string() };
    let bits = ownership.permissions;
    let mut text = kind.to_string();
    // The special bit of each group of three, and its effect on the last character.
    for (shift, special, letter) in [(6, 0o4000, 's'), (3, 0o2000, 's'), (0, 0o1000, 't')] {
        let three = bits >> shift;
        text.push(if three & 4 == 0 { '-' } else { 'r' });
        text.push(if three & 2 == 0 { '-' } else { 'w' });
        text.push(match (bits & special != 0, three & 1 != 0) {
            (false, false) => '-',
            (false, true) => 'x',
            (true, true) => letter,
            (true, false) => letter.to_ascii_uppercase(),
        });
    }
    text
}

/// "2026-11-23 07:20", in local time; unconverted if the volume's clock has no time zone.
pub(crate) fn modified_at(info: &FileInfo) -> String {
    let Some(FileTime { seconds, .. }) = info.modified else { return String::new() };
    let zone = if info.ownership.is_some() { TimeZone::system() } else { TimeZone::UTC };
    match Timestamp::from_second(seconds) {
        Ok(at) => at.to_zoned(zone).strftime("%Y-%m-%d %H:%M").to_string(),
        Err(_) => format!("{seconds} s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_core::fs::Ownership;

    #[test]
    fn control_characters_in_names_are_escaped() {
        assert_eq!(name("Röhre 1.wav".as_bytes()), "Röhre 1.wav");
        assert_eq!(name(b"a\nb\x1b[2J\\\xff"), "a\\nb\\x1b[2J\\\\\\xff");
    }

    #[test]
    fn modes_are_shown_as_by_ls() {
        let of = |kind, permissions| {
            mode(&FileInfo {
                kind,
                size: 0,
                links: 1,
                ownership: Some(Ownership { permissions, owner: 0, group: 0 }),
                flags: imbrik_core::fs::FileFlags::NONE,
                modified: None,
                accessed: None,
                changed: None,
                created: None,
            })
        };
        assert_eq!(of(FileKind::Folder, 0o1777), "drwxrwxrwt");
        assert_eq!(of(FileKind::File, 0o4755), "-rwsr-xr-x");
        assert_eq!(of(FileKind::File, 0o2640), "-rw-r-S---");
        assert_eq!(of(FileKind::CharacterDevice(1, 3), 0o666), "crw-rw-rw-");
    }
}
