//! Questions as they are shown, and what a typed line answers.

use crate::terminal::plain;
use waltron_core::procedure::{Answer, Question, UNKNOWN, Wanted};
use waltron_core::quantity::{Dimension, Quantity, parse_as, significant};

/// Words that stop a run, at every prompt.
const STOPS: [&str; 5] = ["q", "quit", "stop", "abort", "cancel"];

/// Words that say that something is done.
const CONFIRMS: [&str; 5] = ["", "ok", "yes", "y", "done"];

/// What a typed line says.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Said {
    /// An answer.
    Answer(Answer),
    /// To skip the test; the reason is still to be said.
    Skip,
}

/// The question with how it is answered.
pub(crate) fn prompt(question: &Question) -> String {
    let text = plain(&question.text);
    match &question.wanted {
        Wanted::Confirmation => {
            format!("{text}: Enter when done, s to skip this test, q to stop: ")
        }
        Wanted::Permission => format!("{text}: yes, or stop: "),
        Wanted::Choice { of: choices, .. } => {
            let numbered =
                choices.iter().enumerate().map(|(i, c)| format!("  {}  {}\n", i + 1, plain(c)));
            format!(
                "{text}\n{}number, s to skip this test, q to stop: ",
                numbered.collect::<String>()
            )
        }
        Wanted::Quantity { kind, default_si, exponents, bounds, may_be_unknown } => {
            let [a, v, s, r, k] = *exponents;
            let dimension = Dimension::new(a, v, s, r, k);
            let range = bounds.map(|b| format!(" {}", from_to(b, dimension))).unwrap_or_default();
            let default =
                default_si.map(|si| format!(", Enter for {}", Quantity { si, dimension }));
            let unknown = if *may_be_unknown { ", or `unknown`" } else { "" };
            format!(
                "{text} ({kind}{range}{}{unknown}; s to skip this test, q to stop): ",
                default.unwrap_or_default()
            )
        }
        Wanted::Text => format!("{text} (q to stop): "),
    }
}

fn from_to(bounds: [f64; 2], dimension: Dimension) -> String {
    let [low, high] = bounds.map(|si| match dimension {
        // As a thermometer shows it.
        Dimension::TEMPERATURE => format!("{} °C", significant(si - 273.15, 4)),
        dimension => Quantity { si, dimension }.to_string(),
    });
    format!("from {low} to {high}")
}

/// What is asked where a test is skipped.
pub(crate) fn reason() -> Question {
    Question { text: "Reason for skipping".into(), wanted: Wanted::Text }
}

/// What a line of a file answers, which has to give its reason for a skip at once.
///
/// # Errors
/// Why it is no answer.
pub(crate) fn answered(question: &Question, line: &str) -> Result<Answer, String> {
    match said(question, line)? {
        Said::Answer(answer) => Ok(answer),
        Said::Skip => Err("a skip needs a reason: skip: no access".to_owned()),
    }
}

/// What a typed line says. Only what answers the question is an answer: whatever else is typed is
/// asked again, and nothing but *yes* switches on.
///
/// # Errors
/// Why it is no answer.
pub(crate) fn said(question: &Question, line: &str) -> Result<Said, String> {
    let word = line.trim().to_ascii_lowercase();
    // What a choice says comes before what a word or a number means elsewhere.
    if let Wanted::Choice { of: choices, .. } = &question.wanted
        && let Some(chosen) = choices.iter().find(|c| *c == line)
    {
        return Ok(Said::Answer(Answer::Text(chosen.clone())));
    }
    if STOPS.contains(&word.as_str()) {
        return Ok(Said::Answer(Answer::Stop));
    }
    if question.wanted == Wanted::Permission {
        return match word.as_str() {
            "yes" => Ok(Said::Answer(Answer::Confirmed)),
            "no" | "n" => Ok(Said::Answer(Answer::Stop)),
            _ => Err("type yes, or stop; nothing is put out before".to_owned()),
        };
    }
    if let Some(reason) = line.trim().strip_prefix("skip:") {
        return match reason.trim() {
            "" => Err("a skip needs a reason: skip: no access".to_owned()),
            reason => Ok(Said::Answer(Answer::Skip(reason.to_owned()))),
        };
    }
    if question.wanted != Wanted::Text && matches!(word.as_str(), "s" | "skip") {
        return Ok(Said::Skip);
    }
    answer(question, line, &word).map(Said::Answer)
}

fn answer(question: &Question, line: &str, word: &str) -> Result<Answer, String> {
    match &question.wanted {
        Wanted::Confirmation if CONFIRMS.contains(&word) => Ok(Answer::Confirmed),
        Wanted::Confirmation | Wanted::Permission => {
            Err(format!("`{}` is no answer: Enter when it is done", plain(line)))
        }
        Wanted::Text if word.is_empty() => Err("type something, or q to stop".to_owned()),
        Wanted::Text => Ok(Answer::Text(line.to_owned())),
        Wanted::Choice { of: choices, .. } => {
            let by_number = word.parse::<usize>().ok().and_then(|n| choices.get(n.wrapping_sub(1)));
            let most = choices.len();
            by_number
                .cloned()
                .map(Answer::Text)
                .ok_or_else(|| format!("type a number from 1 to {most}"))
        }
        Wanted::Quantity { may_be_unknown: true, .. } if word == UNKNOWN => {
            Ok(Answer::Text(UNKNOWN.to_owned()))
        }
        Wanted::Quantity { exponents, default_si, bounds, .. } => {
            let [a, v, s, r, k] = *exponents;
            let dimension = Dimension::new(a, v, s, r, k);
            let si = match (word, default_si) {
                ("", Some(si)) => *si,
                _ => parse_as(line, dimension)
                    .map_err(|e| format!("{e}; {}", e.help().unwrap_or_default()))?,
            };
            match *bounds {
                Some([low, high]) if !(low..=high).contains(&si) => {
                    let range = from_to([low, high], dimension);
                    Err(format!("`{}` is no answer: type one {range}", plain(line.trim())))
                }
                _ => Ok(Answer::Si(si)),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn question(wanted: Wanted) -> Question {
        Question { text: "Which tap?".into(), wanted }
    }

    fn amperes() -> Question {
        question(Wanted::Quantity {
            kind: "a current".into(),
            exponents: Dimension::CURRENT.exponents(),
            default_si: Some(2.0),
            bounds: None,
            may_be_unknown: false,
        })
    }

    /// What a line answers, where it does.
    fn answered(question: &Question, line: &str) -> Option<Answer> {
        match said(question, line) {
            Ok(Said::Answer(answer)) => Some(answer),
            _ => None,
        }
    }

    #[test]
    fn typed_lines_answer_what_was_asked() {
        let choice = Question::choose("Which tap?", ["3", "tap 7", "stop"]);
        assert_eq!(answered(&choice, "2"), Some(Answer::Text("tap 7".into())));
        assert_eq!(answered(&choice, "3"), Some(Answer::Text("3".into())), "text before number");
        assert_eq!(answered(&choice, "tap 7"), Some(Answer::Text("tap 7".into())));
        assert_eq!(answered(&choice, "stop"), Some(Answer::Text("stop".into())));
        assert!(said(&choice, "9").unwrap_err().contains("1 to 3"));
        assert!(said(&choice, "").is_err() && said(&choice, "no").is_err());
        assert_eq!(answered(&amperes(), "250 mA"), Some(Answer::Si(0.25)));
        assert_eq!(answered(&amperes(), ""), Some(Answer::Si(2.0)));
        assert!(said(&amperes(), "3 V").is_err());
        assert_eq!(answered(&amperes(), "skip: no access"), Some(Answer::Skip("no access".into())));
        assert!(said(&question(Wanted::Text), " ").is_err());
    }

    /// Whatever a person may type that is not *yes*, nothing is switched on by it, and nothing counts
    /// as done that was not said to be.
    #[test]
    fn no_word_but_yes_switches_on_and_no_denial_confirms() {
        let permission = question(Wanted::Permission);
        let done = question(Wanted::Confirmation);
        assert_eq!(answered(&permission, "yes"), Some(Answer::Confirmed));
        assert_eq!(answered(&permission, " YES "), Some(Answer::Confirmed));
        for word in [
            "", "s", "skip", "skip: x", "ok", "y", "1", "p", "r", "go", "yes!", "yess", "\u{1b}",
            "true",
        ] {
            assert!(said(&permission, word).is_err(), "{word:?}");
        }
        for word in ["no", "n", "NO", "q", "quit", "stop", "abort", "Cancel"] {
            assert_eq!(answered(&permission, word), Some(Answer::Stop), "{word}");
        }
        for word in ["no", "n", "nope", "not yet", "0", "p", "r", "later"] {
            assert!(said(&done, word).is_err(), "{word}");
        }
        for word in ["q", "quit", "stop", "abort", "cancel", "Q"] {
            for wanted in [Wanted::Confirmation, Wanted::Text] {
                assert_eq!(answered(&question(wanted), word), Some(Answer::Stop), "{word}");
            }
            assert_eq!(answered(&amperes(), word), Some(Answer::Stop), "{word}");
        }
        for word in ["s", "S", "skip"] {
            assert_eq!(said(&done, word), Ok(Said::Skip));
        }
        assert!(said(&done, "skip:").unwrap_err().contains("reason"));
        for word in ["", "ok", "Yes", "done"] {
            assert_eq!(answered(&done, word), Some(Answer::Confirmed), "{word:?}");
        }
    }

    #[test]
    fn a_prompt_says_how_it_is_answered_and_shows_no_control_characters() {
        let mut q = Question::choose("Which tap?", ["a", "b\u{1b}[2J"]);
        q.text.push('\u{7}');
        let text = prompt(&q);
        assert!(text.contains("1  a") && text.contains("q to stop"));
        assert!(!text.contains('\u{1b}') && !text.contains('\u{7}'));
        assert!(prompt(&question(Wanted::Permission)).ends_with("yes, or stop: "));
    }
}
