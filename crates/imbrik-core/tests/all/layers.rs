//! The modules of the crate use each other in one direction only, as ARCHITECTURE.md tells. Would
//! fail on the first `use` against the order.

#[test]
fn modules_use_only_lower_layers() {
    let layers: &[&[&str]] = &[
        &["card", "table"],
        &["layout"],
        &["files", "image"],
        &["shelf", "transfer"],
        &["operation"],
    ];
    let found = crate::layering::module_uses(env!("CARGO_MANIFEST_DIR"), layers);
    assert!(found.count > 12, "only {} uses were found", found.count);
    assert!(found.wrong.is_empty(), "{:#?}", found.wrong);
}
