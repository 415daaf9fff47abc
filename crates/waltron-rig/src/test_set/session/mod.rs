//! One client's line to the test set: its status, its error queue, its answers.

mod asking;
mod playable;
mod telling;

use super::commands::{Meaning, TREE};
use super::{Phase, TestSet, entry};
use std::sync::Arc;
use std::time::{Duration, Instant};
use waltron_wire::scpi::{Event, Fault, Status, Summary, Unit, faults, parse};

/// Longest that `PROGram:STATe?` waits.
const MOST_WAIT: Duration = Duration::from_secs(10);

/// Bit 4 of the operation register: measuring, which here is playing (SCPI-1999 volume 1, 9.3).
const OPERATION_PLAYING: u16 = 1 << 4;

/// Bits 9 and 10 of the questionable register, which the standard leaves to the designer.
const QUESTIONABLE_WATCHDOG: u16 = 1 << 9;
const QUESTIONABLE_INTERLOCK: u16 = 1 << 10;

/// One client's line to the test set.
pub struct Session {
    set: Arc<TestSet>,
    id: u64,
    status: Status,
    opc: bool,
    swapped: bool,
}

/// What came of a command: an answer to a query, or nothing.
type Answer = Result<Option<Vec<u8>>, Fault>;

impl Session {
    /// Opens a line.
    pub fn new(set: Arc<TestSet>) -> Self {
        let id = set.open();
        Self { set, id, status: Status::default(), opc: false, swapped: false }
    }

    /// The client's number.
    pub fn id(&self) -> u64 {
        self.id
    }

    /// Queues an error that came about before a message could be read.
    pub fn fault(&mut self, fault: Fault) {
        self.status.fault(fault);
    }

    /// Carries a message out; what it answers, with its terminator, is empty where nothing was
    /// asked. Answers of one message are separated by semicolons.
    pub fn handle(&mut self, message: &[u8]) -> Vec<u8> {
        self.set.heard.waits(self.id, true);
        let answer = self.carry_out(message);
        self.set.heard.waits(self.id, false);
        answer
    }

    fn carry_out(&mut self, message: &[u8]) -> Vec<u8> {
        let (units, fault) = parse(message);
        let mut out: Vec<u8> = Vec::new();
        for unit in &units {
            // A unit before this one may have waited until its client was gone.
            if !self.set.is_present(self.id) {
                return Vec::new();
            }
            match self.unit(unit, !out.is_empty()) {
                Ok(Some(answer)) => {
                    if !out.is_empty() {
                        out.push(b';');
                    }
                    out.extend(answer);
                }
                Ok(None) => {}
                Err(fault) => self.status.fault(fault),
            }
        }
        if let Some(fault) = fault {
            self.status.fault(fault);
        }
        if !out.is_empty() {
            out.push(b'\n');
        }
        out
    }

    fn unit(&mut self, unit: &Unit, answers: bool) -> Answer {
        let p = &unit.parameters;
        let meaning = TREE.find(&unit.header, p.len())?;
        self.refresh();
        if needs_control(meaning) && !unit.header.query && !self.set.take_control(self.id) {
            return Err(faults::COMMAND_PROTECTED.because("another client controls"));
        }
        if unit.header.query {
            return self.ask(meaning, p, answers).map(Some);
        }
        self.tell(meaning, p).map(|()| None)
    }

    /// Brings the condition registers up to date.
    fn refresh(&mut self) {
        let (playing, tripped) = {
            let inner = self.set.lock();
            (inner.phase == Phase::Playing, inner.tripped)
        };
        if self.opc && !playing {
            self.opc = false;
            self.status.note(Event::OperationComplete);
        }
        let operation = if playing { OPERATION_PLAYING } else { 0 };
        self.status.set_condition(Summary::Operation, operation);
        let mut questionable = if tripped { QUESTIONABLE_WATCHDOG } else { 0 };
        if self.interlock() {
            questionable |= QUESTIONABLE_INTERLOCK;
        }
        self.status.set_condition(Summary::Questionable, questionable);
    }

    /// Whether the emergency stop is in its stopping state.
    fn interlock(&self) -> bool {
        let inner = self.set.lock();
        inner.observation.as_ref().is_some_and(|seen| self.set.is_stopped_by_input(seen))
    }

    /// Waits until nothing plays, at most for a time; the phase then.
    fn wait_until_done(&self, most: Duration) -> Phase {
        let began = Instant::now();
        loop {
            let left = most.saturating_sub(began.elapsed());
            let phase = self.set.wait(left.min(Duration::from_millis(100)));
            if phase != Phase::Playing || left.is_zero() || !self.set.is_present(self.id) {
                return phase;
            }
        }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        self.set.leave(self.id);
    }
}

/// Commands that only the controlling client may give. Switching off is everybody's.
fn needs_control(meaning: Meaning) -> bool {
    use Meaning as M;
    matches!(
        meaning,
        M::Reset
            | M::Begin
            | M::Define
            | M::Recording
            | M::Delete
            | M::SegmentNew
            | M::SegmentCurrent
            | M::SegmentVoltage
            | M::SegmentTime
            | M::SegmentStop
            | M::SegmentSwitch
            | M::SegmentRead
            | M::Finish
            | M::Mark
            | M::Outside
            | M::Watchdog
            | M::Parameter
            | M::ParametersOff
            | M::Seed
            | M::Draw
            | M::Rest
    )
}
