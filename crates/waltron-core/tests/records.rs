//! Records: chained lines, cuts at any byte, changes that show.

use std::sync::Arc;
use waltron_core::clearance::duty::Warm;
use waltron_core::grading::{Criterion, Grade, Limits, PointId, Summary, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::seconds;
use waltron_core::record::{
    Chain, Event, FileCopy, Line, Outcome, Progress, ReadError, Run, RunEnded, RunStarted, read,
};

fn record() -> String {
    let file =
        |name: &str| FileCopy { name: name.into(), text: "Ωé\n".into(), beside: Vec::new() };
    let started = RunStarted {
        format: 1,
        version: "0".into(),
        title: "Überstrom".into(),
        tester: Some("R. Amsel".into()),
        reason: None,
        ambient: vec![("temperature".into(), "19 °C".into())],
        rig_name: "virtual".into(),
        seed: Some(1),
        specimen_seed: None,
        asset: file("a"),
        plan: file("p"),
        rig: file("r"),
        scripts: Vec::new(),
        hookup: None,
        rule: Default::default(),
        resolved: None,
        only: Vec::new(),
    };
    let grade = |n: u32, verdict| {
        Event::Graded(Grade {
            point: PointId {
                id: format!("t/{}", n % 3),
                test: "t".into(),
                element: None,
                fault_loop: None,
            },
            attempt: n / 3 + 1,
            criterion: Criterion::TRIP_TIME,
            stimulus: Values::none().with("multiple", uom::si::f64::Ratio::default()),
            expected: Values::none().with("time", seconds(0.1 + 0.2)),
            measured: Values::none(),
            deviation: Values::none(),
            limits: Limits::None,
            uncertainty: Values::none(),
            budget: Vec::new(),
            verdict,
            reason: "–".into(),
            skipped: false,
            guarded: false,
        })
    };
    let mut events = vec![Event::RunStarted(Box::new(started))];
    events.extend((0..5).map(|n| grade(n, if n < 3 { Verdict::Fail } else { Verdict::Pass })));
    events.push(Event::RunEnded(RunEnded {
        outcome: Outcome::Completed,
        summary: Summary::default(),
        not_reached: 0,
        left_out: Vec::new(),
        owed: Vec::new(),
        open: Vec::new(),
        injected: seconds(1.5),
    }));
    let mut chain = Chain::default();
    events.iter().map(|e| chain.line("2026-05-04T08:00:00.000Z", e).unwrap() + "\n").collect()
}

#[test]
fn a_record_cut_at_any_byte_is_read_up_to_its_last_whole_event() {
    let text = record();
    let bytes = text.as_bytes();
    for cut in 0..=bytes.len() {
        let whole_lines = text.as_bytes()[..cut].iter().filter(|b| **b == b'\n').count();
        match read(&bytes[..cut]) {
            Ok(reading) => {
                // The last line may be whole but for its line break.
                let extra = reading.lines.len() - whole_lines;
                assert!(extra <= 1 && reading.broken_at.is_none(), "cut at {cut}");
                assert_eq!(reading.cut_bytes > 0, extra == 0 && cut > 0 && bytes[cut - 1] != b'\n');
                // Those who read less of it come to the same.
                let run = Run::read(&bytes[..cut]).unwrap();
                assert_eq!((run.cut_bytes, run.broken_at), (reading.cut_bytes, None));
                let progress = Progress::read(&bytes[..cut]).unwrap();
                assert_eq!(progress.lines as usize, reading.lines.len());
                assert_eq!(progress.tally.summary(), run.summary());
                assert_eq!(progress.is_closed, run.ended.is_some());
                assert_eq!(bytes[progress.last_line..progress.whole_bytes].last(), Some(&b'}'));
            }
            Err(error) => {
                assert!(
                    whole_lines == 0 && error == ReadError::NothingWhole,
                    "cut at {cut}: {error}"
                );
                assert_eq!(Run::read(&bytes[..cut]).unwrap_err(), ReadError::NothingWhole);
                assert_eq!(Progress::read(&bytes[..cut]).unwrap_err(), ReadError::NothingWhole);
            }
        }
    }
}

#[test]
fn the_latest_attempt_counts_and_floats_survive() {
    let run = Run::read(record().as_bytes()).unwrap();
    assert_eq!((run.points.len(), run.superseded.len()), (3, 2));
    assert_eq!(run.summary(), Summary { pass: 2, fail: 1, ..Summary::default() });
    assert_eq!(run.points[0].attempt, 2);
    assert_eq!(run.points[0].expected.get("time").unwrap().to_bits(), (0.1f64 + 0.2).to_bits());
}

/// What was not reached keeps a run from passing, what nobody asked for keeps the plan from it; nothing
/// takes a failure away.
#[test]
fn what_is_open_is_never_a_pass() {
    use Verdict::{Fail, NotTested, Pass};
    let passed = Summary { pass: 2, ..Summary::default() };
    let failed = Summary { pass: 1, fail: 1, ..Summary::default() };
    for (summary, not_reached, left_out, of_run, of_plan) in [
        (passed, 0, 0, Pass, Pass),
        (passed, 1, 0, NotTested, NotTested),
        (passed, 0, 1, Pass, NotTested),
        (passed, 1, 1, NotTested, NotTested),
        (failed, 1, 0, Fail, Fail),
        (failed, 0, 1, Fail, Fail),
    ] {
        let ended = RunEnded {
            outcome: Outcome::Completed,
            summary,
            not_reached,
            left_out: vec!["t/x".into(); left_out],
            owed: Vec::new(),
            open: Vec::new(),
            injected: seconds(1.5),
        };
        let told = (ended.verdict(), ended.verdict_of_plan());
        assert_eq!(told, (of_run, of_plan), "{not_reached} not reached, {left_out} left out");
        // Whoever grades a record again counts what is open as well.
        let mut run = Run::read(record().as_bytes()).unwrap();
        run.ended = Some(ended.clone());
        assert_eq!(run.verdict_of_plan(summary), of_plan);
        assert_eq!(run.left_open(), (not_reached, left_out));
        let or_open = if of_plan == Fail { Fail } else { NotTested };
        for cut_short in [Some(RunEnded { outcome: Outcome::Stopped, ..ended }), None] {
            run.ended = cut_short;
            assert_eq!(run.verdict_of_plan(summary), or_open);
        }
    }
}

/// A record of a later program is told apart before anything else of it is read.
#[test]
fn a_format_that_is_not_known_is_refused_in_words() {
    let later = record().replacen("\"format\":1", "\"format\":2,\"new\":{}", 1);
    for error in [
        read(later.as_bytes()).unwrap_err(),
        Run::read(later.as_bytes()).unwrap_err(),
        Progress::read(later.as_bytes()).unwrap_err(),
    ] {
        assert_eq!(error, ReadError::Format { found: 2 });
        assert!(error.to_string().contains("take the program that wrote it"));
    }
}

#[test]
fn a_change_in_the_middle_shows_with_its_line() {
    let text = record();
    let changed = text.replacen("\"verdict\":\"fail\"", "\"verdict\":\"pass\"", 1);
    let told = Some(3);
    assert_eq!(read(changed.as_bytes()).unwrap().broken_at, told, "the line after the changed one");
    assert_eq!(Run::read(changed.as_bytes()).unwrap().broken_at, told);
    assert_eq!(Progress::read(changed.as_bytes()).unwrap().broken_at, told);
    let lines: Vec<&str> = text.lines().collect();
    let without = [&lines[..2], &lines[3..]].concat().join("\n");
    assert_eq!(read(without.as_bytes()).unwrap().broken_at, Some(3));
    let garbage = [&lines[..2], &["not json"], &lines[2..]].concat().join("\n");
    assert!(matches!(read(garbage.as_bytes()), Err(ReadError::BadLine { line: 3, .. })));
    assert_eq!(read(lines[1..].join("\n").as_bytes()), Err(ReadError::NoStart));
    assert_eq!(read(b""), Err(ReadError::NothingWhole));
}

/// What stands in a line, byte by byte, and that it is read back; also where its text looks like more.
#[test]
fn a_line_is_one_flat_object() {
    let mut chain = Chain::default();
    let told = Event::Told { text: "a \"}}:{\" b".into() };
    let first = chain.line("2026-05-04T08:00:00Z", &told).unwrap();
    let written =
        r#"{"n":1,"at":"2026-05-04T08:00:00Z","prev":"","event":"told","text":"a \"}}:{\" b"}"#;
    assert_eq!(first, written);
    let sealed = chain.line("2026-05-04T08:00:01Z", &Event::Sealed {}).unwrap();
    let prev = &blake3::hash(written.as_bytes()).to_hex()[..32];
    let due = format!(r#"{{"n":2,"at":"2026-05-04T08:00:01Z","prev":"{prev}","event":"sealed"}}"#);
    assert_eq!(sealed, due);
    let read = |text: &str| Line::read(text.as_bytes());
    let back = read(&first).unwrap();
    assert_eq!((back.n, back.prev.as_str(), &back.event), (1, "", &told));
    assert_eq!(read(&sealed).unwrap().event, Event::Sealed {});
    // The order of keys means nothing, keys of newer versions are not looked at.
    let other = r#"{"event":"told","more":[1],"text":"x","prev":"p","at":"t","n":7}"#;
    assert_eq!(read(other).unwrap().event, Event::Told { text: "x".into() });
    for (text, why) in [
        (first.replace("told", "tolt"), "unknown variant `tolt`"),
        (first.replace("\"event\"", "\"even\""), "missing field `event`"),
        (first.replace("\"text\"", "\"test\""), "missing field `text`"),
        (first[..first.len() - 2].to_owned(), "EOF"),
        (format!("{first},{{"), "trailing characters"),
    ] {
        let error = read(&text).unwrap_err().to_string();
        assert!(error.contains(why), "{error} for {text}");
    }
}

/// An injection's line is what it serialises to, also where its program was just written.
#[test]
fn an_injection_is_written_as_it_serialises() {
    let program =
        |s: f64| Arc::new(Program::of(vec![Segment::hold("a", Stimulus::off(), seconds(s))]));
    let (one, other) = (program(1.0), program(2.0));
    let mut chain = Chain::default();
    let names: [&[&str]; 2] = [&[], &["t/a", "t/b"]];
    for (program, points) in [&one, &one, &other, &one].into_iter().zip(names.iter().cycle()) {
        for warm in
            [Warm::default(), Warm { currents: vec![("ia".into(), 0.25)], voltages: vec![] }]
        {
            let event = Event::Observed {
                test: "t".into(),
                points: points.iter().map(ToString::to_string).collect(),
                program: Arc::clone(program),
                observation: Observation::default(),
                warm,
            };
            let alone = serde_json::to_string(&event).unwrap();
            let fields = alone.strip_prefix("{\"observed\":{").unwrap().strip_suffix("}}").unwrap();
            let line = chain.line("now", &event).unwrap();
            assert!(line.ends_with(&format!("\"event\":\"observed\",{fields}}}")), "{line}");
            assert_eq!(Line::read(line.as_bytes()).unwrap().event, event);
        }
    }
}
