//! `waltron inject`: any stimulus, once.

mod readings;
mod record;
mod status;
mod takes;
mod wanted;
mod watch;

use super::check::stages;
use crate::cli::Format;
use crate::cli::PaceArg;
use crate::cli::inject::Inject as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::kind::{Kind, read_as};
use crate::panel::Panel;
use crate::rigs::{self, Setup};
use crate::signals::install;
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::view;
use crate::wings::WINGS;
use readings::told;
use serde_json::{Value, json};
use status::Shown;
use std::sync::Arc;
use takes::Take;
use waltron_core::asset::Asset;
use waltron_core::clearance::{Cleared, clear};
use waltron_core::injection::capability::Input;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Action, Answer, Procedure, Question};
use waltron_core::quantity::text;
use waltron_core::record::Outcome;
use waltron_core::text::document::Source;
use waltron_rig::attendant::Attendant;
use waltron_rig::virtual_rig::Pace;
use waltron_rig::{Rig, RigError, RigFile, RigForm, RigKind};
use waltron_script::Context;
use wanted::Wanted;

/// Shows what will be put out, asks, puts it out, prints what was measured.
///
/// # Errors
/// Values that make no sense, what asset or rig do not withstand.
pub(crate) fn inject(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    record::refuse(args)?;
    let bench = Bench::load(args)?;
    let mut rig = bench.rig(args)?;
    if args.watch {
        return watch::watch(args, &bench, &mut *rig, terminal);
    }
    let script = script_of(args, &bench.file.capability.inputs)?;
    let mut program = bench.program(&script)?;
    let wanted = Wanted::of(args, &program, &bench.file.capability)?;
    program.reads = wanted.probes();
    let cleared = bench.cleared(program)?;
    let quiet = args.format == Format::Json;
    if !quiet {
        let stages = stages(cleared.program(), terminal);
        terminal.print(&heading(&bench, cleared.program(), &stages));
    }
    let mut panel = if args.yes { Panel::confirming(install()) } else { Panel::asking(install()) };
    let question = Question::permit(format!("Put this out on {}", bench.file.name));
    if panel.ask(&question) != Answer::Confirmed {
        terminal.chat("nothing was put out\n");
        return Ok(Exit::Stopped);
    }
    let longest = cleared.program().longest();
    let mut shown = Shown::new(&mut panel, terminal, longest);
    let played = rig.play(&cleared, &mut shown);
    shown.end();
    let seen = played.map_err(|e| Failure::trouble(e.to_string()))?;
    off(&mut *rig, &mut panel)?;
    if let Some(left) = seen.discharge.filter(|left| !left.is_done) {
        return Err(Failure::trouble(RigError::StillCharged(left.left()).to_string()));
    }
    if quiet {
        terminal.print_json(as_json(cleared.program(), &seen, &wanted));
    } else {
        terminal.print(&outcome(cleared.program(), &seen, &wanted, terminal));
    }
    let take = Take::of(&seen, cleared.program(), &wanted.named(&seen.readings));
    let outcome = if seen.aborted() { Outcome::Stopped } else { Outcome::Completed };
    let told = record::write(args, &bench, &script, &[take], outcome)?;
    if !quiet {
        terminal.print(&told);
    }
    Ok(if seen.aborted() { Exit::Stopped } else { Exit::Pass })
}

/// Switches off, and waits until nothing is charged any more.
///
/// # Errors
/// A rig that does not confirm it, something that stays charged.
fn off(rig: &mut dyn Rig, panel: &mut Panel) -> Result<(), Failure> {
    let trouble = |e: RigError| Failure::trouble(e.to_string());
    rig.off().map_err(trouble)?;
    if let Some(discharged) = rig.discharge(panel).map_err(trouble)? {
        panel.discharged(discharged.time);
    }
    Ok(())
}

/// Asset and rig that something is put out on.
pub(super) struct Bench {
    pub(super) asset: Asset,
    pub(super) file: RigFile,
    source: Source,
    asset_source: Source,
}

impl Bench {
    fn load(args: &Args) -> Result<Self, Failure> {
        let asset_source = read_as(Kind::Asset, &args.asset)?;
        let asset = WINGS.asset(&asset_source)?;
        let source = read_as(Kind::Rig, &args.rig)?;
        let file = RigForm::load(&source)?;
        Ok(Self { asset, file, source, asset_source })
    }

    /// Whether nothing is really put out.
    fn is_simulated(&self) -> bool {
        matches!(self.file.kind, RigKind::Virtual { .. })
    }

    fn rig(&self, args: &Args) -> Result<Box<dyn Rig>, Failure> {
        // Watching is live by nature.
        let real = args.pace == PaceArg::Real || args.watch;
        let pace = if real { Pace::Real } else { Pace::Fast };
        let setup = Setup { seeds: self.file.seeds, pace };
        let instruments = rigs::instruments(&self.file, &self.source, &args.rig)?;
        rigs::open(&self.file, &self.source, &args.rig, &instruments, setup)
    }

    /// The one program of a script.
    pub(super) fn program(&self, text: &str) -> Result<Program, Failure> {
        let source = Source::new("as a sequence", text);
        let (asset, capability) = (self.asset.clone(), self.file.capability.clone());
        let mut context = Context::new("inject".into(), asset, capability, source.text.clone());
        context.seed = self.file.seeds.rig;
        let context = Arc::new(context);
        let mut sequence = waltron_script::load(&source, &context)?.procedure();
        match sequence.next() {
            Action::Inject(program) => Ok(Arc::unwrap_or_clone(program)),
            Action::Conclude(grades) => {
                let why = grades.first().map_or("nothing is put out", |g| g.reason.as_str());
                Err(Failure::usage(why))
            }
            _ => Err(Failure::usage("nothing is put out")),
        }
    }

    /// Checks a program against ratings and rig.
    pub(super) fn cleared(&self, program: Program) -> Result<Cleared, Failure> {
        clear(program, &self.asset.ratings, &self.file.capability).map_err(|refusals| {
            let all: Vec<String> = refusals.iter().map(ToString::to_string).collect();
            Failure::usage(all.join("; ")).help("nothing was put out")
        })
    }
}

/// `ia=5 A` as a script writes it.
fn setting(given: &str) -> Result<String, Failure> {
    match given.split_once('=') {
        Some((output, value)) if !value.trim().is_empty() => {
            Ok(format!("{} = {}", output.trim(), value.trim()))
        }
        _ => Err(Failure::usage(format!("`{given}` does not say what is put out"))
            .help("write OUTPUT=VALUE, such as ia=\"5 A @ -120 deg\"")),
    }
}

/// `ia=3:6%@180deg` as a script writes it.
fn harmonic(given: &str) -> Result<String, Failure> {
    let parts = given.split_once('=').and_then(|(output, rest)| {
        let (order, share) = rest.split_once(':')?;
        Some(format!("{}.h{} = {}", output.trim(), order.trim(), share.trim()))
    });
    parts.ok_or_else(|| {
        Failure::usage(format!("`{given}` is no harmonic"))
            .help("write OUTPUT=ORDER:SHARE@ANGLE, such as ia=3:6%@180deg")
    })
}

/// The outputs of the arguments, separated by commas.
pub(super) fn outputs(args: &Args, given: &[String]) -> Result<String, Failure> {
    let mut all: Vec<String> = given.iter().map(|o| setting(o)).collect::<Result<_, _>>()?;
    if let Some(frequency) = &args.frequency {
        all.push(format!("f = {frequency}"));
    }
    Ok(all.join(", "))
}

pub(super) fn during(args: &Args) -> Result<String, Failure> {
    let mut all = vec![outputs(args, &args.outputs)?];
    for given in &args.harmonic {
        all.push(harmonic(given)?);
    }
    Ok(all.join(", "))
}

/// The arguments as a script of one step.
fn script_of(args: &Args, contacts: &[Input]) -> Result<String, Failure> {
    let Some(duration) = &args.duration else {
        return Err(Failure::usage("how long shall it be put out?")
            .help("say it with --for \"2 s\", or go on until told otherwise with --watch"));
    };
    let ends = match &args.until {
        // A contact is named as its rig's file names it, whatever is in the name.
        Some(contact) if contacts.iter().any(|i| i.meaning == contact.as_str()) => {
            format!("until `{contact}`, at most {duration}")
        }
        Some(condition) => format!("until {condition}, at most {duration}"),
        None => format!("for {duration}"),
    };
    let during = during(args)?;
    if args.prefault.is_empty() {
        return Ok(format!("hold {during} {ends} then off\n"));
    }
    let before = outputs(args, &args.prefault)?;
    Ok(format!("fault with {during} after prefault {before} for {} {ends}\n", args.prefault_time))
}

fn heading(bench: &Bench, program: &Program, stages: &str) -> String {
    format!(
        "{} on {}\n\n{}\n{}\n",
        styled(STRONG, &plain(&bench.asset.identity.tag)),
        plain(&bench.file.name),
        stages,
        view::maxima(&program.maxima(), &bench.asset.ratings),
    )
}

/// When the timer starts: at the fault, or at the begin.
fn inception(program: &Program, seen: &Observation) -> waltron_core::quantity::Time {
    let fault = program.position("fault").and_then(|i| seen.segments.get(i));
    fault.map_or_else(Default::default, |s| s.start)
}

fn outcome(program: &Program, seen: &Observation, wanted: &Wanted, terminal: &Terminal) -> String {
    let mut out = String::new();
    let start = inception(program, seen);
    let from = if program.position("fault").is_some() { "inception" } else { "the begin" };
    for edge in &seen.edges {
        let change = if edge.closed { "closes" } else { "opens" };
        let line = format!(
            "{} {change} {} after {from}",
            plain(edge.signal.as_str()),
            text(edge.time - start)
        );
        out.push_str(&format!("{}\n", styled(STRONG, &line)));
    }
    if seen.edges.is_empty() {
        out.push_str("No contact changed\n");
    }
    out.push_str(&format!("Put out for {}\n\nMeasured at the end\n", text(seen.length())));
    out.push_str(&told(&wanted.named(&seen.readings), terminal));
    out
}

fn as_json(program: &Program, seen: &Observation, wanted: &Wanted) -> Value {
    let start = inception(program, seen);
    let contacts: Vec<Value> = seen
        .edges
        .iter()
        .map(
            |e| json!({ "signal": e.signal, "closed": e.closed, "time_s": (e.time - start).value }),
        )
        .collect();
    json!({
        "segments": program.to_value()["segments"],
        "length_s": seen.length().value,
        "stopped": seen.aborted(),
        "contacts": contacts,
        "readings": seen.readings,
        "derived": wanted.derived(&seen.readings),
    })
}
