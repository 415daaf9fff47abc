//! Pickup: a stair up to operation, then down to reset; pulses where another stage would trip.

mod again;
mod grade;
mod script;
mod way;

use crate::Overcurrent;
use crate::setup::{overcurrent, phase_current, switched_off};
pub(super) use again::grade_again;
use waltron_core::asset::Element;
use waltron_core::grading::{Criterion, Finding, Limits, PointId, Value, Values};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{
    Condition, Profile, Program, Rest, Segment, Stairs, Stop, Then,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{
    Action, Answer, Bench, Injection, Planned, PlannedPoint, Procedure, SetupError,
};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Current, Dimension, Measure, Time, seconds, text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};
use way::{Way, way};

/// What a pickup test is told to do.
#[derive(Clone, Debug, PartialEq)]
pub struct PickupSettings {
    /// The test's id.
    pub test: Name,
    /// The element under test.
    pub element: Name,
    /// Loops to inject.
    pub loops: Vec<FaultLoop>,
    /// First level, as a multiple of pickup.
    pub from: f64,
    /// Last level, as a multiple of pickup.
    pub to: f64,
    /// Step, as seen by the element; a fifth of the pickup tolerance if not given.
    pub step: Option<Current>,
    /// Time on each level; by the element's own start time if not given.
    pub dwell: Option<Time>,
    /// Time with outputs off before each ramp, besides the element's own reset time.
    pub rest: Time,
}

/// Picks up at the set value.
pub const PICKUP: Criterion = Criterion::named("pickup");

/// Drops out at the declared share of pickup.
pub const RESET_RATIO: Criterion = Criterion::named("reset_ratio");

/// Most levels of a ramp.
const MOST_LEVELS: u32 = 100_000;

/// Why pulses give no reset ratio.
const ON_PULSES: &str = "seen on pulses only, which do not show the dropout";

const UP: &str = "ramp up";
const HOLD: &str = "picked up";
const DOWN: &str = "ramp down";

struct Ramp {
    pickup_point: PointId,
    reset_point: Option<PointId>,
    /// Phase current per ampere that the element sees.
    scale: f64,
    fault_loop: FaultLoop,
    way: Way,
    from: Current,
    to: Current,
    step: Current,
}

/// Where a contact changed on a stair.
///
/// The contact answers to a value between the level that was out when it changed and the one before:
/// the middle is the estimate, and half a step is part of its uncertainty.
#[derive(Clone, Debug)]
struct Turn {
    seen: Current,
    /// The same with what makes it uncertain: the step, and what puts the current out.
    estimate: Estimate,
}

enum State {
    Up,
    Down { pickup: Turn },
}

/// The pickup procedure.
pub struct Pickup {
    element: Option<Element<Overcurrent>>,
    capability: Capability,
    frequency: waltron_core::quantity::Frequency,
    rest: Time,
    ramps: Vec<Ramp>,
    at: usize,
    state: State,
    not_tested: Option<String>,
}

impl Pickup {
    /// Sets the test up for an asset on a rig.
    ///
    /// # Errors
    /// [`SetupError`]: an element that is not visible on a loop or not wired.
    pub fn try_new(settings: &PickupSettings, bench: Bench<'_>) -> Result<Self, SetupError> {
        let found = overcurrent(bench.asset, &settings.element);
        let mut ramps = Vec::new();
        if let Some(element) = &found {
            for &fault_loop in &settings.loops {
                ramps.push(ramp(settings, bench, element, fault_loop)?);
            }
        }
        Ok(Self {
            capability: bench.capability.clone(),
            frequency: bench.frequency()?,
            rest: settings.rest + bench.asset.longest_reset(),
            ramps,
            at: 0,
            state: State::Up,
            not_tested: found.as_ref().and_then(switched_off),
            element: found,
        })
    }
}

/// Steps that cover a span, at least one; a whole number is not rounded up by its last bit.
fn whole_steps(span: f64) -> f64 {
    (span - 1e-9).ceil().max(1.0)
}

fn ramp(
    settings: &PickupSettings,
    bench: Bench<'_>,
    element: &Element<Overcurrent>,
    fault_loop: FaultLoop,
) -> Result<Ramp, SetupError> {
    let scale = phase_current(element, fault_loop, element.pickup)?.si() / element.pickup.si();
    let tolerance = element.tolerances.current.upper(element.pickup) - element.pickup;
    let step = settings.step.unwrap_or_else(|| {
        let fifth = tolerance / 5.0;
        if fifth.si() > 0.0 { fifth } else { element.pickup * 0.005 }
    });
    let from = element.pickup * settings.from;
    let steps = whole_steps(((element.pickup * settings.to - from) / step).value);
    if steps > f64::from(MOST_LEVELS) {
        let (from, to, step) = (text(from), text(element.pickup * settings.to), text(step));
        return Err(SetupError::TooManyLevels { from, to, step, most: MOST_LEVELS });
    }
    let to = from + step * steps;
    let range = [from * scale, to * scale];
    let way = way(settings.dwell, bench, element, fault_loop, range)?;
    let point = |suffix: &str| PointId {
        id: format!("{}/{fault_loop}{suffix}", settings.test),
        test: settings.test.clone(),
        element: Some(element.id.clone()),
        fault_loop: Some(fault_loop),
    };
    Ok(Ramp {
        pickup_point: point(""),
        reset_point: element.reset_ratio.map(|_| point("/reset")),
        scale,
        fault_loop,
        way,
        from,
        to,
        step,
    })
}

impl Ramp {
    fn stimulus(&self, seen: Current, frequency: waltron_core::quantity::Frequency) -> Stimulus {
        let currents = self.fault_loop.currents(seen * self.scale);
        Stimulus::phase_currents(currents, frequency)
    }

    fn stairs(
        &self,
        [from, to]: [Current; 2],
        dwell: Time,
        rest: Option<Rest>,
        frequency: waltron_core::quantity::Frequency,
    ) -> Stairs {
        let steps = ((to - from).abs() / self.step).value.round().max(1.0) as u32;
        let (from, to) = (self.stimulus(from, frequency), self.stimulus(to, frequency));
        Stairs { from, to, steps, dwell, rest }
    }

    /// How long each level lasts, where the ramp can be seen.
    fn dwell(&self) -> Option<Time> {
        match &self.way {
            Way::Stairs { dwell, .. } => Some(*dwell),
            Way::Pulses { pulse, .. } => Some(*pulse),
            Way::Hidden(_) => None,
        }
    }

    fn values(&self) -> Values {
        Values::none()
            .with("from_current", self.from)
            .with("to_current", self.to)
            .with("step_current", self.step)
    }

    /// What the element answered to when a contact changed; `Err` with the level where that is the
    /// first one, which tells nothing.
    fn estimate(
        &self,
        program: &Program,
        name: &str,
        observation: &Observation,
        edge: Time,
        capability: &Capability,
    ) -> Option<Result<Turn, Current>> {
        let index = program.position(name)?;
        let start = observation.segments.get(index)?.start;
        let Profile::Stairs(stairs) = &program.segments[index].profile else { return None };
        let seen = |s: &Stimulus| FaultLoop::largest_phase(s.complex_phase_currents()) / self.scale;
        let number = stairs.level_at(edge - start);
        let level = stairs.level(number);
        if number == 0 {
            return Some(Err(seen(&level)));
        }
        let before = seen(&stairs.level(number - 1));
        let middle = (seen(&level) + before) / 2.0;
        let half = Value::of((seen(&level) - before).abs() / 2.0);
        let estimate = Estimate::exact(middle.si())
            .with_shares(capability.causes_of(&level, Dimension::CURRENT), middle.si())
            .with(Cause::limit(format!("step of the {name}"), half), 1.0);
        Some(Ok(Turn { seen: middle, estimate }))
    }
}

fn ramp_segment(name: &str, stairs: Stairs, signal: &Name, closed: bool) -> Segment {
    let until =
        Stop { when: Condition::Contact { signal: signal.clone(), closed }, then: Then::End };
    Segment::new(name, Profile::Stairs(stairs), vec![until])
}

impl Pickup {
    fn up(&self, ramp: &Ramp) -> Option<(Program, Name)> {
        let (signal, dwell, rest) = match &ramp.way {
            Way::Stairs { signal, dwell } => (signal, *dwell, None),
            Way::Pulses { signal, pulse, rest } => {
                (signal, *pulse, Some(Rest { stimulus: Stimulus::off(), time: *rest }))
            }
            Way::Hidden(_) => return None,
        };
        let stairs = ramp.stairs([ramp.from, ramp.to], dwell, rest, self.frequency);
        let segments = vec![
            Segment::hold("rest", Stimulus::off(), self.rest),
            ramp_segment(UP, stairs, signal, true),
        ];
        Some((Program::of(segments), signal.clone()))
    }

    fn down(&self, ramp: &Ramp, pickup: Current) -> Option<(Program, Name)> {
        let Way::Stairs { signal, dwell } = &ramp.way else { return None };
        let declared = self.element.as_ref()?.reset_ratio?.value;
        let top = (pickup + ramp.step * 4.0).min(ramp.to.max(pickup));
        let steps = whole_steps(((top - pickup * (declared * 0.85)) / ramp.step).value);
        let bottom = (top - ramp.step * steps).max(Current::from_si(0.0));
        let hold = Segment::hold(HOLD, ramp.stimulus(top, self.frequency), dwell.max(seconds(0.5)));
        let stairs = ramp.stairs([top, bottom], *dwell, None, self.frequency);
        let segments = vec![
            Segment::hold("rest", Stimulus::off(), self.rest),
            hold,
            ramp_segment(DOWN, stairs, signal, false),
        ];
        Some((Program::of(segments), signal.clone()))
    }

    fn why_not(&self, ramp: &Ramp) -> Option<String> {
        self.not_tested.clone().or_else(|| match &ramp.way {
            Way::Hidden(reason) => Some(reason.clone()),
            _ => None,
        })
    }

    fn limits(&self) -> Option<(Current, Current, Current)> {
        let e = self.element.as_ref()?;
        let t = &e.tolerances.current;
        Some((e.pickup, t.lower(e.pickup), t.upper(e.pickup)))
    }

    fn expected_and_limits(&self) -> (Values, Limits) {
        let Some((pickup, lower, upper)) = self.limits() else { return Default::default() };
        (
            Values::none().with("current", pickup),
            Limits::Between { lower: Some(Value::of(lower)), upper: Some(Value::of(upper)) },
        )
    }

    fn advance(&mut self) {
        self.at += 1;
        self.state = State::Up;
    }
}

impl Procedure for Pickup {
    fn foreseen(&self) -> Vec<Finding> {
        let Some((pickup, ..)) = self.limits() else { return Vec::new() };
        let (expected, limits) = self.expected_and_limits();
        let shown = self.ramps.iter().filter(|ramp| self.why_not(ramp).is_none());
        let at_setting = shown.map(|ramp| {
            let out = ramp.stimulus(pickup, self.frequency);
            let step = Cause::limit("step of the ramp", Value::of(ramp.step / 2.0));
            let estimate = Estimate::exact(pickup.si())
                .with_shares(self.capability.causes_of(&out, Dimension::CURRENT), pickup.si())
                .with(step, 1.0);
            let (point, measured) = (ramp.pickup_point.clone(), expected.clone());
            let found = Finding::not_tested(point, PICKUP, ramp.values(), "");
            Finding { measured, limits: limits.clone(), ..found }.uncertain(&estimate)
        });
        at_setting.collect()
    }

    fn script(&self) -> Option<String> {
        let ramps: Vec<String> = self.ramps.iter().map(|r| self.ramp_script(r)).collect();
        Some(ramps.join("\n"))
    }

    fn planned(&self) -> Vec<Planned> {
        let (expected, limits) = self.expected_and_limits();
        self.ramps
            .iter()
            .flat_map(|ramp| {
                let up_point = (ramp.pickup_point.clone(), PICKUP);
                let reset_point = ramp.reset_point.clone().map(|p| (p, RESET_RATIO));
                // What pulses cannot show is told before, apart from what they can.
                let (reset_point, hidden) = match &ramp.way {
                    Way::Pulses { .. } => (None, reset_point),
                    _ => (reset_point, None),
                };
                let points = std::iter::once(up_point).chain(reset_point);
                let points = points.map(|(p, c)| PlannedPoint::certain(p, c)).collect();
                let up = self.up(ramp).map(|(p, _)| p).unwrap_or_default();
                let down = self.down(ramp, ramp.to).map(|(p, _)| p).unwrap_or_default();
                // The ramp is likely to stop a little past the setting.
                let share = self.limits().map_or(1.0, |(setting, _, _)| {
                    ((setting - ramp.from) / (ramp.to - ramp.from)).value.clamp(0.0, 1.0)
                });
                let worst = |p: &Program| p.longest().unwrap_or_default();
                let shown = Planned {
                    points,
                    stimulus: ramp.values(),
                    expected: expected.clone(),
                    limits: limits.clone(),
                    likely: worst(&up) * share + worst(&down) * 0.5,
                    program: Program::of([up.segments, down.segments].concat()).into(),
                    place: None,
                    is_exact: true,
                    also: Vec::new(),
                    not_tested: self.why_not(ramp),
                };
                let hidden = hidden.map(|(point, criterion)| Planned {
                    points: vec![PlannedPoint::certain(point, criterion)],
                    stimulus: ramp.values(),
                    expected: Values::none(),
                    limits: Limits::None,
                    likely: seconds(0.0),
                    program: Program::default().into(),
                    place: None,
                    is_exact: true,
                    also: Vec::new(),
                    not_tested: Some(ON_PULSES.to_owned()),
                });
                std::iter::once(shown).chain(hidden)
            })
            .collect()
    }

    fn next(&mut self) -> Action {
        let Some(ramp) = self.ramps.get(self.at) else { return Action::Done };
        if let Some(reason) = self.why_not(ramp) {
            let mut grades = vec![Finding::not_tested(
                ramp.pickup_point.clone(),
                PICKUP,
                ramp.values(),
                reason.clone(),
            )];
            grades.extend(
                ramp.reset_point
                    .clone()
                    .map(|p| Finding::not_tested(p, RESET_RATIO, ramp.values(), reason)),
            );
            self.advance();
            return Action::Conclude(grades);
        }
        let program = match self.state {
            State::Up => self.up(ramp),
            State::Down { ref pickup } => self.down(ramp, pickup.seen),
        };
        program.map_or(Action::Done, |(program, _)| Action::Inject(program.into()))
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let Some(ramp) = self.ramps.get(self.at) else { return Vec::new() };
        if let State::Down { pickup } = &self.state {
            let grade =
                ramp.reset_point.clone().map(|p| self.grade_reset(ramp, p, pickup, observation));
            self.advance();
            return grade.into_iter().collect();
        }
        let (grade, pickup) = self.grade_pickup(ramp, observation);
        let mut grades = vec![grade];
        let was_found = pickup.is_some();
        if let (Some(pickup), Some(_), Way::Stairs { .. }) = (pickup, &ramp.reset_point, &ramp.way)
        {
            self.state = State::Down { pickup };
            return grades;
        }
        if let Some(point) = ramp.reset_point.clone() {
            let mut grade = self.reset_grade(ramp, point);
            if was_found {
                grade.reason = ON_PULSES.into();
            }
            grades.push(grade);
        }
        self.advance();
        grades
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        let Some(ramp) = self.ramps.get(self.at) else { return Vec::new() };
        let (expected, limits) = self.expected_and_limits();
        let values = ramp.values();
        let pickup = matches!(self.state, State::Up).then(|| Finding {
            expected,
            limits,
            ..Finding::not_tested(ramp.pickup_point.clone(), PICKUP, values, reason.to_owned())
        });
        let reset = ramp
            .reset_point
            .clone()
            .map(|point| Finding { reason: reason.to_owned(), ..self.reset_grade(ramp, point) });
        let found = pickup.into_iter().chain(reset).collect();
        self.advance();
        found
    }

    fn injection(&self) -> Injection {
        let point = self.ramps.get(self.at).map(|r| r.pickup_point.id.clone());
        let up = matches!(self.state, State::Up);
        // The reset ratio is that of the dropout to the pickup.
        let reset = self.ramps.get(self.at).and_then(|r| r.reset_point.as_ref());
        let serves = point.iter().filter(|_| up).chain(reset.map(|p| &p.id)).cloned().collect();
        Injection { point, part: if up { UP } else { DOWN }.to_owned(), serves }
    }

    fn answer(&mut self, _answer: Answer) {}

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        // A reset ratio needs its pickup; pulses do not show it.
        self.ramps.retain(|ramp| {
            let shows = !matches!(ramp.way, Way::Pulses { .. });
            wanted(&ramp.pickup_point) || shows && ramp.reset_point.as_ref().is_some_and(wanted)
        });
    }

    fn repeat(&mut self) {
        if matches!(self.state, State::Up) {
            self.at = self.at.saturating_sub(1);
        }
        self.state = State::Up;
    }
}
