//! Cards in use with writers under the control of the test, which write at the worst time.

use imbrik_core::{
    Class, Result,
    card::{Freeze, MountedVolume},
    fs::ResizeOptions,
    image::{Image, Output, Pack},
    layout::Survey,
    operation::{ImageContent, ImagePlan},
    progress::{Cancel, Unobserved, Watch},
    store::{ReadAt, SparseStore, WriteAt, read_vec},
    transfer::{
        OnDamage, OnUnfinished, Reuse, RunningCard, SaveOptions, Snapshot, save, save_again,
    },
    units::{ByteLen, ByteOffset, Span},
};
use jiff::Timestamp;
use std::{fs, path::Path, process::Command, sync::Arc, time::Duration};

fn sh(line: &str, at: &Path) -> String {
    let line = format!("export PATH=$PATH:/usr/sbin:/sbin; {line}");
    let out = Command::new("sh").args(["-ec", &line]).current_dir(at).output().unwrap();
    assert!(out.status.success(), "{line}: {out:?}; ./test installs what is needed");
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// States of one FAT volume, each after something more was written to it; the system marks it as mounted.
fn states(at: &Path) -> Vec<Vec<u8>> {
    sh(
        "truncate -s 24M v; mkfs.vfat -n HIVE-BOOT v; head -c 3000000 /dev/urandom >kernel; mcopy -i v kernel ::",
        at,
    );
    let mut states = Vec::new();
    for number in 0..6 {
        sh(
            &format!(
                "seq {number}0000 >config; mcopy -o -i v config ::; mcopy -i v config ::more-{number}"
            ),
            at,
        );
        let mut state = fs::read(at.join("v")).unwrap();
        state[0x25] |= 1;
        states.push(state);
    }
    states
}

/// Can't be frozen: after each thaw, the volume changes to its next state, a limited number of times.
struct Restless {
    card: Arc<SparseStore>,
    states: Vec<Vec<u8>>,
    next: usize,
    changes: usize,
}

impl Freeze for Restless {
    fn flush(&mut self) -> Result<()> {
        Ok(())
    }

    fn freeze(&mut self) -> Result<Vec<bool>> {
        Ok(vec![false])
    }

    fn thaw(&mut self) -> Result<Duration> {
        if self.changes > 0 {
            self.changes -= 1;
            self.next = (self.next + 1) % self.states.len();
            self.card.write_at(ByteOffset::ZERO, &self.states[self.next])?;
        }
        Ok(Duration::ZERO)
    }
}

fn options() -> SaveOptions {
    SaveOptions {
        pack: Pack::usual(),
        level: 1,
        sums: Vec::new(),
        replace: true,
        check: true,
        in_pieces: true,
        owner: None,
        damage: OnDamage::Stop,
        unfinished: OnUnfinished::Remove,
    }
}

fn planned(source: &Arc<dyn ReadAt>, survey: &Survey, cancel: &Cancel) -> ImagePlan {
    let options = ResizeOptions::in_memory(cancel);
    ImagePlan::new(source, survey, ImageContent::InUse, options).unwrap()
}

/// The image of a snapshot, created from a copy after the snapshot before it.
fn image_of(before: &Snapshot, snapshot: &Snapshot, at: &Path) -> Image {
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let store: Arc<dyn ReadAt> = before.store.clone();
    let plan = planned(&store, &before.survey, &cancel);
    let manifest = plan.manifest("a test", Timestamp::UNIX_EPOCH);
    let copy = at.join("copy");
    save(&plan.plan.view, manifest, Output::File(&copy), &options(), watch).unwrap();
    let copy = Arc::new(Image::open(&copy, None).unwrap());
    let reuse = Reuse::at(copy, snapshot, before, Vec::new(), &cancel).unwrap();
    let plan = planned(&reuse.source, &snapshot.survey, &cancel);
    let manifest = plan.manifest("a test", Timestamp::UNIX_EPOCH);
    let image = at.join("image.img.zst");
    let to = Output::File(&image);
    save_again(&plan.plan.view, &reuse, manifest, to, &options(), watch).unwrap();
    Image::open(&image, None).unwrap()
}

/// Fails if two states are mixed, the flag of a mounted volume remains, or the save waits forever.
#[test]
fn unfreezable_volume_is_read_until_unchanged() {
    let dir = tempfile::tempdir().unwrap();
    let states = states(dir.path());
    let (mut settled, mut refused) = (0, 0);
    for changes in [0, 1, 2, 5, 30] {
        let card = Arc::new(SparseStore::of(&states[0]));
        let store: Arc<dyn ReadAt> = Arc::<SparseStore>::clone(&card);
        let span = Span::whole(store.size());
        let volume =
            MountedVolume { at: "/boot".into(), device: "x".into(), kind: "vfat".into(), span };
        let folder = Some(dir.path().to_owned());
        let running = RunningCard { card: store, volumes: vec![volume], folder };
        let mut restless = Restless { card, states: states.clone(), next: 0, changes: 0 };
        let cancel = Cancel::new();
        let before = running.snapshot(None, ByteLen::ZERO, &mut restless, &cancel).unwrap();
        restless.changes = changes;
        let snapshot =
            running.snapshot(Some((&before, &[span])), ByteLen::mib(64), &mut restless, &cancel);
        let snapshot = match snapshot {
            Ok(snapshot) => snapshot,
            Err(error) => {
                assert!(changes == 30 && error.class() == Class::Refused, "{changes}: {error}");
                refused += 1;
                continue;
            }
        };
        settled += 1;
        assert!(snapshot.is_whole);
        let image = image_of(&before, &snapshot, dir.path());
        let content = read_vec(&**image.content(), ByteOffset::ZERO, states[0].len()).unwrap();
        fs::write(dir.path().join("seen"), &content).unwrap();
        sh("fsck.fat -n seen", dir.path());
        // The state that it stayed in, unmounted.
        fs::write(dir.path().join("due"), &states[restless.next]).unwrap();
        for name in ["kernel", "config"]
            .map(str::to_owned)
            .into_iter()
            .chain((0..=restless.next).map(|n| format!("more-{n}")))
        {
            sh(
                &format!("mcopy -n -i seen ::{name} - >a; mcopy -n -i due ::{name} - >b; cmp a b"),
                dir.path(),
            );
        }
        assert_eq!(content[0x25] & 1, 0, "it still says that it is mounted");
    }
    assert_eq!((settled, refused), (4, 1));
}

/// Freezes, and reports at the end that it was thawed too early.
struct Late;

impl Freeze for Late {
    fn flush(&mut self) -> Result<()> {
        Ok(())
    }

    fn freeze(&mut self) -> Result<Vec<bool>> {
        Ok(vec![true])
    }

    fn thaw(&mut self) -> Result<Duration> {
        Err(imbrik_core::Error::mismatch("it was thawed before all was read"))
    }
}

/// Fails if data that were read too late are taken for a snapshot.
#[test]
fn early_thaw_invalidates_the_snapshot() {
    let dir = tempfile::tempdir().unwrap();
    sh("truncate -s 16M v; mkfs.ext4 -q v", dir.path());
    let card: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&fs::read(dir.path().join("v")).unwrap()));
    let span = Span::whole(card.size());
    let volume = MountedVolume { at: "/".into(), device: "x".into(), kind: "ext4".into(), span };
    let running = RunningCard { card, volumes: vec![volume], folder: None };
    let snapshot = running.snapshot(None, ByteLen::ZERO, &mut Late, &Cancel::new());
    assert_eq!(snapshot.err().unwrap().class(), Class::Mismatch);
}
