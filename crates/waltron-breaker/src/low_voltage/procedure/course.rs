//! The course of a test: what the trip unit must be before, the small current, the big one, and what somebody must do
//! between.

use super::super::asset::LvBreaker;
use super::shots::{CONNECTION, LOOK, Shot, tripped};
use super::source::{output, reach};
use super::unit::{self, READY, State};
use super::way::Way;
use crate::ledger::Count;
use std::sync::Arc;
use waltron_core::grading::{Finding, Judgement, Limits, PointId, Values, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Reading};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{
    Action, Answer, Carried, Injection, Owed, Planned, PlannedPoint, Procedure, Question,
};
use waltron_core::quantity::{Dimension, Quantity, seconds, significant};
use waltron_core::text::name::Name;

/// What is handed on to later tests: how often the run has tripped the breaker.
pub(super) const TRIPPED_SO_FAR: Count = Count("lv trips");
/// Whether the last test has left it tripped, and warm.
const LEFT_TRIPPED: &str = "lv tripped";
const LEFT_WARM: &str = "lv warm";

/// What puts back what was defeated by hand.
const PUT_BACK: &str = "Put the ground-fault function back";

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    /// Before everything.
    Beginning,
    /// What must be off for the test is switched off by hand.
    Defeating,
    /// The next shot.
    Next,
    /// The trip unit is asked for its state.
    Checking,
    /// The small current flows.
    Looking,
    /// It is reset and closed by hand.
    Resetting,
    /// Its thermal memory is waited for.
    Cooling,
    /// The big current flows.
    Shooting,
    /// What was defeated is put back.
    PuttingBack,
    Done,
}

pub(super) struct Course {
    test: Name,
    of: LvBreaker,
    rig: Capability,
    shots: Vec<Shot>,
    /// The small current of each place.
    looks: Vec<(String, Arc<Program>)>,
    /// How the connection's impedance is read, where there is one.
    probe: Option<Probe>,
    /// What asks the trip unit for its state, where the rig can.
    check: Option<Arc<Program>>,
    /// Whether it was asked since it was reset last, and whether somebody was sent to reset it since.
    is_checked: bool,
    was_sent: bool,
    /// Whether its state was told in the record.
    has_told: bool,
    /// Why nothing more can be tested as it is.
    unfit: Option<String>,
    /// How often it has tripped in this test, and in the run before it.
    trips: u32,
    tripped_before: f64,
    /// Whether the ground-fault function is to be defeated by hand, and whether it may be at present.
    by_hand: bool,
    is_defeated: bool,
    at: usize,
    /// Where the leads are, and what they and the pole have in ohms; or why that is not known.
    ohm: Option<(String, Result<f64, String>)>,
    /// Whether it tripped, and must be reset before anything else.
    must_reset: bool,
    /// Whether its thermal memory holds heat that nobody has discharged.
    is_warm: bool,
    stage: Stage,
}

fn amps(si: f64) -> String {
    Quantity { si, dimension: Dimension::CURRENT }.to_string()
}

impl Course {
    #[allow(clippy::too_many_arguments, reason = "each is something else")]
    pub(super) fn new(
        test: Name,
        of: LvBreaker,
        rig: Capability,
        shots: Vec<Shot>,
        looks: Vec<(String, Arc<Program>)>,
        probe: Option<Probe>,
        by_hand: bool,
        check: Option<Arc<Program>>,
    ) -> Self {
        Self {
            test,
            of,
            rig,
            shots,
            looks,
            probe,
            check,
            is_checked: false,
            was_sent: false,
            has_told: false,
            unfit: None,
            trips: 0,
            tripped_before: 0.0,
            by_hand,
            is_defeated: false,
            at: 0,
            ohm: None,
            must_reset: false,
            is_warm: false,
            stage: Stage::Beginning,
        }
    }

    fn ready(&self) -> PointId {
        let id = format!("{}/ready", self.test);
        PointId { id, test: self.test.clone(), element: None, fault_loop: None }
    }

    /// What the trip unit has told of its state.
    fn checked(&mut self, seen: &Observation) -> Vec<Finding> {
        let state = unit::state(&self.of, &self.rig, seen);
        if let (State::NotReset(_), false) = (&state, self.was_sent) {
            // Somebody is asked once.
            (self.was_sent, self.must_reset) = (true, true);
            return Vec::new();
        }
        self.is_checked = true;
        self.unfit = match &state {
            State::NotReset(why) => Some(format!("{why}, and stayed so")),
            State::OtherGroup(why) => Some(why.clone()),
            State::Ready | State::Unknown(_) => None,
        };
        if std::mem::replace(&mut self.has_told, true) {
            return Vec::new();
        }
        let found = Finding::not_tested(self.ready(), READY, Values::none(), "");
        vec![unit::judged(found, &state)]
    }

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
        if let Some(at) = tripped(seen, &self.rig, Way::Poles) {
            let at = Quantity { si: at, dimension: Dimension::TIME };
            let why = format!(
                "it tripped after {at} on {} already: ground fault not defeated, or a function set far too low",
                amps(fed)
            );
            (self.must_reset, self.trips, self.is_checked) = (true, self.trips + 1, false);
            self.ohm = Some((place.to_owned(), Err(why.clone())));
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
        let reading = self.probe.as_ref().and_then(|probe| seen.at_end(probe));
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
        let estimate = reading.and_then(Reading::estimate).unwrap_or_default();
        let why = format!(
            "the source drives up to {} through it; switched on at {} deg of its voltage a current has no direct component",
            amps(most),
            significant(angle.to_degrees(), 3)
        );
        let measured = Values::none()
            .with_quantity("impedance", of(ohm, Dimension::RESISTANCE))
            .with_quantity("reach", of(most, Dimension::CURRENT));
        let found = Finding { measured, ..found }.uncertain(&estimate);
        found.judged(Judgement::new(Verdict::Measured, why))
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
    fn foreseen(&self) -> Vec<Finding> {
        self.shots.iter().flat_map(|shot| shot.foreseen.clone()).collect()
    }

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
        if let Some(check) = self.check.as_ref().filter(|_| !self.shots.is_empty()) {
            let point = PlannedPoint::certain(self.ready(), READY);
            let (program, none) = (check, Values::none());
            all.push(plan(vec![point], none, Limits::None, program, seconds(0.0), None));
        }
        let mut told: Vec<&str> = Vec::new();
        let mut is_first = true;
        for shot in &self.shots {
            if let Some((place, program)) = self.looks.iter().find(|(p, _)| *p == shot.place)
                && !told.contains(&place.as_str())
            {
                told.push(place);
                let point = PlannedPoint::certain(self.connection(place), CONNECTION);
                let likely = seconds(LOOK.1);
                all.push(plan(vec![point], Values::none(), Limits::None, program, likely, None));
            }
            if shot.points.is_empty() {
                continue;
            }
            let points = shot.points.iter();
            let points = points.map(|(p, c)| PlannedPoint::certain(p.clone(), c.clone())).collect();
            let (stimulus, limits) = (shot.stimulus.clone(), shot.limits.clone());
            let not_tested = shot.not_tested.clone();
            // What came before it has warmed it.
            let waited = self.of.cooling.filter(|_| !is_first).unwrap_or_default();
            is_first = false;
            let likely = shot.likely + waited;
            all.push(plan(points, stimulus, limits, &shot.program, likely, not_tested));
        }
        all
    }

    fn next(&mut self) -> Action {
        if self.stage == Stage::Beginning {
            if self.by_hand && !self.is_defeated && !self.shots.is_empty() {
                self.stage = Stage::Defeating;
            } else {
                self.stage = Stage::Next;
            }
        }
        if self.stage == Stage::Defeating {
            // Whoever is asked may have begun before the answer is there.
            self.is_defeated = true;
            return Action::Ask(Question::confirm("Defeat the ground-fault function"));
        }
        if self.stage == Stage::PuttingBack {
            return Action::Ask(Question::confirm(PUT_BACK));
        }
        let Some(shot) = self.shots.get(self.at).cloned() else {
            if self.is_defeated {
                self.stage = Stage::PuttingBack;
                return self.next();
            }
            return Action::Done;
        };
        if let Some(why) = &shot.not_tested {
            return Action::Conclude(self.conclude(Verdict::NotTested, why));
        }
        if let Some(why) = self.unfit.clone() {
            return Action::Conclude(self.conclude(Verdict::NotTested, &why));
        }
        if self.must_reset {
            self.stage = Stage::Resetting;
            let text = match (self.of.has_memory, self.of.cooling) {
                (true, Some(time)) => format!(
                    "Reset the trip unit, and close the breaker; its thermal memory is then left to cool for {}",
                    Quantity::of(time)
                ),
                (true, None) => {
                    "Reset the trip unit, discharge its thermal memory, and close the breaker"
                        .to_owned()
                }
                (false, _) => "Reset the trip unit, and close the breaker".to_owned(),
            };
            return Action::Ask(Question::confirm(text));
        }
        if let Some(time) = self.of.cooling.filter(|_| self.is_warm) {
            self.stage = Stage::Cooling;
            let cooling = Segment::hold("cooling", Stimulus::off(), time);
            return Action::Inject(Arc::new(Program::of(vec![cooling])));
        }
        if let Some(check) = self.check.as_ref().filter(|_| !self.is_checked) {
            self.stage = Stage::Checking;
            return Action::Inject(Arc::clone(check));
        }
        let is_known = self.ohm.as_ref().is_some_and(|(place, _)| *place == shot.place);
        let look = self.looks.iter().find(|(place, _)| *place == shot.place);
        if let (false, Some((_, program))) = (is_known, look) {
            self.stage = Stage::Looking;
            return Action::Inject(Arc::clone(program));
        }
        if shot.points.is_empty() {
            // Its connection, or what is asked of the unit before, is all that is wanted.
            self.at += 1;
            return self.next();
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
        if self.stage == Stage::Cooling {
            let first = shot.points.first().map(|(point, _)| point.id.as_str());
            let part = format!("cooling before {}", first.unwrap_or_default());
            return Injection { point: None, part, serves: Vec::new() };
        }
        if self.stage == Stage::Checking {
            let first = shot.points.first().map(|(point, _)| point.id.as_str());
            let part = format!("check before {}", first.unwrap_or_default());
            let id = self.ready().id;
            let serves = if self.has_told { Vec::new() } else { vec![id.clone()] };
            return Injection { point: Some(id), part, serves };
        }
        if self.stage == Stage::Looking {
            let id = self.connection(&shot.place).id;
            return Injection { point: Some(id.clone()), part: String::new(), serves: vec![id] };
        }
        let ids: Vec<String> = shot.points.iter().map(|(p, _)| p.id.clone()).collect();
        Injection { point: ids.first().cloned(), part: String::new(), serves: ids }
    }

    fn observe(&mut self, seen: &Observation) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at).cloned() else { return Vec::new() };
        if self.stage == Stage::Cooling {
            (self.stage, self.is_warm) = (Stage::Next, false);
            return Vec::new();
        }
        if self.stage == Stage::Checking {
            self.stage = Stage::Next;
            return self.checked(seen);
        }
        if self.stage == Stage::Looking {
            self.stage = Stage::Next;
            return vec![self.looked(&shot.place, seen)];
        }
        let found = (shot.grade)(seen);
        self.is_warm = self.of.has_memory;
        self.must_reset = (shot.trips)(seen);
        self.trips += u32::from(self.must_reset);
        (self.is_checked, self.was_sent) = (!self.must_reset, false);
        self.at += 1;
        self.stage = Stage::Next;
        found
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        match self.stage {
            Stage::Checking => {
                (self.stage, self.is_checked) = (Stage::Next, true);
                if std::mem::replace(&mut self.has_told, true) {
                    return Vec::new();
                }
                let why = format!("it was not asked: {reason}");
                return vec![Finding::not_tested(self.ready(), READY, Values::none(), why)];
            }
            Stage::Cooling => {
                // Warm it would trip too early.
                let why = format!("its thermal memory was not waited for: {reason}");
                return self.conclude(Verdict::NotTested, &why);
            }
            _ => {}
        }
        if self.stage == Stage::Looking {
            let place = self.shots.get(self.at).map(|s| s.place.clone()).unwrap_or_default();
            let why = format!("the connection was not looked at: {reason}");
            let point = self.connection(&place);
            self.ohm = Some((place, Err(why.clone())));
            self.stage = Stage::Next;
            return vec![Finding::not_tested(point, CONNECTION, Values::none(), why)];
        }
        self.conclude(Verdict::NotTested, &format!("it was not put out: {reason}"))
    }

    fn answer(&mut self, _answer: Answer) {
        match self.stage {
            Stage::PuttingBack => (self.stage, self.is_defeated) = (Stage::Done, false),
            Stage::Resetting => {
                self.must_reset = false;
                self.stage = Stage::Next;
            }
            _ => self.stage = Stage::Next,
        }
    }

    fn take_over(&mut self, carried: &Carried) {
        let flag = |name: &str| carried.get(name).is_some_and(|is| *is != 0.0);
        // The last test, or a run that was cut, may have left it open, and warm.
        self.must_reset |= flag(LEFT_TRIPPED);
        self.is_warm |= flag(LEFT_WARM);
        self.tripped_before = TRIPPED_SO_FAR.made(carried).sure;
    }

    fn hand_on(&self, carried: &mut Carried) {
        TRIPPED_SO_FAR.note(self.tripped_before + f64::from(self.trips), carried);
        for (name, is) in [(LEFT_TRIPPED, self.must_reset), (LEFT_WARM, self.is_warm)] {
            carried.insert(name.to_owned(), f64::from(u8::from(is)));
        }
    }

    fn hand_on_if_cut(&self, carried: &mut Carried) {
        self.hand_on(carried);
        let flows = [Stage::Looking, Stage::Shooting].contains(&self.stage);
        if flows {
            carried.insert(LEFT_TRIPPED.to_owned(), 1.0);
            let is_warm = self.is_warm || self.of.has_memory;
            carried.insert(LEFT_WARM.to_owned(), f64::from(u8::from(is_warm)));
            // It trips once at most: then it is open.
            TRIPPED_SO_FAR.note_unsure(1, carried);
        }
    }

    fn owed(&self) -> Vec<Owed> {
        if self.is_defeated { vec![Owed::new(PUT_BACK)] } else { Vec::new() }
    }

    fn restore(&mut self) {
        self.at = self.shots.len();
        self.stage = if self.is_defeated { Stage::PuttingBack } else { Stage::Done };
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        let of_shot = |shot: &Shot| shot.points.iter().any(|(point, _)| wanted(point));
        let shot_at = |place: &str| self.shots.iter().any(|s| s.place == place && of_shot(s));
        let looked_at = |place: &str| shot_at(place) || wanted(&self.connection(place));
        let looked: Vec<String> = self.looks.iter().map(|(place, _)| place.clone()).collect();
        let looked: Vec<String> = looked.into_iter().filter(|place| looked_at(place)).collect();
        let is_asked = self.check.is_some() && wanted(&self.ready());
        let mut kept: Vec<Shot> = Vec::new();
        for shot in &self.shots {
            let is_first = !kept.iter().any(|k| k.place == shot.place);
            let only_looks = is_first && !shot_at(&shot.place) && looked.contains(&shot.place);
            if of_shot(shot) {
                kept.push(shot.clone());
            } else if only_looks {
                kept.push(Shot { points: Vec::new(), ..shot.clone() });
            }
        }
        let first = self.shots.first().filter(|_| kept.is_empty() && is_asked);
        kept.extend(first.map(|shot| Shot { points: Vec::new(), ..shot.clone() }));
        self.looks.retain(|(place, _)| looked.contains(place));
        self.shots = kept;
    }

    fn repeat(&mut self) {
        self.at = self.at.saturating_sub(1);
        // What was put back since is defeated again first.
        (self.stage, self.is_checked, self.unfit) = (Stage::Beginning, false, None);
    }
}
