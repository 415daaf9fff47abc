//! What a plan says of a ratio test.

use crate::power::asset::PowerTransformer;
use crate::power::procedure;
use crate::power::procedure::joint::Stepped;
use crate::power::procedure::positions::{self, Positions};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Time, Voltage, seconds};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::Name;

/// One winding fed at low voltage, phase by phase, the other one read: the ratio at every position, the
/// vector group, and the exciting currents against each other.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TurnsRatioKeys {
    /// The number of the winding that is fed; 1, the high-voltage one, if not given.
    from: Option<Spannable<u8>>,
    /// The number of the winding that is read; 2 if not given.
    to: Option<Spannable<u8>>,
    /// The voltage that is fed; what rig and winding allow, at most 250 V, if not given.
    voltage: Option<QuantityText<Voltage>>,
    /// How long each reading takes; 0.6 s if not given.
    time: Option<QuantityText<Time>>,
    /// Positions of the tap changer, by label, or `5..9` for a range; all if not given.
    positions: Option<Vec<Text>>,
    /// Which tap changer `positions` are of; that of the windings that are tested if not given.
    tap_changer: Option<Text>,
    /// Every position of every tap changer with all of the others; false if not given.
    matrix: Option<bool>,
    /// Which ratio is told: of the `nameplate`'s line voltages (default), or of the `turns`.
    ratio: Option<RatioForm>,
    /// What the phase displacement is told in: `degrees` (default), or `minutes` of arc.
    phase: Option<PhaseForm>,
    /// Whether the vector group is looked for where the readings do not fit the nameplate's: nine more
    /// readings; true if not given.
    find_group: Option<bool>,
}

/// Which ratio is told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RatioForm {
    /// Of the line voltages.
    #[default]
    Nameplate,
    /// Of the turns of a phase.
    Turns,
}

/// What a phase displacement is told in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum PhaseForm {
    /// Degrees.
    #[default]
    Degrees,
    /// Minutes of arc.
    Minutes,
}

/// A ratio test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct TurnsRatioTest {
    pub(super) test: Name,
    pub(super) from: u8,
    pub(super) to: u8,
    pub(super) voltage: Option<Voltage>,
    pub(super) time: Time,
    pub(super) positions: Positions,
    pub(super) ratio: RatioForm,
    pub(super) phase: PhaseForm,
    pub(super) finds: bool,
}

/// How long a reading takes where the plan does not say: until the first flux has settled, and a window.
const USUAL_S: f64 = 0.6;

/// The shortest one, in which a window of measurement fits.
const LEAST_S: f64 = 0.3;

impl FamilyKeys for TurnsRatioKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let mut winding = |field: &Option<Spannable<u8>>, usual: u8| {
            procedure::winding(of, field.as_ref(), usual, &head, problems)
        };
        let (from, to) = (winding(&self.from, 1)?, winding(&self.to, 2)?);
        if from == to {
            let place = self.to.as_ref().or(self.from.as_ref());
            let place = place.map_or_else(|| head.id.span(), Field::span);
            problems.push(Problem::new(place, "a ratio is of two windings"));
            return None;
        }
        let list = self.positions.as_deref();
        let positions = positions::read(
            of,
            list,
            self.tap_changer.as_ref(),
            self.matrix.unwrap_or(false),
            &[from, to],
            problems,
        );
        let voltage = match &self.voltage {
            Some(volts) => Some(volts.positive(problems)?),
            None => None,
        };
        let time = self.time.as_ref().map_or(Some(seconds(USUAL_S)), |t| t.positive(problems))?;
        if let Some(field) = self.time.as_ref().filter(|_| time < seconds(LEAST_S)) {
            let message = "shorter than 0.3 s there is no time to measure";
            problems.push(Problem::new(field.span(), message));
        }
        Some(Arc::new(Stepped(TurnsRatioTest {
            test: head.name(),
            from,
            to,
            voltage,
            time,
            positions: positions?,
            ratio: self.ratio.unwrap_or_default(),
            phase: self.phase.unwrap_or_default(),
            finds: self.find_group.unwrap_or(true),
        })))
    }
}
