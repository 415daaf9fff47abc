//! `waltron inject --watch`: live readings; keys change what is out, a step at a time.

use super::status::{closed, columns, fitted};
use super::takes::{Take, table_of};
use super::wanted::{Wanted, at_a_glance};
use super::{Args, Bench, during, heading, outputs, record};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::panel::Panel;
use crate::signals::install;
use crate::tables::table;
use crate::terminal::{Terminal, plain};
use crossterm::event::{Event, KeyCode, KeyEventKind, KeyModifiers, poll, read};
use crossterm::terminal::{disable_raw_mode, enable_raw_mode};
use std::io::IsTerminal;
use std::time::Duration;
use waltron_core::injection::program::{Finish, Profile, Program, Segment, words};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Dimension, Measure, Time, parse_as, seconds, text};
use waltron_core::record::Outcome;
use waltron_core::text::name::Name;
use waltron_rig::Rig;
use waltron_rig::attendant::Attendant;

/// How long keys are waited for: some time, since without any nothing is looked at.
const A_GLANCE: Duration = Duration::from_millis(1);

/// How long each look lasts.
const LOOK_S: f64 = 0.2;

/// The terminal without line editing, until this is dropped.
struct Raw;

impl Raw {
    fn enter() -> Result<Self, Failure> {
        enable_raw_mode()
            .map_err(|e| Failure::usage(format!("the terminal cannot be watched: {e}")))?;
        Ok(Self)
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        // Nothing can be done about a terminal that is gone.
        let _ = disable_raw_mode();
    }
}

/// What the keys have made of the stimulus.
struct Live {
    during: Stimulus,
    before: Option<Stimulus>,
    /// Which of the two is out.
    is_fault: bool,
    /// What up and down change, and by what share.
    vary: String,
    step: f64,
    factor: f64,
    /// Time of everything put out so far, and when it was switched over last.
    total: Time,
    switched: Time,
    /// What was read whenever the key for it was pressed.
    takes: Vec<Take>,
    /// Whether the next look is to be taken down.
    take: bool,
}

impl Live {
    fn stimulus(&self) -> Stimulus {
        match &self.before {
            Some(before) if !self.is_fault => before.clone(),
            _ => self.fault(),
        }
    }

    fn fault(&self) -> Stimulus {
        let mut out = self.during.clone();
        out.currents.iter_mut().for_each(|d| self.scale(d, 'i'));
        out.voltages.iter_mut().for_each(|d| self.scale(d, 'v'));
        out
    }

    /// What up and down change, with its value in the fault.
    fn varied(&self) -> String {
        let out = self.fault();
        if self.vary == "f" {
            return format!("f {}", out.frequency().map(text).unwrap_or_default());
        }
        let is = |id: &Name, group: &str| *id == *self.vary || self.vary == group;
        let currents = out.currents.iter().filter(|d| is(&d.channel, "i"));
        let voltages = out.voltages.iter().filter(|d| is(&d.channel, "v"));
        let currents = currents.map(|d| format!("{} {}", d.channel, text(d.phasor.rms())));
        let voltages = voltages.map(|d| format!("{} {}", d.channel, text(d.phasor.rms())));
        currents.chain(voltages).collect::<Vec<_>>().join(" ")
    }

    fn scale<Q: Measure>(&self, drive: &mut Drive<Q>, group: char) {
        if self.vary == "f" {
            drive.frequency *= self.factor;
        } else if drive.channel == *self.vary || self.vary == group.to_string() {
            let rms = Q::from_si(drive.phasor.rms().si() * self.factor);
            drive.phasor = drive.phasor.with_rms(rms);
        }
    }
}

/// Never asks; Ctrl-C comes as a key, a signal as a flag.
struct Watcher(crate::signals::StopFlag);

impl Attendant for Watcher {
    fn ask(&mut self, question: &Question) -> Answer {
        question.default_answer().unwrap_or(Answer::Stop)
    }

    fn wants_to_stop(&self) -> bool {
        self.0.is_asked()
    }
}

/// Puts the stimulus out until a key ends it.
///
/// # Errors
/// No terminal, values that make no sense or are not withstood for ever.
pub(super) fn watch(
    args: &Args,
    bench: &Bench,
    rig: &mut dyn Rig,
    terminal: &Terminal,
) -> Result<Exit, Failure> {
    if !std::io::stdin().is_terminal() || !std::io::stdout().is_terminal() {
        return Err(
            Failure::usage("--watch needs a terminal").help("use --for TIME where there is none")
        );
    }
    // What the fault does not name stays as it was before it.
    let script = match args.prefault.as_slice() {
        [] => format!("hold {} for 1 s\n", during(args)?),
        given => {
            let before = outputs(args, given)?;
            format!("play\n  hold {before} for 1 s\n  hold {} for 1 s\nend\n", during(args)?)
        }
    };
    let program = bench.program(&script)?;
    let wanted = Wanted::of(args, &program, &bench.file.capability)?;
    terminal.print(&heading(bench, &program, &stages(&program, terminal)));
    let flag = install();
    let mut panel =
        if args.yes { Panel::confirming(flag.clone()) } else { Panel::asking(flag.clone()) };
    let name = &bench.file.name;
    let question = Question::permit(format!("Put this out on {name} until told otherwise"));
    if panel.ask(&question) != Answer::Confirmed {
        terminal.chat("nothing was put out\n");
        return Ok(Exit::Stopped);
    }
    let mut stages: Vec<Stimulus> = program.segments.iter().map(|s| s.profile.last()).collect();
    let fault = stages.pop().unwrap_or_default();
    let before = stages.pop();
    let first = args.outputs.first().and_then(|o| o.split_once('=')).map(|(name, _)| name.trim());
    let share = |text: &str| {
        parse_as(text, Dimension::NUMBER)
            .map_err(|e| Failure::usage(e.to_string()).help("write --step \"1 %\""))
    };
    let mut live = Live {
        during: fault,
        is_fault: before.is_none(),
        before,
        vary: args.vary.clone().unwrap_or_else(|| first.unwrap_or("i").to_owned()),
        step: share(&args.step)?,
        factor: 1.0,
        total: seconds(0.0),
        switched: seconds(0.0),
        takes: Vec::new(),
        take: false,
    };
    let varied = live.vary.clone();
    terminal.print(&format!(
        "up, down       change {varied} by {}\nt              take the readings down\n{}q, Esc, Space  off and out\n\n",
        args.step,
        if live.before.is_some() {
            "f              switch over between pre-fault and fault; starts the timer\n"
        } else {
            ""
        },
    ));
    let mut watcher = Watcher(flag);
    let raw = Raw::enter()?;
    let outcome = turns(bench, rig, &mut live, &wanted, &mut watcher, terminal);
    let off = rig.off().map_err(|e| Failure::trouble(e.to_string()));
    drop(raw);
    let off = off.and_then(|()| super::off(rig, &mut panel));
    terminal.print(&match &off {
        Ok(()) => format!("\noff after {}\n", text(live.total)),
        Err(_) => format!("\nNOT KNOWN TO BE OFF after {}: see to the rig\n", text(live.total)),
    });
    if !live.takes.is_empty() {
        terminal.print(&format!("\n{}", table_of(&live.takes, terminal)));
    }
    terminal.print(&record::write(args, bench, &script, &live.takes, Outcome::Completed)?);
    off?;
    outcome?;
    Ok(Exit::Pass)
}

/// What keys switch over between, without a time: each lasts until told otherwise.
fn stages(program: &Program, terminal: &Terminal) -> String {
    let mut table = table(["Until told otherwise", "Puts out"], terminal);
    let names = if program.segments.len() > 1 { ["pre-fault", "fault"] } else { ["out", ""] };
    for (segment, name) in program.segments.iter().zip(names) {
        table.add_row([name.to_owned(), plain(&words::profile(&segment.profile))]);
    }
    format!("{table}\n")
}

fn turns(
    bench: &Bench,
    rig: &mut dyn Rig,
    live: &mut Live,
    wanted: &Wanted,
    watcher: &mut Watcher,
    terminal: &Terminal,
) -> Result<(), Failure> {
    loop {
        let segment = Segment::hold("watch", live.stimulus(), seconds(LOOK_S));
        let mut program =
            Program { segments: vec![segment], finish: Finish::Keep, ..Program::default() };
        program.reads = at_a_glance(&wanted.probes());
        let Profile::Hold(out) = program.segments[0].profile.clone() else { return Ok(()) };
        let cleared = bench.cleared(program)?;
        let seen = rig.play(&cleared, watcher).map_err(|e| Failure::trouble(e.to_string()))?;
        for edge in &seen.edges {
            let since = live.total + edge.time - live.switched;
            let change = if edge.closed { "closes" } else { "opens" };
            let is_switched = live.switched > seconds(0.0);
            let from = if is_switched { "the switch-over" } else { "the begin" };
            let line =
                format!("{} {change} {} after {from}", plain(edge.signal.as_str()), text(since));
            terminal.print(&format!("\r\x1b[K{line}\r\n"));
        }
        live.total += seen.length();
        let mut parts = vec![format!("{:.1} s", live.total.si())];
        if live.before.is_some() {
            parts.push(if live.is_fault { "fault" } else { "pre-fault" }.to_owned());
        }
        if !live.is_fault {
            parts.push(format!("next: fault {}", live.varied()));
        }
        let inputs = bench.file.capability.inputs.iter().map(|i| i.meaning.clone());
        let at_end: Vec<Name> = inputs.filter(|signal| seen.is_closed_at_end(signal)).collect();
        parts.push(closed(&at_end));
        let named = wanted.named(&seen.readings);
        for (name, reading) in &named {
            let value = match &reading.lacks {
                None => reading.value.column_text("value").unwrap_or_default(),
                Some(_) => "–".to_owned(),
            };
            parts.push(format!("{} {value}", plain(name)));
        }
        if std::mem::take(&mut live.take) {
            let take = Take::of(&seen, cleared.program(), &named).at(live.total);
            live.takes.push(take);
            terminal.print(&format!("\r\x1b[Ktake {}\r\n", live.takes.len()));
        }
        if let Some(hertz) = out.frequency() {
            parts.push(format!("{:.3} Hz", hertz.si()));
        }
        terminal.print(&format!("\r\x1b[K{}", fitted(&parts, columns())));
        if seen.aborted() || !keys(bench, live, terminal) {
            return Ok(());
        }
    }
}

/// Takes the keys pressed meanwhile; false ends it.
fn keys(bench: &Bench, live: &mut Live, terminal: &Terminal) -> bool {
    while poll(A_GLANCE).unwrap_or(false) {
        let Ok(Event::Key(key)) = read() else { continue };
        if key.kind == KeyEventKind::Release {
            continue;
        }
        let before = live.factor;
        match key.code {
            KeyCode::Up => live.factor += live.step,
            KeyCode::Down => live.factor = (live.factor - live.step).max(0.0),
            KeyCode::Char('t' | 'T') => live.take = true,
            KeyCode::Char('f' | 'F') if live.before.is_some() => {
                live.is_fault = !live.is_fault;
                live.switched = live.total;
            }
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => return false,
            KeyCode::Char('q' | 'Q' | ' ') | KeyCode::Esc => return false,
            _ => {}
        }
        let segment = Segment::hold("watch", live.stimulus(), seconds(LOOK_S));
        let program =
            Program { segments: vec![segment], finish: Finish::Keep, ..Program::default() };
        if let Err(refused) = bench.cleared(program) {
            live.factor = before;
            // A fault that is not withstood for ever is not switched to.
            if live.is_fault && live.before.is_some() && before == live.factor {
                live.is_fault = key.code != KeyCode::Char('f') && live.is_fault;
            }
            terminal.print(&format!("\r\x1b[K{refused}\r\n"));
        }
    }
    true
}
