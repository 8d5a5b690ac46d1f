//! Random damage gives an error or a right result: never a panic, a hang or memory out of
//! proportion.

use crate::support::system_tool;
use imbrik_core::{
    Class,
    image::{Image, Manifest, Output, Pack, TileDigest, Unpack, manifest_path},
    layout::{Content, Occupancy, Plan, Survey, View},
    progress::{Cancel, Unobserved, Watch},
    store::{ReadAt, SparseStore, WriteAt, read_vec},
    transfer::{OnDamage, OnUnfinished, SaveOptions, check_tiles, save},
    units::{ByteLen, ByteOffset},
};
use jiff::Timestamp;
use proptest::prelude::*;
use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    path::Path,
    process::Command,
    sync::{Arc, OnceLock},
};

/// A card of three and a half tiles with something in most of them.
fn card() -> SparseStore {
    let store = SparseStore::new(ByteLen::mib(14));
    for (at, seed) in [(0u64, 1u8), (3 << 20, 2), (9 << 20, 3), ((14 << 20) - 7000, 4)] {
        let bytes: Vec<u8> =
            (0..7000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 11) as u8 ^ seed).collect();
        store.write_at(ByteOffset::new(at), &bytes).unwrap();
    }
    store
}

fn saved(at: &Path, pack: Pack) -> Vec<u8> {
    let store = card();
    let survey = Survey::of(&store).unwrap();
    let manifest = Manifest::new(&survey, "imbrik", Timestamp::UNIX_EPOCH);
    let options = SaveOptions {
        pack,
        level: 3,
        sums: Vec::new(),
        replace: true,
        check: true,
        in_pieces: false,
        owner: None,
        damage: OnDamage::default(),
        unfinished: OnUnfinished::Remove,
    };
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    save(&View::whole(Arc::new(store)), manifest, Output::File(at), &options, watch).unwrap();
    fs::read(at).unwrap()
}

/// The result of opening a damaged image.
#[derive(Debug, PartialEq)]
enum Verdict {
    Whole,
    Told,
}

fn judge(path: &Path, beside: Option<&[u8]>) -> Verdict {
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let unpack = Unpack { folder: path.parent().unwrap(), watch, entry: None };
    let image = match Image::open_with(path, beside, Some(unpack)) {
        Ok(image) => image,
        Err(error) => {
            let class = error.class();
            let told = matches!(class, Class::Corrupt | Class::Unsupported | Class::Mismatch);
            assert!(told, "{error:?}");
            return Verdict::Told;
        }
    };
    let digests = image.manifest().map(|manifest| manifest.tiles.digests());
    let Some(Ok(digests)) = digests else { return Verdict::Told };
    let found = check_tiles(&image, &digests, watch).unwrap();
    if !found.spans.is_empty() || !image.findings().is_empty() {
        return Verdict::Told;
    }
    // Called whole: then it must give back the card to the byte.
    let (content, size) = (image.content(), card().size());
    assert_eq!(content.size(), size);
    let len = size.to_usize().unwrap();
    let same = read_vec(&**content, ByteOffset::ZERO, len).unwrap()
        == read_vec(&card(), ByteOffset::ZERO, len).unwrap();
    assert!(same, "an image that is not the card was called whole");
    Verdict::Whole
}

/// A saved image in every container, and its manifest file.
fn packed()
-> impl Iterator<Item = (tempfile::TempDir, std::path::PathBuf, Vec<u8>, Option<Vec<u8>>)> {
    Pack::all().filter(|pack| !pack.is_raw()).map(|pack| {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x");
        let whole = saved(&path, pack);
        let beside = fs::read(manifest_path(&path)).ok();
        assert_eq!(beside.is_none(), pack.holds_manifest());
        assert_eq!(judge(&path, beside.as_deref()), Verdict::Whole, "{pack:?}");
        (dir, path, whole, beside)
    })
}

#[test]
fn flipping_any_bit_of_an_image_is_detected_or_harmless() {
    for (_dir, path, whole, beside) in packed() {
        let mut told = 0;
        let places =
            (0..whole.len()).filter(|at| *at < 64 || *at % 29 == 0 || *at + 64 > whole.len());
        // In place: a file that is replaced is written to the disk at once.
        let file = File::options().write(true).open(&path).unwrap();
        for at in places {
            file.write_all_at(&[whole[at] ^ 1 << (at % 8)], at as u64).unwrap();
            told += u32::from(judge(&path, beside.as_deref()) == Verdict::Told);
            file.write_all_at(&whole[at..=at], at as u64).unwrap();
        }
        assert!(told > 100, "{told}");
    }
}

#[test]
fn every_truncation_is_reported() {
    for (_dir, path, whole, beside) in packed() {
        let lens = (0..whole.len())
            .filter(|len| *len < 100 || *len % 977 == 0 || *len + 100 > whole.len());
        let file = File::options().write(true).open(&path).unwrap();
        for len in lens.rev() {
            file.set_len(len as u64).unwrap();
            let verdict = judge(&path, beside.as_deref());
            assert_eq!(verdict, Verdict::Told, "{len} of {}", whole.len());
        }
    }
}

#[test]
fn trailing_bytes_are_reported() {
    for (_dir, path, whole, beside) in packed() {
        let mut long = whole;
        long.extend_from_slice(b"trailing garbage");
        fs::write(&path, &long).unwrap();
        assert_eq!(judge(&path, beside.as_deref()), Verdict::Told);
    }
}

/// The content of the image at `path`, from its start; `None` when that is refused or damaged.
fn content(path: &Path) -> Option<Vec<u8>> {
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let unpack = Unpack { folder: path.parent().unwrap(), watch, entry: None };
    let told = |error: imbrik_core::Error| {
        let class = error.class();
        let told = matches!(class, Class::Corrupt | Class::Unsupported | Class::Mismatch);
        assert!(told, "{error:?}");
    };
    let image = Image::open(path, Some(unpack)).map_err(told).ok()?;
    let len = image.content().size().to_usize().filter(|len| *len <= 64 << 20).unwrap();
    read_vec(&**image.content(), ByteOffset::ZERO, len).map_err(told).ok()
}

/// The card in containers from other tools, each with the command that created it.
fn foreign(dir: &Path) -> Vec<(&'static str, Vec<u8>)> {
    let card = read_vec(&card(), ByteOffset::ZERO, 14 << 20).unwrap();
    fs::write(dir.join("card.img"), card).unwrap();
    let makers = [
        "gzip -9nc card.img",
        "head -c 5000000 card.img | gzip -c; tail -c +5000001 card.img | gzip -c",
        "gzip -c card.img; head -c 1000 /dev/zero",
        "xz -1c card.img",
        "xz -1c --block-size=1MiB card.img",
        "head -c 5000000 card.img | xz -c; head -c 4 /dev/zero; tail -c +5000001 card.img | xz -c",
        "bzip2 -c card.img",
        "xz -1c --format=lzma card.img",
        "head -c 5000000 card.img | bzip2 -c; tail -c +5000001 card.img | bzip2 -c",
        "zstd -qc card.img",
        "zstd -qc < card.img",
        "head -c 5000000 card.img | zstd -qc; tail -c +5000001 card.img | zstd -qc",
        "rm -f a.zip; zip -q a.zip card.img && cat a.zip",
        "rm -f a.zip; zip -q0 a.zip card.img && cat a.zip",
    ];
    let made = makers.into_iter().map(|line| {
        let output = Command::new("sh").args(["-c", line]).current_dir(dir).output().unwrap();
        let stderr = String::from_utf8_lossy(&output.stderr);
        assert!(
            output.status.success() && stderr.is_empty(),
            "{line}: {stderr}; ./test installs it"
        );
        (line, output.stdout)
    });
    made.collect()
}

#[test]
fn foreign_containers_decode_under_any_name() {
    let dir = tempfile::tempdir().unwrap();
    let card = read_vec(&card(), ByteOffset::ZERO, 14 << 20).unwrap();
    for (line, bytes) in foreign(dir.path()) {
        let path = dir.path().join("x.iso");
        fs::write(&path, bytes).unwrap();
        assert!(content(&path).is_some_and(|found| found == card), "{line}");
    }
}

#[test]
fn damaged_foreign_containers_fail_or_decode_correctly() {
    let dir = tempfile::tempdir().unwrap();
    let card = read_vec(&card(), ByteOffset::ZERO, 14 << 20).unwrap();
    let path = dir.path().join("x");
    for (line, whole) in foreign(dir.path()) {
        let places = [0, 3, 9, 17, 40, whole.len() / 2, whole.len() - 30, whole.len() - 5];
        for at in places {
            let mut damaged = whole.clone();
            damaged[at] ^= 1 << (at % 8);
            fs::write(&path, &damaged).unwrap();
            // With a flipped magic number, the file counts as a raw image.
            let found = content(&path).filter(|found| *found != damaged);
            assert!(found.is_none_or(|found| found == card), "{line}: byte {at}");
            if at > 0 {
                fs::write(&path, &whole[..at]).unwrap();
                let found = content(&path).filter(|found| found[..] != whole[..at]);
                // Zeros after the end are padding: the image is intact without them.
                assert!(found.is_none_or(|found| found == card), "{line}: cut at {at}");
            }
        }
        let mut long = whole.clone();
        long.extend_from_slice(b"something else");
        fs::write(&path, &long).unwrap();
        let found = content(&path);
        assert!(found.is_none_or(|found| found == card), "{line}: with garbage behind it");
    }
}

#[test]
fn manifest_with_a_false_size_allocates_no_memory() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img");
    let raw = saved(&path, Pack::raw());
    let beside = fs::read(dir.path().join("x.img.manifest.json")).unwrap();
    assert_eq!(judge(&path, Some(&beside)), Verdict::Whole);
    let mut manifest: serde_json::Value = serde_json::from_slice(&beside).unwrap();
    let tiles = 1u64 << 40;
    manifest["card_size"] = (tiles << 22).into();
    manifest["tiles"]["count"] = tiles.into();
    manifest["tiles"]["zero"] = serde_json::json!([[0, tiles]]);
    manifest["tiles"]["blake3"] = serde_json::json!([]);
    let lie = serde_json::to_vec(&manifest).unwrap();
    assert_eq!(judge(&path, Some(&lie)), Verdict::Told);
    assert!(!raw.is_empty());
}

#[test]
fn damaged_digests_in_the_manifest_are_reported() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img");
    saved(&path, Pack::raw());
    let beside = fs::read(dir.path().join("x.img.manifest.json")).unwrap();
    let at = beside.windows(8).position(|window| window == b"\"blake3\"").unwrap();
    let manifest = Manifest::decode(&beside).unwrap();
    let digests = manifest.tiles.digests().unwrap();
    assert!(
        digests.iter().any(|digest| *digest != TileDigest::Zero),
        "there is no digest to damage"
    );
    for offset in 12..40 {
        let mut damaged = beside.clone();
        damaged[at + offset] ^= 1;
        assert_eq!(judge(&path, Some(&damaged)), Verdict::Told, "byte {offset}");
    }
}

/// Volumes of 16 MiB created by the system's own tools.
fn volumes() -> &'static [Vec<u8>] {
    static MADE: OnceLock<Vec<Vec<u8>>> = OnceLock::new();
    MADE.get_or_init(|| {
        let makers = [
            "mkfs.ext4 -q -F -b 4096",
            "mkfs.ext4 -q -F -b 1024 -O ^metadata_csum,uninit_bg",
            "mkfs.ext3 -q -F",
            "mkfs.ext2 -q -F -b 1024",
            "mkfs.vfat -F 16",
            "mkfs.vfat -F 12 -s 32",
            "mkfs.exfat",
            "mkswap",
            "mkfs.ntfs -q -F -f -c 4096",
            "dirty() { mkfs.ext4 -q -F -b 1024 $1; head -c 2048 $0 >$1.b; printf \"jo -c\\njw -b 13000-13001 $1.b\\njw -r 77\\njc\\n\" | debugfs -w $1; rm $1.b; }; dirty",
        ];
        let made = makers.iter().map(|maker| {
            let file = tempfile::NamedTempFile::new().unwrap();
            file.as_file().set_len(16 << 20).unwrap();
            let line = format!("PATH=$PATH:/usr/sbin:/sbin; {maker} {}", file.path().display());
            let output = Command::new("bash").args(["-c", &line, "/bin/bash"]).output().unwrap();
            assert!(output.status.success(), "{output:?}; ./test installs what is needed");
            fs::read(file.path()).unwrap()
        });
        made.collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Most bytes that matter are in the first few blocks: the damage is there.
    #[test]
    fn damaged_volume_is_copied_in_full_or_by_a_complete_plan(
        which in 0usize..10,
        flips in proptest::collection::vec((0usize..40_000, 0u8..8), 1..5),
        words in proptest::collection::vec((0usize..10_000, any::<u32>()), 0..3),
        cut in prop_oneof![4 => Just(16usize << 20), 1 => 0usize..(16 << 20)],
    ) {
        let mut bytes = volumes()[which].clone();
        for (at, bit) in flips {
            bytes[at] ^= 1 << bit;
        }
        for (at, word) in words {
            bytes[at * 4..at * 4 + 4].copy_from_slice(&word.to_le_bytes());
        }
        bytes.truncate(cut);
        let store = SparseStore::of(&bytes);
        if let Ok(survey) = Survey::of(&store) {
            let store: Arc<dyn ReadAt> = Arc::new(store);
            let occupancy = Occupancy::of(&store, &survey).unwrap();
            let mut at = ByteOffset::ZERO;
            for segment in &occupancy.segments {
                prop_assert_eq!(segment.span.start(), at);
                at = segment.span.end();
            }
            prop_assert_eq!(at.get(), cut as u64);
            // A volume that is copied in full skips nothing.
            let skips = occupancy.segments.iter().any(|s| !matches!(s.content, Content::Copied { .. }));
            prop_assert!(!skips || occupancy.read_whole.is_empty());
        }
    }
}

/// The free blocks of the volume at `path`, as the system's own tool lists them.
fn free_blocks(path: &Path) -> Vec<(u64, u64)> {
    let output = system_tool("dumpe2fs").arg(path).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let lists = text.lines().filter_map(|line| line.strip_prefix("  Free blocks: "));
    let ranges = lists.flat_map(|list| list.split(", ").filter(|range| !range.is_empty()));
    let pair = |range: &str| {
        let (first, last) = range.split_once('-').unwrap_or((range, range));
        (first.parse().unwrap(), last.parse().unwrap())
    };
    ranges.map(pair).collect()
}

/// If the system's checker accepts the volume, damaged or not, nothing that it calls used may be skipped.
fn skips_nothing_used(bytes: &[u8]) -> Result<(), String> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("v");
    fs::write(&path, bytes).unwrap();
    let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(bytes));
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    let skipped = occupancy.segments.iter().filter(|s| matches!(s.content, Content::Unused));
    let skipped: Vec<_> = skipped.map(|segment| segment.span).collect();
    let check = system_tool("e2fsck").arg("-fn").arg(&path).output().unwrap();
    if check.status.code() != Some(0) || skipped.is_empty() {
        return Ok(());
    }
    let block = 1024u64 << bytes[1024 + 0x18];
    let free = free_blocks(&path);
    for span in skipped {
        let (first, last) = (span.start().get() / block, (span.end().get() - 1) / block);
        let is_free = free.iter().any(|(from, to)| *from <= first && last <= *to)
            || (first..=last).all(|b| free.iter().any(|(from, to)| (*from..=*to).contains(&b)));
        if !is_free {
            return Err(format!("blocks {first} to {last} are in use"));
        }
    }
    Ok(())
}

/// Bits of a superblock with which the checker silently uses a backup, and the kernel does not mount the volume.
#[test]
fn superblock_that_no_kernel_accepts_is_ignored() {
    // Counts of inodes and blocks, sizes of blocks, clusters, groups, inodes and descriptors.
    for field in [0x0, 0x4, 0x14, 0x18, 0x1c, 0x20, 0x24, 0x28, 0x4c, 0x58, 0xce, 0xfe] {
        for (which, bit) in [(1, 0), (2, 0), (3, 0), (1, 3), (2, 6)] {
            let mut bytes = volumes()[which].clone();
            bytes[1024 + field] ^= 1 << bit;
            if let Err(why) = skips_nothing_used(&bytes) {
                panic!("volume {which}, byte {field:#x}, bit {bit}: {why}");
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    #[test]
    fn no_used_block_is_skipped_in_a_volume_that_the_checker_accepts(
        which in 0usize..4,
        flips in proptest::collection::vec((0usize..40_000, 0u8..8), 0..3),
    ) {
        let mut bytes = volumes()[which].clone();
        for (at, bit) in flips {
            bytes[at] ^= 1 << bit;
        }
        skips_nothing_used(&bytes).map_err(TestCaseError::fail)?;
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// In the journal, and in the file table of NTFS, which are at higher offsets.
    #[test]
    fn damaged_journal_or_file_table_is_replayed_or_the_volume_copied_in_full(
        is_ext in any::<bool>(),
        flips in proptest::collection::vec((0usize..8192, 0u8..8), 1..4),
        words in proptest::collection::vec((0usize..2048, any::<u32>()), 0..2),
    ) {
        let (which, mark) = if is_ext { (9, b"\xc0\x3b\x39\x98") } else { (8, b"FILE") };
        let mut bytes = volumes()[which].clone();
        let start = bytes.windows(4).position(|window| window == mark).unwrap();
        for (at, bit) in flips {
            bytes[start + at] ^= 1 << bit;
        }
        for (at, word) in words {
            bytes[start + at * 4..start + at * 4 + 4].copy_from_slice(&word.to_le_bytes());
        }
        let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&bytes));
        let survey = Survey::of(&*store).unwrap();
        let occupancy = Occupancy::of(&store, &survey).unwrap();
        let view = Plan::save(store, &occupancy).unwrap().view;
        let _ = read_vec(&view, ByteOffset::ZERO, 16 << 20).unwrap();
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn survey_of_random_bytes_terminates(
        head in proptest::collection::vec(any::<u8>(), 2048),
        marks in proptest::collection::vec(0usize..6, 0..4),
        size in 0u64..(1 << 40),
    ) {
        let store = SparseStore::new(ByteLen::new(size));
        let mut head = head;
        for mark in marks {
            let (at, bytes): (usize, &[u8]) = [
                (510, b"\x55\xaa".as_slice()), (512, b"EFI PART"), (446, b"\0\0\0\0\x05\0\0\0"),
                (1080, b"\x53\xef"), (3, b"EXFAT   "), (3, b"NTFS    "),
            ][mark];
            head[at..at + bytes.len()].copy_from_slice(bytes);
        }
        for entry in 0..4 {
            head[446 + entry * 16] &= 0x80;
        }
        let len = usize::try_from(size.min(2048)).unwrap();
        store.write_at(ByteOffset::ZERO, &head[..len]).unwrap();
        if let Ok(survey) = Survey::of(&store) {
            for gap in &survey.gaps {
                prop_assert!(gap.end().get() <= size);
            }
        }
    }

    #[test]
    fn random_files_are_opened_or_refused(
        magic in 0usize..10,
        rest in proptest::collection::vec(any::<u8>(), 1..3000),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x");
        let mut bytes = [
            b"\x28\xb5\x2f\xfd".as_slice(), b"\x5e\x2a\x4d\x18", b"\x59\x2a\x4d\x18", b"",
            b"\x1f\x8b\x08\x00", b"\x1f\x8b\x08\x04\0\0\0\0\0\0\x14\0IK\x10\0", b"\xfd7zXZ\0",
            b"BZh9", b"PK\x03\x04", b"7z\xbc\xaf\x27\x1c",
        ][magic].to_vec();
        bytes.extend(rest);
        fs::write(&path, &bytes).unwrap();
        judge(&path, None);
    }
}
