//! One small builder for all tests: a folder with a rack, and the program run in it.

use crate::schema;
use serde_json::Value;
use std::{
    ffi::{OsStr, OsString},
    fs::{self, File},
    io::{ErrorKind, Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::OnceLock,
    thread,
    time::{Duration, Instant},
};
use tempfile::TempDir;

/// Bytes of the small card that most tests use: a whole number of sectors, but not of tiles.
pub(crate) const CARD: u64 = 64 * 1024 * 1024 + 512 * 1024;

/// A folder in which the program is run.
pub(crate) struct Bench {
    dir: TempDir,
}

/// The result of a run of the program.
#[derive(Debug)]
pub(crate) struct Run {
    pub(crate) code: i32,
    pub(crate) stdout: String,
    pub(crate) stderr: String,
}

impl Bench {
    /// An empty folder.
    pub(crate) fn empty() -> Self {
        Self { dir: tempfile::tempdir().unwrap() }
    }

    /// An empty folder in memory, where there is room for `bytes`: what other tests write doesn't slow it down. Else, an
    /// empty folder on the disk.
    pub(crate) fn in_memory(bytes: u64) -> Self {
        let memory = Path::new("/dev/shm");
        let free = Command::new("df").args(["-B1", "--output=avail"]).arg(memory).output().unwrap();
        let free = String::from_utf8(free.stdout).unwrap();
        let free = free.split_whitespace().last().and_then(|free| free.parse().ok());
        match free {
            Some(free) if bytes <= free => Self { dir: tempfile::tempdir_in(memory).unwrap() },
            _ => Self::empty(),
        }
    }

    /// A folder with a rack that has a slot `a` with a real card in it, and further slots as
    /// `more` describes them in TOML.
    pub(crate) fn with_card(more: &str) -> Self {
        Self::with_slot_a("", more)
    }

    /// The same, with more about slot `a`.
    pub(crate) fn with_slot_a(about_a: &str, more: &str) -> Self {
        let bench = Self::empty();
        fs::create_dir(bench.path("rack")).unwrap();
        fs::copy(small_card(), bench.path("rack/a.img")).unwrap();
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{about_a}\n{more}"));
        bench
    }

    pub(crate) fn write_rack(&self, text: &str) {
        fs::write(self.path("rack/rack.toml"), text).unwrap();
    }

    pub(crate) fn path(&self, name: impl AsRef<Path>) -> PathBuf {
        self.dir.path().join(name)
    }

    pub(crate) fn bytes(&self, name: impl AsRef<Path>) -> Vec<u8> {
        fs::read(self.path(name)).unwrap()
    }

    /// Names in the folder `name`, sorted.
    pub(crate) fn list(&self, name: &str) -> Vec<OsString> {
        let entries = fs::read_dir(self.path(name)).unwrap();
        let mut names: Vec<_> = entries.map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        names
    }

    pub(crate) fn command<S: AsRef<OsStr>>(&self, args: impl IntoIterator<Item = S>) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_imbrik"));
        command.args(args).current_dir(self.dir.path()).stdin(Stdio::null());
        for name in ["SUDO_UID", "SUDO_GID", "SUDO_USER", "NO_COLOR", "IMBRIK_RACK"] {
            command.env_remove(name);
        }
        command.env("XDG_CONFIG_HOME", self.path("config"));
        if self.path("rack").exists() {
            command.env("IMBRIK_RACK", "rack");
        }
        command
    }

    /// Runs the program.
    pub(crate) fn run<S: AsRef<OsStr>>(&self, args: impl IntoIterator<Item = S>) -> Run {
        Run::of(&self.command(args).output().unwrap())
    }

    /// Runs it with arguments separated by spaces.
    pub(crate) fn imbrik(&self, words: &str) -> Run {
        self.run(words.split_whitespace())
    }

    /// Runs it and asks for code 0.
    pub(crate) fn good(&self, words: &str) -> Run {
        self.imbrik(words).expect(0)
    }

    /// Runs it, expects code 0, and returns its peak memory in KiB.
    pub(crate) fn measured(&self, words: &str) -> (Run, u64) {
        let run = self.command(words.split_whitespace());
        let mut command = Command::new("time");
        command.args(["-f", "%M", "-o", "peak"]).arg(run.get_program()).args(run.get_args());
        command.current_dir(self.dir.path()).stdin(Stdio::null());
        for (name, value) in run.get_envs() {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        let run = Run::of(&command.output().expect("time, of Debian's time, is needed")).expect(0);
        let peak = String::from_utf8(self.bytes("peak")).unwrap();
        fs::remove_file(self.path("peak")).unwrap();
        (run, peak.trim().parse().unwrap())
    }

    /// Runs it on a terminal with the input `typed`; returns everything that is shown.
    pub(crate) fn on_terminal(&self, words: &str, typed: &str) -> Run {
        let line = format!("{} {words}", env!("CARGO_BIN_EXE_imbrik"));
        let mut command = Command::new("script");
        command.args(["-qec", &line, "/dev/null"]).current_dir(self.dir.path());
        command.env("XDG_CONFIG_HOME", self.path("config")).env("TERM", "xterm");
        command.env("IMBRIK_RACK", "rack").env_remove("SUDO_UID").env_remove("NO_COLOR");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().expect("script, of Debian's bsdutils, is needed");
        // The input stays open until the program ends: a closed one would be an answer, too.
        let mut input = child.stdin.take().unwrap();
        input.write_all(typed.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        drop(input);
        Run::of(&output)
    }

    /// Runs it on a terminal; each step waits until something is shown, does something, and types.
    pub(crate) fn in_dialogue(&self, words: &str, steps: &[(&str, &dyn Fn(), &str)]) -> Run {
        let line = format!("{} {words}", env!("CARGO_BIN_EXE_imbrik"));
        // One that waits for something else than the test does is ended.
        let mut command = Command::new("timeout");
        command.args(["60", "script", "-qec", &line, "/dev/null"]).current_dir(self.dir.path());
        command.env("XDG_CONFIG_HOME", self.path("config")).env("TERM", "xterm");
        command.env("IMBRIK_RACK", "rack").env_remove("SUDO_UID").env_remove("NO_COLOR");
        command.env("TMPDIR", self.dir.path());
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().expect("script, of Debian's bsdutils, is needed");
        let mut input = child.stdin.take().unwrap();
        let mut output = child.stdout.take().unwrap();
        let (mut shown, mut from) = (String::new(), 0);
        let mut piece = [0; 4096];
        for (wanted, act, typed) in steps {
            while !shown[from..].contains(wanted) {
                let len = output.read(&mut piece).unwrap();
                assert!(len > 0, "{wanted} was never shown: {shown}");
                shown.push_str(&String::from_utf8_lossy(&piece[..len]));
            }
            from += shown[from..].find(wanted).unwrap() + wanted.len();
            act();
            // It may end before it reads this.
            match input.write_all(typed.as_bytes()) {
                Err(error) if error.kind() != ErrorKind::BrokenPipe => panic!("{error}"),
                _ => {}
            }
        }
        let mut rest = Vec::new();
        output.read_to_end(&mut rest).unwrap();
        shown.push_str(&String::from_utf8_lossy(&rest));
        let code = child.wait().unwrap().code().unwrap_or(-1);
        Run { code, stdout: shown, stderr: String::new() }
    }

    /// Starts it and interrupts it once `ready` holds.
    pub(crate) fn interrupted(&self, words: &str, ready: impl Fn() -> bool) -> Run {
        let mut command = self.command(words.split_whitespace());
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        let child = command.spawn().unwrap();
        wait_until(&child, ready);
        interrupt(&child);
        Run::of(&child.wait_with_output().unwrap())
    }
}

/// Interrupts it as Ctrl-C does, once it handles the signal.
pub(crate) fn interrupt(child: &Child) {
    const SIGINT: u64 = 1 << 1;
    let pid = child.id().to_string();
    wait_until(child, || {
        let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
        let caught = status.lines().find_map(|line| line.strip_prefix("SigCgt:"));
        let caught = caught.map(|set| u64::from_str_radix(set.trim(), 16).unwrap());
        // One that has ended handles nothing more.
        caught.is_some_and(|set| set & SIGINT != 0) || status.contains("State:\tZ")
    });
    assert!(Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
}

/// Reads its messages until they contain `text`.
pub(crate) fn wait_for_message(child: &mut Child, text: &str) {
    let messages = child.stderr.as_mut().expect("a pipe");
    let (mut shown, mut piece) = (String::new(), [0; 4096]);
    while !flat(&shown).contains(text) {
        let len = messages.read(&mut piece).unwrap();
        assert!(len > 0, "{text} was never shown: {shown}");
        shown.push_str(&String::from_utf8_lossy(&piece[..len]));
    }
}

fn wait_until(child: &Child, ready: impl Fn() -> bool) {
    let started = Instant::now();
    while !ready() {
        assert!(started.elapsed() < Duration::from_secs(30), "{} never got there", child.id());
        thread::sleep(Duration::from_millis(10));
    }
}

impl Run {
    pub(crate) fn of(output: &Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// Asks for this exit code, and that nothing panicked.
    #[track_caller]
    pub(crate) fn expect(self, code: i32) -> Self {
        assert!(!self.err_has("panicked"), "{self:#?}");
        assert_eq!(self.code, code, "{self:#?}");
        self
    }

    /// Returns whether the result has these words, wherever its lines break.
    pub(crate) fn out_has(&self, words: &str) -> bool {
        flat(&self.stdout).contains(&flat(words))
    }

    /// Returns whether the messages have these words, wherever their lines break.
    pub(crate) fn err_has(&self, words: &str) -> bool {
        flat(&self.stderr).contains(&flat(words))
    }

    /// Asks for these words in the message.
    #[track_caller]
    pub(crate) fn says(self, words: &str) -> Self {
        assert!(flat(&self.stderr).contains(&flat(words)), "{words:?} is not in\n{}", self.stderr);
        self
    }

    /// Asks for these words in the result.
    #[track_caller]
    pub(crate) fn shows(self, words: &str) -> Self {
        assert!(flat(&self.stdout).contains(&flat(words)), "{words:?} is not in\n{}", self.stdout);
        self
    }

    /// The last JSON object of the output, of which every line must be one.
    #[track_caller]
    pub(crate) fn json(&self) -> Value {
        let lines: Vec<Value> = self
            .stdout
            .lines()
            .map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{line}: {e}")))
            .collect();
        lines.iter().for_each(valid);
        lines.last().expect("no JSON at all").clone()
    }
}

/// Fails when an object does not match the schema in the documents.
#[track_caller]
pub(crate) fn valid(object: &Value) {
    static SCHEMA: OnceLock<Value> = OnceLock::new();
    let schema = SCHEMA.get_or_init(|| {
        serde_json::from_str(include_str!("../../../../docs/json.schema.json")).unwrap()
    });
    if let Err(wrong) = schema::check(schema, schema, object) {
        panic!("{wrong} in {object:#}");
    }
}

/// Text without line breaks and indentation.
pub(crate) fn flat(text: &str) -> String {
    let text = text.replace(" \\\n", " ");
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Runs a system tool and returns its output. A missing tool fails the test with the remedy: a check that was not run
/// must not look like a success.
#[track_caller]
pub(crate) fn run_tool(name: &str, args: &[&OsStr]) -> String {
    // With another PATH, a child would be forked, which is slow for a process with much memory.
    let mut command = Command::new("env");
    command.arg("PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin").arg(name);
    let output = command.args(args).output().unwrap();
    assert_ne!(
        output.status.code(),
        Some(127),
        "{name} is missing; ./test installs it: {output:?}"
    );
    assert!(output.status.success(), "{name} {args:?}: {output:?}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// [`run_tool`] with arguments that are paths or words.
macro_rules! tool {
    ($name:expr $(, $arg:expr)* $(,)?) => {
        $crate::harness::run_tool($name, &[$(::std::ffi::OsStr::new(&$arg)),*])
    };
}
pub(crate) use tool;

/// A card made by the system's own tools: MBR, FAT with the label HIVE-BOOT, ext4 with the label
/// hive-07, and a boot loader in the gap. Made once a run.
fn small_card() -> &'static Path {
    static MADE: OnceLock<(TempDir, PathBuf)> = OnceLock::new();
    &MADE.get_or_init(|| {
        let dir = tempfile::tempdir().unwrap();
        let (card, fat, ext) =
            (dir.path().join("card"), dir.path().join("fat"), dir.path().join("ext"));
        sized(&card, CARD);
        let table = dir.path().join("table");
        fs::write(
            &table,
            "label: dos\nlabel-id: 0x48560007\nstart=2048,size=32768,type=6,bootable\nstart=34816,size=96256,type=83\n",
        )
        .unwrap();
        let line = format!("sfdisk -q {} < {}", card.display(), table.display());
        tool!("sh", "-c", line);
        sized(&fat, 32768 * 512);
        tool!("mkfs.vfat", "-n", "HIVE-BOOT", fat);
        let files = dir.path().join("files");
        fs::create_dir_all(files.join("etc")).unwrap();
        fs::write(files.join("etc/hostname"), "hive-07\n").unwrap();
        fs::write(files.join("readings"), noise(3 << 20)).unwrap();
        tool!("mcopy", "-i", fat, files.join("readings"), "::kernel");
        sized(&ext, 96256 * 512);
        tool!("mkfs.ext4", "-q", "-L", "hive-07", "-d", files, ext);
        put(&card, 512 * 16, &noise(100_000));
        put(&card, 2048 * 512, &fs::read(&fat).unwrap());
        put(&card, 34816 * 512, &fs::read(&ext).unwrap());
        (dir, card)
    })
    .1
}

/// An empty file of `len` bytes.
pub(crate) fn sized(path: &Path, len: u64) {
    File::create(path).unwrap().set_len(len).unwrap();
}

/// Writes into the middle of a file.
pub(crate) fn put(path: &Path, at: u64, bytes: &[u8]) {
    let mut file = File::options().write(true).open(path).unwrap();
    file.seek(SeekFrom::Start(at)).unwrap();
    file.write_all(bytes).unwrap();
}

/// Flips one bit of a file.
pub(crate) fn flip(path: &Path, at: u64) {
    let mut file = File::options().read(true).write(true).open(path).unwrap();
    let mut byte = [0];
    file.seek(SeekFrom::Start(at)).unwrap();
    file.read_exact(&mut byte).unwrap();
    file.seek(SeekFrom::Start(at)).unwrap();
    file.write_all(&[byte[0] ^ 0x10]).unwrap();
}

/// Bytes that don't compress, the same every time.
pub(crate) fn noise(len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    blake3::Hasher::new_derive_key("noise").finalize_xof().fill(&mut bytes);
    bytes
}

/// Returns whether all of `bytes` are `byte`; a comparison of whole slices, since there are many of them.
pub(crate) fn all_are(bytes: &[u8], byte: u8) -> bool {
    let expected = [byte; 1 << 16];
    bytes.chunks(expected.len()).all(|piece| piece == &expected[..piece.len()])
}

/// The offsets of `needle` in `bytes`.
pub(crate) fn places_of<'a>(bytes: &'a [u8], needle: &'a [u8]) -> impl Iterator<Item = usize> {
    memchr::memmem::find_iter(bytes, needle)
}

/// Returns whether the test may use loop devices and mounts. Without root, prints that it was not run; in CI that is a
/// failure.
pub(crate) fn is_root(test: &str) -> bool {
    let root = tool!("id", "-u").trim() == "0";
    if !root {
        assert!(std::env::var_os("CI").is_none(), "{test} needs root, and CI must run it");
        eprintln!("NOT RUN: {test} needs root");
    }
    root
}

/// The number of repetitions of a test: `usual`, unless the environment variable `name` asks for more.
pub(crate) fn times(name: &str, usual: usize) -> usize {
    std::env::var(name).map_or(usual, |times| times.parse().unwrap())
}
