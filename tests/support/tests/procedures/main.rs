//! Every procedure of every wing, on the samples, treated badly: not put out, not seen, seen by meters that show
//! nothing or no number, in part, once more. Whatever happens, it ends, nothing passes that was not proved, and what
//! was planned is graded.
#![allow(clippy::unwrap_used, missing_docs)]

mod coverage;
mod cut;
mod numbers;
mod samples;

use samples::*;
use std::collections::{BTreeMap, BTreeSet};
use waltron_core::grading::{Criterion, Finding, Value, Values, Verdict};
use waltron_core::injection::measuring::{CapturedTrack, Lack};
use waltron_core::injection::observation::Observation;
use waltron_core::quantity::{Dimension, Quantity};

/// The last verdict of each point.
fn verdicts(found: &[Finding]) -> BTreeMap<&str, Verdict> {
    found.iter().map(|f| (f.point.id.as_str(), f.verdict)).collect()
}

/// What was planned for certain is graded, and nothing else than was planned.
fn all_is_graded(case: &Case, found: &[Finding]) {
    let [certain, all] = case.planned();
    let graded: BTreeSet<String> = found.iter().map(|f| f.point.id.clone()).collect();
    let lost: Vec<&String> = certain.difference(&graded).collect();
    assert!(lost.is_empty(), "{}: planned and not graded: {lost:?}", case.name());
    let new: Vec<&String> = graded.difference(&all).collect();
    assert!(new.is_empty(), "{}: graded and not planned: {new:?}", case.name());
}

/// Nothing is told of what was not measured.
fn nothing_is_told(case: &Case, found: &[Finding], why: &str) {
    for f in found {
        assert!(
            matches!(f.verdict, Verdict::NotTested | Verdict::Inconclusive),
            "{}, {why}: {} {:?} {}",
            case.name(),
            f.point.id,
            f.verdict,
            f.reason
        );
    }
}

#[test]
fn the_samples_hold_every_procedure() {
    let cases = cases();
    let words: BTreeSet<&str> = cases.iter().map(|c| c.test.procedure_name()).collect();
    let registered: BTreeSet<&str> = WINGS.procedures().iter().map(|r| r.word).collect();
    let missing: Vec<&str> = registered.difference(&words).copied().collect();
    // No sample rig drives the current of a primary winding.
    assert_eq!(missing, ["errors"]);
}

#[test]
fn points_are_named_once_and_all_of_them_are_graded() {
    for (case, found) in &*ALL {
        let planned = case.procedure().planned();
        let mut ids: BTreeMap<&str, &Criterion> = BTreeMap::new();
        for point in planned.iter().flat_map(|p| &p.points) {
            let before = ids.insert(&point.point.id, &point.criterion);
            assert!(before.is_none_or(|b| *b == point.criterion), "{} twice", point.point.id);
            assert_eq!(point.point.test, case.test.id, "{}", point.point.id);
        }
        all_is_graded(case, found);
    }
}

#[test]
fn what_is_not_put_out_proves_nothing() {
    for case in cases() {
        let found = driven(case.procedure(), &mut Refusing);
        all_is_graded(&case, &found);
        nothing_is_told(&case, &found, "never put out");
    }
}

fn spoilt(mut seen: Observation, how: &str) -> Observation {
    if how == "nothing" {
        (seen.readings, seen.captures) = (Vec::new(), Vec::new());
        return seen;
    }
    let number = if how == "zero" { 0.0 } else { f64::NAN };
    for reading in &mut seen.readings {
        let of = |value: Value| match value {
            Value::Plain(q) => Value::Plain(Quantity { si: number, ..q }),
            Value::Percent(_) => Value::Percent(number),
            Value::Minutes(_) => Value::Minutes(number),
        };
        let mut values = Values::none();
        for name in ["value", "angle", "frequency"] {
            if let Some((_, value)) = reading.value.iter().find(|(n, _)| *n == name) {
                values = values.with_value(name, of(value));
            }
        }
        reading.value = values;
        if how == "no value" {
            reading.lacks = Some(Lack::Nothing("meter".into()));
            (reading.value, reading.uncertainty) = (Values::none(), Values::none());
        }
    }
    for track in seen.captures.iter_mut().flat_map(|c| &mut c.tracks) {
        let samples = if how == "no value" { Vec::new() } else { vec![number; track.count] };
        *track = CapturedTrack::new(track.of.clone(), samples);
    }
    seen
}

/// What contacts tell, which are as they are: times, and levels at which one operated.
fn is_by_contacts(f: &Finding) -> bool {
    let words = ["trip_time", "no_operation", "pickup", "reset_ratio"];
    let of_a_relay = words.iter().any(|word| f.criterion == Criterion::named(word));
    let of_a_coil = f.point.id.contains("/pickup-voltage/");
    let is_time = |(_, value): (&str, Value)| matches!(value, Value::Plain(q) if q.dimension == Dimension::TIME);
    of_a_relay || of_a_coil || f.measured.iter().any(is_time)
}

#[test]
fn meters_that_show_nothing_prove_nothing() {
    let mut passed = Vec::new();
    for case in cases() {
        for how in case.spoilt_by() {
            let spoils = |seen| spoilt(seen, how);
            let found = driven(case.procedure(), &mut case.bench(&spoils));
            all_is_graded(&case, &found);
            for f in found.iter().filter(|f| f.verdict == Verdict::Pass && !is_by_contacts(f)) {
                passed.push(format!(
                    "{}, {how}: {} {} {:?}",
                    case.name(),
                    f.point.id,
                    f.reason,
                    f.measured
                ));
            }
        }
    }
    assert!(passed.is_empty(), "{}", passed.join("\n"));
}

/// Of chosen points each is graded as with all the others: what is left out is missed by nothing.
#[test]
fn chosen_points_are_graded_as_among_all() {
    for (k, (case, found)) in ALL.iter().enumerate() {
        let all = verdicts(found);
        let [certain, _] = case.planned();
        let chosen: BTreeSet<&String> = certain
            .iter()
            .enumerate()
            .filter(|(n, _)| mixed((k * 1000 + n) as u64).is_multiple_of(3))
            .map(|(_, id)| id)
            .collect();
        let mut procedure = case.procedure();
        procedure.retain(&|point| chosen.contains(&point.id));
        let planned = procedure.planned();
        let told: BTreeSet<&str> =
            planned.iter().flat_map(|p| &p.points).map(|p| p.point.id.as_str()).collect();
        let found = driven(procedure, &mut case.bench(&|seen| seen));
        let some = verdicts(&found);
        for id in chosen {
            assert!(told.contains(id.as_str()), "{}: {id} is chosen, and not planned", case.name());
            assert_eq!(some.get(id.as_str()), all.get(id.as_str()), "{}: {id}", case.name());
        }
        for id in some.keys() {
            assert!(told.contains(id), "{}: {id} is graded, and was not planned", case.name());
        }
    }
}

/// Gone back to a point, wherever that is, all of them are graded, the last time as without.
#[test]
fn what_is_repeated_is_graded_as_before() {
    for (k, (case, found)) in ALL.iter().enumerate() {
        let all = verdicts(found);
        let after = 1 + mixed(k as u64) as usize % 8;
        let found = repeated(case.procedure(), &mut case.bench(&|seen| seen), Some(after));
        let again = verdicts(&found);
        let differ: Vec<_> = all.iter().filter(|(id, v)| again.get(*id) != Some(v)).collect();
        assert!(differ.is_empty(), "{}, after {after}: {differ:?}", case.name());
    }
}
