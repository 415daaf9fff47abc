//! The runner against a rig and an attendant that do as they are told.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::convert::Infallible;
use std::rc::Rc;
use waltron_core::asset::Asset;
use waltron_core::clearance::Cleared;
use waltron_core::grading::Verdict;
use waltron_core::injection::capability::{Capability, Channel, Input, ParameterValue};
use waltron_core::injection::observation::{Edge, Ended, Observation, Span};
use waltron_core::plan::PlanForm;
use waltron_core::procedure::{Answer, Bench, Question};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Current, Time, amperes, seconds};
use waltron_core::record::{Event, Outcome};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_relay::AssetForm;
use waltron_rig::attendant::{Attendant, Moment, Wish};
use waltron_rig::runner::{Finished, Prepared, RunError, SoFar, prepare, run};
use waltron_rig::{Rig, RigError};

const ASSET: &str = r#"
[asset]
kind = "relay"
tag = "X"
[ratings]
frequency = "50 Hz"
thermal = [{ current = "4 A" }, { current = "20 A", for = "2 s" }]
[tolerance]
current = "2 %"
time = "40 ms"
[[element]]
id = "50P"
function = "overcurrent"
measures = "phase"
pickup = "5 A"
curve = { family = "definite", delay = "60 ms" }
"#;

const PLAN: &str = r#"
[plan]
title = "t"
asset = "a"
[[test]]
id = "first"
procedure = "trip-time"
element = "50P"
loops = ["A-N", "B-N"]
at = ["2 x"]
repeat = 2
rest = "10 ms"
[[test]]
id = "second"
procedure = "trip-time"
element = "50P"
loops = ["C-N"]
at = ["2 x"]
rest = "10 ms"
"#;

/// What the rig does with the next programs; afterwards it trips after 70 ms.
enum Turn {
    Trips(f64),
    Fails,
}

#[derive(Default)]
struct Log(Vec<&'static str>);

struct Fake {
    capability: Capability,
    turns: VecDeque<Turn>,
    log: Rc<RefCell<Log>>,
}

impl Rig for Fake {
    fn name(&self) -> String {
        "fake".into()
    }
    fn capability(&self) -> &Capability {
        &self.capability
    }
    fn play(&mut self, cleared: &Cleared, _: &mut dyn Attendant) -> Result<Observation, RigError> {
        self.log.borrow_mut().0.push("play");
        let after = match self.turns.pop_front() {
            Some(Turn::Fails) => {
                let (address, why) = ("there".into(), "cut".into());
                return Err(RigError::Lost { address, why });
            }
            Some(Turn::Trips(after)) => after,
            None => 0.07,
        };
        let rest = cleared.program().segments[0].longest().unwrap();
        let trip = rest + seconds(after);
        Ok(Observation {
            segments: vec![
                Span { start: seconds(0.0), end: rest, ended: Ended::Stop(0) },
                Span { start: rest, end: trip, ended: Ended::Stop(0) },
            ],
            edges: vec![Edge { signal: "trip".into(), time: trip, closed: true }],
            ..Default::default()
        })
    }
    fn rest(&mut self, _: Time, _: &mut dyn Attendant) -> Result<(), RigError> {
        self.log.borrow_mut().0.push("rest");
        Ok(())
    }
    fn set(&mut self, _: &Name, _: ParameterValue) -> Result<(), RigError> {
        Ok(())
    }
    fn off(&mut self) -> Result<(), RigError> {
        self.log.borrow_mut().0.push("off");
        Ok(())
    }
}

/// Wishes in order, and a stop after so many looks.
struct Person {
    wishes: VecDeque<Wish>,
    stops_after: std::cell::Cell<i32>,
}

impl Person {
    fn with(wishes: Vec<Wish>) -> Self {
        Self { wishes: wishes.into(), stops_after: i32::MAX.into() }
    }
}

impl Attendant for Person {
    fn ask(&mut self, _: &Question) -> Answer {
        Answer::Confirmed
    }
    fn wish(&mut self, _: &Moment<'_>) -> Wish {
        self.wishes.pop_front().unwrap_or(Wish::GoOn)
    }
    fn wants_to_stop(&self) -> bool {
        self.stops_after.set(self.stops_after.get() - 1);
        self.stops_after.get() < 0
    }
}

struct Stage {
    asset: Asset,
    fake: Fake,
    log: Rc<RefCell<Log>>,
}

impl Stage {
    fn new(turns: Vec<Turn>) -> Self {
        let asset = AssetForm::load(&Source::new("a", ASSET)).unwrap();
        let accuracy = Tolerance::<Current>::parse("0.1 %").unwrap();
        let channel = |id: &str| Channel::new(id, amperes(30.0), accuracy);
        let input = Input { id: "BI1".into(), meaning: "trip".into(), debounce: seconds(0.0) };
        let capability = Capability {
            currents: ["ia", "ib", "ic"].map(channel).to_vec(),
            inputs: vec![input],
            ..Capability::none()
        };
        let log = Rc::new(RefCell::new(Log::default()));
        let fake = Fake { capability, turns: turns.into(), log: Rc::clone(&log) };
        Self { asset, fake, log }
    }

    fn prepared(&self) -> Prepared {
        let source = Source::new("p", PLAN);
        let plan = PlanForm::load(&source, waltron_relay::WINGS)
            .unwrap()
            .resolve(&source, &self.asset)
            .unwrap();
        let bench = Bench { asset: &self.asset, capability: &self.fake.capability };
        prepare(&plan, bench, &HashMap::<Name, Infallible>::new())
            .unwrap_or_else(|_| panic!("it is a good plan"))
    }

    fn run(&mut self, person: &mut Person) -> (Finished, Vec<Event>) {
        let mut events = Vec::new();
        let mut sink = |event: &Event| {
            events.push(event.clone());
            Ok(())
        };
        let prepared = self.prepared();
        let done = run(prepared, &self.asset, &mut self.fake, person, SoFar::default(), &mut sink)
            .unwrap();
        (done, events)
    }

    /// Whether the last thing that the rig was told is to switch off.
    fn is_off(&self) -> bool {
        self.log.borrow().0.last() == Some(&"off")
    }
}

fn ids(done: &Finished) -> Vec<(&str, u32, Verdict)> {
    done.grades.iter().map(|g| (g.point.id.as_str(), g.attempt, g.verdict)).collect()
}

#[test]
fn every_test_ends_with_outputs_off_and_an_event() {
    let mut stage = Stage::new(Vec::new());
    let (done, events) = stage.run(&mut Person::with(Vec::new()));
    assert_eq!(done.ended.outcome, Outcome::Completed);
    assert_eq!((done.ended.summary.pass, done.ended.not_reached), (5, 0));
    let ended: Vec<&str> = events
        .iter()
        .filter_map(
            |e| if let Event::TestEnded { test, .. } = e { Some(test.as_str()) } else { None },
        )
        .collect();
    assert_eq!(ended, ["first", "second"]);
    assert!(matches!(events.last(), Some(Event::RunEnded(_))) && stage.is_off());
}

#[test]
fn a_rig_that_fails_ends_the_run_with_what_was_graded_before() {
    let mut stage = Stage::new(vec![Turn::Trips(0.07), Turn::Trips(0.2), Turn::Fails]);
    let (done, events) = stage.run(&mut Person::with(Vec::new()));
    assert!(matches!(&done.ended.outcome, Outcome::RigTrouble(why) if why.contains("cut")));
    assert_eq!((done.ended.summary.pass, done.ended.summary.fail), (1, 1));
    assert_eq!(done.ended.not_reached, 3);
    assert!(matches!(done.trouble, Some(RigError::Lost { .. })) && stage.is_off());
    assert!(matches!(events.last(), Some(Event::RunEnded(_))));
}

#[test]
fn a_stop_leaves_what_follows_unreached_and_nothing_on() {
    let mut stage = Stage::new(Vec::new());
    let mut person = Person::with(Vec::new());
    person.stops_after.set(4);
    let (done, _) = stage.run(&mut person);
    assert_eq!(done.ended.outcome, Outcome::Stopped);
    assert_eq!(done.grades.len() + done.ended.not_reached, 5);
    assert!(!done.grades.is_empty() && done.ended.not_reached > 0 && stage.is_off());
}

#[test]
fn points_are_repeated_and_tests_skipped_as_wished() {
    let mut stage = Stage::new(vec![Turn::Trips(0.2)]);
    let skip = Wish::Skip("no time".into());
    let (done, _) = stage.run(&mut Person::with(vec![Wish::GoOn, Wish::Repeat, Wish::GoOn, skip]));
    let (pass, not) = (Verdict::Pass, Verdict::NotTested);
    assert_eq!(
        ids(&done),
        [
            ("first/A-N/2x#1", 1, Verdict::Fail),
            ("first/A-N/2x#1", 2, pass),
            ("first/A-N/2x#2", 1, pass),
            ("first/B-N/2x#1", 1, not),
            ("first/B-N/2x#2", 1, not),
            ("second/C-N/2x", 1, pass),
        ]
    );
    assert_eq!(done.grades[3].reason, "skipped: no time");
    let summary = done.ended.summary;
    assert_eq!((summary.pass, summary.fail, summary.not_tested), (3, 0, 2), "the latest counts");
}

/// What cannot be recorded is not injected: a sink that fails stops at once, outputs off.
#[test]
fn an_event_that_cannot_be_recorded_stops_the_run() {
    let mut stage = Stage::new(Vec::new());
    let prepared = stage.prepared();
    let mut left = 3;
    let mut sink = |_: &Event| {
        left -= 1;
        if left < 0 { Err("disk full".into()) } else { Ok(()) }
    };
    let mut person = Person::with(Vec::new());
    let so_far = SoFar::default();
    let failed = run(prepared, &stage.asset, &mut stage.fake, &mut person, so_far, &mut sink);
    assert!(matches!(failed, Err(RunError::Sink(why)) if why.to_string() == "disk full"));
    assert!(stage.is_off());
    // Begun, observed, graded; the second one cannot be begun.
    assert_eq!(stage.log.borrow().0.iter().filter(|l| **l == "play").count(), 1);
}

/// 10 A for 1.15 s at most is 115 A²s, 800 are allowed: nothing has to cool here. With 20 A levels it
/// would; the whole-run test of the command line takes that up.
#[test]
fn what_stays_cool_does_not_wait() {
    let mut stage = Stage::new(Vec::new());
    let (_, events) = stage.run(&mut Person::with(Vec::new()));
    assert!(!events.iter().any(|e| matches!(e, Event::Rested { .. })));
    let rests = stage.log.borrow().0.iter().filter(|l| **l == "rest").count();
    assert_eq!(rests, 2, "the asset comes to rest behind each test");
}

/// Before anything is put out its worst case stands in the record, and the point's grade follows what was seen.
#[test]
fn what_is_about_to_be_put_out_is_written_down_before() {
    let mut stage = Stage::new(vec![Turn::Trips(0.07), Turn::Fails]);
    let (done, events) = stage.run(&mut Person::with(Vec::new()));
    let kinds: Vec<&str> = events
        .iter()
        .filter_map(|event| match event {
            Event::Begun(begun) => {
                assert_eq!(begun.outputs.len(), 1, "{begun:?}");
                assert_eq!(begun.outputs[0].current_a, Some(10.0));
                assert!(begun.warm.currents[0].1 > 0.0, "10 A are above the 4 A for ever");
                Some("begun")
            }
            Event::Observed { .. } => Some("seen"),
            Event::Graded(_) => Some("graded"),
            _ => None,
        })
        .collect();
    // The second one was lost: that it had begun is what is left of it.
    assert_eq!(kinds, ["begun", "seen", "graded", "begun"]);
    assert!(matches!(done.ended.outcome, Outcome::RigTrouble(_)));
}

/// Why a test is skipped is asked once outputs are off.
#[test]
fn a_reason_is_asked_for_with_outputs_off() {
    struct Skipping(Rc<RefCell<Log>>, bool);
    impl Attendant for Skipping {
        fn ask(&mut self, _: &Question) -> Answer {
            Answer::Confirmed
        }
        fn wish(&mut self, moment: &Moment<'_>) -> Wish {
            let skips = !moment.last.is_empty() && !std::mem::replace(&mut self.1, true);
            if skips { Wish::Skip(String::new()) } else { Wish::GoOn }
        }
        fn reason(&mut self) -> Option<String> {
            assert_eq!(self.0.borrow().0.last(), Some(&"off"));
            Some("no time".into())
        }
        fn wants_to_stop(&self) -> bool {
            false
        }
    }
    let mut stage = Stage::new(Vec::new());
    let (prepared, mut events) = (stage.prepared(), Vec::new());
    let mut sink = |event: &Event| {
        events.push(event.clone());
        Ok(())
    };
    let mut person = Skipping(Rc::clone(&stage.log), false);
    let so_far = SoFar::default();
    let done =
        run(prepared, &stage.asset, &mut stage.fake, &mut person, so_far, &mut sink).unwrap();
    let skipped = done.grades.iter().filter(|g| g.reason == "skipped: no time").count();
    assert_eq!((skipped, done.ended.summary.pass), (3, 2));
}
