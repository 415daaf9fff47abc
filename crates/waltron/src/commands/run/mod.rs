//! `waltron run`: inject, measure, grade, record.

mod capture;
mod earlier;
mod execute;

pub(crate) use execute::{How, Target, execute};

use crate::cli::{Format as Printed, PaceArg, Run as Args};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::for_shell;
use crate::job::Job;
use crate::kind::{Kind, read_as};
use crate::live::Screen;
use crate::panel::Panel;
use crate::prompt;
use crate::signals::{StopFlag, install};
use crate::terminal::{Terminal, plain};
use crate::view;
use earlier::{Earlier, Opening};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::Duration;
use waltron_core::grading::{Grade, Summary};
use waltron_core::plan::selection::Selection;
use waltron_core::plan::{Answers, AnswersForm};
use waltron_core::procedure::{Also, Answer};
use waltron_core::quantity::{Dimension, Measure};
use waltron_core::quantity::{Time, parse_as};
use waltron_core::record::{Chosen, Outcome};
use waltron_rig::attendant::Attendant;
use waltron_rig::clock::{Clock, SimulatedClock, SystemClock};
use waltron_rig::runner::{Finished, Prepared};
use waltron_rig::virtual_rig::Pace;

/// Runs a plan as the arguments say.
///
/// # Errors
/// Files that cannot be loaded, a plan that may not be put out, a record that cannot be written.
pub(crate) fn run(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let goes_on = args.resume || args.redo.is_some();
    // Mistakes in the plan come first; a plan that is not there has no record either.
    let opening = match goes_on && args.plan.exists() {
        true => Some(Opening::begin(args)?),
        false => None,
    };
    let mut job = Job::load(&args.plan, args.rig.as_deref())?;
    let seeds = args.seeds(job.rig.seeds);
    job.reseed(seeds)?;
    let mut prepared = job.set_up()?;
    let stop = install();
    for warning in job.warnings() {
        terminal.chat(&warning.render(terminal));
    }
    let mut clock = clock()?;
    let quiet = args.format == Printed::Json;
    let mut earlier = opening.map(|opening| Earlier::of(opening, &job, terminal)).transpose()?;
    if let Some(seeds) = earlier.as_ref().and_then(Earlier::seeds)
        && job.reseed(args.seeds(seeds))?
    {
        prepared = job.set_up()?;
    }
    let answers = match &args.answers {
        Some(path) => Some(AnswersForm::load(&read_as(Kind::Answers, path)?)?),
        None => None,
    };
    let mut asked = Vec::new();
    if let Some(earlier) = &mut earlier
        && let Some(question) = earlier.skipped(&prepared, args.redo.as_deref(), &args.only)
    {
        let given = answers.as_ref().and_then(|answers| answers.clone().take(&question.text));
        let given = given.and_then(|given| prompt::answered(&question, &given).ok());
        let nobody = answers.is_some() || args.yes;
        let answer = match given.or_else(|| question.default_answer().filter(|_| nobody)) {
            Some(answer) => answer,
            None => Panel::asking(stop.clone()).ask(&question),
        };
        if answer == Answer::Stop {
            terminal.chat("nothing was put out\n");
            return Ok(Exit::Stopped);
        }
        earlier.offer_skipped(&answer);
        asked.push((question, answer));
    }
    let all: Vec<String> = prepared.certain().map(|p| p.id.clone()).collect();
    match (&mut earlier, args.only.as_slice()) {
        (Some(earlier), only) => earlier.choose(&mut prepared, args.redo.as_deref(), only)?,
        (None, []) => {}
        (None, patterns) => {
            let wanted = Chosen::Matching(Selection::any_of(patterns));
            choose(&mut prepared, patterns, &wanted)?;
            let besides: Vec<String> =
                prepared.points().filter(|p| !wanted.wants(p)).map(|p| plain(&p.id)).collect();
            if !besides.is_empty() {
                terminal.chat(&format!(
                    "What is asked for is measured together with: {}\n",
                    besides.join(", ")
                ));
            }
        }
    }
    // Only what is chosen has to be fit to be put out.
    job.clear(&prepared)?;
    if args.allow_exec {
        prepared.allow_execution();
    } else {
        job.refuse_execution(&prepared)?;
    }
    if !args.live {
        answerable(&prepared, answers.as_ref(), args)?;
    }
    // A record that was cut before its last event gets one, even if nothing else is left.
    if let Some(earlier) = earlier.as_ref().filter(|e| prepared.is_empty() && e.is_done()) {
        return nothing_to_do(earlier, args, quiet, terminal);
    }
    let how = How {
        seeds: job.rig.seeds,
        pace: if args.pace == PaceArg::Real { Pace::Real } else { Pace::Fast },
        tester: args.tester.clone(),
        quiet,
        only: args.only.clone(),
        redo: args.redo.clone(),
        yes: args.yes,
        left_out: {
            let chosen: HashSet<&str> = prepared.points().map(|p| p.id.as_str()).collect();
            all.into_iter().filter(|id| !chosen.contains(id.as_str())).collect()
        },
        asked,
    };
    let target = match earlier {
        Some(earlier) => Target::Earlier(Box::new(earlier)),
        None => Target::New(match &args.record {
            Some(path) => path.clone(),
            None => free_name(&args.plan, &clock.now()),
        }),
    };
    let record = target.path().to_owned();
    let (screen, mut panel) = panel(args, answers, stop)?;
    let done = execute(&job, prepared, target, how, &mut panel, &mut *clock, terminal);
    if let Some(screen) = screen
        && done.is_ok()
    {
        screen.end();
    }
    let done = done?;
    let left_over = panel.left_over();
    if !left_over.is_empty() {
        let list: Vec<String> = left_over.iter().map(|q| format!("`{}`", plain(q))).collect();
        terminal.chat(&format!(
            "warning: answers that nobody asked for, or not that often: {}\n",
            list.join(", ")
        ));
    }
    let exit = Exit::of_run(&done.ended);
    if quiet {
        terminal.print_data(&(json_of(&record, exit, &done)? + "\n"));
    } else {
        terminal.print(&view::summary(&done.grades, &done.ended, terminal));
        terminal.print(&next_steps(args, &record, &done));
    }
    Ok(exit)
}

/// Shows what the record holds already; its own outcome is the exit code.
fn nothing_to_do(
    earlier: &Earlier,
    args: &Args,
    quiet: bool,
    terminal: &Terminal,
) -> Result<Exit, Failure> {
    let run = execute::whole(earlier.path())?;
    let Some(ended) = run.ended else { return Ok(Exit::Open) };
    let done = Finished { grades: run.points, ended, trouble: None };
    let exit = Exit::of_run(&done.ended);
    if quiet {
        terminal.print_data(&(json_of(earlier.path(), exit, &done)? + "\n"));
    } else {
        terminal.print(&format!("{}\n", earlier.nothing_to_do(args.redo.as_deref())));
        terminal.print(&next_steps(args, earlier.path(), &done));
    }
    Ok(exit)
}

/// What sequences ask is answered before anything is energised, where nobody is there to be asked: by
/// the file, or by a default.
///
/// # Errors
/// A question without an answer, or with one that does not fit.
fn answerable(prepared: &Prepared, answers: Option<&Answers>, args: &Args) -> Result<(), Failure> {
    let mut answers = answers.cloned();
    for also in prepared.also() {
        let Also::Asks { question, is_exact } = also else { continue };
        let text = plain(&question.text);
        match (&mut answers, &args.answers) {
            // What is measured is a part of the text: only then it is known which answer fits.
            _ if !is_exact => {}
            (Some(answers), Some(file)) => {
                let Some(given) = answers.take(&question.text) else {
                    return Err(Failure::file(file, format!("it has no answer to `{text}`"))
                        .help("add one; nothing was put out"));
                };
                if let Err(why) = prompt::answered(&question, &given) {
                    let given = plain(&given);
                    return Err(Failure::file(
                        file,
                        format!("`{given}` does not answer `{text}`: {why}"),
                    )
                    .help("nothing was put out"));
                }
            }
            _ if args.yes && question.default_answer().is_none() => {
                return Err(Failure::usage(format!("--yes has no answer to `{text}`"))
                    .help("give one in a file with --answers, or a `default` in the sequence"));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Where the record is, and what is typed next.
fn next_steps(args: &Args, record: &Path, done: &Finished) -> String {
    let (plan, shown) = (for_shell(&args.plan), for_shell(record));
    let page = for_shell(&record.with_extension("").with_extension("html"));
    let mut text = format!("Record  {}\n", record.display());
    let on = if args.record.is_some() { format!(" --record {shown}") } else { String::new() };
    if done.ended.outcome != Outcome::Completed {
        let only =
            args.only.iter().map(|pattern| format!(" --only {}", for_shell(Path::new(pattern))));
        let only: String = only.collect();
        text.push_str(&format!("Next    waltron run {plan} --resume{only}{on}\n"));
        text.push_str(&format!("        waltron report {shown} -o {page}\n"));
        return text;
    }
    text.push_str(&format!("Next    waltron report {shown} -o {page}\n"));
    if !done.ended.left_out.is_empty() {
        text.push_str(&format!(
            "        waltron run {plan} --resume{on}   (what was not asked for)\n"
        ));
    }
    let Summary { fail, inconclusive, .. } = done.ended.summary;
    let redo = ["failed", "not-passed"].into_iter().zip([fail, inconclusive]);
    if let Some((what, _)) = redo.into_iter().find(|(_, count)| *count > 0) {
        text.push_str(&format!("        waltron run {plan} --redo {what}{on}\n"));
    }
    text
}

fn panel(
    args: &Args,
    answers: Option<Answers>,
    stop: StopFlag,
) -> Result<(Option<Screen>, Panel), Failure> {
    let limit = match &args.prompt_timeout {
        None => None,
        Some(text) => {
            let si = parse_as(text, Dimension::TIME).ok().filter(|si| *si > 0.0);
            let time = si.map(Time::from_si).ok_or_else(|| {
                Failure::usage(format!("`{text}` is no time for prompts to wait"))
                    .help("write it like --prompt-timeout \"5 min\"")
            })?;
            Some(Duration::try_from_secs_f64(time.si()).unwrap_or(Duration::MAX))
        }
    };
    let mut screen = None;
    let panel = match (answers.zip(args.answers.as_ref()), args.yes) {
        _ if args.live => {
            let (opened, live) = Screen::open(stop.clone())?;
            screen = Some(opened);
            Panel::live(stop, live)
        }
        (Some((answers, path)), _) => Panel::scripted(stop, answers, path.display().to_string()),
        (None, true) => Panel::confirming(stop),
        (None, false) => Panel::asking(stop),
    };
    Ok((screen, panel.with(limit, args.pause_on_fail)))
}

/// Keeps the points that a pattern chooses.
///
/// # Errors
/// A pattern that chooses none.
/// Keeps what is wanted; each pattern must fit something.
fn choose(prepared: &mut Prepared, patterns: &[String], wanted: &Chosen) -> Result<(), Failure> {
    all_fit(prepared, patterns)?;
    prepared.keep(wanted);
    Ok(())
}

/// Refuses a pattern that fits nothing.
fn all_fit(prepared: &Prepared, patterns: &[String]) -> Result<(), Failure> {
    match patterns.iter().find(|pattern| !prepared.fits(&Selection::new(pattern))) {
        Some(pattern) => Err(none_fits(prepared, pattern)),
        None => Ok(()),
    }
}

fn none_fits(prepared: &Prepared, pattern: &str) -> Failure {
    let tests: Vec<String> = {
        let mut tests: Vec<String> = prepared.points().map(|p| p.test.to_string()).collect();
        tests.dedup();
        tests
    };
    let example = prepared.points().next().map(|p| p.id.as_str());
    let known = tests.iter().map(String::as_str);
    let help = match waltron_core::text::name::nearest(pattern, known) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!(
            "the tests are {}; a point's id is like {}",
            tests.join(", "),
            example.unwrap_or_default()
        ),
    };
    Failure::usage(format!("no point of the plan fits `{pattern}`")).help(help)
}

/// The contract's object; see docs/json.md.
#[derive(serde::Serialize)]
struct RunJson<'a> {
    record: String,
    exit: u8,
    outcome: &'a Outcome,
    simulated_s: f64,
    summary: Summary,
    not_reached: usize,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    open: &'a [String],
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    left_out: &'a [String],
    #[serde(skip_serializing_if = "Vec::is_empty")]
    owed: Vec<&'a str>,
    points: &'a [Grade],
}

fn json_of(record: &Path, exit: Exit, done: &Finished) -> Result<String, Failure> {
    let json = RunJson {
        record: record.display().to_string(),
        exit: exit.code(),
        outcome: &done.ended.outcome,
        simulated_s: done.ended.injected.value,
        summary: done.ended.summary,
        not_reached: done.ended.not_reached,
        open: &done.ended.open,
        left_out: &done.ended.left_out,
        owed: done.ended.owed.iter().map(|owed| owed.text.as_str()).collect(),
        points: &done.grades,
    };
    serde_json::to_string(&json).map_err(|e| Failure::trouble(format!("cannot write JSON: {e}")))
}

/// The clock that time stamps come from.
///
/// # Errors
/// `SOURCE_DATE_EPOCH` that is no number of seconds.
pub(crate) fn clock() -> Result<Box<dyn Clock>, Failure> {
    let Ok(text) = std::env::var("SOURCE_DATE_EPOCH") else { return Ok(Box::new(SystemClock)) };
    let clock = text.trim().parse().ok().and_then(SimulatedClock::starting_at);
    match clock {
        Some(clock) => Ok(Box::new(clock)),
        None => Err(Failure::usage(format!("SOURCE_DATE_EPOCH is `{text}`"))
            .help("it holds seconds since 1970-01-01, such as 1777881600")),
    }
}

/// The part of a record's name that says which plan it is of.
fn stem(plan: &Path) -> String {
    let name = plan.file_name().unwrap_or_default().to_string_lossy();
    let stem = name.strip_suffix(".toml").unwrap_or(&name);
    stem.strip_suffix(".plan").unwrap_or(stem).to_owned()
}

/// A free record name beside the plan: plan's name and time.
fn free_name(plan: &Path, now: &str) -> PathBuf {
    let stem = stem(plan);
    let digits: String = now.chars().take(19).filter(char::is_ascii_digit).collect();
    let (day, time) = digits.split_at(digits.len().min(8));
    let base = format!("{stem}.{day}-{time}");
    let candidate = |n: u32| {
        let suffix = if n == 1 { String::new() } else { format!("-{n}") };
        plan.with_file_name(format!("{base}{suffix}.run.jsonl"))
    };
    (1..1000).map(candidate).find(|p| !p.exists()).unwrap_or_else(|| candidate(1000))
}
