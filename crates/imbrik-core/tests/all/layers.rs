//! Modules use only modules of lower layers, as described in ARCHITECTURE.md. Fails on the first `use` of another one.

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
