//! The person at the panel, as the runner and the rig see them.

use waltron_core::procedure::{Answer, Question};

/// Answers prompts and can stop the run.
pub trait Attendant {
    /// Asks and waits for the answer.
    fn ask(&mut self, question: &Question) -> Answer;

    /// Whether the run shall stop; asked often, also while outputs are on.
    fn wants_to_stop(&self) -> bool;
}

/// Confirms everything and never stops: for unattended runs and tests.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unattended;

impl Attendant for Unattended {
    fn ask(&mut self, _question: &Question) -> Answer {
        Answer::Confirmed
    }

    fn wants_to_stop(&self) -> bool {
        false
    }
}
