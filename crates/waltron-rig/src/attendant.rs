//! The person at the panel, as the runner and the rig see them.

use waltron_core::procedure::{Answer, Question};

/// Answers prompts and can stop the run.
pub trait Attendant {
    /// Asks and waits for the answer.
    fn ask(&mut self, question: &Question) -> Answer;

    /// Tells the attendant something; no answer is waited for.
    fn tell(&mut self, _text: &str) {}

    /// Whether a mark was set since the last call, to end a step that waits for one.
    fn mark(&self) -> bool {
        false
    }

    /// Whether the run shall stop; asked often, also while outputs are on.
    fn wants_to_stop(&self) -> bool;
}

/// Confirms everything and never stops: for unattended runs and tests.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unattended;

impl Attendant for Unattended {
    fn ask(&mut self, question: &Question) -> Answer {
        question.default_answer().unwrap_or(Answer::Stop)
    }

    fn wants_to_stop(&self) -> bool {
        false
    }
}
