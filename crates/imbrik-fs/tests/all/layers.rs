//! Modules use only modules of lower layers: no filesystem uses another, or the registry. Fails on the first `use` of
//! another one.

#[test]
fn modules_use_only_lower_layers() {
    let layers: &[&[&str]] = &[
        &["bits", "files", "finding"],
        &["content", "placement", "unchanged", "usage", "volume", "walk"],
        &["examined"],
        &["edit", "resized"],
        &["commit"],
        &["cluster_edit", "clusters", "dos_time", "filesystem", "hidden_sectors", "ids"],
        &["btrfs", "exfat", "ext4", "f2fs", "fat", "luks", "md", "ntfs", "swap"],
        &["registry"],
        &["open"],
    ];
    let found = crate::layering::module_uses(env!("CARGO_MANIFEST_DIR"), layers);
    assert!(found.count > 60, "only {} uses were found", found.count);
    assert!(found.wrong.is_empty(), "{:#?}", found.wrong);
}
