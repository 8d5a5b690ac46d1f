//! Commands don't use each other: common code is in separate modules. Only `main` uses a command. Fails on the first
//! `use` of one by another.

use crate::layering::used;
use std::{fs, path::Path};

/// The demo runs other commands through their command lines.
const TYPES_OTHERS: &str = "demo.rs";

fn sources(folder: &Path, found: &mut Vec<(String, String)>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => sources(&path, found),
            false => found.push((path.display().to_string(), fs::read_to_string(&path).unwrap())),
        }
    }
}

#[test]
fn no_command_uses_another() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut found = Vec::new();
    sources(&root, &mut found);
    assert!(found.len() > 40, "{}", found.len());
    let index = fs::read_to_string(root.join("command/mod.rs")).unwrap();
    let lines = index.lines().filter_map(|line| line.strip_prefix("mod ")?.strip_suffix(';'));
    let commands: Vec<_> = lines.collect();
    assert!(commands.len() >= 8, "{commands:?}");
    let mut wrong = Vec::new();
    for (path, text) in &found {
        let inside = path.split("/src/").last().unwrap();
        let is_main = matches!(inside, "main.rs" | "command/mod.rs");
        if used(text, "crate::").iter().any(|name| name == "command") && !is_main {
            wrong.push(format!("{inside} uses a command"));
        }
        // A file directly in the folder of commands refers to its siblings through `super`.
        let is_command = inside.strip_prefix("command/").filter(|name| !name.contains('/'));
        if let Some(name) = is_command.filter(|name| !matches!(*name, "mod.rs" | TYPES_OTHERS)) {
            let text = text.split("#[cfg(test)]").next().unwrap();
            let named = used(text, "super::");
            wrong.extend(named.iter().map(|other| format!("{name} uses {other}")));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}
