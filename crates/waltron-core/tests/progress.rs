//! How far a record has come, against a plain reckoning of the same lines.
#![allow(clippy::unwrap_used, missing_docs)]

use proptest::prelude::*;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use waltron_core::asset::Identity;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::clearance::duty::Warm;
use waltron_core::grading::{Criterion, Grade, Limits, PointId, Rule, Summary, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Carried, Owed};
use waltron_core::quantity::{Measure, seconds};
use waltron_core::record::{
    Begun, Chain, Chosen, Continued, Event, FileCopy, Outcome, Progress, Resolved, Run, RunEnded,
    RunStarted,
};

const POINTS: [(&str, &str); 4] = [("t/a", "t"), ("t/b", "t"), ("u/c", "u"), ("tt/d", "tt")];

/// Those of them that stand for a place of their test at which something went wrong.
const PLACES: [usize; 2] = [1, 3];

fn file(name: &str, text: &str) -> FileCopy {
    FileCopy { name: name.into(), text: text.into(), beside: Vec::new() }
}

fn started(only: &[&str]) -> RunStarted {
    RunStarted {
        format: 1,
        version: "0".into(),
        title: "t".into(),
        tester: None,
        reason: None,
        ambient: Vec::new(),
        rig_name: "r".into(),
        seed: None,
        specimen_seed: None,
        asset: file("a", ""),
        plan: file("p", "first"),
        rig: file("r", ""),
        scripts: vec![file("s", "one")],
        hookup: None,
        rule: Rule::default(),
        resolved: None,
        only: only.iter().map(ToString::to_string).collect(),
    }
}

fn grade(at: usize, verdict: Verdict, skipped: bool) -> Grade {
    let (id, test) = POINTS[at];
    Grade {
        point: PointId { id: id.into(), test: test.into(), element: None, fault_loop: None },
        attempt: 1,
        criterion: if PLACES.contains(&at) { Criterion::COMPLETION } else { Criterion::TRIP_TIME },
        stimulus: Values::none(),
        expected: Values::none(),
        measured: Values::none(),
        deviation: Values::none(),
        limits: Limits::None,
        uncertainty: Values::none(),
        budget: Vec::new(),
        verdict,
        reason: format!("{at}"),
        skipped,
        guarded: false,
    }
}

fn continued(redo: Option<&str>, only: &[&str], changed: &[&str]) -> Continued {
    Continued {
        version: "0".into(),
        tester: None,
        rig_name: "r".into(),
        rig: None,
        redo: redo.map(str::to_owned),
        plan: None,
        scripts: Vec::new(),
        changed: changed.iter().map(|name| (*name).into()).collect(),
        only: only.iter().map(ToString::to_string).collect(),
    }
}

/// One line of a record.
#[derive(Clone, Debug)]
enum Say {
    Begun(u8, bool),
    Observed(u8),
    Graded(usize, Verdict, bool),
    Handed(u8),
    Owes(bool),
    Rested(u8),
    Ended(usize, bool),
    Continued(Option<&'static str>, Option<&'static str>, Option<&'static str>),
    RunEnded,
    Sealed,
    Told,
}

fn say() -> impl Strategy<Value = Say> {
    let verdict = prop::sample::select(vec![
        Verdict::Pass,
        Verdict::Fail,
        Verdict::Inconclusive,
        Verdict::NotTested,
        Verdict::Measured,
    ]);
    let redo =
        prop::sample::select(vec![None, None, Some("failed"), Some("not-passed"), Some("t/*")]);
    let only = prop::sample::select(vec![None, Some("u"), Some("t/b")]);
    let changed = prop::sample::select(vec![None, None, Some("t"), Some("u")]);
    prop_oneof![
        (any::<u8>(), any::<bool>()).prop_map(|(w, c)| Say::Begun(w, c)),
        any::<u8>().prop_map(Say::Observed),
        (0..4usize, verdict, any::<bool>()).prop_map(|(p, v, s)| {
            // What is skipped is not tested.
            Say::Graded(p, if s { Verdict::NotTested } else { v }, s)
        }),
        (0..4usize, Just(Verdict::Pass)).prop_map(|(p, v)| Say::Graded(p, v, false)),
        any::<u8>().prop_map(Say::Handed),
        any::<bool>().prop_map(Say::Owes),
        any::<u8>().prop_map(Say::Rested),
        (0..4usize, prop::bool::weighted(0.3)).prop_map(|(t, s)| Say::Ended(t, s)),
        (redo, only, changed).prop_map(|(r, o, c)| Say::Continued(r, o, c)),
        Just(Say::RunEnded),
        Just(Say::Sealed),
        Just(Say::Told),
    ]
}

fn warm(share: u8) -> Warm {
    Warm { currents: vec![("ia".into(), f64::from(share) / 256.0)], voltages: Vec::new() }
}

fn carried(value: u8) -> Carried {
    Carried::from([("x".to_owned(), f64::from(value))])
}

fn ended() -> RunEnded {
    RunEnded {
        outcome: Outcome::Stopped,
        summary: Summary::default(),
        not_reached: 0,
        left_out: Vec::new(),
        owed: Vec::new(),
        open: Vec::new(),
        injected: seconds(0.0),
    }
}

impl Say {
    fn event(&self) -> Event {
        match self.clone() {
            Self::Begun(w, cut) => Event::Begun(Begun {
                test: "t".into(),
                points: Vec::new(),
                connection: None,
                outputs: Vec::new(),
                longest: None,
                warm: warm(w),
                if_cut: if cut { carried(w) } else { Carried::new() },
            }),
            Self::Observed(w) => Event::Observed {
                test: "t".into(),
                points: vec!["t/a".into(), "t/b".into()],
                program: Arc::new(Program::default()),
                observation: Observation::default(),
                warm: warm(w),
            },
            Self::Graded(at, verdict, skipped) => Event::Graded(grade(at, verdict, skipped)),
            Self::Handed(value) => Event::HandedOn { carried: carried(value) },
            Self::Owes(owes) => {
                Event::ToRestore { owed: if owes { vec![Owed::new("back")] } else { Vec::new() } }
            }
            Self::Rested(time) => Event::Rested { time: seconds(f64::from(time)) },
            Self::Ended(at, skipped) => Event::TestEnded { test: POINTS[at].1.into(), skipped },
            Self::Continued(redo, only, changed) => {
                let only: Vec<&str> = only.into_iter().collect();
                let changed: Vec<&str> = changed.into_iter().collect();
                Event::Continued(Box::new(continued(redo, &only, &changed)))
            }
            Self::RunEnded => Event::RunEnded(ended()),
            Self::Sealed => Event::Sealed {},
            Self::Told => Event::Told { text: "x".into() },
        }
    }
}

fn text(first: RunStarted, lines: &[Event]) -> String {
    let mut chain = Chain::default();
    let all = std::iter::once(Event::RunStarted(Box::new(first))).chain(lines.iter().cloned());
    all.map(|event| chain.line("2026-05-04T08:00:00.000Z", &event).unwrap() + "\n").collect()
}

/// The plain reckoning.
#[derive(Default)]
struct Plain {
    warm: u8,
    cooled: f64,
    carried: Option<u8>,
    owes: bool,
    /// The points of the last observation that are not graded, while its test goes on.
    ungraded: Vec<&'static str>,
    /// Of each point: the line, verdict, whether skipped.
    latest: HashMap<usize, (u64, Verdict, bool)>,
    /// Points that did not pass once, which is what a redo names tests by.
    worse: Vec<usize>,
    ended: HashMap<&'static str, u64>,
    skipped: BTreeMap<String, String>,
    /// From which line on which points are wanted, and which tests.
    phases: Vec<(u64, Vec<usize>, Vec<&'static str>)>,
    closed: bool,
}

/// The points that a pattern or a test's id fits.
fn fits(pattern: &str) -> Vec<usize> {
    let is = |at: &usize| match pattern {
        "*" => true,
        "t/*" => POINTS[*at].1 == "t",
        other => POINTS[*at].0 == other || POINTS[*at].1 == other,
    };
    (0..4).filter(is).collect()
}

fn tests_of(points: &[usize]) -> Vec<&'static str> {
    points.iter().map(|at| POINTS[*at].1).collect()
}

impl Plain {
    fn of(first: &str, lines: &[Say]) -> Self {
        let mut plain = Self::default();
        let points = fits(first);
        plain.phases.push((1, points.clone(), tests_of(&points)));
        let mut cut = None;
        for (k, say) in lines.iter().enumerate() {
            let line = k as u64 + 2;
            plain.closed = match say {
                Say::RunEnded => true,
                Say::Sealed => plain.closed,
                _ => false,
            };
            if matches!(say, Say::Ended(..) | Say::Continued(_, _, Some("t"))) {
                plain.ungraded.clear();
            }
            match say.clone() {
                Say::Begun(w, is_cut) => {
                    (plain.warm, plain.cooled) = (w, 0.0);
                    cut = is_cut.then_some(w);
                    plain.ungraded.clear();
                }
                Say::Observed(w) => {
                    (plain.warm, plain.cooled, cut) = (w, 0.0, None);
                    plain.ungraded = vec!["t/a", "t/b"];
                }
                Say::Graded(at, verdict, skipped) => {
                    plain.latest.insert(at, (line, verdict, skipped));
                    plain.ungraded.retain(|id| *id != POINTS[at].0);
                    if verdict != Verdict::Pass && !plain.worse.contains(&at) {
                        plain.worse.push(at);
                    }
                    let id = POINTS[at].0.to_owned();
                    if skipped {
                        plain.skipped.insert(id, format!("{at}"));
                    } else {
                        plain.skipped.remove(&id);
                    }
                }
                Say::Handed(value) => (plain.carried, cut) = (Some(value), None),
                Say::Owes(owes) => plain.owes = owes,
                Say::Rested(time) => plain.cooled += f64::from(time),
                Say::Ended(at, true) => {
                    let test = POINTS[at].1;
                    let own =
                        plain.skipped.iter().find(|(id, _)| id.starts_with(&format!("{test}/")));
                    let why = own.map_or("skipped".to_owned(), |(_, why)| why.clone());
                    plain.skipped.insert(test.to_owned(), why);
                }
                Say::Ended(at, false) => {
                    plain.skipped.remove(POINTS[at].1);
                    plain.ended.insert(POINTS[at].1, line);
                }
                Say::Continued(redo, only, changed) => {
                    plain.carried = cut.take().or(plain.carried);
                    if let Some(test) = changed {
                        plain.ended.remove(test);
                        plain.latest.retain(|at, _| POINTS[*at].1 != test);
                        plain
                            .skipped
                            .retain(|id, _| id != test && !id.starts_with(&format!("{test}/")));
                    }
                    let phase = match redo {
                        None => {
                            let points = fits(only.unwrap_or("*"));
                            (1, points.clone(), tests_of(&points))
                        }
                        Some("t/*") => (line, fits("t/*"), vec!["t"]),
                        Some(what) => {
                            let worse = |at: &usize| match plain.latest.get(at) {
                                Some((_, Verdict::Fail, _)) => true,
                                Some((_, Verdict::Inconclusive | Verdict::NotTested, _)) => {
                                    what == "not-passed"
                                }
                                _ => false,
                            };
                            let points: Vec<usize> = (0..4)
                                .filter(worse)
                                .filter(|at| plain.worse.contains(at))
                                .collect();
                            (line, points.clone(), tests_of(&points))
                        }
                    };
                    plain.phases.push(phase);
                }
                Say::RunEnded | Say::Sealed | Say::Told => {}
            }
        }
        plain.carried = cut.or(plain.carried);
        plain
    }

    fn is_open(&self, at: usize) -> bool {
        match self.latest.get(&at) {
            Some((_, _, true)) => false,
            latest => {
                let graded = latest.map_or(0, |(line, ..)| *line);
                self.phases.iter().any(|(line, points, _)| graded < *line && points.contains(&at))
            }
        }
    }

    fn is_test_open(&self, test: &str) -> bool {
        let ended = self.ended.get(test).copied().unwrap_or(0);
        !self.skipped.contains_key(test)
            && self.phases.iter().any(|(line, _, tests)| ended < *line && tests.contains(&test))
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn a_record_says_what_its_lines_say(
        only in prop::sample::select(vec!["*", "t", "u/c"]),
        lines in prop::collection::vec(say(), 0..24),
    ) {
        let first = if only == "*" { started(&[]) } else { started(&[only]) };
        let events: Vec<Event> = lines.iter().map(Say::event).collect();
        let bytes = text(first, &events);
        let (progress, plain) = (Progress::read(bytes.as_bytes()).unwrap(), Plain::of(only, &lines));
        prop_assert_eq!(progress.lines as usize, lines.len() + 1);
        let is_warm = lines.iter().any(|l| matches!(l, Say::Begun(..) | Say::Observed(_)));
        prop_assert_eq!(&progress.warm, &if is_warm { warm(plain.warm) } else { Warm::default() });
        prop_assert_eq!(progress.cooled.si(), plain.cooled);
        prop_assert_eq!(&progress.carried, &plain.carried.map(carried).unwrap_or_default());
        prop_assert_eq!(!progress.owed.is_empty(), plain.owes);
        let ungraded = progress.ungraded.as_ref().map_or(Vec::new(), |seen| seen.points.clone());
        prop_assert_eq!(&ungraded, &plain.ungraded);
        prop_assert_eq!(progress.is_closed, plain.closed);
        prop_assert_eq!(&progress.skipped, &plain.skipped);
        let verdicts = plain.latest.values().map(|(_, verdict, _)| *verdict);
        prop_assert_eq!(progress.tally.summary(), Summary::of(verdicts));
        let graded = |at: usize| {
            lines.iter().filter(|l| matches!(l, Say::Graded(of, ..) if *of == at)).count()
        };
        for (at, (id, test)) in POINTS.into_iter().enumerate() {
            let of = |k: &&usize| POINTS[**k].1 == test && plain.latest.get(k).is_some_and(|l| l.1 != Verdict::Pass);
            let places = progress.tally.places(test).into_iter().map(|p| p.point.id);
            let due = PLACES.iter().filter(of).map(|k| POINTS[*k].0.to_owned());
            prop_assert_eq!(places.collect::<Vec<_>>(), due.collect::<Vec<_>>(), "{}", test);
            prop_assert_eq!(progress.tally.attempts(id) as usize, graded(at));
            prop_assert_eq!(progress.tally.verdict(id), plain.latest.get(&at).map(|l| l.1));
        }
        // Who reads the whole record comes to the same, and knows what was set aside.
        let run = Run::read(bytes.as_bytes()).unwrap();
        let counts: BTreeMap<String, Verdict> =
            run.points.iter().map(|g| (g.point.id.clone(), g.verdict)).collect();
        let due = plain.latest.iter().map(|(at, l)| (POINTS[*at].0.to_owned(), l.1));
        prop_assert_eq!(&counts, &due.collect::<BTreeMap<_, _>>());
        let all: usize = (0..4).map(graded).sum();
        prop_assert_eq!((run.points.len(), run.superseded.len()), (counts.len(), all - counts.len()));
        let changed = lines.iter().filter(|l| matches!(l, Say::Continued(.., Some(_)))).count();
        prop_assert_eq!(run.changes.len(), changed);
        let id = |at: usize| PointId { id: POINTS[at].0.into(), test: POINTS[at].1.into(), element: None, fault_loop: None };
        for (at, (name, test)) in POINTS.into_iter().enumerate() {
            prop_assert_eq!(progress.is_open(&id(at)), plain.is_open(at), "{}", name);
            let mine: Vec<PointId> = (0..4).filter(|k| POINTS[*k].1 == test).map(id).collect();
            let mine: Vec<&PointId> = mine.iter().collect();
            prop_assert_eq!(progress.is_test_open(test, &mine), plain.is_test_open(test), "{}", test);
        }
        // Whoever asks for the whole plan has what was never graded besides, skipped or not as offered.
        let mut whole = progress.clone();
        (whole.whole, whole.offers_skipped) = (true, true);
        for (at, (name, _)) in POINTS.into_iter().enumerate() {
            let wanted = plain.phases.iter().any(|(_, points, _)| points.contains(&at));
            let is_offered = plain.latest.get(&at).is_none_or(|(.., skipped)| *skipped && wanted);
            prop_assert!(whole.is_open(&id(at)) || !(plain.is_open(at) || is_offered), "{}", name);
            let test = POINTS[at].1;
            let ended = plain.ended.get(test).copied().unwrap_or(0);
            let again = plain.phases.iter().any(|(line, _, tests)| ended < *line && tests.contains(&test));
            prop_assert_eq!(whole.is_test_open(test, &[&id(at)]), ended == 0 || again, "{}", test);
        }
    }
}

/// Files that came with a going-on stand in the place of those of before, with what lies beside them.
#[test]
fn a_run_that_goes_on_has_its_new_files() {
    let mut going = continued(None, &[], &["t"]);
    going.plan = Some(file("p", "second"));
    let with = FileCopy { beside: vec![("wave.cff".into(), "digest".into())], ..file("s", "two") };
    going.scripts = vec![with.clone(), file("new", "three")];
    let bytes = text(started(&[]), &[Event::Continued(Box::new(going))]);
    for started in [
        Progress::read(bytes.as_bytes()).unwrap().started,
        Run::read(bytes.as_bytes()).unwrap().started,
    ] {
        assert_eq!(started.plan.text, "second");
        assert_eq!(started.scripts, [with.clone(), file("new", "three")]);
    }
}

/// Each setting that is another is told once, in the order of before, then what is new.
#[test]
fn settings_that_differ_are_told_once() {
    let of = |all: &[(&str, &str)]| Resolved {
        identity: Identity::default(),
        settings: all
            .iter()
            .map(|(name, value)| ReadSetting { name: (*name).into(), value: (*value).into() })
            .collect(),
    };
    let then = of(&[("a", "1"), ("b", "2"), ("gone", "3"), ("b", "2")]);
    let now = of(&[("b", "5"), ("a", "1"), ("new", "4")]);
    let told: Vec<(String, Option<String>, Option<String>)> =
        then.changes_to(&now).into_iter().map(|c| (c.name, c.then, c.now)).collect();
    let is = |name: &str, then: Option<&str>, now: Option<&str>| {
        (name.to_owned(), then.map(str::to_owned), now.map(str::to_owned))
    };
    assert_eq!(
        told,
        [is("b", Some("2"), Some("5")), is("gone", Some("3"), None), is("new", None, Some("4"))]
    );
    assert_eq!(then.changes_to(&then), []);
}

/// What a redo names is chosen by point, and by test where steps depend on each other.
#[test]
fn what_is_tested_again_is_what_did_not_pass() {
    let (pass, fail, open) = (Verdict::Pass, Verdict::Fail, Verdict::Inconclusive);
    let events: Vec<Event> = [(0, fail), (1, open), (2, fail), (2, pass), (3, Verdict::Measured)]
        .into_iter()
        .map(|(at, verdict)| Event::Graded(grade(at, verdict, false)))
        .collect();
    let progress = Progress::read(text(started(&[]), &events).as_bytes()).unwrap();
    let chosen = |what: &str| match progress.redo(what) {
        Chosen::Graded { points, tests } => {
            let mut all: Vec<String> = points.into_iter().chain(tests).collect();
            all.sort();
            all
        }
        other => panic!("{other:?}"),
    };
    assert_eq!(chosen("failed"), ["t", "t/a"]);
    assert_eq!(chosen("not-passed"), ["t", "t/a", "t/b"]);
    assert!(matches!(progress.redo("t/*"), Chosen::Matching(_)));
}
