//! Against phasor calculations by hand, and against a stepper that knows nothing of poles.

use super::*;
use waltron_core::injection::capability::Ability;
use waltron_core::injection::measuring::{Coupling, Meter};
use waltron_core::injection::samples::spectrum::phasor;
use waltron_core::injection::stimulus::Dc;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Angle, Current, Dimension, Frequency, Voltage, amperes, degrees, seconds,
};

fn truth() -> TransformerTruth {
    TransformerTruth {
        turns: 600.0,
        reversed: false,
        resistance_ohm: 4.0,
        leakage_h: 0.0,
        magnetising_h: 20.0,
        losses_ohm: 9000.0,
        burden: Some(Burden { resistance_ohm: 3.0, inductance_h: 4.0 / (TAU * 50.0) }),
        noise: 0.0,
    }
}

fn rig() -> Capability {
    let current = |meaning: &str| {
        let mut c = Channel::new(meaning, amperes(1000.0), Tolerance::larger_of(0.0, amperes(0.0)));
        c.ability = Ability { compliance: Some(12.0), ..Ability::default() };
        c
    };
    let voltage = |meaning: &str| {
        let none = Tolerance::larger_of(0.0, Voltage::from_si(0.0));
        Channel::new(meaning, Voltage::from_si(500.0), none)
    };
    let meters = Look::NAMES.iter().map(|(name, _)| Meter {
        id: (*name).into(),
        meaning: (*name).into(),
        dimension: if name.ends_with("current") { Dimension::CURRENT } else { Dimension::VOLTAGE },
        range: 1e3,
        accuracy: AnyTolerance::parse("0.1 %", Dimension::NUMBER).unwrap(),
        angle_accuracy: Angle::default(),
        coupling: Coupling::Both,
        bandwidth: None,
    });
    Capability {
        currents: vec![
            current("primary current"),
            current("secondary current"),
            current("burden current"),
        ],
        voltages: vec![voltage("primary voltage"), voltage("secondary voltage")],
        meters: meters.collect(),
        ..Capability::none()
    }
}

fn connected(truth: TransformerTruth) -> Transformer {
    let mut t = Transformer::new(truth, 1);
    t.connect(&rig()).unwrap();
    t.begin(1);
    t
}

fn sine<Q: Measure>(channel: &str, rms: f64, at: f64) -> Drive<Q> {
    let phasor = Phasor::new(Q::from_si(rms), degrees(at));
    Drive::sine(channel.into(), phasor, Frequency::from_si(50.0))
}

fn currents(drive: Drive<Current>) -> Stimulus {
    Stimulus { currents: vec![drive], voltages: Vec::new() }
}

fn voltages(drive: Drive<Voltage>) -> Stimulus {
    Stimulus { currents: Vec::new(), voltages: vec![drive] }
}

fn direct(channel: &str, amps: f64) -> Stimulus {
    let mut drive = sine::<Current>(channel, 0.0, 0.0);
    drive.dc = Some(Dc::constant(amperes(amps)));
    currents(drive)
}

/// The phasor that a look shows over 0.2 s, `at` seconds after the begin.
fn shown(t: &Transformer, look: &str, at: f64) -> Complex64 {
    let window = Window { start_s: at, rate_hz: 12_800.0, count: 2560 };
    // The angle is told from where 50 Hz counts it: the begin.
    phasor(&t.samples(&look.into(), window).unwrap(), 12_800.0, 50.0, at)
}

fn near(a: Complex64, b: Complex64) {
    assert!((a - b).norm() < 1e-6 * b.norm().max(1e-9), "{a} is not {b}");
}

#[test]
fn from_the_primary_the_core_takes_its_share_of_the_current() {
    let mut t = connected(truth());
    t.apply(&currents(sine("primary current", 300.0, 30.0)));
    t.advance(seconds(60.0));
    let zm = {
        let x = Complex64::new(0.0, TAU * 50.0 * 20.0);
        x * 9000.0 / (x + 9000.0)
    };
    let burden = Complex64::new(3.0, 4.0);
    let ideal = Complex64::from_polar(0.5, 30f64.to_radians());
    let is = ideal * zm / (zm + 4.0 + burden);
    near(shown(&t, "secondary current", 59.0), is);
    near(shown(&t, "burden voltage", 59.0), is * burden);
    near(shown(&t, "primary voltage", 59.0), is * (4.0 + burden) / 600.0);
    assert!(is.norm() < 0.5, "the ratio error is negative");
}

#[test]
fn from_the_secondary_the_open_primary_shows_the_core_voltage_over_the_turns() {
    for reversed in [false, true] {
        let mut t = connected(TransformerTruth { reversed, ..truth() });
        t.apply(&voltages(sine("secondary voltage", 120.0, 0.0)));
        t.advance(seconds(60.0));
        let x = Complex64::new(0.0, TAU * 50.0 * 20.0);
        let zm = x * 9000.0 / (x + 9000.0);
        let i = Complex64::from(120.0) / (zm + 4.0);
        near(shown(&t, "secondary current", 59.0), i);
        let sign = if reversed { -1.0 } else { 1.0 };
        near(shown(&t, "primary voltage", 59.0), i * zm * sign / 600.0);
    }
}

#[test]
fn the_burden_by_itself_and_a_voltage_transformer() {
    let mut t = connected(truth());
    t.apply(&currents(sine("burden current", 1.0, 0.0)));
    t.advance(seconds(1.0));
    near(shown(&t, "burden voltage", 0.5), Complex64::new(3.0, 4.0));
    let vt = TransformerTruth { turns: 110.0 / 20_000.0, ..truth() };
    let mut t = connected(vt);
    t.apply(&voltages(sine("primary voltage", 400.0, 0.0)));
    t.advance(seconds(1.0));
    let e = Complex64::from(400.0 * 110.0 / 20_000.0);
    let load = Complex64::new(3.0, 4.0);
    near(shown(&t, "secondary voltage", 0.5), e * load / (load + 4.0));
}

/// Euler's method on L·di/dt = e and Kirchhoff's laws, with the source's limit looked at in every step.
#[test]
fn charging_and_discharging_agree_with_a_stepper() {
    let (r, rm, l, limit, wanted) = (4.0, 9000.0, 20.0, 12.0, 1.0);
    let mut t = connected(truth());
    t.apply(&direct("secondary current", wanted));
    let step = 2e-6;
    let (mut il, mut at) = (0.0f64, 0.0);
    let mut voltage = 0.0;
    let mut check = |t: &mut Transformer, to: f64, on: bool, what: &str| {
        let mut i = 0.0;
        while at < to {
            // Regulated, unless that takes more than there is; off: a short circuit.
            i = wanted;
            voltage = r * i + rm * (i - il);
            if !on || voltage > limit {
                voltage = if on { limit } else { 0.0 };
                i = (voltage + rm * il) / (r + rm);
            }
            il += rm * (i - il) / l * step;
            at += step;
        }
        t.advance(seconds(to));
        let window = Window { start_s: to - 1e-4, rate_hz: 1e4, count: 1 };
        let of = |name: &str| t.samples(&name.into(), window).unwrap()[0];
        let (a, v) = (of("secondary current"), of("secondary voltage"));
        assert!((a - i).abs() < 2e-4, "{what}: {a} A, not {i} A");
        assert!((v - voltage).abs() < 2e-3, "{what}: {v} V, not {voltage} V");
        a
    };
    check(&mut t, 0.5, true, "limited");
    let full = check(&mut t, 8.0, true, "regulated");
    assert!((full - 1.0).abs() < 1e-9);
    t.apply(&Stimulus::off());
    check(&mut t, 9.0, false, "discharging");
    // What is left in the core is still there when the next injection begins.
    let before = t.magnetising_a;
    t.begin(2);
    assert!(t.magnetising_a > 0.8 && before == 0.0, "{}", t.magnetising_a);
}

#[test]
fn a_source_that_cannot_reach_its_current_never_does() {
    let mut t = connected(truth());
    t.apply(&direct("secondary current", 10.0));
    t.advance(seconds(100.0));
    let window = Window { start_s: 99.9, rate_hz: 1e3, count: 10 };
    let i = t.samples(&"secondary current".into(), window).unwrap()[0];
    assert!((i - 3.0).abs() < 1e-6, "12 V over 4 Ohm, not 10 A: {i}");
}

#[test]
fn what_it_has_nothing_for_is_refused_with_what_it_has() {
    let mut rig = rig();
    rig.meters[0].meaning = "tertiary voltage".into();
    let error = Transformer::new(truth(), 1).connect(&rig).unwrap_err();
    let told = error.to_string();
    assert!(told.contains("`tertiary voltage`") && told.contains("burden voltage"), "{told}");
    rig.meters.clear();
    // A voltage output cannot feed a current in.
    rig.voltages[0].meaning = "primary current".into();
    assert!(Transformer::new(truth(), 1).connect(&rig).is_err());
}
