//! The calls to a device that have no safe wrapper.
#![expect(unsafe_code, reason = "an ioctl is a number and a promise; both stand here")]

use rustix::ioctl::{Getter, NoArg, ioctl, opcode};
use std::fs::File;

/// `BLKRRPART` from `linux/fs.h`.
const BLKRRPART: rustix::ioctl::Opcode = opcode::none(0x12, 95);

/// `BLKGETDISKSEQ` from `linux/fs.h`.
const BLKGETDISKSEQ: rustix::ioctl::Opcode = opcode::read::<u64>(0x12, 128);

/// The number that the kernel gave to the medium in an open device; `None` where it gives none.
pub(super) fn sequence(device: &File) -> Option<u64> {
    // SAFETY: BLKGETDISKSEQ fills in one u64.
    unsafe { ioctl(device, Getter::<BLKGETDISKSEQ, u64>::new()) }.ok()
}

/// Asks the kernel to read a device's partition table again. That it can't, because the device
/// has no partitions or one of them is in use, changes nothing about what was written.
pub(super) fn reread_table(device: &File) {
    // SAFETY: BLKRRPART takes no argument and touches no memory of this process.
    let _ = unsafe { ioctl(device, NoArg::<BLKRRPART>::new()) };
}
