//! The integration tests of `imbrik-fs`, in one executable.

#[path = "../../../imbrik-store/tests/support/layering.rs"]
mod layering;
mod support;

mod clusters;
mod edits;
mod files;
mod layers;
mod usage;
