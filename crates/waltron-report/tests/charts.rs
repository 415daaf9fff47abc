//! Every chart comes to an end, whatever was set, measured or recorded.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use proptest::prelude::*;
use waltron_core::asset::Asset;
use waltron_core::grading::{Criterion, Grade, Limits, PointId, Values, Verdict};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Ratio, amperes, seconds};
use waltron_report::plot::{Oscillogram, Panel, PlotError, TimeCurrent, Trace, svg};
use waltron_test_support::relay;

/// No number, none at all, the same ones, tiny ones, huge ones.
fn any_number() -> impl Strategy<Value = f64> {
    prop_oneof![
        any::<f64>(),
        -10.0f64..10.0,
        prop_oneof![Just(0.0), Just(1.0), Just(f64::NAN), Just(f64::INFINITY), Just(f64::MAX)]
    ]
}

fn element() -> impl Strategy<Value = String> {
    let pickup = prop_oneof![Just(1e-9), Just(1.0), Just(1e9), 0.1f64..10.0];
    let curve = prop_oneof![
        Just("{ family = \"definite\", delay = \"0 s\" }"),
        Just("{ family = \"definite\", delay = \"60 ms\" }"),
        Just("{ family = \"definite\", delay = \"1e9 s\" }"),
        Just("{ family = \"iec\", shape = \"very-inverse\", tms = 0.3 }"),
        Just("{ family = \"iec\", shape = \"very-inverse\", tms = 1e-6, upper = \"1.0001 x\" }"),
        Just("{ family = \"iec\", shape = \"normal-inverse\", tms = 1, lower = \"500 x\" }"),
        Just("{ family = \"table\", points = [[\"2 x\", \"8 s\"], [\"8 x\", \"0.001 s\"]] }"),
    ];
    let measures = prop_oneof![Just("phase"), Just("residual"), Just("negative-sequence")];
    (pickup, curve, measures, any::<bool>()).prop_map(|(pickup, curve, measures, enabled)| {
        format!(
            "function = \"overcurrent\"\nmeasures = \"{measures}\"\npickup = \"{pickup} A\"\n\
             enabled = {enabled}\ncurve = {curve}\n"
        )
    })
}

fn asset() -> impl Strategy<Value = Asset> {
    proptest::collection::vec(element(), 0..4).prop_map(|elements| {
        let numbered = elements.iter().enumerate();
        relay(
            &numbered.map(|(n, e)| format!("[[element]]\nid = \"e{n}\"\n{e}")).collect::<String>(),
        )
    })
}

fn grade() -> impl Strategy<Value = Grade> {
    let verdict = prop_oneof![
        Just(Verdict::Pass),
        Just(Verdict::Fail),
        Just(Verdict::Inconclusive),
        Just(Verdict::NotTested)
    ];
    let value = || prop_oneof![Just(None), any_number().prop_map(Some)];
    (0usize..4, any_number(), value(), value(), verdict).prop_map(
        |(n, at, time, latest, verdict)| {
            let id = format!("e{n}");
            Grade {
                point: PointId {
                    id: format!("t/{n}"),
                    test: "t".into(),
                    element: Some(id.as_str().into()),
                    fault_loop: Some(FaultLoop::AN),
                },
                attempt: 1,
                criterion: Criterion::TRIP_TIME,
                stimulus: Values::none()
                    .with("multiple", Ratio::from(at))
                    .with("current", amperes(at)),
                expected: Values::none().with_some("time", latest.map(seconds)),
                measured: Values::none().with_some("time", time.map(seconds)),
                deviation: Values::none(),
                limits: Limits::operation(None, latest.map(seconds)),
                uncertainty: Values::none(),
                verdict,
                reason: "r".into(),
                skipped: false,
            }
        },
    )
}

fn oscillogram() -> impl Strategy<Value = Oscillogram> {
    let points = proptest::collection::vec((any_number(), any_number()), 0..6);
    let trace = points.prop_map(|points| Trace { name: "ia".into(), points });
    let panel = proptest::collection::vec(trace, 0..3)
        .prop_map(|traces| Panel { axis: "Current, A".into(), traces });
    let moment = any_number().prop_map(|t| (t, "fault".to_owned()));
    (
        (any_number(), any_number()),
        proptest::collection::vec(panel, 0..3),
        proptest::collection::vec(moment, 0..3),
    )
        .prop_map(|(times, panels, moments)| Oscillogram {
            title: "t".into(),
            subtitle: "s".into(),
            times,
            panels,
            moments,
        })
}

/// A picture, and one that a person's machine can show.
fn is_drawn(drawn: Result<String, PlotError>) -> Result<(), TestCaseError> {
    match drawn {
        Ok(picture) => {
            prop_assert!(picture.starts_with("<svg") && picture.len() < 2_000_000);
            // Titles tell the values as they are; places have to be numbers.
            for part in picture.split("<title>") {
                let drawn = part.split_once("</title>").map_or(part, |(_, rest)| rest);
                prop_assert!(!drawn.contains("NaN") && !drawn.contains("inf"), "{drawn}");
            }
        }
        Err(PlotError::Empty(_)) => {}
        Err(other) => prop_assert!(false, "{other}"),
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    #[test]
    fn any_run_has_its_diagrams(asset in asset(), grades in proptest::collection::vec(grade(), 0..6)) {
        match TimeCurrent::of_run(&asset, &grades) {
            Ok(diagrams) => for diagram in &diagrams {
                is_drawn(svg(diagram, (640, 400)))?;
            },
            Err(error) => prop_assert!(matches!(error, PlotError::Empty(_))),
        }
    }

    #[test]
    fn any_values_over_time_are_drawn(plot in oscillogram()) {
        is_drawn(svg(&plot, (640, 400)))?;
    }
}

/// An element that operates at once has its line, along the lower edge; one that is off has none.
#[test]
fn what_operates_at_once_is_drawn_and_what_is_off_is_not() {
    let at_once = "[[element]]\nid = \"50P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\n\
                   pickup = \"5 A\"\ncurve = { family = \"definite\", delay = \"0 s\" }\n";
    let diagrams = TimeCurrent::of_asset(&relay(at_once)).unwrap();
    assert!(diagrams[0].curve.iter().any(|(i, t)| *i > 5.0 && *t == 0.0));
    assert!(diagrams[0].times.ends().0 > 0.0);
    svg(&diagrams[0], (640, 400)).unwrap();
    let off = relay(&at_once.replace("pickup", "enabled = false\npickup"));
    assert!(matches!(TimeCurrent::of_asset(&off), Err(PlotError::Empty(_))));
}
