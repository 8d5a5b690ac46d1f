//! Every text of the program and the core in one table, to be read in one sitting:
//!
//! `cargo test -p imbrik --test texts -- --nocapture`

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
};

/// Longer ones are no sentence that anybody reads in a terminal.
const LONGEST: usize = 260;

/// Words for which there is another one here, or which say nothing.
const OTHER_WORDS: [&str; 16] = [
    "please",
    "e.g.",
    "i.e.",
    "etc.",
    "utilize",
    "sd card",
    "memory card",
    "disk image",
    "backup file",
    "file system",
    "os error",
    "simply",
    "just run",
    "abort",
    "successfully",
    "invalid",
];

/// All source files below `folder`.
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
    found.sort();
    found
}

/// The string literals of a source, with their lines, without those of its tests and comments.
fn literals(source: &str) -> Vec<(usize, String)> {
    let source = source.split("#[cfg(test)]\nmod ").next().unwrap_or_default();
    let mut found = Vec::new();
    let mut line = 1;
    let mut chars = source.chars().peekable();
    let mut before = ' ';
    while let Some(c) = chars.next() {
        match c {
            '\n' => line += 1,
            '/' if chars.peek() == Some(&'/') => while chars.next_if(|c| *c != '\n').is_some() {},
            // A character, or where a lifetime begins.
            '\'' => {
                let mut ahead = chars.clone();
                match (ahead.next(), ahead.next()) {
                    (Some('\\'), _) => {
                        chars.next();
                        chars.next();
                        while chars.next_if(|c| *c != '\'').is_some() {}
                        chars.next();
                    }
                    (Some(_), Some('\'')) => {
                        chars.next();
                        chars.next();
                    }
                    _ => {}
                }
            }
            '"' if before == '#' => {
                let mut last = ' ';
                for c in chars.by_ref() {
                    line += usize::from(c == '\n');
                    if last == '"' && c == '#' {
                        break;
                    }
                    last = c;
                }
            }
            '"' => {
                let is_text = before != 'b';
                let start = line;
                let mut text = String::new();
                while let Some(c) = chars.next() {
                    match c {
                        '"' => break,
                        '\\' => match chars.next() {
                            Some('\n') => {
                                line += 1;
                                while chars.next_if(|c| c.is_whitespace()).is_some() {}
                            }
                            Some('n') => text.push(' '),
                            Some(other) => text.push(other),
                            None => {}
                        },
                        '\n' => {
                            line += 1;
                            text.push(' ');
                        }
                        other => text.push(other),
                    }
                }
                if is_text {
                    found.push((start, text));
                }
            }
            _ => {}
        }
        before = c;
    }
    found
}

/// Whether a literal is something that people read.
fn is_text(text: &str) -> bool {
    let words = text.split_whitespace().filter(|word| word.chars().all(char::is_alphabetic));
    words.count() >= 3
}

#[test]
fn every_text_is_short_plain_and_in_the_words_of_the_house() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut all: BTreeMap<String, String> = BTreeMap::new();
    for folder in [root.join("src"), root.join("../imbrik-core/src")] {
        for path in sources(&folder) {
            for (line, text) in literals(&fs::read_to_string(&path).unwrap()) {
                if is_text(&text) {
                    let place = path.strip_prefix(root).unwrap_or(&path).display();
                    all.insert(text, format!("{place}:{line}"));
                }
            }
        }
    }
    assert!(all.len() > 400, "only {} texts were found", all.len());
    let mut wrong = Vec::new();
    for (text, place) in &all {
        println!("{place:<55} {text}");
        let low = format!(" {} ", text.to_lowercase());
        let is_example = text.contains("Examples:") || text.contains("Exit codes");
        if text.chars().count() > LONGEST && !is_example && !text.starts_with("# ") {
            wrong.push(format!("{place}: too long: {text}"));
        }
        for word in OTHER_WORDS {
            if low.contains(&format!(" {word} ")) || low.contains(&format!(" {word},")) {
                wrong.push(format!("{place}: \"{word}\": {text}"));
            }
        }
        if text.contains("?.") {
            wrong.push(format!("{place}: how does it end? {text}"));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}
