//! Which voltage is put on each part of the insulation.

use super::round_below;
use waltron_core::procedure::SetupError;
use waltron_core::quantity::{Measure, Voltage, text};

/// What a plan asks for, on a rig.
#[derive(Clone, Copy, Debug)]
pub(super) struct PutOn {
    asked: Option<Voltage>,
    /// The rig's range, in V.
    range_v: f64,
}

/// What round voltages begin with.
const STEPS: [f64; 4] = [5.0, 2.5, 2.0, 1.0];

impl PutOn {
    /// What a plan asks for, where at least one of the parts carries it: their names, and the most that each may
    /// carry, in V.
    ///
    /// # Errors
    /// Where none does, or the rig does not put it out.
    pub(super) fn new<'a>(
        asked: Option<Voltage>,
        range_v: f64,
        parts: impl IntoIterator<Item = (&'a str, f64)>,
    ) -> Result<Self, SetupError> {
        let Some(volts) = asked else { return Ok(Self { asked, range_v }) };
        let is_more = |most: f64| volts.si() > most * (1.0 + 1e-9);
        let at_most = |most: f64| text(Voltage::from_si(most));
        if is_more(range_v) {
            let why = format!(
                "{} is more than the rig puts out: {} at most",
                text(volts),
                at_most(range_v)
            );
            return Err(SetupError::Unknown(why));
        }
        let most = parts.into_iter().max_by(|a, b| a.1.total_cmp(&b.1));
        match most {
            Some((name, most)) if is_more(most) => Err(SetupError::Unknown(format!(
                "{} is more than any part may carry: {} at most, on {name}",
                text(volts),
                at_most(most)
            ))),
            _ => Ok(Self { asked, range_v }),
        }
    }

    /// On a part: what is asked for, or the highest round voltage where it may carry no more than `most_v`.
    pub(super) fn on(&self, most_v: f64) -> Voltage {
        let most = most_v.min(self.range_v);
        match self.asked {
            Some(volts) if volts.si() <= most * (1.0 + 1e-9) => volts,
            _ => Voltage::from_si(round_below(most, &STEPS)),
        }
    }
}
