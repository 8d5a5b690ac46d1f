//! Complete operations without the command line, as another program would use them.

use imbrik_core::{
    Class,
    card::{Host, Rack},
    fs::ResizeOptions,
    image::{Image, Output, Pack},
    layout::Survey,
    operation::{
        CardTarget, ImageContent, ImagePlan, PlanRefusal, RestoreOptions, RestorePlan, SizeNote,
        Source, SourceOptions, SourceRefusal, WriteFailure, WriteOptions,
    },
    progress::{Cancel, Unobserved, Watch},
    transfer::{OnDamage, OnUnfinished, SaveOptions, save},
};
use jiff::Timestamp;
use std::{
    fs,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::Command,
};

/// A rack with a small system in slot `a`, an MBR with one ext volume, and slots of other sizes.
fn rack(dir: &Path) -> Rack {
    let rack = dir.join("rack");
    fs::create_dir(&rack).unwrap();
    let line = "export PATH=$PATH:/usr/sbin:/sbin; mkdir -p files/etc; echo hive-07 >files/etc/hostname; \
                head -c 3000000 /dev/urandom >files/brood.wav; truncate -s 31M v; \
                mkfs.ext4 -q -d files v; truncate -s 32M a.img; echo '2048,,L' | sfdisk -q a.img; \
                dd if=v of=a.img bs=1M seek=1 conv=notrunc status=none; for n in b c d; do \
                printf '\\356%.0s' $(seq 4096) >$n.img; done; rm -r v files";
    let made = Command::new("sh").args(["-ec", line]).current_dir(&rack).output().unwrap();
    assert!(made.status.success(), "{made:?}; ./test installs what is needed");
    let slots = [("a", 32), ("b", 32), ("c", 48), ("d", 4)];
    let slots = slots.map(|(name, mib)| {
        format!("[[slot]]\nname = \"{name}\"\nsize = {}\n", u64::from(mib as u32) << 20)
    });
    fs::write(rack.join("rack.toml"), slots.concat()).unwrap();
    Rack::open(&rack).unwrap()
}

fn slot(rack: &Rack, name: &str) -> CardTarget {
    let cards = rack.list().unwrap().cards;
    let path = PathBuf::from(format!("rack:{name}"));
    let card = cards.into_iter().find(|card| card.path == path).unwrap();
    CardTarget::look(rack, card).unwrap()
}

/// The image of slot `a`, as `content`.
fn saved(rack: &Rack, dir: &Path, content: ImageContent) -> Image {
    let cancel = Cancel::new();
    let card = slot(rack, "a");
    let source = rack.open_source(&card.card).unwrap();
    let options = ResizeOptions::in_memory(&cancel);
    let plan = ImagePlan::new(&source, &card.survey, content, options).unwrap();
    let path = dir.join("hive-07.img.zst");
    let options = SaveOptions {
        pack: Pack::usual(),
        level: Pack::usual().usual_level(),
        sums: Vec::new(),
        replace: true,
        check: true,
        in_pieces: false,
        owner: None,
        damage: OnDamage::default(),
        unfinished: OnUnfinished::Remove,
    };
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let manifest = plan.manifest("a test", Timestamp::UNIX_EPOCH);
    save(&plan.plan.view, manifest, Output::File(&path), &options, watch).unwrap();
    Image::open(&path, None).unwrap()
}

#[test]
fn library_restores_a_card_without_the_command_line() {
    let dir = tempfile::tempdir().unwrap();
    let rack = rack(dir.path());
    let image = saved(&rack, dir.path(), ImageContent::InUse);
    let cancel = Cancel::new();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let source = Source::of_image(&image, &SourceOptions::default()).unwrap();
    // On a card of the same size it is unchanged. On a larger one, the last volume fills the card, as it did before.
    for (name, volume) in [("b", 31u64 << 20), ("c", 47 << 20)] {
        let target = slot(&rack, name);
        let plan = RestorePlan::new(&source, &target, &RestoreOptions::new(&cancel)).unwrap();
        assert!(plan.notes.is_empty());
        let written = plan.write(&rack, &target, &source, WriteOptions::default(), watch).unwrap();
        assert!(written.held.is_none() && written.unreadable.is_empty());
        let after = slot(&rack, name).survey;
        assert_eq!((after.host.as_deref(), after.parts.len()), (Some("hive-07"), 1));
        assert_eq!(after.parts[0].volume.as_ref().unwrap().size.get(), volume, "{name}");
        let part = dir.path().join("part");
        let skip =
            format!("dd if=rack/{name}.img of=part bs=1M skip=1 status=none; e2fsck -fn part");
        let skip = format!("export PATH=$PATH:/usr/sbin:/sbin; {skip}");
        let mut judge = Command::new("sh");
        assert!(judge.args(["-ec", &skip]).current_dir(dir.path()).status().unwrap().success());
        fs::remove_file(part).unwrap();
    }
}

/// Fails if refusals can't be distinguished.
#[test]
fn impossible_requests_are_refused_before_writing() {
    let dir = tempfile::tempdir().unwrap();
    let rack = rack(dir.path());
    let cancel = Cancel::new();
    let image = saved(&rack, dir.path(), ImageContent::InUse);
    let source = Source::of_image(&image, &SourceOptions::default()).unwrap();
    let usual = RestoreOptions::new(&cancel);
    let small = RestorePlan::new(&source, &slot(&rack, "d"), &usual).err().unwrap();
    assert!(matches!(small, PlanRefusal::Failed(error) if error.class() == Class::NoRoom));
    let mut fill = usual.clone();
    fill.sizes.fill = true;
    let plan = RestorePlan::new(&source, &slot(&rack, "b"), &fill).unwrap();
    assert!(matches!(plan.notes[..], [SizeNote::NothingToFill]));
    let exact = saved(&rack, dir.path(), ImageContent::Exact);
    let exact = Source::of_image(&exact, &SourceOptions::default()).unwrap();
    let refused = RestorePlan::new(&exact, &slot(&rack, "c"), &fill).err().unwrap();
    assert!(matches!(refused, PlanRefusal::Exact));
    // Images that are none of a card.
    let mut bytes = vec![0; 1 << 20];
    bytes[..15].copy_from_slice(b"hive-07 weights");
    fs::write(dir.path().join("other.img"), &bytes).unwrap();
    let other = Image::open(&dir.path().join("other.img"), None).unwrap();
    let of = |options: &SourceOptions| Source::of_image(&other, options).err();
    assert!(matches!(of(&SourceOptions::default()), Some(SourceRefusal::Unknown)));
    let behind = SourceOptions { starts_at: Some(1 << 21), ..SourceOptions::default() };
    assert!(matches!(of(&behind), Some(SourceRefusal::StartsBehindTheEnd { .. })));
    let as_is = SourceOptions { as_is: true, ..SourceOptions::default() };
    assert!(of(&as_is).is_none());
    // A card that was exchanged between the plan and the writing.
    let target = slot(&rack, "b");
    let plan = RestorePlan::new(&source, &target, &usual).unwrap();
    let file = fs::OpenOptions::new().write(true).open(dir.path().join("rack/b.img")).unwrap();
    let whole = fs::read(dir.path().join("rack/a.img")).unwrap();
    file.write_all_at(&whole, 0).unwrap();
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let failed = plan.write(&rack, &target, &source, WriteOptions::default(), watch).err();
    assert!(matches!(failed, Some(WriteFailure::NotClaimed(_))));
    let now = Survey::of(&*rack.open_source(&target.card).unwrap()).unwrap();
    assert_eq!(now.host.as_deref(), Some("hive-07"));
    assert!(fs::read(dir.path().join("rack/b.img")).unwrap() == whole, "nothing was written");
}
