//! The modules of the crate use each other in one direction only. Would fail on the first `use`
//! against the order.

#[path = "support/arrows.rs"]
mod support;

use support::{arrows, used};

#[test]
fn every_arrow_points_down() {
    let layers: &[&[&str]] = &[
        &["units"],
        &["error"],
        &["bytes", "exact"],
        &["progress"],
        &["store"],
        &[
            "buffer",
            "concatenated",
            "counted",
            "file",
            "pages",
            "rescue",
            "sparse",
            "spill",
            "window",
        ],
        &["cached", "edited", "faulty", "forgetful", "patient", "recorded", "unopened"],
    ];
    let found = arrows(env!("CARGO_MANIFEST_DIR"), layers);
    assert!(found.count > 30, "only {} arrows were found", found.count);
    assert!(found.wrong.is_empty(), "{:#?}", found.wrong);
}

#[test]
fn names_in_lists_are_found() {
    let source =
        "use crate::{\n  error::{Class, Error},\n  store::ReadAt,\n};\nlet x = crate::fs::State;";
    assert_eq!(used(source, "crate::"), ["error", "store", "fs"]);
}
