//! Against what follows by hand: a coil's exponential, a mass under a constant force, Ohm's law.

use super::*;
use crate::Window;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::capability::{Channel, Switch};
use waltron_core::injection::stimulus::Dc;
use waltron_core::injection::stimulus::Drive as Driven;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Current, Frequency, Voltage, amperes, degrees};

/// 30 ms for the closing stroke, 15 ms for the opening one, without any loss.
fn truth() -> BreakerTruth {
    let contact = |name: &str, touch: f64| ContactTruth {
        name: name.to_owned(),
        drive: 0,
        touch,
        lag_s: 0.0,
        bounce: (0.0, 0.4),
        resistance_ohm: 40e-6,
        arcing: (400e-6, 0.1),
    };
    let coil = |name: &str, closes: bool| CoilTruth {
        name: name.to_owned(),
        closes,
        rated_v: 110.0,
        ohm: 55.0,
        henry: (0.22, 0.15),
        plunger: 2.0 / 0.006f64.powi(2),
        pickup: 0.5,
        cuts_off: true,
    };
    let auxiliary = |name: &str, follows: bool| AuxiliaryTruth {
        name: name.to_owned(),
        follows,
        at: (0.9, 0.3),
        is_welded: false,
    };
    BreakerTruth {
        drives: vec![DriveTruth {
            closing: 2.0 / 0.03f64.powi(2),
            opening: 2.0 / 0.015f64.powi(2),
            friction: 0.0,
            latch_s: [2e-3, 1e-3],
            damper: (0.0, 0.0),
        }],
        contacts: vec![contact("L1", 0.8), contact("L2", 0.5)],
        auxiliaries: vec![auxiliary("52a", true), auxiliary("52b", false)],
        coils: vec![coil("close", true), coil("trip 1", false)],
        motor: Some(MotorTruth {
            volts: 110.0,
            ohm: 11.0,
            amps: 2.0,
            time_s: 4.0,
            start_s: 0.05,
            is_switched: false,
        }),
        battery_v: 110.0,
        is_closed: false,
        is_charged: true,
        held_off: false,
        scatter_s: 0.0,
        noise: 0.0,
        transducer_v: Some(1.0),
    }
}

fn rig() -> Capability {
    let mut rig = Capability::none();
    let none = Tolerance::larger_of(0.0, amperes(0.0));
    let mut pole = Channel::new("ip", amperes(200.0), none);
    pole.meaning = "pole current".into();
    rig.currents.push(pole);
    let none = Tolerance::larger_of(0.0, Voltage::from_si(0.0));
    let mut control = Channel::new("vc", Voltage::from_si(250.0), none);
    control.meaning = "control voltage".into();
    rig.voltages.push(control);
    for command in ["close command", "trip 1 command"] {
        rig.switches.push(Switch { id: command.into(), meaning: command.into() });
    }
    rig
}

fn out(volts: f64, amps: f64) -> Stimulus {
    fn dc<Q: Measure>(channel: &str, value: Q) -> Driven<Q> {
        let nothing = Phasor::new(Q::from_si(0.0), degrees(0.0));
        let mut drive = Driven::sine(channel.into(), nothing, Frequency::from_si(50.0));
        drive.dc = Some(Dc::constant(value));
        drive
    }
    Stimulus {
        currents: vec![dc("ip", Current::from_si(amps))],
        voltages: vec![dc("vc", Voltage::from_si(volts))],
    }
}

fn connected(truth: BreakerTruth) -> Breaker {
    let mut breaker = Breaker::new(truth, 1);
    breaker.connect(&rig()).unwrap();
    breaker.begin(1);
    breaker.apply(&out(110.0, 100.0));
    breaker
}

/// All changes up to a time.
fn all(breaker: &mut Breaker, to: f64) -> Vec<Edge> {
    std::iter::from_fn(|| breaker.advance(seconds(to))).collect()
}

fn first(edges: &[Edge], of: &str, closed: bool) -> f64 {
    let found = edges.iter().find(|e| e.signal == *of && e.closed == closed);
    found.unwrap_or_else(|| panic!("no {of} in {edges:?}")).time.si()
}

fn at(breaker: &Breaker, of: &str, time: f64) -> f64 {
    let window = Window { start_s: time, rate_hz: 20_000.0, count: 1 };
    breaker.samples(&of.into(), window).unwrap()[0]
}

/// From rest under a constant force a place is passed after √(2x/a): contacts that touch at half and at
/// four fifths of the stroke tell it, closing and opening, whatever coil and latch took before.
#[test]
fn contacts_follow_the_mass() {
    let mut breaker = connected(truth());
    breaker.switch(&"close command".into(), true);
    let seen = all(&mut breaker, 0.2);
    let (half, later) = (first(&seen, "L2", true), first(&seen, "L1", true));
    let expected = 0.03 * (0.8f64.sqrt() - 0.5f64.sqrt());
    assert!((later - half - expected).abs() < 2e-5, "{} not {expected}", later - half);
    let expected = 0.03 * (0.9f64.sqrt() - 0.8f64.sqrt());
    assert!((first(&seen, "52a", true) - later - expected).abs() < 2e-5);
    assert!(first(&seen, "52b", false) == first(&seen, "52a", true));
    breaker.switch(&"close command".into(), false);
    all(&mut breaker, 0.3);
    breaker.switch(&"trip 1 command".into(), true);
    let seen = all(&mut breaker, 0.5);
    let (l1, l2) = (first(&seen, "L1", false), first(&seen, "L2", false));
    let expected = 0.015 * (0.5f64.sqrt() - 0.2f64.sqrt());
    assert!((l2 - l1 - expected).abs() < 2e-5, "{} not {expected}", l2 - l1);
    assert!(l1 > 0.3 && first(&seen, "52a", false) > l2);
    // The shaft was beyond its end, and came to rest there.
    let travel: Vec<f64> = (0..400).map(|k| at(&breaker, "travel", k as f64 * 5e-4)).collect();
    let most = travel.iter().fold(0.0f64, |a, b| a.max(*b));
    assert!(most > 1.001 && most < 1.2, "{most}");
    assert!(
        (at(&breaker, "travel", 0.29) - 1.0).abs() < 1e-9 && at(&breaker, "travel", 0.49) == 0.0
    );
}

/// A coil whose plunger never moves is a resistance with an inductance; one that moves dips behind its
/// first peak, and ends at V/R.
#[test]
fn a_coil_is_an_inductance_with_something_moving_in_it() {
    let mut blocked = truth();
    blocked.coils[0].pickup = 2.0;
    let mut breaker = connected(blocked);
    breaker.switch(&"close command".into(), true);
    assert!(all(&mut breaker, 0.1).is_empty());
    for ms in [1.0, 4.0, 10.0, 40.0] {
        let by_hand = 2.0 * (1.0 - (-ms * 1e-3 / 0.004f64).exp());
        let seen = at(&breaker, "close coil current", ms * 1e-3);
        assert!((seen - by_hand).abs() < 0.012, "{ms} ms: {seen} A, not {by_hand} A");
    }
    let mut breaker = connected(BreakerTruth { held_off: true, ..truth() });
    breaker.switch(&"close command".into(), true);
    assert!(all(&mut breaker, 0.1).is_empty(), "something holds it open");
    let wave: Vec<f64> =
        (0..2000).map(|k| at(&breaker, "close coil current", k as f64 * 5e-5)).collect();
    let peak = (1..1999).find(|k| wave[*k] > wave[k - 1] && wave[*k] >= wave[k + 1]).unwrap();
    let dip = wave[peak..400].iter().fold(f64::INFINITY, |a, b| a.min(*b));
    assert!(dip < wave[peak] * 0.95, "it dips from {} to {dip}", wave[peak]);
    assert!((wave[1999] - 2.0).abs() < 1e-3);
}

/// At half its voltage the plunger just gets over its latch.
#[test]
fn it_picks_up_at_its_own_voltage() {
    for (volts, operates) in [(54.0, false), (56.5, true), (110.0, true)] {
        let mut breaker = connected(truth());
        breaker.apply(&out(volts, 0.0));
        breaker.switch(&"close command".into(), true);
        assert_eq!(!all(&mut breaker, 0.5).is_empty(), operates, "{volts} V");
    }
}

/// Without its spring it does not close again; the motor needs its time, and its inrush is that of its
/// armature.
#[test]
fn a_spring_closes_once_and_is_charged_again() {
    let mut breaker = connected(truth());
    breaker.switch(&"close command".into(), true);
    let seen = all(&mut breaker, 0.1);
    let spent = first(&seen, "spring charged", false);
    breaker.switch(&"close command".into(), false);
    breaker.switch(&"trip 1 command".into(), true);
    all(&mut breaker, 0.3);
    breaker.switch(&"trip 1 command".into(), false);
    breaker.switch(&"close command".into(), true);
    assert!(!all(&mut breaker, 0.5).iter().any(|e| e.signal == *"L1"));
    breaker.switch(&"close command".into(), false);
    let charged = first(&all(&mut breaker, 6.0), "spring charged", true);
    assert!((charged - spent - 4.0).abs() < 1e-3, "{}", charged - spent);
    let inrush = at(&breaker, "motor current", spent + 1e-4);
    assert!((inrush - 10.0).abs() < 0.1, "{inrush}");
    let by_hand = 2.0 + 8.0 * (-2f64).exp();
    assert!((at(&breaker, "motor current", spent + 0.1) - by_hand).abs() < 0.02);
    assert!((at(&breaker, "motor current", 3.0) - 2.0).abs() < 1e-6);
}

/// Bounces come as they are told, the pole's voltage is Ohm's, and what lags, lags.
#[test]
fn contacts_bounce_and_have_a_resistance() {
    let mut unlike = truth();
    unlike.contacts[0].bounce = (1e-3, 0.4);
    unlike.contacts[1].lag_s = 3e-3;
    unlike.contacts[1].touch = 0.8;
    let mut breaker = connected(unlike);
    breaker.lead(&"L2".into()).unwrap();
    assert!(breaker.lead(&"L7".into()).is_err());
    breaker.switch(&"close command".into(), true);
    let seen = all(&mut breaker, 0.2);
    let l1: Vec<&Edge> = seen.iter().filter(|e| e.signal == *"L1").collect();
    // 1 ms, 0.4 ms, 0.16 ms, 0.064 ms, and nothing that is shorter than a step.
    assert_eq!(l1.len(), 9, "{l1:?}");
    assert!((l1[2].time.si() - l1[1].time.si() - 1e-3).abs() < 1e-9);
    assert!((l1[4].time.si() - l1[3].time.si() - 4e-4).abs() < 1e-9);
    let lag = first(&seen, "L2", true) - first(&seen, "L1", true);
    assert!((lag - 3e-3).abs() < 1e-9, "{lag}");
    assert!((at(&breaker, "pole voltage", 0.19) - 100.0 * 40e-6).abs() < 1e-12);
    assert_eq!(
        (at(&breaker, "pole current", 0.001), at(&breaker, "pole voltage", 0.001)),
        (0.0, 6.0)
    );
    // What was put out later changes nothing of what was before, to the step.
    breaker.switch(&"close command".into(), false);
    all(&mut breaker, 0.200_013);
    breaker.apply(&out(110.0, 50.0));
    all(&mut breaker, 0.3);
    assert!((at(&breaker, "pole current", 0.2) - 100.0).abs() < 1e-9);
    assert!((at(&breaker, "pole current", 0.2005) - 50.0).abs() < 1e-9);
}

/// The same commands give the same changes, however time is cut into pieces.
#[test]
fn pieces_of_time_make_no_difference() {
    let run = |pieces: &[f64]| {
        let mut breaker = connected(BreakerTruth { scatter_s: 1e-4, ..truth() });
        breaker.switch(&"close command".into(), true);
        let mut seen = Vec::new();
        for to in pieces {
            seen.extend(all(&mut breaker, *to));
        }
        seen
    };
    assert_eq!(run(&[0.2]), run(&[0.003_331, 0.011_117, 0.027_7, 0.028, 0.05, 0.2]));
}
