//! A volume at another size is one that the system's checker finds nothing to say about, that its
//! kernel mounts and writes to, and that holds exactly the same tree.
//!
//! `IMBRIK_MATRIX=full` runs the large matrix, with volumes of up to 64 GiB; `IMBRIK_TELL=1` prints the result of each
//! step.

mod bad_blocks;
mod contradictions;
mod crash;
mod damage;
mod dirty;
mod fast_commits;
mod faults;
mod matrix;
mod random;
mod volumes;
