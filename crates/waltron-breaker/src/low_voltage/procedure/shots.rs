//! Injections one after the other: a small current before the big one, and what somebody must do between.

use super::super::asset::LvBreaker;
use super::source::{AUXILIARY, DEFEAT, FLOWS, current, impedance, output, reach};
use std::any::Any;
use std::fmt::Debug;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::{
    Criterion, Finding, Grade, Judgement, Limits, PointId, Values, Verdict,
};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{
    Action, Answer, Bench, Injection, Method, Planned, PlannedPoint, Procedure, Question,
    SetupError,
};
use waltron_core::quantity::{Dimension, Measure, Quantity, Time, seconds, significant};
use waltron_core::text::name::Name;

/// What the connection lets through.
pub(crate) const CONNECTION: Criterion = Criterion::named("connection");

/// The share of its sensor that is put through a pole to look at the connection, and for how long, in s.
const LOOK: (f64, f64) = (0.1, 0.4);

/// The low-voltage breaker of an asset.
pub(super) fn breaker(asset: &Asset) -> Result<&LvBreaker, SetupError> {
    asset.family().ok_or_else(|| {
        let tag = &asset.identity.tag;
        SetupError::Unknown(format!("{tag} is no low-voltage breaker"))
    })
}

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
}

/// A test that is a list of shots.
pub(super) trait Shooting: Debug + Send + Sync + PartialEq + 'static {
    /// Its procedure's name as written in plans.
    fn word(&self) -> &'static str;

    fn test(&self) -> &Name;

    /// Whether the ground-fault function is defeated meanwhile.
    fn defeats(&self) -> bool;

    fn shots(&self, of: &LvBreaker, bench: Bench<'_>) -> Result<Vec<Shot>, SetupError>;
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Shots<T>(pub(super) T);

impl<T: Shooting> Method for Shots<T> {
    fn word(&self) -> &'static str {
        self.0.word()
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let of = breaker(bench.asset)?.clone();
        let rig = bench.capability.clone();
        if !rig.sees(&FLOWS.into()) && !rig.sees(&AUXILIARY.into()) {
            let lacks =
                format!("no input for `{FLOWS}`, nor for `{AUXILIARY}`: no trip would be seen");
            return Err(SetupError::Lacks { lacks, what: "inputs" });
        }
        let shots = self.0.shots(&of, bench)?;
        let by_hand = self.0.defeats()
            && of.function(super::super::asset::Acts::GroundFault).is_some()
            && !rig.switches(&DEFEAT.into());
        let probe = impedance(&rig)?;
        let frequency = bench.frequency()?;
        // The same output drives the small current: nobody changes its socket between the two.
        let most = |place: &str| {
            let here = shots.iter().filter(|s| s.place == place);
            here.map(|s| s.most).fold(0.0, f64::max)
        };
        let look = |place: &str| {
            let amps = LOOK.0 * of.sensor_a;
            let out = current(&rig, amps, most(place), frequency)?;
            let mut program = Program::of(vec![Segment::hold("look", out, seconds(LOOK.1))]);
            program.segments[0].switches = defeating(&rig);
            program.reads = vec![probe.clone()];
            program.connection = Some(place.into());
            Ok::<_, SetupError>(Arc::new(program))
        };
        let mut looks: Vec<(String, Arc<Program>)> = Vec::new();
        for shot in shots.iter().filter(|s| s.not_tested.is_none()) {
            if !looks.iter().any(|(place, _)| *place == shot.place) {
                looks.push((shot.place.clone(), look(&shot.place)?));
            }
        }
        Ok(Box::new(Course {
            test: self.0.test().clone(),
            of,
            rig,
            shots,
            looks,
            probe,
            by_hand,
            at: 0,
            ohm: None,
            must_reset: false,
            stage: Stage::Beginning,
        }))
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let of = breaker(bench.asset).map_err(|e| e.to_string())?;
        let id = &measured.point.id;
        if measured.criterion == CONNECTION {
            let found = Finding {
                measured: measured.measured.clone(),
                uncertainty: measured.uncertainty.clone(),
                ..Finding::not_tested(
                    measured.point.clone(),
                    CONNECTION,
                    measured.stimulus.clone(),
                    "",
                )
            };
            return Ok(found.judged(Judgement::new(measured.verdict, measured.reason.clone())));
        }
        let shots = self.0.shots(of, bench).map_err(|e| e.to_string())?;
        let found = shots.iter().find(|s| s.points.iter().any(|(point, _)| point.id == *id));
        let shot = found.ok_or("these settings make no such point")?;
        let (_, seen) = served.last().ok_or("nothing was injected for it")?;
        let again = (shot.grade)(seen).into_iter().find(|f| f.point.id == *id);
        again.ok_or_else(|| "these settings do not grade it".to_owned())
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn is_same(&self, other: &dyn Method) -> bool {
        other.as_any().downcast_ref() == Some(self)
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

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    /// Before everything: what must be seen to by hand.
    Beginning,
    /// The next shot.
    Next,
    /// The small current flows.
    Looking,
    /// It is reset and closed by hand.
    Resetting,
    /// The big current flows.
    Shooting,
    /// What was defeated is put back.
    PuttingBack,
    Done,
}

struct Course {
    test: Name,
    of: LvBreaker,
    rig: Capability,
    shots: Vec<Shot>,
    /// The small current of each place.
    looks: Vec<(String, Arc<Program>)>,
    probe: Probe,
    /// Whether the ground-fault function is defeated by hand.
    by_hand: bool,
    at: usize,
    /// Where the leads are, and what they and the pole have in ohms; or why that is not known.
    ohm: Option<(String, Result<f64, String>)>,
    /// Whether it tripped, and must be reset before anything else.
    must_reset: bool,
    stage: Stage,
}

fn amps(si: f64) -> String {
    Quantity { si, dimension: Dimension::CURRENT }.to_string()
}

impl Course {
    fn connection(&self, place: &str) -> PointId {
        let id = format!("{}/connection/{place}", self.test);
        PointId { id, test: self.test.clone(), element: None, fault_loop: None }
    }

    /// What the small current has shown, and the largest that the source can drive.
    fn looked(&mut self, place: &str, seen: &Observation) -> Finding {
        let fed = LOOK.0 * self.of.sensor_a;
        let stimulus = Values::none()
            .with_quantity("current", Quantity { si: fed, dimension: Dimension::CURRENT });
        let found = Finding::not_tested(self.connection(place), CONNECTION, stimulus, "");
        let reading = seen.at_end(&self.probe);
        let value = reading.and_then(|r| Some((r.value.get("value")?, r.value.get("angle")?)));
        let lacks = reading.and_then(|r| r.lacks.as_ref()).map(ToString::to_string);
        let (ohm, angle) = match (value, lacks) {
            (Some((ohm, angle)), None) if ohm > 0.0 => (ohm, angle),
            (_, lacks) => {
                let why = lacks.unwrap_or_else(|| "nothing was measured".to_owned());
                let why = format!("the connection was not seen ({why}): leads, breaker open");
                self.ohm = Some((place.to_owned(), Err(why.clone())));
                return found.judged(Judgement::new(Verdict::Inconclusive, why));
            }
        };
        self.ohm = Some((place.to_owned(), Ok(ohm)));
        let here = self.shots.iter().filter(|s| s.place == place);
        let wanted = here.map(|s| s.most).fold(0.0, f64::max);
        let most = output(&self.rig, wanted).map_or(0.0, |channel| reach(channel, ohm));
        let of = |si, dimension| Quantity { si, dimension };
        let uncertainty =
            reading.and_then(|r| r.uncertainty.get("value")).map_or(Values::none(), |u| {
                Values::none().with_quantity("u", of(u, Dimension::RESISTANCE))
            });
        let why = format!(
            "the source drives up to {} through it; switched on at {} deg of its voltage a current has no direct component",
            amps(most),
            significant(angle.to_degrees(), 3)
        );
        let measured = Values::none()
            .with_quantity("impedance", of(ohm, Dimension::RESISTANCE))
            .with_quantity("reach", of(most, Dimension::CURRENT));
        Finding { measured, uncertainty, ..found }.judged(Judgement::new(Verdict::Measured, why))
    }

    fn conclude(&mut self, verdict: Verdict, why: &str) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at) else { return Vec::new() };
        let all = shot.points.iter().map(|(point, criterion)| {
            let found =
                Finding::not_tested(point.clone(), criterion.clone(), shot.stimulus.clone(), "");
            Finding { limits: shot.limits.clone(), ..found }.judged(Judgement::new(verdict, why))
        });
        let all = all.collect();
        self.at += 1;
        self.stage = Stage::Next;
        all
    }

    /// Why the current cannot be had through the connection as it is.
    fn beyond(&self, shot: &Shot) -> Option<String> {
        let (_, ohm) = self.ohm.as_ref()?;
        match ohm {
            Err(why) => Some(why.clone()),
            Ok(ohm) => {
                let channel = output(&self.rig, shot.most).ok()?;
                let most = reach(channel, *ohm);
                let z = Quantity { si: *ohm, dimension: Dimension::RESISTANCE };
                (most < shot.amps * (1.0 - 1e-9)).then(|| {
                    format!(
                        "through {z} the source drives {} at most, and {} is wanted: shorter leads, close together, another output",
                        amps(most),
                        amps(shot.amps)
                    )
                })
            }
        }
    }
}

impl Procedure for Course {
    fn planned(&self) -> Vec<Planned> {
        let plan = |points, stimulus, limits, program: &Arc<Program>, likely, not_tested| Planned {
            points,
            stimulus,
            expected: Values::none(),
            limits,
            program: Arc::clone(program),
            likely,
            place: None,
            not_tested,
            is_exact: true,
            also: Vec::new(),
        };
        let mut all = Vec::new();
        let mut told: Vec<&str> = Vec::new();
        for shot in &self.shots {
            if let Some((place, program)) = self.looks.iter().find(|(p, _)| *p == shot.place)
                && !told.contains(&place.as_str())
            {
                told.push(place);
                let point = PlannedPoint::certain(self.connection(place), CONNECTION);
                let likely = seconds(LOOK.1);
                all.push(plan(vec![point], Values::none(), Limits::None, program, likely, None));
            }
            let points = shot.points.iter();
            let points = points.map(|(p, c)| PlannedPoint::certain(p.clone(), c.clone())).collect();
            let (stimulus, limits) = (shot.stimulus.clone(), shot.limits.clone());
            let not_tested = shot.not_tested.clone();
            all.push(plan(points, stimulus, limits, &shot.program, shot.likely, not_tested));
        }
        all
    }

    fn next(&mut self) -> Action {
        if self.stage == Stage::Beginning {
            if self.by_hand && !self.shots.is_empty() {
                return Action::Ask(Question::confirm("Defeat the ground-fault function"));
            }
            self.stage = Stage::Next;
        }
        if self.stage == Stage::PuttingBack {
            return Action::Ask(Question::confirm("Put the ground-fault function back"));
        }
        let Some(shot) = self.shots.get(self.at).cloned() else {
            if self.by_hand && !self.shots.is_empty() && self.stage != Stage::Done {
                self.stage = Stage::PuttingBack;
                return self.next();
            }
            return Action::Done;
        };
        if let Some(why) = &shot.not_tested {
            return Action::Conclude(self.conclude(Verdict::NotTested, why));
        }
        if self.must_reset {
            self.stage = Stage::Resetting;
            let text = match self.of.has_memory {
                true => "Reset the trip unit, discharge its thermal memory, and close the breaker",
                false => "Reset the trip unit, and close the breaker",
            };
            return Action::Ask(Question::confirm(text));
        }
        let is_known = self.ohm.as_ref().is_some_and(|(place, _)| *place == shot.place);
        let look = self.looks.iter().find(|(place, _)| *place == shot.place);
        if let (false, Some((_, program))) = (is_known, look) {
            self.stage = Stage::Looking;
            return Action::Inject(Arc::clone(program));
        }
        if let Some(why) = self.beyond(&shot) {
            return Action::Conclude(self.conclude(Verdict::NotTested, &why));
        }
        self.stage = Stage::Shooting;
        Action::Inject(shot.program)
    }

    fn injection(&self) -> Injection {
        let Some(shot) = self.shots.get(self.at) else {
            return Injection { point: None, part: String::new(), serves: Vec::new() };
        };
        if self.stage == Stage::Looking {
            let id = self.connection(&shot.place).id;
            return Injection { point: Some(id.clone()), part: String::new(), serves: vec![id] };
        }
        let ids: Vec<String> = shot.points.iter().map(|(p, _)| p.id.clone()).collect();
        Injection { point: ids.first().cloned(), part: String::new(), serves: ids }
    }

    fn observe(&mut self, seen: &Observation) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at).cloned() else { return Vec::new() };
        if self.stage == Stage::Looking {
            self.stage = Stage::Next;
            return vec![self.looked(&shot.place, seen)];
        }
        let found = (shot.grade)(seen);
        self.must_reset = (shot.trips)(seen);
        self.at += 1;
        self.stage = Stage::Next;
        found
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        if self.stage == Stage::Looking {
            let place = self.shots.get(self.at).map(|s| s.place.clone()).unwrap_or_default();
            self.ohm = Some((place, Err(format!("the connection was not looked at: {reason}"))));
            self.stage = Stage::Next;
            return Vec::new();
        }
        self.conclude(Verdict::NotTested, &format!("it was not put out: {reason}"))
    }

    fn answer(&mut self, _answer: Answer) {
        match self.stage {
            Stage::PuttingBack => self.stage = Stage::Done,
            Stage::Resetting => {
                self.must_reset = false;
                self.stage = Stage::Next;
            }
            _ => self.stage = Stage::Next,
        }
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        self.shots.retain(|shot| shot.points.iter().any(|(point, _)| wanted(point)));
        let places: Vec<String> = self.shots.iter().map(|s| s.place.clone()).collect();
        self.looks.retain(|(place, _)| places.contains(place));
    }

    fn repeat(&mut self) {
        self.at = self.at.saturating_sub(1);
        self.stage = Stage::Next;
    }
}

/// When the current ended by itself in the first segment, in s from its begin; told by the rig's look at its
/// current, else by the auxiliary contact.
pub(super) fn tripped(seen: &Observation, rig: &Capability) -> Option<f64> {
    let span = seen.segments.first()?;
    let opened = |signal: &str| {
        let at = seen.first_edge(&signal.into(), false, span.start)?;
        Some((at - span.start).si())
    };
    let auxiliary = opened(AUXILIARY);
    // What was switched off at the segment's end did not trip.
    let watched = [AUXILIARY, FLOWS].into_iter().filter(|s| rig.sees(&Name::from(*s))).count();
    let by_itself = matches!(span.ended, Ended::Stop(stop) if stop < watched);
    let length = (span.end - span.start).si();
    let flows = opened(FLOWS).filter(|at| by_itself || auxiliary.is_some() || *at < length - 1e-4);
    flows.or(auxiliary)
}

/// In which pulse of the first segment the current ended by itself, and after how long, in s.
pub(super) fn tripped_in_pulse(
    seen: &Observation,
    pulse_s: f64,
    pause_s: f64,
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
    let early = opened(FLOWS).into_iter().find(|at| {
        let is_told = auxiliary.is_some_and(|told| (told - at).abs() < 0.05);
        is_told || place(*at).1 < pulse_s - 1e-3
    });
    early.or(auxiliary).map(place)
}
