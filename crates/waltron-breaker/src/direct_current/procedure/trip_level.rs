//! The level at which it trips: ramps of several rates of rise, extrapolated to none, which is the setting itself.

use super::firing::{self, At, Fired, Firing, Foreseen, Next};
use super::judging::{Found, LEVEL, SETTING, SPREAD, judged, point, quantity, required};
use super::source::{SLOW_HZ, Source, floor, samples};
use crate::direct_current::analysis::line::line;
use crate::direct_current::analysis::pulse::{Opening, Pulse, Shown};
use crate::direct_current::asset::{DcBreaker, amps};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::Value;
use waltron_core::grading::{Finding, Judgement, Limits, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Profile, Program, Segment, Slope};
use waltron_core::procedure::{Carried, FamilyKeys, Method, Served, SetupError, TestHead};
use waltron_core::quantity::{Dimension, Measure, Ratio, seconds};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;

/// What is handed on to later tests: the setting that was found, in A.
pub(super) const FOUND: &str = "dc setting";

/// Rates of rise where the plan gives none, in A/s (EN 50123-2).
const USUAL_RATES: [f64; 3] = [100.0, 200.0, 400.0];
/// How often each, and how far below and above the level a ramp begins and ends.
const USUAL: (f64, f64) = (3.0, 0.03);
/// From where to where the level is searched for, as shares of the setting, and how quickly in s.
const SEARCH: (f64, f64, f64) = (0.6, 1.3, 0.5);
/// By how much slower the second search is, and the longest delay that it makes good, in s.
const AGAIN: (f64, f64) = (0.1, 0.03);
/// How far the second search goes below and above at most, as a share of the level.
const AGAIN_MARGIN: f64 = 0.05;
/// How long the current is left to settle before it rises: in time constants, at least and at most in s.
const SETTLE: (f64, f64, f64) = (6.0, 0.02, 0.3);
/// How long the last value stays, so that a breaker that was told to open has time to do so, in s.
const AFTER_S: f64 = 0.1;
/// The samples before the contacts part that tell the level, in s.
pub(super) const WINDOW_S: f64 = 0.02;
/// The least of a ramp that tells how quickly it rises, in s, and by how much that may be off, as a share.
const TELLING_S: f64 = 0.2;
const EVEN: f64 = 0.3;

/// The level at which it trips.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TripLevelKeys {
    /// Rates of rise; `["100 A/s", "200 A/s", "400 A/s"]` if not given.
    rates: Option<Vec<AnyQuantityText>>,
    /// How often each; 3 if not given.
    times: Option<Number>,
    /// How far below and above the level a ramp begins and ends; 3 % if not given.
    margin: Option<QuantityText<Ratio>>,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct TripLevel {
    test: Name,
    /// In A/s.
    rates: Vec<f64>,
    times: usize,
    margin: f64,
}

impl FamilyKeys for TripLevelKeys {
    type Family = DcBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        _of: &DcBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let mut rates: Vec<f64> = Vec::new();
        for field in self.rates.iter().flatten() {
            let rate = field.positive_of(Dimension::CURRENT_RATE, problems)?.si;
            // Points are called by it.
            if rates.iter().any(|other| called(*other) == called(rate)) {
                problems.push(Problem::new(field.span(), "this rate is listed twice"));
                return None;
            }
            rates.push(rate);
        }
        if self.rates.is_none() {
            rates = USUAL_RATES.to_vec();
        }
        if rates.is_empty() {
            let problem = Problem::new(head.id.span(), "`rates` is empty: nothing would rise");
            problems
                .push(problem.help("leave it out, or write `rates = [\"100 A/s\", \"400 A/s\"]`"));
            return None;
        }
        let times = firing::times(self.times.as_ref(), USUAL.0, problems)?;
        let margin = match &self.margin {
            None => USUAL.1,
            Some(field) => {
                let share = field.positive(problems)?.value;
                if share > 0.2 {
                    let why = "more than 20 % of the level: the pulse would last for ever";
                    problems.push(Problem::new(field.span(), why));
                    return None;
                }
                share
            }
        };
        Some(Arc::new(Fired(TripLevel { test: head.name(), rates, times, margin })))
    }
}

/// What a test of the level knows.
#[derive(Default)]
pub(super) struct Levels {
    /// The level that the first search has found, and the second, slower one, in A: on a quick ramp a slow breaker
    /// lets the current rise a good deal further.
    coarse: Option<f64>,
    search: Option<f64>,
    /// Which rate comes next, and how often it was done.
    rate: usize,
    turn: usize,
    /// Levels of the present rate, in A.
    here: Vec<f64>,
    /// What was seen instead of a level.
    lacks: Option<String>,
    /// Levels of all rates, each with its rate, in A and A/s.
    all: Vec<(f64, f64)>,
    /// Whether pulses were fired that gave no level.
    is_partial: bool,
    /// The points that are found once nothing is left to be fired.
    is_done: bool,
    /// The setting that was found, in A.
    found: Option<f64>,
}

/// A rate of rise as ids have it: `100-A-per-s`.
fn called(rate: f64) -> String {
    quantity(rate, Dimension::CURRENT_RATE).to_string().replace('/', "-per-").replace(' ', "-")
}

/// The point of a rate.
fn level(rate: f64) -> String {
    format!("level/{}", called(rate))
}

fn spread(rate: f64) -> String {
    format!("spread/{}", called(rate))
}

/// Why a ramp was none: the current rose otherwise than it was told to.
fn uneven(pulse: &Pulse<'_>, opened: Opening, settle: f64, rate: f64) -> Option<String> {
    let ramp = opened.parted_s - settle;
    // The first part of it still settles.
    let rose = pulse.slope(settle + 0.2 * ramp, opened.parted_s - 0.02 * ramp)?;
    let is_even = ramp < TELLING_S || (rose / rate - 1.0).abs() < EVEN;
    let of = |rate| quantity(rate, Dimension::CURRENT_RATE);
    (!is_even).then(|| {
        format!(
            "the current rose by {} and not by {}: the source's store, or a loose connection",
            of(rose),
            of(rate)
        )
    })
}

/// The level of an injection of a record, in A, where it opened while the current rose.
pub(crate) fn level_on(of: &DcBreaker, served: &Served) -> Option<f64> {
    let pulse = samples(&served.observation)?;
    let settle = served.program.segments.first()?.longest()?.si();
    let Shown::Opened(opened) = pulse.shown(WINDOW_S, floor(of)) else { return None };
    (opened.parted_s > settle).then_some(opened.level_a)
}

impl TripLevel {
    /// A ramp from one current to another, through a circuit: first to where it begins, then on.
    fn ramp(&self, at: &At<'_>, (from, to): (f64, f64), rate: f64) -> Program {
        let (ohm, henry) = (at.circuit.ohm, at.circuit.henry);
        let volts = |amps: f64| henry * rate + ohm * amps;
        let settle = settle_s(at);
        let through = [from, to].map(|amps| at.source.put(volts(amps))).to_vec();
        let time = seconds((to - from) / rate);
        let segments = vec![
            at.source.hold("rise", ohm * from, seconds(settle)),
            Segment::new("ramp", Profile::Slope(Slope { through, time }), Vec::new()),
            at.source.hold("after", volts(to), seconds(AFTER_S)),
        ];
        at.source.pulse(segments, SLOW_HZ)
    }

    fn fed(&self, rate: f64) -> Values {
        Values::none().with_quantity("rate", quantity(rate, Dimension::CURRENT_RATE))
    }

    fn setting(&self, of: &DcBreaker) -> Finding {
        let found = Finding::not_tested(point(&self.test, "setting"), SETTING, Values::none(), "");
        Finding { limits: required(of, &found), ..found }
    }

    /// How far a ramp begins below a level and ends above it, in A: no further than was foreseen, also where it lies
    /// beyond its band.
    fn margin(&self, of: &DcBreaker, level: f64) -> f64 {
        self.margin * level.min(of.band().1)
    }

    /// From where to where the level is searched for, in A.
    fn span(&self, at: &At<'_>) -> (f64, f64) {
        let setting = at.of.setting.si();
        (SEARCH.0 * setting, (SEARCH.1 * setting).min(at.source.reach_a(at.circuit)))
    }

    /// What is said of everything where nothing can be fired.
    fn all(&self, of: &DcBreaker, verdict: Verdict, why: &str) -> Vec<Finding> {
        let rates = self.rates.iter().flat_map(|rate| self.rate(of, *rate));
        let all = rates.chain([self.setting(of)]);
        all.map(|f| f.judged(Judgement::new(verdict, why))).collect()
    }

    /// The points of a rate.
    fn rate(&self, of: &DcBreaker, rate: f64) -> Vec<Finding> {
        let mut names = vec![(level(rate), LEVEL)];
        if of.spread_a.is_some() {
            names.push((spread(rate), SPREAD));
        }
        let found = names.into_iter().map(|(name, criterion)| {
            let found =
                Finding::not_tested(point(&self.test, &name), criterion, self.fed(rate), "");
            Finding { limits: required(of, &found), ..found }
        });
        found.collect()
    }

    /// The level that the search has shown; else what is said of everything.
    fn searched(&self, at: &At<'_>, shown: Shown) -> Result<f64, Vec<Finding>> {
        let (from, to) = self.span(at);
        match shown {
            Shown::Opened(opened) if opened.parted_s > settle_s(at) => Ok(opened.level_a),
            Shown::Opened(opened) => {
                let (why, (low, _)) = (
                    format!(
                        "it opened at {} already, while the current rose to the {} that the search begins with",
                        amps(opened.level_a),
                        amps(from)
                    ),
                    at.of.band(),
                );
                // What opens below its band while the current rises is set too low for certain.
                let mut all = self.all(at.of, Verdict::Inconclusive, &why);
                if let Some(setting) = all.last_mut().filter(|_| opened.level_a < low) {
                    setting.measured =
                        Values::none().with_quantity("at_most", amps(opened.level_a));
                    (setting.verdict, setting.reason) = (Verdict::Fail, why);
                    *setting = setting.clone().uncertain(&at.source.amps(opened.level_a));
                }
                Err(all)
            }
            Shown::Stayed { most_a } => {
                let why = format!(
                    "it did not open up to {}: release blocked or set higher, current the wrong way through it",
                    amps(most_a)
                );
                let mut all = self.all(at.of, Verdict::Inconclusive, &why);
                let (_, high) = at.of.band();
                if let Some(setting) = all.last_mut() {
                    setting.measured = Values::none().with_quantity("at_least", amps(most_a));
                    let reached = at.source.amps(most_a);
                    if most_a - reached.expanded() > high {
                        setting.verdict = Verdict::Fail;
                    }
                    *setting = setting.clone().uncertain(&reached);
                }
                Err(all)
            }
            Shown::Nothing => Err(self.all(
                at.of,
                Verdict::Inconclusive,
                &format!("no current flowed, and {} was wanted", amps(to)),
            )),
            Shown::Untold(why) => Err(self.all(at.of, Verdict::Inconclusive, &why)),
        }
    }

    /// What the pulses of a rate came to.
    fn of_rate(&self, at: &At<'_>, state: &mut Levels) -> Vec<Finding> {
        let rate = self.rates[state.rate];
        let points = self.rate(at.of, rate);
        let levels = &state.here;
        if let Some(why) = state.lacks.take() {
            state.is_partial = true;
            return points
                .into_iter()
                .map(|f| f.judged(Judgement::new(Verdict::Inconclusive, why.as_str())))
                .collect();
        }
        let count = levels.len() as f64;
        let mean = levels.iter().sum::<f64>() / count;
        let (low, high) =
            levels.iter().fold((f64::INFINITY, 0.0f64), |(l, h), v| (l.min(*v), h.max(*v)));
        let each = levels.iter().map(|v| amps(*v).to_string()).collect::<Vec<_>>().join(", ");
        let note = format!("opened at {each}");
        let judged = |f: Finding| {
            let measured = if f.criterion == SPREAD {
                Values::none().with_quantity("spread", amps(high - low))
            } else {
                Values::none()
                    .with_quantity("current", amps(mean))
                    .with_quantity("spread", amps(high - low))
            };
            // What the meter is off by it is off by each time: of a difference that drops out.
            let sampled = |level: f64, name: &str| {
                let step = Value::Plain(amps(rate / SLOW_HZ));
                at.source
                    .amps(level)
                    .with_beside(Cause::limit(format!("sampling, {name}"), step), 1.0)
            };
            let estimate = match f.criterion == SPREAD {
                true => sampled(high, "highest").minus(&sampled(low, "lowest")),
                false => sampled(mean, "mean"),
            };
            judged(at.of, f, Found { measured, estimate, note: note.clone() })
        };
        points.into_iter().map(judged).collect()
    }

    /// The setting from all levels.
    fn extrapolated(&self, at: &At<'_>, state: &mut Levels) -> Finding {
        let found = self.setting(at.of);
        let points: Vec<(f64, f64)> =
            state.all.iter().map(|(level, rate)| (*rate, *level)).collect();
        if points.is_empty() {
            let why = "no level was found on any ramp";
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
        let mean = points.iter().map(|p| p.1).sum::<f64>() / points.len() as f64;
        let (level, error, note) = match line(&points) {
            Some(line) => {
                let time = |si| quantity(si, Dimension::TIME);
                let (grows, u) = (line.slope, 2.0 * line.slope_error);
                let told = if grows > u {
                    format!("the level grows by {} (± {}) times the rate", time(grows), time(u))
                } else {
                    "the level does not visibly follow the rate".to_owned()
                };
                let (count, rates) = (points.len(), self.rates.len());
                let note = format!("{count} pulses of {rates} rates extrapolated to none; {told}");
                (line.at_zero, 2.0 * line.at_zero_error, note)
            }
            None => {
                let note = format!("mean of {} pulses of one rate, not extrapolated", points.len());
                (mean, 0.0, note)
            }
        };
        let measured = Values::none().with_quantity("current", amps(level));
        let scatter = Cause::expanded("scatter of the pulses", Value::Plain(amps(error)));
        let estimate = at.source.amps(level).with_beside(scatter, 1.0);
        if state.is_partial {
            // What lies outside of its ramp is lost, and the rest looks better than all of them.
            let why = format!("some pulses gave no level, and the others would flatter it: {note}");
            return Finding { measured, ..found }
                .uncertain(&estimate)
                .judged(Judgement::new(Verdict::Inconclusive, why));
        }
        state.found = Some(level);
        judged(at.of, found, Found { measured, estimate, note })
    }
}

/// How quickly the current rises in the search, in A/s.
fn search_rate(of: &DcBreaker) -> f64 {
    (SEARCH.1 - SEARCH.0) * of.setting.si() / SEARCH.2
}

/// How long the current is left to settle, in s.
fn settle_s(at: &At<'_>) -> f64 {
    (SETTLE.0 * at.circuit.time_constant()).clamp(SETTLE.1, SETTLE.2)
}

impl Firing for TripLevel {
    type State = Levels;

    const WORD: &'static str = "trip-level";

    fn test(&self) -> &Name {
        &self.test
    }

    fn begins_closed(&self) -> bool {
        true
    }

    fn foreseen(&self, of: &DcBreaker, source: &Source) -> Result<Vec<Foreseen>, SetupError> {
        let setting = of.setting.si();
        let pulse = |time: f64| {
            let time = SETTLE.2 + time + AFTER_S;
            source.pulse(vec![source.hold("pulse", source.range_v(), seconds(time))], SLOW_HZ)
        };
        let (_, high) = of.band();
        let search = |time: f64| Foreseen {
            points: Vec::new(),
            stimulus: Values::none()
                .with_quantity("from", amps(SEARCH.0 * setting))
                .with_quantity("to", amps(SEARCH.1 * setting)),
            limits: Limits::None,
            program: pulse(time),
            count: 1,
        };
        let quick = search_rate(of);
        let margin = self.margin.min(AGAIN_MARGIN) * high;
        let again = (quick * AGAIN.1 + 2.0 * margin) / (AGAIN.0 * quick);
        let mut all = vec![search(SEARCH.2), search(again)];
        for rate in &self.rates {
            let points = self.rate(of, *rate).into_iter();
            // As long as it lasts at the upper edge of the band; a level beyond it fails all the same.
            let time = 2.0 * self.margin * high / rate;
            all.push(Foreseen {
                points: points
                    .map(|f| (f.point.id[self.test.as_str().len() + 1..].to_owned(), f.criterion))
                    .collect(),
                stimulus: self.fed(*rate),
                limits: Limits::None,
                program: pulse(time),
                count: self.times,
            });
        }
        // It follows from the others: nothing more is put out.
        all.push(Foreseen {
            points: vec![("setting".to_owned(), SETTING)],
            stimulus: Values::none(),
            limits: self.setting(of).limits,
            program: Program::default(),
            count: 0,
        });
        Ok(all)
    }

    fn next(&self, at: &At<'_>, state: &mut Levels) -> Next {
        if state.is_done {
            return Next::Done;
        }
        let quick = search_rate(at.of);
        let Some(coarse) = state.coarse else {
            let (from, to) = self.span(at);
            let (_, high) = at.of.band();
            let why = at
                .source
                .beyond(at.circuit, high, 0.0)
                .or_else(|| at.source.beyond(at.circuit, to, quick));
            if let Some(why) = why {
                state.is_done = true;
                return Next::Conclude(self.all(at.of, Verdict::NotTested, &why));
            }
            let program = self.ramp(at, (from, to), quick);
            return Next::Fire {
                program: program.into(),
                part: "search".to_owned(),
                serves: Vec::new(),
            };
        };
        let Some(searched) = state.search else {
            let margin = self.margin(at.of, coarse).min(AGAIN_MARGIN * at.of.band().1);
            let (from, to) = (coarse - quick * AGAIN.1 - margin, coarse + margin);
            let program = self.ramp(at, (from, to), AGAIN.0 * quick);
            return Next::Fire {
                program: program.into(),
                part: "search again".to_owned(),
                serves: Vec::new(),
            };
        };
        let Some(rate) = self.rates.get(state.rate).copied() else {
            state.is_done = true;
            return Next::Conclude(vec![self.extrapolated(at, state)]);
        };
        let margin = self.margin(at.of, searched);
        let (from, to) = (searched - margin, searched + margin);
        if let Some(why) = at.source.beyond(at.circuit, to, rate) {
            state.rate += 1;
            let points = self.rate(at.of, rate).into_iter();
            let points = points.map(|f| f.judged(Judgement::new(Verdict::NotTested, why.as_str())));
            return Next::Conclude(points.collect());
        }
        let told = quantity(rate, Dimension::CURRENT_RATE);
        let part = format!("{told} {} of {}", state.turn + 1, self.times);
        let serves = self
            .rate(at.of, rate)
            .into_iter()
            .map(|f| f.point.id[self.test.as_str().len() + 1..].to_owned());
        let serves = serves.chain(["setting".to_owned()]).collect();
        Next::Fire { program: self.ramp(at, (from, to), rate).into(), part, serves }
    }

    fn seen(&self, at: &At<'_>, state: &mut Levels, seen: &Observation) -> Vec<Finding> {
        let pulse = samples(seen);
        let shown = pulse.map_or_else(
            || Shown::Untold("the pulse was not captured".to_owned()),
            |pulse| pulse.shown(WINDOW_S, floor(at.of)),
        );
        if let (Some(coarse), None) = (state.coarse, state.search) {
            // What opens before or behind the second ramp is looked for where the first one found it.
            let level = match shown {
                Shown::Opened(opened) if opened.parted_s > settle_s(at) => opened.level_a,
                _ => coarse,
            };
            state.search = Some(level);
            return Vec::new();
        }
        if state.search.is_none() {
            return match self.searched(at, shown) {
                Ok(level) => {
                    state.coarse = Some(level);
                    Vec::new()
                }
                Err(found) => {
                    state.is_done = true;
                    found
                }
            };
        }
        let rate = self.rates[state.rate];
        let settle = settle_s(at);
        let searched = state.search.unwrap_or_default();
        match (shown, pulse) {
            (Shown::Opened(opened), Some(pulse)) if opened.parted_s > settle => {
                let length = 2.0 * self.margin(at.of, searched) / rate;
                let behind = opened.parted_s > settle + length;
                let why = behind.then(|| {
                    format!(
                        "it opened at {}, behind the end of its ramp: take a larger `margin`, or a slower rate",
                        amps(opened.level_a)
                    )
                });
                let why = why.or_else(|| uneven(&pulse, opened, settle, rate));
                if why.is_none() {
                    state.here.push(opened.level_a);
                    state.all.push((opened.level_a, rate));
                }
                state.lacks = state.lacks.take().or(why);
            }
            (Shown::Opened(opened), _) => {
                state.lacks = Some(format!(
                    "it opened at {} already, before the ramp began: its level scatters, take a larger `margin`",
                    amps(opened.level_a)
                ));
            }
            (Shown::Stayed { most_a }, _) => {
                state.lacks = Some(format!(
                    "it did not open up to {}, and did so in the search: its level scatters, take a larger `margin`",
                    amps(most_a)
                ));
            }
            (Shown::Nothing, _) => {
                state.lacks = Some("no current flowed: it was not closed".to_owned())
            }
            (Shown::Untold(why), _) => state.lacks = Some(why),
        }
        state.turn += 1;
        if state.turn < self.times {
            return Vec::new();
        }
        let found = self.of_rate(at, state);
        state.here.clear();
        (state.rate, state.turn) = (state.rate + 1, 0);
        found
    }

    fn hand_on(&self, state: &Levels, carried: &mut Carried) {
        if let Some(found) = state.found {
            carried.insert(FOUND.to_owned(), found);
        }
    }
}
