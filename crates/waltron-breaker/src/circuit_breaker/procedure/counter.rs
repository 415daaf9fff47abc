//! The counter of operations: read by the attendant, held against what the run has made.

use super::step::look;
use crate::circuit_breaker::asset::{CircuitBreaker, Counts};
use crate::ledger::{Count, Entry, Ledger, Made};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Grade, Judgement, Limits, PointId, Values, Verdict,
};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Answer, Bench, Carried, FamilyKeys, Injection, Method, Planned, PlannedPoint,
    Procedure, Question, SetupError, TestHead, Wanted,
};
use waltron_core::quantity::{Dimension, Quantity, seconds};
use waltron_core::text::document::{Field, Problem, Problems};
use waltron_core::text::name::Name;

/// What a run hands on: how often the breaker was closed, and opened.
pub(super) const COUNTED: [Count; 2] = [Count("closings"), Count("openings")];
/// What the counter read last.
const READ: Ledger = Ledger("counter");

/// That the counter has gone on by as many operations as were made.
const COUNTER: Criterion = Criterion::named("operations_counter");

/// The most digits of a counter, as a number.
const MOST: f64 = 9_999_999.0;

/// A reading of the operations counter. The first one of a run is noted; a later one must have gone on by what
/// the run has operated since.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CounterKeys {}

/// A reading of a counter.
#[derive(Clone, Debug, PartialEq)]
pub struct CounterTest {
    test: Name,
    counts: Counts,
}

impl FamilyKeys for CounterKeys {
    type Family = CircuitBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &CircuitBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let Some(counts) = of.counter else {
            problems.push(Problem::new(head.id.span(), "the asset's file has no `counter`"));
            return None;
        };
        Some(Arc::new(CounterTest { test: head.name(), counts }))
    }
}

impl Method for CounterTest {
    fn word(&self) -> &'static str {
        "counter"
    }

    fn set_up(&self, _bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(Reading {
            of: self.clone(),
            before: None,
            made: Made::default(),
            stage: Stage::Looking,
            read: None,
        }))
    }

    fn grade_again(
        &self,
        _bench: Bench<'_>,
        measured: &Grade,
        _served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        // What was read, and what was made, stay what they were.
        let found = self.finding(measured.measured.clone(), measured.expected.clone());
        Ok(found.judged(Judgement::new(measured.verdict, measured.reason.clone())))
    }
}

impl CounterTest {
    fn point(&self) -> PointId {
        let id = format!("{}/counter", self.test);
        PointId { id, test: self.test.clone(), element: None, fault_loop: None }
    }

    fn finding(&self, measured: Values, expected: Values) -> Finding {
        let found = Finding::not_tested(self.point(), COUNTER, Values::none(), "");
        Finding { measured, expected, ..found }
    }

    fn judged(&self, read: f64, before: Option<Entry>, made: Made) -> Finding {
        let number = |n: f64| Values::none().with_quantity("value", Quantity::number(n));
        let word = match self.counts {
            Counts::Closings => "closings",
            Counts::Openings => "openings",
        };
        let Some(before) = before else {
            let why =
                format!("the counter reads {read}; there is no reading of this run before it");
            let found = self.finding(number(read), Values::none());
            return found.judged(Judgement::new(Verdict::Measured, why));
        };
        let found = self.finding(number(read), number(before.expected(made)));
        let (verdict, why) = before.judged(read, made, word);
        found.judged(Judgement::new(verdict, why))
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    Looking,
    Asking,
    /// The answer was no number that follows: it is asked once more.
    Doubting,
    Telling,
    Done,
}

struct Reading {
    of: CounterTest,
    before: Option<Entry>,
    /// How often the run has made what it counts.
    made: Made,
    stage: Stage,
    read: Option<f64>,
}

impl Reading {
    fn made(&self, carried: &Carried) -> Made {
        COUNTED[usize::from(self.of.counts == Counts::Openings)].made(carried)
    }
}

impl Procedure for Reading {
    fn planned(&self) -> Vec<Planned> {
        vec![Planned {
            points: vec![PlannedPoint::certain(self.of.point(), COUNTER)],
            stimulus: Values::none(),
            expected: Values::none(),
            limits: Limits::None,
            program: Arc::new(look()),
            likely: seconds(0.0),
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        }]
    }

    fn next(&mut self) -> Action {
        match self.stage {
            Stage::Looking => Action::Inject(Arc::new(look())),
            Stage::Asking | Stage::Doubting => {
                let text = match (self.stage, self.before) {
                    (Stage::Doubting, Some(before)) => format!(
                        "The operations counter read {} before, and cannot go back. Read it again",
                        before.read
                    ),
                    _ => "What the operations counter reads".to_owned(),
                };
                Action::Ask(Question {
                    text,
                    wanted: Wanted::Quantity {
                        kind: "a number".to_owned(),
                        exponents: Dimension::NUMBER.exponents(),
                        default_si: None,
                        bounds: Some([0.0, MOST]),
                        may_be_unknown: true,
                    },
                })
            }
            Stage::Telling => {
                self.stage = Stage::Done;
                let found = match self.read {
                    Some(read) => self.of.judged(read, self.before, self.made),
                    None => {
                        let found = self.of.finding(Values::none(), Values::none());
                        found.judged(Judgement::new(Verdict::NotTested, "nobody read the counter"))
                    }
                };
                Action::Conclude(vec![found])
            }
            Stage::Done => Action::Done,
        }
    }

    fn injection(&self) -> Injection {
        let id = self.of.point().id;
        Injection { point: Some(id), part: "look".to_owned(), serves: Vec::new() }
    }

    fn observe(&mut self, _observation: &Observation) -> Vec<Finding> {
        self.stage = Stage::Asking;
        Vec::new()
    }

    fn refuse(&mut self, _reason: &str) -> Vec<Finding> {
        self.stage = Stage::Asking;
        Vec::new()
    }

    fn answer(&mut self, answer: Answer) {
        let Answer::Si(read) = answer else {
            self.stage = Stage::Telling;
            return;
        };
        let goes_back = self.before.is_some_and(|before| read < before.read);
        let is_odd = goes_back || read.fract() != 0.0;
        if is_odd && self.stage == Stage::Asking {
            self.stage = Stage::Doubting;
            return;
        }
        (self.read, self.stage) = (Some(read), Stage::Telling);
    }

    fn take_over(&mut self, carried: &Carried) {
        self.made = self.made(carried);
        self.before = READ.earlier(&self.of.test, carried);
    }

    fn hand_on(&self, carried: &mut Carried) {
        if let Some(read) = self.read {
            READ.note(&self.of.test, Entry { read, made: self.made(carried) }, carried);
        }
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        if !wanted(&self.of.point()) {
            self.stage = Stage::Done;
        }
    }

    fn repeat(&mut self) {
        self.stage = Stage::Looking;
    }
}
