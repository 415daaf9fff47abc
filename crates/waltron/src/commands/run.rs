//! `waltron run`: inject, measure, grade, record.

use crate::cli::{Format as Printed, PaceArg, Run as Args};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::job::Job;
use crate::recording::{Origin, of_waveform};
use crate::signals::{StopFlag, install};
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::view;
use std::io::BufRead;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use waltron_core::grading::{Grade, Summary};
use waltron_core::name::Name;
use waltron_core::observation::Observation;
use waltron_core::procedure::{Answer, Question, Wanted};
use waltron_core::program::Program;
use waltron_core::quantity::{Dimension, Measure, Quantity, parse_as, seconds};
use waltron_core::record::{Event, Outcome};
use waltron_core::waveform::{pieces, render};
use waltron_rig::attendant::Attendant;
use waltron_rig::clock::{Clock, SimulatedClock, SystemClock};
use waltron_rig::runner::{self, Finished, Prepared};
use waltron_rig::virtual_rig::Pace;
use waltron_rig::writer::{Durability, RecordWriter};
use waltron_wire::comtrade::Format;
use waltron_wire::comtrade::emit::{DigitalTrack, combined};

/// Runs a plan as the arguments say.
///
/// # Errors
/// Files that cannot be loaded, a plan that may not be put out, a record that cannot be written.
pub(crate) fn run(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let job = Job::load(&args.plan, args.rig.as_deref())?;
    let prepared = job.prepare()?;
    let attendant = if args.yes { Panel::Confirming(install()) } else { Panel::Asking(install()) };
    for warning in job.warnings() {
        terminal.chat(&warning.render(terminal));
    }
    let mut clock = clock()?;
    let record = match &args.record {
        Some(path) => path.clone(),
        None => free_name(&args.plan, &clock.now()),
    };
    let pace = if args.pace == PaceArg::Real { Pace::Real } else { Pace::Fast };
    let seed = args.seed.unwrap_or(job.rig.seed);
    let how = How { seed, pace, tester: args.tester.clone(), quiet: args.format == Printed::Json };
    let done = execute(&job, prepared, &record, how, attendant, &mut *clock, terminal)?;
    let exit = Exit::of(Some(&done.ended.outcome), done.ended.summary);
    if args.format == Printed::Json {
        terminal.print_data(&(json_of(&record, exit, &done)? + "\n"));
    } else {
        terminal.print(&view::summary(&done.grades, &done.ended, terminal));
        let (shown, page) = (record.display(), record.with_extension("").with_extension("html"));
        terminal.print(&format!(
            "Record  {shown}\nNext    waltron report {shown} -o {}\n",
            page.display()
        ));
    }
    Ok(exit)
}

/// The contract's object; see docs/json.md.
#[derive(serde::Serialize)]
struct RunJson<'a> {
    record: String,
    exit: u8,
    outcome: &'a Outcome,
    simulated_s: f64,
    summary: Summary,
    points: &'a [Grade],
}

fn json_of(record: &Path, exit: Exit, done: &Finished) -> Result<String, Failure> {
    let json = RunJson {
        record: record.display().to_string(),
        exit: exit.code(),
        outcome: &done.ended.outcome,
        simulated_s: done.ended.injected.value,
        summary: done.ended.summary,
        points: &done.grades,
    };
    serde_json::to_string(&json).map_err(|e| Failure::trouble(format!("cannot write JSON: {e}")))
}

/// How a run is done.
pub(crate) struct How {
    pub(crate) seed: u64,
    pub(crate) pace: Pace,
    pub(crate) tester: Option<String>,
    pub(crate) quiet: bool,
}

/// Runs a prepared job into a record, showing points as they are graded.
///
/// # Errors
/// A record that exists or cannot be written, a specimen that cannot be loaded.
pub(crate) fn execute(
    job: &Job,
    prepared: Prepared,
    record: &Path,
    how: How,
    mut attendant: Panel,
    clock: &mut dyn Clock,
    terminal: &Terminal,
) -> Result<Finished, Failure> {
    let mut rig = job.rig(how.seed, how.pace)?;
    crate::files::refuse_existing(record, false)?;
    // A simulated run can be had again; its events need not wait for the disk.
    let mut writer = RecordWriter::create(record, Durability::System)
        .map_err(|e| Failure::trouble(e.to_string()).help("choose a place with --record FILE"))?;
    let started = Event::RunStarted(Box::new(job.started(how.seed, how.tester)));
    writer.append(&clock.now(), &started).map_err(|e| Failure::trouble(e.to_string()))?;
    let likely = prepared.likely_time();
    let id_width = prepared
        .planned()
        .iter()
        .flat_map(|(_, p)| &p.points)
        .map(|p| p.id.chars().count())
        .max()
        .unwrap_or(0)
        .min(WIDEST_ID);
    if !how.quiet {
        terminal.print(&heading(job, &prepared));
    }
    let bar = view::progress(terminal, prepared.point_count(), likely);
    let mut injected = 0.0;
    let mut captured: Vec<String> = Vec::new();
    let show = |grade: &Grade, injected: f64| {
        if !how.quiet {
            let line = view::point_line(grade, id_width, terminal.width());
            bar.suspend(|| terminal.print(&line));
        }
        if !bar.is_hidden() {
            let left = waltron_core::quantity::seconds((likely.value - injected).max(0.0));
            bar.set_message(format!("about {} left", view::duration(left)));
        }
        bar.inc(1);
    };
    let mut sink = |event: &Event| {
        if let Event::Observed { observation, .. } = event {
            clock.injected(observation.length());
            injected += observation.length().value;
        }
        writer.append(&clock.now(), event)?;
        if let Event::Observed { program, observation, .. } = event
            && let Some(name) = &program.capture
        {
            let note = match capture(job, record, name, program, observation)? {
                Some(path) => path.display().to_string(),
                None => format!("{name} is too long to be kept"),
            };
            captured.push(note);
        }
        match event {
            Event::Graded(grade) => show(grade, injected),
            Event::Told { text } => {
                bar.suspend(|| terminal.chat(&format!("{}\n", plain(text))));
            }
            _ => {}
        }
        Ok(())
    };
    let done = runner::run(prepared, &job.asset, &mut rig, &mut attendant, &mut sink);
    bar.finish_and_clear();
    for note in &captured {
        terminal.chat(&format!("Waveforms  {note}\n"));
    }
    done.map_err(|e| {
        let failure = Failure::trouble(e.to_string());
        failure.help(format!("what was graded before is in {}", record.display()))
    })
}

/// Columns that ids share; a longer one pushes its own line only.
const WIDEST_ID: usize = 34;

/// Samples a second of captured waveforms; long injections get fewer.
const CAPTURE_HZ: [f64; 4] = [10_000.0, 5_000.0, 2_000.0, 1_000.0];

/// Most samples of a captured channel: half an hour at the lowest rate.
const MOST_CAPTURED: f64 = 2e6;

/// Writes the waveforms and contacts of an injection beside the record; `None` where they are too
/// long to be kept.
fn capture(
    job: &Job,
    record: &Path,
    name: &Name,
    program: &Program,
    observation: &Observation,
) -> Result<Option<PathBuf>, Failure> {
    let length = observation.length().si();
    let Some(rate_hz) = CAPTURE_HZ.into_iter().find(|hz| length * hz <= MOST_CAPTURED) else {
        return Ok(None);
    };
    let mut waveform = render(&pieces(program, Some(observation)), rate_hz)
        .map_err(|e| Failure::trouble(e.to_string()))?;
    waveform.cut(observation);
    let count = waveform.channels.first().map_or(0, |c| c.samples.len());
    let contacts = job.rig.capability.inputs.iter().map(|input| {
        let state = |k: usize| {
            let time = seconds((k as f64 + 0.5) / rate_hz);
            observation.closed_before(&input.meaning, time)
        };
        DigitalTrack { id: input.meaning.to_string(), states: (0..count).map(state).collect() }
    });
    let site = job.asset.identity.site.clone().unwrap_or_default();
    let origin = Origin {
        station: &site,
        device: &job.asset.identity.tag,
        frequency_hz: job.asset.ratings.frequency.si(),
    };
    let recording = of_waveform(&waveform, contacts.collect(), &origin);
    let stem = record.file_name().unwrap_or_default().to_string_lossy();
    let stem = stem.strip_suffix(".run.jsonl").unwrap_or(&stem).to_owned();
    let file = |n: u32| {
        let suffix = if n == 1 { String::new() } else { format!("-{n}") };
        record.with_file_name(format!("{stem}.{name}{suffix}.cff"))
    };
    let path = (1..1000).map(file).find(|p| !p.exists()).unwrap_or_else(|| file(1000));
    crate::files::write(&path, &combined(&recording, Format::Binary32), false)?;
    Ok(Some(path))
}

fn heading(job: &Job, prepared: &Prepared) -> String {
    let identity = &job.asset.identity;
    let what: Vec<&str> = [&identity.maker, &identity.model, &identity.serial]
        .into_iter()
        .flatten()
        .map(String::as_str)
        .collect();
    format!(
        "{}\n{}  {}\n{} points on {}, about {} on the rig\n\n",
        styled(STRONG, &plain(&job.plan.title)),
        plain(&identity.tag),
        plain(&what.join(" ")),
        prepared.point_count(),
        plain(&job.rig.name),
        view::duration(prepared.likely_time()),
    )
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

/// A free record name beside the plan: plan's name and time.
fn free_name(plan: &Path, now: &str) -> PathBuf {
    let name = plan.file_name().unwrap_or_default().to_string_lossy();
    let stem = name.strip_suffix(".toml").unwrap_or(&name);
    let stem = stem.strip_suffix(".plan").unwrap_or(stem);
    let digits: String = now.chars().take(19).filter(char::is_ascii_digit).collect();
    let (day, time) = digits.split_at(digits.len().min(8));
    let base = format!("{stem}.{day}-{time}");
    let candidate = |n: u32| {
        let suffix = if n == 1 { String::new() } else { format!("-{n}") };
        plan.with_file_name(format!("{base}{suffix}.run.jsonl"))
    };
    (1..1000).map(candidate).find(|p| !p.exists()).unwrap_or_else(|| candidate(1000))
}

/// The question with how it is answered.
fn prompt(question: &Question) -> String {
    let text = plain(&question.text);
    match &question.wanted {
        Wanted::Confirmation => format!("{text}: Enter to go on, q to stop: "),
        Wanted::Choice(choices) => {
            let numbered =
                choices.iter().enumerate().map(|(i, c)| format!("  {}  {}\n", i + 1, plain(c)));
            format!("{text}\n{}number, q to stop: ", numbered.collect::<String>())
        }
        Wanted::Quantity { kind, default_si, exponents } => {
            let [a, v, s, r, k] = *exponents;
            let dimension = Dimension::new(a, v, s, r, k);
            let default =
                default_si.map(|si| format!(", Enter for {}", Quantity { si, dimension }));
            format!("{text} ({kind}{}, q to stop): ", default.unwrap_or_default())
        }
        Wanted::Text => format!("{text} (q to stop): "),
    }
}

/// What a typed line answers.
///
/// # Errors
/// Why it is no answer.
fn answer(question: &Question, line: &str) -> Result<Answer, String> {
    if line.eq_ignore_ascii_case("q") {
        return Ok(Answer::Stop);
    }
    match &question.wanted {
        Wanted::Confirmation => Ok(Answer::Confirmed),
        Wanted::Text => Ok(Answer::Text(line.to_owned())),
        Wanted::Choice(choices) => {
            let by_number = line.parse::<usize>().ok().and_then(|n| choices.get(n.wrapping_sub(1)));
            let chosen = by_number.or_else(|| choices.iter().find(|c| *c == line));
            let most = choices.len();
            chosen
                .cloned()
                .map(Answer::Text)
                .ok_or_else(|| format!("type a number from 1 to {most}"))
        }
        Wanted::Quantity { exponents, default_si, .. } => {
            let [a, v, s, r, k] = *exponents;
            match (line, default_si) {
                ("", Some(si)) => Ok(Answer::Si(*si)),
                _ => parse_as(line, Dimension::new(a, v, s, r, k))
                    .map(Answer::Si)
                    .map_err(|e| format!("{e}; {}", e.help().unwrap_or_default())),
            }
        }
    }
}

/// The person at the panel.
pub(crate) enum Panel {
    /// Asked on the terminal.
    Asking(StopFlag),
    /// Confirms everything.
    Confirming(StopFlag),
}

impl Attendant for Panel {
    fn ask(&mut self, question: &Question) -> Answer {
        let terminal = Terminal::new(crate::terminal::Colour::Auto);
        let Self::Asking(_) = self else {
            return question.default_answer().unwrap_or_else(|| {
                let text = plain(&question.text);
                terminal.chat(&format!("nobody is asked (--yes), but `{text}` has no default\n"));
                Answer::Stop
            });
        };
        loop {
            terminal.chat(&prompt(question));
            let mut line = String::new();
            match std::io::stdin().lock().read_line(&mut line) {
                Ok(n) if n > 0 => match answer(question, line.trim()) {
                    Ok(answer) => return answer,
                    Err(why) => terminal.chat(&format!("{why}\n")),
                },
                _ => {
                    terminal
                        .chat("\nnobody answers (no input); use --yes to confirm every prompt\n");
                    return Answer::Stop;
                }
            }
        }
    }

    fn wants_to_stop(&self) -> bool {
        let (Self::Asking(flag) | Self::Confirming(flag)) = self;
        flag.load(Ordering::Relaxed)
    }
}
