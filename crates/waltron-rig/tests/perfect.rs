//! A relay that is as its settings say passes every plan; one that is off by more than it may be fails,
//! and where it is off.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use proptest::prelude::*;
use std::collections::HashMap;
use std::convert::Infallible;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::{Grade, Verdict};
use waltron_core::plan::Plan;
use waltron_core::procedure::Bench;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::record::again::Again;
use waltron_core::record::{Chain, Event, Line};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_relay::Overcurrent;
use waltron_rig::attendant::Unattended;
use waltron_rig::runner::{SoFar, prepare, run};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_specimen::SpecimenForm;
use waltron_test_support::{capability, plan, relay};

/// A curve as files write it, its time factor left open as `{t}`: what a slow relay has more of.
const CURVES: [&str; 14] = [
    "family = \"iec\", shape = \"normal-inverse\", tms = {t}",
    "family = \"iec\", shape = \"very-inverse\", tms = {t}",
    "family = \"iec\", shape = \"extremely-inverse\", tms = {t}, upper = \"8 x\"",
    "family = \"iec\", shape = \"long-time-inverse\", tms = {t}, reset = \"2 s\"",
    "family = \"iec\", shape = \"very-inverse\", tms = {t}, lower = \"1.5 x\"",
    "family = \"iec\", shape = \"very-inverse\", tms = {t}, minimum_time = \"{t} s\"",
    "family = \"ieee\", shape = \"moderately-inverse\", tms = {t}",
    "family = \"ieee\", shape = \"very-inverse\", tms = {t}, reset = \"curve\"",
    "family = \"ieee\", shape = \"extremely-inverse\", tms = {t}",
    "family = \"definite\", delay = \"{t} s\"",
    "family = \"i2t\", k = \"{t}0 s\"",
    "family = \"thermal\", tau = \"{t} min\", preload = \"0.6 x\", upper = \"6 x\"",
    "family = \"formula\", k = \"13.5 s\", alpha = 1, c = \"0.1 s\", tms = {t}",
    "family = \"table\", points = [[\"1.5 x\", \"8 s\"], [\"4 x\", \"3 s\"], [\"10 x\", \"1 s\"]], tms = {t}",
];

const TOLERANCES: [&str; 5] = ["3 %", "2 % or 10 mA", "+5 % / -0 %", "+0 % / -5 %", "4 % + 2 mA"];

/// What an element measures, with loops that it sees something on.
const MEASURES: [(&str, &str); 4] = [
    ("phase", "\"A-N\", \"B-C\", \"A-B-C\""),
    ("residual", "\"C-N\""),
    ("negative-sequence", "\"B-N\", \"C-A\""),
    ("positive-sequence", "\"A-N\", \"A-B-C\""),
];

#[derive(Clone, Debug)]
struct Case {
    curve: usize,
    tolerance: usize,
    measures: usize,
    pickup: f64,
    /// The time factor set.
    factor: f64,
}

fn case() -> impl Strategy<Value = Case> {
    let parts = (0..CURVES.len(), 0..TOLERANCES.len(), 0..MEASURES.len());
    (parts, 0.2f64..2.0, 0.2f64..1.5).prop_map(|((curve, tolerance, measures), pickup, factor)| {
        Case { curve, tolerance, measures, pickup, factor }
    })
}

impl Case {
    /// The grades of a relay whose pickup and times are off by these shares.
    fn grades(&self, pickup: f64, times: f64) -> Vec<Grade> {
        self.tested(pickup, times, &mut |_| {}).0
    }

    /// The same with all events, and what the record would be graded by.
    fn tested(
        &self,
        pickup: f64,
        times: f64,
        seen: &mut dyn FnMut(&Event),
    ) -> (Vec<Grade>, Asset, Plan) {
        let (measures, loops) = MEASURES[self.measures];
        let element = |pickup: f64, factor: f64, more: &str| {
            let curve = CURVES[self.curve].replace("{t}", &format!("{factor:.9}"));
            format!(
                "[[element]]\nid = \"E\"\nmeasures = \"{measures}\"\npickup = \"{pickup:.9} A\"\n\
                 curve = {{ {curve} }}\nreset_ratio = \"95 %\"\n{more}\n"
            )
        };
        let tolerance = TOLERANCES[self.tolerance];
        let settings = format!(
            "function = \"overcurrent\"\ntolerance = {{ current = \"{tolerance}\", time = \"5 % or 40 ms\" }}"
        );
        let asset = relay(&element(self.pickup, self.factor, &settings));
        let truth = element(self.pickup * pickup, self.factor * times, "");
        let specimen = format!("[specimen]\nkind = \"relay\"\n{truth}");
        let specimen = SpecimenForm::load(&Source::new("specimen", specimen), 1)
            .unwrap_or_else(|e| panic!("{e:?}"));
        let tests = format!(
            "[[test]]\nid = \"pickup\"\nprocedure = \"pickup\"\nelement = \"E\"\nloops = [{loops}]\n\
             [[test]]\nid = \"times\"\nprocedure = \"trip-time\"\nelement = \"E\"\nloops = [{loops}]\n\
             at = [\"0.9 x\", \"1 x\", \"1.5 x\", \"2 x\", \"4 x\", \"8 x\"]\n"
        );
        let plan = plan(&tests, &asset);
        let capability = capability(&["trip", "start"]);
        let bench = Bench { asset: &asset, capability: &capability };
        let prepared = prepare(&plan, bench, &HashMap::<Name, Infallible>::new())
            .unwrap_or_else(|e| panic!("{e:?}"));
        let mut rig = VirtualRig::new("rig".into(), capability.clone(), specimen, Pace::Fast);
        let mut sink = |event: &Event| {
            seen(event);
            Ok(())
        };
        let so_far = SoFar::default();
        let done = run(prepared, &asset, &mut rig, &mut Unattended, so_far, &mut sink).unwrap();
        (done.grades, asset, plan)
    }

    /// The shares of the setting between which its pickup may lie.
    fn band(&self) -> (f64, f64) {
        let tolerance = Tolerance::parse(TOLERANCES[self.tolerance]).unwrap();
        let setting = waltron_core::quantity::amperes(self.pickup);
        let share = |limit: waltron_core::quantity::Current| (limit / setting).value;
        (share(tolerance.lower(setting)), share(tolerance.upper(setting)))
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 128, ..ProptestConfig::default() })]

    /// Whatever the curve, its range limits and reset, the tolerance's sides and the loop: a relay whose
    /// pickup lies anywhere well within its tolerance, and whose times are right for that pickup, passes.
    #[test]
    fn a_relay_as_its_settings_say_passes(case in case(), place in 0.25f64..0.75) {
        let (low, high) = case.band();
        let grades = case.grades(low + (high - low) * place, 1.0);
        for grade in &grades {
            prop_assert_eq!(
                grade.verdict, Verdict::Pass, "{} {:?}: {}", grade.point.id, case, grade.reason
            );
        }
        prop_assert!(grades.len() > 6);
    }

    /// What was measured, graded again by what it was tested with, is what was graded; as text in a
    /// record too. By other settings nothing but the settings' side of it changes.
    #[test]
    fn grading_again_by_the_same_is_the_same(case in case(), off in 0.9f64..1.1, times in 0.8f64..1.2) {
        let mut events = Vec::new();
        let (grades, mut asset, plan) = case.tested(off, times, &mut |event| {
            // As it stands in a record.
            let text = Chain::default().line("now", event).unwrap();
            events.push(Line::read(text.as_bytes()).unwrap().event);
        });
        let (capability, scripts) = (capability(&["trip", "start"]), HashMap::<Name, Infallible>::new());
        let again = |asset: &Asset| {
            let bench = Bench { asset, capability: &capability };
            let mut again = Again::new(&plan, bench, &scripts);
            events.iter().for_each(|event| again.take(event.clone()));
            again.finish()
        };
        let same = again(&asset);
        prop_assert_eq!(same.len(), grades.len());
        for (a, b) in same.iter().zip(&grades) {
            prop_assert_eq!((&a.point, a.verdict, &a.reason), (&b.point, b.verdict, &b.reason));
            let near = |x: f64, y: f64| (x - y).abs() <= 1e-9 * x.abs().max(1e-6);
            let same = |x: Option<f64>, y: Option<f64>| match (x, y) {
                (Some(x), Some(y)) => near(x, y),
                (x, y) => x == y,
            };
            let (one, other) = (&a.limits, &b.limits);
            prop_assert!(same(one.lower(), other.lower()) && same(one.upper(), other.upper()));
            prop_assert_eq!(one.is_of_operation(), other.is_of_operation());
            for (name, _) in b.measured.iter() {
                prop_assert!(same(a.measured.get(name), b.measured.get(name)), "{name} {a:?}");
            }
        }
        // Ten times the tolerance of time: what was measured stays, and no time fails that passed.
        let mut wider = (*asset.elements[0].of::<Overcurrent>().unwrap().function).clone();
        wider.tolerances.time = Tolerance::parse("50 % or 400 ms").unwrap();
        asset.elements[0].function = Arc::new(wider);
        for (wide, before) in again(&asset).iter().zip(&grades) {
            prop_assert_eq!(wide.measured.get("time").is_some(), before.measured.get("time").is_some());
            let passed = before.verdict == Verdict::Pass && before.measured.get("time").is_some();
            prop_assert!(!passed || wide.verdict == Verdict::Pass, "{wide:?} {before:?}");
        }
    }

    /// A pickup that is off by twice what it may be fails, and as a pickup.
    #[test]
    fn a_pickup_beyond_its_tolerance_fails(case in case(), up: bool) {
        let (low, high) = case.band();
        let width = (high - low).max(0.02);
        let off = if up { high + width } else { low - width };
        let grades = case.grades(off, 1.0);
        let pickup = grades.iter().filter(|g| g.point.id.starts_with("pickup/"));
        for grade in pickup.filter(|g| !g.point.id.ends_with("/reset")) {
            prop_assert_eq!(grade.verdict, Verdict::Fail, "{} {:?}", grade.reason, case);
        }
    }

    /// Times that are half as long again, or half as long, fail where the curve is what times, and nowhere as a pickup.
    #[test]
    fn times_beyond_their_tolerance_fail(case in case(), slow: bool) {
        // At an edge of a one-sided tolerance, a step of the ramp would decide.
        let (low, high) = case.band();
        let grades = case.grades(f64::midpoint(low, high), if slow { 1.6 } else { 0.5 });
        let at_4x = grades.iter().filter(|g| g.point.id.ends_with("/4x"));
        for grade in at_4x {
            // Short times have an absolute tolerance that hides a share of them.
            if grade.expected.get("time").is_some_and(|t| t > 0.4) {
                prop_assert_eq!(grade.verdict, Verdict::Fail, "{} {:?}", grade.reason, case);
            }
        }
        let pickups = grades.iter().filter(|g| g.point.id.starts_with("pickup/"));
        for grade in pickups {
            prop_assert_ne!(grade.verdict, Verdict::Fail, "{} {:?}", grade.reason, case);
        }
    }
}
