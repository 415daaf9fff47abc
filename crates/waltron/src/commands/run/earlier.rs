//! Going on with a record: which one, whether it belongs to this plan, and what is left to do.

use super::{How, all_fit, choose, stem};
use crate::cli::Run as Args;
use crate::failure::Failure;
use crate::job::Job;
use crate::terminal::{Terminal, plain};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::thread::JoinHandle;
use waltron_core::asset::readback::Difference;
use waltron_core::plan::selection::Selection;
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::counted;
use waltron_core::record::{Chosen, Continued, FileCopy, Progress};
use waltron_core::text::name::Name;
use waltron_rig::runner::Prepared;
use waltron_rig::virtual_rig::Seeds;
use waltron_rig::writer::{Durability, RecordWriter, Reopened, WriteError};

/// A record of this plan, held open, that the run goes on with.
pub(crate) struct Earlier {
    path: PathBuf,
    reopened: Reopened,
    /// Points that are open in the record and that are not chosen now.
    left_open: Vec<String>,
    /// Points of the plan that are open and that the run is not asked for.
    left_out: Vec<String>,
    /// Tests that were changed since, or are gone.
    changed: Vec<Name>,
}

/// What is answered about what was skipped.
const SKIPPED: [&str; 2] = ["leave it skipped", "test it now"];

/// The plan's latest record: the one that was written last.
fn latest(plan: &Path) -> Result<PathBuf, Failure> {
    let folder = plan.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let stem = stem(plan);
    let of_plan = |name: &str| {
        let middle = name.strip_prefix(&stem).and_then(|n| n.strip_suffix(".run.jsonl"));
        middle.is_some_and(|m| m.is_empty() || m.starts_with('.'))
    };
    let entries = std::fs::read_dir(folder)
        .map_err(|e| Failure::file(folder, format!("this folder cannot be read: {e}")))?;
    let records = entries.filter_map(Result::ok).filter_map(|entry| {
        let name = entry.file_name().into_string().ok().filter(|n| of_plan(n))?;
        let changed = entry.metadata().ok()?.modified().ok()?;
        Some((changed, name))
    });
    match records.max() {
        Some((_, name)) => Ok(plan.with_file_name(name)),
        None => Err(Failure::file(plan, "there is no record of this plan to go on with")
            .help("run the plan first, or name the record with --record FILE")),
    }
}

/// A record that is being opened, while the plan is prepared: long ones take their time.
pub(super) struct Opening {
    path: PathBuf,
    reading: JoinHandle<Result<Reopened, WriteError>>,
}

impl Opening {
    /// Begins to open the record that the arguments name, or the plan's latest one.
    ///
    /// # Errors
    /// No record.
    pub(super) fn begin(args: &Args) -> Result<Self, Failure> {
        let path = match &args.record {
            Some(path) => path.clone(),
            None => latest(&args.plan)?,
        };
        if !path.exists() {
            return Err(Failure::file(&path, "there is no such record to go on with"));
        }
        let to_open = path.clone();
        Ok(Self { path, reading: std::thread::spawn(move || Reopened::open(&to_open)) })
    }
}

impl Earlier {
    /// Looks at what was opened: it must be of this job, and as it was written.
    ///
    /// # Errors
    /// No record, one that another run writes, one that was changed, one of another plan.
    pub(super) fn of(opening: Opening, job: &Job, terminal: &Terminal) -> Result<Self, Failure> {
        let path = opening.path;
        let reopened = opening.reading.join().unwrap_or_else(|_| {
            Err(WriteError::Io { path: path.clone(), source: std::io::ErrorKind::Other.into() })
        });
        let reopened = reopened.map_err(|error| match &error {
            WriteError::Unreadable { source, .. } => {
                Failure::file(&path, source.to_string()).help("run records end in .run.jsonl")
            }
            WriteError::Busy { .. } => Failure::file(&path, "another run is writing this record")
                .help("wait until it has ended, or record into another file"),
            _ => Failure::trouble(error.to_string()),
        })?;
        let mut reopened = reopened;
        let cut = reopened.cut_bytes();
        let progress = &mut reopened.progress;
        if let Some(line) = progress.broken_at {
            let message = format!(
                "the record was changed after the test: line {line} does not follow from the line before"
            );
            return Err(Failure::file(&path, message)
                .help("start a new record; this one can still be reported, with a warning"));
        }
        same_job(&path, job, progress)?;
        let changed = job.changed_since(&progress.started)?;
        progress.restart(&changed);
        if cut > 0 {
            terminal.chat(&format!(
                "{} was cut off in its last line: {} of an event that was not whole left out\n",
                path.display(),
                counted(cut as usize, "byte")
            ));
        }
        terminal.chat(&format!(
            "Going on with {}, {}\n",
            path.display(),
            counted(progress.tally.summary().total(), "graded point")
        ));
        if job.rig_copy() != progress.started.rig {
            terminal.chat(&format!(
                "The rig's file is another one than when the record was begun: {} now, {} then\n",
                plain(&job.rig.name),
                plain(&progress.started.rig_name)
            ));
        }
        let of_plan = |id: &&Name| job.plan.tests.iter().any(|t| t.id == **id);
        let (anew, gone): (Vec<&Name>, Vec<&Name>) = changed.iter().partition(of_plan);
        for (tests, what) in [
            (anew, "changed since, and begins anew"),
            (gone, "not in the plan any more; what was tested of it counts no longer"),
        ] {
            if !tests.is_empty() {
                let tests: Vec<String> = tests.iter().map(|t| plain(t.as_str())).collect();
                terminal.chat(&format!("{}: {what}\n", tests.join(", ")));
            }
        }
        Ok(Self { path, reopened, left_open: Vec::new(), left_out: Vec::new(), changed })
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    pub(super) fn seeds(&self) -> Option<Seeds> {
        let started = &self.reopened.progress.started;
        let rig = started.seed?;
        Some(Seeds { rig, specimen: started.specimen_seed.unwrap_or(rig) })
    }

    /// The ids of points that are open in the record and that are not chosen now.
    pub(super) fn left_open(&self) -> Vec<String> {
        self.left_open.clone()
    }

    /// The ids of points that are open in the record and that the run is not asked for.
    pub(super) fn left_out(&self) -> Vec<String> {
        self.left_out.clone()
    }

    /// In what the device differed from its file, and whether its own values held.
    pub(super) fn settings(&self) -> Option<(Vec<Difference>, bool)> {
        self.reopened.progress.settings.clone()
    }

    /// What is asked about what was skipped, where something of the plan was that is not tested by name now.
    pub(super) fn skipped(
        &self,
        prepared: &Prepared,
        redo: Option<&str>,
        only: &[String],
    ) -> Option<Question> {
        let progress = &self.reopened.progress;
        if !only.is_empty() || !matches!(redo, None | Some("not-passed")) {
            return None;
        }
        let in_plan =
            |id: &String| prepared.has(id) || prepared.points().any(|point| point.id == **id);
        let all: Vec<(&String, &String)> =
            progress.skipped.iter().filter(|(id, _)| in_plan(id)).collect();
        let points = all.iter().filter(|(id, _)| id.contains('/')).count();
        let mut reasons: Vec<&str> =
            all.iter().map(|(_, why)| why.trim_start_matches("skipped: ")).collect();
        reasons.dedup();
        let what = match points {
            0 => all.iter().map(|(id, _)| plain(id)).collect::<Vec<_>>().join(", "),
            n => counted(n, "point"),
        };
        let why = reasons.iter().map(|why| plain(why)).collect::<Vec<_>>().join("; ");
        (!all.is_empty()).then(|| {
            Question::choose(format!("{what} skipped before ({why})"), SKIPPED).or_else(SKIPPED[0])
        })
    }

    /// Takes the answer to that: whether what was skipped is tested now.
    pub(super) fn offer_skipped(&mut self, answer: &Answer) {
        self.reopened.progress.offers_skipped = *answer == Answer::Text(SKIPPED[1].to_owned());
    }

    /// Keeps what is left to do, or what is to be tested again.
    ///
    /// # Errors
    /// A pattern that chooses nothing of the plan.
    pub(super) fn choose(
        &mut self,
        prepared: &mut Prepared,
        redo: Option<&str>,
        only: &[String],
    ) -> Result<(), Failure> {
        // A run that was asked for a part has left the rest of the plan open: that is gone on with, too.
        let asked: HashSet<String> =
            prepared.left_open(&self.reopened.progress).into_iter().map(|p| p.id).collect();
        self.reopened.progress.whole = true;
        let open = prepared.left_open(&self.reopened.progress);
        self.reopened.progress.whole = redo.is_none();
        let progress = &self.reopened.progress;
        match redo {
            None => {
                // A slip in a pattern is told even where what another one names is done already.
                all_fit(prepared, only)?;
                prepared.keep_open(progress);
                if !only.is_empty() && !prepared.is_empty() {
                    let wanted = Selection::any_of(only);
                    if !prepared.fits(&wanted) {
                        return Err(nothing_open(prepared, only));
                    }
                    prepared.keep(&Chosen::Matching(wanted));
                }
            }
            Some("failed") => prepared.keep(&progress.redo("failed")),
            // What was never reached did not pass either.
            Some("not-passed") => {
                let mut wanted = progress.redo("not-passed");
                if let Chosen::Graded { points, tests } = &mut wanted
                    && !progress.offers_skipped
                {
                    points.retain(|id| !progress.skipped.contains_key(id));
                    tests.retain(|id| !progress.skipped.contains_key(id));
                }
                prepared.keep_with_open(&wanted, progress);
            }
            Some(pattern) => {
                choose(prepared, &[pattern.to_owned()], &progress.redo(pattern))?;
            }
        }
        let chosen: HashSet<&str> = prepared.points().map(|p| p.id.as_str()).collect();
        let left = open.into_iter().map(|p| p.id).filter(|id| !chosen.contains(id.as_str()));
        // What nobody has asked for is told apart from what was asked for and is open.
        (self.left_open, self.left_out) = left.partition(|id| asked.contains(id));
        Ok(())
    }

    /// Whether everything was done, and the record says so.
    pub(super) fn is_done(&self) -> bool {
        // What counts no longer has to be written down.
        self.reopened.progress.is_closed && self.changed.is_empty()
    }

    /// What is said where everything is done already.
    pub(super) fn nothing_to_do(&self, redo: Option<&str>) -> &'static str {
        match redo {
            Some("not-passed") => "every point passed; nothing was tested again",
            Some(_) if self.reopened.progress.tally.summary().fail == 0 => {
                "no point failed; nothing was tested again"
            }
            Some(_) => "the points that failed are not in the plan any more",
            None => "every point is graded already; nothing was left to do",
        }
    }

    /// The event that says how the run goes on.
    pub(super) fn continued(&self, job: &Job, how: &How) -> Continued {
        let (rig, started) = (job.rig_copy(), &self.reopened.progress.started);
        let now = job.started(None, None, Vec::new());
        let is_new = |script: &FileCopy| !started.scripts.contains(script);
        Continued {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            tester: how.tester.clone(),
            rig_name: job.rig.name.clone(),
            rig: (rig != self.reopened.progress.started.rig).then_some(rig),
            redo: how.redo.clone(),
            plan: (now.plan != started.plan).then_some(now.plan),
            scripts: now.scripts.into_iter().filter(is_new).collect(),
            changed: self.changed.clone(),
            only: how.only.clone(),
        }
    }

    /// Opens the record for writing.
    ///
    /// # Errors
    /// A record that cannot be written.
    pub(super) fn go_on(self, durability: Durability) -> Result<(RecordWriter, Progress), Failure> {
        self.reopened.go_on(durability).map_err(|e| Failure::trouble(e.to_string()))
    }
}

/// Patterns that name only what is done already, or was never wanted.
fn nothing_open(prepared: &Prepared, only: &[String]) -> Failure {
    let mut open: Vec<String> = prepared.points().map(|p| plain(p.test.as_str())).collect();
    open.dedup();
    Failure::usage(format!("no open point fits {}", only.join(", ")))
        .help(format!("points of {} are open", open.join(", ")))
}

/// Refuses a record that was made with other files.
fn same_job(path: &Path, job: &Job, progress: &Progress) -> Result<(), Failure> {
    let started = &progress.started;
    let now = job.started(None, None, Vec::new());
    let mut wrong: Vec<String> = Vec::new();
    if started.plan.name != now.plan.name {
        wrong.push(format!(
            "it is of the plan {} (`{}`), not of {}",
            plain(&started.plan.name),
            plain(&started.title),
            plain(&now.plan.name)
        ));
    }
    if started.rule != now.rule {
        wrong.push("it is graded by another rule".to_owned());
    }
    wrong.extend(differs("asset", &started.asset, &now.asset));
    if wrong.is_empty() {
        return Ok(());
    }
    let message =
        format!("the record does not belong to this plan as it is now: {}", wrong.join("; "));
    Err(Failure::file(path, message)
        .help("put them back as they were, or start a new record without --resume and --redo; `waltron grade` grades what was measured by other settings and rules"))
}

/// The first line in which a file differs from its copy in the record.
fn differs(what: &str, then: &FileCopy, now: &FileCopy) -> Option<String> {
    if then.text == now.text {
        return None;
    }
    let (mut a, mut b) = (then.text.lines(), now.text.lines());
    let mut number = 0;
    loop {
        number += 1;
        let (a, b) = (a.next(), b.next());
        if a != b || a.is_none() {
            let line = |l: Option<&str>| match l {
                Some(text) => format!("`{}`", plain(text.trim())),
                None => "not there".to_owned(),
            };
            return Some(format!(
                "line {number} of the {what} {} was {} and is {}",
                plain(&now.name),
                line(a),
                line(b)
            ));
        }
    }
}
