//! Exit codes: one enumeration, the same for every command.

use std::process::ExitCode;
use waltron_core::grading::Summary;
use waltron_core::record::Outcome;

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

    /// The code of a run's or a record's outcome. What was cut short is never a pass.
    pub(crate) fn of(outcome: Option<&Outcome>, summary: Summary) -> Self {
        match outcome {
            Some(Outcome::RigTrouble(_)) => Self::Trouble,
            Some(Outcome::Stopped) => Self::Stopped,
            _ if summary.fail > 0 => Self::Fail,
            Some(Outcome::Completed) if summary.pass == summary.total() && summary.pass > 0 => {
                Self::Pass
            }
            _ => Self::Open,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
