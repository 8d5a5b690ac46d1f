//! The command line, and the output.

use crate::harness::{Bench, tool};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::Path,
    process::Stdio,
};

#[test]
fn no_arguments_show_an_overview_on_a_terminal_and_usage_elsewhere() {
    let bench = Bench::with_card("");
    bench.imbrik("").expect(2).says("no command was given");
    bench.good("save rack:a hive.img.zst --no-check");
    let home = bench.on_terminal("", "").expect(0);
    for words in [
        "rack:a",
        "hive-07, saved",
        "imbrik save",
        "imbrik check hive.img.zst",
        "imbrik restore hive.img.zst rack:a --plan",
    ] {
        assert!(home.out_has(words), "{words:?} is not in\n{}", home.stdout);
    }
}

#[test]
fn help_lists_exit_codes_and_a_typo_is_a_usage_error() {
    let bench = Bench::empty();
    bench.good("--help").shows("130  interrupted").shows("restore");
    bench.good("save --help").shows("--replace");
    bench.good("--version").shows("imbrik ");
    bench.imbrik("sav").expect(2).says("imbrik: sav is not a command.").says("`imbrik save`");
    bench.imbrik("restore --yess a b").expect(2).says("Did you mean --yes?");
    bench.imbrik("save rack:a --level 23").expect(2);
}

#[test]
fn closed_output_pipe_is_no_error() {
    let bench = Bench::with_card("");
    let program = env!("CARGO_BIN_EXE_imbrik");
    for words in ["cards", "cards --json", "--help"] {
        let line = format!(
            "set -o pipefail; cd {} && {program} {words} --rack rack | true",
            bench.path("").display()
        );
        tool!("bash", "-c", line);
    }
    let save = format!(
        "cd {} && {program} save rack:a x.img.zst --rack rack 2>&1 | true",
        bench.path("").display()
    );
    tool!("sh", "-c", save);
    tool!("zstd", "-tq", bench.path("x.img.zst"));
}

#[test]
fn unwritable_output_is_an_error() {
    let bench = Bench::with_card("");
    let full = fs::File::options().write(true).open("/dev/full").unwrap();
    let mut command = bench.command(["cards"]);
    let output = command.stdout(full).stderr(Stdio::piped()).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&output.stderr).contains("writing the output: no space left"));
}

#[test]
fn colours_appear_on_a_terminal_only_and_not_with_no_color() {
    let bench = Bench::with_card("");
    assert!(!bench.good("cards").stdout.contains('\u{1b}'));
    assert!(bench.on_terminal("cards", "").out_has("\u{1b}[1m"));
    let program = env!("CARGO_BIN_EXE_imbrik");
    let line = format!("NO_COLOR=1 {program} cards --rack {}", bench.path("rack").display());
    let shown = tool!("script", "-qec", line, "/dev/null");
    assert!(shown.contains("rack:a") && !shown.contains('\u{1b}'), "{shown:?}");
}

/// Fails when the printed command lacks an option or a quote that it needs.
#[test]
fn next_command_can_be_pasted() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 200000000\n");
    let program = env!("CARGO_BIN_EXE_imbrik");
    let folder = bench.path("").display().to_string().trim_end_matches('/').to_owned();
    let shell = |line: &str| {
        let line = line.replacen("imbrik", program, 1);
        tool!("sh", "-c", format!("cd {folder} && env -u IMBRIK_RACK {line} 2>&1"))
    };
    let next = |said: &str| {
        let from = said.find("Next      ").unwrap_or_else(|| panic!("no next command in {said}"));
        said[from + "Next".len()..].trim().to_owned()
    };
    let saved = shell("imbrik save rack:a 'hive 07.img.zst' --rack rack");
    let restore = next(&saved);
    assert_eq!(restore, "imbrik restore 'hive 07.img.zst' CARD --rack rack");
    let restored = shell(&format!("{} --yes", restore.replace("CARD", "rack:b")));
    let check = next(&restored);
    assert!(shell(&check).contains("rack:b holds the same"), "{check}");
    let repack = shell("imbrik repack 'hive 07.img.zst' hive.img.gz --rack rack");
    assert!(shell(&next(&repack)).contains("is intact"), "{repack}");
    // Programs get the whole path.
    let json = bench.good("save rack:a two.img.zst --json").json();
    assert_eq!(json["next"], format!("imbrik restore {folder}/two.img.zst CARD"));
}

#[test]
fn errors_are_json_on_request() {
    let bench = Bench::with_card("");
    let run = bench.imbrik("restore nothing.img rack:a --json").expect(2);
    let failure = run.json();
    assert_eq!((&failure["result"], &failure["exit"]), (&"failed".into(), &2.into()));
    assert!(failure["what"].as_str().unwrap().contains("image nothing.img does not exist"));
}

#[test]
fn options_override_the_configuration() {
    let bench = Bench::with_card("");
    fs::create_dir_all(bench.path("config/imbrik")).unwrap();
    fs::create_dir(bench.path("shelf")).unwrap();
    let config = format!("images = {:?}\nsums = [\"md5\"]\n", bench.path("shelf"));
    fs::write(bench.path("config/imbrik/config.toml"), config).unwrap();
    bench.good("save rack:a");
    let names = bench.list("shelf");
    assert!(names.iter().any(|name| name.to_string_lossy().ends_with(".md5")), "{names:?}");
    bench.good("save rack:a x.img.zst --sum sha1");
    assert!(bench.path("x.img.zst.sha1").exists() && !bench.path("x.img.zst.md5").exists());
    fs::write(bench.path("config/imbrik/config.toml"), "imagse = 1").unwrap();
    bench.imbrik("save rack:a").expect(2).says("config.toml").says("imagse");
}

/// Fails when a message or a page names a command or an option that does not exist.
#[test]
fn commands_named_in_messages_and_pages_exist() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut folders = vec![root.join("crates"), root.join("docs")];
    let mut texts = vec![fs::read_to_string(root.join("README.md")).unwrap()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let extension = path.extension().unwrap_or_default().to_owned();
            if path.is_dir() && !path.ends_with("tests") && !path.ends_with("target") {
                folders.push(path);
            } else if extension == "rs" || extension == "md" {
                texts.push(fs::read_to_string(path).unwrap());
            }
        }
    }
    let bench = Bench::empty();
    let mut known: BTreeMap<String, String> = BTreeMap::new();
    let mut hints = BTreeSet::new();
    for text in texts {
        // A string goes on after the blanks of its next line.
        let mut whole = String::new();
        for line in text.lines() {
            match line.strip_suffix('\\') {
                Some(line) => whole += line.trim_start(),
                None => whole += &(line.trim_start().to_owned() + "\n"),
            }
        }
        let ends = whole.split("`imbrik ").skip(1).filter_map(|rest| rest.split_once(['`', '\n']));
        hints.extend(ends.map(|(hint, _)| hint.split(" | ").next().unwrap_or_default().to_owned()));
    }
    hints.retain(|hint| !hint.contains('{') && !hint.starts_with("COMMAND"));
    assert!(hints.len() > 40, "{hints:?}");
    for hint in &hints {
        let words: Vec<&str> = hint.split(' ').collect();
        let group = ["files", "shelf"].contains(&words[0]);
        let is_name = |word: &&&str| word.bytes().all(|byte| byte.is_ascii_lowercase());
        let path: Vec<&str> =
            words.iter().take(1 + usize::from(group)).take_while(is_name).copied().collect();
        let path = path.join(" ");
        let help = known
            .entry(path)
            .or_insert_with_key(|path| bench.good(format!("{path} --help").trim_start()).stdout);
        for option in words.iter().filter(|word| word.starts_with("--")) {
            assert!(help.contains(option), "`imbrik {hint}`: no option {option}");
        }
    }
}

/// Fails when a person waits before an empty screen, or when a program gets the spinner.
#[test]
fn long_examination_is_named_on_a_terminal() {
    let bench = Bench::with_slot_a("request_time = 0.05", "");
    let shown = bench.on_terminal("show rack:a", "").expect(0);
    assert!(shown.out_has("examining the volumes") && shown.out_has("Smallest card"));
    let plain = bench.good("show rack:a");
    assert!(!plain.out_has("examining") && !plain.err_has("examining"));
}
