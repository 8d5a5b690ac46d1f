//! The calls to a device that have no safe wrapper.
#![expect(unsafe_code, reason = "the request number and the argument's layout are defined here")]

use rustix::ioctl::{Getter, NoArg, ioctl, opcode};
use std::fs::File;

/// `BLKRRPART` from `linux/fs.h`.
const BLKRRPART: rustix::ioctl::Opcode = opcode::none(0x12, 95);

/// `FIFREEZE` and `FITHAW` from `linux/fs.h`.
const FIFREEZE: rustix::ioctl::Opcode = opcode::read_write::<std::ffi::c_int>(b'X', 119);
const FITHAW: rustix::ioctl::Opcode = opcode::read_write::<std::ffi::c_int>(b'X', 120);

/// `BLKGETDISKSEQ` from `linux/fs.h`.
const BLKGETDISKSEQ: rustix::ioctl::Opcode = opcode::read::<u64>(0x12, 128);

/// The kernel's sequence number of the medium in an open device; `None` if it has none.
pub(super) fn sequence(device: &File) -> Option<u64> {
    // SAFETY: BLKGETDISKSEQ fills in one u64.
    unsafe { ioctl(device, Getter::<BLKGETDISKSEQ, u64>::new()) }.ok()
}

/// Asks the kernel to read a device's partition table again. A failure, because the device has no partitions or one of
/// them is in use, does not affect the written data.
pub(super) fn reread_table(device: &File) {
    // SAFETY: BLKRRPART takes no argument and touches no memory of this process.
    let _ = unsafe { ioctl(device, NoArg::<BLKRRPART>::new()) };
}

/// Flushes and freezes the filesystem of `folder`. `OPNOTSUPP` if it can't be frozen.
pub(super) fn freeze(folder: &File) -> rustix::io::Result<()> {
    // SAFETY: FIFREEZE takes no argument and touches no memory of this process.
    unsafe { ioctl(folder, NoArg::<FIFREEZE>::new()) }
}

/// Thaws what [`freeze`] froze.
pub(super) fn thaw(folder: &File) -> rustix::io::Result<()> {
    // SAFETY: FITHAW takes no argument and touches no memory of this process.
    unsafe { ioctl(folder, NoArg::<FITHAW>::new()) }
}
