//! The measuring side of a rig: meters on a simulated transformer, readings in their places, switches
//! and edges as they come, by itself and over the wire.

use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use waltron_core::asset::Ratings;
use waltron_core::clearance::{Refusal, clear};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{
    Capture, Lack, Part, Probe, Property, Read, Reading, Signal, When,
};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{
    Condition, Finish, Profile, Program, Relation, Segment, Steps, Stop, Switching, Then,
};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::{Action, Procedure};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{
    Dimension, Frequency, Measure, Time, Voltage, amperes, degrees, seconds,
};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_rig::Description;
use waltron_rig::attendant::Unattended;
use waltron_rig::scpi_rig::ScpiRig;
use waltron_rig::test_set::{Session, TestSet, serve};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;

const RIG: &str = include_str!("../../../examples/q07-ct.rig.toml");
/// A core that never saturates and loses nothing by hysteresis: what is expected follows by hand.
const SPECIMEN: &str = r#"
[specimen]
kind = "instrument-transformer"
[transformer]
turns = 599.4
frequency = "50 Hz"
resistance = "3.72 Ohm"
leakage = "0.2 Ohm"
magnetising = "3.1 kOhm"
losses = "5.6 kOhm"
burden_resistance = "3.2 Ohm"
burden_reactance = "2.3 Ohm"
"#;

fn capability() -> Capability {
    RigForm::load(&Source::new("rig", RIG)).unwrap().capability
}

fn built(specimen: &str, capability: &Capability) -> VirtualRig {
    let mut specimen = SpecimenForm::load(&Source::new("specimen", specimen), 7).unwrap();
    specimen.connect(capability).unwrap();
    VirtualRig::new("bench".into(), capability.clone(), specimen, Pace::Fast)
}

fn voltage(rms: f64) -> Stimulus {
    let phasor = Phasor::new(Voltage::from_si(rms), degrees(0.0));
    let drive = Drive::sine("vs".into(), phasor, Frequency::from_si(50.0));
    Stimulus { currents: Vec::new(), voltages: vec![drive] }
}

fn direct(amps: f64) -> Stimulus {
    let phasor = Phasor::new(amperes(0.0), degrees(0.0));
    let mut drive = Drive::sine("is".into(), phasor, Frequency::from_si(50.0));
    drive.dc = Some(Dc::constant(amperes(amps)));
    Stimulus { currents: vec![drive], voltages: Vec::new() }
}

fn probe(of: &str, what: Property) -> Probe {
    let capability = capability();
    let of = Signal::read(of, &capability.measurable()).unwrap();
    let mut probe = Probe { of, what, dimension: Dimension::NUMBER };
    capability.restore(&mut probe);
    probe
}

fn ratings() -> Ratings {
    Ratings::unknown(Some(Frequency::from_si(50.0)))
}

fn play(program: Program) -> Observation {
    let cleared = clear(program, &ratings(), &capability()).unwrap();
    built(SPECIMEN, &capability()).play(&cleared, &mut Unattended).unwrap()
}

fn value(reading: &Reading) -> f64 {
    reading.value.get("value").unwrap()
}

/// Levels of 10 V, 20 V … with a rest between, three readings each.
fn levels(count: usize) -> Program {
    let steps = Steps {
        levels: (1..=count).map(|n| voltage(10.0 * n as f64)).collect(),
        dwell: seconds(0.3),
        rest: None,
    };
    let mut segment = Segment::new("levels", Profile::Steps(steps), Vec::new());
    let of = ["secondary voltage", "secondary current", "secondary voltage / primary voltage"];
    segment.reads =
        of.map(|of| Read { probe: probe(of, Property::Phasor), when: When::EachLevel }).to_vec();
    Program::of(vec![segment])
}

#[test]
fn every_level_is_read_at_its_end_with_what_it_is_uncertain_by() {
    let seen = play(levels(5));
    assert_eq!(seen.readings.len(), 15);
    for (n, three) in seen.readings.chunks(3).enumerate() {
        let place = three[0].place.unwrap();
        assert_eq!((place.segment, place.level), (0, n));
        assert!((place.time.si() - 0.3 * (n + 1) as f64).abs() < 1e-9);
        let volts = 10.0 * (n + 1) as f64;
        let uncertain = three[0].uncertainty.get("value").unwrap();
        // A share and an amount, both limits: each is uncertain by 2/√3 of it.
        let both = (0.0003 * value(&three[0])).hypot(0.0005);
        assert!((uncertain - 2.0 / 3f64.sqrt() * both).abs() < 1e-9);
        // The output is off by 0.1 % or 10 mV, too.
        assert!((value(&three[0]) - volts).abs() < uncertain + f64::max(0.01, 1e-3 * volts));
        assert!((three[0].value.get("frequency").unwrap() - 50.0).abs() < 1e-3);
        // The specimen's turns, less what its exciting current drops in the winding.
        let u = three[2].uncertainty.get("value").unwrap();
        assert!(u < 1.5 && (value(&three[2]) - 599.4 * 1.0007).abs() < u, "{}", value(&three[2]));
        assert!(three[2].value.get("angle").unwrap().abs() < 0.2f64.to_radians());
        assert_eq!(three[2].value.get("frequency"), None);
    }
}

#[test]
fn a_resistance_can_be_waited_for_and_the_winding_discharges() {
    let resistance = probe("secondary voltage / secondary current", Property::Dc);
    let stable = Condition::Stable { probe: resistance.clone(), within: 5e-4, time: seconds(2.0) };
    let next = |when| Stop { when, then: Then::Next };
    let charge = Segment::hold("charge", direct(1.0), seconds(120.0)).until(next(stable));
    let gone = Condition::Reading {
        probe: probe("secondary current", Property::Dc),
        relation: Relation::AtMost,
        limit_si: 0.01,
    };
    let mut charge = charge;
    charge.reads = vec![Read { probe: resistance.clone(), when: When::EachLevel }];
    let discharge = Segment::hold("discharge", Stimulus::off(), seconds(120.0)).until(next(gone));
    let seen = play(Program::of(vec![charge, discharge]));
    let [charged, discharged] = &seen.segments[..] else { panic!("{:?}", seen.segments) };
    let read = seen.in_segment(0, &resistance).next().unwrap();
    let (ohms, uncertain) = (value(read), read.uncertainty.get("value").unwrap());
    assert!((ohms - 3.72).abs() < uncertain && uncertain < 0.01, "{ohms} ± {uncertain}");
    assert!(charged.end.si() < 30.0, "it was steady");
    // 9.87 H over 3.72 Ohm: a hundredth of the current is left after 4.6 time constants.
    let expected = (3100.0 / 314.159 / 3.72) * 100f64.ln();
    let took = (discharged.end - discharged.start).si();
    assert!((took - expected).abs() < 0.5, "{took} s, not {expected} s");
}

#[test]
fn what_has_no_value_says_why_and_is_not_taken_for_one() {
    let mut capability = capability();
    capability.meters.iter_mut().find(|m| m.id == "M1").unwrap().range = 20.0;
    let mut program = Program::of(vec![Segment::hold("on", voltage(30.0), seconds(1.0))]);
    let over = probe("secondary voltage", Property::Phasor);
    let ratio = probe("secondary voltage / primary voltage", Property::Phasor);
    let nothing = probe("primary voltage / burden voltage", Property::Phasor);
    program.reads = vec![over.clone(), ratio.clone(), nothing.clone()];
    let cleared = clear(program, &ratings(), &capability).unwrap();
    let seen = built(SPECIMEN, &capability).play(&cleared, &mut Unattended).unwrap();
    let lack = |probe: &Probe| seen.at_end(probe).unwrap().lacks.clone().unwrap();
    assert_eq!(lack(&over), Lack::BeyondRange("secondary voltage".into()));
    assert_eq!(lack(&ratio), Lack::BeyondRange("secondary voltage".into()));
    assert_eq!(lack(&nothing), Lack::AlmostNothing("`burden voltage`".into()));
    assert_eq!(seen.reading(&over), None);
    // A segment shorter than a cycle shows no phasor.
    let mut program = Program::of(vec![Segment::hold("on", voltage(30.0), seconds(0.01))]);
    program.reads = vec![over.clone()];
    assert!(play(program).at_end(&over).unwrap().lacks.is_some());
}

#[test]
fn what_the_rig_cannot_do_is_refused_before_anything_is_put_out() {
    let told = |program: Program| -> Vec<String> {
        let refused = clear(program, &ratings(), &capability()).unwrap_err();
        refused.iter().map(Refusal::to_string).collect()
    };
    let one = |s: Stimulus| Segment::hold("on", s, seconds(1.0));
    let mut alternating = direct(0.0);
    alternating.currents[0].phasor = Phasor::new(amperes(1.0), degrees(0.0));
    assert_eq!(
        told(Program::of(vec![one(alternating)])),
        ["output `is` puts out DC only, and AC is asked for"]
    );
    let mut dc = voltage(1.0);
    dc.voltages[0].dc = Some(Dc::constant(Voltage::from_si(1.0)));
    assert_eq!(
        told(Program::of(vec![one(dc)])),
        ["output `vs` puts out AC only, and DC is asked for"]
    );
    let mut slow = voltage(1.0);
    slow.voltages[0].frequency = Frequency::from_si(10.0);
    let all = told(Program::of(vec![one(slow)]));
    assert!(all[0].contains("10 Hz on vs") && all[0].contains("15 Hz to 400 Hz"), "{all:?}");
    let mut switched = one(voltage(1.0));
    switched.switches = vec![Switching { output: "close command".into(), closed: true }];
    assert_eq!(told(Program::of(vec![switched])), ["the rig has no switch for `close command`"]);
    let reads = |of: &str, what| {
        let of = Signal::read(of, &capability().measurable()).unwrap();
        let probe = Probe { of, what, dimension: Dimension::NUMBER };
        let mut segment = one(voltage(1.0));
        segment.reads = vec![Read { probe, when: When::EachLevel }];
        told(Program::of(vec![segment]))
    };
    let mut often = one(voltage(1.0));
    let read = Read {
        probe: probe("primary voltage", Property::Phasor),
        when: When::Every(seconds(1e-9)),
    };
    often.reads = vec![read];
    assert!(told(Program::of(vec![often]))[0].contains("too often"));
    let all = reads("primry voltage", Property::Phasor);
    assert!(all[0].contains("does not measure `primry voltage`; is `primary voltage`"), "{all:?}");
    assert!(reads("primary voltage", Property::Dc)[0].contains("shows AC only"));
    assert!(reads("primary voltage / vs", Property::Thd)[0].contains("cannot be worked out"));
    assert!(
        reads("primary voltage - secondary current", Property::Phasor)[0].contains("different")
    );
}

#[test]
fn over_the_wire_the_same_is_measured() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let capability = capability();
    let description = Description::of("bench", &capability, true, false);
    let of = capability.clone();
    let set = TestSet::new(
        description,
        capability.clone(),
        built(SPECIMEN, &capability),
        Box::new(move |_| Some(built(SPECIMEN, &of))),
    );
    let set = Arc::new(set);
    std::thread::spawn(move || serve(&listener, &set, &AtomicBool::new(false), &|_| ()));
    let mut wire =
        ScpiRig::connect("bench".into(), &address, capability.clone(), 7.into()).unwrap();
    let mut here = built(SPECIMEN, &capability);
    let mut regular = Segment::hold("ramp", voltage(40.0), seconds(1.0));
    let every = When::Every(seconds(0.25));
    regular.reads =
        vec![Read { probe: probe("primary voltage", Property::Magnitude), when: every }];
    let mut program = levels(3);
    program.segments.push(regular);
    program.reads = vec![
        probe("secondary voltage / secondary current", Property::Phasor),
        probe("secondary voltage * secondary current", Property::Phasor),
    ];
    program.captures = vec![Capture {
        name: "all".into(),
        of: vec!["secondary voltage".into(), "primary voltage".into()],
        rate_hz: 5_000.0,
        part: Part::Whole,
    }];
    let cleared = clear(program, &ratings(), &capability).unwrap();
    let seen = [&mut wire as &mut dyn Rig, &mut here].map(|rig| {
        let mut seen = rig.play(&cleared, &mut Unattended).unwrap();
        seen.host_timing = None;
        seen
    });
    assert_eq!(seen[0].readings.len(), 9 + 3 + 2);
    let json = seen.each_ref().map(|o| serde_json::to_string(o).unwrap());
    assert_eq!(json[0], json[1]);
    let probes = |o: &Observation| o.readings.iter().map(|r| r.probe.clone()).collect::<Vec<_>>();
    assert!(probes(&seen[0]) == probes(&seen[1]), "dimensions do not cross the line");
    assert!(seen[0].captures == seen[1].captures, "samples are fetched by themselves");
    assert_eq!(seen[0].captures[0].tracks[1].samples.len(), 5_000 * 19 / 10);
    assert!(!json[0].contains("samples"), "they are kept beside the record");
}

const BLOCKED: &str = r#"
[specimen]
kind = "relay"
[[element]]
id = "50"
measures = "phase"
pickup = "1 A"
curve = { family = "definite", delay = "50 ms" }
blocked_by = "blocking"
"#;

const SWITCHING: &str = r#"
[rig]
kind = "virtual"
name = "bench"
specimen = "s"
[[current]]
id = "ia"
range = "10 A"
[[input]]
id = "BI1"
meaning = "trip"
debounce = "200 ms"
[[switch]]
id = "BO1"
meaning = "blocking"
"#;

#[test]
fn switches_act_at_a_segments_start_and_open_with_the_outputs() {
    let capability = RigForm::load(&Source::new("rig", SWITCHING)).unwrap().capability;
    let mut rig = built(BLOCKED, &capability);
    let phasor = Phasor::new(amperes(5.0), degrees(0.0));
    let drive = Drive::sine("ia".into(), phasor, Frequency::from_si(50.0));
    let current = Stimulus { currents: vec![drive], voltages: Vec::new() };
    let segment = |name: &str, stimulus: &Stimulus, time: f64, closed: Option<bool>| {
        let mut s = Segment::hold(name, stimulus.clone(), seconds(time));
        s.switches = closed
            .map(|closed| Switching { output: "blocking".into(), closed })
            .into_iter()
            .collect();
        s
    };
    let mut run = |segments: Vec<Segment>| {
        let mut program = Program { finish: Finish::Off, ..Program::of(segments) };
        program.raw_edges = true;
        let cleared = clear(program, &ratings(), &capability).unwrap();
        rig.rest(seconds(5.0), &mut Unattended).unwrap();
        rig.play(&cleared, &mut Unattended).unwrap()
    };
    let trips = |seen: &Observation| -> Vec<f64> {
        seen.edges.iter().filter(|e| e.closed).map(|e| e.time.si()).collect()
    };
    let seen = run(vec![
        segment("blocked", &current, 1.0, Some(true)),
        segment("still blocked", &current, 1.0, None),
        segment("released", &current, 1.0, Some(false)),
    ]);
    let trip = trips(&seen);
    assert!(trip.len() == 1 && (trip[0] - 2.05).abs() < 1e-3, "{trip:?}");
    // Blocked when the outputs went off, and not any more.
    let seen = run(vec![segment("blocked", &current, 1.0, Some(true))]);
    assert!(trips(&seen).is_empty());
    let seen = run(vec![segment("free", &current, 1.0, None)]);
    assert_eq!(trips(&seen).len(), 1);
    // A contact that closes for 100 ms is too short for its input, and came nevertheless.
    let seen =
        run(vec![segment("on", &current, 0.15, None), segment("off", &Stimulus::off(), 1.0, None)]);
    assert!(seen.edges.is_empty(), "{:?}", seen.edges);
    let raw: Vec<(Name, bool)> =
        seen.raw_edges.iter().map(|e| (e.signal.clone(), e.closed)).collect();
    assert_eq!(raw, [("trip".into(), true), ("trip".into(), false)]);
    let length: Time = seen.raw_edges[1].time - seen.raw_edges[0].time;
    assert!(length < seconds(0.2));
}

#[test]
fn by_hand_a_client_reads_meters_and_sets_switches() {
    let capability = capability();
    let of = capability.clone();
    let set = Arc::new(TestSet::new(
        Description::of("bench", &capability, true, false),
        capability.clone(),
        built(SPECIMEN, &capability),
        Box::new(move |_| Some(built(SPECIMEN, &of))),
    ));
    let mut session = Session::new(Arc::clone(&set));
    let mut ask = |message: &str| {
        String::from_utf8_lossy(&session.handle(message.as_bytes())).trim_end().to_owned()
    };
    assert!(ask("ROUT:MET:CAT?").starts_with("\"M1\",\"secondary voltage\""));
    assert_eq!(ask("ROUT:SWIT:CAT?"), "\"\"");
    ask("PROG:SEGM:NEW \"on\";VOLT vs,40 V;TIME 1 S");
    ask("PROG:SEGM:READ \"secondary voltage\";READ \"secondary voltage / primary voltage\"");
    assert_eq!(ask("INIT;*OPC?;SYST:ERR:COUN?"), "1;0");
    let answer = ask("FETC:READ?");
    let fields: Vec<&str> = answer.split(',').collect();
    let numbers: Vec<f64> = fields.iter().filter_map(|f| f.parse().ok()).collect();
    // Segment, level, time, value, angle, U: twice.
    assert_eq!(numbers[..3], [1.0, 1.0, 1.0], "{answer}");
    assert!((numbers[3] - 40.0).abs() < 0.02 && (numbers[9] - 599.9).abs() < 0.5, "{answer}");
    for (wrong, number) in [
        ("PROG:SEGM:READ \"primry voltage\"", "-241"),
        ("PROG:SEGM:READ \"primary voltage\",DC", "-241"),
        ("PROG:SEGM:READ \"primary voltage\",RMS", "-224"),
    ] {
        ask(wrong);
        assert!(ask("SYST:ERR?").starts_with(number), "{wrong}");
    }
    // A switch that is not there is refused when the program begins.
    ask("PROG:SEGM:SWIT \"close command\",ON");
    ask("INIT");
    assert!(ask("SYST:ERR?").contains("no switch for `close command`"));
    let mut other = Session::new(set);
    other.handle(b"PROG:SEGM:READ \"primary voltage\"");
    let error = String::from_utf8_lossy(&other.handle(b"SYST:ERR?")).into_owned();
    assert!(error.starts_with("-203"), "another client controls: {error}");
}

#[test]
fn captures_are_what_the_meters_see_and_not_what_was_put_out() {
    // It comes on where the voltage rises through zero.
    let mut at_zero = voltage(40.0);
    at_zero.voltages[0].phasor = Phasor::new(Voltage::from_si(40.0), degrees(-90.0));
    let mut program = Program::of(vec![
        Segment::hold("low", voltage(10.0), seconds(0.2)),
        Segment::hold("high", at_zero, seconds(0.2)),
    ]);
    let capture = |name: &str, of: &str, part| Capture {
        name: name.into(),
        of: vec![of.into()],
        rate_hz: 10_000.0,
        part,
    };
    program.captures = vec![
        capture("whole", "primary voltage", Part::Whole),
        capture("second", "primary voltage", Part::Segment(1)),
        capture("current", "secondary current", Part::Segment(1)),
    ];
    let seen = play(program.clone());
    let [whole, second, current] = &seen.captures[..] else { panic!("{}", seen.captures.len()) };
    let samples = |c: &waltron_core::injection::measuring::Captured| c.tracks[0].samples.clone();
    assert_eq!((samples(whole).len(), samples(second).len()), (4000, 2000));
    // The same moments, told from another start: rounded otherwise in their last digit.
    let of_whole = samples(whole);
    assert!(
        of_whole[2000..].iter().zip(samples(second).iter()).all(|(a, b)| (a - b).abs() < 1e-12)
    );
    assert!((second.start.si() - 0.2).abs() < 1e-12);
    let rms = |s: &[f64]| (s.iter().map(|x| x * x).sum::<f64>() / s.len() as f64).sqrt();
    // The turns ratio and what the exciting current drops: far from the 40 V that were put out.
    assert!((rms(&samples(second)) - 40.0 / 599.4).abs() < 2e-4);
    // Switched on at zero, the flux swings to twice its peak: the current in the core has a direct part as
    // large as its amplitude, sqrt(2) * 40 V over 3.1 kOhm, which dies away with 9.87 H over 3.72 Ohm.
    let mean = |s: &[f64]| s.iter().sum::<f64>() / s.len() as f64;
    let expected = 2f64.sqrt() * 40.0 / 3100.0;
    let shown = mean(&samples(current));
    assert!((shown / expected - 1.0).abs() < 0.05, "{shown} A, not {expected} A");
    // Around an end: as far as there is something on both sides of it.
    for (before, after, from, count) in [
        (0.05, 0.02, 0.15, 700),
        (0.3, 0.02, 0.0, 2200),
        (0.05, 0.5, 0.15, 2500),
        (0.0, 0.0, 0.2, 0),
    ] {
        let [before, after] = [before, after].map(seconds);
        let part = Part::AroundEnd { segment: 0, before, after };
        let mut around = program.clone();
        around.captures = vec![capture("end", "primary voltage", part)];
        let seen = play(around);
        let [end] = &seen.captures[..] else { panic!("{}", seen.captures.len()) };
        assert!((end.start.si() - from).abs() < 1e-9, "{before:?} {after:?}: {:?}", end.start);
        let samples = samples(end);
        assert_eq!(samples.len(), count, "{before:?} {after:?}");
        let same = of_whole[(from * 1e4).round() as usize..].iter().zip(samples.iter());
        assert!(same.clone().all(|(a, b)| (a - b).abs() < 1e-12));
    }
    let refused = |capture: Capture| {
        let mut odd = program.clone();
        odd.captures = vec![capture];
        clear(odd, &ratings(), &capability()).unwrap_err()[0].to_string()
    };
    assert!(refused(capture("x", "vs", Part::Whole)).contains("no meter `vs`"));
    let mut fast = capture("x", "primary voltage", Part::Whole);
    fast.rate_hz = 1e9;
    assert!(refused(fast).contains("samples a second"));
    let long = Part::Around {
        signal: "trip".into(),
        closed: true,
        before: seconds(1e6),
        after: seconds(1.0),
    };
    assert!(refused(capture("x", "primary voltage", long)).contains("room"));
}

const TWO_TRIPLES: &str = r#"
[rig]
kind = "virtual"
name = "bench"
specimen = "s"
"#;

#[test]
fn outputs_in_groups_are_set_together_as_phases() {
    let output =
        |id: &str, group: &str| format!("[[current]]\nid = \"{id}\"\nrange = \"10 A\"\n{group}");
    let group = "group = \"i2\"\n";
    let second = ["i2a", "i2b", "i2c"].map(|id| output(id, group)).concat();
    let first = ["ia", "ib", "ic"].map(|id| output(id, "")).concat();
    let text = format!("{TWO_TRIPLES}{first}{second}");
    let capability = RigForm::load(&Source::new("rig", text.as_str())).unwrap().capability;
    let asset = "[asset]\nkind = \"relay\"\ntag = \"x\"\n[ratings]\nfrequency = \"50 Hz\"\n";
    let asset = waltron_relay::WINGS.asset(&Source::new("a", asset)).unwrap();
    let script =
        "hold i = balanced(1 A), i2 = balanced(2 A @ 30 deg), i2.h5 = 10 % for 1 s then off\n";
    let source = Source::new("s", script);
    let context = waltron_script::Context::new("t".into(), asset, capability, source.text.clone());
    let mut sequence = waltron_script::load(&source, &Arc::new(context)).unwrap().procedure();
    let Action::Inject(program) = sequence.next() else { panic!("nothing is injected") };
    let Profile::Hold(out) = &program.segments[0].profile else { panic!("{program:?}") };
    let drive = |id: &str| out.currents.iter().find(|d| d.channel == *id).unwrap();
    for (id, at) in [("i2a", 30.0), ("i2b", -90.0), ("i2c", 150.0)] {
        let drive = drive(id);
        assert!((drive.phasor.rms().si() - 2.0).abs() < 1e-12);
        assert!((drive.phasor.angle().si().to_degrees() - at).abs() < 1e-9, "{id}");
        assert_eq!(drive.harmonics.len(), 1);
    }
    assert!((drive("ib").phasor.rms().si() - 1.0).abs() < 1e-12);
    for (wrong, told) in
        [("group = \"v\"\n", "is a name already"), ("group = \"i 2\"\n", "letters and digits")]
    {
        let text = format!("{TWO_TRIPLES}{}", output("x", wrong));
        let error = RigForm::load(&Source::new("rig", text.as_str())).unwrap_err();
        assert!(error.problems[0].message.contains(told), "{error:?}");
    }
}
