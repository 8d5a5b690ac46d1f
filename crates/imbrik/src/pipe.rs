//! Images through pipes: `-` stands for standard input or standard output.

use crate::{
    failure::{Failure, Outcome},
    render::quoted,
};
use imbrik_core::progress::Cancel;
use rustix::{
    event::{PollFd, PollFlags, Timespec, poll},
    fd::AsFd,
};
use std::{
    fs::File,
    io::{self, IsTerminal, Read},
    path::Path,
};

/// How long a pipe is waited for before it is looked whether to stop.
const PATIENCE: Timespec = Timespec { tv_sec: 0, tv_nsec: 200_000_000 };

/// Returns whether `path` stands for a pipe.
pub(crate) fn is_pipe(path: &Path) -> bool {
    path == Path::new("-")
}

/// The name of an image in a message.
pub(crate) fn title(path: &Path) -> String {
    if is_pipe(path) { "the image from the pipe".to_owned() } else { quoted(path) }
}

/// Standard input, whose reads can be cancelled: a pipe may be silent forever.
pub(crate) struct Input {
    file: File,
    cancel: Cancel,
}

impl Input {
    /// # Errors
    /// When it is a terminal: an image can't be typed.
    pub(crate) fn open(cancel: Cancel) -> Outcome<Self> {
        if io::stdin().is_terminal() {
            return Err(Failure::usage("- stands for a pipe, and standard input is a terminal")
                .next("Name the image, or pipe it in."));
        }
        Ok(Self {
            file: File::from(io::stdin().as_fd().try_clone_to_owned().map_err(lost)?),
            cancel,
        })
    }
}

impl Read for Input {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        loop {
            if self.cancel.check().is_err() {
                return Err(io::Error::other("stopped"));
            }
            let mut wait = [PollFd::new(&self.file, PollFlags::IN)];
            match poll(&mut wait, Some(&PATIENCE)) {
                Ok(0) | Err(rustix::io::Errno::INTR) => {}
                Ok(_) => return self.file.read(buf),
                Err(errno) => return Err(errno.into()),
            }
        }
    }
}

/// Standard output, for an image.
///
/// # Errors
/// When it is a terminal: an image would only upset it.
pub(crate) fn output() -> Outcome<File> {
    if io::stdout().is_terminal() {
        return Err(Failure::usage("- stands for a pipe, and standard output is a terminal")
            .next("Name the image, or pipe it into something."));
    }
    Ok(File::from(io::stdout().as_fd().try_clone_to_owned().map_err(lost)?))
}

fn lost(error: io::Error) -> Failure {
    imbrik_core::Error::io("using the pipe", error).into()
}
