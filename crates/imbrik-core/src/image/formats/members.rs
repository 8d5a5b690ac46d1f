//! Files of members, one after the other: gzip, xz, bzip2 and Zstandard files may be concatenated,
//! and padded with zeros. They are decoded from their start to their end.

use super::format::{Packed, UseContent};
use imbrik_store::error::Result;
use std::io::{self, BufRead, Read};

/// The decoder of one member, which returns its input afterwards.
pub(super) trait Decoder: Read {
    /// Its input, after the end of the member.
    fn into_inner(self: Box<Self>) -> Packed;
}

/// How the members of a format are known and decoded.
pub(super) struct MemberKind {
    /// The format's name in messages.
    pub(super) name: &'static str,
    /// The possible first bytes of a member.
    pub(super) first_bytes: &'static [u8],
    /// Starts to decode one.
    pub(super) start: fn(Packed) -> io::Result<Box<dyn Decoder>>,
}

impl MemberKind {
    /// Hands the content of all members of `file` to `work`.
    ///
    /// # Errors
    /// Those of `work`.
    pub(super) fn decode(&'static self, file: Packed, work: UseContent<'_>) -> Result<()> {
        work(&mut Members { kind: self, state: State::Between(file) })
    }
}

struct Members {
    kind: &'static MemberKind,
    state: State,
}

enum State {
    Between(Packed),
    In(Box<dyn Decoder>),
    Done,
}

impl Read for Members {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        if buf.is_empty() {
            return Ok(0);
        }
        loop {
            let len = match &mut self.state {
                State::Between(_) => 0,
                State::In(decoder) => decoder.read(buf)?,
                State::Done => return Ok(0),
            };
            if len > 0 {
                return Ok(len);
            }
            let mut source = match std::mem::replace(&mut self.state, State::Done) {
                State::Between(source) => source,
                State::In(decoder) => decoder.into_inner(),
                State::Done => return Ok(0),
            };
            if !at_a_member(&mut source, self.kind)? {
                return Ok(0);
            }
            self.state = State::In((self.kind.start)(source)?);
        }
    }
}

/// Skips zeros, and returns whether another member starts here; `false` at the end.
fn at_a_member(source: &mut impl BufRead, kind: &MemberKind) -> io::Result<bool> {
    loop {
        let ahead = source.fill_buf()?;
        let zeros = ahead.iter().take_while(|byte| **byte == 0).count();
        match ahead.get(zeros..) {
            None | Some([]) if zeros == 0 => return Ok(false),
            None | Some([]) => source.consume(zeros),
            Some([first, ..]) if kind.first_bytes.contains(first) => {
                source.consume(zeros);
                return Ok(true);
            }
            Some(_) => {
                return Err(io::Error::new(
                    io::ErrorKind::InvalidData,
                    format!("trailing data after its end is not {}", kind.name),
                ));
            }
        }
    }
}

/// A decoder with its own `into_inner`.
macro_rules! decoder {
    ($decoder:ty) => {
        impl Decoder for $decoder {
            fn into_inner(self: Box<Self>) -> Packed {
                (*self).into_inner()
            }
        }
    };
}

pub(super) use decoder;
