//! The one call to a device that has no safe wrapper.
#![expect(unsafe_code, reason = "an ioctl is a number and a promise; both stand here")]

use rustix::ioctl::{NoArg, ioctl, opcode};
use std::fs::File;

/// `BLKRRPART` from `linux/fs.h`.
const BLKRRPART: rustix::ioctl::Opcode = opcode::none(0x12, 95);

/// Asks the kernel to read a device's partition table again. That it can't, because the device
/// has no partitions or one of them is in use, changes nothing about what was written.
pub(super) fn reread_table(device: &File) {
    // SAFETY: BLKRRPART takes no argument and touches no memory of this process.
    let _ = unsafe { ioctl(device, NoArg::<BLKRRPART>::new()) };
}
