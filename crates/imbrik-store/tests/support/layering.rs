//! Finds the uses of one module of a crate by another, to test their layers.
#![allow(dead_code, reason = "each crate uses some of it")]

use std::{
    collections::HashMap,
    fs,
    path::{Path, PathBuf},
};

/// The uses of one module of a crate by another.
pub(crate) struct Uses {
    pub(crate) count: usize,
    /// Those that the order of layers forbids.
    pub(crate) wrong: Vec<String>,
}

/// Reads every source file of the crate at `manifest_dir`. `layers` are its modules from the bottom up: each may use
/// only the modules of lower layers.
pub(crate) fn module_uses(manifest_dir: &str, layers: &[&[&str]]) -> Uses {
    let root = Path::new(manifest_dir).join("src");
    let index = ["lib.rs", "main.rs"].map(|name| fs::read_to_string(root.join(name)));
    let index: String = index.into_iter().filter_map(std::result::Result::ok).collect();
    let homes = homes(&index);
    let layer = |name: &str| layers.iter().position(|names| names.contains(&name));
    let (mut count, mut wrong) = (0, Vec::new());
    for path in sources(&root) {
        let inside = path.strip_prefix(&root).unwrap();
        let first = inside.components().next().unwrap().as_os_str().to_str().unwrap();
        let own_name = first.trim_end_matches(".rs");
        let Some(own) = layer(own_name) else {
            if !matches!(own_name, "lib" | "main") {
                wrong.push(format!("{own_name} is in no layer"));
            }
            continue;
        };
        let text = fs::read_to_string(&path).unwrap();
        // Tests and comments may name any module.
        let text = without_comments(text.split("#[cfg(test)]").next().unwrap());
        let mut names = used(&text, "crate::");
        if inside.components().count() == 1 {
            names.extend(used(&text, "super::"));
        }
        for name in names {
            let home = homes.get(&name).unwrap_or(&name);
            let Some(other) = layer(home).filter(|_| home != own_name) else { continue };
            count += 1;
            if other >= own {
                wrong.push(format!("{} uses {home}", inside.display()));
            }
        }
    }
    Uses { count, wrong }
}

/// The module of each name that the index of the crate re-exports.
fn homes(index: &str) -> HashMap<String, String> {
    let mut homes = HashMap::new();
    for item in index.split(';') {
        let item = item.trim_start();
        let Some(at) = item.rfind("use ") else { continue };
        let Some((module, names)) = item[at + 4..].split_once("::") else { continue };
        for name in names.split(|c: char| !c.is_alphanumeric() && c != '_') {
            if !name.is_empty() {
                homes.insert(name.to_owned(), module.to_owned());
            }
        }
    }
    homes
}

fn without_comments(text: &str) -> String {
    let lines = text.lines().filter(|line| !line.trim_start().starts_with("//"));
    lines.collect::<Vec<_>>().join("\n")
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

/// The names after `prefix`, including those in the list of a `use`.
pub(crate) fn used(source: &str, prefix: &str) -> Vec<String> {
    let mut names = Vec::new();
    for (at, _) in source.match_indices(prefix) {
        if source[..at].ends_with("::") {
            continue;
        }
        let rest = &source[at + prefix.len()..];
        match rest.strip_prefix('{') {
            None => names.push(word(rest)),
            Some(list) => {
                // Names in nested lists belong to another module.
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
