//! What several test programs need.
#![allow(dead_code, reason = "each test program uses some of it")]

use std::{path::Path, process::Command};

/// Runs a line of shell in `dir`; it must work. Answers what it printed.
#[track_caller]
pub(crate) fn sh(line: &str, dir: &Path) -> String {
    let line = format!("PATH=$PATH:/usr/sbin:/sbin; {line}");
    let output = Command::new("sh").args(["-ec", &line]).current_dir(dir).output().unwrap();
    assert!(output.status.success(), "{line}: {output:?}; ./test installs what is needed");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Whether the test may use loop devices and mounts. Without root it says that it was not run; in
/// CI that is a failure.
pub(crate) fn is_root(test: &str) -> bool {
    let is_root = rustix::process::geteuid().is_root();
    if !is_root {
        assert!(std::env::var_os("CI").is_none(), "{test} needs root");
        eprintln!("NOT RUN: {test} needs root");
    }
    is_root
}
