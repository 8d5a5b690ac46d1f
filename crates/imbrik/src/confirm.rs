//! Asking before something is overwritten or unmounted.

use crate::{
    failure::{Failure, Outcome},
    render::{harmless, layout},
};
use std::io::{BufRead, Write};

/// The next step after a question that was not confirmed.
pub(crate) const AGAIN: &str = "Run it again when you are sure.";

/// The number of columns for the answer.
const ANSWER: usize = 16;

/// How the user can be asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Policy {
    /// `--yes` was given: no question is asked.
    Yes,
    /// There is a terminal.
    Ask,
    /// Nobody can be asked.
    Nobody,
}

/// Asks the user to type `word`, the name of the data to lose. Case and spaces are ignored: "16gb" is "16 GB".
pub(crate) fn typed(
    word: &str,
    question: &str,
    policy: Policy,
    reader: &mut dyn BufRead,
    writer: &mut dyn Write,
) -> Outcome<()> {
    let untouched = "Nothing was written.";
    match policy {
        Policy::Yes => return Ok(()),
        Policy::Nobody => {
            return Err(Failure::refused(
                "this needs confirmation, and there is no terminal to ask on",
            )
            .state(untouched)
            .next("Check the plan with --plan, then add --yes."));
        }
        Policy::Ask => {}
    }
    let answer = ask(question, reader, writer);
    if squeezed(&answer) == squeezed(word) {
        return Ok(());
    }
    let what = match answer.trim() {
        "" => "nothing was typed, so it was not confirmed".to_owned(),
        other => format!("\"{other}\" was typed instead of \"{word}\", so it was not confirmed"),
    };
    Err(Failure::refused(what).state(untouched).next(AGAIN))
}

/// Asks a question whose default answer is yes.
pub(crate) fn yes_unless_no(
    question: &str,
    reader: &mut dyn BufRead,
    writer: &mut dyn Write,
) -> bool {
    let answer = ask(&format!("{question} [Y/n] "), reader, writer);
    // End of input is not an answer, and without an answer nothing is permitted.
    answer.ends_with('\n') && !answer.trim().to_lowercase().starts_with('n')
}

pub(crate) fn ask(question: &str, reader: &mut dyn BufRead, writer: &mut dyn Write) -> String {
    // A terminal that cannot be written to will not answer either.
    let width = layout::width(std::io::stderr()).saturating_sub(1);
    let mut lines = layout::laid_out(question.trim_end(), width);
    // The typed text must not exceed the line either.
    if lines.last().is_some_and(|last| layout::columns(last).saturating_add(ANSWER) > width) {
        lines.push(" ".to_owned());
    }
    // In one piece: an answer that is typed at once must not come between.
    let asked = format!("{} ", harmless_lines(&lines));
    let _ = writer.write_all(asked.as_bytes()).and_then(|()| writer.flush());
    let mut answer = String::new();
    let _ = reader.read_line(&mut answer);
    answer
}

/// A question in lines, the last of which stays open for the answer.
fn harmless_lines(lines: &[String]) -> String {
    lines.iter().map(|line| harmless(line).into_owned()).collect::<Vec<_>>().join("\n")
}

/// Normalises case, spaces, and the separators of several names.
fn squeezed(text: &str) -> String {
    let words = text.split_whitespace().filter(|word| *word != "and");
    words.map(|word| word.trim_end_matches(',')).collect::<String>().to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exit::Exit;

    fn type_it(word: &str, answer: &str, policy: Policy) -> (Outcome<()>, String) {
        let mut shown = Vec::new();
        let outcome = typed(word, "Type it: ", policy, &mut answer.as_bytes(), &mut shown);
        (outcome, String::from_utf8(shown).unwrap())
    }

    #[test]
    fn confirmation_requires_the_name_of_the_data_to_lose() {
        assert!(type_it("HIVE-05", "hive-05\n", Policy::Ask).0.is_ok());
        assert!(type_it("16 GB", "16gb\n", Policy::Ask).0.is_ok());
        let names = "hive-05, 8 GB and 4 GB";
        for answer in ["hive-05, 8 GB and 4 GB\n", "hive-05 8gb 4gb\n", "HIVE-05, 8 GB, 4 GB\n"] {
            assert!(type_it(names, answer, Policy::Ask).0.is_ok(), "{answer}");
        }
        assert!(type_it(names, "hive-05 and 8 GB\n", Policy::Ask).0.is_err());
        for answer in ["", "\n", "y\n", "yes\n", "HIVE-07\n", "HIVE-0\n"] {
            let failure = type_it("HIVE-05", answer, Policy::Ask).0.unwrap_err();
            assert_eq!(failure.exit, Exit::Refused, "{answer:?}");
        }
    }

    #[test]
    fn no_question_without_a_terminal_or_with_yes() {
        let (outcome, shown) = type_it("HIVE-05", "HIVE-05\n", Policy::Nobody);
        assert_eq!((outcome.unwrap_err().exit, shown.as_str()), (Exit::Refused, ""));
        let (outcome, shown) = type_it("HIVE-05", "", Policy::Yes);
        assert!(outcome.is_ok() && shown.is_empty());
    }

    #[test]
    fn enter_means_yes_and_a_closed_input_does_not() {
        for (answer, expected) in
            [("\n", true), ("y\n", true), ("n\n", false), ("No\n", false), ("", false)]
        {
            let mut shown = Vec::new();
            assert_eq!(
                yes_unless_no("Unmount both?", &mut answer.as_bytes(), &mut shown),
                expected
            );
            assert_eq!(shown, b"Unmount both? [Y/n] ");
        }
    }
}
