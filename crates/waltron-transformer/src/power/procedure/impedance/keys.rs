//! What a plan says of a measurement of impedances.

use crate::power::asset::PowerTransformer;
use crate::power::procedure;
use crate::power::procedure::joint::Stepped;
use crate::power::procedure::positions::{self, Positions};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::Voltage;
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::Name;

/// Impedance at low voltage: with another winding shorted, or of the three phases together.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ImpedanceKeys {
    /// `short-circuit` (default), or `zero` for the zero-sequence impedance of a star with its neutral.
    sequence: Option<SequenceForm>,
    /// The number of the winding that is fed; 1, the high-voltage one, or of `zero` the first star with a neutral, if
    /// not given.
    winding: Option<Spannable<u8>>,
    /// The number of the winding that is shorted; 2, or 1 where 2 is fed, if not given. Of `zero` none is shorted if
    /// not given.
    shorted: Option<Spannable<u8>>,
    /// What is fed; as much as winding, output and meter allow, if not given.
    voltage: Option<QuantityText<Voltage>>,
    /// Positions of the tap changer, by label, or `5..9` for a range; the principal one if not given.
    positions: Option<Vec<Text>>,
}

/// Which impedance.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum SequenceForm {
    /// Between lines, with another winding shorted.
    #[default]
    ShortCircuit,
    /// Of three phases together against the neutral.
    Zero,
}

/// A measurement of impedances with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ImpedanceTest {
    pub(super) test: Name,
    pub(super) sequence: SequenceForm,
    pub(super) winding: u8,
    pub(super) shorted: Option<u8>,
    pub(super) voltage: Option<Voltage>,
    pub(super) positions: Positions,
}

impl FamilyKeys for ImpedanceKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let sequence = self.sequence.unwrap_or_default();
        let neutral = of.group.sides.iter().position(|side| side.neutral);
        let usual = match sequence {
            SequenceForm::ShortCircuit => 1,
            SequenceForm::Zero => neutral.map_or(1, |k| k as u8 + 1),
        };
        let winding = procedure::winding(of, self.winding.as_ref(), usual, &head, problems)?;
        let other = if winding == 1 { 2 } else { 1 };
        let shorted = match (&self.shorted, sequence) {
            (None, SequenceForm::Zero) => None,
            (field, _) => Some(procedure::winding(of, field.as_ref(), other, &head, problems)?),
        };
        if shorted == Some(winding) {
            let place = self.shorted.as_ref().map_or_else(|| head.id.span(), Field::span);
            problems.push(Problem::new(place, "one winding is fed, another one is shorted"));
            return None;
        }
        let side = of.group.sides.get(usize::from(winding) - 1)?;
        if sequence == SequenceForm::Zero && !side.neutral {
            let place = self.winding.as_ref().map_or_else(|| head.id.span(), Field::span);
            let message = format!(
                "a zero-sequence impedance is that of a neutral, and winding {winding} of {} has none",
                of.group
            );
            problems.push(Problem::new(place, message));
            return None;
        }
        let voltage = match &self.voltage {
            Some(text) => Some(text.positive(problems)?),
            None => None,
        };
        let windings: Vec<u8> = std::iter::once(winding).chain(shorted).collect();
        let positions = match &self.positions {
            Some(list) => positions::read(of, Some(list), None, false, &windings, problems)?,
            None => Positions::principal(of),
        };
        Some(Arc::new(Stepped(ImpedanceTest {
            test: head.name(),
            sequence,
            winding,
            shorted,
            voltage,
            positions,
        })))
    }
}
