//! A layer of the core uses only those above it. Would fail on the first `use` against the order.

use std::{
    fs,
    path::{Path, PathBuf},
};

/// The layers from the bottom of all up, as ARCHITECTURE.md lists them.
const LAYERS: [&[&str]; 8] = [
    &["units", "error", "bytes", "progress"],
    &["store"],
    &["card"],
    &["table"],
    &["fs"],
    &["layout"],
    &["image"],
    &["transfer"],
];

fn layer(name: &str) -> Option<usize> {
    LAYERS.iter().position(|names| names.contains(&name))
}

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => found.extend(sources(&path)),
            false if path.extension().is_some_and(|end| end == "rs") => found.push(path),
            false => {}
        }
    }
    found
}

/// The modules of the crate that a source names: behind `crate::`, also in a list of a `use`.
fn used(source: &str) -> Vec<String> {
    let mut names = Vec::new();
    for (at, _) in source.match_indices("crate::") {
        let rest = &source[at + "crate::".len()..];
        match rest.strip_prefix('{') {
            None => names.push(word(rest)),
            Some(list) => {
                // What stands in the list itself, not in the lists in it.
                let mut depth = 0;
                let mut is_start = true;
                for (index, c) in list.char_indices() {
                    match c {
                        '{' => depth += 1,
                        '}' if depth == 0 => break,
                        '}' => depth -= 1,
                        ',' if depth == 0 => is_start = true,
                        c if is_start && c.is_alphabetic() => {
                            names.push(word(&list[index..]));
                            is_start = false;
                        }
                        _ => {}
                    }
                }
            }
        }
    }
    names
}

fn word(text: &str) -> String {
    text.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect()
}

#[test]
fn every_arrow_points_at_a_layer_above() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let (mut arrows, mut wrong) = (0, Vec::new());
    for path in sources(&root) {
        let inside = path.strip_prefix(&root).unwrap();
        let first = inside.components().next().unwrap().as_os_str().to_str().unwrap();
        let Some(own) = layer(first.trim_end_matches(".rs")) else {
            assert_eq!(inside, Path::new("lib.rs"), "a module that stands in no layer");
            continue;
        };
        let text = fs::read_to_string(&path).unwrap();
        // Tests may look down.
        let text = text.split("#[cfg(test)]").next().unwrap();
        for name in used(text) {
            if let Some(other) = layer(&name) {
                arrows += 1;
                if other > own {
                    wrong.push(format!("{} uses {name}", inside.display()));
                }
            }
        }
    }
    assert!(arrows > 300, "only {arrows} arrows were found");
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn modules_in_lists_are_found() {
    let source =
        "use crate::{\n  error::{Class, Error},\n  store::ReadAt,\n};\nlet x = crate::fs::State;";
    assert_eq!(used(source), ["error", "store", "fs"]);
}
