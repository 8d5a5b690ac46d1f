//! Random damage gives an error or a right result: never a panic, a hang or memory out of
//! proportion.

use imbrik_core::{
    Class,
    image::{Image, Manifest, Pack, TileDigest},
    layout::{Content, Occupancy, Survey, View},
    progress::{Cancel, Unobserved},
    store::{ReadAt, SparseStore, WriteAt, read_vec},
    transfer::{SaveOptions, Watch, check_tiles, save},
    units::{ByteLen, ByteOffset},
};
use jiff::Timestamp;
use proptest::prelude::*;
use std::{
    fs,
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
    let options =
        SaveOptions { pack, level: 3, sums: Vec::new(), replace: false, check: true, owner: None };
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    save(&View::whole(Arc::new(store)), manifest, at, &options, watch).unwrap();
    fs::read(at).unwrap()
}

/// What a damaged image turns out to be.
#[derive(Debug, PartialEq)]
enum Verdict {
    Whole,
    Told,
}

fn judge(path: &Path, beside: Option<&[u8]>) -> Verdict {
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let image = match Image::open_with(path, beside) {
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

#[test]
fn every_bit_of_a_packed_image_counts_or_changes_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img.zst");
    let whole = saved(&path, Pack::Zst);
    assert_eq!(judge(&path, None), Verdict::Whole);
    let mut told = 0;
    let places = (0..whole.len()).filter(|at| *at < 64 || *at % 7 == 0 || *at + 64 > whole.len());
    for at in places {
        let mut damaged = whole.clone();
        damaged[at] ^= 1 << (at % 8);
        fs::write(&path, &damaged).unwrap();
        told += u32::from(judge(&path, None) == Verdict::Told);
    }
    assert!(told > 200, "{told}");
}

#[test]
fn every_truncation_is_told() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img.zst");
    let whole = saved(&path, Pack::Zst);
    for len in
        (0..whole.len()).filter(|len| *len < 100 || *len % 977 == 0 || *len + 100 > whole.len())
    {
        fs::write(&path, &whole[..len]).unwrap();
        assert_eq!(judge(&path, None), Verdict::Told, "{len} of {}", whole.len());
    }
}

#[test]
fn bytes_behind_the_end_are_told() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img.zst");
    let mut long = saved(&path, Pack::Zst);
    long.extend_from_slice(b"trailing garbage");
    fs::write(&path, &long).unwrap();
    assert_eq!(judge(&path, None), Verdict::Told);
}

#[test]
fn a_manifest_that_lies_about_its_size_costs_no_memory() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img");
    let raw = saved(&path, Pack::Raw);
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
fn damaged_digests_in_the_manifest_are_told() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img");
    saved(&path, Pack::Raw);
    let beside = fs::read(dir.path().join("x.img.manifest.json")).unwrap();
    let at = beside.windows(8).position(|window| window == b"\"blake3\"").unwrap();
    let manifest = Manifest::decode(&beside).unwrap();
    assert!(manifest.tiles.digests().unwrap().contains(&TileDigest::Zero) || at > 0);
    for offset in 12..40 {
        let mut damaged = beside.clone();
        damaged[at + offset] ^= 1;
        assert_eq!(judge(&path, Some(&damaged)), Verdict::Told, "byte {offset}");
    }
}

/// Volumes of 16 MiB as the system's own tools make them.
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
        ];
        let made = makers.iter().map(|maker| {
            let file = tempfile::NamedTempFile::new().unwrap();
            file.as_file().set_len(16 << 20).unwrap();
            let line = format!("PATH=$PATH:/usr/sbin:/sbin; {maker} {}", file.path().display());
            let output = Command::new("sh").args(["-c", &line]).output().unwrap();
            assert!(output.status.success(), "{output:?}; ./test installs what is needed");
            fs::read(file.path()).unwrap()
        });
        made.collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Most bytes that matter stand among the first few blocks: damage falls there.
    #[test]
    fn a_damaged_volume_is_taken_whole_or_by_a_plan_without_holes(
        which in 0usize..8,
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
            let occupancy = Occupancy::of(&store, &survey).unwrap();
            let mut at = ByteOffset::ZERO;
            for segment in &occupancy.segments {
                prop_assert_eq!(segment.span.start(), at);
                at = segment.span.end();
            }
            prop_assert_eq!(at.get(), cut as u64);
            // What is read whole skips nothing at all.
            let skips = occupancy.segments.iter().any(|s| !matches!(s.content, Content::Copied { .. }));
            prop_assert!(!skips || occupancy.read_whole.is_empty());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn a_survey_of_anything_ends(
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
        magic in 0usize..4,
        rest in proptest::collection::vec(any::<u8>(), 1..3000),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x");
        let mut bytes = [
            b"\x28\xb5\x2f\xfd".as_slice(), b"\x5e\x2a\x4d\x18", b"\x59\x2a\x4d\x18", b"",
        ][magic].to_vec();
        bytes.extend(rest);
        fs::write(&path, &bytes).unwrap();
        judge(&path, None);
    }
}
