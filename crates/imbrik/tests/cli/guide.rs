//! The commands in the README and in the guide, run in order on a fresh demo.

use crate::harness::Bench;
use std::{fs, path::Path, process::Command};

/// The command lines in the console blocks of a document that run on the demo.
fn commands(document: &str) -> Vec<String> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(document);
    let text = fs::read_to_string(path).unwrap();
    let blocks = text.split("```console\n").skip(1).filter_map(|rest| rest.split("```").next());
    let lines = blocks.flat_map(str::lines).filter_map(|line| line.strip_prefix("$ "));
    let on_demo = lines.filter(|line| line.starts_with("imbrik ") && !line.contains("imbrik demo"));
    on_demo.filter(|line| !line.contains("--watch")).map(str::to_owned).collect()
}

/// The command that an output suggests as the next one, for a card that nothing needs any more.
fn suggested(output: &str) -> Option<String> {
    let (_, rest) = output.split_once("Next      ")?;
    // A command goes on after a backslash at the end of its line.
    let mut lines = rest.lines();
    let mut command = lines.next()?.to_owned();
    while let Some(start) = command.strip_suffix('\\') {
        command = start.to_owned() + lines.next()?.trim_start();
    }
    let command = command.replace(" CARD", " rack:f");
    Some(if command.contains(" restore ") { format!("{command} --yes") } else { command })
}

/// Fails if a command in the documents has a usage error, or does not do what it says, or if the next command that it
/// suggests doesn't. Writing a card is confirmed.
#[test]
#[ignore = "long: run by ./test --full"]
fn commands_of_readme_and_guide_run_on_a_fresh_demo() {
    let bench = Bench::empty();
    bench.good("demo");
    let folder = bench.path("imbrik-demo");
    let imbrik = Path::new(env!("CARGO_BIN_EXE_imbrik"));
    let path = format!("{}:/usr/bin:/bin", imbrik.parent().unwrap().display());
    let all = [commands("README.md"), commands("docs/guide.md")].concat();
    assert!(all.len() > 25, "{all:?}");
    let mut nexts = 0;
    for line in all {
        let is_asking = (line.contains(" restore ") || line.contains(" clone "))
            && !line.contains("--plan")
            && !line.contains("--yes");
        let line = if is_asking { format!("{line} --yes") } else { line };
        let run = |line: &str| {
            let mut command = Command::new("bash");
            command.args(["-c", line]).current_dir(&folder).env("PATH", &path);
            command.env("IMBRIK_RACK", "rack").env("XDG_CONFIG_HOME", bench.path("config"));
            command.stdin(std::process::Stdio::null()).output().unwrap()
        };
        let output = run(&line);
        // A difference is a result, and so are bad sectors.
        let expected = match line.split(' ').nth(1) {
            Some("files") if line.contains(" diff ") => 3,
            Some("save") if line.contains("rack:old") => 6,
            _ => 0,
        };
        assert_eq!(output.status.code(), Some(expected), "{line}: {output:?}");
        let said = String::from_utf8_lossy(&output.stdout);
        if let Some(next) = suggested(&said) {
            let output = run(&next);
            let expected = if next.contains(" mend ") { 6 } else { 0 };
            assert_eq!(output.status.code(), Some(expected), "{line}, {next}: {output:?}");
            nexts += 1;
        }
    }
    assert!(nexts > 8, "{nexts} next commands");
}
