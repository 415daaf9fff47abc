//! Lines typed on stdin, read beside the run so that nothing waits for them but prompts.

use crate::signals::StopFlag;
use std::cell::Cell;
use std::io::BufRead;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};

/// What came instead of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Silence {
    /// There is no more input.
    Closed,
    /// Nobody typed for as long as was allowed.
    TimedOut,
    /// The run shall stop.
    Stopped,
}

/// When lines are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Reading {
    /// Whenever they are typed.
    Always,
    /// Only while one is waited for, so that stdin is free for others afterwards.
    WhenAsked,
}

/// The lines typed so far.
#[derive(Debug)]
pub(super) struct Lines {
    typed: Receiver<String>,
    /// Asks for one more line; `None` where all are read.
    wanted: Option<Sender<()>>,
    /// Whether a line was asked for and has not come.
    due: Cell<bool>,
}

/// How often the stop flag is looked at while waiting.
const GLANCE: Duration = Duration::from_millis(50);

impl Lines {
    /// Begins to read stdin.
    pub(super) fn begin(reading: Reading) -> Self {
        let (to, typed) = channel();
        let (wanted, asked) = channel::<()>();
        let always = reading == Reading::Always;
        std::thread::spawn(move || {
            while always || asked.recv().is_ok() {
                let mut line = String::new();
                match std::io::stdin().lock().read_line(&mut line) {
                    Ok(0) | Err(_) => return,
                    Ok(_) if to.send(line.trim().to_owned()).is_err() => return,
                    Ok(_) => {}
                }
            }
        });
        Self { typed, wanted: (!always).then_some(wanted), due: Cell::new(false) }
    }

    /// Waits for a line.
    ///
    /// # Errors
    /// Why there is none.
    pub(super) fn wait(&self, limit: Option<Duration>, stop: &StopFlag) -> Result<String, Silence> {
        if let Some(wanted) = self.wanted.as_ref().filter(|_| !self.due.replace(true)) {
            // A reader that is gone shows below.
            let _ = wanted.send(());
        }
        let began = Instant::now();
        loop {
            if stop.is_asked() {
                return Err(Silence::Stopped);
            }
            if limit.is_some_and(|limit| began.elapsed() >= limit) {
                return Err(Silence::TimedOut);
            }
            match self.typed.recv_timeout(GLANCE) {
                Ok(line) => {
                    self.due.set(false);
                    return Ok(line);
                }
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return Err(Silence::Closed),
            }
        }
    }

    /// A line that was typed without being asked for.
    pub(super) fn unasked(&self) -> Option<String> {
        self.typed.try_recv().ok()
    }
}
