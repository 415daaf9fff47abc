//! Tap changers with their positions.

use std::fmt;

/// Whether a tap changer may be moved under load.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChangerKind {
    /// On-load: OLTC.
    OnLoad,
    /// De-energised only: DETC.
    DeEnergised,
}

impl ChangerKind {
    /// What it is called for short (IEC 60214-1).
    pub fn short(self) -> &'static str {
        match self {
            Self::OnLoad => "OLTC",
            Self::DeEnergised => "DETC",
        }
    }

    /// What it is, in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::OnLoad => "on-load tap changer",
            Self::DeEnergised => "de-energised tap changer",
        }
    }
}

/// A position of a tap changer.
#[derive(Clone, Debug, PartialEq)]
pub struct Position {
    /// What is written beside its pointer.
    pub label: String,
    /// The line voltage of the winding there, in V, without load.
    pub volts: f64,
}

/// A tap changer.
#[derive(Clone, Debug, PartialEq)]
pub struct TapChanger {
    /// What it is called: `OLTC`.
    pub name: String,
    /// Whether it may be moved under load.
    pub kind: ChangerKind,
    /// The number of the winding that it acts on.
    pub winding: u8,
    /// Its positions, in the order of its pointer.
    pub positions: Vec<Position>,
    /// The one that rated values are of.
    pub principal: usize,
}

impl TapChanger {
    /// The position with a label.
    pub fn at(&self, label: &str) -> Option<usize> {
        self.positions.iter().position(|p| p.label == label)
    }

    /// All labels.
    pub fn labels(&self) -> impl Iterator<Item = &str> {
        self.positions.iter().map(|p| p.label.as_str())
    }

    /// Whether positions have the same voltage as the ones before them: those that a change-over selector
    /// passes through.
    pub fn is_same_as_before(&self, position: usize) -> bool {
        position > 0 && self.positions[position].volts == self.positions[position - 1].volts
    }
}

/// Where the tap changers stand: a position of each, in the order of the file.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Stand(pub Vec<usize>);

impl TapChanger {
    /// Labels written with suffixes for both ways from the middle: `16R … 1R, N, 1L … 16L`.
    ///
    /// # Errors
    /// An even number of positions has no middle.
    pub fn suffixed(
        count: usize,
        raise: &str,
        neutral: &str,
        lower: &str,
    ) -> Result<Vec<String>, String> {
        if count.is_multiple_of(2) {
            return Err(format!(
                "{count} positions have none in the middle for `{neutral}`; list the `labels` instead"
            ));
        }
        let half = count / 2;
        let up = (1..=half).rev().map(|k| format!("{k}{raise}"));
        let down = (1..=half).map(|k| format!("{k}{lower}"));
        Ok(up.chain(std::iter::once(neutral.to_owned())).chain(down).collect())
    }
}

impl fmt::Display for TapChanger {
    /// `OLTC, 19 positions on winding 1`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}, {} positions on winding {}", self.name, self.positions.len(), self.winding)
    }
}
