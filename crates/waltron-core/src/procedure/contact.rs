//! What a contact tells of an operation.

use crate::grading::{Judgement, TripOutcome, Verdict};
use crate::injection::observation::Observation;
use crate::quantity::{Time, seconds, text};
use crate::text::name::Name;

/// Why a contact that was closed before a moment, which is called so, cannot tell what came of it.
pub fn closed_already(
    observation: &Observation,
    contact: &Name,
    moment: Time,
    called: &str,
) -> Option<Judgement> {
    if !observation.closed_before(contact, moment) {
        return None;
    }
    let first = observation.first_edge(contact, true, seconds(0.0));
    Some(match first.filter(|_| !observation.closed_at_start.contains(contact)) {
        Some(at) if at < moment => {
            Judgement::new(Verdict::Fail, format!("operated {} before {called}", text(moment - at)))
        }
        _ => Judgement::new(
            Verdict::Inconclusive,
            format!("contact `{contact}` was closed already: reset the relay, check the wiring"),
        ),
    })
}

/// What a trip contact did after inception.
///
/// # Errors
/// The judgement where the contact was closed before inception, which proves nothing or fails.
pub fn seen_trip(
    observation: &Observation,
    trip: &Name,
    inception: Time,
    end: Time,
) -> Result<TripOutcome, Judgement> {
    if let Some(judged) = closed_already(observation, trip, inception, "inception") {
        return Err(judged);
    }
    Ok(match observation.first_edge(trip, true, inception) {
        Some(at) => TripOutcome::Operated(at - inception),
        None => TripOutcome::Waited(end - inception),
    })
}
