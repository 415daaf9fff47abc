use super::*;
use proptest::prelude::*;
use waltron_core::grading::{Finding, Verdict};
use waltron_core::injection::capability::{
    Capability, Channel, Input, Instrument, Parameter, ParameterKind, ParameterValue,
};
use waltron_core::injection::measuring::Reading;
use waltron_core::injection::observation::{Edge, Ended, Observation, Span};
use waltron_core::injection::program::{Finish, Profile, Program};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Action, Answer, Procedure};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Dimension, Measure, Quantity, Voltage, amperes, seconds};
use waltron_core::text::document::Source;
use waltron_relay::AssetForm;

fn context(text: &str) -> Arc<Context> {
    let asset = r#"
        [asset]
        kind = "relay"
        tag = "T"
        [ratings]
        current = "1 A"
        voltage = "100 V"
        frequency = "50 Hz"
        [[element]]
        id = "51P"
        function = "overcurrent"
        measures = "phase"
        pickup = "1 A"
        reset_ratio = "95 %"
        curve = { family = "iec", shape = "very-inverse", tms = 0.3 }
        [[element]]
        id = "59"
        function = "overvoltage"
        pickup = "110 V"
        curve = { family = "definite", delay = "1 s" }
    "#;
    let asset = AssetForm::load(&Source::new("asset", asset)).unwrap();
    let current =
        |id: &str| Channel::new(id, amperes(30.0), Tolerance::larger_of(0.0, amperes(0.0)));
    let voltage = |id: &str| {
        Channel::new(id, Voltage::from_si(150.0), Tolerance::larger_of(0.0, Voltage::from_si(0.0)))
    };
    let input = |meaning: &str| Input {
        id: meaning.into(),
        meaning: meaning.into(),
        debounce: seconds(0.0),
    };
    let capability = Capability {
        currents: ["ia", "ib", "ic"].map(current).to_vec(),
        voltages: ["va", "vb", "vc"].map(voltage).to_vec(),
        inputs: ["trip", "start", "52a"].map(input).to_vec(),
        switches: Vec::new(),
        meters: Vec::new(),
        readings: vec![
            Instrument {
                name: "supply.voltage".into(),
                dimension: Dimension::VOLTAGE,
                most: Some(60.0),
                accuracy: None,
                by_computer: false,
                words: Vec::new(),
            },
            Instrument {
                name: "supply.current".into(),
                dimension: Dimension::CURRENT,
                most: Some(60.0),
                accuracy: None,
                by_computer: false,
                words: Vec::new(),
            },
        ],
        parameters: vec![
            Parameter {
                name: "supply.output".into(),
                kind: ParameterKind::Switch,
                off: ParameterValue::Switch(false),
            },
            Parameter {
                name: "supply.voltage".into(),
                kind: ParameterKind::Quantity { dimension: Dimension::VOLTAGE, most: 30.0 },
                off: ParameterValue::Si(0.0),
            },
        ],
        timing_resolution: seconds(1e-4),
        timing_accuracy: Tolerance::larger_of(0.0, seconds(1e-4)).into(),
        instruments: vec!["psu".into()],
        emergency_stop: None,
        switches_leads: false,
        earths: false,
        discharge: None,
    };
    let mut context = Context::new("t".into(), asset, capability, text.into());
    context.seed = 7;
    Arc::new(context)
}

fn loaded(text: &str) -> Sequence {
    loaded_in(&context(text), text)
}

fn loaded_in(context: &Arc<Context>, text: &str) -> Sequence {
    let source = Source::new("s.seq", text);
    load(&source, context).unwrap_or_else(|e| panic!("{e:?}")).procedure()
}

/// All mistakes as "line: message | help".
fn mistakes(text: &str) -> Vec<String> {
    let source = Source::new("s.seq", text);
    let problems = match load(&source, &context(text)) {
        Ok(_) => return Vec::new(),
        Err(error) => error.problems,
    };
    let say = |p: &waltron_core::text::document::Problem| {
        format!(
            "{}: {} | {}",
            source.position(p.span.start).0,
            p.message,
            p.help.clone().unwrap_or_default()
        )
    };
    problems.iter().map(say).collect()
}

/// Plays a program as if these contacts changed: ends at the first stop that a contact meets.
fn played(program: &Program, edges: &[(&str, f64, bool)], readings: &[f64]) -> Observation {
    let mut seen = Observation::default();
    let mut now = seconds(0.0);
    for segment in &program.segments {
        let start = now;
        let longest = segment.longest().unwrap();
        let contact = segment.stops.iter().enumerate().find_map(|(i, s)| {
            let waltron_core::injection::program::Condition::Contact { signal, closed } = &s.when
            else {
                return None;
            };
            let edge = edges.iter().find(|(n, t, c)| {
                *signal == *n && c == closed && *t >= start.si() && *t <= (start + longest).si()
            })?;
            Some((i, seconds(edge.1)))
        });
        let (end, ended) = match contact {
            Some((i, at)) => (at, Ended::Stop(i)),
            None if matches!(segment.profile, Profile::Hold(_)) => {
                (start + longest, Ended::Stop(segment.stops.len() - 1))
            }
            None => (start + longest, Ended::Finished),
        };
        now = end;
        seen.segments.push(Span { start, end, ended });
    }
    seen.edges = edges
        .iter()
        .filter(|(_, t, _)| *t <= now.si())
        .map(|(n, t, closed)| Edge { signal: (*n).into(), time: seconds(*t), closed: *closed })
        .collect();
    for (probe, si) in program.reads.iter().zip(readings) {
        let value = waltron_core::grading::Values::none()
            .with_quantity("value", Quantity { si: *si, dimension: probe.dimension });
        seen.readings.push(Reading::at_end(probe.clone(), value));
    }
    seen
}

/// Runs a script to its end; `answers` says what each injection shows.
fn run(
    text: &str,
    answers: impl FnMut(usize, &Program) -> Observation,
) -> (Vec<Finding>, Vec<Program>, Vec<String>) {
    run_through(loaded(text), answers)
}

fn run_through(
    mut machine: Sequence,
    mut answers: impl FnMut(usize, &Program) -> Observation,
) -> (Vec<Finding>, Vec<Program>, Vec<String>) {
    let (mut grades, mut programs, mut log) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..1000 {
        match machine.next() {
            Action::Done => return (grades, programs, log),
            Action::Inject(program) => {
                let seen = answers(programs.len(), &program);
                programs.push(Arc::unwrap_or_clone(program));
                grades.extend(machine.observe(&seen));
            }
            Action::Conclude(more) => grades.extend(more),
            Action::Ask(question) => {
                log.push(format!("ask {}", question.text));
                machine.answer(question.default_answer().unwrap_or(Answer::Si(2.5)));
            }
            Action::Tell(text) => log.push(format!("tell {text}")),
            Action::Set(name, value) => log.push(format!("set {name} {value:?}")),
            Action::Send { to, text, .. } => {
                log.push(format!("send {to} {text}"));
                machine.answer(Answer::Text("said".into()));
            }
            Action::Execute { program, .. } => {
                log.push(format!("run {program}"));
                machine.answer(Answer::Text("done".into()));
            }
            Action::Off => log.push("off".to_owned()),
            Action::Earth(owed) => log.push(owed.text),
        }
    }
    panic!("the script does not end");
}

fn verdicts(grades: &[Finding]) -> Vec<(String, Verdict)> {
    grades.iter().map(|g| (g.point.id.clone(), g.verdict)).collect()
}

#[test]
fn a_pickup_ramp_yields_the_level_at_the_contacts_edge() {
    let script = "ramp i from 0.9 A to 1.1 A by 10 mA every 200 ms until start\n\
                  expect ramp.value is 51P.pickup within 5 % as \"pickup\"\n\
                  expect ramp.resolution == 0.01 A as \"resolution\"\n\
                  expect ramp.time between 2.3 s and 2.5 s as \"when\"\n";
    // 12 steps of 200 ms: level 12 is 1.02 A, so the pickup lies between it and 1.01 A.
    let (grades, programs, _) = run(script, |_, p| played(p, &[("start", 2.45, true)], &[]));
    assert!((grades[0].measured.get("value").unwrap() - 1.015).abs() < 1e-12);
    // The rig of this test is exact: half a step is all that is uncertain.
    let u = grades[0].uncertainty.get("u").unwrap();
    assert!((u - 2.0 / 3f64.sqrt() * 0.005).abs() < 1e-9, "{u}");
    assert!(grades.iter().take(3).all(|g| g.verdict == Verdict::Pass), "{:?}", verdicts(&grades));
    let Profile::Stairs(stairs) = &programs[0].segments[0].profile else { panic!() };
    assert_eq!((stairs.steps, stairs.level(20).complex_phase_currents()[1].norm()), (20, 1.1));
    // Without a start there is no value: that fails, and what needs the value says why.
    let (grades, ..) = run(script, |_, p| played(p, &[], &[]));
    assert_eq!(grades[0].verdict, Verdict::Fail);
    assert!(
        grades[0].reason.contains("no `start` up to the ramp's end at 1.1 A"),
        "{}",
        grades[0].reason
    );
    // Closed all along: nothing is proved.
    let (grades, ..) = run(script, |_, p| played(p, &[("start", 0.0, true)], &[]));
    assert_eq!(grades[0].verdict, Verdict::Inconclusive);
}

#[test]
fn a_fault_is_timed_from_inception_and_graded_on_its_band() {
    let script = "fault A-N with i = 2 * 51P.pickup after prefault i = 0.5 A for 1 s until trip, at most 10 s\n\
                  expect time(inception -> trip) within band(51P) as \"band\"\n\
                  expect time(inception -> trip) is curve(51P, 2 x) within tolerance(51P) as \"curve\"\n\
                  expect time(begin(fault) -> finish(fault)) <= 5 s as \"length\"\n\
                  expect not start as \"quiet\"\n";
    let (grades, programs, _) = run(script, |_, p| played(p, &[("trip", 5.1, true)], &[]));
    assert!(grades.iter().all(|g| g.verdict == Verdict::Pass), "{:?}", verdicts(&grades));
    assert!((grades[0].measured.get("time").unwrap() - 4.1).abs() < 1e-9);
    assert_eq!(grades[0].point.id, "t/band");
    assert_eq!(programs[0].finish, Finish::Off);
    let before = &programs[0].segments[0].profile;
    assert!(matches!(before, Profile::Hold(s) if s.currents.len() == 3));
    let (grades, ..) = run(script, |_, p| played(p, &[], &[]));
    let found: Vec<Verdict> = grades.iter().map(|g| g.verdict).collect();
    assert_eq!(found, [Verdict::Fail, Verdict::Fail, Verdict::Fail, Verdict::Pass]);
    assert!(grades[0].reason.contains("no operation within 10 s"));
}

#[test]
fn what_is_switched_off_proves_nothing_by_whatever_it_is_named() {
    let script = "ramp i from 0.9 A to 1.1 A by 20 mA every 200 ms until trip as up\n\
                  fault A-N with i = 2 * 51P.pickup until trip, at most 10 s\n\
                  expect up.value is 1 A within tolerance(51P) as \"tolerance\"\n\
                  expect up.value is 51P.pickup within 5 % as \"setting\"\n\
                  expect up.value between 0.9 * 51P.pickup and 1.1 * 51P.pickup as \"limits\"\n\
                  expect trip as \"contact\"\n\
                  expect time(inception -> trip) <= 10 s as \"event\"\n\
                  expect time(inception -> trip) is curve(51P, 2 x) within 1000 % as \"curve\"\n\
                  expect time(inception -> trip) within band(51P, 2 x) as \"band\"\n\
                  expect no trip as \"quiet\"\n\
                  expect up.value <= 1.1 A as \"number\"\n";
    let with = |off: &[&str]| {
        let mut context = Context::clone(&context(script));
        for element in &mut context.asset.elements {
            element.enabled = !off.contains(&element.id.as_str());
        }
        let sequence = loaded_in(&Arc::new(context), script);
        let (grades, ..) = run_through(sequence, |_, p| played(p, &[("trip", 1.1, true)], &[]));
        let off = |g: &&Finding| g.verdict == Verdict::NotTested;
        let untested = grades.iter().filter(off).map(|g| g.point.id.clone());
        (untested.collect::<Vec<_>>(), verdicts(&grades))
    };
    let named = ["tolerance", "setting", "limits", "curve", "band"].map(|p| format!("t/{p}"));
    assert_eq!(with(&[]).0, [""; 0]);
    // The other function closes the same contact.
    assert_eq!(with(&["51P"]).0, named);
    let (off, all) = with(&["51P", "59"]);
    let contact = ["contact", "event"].map(|p| format!("t/{p}"));
    assert!(off.len() == 7 && named.iter().chain(&contact).all(|p| off.contains(p)), "{off:?}");
    // That it stays quiet is still asked of it, and it did not.
    assert!(all.contains(&("t/quiet".into(), Verdict::Fail)), "{all:?}");
    assert!(all.contains(&("t/number".into(), Verdict::Pass)), "{all:?}");
}

#[test]
fn loops_conditions_and_subsequences_do_what_they_say() {
    let script = "let sum = 0 A\n\
        sequence pulse(level: current, n: number)\n  repeat n times\n    hold ia = level for 100 ms\n  end\n  off\nend\n\
        for m in [1, 2]\n  sum = sum + m * 1 A\n  call pulse(m * 1 A, 2)\nend\n\
        for y from 3 A to 1 A by 1 A\n  sum = sum + y\nend\n\
        if sum == 9 A\n  tell \"sum {sum}\"\nelse\n  fail \"wrong\"\nend\n\
        repeat while sum > 7 A, at most 10 times\n  sum = sum - 1 A\nend\n\
        repeat until sum < 6 A, at most 10 times\n  sum = sum - 1 A\nend\n\
        expect sum == 5 A as \"sum\"\n\
        repeat for 1 s\n  wait 300 ms\nend\n\
        expect elapsed between 1.5 s and 1.7 s as \"elapsed\"\n";
    let (grades, programs, log) = run(script, |_, p| played(p, &[], &[]));
    assert_eq!(programs.len(), 4 + 4);
    assert!(log.contains(&"tell sum 9 A".to_owned()), "{log:?}");
    assert!(grades.iter().all(|g| g.verdict == Verdict::Pass), "{grades:?}");
}

#[test]
fn a_guard_runs_its_steps_and_stops_everything() {
    let script = "set supply.output = on\nguard supply.current >= 1.2 A\n  set supply.output = off\n  tell \"too much\"\nthen stop\n\
                  wait until supply.voltage >= 22 V, at most 10 s\nexpect true as \"never reached\"\n";
    let (grades, programs, log) = run(script, |_, p| {
        let mut seen = played(p, &[], &[]);
        seen.segments[0].ended = Ended::Stop(0);
        seen
    });
    assert_eq!(programs[0].segments[0].stops[0].then, waltron_core::injection::program::Then::Off);
    assert_eq!(verdicts(&grades), [("t/line 2".to_owned(), Verdict::Inconclusive)], "{grades:?}");
    assert!(grades[0].reason.contains("supply.current >= 1.2 A"));
    let off = log.iter().position(|l| l.contains("Switch(false)")).unwrap();
    assert!(log[off + 1].contains("too much"));
}

#[test]
fn readings_have_names_and_a_history() {
    let script = "repeat 3 times\n  read p = supply.voltage * supply.current over 50 ms\nend\n\
                  expect mean(p) is 24 W within 10 % as \"mean\"\n\
                  expect highest(p) - lowest(p) <= 3 W as \"spread\"\nexpect count(p) == 3 as \"count\"\n\
                  ask r: resistance \"Burden?\" default 2 Ohm\nexpect r between 1 Ohm and 3 Ohm as \"asked\"\n";
    let (grades, programs, _) = run(script, |n, p| played(p, &[], &[24.0, 0.95 + 0.05 * n as f64]));
    assert_eq!(programs[0].reads.len(), 2);
    assert!(grades.iter().all(|g| g.verdict == Verdict::Pass), "{grades:?}");
    assert!((grades[0].measured.get("value").unwrap() - 24.0).abs() < 1e-9);
    // A reading that is not there proves nothing, is named, and the rest goes on.
    let (grades, ..) = run(script, |_, p| played(p, &[], &[]));
    let found: Vec<Verdict> = grades.iter().map(|g| g.verdict).collect();
    let nothing = Verdict::Inconclusive;
    assert_eq!(found, [nothing, nothing, Verdict::Fail, Verdict::Pass], "{grades:?}");
    assert!(grades[0].reason.contains("could not be measured"), "{}", grades[0].reason);
}

#[test]
fn what_is_out_stays_until_it_is_changed() {
    let script = "hold ia = 1 A, va = 50 V for 1 s\nhold ia = 2 A @ 90 deg, i.h3 = 10 % for 1 s\nramp va from 50 V to 60 V over 1 s then off\nfault C-A with i = 3 A, z = 2 Ohm @ 60 deg for 100 ms then off at zero\n";
    let (_, programs, _) = run(script, |_, p| played(p, &[], &[]));
    let out = |k: usize| programs[k].segments[0].profile.at(seconds(0.0));
    assert_eq!(programs[0].finish, Finish::Keep);
    assert_eq!(out(1).voltages[0].phasor.rms().si(), 50.0);
    assert!((out(1).currents[0].phasor.angle().si().to_degrees() - 90.0).abs() < 1e-9);
    assert_eq!(out(1).currents[0].harmonics[0].order(), 3);
    assert_eq!((programs[2].finish, programs[3].finish), (Finish::Off, Finish::OffAtZero));
    // C-A: the loop's voltage is 2·I·Z, seen as the difference of the two phases.
    let v = out(3).complex_phase_voltages();
    let i = out(3).complex_phase_currents();
    let z = num_complex::Complex64::from_polar(2.0, 60f64.to_radians());
    assert!(((v[2] - v[0]) - (i[2] - i[0]) * z).norm() < 1e-9);
    assert!((v[1].norm() - 100.0 / 3f64.sqrt()).abs() < 1e-9, "the healthy phase stays");
}

#[test]
fn an_inception_angle_and_an_offset_make_the_current_continuous() {
    let script = "fault A-N with i = 5 A @ -70 deg offset 60 ms after prefault v = balanced(57.7 V), ia = 1 A for 987 ms inception 30 deg for 100 ms\n";
    let (_, programs, _) = run(script, |_, p| played(p, &[], &[]));
    let pieces = waltron_core::injection::waveform::pieces(&programs[0], None);
    let wave = waltron_core::injection::waveform::render(&pieces, 1e5).unwrap();
    let inception = pieces[0].length.si();
    let of = |name: &str| wave.channels.iter().find(|c| c.name == name).unwrap().samples.clone();
    let at = (inception * 1e5).ceil() as usize;
    let v = of("va")[at] / (57.7 * 2f64.sqrt());
    assert!(
        (v - 30f64.to_radians().sin()).abs() < 1e-3,
        "the voltage is 30° past its rising zero: {v}"
    );
    let i = of("ia");
    assert!((i[at] - i[at - 1]).abs() < 0.03, "no jump at inception: {} {}", i[at - 1], i[at]);
}

/// Every mistake of the list is found at its line, with a way out, all in one go.
#[test]
fn every_mistake_is_found_at_once_with_a_way_out() {
    let cases: &[(&str, &str)] = &[
        ("hold iq = 1 A for 1 s", "no output `iq` | did you mean"),
        ("hold ia = 1 V for 1 s", "`ia` takes a current, not a voltage"),
        ("hold ia = 2 * 51P.delay for 1 s", "nothing is called `51P.delay`"),
        ("hold ia = 1 A + 2 s for 1 s", "a current and a time cannot be added"),
        ("hold ia = 1 A / (2 - 2) for 1 s", "division by zero"),
        ("hold ia = 1 amp for 1 s", "unknown unit `amp` | did you mean `A`?"),
        ("hold ia = 2,5 A for 1 s", "a comma stands where a decimal point belongs"),
        ("hold ia = 1 A", "this has no end"),
        ("hold ia = 1 A until trip", "this waits for ever"),
        ("hold ia = 1 A for 1 A", "this is a current, but a time is wanted"),
        ("hold ia = 1 A for 0 s", "a time must be above zero"),
        (
            "wait until supply.voltage >= 3 A, at most 1 s",
            "`supply.voltage` is a voltage, which cannot be compared with a current",
        ),
        ("wait until 51P.pickup > 3 A, at most 1 s", "this does not change while the step runs"),
        ("wait until supply.voltage == 3 V, at most 1 s", "never exactly equal"),
        ("ramp ia from 1 A to 2 A by -0.1 A every 1 s", "the step goes down, but the ramp goes up"),
        ("ramp ia from 1 A to 2 A by 0 A every 1 s", "a step of zero never arrives"),
        ("ramp ia from 1 A to 1 A by 1 mA every 1 s", "ends where it begins"),
        ("ramp ia from 1 A to 2 A by 1 V every 1 s", "this is a voltage, but a current is wanted"),
        (
            "ramp ia from 1 A to 2 A at 3 A",
            "this is a current, but a rate of rise of a current is wanted",
        ),
        ("ramp ia from 1 uA to 2 A by 1 uA every 1 ms", "more than 10000"),
        ("ramp p from 1 W to 2 W by 1 W every 1 s", "`p` cannot be ramped by itself"),
        ("fault A-D with i = 1 A for 1 s", "`A-D` is no fault loop"),
        ("fault A-N with z = 1 Ohm for 1 s", "the fault A-N has no current"),
        (
            "let y = supply.output",
            "`supply.output` is set, not measured | what is measured: supply.",
        ),
        (
            "let y = magnitude(ia)",
            "`magnitude(ia)` is measured | give its value a name first, with `read seen = magnitude(ia)`",
        ),
        (
            "let y = ia",
            "`ia` is an output, not a value | measure it first, with `read seen = magnitude(ia)`",
        ),
        ("expect mean(nominal.voltage) > 1 V", "`nominal.voltage` was not read"),
        ("trip = 3", "`trip` cannot be given another value"),
        ("repeat while supply_on", "nothing is called `supply_on`"),
        ("end", ""),
        ("repeat until trip", "nothing bounds this loop"),
        ("end", ""),
        ("for x in 3", "this is a plain number, but a list is wanted"),
        ("end", ""),
        ("let trip = 3", "`trip` is a contact already"),
        ("let B = 3", "`B` is a phase already"),
        ("let heavy = 3 A", ""),
        ("fault heavy with i = 1 A for 1 s", "`heavy` is a current, not a fault loop"),
        ("fault A-C with i = 1 A for 1 s", "`A-C` is no fault loop"),
        ("let both = A-N + B-N", "a fault loop and a fault loop cannot be added"),
        ("let mA = 3", "`mA` is a unit already"),
        ("let until = 3", "`until` is a word of the language"),
        ("let dwell = 3 s", ""),
        ("dwel = 4 s", "nothing is called `dwel` | did you mean `dwell`?"),
        ("dwell = 4 A", "`dwell` is a time, it cannot become a current"),
        ("set supply.output = 3 V", "`supply.output` is switched `on` or `off`"),
        ("set supply.voltage = 40 V", "40 V is more than `supply.voltage` may be set to, 30 V"),
        (
            "set suply.voltage = 4 V",
            "no parameter `suply.voltage` | did you mean `supply.voltage`?",
        ),
        ("read x = 3 A", "nothing is measured here"),
        ("read y = harmonic(ia)", "takes an output or a meter, and the order"),
        ("expect supply.voltage > 3 V", "`supply.voltage` is measured"),
        ("expect 1 A is 2 V within 3 %", "this is a voltage, but a current is wanted"),
        ("expect 1 A is 2 A within 3", "this has no unit"),
        ("expect 1 A is 2 A within 3 % or 4 %", "two parts of the same kind"),
        (
            "expect time(inception -> tripp) < 1 s",
            "there is no contact `tripp` | did you mean `trip`?",
        ),
        ("hold ia = 1 A for 200 Ms", "unknown unit `Ms` | did you mean `ms`?"),
        ("hold ia = 1 MA for 2 s", "unknown unit `MA` | did you mean `mA`?"),
        (
            "expect time(inception -> earth-fault) < 1 s",
            "stands in backquotes, as in `earth-fault`",
        ),
        ("expect 1 A is 1 A within tolerance(52P)", "no element `52P` | did you mean `51P`?"),
        ("call nowhere()", "there is no sequence `nowhere`"),
        ("hald ia = 1 A for 1 s", "`hald` is no step | did you mean `hold`?"),
        ("guard `earth trip` then stop", "nothing is called `earth trip`"),
        ("tell \"open", "has no closing"),
        ("tell \"{nothing}\"", "nothing is called `nothing`"),
        ("ask x: ampere \"?\"", "`ampere` is no kind of value"),
        ("play", ""),
        ("read z = supply.voltage", "only output steps can stand in a `play` block"),
        ("end", ""),
        ("playback \"none.cfg\" with ia = \"I1\"", "there is no recording `none.cfg`"),
    ];
    let text: String = cases.iter().map(|(line, _)| format!("{line}\n")).collect();
    let found = mistakes(&text);
    let mut missing = Vec::new();
    for (index, (line, message)) in cases.iter().enumerate() {
        if message.is_empty() {
            continue;
        }
        let here = format!("{}: ", index + 1);
        if !found.iter().any(|m| m.starts_with(&here) && m.contains(message)) {
            let of_line: Vec<&String> = found.iter().filter(|m| m.starts_with(&here)).collect();
            missing.push(format!("`{line}` should say `{message}`, says {of_line:?}"));
        }
    }
    assert!(missing.is_empty(), "{}", missing.join("\n"));
}

/// An element whose name reads like a quantity keeps it.
#[test]
fn formatting_keeps_names_that_read_like_quantities() {
    let text = "expect time(inception -> trip) within band(51V, 2 x) as \"51V\"\n";
    assert_eq!(format(text), text);
    assert_eq!(format("hold ia = 51V"), format("hold ia = 51 V"));
}

#[test]
fn blocks_and_recursion_are_checked() {
    let all = |text: &str| mistakes(text).join("\n");
    assert!(all("for x in [1]\n  wait 1 s\n").contains("1: this block has no `end`"));
    assert!(all("end\n").contains("`end` without a block"));
    assert!(all("else\n").contains("`else` without an `if`"));
    assert!(all("guard trip\n  off\nend\n").contains("a guard ends with `then stop`"));
    assert!(
        all("sequence a()\n  call b()\nend\nsequence b()\n  call a()\nend\n")
            .contains("would call itself")
    );
    assert!(
        all("sequence a(y: current)\n  hold ia = y for 1 s\nend\ncall a(3 V)\ncall a()\n")
            .contains("`y` is a current, not a voltage")
    );
    // However deep, it is refused before anything goes through it.
    for open in ["repeat 1 times\n", "if 1 == 1\n", "for x in [1]\n", "play\n", "guard trip\n"] {
        let deep = format!("{}hold ia = 1 A for 1 s\n{}", open.repeat(5000), "end\n".repeat(5000));
        assert!(all(&deep).contains("nested more than 50 deep"), "{open}");
    }
    let chain = |n: usize| {
        let call = |k: usize| format!("sequence s{k}()\n  call s{}()\nend\n", k + 1);
        let calls: String = (0..n).map(call).collect();
        format!("{calls}sequence s{n}()\n  hold ia = 1 A for 1 s\nend\ncall s0()\n")
    };
    assert_eq!(all(&chain(20)), "");
    assert!(all(&chain(5000)).contains("call each other more than 30 deep"));
    // Names of a block are gone behind it.
    assert!(all("if 1 == 1\n  let y = 2\nend\nexpect y == 2\n").contains("nothing is called `y`"));
    let text =
        "ramp v from 100 V to 120 V by 1 V every 200 ms resting v = 100 V for 1 s until trip\n";
    let context = context(text);
    let script = load(&Source::new("s", text), &context).unwrap();
    assert!(script.warnings()[0].message.contains("shorter than 59 needs"));
}

/// The stimulus that a script of one step puts out first.
/// Settings of one step that bear on each other.
const SETTINGS: [&str; 10] = [
    "f = 49 Hz",
    "v = balanced(63.5 V)",
    "vb = 20 V",
    "va.h3 = 5 % @ 10 deg",
    "va.h5.absolute = 4 % @ 20 deg",
    "ia = 1 A @ -30 deg",
    "ia.dc = 0.2 A",
    "ia.tau = 60 ms",
    "vc.phase = 100 deg",
    "df = -0.1 Hz/s",
];

/// What went before is named for what it was.
#[test]
fn a_contact_that_was_first_says_before_what() {
    let text = "fault A-N with i = 5 A until trip, at most 2 s\n\
                expect time(trip -> start) < 1 s as \"a\"\nexpect time(inception -> start) < 1 s as \"b\"\n";
    let edges = [("start", 0.02, true), ("trip", 0.5, true)];
    let (grades, ..) = run(text, |_, program| played(program, &edges, &[]));
    let reasons: Vec<&str> = grades.iter().map(|g| g.reason.as_str()).collect();
    assert!(reasons[0].contains("operated 480 ms before the closing of `trip`"), "{reasons:?}");
    assert_eq!(grades[1].verdict, Verdict::Pass);
}

/// The reactive power that is drawn stays when the active one alone is set, and the other way round.
#[test]
fn power_that_is_not_set_stays() {
    let script = "hold v = balanced(60 V), p = 50 W, q = 20 var for 1 s\n\
                  hold p = 60 W for 1 s\nhold q = -10 var for 1 s\n";
    let (_, programs, _) = run(script, |_, program| played(program, &[], &[]));
    let power = |n: usize| {
        let Profile::Hold(out) = &programs[n].segments[0].profile else { panic!() };
        let pairs = out.complex_phase_voltages().into_iter().zip(out.complex_phase_currents());
        pairs.map(|(v, i)| v * i.conj()).sum::<num_complex::Complex64>()
    };
    let near = |s: num_complex::Complex64, p: f64, q: f64| {
        (s.re - p).abs() < 1e-9 && (s.im - q).abs() < 1e-9
    };
    assert!(near(power(0), 50.0, 20.0));
    assert!(near(power(1), 60.0, 20.0), "{}", power(1));
    assert!(near(power(2), 60.0, -10.0), "{}", power(2));
}

/// A magnitude alone keeps the channel's angle; one that was off has its phase's in a balanced system.
#[test]
fn a_magnitude_alone_turns_nothing() {
    let degrees = |script: &str| {
        let out = put_out(script);
        let drive = out.voltages.iter().find(|d| d.channel == "vb").unwrap();
        (drive.phasor.rms().si(), waltron_core::quantity::in_degrees(drive.phasor.angle()).round())
    };
    assert_eq!(degrees("hold vb = 20 V for 1 s\n"), (20.0, -120.0));
    assert_eq!(degrees("hold vb = 20 V @ 0 deg for 1 s\n"), (20.0, 0.0));
    assert_eq!(degrees("hold v = balanced(63.5 V), vb = 20 V for 1 s\n"), (20.0, -120.0));
    assert_eq!(degrees("hold vb = 60 V @ 100 deg, vb.rms = 20 V for 1 s\n"), (20.0, 100.0));
    assert_eq!(degrees("hold vb.rms = 20 V for 1 s\n"), (20.0, -120.0));
    let out = put_out("hold f = 49 Hz, v = balanced(63.5 V) for 1 s\n");
    assert!(out.voltages.iter().all(|d| d.frequency.si() == 49.0));
}

fn put_out(script: &str) -> waltron_core::injection::stimulus::Stimulus {
    let mut machine = loaded(script);
    match machine.next() {
        Action::Inject(program) => program.segments[0].profile.at(seconds(0.0)),
        other => panic!("{other:?}"),
    }
}

proptest! {
    /// p and q are the three-phase power that comes out, whatever the voltages are.
    #[test]
    fn power_is_drawn_as_said(p in -200.0f64..200.0, q in -200.0f64..200.0, v in 10.0f64..140.0, turn in -180.0f64..180.0) {
        let out = put_out(&format!("hold v = balanced({v} V @ {turn} deg), p = {p} W, q = {q} var for 1 s\n"));
        let (volts, amps) = (out.complex_phase_voltages(), out.complex_phase_currents());
        let s: num_complex::Complex64 = volts.iter().zip(amps).map(|(v, i)| v * i.conj()).sum();
        prop_assert!((s.re - p).abs() < 1e-6 && (s.im - q).abs() < 1e-6, "{s}");
    }

    /// A harmonic given against the common reference has that angle in the samples, wherever the
    /// fundamental is; one given against the fundamental follows it.
    #[test]
    fn harmonic_angles_mean_what_they_say(turn in -180.0f64..180.0, angle in -170.0f64..170.0, order in 2u32..12) {
        let read = |suffix: &str| {
            let out = put_out(&format!("hold ia = 2 A @ {turn} deg, ia.h{order}{suffix} = 20 % @ {angle} deg for 1 s\n"));
            let program = Program::of(vec![waltron_core::injection::program::Segment::hold("x", out, seconds(0.2))]);
            let wave = waltron_core::injection::waveform::render(&waltron_core::injection::waveform::pieces(&program, None), 1e4).unwrap();
            waltron_core::injection::samples::spectrum::Spectrum::of(&wave.channels[0].samples, 1e4, 50.0, 20)
        };
        let own = read(".absolute").harmonics[order as usize - 2];
        let off = |found: f64| ((found - angle + 540.0).rem_euclid(360.0) - 180.0).abs();
        prop_assert!(off(own.arg().to_degrees()) < 1e-6, "{}", own.arg().to_degrees());
        prop_assert!(off(read("").harmonic_angle(order).to_degrees()) < 1e-6);
    }

    /// The order of settings inside one step means nothing.
    #[test]
    fn a_step_means_the_same_in_any_order(
        settings in proptest::sample::subsequence(SETTINGS.to_vec(), 1..=SETTINGS.len()).prop_shuffle(),
    ) {
        let in_order = |all: &[&str]| {
            let mut out = put_out(&format!("hold {} for 1 s\n", all.join(", ")));
            out.currents.sort_by(|a, b| a.channel.cmp(&b.channel));
            out.voltages.sort_by(|a, b| a.channel.cmp(&b.channel));
            out
        };
        let mut sorted = settings.clone();
        sorted.sort_unstable();
        prop_assert_eq!(in_order(&settings), in_order(&sorted));
    }

    /// Levels of a ramp: as many as fit, equally far apart, up and down alike.
    #[test]
    fn ramps_have_the_levels_they_should(from in 0.1f64..5.0, span in 0.05f64..5.0, step in 0.01f64..0.5, down: bool) {
        let (a, b) = if down { (from + span, from) } else { (from, from + span) };
        let script = format!("ramp ia from {a} A to {b} A by {step} A every 100 ms\n");
        let mut machine = loaded(&script);
        let Action::Inject(program) = machine.next() else { panic!() };
        let Profile::Stairs(stairs) = &program.segments[0].profile else { panic!() };
        prop_assert_eq!(stairs.steps, (span / step + 1e-9).floor() as u32);
        let at = |k: u32| stairs.level(k).currents[0].phasor.rms().si();
        prop_assert!((at(0) - a).abs() < 1e-9);
        for k in 1..=stairs.steps {
            prop_assert!(((at(k) - at(k - 1)).abs() - step).abs() < 1e-9);
        }
        prop_assert!((at(stairs.steps) - b).abs() < step * (1.0 + 1e-6));
    }
}

#[test]
fn a_ramp_of_what_is_worked_out_follows_its_formula() {
    let script = "ramp reach from 4 Ohm to 2 Ohm by 1 Ohm every 100 ms with fault B-N with i = 2 A, z = reach @ 60 deg, k0 = 0.5\n";
    let mut machine = loaded(script);
    let Action::Inject(program) = machine.next() else { panic!() };
    let Profile::Steps(steps) = &program.segments[0].profile else { panic!() };
    let measured: Vec<f64> = steps
        .levels
        .iter()
        .map(|s| (s.complex_phase_voltages()[1] / s.complex_phase_currents()[1]).norm() / 1.5)
        .collect();
    for (found, expected) in measured.iter().zip([4.0, 3.0, 2.0]) {
        assert!((found - expected).abs() < 1e-9, "{measured:?}");
    }
    assert_eq!(measured.len(), 3);
}

#[test]
fn events_are_found_by_kind_order_and_stage() {
    let script = "play\n  hold ia = 1 A for 1 s as load\n  ramp ia from 1 A to 2 A by 0.5 A every 1 s as climb\n  hold ia = 2 A until trip, at most 5 s as fault\nend\noff\n\
        expect time(begin(load) -> first(start)) is 0.5 s within 1 ms as \"first\"\n\
        expect time(begin(load) -> last(start)) is 4.2 s within 1 ms as \"last\"\n\
        expect time(begin(load) -> nth(start, 2)) is 2.5 s within 1 ms as \"nth\"\n\
        expect time(first(start) -> not start) is 1 s within 1 ms as \"opens\"\n\
        expect time(begin(level 1) -> begin(level 3)) is 2 s within 1 ms as \"levels\"\n\
        expect time(inception -> trip) is 0.5 s within 1 ms as \"inception\"\n\
        expect time(finish(load) -> finish(climb)) is 3 s within 1 ms as \"stages\"\n";
    let edges = [
        ("start", 0.5, true),
        ("start", 1.5, false),
        ("start", 2.5, true),
        ("start", 3.5, false),
        ("start", 4.2, true),
        ("trip", 4.5, true),
    ];
    let (grades, ..) = run(script, |_, p| played(p, &edges, &[]));
    assert!(grades.iter().all(|g| g.verdict == Verdict::Pass), "{grades:#?}");
    assert_eq!(grades.len(), 7);
}

/// Lines of scripts that parse, to be put together at random.
fn any_line() -> impl Strategy<Value = String> {
    let value = prop_oneof![
        "[0-9]{1,2}( ?(A|mA|V))?",
        Just("51P.pickup".to_owned()),
        Just("load".to_owned()),
        Just("sqrt(3)".to_owned()),
        Just("-120 deg".to_owned()),
        Just("5A@-120deg".to_owned())
    ];
    let sum = proptest::collection::vec(value, 1..4).prop_flat_map(|parts| {
        proptest::collection::vec(
            prop_oneof![Just("+"), Just("-"), Just("*"), Just(" / "), Just("  and ")],
            parts.len(),
        )
        .prop_map(move |ops| {
            parts.iter().zip(ops).map(|(p, o)| format!("{p}{o}")).collect::<String>() + "(1 + 2)"
        })
    });
    (sum, "[ \t]{0,3}", "( *# ?[a-z \"§]{0,9})?").prop_flat_map(|(e, indent, comment)| {
        prop_oneof![
            Just(format!("let load={e}")), Just(format!("hold ia={e},ib = {e} for 2s until not trip , at most 3 s")),
            Just(format!("fault A-N with i={e} until trip or start,at most 2 s else fail \"x {{load}}\"")),
            Just(format!("ramp f from {e} to 2A by 20mA every 250ms resting v=1V for 1s until closes(trip) as up")),
            Just(format!("expect time(inception->nth(trip,2)) is {e} within +5%/-0 % as \"l\"")),
            Just(format!("for m in [{e},2]")), Just("for l in [A-N,B - C]".to_owned()),
            Just(format!("fault l with i={e} for 3cycles")), Just("end".to_owned()), Just(format!("if {e} > 3")), Just("else".to_owned()),
            Just(format!("guard supply.current>={e} then stop")), Just(format!("tell \"a  {{ {e} }}  b\"")), Just(String::new()),
            Just(format!("read x=harmonic(ia,3)*({e}) over 1s")), Just("set supply.output=on".to_owned()),
        ].prop_map(move |line| format!("{indent}{line}{comment}"))
    })
}

proptest! {
    /// Formatting twice is formatting once, and it never changes what a script means.
    #[test]
    fn formatting_is_idempotent_and_keeps_the_meaning(lines in proptest::collection::vec(any_line(), 0..12), crlf: bool) {
        let text = lines.join(if crlf { "\r\n" } else { "\n" });
        let once = format(&text);
        prop_assert_eq!(&format(&once), &once);
        let (mut a, mut b) = (Problems::default(), Problems::default());
        let (before, after) = (parse::parse(&text, &mut a), parse::parse(&once, &mut b));
        prop_assert_eq!(before, after);
        prop_assert_eq!(a.is_empty(), b.is_empty());
        let comments = |t: &str| t.matches('#').count();
        prop_assert_eq!(comments(&text), comments(&once));
    }

    /// Whatever bytes a file holds: a script or complaints, never a panic.
    #[test]
    fn any_text_is_survived(text in "\\PC{0,200}") {
        mistakes(&text);
        format(&text);
    }

    #[test]
    fn any_words_are_survived(words in proptest::collection::vec(prop_oneof![
        proptest::sample::select(waltron_core::text::expression::RESERVED.to_vec()).prop_map(str::to_owned),
        "[-+*/^@()<>=,.\\[\\]:\n]", "[0-9]{1,4}( ?(A|ms|V|%|Hz/s))?", Just("ia".to_owned()), Just("\"{x}\"".to_owned()),
        Just("51P".to_owned()), Just("\n".to_owned()), Just("trip".to_owned()), Just("A-N".to_owned()),
    ], 0..60)) {
        let text = words.join(" ");
        mistakes(&text);
        let once = format(&text);
        prop_assert_eq!(format(&once), once);
    }
}

#[test]
fn messages_and_programs_answer_into_names_and_their_failure_ends_the_sequence() {
    let text = "send \"VOLT 5\" to psu\nsend \"*IDN?\" to psu as identity\n\
                run \"date\" \"-u\", at most 2 s as now\ntell identity\ntell now\n";
    let (_, _, log) = run(text, |_, _| unreachable!());
    let expected = ["send psu VOLT 5", "send psu *IDN?", "run date", "tell said", "tell done"];
    assert_eq!(log[..5], expected);
    let mut machine = loaded("send \"VOLT 5\" to psu\nexpect true as \"later\"\n");
    assert!(matches!(machine.next(), Action::Send { answers: false, .. }));
    machine.answer(Answer::Failed("the connection broke".into()));
    assert_eq!(machine.next(), Action::Off);
    let Action::Conclude(grades) = machine.next() else { panic!("it ends with a grade") };
    assert_eq!(grades[0].verdict, Verdict::Inconclusive);
    assert_eq!(grades[0].reason, "line 1: the connection broke");
    assert_eq!(machine.next(), Action::Done);
    let mistakes = mistakes("send \"x\" to spu\nrun \"x\", at most 3 A\n");
    assert!(mistakes.iter().any(|m| m.contains("no instrument `spu`")), "{mistakes:?}");
    assert_eq!(mistakes.len(), 2, "{mistakes:?}");
}

/// What is worked out from what is measured is told at the most that it can be, before it is known.
#[test]
fn what_follows_from_measured_values_is_told_at_its_most() {
    let text = "ramp ia from 1 A to 2 A by 0.1 A every 100 ms until start as up\n\
                hold ia = 10 * up.value for 1 s\noff\n";
    let planned = loaded(text).planned();
    let told: Vec<(f64, bool)> =
        planned.iter().map(|p| (p.program.maxima()[0].1, p.is_exact)).collect();
    assert_eq!(told, [(2.0, true), (20.0, false)]);
    let (_, programs, _) = run(text, |_, p| played(p, &[("start", 0.25, true)], &[]));
    assert!((programs[1].maxima()[0].1 - 11.5).abs() < 1e-9, "ten times the middle of 1.1 and 1.2");
    // Without bounds it is refused, with the way out.
    let open = "ask q: current \"How much?\"\nhold ia = q for 1 s\n";
    let found = mistakes(open);
    assert!(found[0].starts_with("2: ") && found[0].contains("min("), "{found:?}");
    let closed = "ask q: current \"How much?\" default 1 A from 0 A to 3 A\nhold ia = q for 1 s\n";
    let maxima: Vec<_> = loaded(closed).planned().iter().flat_map(|p| p.program.maxima()).collect();
    assert_eq!(maxima[0].1, 3.0);
    let outside = "ask q: current \"How much?\" default 4 A from 0 A to 3 A\n";
    assert!(mistakes(outside)[0].contains("no answer that is allowed"));
}

#[test]
fn angles_are_graded_around_the_circle() {
    let text = "expect -179.9 deg is 180 deg within 1 deg as \"near\"\n\
                expect 179 deg is -180 deg within 0.5 deg as \"far\"\n\
                expect 361 deg between 0 deg and 2 deg as \"turned\"\n";
    let (grades, ..) = run(text, |_, p| played(p, &[], &[]));
    let found: Vec<Verdict> = grades.iter().map(|g| g.verdict).collect();
    assert_eq!(found, [Verdict::Pass, Verdict::Fail, Verdict::Pass], "{grades:?}");
    let off = grades[0].deviation.get("value").unwrap().to_degrees();
    assert!((off - 0.1).abs() < 1e-9, "{off}");
}

/// A dead relay fails what required it, by name; what needs nothing of it goes on.
#[test]
fn what_never_came_fails_and_the_rest_goes_on() {
    let text = "fault A-N with i = 3 A until trip, at most 1 s as first\n\
                wait 100 ms\n\
                expect time(inception -> trip) < 2 s as \"time\"\n\
                expect 2 * time(inception -> trip) < 2 s as \"worked out\"\n\
                if time(inception -> trip) > 1 s\n  expect true as \"inside\"\nend\n\
                hold ia = 1 A for time(inception -> trip)\n\
                expect no trip as \"none\"\nexpect 1 A is 1 A within 1 % as \"other\"\n";
    let (grades, programs, _) = run(text, |_, p| played(p, &[], &[]));
    let found = verdicts(&grades);
    let of = |id: &str| found.iter().find(|(i, _)| i == id).map(|(_, v)| *v);
    assert_eq!(of("t/time"), Some(Verdict::Fail));
    assert_eq!(of("t/worked out"), Some(Verdict::Fail));
    assert_eq!((of("t/line 5"), of("t/inside")), (Some(Verdict::Fail), None));
    assert_eq!(of("t/line 8"), Some(Verdict::Fail), "what needs it is not put out");
    assert_eq!(of("t/other"), Some(Verdict::Pass));
    assert_eq!(programs.len(), 2);
    assert!(grades[0].reason.contains("`trip` did not come"), "{}", grades[0].reason);
    // Closed from the start proves nothing, neither way.
    let (grades, ..) = run(
        "hold ia = 3 A for 1 s then off\nexpect trip as \"a\"\nexpect no trip as \"b\"\n",
        |_, p| {
            let mut seen = played(p, &[], &[]);
            seen.closed_at_start.push("trip".into());
            seen
        },
    );
    assert!(grades.iter().all(|g| g.verdict == Verdict::Inconclusive), "{grades:?}");
}

/// A step means the same inside `play` and outside.
#[test]
fn a_step_means_the_same_in_play() {
    let steps =
        "hold ia = 1 A, va = 50 V for 1 s\nhold ia = 2 A for 1 s then off\nhold ib = 3 A for 1 s\n";
    let levels = |text: &str| -> Vec<Stimulus> {
        let (_, programs, _) = run(text, |_, p| played(p, &[], &[]));
        let segments = programs.iter().flat_map(|p| p.segments.clone());
        segments.map(|s| s.profile.at(seconds(0.0))).collect()
    };
    let (outside, inside) = (levels(steps), levels(&format!("play\n{steps}end\n")));
    assert_eq!(outside, inside);
    assert_eq!(outside[1].voltages.len(), 1, "what is not named stays");
    assert_eq!((outside[2].currents.len(), outside[2].voltages.len()), (1, 0), "off is off");
    // Where the ramp before ends is not known before: it has to be said.
    let moving =
        "play\n  ramp ia from 1 A to 2 A over 1 s until trip\n  hold ib = 1 A for 1 s\nend\n";
    assert!(mistakes(moving)[0].contains("depends on when it ends"), "{:?}", mistakes(moving));
}

#[test]
fn loops_are_bounded_and_say_what_happens_at_their_bound() {
    let text = "repeat while true, at most 3 times else fail \"three is enough\"\n  wait 100 ms\nend\n\
                expect true as \"never reached\"\n";
    let (grades, programs, _) = run(text, |_, p| played(p, &[], &[]));
    assert_eq!(programs.len(), 3);
    assert_eq!(grades[0].verdict, Verdict::Fail);
    assert!(grades[0].reason.contains("three is enough"), "{}", grades[0].reason);
    let (grades, ..) =
        run(&text.replace(" else fail \"three is enough\"", ""), |_, p| played(p, &[], &[]));
    assert_eq!(verdicts(&grades), [("t/never reached".to_owned(), Verdict::Pass)]);
    assert!(mistakes("repeat for 1 s\n  tell \"x\"\nend\n")[0].contains("no time passes"));
    assert!(mistakes("guard trip\n  off\nthen go on\n").iter().any(|m| m.contains("cannot go on")));
}

/// Steps that give one name keep their points apart, and so do rounds.
#[test]
fn points_keep_their_names() {
    let text = "expect true as \"a\"\nrepeat 2 times\n  expect true as \"a\"\nend\nexpect true as \"a#2\"\n";
    let (grades, ..) = run(text, |_, p| played(p, &[], &[]));
    let mut ids: Vec<String> = grades.iter().map(|g| g.point.id.clone()).collect();
    let planned = loaded(text).planned();
    let told = planned.iter().flat_map(|p| &p.points).map(|p| p.point.id.clone());
    assert_eq!(ids, told.collect::<Vec<_>>());
    ids.dedup();
    assert_eq!(ids.len(), 4, "{ids:?}");
}

const PUTS_BACK: &str = r#"
ask "Open the link"
set supply.output = on
hold ia = 2 A for 1 s until trip
expect trip as "trips"
finally
  set supply.output = off
  ask "Close the link"
end
"#;

/// What a sequence puts back it puts back wherever it ends, once; what it owes is told from its first step on.
#[test]
fn finally_is_done_however_a_sequence_ends() {
    let texts =
        |sequence: &Sequence| sequence.owed().into_iter().map(|owed| owed.text).collect::<Vec<_>>();
    let owed = ["Do what `set supply.output = off` does", "Close the link"];
    // Left after so many actions; with more than there are it has come to its end by itself.
    for steps in 0..9 {
        let mut sequence = loaded(PUTS_BACK);
        assert!(sequence.owed().is_empty(), "nothing is undone yet");
        let mut is_put_back = false;
        for _ in 0..steps {
            match sequence.next() {
                Action::Inject(program) => {
                    let seen = played(&program, &[("trip", 0.2, true)], &[]);
                    sequence.observe(&seen);
                }
                Action::Ask(question) => {
                    is_put_back |= question.text == "Close the link";
                    sequence.answer(Answer::Confirmed);
                }
                _ => {}
            }
        }
        let left = texts(&sequence);
        // Its last step is done where it goes on from it.
        assert!(steps == 0 || left == owed || is_put_back && left.is_empty(), "{steps}: {left:?}");
        if sequence.owed().is_empty() {
            continue;
        }
        sequence.restore();
        let (mut set, mut asked) = (0, 0);
        for _ in 0..20 {
            match sequence.next() {
                Action::Inject(_) => panic!("nothing is put out any more"),
                Action::Set(_, value) => set += usize::from(value == ParameterValue::Switch(false)),
                Action::Ask(question) => {
                    asked += usize::from(question.text == "Close the link");
                    sequence.answer(Answer::Confirmed);
                }
                Action::Done => break,
                _ => {}
            }
        }
        assert_eq!((set, asked, sequence.owed().len()), (1, 1, 0), "left after {steps}");
    }
    // Ended by itself, by a guard, by what is not put out.
    let mut refused = loaded(PUTS_BACK);
    let mut asked = Vec::new();
    for _ in 0..20 {
        match refused.next() {
            Action::Inject(_) => drop(refused.refuse("too much")),
            Action::Ask(question) => {
                asked.push(question.text);
                refused.answer(Answer::Confirmed);
            }
            Action::Done => break,
            _ => {}
        }
    }
    assert_eq!(asked, ["Open the link", "Close the link"]);
    assert!(refused.owed().is_empty() && refused.broken_off().is_some());
}

#[test]
fn finally_puts_nothing_out_and_stands_once_at_the_top() {
    let only = |text: &str, because: &str| {
        let found = mistakes(text);
        assert!(found.iter().any(|m| m.contains(because)), "{text}: {found:?}");
    };
    only("finally\n  hold ia = 1 A for 1 s\nend\n", "nothing is put out");
    only("finally\n  expect true as \"x\"\nend\n", "nothing is put out");
    only("if true\n  finally\n    tell \"x\"\n  end\nend\n", "at the top");
    only("finally\n  tell \"x\"\nend\nfinally\n  tell \"y\"\nend\n", "there already");
    // What the steps before it named may not be there.
    only("let x = 2 A\nfinally\n  tell \"{x}\"\nend\n", "x");
}
