//! Exciting currents at high voltage, phase by phase, against the pattern that the connection makes.

use super::exciting::{Exciting, is_of_two};
use super::joint::{Joint, Step, Stepped, Stepwise};
use super::positions::{self, Positions, as_stands, prefix};
use super::volts;
use crate::measure::{point, probe, voltage};
use crate::power::asset::{PowerTransformer, Stand};
use crate::power::pairs::Shot;
use crate::power::procedure::arising::arising;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::Values;
use waltron_core::injection::measuring::Property;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Measure, Voltage, seconds};
use waltron_core::text::document::{Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::Name;

/// The exciting current of each phase with a high voltage on one winding and the others open.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExcitingCurrentKeys {
    /// The number of the winding that is fed; 1, the high-voltage one, if not given.
    winding: Option<Spannable<u8>>,
    /// What is fed; the highest round voltage that winding and rig allow, 10 kV at most, if not given.
    voltage: Option<QuantityText<Voltage>>,
    /// Positions of the tap changer, by label, or `5..9` for a range; the principal one if not given.
    positions: Option<Vec<Text>>,
}

/// A test of exciting currents with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ExcitingCurrentTest {
    test: Name,
    winding: u8,
    voltage: Option<Voltage>,
    positions: Positions,
}

/// What the segments are called.
const FED: &str = "excite";

/// How long a phase is fed: until the first flux has settled, and a window.
const TIME_S: f64 = 1.0;

/// What is fed at most where the plan does not say, in V.
const USUAL_V: f64 = 10e3;

impl FamilyKeys for ExcitingCurrentKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let winding = super::winding(of, self.winding.as_ref(), 1, &head, problems)?;
        let voltage = match &self.voltage {
            Some(text) => Some(text.positive(problems)?),
            None => None,
        };
        let positions = match &self.positions {
            Some(list) => positions::read(of, Some(list), None, false, &[winding], problems)?,
            None => Positions::All,
        };
        let positions = match positions {
            Positions::All => Positions::principal(of),
            chosen => chosen,
        };
        let test = ExcitingCurrentTest { test: head.name(), winding, voltage, positions };
        Some(Arc::new(Stepped(test)))
    }
}

impl ExcitingCurrentTest {
    /// What is fed of each phase.
    fn shots(&self, of: &PowerTransformer) -> Result<[Shot; 3], SetupError> {
        let other = of.windings.iter().map(|w| w.number).find(|n| *n != self.winding);
        let shots = other.and_then(|other| of.limbs().shots(self.winding, other));
        shots.ok_or_else(|| SetupError::Unknown("this winding has no pairs to be fed".to_owned()))
    }

    fn volts(
        &self,
        of: &PowerTransformer,
        stands: &[Stand],
        shot: &Shot,
        range: f64,
    ) -> Result<Voltage, SetupError> {
        let rated = stands.iter().map(|s| of.volts(self.winding, s)).fold(f64::INFINITY, f64::min);
        // What a pair is rated for, and no terminal more than its line is to earth.
        let to_earth = rated / 3f64.sqrt();
        let most = (rated * shot.fed_share).min(to_earth).min(range);
        volts(self.voltage, most, USUAL_V, &shot.fed)
    }
}

impl Stepwise for ExcitingCurrentTest {
    const WORD: &'static str = "exciting-current";
    const SEE_TO: &'static [&'static str] = &[
        "While exciting currents are measured leave all other windings open, and their neutrals as they are in service",
        "Exciting currents are measured before anything magnetises the core",
    ];

    fn joint(&self, of: &PowerTransformer, bench: Bench<'_>) -> Result<Joint, SetupError> {
        let rig = bench.capability;
        let current = probe(rig, &["measured current"], Property::Phasor)?;
        let fed = probe(rig, &["high voltage"], Property::Phasor)?;
        let shots = self.shots(of)?;
        let stands = self.positions.stands(of);
        let output = rig.voltages.iter().find(|c| c.meaning == *"high voltage");
        let range = output.map_or(USUAL_V, |c| c.range.si());
        let volts = self.volts(of, &stands, &shots[0], range)?;
        let stimulus = Values::none().with("voltage", volts);
        let (mut steps, mut groups) = (Vec::new(), Vec::new());
        for stand in &stands {
            let first = steps.len();
            for shot in &shots {
                let out = voltage(rig, "high voltage", volts, bench.frequency()?)?;
                let mut program = Program::of(vec![Segment::hold(FED, out, seconds(TIME_S))]);
                program.reads = vec![fed.clone(), current.clone()];
                program.connection = Some(shot.fed.to_string().as_str().into());
                program.stands = as_stands(of, stand);
                let mut step = Step::of(program, stimulus.clone(), seconds(TIME_S));
                step.planned.also = arising(of, &stands, (self.winding, &shots), volts);
                steps.push(step);
            }
            let id = point(&self.test, &format!("{}exciting", prefix(of, stand)));
            let is_of_two = is_of_two(&of.limbs(), &shots);
            let exciting = Exciting::new(id, stimulus.clone(), of.allowed.exciting, is_of_two);
            groups.push(exciting.group((first..first + 3).collect(), current.clone()));
        }
        Ok(Joint::new(steps, groups))
    }
}
