//! A log of decisions, retries, writes and refusals, one line each, with its time.

use crate::{
    failure::{self, Outcome},
    render::{harmless, quoted},
};
use jiff::Timestamp;
use std::{
    ffi::OsString,
    fmt,
    fs::{File, OpenOptions},
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::Path,
    sync::{
        Mutex,
        atomic::{AtomicBool, Ordering},
    },
};
use tracing_subscriber::fmt::{format::Writer, time::FormatTime};

/// Appends all later events to `file`, after the command line `typed`. A second call has no effect.
pub(crate) fn keep_in(file: &Path, typed: &[OsString]) -> Outcome<()> {
    let opened = OpenOptions::new().append(true).create(true).mode(0o600).open(file);
    let opened = opened.map_err(|error| {
        failure::system(format!("opening the log {}", quoted(file)), error)
            .state("Nothing was done.")
            .next("Name another file, or leave the log out.")
    })?;
    let subscriber = tracing_subscriber::fmt()
        .with_max_level(tracing::Level::DEBUG)
        .with_ansi(false)
        .with_timer(Now)
        .with_writer(Mutex::new(Lines { file: opened, line: Vec::new() }))
        .finish();
    if tracing::subscriber::set_global_default(subscriber).is_ok() {
        let typed: Vec<_> = typed.iter().map(|word| word.to_string_lossy()).collect();
        tracing::info!(version = env!("CARGO_PKG_VERSION"), typed = %typed.join(" "), "begun");
    }
    Ok(())
}

/// True while lines are held back.
static IS_HELD: AtomicBool = AtomicBool::new(false);

/// Lines are held back during its lifetime: the log's filesystem can't be written then.
pub(crate) struct Held;

/// Holds lines back.
pub(crate) fn hold() -> Held {
    IS_HELD.store(true, Ordering::SeqCst);
    Held
}

impl Drop for Held {
    fn drop(&mut self) {
        IS_HELD.store(false, Ordering::SeqCst);
        tracing::debug!("all goes on");
    }
}

/// The time of a line, to the millisecond.
struct Now;

impl FormatTime for Now {
    fn format_time(&self, to: &mut Writer<'_>) -> fmt::Result {
        write!(to, "{:.3}", Timestamp::now())
    }
}

/// Writes complete lines, with control characters escaped.
struct Lines {
    file: File,
    line: Vec<u8>,
}

impl Write for Lines {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.line.extend(bytes);
        while !IS_HELD.load(Ordering::SeqCst)
            && let Some(end) = self.line.iter().position(|byte| *byte == b'\n')
        {
            let rest = self.line.split_off(end + 1);
            let line = std::mem::replace(&mut self.line, rest);
            let line = String::from_utf8_lossy(&line);
            writeln!(self.file, "{}", harmless(line.trim_end_matches('\n')))?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
