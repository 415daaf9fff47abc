//! Which way a test goes: a current through the poles, or what stands for it at the trip unit's test port.

use super::super::asset::LvBreaker;
use super::source::{AUXILIARY, FLOWS, current, flowing};
use super::unit::TRIPPED;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::grading::Values;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::procedure::{SetupError, TestHead};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Dimension, Frequency, Measure, Quantity, degrees};
use waltron_core::text::document::{Field, Problem, Problems, Spannable};

/// The output at the test port.
pub(crate) const PORT: &str = "test port";

/// Through what the breaker is tested.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Through {
    /// Its poles, by the current itself (primary injection).
    #[default]
    Poles,
    /// The test port of its trip unit, by what stands for the current (secondary injection).
    TestPort,
}

/// The same with what stands for an ampere.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Way {
    Poles,
    /// So much at the port for an ampere through a pole, in A or V.
    Port {
        per_ampere: f64,
        dimension: Dimension,
    },
}

impl Way {
    /// The way that a plan asks for; a problem where the breaker's file knows no port.
    pub(super) fn read(
        through: Option<&Spannable<Through>>,
        head: TestHead<'_>,
        of: &LvBreaker,
        problems: &mut Problems,
    ) -> Option<Self> {
        let through = match through {
            Some(field) if *field.get() == Through::TestPort => field,
            _ => return Some(Self::Poles),
        };
        let Some(port) = of.port else {
            let message = format!(
                "`{}` goes through the test port, and the asset's file does not say what stands for a current there",
                head.id.as_str()
            );
            let problem = Problem::new(through.span(), message);
            problems.push(problem.help(
                "add `port = \"100 mA\"`, what stands for the sensor's current, to its [trip_unit]",
            ));
            return None;
        };
        Some(Self::Port { per_ampere: port.si / of.sensor_a, dimension: port.dimension })
    }

    /// A current, or what stands for it, from the output for the most of a test.
    ///
    /// # Errors
    /// The rig has no such output.
    pub(super) fn put(
        self,
        rig: &Capability,
        amps: f64,
        most: f64,
        frequency: Frequency,
    ) -> Result<Stimulus, SetupError> {
        let Self::Port { per_ampere, dimension } = self else {
            return current(rig, amps, most, frequency);
        };
        let si = amps * per_ampere;
        // Switched on where it goes through zero.
        let angle = degrees(-90.0);
        if dimension == Dimension::CURRENT {
            let channel = rig.currents.iter().find(|c| c.meaning == *PORT);
            let channel = channel.ok_or_else(lacks)?;
            let phasor = Phasor::new(Measure::from_si(si), angle);
            let drive = Drive::sine(channel.id.clone(), phasor, frequency);
            return Ok(Stimulus { currents: vec![drive], voltages: Vec::new() });
        }
        let channel = rig.voltages.iter().find(|c| c.meaning == *PORT);
        let channel = channel.ok_or_else(lacks)?;
        let phasor = Phasor::new(Measure::from_si(si), angle);
        let drive = Drive::sine(channel.id.clone(), phasor, frequency);
        Ok(Stimulus { currents: Vec::new(), voltages: vec![drive] })
    }

    /// Why the port cannot be given what a current takes; nothing through the poles, where leads decide.
    pub(super) fn beyond(self, rig: &Capability, amps: f64) -> Option<String> {
        let Self::Port { per_ampere, dimension } = self else { return None };
        let currents = rig.currents.iter().filter(|c| c.meaning == *PORT);
        let currents = currents.map(|c| Quantity::of(c.range));
        let voltages = rig.voltages.iter().filter(|c| c.meaning == *PORT);
        let voltages = voltages.map(|c| Quantity::of(c.range));
        let range = currents.chain(voltages).find(|range| range.dimension == dimension)?;
        let si = amps * per_ampere;
        (si > range.si * (1.0 + 1e-9)).then(|| {
            format!(
                "{} at the test port is more than the rig's {range}",
                Quantity { si, dimension }
            )
        })
    }

    /// What stands at the port for a current, to be told with it.
    pub(super) fn told(self, fed: Values, amps: f64) -> Values {
        match self {
            Self::Poles => fed,
            Self::Port { per_ampere, dimension } => {
                fed.with_quantity("port", Quantity { si: amps * per_ampere, dimension })
            }
        }
    }

    /// The contacts that tell of a trip: nothing interrupts what only stands for a current.
    pub(super) fn watched(self) -> &'static [&'static str] {
        match self {
            Self::Poles => &[AUXILIARY, FLOWS],
            Self::Port { .. } => &[AUXILIARY],
        }
    }

    /// The current that still flows, where it is the current itself.
    pub(super) fn flowing(self, rig: &Capability) -> Option<Probe> {
        flowing(rig).filter(|_| self == Self::Poles)
    }

    /// Whether a trip would be seen; that it tripped at all the unit may tell itself.
    ///
    /// # Errors
    /// The rig has neither.
    pub(super) fn sees_trips(self, rig: &Capability) -> Result<(), SetupError> {
        let sees = self.watched().iter().any(|signal| rig.sees(&(*signal).into()));
        if sees || (self != Self::Poles && rig.reading(TRIPPED).is_some()) {
            return Ok(());
        }
        let all: Vec<String> = self.watched().iter().map(|s| format!("`{s}`")).collect();
        let lacks = format!("no input for {}: no trip would be seen", all.join(", nor for "));
        Err(SetupError::Lacks { lacks, what: "inputs" })
    }
}

fn lacks() -> SetupError {
    SetupError::Lacks { lacks: format!("no output for `{PORT}`"), what: "outputs" }
}
