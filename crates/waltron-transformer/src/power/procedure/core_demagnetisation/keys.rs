//! What a plan says of a demagnetisation.

use crate::power::asset::PowerTransformer;
use crate::power::procedure;
use crate::power::procedure::joint::Stepped;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Current, Measure, Voltage, text};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable};
use waltron_core::text::name::Name;

/// Demagnetises a power transformer's core, with the exciting currents before and after.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CoreDemagnetisationKeys {
    /// The number of the winding that the direct current flows through; the one with the lowest voltage, whose few
    /// turns let the smallest currents do something, if not given.
    winding: Option<Spannable<u8>>,
    /// The first current, which saturates the core; as much as winding and rig allow, a tenth of the rated one at most,
    /// if not given.
    current: Option<QuantityText<Current>>,
    /// What excites each phase before and after; the highest round voltage that winding and rig allow, half of the
    /// rated one at most, if not given.
    voltage: Option<QuantityText<Voltage>>,
}

/// A demagnetisation with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct CoreDemagnetisationTest {
    pub(super) test: Name,
    pub(super) winding: u8,
    pub(super) current: Option<Current>,
    pub(super) voltage: Option<Voltage>,
}

impl FamilyKeys for CoreDemagnetisationKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let lowest = of.windings.iter().min_by(|a, b| a.voltage_v.total_cmp(&b.voltage_v))?;
        let number = procedure::winding(of, self.winding.as_ref(), lowest.number, &head, problems)?;
        let most = of.winding(number)?.most_a();
        let current = match &self.current {
            None => None,
            Some(field) => {
                let current = field.positive(problems)?;
                if current.si() > most * (1.0 + 1e-9) {
                    let message = format!(
                        "at most {} may flow through winding {number}",
                        text(Current::from_si(most))
                    );
                    problems.push(Problem::new(field.span(), message));
                    return None;
                }
                Some(current)
            }
        };
        let voltage = match &self.voltage {
            Some(text) => Some(text.positive(problems)?),
            None => None,
        };
        Some(Arc::new(Stepped(CoreDemagnetisationTest {
            test: head.name(),
            winding: number,
            current,
            voltage,
        })))
    }
}
