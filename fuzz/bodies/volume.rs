//! Any bytes as a card or a bare volume: what is on it, what is in use, what refers to what, the
//! view of it, the view of it at other sizes, and with an identity of its own.

use imbrik_core::{
    fs::{FileEdit, FileMeta, ResizeOptions},
    layout::{Fit, Identity, Occupancy, PartEdit, Plan, Survey, references},
    progress::Cancel,
    store::{ReadAt, SparseStore, read_vec},
    units::{ByteLen, ByteOffset},
};
use std::sync::Arc;

pub(crate) fn run(bytes: &[u8]) {
    let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(bytes));
    let Ok(survey) = Survey::of(&*store) else { return };
    let _ = references(&*store, &survey);
    let Ok(occupancy) = Occupancy::of(&store, &survey) else { return };
    let larger = ByteLen::from_usize(bytes.len().saturating_mul(3));
    let smaller = ByteLen::from_usize(bytes.len() / 2);
    let on_card =
        |size| Fit::Card { size, take_from: Vec::new(), give_to: survey.last_resizable() };
    let smallest = survey.last_resizable();
    let smallest = smallest.map(|part| Fit::Smallest { part, room: Some(ByteLen::ZERO) });
    for fit in [on_card(larger), on_card(smaller)].into_iter().chain(smallest) {
        let cancel = Cancel::new();
        let work = ResizeOptions::in_memory(&cancel);
        if let Ok(plan) = Plan::fit(Arc::clone(&store), &survey, &occupancy, &fit, work) {
            read_all(&plan);
        }
    }
    let plan = Plan::save(store, &occupancy).expect("a plan without holes");
    read_all(&plan);
    let meta = FileMeta::default;
    let path = |name: &str| vec![name.as_bytes().to_vec()];
    let content: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&[7; 5000]));
    let note = |name: &str| FileEdit::Put {
        path: path(name),
        content: Arc::clone(&content),
        meta: meta(),
    };
    let edits = [
        note("a note.txt"),
        note("x"),
        FileEdit::Folder { path: path("hives"), meta: meta() },
        FileEdit::Rename { from: path("x"), to: vec![b"hives".to_vec(), b"x".to_vec()] },
        FileEdit::Remove { path: path("hives") },
        FileEdit::Remove { path: path("etc") },
    ];
    let ids = Identity { ids: true, ..Identity::default() };
    let host = Identity { host: Some("hive-31".into()), ..Identity::default() };
    let edited = |some: &[FileEdit]| {
        let edits = some.iter().map(|edit| PartEdit { part: 0, edit: edit.clone() });
        Identity { edits: edits.collect(), ..Identity::default() }
    };
    let (files, all, gone) = (edited(&edits[..2]), edited(&edits[..5]), edited(&edits[5..]));
    for identity in [ids, host, files, all, gone] {
        if let Ok(plan) =
            plan.clone().with_identity(&identity, ResizeOptions::in_memory(&Cancel::new()))
        {
            read_all(&plan);
        }
    }
}

fn read_all(plan: &Plan) {
    let len = plan.view.size().to_usize().expect("a size in proportion");
    read_vec(&plan.view, ByteOffset::ZERO, len).expect("a view that can be read");
}
