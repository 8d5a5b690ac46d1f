//! Drives the built program as its users do, on files in temporary folders.

mod cards;
mod check;
mod containers;
mod demo;
mod devices;
mod harness;
mod restore;
mod save;
mod usage;
mod used;
