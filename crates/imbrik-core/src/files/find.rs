//! Resolving paths.

use imbrik_fs::{FileId, FileKind, Files};
use imbrik_store::error::{Error, Result};
use std::collections::VecDeque;

/// Links that are followed on the way: as many as systems follow.
const MOST_LINKS: u32 = 40;
/// The longest target of a link that is followed, in bytes.
const LONGEST_TARGET: usize = 4096;

/// A file or folder at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The names from the root down, joined by `/`, without links on the way; nothing for the root.
    pub path: Vec<u8>,
    /// The file.
    pub file: FileId,
}

impl Found {
    /// The last of its names; nothing for the root.
    #[must_use]
    pub fn name(&self) -> &[u8] {
        self.path.rsplit(|byte| *byte == b'/').next().unwrap_or_default()
    }
}

/// Resolves `path` from the root. A name that does not exist can be a pattern, as in shells (`*`, `?`, `[ab]`), which
/// matches several files in the order of their names. Links on the way are followed within the volume; the last name
/// only if a `/` follows it. Returns nothing if nothing matches.
///
/// # Errors
/// When the store cannot be read, a folder on the way is invalid, or links lead in circles.
pub fn find(files: &dyn Files, path: &[u8]) -> Result<Vec<Found>> {
    let mut names: VecDeque<Vec<u8>> = split(path).collect();
    if path.ends_with(b"/") {
        // Turns the last name into one on the way.
        names.push_back(b".".to_vec());
    }
    let mut found = Vec::new();
    Way { files, at: Vec::new(), links: 0 }.follow(names, &mut found)?;
    Ok(found)
}

/// Joins `above` and `path` by `/`. Either may be empty.
#[must_use]
pub fn below(above: &[u8], path: &[u8]) -> Vec<u8> {
    match (above, path) {
        ([], path) | (path, []) => path.to_vec(),
        _ => [above, path].join(&b'/'),
    }
}

fn split(path: &[u8]) -> impl Iterator<Item = Vec<u8>> + '_ {
    path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()).map(<[u8]>::to_vec)
}

#[derive(Clone)]
struct Way<'a> {
    files: &'a dyn Files,
    /// The folders from the root down.
    at: Vec<(Vec<u8>, FileId)>,
    links: u32,
}

impl Way<'_> {
    fn here(&self) -> FileId {
        self.at.last().map_or_else(|| self.files.root(), |(_, file)| *file)
    }

    fn follow(mut self, mut names: VecDeque<Vec<u8>>, found: &mut Vec<Found>) -> Result<()> {
        while let Some(name) = names.pop_front() {
            match &name[..] {
                b"." => continue,
                b".." => {
                    self.at.pop();
                    continue;
                }
                _ => {}
            }
            if self.files.info(self.here())?.kind != FileKind::Folder {
                return Ok(());
            }
            let Some(file) = self.files.look_up(self.here(), &name)? else {
                return self.branch(&name, &names, found);
            };
            if !self.enter(name, file, &mut names)? {
                return Ok(());
            }
        }
        let path = self.at.iter().map(|(name, _)| &name[..]).collect::<Vec<_>>().join(&b'/');
        found.push(Found { path, file: self.here() });
        Ok(())
    }

    /// Steps down to the entry `name`, or along it when it is a link on the way.
    fn enter(
        &mut self,
        name: Vec<u8>,
        file: FileId,
        names: &mut VecDeque<Vec<u8>>,
    ) -> Result<bool> {
        if names.is_empty() || self.files.info(file)?.kind != FileKind::Link {
            self.at.push((name, file));
            return Ok(true);
        }
        self.links = self.links.saturating_add(1);
        if self.links > MOST_LINKS {
            return Err(Error::corrupt("its links form a loop"));
        }
        let target = self.files.read(file, LONGEST_TARGET)?;
        if target.first() == Some(&b'/') {
            self.at.clear();
        }
        for name in split(&target).collect::<Vec<_>>().into_iter().rev() {
            names.push_front(name);
        }
        Ok(!target.is_empty())
    }

    /// Continues with everything here that matches `pattern`.
    fn branch(
        &self,
        pattern: &[u8],
        rest: &VecDeque<Vec<u8>>,
        found: &mut Vec<Found>,
    ) -> Result<()> {
        if !pattern.iter().any(|byte| b"*?[".contains(byte)) {
            return Ok(());
        }
        let Ok(glob) = glob::Pattern::new(&String::from_utf8_lossy(pattern)) else {
            return Ok(());
        };
        let options = glob::MatchOptions {
            require_literal_leading_dot: true,
            ..glob::MatchOptions::default()
        };
        let mut names = self.files.list(self.here())?;
        names.retain(|name| glob.matches_with(&String::from_utf8_lossy(name), options));
        names.sort_unstable();
        names.dedup();
        for name in names {
            let Some(file) = self.files.look_up(self.here(), &name)? else { continue };
            let mut way = self.clone();
            let mut rest = rest.clone();
            if way.enter(name, file, &mut rest)? {
                way.follow(rest, found)?;
            }
        }
        Ok(())
    }
}
