//! A rig over the wire: drives a test set by its SCPI commands.
//!
//! Programs are uploaded whole and timed by the test set. A heartbeat goes out all the time, also
//! while the attendant thinks; if this program dies or hangs, the test set's watchdog switches off.

mod charged;
mod link;

pub use link::Link;

use crate::attendant::{Attendant, Unattended};
use crate::description::Description;
use crate::live::Live;
use crate::player::wait;
use crate::rig::{Announced, Rig, RigError};
use crate::virtual_rig::Seeds;
use charged::{drains, until_discharged};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::clearance::Cleared;
use waltron_core::grading::Values;
use waltron_core::injection::capability::{Capability, ParameterValue};
use waltron_core::injection::measuring::digest_of;
use waltron_core::injection::observation::{Discharged, Observation};
use waltron_core::injection::program::{Condition, Profile, Program};
use waltron_core::quantity::{Dimension, Quantity, Time, seconds};
use waltron_core::text::name::Name;
use waltron_wire::scpi::reply::{block, number, parts, quoted};

/// What the watchdog is set to: longer than two heartbeats may be late.
const WATCHDOG: &str = "400 MS";

/// A heartbeat goes out when nothing else did for so long.
const BEAT: Duration = Duration::from_millis(100);

/// How long a discharge is waited for.
const LONGEST_DISCHARGE: Duration = Duration::from_secs(6 * 3600);

/// How long a look at a playing program may wait for its end; the attendant is asked in between.
const LOOK: &str = "20 MS";

/// How long an answer may take that waits for [`LOOK`].
const LOOK_PATIENCE: Duration = Duration::from_secs(3);

/// A test set at the other end of a line.
#[derive(Debug)]
pub struct ScpiRig {
    name: String,
    description: Description,
    capability: Capability,
    link: Arc<Mutex<Link>>,
    alive: Arc<AtomicBool>,
    heart: Option<JoinHandle<()>>,
    /// Whether something may be on.
    energised: bool,
    /// Whether a direct current was put out that is not known to be discharged since.
    may_be_charged: bool,
    /// Whether something was set besides the outputs.
    touched: bool,
    /// Which draw of scatter a simulated test set is to give the next program.
    draw: Option<u64>,
}

/// A test set as it presents itself, without being controlled.
#[derive(Clone, Debug, PartialEq)]
pub struct Presented {
    /// The four fields of `*IDN?`.
    pub identity: Vec<String>,
    /// The SCPI version it claims.
    pub version: String,
    /// What it can do, where it is a test set of this tree.
    pub description: Option<Description>,
    /// Number of the client that controls it; none: 0.
    pub owner: Option<String>,
    /// Whether anything is put out.
    pub energised: Option<bool>,
}

/// Asks who is at an address, changing nothing there.
///
/// # Errors
/// Nothing that answers, or something that is no instrument.
pub fn probe(address: &str) -> Result<Presented, RigError> {
    let mut link = Link::connect(address)?;
    let identity = identity(&mut link)?;
    // An instrument of another tree knows the common commands only.
    let version = match link.ask("SYST:VERS?") {
        Err(error @ RigError::Nonsense { .. }) => return Err(error),
        answer => answer.unwrap_or_default(),
    };
    let description = link.ask_block("INST:CAP?").ok();
    let description = description.and_then(|json| serde_json::from_slice(&json).ok());
    let (mut owner, mut energised) = (None, None);
    if description.is_some() {
        owner = Some(link.ask("SYST:LOCK:OWN?")?);
        energised = Some(link.ask("OUTP?")? != "0");
    }
    Ok(Presented { identity, version, description, owner, energised })
}

/// The four fields of `*IDN?` (IEEE 488.2, 10.14).
fn identity(link: &mut Link) -> Result<Vec<String>, RigError> {
    let answer = link.ask("*IDN?")?;
    let fields: Vec<String> = answer.split(',').map(|f| f.trim().to_owned()).collect();
    if fields.len() == 4 && answer.chars().all(|c| !c.is_control()) {
        return Ok(fields);
    }
    Err(link.nonsense(
        "*IDN?",
        answer.as_bytes(),
        "maker, model, serial number and version were wanted",
    ))
}

impl ScpiRig {
    /// Connects, takes control and compares the test set with what the rig file says.
    ///
    /// The seeds set up the simulation where the test set is a simulated one.
    ///
    /// # Errors
    /// Nothing that answers, nonsense, another client that controls, a test set that lacks something.
    pub fn connect(
        name: String,
        address: &str,
        wanted: Capability,
        seeds: Seeds,
    ) -> Result<Self, RigError> {
        let mut link = Link::connect(address)?;
        identity(&mut link)?;
        let description: Description =
            link.ask_json("INST:CAP?", |json| serde_json::from_slice(json))?;
        if link.ask("SYST:LOCK:REQ?")? != "1" {
            let owner = link.ask("SYST:LOCK:OWN?")?;
            return Err(RigError::Busy { address: address.to_owned(), owner });
        }
        link.to_test_set();
        let lacks = description.lacks(&wanted);
        if !lacks.is_empty() {
            let (address, lacks) = (address.to_owned(), lacks.join("; "));
            return Err(RigError::Different { address, lacks });
        }
        // What an earlier controller has charged is let go first: nothing is begun anew before.
        if wanted.discharge.is_some() {
            until_discharged(&mut link, &mut Unattended)?;
        }
        let mut begin = format!("*RST;*CLS;:SYST:WATC {WATCHDOG}");
        if description.simulated {
            begin.push_str(&format!(";:SIM:SEED {},0,{}", seeds.rig, seeds.specimen));
        }
        link.tell(begin.as_bytes())?;
        let link = Arc::new(Mutex::new(link));
        let alive = Arc::new(AtomicBool::new(true));
        let heart = std::thread::spawn({
            let (link, alive) = (Arc::clone(&link), Arc::clone(&alive));
            move || beat(&link, &alive)
        });
        let heart = Some(heart);
        let mut rig = Self {
            name,
            description,
            capability: wanted,
            link,
            alive,
            heart,
            energised: false,
            may_be_charged: false,
            touched: false,
            draw: None,
        };
        rig.no_errors()?;
        Ok(rig)
    }

    fn link(&self) -> MutexGuard<'_, Link> {
        self.link.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes the test set's errors, if there are any.
    fn no_errors(&mut self) -> Result<(), RigError> {
        let mut link = self.link();
        let count = link.ask("SYST:ERR:COUN?")?;
        if count.trim() == "0" {
            return Ok(());
        }
        let all = link.ask("SYST:ERR:ALL?")?;
        let errors = parts(&all).map_or_else(
            || all.clone(),
            |parts| {
                let pairs = parts.chunks(2).map(|pair| pair.join(" "));
                pairs.collect::<Vec<_>>().join("; ")
            },
        );
        Err(RigError::Reports { errors })
    }

    /// Whether what was kept on is on still: what somebody else has switched off does not come on again by itself.
    fn still_on(&mut self) -> Result<(), RigError> {
        if !self.energised || self.link().ask("OUTP?")?.trim() != "0" {
            return Ok(());
        }
        self.energised = false;
        Err(self.switched_off()?)
    }

    /// Who or what switched off; empty where nobody did.
    fn cause(&self) -> Result<String, RigError> {
        let answer = self.link().ask("PROG:STAT:CAUS?")?;
        Ok(parts(&answer).unwrap_or_default().join(", "))
    }

    /// That it is off, and by whom.
    fn switched_off(&self) -> Result<RigError, RigError> {
        Ok(RigError::SwitchedOff { cause: self.cause()? })
    }

    /// Uploads a program, begins it, and takes a first look at it.
    fn begin(&mut self, program: &Program) -> Result<String, RigError> {
        let json = program.to_json().map_err(|e| RigError::Reports { errors: e.to_string() })?;
        let mut messages = Vec::new();
        if let Some(draw) = self.draw.take().filter(|_| self.description.simulated) {
            messages.extend(format!("SIM:DRAW {draw}\n").bytes());
        }
        messages.extend(b"PROG:DEF ");
        messages.extend(block(&json));
        for (digest, channel, samples) in recordings(program) {
            messages
                .extend(format!("\nPROG:REC \"{digest}\",{},", quoted(channel.as_str())).bytes());
            let bytes: Vec<u8> = samples.iter().flat_map(|v| v.to_be_bytes()).collect();
            messages.extend(block(&bytes));
        }
        let query = format!("PROG:STAT? {LOOK}");
        messages.extend(format!("\nINIT\n{query}").bytes());
        self.energised = true;
        self.may_be_charged |= program.has_dc();
        self.link().ask_after(&messages, &query, LOOK_PATIENCE)
    }

    /// Waits for the end of what plays, passing on what the attendant wants; whether that was to
    /// stop.
    fn follow(
        &mut self,
        first: String,
        watches: bool,
        attendant: &mut dyn Attendant,
    ) -> Result<bool, RigError> {
        let query = format!("PROG:STAT? {LOOK}");
        let (mut state, mut stopping, mut outside) = (first, false, false);
        let (charges, mut is_told) = (self.capability.discharge.is_some(), false);
        loop {
            let fields = parts(&state).unwrap_or_default();
            match fields.iter().map(String::as_str).collect::<Vec<_>>()[..] {
                ["PLAY", "0"] => {}
                ["PLAY" | "DONE" | "IDLE" | "FAIL", errors] if errors != "0" => {
                    // Whatever it complains about, nothing stays on.
                    self.link().tell(b"ABOR")?;
                    return self.no_errors().map(|()| stopping);
                }
                ["DONE", _] => return Ok(stopping),
                _ => {
                    let why = "PLAY or DONE was wanted";
                    return Err(self.link().nonsense(&query, state.as_bytes(), why));
                }
            }
            if attendant.wants_to_stop() && !stopping {
                self.link().tell(b"ABOR")?;
                stopping = true;
            }
            if attendant.mark() {
                self.link().tell(b"TRIG:MARK")?;
            }
            let holds = watches && attendant.outside();
            if holds != outside {
                outside = holds;
                self.link().tell(if holds { b"TRIG:OUTS ON" } else { b"TRIG:OUTS OFF" })?;
            }
            if attendant.is_watching() {
                self.show(attendant)?;
            }
            if charges && !is_told && drains(&mut self.link())? {
                attendant.drains();
                is_told = true;
            }
            if is_told && attendant.abandons() {
                return Err(RigError::StillCharged("an unknown current".to_owned()));
            }
            state = self.link().ask_after(query.as_bytes(), &query, LOOK_PATIENCE)?;
        }
    }

    /// Takes the samples of captures, which do not come with the observation.
    fn fetch_captures(&mut self, seen: &mut Observation) -> Result<(), RigError> {
        for capture in &mut seen.captures {
            for track in &mut capture.tracks {
                let (name, of) = (quoted(capture.name.as_str()), quoted(track.of.as_str()));
                let query = format!("FETC:CAPT? {name},{of}");
                let bytes = self.link().ask_block(&query)?;
                let chunks = bytes.chunks_exact(8);
                let samples: Vec<f64> =
                    chunks.map(|c| f64::from_be_bytes(c.try_into().unwrap_or_default())).collect();
                if digest_of(&samples) != track.digest || samples.len() != track.count {
                    let why = "samples that do not belong to their digest";
                    return Err(self.link().nonsense(&query, b"", why));
                }
                track.samples = Arc::new(samples);
            }
        }
        Ok(())
    }

    fn show(&mut self, attendant: &mut dyn Attendant) -> Result<(), RigError> {
        let json = self.link().ask_block("MEAS:LIVE?")?;
        // What cannot be shown is not worth stopping for.
        if let Ok(live) = serde_json::from_slice::<Live>(&json) {
            live.show(attendant);
        }
        Ok(())
    }
}

/// Keeps the test set's watchdog quiet as long as this program lives.
fn beat(link: &Mutex<Link>, alive: &AtomicBool) {
    while alive.load(Ordering::SeqCst) {
        std::thread::sleep(BEAT / 4);
        // Whoever holds the line is speaking on it.
        if let Ok(mut link) = link.try_lock()
            && link.silent_for() > BEAT
            && link.tell(b"SYST:HEAR").is_err()
        {
            // The next thing that is asked reports it.
            return;
        }
    }
}

/// The samples that a program's recordings put out: digest, channel, samples.
fn recordings(program: &Program) -> Vec<(String, Name, Arc<Vec<f64>>)> {
    let mut all: Vec<(String, Name, Arc<Vec<f64>>)> = Vec::new();
    for segment in &program.segments {
        let Profile::Playback(playback) = &segment.profile else { continue };
        for track in &playback.recording.channels {
            let digest = playback.recording.digest.clone();
            if !all.iter().any(|(d, c, _)| *d == digest && *c == track.channel) {
                all.push((digest, track.channel.clone(), Arc::clone(&track.samples)));
            }
        }
    }
    all
}

/// Gives the readings of an observation the dimension that the rig's file knows; what does not cross the
/// line has no other.
fn with_dimensions(observation: &mut Observation, capability: &Capability) {
    fn named(values: &Values, dimension: Dimension) -> Values {
        values.iter().fold(Values::none(), |all, (name, value)| match name {
            "value" => all.with_quantity("value", Quantity { si: value.si(), dimension }),
            "angle" => all.with_value("angle", value),
            "frequency" => all.with_value("frequency", value),
            _ => all,
        })
    }
    for reading in &mut observation.readings {
        capability.restore(&mut reading.probe);
        reading.value = named(&reading.value, reading.probe.dimension);
        reading.uncertainty = named(&reading.uncertainty, reading.probe.dimension);
    }
}

impl Rig for ScpiRig {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn capability(&self) -> &Capability {
        &self.capability
    }

    fn play(
        &mut self,
        program: &Cleared,
        attendant: &mut dyn Attendant,
    ) -> Result<Observation, RigError> {
        let program = program.program();
        self.still_on()?;
        if self.capability.discharge.is_some() && !self.energised {
            until_discharged(&mut self.link(), attendant)?;
        }
        // Whoever moves something under current is told when the current is there for it.
        let moves = program.segments.iter().flat_map(|segment| &segment.moves);
        moves.for_each(|to| attendant.moves(to));
        let was_kept = self.energised;
        let first = self.begin(program)?;
        let stops = program.segments.iter().flat_map(|s| &s.stops);
        let outside = |c: &&Condition| matches!(c, Condition::Outside);
        let watches = stops.flat_map(|s| s.when.parts()).any(|c| outside(&c));
        let stopped = match self.follow(first, watches, attendant) {
            // What was to go on was off by then.
            Err(RigError::Reports { .. }) if was_kept && !self.cause()?.is_empty() => {
                return Err(self.switched_off()?);
            }
            followed => followed?,
        };
        let mut observation = self.link().ask_json("FETC:OBS?", Observation::from_json)?;
        if observation.segments.len() > program.segments.len() {
            return Err(RigError::Reports { errors: "more segments than the program has".into() });
        }
        with_dimensions(&mut observation, &self.capability);
        self.fetch_captures(&mut observation)?;
        let input = self.capability.emergency_stop.as_ref();
        let by_input = input.is_some_and(|stop| stop.has_stopped(&observation));
        if observation.aborted() && !stopped && !by_input {
            return Err(self.switched_off()?);
        }
        self.energised = observation.stays_on;
        self.may_be_charged &= observation.discharge.is_none();
        Ok(observation)
    }

    fn announce(&mut self, injection: &Announced<'_>) {
        self.draw = Some(injection.draw());
    }

    fn rest(&mut self, time: Time, attendant: &mut dyn Attendant) -> Result<(), RigError> {
        if self.description.real_time || !self.description.simulated {
            wait(time, attendant);
        } else {
            // Its time passes as told.
            let message = format!("SIM:REST {} S", number(time.value));
            self.link().tell(message.as_bytes())?;
        }
        Ok(())
    }

    fn settings(&mut self) -> Result<Vec<ReadSetting>, RigError> {
        self.link().ask_json("INST:SETT?", |json| serde_json::from_slice(json))
    }

    fn is_simulated(&self) -> bool {
        self.description.simulated
    }

    fn set(&mut self, parameter: &Name, value: ParameterValue) -> Result<(), RigError> {
        let value = match value {
            ParameterValue::Switch(on) => if on { "ON" } else { "OFF" }.to_owned(),
            ParameterValue::Si(si) => number(si),
        };
        let message = format!("SOUR:PAR {},{value}", quoted(parameter.as_str()));
        self.touched = true;
        self.link().tell(message.as_bytes())?;
        self.no_errors()
    }

    fn end_test(&mut self) -> Result<(), RigError> {
        self.off()?;
        if std::mem::take(&mut self.touched) {
            self.link().tell(b"SOUR:PAR:OFF")?;
            self.no_errors()?;
        }
        Ok(())
    }

    fn off(&mut self) -> Result<(), RigError> {
        if !self.energised {
            return Ok(());
        }
        let answer = self.link().ask_after(b"OUTP OFF\nOUTP?", "OUTP?", LOOK_PATIENCE)?;
        if answer.trim() != "0" {
            return Err(RigError::Reports { errors: "outputs that do not go off".into() });
        }
        self.energised = false;
        Ok(())
    }

    fn discharge(&mut self, attendant: &mut dyn Attendant) -> Result<Option<Discharged>, RigError> {
        if self.capability.discharge.is_none() {
            return Ok(None);
        }
        let may_be = std::mem::take(&mut self.may_be_charged);
        let waited = until_discharged(&mut self.link(), attendant)?;
        Ok(waited.filter(|waited| may_be || waited.time > seconds(0.0)))
    }
}

impl Drop for ScpiRig {
    fn drop(&mut self) {
        self.alive.store(false, Ordering::SeqCst);
        // The line may be broken; the test set switches off without its controller.
        let _ = self.link().tell(b"OUTP OFF;:SOUR:PAR:OFF;:SYST:LOCK:REL");
        if let Some(heart) = self.heart.take() {
            let _ = heart.join();
        }
    }
}
