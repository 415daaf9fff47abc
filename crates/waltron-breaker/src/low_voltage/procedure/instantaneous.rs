//! What is instantaneous: pulses of a few cycles that rise from outside the band until it opens within one.

use super::super::asset::{Acts, LvBreaker};
use super::shots::{Shooting, Shot, Shots, defeating, tripped_in_pulse};
use super::source::AUXILIARY;
use super::timed::{function, point, poles};
use super::way::{Through, Way};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Finding, Judgement, Limits, Value, Values, Verdict, judge_between};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{
    Condition, Profile, Program, Rest, Segment, Steps, Stop, Then,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Dimension, Measure, Quantity, Ratio, Time, seconds};
use waltron_core::text::document::{
    Field, Number, Problem, Problems, QuantityText, Spannable, Text,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// Pulses that rise until the breaker opens within one.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InstantaneousKeys {
    /// The first pulse as a share of the band's lower limit; 80 % if not given.
    from: Option<QuantityText<Ratio>>,
    /// By how much of the setting each pulse is higher; 5 % if not given.
    step: Option<QuantityText<Ratio>>,
    /// How many cycles a pulse lasts; 5 if not given.
    cycles: Option<Number>,
    /// The pause between two; 5 s if not given.
    pause: Option<QuantityText<Time>>,
    /// Poles; each if not given.
    poles: Option<Vec<Text>>,
    /// Through what: `poles`, or `test-port` (secondary injection); the poles if not given.
    through: Option<Spannable<Through>>,
}

/// A test of what is instantaneous with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Pulses {
    test: Name,
    from: f64,
    step: f64,
    cycles: f64,
    pause_s: f64,
    places: Vec<String>,
    way: Way,
}

impl FamilyKeys for InstantaneousKeys {
    type Family = LvBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &LvBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        function(Acts::Instantaneous, head, of, problems)?;
        let share = |field: &Option<QuantityText<Ratio>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(usual), |f| f.positive(problems).map(|r| r.value))
        };
        let (from, step) = (share(&self.from, 0.8, problems)?, share(&self.step, 0.05, problems)?);
        let odd = [
            (from >= 1.0, &self.from, "the first pulse lies below the band: less than 100 %"),
            (step < 1e-3, &self.step, "that would be more than a thousand pulses"),
        ];
        for (is, field, why) in odd {
            if let (true, Some(field)) = (is, field) {
                problems.push(Problem::new(field.span(), why));
                return None;
            }
        }
        let cycles = self.cycles.as_ref().map_or(Some(5.0), |n| n.positive(problems))?;
        let pause = self.pause.as_ref().map_or(Some(seconds(5.0)), |t| t.positive(problems))?;
        let places = poles(self.poles.as_deref(), of, problems)?;
        let (test, pause_s) = (head.name(), pause.si());
        let way = Way::read(self.through.as_ref(), head, of, problems)?;
        Some(Arc::new(Shots(Pulses { test, from, step, cycles, pause_s, places, way })))
    }
}

impl Shooting for Pulses {
    fn word(&self) -> &'static str {
        Acts::Instantaneous.key()
    }

    fn test(&self) -> &Name {
        &self.test
    }

    fn defeats(&self) -> bool {
        true
    }

    fn way(&self) -> Way {
        self.way
    }

    fn shots(&self, of: &LvBreaker, bench: Bench<'_>) -> Result<Vec<Shot>, SetupError> {
        if self.way != Way::Poles && !bench.capability.sees(&AUXILIARY.into()) {
            let lacks =
                format!("no input for `{AUXILIARY}`: nobody would see in which pulse it opened");
            return Err(SetupError::Lacks { lacks, what: "inputs" });
        }
        self.places.iter().map(|place| self.shot(of, place, bench)).collect()
    }
}

impl Pulses {
    fn shot(&self, of: &LvBreaker, place: &str, bench: Bench<'_>) -> Result<Shot, SetupError> {
        let (rig, frequency) = (bench.capability, bench.frequency()?);
        let lacks = |what: &str| SetupError::Unknown(what.to_owned());
        let function = of
            .function(Acts::Instantaneous)
            .ok_or_else(|| lacks("it has no function `instantaneous`"))?;
        let region = of
            .band
            .region(Acts::Instantaneous)
            .ok_or_else(|| lacks("its band has no region of `instantaneous`"))?;
        let setting = function.pickup_a;
        let (low, high) = (region.pickup.0 * setting, region.pickup.1 * setting);
        let pulse_s = self.cycles / frequency.si();
        // One pulse beyond the band, so that what opens too late is seen to do so.
        let first = self.from * low;
        let count = ((high - first) / (self.step * setting)).ceil() as usize + 1;
        let levels: Vec<f64> =
            (0..=count).map(|k| first + self.step * setting * k as f64).collect();
        let most = levels.last().copied().unwrap_or(first);
        let quicker = of.functions.iter().find(|f| {
            let is_other = !matches!(f.acts, Acts::Instantaneous | Acts::GroundFault);
            f.is_on && is_other && of.times(f, most).earliest < pulse_s
        });
        let not_tested =
            quicker.map(|f| format!("{} may trip within a pulse: fewer cycles", f.acts.words()));
        let way = self.way;
        let not_tested = not_tested.or_else(|| way.beyond(rig, most));
        let put = |amps: f64| way.put(rig, amps, most, frequency);
        let out = levels.iter().map(|amps| put(*amps)).collect::<Result<Vec<Stimulus>, _>>()?;
        let rest = Some(Rest { stimulus: put(0.0)?, time: seconds(self.pause_s) });
        let pulses_out = out.clone();
        let steps = Steps { levels: out, dwell: seconds(pulse_s), rest };
        let mut stops = Vec::new();
        if rig.sees(&AUXILIARY.into()) {
            let when = Condition::Edge { signal: AUXILIARY.into(), closed: false };
            stops.push(Stop { when, then: Then::Off });
        }
        let mut pulses = Segment::new("pulses", Profile::Steps(steps), stops);
        pulses.switches = defeating(rig);
        let mut program = Program::of(vec![pulses]);
        program.connection = Some(place.into());
        let at = point(&self.test, &format!("pickup/{place}"));
        let of_current = |si| Value::Plain(Quantity { si, dimension: Dimension::CURRENT });
        let limits =
            Limits::Between { lower: Some(of_current(low)), upper: Some(of_current(high)) };
        let stimulus =
            Values::none().with_value("from", of_current(first)).with_value("to", of_current(most));
        let stimulus = way.told(stimulus, most);
        let (fed, held, point) = (stimulus.clone(), limits.clone(), at.clone());
        let pause_s = self.pause_s;
        let rig = bench.capability.clone();
        let grade = move |seen: &Observation| {
            let found = Finding::not_tested(
                point.clone(),
                Acts::Instantaneous.criterion(),
                fed.clone(),
                "",
            );
            let found = Finding { limits: held.clone(), ..found };
            let Some((k, time)) = tripped_in_pulse(seen, pulse_s, pause_s, way) else {
                let why = format!(
                    "it did not open up to {}: function off, another plug, another setting",
                    Quantity { si: most, dimension: Dimension::CURRENT }
                );
                return vec![found.judged(Judgement::new(Verdict::Fail, why))];
            };
            let level = levels.get(k).copied().unwrap_or(most);
            let before = k.checked_sub(1).and_then(|k| levels.get(k)).copied();
            let of = |si| Quantity { si, dimension: Dimension::CURRENT };
            let after = Quantity { si: time, dimension: Dimension::TIME };
            let Some(before) = before else {
                let measured = Values::none().with_quantity("current", of(level));
                let found = Finding { measured: measured.with_quantity("time", after), ..found };
                let why =
                    format!("it opened in the first pulse already, {}: begin lower", of(level));
                return vec![found.judged(Judgement::new(Verdict::Fail, why))];
            };
            // It lies anywhere between the pulse that did and the one that did not.
            let (middle, half) = ((level + before) / 2.0, (level - before) / 2.0);
            let measured = Values::none().with_quantity("current", of(middle));
            let causes = pulses_out.get(k).map(|out| {
                let currents = rig.causes_of(out, Dimension::CURRENT);
                let voltages = || rig.causes_of(out, Dimension::VOLTAGE);
                if currents.is_empty() { voltages() } else { currents }
            });
            let estimate = Estimate::exact(middle)
                .with_shares(causes.unwrap_or_default(), middle)
                .with(Cause::limit("step of the pulses", Value::Plain(of(half))), 1.0);
            let found = Finding { measured: measured.with_quantity("time", after), ..found };
            let found = found.uncertain(&estimate);
            let judged = judge_between(of(middle), low, high);
            let told = format!("opened after {after} at {}, and not at {}", of(level), of(before));
            let reason = match judged.verdict {
                Verdict::Pass => told,
                _ => format!("{}; {told}", judged.reason),
            };
            vec![found.judged(Judgement::new(judged.verdict, reason))]
        };
        let trips =
            move |seen: &Observation| tripped_in_pulse(seen, pulse_s, pause_s, way).is_some();
        Ok(Shot {
            place: place.to_owned(),
            points: vec![(at, Acts::Instantaneous.criterion())],
            stimulus,
            limits,
            amps: most,
            most,
            likely: seconds(0.6 * count as f64 * (pulse_s + pause_s)),
            program: Arc::new(program),
            grade: Arc::new(grade),
            trips: Arc::new(trips),
            not_tested,
            foreseen: Vec::new(),
        })
    }
}
