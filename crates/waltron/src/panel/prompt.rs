//! Questions as they are shown, and what a typed line answers.

use crate::terminal::plain;
use waltron_core::procedure::{Answer, Question, Wanted};
use waltron_core::quantity::{Dimension, Quantity, parse_as};

/// The question with how it is answered.
pub(crate) fn prompt(question: &Question) -> String {
    let text = plain(&question.text);
    match &question.wanted {
        Wanted::Confirmation => format!("{text}: Enter to go on, s to skip this test, q to stop: "),
        Wanted::Choice(choices) => {
            let numbered =
                choices.iter().enumerate().map(|(i, c)| format!("  {}  {}\n", i + 1, plain(c)));
            format!(
                "{text}\n{}number, s to skip this test, q to stop: ",
                numbered.collect::<String>()
            )
        }
        Wanted::Quantity { kind, default_si, exponents } => {
            let [a, v, s, r, k] = *exponents;
            let dimension = Dimension::new(a, v, s, r, k);
            let default =
                default_si.map(|si| format!(", Enter for {}", Quantity { si, dimension }));
            format!(
                "{text} ({kind}{}; s to skip this test, q to stop): ",
                default.unwrap_or_default()
            )
        }
        Wanted::Text => format!("{text} (q to stop): "),
    }
}

/// What a typed line answers.
///
/// # Errors
/// Why it is no answer.
pub(crate) fn answer(question: &Question, line: &str) -> Result<Answer, String> {
    if line.eq_ignore_ascii_case("q") || line.eq_ignore_ascii_case("stop") {
        return Ok(Answer::Stop);
    }
    if let Some(reason) = line.strip_prefix("skip:") {
        return Ok(Answer::Skip(reason.trim().to_owned()));
    }
    match &question.wanted {
        Wanted::Confirmation => Ok(Answer::Confirmed),
        Wanted::Text => Ok(Answer::Text(line.to_owned())),
        Wanted::Choice(choices) => {
            let by_number = line.parse::<usize>().ok().and_then(|n| choices.get(n.wrapping_sub(1)));
            let chosen = by_number.or_else(|| choices.iter().find(|c| *c == line));
            let most = choices.len();
            chosen
                .cloned()
                .map(Answer::Text)
                .ok_or_else(|| format!("type a number from 1 to {most}"))
        }
        Wanted::Quantity { exponents, default_si, .. } => {
            let [a, v, s, r, k] = *exponents;
            match (line, default_si) {
                ("", Some(si)) => Ok(Answer::Si(*si)),
                _ => parse_as(line, Dimension::new(a, v, s, r, k))
                    .map(Answer::Si)
                    .map_err(|e| format!("{e}; {}", e.help().unwrap_or_default())),
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

    #[test]
    fn typed_lines_answer_what_was_asked() {
        let choice = question(Wanted::Choice(vec!["3".into(), "tap 7".into()]));
        assert_eq!(answer(&choice, "1"), Ok(Answer::Text("3".into())));
        assert_eq!(answer(&choice, "tap 7"), Ok(Answer::Text("tap 7".into())));
        assert!(answer(&choice, "9").unwrap_err().contains("1 to 2"));
        let amperes = Wanted::Quantity {
            kind: "a current".into(),
            exponents: Dimension::CURRENT.exponents(),
            default_si: Some(2.0),
        };
        let current = question(amperes);
        assert_eq!(answer(&current, "250 mA"), Ok(Answer::Si(0.25)));
        assert_eq!(answer(&current, ""), Ok(Answer::Si(2.0)));
        assert!(answer(&current, "3 V").is_err());
        for (line, wanted) in [
            ("q", Answer::Stop),
            ("stop", Answer::Stop),
            ("skip: no access", Answer::Skip("no access".into())),
        ] {
            assert_eq!(answer(&current, line), Ok(wanted));
        }
    }

    #[test]
    fn a_prompt_says_how_it_is_answered_and_shows_no_control_characters() {
        let mut q = question(Wanted::Choice(vec!["a".into(), "b\u{1b}[2J".into()]));
        q.text.push('\u{7}');
        let text = prompt(&q);
        assert!(text.contains("1  a") && text.contains("q to stop"));
        assert!(!text.contains('\u{1b}') && !text.contains('\u{7}'));
    }
}
