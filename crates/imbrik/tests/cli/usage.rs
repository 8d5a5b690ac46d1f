//! The command line, and the output.

use crate::harness::{Bench, tool};
use std::{fs, process::Stdio};

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
    bench.imbrik("sav").expect(2).says("save");
    bench.imbrik("restore --yess a b").expect(2).says("--yes");
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
