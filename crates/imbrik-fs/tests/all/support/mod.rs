//! Common to several groups of tests.
#![allow(dead_code, reason = "each test program uses some of it")]

use std::{
    path::Path,
    process::Command,
    sync::atomic::{AtomicUsize, Ordering},
};

/// A command of the system, from /sbin as well. The child would be forked if its PATH was set here, which is slow for a
/// process with much memory.
pub(crate) fn system_tool(name: &str) -> Command {
    let mut command = Command::new("env");
    command.arg("PATH=/usr/sbin:/sbin:/usr/bin:/bin").arg(name);
    command
}

/// Runs a line of shell in `dir`, which must succeed. Returns its output.
#[track_caller]
pub(crate) fn sh(line: &str, dir: &Path) -> String {
    let line = format!("PATH=$PATH:/usr/sbin:/sbin; {line}");
    let output = Command::new("sh").args(["-ec", &line]).current_dir(dir).output().unwrap();
    assert!(output.status.success(), "{line}: {output:?}; ./test installs what is needed");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Returns whether the test may use loop devices and mounts. Without root, prints that it was not run; in CI that is a
/// failure.
pub(crate) fn is_root(test: &str) -> bool {
    let is_root = rustix::process::geteuid().is_root();
    if !is_root {
        assert!(std::env::var_os("CI").is_none(), "{test} needs root");
        eprintln!("NOT RUN: {test} needs root");
    }
    is_root
}

/// Runs the lines of shell `script` in `dir` as root under user-mode Linux, which mounts filesystems that this kernel
/// doesn't. `/mnt` is a writable tmpfs there, and loop devices work. Panics when the script fails.
#[track_caller]
pub(crate) fn in_user_mode_linux(script: &str, modules: &str, dir: &Path) {
    let init = format!(
        "#!/bin/sh\nexport PATH=/usr/sbin:/usr/bin:/sbin:/bin\n\
         mount -t tmpfs tmpfs /mnt\nmkdir /mnt/w /mnt/v\nmount --bind {} /mnt/w\ncd /mnt/w\n\
         mount -t devtmpfs devtmpfs /dev\nmount -t proc proc /proc\n\
         mkdir -p /mnt/m/lib\nln -s /usr/lib/uml/modules /mnt/m/lib/modules\n\
         modprobe -d /mnt/m -a loop {modules}\n{script}\n>finished\npoweroff -f\n",
        dir.display()
    );
    std::fs::write(dir.join("init"), init).unwrap();
    let line = format!(
        "chmod +x init; timeout 300 linux.uml mem=256M rootfstype=hostfs rootflags=/ rw \
         init={}/init devtmpfs.mount=0 con=null con0=null,fd:1 quiet umid=imbrik-{}-{} \
         </dev/null >uml 2>&1 || true",
        dir.display(),
        std::process::id(),
        NEXT.fetch_add(1, Ordering::Relaxed)
    );
    sh(&format!("{line}; test -e finished || {{ cat uml >&2; exit 1; }}; rm finished"), dir);
}

static NEXT: AtomicUsize = AtomicUsize::new(0);
