//! Whatever is on a card, and whatever it is packed into: every read of the image gives the card's
//! bytes, and every way from one container to another ends at the same ones.

use imbrik_core::{
    Class,
    image::{Image, Manifest, Output, Pack, SumKind, TILE, Unpack, manifest_path, tile_span},
    layout::{Survey, View},
    progress::{Cancel, Event, Observer, Step, Unobserved, Watch},
    store::{ReadAt, SparseStore, WriteAt, read_vec},
    transfer::{OnDamage, OnUnfinished, SaveOptions, Saved, check_tiles, repack, save},
    units::{ByteLen, ByteOffset},
};
use jiff::Timestamp;
use proptest::prelude::*;
use std::{
    fs,
    io::Write,
    path::Path,
    process::Command,
    sync::{Arc, Mutex},
};

fn options(pack: Pack) -> SaveOptions {
    let sums = vec![SumKind::Sha256];
    let damage = OnDamage::default();
    SaveOptions {
        pack,
        level: 1,
        sums,
        replace: true,
        check: true,
        in_pieces: false,
        owner: None,
        damage,
        unfinished: OnUnfinished::Remove,
    }
}

fn watched<T>(work: impl FnOnce(Watch<'_>) -> T) -> T {
    let cancel = Cancel::new();
    work(Watch { observer: &Unobserved, cancel: &cancel })
}

fn saved(store: &Arc<SparseStore>, to: &Path, pack: Pack) -> Saved {
    let survey = Survey::of(&**store).unwrap();
    let manifest = Manifest::new(&survey, "imbrik", Timestamp::UNIX_EPOCH);
    let view = View::whole(Arc::<SparseStore>::clone(store));
    watched(|watch| save(&view, manifest, Output::File(to), &options(pack), watch).unwrap())
}

fn repacked(image: &Image, to: &Path, pack: Pack, takes_over: bool) -> imbrik_core::Result<Saved> {
    let manifest = image.manifest().unwrap().clone();
    watched(|watch| repack(image, manifest, Output::File(to), &options(pack), takes_over, watch))
}

/// A card of `len` bytes with pieces of noise and of repetition in it.
fn card(len: u64, pieces: &[(u64, u64, bool)]) -> Arc<SparseStore> {
    let store = SparseStore::new(ByteLen::new(len));
    for (at, size, is_noise) in pieces {
        let at = at % len;
        let size = (*size).min(len - at);
        let bytes: Vec<u8> = (0..size)
            .map(
                |i| if *is_noise { (i.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 41) as u8 } else { 7 },
            )
            .collect();
        store.write_at(ByteOffset::new(at), &bytes).unwrap();
    }
    Arc::new(store)
}

fn any_pack() -> impl Strategy<Value = Pack> {
    (0..Pack::all().count()).prop_map(|number| Pack::all().nth(number).unwrap())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn every_read_of_an_image_gives_the_cards_bytes(
        len in 1u64..14_000_000,
        pieces in proptest::collection::vec(
            (any::<u64>(), 1u64..700_000, any::<bool>()), 0..6),
        pack in any_pack(),
        reads in proptest::collection::vec((any::<u64>(), 0u64..3_000_000), 1..8),
    ) {
        let store = card(len, &pieces);
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x");
        let saved = saved(&store, &path, pack);
        prop_assert_eq!(saved.image_len.get(), fs::metadata(&path).unwrap().len());
        let image = Image::open(&path, None).unwrap();
        prop_assert_eq!(image.container(), pack.container());
        prop_assert!(image.findings().is_empty());
        for (at, size) in reads {
            let at = at % len;
            let size = size.min(len - at) as usize;
            let at = ByteOffset::new(at);
            prop_assert!(read_vec(&**image.content(), at, size).unwrap() == read_vec(&*store, at, size).unwrap());
        }
        // Reported holes never contain data.
        let mut at = ByteOffset::ZERO;
        while let Some(data) = image.content().next_data(at).unwrap() {
            let skipped = data.start().saturating_since(at).to_usize().unwrap();
            let zeros = read_vec(&*store, at, skipped).unwrap();
            prop_assert!(zeros.iter().all(|byte| *byte == 0));
            at = data.end();
        }
    }

    #[test]
    fn repacking_between_any_containers_keeps_the_bytes(
        pieces in proptest::collection::vec((any::<u64>(), 1u64..900_000, any::<bool>()), 1..5),
        packs in proptest::collection::vec(any_pack(), 1..5),
        takes_over in any::<bool>(),
    ) {
        let store = card(9_000_000, &pieces);
        let dir = tempfile::tempdir().unwrap();
        let mut last = dir.path().join("first");
        saved(&store, &last, Pack::usual());
        for (step, pack) in packs.into_iter().enumerate() {
            let image = Image::open(&last, None).unwrap();
            let next = dir.path().join(format!("step-{step}"));
            repacked(&image, &next, pack, takes_over).unwrap();
            last = next;
        }
        let image = Image::open(&last, None).unwrap();
        let digests = image.manifest().unwrap().tiles.digests().unwrap();
        let found = watched(|watch| check_tiles(&image, &digests, watch).unwrap());
        prop_assert!(found.spans.is_empty());
        prop_assert!(read_vec(&**image.content(), ByteOffset::ZERO, 9_000_000).unwrap()
            == read_vec(&*store, ByteOffset::ZERO, 9_000_000).unwrap());
    }
}

#[test]
fn fitting_frames_are_copied_unchanged() {
    let store = card(14_000_000, &[(100, 900_000, true), (5 << 20, 900_000, true)]);
    let dir = tempfile::tempdir().unwrap();
    for pack in Pack::all().filter(|pack| !pack.is_raw()) {
        let (from, to) = (dir.path().join("from"), dir.path().join("to"));
        saved(&store, &from, pack);
        let image = Image::open(&from, None).unwrap();
        let span = tile_span(1, ByteLen::new(14_000_000)).unwrap();
        let frame = image.standing(span).unwrap()[0].bytes().unwrap();
        assert_eq!(repacked(&image, &to, pack, true).unwrap().reused.tiles(), 2);
        assert_eq!(repacked(&image, &to, pack, false).unwrap().reused.tiles(), 0);
        let again = Image::open(&to, None).unwrap();
        assert_eq!(
            again.standing(span).unwrap()[0].bytes().unwrap(),
            frame,
            "the codec is deterministic"
        );
        let half = tile_span(0, ByteLen::new(1 << 20)).unwrap();
        assert!(again.standing(half).is_none(), "no frame holds exactly that");
    }
}

#[test]
fn repack_of_a_source_with_wrong_digests_writes_no_image() {
    let store = card(9_000_000, &[(100, 900_000, true)]);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img");
    saved(&store, &path, Pack::raw());
    let mut bytes = fs::read(&path).unwrap();
    bytes[5000] ^= 1;
    fs::write(&path, bytes).unwrap();
    let image = Image::open(&path, None).unwrap();
    let error = repacked(&image, &dir.path().join("y"), Pack::usual(), true).unwrap_err();
    assert_eq!(error.class(), Class::Mismatch);
    assert!(!dir.path().join("y").exists() && !dir.path().join("y.part").exists());
}

#[test]
fn stream_is_unpacked_once_with_progress_and_can_be_cancelled() {
    #[derive(Default)]
    struct Steps(Mutex<Vec<Step>>);
    impl Observer for Steps {
        fn on(&self, event: &Event) {
            if let Event::Started { step, .. } = event {
                self.0.lock().unwrap().push(*step);
            }
        }
    }
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.gz");
    let store = card(9_000_000, &[(100, 900_000, true)]);
    fs::write(dir.path().join("raw"), read_vec(&*store, ByteOffset::ZERO, 9_000_000).unwrap())
        .unwrap();
    let line = format!("gzip -1c {0}/raw > {0}/x.gz", dir.path().display());
    assert!(Command::new("sh").args(["-c", &line]).status().unwrap().success());

    let error = Image::open(&path, None).err().unwrap();
    assert_eq!(error.class(), Class::Unsupported, "not without leave to unpack it");
    let (steps, cancel) = (Steps::default(), Cancel::new());
    let watch = Watch { observer: &steps, cancel: &cancel };
    let unpack = Unpack { folder: dir.path(), watch, entry: None };
    let image = Image::open(&path, Some(unpack)).unwrap();
    assert_eq!(image.container().to_string(), "gzip");
    assert_eq!(*steps.0.lock().unwrap(), [Step::Unpacking]);
    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2, "the temporary file has no name");
    assert_eq!(image.content().size(), ByteLen::new(9_000_000));
    let span = tile_span(0, ByteLen::new(9_000_000)).unwrap();
    assert!(image.standing(span).is_none(), "its frames are not those of the file");
    cancel.request();
    assert_eq!(Image::open(&path, Some(unpack)).err().unwrap().class(), Class::Cancelled);
}

#[test]
fn image_from_a_pipe_equals_the_file_including_its_manifest() {
    let store = card(9_000_000, &[(100, 900_000, true)]);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x");
    for pack in Pack::all() {
        saved(&store, &path, pack);
        let bytes = fs::read(&path).unwrap();
        let image = watched(|watch| {
            let unpack = Unpack { folder: dir.path(), watch, entry: None };
            Image::from_pipe(&mut &bytes[..], unpack).unwrap()
        });
        assert_eq!(image.container(), pack.container());
        assert_eq!(
            image.manifest().is_some(),
            pack.holds_manifest(),
            "the others have it beside them"
        );
        assert!(
            read_vec(&**image.content(), ByteOffset::ZERO, 9_000_000).unwrap()
                == read_vec(&*store, ByteOffset::ZERO, 9_000_000).unwrap()
        );
    }
    let nothing = watched(|watch| {
        Image::from_pipe(&mut std::io::empty(), Unpack { folder: dir.path(), watch, entry: None })
            .err()
    });
    assert_eq!(nothing.unwrap().class(), Class::Corrupt);
}

/// A writer that fails after a number of bytes, like a closed pipe.
struct Narrow(usize);

impl Write for Narrow {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match self.0.min(bytes.len()) {
            0 => Err(std::io::ErrorKind::BrokenPipe.into()),
            len => {
                self.0 -= len;
                Ok(len)
            }
        }
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

#[test]
fn broken_pipe_is_an_error_without_side_effects() {
    let store = card(9_000_000, &[(100, 900_000, true)]);
    let survey = Survey::of(&*store).unwrap();
    for room in [0, 1, 5_000_000] {
        let manifest = Manifest::new(&survey, "imbrik", Timestamp::UNIX_EPOCH);
        let view = View::whole(Arc::<SparseStore>::clone(&store));
        let pipe = Output::Pipe(Box::new(Narrow(room)));
        let error = watched(|watch| save(&view, manifest, pipe, &options(Pack::raw()), watch));
        assert_eq!(error.unwrap_err().class(), Class::Io);
    }
}

#[test]
fn image_truncated_at_a_frame_is_detected_without_its_manifest_file() {
    // Every cut between two members leaves a sound gzip file of a shorter card.
    let store = card(3 * TILE.get() + 5, &[(100, 9_000_000, true)]);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("x.img.gz");
    saved(&store, &path, Pack::of_name(Path::new("x.gz")).unwrap());
    fs::remove_file(manifest_path(&path)).unwrap();
    let image = Image::open(&path, None).unwrap();
    let first = image.standing(tile_span(0, store.size()).unwrap()).unwrap()[0].bytes().unwrap();
    drop(image);
    let whole = fs::read(&path).unwrap();
    fs::write(&path, &whole[..first.len()]).unwrap();
    let error = Image::open(&path, None).err().unwrap();
    assert_eq!(error.class(), Class::Corrupt);
    assert!(error.to_string().contains("truncated"), "{error}");
}
