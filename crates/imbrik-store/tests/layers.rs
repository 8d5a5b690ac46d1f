//! Modules use only modules of lower layers. Fails on the first `use` of another one.

#[path = "support/layering.rs"]
mod support;

use support::{module_uses, used};

#[test]
fn modules_use_only_lower_layers() {
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
    let found = module_uses(env!("CARGO_MANIFEST_DIR"), layers);
    assert!(found.count > 30, "only {} uses were found", found.count);
    assert!(found.wrong.is_empty(), "{:#?}", found.wrong);
}

#[test]
fn names_in_use_lists_are_found() {
    let source =
        "use crate::{\n  error::{Class, Error},\n  store::ReadAt,\n};\nlet x = crate::fs::State;";
    assert_eq!(used(source, "crate::"), ["error", "store", "fs"]);
}
