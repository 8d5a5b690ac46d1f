//! Drives the built program as its users do, on files in temporary folders.

mod cards;
mod check;
mod clone;
mod containers;
mod demo;
mod devices;
mod failing;
mod faults;
mod fit;
mod harness;
mod identity;
mod kills;
mod layouts;
mod mend;
mod messages;
mod parts;
mod pulled;
mod restore;
mod resume;
mod save;
mod screen;
mod show;
mod terminal;
mod usage;
mod used;
mod weigh;
