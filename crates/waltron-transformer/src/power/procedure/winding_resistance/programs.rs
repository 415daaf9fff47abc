//! What is put out: charging, holding until it is steady, holding while a tap is changed, discharging.

use super::keys::WindingResistanceTest;
use super::places::{Place, Places};
use super::{CHARGE, DISCHARGE, HOLD, MOVE, OVER};
use crate::measure::{direct, probe};
use crate::power::asset::PowerTransformer;
use crate::power::procedure::round_below;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Capture, Part, Probe, Property, Read, When};
use waltron_core::injection::program::{
    Condition, Finish, Program, Relation, Segment, Stand, Stop, Then,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, SetupError};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Time, seconds};
use waltron_core::text::name::Name;

/// The share of the current from which on it is held, and below which a lead has fallen off.
const CHARGED: f64 = 0.98;
const FALLEN_OFF: f64 = 0.7;

/// How often it is read in the time for which it must be steady, where that is no more often than five times
/// a second, and no less than every second.
const READS: f64 = 30.0;

/// Samples of a change: how many a second, from and to how long around where it is noticed.
const RATE_HZ: f64 = 10_000.0;
const AROUND_S: [f64; 2] = [0.35, 0.35];

/// Samples of the motor: how many a second, from and to how long around where a change is noticed, in s.
const MOTOR_RATE_HZ: f64 = 500.0;
const MOTOR_AROUND_S: [f64; 2] = [15.0, 0.5];

/// From where a change is noticed until its contacts have changed over for certain.
const OVER_S: f64 = 0.5;

/// The least step of the resistance by which a change of tap is noticed, as a share.
const LEAST_STEP: f64 = 0.002;

/// Programs of a test.
#[derive(Clone, Debug)]
pub(super) struct Programs {
    pub(super) current: Current,
    out: Stimulus,
    pub(super) resistance: Probe,
    pub(super) volts: Probe,
    pub(super) amps: Probe,
    /// The resistance of another winding in the same circuit.
    pub(super) beside: Option<Probe>,
    /// Whether the rig sees the tap changer's motor.
    motor: bool,
    steady: f64,
    pub(super) steady_for: Time,
    pub(super) left: f64,
    pub(super) at_most: Time,
    below_a: f64,
}

/// The state in which a place is reached.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum From<'a> {
    /// Nothing flows yet.
    Off,
    /// The current flows at this place already.
    Here,
    /// It flows at another position: with what was measured there, in V.
    At(&'a Place, f64),
}

impl Programs {
    pub(super) fn new(
        test: &WindingResistanceTest,
        of: &PowerTransformer,
        bench: Bench<'_>,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let output = rig.currents.iter().find(|c| c.meaning == *"winding current");
        let output = output.ok_or_else(|| SetupError::Lacks {
            lacks: "no output for `winding current`".to_owned(),
            what: "outputs",
        })?;
        let discharge = rig.discharge.as_ref().filter(|d| d.meter == *"winding current");
        let below_a = discharge.map(|d| d.below_a).ok_or_else(|| {
            SetupError::Unknown(
                "the rig's file does not say when a winding is discharged: add `discharge = { meter = \"winding current\", below = \"20 mA\" }` to its `[rig]`".to_owned(),
            )
        })?;
        let winding = of.winding(test.winding);
        let both = [winding, test.with.and_then(|n| of.winding(n))];
        let most = both.into_iter().flatten().map(|w| w.most_a().min(w.current_a() / 10.0));
        let most = most.reduce(f64::min).unwrap_or(0.0);
        let current = test.current.unwrap_or(Current::from_si(round_below(
            most.min(output.range.si()),
            &[5.0, 2.0, 1.0],
        )));
        let sides = ["winding voltage", "winding current"];
        let frequency = bench.asset.ratings.frequency.unwrap_or_default();
        Ok(Self {
            current,
            out: direct(rig, "winding current", current, frequency)?,
            resistance: probe(rig, &sides, Property::Dc)?,
            volts: probe(rig, &sides[..1], Property::Dc)?,
            amps: probe(rig, &sides[1..], Property::Dc)?,
            beside: match test.with {
                Some(_) => {
                    Some(probe(rig, &["second winding voltage", "winding current"], Property::Dc)?)
                }
                None => None,
            },
            motor: rig.meter(MOTOR).is_some(),
            steady: test.steady,
            steady_for: test.steady_for,
            left: test.left,
            at_most: test.at_most,
            below_a: below_a.min(current.si() * 0.02),
        })
    }

    fn reading(&self, relation: Relation, limit_si: f64) -> Condition {
        Condition::Reading { probe: self.amps.clone(), relation, limit_si }
    }

    /// How often is looked whether it is steady: fifty times in the time for which it must be.
    fn looks(&self) -> Time {
        seconds((self.steady_for.si() / 50.0).clamp(0.01, 0.2))
    }

    /// Until the current is there.
    fn charge(&self) -> Segment {
        let there = self.reading(Relation::AtLeast, self.current.si() * CHARGED);
        let stop = Stop { when: there, then: Then::Next };
        let mut segment = Segment::hold(CHARGE, self.out.clone(), self.at_most).until(stop);
        segment.looks_every = Some(seconds(0.05));
        // What has not come by then does not come.
        if let Some(last) = segment.stops.last_mut() {
            last.then = Then::Off;
        }
        segment
    }

    /// Ends with outputs off where the current breaks off.
    fn broken_off(&self) -> Stop {
        let when = self.reading(Relation::AtMost, self.current.si() * FALLEN_OFF);
        Stop { when, then: Then::Off }
    }

    /// Until it is steady; the other winding of the circuit too, where it is read.
    fn hold(&self, place: &Place) -> Segment {
        let steady = |probe: &Probe| Condition::Stable {
            probe: probe.clone(),
            within: self.steady,
            time: self.steady_for,
        };
        let stable = match self.beside.as_ref().filter(|_| place.beside.is_some()) {
            Some(beside) => Condition::All(vec![steady(&self.resistance), steady(beside)]),
            None => steady(&self.resistance),
        };
        let mut segment = Segment::hold(HOLD, self.out.clone(), self.at_most)
            .until(Stop { when: stable, then: Then::Next })
            .until(self.broken_off());
        segment.looks_every = Some(self.looks());
        let every = seconds((self.steady_for.si() / READS).clamp(0.2, 1.0));
        let often = |probe: &Probe| Read { probe: probe.clone(), when: When::Every(every) };
        let once = |probe: &Probe| Read { probe: probe.clone(), when: When::EachLevel };
        segment.reads = vec![
            often(&self.resistance),
            once(&self.resistance),
            once(&self.volts),
            once(&self.amps),
        ];
        segment.reads.extend(self.beside.iter().flat_map(|beside| [often(beside), once(beside)]));
        segment
    }

    /// Until a change of tap is noticed: what drops in the winding is another voltage.
    fn change(&self, to: &Place, from: &Place, volts: f64) -> Segment {
        let step = (to.volts / from.volts - 1.0).abs();
        let by = (step * 0.4).max(LEAST_STEP);
        let over = |relation, share: f64| Condition::Reading {
            probe: self.volts.clone(),
            relation,
            limit_si: volts * share,
        };
        let noticed = Condition::Any(vec![
            over(Relation::AtLeast, 1.0 + by),
            over(Relation::AtMost, 1.0 - by),
            Condition::Mark,
        ]);
        let mut segment = Segment::hold(MOVE, self.out.clone(), seconds(180.0))
            .until(Stop { when: noticed, then: Then::Next });
        if let Some(last) = segment.stops.last_mut() {
            last.then = Then::Off;
        }
        segment.looks_every = Some(seconds(0.05));
        segment.moves =
            to.stands.iter().filter(|stand| !from.stands.contains(stand)).cloned().collect();
        segment
    }

    /// Off, until nothing flows.
    fn discharge(&self) -> Segment {
        let below = |relation, limit| self.reading(relation, limit);
        let gone = Condition::All(vec![
            below(Relation::AtMost, self.below_a),
            below(Relation::AtLeast, -self.below_a),
        ]);
        let most = self.at_most * 5.0;
        let mut segment = Segment::hold(DISCHARGE, Stimulus::off(), most)
            .until(Stop { when: gone, then: Then::Next });
        segment.looks_every = Some(seconds(0.1));
        segment
    }

    fn trace(&self, segment: usize, name: Name) -> Capture {
        let [before, after] = AROUND_S.map(seconds);
        Capture {
            name,
            of: ["winding current", "winding voltage"].map(Name::from).to_vec(),
            rate_hz: RATE_HZ,
            part: Part::AroundEnd { segment, before, after },
        }
    }

    /// What is put out to measure a place. The current stays on where the next place may follow under it.
    pub(super) fn at(&self, places: &Places, at: usize, from: &From<'_>) -> Program {
        let place = &places.all[at];
        let mut program = match from {
            From::Off => Program::of(vec![self.charge(), self.hold(place)]),
            From::Here => Program::of(vec![self.hold(place)]),
            From::At(before, volts) => {
                // While contacts change over the current may dip as it likes.
                let over = Segment::hold(OVER, self.out.clone(), seconds(OVER_S));
                let change = self.change(place, before, *volts);
                let mut program = Program::of(vec![change, over, self.charge(), self.hold(place)]);
                let name = place.change.as_ref().map_or("change of tap", |change| &change.id);
                let name = Name::from(name);
                program.captures = vec![self.trace(0, name.clone())];
                program.captures.extend(self.motor.then(|| motor_trace(&name)));
                program.capture = Some(name);
                program.stands = before.stands.clone();
                program
            }
        };
        if !matches!(from, From::At(..)) {
            program.stands = place.stands.clone();
        }
        program.connection = Some(place.leads.clone());
        program.finish = Finish::Keep;
        program
    }

    /// What takes the charge away.
    pub(super) fn off(&self, place: &Place) -> Program {
        let mut program = Program::of(vec![self.discharge()]);
        program.connection = Some(place.leads.clone());
        program.stands = place.stands.clone();
        program
    }

    /// What it takes at a place if all is well.
    pub(super) fn likely(&self) -> Time {
        self.steady_for * 3.0
    }

    pub(super) fn stimulus(&self) -> Quantity {
        Quantity { si: self.current.si(), dimension: Dimension::CURRENT }
    }
}

/// The meter of a tap changer's motor.
pub(super) const MOTOR: &str = "motor current";

/// From before the contacts change over until the motor has stopped.
fn motor_trace(of: &Name) -> Capture {
    Capture {
        name: format!("{of} motor").as_str().into(),
        of: vec![MOTOR.into()],
        rate_hz: MOTOR_RATE_HZ,
        part: Part::AroundEnd {
            segment: 0,
            before: seconds(MOTOR_AROUND_S[0]),
            after: seconds(MOTOR_AROUND_S[1]),
        },
    }
}

/// What dropped in the winding before a change of tap, in V: the middle of what the change is noticed by.
pub(super) fn volts_before(program: &Program) -> Option<f64> {
    let moving = program.segments.iter().find(|segment| segment.name == *MOVE)?;
    let parts = moving.stops.iter().flat_map(|stop| stop.when.parts());
    let limits: Vec<f64> = parts
        .filter_map(|part| match part {
            Condition::Reading { limit_si, .. } => Some(*limit_si),
            _ => None,
        })
        .collect();
    match limits.as_slice() {
        [a, b] => Some(f64::midpoint(*a, *b)),
        _ => None,
    }
}

/// Where the tap changers stand after a program.
pub(super) fn ends_at(program: &Program) -> Vec<Stand> {
    let moves = program.segments.iter().flat_map(|segment| &segment.moves);
    let mut all = program.stands.clone();
    for to in moves {
        all.iter_mut().filter(|stand| stand.of == to.of).for_each(|stand| *stand = to.clone());
    }
    all
}

/// Whether a rig can drive and read direct currents of windings.
pub(crate) fn can(rig: &Capability) -> bool {
    let drives = rig.currents.iter().any(|c| c.meaning == *"winding current");
    let reads = |name: &str| rig.meter(name).is_some_and(|m| m.coupling.is_dc());
    drives && reads("winding current") && reads("winding voltage") && rig.discharge.is_some()
}
