//! The integration tests of `imbrik-core`, in one executable.

#[path = "../../../imbrik-store/tests/support/layering.rs"]
mod layering;
#[path = "../../../imbrik-fs/tests/all/support/mod.rs"]
mod support;

mod containers;
mod damage;
mod layers;
mod machines;
mod mkfs;
mod operations;
mod replay;
mod resize;
mod seeds;
mod snapshot;
mod sweep;
