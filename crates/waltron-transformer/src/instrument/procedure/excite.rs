//! Excitation: up until the core is saturated, then from beyond the knee downwards, which leaves it
//! demagnetised, with voltage and current read on every level.

use super::staged::Seen;
use crate::instrument::analysis::Move;
use crate::instrument::analysis::{Class, ExcitationCurve, Sample};
use crate::instrument::asset::{InstrumentTransformer, Kind, Spot};
use crate::measure::Shown;
use crate::measure::{of as shown_of, probe, voltage};
use num_complex::Complex64;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Capture, Part, Probe, Property, Read, Reading, When};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{
    Condition, Profile, Program, Relation, Segment, Steps, Stop, Then,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, SetupError};
use waltron_core::quantity::{
    Dimension, Frequency, Measure, Quantity, Time, Voltage, seconds, significant,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// How many points a curve gets.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Resolution {
    /// Some hundred points, for every class and the chart.
    #[default]
    Fine,
    /// Some forty.
    Quick,
}

impl Resolution {
    /// Points above, around and below the knee.
    fn points(self) -> [usize; 3] {
        match self {
            Self::Fine => [14, 70, 46],
            Self::Quick => [5, 22, 15],
        }
    }

    /// Periods on each level.
    fn periods(self) -> f64 {
        match self {
            Self::Fine => 15.0,
            Self::Quick => 10.0,
        }
    }
}

/// The segment in which the core is taken into saturation.
const UP: &str = "into saturation";
/// The segment in which it is taken there again, without jumps.
const APPROACH: &str = "back into saturation";
/// The segment in which the curve is read.
const DOWN: &str = "excitation";

/// The segment in which the waves of the saturated core are looked at.
const WAVES: &str = "waves";

/// By how much each level lies above the one before, on the way up.
const STEP: f64 = 1.05;
/// The first level on the way up, as a share of the largest.
const FIRST: f64 = 0.04;
/// Periods on each level there.
const UP_PERIODS: f64 = 5.0;

/// How a place is excited.
#[derive(Clone, Debug)]
pub(crate) struct Excitation {
    rig: Capability,
    resolution: Resolution,
    /// The largest voltage: insulation, source and meter.
    most_v: f64,
    /// The current at which the core counts as saturated, in A.
    enough_a: f64,
    lowest: Lowest,
    /// The rated frequency and the lowest that the source puts out, in Hz.
    hertz: [f64; 2],
    /// What ends it by the plan's own word.
    until: Option<Quantity>,
    probes: Probes,
    /// The name under which the waves of the saturated core are kept, where they are.
    waves: Option<Name>,
}

#[derive(Clone, Debug)]
struct Probes {
    volts: Probe,
    amps: Probe,
    rms: Probe,
    peak: Probe,
}

impl Probes {
    fn of(rig: &Capability) -> Result<Self, SetupError> {
        let sides = ["secondary voltage", "secondary current"];
        Ok(Self {
            volts: probe(rig, &sides[..1], Property::Phasor)?,
            amps: probe(rig, &sides[1..], Property::Phasor)?,
            rms: probe(rig, &sides[1..], Property::Rms)?,
            peak: probe(rig, &sides[1..], Property::Peak)?,
        })
    }

    fn reads(&self) -> Vec<Read> {
        let all = [&self.volts, &self.amps, &self.rms, &self.peak];
        all.map(|p| Read { probe: p.clone(), when: When::EachLevel }).to_vec()
    }
}

/// The resistance that a winding may have where nothing tells it: that of its rated burden.
fn assumed_winding(of: &InstrumentTransformer, spot: &Spot) -> f64 {
    let (secondary, tap) = (of.secondary(spot), of.tap(spot));
    let burden = tap.burden_va.map(|va| va / (secondary.secondary.si * secondary.secondary.si));
    tap.resistance_ohm.or(burden).unwrap_or(1.0)
}

/// The e.m.f. that a class asks of a place, in V; `None` where no class does.
pub(super) fn wanted_emf(of: &InstrumentTransformer, spot: &Spot) -> Option<f64> {
    let (secondary, tap) = (of.secondary(spot), of.tap(spot));
    let rated = secondary.secondary.si;
    let burden = tap.burden_va.map(|va| va / (rated * rated));
    let z = assumed_winding(of, spot) + burden.unwrap_or(0.0);
    match tap.class? {
        Class::Protection { limit_factor, .. } => Some(limit_factor * rated * z),
        Class::KneePoint { .. } => tap.knee_v,
        Class::Transient(_) => tap.duty.map(|d| d.symmetrical * d.dimensioning * rated * z),
        Class::Measuring(_) => Some(tap.security_factor.unwrap_or(2.0) * rated * z),
        Class::IeeeRelaying { volts, .. } => Some(volts * 5.0 / rated * 1.2),
        Class::IeeeMetering(_) => Some(2.0 * rated * z),
        Class::Voltage(_) | Class::VoltageProtection(_) => None,
    }
}

/// The exciting current at which all that a class asks has been seen, in A.
fn enough(of: &InstrumentTransformer, spot: &Spot) -> f64 {
    let (secondary, tap) = (of.secondary(spot), of.tap(spot));
    let rated = secondary.secondary.si;
    match tap.class {
        Some(Class::Protection { percent, limit_factor, .. }) => {
            (1.2 * f64::from(percent) / 100.0 * limit_factor).max(0.2) * rated
        }
        Some(Class::KneePoint { .. }) => {
            tap.exciting.map_or(rated, |(i, share)| 8.0 * i / share).min(rated)
        }
        Some(Class::Measuring(_)) => {
            let factor = tap.security_factor.unwrap_or(2.0);
            (0.12 * factor).clamp(0.2, 2.0) * rated
        }
        Some(Class::Transient(_)) => {
            tap.duty.map_or(1.0, |d| 0.15 * d.symmetrical).clamp(0.2, 2.0) * rated
        }
        Some(Class::IeeeRelaying { .. }) => 2.4 * rated,
        _ => rated,
    }
}

/// The lowest e.m.f. whose exciting current a class asks for.
#[derive(Clone, Copy, Debug)]
struct Lowest {
    /// The least secondary current, in A.
    current_a: f64,
    /// The least burden, in ohms.
    burden_ohm: f64,
    /// What it is at least, in V.
    floor_v: f64,
}

impl Lowest {
    fn of(of: &InstrumentTransformer, spot: &Spot, resolution: Resolution) -> Self {
        let (secondary, tap) = (of.secondary(spot), of.tap(spot));
        let rated = secondary.secondary.si;
        if of.kind == Kind::Voltage {
            return Self { current_a: 0.0, burden_ohm: 0.0, floor_v: 0.018 * rated };
        }
        let va = tap.burden_va.unwrap_or(0.0);
        let (share, least_va) = match tap.class {
            Some(Class::Measuring(class)) => {
                let share = class.rows(1.2).first().map_or(0.05, |row| row.share);
                (share, (class.least_burden() * va).max(1.0f64.min(va)))
            }
            // Far enough to be graded again by any other class.
            _ if resolution == Resolution::Fine => (0.01, (0.25 * va).max(1.0f64.min(va))),
            Some(Class::IeeeMetering(_)) => (0.1, va),
            _ => (1.0, va),
        };
        Self { current_a: share * rated, burden_ohm: least_va / (rated * rated), floor_v: 0.0 }
    }

    /// In V, with the winding's resistance, where it is known.
    fn volts(self, winding_ohm: Option<f64>) -> f64 {
        let z = winding_ohm.unwrap_or(0.0) + self.burden_ohm * 0.8;
        (0.85 * self.current_a * z).max(self.floor_v)
    }
}

/// The current that the secondary carries for ever, in A.
fn carries(asset: &Asset) -> f64 {
    let ratings = &asset.ratings;
    let own = ratings.own_currents.iter().find(|(meaning, _)| *meaning == "secondary current");
    let withstand = own.map_or(&ratings.currents, |(_, withstand)| withstand);
    let for_ever = withstand.ratings().iter().filter(|r| r.duration.is_none());
    for_ever.map(|r| r.value.si()).fold(f64::INFINITY, f64::min)
}

impl Excitation {
    pub(super) fn new(
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
        resolution: Resolution,
        until: Option<Quantity>,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let rated = bench.frequency()?;
        // Whether there is such an output is asked first.
        let stimulus = voltage(rig, "secondary voltage", Voltage::from_si(0.0), rated)?;
        let channel = stimulus.voltages.first().map(|d| d.channel.clone());
        let output = rig.voltages.iter().find(|c| Some(&c.id) == channel.as_ref());
        let range = |meaning: &str| rig.meter(meaning).map_or(f64::INFINITY, |m| m.range);
        let tap = of.tap(spot);
        // A voltage transformer's secondary withstands what its until is worked out from.
        let own = (of.kind == Kind::Voltage).then_some(f64::INFINITY);
        let insulation = tap.test_voltage_v.or(own).ok_or_else(|| {
            let message = "nothing says which voltage the secondary withstands: give `test_voltage` in the asset's `[[core]]`";
            SetupError::Unknown(message.to_owned())
        })?;
        let limits = [
            (insulation, "the winding's test voltage"),
            (output.map_or(f64::INFINITY, |c| c.range.si()), "the source"),
            (range("secondary voltage"), "the meter of the voltage"),
        ];
        let (most_v, most_by) =
            limits.into_iter().fold(limits[0], |a, b| if b.0 < a.0 { b } else { a });
        let carries = carries(bench.asset);
        let drives = output.and_then(|c| c.ability.compliance).unwrap_or(f64::INFINITY);
        let most_a =
            [carries, drives, range("secondary current")].into_iter().fold(f64::INFINITY, f64::min);
        let wanted = match until {
            Some(q) if q.dimension == Dimension::CURRENT => q.si,
            _ => enough(of, spot),
        };
        let lowest_hz = output.and_then(|c| c.ability.frequency).map_or(rated, |(low, _)| low);
        let enough_a = wanted.min(0.9 * most_a);
        // What ends it at a voltage limits it, too.
        let most_v = match until {
            Some(q) if q.dimension == Dimension::VOLTAGE => most_v.min(q.si),
            _ => most_v,
        };
        if until.is_none()
            && let Some(asked) = wanted_emf(of, spot)
            && let Some(weak) =
                too_weak(most_v, most_by, asked, [rated, lowest_hz].map(Measure::si))
        {
            return Err(SetupError::Unknown(weak));
        }
        Ok(Self {
            rig: rig.clone(),
            resolution,
            most_v,
            enough_a,
            lowest: Lowest::of(of, spot, resolution),
            hertz: [rated.si(), lowest_hz.si().min(rated.si())],
            until,
            probes: Probes::of(rig)?,
            waves: None,
        })
    }

    /// Keeps the waves of the saturated core as well.
    pub(super) fn with_waves(self, spot: &Spot) -> Self {
        let place = spot.connection.as_ref().map_or_else(String::new, |c| format!("{c} "));
        Self { waves: Some(format!("{place}saturated").as_str().into()), ..self }
    }

    /// The saturated core held for a moment, with its waves looked at; the way down takes away what this
    /// leaves behind.
    fn saturated(&self, name: &Name, up: &Program, seen: &Observation) -> Program {
        let hertz = hertz_of(up).unwrap_or(self.hertz[0]);
        let top = self.course(seen).last().map_or(self.ends_at(hertz), |(v, _)| *v);
        let level = self.level(top.min(self.most_v), hertz);
        let mut program = Program::of(vec![Segment::hold(WAVES, level, seconds(0.4))]);
        let of = ["secondary voltage", "secondary current"].map(Name::from).to_vec();
        let capture = Capture { name: name.clone(), of, rate_hz: 10_000.0, part: Part::Whole };
        program.captures = vec![capture];
        program.capture = Some(name.clone());
        program
    }

    fn level(&self, volts: f64, hertz: f64) -> Stimulus {
        let stimulus = voltage(
            &self.rig,
            "secondary voltage",
            Voltage::from_si(volts),
            Frequency::from_si(hertz),
        );
        stimulus.unwrap_or_default()
    }

    fn steps(&self, name: &str, levels: &[f64], hertz: f64, periods: f64) -> Segment {
        let levels = levels.iter().map(|v| self.level(*v, hertz)).collect();
        // Whole periods, and each level begins at the crest, where the flux passes through zero: nothing
        // is left behind.
        let dwell = seconds(periods / hertz);
        Segment::new(name, Profile::Steps(Steps { levels, dwell, rest: None }), Vec::new())
    }

    /// The voltage at which it ends by the plan's word, at a frequency.
    fn ends_at(&self, hertz: f64) -> f64 {
        match self.until {
            Some(q) if q.dimension == Dimension::VOLTAGE => q.si.min(self.most_v),
            // The peak of the flux in V·s.
            Some(q) if q.dimension == Dimension::VOLTS_PER_HERTZ => {
                (q.si * std::f64::consts::TAU * hertz / std::f64::consts::SQRT_2).min(self.most_v)
            }
            _ => self.most_v,
        }
    }

    fn up(&self, hertz: f64) -> Program {
        let most = self.ends_at(hertz);
        let mut levels = Vec::new();
        let mut volts = most * FIRST;
        while volts < most {
            levels.push(volts);
            volts *= STEP;
        }
        levels.push(most);
        let enough = Condition::Reading {
            probe: self.probes.rms.clone(),
            relation: Relation::AtLeast,
            limit_si: self.enough_a,
        };
        let mut segment = self.steps(UP, &levels, hertz, UP_PERIODS);
        segment.stops = vec![Stop { when: enough, then: Then::End }];
        segment.reads = vec![
            Read { probe: self.probes.volts.clone(), when: When::EachLevel },
            Read { probe: self.probes.rms.clone(), when: When::EachLevel },
        ];
        Program::of(vec![segment])
    }

    /// What the way up has shown: voltage and current of each level.
    fn course(&self, seen: &Observation) -> Vec<(f64, f64)> {
        let of = |probe| seen.in_segment(0, probe).map(value).collect::<Vec<_>>();
        let (v, i) = (of(&self.probes.volts), of(&self.probes.rms));
        v.into_iter().zip(i).filter_map(|(v, i)| Some((v?, i?))).collect()
    }

    /// Where the way down begins: the last voltage of the way up, or, where its last step went far beyond
    /// what is enough, a little beyond that.
    fn top(&self, course: &[(f64, f64)]) -> Option<f64> {
        let (v, i) = *course.last()?;
        let wanted = 1.2 * self.enough_a;
        let before = course.len().checked_sub(2).map(|k| course[k]);
        match before.filter(|(_, low)| i > 1.5 * self.enough_a && *low > 0.0 && *low < wanted) {
            Some((u, low)) => Some(u * (v / u).powf((wanted / low).ln() / (i / low).ln())),
            // One step alone was beyond: something takes far more current than a core does.
            None if before.is_none() && i > 1.5 * self.enough_a => Some(v * wanted / i),
            None => Some(v),
        }
    }

    fn down(&self, up: &Program, seen: &Observation, winding_ohm: Option<f64>) -> Program {
        let hertz = hertz_of(up).unwrap_or(self.hertz[0]);
        let course = self.course(seen);
        let top = self.top(&course).unwrap_or(self.ends_at(hertz)).min(self.most_v);
        let knee = coarse_knee(&course).unwrap_or(top * 0.7).clamp(0.2 * top, 0.95 * top);
        // At a lower frequency the same flux takes less voltage.
        let least = self.lowest.volts(winding_ohm) * hertz / self.hertz[0];
        let least = least.min(top / 300.0).max(top / 2e5);
        let [above, around, below] = self.resolution.points();
        let (high, low) = ((1.3 * knee).min(top), 0.55 * knee);
        let mut levels = geometric(top, high, if high < top { above } else { 0 });
        levels.extend(geometric(high, low, around));
        levels.extend(geometric(low, least, below));
        levels.push(least);
        let approach: Vec<f64> = (1..=10).map(|k| top * f64::from(k) / 10.0).collect();
        let beyond = Condition::Reading {
            probe: self.probes.rms.clone(),
            relation: Relation::AtLeast,
            limit_si: self.enough_a * 3.0,
        };
        let stop = Stop { when: beyond, then: Then::Off };
        let mut approach = self.steps(APPROACH, &approach, hertz, UP_PERIODS);
        approach.stops = vec![stop.clone()];
        let mut down = self.steps(DOWN, &levels, hertz, self.resolution.periods());
        down.stops = vec![stop];
        down.reads = self.probes.reads();
        Program::of(vec![approach, down])
    }

    /// The next program; `None` when the curve is in. The winding's resistance tells how far down.
    pub(super) fn next(&self, seen: &[Seen<'_>], winding_ohm: Option<f64>) -> Option<Program> {
        if seen.iter().any(|(program, _)| is_down(program)) {
            return None;
        }
        let up = seen.iter().rev().find(|(program, _)| is_up(program));
        let Some((program, observation)) = up else { return Some(self.up(self.hertz[0])) };
        let hertz = hertz_of(program).unwrap_or(self.hertz[0]);
        let is_saturated = observation.segments.first().is_some_and(|s| s.ended == Ended::Stop(0));
        // Below the source's reach a lower frequency gives the same flux with less.
        let lower = (hertz / 2.0).max(self.hertz[1]);
        if !is_saturated && self.until.is_none() && lower < hertz * 0.99 {
            return Some(self.up(lower));
        }
        let has_waves =
            seen.iter().any(|(p, _)| p.segments.first().is_some_and(|s| s.name == WAVES));
        if let Some(name) = self.waves.as_ref().filter(|_| !has_waves) {
            return Some(self.saturated(name, program, observation));
        }
        Some(self.down(program, observation, winding_ohm))
    }

    /// The most that may be put out.
    pub(super) fn worst(&self) -> Vec<Segment> {
        let up = self.up(self.hertz[0]);
        let hold = Segment::hold(DOWN, self.level(self.most_v, self.hertz[0]), self.lasts());
        let slow = match self.hertz[1] < self.hertz[0] {
            true => self.up(self.hertz[1]).segments,
            false => Vec::new(),
        };
        let mut all = up.segments;
        all.extend(slow);
        // What is read is read of the same.
        all.push(Segment { reads: self.probes.reads(), ..hold });
        all
    }

    fn lasts(&self) -> Time {
        let points: usize = self.resolution.points().iter().sum();
        seconds(points as f64 * self.resolution.periods() / self.hertz[0])
    }

    /// The largest voltage that it may come to.
    pub(super) fn most(&self) -> Voltage {
        Voltage::from_si(self.ends_at(self.hertz[0]))
    }

    /// What it takes if all is well.
    pub(super) fn likely(&self) -> Time {
        let levels = (1.0 / FIRST).ln() / STEP.ln();
        self.lasts() + seconds(levels * UP_PERIODS / self.hertz[0])
    }
}

/// Why a class's core will not be seen to saturate, at no frequency that is allowed.
fn too_weak(most_v: f64, by: &str, asked: f64, [rated, lowest]: [f64; 2]) -> Option<String> {
    let reach = most_v * rated / lowest.min(rated);
    let n = |si: f64| significant(si, 3);
    (reach < asked).then(|| {
        format!(
            "{by} allows {} V, at {} Hz as much flux as {} V at {} Hz, and the class asks for {} V: the knee cannot be reached; say how far to go with `until`, such as \"{} V\", to leave it open",
            n(most_v),
            n(lowest.min(rated)),
            n(reach),
            n(rated),
            n(asked),
            n(most_v)
        )
    })
}

fn value(reading: &Reading) -> Option<f64> {
    shown_of(reading).ok().map(|s| s.value)
}

fn is_up(program: &Program) -> bool {
    program.segments.first().is_some_and(|s| s.name == UP)
}

fn is_down(program: &Program) -> bool {
    program.position(DOWN).is_some() && !is_up(program)
}

/// The frequency of what a program puts out, in Hz.
fn hertz_of(program: &Program) -> Option<f64> {
    let mut levels = program.segments.iter().flat_map(Segment::levels);
    levels.find_map(|(level, _)| level.frequency().map(Measure::si))
}

/// Where current begins to rise much faster than voltage, on the coarse way up: seen from above, since at
/// its begin the core may still be magnetised.
fn coarse_knee(course: &[(f64, f64)]) -> Option<f64> {
    let slope = |w: &[(f64, f64)]| (w[1].1 / w[0].1).ln() / (w[1].0 / w[0].0).ln();
    let steep = course.windows(2).rposition(|w| slope(w) > 4.0)?;
    let below = course[..=steep].windows(2).rposition(|w| slope(w) < 4.0)?;
    Some(course[below].0)
}

/// Levels from one down to another, the last one left out.
fn geometric(from: f64, to: f64, count: usize) -> Vec<f64> {
    let by = (to / from).powf(1.0 / count.max(1) as f64);
    (0..count).map(|k| from * by.powi(k as i32)).collect()
}

/// A curve as it was read.
#[derive(Clone, Debug)]
pub(crate) struct Curve {
    /// At the rated frequency.
    pub(crate) curve: ExcitationCurve,
    /// The frequency at which it was measured, in Hz.
    pub(crate) hertz: f64,
}

/// By how much the errors of its meters move a point.
fn moves(volts: &Shown, amps: &Shown) -> Vec<Move> {
    let mut all: Vec<Move> = Vec::new();
    let mut add = |estimate: Option<Estimate>, what: fn(&mut Move) -> &mut f64, share: f64| {
        for (cause, by) in estimate.iter().flat_map(Estimate::moves) {
            let of_level = cause.of_all_looks();
            let known = all.iter_mut().find(|known| known.cause.source == of_level.source);
            let by = by * share;
            match known {
                Some(known) => *what(known) += by,
                None => {
                    let mut new = Move { cause: of_level, emf: 0.0, current: 0.0, turn: 0.0 };
                    *what(&mut new) = by;
                    all.push(new);
                }
            }
        }
    };
    add(Some(volts.estimate()), |m| &mut m.emf, 1.0 / volts.value);
    add(Some(amps.estimate()), |m| &mut m.current, 1.0 / amps.value);
    add(volts.angle_estimate(), |m| &mut m.turn, -1.0);
    add(amps.angle_estimate(), |m| &mut m.turn, 1.0);
    all
}

/// Reads the curve that was measured at a place, with the resistance that its winding had then.
///
/// # Errors
/// Why there is none.
pub(crate) fn read_curve(
    seen: &[Seen<'_>],
    winding_ohm: f64,
    rated_hz: f64,
) -> Result<Curve, String> {
    let down = seen.iter().rev().find(|(program, _)| is_down(program));
    let (program, observation) = down.ok_or("the excitation was not measured")?;
    let segment = program.position(DOWN).unwrap_or_default();
    let hertz = hertz_of(program).ok_or("nothing was put out")?;
    let mut samples: Vec<(usize, [Option<&Reading>; 4])> = Vec::new();
    let mut readings = observation.readings.iter();
    for reading in readings.by_ref() {
        let Some(place) = reading.place.filter(|place| place.segment == segment) else { continue };
        let kind = match (reading.probe.of.as_str(), reading.probe.what) {
            ("secondary voltage", Property::Phasor) => 0,
            ("secondary current", Property::Phasor) => 1,
            ("secondary current", Property::Rms) => 2,
            ("secondary current", Property::Peak) => 3,
            _ => continue,
        };
        if samples.last().is_none_or(|(level, _)| *level != place.level) {
            samples.push((place.level, [None; 4]));
        }
        if let Some((_, all)) = samples.last_mut() {
            all[kind] = Some(reading);
        }
    }
    let times = rated_hz / hertz;
    let sample = |(_, all): &(usize, [Option<&Reading>; 4])| {
        let [volts, amps, rms, peak] = *all;
        let phasor = |reading: Option<&Reading>| shown_of(reading?).ok();
        let (volts, amps) = (phasor(volts)?, phasor(amps)?);
        let polar = |shown: &Shown| Some(Complex64::from_polar(shown.value, shown.angle?));
        let (v, i) = (polar(&volts)?, polar(&amps)?);
        let rms = shown_of(rms?).ok()?;
        // Of what the meter cannot tell from nothing there is no point.
        if rms.value <= 2.0 * rms.u.unwrap_or(0.0) {
            return None;
        }
        let emf = v - i * winding_ohm;
        let peak_a = peak.and_then(value);
        Some(Sample {
            emf_v: emf.norm() * times,
            rms_a: rms.value,
            current: i * emf.conj() / emf.norm(),
            peak_a,
            moves: moves(&volts, &amps),
        })
    };
    let points: Vec<Sample> = samples.iter().filter_map(sample).collect();
    let curve = ExcitationCurve::new(points).map_err(|error| error.to_string())?;
    Ok(Curve { curve, hertz })
}
