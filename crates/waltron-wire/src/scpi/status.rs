//! Status registers and the error queue (IEEE 488.2, 11; SCPI-1999 volume 1, 9, volume 2, 20, 21).

use super::error::{Fault, faults};
use std::collections::VecDeque;

/// Errors that the queue holds before it overflows.
const MOST_ERRORS: usize = 64;

/// Bits of the standard event status register (IEEE 488.2, 11.5.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Event {
    /// Bit 0: an operation that was asked for is complete.
    OperationComplete = 0x01,
    /// Bit 2: a query cannot be answered.
    Query = 0x04,
    /// Bit 3: an error of the instrument itself.
    Device = 0x08,
    /// Bit 4: a command cannot be carried out.
    Execution = 0x10,
    /// Bit 5: a command cannot be read.
    Command = 0x20,
    /// Bit 7: switched on.
    PowerOn = 0x80,
}

/// A condition register with the events that its bits have caused.
#[derive(Clone, Copy, Debug, Default)]
struct Register {
    condition: u16,
    event: u16,
    enable: u16,
}

/// The two summarised registers of SCPI.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Summary {
    /// What the instrument is doing.
    Operation,
    /// What makes its values doubtful.
    Questionable,
}

/// What an instrument tells of itself.
#[derive(Clone, Debug)]
pub struct Status {
    queue: VecDeque<Fault>,
    event: u8,
    event_enable: u8,
    service_enable: u8,
    operation: Register,
    questionable: Register,
}

impl Default for Status {
    fn default() -> Self {
        Self {
            queue: VecDeque::new(),
            event: Event::PowerOn as u8,
            event_enable: 0,
            service_enable: 0,
            operation: Register::default(),
            questionable: Register::default(),
        }
    }
}

impl Status {
    /// Queues an error and notes its class. The queue's last place says that it overflowed.
    pub fn fault(&mut self, fault: Fault) {
        self.note(match fault.number {
            -199..=-100 => Event::Command,
            -299..=-200 => Event::Execution,
            -499..=-400 => Event::Query,
            _ => Event::Device,
        });
        if self.queue.len() < MOST_ERRORS {
            self.queue.push_back(fault);
        } else if let Some(last) = self.queue.back_mut() {
            *last = faults::QUEUE_OVERFLOW.clone();
        }
    }

    /// Notes an event.
    pub fn note(&mut self, event: Event) {
        self.event |= event as u8;
    }

    /// Takes the oldest error out; `0,"No error"` where there is none.
    pub fn next_error(&mut self) -> Fault {
        self.queue.pop_front().unwrap_or(faults::NONE)
    }

    /// Number of errors in the queue.
    pub fn errors(&self) -> usize {
        self.queue.len()
    }

    /// `*CLS`: clears events and errors.
    pub fn clear(&mut self) {
        self.queue.clear();
        self.event = 0;
        self.operation.event = 0;
        self.questionable.event = 0;
    }

    /// `*ESR?`: the standard events, which reading clears.
    pub fn take_events(&mut self) -> u8 {
        std::mem::take(&mut self.event)
    }

    /// `*ESE`.
    pub fn event_enable(&self) -> u8 {
        self.event_enable
    }

    /// Sets `*ESE`.
    pub fn enable_events(&mut self, mask: u8) {
        self.event_enable = mask;
    }

    /// `*SRE`; bit 6 is never set (IEEE 488.2, 11.3.2.3).
    pub fn service_enable(&self) -> u8 {
        self.service_enable
    }

    /// Sets `*SRE`.
    pub fn enable_service(&mut self, mask: u8) {
        self.service_enable = mask & !0x40;
    }

    /// `*STB?`: the status byte, with the master summary in bit 6. `answers`: a reply is waiting.
    pub fn byte(&self, answers: bool) -> u8 {
        let bit = |set: bool, bit: u8| if set { 1 << bit } else { 0 };
        let summary = |r: &Register| r.event & r.enable != 0;
        let byte = bit(!self.queue.is_empty(), 2)
            | bit(summary(&self.questionable), 3)
            | bit(answers, 4)
            | bit(self.event & self.event_enable != 0, 5)
            | bit(summary(&self.operation), 7);
        byte | bit(byte & self.service_enable != 0, 6)
    }

    fn register(&mut self, which: Summary) -> &mut Register {
        match which {
            Summary::Operation => &mut self.operation,
            Summary::Questionable => &mut self.questionable,
        }
    }

    /// Sets a condition; bits that rise become events.
    pub fn set_condition(&mut self, which: Summary, condition: u16) {
        let register = self.register(which);
        register.event |= condition & !register.condition;
        register.condition = condition;
    }

    /// The condition as it is.
    pub fn condition(&mut self, which: Summary) -> u16 {
        self.register(which).condition
    }

    /// The events, which reading clears.
    pub fn take_register(&mut self, which: Summary) -> u16 {
        std::mem::take(&mut self.register(which).event)
    }

    /// The mask.
    pub fn enable(&mut self, which: Summary) -> u16 {
        self.register(which).enable
    }

    /// Sets the mask; bit 15 is never used.
    pub fn set_enable(&mut self, which: Summary, mask: u16) {
        self.register(which).enable = mask & 0x7fff;
    }

    /// `STATus:PRESet`: no summary reports anything.
    pub fn preset(&mut self) {
        self.operation.enable = 0;
        self.questionable.enable = 0;
    }
}
