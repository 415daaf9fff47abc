//! `waltron rig`: who is there, what it can do, and the simulated test set.

use crate::cli::rig::{Rig as Args, RigList, RigProbe, RigServe};
use crate::cli::{Format, PaceArg};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::kind::{Kind, read_as};
use crate::rigs::{Setup, virtual_rig};
use crate::signals::install;
use crate::terminal::{BAD, STRONG, Terminal, plain, styled};
use serde_json::json;
use std::io::ErrorKind;
use std::net::TcpListener;
use std::sync::Arc;
use waltron_core::injection::capability::ParameterKind;
use waltron_core::quantity::text;
use waltron_rig::Description;
use waltron_rig::instruments::InstrumentForm;
use waltron_rig::scpi_rig::{Presented, probe};
use waltron_rig::stand_in::serve_registers;
use waltron_rig::test_set::{Served, TestSet, serve};
use waltron_rig::virtual_rig::{Pace, Seeds};
use waltron_rig::{RigFile, RigForm, RigKind};

/// Does what was asked.
///
/// # Errors
/// Nothing that answers, an address that cannot be listened on, files that cannot be read.
pub(crate) fn rig(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    match args {
        Args::Probe(args) => probed(args, terminal),
        Args::Serve(args) => served(args, terminal),
        Args::List(args) => listed(args, terminal),
    }
}

fn probed(args: &RigProbe, terminal: &Terminal) -> Result<Exit, Failure> {
    let found = probe(&args.address).map_err(|e| {
        Failure::trouble(e.to_string()).help("an address is host and port, such as 192.0.2.7:5025")
    })?;
    if args.format == Format::Json {
        let json = json!({
            "address": args.address,
            "identity": found.identity,
            "scpi_version": found.version,
            "test_set": found.description,
            "controller": found.owner.as_deref().filter(|o| *o != "0"),
            "energised": found.energised,
        });
        terminal.print_json(json);
    } else {
        terminal.print(&presented(args, &found));
    }
    Ok(Exit::Pass)
}

fn presented(args: &RigProbe, found: &Presented) -> String {
    let identity: Vec<String> = found.identity.iter().map(|f| plain(f)).collect();
    let model = identity.get(1).cloned().unwrap_or_default();
    let mut out = format!("{} at {}\n", styled(STRONG, &model), plain(&args.address));
    out.push_str(&format!(
        "maker {}, serial {}, version {}, SCPI {}\n",
        identity.first().map_or("", String::as_str),
        identity.get(2).map_or("", String::as_str),
        identity.get(3).map_or("", String::as_str),
        if found.version.is_empty() {
            "version not told".to_owned()
        } else {
            plain(&found.version)
        },
    ));
    let Some(d) = &found.description else {
        out.push_str(
            "It is no test set that plays programs; an instrument file lets sequences use it\n",
        );
        return out;
    };
    if d.simulated {
        let pace = if d.real_time { "in real time" } else { "as fast as it computes" };
        out.push_str(&format!("simulated, {pace}\n"));
    }
    out.push_str(&match found.owner.as_deref() {
        Some("0") | None => "free\n".to_owned(),
        Some(owner) => format!("controlled by client {}\n", plain(owner)),
    });
    out.push_str(&if found.energised == Some(true) {
        format!("{}\n", styled(BAD, "OUTPUTS ARE ON"))
    } else {
        "outputs are off\n".to_owned()
    });
    for c in &d.channels {
        let range = match (c.range_a, c.range_v) {
            (Some(a), _) => format!("{a} A"),
            (_, Some(v)) => format!("{v} V"),
            _ => String::new(),
        };
        out.push_str(&format!("  output  {:<8} up to {range}\n", plain(c.id.as_str())));
    }
    for (id, meaning) in &d.inputs {
        out.push_str(&format!("  input   {:<8} {}\n", plain(id.as_str()), plain(meaning.as_str())));
    }
    out
}

fn served(args: &RigServe, terminal: &Terminal) -> Result<Exit, Failure> {
    let source = read_as(Kind::Rig, &args.rig)?;
    let file = RigForm::load(&source)?;
    let RigKind::Virtual { specimen } = file.kind.clone() else {
        return Err(Failure::file(&args.rig, "this rig is a test set itself, it cannot be served")
            .help("give the file of a virtual rig"));
    };
    let pace = if args.pace == PaceArg::Real { Pace::Real } else { Pace::Fast };
    let seeds = args.seed.map_or(file.seeds, Seeds::from);
    // Mistakes in the specimen's file show before anybody connects.
    let first = virtual_rig(&file, &specimen, &source, &args.rig, Setup { seeds, pace })?;
    let (listener, address) = listening(&args.listen, "--listen 127.0.0.1:5026")?;
    let description = Description::of(&file.name, &file.capability, true, pace == Pace::Real);
    let capability = file.capability.clone();
    let path = args.rig.clone();
    let build = move |seeds: Seeds| {
        virtual_rig(&file, &specimen, &source, &path, Setup { seeds, pace }).ok()
    };
    let set = Arc::new(TestSet::new(description, capability, first, Box::new(build)));
    let registers = args.registers.as_ref().map(|file| {
        let file = InstrumentForm::load(&read_as(Kind::Instrument, file)?)?;
        let listener = listening(&args.registers_at, "--registers-at 127.0.0.1:1503")?;
        Ok::<_, Failure>((file, listener))
    });
    let registers = registers.transpose()?;
    terminal.print(&format!("Test set at {address}, Ctrl-C ends it\n"));
    if let Some((file, (_, at))) = &registers {
        terminal
            .print(&format!("{} answers for its registers at {at}\n", plain(file.name.as_str())));
    }
    let stop = install();
    let quiet = *terminal;
    let tell = move |event: Served| {
        quiet.chat(&match event {
            Served::Came(id, from) => format!("client {id} from {from}\n"),
            Served::Left(id) => format!("client {id} left\n"),
            Served::Refused(from) => format!("a client from {from} was refused: too many\n"),
        });
    };
    let tells = |name: &str| set.reading(name);
    let (served, answered) = std::thread::scope(|scope| {
        let beside = registers.as_ref().map(|(file, (listener, _))| {
            scope.spawn(|| serve_registers(listener, file, &tells, stop.asked()))
        });
        let served = serve(&listener, &set, stop.asked(), &tell);
        let answered =
            beside.map(|beside| beside.join().unwrap_or_else(|_| Err(ErrorKind::Other.into())));
        (served, answered)
    });
    served.map_err(|e| Failure::trouble(format!("the test set failed, outputs are off: {e}")))?;
    answered.transpose().map_err(|e| Failure::trouble(format!("the registers failed: {e}")))?;
    Ok(Exit::Pass)
}

/// A listener with its address as it came to be.
fn listening(wanted: &str, other: &str) -> Result<(TcpListener, String), Failure> {
    let listener = TcpListener::bind(wanted).map_err(|e| {
        Failure::trouble(format!("cannot listen on {wanted}: {e}"))
            .help(format!("choose another one, such as {other}, or port 0 for a free one"))
    })?;
    let address = listener.local_addr().map_or_else(|_| wanted.to_owned(), |a| a.to_string());
    Ok((listener, address))
}

fn listed(args: &RigList, terminal: &Terminal) -> Result<Exit, Failure> {
    let file: RigFile = RigForm::load(&read_as(Kind::Rig, &args.rig)?)?;
    let c = &file.capability;
    let mut out = format!("{}\n", styled(STRONG, &plain(&file.name)));
    out.push_str(&match &file.kind {
        RigKind::Virtual { specimen } => format!("virtual, specimen {}\n", plain(specimen)),
        RigKind::Scpi { address } => format!("test set at {}\n", plain(address)),
    });
    let at = |id: &str| match file.terminal(id) {
        terminal if terminal == id => String::new(),
        terminal => format!("  at {}", plain(terminal)),
    };
    for o in &c.currents {
        let (id, range) = (o.id.as_str(), text(o.range));
        out.push_str(&format!(
            "  output  {id:<8} up to {range}, accuracy {}{}\n",
            o.accuracy,
            at(id)
        ));
    }
    for o in &c.voltages {
        let (id, range) = (o.id.as_str(), text(o.range));
        out.push_str(&format!(
            "  output  {id:<8} up to {range}, accuracy {}{}\n",
            o.accuracy,
            at(id)
        ));
    }
    for i in &c.inputs {
        let (id, meaning) = (i.id.as_str(), plain(i.meaning.as_str()));
        out.push_str(&format!("  input   {id:<8} {meaning}{}\n", at(id)));
    }
    for r in &c.readings {
        out.push_str(&format!("  reads   {}\n", plain(r.name.as_str())));
    }
    for p in &c.parameters {
        let takes = match p.kind {
            ParameterKind::Switch => "on or off".to_owned(),
            ParameterKind::Quantity { dimension, most } => {
                format!("up to {}", waltron_core::quantity::Quantity { si: most, dimension })
            }
        };
        out.push_str(&format!("  sets    {:<16} {takes}\n", plain(p.name.as_str())));
    }
    out.push_str(&format!(
        "  times   to {}, accuracy {}\n",
        text(c.timing_resolution),
        c.timing_accuracy
    ));
    if let Some(stop) = &c.emergency_stop {
        let by = if stop.when_closed { "closes" } else { "opens" };
        out.push_str(&format!("  emergency stop when `{}` {by}\n", plain(stop.signal.as_str())));
    }
    terminal.print(&out);
    Ok(Exit::Pass)
}
