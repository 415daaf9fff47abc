//! What the live view shows, fed by the run's events.

use crate::panel::Over;
use crate::time_left::TimeLeft;
use crate::view::mark;
use crate::wings::WINGS;
use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};
use waltron_core::asset::Asset;
use waltron_core::grading::{Grade, PointId, Summary, Verdict, words};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Answer, Question, Served, Wanted};
use waltron_core::quantity::{Measure, Time, in_degrees, text};
use waltron_core::record::{Event, Outcome};
use waltron_core::section::Chart;
use waltron_core::text::name::Name;
use waltron_core::wing::Told;
use waltron_rig::attendant::{Present, Waiting};

/// Lines that the log keeps.
const MOST_LINES: usize = 500;

/// After so long without a word the screen says no more that outputs are on: nobody knows.
const SILENT: Duration = Duration::from_secs(1);

/// What the live view shows.
#[derive(Clone, Debug, Default)]
pub(crate) struct State {
    /// The plan's title and the asset's tag.
    pub(super) title: String,
    /// The test that runs.
    pub(super) test: String,
    /// What is injected: the place where there are several, and the stage.
    pub(super) stage: String,
    /// What the stage waits for, and for how long about.
    pub(super) waits: Option<[String; 2]>,
    /// When that was told.
    waits_at: Time,
    pub(super) total: usize,
    pub(super) done: usize,
    pub(super) counts: Summary,
    pub(super) left: TimeLeft,
    /// Channels with RMS value and angle, as text.
    pub(super) outputs: Vec<[String; 3]>,
    /// All contacts that are wired, and whether each is closed; `None` while nobody watches it.
    pub(super) contacts: Vec<(Name, Option<bool>)>,
    /// Those of them that the present injection waits for.
    pub(super) awaited: Vec<Name>,
    pub(super) now: Time,
    /// When something was heard of the present injection last, in the world's time.
    pub(super) heard: Option<Instant>,
    pub(super) energised: bool,
    pub(super) log: VecDeque<(Option<Verdict>, String)>,
    pub(super) question: Option<Asked>,
    pub(super) ended: bool,
    /// How the run ended, once it did.
    pub(super) outcome: Option<String>,
    /// The key that stopped it, once one did.
    stopped_by: Option<String>,
    /// What a key that was pressed will do once it can.
    pub(super) pending: Option<&'static str>,
    /// The latest verdict of each point that was graded.
    seen: HashMap<String, Verdict>,
    asset: Option<Asset>,
    /// The element under test, where there is one.
    element: Option<Name>,
    /// Points so far: of the element, or of the whole run where tests are not of elements.
    tested: Arc<Vec<Grade>>,
    /// What the present test has injected so far.
    served: Arc<Vec<Served>>,
    /// Made when it is looked at: points may come faster than pictures. Shared, so that it is made once.
    chart: Arc<OnceLock<Option<Chart>>>,
    /// The element that each test is about.
    tests: Vec<(Name, Option<Name>)>,
}

/// A question on the screen.
#[derive(Clone, Debug)]
pub(super) struct Asked {
    pub(super) question: Question,
    pub(super) typed: String,
    pub(super) wrong: Option<String>,
    /// The keys that choose one of its answers each, in their order.
    pub(super) keys: &'static str,
    pub(super) over: Over,
}

impl Asked {
    /// Whether what is pressed now is a part of a text.
    pub(super) fn is_being_typed(&self) -> bool {
        self.question.wanted == Wanted::Text || !self.typed.is_empty()
    }

    /// What a key answers by itself: of a choice its number, or its letter.
    pub(super) fn by_key(&self, key: char) -> Option<Answer> {
        let Wanted::Choice { of, .. } = &self.question.wanted else { return None };
        if !self.typed.is_empty() {
            return None;
        }
        let number = key.to_digit(10).and_then(|n| (n as usize).checked_sub(1));
        // A number that an answer itself begins with is typed out.
        let is_text = of.len() > 9 || of.iter().any(|answer| answer.starts_with(key));
        let at = self.keys.chars().position(|k| k == key).or(number.filter(|_| !is_text));
        at.and_then(|at| of.get(at)).cloned().map(Answer::Text)
    }
}

impl State {
    pub(crate) fn new(
        title: &str,
        asset: &Asset,
        inputs: impl Iterator<Item = Name>,
        points: &[PointId],
        likely: Time,
    ) -> Self {
        let mut tests: Vec<(Name, Option<Name>)> =
            points.iter().map(|p| (p.test.clone(), p.element.clone())).collect();
        tests.dedup();
        Self {
            title: format!("{title}  {}", asset.identity.tag),
            total: points.len(),
            tests,
            left: TimeLeft::of(likely),
            contacts: inputs.map(|meaning| (meaning, None)).collect(),
            asset: Some(asset.clone()),
            ..Self::default()
        }
    }

    pub(super) fn note(&mut self, verdict: Option<Verdict>, line: String) {
        if self.log.len() == MOST_LINES {
            self.log.pop_front();
        }
        self.log.push_back((verdict, line));
    }

    /// Takes an event of the run.
    pub(super) fn event(&mut self, event: &Event) {
        self.left.event(event);
        match event {
            Event::Observed { test, program, observation, points, .. } => {
                self.begin_test(test);
                self.heard = None;
                if self.element.is_none() {
                    let points = points.clone();
                    let (program, observation) = (Arc::clone(program), observation.clone());
                    let served = Served { points, program, observation };
                    Arc::make_mut(&mut self.served).push(served);
                }
                let kept = observation.stays_on;
                self.energised = kept;
                if !kept {
                    self.outputs.clear();
                }
                self.now = observation.length();
                // With outputs off, nobody looks at the contacts until something is put out again.
                for (meaning, closed) in &mut self.contacts {
                    *closed = kept.then(|| observation.is_closed_at_end(meaning));
                }
            }
            Event::Graded(grade) => self.graded(grade),
            Event::Told { text } => self.note(None, text.clone()),
            Event::Asked(question) => self.note(None, format!("asked: {}", question.text)),
            Event::Rested { time } => self.note(None, format!("cooled for {}", text(*time))),
            Event::Begun(_) => self.heard = Some(Instant::now()),
            Event::Discharged(discharged) => {
                self.note(None, format!("discharged after {}", text(discharged.time)));
            }
            Event::RunEnded(ended) => {
                self.goes_off();
                self.outcome = Some(match &ended.outcome {
                    Outcome::Completed => ended.verdict().word().to_uppercase(),
                    Outcome::Stopped => "STOPPED".to_owned(),
                    Outcome::RigTrouble(why) => format!("RIG TROUBLE: {why}"),
                });
                if let Outcome::RigTrouble(why) = &ended.outcome {
                    self.note(None, format!("RIG TROUBLE: {why}"));
                }
            }
            _ => {}
        }
    }

    /// Outputs are off, and nobody looks at the contacts any more.
    pub(super) fn goes_off(&mut self) {
        if self.energised && self.stopped_by.is_some() {
            self.note(None, "outputs are off".to_owned());
        }
        (self.energised, self.heard) = (false, None);
        self.outputs.clear();
        self.waits = None;
        self.contacts.iter_mut().for_each(|(_, closed)| *closed = None);
    }

    /// Somebody stops the run by a key.
    pub(super) fn stopped(&mut self, by: &str) {
        if self.stopped_by.is_none() {
            self.stopped_by = Some(by.to_owned());
            let since = text(Time::from_si((self.now.si() * 100.0).round() / 100.0));
            self.note(None, format!("stopped by {by} after {since} of this injection"));
        }
    }

    fn graded(&mut self, grade: &Grade) {
        // A point that is repeated is one point still, of which the latest attempt counts.
        match self.seen.insert(grade.point.id.clone(), grade.verdict) {
            Some(before) => *self.count(before) -= 1,
            None => self.done += 1,
        }
        *self.count(grade.verdict) += 1;
        self.begin_test(&grade.point.test);
        if grade.point.element == self.element {
            let tested = Arc::make_mut(&mut self.tested);
            tested.retain(|before| before.point.id != grade.point.id);
            tested.push(grade.clone());
            self.chart = Arc::default();
        }
        let measured = words::main_value(&grade.measured, &grade.limits, true);
        let reason = if grade.verdict == Verdict::Pass { "" } else { &grade.reason };
        let mark = mark(grade.verdict);
        let word = if grade.verdict == Verdict::Pass { "" } else { grade.verdict.word() };
        let line = format!("{mark} {}  {measured}  {word} {reason}", grade.point.id);
        self.note(Some(grade.verdict), line.trim_end().to_owned());
    }

    fn count(&mut self, verdict: Verdict) -> &mut usize {
        match verdict {
            Verdict::Pass => &mut self.counts.pass,
            Verdict::Fail => &mut self.counts.fail,
            Verdict::Inconclusive => &mut self.counts.inconclusive,
            Verdict::Measured => &mut self.counts.measured,
            Verdict::NotTested => &mut self.counts.not_tested,
        }
    }

    /// Whether a contact is one of the element under test.
    pub(super) fn is_tested(&self, meaning: &Name) -> bool {
        let element = self.asset.as_ref().zip(self.element.as_ref());
        let element = element.and_then(|(asset, id)| asset.element(id.as_str()));
        element.is_some_and(|element| element.contacts().any(|contact| contact == meaning))
    }

    /// Notes what is injected next.
    pub(super) fn begins(&mut self, stage: &str) {
        self.stage = stage.to_owned();
        self.waits = None;
    }

    /// Notes which test runs, and shows its element's characteristic.
    pub(super) fn begin_test(&mut self, test: &Name) {
        if self.test != test.as_str() {
            self.test = test.to_string();
            (self.served, self.chart) = (Arc::default(), Arc::default());
        }
        let element = self.tests.iter().find(|(t, _)| t == test).and_then(|(_, e)| e.clone());
        if element.is_some() && element != self.element {
            self.element = element;
            (self.tested, self.chart) = (Arc::default(), Arc::default());
        }
    }

    /// The chart of the element under test; else the one that shows the point of the present test that was graded
    /// last, and before there is any the first one.
    pub(super) fn chart(&self) -> Option<&Chart> {
        let chart = self.chart.get_or_init(|| {
            let asset = self.asset.as_ref()?;
            let told = Told { points: &self.tested, served: &self.served, earlier: None };
            let mut all = WINGS.charts(asset, told);
            if let Some(element) = &self.element {
                return all.into_iter().find(|chart| chart.of.contains(element));
            }
            let shows = |chart: &Chart, id: &str| {
                let is_of = |of: &Name| {
                    let rest = id.strip_prefix(of.as_str());
                    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
                };
                let marks = chart.panels.iter().flat_map(|panel| &panel.marks);
                chart.of.iter().any(is_of) || marks.into_iter().any(|mark| mark.id == id)
            };
            let of_test = self.tested.iter().rev().filter(|g| g.point.test == *self.test);
            let latest = of_test
                .filter_map(|grade| all.iter().rposition(|c| shows(c, &grade.point.id)))
                .next()
                .unwrap_or(0);
            (latest < all.len()).then(|| all.swap_remove(latest))
        });
        chart.as_ref()
    }

    /// Takes what is waited for.
    pub(super) fn waits(&mut self, waiting: &Waiting) {
        self.waits_at = self.now;
        self.waits = Some([waiting.to_string(), waiting.time_left()]);
    }

    /// For how long nothing was heard of what is put out, where that is long.
    pub(super) fn silent(&self) -> Option<Duration> {
        self.heard.filter(|_| self.energised).map(|at| at.elapsed()).filter(|t| *t >= SILENT)
    }

    /// The contacts in the order in which they matter: what is waited for, what is tested, the rest.
    pub(super) fn by_interest(&self) -> Vec<&(Name, Option<bool>)> {
        let mut all: Vec<_> = self.contacts.iter().collect();
        all.sort_by_key(|(meaning, _)| {
            let awaited = self.awaited.iter().position(|name| name == meaning);
            (awaited.unwrap_or(usize::MAX), !self.is_tested(meaning))
        });
        all
    }

    /// Takes what is put out and seen now.
    pub(super) fn sees(&mut self, present: &Present<'_>) {
        self.now = present.now;
        self.heard = self.heard.map(|_| Instant::now());
        // What nobody looks at any more is not waited for.
        if (self.now - self.waits_at).si().abs() > 2.0 {
            self.waits = None;
        }
        self.left.sees(present.now);
        self.energised = !present.out.is_off();
        self.outputs = outputs(present.out);
        for (meaning, closed) in &mut self.contacts {
            *closed = Some(present.closed.contains(meaning));
        }
    }
}

fn outputs(out: &Stimulus) -> Vec<[String; 3]> {
    let currents = out.currents.iter().map(|d| {
        let angle = angle(in_degrees(d.phasor.angle()));
        [d.channel.to_string(), text(d.true_rms()), angle]
    });
    let voltages = out.voltages.iter().map(|d| {
        let angle = angle(in_degrees(d.phasor.angle()));
        [d.channel.to_string(), text(d.true_rms()), angle]
    });
    currents.chain(voltages).collect()
}

/// An angle between -180 and 180 degrees.
fn angle(degrees: f64) -> String {
    let turned = (degrees + 180.0).rem_euclid(360.0) - 180.0;
    format!("{turned:.1}°")
}
