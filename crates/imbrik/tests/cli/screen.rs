//! The screen on terminals of different widths: no line wraps, and no overwritten text remains.

use crate::harness::{Bench, CARD, all_are, flat};
use rustix::{
    pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt},
    termios::{Winsize, tcsetwinsize},
};
use std::{
    fs::{File, OpenOptions},
    io::{Read, Write},
    num::NonZero,
    process::{Child, Command, Stdio},
    thread,
    time::{Duration, Instant},
};

/// More rows than any output has, so that nothing scrolls away.
const ROWS: u16 = 400;
const WIDTHS: [u16; 4] = [40, 60, 80, 120];

/// A terminal on which the program runs.
struct Screen {
    terminal: File,
    shown: vt100::Parser,
    child: Child,
}

impl Screen {
    fn start(bench: &Bench, words: &[&str], columns: u16) -> Self {
        Self::start_program(bench, env!("CARGO_BIN_EXE_imbrik"), words, columns)
    }

    /// The same with a line for a shell.
    fn start_shell(bench: &Bench, line: &str, columns: u16) -> Self {
        Self::start_program(bench, "sh", &["-c", line], columns)
    }

    fn start_program(bench: &Bench, program: &str, args: &[&str], columns: u16) -> Self {
        let master =
            openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
        grantpt(&master).unwrap();
        unlockpt(&master).unwrap();
        let name = ptsname(&master, Vec::new()).unwrap();
        tcsetwinsize(&master, size(columns)).unwrap();
        let slave = OpenOptions::new().read(true).write(true).open(name.to_str().unwrap()).unwrap();
        let given = bench.command(args);
        let mut command = Command::new("setsid");
        command.args(["--ctty", "--wait", program]).args(args);
        command.current_dir(given.get_current_dir().unwrap());
        command.envs(given.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.env("TERM", "xterm").env("LC_ALL", "C.UTF-8").env("TMPDIR", bench.path(""));
        command.env_remove("SUDO_UID").env_remove("NO_COLOR");
        let end = || Stdio::from(slave.try_clone().unwrap());
        let child = command.stdin(end()).stdout(end()).stderr(end()).spawn();
        let child = child.expect("setsid, of Debian's util-linux, is needed");
        Self { terminal: master.into(), shown: vt100::Parser::new(rows(), some(columns), 0), child }
    }

    /// Reads until the program shows `words`, wherever its lines break.
    #[track_caller]
    fn wait_for(&mut self, words: &str) {
        let started = Instant::now();
        while !self.flat().contains(&flat(words)) {
            assert!(self.more(), "{words:?} was never shown:\n{}", self.contents());
            assert!(started.elapsed() < Duration::from_secs(60), "{}", self.contents());
        }
    }

    /// Reads new output; false after the program has ended.
    fn more(&mut self) -> bool {
        let mut piece = [0; 4096];
        match self.terminal.read(&mut piece) {
            Ok(len @ 1..) => {
                self.shown.process(&piece[..len]);
                true
            }
            // Reading a terminal whose processes have ended is an error.
            _ => false,
        }
    }

    fn type_in(&mut self, text: &str) {
        self.terminal.write_all(text.as_bytes()).unwrap();
    }

    fn resize(&mut self, columns: u16) {
        tcsetwinsize(&self.terminal, size(columns)).unwrap();
        self.shown.screen_mut().set_size(rows(), some(columns));
    }

    fn contents(&self) -> String {
        self.shown.screen().contents()
    }

    fn flat(&self) -> String {
        flat(&self.contents())
    }

    /// Waits for the end; returns the exit code and the content of the screen.
    fn end(mut self) -> (i32, String) {
        while self.more() {}
        self.is_tidy();
        (self.child.wait().unwrap().code().unwrap_or(-1), self.contents())
    }

    /// Closes the terminal's window; returns the exit code.
    fn hang_up(self) -> i32 {
        let Self { terminal, mut child, .. } = self;
        drop(terminal);
        child.wait().unwrap().code().unwrap_or(-1)
    }

    /// Asks that no line went over the edge.
    #[track_caller]
    fn is_tidy(&self) {
        let screen = self.shown.screen();
        let wrapped: Vec<u16> = (0..ROWS).filter(|row| screen.row_wrapped(*row)).collect();
        assert!(wrapped.is_empty(), "rows {wrapped:?} wrap:\n{}", self.contents());
    }
}

fn rows() -> NonZero<u16> {
    some(ROWS)
}

fn some(number: u16) -> NonZero<u16> {
    NonZero::new(number).unwrap()
}

fn size(columns: u16) -> Winsize {
    Winsize { ws_row: ROWS, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }
}

fn slot(name: &str, size: u64, more: &str) -> String {
    format!("[[slot]]\nname = \"{name}\"\nsize = {size}\nmodel = \"Willow card 64M\"\n{more}\n")
}

fn bench() -> Bench {
    let more = [slot("b", CARD, ""), slot("c", 2 * CARD, "")].concat();
    let bench = Bench::with_card(&more);
    bench.good("save rack:a hive.img.zst");
    bench
}

/// Every command with all of its output, at every width; fails if a line is laid out for another width.
#[test]
#[ignore = "long: run by ./test --full"]
fn no_line_wraps_at_any_width() {
    for columns in WIDTHS {
        let bench = bench();
        for (words, shown) in [
            ("", "To type next"),
            ("cards", "hive-07"),
            ("show rack:a", "any card sold as"),
            ("show hive.img.zst", "Smallest card"),
            ("save rack:a x.img.zst", "SHA-256"),
            ("save rack:a y.img --plan", "estimated from samples"),
            ("check hive.img.zst --against rack:a", "is intact"),
            ("check hive.img.zst x.img.zst", "Both images"),
            ("restore hive.img.zst rack:c --plan", "Likely time"),
            ("restore hive.img.zst rack:b --yes", "now holds"),
            ("clone rack:a rack:b rack:c --yes --as-new hive-1{n}", "Both cards"),
            ("fit hive.img.zst small.img.zst", "Fits"),
            ("repack hive.img.zst hive.img.xz", "unchanged"),
            ("restore nothing.img rack:b", "does not exist"),
            ("restore hive.img.zst rack:x", "no such slot"),
            ("save --flavour", "is not an option of"),
        ] {
            let screen =
                Screen::start(&bench, &words.split_whitespace().collect::<Vec<_>>(), columns);
            let (_, contents) = screen.end();
            assert!(flat(&contents).contains(shown), "{columns} {words}: {contents}");
            let is_left = contents.contains(['╸', '\u{fffd}']) || contents.contains("──");
            assert!(!is_left, "{columns} {words}: a bar is left:\n{contents}");
        }
        for command in ["", "cards", "show", "save", "check", "restore", "clone", "fit", "repack"] {
            let words: Vec<_> = command.split_whitespace().chain(["--help"]).collect();
            let (code, contents) = Screen::start(&bench, &words, columns).end();
            assert_eq!(code, 0, "{contents}");
            assert!(contents.contains("Usage"), "{contents}");
        }
    }
}

/// Fails if a bar that was drawn for another width stays on the screen.
#[test]
#[ignore = "long: run by ./test --full"]
fn a_window_that_gets_another_size_shows_no_fragments() {
    for (from, to) in [(120, 60), (80, 40), (40, 120), (60, 80)] {
        let bench = Bench::with_slot_a("read_rate = 6000000", &slot("b", CARD, ""));
        let words = ["save", "rack:a", "slow.img.zst", "--exact"];
        let mut screen = Screen::start(&bench, &words, from);
        screen.wait_for("% of");
        screen.resize(to);
        for _ in 0..8 {
            screen.more();
        }
        let (code, contents) = screen.end();
        assert_eq!(code, 0, "{contents}");
        assert!(!contents.contains(['╸', '─', '━']), "{from} to {to}:\n{contents}");
        assert!(!contents.contains(" left"), "{from} to {to}:\n{contents}");
    }
}

/// The questions, each with the confirming answer, and the message without it.
#[test]
fn every_question_can_be_answered_refused_and_interrupted() {
    let mounted = || {
        let bench = Bench::with_slot_a(
            "mounted_at = [\"/media/hive\"]",
            &slot("b", CARD, "mounted_at = [\"/media/b\"]"),
        );
        let image = bench.good("save rack:a hive.img.zst --unmount");
        assert_eq!(image.code, 0);
        bench
    };
    let cases: [(&str, &str, &str, &str, &str); 5] = [
        // The command, the question, the answer, the next answer, and the result.
        ("restore hive.img.zst rack:b", "Type its size", "67.6 MB\n\n", "hive\n", "not confirmed"),
        (
            "restore hive.img.zst rack:b --unmount",
            "Type its size",
            "67.6MB\n",
            "\n",
            "nothing was typed",
        ),
        ("save rack:a x.img.zst", "Unmount it? [Y/n]", "\n", "n\n", "is mounted at"),
        (
            "clone rack:a rack:b --unmount",
            "or type the host name of another board",
            "\n67.6 MB\n",
            "no_name\n",
            "is not a valid host name",
        ),
        (
            "clone rack:a --swap --unmount",
            "insert the new one, and press Enter",
            "q\n",
            "\n",
            // The next question: text typed before it would appear in the middle of the message.
            "Insert another card and press Enter",
        ),
    ];
    for (words, question, answer, other, why) in cases {
        let words: Vec<_> = words.split_whitespace().collect();
        let asked = |columns| {
            let bench = mounted();
            let mut screen = Screen::start(&bench, &words, columns);
            screen.wait_for(question);
            screen.is_tidy();
            (bench, screen)
        };
        let (_bench, mut screen) = asked(80);
        screen.type_in(answer);
        let (code, contents) = screen.end();
        assert_eq!(code, 0, "{words:?}: {contents}");

        let (bench, mut screen) = asked(60);
        screen.type_in(other);
        screen.wait_for(why);
        // Only this question is repeated: typed text would appear in the middle of other messages.
        if words.contains(&"--swap") {
            screen.type_in("q\n");
        }
        let (code, contents) = screen.end();
        assert!([2, 4].contains(&code), "{words:?}: {contents}");
        assert!(is_blank(&bench), "{words:?}");

        let (bench, mut screen) = asked(40);
        screen.type_in("\u{3}");
        let (code, contents) = screen.end();
        assert_eq!(code, 130, "{words:?}: {contents}");
        let contents = flat(&contents);
        let is_told = contents.contains("Nothing was") || contents.contains("No card was");
        assert!(is_told, "{words:?}: {contents}");
        assert!(is_blank(&bench), "{words:?}");

        let (bench, screen) = asked(120);
        // setsid passes on how its child ended, once it has: 130, or the signal itself.
        let code = screen.hang_up();
        thread::sleep(Duration::from_millis(300));
        assert_ne!(code, 0, "{words:?}");
        assert!(is_blank(&bench), "{words:?}");
    }
}

fn is_blank(bench: &Bench) -> bool {
    all_are(&bench.bytes("rack/b.img"), 0)
}

/// Fails if the answer is read from the pipe, or the user at the terminal is not asked.
#[test]
fn an_image_from_a_pipe_is_confirmed_on_the_terminal() {
    let bench = bench();
    let line = format!(
        "cat hive.img.zst | {} restore - rack:b; echo ended $?",
        env!("CARGO_BIN_EXE_imbrik")
    );
    let mut screen = Screen::start_shell(&bench, &line, 80);
    screen.wait_for("Type its size, 67.6 MB, to continue:");
    screen.type_in("67.6 MB\n");
    screen.wait_for("now holds");
    let (_, contents) = screen.end();
    assert!(contents.contains("ended 0"), "{contents}");
    assert!(!contents.contains("check -"), "{contents}");
    assert!(!contents.contains("0 bytes in"), "{contents}");
}
