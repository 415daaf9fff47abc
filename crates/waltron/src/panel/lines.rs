//! Lines typed on stdin, read beside the run so that nothing waits for them but prompts.

use crate::signals::StopFlag;
use std::io::BufRead;
use std::sync::atomic::Ordering;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
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

/// The lines typed so far.
#[derive(Debug)]
pub(super) struct Lines {
    typed: Receiver<String>,
}

/// How often the stop flag is looked at while waiting.
const GLANCE: Duration = Duration::from_millis(50);

impl Lines {
    /// Begins to read stdin.
    pub(super) fn begin() -> Self {
        let (to, typed) = channel();
        std::thread::spawn(move || {
            for line in std::io::stdin().lock().lines() {
                let Ok(line) = line else { return };
                if to.send(line.trim().to_owned()).is_err() {
                    return;
                }
            }
        });
        Self { typed }
    }

    /// Waits for a line.
    ///
    /// # Errors
    /// Why there is none.
    pub(super) fn wait(&self, limit: Option<Duration>, stop: &StopFlag) -> Result<String, Silence> {
        let began = Instant::now();
        loop {
            if stop.load(Ordering::Relaxed) {
                return Err(Silence::Stopped);
            }
            if limit.is_some_and(|limit| began.elapsed() >= limit) {
                return Err(Silence::TimedOut);
            }
            match self.typed.recv_timeout(GLANCE) {
                Ok(line) => return Ok(line),
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
