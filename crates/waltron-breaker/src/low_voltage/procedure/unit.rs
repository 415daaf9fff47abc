//! What a trip unit tells of itself: whether it is closed, has tripped, which group of settings it uses, its counters.

use super::super::asset::LvBreaker;
use waltron_core::grading::{Criterion, Finding, Judgement, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Property, Signal};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{seconds, significant};

/// What everything that it tells begins with.
pub(super) const UNIT: &str = "unit.";
pub(super) const CLOSED: &str = "unit.closed";
pub(super) const TRIPPED: &str = "unit.tripped";
pub(super) const TRIPS: &str = "unit.trips";
pub(super) const GROUP: &str = "unit.setting_group";

/// That it is closed, not tripped, and uses the right group of settings.
pub(crate) const READY: Criterion = Criterion::named("trip_unit_ready");

/// How to read something that it tells; none where the rig does not.
pub(super) fn probe(rig: &Capability, name: &str) -> Option<Probe> {
    let dimension = rig.reading(name)?.dimension;
    Some(Probe { of: Signal::from(name), what: Property::Value, dimension })
}

/// Everything that it tells.
pub(super) fn all(rig: &Capability) -> Vec<Probe> {
    let names = rig.readings.iter().map(|r| r.name.as_str()).filter(|name| name.starts_with(UNIT));
    names.filter_map(|name| probe(rig, name)).collect()
}

/// A look at it with nothing put out.
pub(super) fn look(reads: Vec<Probe>) -> Program {
    let mut program = Program::of(vec![Segment::hold("look", Stimulus::off(), seconds(0.05))]);
    program.reads = reads;
    program
}

/// What it told, or why it did not; `None` where the rig does not read it.
pub(super) fn told(
    seen: &Observation,
    rig: &Capability,
    name: &str,
) -> Option<Result<f64, String>> {
    let probe = probe(rig, name)?;
    let Some(reading) = seen.at_end(&probe) else {
        return Some(Err(format!("`{name}` was not read")));
    };
    let lack = || {
        let lack = reading.lacks.as_ref().map(ToString::to_string);
        lack.unwrap_or_else(|| format!("`{name}` shows nothing"))
    };
    Some(reading.value.get("value").filter(|value| value.is_finite()).ok_or_else(lack))
}

/// Whether it says that it tripped; why it did not say, where it was asked; `None` where it was not.
pub(super) fn has_tripped(seen: &Observation, rig: &Capability) -> Option<Result<bool, String>> {
    told(seen, rig, TRIPPED).map(|told| told.map(|value| value != 0.0))
}

/// Something that it tells, as a word where its numbers stand for words.
pub(super) fn word(rig: &Capability, name: &str, value: f64) -> String {
    let word = rig.reading(name).and_then(|reading| reading.word(value));
    word.map_or_else(|| significant(value, 6), str::to_owned)
}

/// Whether it is as a test must find it.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum State {
    Ready,
    /// Open, or tripped: somebody can mend that.
    NotReset(&'static str),
    /// It uses another group of settings than the file says.
    OtherGroup(String),
    /// It was not told.
    Unknown(String),
}

/// Its state by what was read.
pub(super) fn state(of: &LvBreaker, rig: &Capability, seen: &Observation) -> State {
    for (name, wanted, why) in [(CLOSED, 1.0, "it is open"), (TRIPPED, 0.0, "it is tripped")] {
        match told(seen, rig, name) {
            Some(Err(lack)) => return State::Unknown(lack),
            Some(Ok(value)) if (value != 0.0) != (wanted != 0.0) => return State::NotReset(why),
            _ => {}
        }
    }
    match (told(seen, rig, GROUP), &of.setting_group) {
        (Some(Err(lack)), _) => State::Unknown(lack),
        (Some(Ok(value)), Some(file)) => {
            let is = word(rig, GROUP, value);
            if is.eq_ignore_ascii_case(file.trim()) {
                State::Ready
            } else {
                State::OtherGroup(format!("it uses setting group {is}, and the file says {file}"))
            }
        }
        _ => State::Ready,
    }
}

/// What is said of its state before a test.
pub(super) fn judged(found: Finding, state: &State) -> Finding {
    let (verdict, why) = match state {
        State::Ready => {
            (Verdict::Pass, "closed, not tripped, its setting group as in the file".to_owned())
        }
        State::NotReset(why) => (Verdict::NotTested, format!("{why}, and stayed so")),
        State::OtherGroup(why) => (Verdict::Fail, why.clone()),
        State::Unknown(why) => (Verdict::Inconclusive, why.clone()),
    };
    found.judged(Judgement::new(verdict, why))
}
