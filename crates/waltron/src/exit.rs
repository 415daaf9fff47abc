//! Exit codes: one enumeration, the same for every command.

use std::process::ExitCode;
use waltron_core::grading::Verdict;
use waltron_core::record::{Outcome, RunEnded};

/// What the program leaves behind for scripts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// All graded points pass, or the command did its work.
    Pass = 0,
    /// At least one point fails.
    Fail = 1,
    /// Wrong usage, or a file that cannot be read or is invalid.
    Invalid = 2,
    /// Trouble with the rig or with writing files.
    Trouble = 3,
    /// Stopped by the attendant or a signal.
    Stopped = 4,
    /// Nothing failed, but something is inconclusive or not tested.
    Open = 5,
}

impl Exit {
    /// The number.
    pub(crate) fn code(self) -> u8 {
        self as u8
    }

    /// The code of a run that came to its last event. What was cut short or not reached is never a
    /// pass.
    pub(crate) fn of_run(ended: &RunEnded) -> Self {
        match ended.outcome {
            Outcome::RigTrouble(_) => Self::Trouble,
            Outcome::Stopped => Self::Stopped,
            Outcome::Completed => Self::of_verdict(ended.verdict()),
        }
    }

    /// The code of a verdict of the whole.
    pub(crate) fn of_verdict(verdict: Verdict) -> Self {
        match verdict {
            Verdict::Fail => Self::Fail,
            Verdict::Pass | Verdict::Measured => Self::Pass,
            Verdict::Inconclusive | Verdict::NotTested => Self::Open,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
