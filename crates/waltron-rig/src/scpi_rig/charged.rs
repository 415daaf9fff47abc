//! Waiting until a test set says that nothing is charged any more.

use super::link::Link;
use super::{BEAT, LONGEST_DISCHARGE};
use crate::attendant::Attendant;
use crate::rig::RigError;
use std::time::Instant;
use waltron_core::injection::observation::Discharged;
use waltron_core::quantity::seconds;

/// What a test set says of what it has charged.
enum Charged {
    Nothing,
    Draining,
    /// Nothing by a meter that showed nothing before either.
    Unseen,
}

fn charged(link: &mut Link) -> Result<Charged, RigError> {
    let answer = link.ask("OUTP:CHAR?")?;
    match answer.trim() {
        "0" => Ok(Charged::Nothing),
        "1" => Ok(Charged::Draining),
        "2" => Ok(Charged::Unseen),
        // Nobody touches a winding on a word that is none.
        _ => Err(link.nonsense("OUTP:CHAR?", answer.as_bytes(), "0, 1 or 2 was wanted")),
    }
}

/// Whether outputs are off, and what was charged is being discharged.
pub(super) fn drains(link: &mut Link) -> Result<bool, RigError> {
    Ok(matches!(charged(link)?, Charged::Draining))
}

/// Waits until the test set says that nothing is charged any more; how that went, where something was.
pub(super) fn until_discharged(
    link: &mut Link,
    attendant: &mut dyn Attendant,
) -> Result<Option<Discharged>, RigError> {
    let (began, mut is_told) = (Instant::now(), false);
    loop {
        let is_seen = match charged(link)? {
            Charged::Draining => None,
            Charged::Nothing => Some(true),
            Charged::Unseen => Some(false),
        };
        if let Some(is_seen) = is_seen {
            let time = seconds(if is_told { began.elapsed().as_secs_f64() } else { 0.0 });
            let is_any = is_told || !is_seen;
            return Ok(is_any.then_some(Discharged { time, left_a: None, is_done: true, is_seen }));
        }
        if !std::mem::replace(&mut is_told, true) {
            attendant.drains();
        }
        if began.elapsed() > LONGEST_DISCHARGE || attendant.abandons() {
            return Err(RigError::StillCharged("an unknown current".to_owned()));
        }
        std::thread::sleep(BEAT / 2);
    }
}
