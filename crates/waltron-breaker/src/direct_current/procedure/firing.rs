//! Pulses one after the other: the circuit is measured first, the store is waited for before each, and the breaker is
//! brought into the state that the pulse begins with.

use super::judging::{CIRCUIT, again, point, quantity, required};
use super::source::{QUICK_HZ, Source, floor, samples};
use crate::direct_current::analysis::circuit::{Circuit, fit};
use crate::direct_current::analysis::pulse::Shown;
use crate::direct_current::asset::{DcBreaker, amps};
use std::fmt::Debug;
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Grade, Judgement, Limits, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Answer, Bench, Carried, Injection, Method, Planned, PlannedPoint, Procedure, Question,
    SetupError,
};
use waltron_core::quantity::{Dimension, Measure, Time, seconds};
use waltron_core::text::document::{Field, Number, Problem, Problems};
use waltron_core::text::name::Name;

/// The first voltage that looks at the circuit, as a share of the source's range.
const LOOK: f64 = 0.02;
/// How long it is on, in s.
const LOOK_S: f64 = 0.2;
/// The share of the setting that is enough to know the circuit by, and the one that is aimed at.
const ENOUGH: (f64, f64) = (0.1, 0.25);

/// The most often that a test fires the same.
const MOST_TIMES: f64 = 100.0;

/// How often a test fires the same, as its keys say.
pub(super) fn times(field: Option<&Number>, usual: f64, problems: &mut Problems) -> Option<usize> {
    let Some(field) = field else { return Some(usual as usize) };
    let times = field.positive(problems)?;
    if times.fract() == 0.0 && times <= MOST_TIMES {
        return Some(times as usize);
    }
    let why = format!("how often is a whole number from 1 to {MOST_TIMES}");
    problems.push(Problem::new(field.span(), why));
    None
}

/// Where a test is.
pub(super) struct At<'a> {
    pub(super) of: &'a DcBreaker,
    pub(super) source: &'a Source,
    pub(super) circuit: &'a Circuit,
}

/// What comes next.
pub(super) enum Next {
    /// A pulse: which one it is, and the points that it serves by what they are called.
    Fire {
        program: Box<Program>,
        part: String,
        serves: Vec<String>,
    },
    Conclude(Vec<Finding>),
    Done,
}

/// A pulse before its circuit is known.
pub(super) struct Foreseen {
    pub(super) points: Vec<(String, Criterion)>,
    pub(super) stimulus: Values,
    pub(super) limits: Limits,
    /// The longest that it can become.
    pub(super) program: Program,
    /// How many of them there will be.
    pub(super) count: usize,
}

/// A test that fires pulses.
pub(super) trait Firing: Clone + Debug + Send + Sync + PartialEq + 'static {
    /// What it knows while it runs.
    type State: Default;

    /// Its procedure's name as written in plans.
    const WORD: &'static str;

    fn test(&self) -> &Name;

    /// Whether the breaker is closed before each pulse.
    fn begins_closed(&self) -> bool;

    /// What it will fire.
    ///
    /// # Errors
    /// What the rig, or the breaker's file, lacks.
    fn foreseen(&self, of: &DcBreaker, source: &Source) -> Result<Vec<Foreseen>, SetupError>;

    /// The next pulse, or what is said without one.
    fn next(&self, at: &At<'_>, state: &mut Self::State) -> Next;

    /// What a pulse has shown.
    fn seen(&self, at: &At<'_>, state: &mut Self::State, seen: &Observation) -> Vec<Finding>;

    /// What it begins again with.
    fn afresh(&self, _state: &Self::State) -> Self::State {
        Self::State::default()
    }

    /// Takes from other tests of the run.
    fn take_over(&self, _state: &mut Self::State, _carried: &Carried) {}

    /// Hands on to other tests of the run.
    fn hand_on(&self, _state: &Self::State, _carried: &mut Carried) {}
}

/// A test that fires pulses, as a procedure that plans can name.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Fired<T>(pub(super) T);

impl<T: Firing> Method for Fired<T> {
    fn word(&self) -> &'static str {
        T::WORD
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let of = bench.family::<DcBreaker>()?.clone();
        let source = Source::new(bench.capability, &of)?;
        let foreseen = self.0.foreseen(&of, &source)?;
        let calibration =
            [LOOK, ENOUGH.1].map(|share| calibration(&source, share * source.range_v()));
        Ok(Box::new(Course {
            firing: self.0.clone(),
            of,
            source,
            foreseen,
            calibration,
            state: T::State::default(),
            circuit: None,
            given_up: false,
            graded: Vec::new(),
            look: None,
            closed: None,
            is_ready: false,
            doing: Doing::Readying,
            now: None,
            at: String::new(),
            serves: Vec::new(),
        }))
    }

    /// What was measured holds, whatever is injected for it.
    fn injects(&self) -> bool {
        false
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        _served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        Ok(again(bench.family()?, measured))
    }
}

fn calibration(source: &Source, volts: f64) -> Program {
    source.pulse(vec![source.hold("look", volts, seconds(LOOK_S))], QUICK_HZ)
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Doing {
    Readying,
    Calibrating,
    Firing,
}

/// The procedure.
struct Course<T: Firing> {
    firing: T,
    of: DcBreaker,
    source: Source,
    foreseen: Vec<Foreseen>,
    /// The first look at the circuit, and the most that the second one may be.
    calibration: [Program; 2],
    state: T::State,
    /// The circuit, once it is known.
    circuit: Option<Circuit>,
    /// Whether nothing more is tried.
    given_up: bool,
    /// The points that are graded.
    graded: Vec<String>,
    /// The voltage of the second look at the circuit, once the first one has shown what it takes.
    look: Option<f64>,
    /// Whether it is closed, where that is known.
    closed: Option<bool>,
    /// Whether store and breaker are ready.
    is_ready: bool,
    doing: Doing,
    /// What was handed out, and which pulse it comes before.
    now: Option<Arc<Program>>,
    at: String,
    /// The points that it serves, by what they are called.
    serves: Vec<String>,
}

impl<T: Firing> Course<T> {
    /// What the next pulse is, without regard to whether everything is ready for it.
    fn pulse(&mut self) -> Result<(Program, String, Vec<String>), Action> {
        if self.given_up {
            return Err(Action::Done);
        }
        let Some(circuit) = self.circuit else {
            let (program, part) = match self.look {
                None => (self.calibration[0].clone(), "circuit"),
                Some(volts) => (calibration(&self.source, volts), "circuit again"),
            };
            return Ok((program, part.to_owned(), vec!["circuit".to_owned()]));
        };
        let at = At { of: &self.of, source: &self.source, circuit: &circuit };
        match self.firing.next(&at, &mut self.state) {
            Next::Fire { program, part, serves } => Ok((*program, part, serves)),
            Next::Conclude(found) => Err(Action::Conclude(self.noted(found))),
            Next::Done => Err(Action::Done),
        }
    }

    /// What the small current has shown of the circuit.
    fn calibrated(&mut self, program: &Program, seen: &Observation) -> Vec<Finding> {
        let volts = program.maxima().first().map_or(0.0, |(_, si, _)| *si);
        let test = self.firing.test();
        let found = Finding::not_tested(point(test, "circuit"), CIRCUIT, Values::none(), "");
        let setting = self.of.setting.si();
        let least = floor(&self.of);
        let shown = samples(seen).map(|pulse| (pulse, pulse.shown(0.01, least)));
        let why = match shown {
            None => "the current was not captured".to_owned(),
            Some((_, Shown::Nothing)) => {
                "no current flows: breaker open, leads off, or the meter's range".to_owned()
            }
            Some((_, Shown::Opened(opened))) => {
                format!(
                    "it opened at {} already, while the circuit was looked at",
                    amps(opened.level_a)
                )
            }
            Some((_, Shown::Untold(why))) => why,
            Some((pulse, Shown::Stayed { .. })) => {
                let flows = pulse.at_end();
                let again =
                    (volts * ENOUGH.1 * setting / flows).min(ENOUGH.1 * self.source.range_v());
                if self.look.is_none() && flows < ENOUGH.0 * setting && again > 1.5 * volts {
                    self.look = Some(again);
                    return Vec::new();
                }
                match fit(pulse.amps, volts, pulse.rate_hz) {
                    Some(circuit) => return vec![self.known(found, volts, flows, circuit)],
                    None => {
                        "the current does not rise as in a circuit of resistance and inductance"
                            .to_owned()
                    }
                }
            }
        };
        let rest = self.give_up(Verdict::Inconclusive, &format!("the circuit is not known: {why}"));
        std::iter::once(found.judged(Judgement::new(Verdict::Inconclusive, why)))
            .chain(rest)
            .collect()
    }

    fn known(&mut self, found: Finding, volts: f64, flows: f64, circuit: Circuit) -> Finding {
        self.circuit = Some(circuit);
        let reach = self.source.reach_a(&circuit);
        let rate = self.source.range_v() / circuit.henry;
        // Both go by voltage over current.
        let quotient = self.source.volts(volts).over(&self.source.amps(flows));
        let estimate = quotient.clone().function(circuit.ohm, circuit.ohm / quotient.value);
        let measured = Values::none()
            .with_quantity("resistance", quantity(circuit.ohm, Dimension::RESISTANCE))
            .with_quantity("inductance", quantity(circuit.henry, Dimension::INDUCTANCE))
            .with_quantity("reach", amps(reach))
            .with_quantity("quickest", quantity(rate, Dimension::CURRENT_RATE));
        let why = format!(
            "the source drives up to {} through it, and {} at first",
            amps(reach),
            quantity(rate, Dimension::CURRENT_RATE)
        );
        let stimulus = Values::none().with_quantity("voltage", quantity(volts, Dimension::VOLTAGE));
        Finding { measured, stimulus, ..found }
            .uncertain(&estimate)
            .judged(Judgement::new(Verdict::Measured, why))
    }
}

fn planned(
    points: Vec<PlannedPoint>,
    program: Program,
    stimulus: Values,
    limits: Limits,
    likely: Time,
) -> Planned {
    Planned {
        points,
        stimulus,
        expected: Values::none(),
        limits,
        program: Arc::new(program),
        likely,
        place: None,
        not_tested: None,
        is_exact: false,
        also: Vec::new(),
    }
}

impl<T: Firing> Procedure for Course<T> {
    fn planned(&self) -> Vec<Planned> {
        let test = self.firing.test();
        let plain = |points, program: Program, likely| {
            planned(points, program, Values::none(), Limits::None, likely)
        };
        let mut all = Vec::new();
        let mut states = vec![true, self.firing.begins_closed()];
        states.dedup();
        let readies = states.into_iter().filter_map(|closed| self.source.ready(closed));
        all.extend(readies.map(|program| plain(Vec::new(), program, seconds(2.0))));
        let circuit = PlannedPoint::certain(point(test, "circuit"), CIRCUIT);
        let [first, second] = [0, 1].map(|k| self.calibration[k].clone());
        let volts = |share: f64| quantity(share * self.source.range_v(), Dimension::VOLTAGE);
        let fed =
            Values::none().with_quantity("from", volts(LOOK)).with_quantity("to", volts(ENOUGH.1));
        all.push(planned(vec![circuit], first, fed, Limits::None, seconds(LOOK_S)));
        all.push(plain(Vec::new(), second, seconds(LOOK_S)));
        for foreseen in &self.foreseen {
            let points = foreseen.points.iter();
            let points = points.map(|(what, criterion)| {
                PlannedPoint::certain(point(test, what), criterion.clone())
            });
            let program = foreseen.program.clone();
            // And about as long for the store.
            let each = program.longest().unwrap_or_default() * 2.0 + seconds(2.0);
            let likely = each * foreseen.count as f64;
            let (stimulus, limits) = (foreseen.stimulus.clone(), foreseen.limits.clone());
            all.push(planned(points.collect(), program, stimulus, limits, likely));
        }
        all
    }

    fn next(&mut self) -> Action {
        let (mut program, part, serves) = match self.pulse() {
            Ok(pulse) => pulse,
            Err(action) => return action,
        };
        // Its waveforms are kept beside the record, by its name.
        let name = Name::from(format!("{} {part}", self.firing.test()).as_str());
        program.captures.iter_mut().for_each(|capture| capture.name = name.clone());
        program.capture = Some(name);
        let program = Arc::new(program);
        (self.at, self.serves) = (part, serves);
        let closes = self.closes();
        if !self.is_ready {
            if self.source.command(closes).is_none() && self.closed != Some(closes) {
                let text = if closes { "Close the breaker" } else { "Open the breaker" };
                return Action::Ask(Question::confirm(text));
            }
            if let Some(ready) = self.source.ready(closes) {
                self.doing = Doing::Readying;
                let ready = Arc::new(ready);
                self.now = Some(Arc::clone(&ready));
                return Action::Inject(ready);
            }
        }
        self.doing = if self.circuit.is_none() { Doing::Calibrating } else { Doing::Firing };
        self.now = Some(Arc::clone(&program));
        Action::Inject(program)
    }

    fn injection(&self) -> Injection {
        let test = self.firing.test();
        if self.doing == Doing::Readying {
            let part = format!("before {}", self.at);
            return Injection { point: None, part, serves: Vec::new() };
        }
        let serves = self.serves.iter().map(|what| point(test, what).id).collect();
        Injection { point: None, part: self.at.clone(), serves }
    }

    fn observe(&mut self, seen: &Observation) -> Vec<Finding> {
        let program = self.now.clone().unwrap_or_default();
        if self.doing == Doing::Readying {
            let Some(why) = self.source.unready(&program, seen) else {
                self.is_ready = true;
                return Vec::new();
            };
            return self.give_up(Verdict::NotTested, &why);
        }
        self.is_ready = false;
        self.closed = samples(seen).map(|pulse| pulse.at_end() > floor(&self.of));
        if self.doing == Doing::Calibrating {
            return self.calibrated(&program, seen);
        }
        let Some(circuit) = &self.circuit else { return Vec::new() };
        let at = At { of: &self.of, source: &self.source, circuit };
        let found = self.firing.seen(&at, &mut self.state, seen);
        self.noted(found)
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        self.is_ready = false;
        self.give_up(Verdict::NotTested, &format!("it was not put out: {reason}"))
    }

    fn answer(&mut self, _answer: Answer) {
        self.closed = Some(self.closes());
    }

    fn take_over(&mut self, carried: &Carried) {
        self.firing.take_over(&mut self.state, carried);
    }

    fn hand_on(&self, carried: &mut Carried) {
        self.firing.hand_on(&self.state, carried);
    }

    fn stands_alone(&self) -> bool {
        false
    }

    fn retain(&mut self, _wanted: &dyn Fn(&waltron_core::grading::PointId) -> bool) {}

    fn repeat(&mut self) {
        self.state = self.firing.afresh(&self.state);
        self.circuit = None;
        self.graded.clear();
        (self.given_up, self.look, self.closed, self.is_ready) = (false, None, None, false);
    }
}

impl<T: Firing> Course<T> {
    /// Whether the breaker is closed before what comes next.
    fn closes(&self) -> bool {
        self.circuit.is_none() || self.firing.begins_closed()
    }

    fn noted(&mut self, found: Vec<Finding>) -> Vec<Finding> {
        self.graded.extend(found.iter().map(|f| f.point.id.clone()));
        found
    }

    /// Nothing more is tried; tells so of every point that is not graded.
    fn give_up(&mut self, verdict: Verdict, why: &str) -> Vec<Finding> {
        self.given_up = true;
        let test = self.firing.test();
        let circuit = (self.circuit.is_none() && verdict == Verdict::NotTested)
            .then(|| Finding::not_tested(point(test, "circuit"), CIRCUIT, Values::none(), why));
        let points = self.foreseen.iter().flat_map(|f| &f.points);
        let points = points.map(|(what, criterion)| (point(test, what), criterion.clone()));
        let open = points.filter(|(point, _)| !self.graded.contains(&point.id));
        let open = open.map(|(point, criterion)| {
            let found = Finding::not_tested(point, criterion, Values::none(), "");
            let limits = required(&self.of, &found);
            Finding { limits, ..found }.judged(Judgement::new(verdict, why))
        });
        circuit.into_iter().chain(open).collect()
    }
}
