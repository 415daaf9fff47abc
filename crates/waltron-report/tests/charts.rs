//! Every chart comes to an end, whatever was set, measured or recorded.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use proptest::prelude::*;
use waltron_core::asset::Asset;
use waltron_core::grading::{Criterion, Grade, Limits, PointId, Values, Verdict};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Ratio, amperes, seconds};
use waltron_core::section::{Axis, Bar, Chart, Curve, Line, Mark, Outcome, Panel, Region, Style};
use waltron_core::wing::Told;
use waltron_relay::WINGS;
use waltron_report::plot::{PlotError, svg};
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
                budget: Vec::new(),
                verdict,
                reason: "r".into(),
                skipped: false,
                guarded: false,
            }
        },
    )
}

fn axis() -> impl Strategy<Value = Axis> {
    (any_number(), any_number(), 0usize..3).prop_map(|(low, high, kind)| match kind {
        0 => Axis::linear("Current, A", low, high),
        1 => Axis::of_rows("Contacts", ["L1", "52a <b>"].map(str::to_owned).to_vec()),
        _ => Axis::logarithmic("Current, A", low, high),
    })
}

fn panel() -> impl Strategy<Value = Panel> {
    let points = || proptest::collection::vec((any_number(), any_number()), 0..6);
    let style = prop_oneof![
        Just(Style::Expected),
        Just(Style::Aside),
        (0usize..9).prop_map(Style::Trace),
        (0usize..9, 0usize..4).prop_map(|(number, dashes)| Style::Dashed { number, dashes }),
    ];
    let curve = (points(), style).prop_map(|(points, style)| Curve {
        name: "ia <b>".into(),
        label: "at <its> end".into(),
        style,
        points,
    });
    let region = points().prop_map(|outline| Region { name: "band".into(), outline });
    let bar = (0usize..4, any_number(), any_number(), any::<bool>())
        .prop_map(|(row, from, to, is_aside)| Bar { row, from, to, is_aside });
    let outcome = (0usize..6).prop_map(|n| Outcome::ALL[n].0);
    let mark = (any_number(), any_number(), outcome).prop_map(|(x, y, outcome)| Mark {
        x,
        y,
        outcome,
        id: "t/1".into(),
        notes: vec!["measured".into()],
    });
    (
        axis(),
        proptest::collection::vec(curve, 0..3),
        proptest::collection::vec(region, 0..2),
        proptest::collection::vec(bar, 0..3),
        proptest::collection::vec(mark, 0..3),
    )
        .prop_map(|(y, curves, regions, bars, marks)| Panel {
            y,
            regions,
            bars,
            curves,
            marks,
        })
}

fn chart() -> impl Strategy<Value = Chart> {
    let line = (any_number(), any::<bool>()).prop_map(|(at, is_tested)| Line {
        at,
        name: "fault".to_owned(),
        is_tested,
    });
    (axis(), proptest::collection::vec(panel(), 0..3), proptest::collection::vec(line, 0..4))
        .prop_map(|(x, panels, lines)| Chart {
            of: Vec::new(),
            title: "t".into(),
            subtitle: "s".into(),
            x,
            panels,
            lines,
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
        for chart in WINGS.charts(&asset, Told::points(&grades)) {
            is_drawn(svg(&chart, (640, 400)))?;
        }
    }

    #[test]
    fn any_chart_is_drawn(chart in chart()) {
        is_drawn(svg(&chart, (640, 400)))?;
    }
}

/// An element that operates at once has its line, along the lower edge; one that is off has none.
#[test]
fn what_operates_at_once_is_drawn_and_what_is_off_is_not() {
    let at_once = "[[element]]\nid = \"50P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\n\
                   pickup = \"5 A\"\ncurve = { family = \"definite\", delay = \"0 s\" }\n";
    let charts = WINGS.charts(&relay(at_once), Told::points(&[]));
    let panel = &charts[0].panels[0];
    assert!(panel.curves[0].points.iter().any(|(i, t)| *i > 5.0 && *t == 0.0));
    assert!(panel.y.ends().0 > 0.0);
    svg(&charts[0], (640, 400)).unwrap();
    let off = relay(&at_once.replace("pickup", "enabled = false\npickup"));
    assert_eq!(WINGS.charts(&off, Told::points(&[])), []);
}

/// What a page tells of the place that is pointed at: by the axes beside the picture, a mark's own place
/// gives the mark's own values, on even and on logarithmic axes.
#[test]
fn the_axes_beside_a_picture_lead_back_to_values() {
    let marks = [(2.0, 0.05), (0.3, 700.0)];
    let mark = |(x, y)| Mark { x, y, outcome: Outcome::Measured, id: "m".into(), notes: vec![] };
    let mut panel = Panel::empty(Axis::logarithmic("E, V", 0.01, 1000.0));
    panel.marks = marks.map(mark).to_vec();
    let chart = Chart {
        of: vec![],
        title: "t".into(),
        subtitle: String::new(),
        x: Axis::linear("I, \"A\"", -1.0, 3.0),
        panels: vec![panel],
        lines: vec![],
    };
    let picture = svg(&chart, (960, 600)).unwrap();
    let attribute = picture.split("data-axes=\"").nth(1).unwrap().split('"').next().unwrap();
    let axes: serde_json::Value = serde_json::from_str(&attribute.replace("&quot;", "\"")).unwrap();
    let circles: Vec<(f64, f64)> = picture
        .split("<circle class=\"point\"")
        .skip(1)
        .map(|c| {
            let of = |name: &str| {
                c.split(&format!("{name}=\""))
                    .nth(1)
                    .unwrap()
                    .split('"')
                    .next()
                    .unwrap()
                    .parse::<f64>()
                    .unwrap()
            };
            (of("cx") / 4.0, of("cy") / 4.0)
        })
        .collect();
    let edge: Vec<f64> =
        axes["panels"][0]["box"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
    let number = |of: &serde_json::Value, key: &str| of[key].as_f64().unwrap();
    for ((px, py), (x, y)) in circles.into_iter().zip(marks) {
        let (across, up) =
            ((px - edge[0]) / (edge[2] - edge[0]), (edge[3] - py) / (edge[3] - edge[1]));
        let of = &axes["x"];
        let read = number(of, "low") + across * (number(of, "high") - number(of, "low"));
        assert!((read - x).abs() < 0.005, "{read} at {x}");
        let of = &axes["panels"][0];
        let read = number(of, "low") * (number(of, "high") / number(of, "low")).powf(up);
        assert!((read / y - 1.0).abs() < 0.01, "{read} at {y}");
    }
}

/// Rows have names and no numbers; a bar lies in its row, between its times; one to compare with is told apart.
#[test]
fn bars_lie_in_their_rows() {
    let names = ["L1", "spring charged"].map(str::to_owned);
    let mut panel = Panel::empty(Axis::of_rows("Contacts, bar: closed", names.to_vec()));
    let bar = |row, from, to, is_aside| Bar { row, from, to, is_aside };
    panel.bars = vec![bar(0, 0.0, 0.02, false), bar(1, 0.02, 0.04, false)];
    let mut chart = Chart {
        of: Vec::new(),
        title: "t".into(),
        subtitle: String::new(),
        x: Axis::linear("Time, ms", 0.0, 0.04).in_parts(1e3),
        panels: vec![panel],
        lines: Vec::new(),
    };
    let picture = svg(&chart, (1000, 400)).unwrap();
    for words in [">\nL1\n<", ">\nspring charged\n<", "&quot;rows&quot;:[&quot;L1&quot;"] {
        assert!(picture.contains(words), "{words}");
    }
    assert!(!picture.contains("earlier"));
    // The first row is uppermost; the first bar ends where the second begins, in the middle of the time.
    let filled = picture.lines().filter(|l| l.starts_with("<rect") && l.contains("#1F4E79"));
    let number = |line: &str, key: &str| -> f64 {
        let from = line.find(&format!(" {key}=\"")).unwrap() + key.len() + 3;
        line[from..].split('"').next().unwrap().parse().unwrap()
    };
    let places: Vec<[f64; 3]> = filled
        .map(|l| [number(l, "x"), number(l, "x") + number(l, "width"), number(l, "y")])
        .collect();
    let [one, two] = &places[..] else { panic!("{places:?}") };
    assert!(one[2] < two[2] && (one[1] - two[0]).abs() <= 8.0, "{places:?}");
    let middle = f64::midpoint(one[0], two[1]);
    assert!((one[1] - middle).abs() <= 8.0, "{places:?}");
    chart.panels[0].bars.push(bar(0, 0.0, 0.03, true));
    assert!(svg(&chart, (1000, 400)).unwrap().contains("earlier"));
}
