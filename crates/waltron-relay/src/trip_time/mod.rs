//! Trip time: pre-fault, fault, and the time until the trip contact closes.

mod again;
mod shot;

pub(crate) use again::grade_again;

use crate::Overcurrent;
use crate::setup::{overcurrent, phase_current, switched_off};
use std::collections::HashSet;
use std::sync::Arc;
use waltron_core::asset::{Asset, Element, Function, Longest};
use waltron_core::characteristic::{Acceptance, earliest_of, spread};
use waltron_core::grading::{Finding, PointId, Values};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment, Stop};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{
    Action, Answer, Bench, Carried, Injection, Planned, PlannedPoint, Procedure, Question,
    SetupError,
};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Current, Dimension, Measure, Time, seconds, text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;

/// How much current a point injects.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Level {
    /// A multiple of the element's pickup.
    Multiple(f64),
    /// What the element is to see, in secondary amperes.
    Absolute(Current),
}

impl Level {
    /// The value the element is to see.
    pub fn seen(self, pickup: Current) -> Current {
        match self {
            Self::Multiple(m) => pickup * m,
            Self::Absolute(i) => i,
        }
    }

    /// A short label for ids: `2x`, `3A`.
    pub fn label(self) -> String {
        match self {
            Self::Multiple(m) => format!("{}x", waltron_core::quantity::significant(m, 6)),
            Self::Absolute(i) => text(i).replace(' ', ""),
        }
    }
}

/// What a trip-time test is told to do.
#[derive(Clone, Debug, PartialEq)]
pub struct TripTimeSettings {
    /// The test's id.
    pub test: Name,
    /// The element under test.
    pub element: Name,
    /// Loops to inject.
    pub loops: Vec<FaultLoop>,
    /// Levels to inject on each loop.
    pub at: Vec<Level>,
    /// How often each point is injected.
    pub repeat: u32,
    /// Balanced load current before inception.
    pub prefault: Option<Current>,
    /// How long the pre-fault state lasts.
    pub prefault_time: Time,
    /// Time with outputs off before each point, besides the element's own reset time.
    pub rest: Time,
    /// How long to wait where no operation is expected; derived from the curve if not given.
    pub wait: Option<Time>,
    /// Ask for a reset after each operation, for latched contacts.
    pub ask_reset: bool,
    /// Grade whatever closes the contact first, instead of the element alone.
    pub of_contact: bool,
}

const FAULT: &str = "fault";

/// Longest wait below pickup that is derived without being told.
const LONGEST_DERIVED_WAIT_S: f64 = 60.0;

/// A point; repeats of one level share everything but their ids.
struct Shot {
    point: PointId,
    body: Arc<Body>,
}

/// What is injected for a point, and what is required of it.
struct Body {
    stimulus: Values,
    band: Acceptance,
    /// The element whose time is expected, where it is not the one under test.
    overtaken_by: Option<Name>,
    program: Arc<Program>,
    /// Why the element cannot be told from what else closes the contact, if so.
    ambiguous: Option<String>,
    /// How long must be waited for it to be told that nothing operates.
    needed: Time,
    /// What makes the current uncertain, and by which share.
    causes: Vec<(Cause, f64)>,
    /// How far the expected time moves along the curve, for one share of the current.
    slope: Time,
}

/// The trip-time procedure.
pub struct TripTime {
    shots: Vec<Shot>,
    at: usize,
    reset_due: bool,
    ask_reset: bool,
    of_contact: bool,
    trip: Name,
    capability: Capability,
    not_tested: Option<String>,
}

impl TripTime {
    /// Sets the test up for an asset on a rig.
    ///
    /// # Errors
    /// [`SetupError`]: an element that is not visible on a loop or not wired, a point given twice.
    ///
    /// # Panics
    /// Never; an element that the asset lacks gives a test without points, which the plan's
    /// loading has refused before.
    pub fn try_new(settings: &TripTimeSettings, bench: Bench<'_>) -> Result<Self, SetupError> {
        let Some(element) = &overcurrent(bench.asset, &settings.element) else {
            return Ok(Self::without_points());
        };
        if !bench.capability.sees(&element.trip) {
            return Err(SetupError::NotWired {
                element: element.id.clone(),
                signal: element.trip.clone(),
            });
        }
        let mut shots: Vec<Shot> = Vec::new();
        let mut ids = HashSet::new();
        for &fault_loop in &settings.loops {
            for &level in &settings.at {
                let body = Arc::new(body(settings, bench, element, fault_loop, level)?);
                let id = format!("{}/{fault_loop}/{}", settings.test, level.label());
                if !ids.insert(id.clone()) {
                    return Err(SetupError::Twice { point: level.label() });
                }
                for round in 1..=settings.repeat {
                    let id = if settings.repeat > 1 { format!("{id}#{round}") } else { id.clone() };
                    let (test, element) = (settings.test.clone(), Some(element.id.clone()));
                    let point = PointId { id, test, element, fault_loop: Some(fault_loop) };
                    shots.push(Shot { point, body: Arc::clone(&body) });
                }
            }
        }
        Ok(Self {
            shots,
            at: 0,
            reset_due: false,
            ask_reset: settings.ask_reset,
            of_contact: settings.of_contact,
            trip: element.trip.clone(),
            capability: bench.capability.clone(),
            not_tested: switched_off(element),
        })
    }

    /// A test without points.
    pub(crate) fn without_points() -> Self {
        Self {
            shots: Vec::new(),
            at: 0,
            reset_due: false,
            ask_reset: false,
            of_contact: false,
            trip: "".into(),
            capability: Capability::none(),
            not_tested: None,
        }
    }
}

fn body(
    settings: &TripTimeSettings,
    bench: Bench<'_>,
    element: &Element<Overcurrent>,
    fault_loop: FaultLoop,
    level: Level,
) -> Result<Body, SetupError> {
    let (Bench { asset, capability }, frequency) = (bench, bench.frequency()?);
    let seen = level.seen(element.pickup);
    let current = phase_current(element, fault_loop, seen)?;
    let phasors = fault_loop.currents(current);
    let fault = Stimulus::phase_currents(phasors, frequency);
    let own = element.required(&fault);
    let rivals = asset.rivals(&element.trip, &element.id, &fault);
    let (mut band, mut overtaken_by, mut ambiguous) = (own, None, None);
    if settings.of_contact {
        band = earliest_of(std::iter::once(own).chain(rivals.iter().map(|(_, band)| *band)));
        let first = |(_, other): &&(Name, Acceptance)| {
            other.expected.is_some() && other.expected == band.expected && band != own
        };
        overtaken_by = rivals.iter().find(first).map(|(id, _)| id.clone());
    }
    let needed = needed(element, &band);
    let wait = wait(settings, needed, &band, current, asset);
    if !settings.of_contact {
        // Up to when an operation is the element's own, or any operation counts against it.
        let until = own.latest.unwrap_or(wait);
        let may_come =
            |(_, other): &&(Name, Acceptance)| other.earliest.is_some_and(|t| t <= until);
        ambiguous = rivals.iter().find(may_come).map(|(id, other)| {
            format!(
                "{id} may operate from {} on, on the same contact `{}`; `of = \"contact\"` grades the contact",
                other.earliest.map(text).unwrap_or_default(),
                element.trip
            )
        });
    }
    let rest = settings.rest + asset.longest_reset();
    let mut segments = vec![Segment::hold("rest", Stimulus::off(), rest)];
    if let Some(load) = settings.prefault {
        let balanced = Stimulus::phase_currents(FaultLoop::ABC.currents(load), frequency);
        healthy(load, &balanced, &element.trip, asset)?;
        segments.push(Segment::hold("pre-fault", balanced, settings.prefault_time));
    }
    let share = capability.share_of(&fault, Dimension::CURRENT).unwrap_or(0.0);
    let expected_at = |factor: f64| {
        let out = fault.with_currents(factor);
        if !settings.of_contact {
            return element.required(&out).expected;
        }
        earliest_of(asset.tripping(&element.trip).map(|e| e.required(&out))).expected
    };
    let slope = if share > 0.0 { spread(expected_at, share) / share } else { seconds(0.0) };
    let causes = capability.causes_of(&fault, Dimension::CURRENT);
    segments.push(
        Segment::hold(FAULT, fault, wait).until(Stop::on_contact(element.trip.clone(), true)),
    );
    let stimulus = Values::none().with("multiple", seen / element.pickup).with("current", current);
    let program = Arc::new(Program::of(segments));
    Ok(Body { stimulus, band, overtaken_by, program, ambiguous, needed, causes, slope })
}

/// A time as a person would write it: three digits, and no less.
fn round_up(time: Time) -> Time {
    let digit = 10f64.powf(time.si().log10().floor() - 2.0);
    if digit.is_normal() {
        seconds(((time.si() / digit - 1e-9).ceil() * digit * 1e9).round() / 1e9)
    } else {
        time
    }
}

/// How long must be waited for the contact: less would not tell that nothing operates.
fn needed(element: &Element<Overcurrent>, band: &Acceptance) -> Time {
    round_up(match band {
        // Well past the latest time, so that a slow trip is measured rather than missed.
        Acceptance { latest: Some(latest), .. } => *latest * 1.5 + seconds(1.0),
        // Nothing is required, operation is allowed: long enough to see it if it comes as expected.
        // However long that is: one that comes too early must be seen.
        Acceptance { expected: Some(expected), .. } => (*expected * 1.5).max(seconds(1.0)),
        Acceptance { earliest: Some(earliest), .. } => (*earliest * 1.5).max(seconds(1.0)),
        // No operation allowed: as long as the element would take with its pickup 20 % off.
        _ => element
            .characteristic
            .operate_time(1.2_f64.max(element.characteristic.operates_from()))
            .map_or(seconds(1.0), |t| (t * 1.2).max(seconds(1.0)))
            .min(seconds(LONGEST_DERIVED_WAIT_S)),
    })
}

/// How long to wait for the contact before giving up.
fn wait(
    settings: &TripTimeSettings,
    needed: Time,
    band: &Acceptance,
    current: Current,
    asset: &Asset,
) -> Time {
    let wanted = match (settings.wait, band.latest) {
        (Some(wait), None) => wait,
        _ => needed,
    };
    // A high current may not be held that long; never shorter than what the verdict needs.
    match (asset.ratings.currents.longest(current), band.latest) {
        (Longest::For(allowed), Some(latest)) if wanted > allowed => {
            (allowed * 0.999).max(latest * 1.02)
        }
        (Longest::For(allowed), None) => wanted.min(allowed * 0.999),
        _ => wanted,
    }
}

/// A healthy state in which something operates already, or begins to count, is none.
fn healthy(load: Current, out: &Stimulus, trip: &Name, asset: &Asset) -> Result<(), SetupError> {
    let counts = |band: Acceptance| band.expected.is_some() || band.earliest.is_some();
    match asset.tripping(trip).find(|element| counts(element.required(out))) {
        None => Ok(()),
        Some(element) => Err(SetupError::Unknown(format!(
            "the pre-fault of {} may start {}, whose setting is {}: its time would count from there; give a lower `prefault`",
            text(load),
            element.id,
            element.setting()
        ))),
    }
}

/// Under which name it is handed on that a contact may have latched.
fn latched(trip: &Name) -> String {
    format!("relay latched {trip}")
}

impl Procedure for TripTime {
    fn foreseen(&self) -> Vec<Finding> {
        let certain = self.shots.iter().filter(|shot| shot.body.ambiguous.is_none());
        certain.filter_map(|shot| shot.foreseen(&self.trip, &self.capability)).collect()
    }

    fn script(&self) -> Option<String> {
        if let Some(reason) = &self.not_tested {
            return Some(format!("# not tested: {reason}\n"));
        }
        let shots: Vec<String> = self
            .shots
            .iter()
            .map(|s| s.script(&self.trip, self.ask_reset, self.of_contact))
            .collect();
        Some(shots.join("\n"))
    }

    fn planned(&self) -> Vec<Planned> {
        self.shots
            .iter()
            .map(|shot| {
                let fault_time = shot.body.program.segments.last().and_then(Segment::longest);
                let before = shot.body.program.longest().unwrap_or_default()
                    - fault_time.unwrap_or_default();
                Planned {
                    points: vec![PlannedPoint::certain(shot.point.clone(), shot.criterion())],
                    stimulus: shot.body.stimulus.clone(),
                    expected: shot.expected(),
                    limits: shot.limits(),
                    program: shot.body.program.clone(),
                    likely: before + shot.body.band.expected.or(fault_time).unwrap_or_default(),
                    place: None,
                    is_exact: true,
                    also: Vec::new(),
                    not_tested: self.not_tested.clone().or_else(|| shot.body.ambiguous.clone()),
                }
            })
            .collect()
    }

    fn next(&mut self) -> Action {
        if let Some(reason) = &self.not_tested {
            let shots = std::mem::take(&mut self.shots);
            if shots.is_empty() {
                return Action::Done;
            }
            return Action::Conclude(
                shots
                    .into_iter()
                    .map(|s| {
                        let criterion = s.criterion();
                        Finding::not_tested(
                            s.point,
                            criterion,
                            s.body.stimulus.clone(),
                            reason.clone(),
                        )
                    })
                    .collect(),
            );
        }
        match self.shots.get(self.at) {
            // Whatever latched spoils the first point of the next test as well.
            _ if self.reset_due => Action::Ask(Question::confirm("Reset the relay")),
            None => Action::Done,
            Some(shot) if shot.body.ambiguous.is_some() => {
                let why = shot.body.ambiguous.clone().unwrap_or_default();
                let found = shot.not_tested(&why);
                self.at += 1;
                Action::Conclude(vec![found])
            }
            Some(shot) => Action::Inject(Arc::clone(&shot.body.program)),
        }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at) else { return Vec::new() };
        let grade = shot.grade(observation, &self.trip, &self.capability);
        self.at += 1;
        // Whatever has closed it, it may have latched.
        let closed = observation.closed_at_start.contains(&self.trip)
            || observation.edges.iter().any(|e| e.signal == self.trip && e.closed);
        self.reset_due = self.ask_reset && closed;
        vec![grade]
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at) else { return Vec::new() };
        let found = shot.not_tested(reason);
        self.at += 1;
        vec![found]
    }

    fn injection(&self) -> Injection {
        let point = self.shots.get(self.at).map(|shot| shot.point.id.clone());
        let serves = point.iter().cloned().collect();
        Injection { point, part: FAULT.to_owned(), serves }
    }

    fn answer(&mut self, _answer: Answer) {
        self.reset_due = false;
    }

    fn take_over(&mut self, carried: &Carried) {
        let is_latched = carried.get(&latched(&self.trip)).is_some_and(|is| *is != 0.0);
        self.reset_due |= self.ask_reset && is_latched && !self.shots.is_empty();
    }

    fn hand_on(&self, carried: &mut Carried) {
        if self.ask_reset {
            carried.insert(latched(&self.trip), f64::from(u8::from(self.reset_due)));
        }
    }

    fn hand_on_if_cut(&self, carried: &mut Carried) {
        if self.ask_reset {
            carried.insert(latched(&self.trip), 1.0);
        }
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        self.shots.retain(|shot| wanted(&shot.point));
    }

    fn repeat(&mut self) {
        self.at = self.at.saturating_sub(1);
    }
}
