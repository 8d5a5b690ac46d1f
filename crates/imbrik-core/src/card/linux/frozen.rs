//! Records of frozen filesystems, so that these can be thawed after both processes were killed.
//!
//! A record is a file in a folder in memory, `PID.frozen`, with the mount points that process PID has frozen, each
//! followed by a zero byte. It exists while these are frozen.

use super::ioctl;
use imbrik_store::error::{Error, Result};
use std::{
    ffi::OsStr,
    fs::{self, File},
    os::unix::ffi::OsStrExt as _,
    path::{Path, PathBuf},
    thread,
    time::{Duration, Instant},
};

const ENDING: &str = "frozen";
/// Longer records are not ours, in bytes.
const MOST: u64 = 1 << 20;
/// The longest wait for the end of a process that was killed.
const KILLED_WAIT: Duration = Duration::from_secs(60);

/// The record of one process.
#[derive(Debug)]
pub(super) struct FrozenRecord(PathBuf);

impl FrozenRecord {
    /// The record of process `pid` in `folder`.
    pub(super) fn new(folder: &Path, pid: u32) -> Self {
        Self(folder.join(format!("{pid}.{ENDING}")))
    }

    /// Records that `mounts` are about to be frozen.
    pub(super) fn write<'a>(&self, mounts: impl Iterator<Item = &'a Path>) -> Result<()> {
        let mut text = Vec::new();
        for at in mounts {
            text.extend_from_slice(at.as_os_str().as_bytes());
            text.push(0);
        }
        let io = |e| Error::io(format!("writing {}", self.0.display()), e);
        if let Some(folder) = self.0.parent() {
            fs::create_dir_all(folder).map_err(io)?;
        }
        fs::write(&self.0, text).map_err(io)
    }

    /// Removes the record once everything is thawed.
    pub(super) fn remove(&self) {
        // Missing is as good as removed.
        let _ = fs::remove_file(&self.0);
    }
}

/// A record that was found.
struct Found {
    path: PathBuf,
    pid: u32,
    mounts: Vec<PathBuf>,
}

fn records(folder: &Path) -> Vec<Found> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let found = entries.filter_map(|entry| {
        let path = entry.path();
        let name = path.file_name()?.to_str()?;
        let pid = name.strip_suffix(ENDING)?.strip_suffix('.')?.parse().ok()?;
        let is_short = path.symlink_metadata().is_ok_and(|it| it.is_file() && it.len() <= MOST);
        let text = fs::read(&path).ok().filter(|_| is_short)?;
        let mounts = text.split(|byte| *byte == 0).filter(|at| !at.is_empty());
        let mounts = mounts.map(|at| PathBuf::from(OsStr::from_bytes(at))).collect();
        Some(Found { path, pid, mounts })
    });
    found.collect()
}

/// Returns whether process `pid` is one that freezes: the number may have been reused since.
fn is_running(pid: u32, word: &str) -> bool {
    let words = fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
    words.split(|byte| *byte == 0).any(|one| one == word.as_bytes())
}

/// Returns whether process `pid` has been killed but has not ended yet, as while the kernel completes a freeze for it.
fn is_killed(pid: u32) -> bool {
    const SIGKILL: u64 = 1 << 8;
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let pending = status
        .lines()
        .filter_map(|line| line.strip_prefix("SigPnd:").or_else(|| line.strip_prefix("ShdPnd:")));
    let mut pending = pending.filter_map(|set| u64::from_str_radix(set.trim(), 16).ok());
    pending.any(|set| set & SIGKILL != 0)
}

/// Waits while process `pid` has been killed but has not ended: what it freezes stays frozen after its end.
fn wait_for_end(pid: u32, word: &str) {
    let begun = Instant::now();
    while is_running(pid, word) && is_killed(pid) && begun.elapsed() < KILLED_WAIT {
        thread::sleep(Duration::from_millis(20));
    }
}

/// Thaws filesystems that processes in `folder` recorded and did not thaw before they were killed. `word` is an
/// argument of every freezing process. Returns the mount points that were still frozen.
///
/// A process that was killed while the kernel freezes a filesystem for it ends only afterwards. Waits for that, for at
/// most a minute.
#[must_use]
pub fn thaw_recorded(folder: &Path, word: &str) -> Vec<PathBuf> {
    let mut thawed = Vec::new();
    for Found { path, pid, mounts } in records(folder) {
        wait_for_end(pid, word);
        if is_running(pid, word) {
            continue;
        }
        for at in mounts.into_iter().rev() {
            if File::open(&at).is_ok_and(|folder| ioctl::thaw(&folder).is_ok()) {
                thawed.push(at);
            }
        }
        let _ = fs::remove_file(path);
    }
    thawed
}

/// The process that has `at` frozen according to the records in `folder`.
#[must_use]
pub fn frozen_by(folder: &Path, word: &str, at: &Path) -> Option<u32> {
    let running = records(folder).into_iter().filter(|found| is_running(found.pid, word));
    let mut holding = running.filter(|found| found.mounts.iter().any(|mount| mount == at));
    holding.next().map(|found| found.pid)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Nothing in it is frozen; whether that is thawed is tested with real filesystems.
    #[test]
    fn records_of_processes_that_ended_are_removed_and_others_kept() {
        let folder = tempfile::tempdir().unwrap();
        let record = |pid| FrozenRecord::new(folder.path(), pid);
        let (first, second) = (Path::new("/mnt/hive 07"), Path::new("/mnt/brood"));
        // This process has an argument that the other does not have.
        let word = std::env::args().next().unwrap();
        record(std::process::id()).write([first].into_iter()).unwrap();
        record(u32::MAX).write([first, second].into_iter()).unwrap();
        fs::write(folder.path().join("notes"), "x").unwrap();
        assert_eq!(frozen_by(folder.path(), &word, first), Some(std::process::id()));
        assert_eq!(frozen_by(folder.path(), &word, second), None);
        assert!(thaw_recorded(folder.path(), &word).is_empty());
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2);
        assert!(thaw_recorded(folder.path(), "another word").is_empty());
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
