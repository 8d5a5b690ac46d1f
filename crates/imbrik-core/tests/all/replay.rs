//! A volume that was not unmounted is seen as its own system's tools recover it.
//!
//! `debugfs` writes transactions into the journals of fresh volumes, and `e2fsck` recovers a copy:
//! it is the judge of every block.

use crate::support::system_tool;
use imbrik_core::{
    fs::{OpenVolume, State},
    layout::{Occupancy, Plan, Survey},
    store::{FileStore, ReadAt, read_vec},
    units::{ByteLen, ByteOffset},
};
use proptest::prelude::*;
use std::{io::Write, path::Path, process::Stdio, sync::Arc};

const SIZE: u64 = 16 << 20;
const BLOCK: usize = 1024;

fn tool(name: &str, args: &[&str], dir: &Path, input: &str) -> (i32, String) {
    let mut command = system_tool(name);
    command.args(args).current_dir(dir);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_ne!(output.status.code(), Some(127), "{name} is missing; ./test installs it");
    let text = [output.stdout, output.stderr].concat();
    (output.status.code().unwrap(), String::from_utf8_lossy(&text).into_owned())
}

/// A volume called `v` with these transactions in its journal, and a copy `w` of it that the
/// system's checker has recovered.
fn volume(features: &str, commands: &str) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    std::fs::File::create(at.join("v")).unwrap().set_len(SIZE).unwrap();
    let mut args = vec!["-q", "-F", "-b", "1024"];
    args.extend(features.split_whitespace());
    args.push("v");
    assert_eq!(tool("mkfs.ext4", &args, at, "").0, 0);
    let noise = |seed: u32| -> Vec<u8> {
        (0..3 * BLOCK as u32)
            .map(|i| (i.wrapping_mul(2_654_435_761) >> 9) as u8 ^ seed as u8)
            .collect()
    };
    std::fs::write(at.join("one"), noise(1)).unwrap();
    std::fs::write(at.join("two"), noise(2)).unwrap();
    // A block that looks like a journal block has to be escaped.
    let mut magic = noise(3);
    magic[..4].copy_from_slice(&0xc03b_3998_u32.to_be_bytes());
    std::fs::write(at.join("magic"), magic).unwrap();
    let (code, said) = tool("debugfs", &["-w", "v"], at, commands);
    assert_eq!(code, 0, "{said}");
    std::fs::copy(at.join("v"), at.join("w")).unwrap();
    let (code, said) = tool("e2fsck", &["-y", "-E", "journal_only", "w"], at, "");
    assert!(code <= 1, "{said}");
    dir
}

/// The blocks that differ between our view and the checker's result, except for the superblock, which has times and
/// counts.
fn differing(dir: &Path) -> Vec<usize> {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
    let found = volume.examine().unwrap();
    assert_eq!(found.state, State::ToReplay);
    assert_eq!(found.usage.whole_because, None);
    let recovered = found.recovered.unwrap();
    let ours = read_vec(&*recovered.store, ByteOffset::ZERO, SIZE as usize).unwrap();
    let theirs = std::fs::read(dir.join("w")).unwrap();
    let pairs = ours.chunks(BLOCK).zip(theirs.chunks(BLOCK)).enumerate();
    let blocks: Vec<_> = pairs.filter(|(_, (a, b))| a != b).map(|(block, _)| block).collect();
    for span in &recovered.rewritten {
        assert!(span.end().get() <= SIZE);
    }
    let before = std::fs::read(dir.join("v")).unwrap();
    assert!(before != theirs, "there is nothing to replay: the test proves nothing");
    blocks
}

/// The superblock of the journal: sequence numbers may differ, nothing else.
fn is_journal_head(dir: &Path, block: usize) -> bool {
    let bytes = std::fs::read(dir.join("w")).unwrap();
    bytes[block * BLOCK..].starts_with(&0xc03b_3998_u32.to_be_bytes())
        && bytes[block * BLOCK + 0x1c..block * BLOCK + 0x20] == [0; 4]
}

#[test]
fn every_kind_of_journal_is_replayed_as_the_checker_does() {
    for features in ["", "-O ^64bit", "-O ^metadata_csum", "-O ^metadata_csum,^64bit -I 128"] {
        for open in ["jo", "jo -c", "jo -c -v 2", "jo -c -v 3"] {
            let features_allow = !open.contains("-c") || !features.contains("^metadata_csum");
            if !features_allow {
                continue;
            }
            let commands = format!(
                "{open}\njw -b 13000-13002 one\njw -b 13001 -r 13100 two\njw -b 13100 one\njw -b 13200-13202 \
                 magic\njw -b 13300 two\njw -r 13300\njc\n"
            );
            let dir = volume(features, &commands);
            let blocks = differing(dir.path());
            let odd: Vec<_> = blocks
                .into_iter()
                .filter(|block| *block != 1 && !is_journal_head(dir.path(), *block))
                .collect();
            assert_eq!(odd, [] as [usize; 0], "{features} {open}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Blocks written again and again, and taken back in between.
    #[test]
    fn random_transactions_are_replayed_as_the_checker_does(
        checksums in 0usize..4,
        steps in proptest::collection::vec(
            (13000u32..13012, 0usize..3, proptest::option::of(13000u32..13012)), 1..24),
    ) {
        let mut commands = ["jo", "jo -c", "jo -c -v 2", "jo -c -v 3"][checksums].to_owned();
        for (block, content, revoked) in steps {
            let content = ["one", "two", "magic"][content];
            let revoke = revoked.map_or(String::new(), |block| format!("-r {block} "));
            commands += &format!("\njw -b {block}-{} {revoke}{content}", block + 1);
        }
        commands += "\njc\n";
        let dir = volume("", &commands);
        let blocks = differing(dir.path());
        let odd: Vec<_> = blocks
            .into_iter()
            .filter(|block| *block != 1 && !is_journal_head(dir.path(), *block))
            .collect();
        prop_assert_eq!(odd, [] as [usize; 0], "{}", commands);
    }
}

#[test]
fn save_of_a_dirty_volume_is_clean_to_the_checker() {
    let dir = volume("", "jo -c\njw -b 13000-13002 one\njc\n");
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.path().join("v")).unwrap());
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    let view = Plan::save(store, &occupancy).unwrap().view;
    let bytes = read_vec(&view, ByteOffset::ZERO, SIZE as usize).unwrap();
    std::fs::write(dir.path().join("out"), bytes).unwrap();
    let (code, said) = tool("e2fsck", &["-fn", "out"], dir.path(), "");
    assert_eq!(code, 0, "{said}");
    assert!(!said.contains("recover"), "{said}");
    let header = tool("dumpe2fs", &["-h", "out"], dir.path(), "").1;
    assert!(!header.contains("needs_recovery"), "{header}");
    assert_eq!(view.size(), ByteLen::new(SIZE));
}

#[test]
fn torn_journal_is_replayed_up_to_its_last_commit_or_not_at_all() {
    let dir = volume("", "jo -c\njw -b 13000-13002 one\njw -b 13001 two\njc\n");
    let path = dir.path().join("v");
    let whole = std::fs::read(&path).unwrap();
    let mark = 0xc03b_3998_u32.to_be_bytes();
    let blocks = whole.chunks(BLOCK).enumerate();
    let log: Vec<_> =
        blocks.filter(|(_, bytes)| bytes.starts_with(&mark)).map(|(at, _)| at).collect();
    let last = *log.last().unwrap();
    let mut replayed = 0;
    for block in log[0] + 1..=last {
        let mut torn = whole.clone();
        torn[block * BLOCK..(block + 1) * BLOCK].fill(0);
        std::fs::write(&path, &torn).unwrap();
        let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&path).unwrap());
        let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
        let found = volume.examine().unwrap();
        replayed += u32::from(found.recovered.is_some());
        assert!(found.recovered.is_some() != found.usage.whole_because.is_some(), "{block}");
    }
    assert!(replayed > 0);
}
