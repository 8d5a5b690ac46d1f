//! How much of the disk a file has to itself.
#![expect(unsafe_code, reason = "the request number and the argument's layout are defined here")]

use imbrik_store::units::ByteLen;
use rustix::ioctl::{Opcode, Updater, ioctl, opcode};
use std::fs::File;

/// The number of extents per request.
const EXTENTS: usize = 256;
/// `FIEMAP_EXTENT_LAST` and `FIEMAP_EXTENT_SHARED` from `linux/fiemap.h`.
const LAST: u32 = 0x1;
const SHARED: u32 = 0x2000;

/// `struct fiemap` without its extents, which the request number depends on.
#[repr(C)]
struct Head([u64; 4]);

/// `struct fiemap`.
#[repr(C)]
struct Map {
    start: u64,
    length: u64,
    flags: u32,
    mapped: u32,
    count: u32,
    reserved: u32,
    extents: [Extent; EXTENTS],
}

/// `struct fiemap_extent`.
#[repr(C)]
#[derive(Clone, Copy, Default)]
struct Extent {
    logical: u64,
    physical: u64,
    length: u64,
    reserved: [u64; 2],
    flags: u32,
    more: [u32; 3],
}

/// `FS_IOC_FIEMAP` from `linux/fs.h`.
const FIEMAP: Opcode = opcode::read_write::<Head>(b'f', 11);

/// The disk space of `file` that no other file shares; `None` if its filesystem does not report it.
pub(super) fn own(file: &File) -> Option<ByteLen> {
    let (mut start, mut own) = (0u64, 0u64);
    loop {
        let count = u32::try_from(EXTENTS).ok()?;
        let length = u64::MAX.checked_sub(start)?;
        let extents = [Extent::default(); EXTENTS];
        let mut map = Map { start, length, flags: 0, mapped: 0, count, reserved: 0, extents };
        // SAFETY: FS_IOC_FIEMAP reads a `struct fiemap` and writes at most `count` extents after its header, for which
        // there is space.
        unsafe { ioctl(file, Updater::<FIEMAP, Map>::new(&mut map)) }.ok()?;
        let found = map.extents.get(..usize::try_from(map.mapped).ok()?)?;
        for extent in found.iter().filter(|extent| extent.flags & SHARED == 0) {
            own = own.checked_add(extent.length)?;
        }
        match found.last() {
            Some(last) if last.flags & LAST == 0 => {
                start = last.logical.checked_add(last.length).filter(|next| *next > start)?;
            }
            _ => return Some(ByteLen::new(own)),
        }
    }
}
