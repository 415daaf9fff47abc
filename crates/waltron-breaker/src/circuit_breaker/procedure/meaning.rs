//! What it means where a value lies beside its limits: where to look first.

use crate::circuit_breaker::asset::Measurand;

/// Where to look when a value lies above its limits, or below them.
pub(super) fn meaning(what: Measurand, is_above: bool) -> Option<&'static str> {
    Some(match (what, is_above) {
        (Measurand::OpeningTime | Measurand::ClosingTime, false) => {
            "quicker than it was made: springs, damping, or the control voltage"
        }
        (Measurand::BounceTime, true) => "contact springs, damping at the end of the stroke, wear",
        (Measurand::CloseOpenTime, true) => {
            "slow to trip again: trip latch, anti-pumping, the trip coil's supply"
        }
        (Measurand::OpenCloseTime, true) => {
            "slow to close again: closing latch, close coil, spring"
        }
        (Measurand::AuxiliaryLag, _) => "auxiliary switch out of adjustment, or its rod has play",
        (Measurand::CoilSpread, _) => {
            "one trip coil is slower: its plunger, its supply, its resistance"
        }
        (Measurand::CoilPeak, true) => {
            "the plunger starts late: stiff latch, dry bearing, or too high a voltage"
        }
        (Measurand::CoilPeak, false) => "weak supply, or resistance in the coil's circuit",
        (Measurand::CoilPlateau, true) => "shorted turns in the coil, or too high a voltage",
        (Measurand::CoilPlateau, false) => {
            "weak supply, resistance in the coil's circuit, or another coil"
        }
        (Measurand::NotchTime, true) => {
            "the plunger is slow: dry bearing, old grease, stuck latch, or weak supply"
        }
        (Measurand::NotchTime, false) => {
            "the plunger is quick: its way is shorter than it was, or too high a voltage"
        }
        (Measurand::MotorTime, true) => "motor worn, weak supply, or stiff gear",
        (Measurand::MotorTime, false) => "the spring is not wound over its whole way: limit switch",
        (Measurand::MotorCurrent, true) => {
            "stiff gear, dry bearings, or shorted turns in the motor"
        }
        (Measurand::MotorCurrent, false) => {
            "the motor does little: spring broken or slack, brushes worn"
        }
        (Measurand::MotorInrush, true) => "shorted turns in the motor, or too high a voltage",
        (Measurand::PickupVoltage, true) => {
            "stiff latch or plunger: it might not trip from a weak battery"
        }
        (Measurand::PickupVoltage, false) => {
            "picks up on little: it might trip on an earth fault of the battery"
        }
        (Measurand::ContactResistance, true) => {
            "contacts worn or burnt, contact spring weak, or a loose joint in the path"
        }
        (Measurand::ArcingTime, false) => "arcing contacts burnt away or out of adjustment",
        (Measurand::ArcingResistance, true) => "arcing contacts burnt, or loose",
        (Measurand::ClosingSpeed | Measurand::OpeningSpeed, false) => {
            "springs weak, dry bearings, or damping too hard"
        }
        (Measurand::ClosingSpeed | Measurand::OpeningSpeed, true) => {
            "damping weak or empty, or springs tightened"
        }
        (Measurand::Stroke, _) => "stops, linkage, or the transducer's coupling",
        (Measurand::Overtravel, true) => "damper weak or empty",
        (Measurand::DampingTime, true) => "the shaft swings on: damper weak or empty, stops loose",
        (Measurand::DampingTime, false) => "the shaft stops hard: damper too stiff, or old oil",
        _ => return None,
    })
}
