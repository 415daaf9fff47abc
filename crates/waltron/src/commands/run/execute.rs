//! Running a prepared plan into a record, and showing it.

use super::capture::capture;
use super::earlier::Earlier;
use crate::failure::Failure;
use crate::job::Job;
use crate::live::{Live, State};
use crate::panel::Panel;
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::time_left::TimeLeft;
use crate::view;
use indicatif::ProgressBar;
use std::cell::Cell;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use waltron_core::asset::Asset;
use waltron_core::asset::readback::{Difference, differences, with_device};
use waltron_core::grading::{Grade, PointId};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Time, counted, duration, seconds};
use waltron_core::record::{Event, Outcome, Progress, Run, RunEnded};
use waltron_rig::Rig;
use waltron_rig::attendant::Attendant;
use waltron_rig::clock::Clock;
use waltron_rig::runner::{self, Finished, Prepared, SoFar};
use waltron_rig::virtual_rig::{Pace, Seeds};
use waltron_rig::writer::{Durability, RecordWriter};

/// How a run is done.
pub(crate) struct How {
    pub(crate) seeds: Seeds,
    pub(crate) pace: Pace,
    pub(crate) tester: Option<String>,
    pub(crate) quiet: bool,
    /// Patterns of the only points that are wanted; none: all.
    pub(crate) only: Vec<String>,
    /// What is tested again.
    pub(crate) redo: Option<String>,
    /// Nothing is asked before a real rig is energised.
    pub(crate) yes: bool,
    /// The ids of points of the plan that a new run is not asked for.
    pub(crate) left_out: Vec<String>,
    /// What was asked, and answered, before the record was opened.
    pub(crate) asked: Vec<(Question, Answer)>,
}

/// The record that a run writes.
pub(crate) enum Target {
    /// A new one.
    New(PathBuf),
    /// One that is there.
    Earlier(Box<Earlier>),
}

impl Target {
    /// Where it is.
    pub(crate) fn path(&self) -> &Path {
        match self {
            Self::New(path) => path,
            Self::Earlier(earlier) => earlier.path(),
        }
    }
}

/// Columns that ids share; a longer one pushes its own line only.
const WIDEST_ID: usize = 34;
/// The same where lines may be as long as they like.
const WIDEST_ID_UNBOUND: usize = 60;

/// Runs a prepared job into a record, showing points as they are graded. What comes back of a run
/// that went on holds all points of the record.
///
/// # Errors
/// A record that exists or cannot be written, a specimen that cannot be loaded.
pub(crate) fn execute(
    job: &Job,
    prepared: Prepared,
    target: Target,
    how: How,
    panel: &mut Panel,
    clock: &mut dyn Clock,
    terminal: &Terminal,
) -> Result<Finished, Failure> {
    let record = target.path().to_owned();
    let goes_on = matches!(target, Target::Earlier(_));
    let so_far_settings = match &target {
        Target::Earlier(earlier) => earlier.settings(),
        Target::New(_) => None,
    };
    let mut rig = job.rig(how.seeds, how.pace)?;
    // A simulated run can be had again; its events need not wait for the disk.
    let durability = if rig.is_simulated() { Durability::System } else { Durability::Disk };
    let (mut writer, so_far, first) = open(target, job, &prepared, &how, durability, clock)?;
    let trouble = |e: waltron_rig::writer::WriteError| Failure::trouble(e.to_string());
    writer.append(&clock.now(), &first).map_err(trouble)?;
    let known = match &so_far_settings {
        Some(known) if goes_on => Some(known.clone()),
        _ => None,
    };
    let mut open = Opened { writer: &mut writer, clock, panel, known };
    for (question, answer) in &how.asked {
        open.note(&Event::Asked(question.clone()))?;
        open.note(&Event::Answered { answer: answer.clone() })?;
    }
    let ids: Vec<String> = prepared.points().map(|p| p.id.clone()).collect();
    // What is run stands there while it is asked about; the device may hold other settings than the file's.
    show_live(open.panel.view().as_ref(), job, &job.asset, &prepared);
    let Some((asset, prepared)) = open.before(job, prepared, &mut *rig, &how)? else {
        let open_ids = [so_far.left_open, ids].concat();
        let ended = RunEnded {
            outcome: Outcome::Stopped,
            summary: so_far.tally.summary(),
            not_reached: open_ids.len(),
            open: open_ids,
            left_out: so_far.left_out,
            owed: so_far.owed,
            injected: Default::default(),
        };
        open.note(&Event::RunEnded(ended.clone()))?;
        return Ok(Finished { grades: Vec::new(), ended, trouble: None });
    };
    let likely = prepared.likely_time(&asset, &job.rig.capability);
    let ids = prepared.points().map(|p| p.id.chars().count());
    let widest = terminal.width().map_or(WIDEST_ID_UNBOUND, |_| WIDEST_ID);
    let id_width = ids.max().unwrap_or(0).min(widest);
    let live = panel.view();
    let quiet = how.quiet || live.is_some();
    show_live(live.as_ref(), job, &asset, &prepared);
    if !quiet {
        terminal.print(&heading(job, &prepared));
    }
    let bar = if live.is_some() {
        ProgressBar::hidden()
    } else {
        view::progress(terminal, prepared.point_count(), TimeLeft::of(likely))
    };
    let left = Rc::new(Cell::new(TimeLeft::of(likely)));
    let takes_time = how.pace == Pace::Real || !rig.is_simulated();
    panel.listen(bar.clone(), Rc::clone(&left), takes_time);
    let (mut kept_files, mut unkept): (Vec<PathBuf>, Vec<String>) = Default::default();
    let mut seen: HashSet<String> = HashSet::new();
    let show = |grade: &Grade, done: usize| {
        if !quiet {
            let line = view::point_line(grade, id_width, terminal.width());
            bar.suspend(|| terminal.print(&line));
        }
        if !bar.is_hidden() {
            bar.set_message(left.get().to_string());
        }
        // A point that is repeated is one point still.
        bar.set_position(done as u64);
    };
    let mut sink = |event: &Event| {
        match event {
            Event::Observed { observation, .. } => clock.injected(observation.length()),
            Event::Rested { time } => clock.injected(*time),
            _ => {}
        }
        let mut after = left.get();
        after.event(event);
        left.set(after);
        let now = clock.now();
        writer.append(&now, event)?;
        if let Some(live) = &live {
            live.event(event);
        }
        match event {
            Event::Observed { test, program, observation, .. } => {
                if let Some(name) = &program.capture {
                    // What was measured is worth more than its picture: the run goes on.
                    let made = capture(job, &record, test, name, program, observation, &now);
                    match made {
                        Ok(Some((path, kept))) => {
                            writer.append(&now, &Event::Kept(kept))?;
                            kept_files.push(path);
                        }
                        Ok(None) => unkept.push(format!("{name} is too long to be kept")),
                        Err(failure) => {
                            unkept.push(format!("{name} could not be kept: {}", failure.message()));
                        }
                    }
                }
            }
            Event::Graded(grade) => {
                seen.insert(grade.point.id.clone());
                show(grade, seen.len());
            }
            Event::Told { text } if live.is_none() => {
                bar.suspend(|| terminal.chat(&format!("{}\n", plain(text))));
            }
            _ => {}
        }
        Ok(())
    };
    let done = runner::run(prepared, &asset, &mut *rig, panel, so_far, &mut sink);
    bar.finish_and_clear();
    for note in waveforms(&record, &kept_files).into_iter().chain(unkept) {
        panel.say(&format!("Waveforms  {note}\n"));
    }
    let mut done = done.map_err(|e| {
        let failure = Failure::trouble(e.to_string());
        failure
            .help(format!("what was graded before is in {}; go on with --resume", record.display()))
    })?;
    if goes_on {
        done.grades = whole(&record)?.points;
    }
    Ok(done)
}

/// More files than this are told by their number.
const FEW: usize = 4;

/// The files of waveforms, a line each, or of many how many there are.
fn waveforms(record: &Path, kept: &[PathBuf]) -> Vec<String> {
    if kept.len() <= FEW {
        return kept.iter().map(|path| path.display().to_string()).collect();
    }
    let name = record.file_name().unwrap_or_default().to_string_lossy();
    let stem = name.strip_suffix(".run.jsonl").unwrap_or(&name);
    let beside = record.with_file_name(format!("{stem}.*.cff"));
    vec![format!("{} files, {}", kept.len(), beside.display())]
}

/// The time between two moments, RFC 3339; none where they are no moments, or the wrong way round.
fn passed(from: &str, to: &str) -> Time {
    let moment = |text: &str| humantime::parse_rfc3339(text).ok();
    let between = moment(from).zip(moment(to)).and_then(|(a, b)| b.duration_since(a).ok());
    seconds(between.unwrap_or_default().as_secs_f64())
}

/// Everything that a record holds.
pub(super) fn whole(record: &Path) -> Result<Run, Failure> {
    let bytes = crate::files::read_bytes(record)?;
    Run::read(&bytes).map_err(|e| Failure::file(record, e.to_string()))
}

/// Opens the record: the writer, what it holds already, and the first event to be written.
fn open(
    target: Target,
    job: &Job,
    prepared: &Prepared,
    how: &How,
    durability: Durability,
    clock: &mut dyn Clock,
) -> Result<(RecordWriter, SoFar, Event), Failure> {
    match target {
        Target::New(path) => {
            crate::files::refuse_record(&path)?;
            let writer = RecordWriter::create(&path, durability).map_err(|e| {
                Failure::trouble(e.to_string()).help("choose a place with --record FILE")
            })?;
            let seeds = (durability == Durability::System).then_some(how.seeds);
            let mut started = job.started(seeds, how.tester.clone(), how.only.clone());
            started.hookup = Some(job.sheet(prepared));
            let so_far = SoFar { left_out: how.left_out.clone(), ..SoFar::default() };
            Ok((writer, so_far, Event::RunStarted(Box::new(started))))
        }
        Target::Earlier(earlier) => {
            let continued = earlier.continued(job, how);
            let (left_open, left_out) = (earlier.left_open(), earlier.left_out());
            let (writer, progress) = earlier.go_on(durability)?;
            let Progress { tally, warm, cooled, last_at, carried, ungraded, owed, .. } = progress;
            // A real asset has cooled since; simulated time stands still between two runs.
            let simulated = durability == Durability::System;
            let since = if simulated { seconds(0.0) } else { passed(&last_at, &clock.now()) };
            let cooled = cooled + since;
            let so_far =
                SoFar { tally, warm, cooled, carried, ungraded, owed, left_open, left_out };
            Ok((writer, so_far, Event::Continued(Box::new(continued))))
        }
    }
}

/// An open record, before the first injection.
struct Opened<'a> {
    writer: &'a mut RecordWriter,
    clock: &'a mut dyn Clock,
    panel: &'a mut Panel,
    /// In what the device differed from its file when the record was begun, and whether that held.
    known: Option<(Vec<Difference>, bool)>,
}

/// What the attendant chooses from where settings differ.
const CHOICES: [&str; 3] = ["the file's values hold", "the device's values hold", "stop"];

impl Opened<'_> {
    fn note(&mut self, event: &Event) -> Result<(), Failure> {
        let at = self.clock.now();
        self.writer.append(&at, event).map_err(|e| Failure::trouble(e.to_string()))
    }

    fn ask(&mut self, question: Question) -> Result<Answer, Failure> {
        self.note(&Event::Asked(question.clone()))?;
        let answer = self.panel.ask(&question);
        self.note(&Event::Answered { answer: answer.clone() })?;
        Ok(answer)
    }

    /// Reads the settings back and has the outputs confirmed; `None` where the attendant stops.
    fn before(
        &mut self,
        job: &Job,
        prepared: Prepared,
        rig: &mut dyn Rig,
        how: &How,
    ) -> Result<Option<(Asset, Prepared)>, Failure> {
        let settings = rig.settings().map_err(|e| Failure::trouble(e.to_string()))?;
        let found = differences(&job.asset, &settings);
        let mut asset = job.asset.clone();
        let mut prepared = prepared;
        if !settings.is_empty() {
            let device_holds = match (&self.known, found.is_empty()) {
                // One record has one set of settings: what was graded by others would stand beside it.
                (Some((known, holds)), _) if *known == found => *holds,
                (Some(_), _) => {
                    return Err(Failure::trouble(
                        "the device's settings are not those that the record was begun with",
                    )
                    .help("put them back as they were, or start a new record without --resume and --redo"));
                }
                (None, true) => false,
                (None, false) => {
                    self.panel.say(&listed(&found));
                    let file = job.started(None, None, Vec::new()).asset.name;
                    let text = format!("The device's settings differ from {file}");
                    // Nobody there: what was planned holds, and the record says so.
                    let question = Question::choose(text, CHOICES).or_else(CHOICES[0]);
                    match self.ask(question)? {
                        Answer::Text(text) if text == CHOICES[0] => false,
                        Answer::Text(text) if text == CHOICES[1] => true,
                        _ => return Ok(None),
                    }
                }
            };
            if device_holds {
                asset = with_device(&job.asset, &found).map_err(|name| {
                    Failure::trouble(format!("the device's `{name}` cannot be taken over"))
                        .help("write it into the asset's file, and run again")
                })?;
                let executes = prepared.may_execute();
                prepared = job.prepare_for(&asset, &prepared.chosen())?;
                if executes {
                    prepared.allow_execution();
                }
            }
            self.note(&Event::SettingsRead { settings, differences: found, device_holds })?;
        }
        let confirm = job.rig.confirm.unwrap_or(!rig.is_simulated());
        if confirm && !how.yes {
            self.panel.say(&view::maxima(&prepared.maxima(), &asset.ratings));
            self.panel.say(&view::besides(&prepared));
            let sheet = job.sheet(&prepared);
            let mut lines: Vec<String> = sheet.all_before().cloned().collect();
            lines.push(format!("Put this out on {}", job.rig.name));
            for (k, line) in lines.iter().enumerate() {
                self.panel.asks_of_several(k + 1, lines.len());
                if self.ask(Question::permit(line.clone()))? != Answer::Confirmed {
                    return Ok(None);
                }
            }
        }
        Ok(Some((asset, prepared)))
    }
}

/// Has the live view show this run.
fn show_live(live: Option<&Live>, job: &Job, asset: &Asset, prepared: &Prepared) {
    let Some(live) = live else { return };
    let capability = &job.rig.capability;
    let inputs = capability.inputs.iter().map(|i| i.meaning.clone());
    let points: Vec<PointId> = prepared.points().cloned().collect();
    let likely = prepared.likely_time(asset, capability);
    live.begin(State::new(&job.plan.title, asset, inputs, &points, likely));
}

fn listed(found: &[Difference]) -> String {
    let mut text = styled(STRONG, "Settings that differ") + "\n";
    let width = found.iter().map(|d| d.name.as_str().chars().count()).max().unwrap_or(0);
    for d in found {
        text.push_str(&format!(
            "  {:<width$}  file {:<12} device {}\n",
            plain(d.name.as_str()),
            plain(&d.file),
            plain(&d.device)
        ));
    }
    text
}

fn heading(job: &Job, prepared: &Prepared) -> String {
    let identity = &job.asset.identity;
    let what: Vec<&str> = [&identity.maker, &identity.model, &identity.serial]
        .into_iter()
        .flatten()
        .map(String::as_str)
        .collect();
    format!(
        "{}\n{}  {}\n{} on {}, about {} on the rig\n\n",
        styled(STRONG, &plain(&job.plan.title)),
        plain(&identity.tag),
        plain(&what.join(" ")),
        counted(prepared.point_count(), "point"),
        plain(&job.rig.name),
        duration(prepared.likely_time(&job.asset, &job.rig.capability)),
    )
}
