//! Long time, short time, ground fault: a current, and the time until it ends.

use super::super::asset::{Acts, LvBreaker, TripFunction};
use super::shots::{Shooting, Shot, Shots, defeating, tripped, tripped_by};
use super::source::{AUXILIARY, FLOWS, flowing};
use super::unit::{self, CLOSED, TRIPPED};
use super::way::{Through, Way};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Read, When};
use waltron_core::injection::observation::{Edge, Ended, Observation, Span};
use waltron_core::injection::program::{Condition, Program, Segment, Stop, Then};
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{
    Current, Dimension, Measure, Quantity, Ratio, Time, seconds, significant,
};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::{Name, nearest};

/// That the auxiliary contact follows.
const FOLLOWS: Criterion = Criterion::named("auxiliary_follows");
/// That nothing trips.
const NO_TRIP: Criterion = Criterion::named("no_trip");

/// By how much longer than the latest time it is waited.
const LONGER: f64 = 1.25;

/// The share of its current that is read at the end where it has flowed all the time; a reading goes back by some
/// periods.
const FLOWED: f64 = 0.9;

/// How long after the current the auxiliary contact may change, in s.
const FOLLOWS_S: f64 = 0.05;

/// A function of a trip unit, timed at multiples of its pickup, pole by pole.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TimedKeys {
    /// Multiples of the pickup: `["3 x"]`; 3 x of long time and 1.5 x of the others if not given.
    at: Option<Vec<QuantityText<Ratio>>>,
    /// Poles; each if not given.
    poles: Option<Vec<Text>>,
    /// Whether the neutral's sensor is looked at too: a current through a pole and back through the neutral must
    /// not trip (ground fault); true if not given, where the asset has one.
    neutral: Option<bool>,
    /// Through what: `poles`, or `test-port` (secondary injection); the poles if not given.
    through: Option<Spannable<Through>>,
}

/// A timed test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Timed {
    test: Name,
    acts: Acts,
    at: Vec<f64>,
    places: Vec<String>,
    neutral: bool,
    way: Way,
}

macro_rules! keys {
    ($($name:ident $acts:ident;)*) => {
        $(
            /// The keys of one function.
            #[derive(Clone, Debug, Deserialize, JsonSchema)]
            #[serde(transparent)]
            pub(crate) struct $name(TimedKeys);

            impl FamilyKeys for $name {
                type Family = LvBreaker;

                fn read_for(
                    &self,
                    head: TestHead<'_>,
                    of: &LvBreaker,
                    problems: &mut Problems,
                ) -> Option<Arc<dyn Method>> {
                    self.0.of(Acts::$acts, head, of, problems)
                }
            }
        )*
    };
}

keys! {
    LongTimeKeys LongTime;
    ShortTimeKeys ShortTime;
    GroundFaultKeys GroundFault;
}

/// Poles that a plan names, or all.
pub(super) fn poles(
    given: Option<&[Text]>,
    of: &LvBreaker,
    problems: &mut Problems,
) -> Option<Vec<String>> {
    let Some(given) = given else {
        // The neutral has no trip of its own.
        return Some(of.poles.iter().filter(|p| *p != "N").cloned().collect());
    };
    let mut all = Vec::new();
    for text in given {
        if !of.poles.iter().any(|p| p == text.as_str()) {
            let near = nearest(text.as_str(), of.poles.iter().map(String::as_str));
            let message = format!("no pole is called `{}`", text.as_str());
            let list = || format!("it has {}", of.poles.join(", "));
            problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
            return None;
        }
        all.push(text.as_str().to_owned());
    }
    Some(all)
}

/// The function that a test is of; a problem where the breaker has none, or where it is off.
pub(super) fn function<'a>(
    acts: Acts,
    head: TestHead<'_>,
    of: &'a LvBreaker,
    problems: &mut Problems,
) -> Option<&'a TripFunction> {
    let why = match of.functions.iter().find(|f| f.acts == acts) {
        Some(function) if function.is_on => return Some(function),
        Some(_) => format!("`{}` is off in the asset's file", acts.key()),
        None => format!("the asset's file has no function `{}`", acts.key()),
    };
    problems.push(Problem::new(head.id.span(), why));
    None
}

impl TimedKeys {
    fn of(
        &self,
        acts: Acts,
        head: TestHead<'_>,
        of: &LvBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        function(acts, head, of, problems)?;
        let mut at = Vec::new();
        for text in self.at.iter().flatten() {
            let multiple = text.positive(problems)?.value;
            if multiple <= 1.0 {
                let message = "at its pickup or below nothing is timed";
                problems.push(Problem::new(text.span(), message).help("test that with `no-trip`"));
                return None;
            }
            at.push(multiple);
        }
        if at.is_empty() {
            at.push(if acts == Acts::LongTime { 3.0 } else { 1.5 });
        }
        let places = poles(self.poles.as_deref(), of, problems)?;
        let way = Way::read(self.through.as_ref(), head, of, problems)?;
        // At the port nothing comes back through a neutral.
        let neutral = self.neutral.unwrap_or(way == Way::Poles)
            && of.neutral_sensor
            && acts == Acts::GroundFault;
        if neutral && way != Way::Poles {
            let why = "what goes through the test port does not pass the neutral's sensor";
            problems.push(Problem::new(head.id.span(), why));
            return None;
        }
        Some(Arc::new(Shots(Timed { test: head.name(), acts, at, places, neutral, way })))
    }
}

impl Shooting for Timed {
    fn word(&self) -> &'static str {
        self.acts.key()
    }

    fn test(&self) -> &Name {
        &self.test
    }

    fn defeats(&self) -> bool {
        self.acts != Acts::GroundFault
    }

    fn way(&self) -> Way {
        self.way
    }

    fn shots(&self, of: &LvBreaker, bench: Bench<'_>) -> Result<Vec<Shot>, SetupError> {
        let lacks = || SetupError::Unknown(format!("it has no function `{}`", self.acts.key()));
        let function = of.function(self.acts).ok_or_else(lacks)?;
        let mut all = Vec::new();
        for place in &self.places {
            for multiple in &self.at {
                all.push(self.shot(of, function, place, *multiple, bench)?);
            }
        }
        if let (true, Some(pole)) = (self.neutral, self.places.first()) {
            all.push(self.through_neutral(of, function, pole, bench)?);
        }
        Ok(all)
    }
}

pub(super) fn point(test: &Name, of: &str) -> PointId {
    PointId { id: format!("{test}/{of}"), test: test.clone(), element: None, fault_loop: None }
}

/// A program that puts a current out until it ends by itself.
pub(super) fn until_trip(
    rig: &Capability,
    (amps, most): (f64, f64),
    wait: Time,
    place: &str,
    defeats: bool,
    bench: Bench<'_>,
    way: Way,
) -> Result<Program, SetupError> {
    let out = way.put(rig, amps, most, bench.frequency()?)?;
    let mut segment = Segment::hold("inject", out, wait);
    for signal in way.watched() {
        if rig.sees(&(*signal).into()) {
            let when = Condition::Edge { signal: (*signal).into(), closed: false };
            segment = segment.until(Stop { when, then: Then::Next });
        }
    }
    if defeats {
        segment.switches = defeating(rig);
    }
    if let Some(probe) = way.flowing(rig) {
        segment.reads.push(Read { probe, when: When::EachLevel });
    }
    // What comes a little later is seen with nothing put out.
    let after =
        Segment::hold("after", waltron_core::injection::stimulus::Stimulus::off(), seconds(0.1));
    let mut program = Program::of(vec![segment, after]);
    program.connection = Some(place.into());
    // Where no contact tells, the trip unit does.
    program.reads = unit::probe(rig, TRIPPED).into_iter().chain(unit::probe(rig, CLOSED)).collect();
    Ok(program)
}

impl Timed {
    fn shot(
        &self,
        of: &LvBreaker,
        function: &TripFunction,
        place: &str,
        multiple: f64,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let rig = bench.capability;
        let amps = multiple * function.pickup_a;
        let most = self.at.iter().copied().fold(0.0, f64::max) * function.pickup_a;
        let own = of.times(function, amps);
        let without: &[Acts] = if self.defeats() { &[Acts::GroundFault] } else { &[] };
        let others: Vec<&TripFunction> = of
            .functions
            .iter()
            .filter(|f| f.is_on && f.acts != self.acts && !without.contains(&f.acts))
            .collect();
        let quicker = others.iter().find(|f| of.times(f, amps).earliest < own.latest);
        let is_certain = own.latest.is_finite();
        let not_tested = match quicker {
            _ if !is_certain => Some(format!(
                "at {} x its band does not ask for a trip: test beyond",
                significant(multiple, 4)
            )),
            Some(f) => Some(format!(
                "{} may trip before it at this current: less current, or defeat it",
                f.acts.words()
            )),
            None => None,
        };
        let wait = if is_certain { LONGER * own.latest } else { 1.0 };
        let way = self.way;
        let not_tested = not_tested.or_else(|| way.beyond(rig, amps));
        let program =
            until_trip(rig, (amps, most), seconds(wait), place, self.defeats(), bench, way)?;
        let label = format!("{}x/{place}", significant(multiple, 4));
        let time = point(&self.test, &format!("{label}/trip-time"));
        let follows = point(&self.test, &format!("{label}/auxiliary"));
        let sees_both = way == Way::Poles && rig.sees(&AUXILIARY.into()) && rig.sees(&FLOWS.into());
        let mut points = vec![(time.clone(), self.acts.criterion())];
        if sees_both {
            points.push((follows.clone(), FOLLOWS));
        }
        let of_time = |si: f64| {
            let value = Value::Plain(Quantity { si, dimension: Dimension::TIME });
            si.is_finite().then_some(value)
        };
        let limits = Limits::Between { lower: of_time(own.earliest), upper: of_time(own.latest) };
        let stimulus = way.told(Values::none().with("current", Current::from_si(amps)), amps);
        let (fed, held, words, probe) =
            (stimulus.clone(), limits.clone(), self.acts.words(), way.flowing(rig));
        let (low, high) = (own.earliest, own.latest);
        let acts = self.acts;
        let timing = rig.clone();
        // What makes the current uncertain, and how steeply the time goes with it there.
        let put_out = program.segments.first().map(|s| s.profile.last()).unwrap_or_default();
        let dimension = [Dimension::CURRENT, Dimension::VOLTAGE]
            .into_iter()
            .find(|of| rig.share_of(&put_out, *of).is_some());
        let causes = dimension.map(|of| rig.causes_of(&put_out, of)).unwrap_or_default();
        let share = dimension.and_then(|of| rig.share_of(&put_out, of)).unwrap_or(0.0);
        let steep = steepness(|factor| of.times(function, amps * factor).latest, share);
        let grade = move |seen: &Observation| {
            let found = Finding::not_tested(time.clone(), acts.criterion(), fed.clone(), "");
            let found = Finding { limits: held.clone(), ..found };
            let mut all = Vec::new();
            let by = tripped_by(seen, &timing, way);
            let at = by.map(|(at, _)| at);
            match by {
                Some((at, contact)) => {
                    let of = |si| Quantity { si, dimension: Dimension::TIME };
                    let measured = Values::none().with_quantity("time", of(at));
                    let estimate = timing
                        .timed(seconds(at), &contact.into(), seen.host_timing)
                        .with_shares(causes.clone(), steep * at);
                    let found = Finding { measured, ..found }.uncertain(&estimate);
                    let judged = judge_between(of(at), low, high);
                    let reason = match judged.verdict {
                        Verdict::Pass => format!("{words}: within its band"),
                        _ => format!("{words}: {}", judged.reason),
                    };
                    all.push(found.judged(Judgement::new(judged.verdict, reason)));
                }
                None => {
                    let told = unit::has_tripped(seen, &timing);
                    let fed = fed.get("current");
                    all.push(not_tripped(found, words, seen, probe.as_ref(), fed, told));
                }
            }
            if sees_both {
                let found = Finding::not_tested(follows.clone(), FOLLOWS, fed.clone(), "");
                all.push(followed(found, seen, at, &timing));
            }
            all
        };
        let foreseen = trips_at(f64::midpoint(low, high), way);
        let foreseen = foreseen.map(|seen| grade(&seen).into_iter().take(1).collect());
        let foreseen = foreseen.filter(|_| not_tested.is_none()).unwrap_or_default();
        Ok(Shot {
            place: place.to_owned(),
            points,
            stimulus,
            limits,
            amps,
            most,
            likely: seconds(if is_certain { own.latest } else { 0.0 }),
            program: Arc::new(program),
            grade: Arc::new(grade),
            trips: trips(bench.capability, way),
            not_tested,
            foreseen,
        })
    }

    /// A current that comes back through the neutral: nothing is missing, and nothing must trip.
    fn through_neutral(
        &self,
        of: &LvBreaker,
        function: &TripFunction,
        pole: &str,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let rig = bench.capability;
        let amps = 1.5 * function.pickup_a;
        let wait = LONGER * of.times(function, amps).latest.min(10.0);
        let place = format!("{pole}-N");
        let program =
            until_trip(rig, (amps, amps), seconds(wait), &place, false, bench, Way::Poles)?;
        let at = point(&self.test, "neutral");
        let stimulus = Values::none().with("current", Current::from_si(amps));
        let points = vec![(at.clone(), NO_TRIP)];
        let fed = stimulus.clone();
        let quicker = of
            .functions
            .iter()
            .find(|f| f.is_on && f.acts != self.acts && of.times(f, amps).earliest < wait);
        let not_tested = quicker.map(|f| format!("{} may trip at this current", f.acts.words()));
        let rig = rig.clone();
        let grade = move |seen: &Observation| {
            let found = Finding::not_tested(at.clone(), NO_TRIP, fed.clone(), "");
            let found = Finding { limits: Limits::NoOperation, ..found };
            vec![match tripped(seen, &rig, Way::Poles) {
                None => not_tripped_rightly(
                    found,
                    (seen, &rig, Way::Poles),
                    amps,
                    "it did not trip, as it must not",
                ),
                Some(time) => {
                    let time = Quantity { si: time, dimension: Dimension::TIME };
                    let measured = Values::none().with_quantity("time", time);
                    let why = format!(
                        "ground fault tripped after {time} on a current that comes back through the neutral: the neutral's sensor is reversed, or not connected"
                    );
                    Finding { measured, ..found }.judged(Judgement::new(Verdict::Fail, why))
                }
            }]
        };
        Ok(Shot {
            place,
            points,
            stimulus,
            limits: Limits::NoOperation,
            amps,
            most: amps,
            likely: seconds(wait),
            program: Arc::new(program),
            grade: Arc::new(grade),
            trips: trips(bench.capability, Way::Poles),
            not_tested,
            foreseen: Vec::new(),
        })
    }
}

/// What is seen of a trip after so many seconds; `None` of none.
fn trips_at(time_s: f64, way: Way) -> Option<Observation> {
    let time = seconds(time_s).is_finite().then_some(seconds(time_s))?;
    let span = Span { start: seconds(0.0), end: time, ended: Ended::Stop(0) };
    let signal = if way == Way::Poles { FLOWS } else { AUXILIARY };
    let edge = Edge { signal: signal.into(), time, closed: false };
    Some(Observation { segments: vec![span], edges: vec![edge], ..Observation::default() })
}

/// Whether a shot has tripped, by contacts or as the trip unit tells itself.
pub(super) fn trips(rig: &Capability, way: Way) -> Arc<dyn Fn(&Observation) -> bool + Send + Sync> {
    let rig = rig.clone();
    Arc::new(move |seen| {
        tripped(seen, &rig, way).is_some() || unit::has_tripped(seen, &rig) == Some(Ok(true))
    })
}

/// The current that was read last while it was put out.
fn seen_flowing(seen: &Observation, rig: &Capability) -> Option<f64> {
    seen.in_segment(0, &flowing(rig)?).last()?.value.get("value")
}

/// What must not trip, and did not as far as contacts tell: that counts only where the current has flowed to the
/// end, or the trip unit itself tells so of what stood for one; an open breaker does not trip either.
pub(super) fn not_tripped_rightly(
    found: Finding,
    (seen, rig, way): (&Observation, &Capability, Way),
    fed: f64,
    words: &str,
) -> Finding {
    let told = unit::has_tripped(seen, rig);
    if told == Some(Ok(true)) {
        let why = "it tripped, as the trip unit tells itself, and no contact told when";
        return found.judged(Judgement::new(Verdict::Fail, why));
    }
    if way != Way::Poles {
        // A contact that stays closed may be stuck: only the unit itself tells that it did not trip.
        let is_closed = match unit::told(seen, rig, CLOSED) {
            None => true,
            Some(Ok(value)) => value != 0.0,
            Some(Err(why)) => return found.judged(Judgement::new(Verdict::Inconclusive, why)),
        };
        return found.judged(match told {
            Some(Ok(false)) if is_closed => Judgement::new(Verdict::Pass, words),
            Some(Err(why)) => {
                let why = format!("whether it tripped was not told: {why}");
                Judgement::new(Verdict::Inconclusive, why)
            }
            Some(_) => {
                let why = "nothing tripped, but the breaker was open";
                Judgement::new(Verdict::Inconclusive, why)
            }
            None => {
                let why = format!(
                    "no contact told of a trip, and a stuck one would not: read `{TRIPPED}` of the trip unit"
                );
                Judgement::new(Verdict::Inconclusive, why)
            }
        });
    }
    let why = match seen_flowing(seen, rig) {
        Some(amps) if amps >= FLOWED * fed => {
            return found.judged(Judgement::new(Verdict::Pass, words));
        }
        Some(_) => {
            "no contact told of a trip, but the current did not flow to the end: breaker open, leads, or a trip that was not seen"
        }
        None => "no contact told of a trip, and nobody read whether the current flowed to the end",
    };
    found.judged(Judgement::new(Verdict::Inconclusive, why))
}

/// Nothing was seen to end: either it did not trip, or nobody saw it.
pub(super) fn not_tripped(
    found: Finding,
    words: &str,
    seen: &Observation,
    probe: Option<&waltron_core::injection::measuring::Probe>,
    fed: Option<f64>,
    told: Option<Result<bool, String>>,
) -> Finding {
    if told == Some(Ok(true)) {
        let why = format!(
            "{words}: it tripped, as the trip unit tells itself, and no contact told when: wire {AUXILIARY}"
        );
        return found.judged(Judgement::new(Verdict::Inconclusive, why));
    }
    let waited = seen.segments.first().map_or(0.0, |s| (s.end - s.start).si());
    let waited = Quantity { si: waited, dimension: Dimension::TIME };
    let flows = probe.and_then(|probe| seen.in_segment(0, probe).last()?.value.get("value"));
    match (flows, fed) {
        (Some(amps), Some(fed)) if amps < FLOWED * fed => {
            let why = format!(
                "{words}: the current ended, and no contact told when: the trip was not seen; look at the leads of the auxiliary contact"
            );
            found.judged(Judgement::new(Verdict::Inconclusive, why))
        }
        // Nothing shows that the current flowed on, and who was asked did not answer.
        (None, _) if matches!(told, Some(Err(_))) => {
            let why = told.and_then(Result::err).unwrap_or_default();
            let why = format!("{words}: whether it tripped was not told: {why}");
            found.judged(Judgement::new(Verdict::Inconclusive, why))
        }
        _ => {
            let why = format!(
                "{words}: no trip for {waited}: function off, another plug, another setting{}",
                match told {
                    // Nothing but the contact could have told.
                    None if probe.is_none() => format!(", or {AUXILIARY} does not follow"),
                    _ => String::new(),
                }
            );
            found.judged(Judgement::new(Verdict::Fail, why))
        }
    }
}

/// Whether the auxiliary contact changed with the current.
/// By which share a time changes for one share of the current, at most on either side.
fn steepness(latest: impl Fn(f64) -> f64, share: f64) -> f64 {
    let (here, sides) = (latest(1.0), [latest(1.0 - share), latest(1.0 + share)]);
    let moved = sides.into_iter().filter(|t| t.is_finite()).map(|t| (t / here - 1.0).abs());
    let moved = moved.fold(0.0, f64::max);
    if share > 0.0 && here > 0.0 && here.is_finite() { moved / share } else { 0.0 }
}

fn followed(found: Finding, seen: &Observation, at: Option<f64>, timing: &Capability) -> Finding {
    let start = seen.segments.first().map(|s| s.start).unwrap_or_default();
    let Some(at) = at else {
        return found.judged(Judgement::new(Verdict::NotTested, "nothing tripped"));
    };
    let of = |si| Quantity { si, dimension: Dimension::TIME };
    let upper = Some(Value::Plain(of(FOLLOWS_S)));
    let found = Finding { limits: Limits::Between { lower: None, upper }, ..found };
    let edge = seen.first_edge(&AUXILIARY.into(), false, start).map(|t| (t - start).si() - at);
    match edge {
        Some(lag) => {
            let measured = Values::none().with_quantity("lag", of(lag.abs()));
            let judged = judge_between(of(lag.abs()), f64::NEG_INFINITY, FOLLOWS_S);
            let why = format!("{AUXILIARY} opened with the current's end: {}", judged.reason);
            let ends = [FLOWS.into(), AUXILIARY.into()];
            let between = ends.each_ref().map(Some);
            let estimate = timing.timed_between(seconds(lag.abs()), between, seen.host_timing);
            let found = Finding { measured, ..found }.uncertain(&estimate);
            found.judged(Judgement::new(judged.verdict, why))
        }
        None => {
            let why = format!(
                "{AUXILIARY} did not open although the current ended: welded, or not wired"
            );
            found.judged(Judgement::new(Verdict::Fail, why))
        }
    }
}
