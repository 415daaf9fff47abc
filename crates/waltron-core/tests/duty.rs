//! What earlier injections leave behind, reckoned by hand for 4 A continuous and 100 A for 1 s:
//! 10 000 A²s are all, and cold inputs give back 16 A²s a second.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use proptest::prelude::*;
use waltron_core::asset::{Rating, Ratings, Withstand};
use waltron_core::clearance::duty::{Duty, Warm};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::{Ended, Observation, Span};
use waltron_core::injection::program::{Profile, Program, Segment, Stairs};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Frequency, Measure, Voltage, amperes, seconds};

fn ratings() -> Ratings {
    let current = |i, t: Option<f64>| Rating { value: amperes(i), duration: t.map(seconds) };
    let voltage =
        |v, t: Option<f64>| Rating { value: Voltage::from_si(v), duration: t.map(seconds) };
    Ratings {
        currents: Withstand::new(vec![current(4.0, None), current(100.0, Some(1.0))]),
        voltages: Withstand::new(vec![voltage(250.0, None), voltage(300.0, Some(10.0))]),
        ..Ratings::unknown(Some(Frequency::from_si(50.0)))
    }
}

fn drive<Q: Measure>(channel: &str, rms: f64) -> Drive<Q> {
    let phasor = Phasor::new(Q::from_si(rms), Default::default());
    Drive::sine(channel.into(), phasor, Frequency::from_si(50.0))
}

fn currents(all: &[(&str, f64)]) -> Stimulus {
    let currents = all.iter().map(|(channel, rms)| drive(channel, *rms)).collect();
    Stimulus { currents, voltages: Vec::new() }
}

fn voltage(rms: f64) -> Stimulus {
    Stimulus { currents: Vec::new(), voltages: vec![drive("va", rms)] }
}

fn held(stimulus: Stimulus, time: f64) -> Program {
    Program::of(vec![Segment::hold("held", stimulus, seconds(time))])
}

/// What was seen where segments lasted this long, one after another from a moment on.
fn lasted(from: f64, times: &[f64]) -> Observation {
    let mut start = from;
    let span = |time: &f64| {
        let begin = start;
        start += time;
        Span { start: seconds(begin), end: seconds(start), ended: Ended::Stop(0) }
    };
    Observation { segments: times.iter().map(span).collect(), ..Default::default() }
}

fn heat_after(program: &Program, seen: &Observation, channel: &str) -> f64 {
    let mut duty = Duty::new(&ratings(), &Capability::none());
    duty.put_out(program, seen);
    duty.heat(channel)
}

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() < 1e-9
}

/// A ramp of 20, 40, 60 A for 0.5 s each heats 200, 800 and 1800 A²s, level by level.
#[test]
fn a_ramp_heats_as_far_as_it_came() {
    let stairs = Stairs {
        from: currents(&[("ia", 20.0)]),
        to: currents(&[("ia", 60.0)]),
        steps: 2,
        dwell: seconds(0.5),
        rest: None,
    };
    let profile = Profile::Stairs(stairs);
    let ramp = Program::of(vec![Segment::new("ramp", profile, Vec::new())]);
    let heat = |time: f64| heat_after(&ramp, &lasted(3.0, &[time]), "ia");
    assert!(near(heat(0.0), 0.0));
    assert!(near(heat(0.5), 0.02));
    assert!(near(heat(0.75), 0.02 + 0.04));
    assert!(near(heat(1.0), 0.02 + 0.08));
    assert!(near(heat(1.5), 0.02 + 0.08 + 0.18));
    assert!(near(heat(9.0), 0.28), "no longer than it is");
}

/// Segments that were not reached heat nothing; each that was counts for its own time.
#[test]
fn each_segment_counts_for_the_time_it_lasted() {
    let hold = |rms: f64| Segment::hold("h", currents(&[("ia", rms)]), seconds(2.0));
    let program = Program::of(vec![hold(50.0), hold(30.0)]);
    assert!(near(heat_after(&program, &lasted(0.0, &[1.0]), "ia"), 0.25));
    assert!(near(heat_after(&program, &lasted(0.0, &[1.0, 2.0]), "ia"), 0.25 + 0.18));
    assert!(near(heat_after(&program, &lasted(0.0, &[2.0, 0.0]), "ia"), 0.5));
}

/// Other channels cool meanwhile, by as much as what is on them leaves.
#[test]
fn channels_heat_and_cool_on_their_own() {
    let mut duty = Duty::new(&ratings(), &Capability::none());
    duty.put_out(&held(currents(&[("ia", 50.0), ("ib", 30.0)]), 2.0), &lasted(0.0, &[2.0]));
    assert!(near(duty.heat("ia"), 0.5) && near(duty.heat("ib"), 0.18) && duty.heat("ic") == 0.0);
    // 10 s of 2 A on ib: 12 A²s a second go there, 16 on ia.
    duty.put_out(&held(currents(&[("ib", 2.0)]), 10.0), &lasted(0.0, &[10.0]));
    assert!(near(duty.heat("ia"), 0.5 - 0.016) && near(duty.heat("ib"), 0.18 - 0.012));
    duty.cool(seconds(1e4));
    assert_eq!((duty.heat("ia"), duty.heat("ib")), (0.0, 0.0), "never below cold");
    assert!(duty.warm().is_cold());
}

/// The channel that needs longest decides; what it has left over may be used up to the last.
#[test]
fn rest_is_as_long_as_the_hottest_channel_needs() {
    let out = held(currents(&[("ia", 50.0), ("ib", 30.0)]), 3.0);
    let mut duty = Duty::new(&ratings(), &Capability::none());
    assert_eq!(duty.rest_before(&out).si(), 0.0);
    // What is too much for a cold asset is not for rest to mend: clearance refuses it.
    assert_eq!(duty.rest_before(&held(currents(&[("ia", 90.0)]), 9.0)).si(), 0.0);
    duty.put_out(&out, &lasted(0.0, &[3.0]));
    // ia: 0.75 of all, ib: 0.27. Once more needs 0.5 · 10 000 / 16 s.
    assert!(near(duty.rest_before(&out).si(), 312.5));
    let on_b = held(currents(&[("ib", 30.0)]), 3.0);
    assert_eq!(duty.rest_before(&on_b).si(), 0.0);
    let just = held(currents(&[("ia", 50.0)]), 1.0);
    assert!(duty.rest_before(&just).si() < 1e-9);
    let over = held(currents(&[("ia", 50.0)]), 1.016);
    assert!(near(duty.rest_before(&over).si(), 0.004 * 10_000.0 / 16.0));
    // Two segments of one program add up before they are put out.
    let twice = Program::of([&just, &over].iter().flat_map(|p| p.segments.clone()).collect());
    assert!(near(duty.rest_before(&twice).si(), 0.254 * 10_000.0 / 16.0));
    // Warm voltages alone ask for their rest too; 290 V last 10·(300/290)² s.
    let mut duty = Duty::new(&ratings(), &Capability::none());
    let high = held(voltage(290.0), 9.0);
    duty.put_out(&high, &lasted(0.0, &[9.0]));
    let share = 0.9 * (290.0_f64 / 300.0).powi(2);
    let rest = (2.0 * share - 1.0) / (250.0 * 250.0 / (300.0 * 300.0 * 10.0));
    assert!(near(duty.rest_before(&high).si(), rest));
    assert!(near(duty.heat("va"), share));
}

/// A record keeps what is warm and nothing else; what it says of colder than cold is not taken.
#[test]
fn a_record_keeps_what_is_warm() {
    let mut duty = Duty::new(&ratings(), &Capability::none());
    duty.put_out(&held(currents(&[("ia", 50.0), ("ib", 3.0)]), 1.0), &lasted(0.0, &[1.0]));
    duty.put_out(&held(voltage(280.0), 1.0), &lasted(0.0, &[1.0]));
    let warm = duty.warm();
    let names = |all: &[(waltron_core::text::name::Name, f64)]| {
        all.iter().map(|(name, _)| name.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(
        (names(&warm.currents), names(&warm.voltages)),
        (vec!["ia".into()], vec!["va".into()])
    );
    assert!(!warm.is_cold());
    assert!(!Warm { voltages: Vec::new(), ..warm.clone() }.is_cold());
    assert!(!Warm { currents: Vec::new(), ..warm.clone() }.is_cold());
    let again = Duty::new(&ratings(), &Capability::none()).warmed(&warm);
    assert_eq!(again.warm(), warm);
    let odd = Warm { currents: vec![("ia".into(), -1.0), ("ib".into(), 0.0)], ..Warm::default() };
    let cold = Duty::new(&ratings(), &Capability::none()).warmed(&odd);
    assert!(cold.warm().is_cold());
    assert_eq!(cold.rest_before(&held(currents(&[("ia", 50.0)]), 4.0)).si(), 0.0);
}

/// By hand: 50 A for 2 s is 5000 A²s of the 10 000 allowed; a third pulse must wait until 5000 A²s
/// are gone at 16 A²s a second: 312.5 s. What is held for ever needs no rest.
#[test]
fn pulses_add_up_and_rest_takes_their_heat_away() {
    let mut duty = Duty::new(&ratings(), &Capability::none());
    let pulse = held(currents(&[("ia", 50.0)]), 2.0);
    for _ in 0..2 {
        assert_eq!(duty.rest_before(&pulse).si(), 0.0);
        duty.put_out(&pulse, &lasted(0.0, &[2.0]));
    }
    assert!(near(duty.heat("ia"), 1.0));
    assert_eq!(duty.rest_before(&held(currents(&[("ia", 4.0)]), 1e6)).si(), 0.0);
    let rest = duty.rest_before(&pulse);
    assert!(near(rest.si(), 312.5));
    duty.cool(rest);
    assert!(near(duty.rest_before(&pulse).si(), 0.0));
}

/// By hand: 280 V lasts 10·(300/280)² s; 8 s of it twice are 1.394 of it. What is left over
/// cools by 250² in 300²·10 a second.
#[test]
fn voltages_heat_too_and_heat_outlives_the_run() {
    let high = held(voltage(280.0), 8.0);
    let mut duty = Duty::new(&ratings(), &Capability::none());
    duty.put_out(&high, &lasted(0.0, &[8.0]));
    let share = 8.0 / (10.0 * (300.0_f64 / 280.0).powi(2));
    assert!(near(duty.heat("va"), share));
    let text = serde_json::to_string(&duty.warm()).unwrap();
    let later =
        Duty::new(&ratings(), &Capability::none()).warmed(&serde_json::from_str(&text).unwrap());
    assert!(near(later.rest_before(&high).si(), (2.0 * share - 1.0) / (62_500.0 / 900_000.0)));
}

proptest! {
    /// After the rest that is asked for, a program keeps the heat within the rating.
    #[test]
    fn heat_never_passes_the_rating(
        pulses in proptest::collection::vec((4.1f64..100.0, 0.01f64..1.0), 1..20),
    ) {
        let mut duty = Duty::new(&ratings(), &Capability::none());
        for (current, time) in pulses {
            let program = held(currents(&[("ia", current)]), time);
            duty.cool(duty.rest_before(&program));
            duty.put_out(&program, &lasted(0.0, &[time]));
            prop_assert!(duty.heat("ia") <= 1.0 + 1e-9);
        }
    }
}
