//! Progress on standard error: a bar on a terminal, a line now and then elsewhere.

use super::{count, harmless, is_plain, layout, size, time};
use imbrik_core::{
    progress::{Event, Observer, Step},
    units::ByteLen,
};
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::{
    io::{self, IsTerminal, Write},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

/// The interval between lines without a terminal.
const LINE_EVERY: Duration = Duration::from_secs(10);
/// How often a bar is drawn.
const DRAW_EVERY: Duration = Duration::from_millis(100);
/// The widths of the columns for the step and for its progress.
const TITLE: usize = 34;
const MESSAGE: usize = 36;
/// The maximum width of the bar.
const WIDEST_BAR: usize = 28;
/// The maximum number of listed unreadable ranges.
const TOLD: usize = 5;

/// Shows the steps of a transfer as they run.
pub(crate) struct Progress {
    steps: AtomicUsize,
    terminal: bool,
    color: bool,
    /// The name of one of several transfers, as a prefix of its lines.
    name: String,
    board: Option<MultiProgress>,
    /// True if nothing is shown at all.
    is_silent: bool,
    state: Mutex<State>,
}

/// The transfers of several cards, a line each.
pub(crate) struct Board {
    bars: MultiProgress,
    color: bool,
}

impl Board {
    pub(crate) fn new(color: bool) -> Self {
        Self {
            bars: MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(10)),
            color,
        }
    }

    /// The line of the card called `name`, one of `names`.
    pub(crate) fn line(&self, name: &str, names: &[String]) -> Progress {
        let width = names.iter().map(|name| name.chars().count()).max().unwrap_or(0);
        let mut line = Progress::new(1, self.color);
        line.name = format!("{name:<width$}  ");
        line.board = Some(self.bars.clone());
        line
    }
}

#[derive(Default)]
struct State {
    step: usize,
    running: Option<Running>,
    unreadable: usize,
}

struct Running {
    title: String,
    total: ByteLen,
    done: ByteLen,
    /// The number of columns of the present layout.
    width: usize,
    started: Instant,
    shown: Instant,
    bar: Option<ProgressBar>,
    /// The progress of retrying bad sectors.
    trying: Option<String>,
    /// True if it counts steps instead of bytes.
    is_in_steps: bool,
    /// True if it counts positions in the card: of these, some are skipped or reused without being read.
    is_in_positions: bool,
    /// True if it does nothing but wait.
    is_waiting: bool,
}

fn title(step: Step) -> &'static str {
    match step {
        Step::Unpacking => "unpacking to a temporary file",
        Step::TakingIn => "reading the pipe",
        Step::Repacking => "repacking the image",
        Step::Editing => "writing the image again",
        Step::MinimumSizes => "fitting the image",
        Step::Saving => "reading the card",
        Step::TryingAgain => "retrying bad sectors",
        Step::Mending => "adding it to the image",
        Step::ReadingImageBack => "reading the image back",
        Step::ComparingChecksums => "comparing the checksum",
        Step::CheckingTiles => "checking every tile",
        Step::ComparingWithCard => "comparing with the card",
        Step::Writing => "writing to the card",
        Step::Weighing => "weighing the card",
        Step::Filling => "filling, reading back, clearing",
        Step::ReadingCardBack => "reading back from the card",
        Step::TakingOut => "extracting files",
        Step::ComparingFiles => "comparing files",
        Step::WaitingForCard => "waiting for the card to come back",
    }
}

impl Progress {
    pub(crate) fn new(steps: usize, color: bool) -> Self {
        let terminal = io::stderr().is_terminal();
        let steps = AtomicUsize::new(steps);
        let (name, board, state) = (String::new(), None, Mutex::default());
        Self { steps, terminal, color, name, board, is_silent: false, state }
    }

    /// One that shows nothing.
    pub(crate) fn silent() -> Self {
        let mut silent = Self::new(1, false);
        silent.is_silent = true;
        silent
    }

    fn start(&self, state: &mut State, step: Step, total: ByteLen) {
        state.step += 1;
        let title = match self.steps.load(Ordering::Relaxed) {
            0 | 1 => format!("{}{}", self.name, title(step)),
            steps if state.step <= steps => format!("{} of {steps}: {}", state.step, title(step)),
            // One that nobody could foresee.
            _ => title(step).to_owned(),
        };
        if !self.terminal || !self.has_room_for_titles() {
            self.say(&title);
        }
        let bar = self.terminal.then(|| {
            let bar = ProgressBar::new(total.get().max(1));
            let bar = match &self.board {
                Some(board) => board.add(bar),
                None => {
                    bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(10));
                    bar
                }
            };
            bar.set_style(self.style(&title));
            bar.set_prefix(title.clone());
            bar
        });
        let now = Instant::now();
        state.running = Some(Running {
            title,
            total,
            done: ByteLen::ZERO,
            width: layout::width(io::stderr()),
            started: now,
            shown: now,
            bar,
            trying: None,
            is_in_steps: step == Step::Weighing,
            is_in_positions: matches!(
                step,
                Step::Repacking | Step::Editing | Step::MinimumSizes | Step::Mending
            ),
            is_waiting: step == Step::WaitingForCard,
        });
    }

    /// Returns whether the step's name fits in the line of the bar: otherwise it is in a line above.
    fn has_room_for_titles(&self) -> bool {
        layout::width(io::stderr()) >= TITLE + MESSAGE + 8
    }

    /// The template of the bar's line. The bar takes the rest of the width, and is left out on a narrow terminal.
    fn template(&self, title: &str) -> String {
        let width = layout::width(io::stderr());
        let has_title = self.has_room_for_titles();
        let title = if has_title { layout::columns(title).max(TITLE) + 1 } else { 0 };
        let left = width.saturating_sub(title + MESSAGE + 1).min(WIDEST_BAR);
        let fill = match (left, self.color) {
            (..6, _) => String::new(),
            (left, true) => format!("{{bar:{left}.yellow/white.dim}} "),
            (left, false) => format!("{{bar:{left}}} "),
        };
        let head = if has_title { format!("{{prefix:<{TITLE}}} ") } else { String::new() };
        format!("{head}{fill}{{msg}}")
    }

    /// A line above the bar, if there is one.
    fn say(&self, text: &str) {
        for line in layout::laid_out(text, layout::width(io::stderr())) {
            let line = harmless(&line);
            let write = || drop(writeln!(io::stderr().lock(), "{line}"));
            match &self.board {
                Some(board) if self.terminal => board.suspend(write),
                _ => write(),
            }
        }
    }

    /// Lays out the bar again when the terminal was resized.
    fn follow_the_width(&self, running: &mut Running) {
        let Some(bar) = &running.bar else { return };
        let width = layout::width(io::stderr());
        if width != running.width {
            bar.set_style(self.style(&running.title));
            running.width = width;
        }
    }

    fn style(&self, title: &str) -> ProgressStyle {
        let style = ProgressStyle::with_template(&self.template(title));
        let chars = if is_plain() { "=>-" } else { "━╸─" };
        style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars(chars)
    }

    fn advance(&self, running: &mut Running, done: ByteLen) {
        let now = Instant::now();
        let every = if running.bar.is_some() { DRAW_EVERY } else { LINE_EVERY };
        running.done = done;
        let is_over = done >= running.total && !running.total.is_zero();
        if now.duration_since(running.shown) < every && !is_over {
            return;
        }
        running.shown = now;
        self.follow_the_width(running);
        let text = match &running.trying {
            Some(text) => text.clone(),
            None if running.is_waiting => time::span(now.duration_since(running.started)),
            None if running.is_in_steps => format!("{} of {}", done.get(), running.total.get()),
            None => {
                let took = now.duration_since(running.started);
                how_far(done, running.total, took, !running.is_in_positions)
            }
        };
        match &running.bar {
            Some(bar) => {
                bar.set_position(done.get());
                bar.set_message(text);
            }
            None if !is_over => {
                let _ = writeln!(io::stderr().lock(), "{}: {text}", running.title);
            }
            None => {}
        }
    }

    fn finish(&self, state: &mut State) {
        let Some(running) = state.running.take() else { return };
        let took = running.started.elapsed();
        let all = if running.total.is_zero() { running.done } else { running.total };
        let mut done = format!("{} in {}", size::short(all), time::span(took));
        if running.is_waiting {
            done = format!("for {}", time::span(took));
        } else if running.is_in_steps || running.is_in_positions || is_mostly_holes(all, took) {
            done = format!("done in {}", time::span(took));
        } else if running.trying.is_some() {
            let left = running.total.saturating_sub(running.done);
            let (left, all) = (size::short(left), size::short(running.total));
            done = format!("{left} of {all} left, in {}", time::span(took));
        } else if took >= Duration::from_millis(500) {
            done += &format!(", {}", size::rate(all.get(), took.as_secs_f64()));
        }
        let title = match &running.bar {
            Some(bar) => {
                bar.finish_and_clear();
                match self.has_room_for_titles() {
                    true => format!("{:<TITLE$}", running.title),
                    false => " ".to_owned(),
                }
            }
            // Without a terminal, the title is in the line above.
            None if self.name.is_empty() => " ".to_owned(),
            None => format!("{}:", running.title),
        };
        self.say(&format!("{title} {done}"));
    }
}

/// Returns whether `all` bytes in this time are more than any device can read: the rest were holes of a file.
fn is_mostly_holes(all: ByteLen, took: Duration) -> bool {
    all.get() > 1_000_000_000 && all.get() as f64 / took.as_secs_f64().max(1e-3) > 10e9
}

/// "8 % of 4 GB, 93 MB/s, 41 s left". `has_rate` is false where `done` counts more than was read.
fn how_far(done: ByteLen, total: ByteLen, took: Duration, has_rate: bool) -> String {
    let seconds = took.as_secs_f64();
    // The total of a pipe is unknown.
    if total.is_zero() {
        let rate = match seconds {
            ..0.5 => String::new(),
            seconds => format!(", {}", size::rate(done.get(), seconds)),
        };
        return format!("{}{rate}", size::short(done));
    }
    let part = done.get() as f64 / total.get().max(1) as f64;
    let mut text = format!("{:>2.0} % of {}", (part * 100.0).floor(), size::short(total));
    if seconds >= 0.5 && part > 0.0 {
        let left = seconds / part - seconds;
        if has_rate {
            text += &format!(", {}", size::rate(done.get(), seconds));
        }
        if done < total {
            text += &format!(", {} left", time::span(Duration::from_secs_f64(left)));
        }
    }
    text
}

/// "99.2 % safe, 3 bad places left".
fn safe(areas: usize, open: ByteLen, of: ByteLen) -> String {
    let part = 1.0 - open.get() as f64 / of.get().max(1) as f64;
    // Only a complete rescue is 100 %.
    let percent = (part.max(0.0) * 1000.0).floor() / 10.0;
    format!("{percent:.1} % safe, {} left", count(areas as u64, "bad place"))
}

impl Observer for Progress {
    fn on(&self, event: &Event) {
        if self.is_silent {
            return;
        }
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        match event {
            Event::Started { step, total } => {
                self.finish(&mut state);
                self.start(&mut state, *step, *total);
            }
            Event::Advanced { done } => {
                if let Some(running) = &mut state.running {
                    self.advance(running, *done);
                }
            }
            Event::Trying { areas, open, of } => {
                if let Some(running) = &mut state.running {
                    running.trying = Some(safe(*areas, *open, *of));
                }
            }
            Event::Unreadable { span } => {
                state.unreadable += 1;
                let text = match state.unreadable {
                    ..=TOLD => format!("unreadable: {span}"),
                    n if n == TOLD + 1 => {
                        "more are unreadable; see the total at the end".to_owned()
                    }
                    _ => return,
                };
                let bar = state.running.as_ref().and_then(|running| running.bar.as_ref());
                match bar.filter(|_| self.board.is_none()) {
                    Some(bar) => bar.suspend(|| self.say(&text)),
                    None => self.say(&text),
                }
            }
            Event::Finished => self.finish(&mut state),
            // A total that was printed doesn't change.
            Event::StepAdded if state.step > 0 => {}
            Event::StepAdded => drop(self.steps.fetch_add(1, Ordering::Relaxed)),
        }
    }
}

/// A transfer that ends early takes its bar away.
impl Drop for Progress {
    fn drop(&mut self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(bar) = state.running.take().and_then(|running| running.bar) {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn progress_line_shows_percentage_rate_and_time_left() {
        let of = |done, seconds| {
            how_far(
                ByteLen::new(done),
                ByteLen::new(4_000_000_000),
                Duration::from_secs_f64(seconds),
                true,
            )
        };
        assert_eq!(of(0, 0.0), " 0 % of 4 GB");
        assert_eq!(of(1_000_000_000, 10.0), "25 % of 4 GB, 100 MB/s, 30 s left");
        assert_eq!(of(4_000_000_000, 40.0), "100 % of 4 GB, 100 MB/s");
        let (half, all) = (ByteLen::new(2_000_000_000), ByteLen::new(4_000_000_000));
        let without_rate = how_far(half, all, Duration::from_secs(10), false);
        assert_eq!(without_rate, "50 % of 4 GB, 10 s left");
        let of_pipe = |seconds| {
            how_far(ByteLen::new(5_000_000), ByteLen::ZERO, Duration::from_secs_f64(seconds), true)
        };
        assert_eq!((of_pipe(0.1), of_pipe(2.0)), ("5 MB".to_owned(), "5 MB, 2.5 MB/s".to_owned()));
    }
}
