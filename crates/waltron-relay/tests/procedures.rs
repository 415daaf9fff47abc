//! Procedures fed with observations made by hand.

use waltron_core::asset::{Asset, Longest, Rating};
use waltron_core::clearance::{Refusal, clear};
use waltron_core::grading::{Finding, Verdict};
use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::observation::{Edge, Ended, Observation, Span};
use waltron_core::injection::program::{Profile, Program};
use waltron_core::procedure::{Action, Answer, Bench, Procedure, SetupError};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Measure, Time, amperes, seconds};

const ASSET: &str = r#"
[asset]
kind = "relay"
tag = "Q01"
[ratings]
frequency = "50 Hz"
thermal = [{ current = "4 A" }, { current = "30 A", for = "10 s" }, { current = "100 A", for = "1 s" }]
[tolerance]
current = "2 %"
time = "5 % or 40 ms"
[[element]]
id = "51P"
function = "overcurrent"
measures = "phase"
pickup = "1 A"
reset_ratio = "95 %"
curve = { family = "iec", shape = "very-inverse", tms = 0.3 }
[[element]]
id = "50P"
function = "overcurrent"
measures = "phase"
pickup = "8 A"
curve = { family = "definite", delay = "60 ms" }
[[element]]
id = "51N"
function = "overcurrent"
enabled = false
measures = "residual"
pickup = "0.2 A"
curve = { family = "definite", delay = "1 s" }
"#;

fn asset() -> Asset {
    waltron_test_support::asset(ASSET)
}

fn rig(meanings: &[&str]) -> Capability {
    let accuracy = Tolerance::larger_of(0.001, amperes(0.0));
    let mut rig = waltron_test_support::capability(meanings);
    for channel in &mut rig.currents {
        *channel = Channel { range: amperes(32.0), accuracy: accuracy.into(), ..channel.clone() };
    }
    Capability { voltages: Vec::new(), ..rig }
}

fn procedure(test: &str, meanings: &[&str]) -> Result<Box<dyn Procedure>, SetupError> {
    procedure_on(&asset(), test, meanings)
}

fn procedure_on(
    asset: &Asset,
    test: &str,
    meanings: &[&str],
) -> Result<Box<dyn Procedure>, SetupError> {
    let rig = rig(meanings);
    let plan = waltron_test_support::plan(&format!("[[test]]\nid = \"t\"\n{test}"), asset);
    let procedure = plan.tests[0].procedure(Bench { asset, capability: &rig })?;
    Ok(procedure.expect("no sequence"))
}

fn injected(p: &mut dyn Procedure) -> Program {
    match p.next() {
        Action::Inject(program) => std::sync::Arc::unwrap_or_clone(program),
        other => panic!("expected an injection, got {other:?}"),
    }
}

/// An observation of a program in which contacts change at times since a segment's start.
fn seen(program: &Program, segment: &str, edges: &[(&str, f64, bool)]) -> Observation {
    let mut start = seconds(0.0);
    let mut spans = Vec::new();
    let mut base = seconds(0.0);
    for s in &program.segments {
        let end = start + s.longest().unwrap();
        if s.name == segment {
            base = start;
        }
        spans.push(Span { start, end, ended: Ended::Finished });
        start = end;
    }
    let edge = |(signal, t, closed): &(&str, f64, bool)| Edge {
        signal: (*signal).into(),
        time: base + seconds(*t),
        closed: *closed,
    };
    Observation {
        segments: spans,
        closed_at_start: vec![],
        edges: edges.iter().map(edge).collect(),
        ..Default::default()
    }
}

fn one(grades: Vec<Finding>) -> Finding {
    assert_eq!(grades.len(), 1);
    grades.into_iter().next().unwrap()
}

#[test]
fn trip_times_are_taken_from_inception_and_graded() {
    let mut p = procedure("procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"0.9 x\", \"2 x\", \"2.5 x\"]\nprefault = \"0.5 A\"", &["trip"]).unwrap();
    let program = injected(&mut *p);
    assert_eq!(
        program.segments.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(),
        ["rest", "pre-fault", "fault"]
    );
    let below = one(p.observe(&seen(&program, "fault", &[])));
    assert_eq!((below.verdict, below.point.id.as_str()), (Verdict::Pass, "t/A-N/0.9x"));
    let program = injected(&mut *p);
    let late = one(p.observe(&seen(&program, "fault", &[("trip", 4.6, true)])));
    assert_eq!(late.verdict, Verdict::Fail);
    assert!(
        (late.measured.get("time").unwrap() - 4.6).abs() < 1e-9 && late.reason.contains("too late")
    );
    // Operation during pre-fault is no trip time.
    let program = injected(&mut *p);
    let early = one(p.observe(&seen(&program, "pre-fault", &[("trip", 0.1, true)])));
    assert_eq!(early.verdict, Verdict::Fail);
    assert!(
        early.measured.is_empty() && early.reason.contains("before inception"),
        "{}",
        early.reason
    );
    assert_eq!(p.next(), Action::Done);
}

#[test]
fn a_contact_that_was_closed_before_the_injection_proves_nothing() {
    let mut p = procedure(
        "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"2 x\"]",
        &["trip"],
    )
    .unwrap();
    let program = injected(&mut *p);
    let mut stuck = seen(&program, "fault", &[]);
    stuck.closed_at_start = vec!["trip".into()];
    let grade = one(p.observe(&stuck));
    assert_eq!(grade.verdict, Verdict::Inconclusive);
    assert!(grade.reason.contains("reset the relay"));
}

#[test]
fn a_point_that_another_stage_may_answer_is_not_tested_unless_the_contact_is_meant() {
    let test = "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"8 x\", \"10 x\", \"2 x\"]";
    let mut p = procedure(test, &["trip"]).unwrap();
    for point in ["8x", "10x"] {
        let Action::Conclude(grades) = p.next() else { panic!("nothing may be injected") };
        assert_eq!(grades[0].verdict, Verdict::NotTested);
        assert!(grades[0].point.id.ends_with(point));
        assert!(
            grades[0].reason.starts_with("50P may operate from 20 ms on"),
            "{}",
            grades[0].reason
        );
    }
    assert!(matches!(p.next(), Action::Inject(_)), "at 2 x there is nothing but 51P");
    // The slower stage behind the faster one: at 10 x of 51P, 51P has no part in 50P's time.
    let p = procedure(
        "procedure = \"trip-time\"\nelement = \"50P\"\nloops = [\"A-N\"]\nat = [\"1.5 x\"]",
        &["trip"],
    );
    assert!(p.unwrap().planned()[0].not_tested.is_none());
    let p = procedure(&format!("{test}\nof = \"contact\""), &["trip"]).unwrap();
    let planned = p.planned();
    // At 8 A the fast stage may or may not pick up: early operation is allowed, not required.
    assert!((planned[0].expected.get("time").unwrap() - 0.3 * 13.5 / 7.0).abs() < 1e-9);
    assert!((planned[0].limits.lower().unwrap() - 0.02).abs() < 1e-9);
    assert!(planned[0].limits.upper().unwrap() > 0.58);
    assert!((planned[1].expected.get("time").unwrap() - 0.06).abs() < 1e-12);
}

#[test]
fn asking_for_a_reset_comes_after_an_operation_only() {
    let mut p = procedure("procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"0.9 x\", \"2 x\", \"3 x\"]\nreset = \"ask\"", &["trip"]).unwrap();
    let program = injected(&mut *p);
    p.observe(&seen(&program, "fault", &[]));
    let program = injected(&mut *p);
    p.observe(&seen(&program, "fault", &[("trip", 4.0, true)]));
    assert!(matches!(p.next(), Action::Ask(q) if q.text.contains("Reset")));
    p.answer(Answer::Confirmed);
    assert!(matches!(p.next(), Action::Inject(_)));
}

#[test]
fn a_function_that_is_off_is_not_tested_and_says_why() {
    let mut p = procedure(
        "procedure = \"trip-time\"\nelement = \"51N\"\nloops = [\"A-N\"]\nat = [\"2 x\"]",
        &["trip"],
    )
    .unwrap();
    let Action::Conclude(grades) = p.next() else { panic!("nothing may be injected") };
    assert_eq!(grades[0].verdict, Verdict::NotTested);
    assert!(grades[0].reason.contains("switched off"));
    assert_eq!(p.next(), Action::Done);
}

#[test]
fn what_cannot_be_seen_is_refused_at_set_up() {
    let refused =
        |test: &str, meanings: &[&str]| procedure(test, meanings).map(|_| ()).unwrap_err();
    let on_pair = "procedure = \"trip-time\"\nelement = \"51N\"\nloops = [\"A-B\"]\nat = [\"2 x\"]";
    assert!(matches!(refused(on_pair, &["trip"]), SetupError::NotOnLoop { .. }));
    let times = "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"2 x\"]";
    assert!(matches!(refused(times, &["start"]), SetupError::NotWired { .. }));
    let twice = "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"2 x\", \"2 A\", \"200 %\"]";
    assert!(matches!(refused(twice, &["trip"]), SetupError::Twice { .. }));
}

fn stairs_of(program: &Program, name: &str) -> (Time, u32) {
    let Profile::Stairs(s) = &program.segments[program.position(name).unwrap()].profile else {
        panic!()
    };
    (s.dwell, s.steps)
}

#[test]
fn pickup_and_dropout_are_read_off_the_stair() {
    let mut p = procedure("procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"B-N\"]\nfrom = \"0.9 x\"\nto = \"1.1 x\"\nstep = \"10 mA\"", &["trip", "start"]).unwrap();
    let up = injected(&mut *p);
    let (dwell, steps) = stairs_of(&up, "ramp up");
    assert_eq!((dwell.si(), steps), (0.2, 20));
    // Level 11 is 1.01 A; the contact answers 20 ms into it: the pickup lies between it and 1 A.
    let grade = one(p.observe(&seen(&up, "ramp up", &[("start", 11.0 * 0.2 + 0.02, true)])));
    assert_eq!(grade.verdict, Verdict::Pass);
    assert!((grade.measured.get("current").unwrap() - 1.005).abs() < 1e-9);
    // Anywhere within half a step, and within 0.1 % of what is put out.
    let u = grade.uncertainty.get("u").unwrap();
    assert!((u - 2.0 / 3f64.sqrt() * 0.005f64.hypot(0.001 * 1.005)).abs() < 1e-9, "{u}");
    let down = injected(&mut *p);
    // From 1.045 A down by 10 mA: level 9 is 0.955 A, so the dropout lies between it and 0.965 A.
    let mut observation = seen(&down, "ramp down", &[("start", 9.0 * 0.2 + 0.02, false)]);
    observation.edges.insert(0, Edge { signal: "start".into(), time: seconds(1.1), closed: true });
    let grade = one(p.observe(&observation));
    assert!((grade.measured.get("reset_ratio").unwrap() - 0.96 / 1.005).abs() < 1e-9);
    // By the steps alone, 0.955 224 · √((5.7735/960)² + (5.7735/1005)²): what the output is off by is in both.
    assert!((grade.uncertainty.get("u").unwrap() - 0.007_944).abs() < 2e-6);
    assert_eq!(grade.verdict, Verdict::Pass);
    assert_eq!(p.next(), Action::Done);
}

#[test]
fn a_pickup_outside_the_ramp_fails_and_leaves_the_reset_untested() {
    let test = "procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"A-N\"]";
    let mut p = procedure(test, &["trip", "start"]).unwrap();
    let up = injected(&mut *p);
    let grades = p.observe(&seen(&up, "ramp up", &[]));
    assert_eq!(grades[0].verdict, Verdict::Fail);
    assert!(grades[0].reason.contains("no operation up to 1.2 A"));
    assert_eq!(grades[1].verdict, Verdict::NotTested);
    let mut p = procedure(test, &["trip", "start"]).unwrap();
    let up = injected(&mut *p);
    let grades = p.observe(&seen(&up, "ramp up", &[("start", 0.02, true)]));
    assert!(grades[0].reason.contains("where the ramp starts"));
}

#[test]
fn a_stage_behind_another_is_ramped_in_pulses_on_the_trip() {
    let mut p = procedure("procedure = \"pickup\"\nelement = \"50P\"\nloops = [\"A-N\"]\nfrom = \"0.95 x\"\nto = \"1.05 x\"", &["trip", "start"]).unwrap();
    let up = injected(&mut *p);
    let Profile::Stairs(stairs) = &up.segments[1].profile else { panic!() };
    let pulse = stairs.dwell.si();
    // Longer than 60 ms + 40 ms, shorter than 51P's earliest at 8.4 A: 0.3·13.5/7.57·0.95 less tolerance.
    assert!(pulse > 0.1 && pulse < 0.49, "{pulse}");
    assert!(stairs.rest.is_some());
    let level = stairs.period().si() * 12.0 + 0.07;
    let grade = one(p.observe(&seen(&up, "ramp up", &[("trip", level, true)])));
    assert!((grade.measured.get("current").unwrap() - (7.6 + 11.5 * 0.032)).abs() < 1e-9);
}

/// What pulses cannot show is told before, and chosen alone nothing is put out for it.
#[test]
fn pulses_promise_no_reset_ratio() {
    let text = ASSET.replace("id = \"50P\"", "id = \"50P\"\nreset_ratio = \"95 %\"");
    let asset = waltron_test_support::asset(&text);
    let test = "procedure = \"pickup\"\nelement = \"50P\"\nloops = [\"A-N\"]\nfrom = \"0.95 x\"\nto = \"1.05 x\"";
    let mut p = procedure_on(&asset, test, &["trip", "start"]).unwrap();
    let planned = p.planned();
    let told: Vec<(usize, bool)> =
        planned.iter().map(|p| (p.points.len(), p.not_tested.is_some())).collect();
    assert_eq!(told, [(1, false), (1, true)]);
    assert!(planned[1].points[0].point.id.ends_with("/reset"));
    p.retain(&|point| point.id.ends_with("/reset"));
    assert_eq!(p.next(), Action::Done);
}

#[test]
fn an_inverse_stage_without_pickup_contact_is_not_tested_and_says_why() {
    let mut p =
        procedure("procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"A-N\"]", &["trip"])
            .unwrap();
    let Action::Conclude(grades) = p.next() else { panic!() };
    assert!(grades.iter().all(|g| g.verdict == Verdict::NotTested));
    assert!(grades[0].reason.contains("no input is wired to a pickup contact"));
}

#[test]
fn heating_is_added_up_and_refused_with_the_limit() {
    let asset = asset();
    let level = |at: &str| {
        procedure(
            &format!(
                "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"{at}\"]"
            ),
            &["trip"],
        )
        .unwrap()
        .planned()
        .remove(0)
        .program
    };
    let clear_it = |program| clear(program, &asset.ratings, &rig(&["trip"]));
    assert!(clear_it((*level("20 x")).clone()).is_ok());
    assert!(matches!(
        clear_it((*level("150 A")).clone()).unwrap_err()[..],
        [Refusal::AboveRange { .. }, Refusal::AboveRating { .. }]
    ));
    let longest = |i: f64| asset.ratings.currents.longest(amperes(i));
    // 30 A may flow for 10 s, and 29 A for 10 s·(30/29)²: the 100 A rating's larger I²t does not count.
    assert!(matches!(longest(29.0), Longest::For(t) if (t.si() - 9000.0 / 841.0).abs() < 1e-9));
    assert_eq!(longest(4.0), Longest::Forever);
    assert_eq!(longest(101.0), Longest::Never);
    let rating = Rating { value: amperes(30.0), duration: Some(seconds(10.0)) };
    assert_eq!(rating.to_string(), "30 A for 10 s");
}

/// A level lasts as long as the start contact needs; never shorter, whatever the plan says.
#[test]
fn the_dwell_follows_from_the_elements_own_start_time() {
    let dwell = |start_time: &str, plan: &str| {
        let text = ASSET.replace("reset_ratio = \"95 %\"\n", &format!("{start_time}\n"));
        let test = format!("procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"A-N\"]\n{plan}");
        let asset = waltron_test_support::asset(&text);
        let mut p = procedure_on(&asset, &test, &["trip", "start"]).unwrap();
        match &injected(&mut *p).segments[1].profile {
            Profile::Stairs(stairs) => stairs.dwell.si(),
            other => panic!("{other:?}"),
        }
    };
    let slow = "start_time = \"300 ms\"";
    assert_eq!(dwell("", ""), 0.2);
    assert_eq!(dwell(slow, ""), 0.6);
    assert_eq!(dwell("start_time = \"15 ms\"", ""), 0.03);
    assert_eq!(dwell(slow, "dwell = \"100 ms\""), 0.3);
    assert_eq!(dwell(slow, "dwell = \"1 s\""), 1.0);
}

/// So near the setting that nothing is required, a trip that is too early must still be seen: the wait
/// outlasts the earliest time, however late that is.
#[test]
fn the_wait_outlasts_the_earliest_time() {
    let text = ASSET.replace("tms = 0.3", "tms = 3");
    let asset = waltron_test_support::asset(&text);
    let test = "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"1.01 x\"]";
    let mut p = procedure_on(&asset, test, &["trip", "start"]).unwrap();
    let program = injected(&mut *p);
    let fault = program.segments.last().unwrap().longest().unwrap().si();
    // 2 % more than 1.01 x: 3 * 13.5 / 0.0302 s, less 5 %.
    assert!(fault > 3.0 * 13.5 / 0.0302 * 0.95, "{fault}");
}

/// What was not put out reaches a procedure as that: its points are not tested, with what was required of
/// them and the reason, and the next ones are injected.
#[test]
fn a_refused_injection_leaves_its_points_untested_and_goes_on() {
    let mut p = procedure(
        "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"2 x\", \"3 x\"]",
        &["trip"],
    )
    .unwrap();
    injected(&mut *p);
    let refused = one(p.refuse("60 A on ia is above the rig's range"));
    assert_eq!((refused.verdict, refused.point.id.as_str()), (Verdict::NotTested, "t/A-N/2x"));
    assert!(refused.reason.contains("above the rig's range") && refused.measured.is_empty());
    assert!(refused.limits.upper().is_some());
    let program = injected(&mut *p);
    let next = one(p.observe(&seen(&program, "fault", &[("trip", 0.3 * 13.5 / 2.0, true)])));
    assert_eq!((next.verdict, next.point.id.as_str()), (Verdict::Pass, "t/A-N/3x"));
    let mut p = procedure(
        "procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"A-N\", \"B-N\"]",
        &["trip", "start"],
    )
    .unwrap();
    injected(&mut *p);
    let refused = p.refuse("too hot");
    assert!(!refused.is_empty() && refused.iter().all(|f| f.verdict == Verdict::NotTested));
    assert!(refused.iter().all(|f| f.reason == "too hot" && f.point.id.starts_with("t/A-N")));
    injected(&mut *p);
    assert!(p.injection().point.unwrap().starts_with("t/B-N"));
}

/// What was waited for too briefly proves nothing, in the run as when it is graded again; what is on before the fault
/// must not have begun to count.
#[test]
fn no_trip_needs_its_time_and_a_healthy_state_before() {
    let waited = |wait: &str| {
        let test = format!(
            "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"0.9 x\"]\n{wait}"
        );
        let mut procedure = procedure(&test, &["trip"]).unwrap();
        let Action::Inject(program) = procedure.next() else { panic!() };
        let mut now = seconds(0.0);
        let spans = program.segments.iter().map(|segment| {
            let start = now;
            now += segment.longest().unwrap();
            Span { start, end: now, ended: Ended::Stop(0) }
        });
        let seen = Observation { segments: spans.collect(), ..Default::default() };
        procedure.observe(&seen)[0].clone()
    };
    assert_eq!(waited("").verdict, Verdict::Pass, "{}", waited("").reason);
    let brief = waited("wait = \"1 ms\"\n");
    assert_eq!(brief.verdict, Verdict::Inconclusive);
    assert!(brief.reason.starts_with("waited 1 ms only"), "{}", brief.reason);
    let before = |prefault: &str| {
        let test = format!(
            "procedure = \"trip-time\"\nelement = \"50P\"\nloops = [\"A-N\"]\nat = [\"2 x\"]\nprefault = \"{prefault}\""
        );
        procedure(&test, &["trip"]).map(|_| ())
    };
    // 51P picks up at 1 A, 2 % less at the least.
    assert!(before("0.97 A").is_ok());
    for load in ["0.99 A", "1.5 A"] {
        let refused = before(load).unwrap_err().to_string();
        assert!(refused.contains("may start 51P"), "{load}: {refused}");
    }
}

/// A contact that may have latched is reset after the last point, too, and by the run that goes on where one was cut.
#[test]
fn what_latched_is_reset_whatever_comes_next() {
    use waltron_core::procedure::Carried;
    let test = "procedure = \"trip-time\"\nelement = \"50P\"\nloops = [\"A-N\"]\nat = [\"2 x\"]\nreset = \"ask\"";
    let mut first = procedure(test, &["trip"]).unwrap();
    let Action::Inject(program) = first.next() else { panic!() };
    let mut cut = Carried::new();
    first.hand_on_if_cut(&mut cut);
    let rest = program.segments[0].longest().unwrap();
    let at = rest + seconds(0.07);
    let seen = Observation {
        segments: vec![
            Span { start: seconds(0.0), end: rest, ended: Ended::Stop(0) },
            Span { start: rest, end: at, ended: Ended::Stop(0) },
        ],
        edges: vec![Edge { signal: "trip".into(), time: at, closed: true }],
        ..Default::default()
    };
    assert_eq!(first.observe(&seen)[0].verdict, Verdict::Pass);
    let mut carried = Carried::new();
    first.hand_on(&mut carried);
    assert!(matches!(first.next(), Action::Ask(_)));
    for left in [&carried, &cut] {
        let mut next = procedure(test, &["trip"]).unwrap();
        next.take_over(left);
        assert!(matches!(next.next(), Action::Ask(_)), "{left:?}");
    }
    first.answer(Answer::Confirmed);
    assert_eq!(first.next(), Action::Done);
    first.hand_on(&mut carried);
    let mut next = procedure(test, &["trip"]).unwrap();
    next.take_over(&carried);
    assert!(matches!(next.next(), Action::Inject(_)));
}
