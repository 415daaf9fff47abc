//! Ctrl-C and termination: the first asks the run to stop, the second not to wait for what is charged, the third leaves
//! at once.

use crate::exit::Exit;
use std::io::Write as _;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;

/// How often the user or the system wanted the run to stop.
#[derive(Debug, Default)]
pub(crate) struct Stop {
    times: AtomicU32,
    asked: AtomicBool,
}

/// The same for all who look at it.
pub(crate) type StopFlag = Arc<Stop>;

impl Stop {
    /// Asks once more to stop; how often it was asked for now.
    pub(crate) fn ask(&self) -> u32 {
        self.asked.store(true, Ordering::SeqCst);
        self.times.fetch_add(1, Ordering::SeqCst) + 1
    }

    /// Whether the run shall stop.
    pub(crate) fn is_asked(&self) -> bool {
        self.asked.load(Ordering::SeqCst)
    }

    /// Whether it shall end even though something is still charged.
    pub(crate) fn insists(&self) -> bool {
        self.times.load(Ordering::SeqCst) > 1
    }

    /// Whether the run shall stop, for whoever only looks at that.
    pub(crate) fn asked(&self) -> &AtomicBool {
        &self.asked
    }
}

/// How often somebody must want it until the program leaves without an end.
const LEAVES: u32 = 3;

/// What is said then.
const LEFT: &str = "\nleft at once: nobody has seen that outputs are off, or that nothing is charged; see to the rig\n";

/// Installs the handler.
pub(crate) fn install() -> StopFlag {
    let flag = StopFlag::default();
    let seen = flag.clone();
    // Without a handler the system's default ends the program, which drops nothing but comfort:
    // the record is on disk and a rig without controller switches itself off.
    let _ = ctrlc::set_handler(move || {
        if seen.ask() >= LEAVES {
            // The terminal may be what everything hangs on: it is not waited for.
            std::thread::spawn(|| {
                if crossterm::terminal::is_raw_mode_enabled().unwrap_or(false) {
                    let _ = ratatui::try_restore();
                }
                let _ = std::io::stderr().write_all(LEFT.as_bytes());
            });
            std::thread::sleep(Duration::from_millis(100));
            std::process::exit(Exit::Stopped.code().into());
        }
    });
    flag
}
