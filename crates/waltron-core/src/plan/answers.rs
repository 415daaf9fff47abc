//! The answers file: what an unattended run says to prompts.

use crate::plan::selection::is_like;
use crate::text::document::{DocumentError, Field, Form, Problem, Source, Spannable, Text, load};
use schemars::JsonSchema;
use serde::Deserialize;

/// Answers to prompts, for runs that nobody attends.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AnswersForm {
    /// The answers; the first one that fits a question and is not used up is given.
    answer: Vec<AnswerForm>,
}

impl Form for AnswersForm {
    const KIND: &'static str = "answers";
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct AnswerForm {
    /// The question's text; `*` stands for any text.
    question: Text,
    /// What would be typed: `ok`, a choice or its number, `12 A`, `skip: REASON`, `stop`.
    answer: String,
    /// How often it is given; as often as it is asked for if not given.
    times: Option<Spannable<u32>>,
}

/// Answers in the order of their file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Answers {
    entries: Vec<Entry>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Entry {
    question: String,
    answer: String,
    /// How often it may still be given; `None`: always.
    left: Option<u32>,
    used: bool,
}

impl AnswersForm {
    /// Its JSON Schema, for editors.
    pub fn schema() -> serde_json::Value {
        crate::text::document::schema::<Self>()
    }

    /// Reads an answers file.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Answers, DocumentError> {
        load(source, |form: Self, problems| {
            let entries = form.answer.into_iter().map(|entry| {
                if let Some(times) = entry.times.as_ref().filter(|t| *t.get() == 0) {
                    problems.push(
                        Problem::new(times.span(), "an answer is given at least once")
                            .help("leave `times` out for as often as it is asked for"),
                    );
                }
                if entry.question.as_str().is_empty() {
                    let message = "a question without text is never asked";
                    problems.push(Problem::new(entry.question.span(), message));
                }
                Entry {
                    question: entry.question.as_str().to_owned(),
                    answer: entry.answer,
                    left: entry.times.map(|t| *t.get()),
                    used: false,
                }
            });
            Some(Answers { entries: entries.collect() })
        })
    }
}

impl Answers {
    /// The answer to a question, which is used up by it; `None` where there is none.
    pub fn take(&mut self, question: &str) -> Option<String> {
        self.take_of(question, |_| true)
    }

    /// The same by an entry that names something of the question: what fits every question permits nothing.
    pub fn take_named(&mut self, question: &str) -> Option<String> {
        self.take_of(question, |entry| entry.question.chars().any(|c| c != '*'))
    }

    fn take_of(&mut self, question: &str, may: impl Fn(&Entry) -> bool) -> Option<String> {
        let fits = |e: &&mut Entry| e.left != Some(0) && is_like(question, &e.question) && may(e);
        let entry = self.entries.iter_mut().find(fits)?;
        entry.used = true;
        entry.left = entry.left.map(|left| left - 1);
        Some(entry.answer.clone())
    }

    /// Questions whose answers were not asked for, or not as often as the file says.
    pub fn left_over(&self) -> Vec<&str> {
        let open = |e: &&Entry| !e.used || e.left.is_some_and(|left| left > 0);
        self.entries.iter().filter(open).map(|e| e.question.as_str()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_given_in_order_and_used_up() {
        let text = "[[answer]]\nquestion = \"Reset *\"\nanswer = \"ok\"\ntimes = 2\n\
                    [[answer]]\nquestion = \"*\"\nanswer = \"stop\"\n\
                    [[answer]]\nquestion = \"Never\"\nanswer = \"1\"\n";
        let mut answers = AnswersForm::load(&Source::new("a", text)).unwrap();
        assert_eq!(answers.take("Reset the relay").as_deref(), Some("ok"));
        assert_eq!(answers.left_over(), ["Reset *", "*", "Never"]);
        assert_eq!(answers.take("Reset the relay").as_deref(), Some("ok"));
        assert_eq!(answers.take("Reset the relay").as_deref(), Some("stop"));
        assert_eq!(answers.take("Never").as_deref(), Some("stop"), "the first that fits");
        assert_eq!(answers.left_over(), ["Never"]);
        // What fits everything permits nothing; the order stays.
        assert_eq!(answers.take_named("Never").as_deref(), Some("1"));
        assert_eq!(answers.take_named("Earth H"), None);
        assert_eq!(answers.take("Never").as_deref(), Some("stop"));
    }

    #[test]
    fn mistakes_are_told_with_their_place() {
        let text = "[[answer]]\nquestion = \"x\"\nanswer = \"ok\"\ntimes = 0\n[[answer]]\nquestoin = \"y\"\n";
        let error = AnswersForm::load(&Source::new("a", text)).unwrap_err();
        let all: Vec<&str> = error.problems.iter().map(|p| p.message.as_str()).collect();
        assert!(all.iter().any(|m| m.contains("unknown key `questoin`")), "{all:?}");
    }
}
