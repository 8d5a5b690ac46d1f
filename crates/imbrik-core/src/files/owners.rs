//! The names of users and groups, as a volume itself has them.

use imbrik_fs::Files;
use std::str;

/// The longest list of users or groups that is read, in bytes.
const LONGEST: usize = 1 << 20;

/// The users and groups in `etc/passwd` and `etc/group` of a volume. Lists that are missing or can't be read are empty.
#[derive(Debug, Default)]
pub struct Owners {
    users: Vec<Entry>,
    groups: Vec<Entry>,
}

#[derive(Debug)]
struct Entry {
    name: Vec<u8>,
    id: u32,
    /// The primary group of a user.
    group: Option<u32>,
}

impl Owners {
    /// Reads the lists.
    #[must_use]
    pub fn of(files: &dyn Files) -> Self {
        let list = |path: &[&[u8]]| {
            let text = files.small_file(path, LONGEST).ok().flatten().unwrap_or_default();
            text.split(|byte| *byte == b'\n').filter_map(entry).collect()
        };
        Self { users: list(&[b"etc", b"passwd"]), groups: list(&[b"etc", b"group"]) }
    }

    /// The name of the user with this id.
    #[must_use]
    pub fn user(&self, id: u32) -> Option<&[u8]> {
        name_of(&self.users, id)
    }

    /// The name of the group with this id.
    #[must_use]
    pub fn group(&self, id: u32) -> Option<&[u8]> {
        name_of(&self.groups, id)
    }

    /// The ids of the user `name` and of its primary group.
    #[must_use]
    pub fn ids_of_user(&self, name: &[u8]) -> Option<(u32, u32)> {
        let entry = self.users.iter().find(|entry| entry.name == name)?;
        Some((entry.id, entry.group.unwrap_or(entry.id)))
    }

    /// The id of the group `name`.
    #[must_use]
    pub fn id_of_group(&self, name: &[u8]) -> Option<u32> {
        self.groups.iter().find(|entry| entry.name == name).map(|entry| entry.id)
    }
}

/// A line such as `keeper:x:1000:1000:...`.
fn entry(line: &[u8]) -> Option<Entry> {
    let mut fields = line.split(|byte| *byte == b':');
    let name = fields.next().filter(|name| !name.is_empty())?.to_vec();
    let mut number = |skipped| str::from_utf8(fields.nth(skipped)?).ok()?.parse().ok();
    Some(Entry { name, id: number(1)?, group: number(0) })
}

fn name_of(entries: &[Entry], id: u32) -> Option<&[u8]> {
    entries.iter().find(|entry| entry.id == id).map(|entry| &entry.name[..])
}
