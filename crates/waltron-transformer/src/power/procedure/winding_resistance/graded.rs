//! What was seen at a place, and what it comes to.

use super::places::{Alike, Place, Places, ToldAt, ohms};
use super::programs::{MOTOR, Programs, ends_at, volts_before};
use super::{CHANGE, CHARGE, DIFFERENCE, HOLD, MOVE, RESISTANCE};
use crate::material::{celsius, of_temperature};
use crate::measure::{injected, of as shown};
use crate::power::changeover::{Changeover, Samples, changeover};
use crate::power::settling::{Settling, settling};
use crate::power::vector_group::Connection;
use waltron_core::grading::{
    Finding, Grade, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::{Captured, Probe};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::Program;
use waltron_core::quantity::{Dimension, Measure, Quantity, Time, seconds, significant, text};
use waltron_core::uncertainty::{Cause, Estimate};

/// The fewest of the last readings that tell where they go.
const FEWEST: usize = 8;

/// What was put out and what was seen.
pub(super) type Seen<'a> = (&'a Program, &'a Observation);

/// Whether a program only holds on what flows already.
pub(super) fn holds_on(program: &Program) -> bool {
    program.segments.first().is_some_and(|segment| segment.name == *HOLD)
}

/// A resistance as it was measured.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Read {
    /// With what makes it uncertain, and what is left to come among that.
    pub(super) ohm: Estimate,
    /// What is left to come, as a share, by slope and time constant.
    pub(super) left: f64,
    /// What that is uncertain by, as a share.
    pub(super) of_left: f64,
    pub(super) time_constant_s: Option<f64>,
    /// What drops in the winding, in V.
    pub(super) volts: f64,
    /// Whether the readings stayed within the band.
    pub(super) is_steady: bool,
    /// Whether there were enough of them to tell where they go.
    pub(super) is_told: bool,
}

/// Why nothing was measured.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Trouble {
    /// The current broke off while it was held.
    BrokenOff,
    /// The current did not come.
    NotCharged,
    /// No change of tap was noticed.
    NotMoved,
    /// The tap was said to be changed, and was not.
    Nowhere,
    /// A meter showed nothing.
    Meter(String),
}

impl Trouble {
    pub(super) fn words(&self, programs: &Programs, place: &Place) -> String {
        match self {
            Self::BrokenOff => format!(
                "ALARM: the current broke off while the winding was charged: a lead of {} is off; keep away, its store comes as an arc and dies away through the windings and the tank",
                place.leads
            ),
            Self::NotCharged => format!(
                "the {} were not there after {}: an open circuit, or too little voltage; see that the leads are on {}",
                programs.stimulus(),
                text(programs.at_most),
                place.leads
            ),
            Self::NotMoved => "no change of tap was noticed within 3 min".to_owned(),
            Self::Nowhere => {
                "the tap was not changed: the resistance is that of the position before".to_owned()
            }
            Self::Meter(why) => why.clone(),
        }
    }
}

fn segment(program: &Program, name: &str) -> Option<usize> {
    program.segments.iter().position(|segment| segment.name == *name)
}

/// Readings of the resistance while it was held on, over several injections as if it were one: time in s and
/// value.
fn readings(of: &Probe, held: &[Seen<'_>]) -> Vec<(f64, f64)> {
    let (mut all, mut before) = (Vec::new(), 0.0);
    for (program, seen) in held {
        let hold = segment(program, HOLD).unwrap_or_default();
        let here = seen.in_segment(hold, of);
        all.extend(here.filter_map(|r| Some((before + r.place?.time.si(), shown(r).ok()?.value))));
        before += seen.length().si();
    }
    all
}

/// Where the readings go.
fn goes(programs: &Programs, readings: &[(f64, f64)]) -> Option<Settling> {
    let (first, last) = (readings.first()?.0, readings.last()?.0);
    let from = |begin: f64| {
        let inside = readings.iter().filter(|(t, _)| *t >= begin - 1e-9).count();
        &readings[readings.len() - inside.max(FEWEST).min(readings.len())..]
    };
    let steady = programs.steady_for.si();
    // A quick part may hide a slow one: the later half tells by itself, and the worse of both counts. What was
    // held on for long has more to tell than its end.
    let window = steady.max(0.6 * (last - first));
    let both = [settling(from(last - window)), settling(from(last - window / 2.0))];
    let worth = |s: &Settling| s.left.abs() + s.u;
    both.into_iter().flatten().max_by(|a, b| worth(a).total_cmp(&worth(b)))
}

/// What was measured where the current was held: by the last injection, and those that held on before it.
pub(super) fn read(programs: &Programs, held: &[Seen<'_>]) -> Result<Read, Trouble> {
    read_of(programs, &programs.resistance, held)
}

/// The same of one of the windings in the circuit.
fn read_of(programs: &Programs, of: &Probe, held: &[Seen<'_>]) -> Result<Read, Trouble> {
    let none = || Trouble::Meter("nothing was put out".to_owned());
    let (program, seen) = held.last().ok_or_else(none)?;
    let hold = segment(program, HOLD).unwrap_or_default();
    let Some(span) = seen.segments.get(hold) else {
        let last = seen.segments.len().saturating_sub(1);
        let name = program.segments.get(last).map(|s| s.name.as_str());
        return Err(match name {
            Some(MOVE) => Trouble::NotMoved,
            Some(CHARGE) => Trouble::NotCharged,
            _ => none(),
        });
    };
    if span.ended == Ended::Stop(0) {
        return Err(Trouble::BrokenOff);
    }
    let last = seen.in_segment(hold, of).last();
    let last = last.ok_or_else(|| Trouble::Meter("the resistance was not measured".to_owned()))?;
    let estimate = last.estimate().unwrap_or_default();
    let last = shown(last).map_err(Trouble::Meter)?;
    // A difference of negative values would be below every limit.
    if last.value.is_nan() || last.value <= 0.0 {
        let why = format!(
            "{} is no resistance: the leads of voltage or current are the wrong way round",
            ohms(last.value)
        );
        return Err(Trouble::Meter(why));
    }
    let volts = seen.in_segment(hold, &programs.volts).last().and_then(|r| shown(r).ok());
    let goes = goes(programs, &readings(of, held));
    let (left, of_left) = goes.map_or((0.0, 0.0), |s| (s.left, s.u));
    let share = |of: f64| of / last.value;
    // Each place settles by itself.
    let leads = program.connection.as_ref().map_or("", |leads| leads.as_str());
    let stands = ends_at(program).iter().map(|stand| format!(" {stand}")).collect::<String>();
    let cause = |what: &str| format!("{what} at {leads}{stands}");
    let settling = Cause::limit(cause("settling"), Value::Plain(ohms(left.abs())));
    let scatter = Cause::expanded(cause("scatter"), Value::Plain(ohms(of_left)));
    Ok(Read {
        ohm: estimate.with(settling, 1.0).with(scatter, 1.0),
        left: share(left),
        of_left: share(of_left).abs(),
        time_constant_s: goes.and_then(|s| s.time_constant_s),
        volts: volts.map_or(f64::NAN, |v| v.value),
        is_steady: span.ended == Ended::Stop(1),
        is_told: goes.is_some(),
    })
}

impl Read {
    /// Whether nothing is left to come that matters.
    pub(super) fn is_settled(&self, programs: &Programs) -> bool {
        self.is_steady && self.is_told && self.left.abs() + self.of_left <= programs.left
    }

    /// How long it still takes until what is left does not matter.
    pub(super) fn takes(&self, programs: &Programs) -> Option<Time> {
        let tau = self.time_constant_s?;
        let ratio = (self.left.abs() + self.of_left) / programs.left;
        (ratio > 1.0).then(|| seconds(tau * ratio.ln()))
    }
}

fn percent(share: f64) -> String {
    format!("{} %", significant(share * 100.0, 2))
}

/// The resistance of a place.
pub(super) fn resistance(
    places: &Places,
    programs: &Programs,
    place: &Place,
    read: Result<Read, Trouble>,
) -> Finding {
    let stimulus = Values::none().with_quantity("current", programs.stimulus());
    let found = Finding {
        expected: place.expected.clone(),
        limits: place.limits.clone(),
        ..injected(place.point.clone(), RESISTANCE, &stimulus)
    };
    told(places, programs, place, found, read, places.told_at)
}

/// The other winding of the circuit, where it is read.
pub(super) fn beside(
    places: &Places,
    programs: &Programs,
    place: &Place,
    held: &[Seen<'_>],
) -> Option<(Finding, Option<Estimate>)> {
    let (of, second, probe) =
        (place.beside.as_ref()?, places.second.as_ref()?, programs.beside.as_ref()?);
    let stimulus = Values::none().with_quantity("current", programs.stimulus());
    let found = Finding {
        expected: of.expected.clone(),
        limits: of.limits.clone(),
        ..injected(of.point.clone(), RESISTANCE, &stimulus)
    };
    let read = read_of(programs, probe, held);
    let settled = read.as_ref().ok().filter(|r| r.is_settled(programs)).map(|r| r.ohm.clone());
    Some((told(places, programs, place, found, read, second.told_at), settled))
}

/// What a reading comes to, told at the reference temperature.
fn told(
    places: &Places,
    programs: &Programs,
    place: &Place,
    found: Finding,
    read: Result<Read, Trouble>,
    at: ToldAt,
) -> Finding {
    let read = match read {
        Ok(read) => read,
        Err(trouble) => {
            let why = trouble.words(programs, place);
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
    };
    let as_measured = read.ohm.value;
    let value = ohms(as_measured * at.factor);
    let warmer = of_temperature(places.temperature_u_k);
    let estimate = read.ohm.clone().times(at.factor).with(warmer, as_measured * at.slope);
    let found = Finding {
        measured: Values::none()
            .with_quantity("resistance", value)
            .with_quantity("as_measured", ohms(as_measured))
            .with_percent("left", read.left),
        deviation: match found.expected.get("resistance") {
            Some(maker) => Values::none().with_percent("resistance", value.si / maker - 1.0),
            None => Values::none(),
        },
        ..found
    };
    let found = found.uncertain(&estimate);
    if !read.is_settled(programs) {
        let left = match (read.time_constant_s, read.is_steady) {
            (Some(tau), _) => format!(
                "{} left to come by slope and a time constant of {}",
                percent(read.left.abs()),
                text(seconds(tau))
            ),
            (None, _) => "the readings scatter more than the band".to_owned(),
        };
        let when = read.takes(programs).map_or(String::new(), |time| {
            format!("; settled in about {}, or sooner with a larger current", text(time))
        });
        let why = format!("not settled within {}: {left}{when}", text(programs.at_most));
        return found.judged(Judgement::new(Verdict::Inconclusive, why));
    }
    let mut judged = match (found.limits.lower(), found.limits.upper()) {
        (Some(low), Some(high)) => judge_between(value, low, high),
        _ => Judgement::new(Verdict::Measured, "the file has no value of the maker's"),
    };
    judged.reason.push_str(&format!(
        "; {} at {}, told at {}",
        ohms(as_measured),
        celsius(places.temperature_k),
        celsius(at.reference_k)
    ));
    if let Some(tau) = read.time_constant_s {
        let (left, tau) = (percent(read.left.abs()), text(seconds(tau)));
        judged.reason.push_str(&format!("; {left} left to come by a time constant of {tau}"));
    }
    found.judged(judged)
}

/// What the trace of a change shows.
pub(crate) fn traced(seen: &Observation) -> Option<Changeover> {
    let captured = seen.captures.first()?;
    let of = |name: &str| captured.tracks.iter().find(|t| t.of == *name).map(|t| &t.samples[..]);
    let (amps, volts) = (of("winding current")?, of("winding voltage")?);
    changeover(Samples { amps, volts, rate_hz: captured.rate_hz })
}

/// What a change showed by the values of its point: samples stand beside a record, and not in it.
fn told_before(measured: &Values) -> Option<Changeover> {
    Some(Changeover {
        ripple: measured.get("ripple")?,
        noise: 0.0,
        interrupted_s: measured.get("interruption")?,
        duration_s: measured.get("duration")?,
        slope: measured.get("slope")?,
        series_ohm: measured.get("series")?,
        begins_s: 0.0,
    })
}

/// Below which share of its largest current a motor stands.
const STANDS: f64 = 0.1;

/// For how long the tap changer's motor ran, and what it took once it had started.
fn motor(seen: &Observation) -> Option<Values> {
    let is_motor = |c: &&Captured| c.tracks.iter().any(|t| t.of == *MOTOR);
    let captured = seen.captures.iter().find(is_motor)?;
    let samples = &captured.tracks.iter().find(|t| t.of == *MOTOR)?.samples;
    let most = samples.iter().fold(0.0f64, |most, a| most.max(a.abs()));
    let runs = |a: &f64| a.abs() > STANDS * most;
    let (first, last) = (samples.iter().position(runs)?, samples.iter().rposition(runs)?);
    // The later half tells what it takes, not what starts it; of what alternates by its effective value.
    let later = &samples[first + (last - first) / 2..=last];
    let amps = (later.iter().map(|a| a * a).sum::<f64>() / later.len() as f64).sqrt();
    let time = (last - first) as f64 / captured.rate_hz;
    Some(took(time, amps))
}

/// The same by the values of a record.
fn motor_before(measured: &Values) -> Option<Values> {
    Some(took(measured.get("motor_time")?, measured.get("motor_current")?))
}

fn took(time: f64, amps: f64) -> Values {
    Values::none()
        .with_quantity("motor_time", Quantity { si: time, dimension: Dimension::TIME })
        .with_quantity("motor_current", Quantity { si: amps, dimension: Dimension::CURRENT })
}

/// How many positions a change of the resistance is worth, where one is worth a known share.
fn moved(place: &Place, before: &Place, was: f64, is: f64) -> Option<f64> {
    let step = place.volts / before.volts - 1.0;
    (step.abs() > 1e-4).then(|| (is / was - 1.0) / step)
}

/// What a change of tap that is not the one that was to be looked at was instead.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Went {
    /// Two positions at once.
    Twice,
    /// Nowhere: whoever said that it had moved was mistaken.
    Nowhere,
    /// Nowhere as far as the resistances tell, which are too uncertain to tell it.
    Untold,
}

/// Where a change went, by what was measured before and after; `None` where it went where it should, or nothing tells.
/// `u` is the U of what was measured after it; a record does not hold the one before, which is taken for the same.
pub(super) fn went(place: &Place, before: &Place, was: f64, is: f64, u: f64) -> Option<Went> {
    let n = moved(place, before, was, is)?;
    let u = u * std::f64::consts::SQRT_2;
    // What a step is worth must stand out of what the resistances are uncertain by.
    let step = (place.volts / before.volts - 1.0).abs();
    match n {
        n if (n - 2.0).abs() < 0.3 => Some(Went::Twice),
        // U covers two standard deviations: at three a step is no step.
        n if n.abs() < 0.3 && 1.5 * u < 0.7 * step * is => Some(Went::Nowhere),
        n if n.abs() < 0.3 => Some(Went::Untold),
        _ => None,
    }
}

/// The current at the end of what was held.
fn amps_of(programs: &Programs, program: &Program, seen: &Observation) -> Option<f64> {
    let hold = segment(program, HOLD)?;
    let last = seen.in_segment(hold, &programs.amps).last()?;
    shown(last).ok().map(|read| read.value)
}

/// A change that was another one than the one that was to be looked at.
pub(super) fn another(mut change: Finding, went: Went) -> Finding {
    change.verdict = Verdict::Inconclusive;
    change.reason.push_str(match went {
        Went::Twice => "; it went two positions at once, or taps are exchanged",
        Went::Untold => {
            "; the resistance is about that of the position before, and too uncertain to tell whether the tap was changed"
        }
        Went::Nowhere => "; the resistance is that of the position before: the tap was not changed",
    });
    change
}

/// The change that led to a place: by its samples, else by what they told before.
pub(super) fn change(
    places: &Places,
    programs: &Programs,
    place: &Place,
    seen: &Observation,
    before: Option<&Values>,
) -> Option<Finding> {
    let stimulus = Values::none().with_quantity("current", programs.stimulus());
    let time = |si| Quantity { si, dimension: Dimension::TIME };
    let limits =
        Limits::Between { lower: None, upper: Some(Value::Plain(time(places.interruption_s))) };
    let found = Finding { limits, ..injected(place.change.clone()?, CHANGE, &stimulus) };
    if seen.segments.len() < 2 {
        let why = Trouble::NotMoved.words(programs, place);
        return Some(found.judged(Judgement::new(Verdict::Inconclusive, why)));
    }
    let Some(shows) = traced(seen).or(before.and_then(told_before)) else {
        let why = "the samples of the change are not there";
        return Some(found.judged(Judgement::new(Verdict::Inconclusive, why)));
    };
    let interruption = Values::none().with_quantity("interruption", time(shows.interrupted_s));
    let others = Values::none()
        .with_quantity("duration", time(shows.duration_s))
        .with_quantity("slope", Quantity { si: shows.slope, dimension: Dimension::CURRENT_RATE })
        .with_quantity("series", ohms(shows.series_ohm));
    let others = others.and(motor(seen).or(before.and_then(motor_before)).unwrap_or_default());
    let ripple = Values::none().with_percent("ripple", shows.ripple);
    let told = format!(
        "dips by {} in {}, {} in series at most",
        percent(shows.ripple),
        text(seconds(shows.duration_s)),
        ohms(shows.series_ohm)
    );
    let with = |first: Values, second: Values| first.and(second).and(others.clone());
    // Either end of a gap lies between two samples.
    let step = seen.captures.first().map_or(0.0, |captured| 1.0 / captured.rate_hz);
    let sampled = |end| Cause::limit(format!("sampling at its {end}"), Value::Plain(time(step)));
    let gap =
        Estimate::exact(shows.interrupted_s).with(sampled("begin"), 1.0).with(sampled("end"), 1.0);
    if shows.interrupted_s > places.interruption_s {
        let why =
            format!("INTERRUPTED: the current is gone for {}", text(seconds(shows.interrupted_s)));
        let found = Finding { measured: with(interruption, ripple), ..found }.uncertain(&gap);
        return Some(found.judged(Judgement::new(Verdict::Fail, why)));
    }
    if let Some(most) = places.ripple.filter(|most| shows.ripple > *most) {
        let found = Finding {
            measured: with(ripple, interruption),
            limits: Limits::Between { lower: None, upper: Some(Value::Percent(most)) },
            ..found
        };
        // What is off by a share is so before and within the dip.
        let noise = Cause::scatter("noise of the samples", Value::Percent(shows.noise));
        let found = found.uncertain(&Estimate::exact(shows.ripple).with(noise, 1.0));
        return Some(found.judged(Judgement::new(Verdict::Fail, told)));
    }
    let found = Finding { measured: with(interruption, ripple), ..found }.uncertain(&gap);
    Some(found.judged(Judgement::new(Verdict::Pass, told)))
}

/// Resistances of the phases of a winding from those between its terminals.
fn of_phases(places: &Places, lines: &[f64]) -> Option<[f64; 3]> {
    let &[uv, vw, wu] = lines else { return None };
    match places.connection {
        _ if places.neutral => None,
        // What is common to two of them.
        Connection::Star | Connection::Zigzag => {
            Some([(uv + wu - vw) / 2.0, (uv + vw - wu) / 2.0, (vw + wu - uv) / 2.0])
        }
        // A coil beside the two others in series.
        Connection::Delta => {
            let half = (uv + vw + wu) / 2.0;
            let of = |own: f64, a: f64, b: f64| (own - half) - a * b / (own - half);
            Some([of(uv, vw, wu), of(vw, wu, uv), of(wu, uv, vw)])
        }
    }
}

/// The difference between the phases at a position, of resistances as measured with what they are uncertain
/// by.
pub(super) fn alike(
    places: &Places,
    programs: &Programs,
    of: &Alike,
    read: &[Option<Estimate>],
) -> Finding {
    differ(places, programs, &of.point, read, true)
}

/// The difference between phases: of this winding, or of the other one in the circuit.
pub(super) fn differ(
    places: &Places,
    programs: &Programs,
    point: &PointId,
    read: &[Option<Estimate>],
    is_own: bool,
) -> Finding {
    let stimulus = Values::none().with_quantity("current", programs.stimulus());
    let found = injected(point.clone(), DIFFERENCE, &stimulus);
    let all: Option<Vec<Estimate>> = read.iter().cloned().collect();
    let Some(all) = all.filter(|all| all.len() == 3) else {
        let why = "not every phase was measured";
        return found.judged(Judgement::new(Verdict::Inconclusive, why));
    };
    let values: Vec<f64> = all.iter().map(|ohm| ohm.value).collect();
    let mean = values.iter().sum::<f64>() / 3.0;
    let share = places.by.of(&values);
    let limits = places.allowed(mean);
    let most = limits.upper().unwrap_or(f64::INFINITY);
    let by_value = |a: &&Estimate, b: &&Estimate| a.value.total_cmp(&b.value);
    let ends = all.iter().min_by(by_value).zip(all.iter().max_by(by_value));
    // What the meters are off by is in both, and drops out.
    let apart = ends.map(|(low, high)| high.clone().minus(low)).unwrap_or_default();
    let apart = apart.function(share, 1.0 / mean);
    let (low, high) =
        values.iter().fold((f64::INFINITY, 0.0f64), |(l, h), v| (l.min(*v), h.max(*v)));
    let mut measured = Values::none()
        .with_percent("difference", share)
        .with_quantity("absolute", ohms(high - low));
    if let Some([a, b, c]) = of_phases(places, &values).filter(|_| is_own) {
        let at = |ohm: f64| ohms(ohm * places.told_at.factor);
        measured = measured
            .with_quantity("phase_u", at(a))
            .with_quantity("phase_v", at(b))
            .with_quantity("phase_w", at(c));
    }
    let found = Finding { measured, limits, ..found }.uncertain(&apart);
    let told = format!("{} between the phases, by the {}", percent(share), places.by.word());
    let verdict = if share > most { Verdict::Fail } else { Verdict::Pass };
    found.judged(Judgement::new(verdict, told))
}

/// A point of a record, graded by the injections that served it.
pub(super) fn again(
    places: &Places,
    programs: &Programs,
    measured: &Grade,
    served: &[(&Program, &Observation)],
) -> Result<Finding, String> {
    let id = &measured.point.id;
    let fits = |place: &Place, program: &Program| {
        program.connection.as_ref() == Some(&place.leads)
            && ends_at(program) == place.stands
            && segment(program, HOLD).is_some()
    };
    // The last one that was held at a place, with those that it held on from.
    let held_at = |place: &Place| -> Vec<Seen<'_>> {
        let mut all: Vec<Seen<'_>> = Vec::new();
        for (program, seen) in served.iter().filter(|(program, _)| fits(place, program)) {
            if !holds_on(program) {
                all.clear();
            }
            all.push((program, seen));
        }
        all
    };
    if let Some(of) = places.alike.iter().find(|alike| alike.point.id == *id) {
        let read_of = |place: &Place| {
            let read = read(programs, &held_at(place)).ok().filter(|r| r.is_settled(programs))?;
            Some(read.ohm)
        };
        let here = places.all.iter().filter(|place| place.stands == of.stands);
        let all: Vec<Option<Estimate>> = here.map(read_of).collect();
        return Ok(alike(places, programs, of, &all));
    }
    if let Some(second) = places.second.as_ref().filter(|second| second.difference.id == *id) {
        let of = |at: usize| {
            let place = &places.all[at];
            beside(places, programs, place, &held_at(place)).and_then(|(_, settled)| settled)
        };
        let all: Vec<Option<Estimate>> = places.besides().map(of).collect();
        return Ok(differ(places, programs, &second.difference, &all, false));
    }
    let is_beside = |place: &&Place| place.beside.as_ref().is_some_and(|b| b.point.id == *id);
    if let Some(place) = places.all.iter().find(is_beside) {
        let found = beside(places, programs, place, &held_at(place)).map(|(found, _)| found);
        return found.ok_or_else(|| "the plan has no other winding in this circuit".to_owned());
    }
    let place = places.all.iter().find(|place| {
        place.point.id == *id || place.change.as_ref().is_some_and(|change| change.id == *id)
    });
    let place = place.ok_or("these settings make no such point")?;
    if place.point.id == *id {
        let held = held_at(place);
        if held.is_empty() {
            return Err("nothing was injected for it".to_owned());
        }
        return Ok(resistance(places, programs, place, read(programs, &held)));
    }
    let moved = served
        .iter()
        .rfind(|(program, _)| fits(place, program) && segment(program, MOVE).is_some());
    let (program, seen) = moved.ok_or("nothing was injected for it")?;
    let mut found = change(places, programs, place, seen, Some(&measured.measured))
        .ok_or_else(|| "these settings do not grade it".to_owned())?;
    if traced(seen).is_none() {
        let (uncertainty, budget) = (measured.uncertainty.clone(), measured.budget.clone());
        (found.uncertainty, found.budget) = (uncertainty, budget);
    }
    // What went two positions at once was no better for being graded again.
    let before = places.all.iter().position(|p| p == place).and_then(|k| k.checked_sub(1));
    // What was measured at the position before is told by what the change was noticed by.
    let was = volts_before(program).zip(amps_of(programs, program, seen));
    let is = read(programs, &[(program, seen)]).ok();
    let went = match (before, was, is) {
        (Some(k), Some((volts, amps)), Some(is)) => {
            went(place, &places.all[k], volts / amps, is.ohm.value, is.ohm.expanded())
        }
        _ => None,
    };
    Ok(went.map_or_else(|| found.clone(), |went| another(found.clone(), went)))
}
