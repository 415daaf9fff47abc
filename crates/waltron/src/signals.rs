//! Ctrl-C and termination: the first asks the run to stop, the second leaves at once.

use crate::exit::Exit;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Set once the user or the system wants the run to stop.
pub(crate) type StopFlag = Arc<AtomicBool>;

/// Installs the handler.
pub(crate) fn install() -> StopFlag {
    let flag = StopFlag::default();
    let seen = flag.clone();
    // Without a handler the system's default ends the program, which drops nothing but comfort:
    // the record is on disk and a rig without controller switches itself off.
    let _ = ctrlc::set_handler(move || {
        if seen.swap(true, Ordering::SeqCst) {
            std::process::exit(Exit::Stopped.code().into());
        }
    });
    flag
}
