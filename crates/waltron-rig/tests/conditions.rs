//! The virtual rig on the simulated supply and relay: stop conditions, what stays on, what is read.

use std::cell::Cell;
use waltron_core::asset::{Rating, Ratings, Withstand};
use waltron_core::clearance::{Refusal, clear};
use waltron_core::injection::capability::{
    Capability, Channel, Input, Instrument, Parameter, ParameterKind, ParameterValue,
};
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{
    Condition, Finish, Profile, Program, Relation, Segment, Slope, Stop, Then,
};
use waltron_core::injection::stimulus::{Drive, Harmonic, Stimulus};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Dimension, Frequency, Measure, Voltage, amperes, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_core::uncertainty::Accuracy;
use waltron_rig::Rig;
use waltron_rig::attendant::{Attendant, Unattended};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_specimen::SpecimenForm;

const SUPPLY: &str = r#"
    [specimen]
    kind = "supply"
    [supply]
    voltage = "24 V"
    settling = "500 ms"
    load = "24 Ohm"
    inrush = "1 A"
"#;

const RELAY: &str = r#"
    [specimen]
    kind = "relay"
    [[element]]
    id = "59"
    measures = "overvoltage"
    pickup = "70 V"
    curve = { family = "definite", delay = "100 ms" }
    trip = "over"
    [[element]]
    id = "27"
    measures = "undervoltage"
    blocking_voltage = "5 V"
    pickup = "50 V"
    curve = { family = "definite", delay = "100 ms" }
    trip = "under"
    [[element]]
    id = "81U"
    measures = "underfrequency"
    pickup = "49 Hz"
    curve = { family = "definite", delay = "0 ms" }
    trip = "slow"
    [[element]]
    id = "81R"
    measures = "frequency-rate"
    pickup = "0.5 Hz/s"
    curve = { family = "definite", delay = "0 ms" }
    trip = "rate"
    [[element]]
    id = "67"
    measures = "directional"
    angle = "-45 deg"
    pickup = "1 A"
    curve = { family = "definite", delay = "50 ms" }
    trip = "forward"
    [[element]]
    id = "h2"
    measures = "harmonic"
    order = 2
    pickup = "15 %"
    curve = { family = "definite", delay = "0 ms" }
    trip = "inrush"
"#;

fn ratings(continuous: f64) -> Ratings {
    let rating = |i, duration| Rating { value: amperes(i), duration };
    let currents = vec![rating(continuous, None), rating(100.0, Some(seconds(1.0)))];
    let currents = Withstand::new(currents);
    Ratings { currents, ..Ratings::unknown(Some(Frequency::from_si(50.0))) }
}

fn capability() -> Capability {
    let input = |m: &str| Input { id: m.into(), meaning: m.into(), debounce: seconds(0.0) };
    Capability {
        currents: vec![Channel::new(
            "ia",
            amperes(50.0),
            Tolerance::larger_of(1e-3, amperes(1e-3)),
        )],
        voltages: ["va", "vb", "vc"]
            .map(|id| {
                Channel::new(
                    id,
                    Voltage::from_si(150.0),
                    Tolerance::larger_of(1e-3, Voltage::from_si(0.01)),
                )
            })
            .to_vec(),
        inputs: ["over", "under", "slow", "rate", "forward", "inrush", "start"].map(input).to_vec(),
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
        parameters: vec![Parameter {
            name: "supply.output".into(),
            kind: ParameterKind::Switch,
            off: ParameterValue::Switch(false),
        }],
        timing_resolution: seconds(0.0),
        timing_accuracy: Accuracy::exact(Dimension::TIME),
        instruments: Vec::new(),
        emergency_stop: None,
        switches_leads: false,
        earths: false,
        discharge: None,
    }
}

fn rig(specimen: &str) -> VirtualRig {
    let specimen = SpecimenForm::load(&Source::new("s", specimen), 1).unwrap();
    VirtualRig::new("rig".into(), capability(), specimen, Pace::Fast)
}

fn play(rig: &mut VirtualRig, program: Program) -> Observation {
    let cleared = clear(program, &ratings(20.0), &capability()).unwrap();
    rig.play(&cleared, &mut Unattended).unwrap()
}

fn supply(name: &str) -> Probe {
    let dimension = if name.ends_with("voltage") { Dimension::VOLTAGE } else { Dimension::CURRENT };
    Probe { of: name.into(), what: Property::Value, dimension }
}

fn on() -> VirtualRig {
    let mut rig = rig(SUPPLY);
    rig.set(&"supply.output".into(), ParameterValue::Switch(true)).unwrap();
    rig
}

fn waiting(when: Condition) -> Program {
    let stop = Stop { when, then: Then::End };
    Program::of(vec![Segment::hold("wait", Stimulus::off(), seconds(20.0)).until(stop)])
}

/// u(t) = 24 V·(1 − exp(−t/0.5 s)) passes 22.8 V after 0.5 s·ln 20 = 1.498 s.
#[test]
fn a_threshold_on_a_measured_value_ends_the_step_when_it_is_passed() {
    let reading = |limit_si| Condition::Reading {
        probe: supply("supply.voltage"),
        relation: Relation::AtLeast,
        limit_si,
    };
    let seen = play(&mut on(), waiting(reading(22.8)));
    let passed = 0.5 * 20f64.ln();
    assert!((passed..passed + 0.011).contains(&seen.length().si()), "{}", seen.length().si());
    let never = play(&mut on(), waiting(reading(25.0)));
    assert_eq!(never.segments[0].ended, Ended::Stop(1), "the time-out");
    // i(t) = u/24 Ω + 1 A·exp(−t/0.5 s) is 1 A at first and stays there: at most 0.99 A never holds.
    let low = Condition::Reading {
        probe: supply("supply.current"),
        relation: Relation::AtMost,
        limit_si: 0.99,
    };
    let both = play(&mut on(), waiting(Condition::All(vec![reading(22.8), low.clone()])));
    assert_eq!(both.segments[0].ended, Ended::Stop(1));
    let either = play(&mut on(), waiting(Condition::Any(vec![low, reading(12.0)])));
    assert!((either.length().si() - 0.5 * 2f64.ln()).abs() < 0.011);
}

/// Within 1 % over 1 s: 24·(e^{−t/0.5} − e^{−(t+1)/0.5}) ≤ 0.24·… gives about 3.3 s.
#[test]
fn steady_needs_its_whole_time_within_the_band() {
    let steady =
        Condition::Stable { probe: supply("supply.voltage"), within: 0.01, time: seconds(1.0) };
    let seen = play(&mut on(), waiting(steady));
    let end = seen.length().si();
    let at = |t: f64| 24.0 * (1.0 - (-t / 0.5).exp());
    assert!((at(end) - at(end - 1.0)) / at(end) <= 0.0101, "{end}");
    assert!(
        (at(end - 0.03) - at(end - 1.03)) / at(end - 0.03) > 0.0099,
        "not earlier than needed: {end}"
    );
}

struct Marking(Cell<u32>);

impl Attendant for Marking {
    fn ask(&mut self, _: &Question) -> Answer {
        Answer::Confirmed
    }
    fn wants_to_stop(&self) -> bool {
        false
    }
    fn mark(&mut self) -> bool {
        self.0.set(self.0.get() + 1);
        self.0.get() == 31
    }
}

#[test]
fn the_attendants_mark_ends_a_step() {
    let cleared = clear(waiting(Condition::Mark), &ratings(20.0), &capability()).unwrap();
    let seen = rig(SUPPLY).play(&cleared, &mut Marking(Cell::new(0))).unwrap();
    assert_eq!(seen.segments[0].ended, Ended::Stop(0));
    assert!((seen.length().si() - 0.3).abs() < 0.011, "looked at every 10 ms");
}

/// Sees something outside for a while: from the tenth look to the twentieth.
struct Looking(Cell<u32>);

impl Attendant for Looking {
    fn ask(&mut self, _: &Question) -> Answer {
        Answer::Confirmed
    }
    fn wants_to_stop(&self) -> bool {
        false
    }
    fn outside(&mut self) -> bool {
        self.0.set(self.0.get() + 1);
        (10..20).contains(&self.0.get())
    }
}

/// What is seen outside counts while it is seen; a mark stays, and neither stands for the other.
#[test]
fn what_is_seen_outside_does_not_latch_and_is_no_mark() {
    let ended = |when: Condition| {
        let cleared = clear(waiting(when), &ratings(20.0), &capability()).unwrap();
        let seen = rig(SUPPLY).play(&cleared, &mut Looking(Cell::new(0))).unwrap();
        (seen.segments[0].ended == Ended::Stop(0), seen.length().si())
    };
    let late = |t: f64| Condition::All(vec![Condition::Outside, Condition::After(seconds(t))]);
    let (alone, at) = ended(Condition::Outside);
    assert!(alone && (at - 0.09).abs() < 0.011, "{at}");
    let (both, at) = ended(late(0.15));
    assert!(both && (at - 0.15).abs() < 0.011, "{at}");
    assert!(!ended(late(0.5)).0, "it is no longer seen by then");
    assert!(!ended(Condition::Mark).0);
}

fn volts(rms: f64, hz: f64) -> Stimulus {
    let drive = |id: &str, angle: f64| {
        Drive::sine(
            id.into(),
            Phasor::new(Voltage::from_si(rms), degrees(angle)),
            Frequency::from_si(hz),
        )
    };
    let voltages = vec![drive("va", 0.0), drive("vb", -120.0), drive("vc", 120.0)];
    Stimulus { currents: Vec::new(), voltages }
}

fn current(rms: f64, angle: f64) -> Drive<waltron_core::quantity::Current> {
    Drive::sine("ia".into(), Phasor::new(amperes(rms), degrees(angle)), Frequency::from_si(50.0))
}

fn closed(seen: &Observation, signal: &str) -> Option<f64> {
    seen.edges.iter().find(|e| e.signal == signal && e.closed).map(|e| e.time.si())
}

#[test]
fn the_relay_sees_voltage_direction_and_harmonics() {
    let hold = |name: &str, s: Stimulus| Segment::hold(name, s, seconds(0.5));
    let seen = play(
        &mut rig(RELAY),
        Program::of(vec![
            hold("a", volts(60.0, 50.0)),
            hold("b", volts(75.0, 50.0)),
            hold("c", volts(40.0, 50.0)),
            hold("d", volts(0.0, 50.0)),
        ]),
    );
    assert!((closed(&seen, "over").unwrap() - 0.6).abs() < 1e-6);
    assert!((closed(&seen, "under").unwrap() - 1.1).abs() < 1e-6);
    assert!(
        seen.edges
            .iter()
            .any(|e| e.signal == "under" && !e.closed && (e.time.si() - 1.5).abs() < 1e-6),
        "dead is not low"
    );
    let with = |angle: f64, share: f64| {
        let mut s = volts(60.0, 50.0);
        let mut i = current(2.0, angle);
        i.set_harmonic(Harmonic::new(2, share, degrees(0.0)));
        s.currents.push(i);
        play(&mut rig(RELAY), Program::of(vec![hold("x", s)]))
    };
    for (angle, forward) in
        [(-45.0, true), (30.0, true), (-130.0, true), (60.0, false), (135.0, false)]
    {
        assert_eq!(closed(&with(angle, 0.0), "forward").is_some(), forward, "{angle} deg");
    }
    assert!(
        closed(&with(0.0, 0.16), "inrush").is_some()
            && closed(&with(0.0, 0.14), "inrush").is_none()
    );
}

/// From 50 Hz at 0.4 Hz/s, 49 Hz is passed after 2.5 s; 0.4 Hz/s is below the rate's setting.
#[test]
fn a_frequency_slope_crosses_the_setting_when_it_should() {
    let slope = |hz_per_s: f64| {
        let to = volts(60.0, 48.0);
        let time = seconds(2.0 / hz_per_s);
        let slope = Profile::Slope(Slope { through: vec![volts(60.0, 50.0), to], time });
        let ramp = Segment::new("ramp", slope, Vec::new());
        play(
            &mut rig(RELAY),
            Program::of(vec![Segment::hold("healthy", volts(60.0, 50.0), seconds(1.0)), ramp]),
        )
    };
    let slow = slope(0.4);
    assert!((closed(&slow, "slow").unwrap() - 3.5).abs() < 0.003, "{:?}", closed(&slow, "slow"));
    assert_eq!(closed(&slow, "rate"), None);
    let fast = slope(1.0);
    assert!((closed(&fast, "slow").unwrap() - 2.0).abs() < 0.003);
    // The relay takes the rate over 100 ms: it passes 0.5 Hz/s half way through its window.
    let rate = closed(&fast, "rate").unwrap() - 1.0;
    assert!((0.03..0.07).contains(&rate), "{rate}");
    // A held rate of change does the same.
    let mut held = volts(60.0, 50.0);
    held.voltages.iter_mut().for_each(|d| d.rate_hz_per_s = -1.0);
    let seen = play(
        &mut rig(RELAY),
        Program::of(vec![
            Segment::hold("healthy", volts(60.0, 50.0), seconds(1.0)),
            Segment::hold("df", held, seconds(2.0)),
        ]),
    );
    assert!((closed(&seen, "slow").unwrap() - 2.0).abs() < 0.003);
}

#[test]
fn outputs_stay_on_only_where_the_program_says_so() {
    let mut rig = rig(RELAY);
    let program = |finish, then| Program {
        segments: vec![Segment::new(
            "x",
            Profile::Hold(volts(75.0, 50.0)),
            vec![Stop { when: Condition::After(seconds(0.05)), then }],
        )],
        finish,
        ..Program::default()
    };
    play(&mut rig, program(Finish::Keep, Then::End));
    assert!(rig.is_energised());
    // What was kept goes on for the relay: its 100 ms end in the next program.
    let seen = play(&mut rig, Program { finish: Finish::Keep, ..program(Finish::Keep, Then::End) });
    assert!((closed(&seen, "over").unwrap() - 0.05).abs() < 1e-6);
    play(&mut rig, program(Finish::Keep, Then::Off));
    assert!(!rig.is_energised(), "a guard's stop switches off whatever the program says");
    play(&mut rig, program(Finish::Off, Then::End));
    assert!(!rig.is_energised());
}

/// A wave of angle 0 at 50 Hz crosses zero at 5, 15, 25 ms; one of -120° 6.67 ms later.
#[test]
fn poles_clear_at_their_own_zero_crossings() {
    let mut s = volts(10.0, 50.0);
    s.voltages.truncate(2);
    let program = Program {
        segments: vec![Segment::hold("x", s, seconds(0.021))],
        finish: Finish::OffAtZero,
        ..Program::default()
    };
    let seen = play(&mut rig(RELAY), program.clone());
    let off = |id: &str| seen.off_at.iter().find(|o| o.channel == id).unwrap().time.si();
    assert!((off("va") - 0.025).abs() < 1e-9 && (off("vb") - 0.021_666_666_667).abs() < 1e-9);
    let mut wave = waltron_core::injection::waveform::render(
        &waltron_core::injection::waveform::pieces(&program, Some(&seen)),
        1e4,
    )
    .unwrap();
    wave.cut(&seen);
    assert_eq!(wave.channels.len(), 2);
}

#[test]
fn what_would_stay_on_or_cannot_be_measured_is_refused() {
    let held = Stimulus { currents: vec![current(25.0, 0.0)], voltages: Vec::new() };
    let mut program = Program::of(vec![Segment::hold("x", held, seconds(0.1))]);
    assert!(clear(program.clone(), &ratings(20.0), &capability()).is_ok(), "for a short time");
    program.finish = Finish::Keep;
    let refused = clear(program.clone(), &ratings(20.0), &capability()).unwrap_err();
    assert!(matches!(refused[0], Refusal::Kept { .. }), "{refused:?}");
    assert!(clear(program.clone(), &ratings(30.0), &capability()).is_ok());
    program.finish = Finish::Off;
    program.reads.push(supply("supply.power"));
    let refused = clear(program, &ratings(20.0), &capability()).unwrap_err();
    assert!(matches!(refused[0], Refusal::NotMeasured { .. }), "{refused:?}");
    let unwired = Condition::Any(vec![
        Condition::Edge { signal: "bell".into(), closed: true },
        Condition::After(seconds(1.0)),
    ]);
    let refused = clear(waiting(unwired), &ratings(20.0), &capability()).unwrap_err();
    assert!(matches!(refused[0], Refusal::NotWired { .. }), "{refused:?}");
}

#[test]
fn an_output_reads_back_within_its_accuracy_and_nothing_has_no_phase() {
    let mut i = current(4.0, -30.0);
    i.set_harmonic(Harmonic::new(5, 0.2, degrees(90.0)));
    let out = Stimulus { currents: vec![i], voltages: Vec::new() };
    let mut program = Program::of(vec![Segment::hold("x", out, seconds(0.2))]);
    let probe = |of: &str, what: Property| Probe {
        of: of.into(),
        what,
        dimension: what.dimension(Dimension::CURRENT),
    };
    let what = [
        Property::Magnitude,
        Property::Phase,
        Property::Frequency,
        Property::Harmonic(5),
        Property::HarmonicAngle(5),
        Property::Rms,
        Property::Thd,
    ];
    program.reads = what.map(|w| probe("ia", w)).to_vec();
    program.reads.push(probe("va", Property::Phase));
    program.reads.push(probe("va", Property::Magnitude));
    let seen = play(&mut rig(RELAY), program);
    let value = |w: Property| seen.reading(&probe("ia", w)).unwrap();
    let near = |w: Property, expected: f64, off: f64| {
        assert!((value(w) - expected).abs() <= off, "{w:?} {}", value(w))
    };
    near(Property::Magnitude, 4.0, 0.004);
    near(Property::Phase, -30f64.to_radians(), 0.001);
    near(Property::Frequency, 50.0, 0.001);
    near(Property::Harmonic(5), 0.2, 0.001);
    near(Property::HarmonicAngle(5), 90f64.to_radians(), 0.005);
    near(Property::Rms, 4.0 * 1.04f64.sqrt(), 0.005);
    near(Property::Thd, 0.2, 0.001);
    assert_ne!(value(Property::Magnitude), 4.0, "measured, not echoed");
    assert_eq!(seen.reading(&probe("va", Property::Phase)), None);
    assert!(seen.reading(&probe("va", Property::Magnitude)).unwrap().abs() < 0.011);
}

/// P + jQ = V·I* of one phase: 60 V and 2 A lagging by 60° give 60 W and 103.9 var.
#[test]
fn power_is_measured_not_echoed() {
    let mut out = volts(60.0, 50.0);
    out.currents.push(current(2.0, -60.0));
    let mut program = Program::of(vec![Segment::hold("x", out, seconds(0.2))]);
    let power = |what| Probe { of: "".into(), what, dimension: Dimension::POWER };
    program.reads = vec![power(Property::ActivePower), power(Property::ReactivePower)];
    let seen = play(&mut rig(RELAY), program);
    let (p, q) = (
        seen.readings[0].value.get("value").unwrap(),
        seen.readings[1].value.get("value").unwrap(),
    );
    assert!(
        (p - 60.0).abs() < 0.5 && (q - 120.0 * 60f64.to_radians().sin()).abs() < 0.5,
        "{p} {q}"
    );
    assert_ne!(p, 60.0);
}
