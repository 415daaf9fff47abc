//! Everything that the class of a voltage transformer asks: ratio and polarity by a voltage on the primary,
//! short-circuit impedance from the secondary with the primary shorted, excitation from the secondary;
//! errors without and with burden worked out from them.

use super::class::{ClassTest, criterion, verdict};
use super::excite::{Excitation, read_curve};
use super::plausible::{Doubt, Kind as DoubtKind, Look, hum, unread, verdict_of};
use super::ratio::{RATIO, graded_polarity, graded_ratio};
use super::staged::{Course, Seen};
use crate::instrument::analysis::Class;
use crate::instrument::analysis::criteria::Assessed;
use crate::instrument::analysis::voltage::{VoltageEvidence, VoltagePlate, assess};
use crate::instrument::asset::{InstrumentTransformer, Spot};
use crate::measure::{between, injected, is_beyond_range, point, probe, shown, voltage};
use num_complex::Complex64;
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Judgement, Limits, PointId, Values, Verdict};
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{
    Condition, Profile, Program, Relation, Segment, Steps, Stop, Then,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Also, Bench, Planned, PlannedPoint, SetupError};
use waltron_core::quantity::{Dimension, Measure, Quantity, Voltage, seconds};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// The short-circuit impedance is told.
const IMPEDANCE: Criterion = Criterion::named("short_circuit_impedance");
/// A criterion of the class.
const CRITERION: Criterion = Criterion::named("class_criterion");

const QUIET: &str = "nothing out";
const SHORTED: &str = "primary shorted";
const HELD: &str = "short-circuit impedance";

/// How far above its rated voltage a secondary is fed, where its nameplate tells no factor.
pub(super) const ABOVE: f64 = 1.22;

#[derive(Debug)]
struct PlaceWork {
    ratio: Stimulus,
    /// Rising voltages on the secondary with the primary shorted, and the current at which it is enough.
    shorted: Vec<Stimulus>,
    enough_a: f64,
    excitation: Excitation,
    primary: Probe,
    secondary: Probe,
    amps: Probe,
    rms: Probe,
    quiet: Probe,
}

#[derive(Debug)]
pub(super) struct OfVoltageClass {
    of: InstrumentTransformer,
    test: Name,
    hertz: f64,
    places: Vec<(Spot, PlaceWork)>,
}

impl PlaceWork {
    fn new(
        test: &ClassTest,
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
    ) -> Result<Self, SetupError> {
        let (rig, frequency) = (bench.capability, bench.frequency()?);
        let (secondary, tap) = (of.secondary(spot), of.tap(spot));
        let rated = secondary.secondary.si;
        let primary = tap.primary.ok_or_else(|| {
            SetupError::Unknown("nothing says what the primary is rated for".to_owned())
        })?;
        let output = rig.voltages.iter().find(|c| c.meaning == "primary voltage");
        let source = output.map_or(f64::INFINITY, |c| c.range.si());
        let meter = rig.meter("primary voltage").map_or(f64::INFINITY, |m| m.range);
        let level = Voltage::from_si((primary.si / 10.0).min(source).min(meter * 0.95));
        let amps = tap.burden_va.map_or(0.1, |va| va / rated);
        let shorted = (0..40).map(|k| {
            let volts = rated * 1e-3 * 1.15f64.powi(k);
            voltage(rig, "secondary voltage", Voltage::from_si(volts.min(0.15 * rated)), frequency)
        });
        let until = Quantity {
            si: rated * tap.voltage_factor.map_or(ABOVE, |f| f.max(ABOVE)),
            dimension: Dimension::VOLTAGE,
        };
        Ok(Self {
            ratio: voltage(rig, "primary voltage", level, frequency)?,
            shorted: shorted.collect::<Result<_, _>>()?,
            enough_a: 0.5 * amps,
            excitation: Excitation::new(of, spot, bench, test.resolution, Some(until))?,
            primary: probe(rig, &["primary voltage"], Property::Phasor)?,
            secondary: probe(rig, &["secondary voltage"], Property::Phasor)?,
            amps: probe(rig, &["secondary current"], Property::Phasor)?,
            rms: probe(rig, &["secondary current"], Property::Rms)?,
            quiet: probe(rig, &["secondary voltage"], Property::Rms)?,
        })
    }

    fn ratio_program(&self) -> Program {
        let mut quiet = Segment::hold(QUIET, Stimulus::off(), seconds(0.4));
        quiet.reads = vec![Read { probe: self.quiet.clone(), when: When::EachLevel }];
        let ratio = Segment::hold("ratio", self.ratio.clone(), seconds(2.0));
        let mut program = Program::of(vec![quiet, ratio]);
        program.reads = vec![self.primary.clone(), self.secondary.clone()];
        program
    }

    fn shorted_program(&self, spot: &Spot) -> Program {
        let enough = Condition::Reading {
            probe: self.rms.clone(),
            relation: Relation::AtLeast,
            limit_si: self.enough_a,
        };
        let steps = Steps { levels: self.shorted.clone(), dwell: seconds(0.3), rest: None };
        let stop = Stop { when: enough, then: Then::End };
        let mut segment = Segment::new(SHORTED, Profile::Steps(steps), vec![stop]);
        segment.reads = vec![Read { probe: self.rms.clone(), when: When::EachLevel }];
        self.with_short(spot, Program::of(vec![segment]))
    }

    /// The voltage at which it was enough, held until what comes of switching it on has died away: the stair was cut
    /// within that.
    fn held_program(&self, spot: &Spot, stair: &Observation) -> Program {
        let levels = stair.in_segment(0, &self.rms).count().clamp(1, self.shorted.len());
        let held = Segment::hold(HELD, self.shorted[levels - 1].clone(), seconds(1.0));
        let mut program = Program::of(vec![held]);
        program.reads = vec![self.secondary.clone(), self.amps.clone()];
        self.with_short(spot, program)
    }

    fn with_short(&self, spot: &Spot, mut program: Program) -> Program {
        let place = spot.connection.as_ref().map_or_else(String::new, |c| format!("{c}, "));
        program.connection = Some(format!("{place}{SHORTED}").as_str().into());
        program.shorts = Some("the primary".into());
        program
    }

    /// The short-circuit impedance, with what it is uncertain by.
    fn impedance(&self, seen: &Observation) -> Result<(Estimate, f64), String> {
        let last = |probe: &Probe| {
            let shown = shown(seen, probe)?;
            Ok::<_, String>((shown.estimate(), shown.angle.ok_or("it shows no phase")?))
        };
        let ((volts, v), (amps, i)) = (last(&self.secondary)?, last(&self.amps)?);
        if amps.value <= 3.0 * amps.expanded() {
            return Err("almost no current flowed: the primary was not shorted".to_owned());
        }
        Ok((volts.over(&amps), Complex64::from_polar(1.0, v - i).arg()))
    }
}

impl OfVoltageClass {
    pub(super) fn new(
        test: &ClassTest,
        of: &InstrumentTransformer,
        spots: &[Spot],
        bench: Bench<'_>,
    ) -> Result<Self, SetupError> {
        let places =
            spots.iter().map(|spot| Ok((spot.clone(), PlaceWork::new(test, of, spot, bench)?)));
        let places = places.collect::<Result<_, SetupError>>()?;
        let hertz = bench.frequency()?.si();
        Ok(Self { of: of.clone(), test: test.test.clone(), hertz, places })
    }

    fn work(&self, spot: &Spot) -> Option<&PlaceWork> {
        self.places.iter().find(|(of, _)| of == spot).map(|(_, work)| work)
    }

    fn point(&self, spot: &Spot, what: &str) -> PointId {
        point(&self.test, &format!("{}{what}", spot.prefix))
    }

    fn plate(&self, spot: &Spot) -> Option<VoltagePlate> {
        let (secondary, tap) = (self.of.secondary(spot), self.of.tap(spot));
        Some(VoltagePlate {
            primary_v: tap.primary?.si,
            secondary_v: secondary.secondary.si,
            burden_va: tap.burden_va,
            power_factor: tap.power_factor,
            voltage_factor: tap.voltage_factor,
        })
    }

    fn assessed(&self, spot: &Spot, seen: &VoltageEvidence) -> Vec<Assessed> {
        match (self.of.tap(spot).class, self.plate(spot)) {
            (Some(class), Some(plate)) => assess(class, &plate, seen),
            _ => Vec::new(),
        }
    }

    fn class(&self, spot: &Spot) -> Option<Class> {
        self.of.tap(spot).class
    }
}

fn nothing() -> VoltageEvidence {
    let not = || "not measured".to_owned();
    VoltageEvidence { turns: Err(not()), short_circuit: Err(not()), curve: Err(not()) }
}

fn last<'a>(seen: &[Seen<'a>], name: &str) -> Option<&'a Observation> {
    let has = |program: &Program| program.segments.first().is_some_and(|s| s.name == name);
    seen.iter().rev().find(|(program, _)| has(program)).map(|(_, seen)| *seen)
}

impl Course for OfVoltageClass {
    fn planned(&self, spot: &Spot) -> Planned {
        let certain =
            |what: &str, criterion| PlannedPoint::certain(self.point(spot, what), criterion);
        let mut points = vec![
            certain("readings", Criterion::CONDITION),
            certain("ratio", RATIO),
            certain("polarity", Criterion::CONDITION),
            certain("short-circuit-impedance", IMPEDANCE),
        ];
        let criteria = self.assessed(spot, &nothing());
        points.extend(criteria.iter().map(|a| certain(&a.key, CRITERION)));
        if self.class(spot).is_some() {
            points.push(certain("class", Criterion::CONDITION));
        }
        let (mut program, mut likely) = (Program::default(), seconds(0.0));
        let mut also = Vec::new();
        if let Some(work) = self.work(spot) {
            program = work.ratio_program();
            likely += program.longest().unwrap_or_default() + work.excitation.likely();
            let shorted = work.shorted_program(spot);
            likely += shorted.longest().unwrap_or_default() / 2.0 + seconds(1.0);
            also = self.of.arises(spot, work.excitation.most());
            also.extend(shorted.connection.clone().map(|at| Also::Leads { at }));
            program.segments.extend(shorted.segments);
            let most = work.shorted.last();
            program
                .segments
                .extend(most.map(|most| Segment::hold(HELD, most.clone(), seconds(1.0))));
            program.segments.extend(work.excitation.worst());
        }
        program.connection = spot.connection.clone();
        Planned {
            points,
            stimulus: self.work(spot).map_or_else(Values::none, |work| {
                Values::none().with("voltage", work.excitation.most())
            }),
            expected: Values::none(),
            limits: Limits::None,
            program: Arc::new(program),
            likely,
            place: None,
            not_tested: None,
            is_exact: false,
            also,
        }
    }

    fn next(&self, spot: &Spot, seen: &[Seen<'_>]) -> Option<Program> {
        let work = self.work(spot)?;
        if last(seen, QUIET).is_none() {
            return Some(work.ratio_program());
        }
        if let Some(program) = work.excitation.next(seen, None) {
            return Some(program);
        }
        let Some(stair) = last(seen, SHORTED) else { return Some(work.shorted_program(spot)) };
        last(seen, HELD).is_none().then(|| work.held_program(spot, stair))
    }

    fn grade(&self, spot: &Spot, seen: &[Seen<'_>]) -> Vec<Finding> {
        let Some(work) = self.work(spot) else { return Vec::new() };
        let quiet = last(seen, QUIET);
        let not = |what: &str| format!("the {what} was not measured");
        let read = quiet
            .ok_or_else(|| not("ratio"))
            .and_then(|seen| Ok((shown(seen, &work.primary)?, shown(seen, &work.secondary)?)));
        let ratio = read.as_ref().map_err(Clone::clone);
        let ratio = ratio.map(|(p, s)| p.estimate().over(&s.estimate()));
        let impedance = match last(seen, HELD) {
            Some(seen) => work.impedance(seen),
            None => Err(not("short-circuit impedance")),
        };
        let winding = impedance.as_ref().map_or(0.0, |(z, angle)| z.value * angle.cos() / 2.0);
        let curve = read_curve(seen, winding, self.hertz).map(|c| c.curve);
        let mut evidence =
            VoltageEvidence { turns: ratio.clone(), short_circuit: impedance.clone(), curve };
        if let Ok((_, s)) = &read {
            evidence.take_drop_off(s.value);
        }
        let look = Look {
            of: &self.of,
            spot,
            primary_v: None,
            turns: ratio.as_ref().ok().map(|turns| turns.value),
            is_beyond: quiet.is_some_and(|seen| is_beyond_range(seen, &work.secondary)),
            before: None,
            winding_ohm: None,
            curve: None,
        };
        let mut doubts: Vec<Doubt> = look.doubts();
        if let (Some(seen), Ok((_, s))) = (quiet, &read) {
            let before = seen.in_segment(0, &work.quiet).last();
            let before = before.and_then(|r| crate::measure::of(r).ok()).map_or(0.0, |s| s.value);
            doubts.extend(hum(before, s.value, "secondary"));
        }
        let curve = &evidence.curve;
        doubts.extend(unread([
            ratio.as_ref().err(),
            curve.as_ref().err(),
            impedance.as_ref().err(),
        ]));
        let mut found = vec![verdict_of(
            injected(self.point(spot, "readings"), Criterion::CONDITION, &Values::none()),
            &doubts,
        )];
        let rated = self.of.secondary(spot).ratio(self.of.tap(spot));
        let of_ratio = injected(self.point(spot, "ratio"), RATIO, &Values::none());
        let of_ratio = Finding {
            expected: rated.map_or_else(Values::none, |r| {
                Values::none().with_quantity("ratio", Quantity::number(r))
            }),
            limits: rated.map_or(Limits::None, |r| {
                between(self.of.ratio_tolerance.limits(r), Dimension::NUMBER)
            }),
            ..of_ratio
        };
        let polarity =
            injected(self.point(spot, "polarity"), Criterion::CONDITION, &Values::none());
        match (&ratio, &read) {
            (Ok(turns), Ok((p, s))) => {
                found.push(graded_ratio(of_ratio, turns, rated));
                let angle = p.angle_estimate().zip(s.angle_estimate()).map(|(p, s)| {
                    let turned = s.minus(&p);
                    let within = Complex64::from_polar(1.0, turned.value).arg();
                    turned.function(within, 1.0)
                });
                found.push(graded_polarity(polarity, angle));
            }
            (Err(why), _) | (_, Err(why)) => {
                let open = Judgement::new(Verdict::Inconclusive, why.clone());
                found.push(of_ratio.judged(open.clone()));
                found.push(polarity.judged(open));
            }
        }
        let told =
            injected(self.point(spot, "short-circuit-impedance"), IMPEDANCE, &Values::none());
        let ohms = |si| Quantity { si, dimension: Dimension::RESISTANCE };
        found.push(match &impedance {
            Ok((size, angle)) => {
                let z = Complex64::from_polar(size.value, *angle);
                let measured = Values::none()
                    .with_quantity("impedance", ohms(size.value))
                    .with_quantity("resistance", ohms(z.re))
                    .with_quantity("reactance", ohms(z.im));
                let why = format!("{} + j {} seen from the secondary", ohms(z.re), ohms(z.im));
                let told = Finding { measured, ..told }.uncertain(size);
                told.judged(Judgement::new(Verdict::Measured, why))
            }
            Err(why) => told.judged(Judgement::new(Verdict::Inconclusive, why.clone())),
        });
        let assessed = self.assessed(spot, &evidence);
        let doubtful = doubts.iter().find(|d| d.kind == DoubtKind::HookUp);
        found.extend(assessed.iter().map(|a| {
            let found = injected(self.point(spot, &a.key), CRITERION, &Values::none());
            criterion(found, a, doubtful)
        }));
        if let Some(class) = self.class(spot) {
            let of_class =
                injected(self.point(spot, "class"), Criterion::CONDITION, &Values::none());
            found.push(of_class.judged(verdict(class, &assessed, &doubts)));
        }
        found
    }
}
