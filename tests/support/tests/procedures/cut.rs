//! A run that is cut at any of its events, as by a power failure, and resumed: the same verdicts, nothing asked less,
//! no heat forgotten, and what was undone asked about before anything is put out.

use crate::samples::{WINGS, ignorant, mixed, plans, read, value};
use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use waltron_core::asset::Asset;
use waltron_core::grading::{Rule, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::plan::{Plan, PlanForm, ProcedureSettings};
use waltron_core::procedure::{Answer, Bench, Question};
use waltron_core::record::{Chain, Event, FORMAT, FileCopy, Progress, RunStarted};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_rig::RigForm;
use waltron_rig::attendant::Attendant;
use waltron_rig::runner::{Prepared, SoFar, run, set_up};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_specimen::SpecimenForm;

/// A sample plan with all that a run needs.
struct Sample {
    name: String,
    asset: Asset,
    plan: Plan,
    rig: Capability,
    specimen: String,
}

impl Sample {
    fn of(path: &Path) -> Option<Self> {
        let text = read(path);
        let beside = |key: &str, text: &str| value(text, key).map(|name| path.with_file_name(name));
        let asset = WINGS.asset(&Source::new("asset", read(&beside("asset", &text)?))).unwrap();
        let source = Source::new("plan", text.as_str());
        let plan = PlanForm::load(&source, WINGS).unwrap().resolve(&source, &asset).unwrap();
        let rig = read(&beside("rig", &text)?);
        let specimen = read(&beside("specimen", &rig)?);
        let rig = RigForm::load(&Source::new("rig", rig)).unwrap().capability;
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        // Somebody takes the leads along, and earths: more is asked, and more can be forgotten.
        let rig = Capability { switches_leads: false, earths: false, ..rig };
        let sample = Self { name, asset, plan, rig, specimen };
        sample.prepared().is_some_and(|prepared| !prepared.is_empty()).then_some(sample)
    }

    fn prepared(&self) -> Option<Prepared> {
        let bench = Bench { asset: &self.asset, capability: &self.rig };
        // Sequences have tests of their own; what an instrument reads is not there.
        set_up(&self.plan, bench, &HashMap::<_, NoScript>::new()).ok()
    }

    fn machine(&self) -> VirtualRig {
        let mut specimen =
            SpecimenForm::load(&Source::new("specimen", self.specimen.as_str()), 3).unwrap();
        specimen.connect(&self.rig).unwrap();
        VirtualRig::new("bench".into(), self.rig.clone(), specimen, Pace::Fast)
    }
}

enum NoScript {}

impl waltron_core::plan::Playable for NoScript {
    fn begin(&self) -> Box<dyn waltron_core::procedure::Procedure> {
        match *self {}
    }
}

/// Somebody who does as told, and keeps what was asked.
#[derive(Default)]
struct Doer {
    asked: Vec<String>,
}

impl Attendant for Doer {
    fn ask(&mut self, question: &Question) -> Answer {
        self.asked.push(question.text.clone());
        ignorant(question)
    }

    fn wants_to_stop(&self) -> bool {
        false
    }
}

fn started() -> Event {
    let copy = || FileCopy { name: String::new(), text: String::new(), beside: Vec::new() };
    Event::RunStarted(Box::new(RunStarted {
        format: FORMAT,
        version: "0".into(),
        title: "t".into(),
        tester: None,
        reason: None,
        ambient: Vec::new(),
        rig_name: "r".into(),
        seed: None,
        specimen_seed: None,
        asset: copy(),
        resolved: None,
        plan: copy(),
        rig: copy(),
        scripts: Vec::new(),
        hookup: None,
        rule: Rule::Simple,
        only: Vec::new(),
    }))
}

/// What a run has left: its record's bytes, its events, what was asked.
struct Left {
    bytes: Vec<u8>,
    events: Vec<Event>,
    asked: Vec<String>,
}

/// Runs what is left of a plan; cut after so many events of its own, where that is told.
fn go(sample: &Sample, machine: &mut VirtualRig, before: Option<&Left>, most: usize) -> Left {
    let mut prepared = sample.prepared().unwrap();
    let (mut bytes, mut so_far) = (Vec::new(), SoFar::default());
    let mut chain = Chain::default();
    match before {
        None => {
            chain.line_to(&mut bytes, "T", &started()).unwrap();
            bytes.push(b'\n');
        }
        Some(before) => {
            bytes.clone_from(&before.bytes);
            let progress = Progress::read(&bytes).unwrap();
            prepared.keep_open(&progress);
            chain = Chain::after(progress.lines, &bytes[progress.last_line..progress.whole_bytes]);
            so_far = SoFar {
                tally: progress.tally,
                warm: progress.warm,
                cooled: progress.cooled,
                carried: progress.carried,
                ungraded: progress.ungraded,
                owed: progress.owed,
                ..SoFar::default()
            };
        }
    }
    let (mut doer, mut events) = (Doer::default(), Vec::new());
    let mut sink = |event: &Event| {
        if events.len() == most {
            return Err("the lights are out".into());
        }
        chain.line_to(&mut bytes, "T", event)?;
        bytes.push(b'\n');
        events.push(event.clone());
        Ok(())
    };
    let done = run(prepared, &sample.asset, machine, &mut doer, so_far, &mut sink);
    assert_eq!(done.is_err(), events.len() == most, "{}", sample.name);
    Left { bytes, events, asked: doer.asked }
}

/// The latest verdict of each point.
fn verdicts<'a>(events: impl Iterator<Item = &'a Event>) -> BTreeMap<String, Verdict> {
    let graded = events.filter_map(|event| match event {
        Event::Graded(grade) => Some((grade.point.id.clone(), grade.verdict)),
        _ => None,
    });
    graded.collect()
}

/// No point of a run improves but by a repeat that somebody asked for.
fn nothing_improves(sample: &Sample, events: &[Event]) {
    let mut known: BTreeMap<&str, Verdict> = BTreeMap::new();
    for event in events {
        let Event::Graded(grade) = event else { continue };
        if let Some(before) = known.insert(&grade.point.id, grade.verdict) {
            let is_better = grade.verdict == Verdict::Pass && before != Verdict::Pass;
            assert!(!is_better, "{}: {} from {before:?} to pass", sample.name, grade.point.id);
        }
    }
}

/// Everything that is put out was written down before, at its worst.
fn begun_before_seen(sample: &Sample, events: &[Event]) {
    for (k, event) in events.iter().enumerate() {
        let Event::Observed { program, warm, .. } = event else { continue };
        let begun = events[..k].iter().rev().find_map(|event| match event {
            Event::Begun(begun) => Some(begun),
            _ => None,
        });
        let begun = begun.unwrap_or_else(|| panic!("{}: not begun", sample.name));
        assert_eq!(begun.connection, program.connection, "{}", sample.name);
        for (of, share) in warm.currents.iter().chain(&warm.voltages) {
            let mut all = begun.warm.currents.iter().chain(&begun.warm.voltages);
            let worst = all.find(|(name, _)| name == of).map_or(0.0, |(_, share)| *share);
            assert!(*share <= worst * (1.0 + 1e-9), "{}: {of} {share} {worst}", sample.name);
        }
    }
}

/// What of an operation is told by samples, which a record does not hold.
const BY_SAMPLES: [&str; 6] =
    ["/coil-", "/notch-time/", "/stroke", "/overtravel", "/damping-time", "-speed"];

/// The points of what can be done only once that are unknown after a cut: all of them before it was seen; from there
/// on those that are told by samples and were not graded.
fn lost(sample: &Sample, events: &[Event]) -> Vec<String> {
    let comes_once = |id: &Name| {
        sample.plan.tests.iter().any(|test| match &test.procedure {
            ProcedureSettings::Built(method) if test.id == *id => {
                method.precautions().iter().any(|text| text.contains("comes only once"))
            }
            _ => false,
        })
    };
    let mut lost = Vec::new();
    for event in events {
        match event {
            Event::Begun(begun) if comes_once(&begun.test) => {
                lost.clone_from(&begun.points);
            }
            Event::Observed { .. } => {
                lost.retain(|id| BY_SAMPLES.iter().any(|part| id.contains(part)));
            }
            Event::Graded(grade) => lost.retain(|id| *id != grade.point.id),
            _ => {}
        }
    }
    lost
}

fn cut_anywhere(sample: &Sample, cuts: impl Fn(usize) -> Vec<usize>) {
    let whole = go(sample, &mut sample.machine(), None, usize::MAX);
    nothing_improves(sample, &whole.events);
    begun_before_seen(sample, &whole.events);
    let expected = verdicts(whole.events.iter());
    for at in cuts(whole.events.len()) {
        let mut machine = sample.machine();
        let first = go(sample, &mut machine, None, at);
        let owed = Progress::read(&first.bytes).unwrap().owed;
        let second = go(sample, &mut machine, Some(&first), usize::MAX);
        let here = format!("{} cut after event {at}: {:?}", sample.name, first.events.last());
        for one in &owed {
            let first_injection = second.events.iter().position(|e| matches!(e, Event::Begun(_)));
            let asked = second
                .events
                .iter()
                .position(|e| matches!(e, Event::Asked(q) if q.text.ends_with(&one.text)));
            assert!(
                asked.is_some_and(|at| first_injection.is_none_or(|i| at < i)),
                "{here}: {one:?}"
            );
        }
        let found = verdicts(first.events.iter().chain(&second.events));
        let lost = lost(sample, &first.events);
        for (id, verdict) in &expected {
            let verdict = if lost.contains(id) { &Verdict::Inconclusive } else { verdict };
            assert_eq!(found.get(id), Some(verdict), "{here}: {id}");
        }
        // Whatever had to be done by hand is asked for at least as often.
        let count = |all: &[String], text: &str| all.iter().filter(|t| *t == text).count();
        for text in whole.asked.iter().filter(|t| t.starts_with("Reset") || t.starts_with("Put")) {
            let again = count(&first.asked, text) + count(&second.asked, text);
            assert!(again >= count(&whole.asked, text), "{here}: {text} {again}");
        }
    }
}

fn samples() -> Vec<Sample> {
    // What takes long here is cut elsewhere, as whole files.
    let left_out = ["q01-ct.plan.toml", "t2.plan.toml"];
    let plans =
        plans().into_iter().filter(|path| !left_out.iter().any(|name| path.ends_with(name)));
    plans.filter_map(|path| Sample::of(&path)).collect()
}

#[test]
fn a_run_that_is_cut_goes_on_as_if_it_had_not_been() {
    let samples = samples();
    assert!(samples.len() >= 8, "{}", samples.len());
    for (k, sample) in samples.iter().enumerate() {
        let few = |events: usize| {
            (0..4).map(|n| mixed((k * 10 + n) as u64) as usize % events).collect::<Vec<_>>()
        };
        cut_anywhere(sample, few);
    }
}

#[test]
#[ignore = "long: every event of every sample"]
fn a_run_that_is_cut_at_every_event_goes_on_as_if_it_had_not_been() {
    for sample in samples() {
        cut_anywhere(&sample, |events| (0..events).collect());
    }
}
