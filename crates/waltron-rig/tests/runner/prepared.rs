//! What a plan is set up to: chosen by points, tests and records; counted and timed before anything is put out.

use super::bench::{Script, Stage, Step, direct, out};
use super::{PASS, at, inject, script};
use waltron_core::grading::{Rule, Verdict};
use waltron_core::plan::selection::Selection;
use waltron_core::quantity::seconds;
use waltron_core::record::{Chain, Chosen, Event, FileCopy, Progress, RunStarted};
use waltron_rig::runner::Prepared;

/// A test of single injections, one whose steps depend on each other, and one that grades nothing.
fn scripts() -> Vec<Script> {
    let alone = Script {
        id: "alone",
        steps: vec![
            inject(at("A", out(1.0, 1.0)), "a"),
            inject(out(2.0, 1.5), "b"),
            inject(out(3.0, 0.5), "c"),
        ],
        alone: true,
    };
    let whole = script("whole", vec![inject(out(4.0, 1.0), "d"), inject(out(2.5, 1.0), "e")]);
    vec![
        alone,
        whole,
        script("quiet", vec![Step::Ask("Look"), Step::Inject(out(1.5, 1.0), vec![])]),
    ]
}

fn ids(prepared: &Prepared) -> Vec<&str> {
    prepared.points().map(|p| p.id.as_str()).collect()
}

fn most(prepared: &Prepared) -> f64 {
    prepared.maxima().iter().map(|(_, si, _)| *si).fold(0.0, f64::max)
}

/// A point brings what it needs and no more: single injections alone, else its whole test; the maxima and the time are
/// those of what is left.
#[test]
fn what_is_chosen_is_all_that_is_left() {
    let stage = Stage::new(scripts());
    let all = ["alone/a", "alone/b", "alone/c", "whole/d", "whole/e"];
    let chosen = |pattern: &str| {
        let mut prepared = stage.prepared();
        assert_eq!(ids(&prepared), all);
        prepared.keep(&Chosen::Matching(Selection::new(pattern)));
        prepared
    };
    for (pattern, points, tests, most_a, time) in [
        ("*", &all[..], &["alone", "whole", "quiet"][..], 4.0, 6.0 + 1.5),
        ("alone/b", &all[1..2], &["alone"], 2.0, 1.5 + 0.5),
        ("alone/[ac]", &[], &[], 0.0, 0.0),
        ("whole/e", &all[3..], &["whole"], 4.0, 2.0 + 0.5),
        ("quiet", &[], &["quiet"], 1.5, 1.0 + 0.5),
        ("none", &[], &[], 0.0, 0.0),
    ] {
        let prepared = chosen(pattern);
        assert_eq!(ids(&prepared), points, "{pattern}");
        let has: Vec<&str> =
            ["alone", "whole", "quiet"].into_iter().filter(|t| prepared.has(t)).collect();
        assert_eq!((has.as_slice(), prepared.is_empty()), (tests, tests.is_empty()), "{pattern}");
        assert!((most(&prepared) - most_a).abs() < 1e-9, "{pattern}");
        assert_eq!(prepared.point_count(), points.len());
        let likely = prepared.likely_time(stage.asset(), &stage.rig.capability);
        assert!((likely - seconds(time)).value.abs() < 1e-9, "{pattern}: {likely:?}");
        // Choosing the same again changes nothing.
        let mut again = stage.prepared();
        again.keep(&prepared.chosen());
        assert_eq!(ids(&again), points, "{pattern}");
        assert_eq!(again.is_empty(), prepared.is_empty());
    }
    let prepared = stage.prepared();
    assert!(prepared.fits(&Selection::new("quiet")) && prepared.fits(&Selection::new("*/d")));
    assert!(!prepared.fits(&Selection::new("loud")));
    assert!(prepared.is_exact() && !prepared.may_execute());
    let mut one = stage.prepared();
    one.keep_only("whole");
    assert_eq!((ids(&one), one.has("alone")), (all[3..].to_vec(), false));
}

/// The time has the rests in which the asset cools and the time that insulation stays earthed.
#[test]
fn the_time_tells_rests_and_earthing_too() {
    let with = |steps: Vec<Step>| {
        let stage = Stage::new(vec![script("t", steps)]);
        stage.prepared().likely_time(stage.asset(), &stage.rig.capability).value
    };
    let hot = |n: usize| with((0..n).map(|_| inject(out(20.0, 1.5), "a")).collect());
    // Three quarters of what is withstood: half of it must be gone before as much comes again, then three quarters.
    let (first, second) = (hot(2) - hot(1) - 1.5, hot(3) - hot(2) - 1.5);
    assert!((hot(1) - 2.0).abs() < 1e-9 && first > 20.0, "{} {first}", hot(1));
    assert!((second / first - 1.5).abs() < 1e-3, "{first} {second}");
    let mut charging = direct(5000.0, 2.0);
    charging.earth = Some("H".into());
    assert!((with(vec![inject(charging, "a")]) - (2.0 + 8.0 + 0.5)).abs() < 1e-9);
}

/// What is refused is told once for a cause, with how many more points it stops; repeats share their program.
#[test]
fn each_cause_is_told_once_with_how_many_it_stops() {
    let bad = |amps: f64| out(amps, 1.0);
    let steps = vec![
        inject(bad(25.0), "a"),
        inject(bad(26.0), "b"),
        inject(out(1.0, 1.0), "c"),
        Step::Inject(bad(27.0), vec![("d", PASS), ("e", PASS)]),
        inject(bad(31.0), "f"),
        inject(out(20.0, 9.0), "g"),
    ];
    let stage = Stage::new(vec![script("t", steps)]);
    let told: Vec<String> = stage.refused().iter().map(|b| b.obstacle.to_string()).collect();
    assert_eq!(
        told,
        [
            "t/a and 4 more points: 25 A on ia is above the asset's highest thermal rating, 20 A for 2 s",
            "t/f: 31 A on ia is above the rig's range of 30 A",
            "t/g: up to 20 A for up to 9 s on ia heats more than the asset's thermal rating of 20 A for 2 s allows",
        ]
    );
    assert!(Stage::new(scripts()).refused().is_empty());
}

fn started() -> Event {
    let file = FileCopy { name: "f".into(), text: String::new(), beside: Vec::new() };
    Event::RunStarted(Box::new(RunStarted {
        format: 1,
        version: "0".into(),
        title: "t".into(),
        tester: None,
        reason: None,
        ambient: Vec::new(),
        rig_name: "paper".into(),
        seed: None,
        specimen_seed: None,
        asset: file.clone(),
        plan: file.clone(),
        rig: file,
        scripts: Vec::new(),
        hookup: None,
        rule: Rule::default(),
        resolved: None,
        only: Vec::new(),
    }))
}

/// A record as far as it goes, by its lines.
fn record(events: &[Event]) -> Progress {
    let mut chain = Chain::default();
    let lines = std::iter::once(started()).chain(events.iter().cloned());
    let text: Vec<String> =
        lines.map(|event| chain.line("2026-05-04T08:00:00.000Z", &event).unwrap()).collect();
    Progress::read_unchecked((text.join("\n") + "\n").as_bytes()).unwrap()
}

/// Cut anywhere, the rest is what was not graded, whole tests where steps depend on each other; going on grades every
/// point, and none twice but for those of a test that had to begin anew.
#[test]
fn a_record_that_is_cut_anywhere_is_gone_on_with() {
    let mut first = Stage::new(scripts());
    first.play();
    let events = first.events();
    for cut in 0..=events.len() {
        let mut stage = Stage::new(scripts());
        let progress = record(&events[..cut]);
        let graded: Vec<&str> = events[..cut]
            .iter()
            .filter_map(|e| if let Event::Graded(g) = e { Some(g.point.id.as_str()) } else { None })
            .collect();
        let mut prepared = stage.prepared();
        prepared.keep_open(&progress);
        let left = ids(&prepared);
        let ended = |test: &str| {
            events[..cut].iter().any(|e| matches!(e, Event::TestEnded { test: t, .. } if t == test))
        };
        for point in ["alone/a", "alone/b", "alone/c"] {
            assert_eq!(left.contains(&point), !graded.contains(&point), "{cut} {point}");
        }
        for point in ["whole/d", "whole/e"] {
            assert_eq!(left.contains(&point), !ended("whole"), "{cut} {point}");
        }
        let open: Vec<String> =
            stage.prepared().left_open(&progress).iter().map(|p| p.id.clone()).collect();
        assert_eq!(open, left, "{cut}");
        // With something chosen besides, that comes too.
        let mut both = stage.prepared();
        both.keep_with_open(&Chosen::Matching(Selection::new("alone/a")), &progress);
        assert!(
            ids(&both).contains(&"alone/a") && left.iter().all(|p| ids(&both).contains(p)),
            "{cut}"
        );
        let twice = left.iter().filter(|p| graded.contains(p)).count();
        let done = stage.run(prepared).1.unwrap();
        let all = graded.len() + done.grades.len();
        assert_eq!(all - twice, 5, "{cut}");
        assert!(done.grades.iter().all(|g| g.verdict == Verdict::Pass));
    }
}
