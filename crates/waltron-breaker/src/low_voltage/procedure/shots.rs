//! Injections one after the other: a small current before the big one, and what somebody must do between.

use super::super::asset::LvBreaker;
use super::course::Course;
use super::source::{AUXILIARY, DEFEAT, FLOWS, current, impedance};
use super::unit::{self, CLOSED, GROUP, READY, TRIPPED};
use super::way::Way;
use std::fmt::Debug;
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Grade, Judgement, Limits, PointId, Values};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::text::name::Name;

/// What the connection lets through.
pub(crate) const CONNECTION: Criterion = Criterion::named("connection");

/// The share of its sensor that is put through a pole to look at the connection, and for how long, in s.
pub(super) const LOOK: (f64, f64) = (0.1, 0.4);

/// What a shot's injection has shown.
pub(super) type Grader = Arc<dyn Fn(&Observation) -> Vec<Finding> + Send + Sync>;

/// One injection of the big current.
#[derive(Clone)]
pub(super) struct Shot {
    /// The pole, or the pole and the neutral.
    pub(super) place: String,
    /// Its points: what each is graded by.
    pub(super) points: Vec<(PointId, Criterion)>,
    pub(super) stimulus: Values,
    pub(super) limits: Limits,
    /// Its largest current, in A.
    pub(super) amps: f64,
    /// The largest one of all shots at its place, in A: that decides which output makes them.
    pub(super) most: f64,
    pub(super) likely: Time,
    pub(super) program: Arc<Program>,
    pub(super) grade: Grader,
    /// Whether it has tripped.
    pub(super) trips: Arc<dyn Fn(&Observation) -> bool + Send + Sync>,
    /// Why it is not made at all.
    pub(super) not_tested: Option<String>,
    /// What its points come to where it trips in the middle of what is allowed, as far as that is known.
    pub(super) foreseen: Vec<Finding>,
}

/// A test that is a list of shots.
pub(super) trait Shooting: Debug + Send + Sync + PartialEq + 'static {
    /// Its procedure's name as written in plans.
    fn word(&self) -> &'static str;

    fn test(&self) -> &Name;

    /// Whether the ground-fault function is defeated meanwhile.
    fn defeats(&self) -> bool;

    /// Through what it goes.
    fn way(&self) -> Way;

    fn shots(&self, of: &LvBreaker, bench: Bench<'_>) -> Result<Vec<Shot>, SetupError>;
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Shots<T>(pub(super) T);

/// The small current of each place that something is put through.
fn looks(
    of: &LvBreaker,
    rig: &Capability,
    shots: &[Shot],
    bench: Bench<'_>,
) -> Result<Vec<(String, Arc<Program>)>, SetupError> {
    let probe = impedance(rig)?;
    let frequency = bench.frequency()?;
    // The same output drives the small current: nobody changes its socket between the two.
    let most = |place: &str| {
        let here = shots.iter().filter(|s| s.place == place);
        here.map(|s| s.most).fold(0.0, f64::max)
    };
    let look = |place: &str| {
        let out = current(rig, LOOK.0 * of.sensor_a, most(place), frequency)?;
        let mut program = Program::of(vec![Segment::hold("look", out, seconds(LOOK.1))]);
        program.segments[0].switches = defeating(rig);
        program.reads = vec![probe.clone()];
        program.connection = Some(place.into());
        Ok::<_, SetupError>(Arc::new(program))
    };
    let mut all: Vec<(String, Arc<Program>)> = Vec::new();
    for shot in shots.iter().filter(|s| s.not_tested.is_none()) {
        if !all.iter().any(|(place, _)| *place == shot.place) {
            all.push((shot.place.clone(), look(&shot.place)?));
        }
    }
    Ok(all)
}

impl<T: Shooting> Method for Shots<T> {
    fn word(&self) -> &'static str {
        self.0.word()
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let of = bench.family::<LvBreaker>()?.clone();
        let rig = bench.capability.clone();
        let way = self.0.way();
        way.sees_trips(&rig)?;
        let shots = self.0.shots(&of, bench)?;
        let by_hand = self.0.defeats()
            && of.function(super::super::asset::Acts::GroundFault).is_some()
            && !rig.switches(&DEFEAT.into());
        let looks = match way {
            Way::Poles => looks(&of, &rig, &shots, bench)?,
            Way::Port { .. } => Vec::new(),
        };
        let probe = match way {
            Way::Poles => Some(impedance(&rig)?),
            Way::Port { .. } => None,
        };
        let told = [CLOSED, TRIPPED, GROUP].into_iter().filter_map(|name| unit::probe(&rig, name));
        let told: Vec<Probe> = told.collect();
        let check = (!told.is_empty()).then(|| Arc::new(unit::look(told)));
        let test = self.0.test().clone();
        Ok(Box::new(Course::new(test, of, rig, shots, looks, probe, by_hand, check)))
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let of: &LvBreaker = bench.family()?;
        let id = &measured.point.id;
        if measured.criterion == CONNECTION || measured.criterion == READY {
            let found = Finding {
                measured: measured.measured.clone(),
                uncertainty: measured.uncertainty.clone(),
                budget: measured.budget.clone(),
                ..Finding::not_tested(
                    measured.point.clone(),
                    measured.criterion.clone(),
                    measured.stimulus.clone(),
                    "",
                )
            };
            return Ok(found.judged(Judgement::new(measured.verdict, measured.reason.clone())));
        }
        let shots = self.0.shots(of, bench)?;
        let found = shots.iter().find(|s| s.points.iter().any(|(point, _)| point.id == *id));
        let shot = found.ok_or("these settings make no such point")?;
        let (_, seen) = served.last().ok_or("nothing was injected for it")?;
        let again = (shot.grade)(seen).into_iter().find(|f| f.point.id == *id);
        again.ok_or_else(|| "these settings do not grade it".to_owned())
    }
}

/// The switch that defeats the ground-fault function, closed, where the rig has it.
pub(super) fn defeating(rig: &Capability) -> Vec<waltron_core::injection::program::Switching> {
    let output: Name = DEFEAT.into();
    let has = rig.switches(&output);
    has.then_some(waltron_core::injection::program::Switching { output, closed: true })
        .into_iter()
        .collect()
}

/// When the current ended by itself in the first segment, in s from its begin; told by the rig's look at its
/// current, else by the auxiliary contact.
pub(super) fn tripped(seen: &Observation, rig: &Capability, way: Way) -> Option<f64> {
    tripped_by(seen, rig, way).map(|(time, _)| time)
}

/// The same with the contact that told it.
pub(super) fn tripped_by(
    seen: &Observation,
    rig: &Capability,
    way: Way,
) -> Option<(f64, &'static str)> {
    let span = seen.segments.first()?;
    let opened = |signal: &str| {
        let at = seen.first_edge(&signal.into(), false, span.start)?;
        Some((at - span.start).si())
    };
    let auxiliary = opened(AUXILIARY);
    // What was switched off at the segment's end did not trip.
    let watched = way.watched().iter().filter(|s| rig.sees(&Name::from(**s))).count();
    let by_itself = matches!(span.ended, Ended::Stop(stop) if stop < watched);
    let length = (span.end - span.start).si();
    let flows = opened(FLOWS).filter(|_| way == Way::Poles);
    let flows = flows.filter(|at| by_itself || auxiliary.is_some() || *at < length - 1e-4);
    let by = |name: &'static str| move |time| (time, name);
    flows.map(by(FLOWS)).or(auxiliary.map(by(AUXILIARY)))
}

/// In which pulse of the first segment the current ended by itself, and after how long, in s.
pub(super) fn tripped_in_pulse(
    seen: &Observation,
    pulse_s: f64,
    pause_s: f64,
    way: Way,
) -> Option<(usize, f64)> {
    let span = seen.segments.first()?;
    let each = pulse_s + pause_s;
    let place = |at: f64| {
        let number = (at / each).floor();
        (number as usize, at - number * each)
    };
    let opened = |signal: &str| {
        let edges = seen.edges.iter().filter(|e| e.signal == *signal && !e.closed);
        edges.map(|e| (e.time - span.start).si()).filter(|at| *at >= 0.0).collect::<Vec<f64>>()
    };
    let auxiliary = opened(AUXILIARY).first().copied();
    let flows = if way == Way::Poles { opened(FLOWS) } else { Vec::new() };
    let early = flows.into_iter().find(|at| {
        let is_told = auxiliary.is_some_and(|told| (told - at).abs() < 0.05);
        is_told || place(*at).1 < pulse_s - 1e-3
    });
    early.or(auxiliary).map(place)
}
