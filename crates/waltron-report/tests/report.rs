//! Reports and plots of a run made by hand: what a reader must find, and must not.

use waltron_core::grading::{Criterion, Grade, Limits, PointId, Summary, Values, Verdict};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Ratio, amperes, seconds};
use waltron_core::record::{FileCopy, Outcome, Run, RunEnded, RunStarted};
use waltron_core::section::{Outcome as Mark, Style};
use waltron_core::wing::Told;
use waltron_relay::WINGS;
use waltron_report::html::html;
use waltron_report::plot::{png, svg};

const ASSET: &str = r#"
[asset]
kind = "relay"
tag = "Q01 <b>&"
maker = "Oriel & Finch"
[ratings]
frequency = "50 Hz"
[[element]]
id = "51P"
function = "overcurrent"
measures = "phase"
pickup = "1 A"
curve = { family = "iec", shape = "very-inverse", tms = 0.3 }
[[element]]
id = "50P"
function = "overcurrent"
measures = "phase"
pickup = "8 A"
curve = { family = "definite", delay = "60 ms" }
[[element]]
id = "50N"
function = "overcurrent"
measures = "residual"
pickup = "0.3 A"
curve = { family = "definite", delay = "0.5 s" }
trip = "earth"
"#;

fn point(id: &str, multiple: f64, measured: Option<f64>, verdict: Verdict) -> Grade {
    let operates = multiple > 1.0;
    Grade {
        point: PointId {
            id: id.into(),
            test: "times".into(),
            element: Some("51P".into()),
            fault_loop: Some(FaultLoop::AN),
        },
        attempt: 1,
        criterion: if operates { Criterion::TRIP_TIME } else { Criterion::NO_OPERATION },
        stimulus: Values::none()
            .with("multiple", Ratio::from(multiple))
            .with("current", amperes(multiple)),
        expected: if operates {
            Values::none().with("time", seconds(4.05))
        } else {
            Values::none()
        },
        measured: Values::none().with_some("time", measured.map(seconds)),
        deviation: Values::none().with_some("time", measured.map(|t| seconds(t - 4.05))),
        limits: if operates {
            Limits::operation(Some(seconds(3.7)), Some(seconds(4.43)))
        } else {
            Limits::NoOperation
        },
        uncertainty: Values::none(),
        budget: Vec::new(),
        verdict,
        reason: "because <script>".into(),
        skipped: false,
        guarded: false,
    }
}

fn run(points: Vec<Grade>, outcome: Option<Outcome>) -> Run {
    let copy = |text: &str| FileCopy { name: "f".into(), text: text.into(), beside: Vec::new() };
    let summary = Summary::of(points.iter().map(|g| g.verdict));
    Run {
        notes: vec![(
            "2026-03-03T08:00:00Z".into(),
            Some("R. Amsel".into()),
            "terminal <3> was loose".into(),
        )],
        served: Vec::new(),
        started: RunStarted {
            format: 1,
            version: "0".into(),
            title: "Annual <test>".into(),
            tester: Some("R. Amsel".into()),
            reason: None,
            ambient: vec![("temperature".into(), "19 °C".into())],
            rig_name: "virtual".into(),
            seed: Some(7),
            specimen_seed: None,
            asset: copy(ASSET),
            plan: copy(""),
            rig: copy(""),
            scripts: Vec::new(),
            hookup: None,
            rule: Default::default(),
            resolved: None,
            only: Vec::new(),
        },
        started_at: "2026-05-04T08:00:00.000Z".into(),
        last_at: "2026-05-04T08:06:22.123Z".into(),
        points,
        superseded: Vec::new(),
        from_device: Vec::new(),
        changes: Vec::new(),
        kept: Vec::new(),
        again: Vec::new(),
        from_file: Vec::new(),
        ended: outcome.map(|outcome| RunEnded {
            outcome,
            summary,
            not_reached: 0,
            left_out: Vec::new(),
            owed: Vec::new(),
            open: Vec::new(),
            injected: seconds(1.0),
        }),
        cut_bytes: 0,
        broken_at: None,
    }
}

fn all_kinds() -> Vec<Grade> {
    vec![
        point("times/A-N/2x", 2.0, Some(4.1), Verdict::Pass),
        point("times/B-N/2x", 2.0, Some(4.9), Verdict::Fail),
        point("times/C-N/2x", 2.0, None, Verdict::Inconclusive),
        point("times/A-N/0.9x", 0.9, None, Verdict::Pass),
        point("times/B-N/0.9x", 0.9, None, Verdict::NotTested),
    ]
}

#[test]
fn the_report_shows_verdict_values_and_title_block_and_escapes_what_files_say() {
    let page = html(&[(&run(all_kinds(), Some(Outcome::Completed))).into()], false, WINGS).unwrap();
    for part in [
        "<strong>FAIL</strong>",
        "2 of 5 points pass",
        "R. Amsel",
        "temperature 19 °C",
        "simulation, seed 7",
        "2026-05-04 08:06:22 UTC",
        "IEC very-inverse, TMS 0.3",
        "4.900 s",
        "+850 ms",
        "3.700 s … 4.430 s",
        "? inconclusive",
        "– not tested",
        "Annual &lt;test&gt;",
        "Q01 &lt;b&gt;&amp;",
    ] {
        assert!(page.contains(part), "{part}");
    }
    assert!(!page.contains("because <script>") && !page.contains("Q01 <b>"));
}

/// No element has an attribute twice, and no text of a file turns the page around.
#[test]
fn the_page_is_well_formed_whatever_the_files_say() {
    let mut odd = run(all_kinds(), Some(Outcome::Completed));
    odd.started.title = "A\u{202e}B\u{7}C".into();
    odd.points[0].reason = "x\u{2066}y".into();
    let page = html(&[(&odd).into()], true, WINGS).unwrap();
    assert!(page.contains("A\u{fffd}B\u{fffd}C"));
    assert!(!page.contains(['\u{202e}', '\u{2066}', '\u{7}']));
    for tag in page.split('<').filter_map(|t| Some(t.split_once('>')?.0)) {
        let names = tag.split('"').step_by(2).filter_map(|t| t.trim().strip_suffix('='));
        let mut names: Vec<&str> = names.collect();
        let count = names.len();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), count, "<{tag}>");
    }
}

#[test]
fn what_is_not_whole_is_never_called_a_pass() {
    let good = || vec![point("times/A-N/2x", 2.0, Some(4.1), Verdict::Pass)];
    let stamp = |run: &Run| {
        let page = html(&[run.into()], false, WINGS).unwrap();
        let start = page.find("<strong>").unwrap() + 8;
        page[start..start + page[start..].find('<').unwrap()].to_owned()
    };
    assert_eq!(stamp(&run(good(), Some(Outcome::Completed))), "PASS");
    // Some points were repeated and pass; others of the plan still wait.
    let mut redone = run(good(), Some(Outcome::Completed));
    let open = ["times/A-N/5x", "times/B-N/5x", "slow/A-N"].map(String::from).to_vec();
    redone.ended.as_mut().unwrap().not_reached = open.len();
    redone.ended.as_mut().unwrap().open = open;
    assert_eq!(stamp(&redone), "NOT FULLY TESTED");
    let page = html(&[(&redone).into()], false, WINGS).unwrap();
    for part in ["3 points were not reached", "1 of 4 points pass", "A-N/5x, B-N/5x", ">slow<"] {
        assert!(page.contains(part), "{part}");
    }
    assert_eq!(stamp(&run(good(), Some(Outcome::Stopped))), "INCONCLUSIVE");
    assert_eq!(stamp(&run(good(), Some(Outcome::RigTrouble("gone".into())))), "INCONCLUSIVE");
    assert_eq!(stamp(&run(good(), None)), "INCOMPLETE");
    assert_eq!(stamp(&run(all_kinds(), None)), "FAIL");
    let mut changed = run(good(), Some(Outcome::Completed));
    changed.broken_at = Some(4);
    assert!(html(&[(&changed).into()], false, WINGS).unwrap().contains("line 4 does not follow"));
}

#[test]
fn diagrams_are_grouped_by_contact_and_quantity_and_marks_tell_outcomes_by_shape() {
    let asset = run(vec![], None).asset(WINGS).unwrap();
    let of_asset = WINGS.charts(&asset, Told::points(&[]));
    let elements: Vec<Vec<&str>> =
        of_asset.iter().map(|c| c.of.iter().map(|e| e.as_str()).collect()).collect();
    assert_eq!(elements, [vec!["51P", "50P"], vec!["50N"]]);
    let of_run = WINGS.charts(&asset, Told::points(&all_kinds()));
    assert_eq!(of_run.len(), 1, "only what was tested");
    let panel = &of_run[0].panels[0];
    let outcomes: Vec<Mark> = panel.marks.iter().map(|m| m.outcome).collect();
    assert_eq!(
        outcomes,
        [Mark::Pass, Mark::Fail, Mark::Open, Mark::Nothing],
        "not tested: no mark"
    );
    // The composite drops to the fast stage's time at its pickup, and the band encloses the curve.
    let curve = &panel.curves.iter().find(|c| c.style == Style::Expected).unwrap().points;
    assert!(curve.iter().filter(|(i, _)| *i > 8.01).all(|(_, t)| (*t - 0.06).abs() < 1e-12));
    for (i, t) in curve {
        let edges: Vec<f64> =
            panel.regions[0].outline.iter().filter(|(b, _)| b == i).map(|(_, t)| *t).collect();
        let [earliest, latest] = edges[..] else { panic!("{i} A: {edges:?}") };
        assert!(earliest <= *t && *t <= latest, "{i} A");
    }
}

#[test]
fn pictures_carry_their_text_and_are_rendered_with_the_built_in_font() {
    let asset = run(vec![], None).asset(WINGS).unwrap();
    let diagram = &WINGS.charts(&asset, Told::points(&all_kinds()))[0];
    let picture = svg(diagram, (640, 400)).unwrap();
    assert!(picture.starts_with("<svg width=\"640\" height=\"400\""));
    assert_eq!(picture.matches("<title>").count(), 4);
    assert!(picture.contains("Trip time, s") && picture.contains("Phase current, A secondary"));
    // The same diagram as a picture: its size, and ink where the title stands, which a renderer
    // without fonts leaves empty.
    let bytes = png(diagram, (640, 400)).unwrap();
    let mut reader = png::Decoder::new(std::io::Cursor::new(bytes)).read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut pixels).unwrap();
    assert_eq!((info.width, info.height), (640, 400));
    let ink = |x: std::ops::Range<usize>, y: std::ops::Range<usize>| {
        let dark = |(x, y): (usize, usize)| pixels[(y * 640 + x) * 3] < 128;
        y.flat_map(|y| x.clone().map(move |x| (x, y))).filter(|at| dark(*at)).count()
    };
    assert!(ink(76..400, 12..36) > 200, "the title");
    assert!(ink(76..180, 46..60) > 40, "what the panel shows");
    assert_eq!(ink(500..640, 0..14), 0, "and none where nothing stands");
}
