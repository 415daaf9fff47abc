//! The event-driven relay against a plain relay that steps through time in fractions of a
//! millisecond, written here from the dynamic equation of IEEE C37.112 and nothing else.

use proptest::prelude::*;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Frequency, amperes, seconds};
use waltron_core::text::document::Source;
use waltron_specimen::SpecimenForm;

const STEP_S: f64 = 2e-4;

/// Trip time of the IEEE very inverse shape with its reset curve, TD 0.2, pickup 1 A.
fn stepped(levels: &[(f64, f64)]) -> Option<f64> {
    let (td, k, c, tr) = (0.2, 19.61, 0.491, 21.6);
    let (mut progress, mut t, mut picked_up) = (0.0f64, 0.0, false);
    for (m, lasts) in levels {
        for _ in 0..(lasts / STEP_S).round() as u32 {
            picked_up = *m > 1.0 || (picked_up && *m >= 0.95);
            if *m > 1.0 {
                progress += STEP_S / (td * (k / (m * m - 1.0) + c));
            } else if !picked_up {
                progress = (progress - STEP_S * (1.0 - m * m) / (td * tr)).max(0.0);
            }
            t += STEP_S;
            if progress >= 1.0 {
                return Some(t);
            }
        }
    }
    None
}

fn simulated(levels: &[(f64, f64)]) -> Option<f64> {
    let file = r#"
        [specimen]
        kind = "relay"
        [[element]]
        id = "51P"
        measures = "phase"
        pickup = "1 A"
        reset_ratio = "95 %"
        curve = { family = "ieee", shape = "very-inverse", tms = 0.2, reset = "curve" }
    "#;
    let mut relay = SpecimenForm::load(&Source::new("s", file), 1).unwrap();
    relay.begin(1);
    let mut end = 0.0;
    for (m, lasts) in levels {
        let currents = FaultLoop::AB.currents(amperes(*m));
        relay.apply(&Stimulus::phase_currents(
            currents,
            Frequency::new::<uom::si::frequency::hertz>(50.0),
        ));
        end += lasts;
        while let Some(edge) = relay.advance(seconds(end)) {
            if edge.signal == "trip" && edge.closed {
                return Some(edge.time.value);
            }
        }
    }
    None
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn events_and_steps_agree_on_any_staircase(
        levels in prop::collection::vec((0.0f64..6.0, 0.01f64..2.0), 1..8)
    ) {
        // Levels on the edges of pickup and dropout would test the rounding only.
        prop_assume!(levels.iter().all(|(m, _)| (m - 1.0).abs() > 1e-3 && (m - 0.95).abs() > 1e-3));
        let levels: Vec<(f64, f64)> =
            levels.into_iter().map(|(m, t)| (m, (t / STEP_S).round() * STEP_S)).collect();
        match (stepped(&levels), simulated(&levels)) {
            (Some(a), Some(b)) => prop_assert!((a - b).abs() < 3.0 * STEP_S, "stepped {a}, events {b}"),
            (None, None) => {}
            // A trip within a step of the end may be seen by one only.
            (a, b) => {
                let end: f64 = levels.iter().map(|(_, t)| t).sum();
                let at = a.or(b).unwrap_or(0.0);
                prop_assert!((end - at).abs() < 3.0 * STEP_S, "stepped {a:?}, events {b:?}, end {end}");
            }
        }
    }
}

#[test]
fn mistakes_in_a_specimen_show_at_once() {
    let file = "[specimen]\nkind = \"relay\"\nmeasuring_delay = \"-1 ms\"\n[noise]\ntime = \"1 A\"\n\
                [[element]]\nid = \"51P\"\nmeasures = \"phase\"\npickup = \"0 A\"\nreset_ratio = \"101 %\"\ncurve = { family = \"iec\", shape = \"very-inverse\", tms = 1 }\n";
    let error = SpecimenForm::load(&Source::new("s", file), 1).err().unwrap();
    let messages: Vec<&str> = error.problems.iter().map(|p| p.message.as_str()).collect();
    assert_eq!(messages.len(), 4, "{messages:?}");
    for part in ["must not be negative", "is a current", "above zero", "must not exceed 100 %"] {
        assert!(messages.iter().any(|m| m.contains(part)), "{part}: {messages:?}");
    }
}
