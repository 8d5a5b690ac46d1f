//! The steps of a transfer on the demo's card of 4 GB, without a medium that would have to be waited
//! for: what is measured is the program's own work. Bytes read of the card are told once for each.
//!
//!     cargo bench --manifest-path bench/Cargo.toml

use criterion::{Criterion, criterion_group, criterion_main};
use imbrik_core::{
    fs::ResizeOptions,
    image::{Image, Manifest, Output, Pack},
    layout::{Fit, Identity, Occupancy, Plan, Survey, TargetSize},
    progress::{Cancel, Unobserved, Watch},
    store::{Counted, ReadAt, SparseStore, Tally, WriteAt, read_vec},
    transfer::{OnDamage, OnUnfinished, Origin, SaveOptions, save, write_card},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{hint::black_box, path::Path, sync::Arc};

/// The demo's card in memory, and what was read of it.
fn card() -> (Arc<dyn ReadAt>, Tally) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/cards.tar.zst");
    let packed = std::fs::File::open(path).expect("the demo's cards");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let cards = zstd::Decoder::new(packed).expect("zstd");
    tar::Archive::new(cards).unpack(folder.path()).expect("the demo's cards");
    let image = Image::open(&folder.path().join("rack/a.img"), None).expect("the demo's card");
    let content = image.content();
    let store = SparseStore::new(content.size());
    let step = 1 << 20;
    let mut at = ByteOffset::ZERO;
    while at.get() < content.size().get() {
        let len = content.size().saturating_sub(ByteLen::new(at.get())).get().min(step);
        let bytes = read_vec(&**content, at, len as usize).expect("a whole card");
        if bytes.iter().any(|byte| *byte != 0) {
            store.write_at(at, &bytes).expect("room");
        }
        at = at.saturating_add(ByteLen::new(len));
    }
    let tally = Tally::default();
    (Arc::new(Counted::new(store, &tally)), tally)
}

fn steps(c: &mut Criterion) {
    let (card, tally) = card();
    let cancel = Cancel::new();
    let survey = Survey::of(&*card).expect("a survey");
    let occupancy = Occupancy::of(&card, &survey).expect("an occupancy");
    let smallest = Fit::Smallest { part: 1, room: Some(ByteLen::ZERO) };
    let larger =
        Fit::Card { size: ByteLen::new(16 << 30), take_from: Vec::new(), give_to: Some(1) };
    let fit = |fit: &Fit| {
        let work = ResizeOptions::in_memory(&cancel);
        Plan::fit(Arc::clone(&card), &survey, &occupancy, fit, work).expect("a plan")
    };
    let restored = || {
        let target = TargetSize { size: survey.size, sector: SectorSize::B512 };
        Plan::restore(Arc::clone(&card), &survey, Some(&occupancy), target).expect("a plan")
    };
    let own = Identity { ids: true, host: Some("hive-31".into()), ..Identity::default() };
    let watch = Watch { observer: &Unobserved, cancel: &cancel };
    let options = SaveOptions {
        pack: Pack::usual(),
        level: Pack::usual().usual_level(),
        sums: Vec::new(),
        replace: true,
        check: false,
        in_pieces: false,
        owner: None,
        damage: OnDamage::Stop, unfinished: OnUnfinished::Remove,
    };
    let folder = tempfile::tempdir().expect("a folder");
    let image = folder.path().join("hive-07.img.zst");
    let save_it = || {
        let plan = Plan::save(Arc::clone(&card), &occupancy).expect("a plan");
        let manifest =
            Manifest::new(&survey, "bench", "2026-11-23T07:20:00Z".parse().expect("a time"));
        save(&plan.view, manifest, Output::File(&image), &options, watch).expect("an image")
    };
    let write_it = || {
        let target = SparseStore::new(survey.size);
        write_card(&restored().view, &target, Origin::Image(None), None, watch).expect("a card")
    };
    let steps: [(&str, &dyn Fn()); 7] = [
        ("survey", &|| drop(black_box(Survey::of(&*card)))),
        ("what is in use", &|| drop(black_box(Occupancy::of(&card, &survey)))),
        ("plan: the smallest", &|| drop(black_box(fit(&smallest)))),
        ("plan: four times the size", &|| drop(black_box(fit(&larger)))),
        ("plan: an identity", &|| drop(black_box(restored().with_identity(&own, ResizeOptions::in_memory(&cancel))))),
        ("save", &|| drop(black_box(save_it()))),
        ("write", &|| drop(black_box(write_it()))),
    ];
    println!("in use: {}", occupancy.used_in(Span::whole(survey.size)));
    for (name, step) in steps {
        let before = tally.read();
        step();
        println!("{name}: {} read of the card", tally.read().saturating_sub(before));
        c.bench_function(name, |bencher| bencher.iter(step));
    }
}

criterion_group! {
    name = pipeline;
    config = Criterion::default().sample_size(10);
    targets = steps
}
criterion_main!(pipeline);
