//! Playing a program on a thread of its own, with a line back to the instrument.

use crate::attendant::{Attendant, Present, Waiting};
use crate::live::Live;
use crate::virtual_rig::VirtualRig;
use crate::{Rig, RigError};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use waltron_core::clearance::Cleared;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Answer, Question};

/// What the instrument tells a program that plays.
#[derive(Debug, Default)]
pub(super) struct Flags {
    stop: AtomicBool,
    mark: AtomicBool,
    outside: AtomicBool,
    /// Whether outputs are off, and what was charged is being discharged.
    drains: AtomicBool,
}

impl Flags {
    pub(super) fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
    }

    pub(super) fn wants_stop(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    pub(super) fn drains(&self) -> bool {
        self.drains.load(Ordering::SeqCst)
    }

    pub(super) fn mark(&self) {
        self.mark.store(true, Ordering::SeqCst);
    }

    /// What is watched outside holds, or no longer.
    pub(super) fn outside(&self, holds: bool) {
        self.outside.store(holds, Ordering::SeqCst);
    }

    pub(super) fn reset(&self) {
        self.outside.store(false, Ordering::SeqCst);
        self.drains.store(false, Ordering::SeqCst);
        self.stop.store(false, Ordering::SeqCst);
        self.mark.store(false, Ordering::SeqCst);
    }
}

struct Remote {
    flags: Arc<Flags>,
    live: Arc<Mutex<Live>>,
}

impl Attendant for Remote {
    fn ask(&mut self, question: &Question) -> Answer {
        // Programs ask nothing.
        question.default_answer().unwrap_or(Answer::Stop)
    }

    fn mark(&mut self) -> bool {
        self.flags.mark.swap(false, Ordering::SeqCst)
    }

    fn outside(&mut self) -> bool {
        self.flags.outside.load(Ordering::SeqCst)
    }

    fn drains(&mut self) {
        self.flags.drains.store(true, Ordering::SeqCst);
    }

    fn is_watching(&self) -> bool {
        true
    }

    fn sees(&mut self, present: &Present<'_>) {
        if let Ok(mut live) = self.live.lock() {
            live.sees(present);
        }
    }

    fn waits(&mut self, waiting: &Waiting) {
        if let Ok(mut live) = self.live.lock() {
            live.waits(waiting);
        }
    }

    fn wants_to_stop(&self) -> bool {
        self.flags.wants_stop()
    }
}

/// Plays; outputs are off afterwards even if the rig's own code panics.
pub(super) fn play(
    rig: &mut VirtualRig,
    cleared: &Cleared,
    flags: Arc<Flags>,
    live: Arc<Mutex<Live>>,
) -> Result<Observation, RigError> {
    let mut remote = Remote { flags, live: Arc::clone(&live) };
    let played = catch_unwind(AssertUnwindSafe(|| rig.play(cleared, &mut remote)));
    if let Ok(mut live) = live.lock() {
        live.out = if rig.is_energised() { rig.out().clone() } else { Stimulus::off() };
    }
    played.unwrap_or_else(|_| {
        rig.off()?;
        rig.discharge(&mut remote)?;
        Err(RigError::Broken)
    })
}
