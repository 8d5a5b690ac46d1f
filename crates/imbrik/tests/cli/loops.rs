//! Loop devices that stand for cards, and mounts of them.

use crate::harness::tool;
use std::{
    fs,
    path::{Path, PathBuf},
};

/// A loop device on a file, detached when dropped.
pub(crate) struct Loop(pub(crate) PathBuf);

impl Loop {
    pub(crate) fn on(file: &Path) -> Self {
        Self::at(file, 0)
    }

    /// The kernel may scan no partitions: each is attached with its offset.
    pub(crate) fn at(file: &Path, offset: u64) -> Self {
        let offset = offset.to_string();
        Self(tool!("losetup", "-f", "--show", "-o", offset, file).trim().into())
    }

    pub(crate) fn name(&self) -> String {
        self.0.display().to_string()
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = std::process::Command::new("losetup").arg("-d").arg(&self.0).status();
    }
}

/// A mount, which is unmounted when dropped.
pub(crate) struct Mount(pub(crate) PathBuf);

impl Mount {
    pub(crate) fn of(device: &Loop, at: PathBuf, options: &str) -> Self {
        fs::create_dir_all(&at).unwrap();
        tool!("mount", "-o", options, device.0, at);
        Self(at)
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg(&self.0).status();
    }
}
