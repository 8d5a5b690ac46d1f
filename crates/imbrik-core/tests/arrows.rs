//! The modules of the crate use each other in one direction only, as ARCHITECTURE.md tells. Would
//! fail on the first `use` against the order.

#[path = "../../imbrik-store/tests/support/arrows.rs"]
mod support;

#[test]
fn every_arrow_points_down() {
    let layers: &[&[&str]] = &[
        &["card", "table"],
        &["layout"],
        &["files", "image"],
        &["shelf", "transfer"],
        &["operation"],
    ];
    let found = support::arrows(env!("CARGO_MANIFEST_DIR"), layers);
    assert!(found.count > 12, "only {} arrows were found", found.count);
    assert!(found.wrong.is_empty(), "{:#?}", found.wrong);
}
