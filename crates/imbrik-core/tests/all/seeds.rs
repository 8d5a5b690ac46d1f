//! A small part of the fuzzer's corpus, which `scripts/fuzz` starts from, run once in every test. Fails on any input
//! that makes a parser panic, contradict itself, or hang.

#[path = "../../../../fuzz/bodies/beside.rs"]
mod beside;
#[path = "../../../../fuzz/bodies/container.rs"]
mod container;
#[path = "../../../../fuzz/bodies/files.rs"]
mod files;
#[path = "../../../../fuzz/bodies/table.rs"]
mod table;
#[path = "../../../../fuzz/bodies/volume.rs"]
mod volume;

use std::{
    fs::File,
    io::Read,
    path::Path,
    time::{Duration, Instant},
};

/// The time limit for an input: the slowest takes a second, with all checks of a debug build.
const MOST: Duration = Duration::from_secs(20);

fn each(name: &str, least: usize, run: fn(&[u8])) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds");
    let packed = File::open(path.join(format!("{name}.tar.zst"))).unwrap();
    let mut archive = tar::Archive::new(zstd::Decoder::new(packed).unwrap());
    let mut count = 0;
    for entry in archive.entries().unwrap() {
        let mut entry = entry.unwrap();
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).unwrap();
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let started = Instant::now();
        run(&bytes);
        let took = started.elapsed();
        assert!(took < MOST, "{name}: {} took {took:?}", entry.path().unwrap().display());
        count += 1;
    }
    assert!(count >= least, "{name}: {count} inputs");
}

#[test]
fn fuzz_seeds_of_volumes_pass() {
    each("volume", 10, volume::run);
}

#[test]
fn fuzz_seeds_of_files_pass() {
    each("files", 10, files::run);
}

#[test]
fn fuzz_seeds_of_containers_pass() {
    each("container", 50, container::run);
}

#[test]
fn fuzz_seeds_of_tables_pass() {
    each("table", 50, table::run);
}

#[test]
fn fuzz_seeds_of_companion_files_pass() {
    each("beside", 50, beside::run);
}
