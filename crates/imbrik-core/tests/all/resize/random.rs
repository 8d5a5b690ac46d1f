//! Random trees, random deletes, random sizes: there and back again.

use super::volumes::{judged, len_of, noise, resized, resized_with, tool};
use imbrik_core::{
    Class,
    fs::{NewSize, OpenVolume, ResizeOptions},
    layout::{Fit, Occupancy, Plan, Survey},
    progress::Cancel,
    store::{FileStore, ReadAt},
    units::ByteLen,
};
use proptest::prelude::*;
use std::{fs, path::Path, sync::Arc};

const KINDS: [&str; 6] = [
    "-t ext4 -b 1024",
    "-t ext4 -b 4096",
    "-t ext3 -b 1024",
    "-t ext2 -b 2048",
    "-t ext4 -b 1024 -O ^flex_bg,^metadata_csum,^64bit",
    "-t ext4 -b 1024 -g 1024 -O ^resize_inode",
];

/// A volume with the files (folder, length), of which some are deleted again.
fn volume(dir: &Path, options: &str, kib: u64, files: &[(u8, usize, bool)]) {
    let from = dir.join("files");
    let mut deleted = String::new();
    for (number, (folder, len, goes)) in files.iter().enumerate() {
        let folder = format!("hive-{:02}/{}", folder % 8, folder / 64);
        fs::create_dir_all(from.join(&folder)).unwrap();
        let name = format!("{folder}/{number}");
        fs::write(from.join(&name), noise(*len, number as u64)).unwrap();
        if *goes {
            deleted += &format!("rm {name}\n");
        }
    }
    fs::create_dir_all(&from).unwrap();
    fs::File::create(dir.join("v")).unwrap().set_len(kib << 10).unwrap();
    let mut args = vec!["-q", "-F", "-d", "files"];
    args.extend(options.split_whitespace());
    args.push("v");
    tool("mke2fs", &args, dir);
    fs::write(dir.join("deleted"), deleted).unwrap();
    tool("debugfs", &["-w", "-f", "deleted", "v"], dir);
}

fn same_files(dir: &Path, one: &str, other: &str) {
    for (volume, into) in [(one, "a"), (other, "b")] {
        let _ = fs::remove_dir_all(dir.join(into));
        fs::create_dir_all(dir.join(into)).unwrap();
        tool("debugfs", &["-R", &format!("rdump / {into}"), volume], dir);
    }
    tool("diff", &["-r", "a", "b"], dir);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 40, ..ProptestConfig::default() })]

    #[test]
    #[ignore = "long: run by ./test --full"]
    fn grow_and_shrink_return_to_the_same_volume(
        kind in 0usize..KINDS.len(),
        kib in 9_000u64..40_000,
        files in proptest::collection::vec((any::<u8>(), 0usize..90_000, any::<bool>()), 0..90),
        between in 0u64..100,
        further in 100u64..600,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let dir = dir.path();
        volume(dir, KINDS[kind], kib, &files);
        judged(dir, "v");
        resized(dir, "v", "least", NewSize::Smallest { room: ByteLen::ZERO }).unwrap();
        judged(dir, "least");
        same_files(dir, "v", "least");
        let (least, all) = (len_of(dir, "least").get(), kib << 10);
        // One block less is refused, in figures.
        let error = resized(dir, "v", "w", NewSize::Bytes(ByteLen::new(least - 4096)));
        if let Err(error) = error {
            prop_assert_eq!(error.class(), Class::NoRoom);
        }
        let sizes = [least + (all - least) * between / 100, all * further / 100, all];
        let mut from = "least".to_owned();
        for (step, size) in sizes.into_iter().enumerate() {
            let to = format!("step{step}");
            match resized(dir, &from, &to, NewSize::Bytes(ByteLen::new(size))) {
                Ok(_) => {
                    judged(dir, &to);
                    same_files(dir, "v", &to);
                    from = to;
                }
                // A size whose last group has no space for its own metadata is reduced to the groups before it, which
                // may be too few.
                Err(error) => prop_assert_eq!(error.class(), Class::NoRoom, "{}", error),
            }
        }
    }
}

#[test]
fn spilling_to_disk_gives_the_same_result() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let files: Vec<_> = (0..120u8).map(|n| (n, 4000 * usize::from(n % 20), n % 3 == 0)).collect();
    volume(dir, "-t ext4 -b 1024 -O ^flex_bg -g 4096", 40_000, &files);
    let goal = NewSize::Smallest { room: ByteLen::ZERO };
    let (plain, _) = resized(dir, "v", "a.img", goal).unwrap();
    assert!(plain.aside.is_zero());
    let cancel = Cancel::new();
    let work = ResizeOptions {
        cancel: &cancel,
        temporary: Some(dir),
        memory: ByteLen::kib(16),
        as_found: false,
    };
    let (aside, _) = resized_with(dir, "v", "b.img", goal, work).unwrap();
    assert!(!aside.aside.is_zero());
    assert!(fs::read(dir.join("a.img")).unwrap() == fs::read(dir.join("b.img")).unwrap());
    judged(dir, "b.img");
    // A cancelled resize stops; one that can't write its temporary file reports it.
    cancel.request();
    let error = resized_with(dir, "v", "c.img", goal, work).map(|_| ()).unwrap_err();
    assert_eq!(error.class(), Class::Cancelled);
    let (cancel, nowhere) = (Cancel::new(), dir.join("nowhere"));
    let work = ResizeOptions {
        cancel: &cancel,
        temporary: Some(&nowhere),
        memory: ByteLen::kib(16),
        as_found: false,
    };
    let error = resized_with(dir, "v", "c.img", goal, work).map(|_| ()).unwrap_err();
    assert!(error.to_string().contains("temporary file in"), "{error}");
}

/// The size of volume `v` without a table on a card of `size`; `None` if it does not fit.
fn chosen(dir: &Path, size: u64) -> Option<u64> {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    let fit = Fit::Card { size: ByteLen::new(size), take_from: Vec::new(), give_to: None };
    let cancel = Cancel::new();
    match Plan::fit(store, &survey, &occupancy, &fit, ResizeOptions::in_memory(&cancel)) {
        Ok(plan) => {
            let there = Survey::of(&plan.view).unwrap();
            there.parts.first()?.volume.as_ref().map(|volume| volume.size.get())
        }
        Err(error) => {
            assert_eq!(error.class(), Class::NoRoom, "{error}");
            None
        }
    }
}

/// The longest volume for a requested length of at most `size`, found by trying each.
fn longest(dir: &Path, size: u64, not_below: u64) -> Option<u64> {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
    let cancel = Cancel::new();
    let mut asked = size / 1024 * 1024;
    while asked >= not_below {
        let goal = NewSize::Bytes(ByteLen::new(asked));
        match volume.resize(goal, ResizeOptions::in_memory(&cancel)) {
            Ok((resized, _)) => return Some(resized.volume.store.size().get()),
            Err(error) => assert_eq!(error.class(), Class::NoRoom, "{error}"),
        }
        asked -= 1024;
    }
    None
}

#[test]
#[ignore = "long: run by ./test --full"]
fn fill_uses_the_largest_size_that_fits() {
    let (mut all, mut less, mut none) = (0, 0, 0);
    let counts = std::cell::RefCell::new((&mut all, &mut less, &mut none));
    let files = proptest::collection::vec((any::<u8>(), 0usize..90_000, any::<bool>()), 0..60);
    let cases = (0usize..KINDS.len(), 9_000u64..30_000, files, 0u64..8, 0u64..3000);
    let config = ProptestConfig { cases: 120, max_shrink_iters: 20, ..ProptestConfig::default() };
    let mut runner = proptest::test_runner::TestRunner::new(config);
    let run = runner.run(&cases, |(kind, kib, files, near, more)| {
        let dir = tempfile::tempdir().unwrap();
        let dir = dir.path();
        volume(dir, KINDS[kind], kib, &files);
        resized(dir, "v", "least", NewSize::Smallest { room: ByteLen::ZERO }).unwrap();
        let least = len_of(dir, "least").get();
        // From a little less than the smallest on, mostly close to it.
        let ahead = if near < 3 { (more % 80) << 10 } else { more << 10 };
        let size = match near {
            // A few blocks of a group, possibly too few for one.
            5.. if KINDS[kind].contains("-g 1024") => {
                (least.next_multiple_of(1 << 20)) + ((more % 200) << 10)
            }
            5.. => (least.next_multiple_of(8 << 20)) + ((more % 900) << 10),
            _ => least + ahead - (24 << 10),
        };
        let size = size.min((kib << 10) - 1024);
        let found = chosen(dir, size);
        prop_assert_eq!(found, longest(dir, size, least - (48 << 10)), "{} of {}", size, least);
        let mut counts = counts.borrow_mut();
        match found {
            Some(len) if len + 4096 > size => *counts.0 += 1,
            Some(_) => *counts.1 += 1,
            None => *counts.2 += 1,
        }
        Ok(())
    });
    run.unwrap();
    eprintln!("{all} as long as the card, {less} shorter, {none} without room");
    assert!(
        all > 0 && less > 0 && none > 0,
        "{all} as long as the card, {less} shorter, {none} without room"
    );
}
