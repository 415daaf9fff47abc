//! The simulated test set: an instrument with its own SCPI commands, any specimen behind it.
//!
//! [`TestSet`] is the instrument, shared by its clients; [`Session`] is one client's line to it and
//! answers its messages; [`serve`](serve()) puts both on TCP. Programs play on a thread of their
//! own, so that the instrument listens while it injects.
//!
//! Outputs go off when the controlling client leaves, is silent for longer than the watchdog
//! allows, or anybody says so.

mod commands;
mod entry;
mod heard;
mod player;
mod serve;
mod session;

pub use commands::TREE;
pub use serve::{Served, serve};
pub use session::Session;

use crate::attendant::Unattended;
use crate::description::Description;
use crate::live::Live;
use crate::virtual_rig::{Pace, Seeds, VirtualRig};
use crate::{Rig, RigError};
use heard::Heard;
use player::Flags;
use std::collections::{BTreeMap, HashSet, VecDeque};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use waltron_core::asset::readback::ReadSetting;
use waltron_core::clearance::Cleared;
use waltron_core::injection::capability::{Capability, ParameterValue};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::quantity::seconds;
use waltron_core::text::name::Name;
use waltron_wire::scpi::{Fault, faults};

/// Builds the rig anew from seeds; `None` where it cannot be built any more.
pub type Builder = Box<dyn Fn(Seeds) -> Option<VirtualRig> + Send>;

/// The watchdog's time until a client sets another.
const WATCHDOG: Duration = Duration::from_secs(2);

/// In which stretches a discharge passes.
const DRAIN: Duration = Duration::from_millis(100);

/// Entries that the event log holds.
const MOST_ENTRIES: usize = 1000;

/// What the instrument is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Phase {
    /// Nothing; no observation is there.
    Idle,
    /// Playing.
    Playing,
    /// Done; the observation can be fetched.
    Done,
    /// The rig failed.
    Failed,
}

struct Inner {
    /// Away while it plays.
    rig: Option<VirtualRig>,
    build: Builder,
    program: Option<Program>,
    played: Option<Program>,
    observation: Option<Observation>,
    phase: Phase,
    held: bool,
    /// Since when what was charged is discharged with outputs off, in the world's time, where it is.
    draining: Option<Instant>,
    /// Whether everything is to be switched off once the program that plays has ended.
    all_off_due: bool,
    trouble: Option<String>,
    /// Who or what switched off the program that played last, before its end, or what it had kept on.
    cause: Option<String>,
    /// The controller that kept something on which somebody else switched off, until it has asked why: nothing comes
    /// on again by a program that knows nothing of that.
    unaware: Option<u64>,
    /// The clients whose connection lives.
    present: HashSet<u64>,
    controller: Option<u64>,
    watchdog: Option<Duration>,
    tripped: bool,
    log: VecDeque<(f64, String)>,
    sessions: u64,
    /// What the specimen told last of itself, for while it plays.
    told: BTreeMap<String, f64>,
}

/// The instrument, shared by its clients.
pub struct TestSet {
    description: Description,
    capability: Capability,
    inner: Mutex<Inner>,
    heard: Heard,
    changed: Condvar,
    flags: Arc<Flags>,
    live: Arc<Mutex<Live>>,
    began: Instant,
}

impl TestSet {
    /// An instrument over a virtual rig, which `build` makes anew when a client asks for it.
    pub fn new(
        description: Description,
        capability: Capability,
        rig: VirtualRig,
        build: Builder,
    ) -> Self {
        let inner = Inner {
            rig: Some(rig),
            build,
            program: None,
            played: None,
            observation: None,
            phase: Phase::Idle,
            held: false,
            draining: None,
            all_off_due: false,
            trouble: None,
            cause: None,
            unaware: None,
            present: HashSet::new(),
            controller: None,
            watchdog: Some(WATCHDOG),
            tripped: false,
            log: VecDeque::new(),
            sessions: 0,
            told: BTreeMap::new(),
        };
        Self {
            description,
            capability,
            inner: Mutex::new(inner),
            heard: Heard::default(),
            changed: Condvar::new(),
            flags: Arc::default(),
            live: Arc::default(),
            began: Instant::now(),
        }
    }

    /// What it can do.
    pub fn description(&self) -> &Description {
        &self.description
    }

    /// What it can do, as planning sees it.
    pub(crate) fn capability(&self) -> &Capability {
        &self.capability
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        // A thread that panicked has switched its rig off by dropping it; the rest stays usable.
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn note(&self, inner: &mut Inner, what: impl Into<String>) {
        if inner.log.len() == MOST_ENTRIES {
            inner.log.pop_front();
        }
        inner.log.push_back((self.began.elapsed().as_secs_f64(), what.into()));
    }

    /// Opens a session.
    pub(crate) fn open(&self) -> u64 {
        let mut inner = self.lock();
        inner.sessions += 1;
        let client = inner.sessions;
        inner.present.insert(client);
        self.heard.comes(client);
        client
    }

    /// Whether a client's connection lives; what waits of one that has gone is not done any more.
    pub(crate) fn is_present(&self, client: u64) -> bool {
        self.lock().present.contains(&client)
    }

    /// A client has gone: nothing that it sent is done any more, and if it controlled, all goes off.
    pub fn leave(&self, client: u64) {
        let mut inner = self.lock();
        inner.present.remove(&client);
        self.heard.leaves(client);
        self.give_up(&mut inner, client, "left");
    }

    /// A client gives control back: if it had it, all goes off.
    pub(crate) fn release(&self, client: u64) {
        let mut inner = self.lock();
        self.give_up(&mut inner, client, "gave control back");
    }

    fn give_up(&self, inner: &mut Inner, client: u64, how: &str) {
        if inner.controller == Some(client) {
            inner.controller = None;
            inner.unaware = None;
            // What one client asked of the watchdog is nothing that the next one knows of.
            inner.watchdog = Some(WATCHDOG);
            let how = format!("client {client} {how}");
            self.note(inner, how.as_str());
            self.all_off_in(inner, &how);
        }
    }

    /// Whether anything is put out.
    pub fn is_energised(&self) -> bool {
        let inner = self.lock();
        (inner.phase == Phase::Playing && !self.flags.drains()) || inner.held
    }

    /// Whether something is charged, with outputs off.
    pub fn is_charged(&self) -> bool {
        let inner = self.lock();
        let holds = |rig: &VirtualRig| !rig.is_energised() && rig.is_charged();
        inner.draining.is_some()
            || inner.rig.as_ref().is_some_and(holds)
            || (inner.phase == Phase::Playing && self.flags.drains())
    }

    /// Whether what was put out last counts as discharged by a meter that had shown nothing before either.
    pub(crate) fn is_unseen(&self) -> bool {
        self.lock().rig.as_ref().is_some_and(VirtualRig::is_unseen)
    }

    /// Whether what was charged is being discharged in the world's time.
    pub(crate) fn is_draining(&self) -> bool {
        let inner = self.lock();
        inner.draining.is_some() || (inner.phase == Phase::Playing && self.flags.drains())
    }

    /// Switches a rig's outputs off; what was charged is discharged from now on.
    fn rig_off(&self, inner: &mut Inner) {
        let real_time = self.description.real_time;
        let Some(rig) = &mut inner.rig else { return };
        if !rig.off_at_once() {
            return;
        }
        match real_time {
            true => inner.draining = inner.draining.or_else(|| Some(Instant::now())),
            // What is left, where it does not go, is asked for: `OUTPut:CHARged?`.
            false => drop(rig.discharge(&mut Unattended)),
        }
    }

    /// Lets what drains drain on, as the world's time passes.
    fn drain(&self, inner: &mut Inner) {
        let (Some(since), Some(rig)) = (inner.draining, &mut inner.rig) else { return };
        let passed = since.elapsed();
        // In stretches that can be looked at.
        if passed < DRAIN {
            return;
        }
        let time = seconds(passed.as_secs_f64());
        let left = rig.drain(Pace::Fast, time, &mut Unattended).filter(|left| !left.is_done);
        inner.draining = left.is_some().then(Instant::now);
        if left.is_none() {
            self.note(inner, "discharged");
        }
    }

    /// Lets what is kept on between two programs go on, as the world's time passes.
    fn go_on(&self, inner: &mut Inner) {
        if !inner.held {
            return;
        }
        let Some(rig) = &mut inner.rig else { return };
        let closed = rig.go_on();
        if let Ok(mut live) = self.live.lock() {
            live.closed = closed;
        }
        if !inner.rig.as_ref().is_some_and(VirtualRig::is_energised) {
            inner.unaware = inner.controller;
            self.off_in(inner, "the emergency stop");
        }
    }

    /// Notes that a client was heard of.
    pub(crate) fn hear(&self, client: u64) {
        self.heard.hear(client);
    }

    /// Switches off where the controller has been silent for too long.
    pub fn watch(&self) {
        let mut inner = self.lock();
        self.drain(&mut inner);
        self.go_on(&mut inner);
        let (Some(limit), Some(silent)) = (inner.watchdog, inner.controller) else { return };
        if self.heard.silence(silent) <= limit {
            return;
        }
        // Control is held by who speaks; outputs need a controller.
        inner.controller = None;
        inner.watchdog = Some(WATCHDOG);
        let why = format!("the watchdog: client {silent} is silent");
        if inner.held {
            inner.unaware = Some(silent);
        }
        if inner.phase == Phase::Playing || inner.held {
            inner.tripped = true;
            self.note(&mut inner, why.as_str());
        }
        self.all_off_in(&mut inner, &why);
    }

    /// Switches off for a client; a program that plays ends at once, and keeps the reason.
    pub(crate) fn off(&self, client: u64, why: &str) {
        let mut inner = self.lock();
        if inner.held && inner.controller != Some(client) {
            inner.unaware = inner.controller;
        }
        self.off_in(&mut inner, why);
    }

    /// Why what was played last, or kept on, is off; whoever kept it on knows now.
    pub(crate) fn cause(&self, client: u64) -> String {
        let mut inner = self.lock();
        inner.unaware = inner.unaware.filter(|unaware| *unaware != client);
        inner.cause.clone().unwrap_or_default()
    }

    /// Switches off, and what can be set besides the outputs too.
    pub(crate) fn all_off(&self, why: &str) {
        let mut inner = self.lock();
        self.all_off_in(&mut inner, why);
    }

    fn all_off_in(&self, inner: &mut Inner, why: &str) {
        self.off_in(inner, why);
        match &mut inner.rig {
            Some(rig) => rig.parameters_off(),
            // Whoever brings it back does it.
            None => inner.all_off_due = true,
        }
    }

    fn off_in(&self, inner: &mut Inner, why: &str) {
        if (inner.phase == Phase::Playing && inner.cause.is_none()) || inner.held {
            inner.cause = Some(why.to_owned());
        }
        self.flags.stop();
        self.rig_off(inner);
        if inner.held || inner.phase == Phase::Playing {
            self.note(inner, "outputs off");
        }
        inner.held = false;
        self.changed.notify_all();
    }

    /// Takes control for a client; false where another has it.
    pub(crate) fn take_control(&self, client: u64) -> bool {
        let mut inner = self.lock();
        if inner.controller.is_none() && inner.present.contains(&client) {
            inner.controller = Some(client);
            inner.tripped = false;
            self.note(&mut inner, format!("client {client} controls"));
        }
        inner.controller == Some(client)
    }

    fn begin(self: &Arc<Self>, cleared: Cleared) -> Result<(), &'static str> {
        let mut inner = self.lock();
        if inner.phase == Phase::Playing {
            return Err("a program is playing");
        }
        if inner.unaware.is_some() && inner.unaware == inner.controller {
            return Err("what was kept on was switched off meanwhile: PROGram:STATe:CAUSe?");
        }
        if inner.draining.is_some() {
            return Err("what was charged is being discharged");
        }
        inner.unaware = None;
        let Some(mut rig) = inner.rig.take() else { return Err("the rig has failed") };
        inner.phase = Phase::Playing;
        inner.observation = None;
        inner.trouble = None;
        inner.cause = None;
        inner.played = Some(cleared.program().clone());
        self.note(&mut inner, "program begins");
        self.flags.reset();
        let (flags, live) = (Arc::clone(&self.flags), Arc::clone(&self.live));
        let this = Arc::clone(self);
        std::thread::spawn(move || {
            let seen = player::play(&mut rig, &cleared, flags, live);
            this.finished(rig, seen);
        });
        Ok(())
    }

    fn finished(&self, rig: VirtualRig, seen: Result<Observation, RigError>) {
        let mut inner = self.lock();
        inner.held = rig.is_energised();
        inner.rig = Some(rig);
        let all_off = std::mem::take(&mut inner.all_off_due);
        // Somebody may have switched off after the last look at the flag.
        if self.flags.wants_stop() || all_off {
            self.rig_off(&mut inner);
            inner.held = false;
        }
        if let Some(rig) = inner.rig.as_mut().filter(|_| all_off) {
            rig.parameters_off();
        }
        match seen {
            Ok(observation) => {
                for edge in &observation.edges {
                    let state = if edge.closed { "closes" } else { "opens" };
                    let what = format!("{} {state} at {} s", edge.signal, edge.time.value);
                    self.note(&mut inner, what);
                }
                let ended = if observation.aborted() {
                    if self.is_stopped_by_input(&observation) {
                        inner.cause = Some("the emergency stop".to_owned());
                    }
                    let by = inner.cause.as_deref().unwrap_or("the rig");
                    format!("program ended by {by}")
                } else {
                    inner.cause = None;
                    "program ends".to_owned()
                };
                self.note(&mut inner, ended);
                inner.observation = Some(observation);
                inner.phase = Phase::Done;
            }
            Err(error) => {
                inner.trouble = Some(error.to_string());
                inner.phase = Phase::Failed;
            }
        }
        self.changed.notify_all();
    }

    /// Whether the emergency stop was in its stopping state at an observation's end.
    fn is_stopped_by_input(&self, seen: &Observation) -> bool {
        let stop = self.capability.emergency_stop.as_ref();
        stop.is_some_and(|stop| stop.has_stopped(seen))
    }

    /// Waits until nothing plays, at most for a time; the phase then.
    fn wait(&self, most: Duration) -> Phase {
        let inner = self.lock();
        let playing = |inner: &mut Inner| inner.phase == Phase::Playing;
        let waited = self.changed.wait_timeout_while(inner, most, playing);
        waited.unwrap_or_else(PoisonError::into_inner).0.phase
    }

    /// Builds the simulated asset anew.
    fn reseed(&self, seeds: Seeds) -> bool {
        let mut inner = self.lock();
        // What is charged is not replaced by something that is not.
        if inner.phase == Phase::Playing || inner.draining.is_some() {
            return false;
        }
        let Some(rig) = (inner.build)(seeds) else { return false };
        inner.rig = Some(rig);
        inner.held = false;
        true
    }

    fn set(&self, parameter: &Name, value: ParameterValue) -> Result<(), RigError> {
        let mut inner = self.lock();
        match &mut inner.rig {
            Some(rig) => rig.set(parameter, value),
            None => Err(RigError::Playing),
        }
    }

    /// Does something with the rig while it does not play.
    fn with_rig<T>(&self, act: impl FnOnce(&mut VirtualRig) -> T) -> Result<T, Fault> {
        let mut inner = self.lock();
        match &mut inner.rig {
            Some(rig) => Ok(act(rig)),
            None => Err(faults::SETTINGS_CONFLICT.because("a program is playing")),
        }
    }

    /// What its specimen tells of itself; while it plays, what it told last.
    pub fn reading(&self, name: &str) -> Option<f64> {
        let mut inner = self.lock();
        if let Some(rig) = &inner.rig {
            let now = rig.reading(name)?;
            inner.told.insert(name.to_owned(), now);
        }
        inner.told.get(name).copied()
    }

    fn settings(&self) -> Vec<ReadSetting> {
        self.lock().rig.as_mut().and_then(|rig| rig.settings().ok()).unwrap_or_default()
    }
}
