//! Against phasor calculations by hand, and against a stepper that knows nothing of poles.

use super::*;
use crate::iron::Magnetics;
use num_complex::Complex64;
use waltron_core::injection::capability::Ability;
use waltron_core::injection::measuring::{Coupling, Meter};
use waltron_core::injection::samples::spectrum::phasor;
use waltron_core::injection::stimulus::{Dc, Drive};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Angle, Current, Dimension, Frequency, Voltage, amperes, degrees, seconds,
};

/// A winding of 600 turns, 4 Ohm and 20 H, with 9 kOhm beside it and 3 + 4j Ohm at 50 Hz on it.
fn unit() -> Unit {
    let (n, henry, losses) = (600.0, 20.0, 9000.0);
    let terminal = |name: &str, turns: f64| Terminal {
        name: name.to_owned(),
        turns,
        resistance_ohm: 4.0 * turns / n,
    };
    Unit {
        phase: None,
        terminals: vec![terminal("S1", 0.0), terminal("S2", 200.0), terminal("S3", n)],
        reversed: false,
        leakage_h: 0.0,
        magnetics: Magnetics {
            reluctance: n * n / henry,
            saturation: f64::INFINITY,
            rounding: 0.03,
            air: 0.0,
            coercive: 0.0,
            eddy: n * n / losses,
        },
        remanence: 0.0,
        burden: Some(Burden { resistance_ohm: 3.0, inductance_h: 4.0 / (TAU * 50.0) }),
        burden_stays: false,
        joint_ohm: 0.0,
        shorted: None,
        primary_loop_ohm: None,
        left_open: false,
        swapped: false,
        primary: (0.0, 0.0),
        hum: (0.0, 50.0),
    }
}

/// The same core with iron: saturated at 0.9 V·s of the whole winding, 200 V at 50 Hz.
fn iron() -> Unit {
    let mut unit = unit();
    unit.magnetics.saturation = 0.9 / 600.0;
    unit.magnetics.air = 600.0 * 600.0 / 0.02;
    unit
}

fn truth() -> TransformerTruth {
    of(unit())
}

fn of(unit: Unit) -> TransformerTruth {
    TransformerTruth { units: vec![unit], noise: 0.0 }
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
        accuracy: AnyTolerance::parse("0.1 %", Dimension::NUMBER).unwrap().into(),
        noise: None,
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
    assert!((a - b).norm() < 1e-4 * b.norm().max(1e-9), "{a} is not {b}");
}

#[test]
fn from_the_primary_the_core_takes_its_share_of_the_current() {
    let mut t = connected(truth());
    t.apply(&currents(sine("primary current", 300.0, 30.0)));
    t.advance(seconds(40.0));
    let zm = {
        let x = Complex64::new(0.0, TAU * 50.0 * 20.0);
        x * 9000.0 / (x + 9000.0)
    };
    let burden = Complex64::new(3.0, 4.0);
    let ideal = Complex64::from_polar(0.5, 30f64.to_radians());
    let is = ideal * zm / (zm + 4.0 + burden);
    near(shown(&t, "secondary current", 39.0), is);
    near(shown(&t, "burden voltage", 39.0), is * burden);
    near(shown(&t, "primary voltage", 39.0), is * (4.0 + burden) / 600.0);
    assert!(is.norm() < 0.5, "the ratio error is negative");
}

#[test]
fn from_the_secondary_the_open_primary_shows_the_core_voltage_over_the_turns() {
    for reversed in [false, true] {
        let mut t = connected(of(Unit { reversed, ..unit() }));
        t.apply(&voltages(sine("secondary voltage", 120.0, 0.0)));
        t.advance(seconds(40.0));
        let x = Complex64::new(0.0, TAU * 50.0 * 20.0);
        let zm = x * 9000.0 / (x + 9000.0);
        let i = Complex64::from(120.0) / (zm + 4.0);
        near(shown(&t, "secondary current", 39.0), i);
        let sign = if reversed { -1.0 } else { 1.0 };
        near(shown(&t, "primary voltage", 39.0), i * zm * sign / 600.0);
    }
}

#[test]
fn the_burden_by_itself_and_a_voltage_transformer() {
    let mut t = connected(truth());
    t.apply(&currents(sine("burden current", 1.0, 0.0)));
    t.advance(seconds(1.0));
    near(shown(&t, "burden voltage", 0.5), Complex64::new(3.0, 4.0));
    // The same core and winding around a ratio of 20 kV to 110 V.
    let mut vt = unit();
    let times = 110.0 / 20_000.0 / 600.0;
    vt.terminals.iter_mut().for_each(|t| t.turns *= times);
    vt.magnetics.reluctance *= times * times;
    vt.magnetics.eddy *= times * times;
    let mut t = connected(of(vt));
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
    let before = t.circuits[0].core.flux;
    t.begin(2);
    assert!(before > 0.02 && t.circuits[0].core.flux == before, "{before}");
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

/// Saturation against a stepper of its own, with a step a hundred times shorter: i = Φ/L below, beyond it
/// by the coil without iron, rounded between them.
#[test]
fn a_saturated_current_is_that_of_a_fine_stepper() {
    let mut t = connected(of(iron()));
    t.apply(&voltages(sine("secondary voltage", 230.0, 0.0)));
    t.advance(seconds(1.0));
    let (r, n, losses) = (4.0, 600.0, 9000.0);
    let (mut linked, mut i, mut at, dt) = (0.0f64, 0.0, 0.0f64, 1e-6);
    let mut squares = 0.0;
    let mut peak = 0.0f64;
    while at < 1.0 {
        let v = 230.0 * SQRT_2 * (TAU * 50.0 * at).cos();
        let width = 0.03 * 0.9;
        let over: f64 = (linked.abs() - 0.9) / width;
        let corner = if over > 30.0 { over } else { over.exp().ln_1p() };
        let core = linked / 20.0 + linked.signum() * width * corner / 0.02;
        let e = (v - r * core) / (1.0 + r / losses);
        i = core + e / losses;
        linked += e * dt;
        if at >= 0.8 {
            squares += i * i * dt;
            peak = peak.max(i.abs());
        }
        at += dt;
    }
    let window = Window { start_s: 0.8, rate_hz: 12_800.0, count: 2560 };
    let seen = t.samples(&"secondary current".into(), window).unwrap();
    let rms = (seen.iter().map(|i| i * i).sum::<f64>() / 2560.0).sqrt();
    let by_hand = (squares / 0.2).sqrt();
    assert!((rms / by_hand - 1.0).abs() < 5e-3, "{rms} A, not {by_hand} A");
    let most = seen.iter().fold(0.0f64, |a, b| a.max(b.abs()));
    assert!((most / peak - 1.0).abs() < 5e-3, "{most} A, not {peak} A");
    assert!(peak / by_hand > 1.8, "it is a peaky current, and really saturated");
    let _ = (i, n);
}

/// The energy that the source gives is lost in winding, eddy currents and hysteresis; remanence stays
/// whatever small voltages come, and goes when a large one is taken back slowly.
#[test]
fn hysteresis_loses_energy_and_only_demagnetising_takes_remanence_away() {
    let mut unit = Unit { remanence: 0.7, ..iron() };
    unit.magnetics.coercive = 600.0 * 0.02;
    let mut t = connected(of(unit));
    let mut at = 0.0;
    let mut play = |t: &mut Transformer, volts: f64, time: f64| {
        t.apply(&voltages(sine("secondary voltage", volts, 0.0)));
        at += time;
        t.advance(seconds(at));
        at
    };
    play(&mut t, 5.0, 0.5);
    t.apply(&Stimulus::off());
    let end = at + 0.5;
    t.advance(seconds(end));
    assert!((t.remanence() - 0.7).abs() < 0.1, "{}", t.remanence());
    let mut t2 = t.clone();
    t2.begin(2);
    let (mut volts, mut at) = (230.0, 0.0);
    let mut power = None;
    while volts > 0.1 {
        t2.apply(&voltages(sine("secondary voltage", volts, 0.0)));
        at += 0.1;
        t2.advance(seconds(at));
        if volts < 150.0 && power.is_none() {
            let window = Window { start_s: at - 0.04, rate_hz: 12_800.0, count: 512 };
            let of = |name: &str| t2.samples(&name.into(), window).unwrap();
            let (v, i) = (of("secondary voltage"), of("secondary current"));
            let p = v.iter().zip(&i).map(|(v, i)| v * i).sum::<f64>() / 512.0;
            let eddy = volts * volts / 9000.0;
            let heat = 4.0 * i.iter().map(|i| i * i).sum::<f64>() / 512.0;
            power = Some((p, eddy + heat));
        }
        volts *= 0.95;
    }
    let (p, without) = power.unwrap();
    assert!(p > without * 1.05, "hysteresis takes its part: {p} W, without it {without} W");
    t2.apply(&Stimulus::off());
    t2.advance(seconds(at + 1.0));
    assert!(t2.remanence().abs() < 0.02, "{}", t2.remanence());
}

/// A shorted turn is a load of its own: by hand n²·R/k² beside the core. A joint adds to the winding, the
/// leads' place chooses the part, and what was forgotten shows as what it is.
#[test]
fn defects_are_circuits() {
    let small = |mut unit: Unit, place: &str, change: &dyn Fn(&mut Unit)| {
        change(&mut unit);
        let mut t = connected(of(unit));
        t.lead(&place.into()).unwrap();
        t.apply(&voltages(sine("secondary voltage", 60.0, 0.0)));
        t.advance(seconds(30.0));
        (shown(&t, "secondary current", 29.0), shown(&t, "primary voltage", 29.0))
    };
    let x = Complex64::new(0.0, TAU * 50.0 * 20.0);
    let zm = x * 9000.0 / (x + 9000.0);
    let (i, _) = small(unit(), "S1-S3", &|u| u.shorted = Some((1.0, 0.01)));
    let turn = Complex64::from(0.01 * 600.0 * 600.0);
    near(i, 60.0 / (zm * turn / (zm + turn) + 4.0));
    let (i, _) = small(unit(), "S1-S3", &|u| u.joint_ohm = 50.0);
    near(i, 60.0 / (zm + 54.0));
    // A third of the turns: a ninth of the impedance, and three times the voltage of a turn.
    let (i, v) = small(unit(), "S1-S2", &|_| {});
    near(i, 60.0 / (zm / 9.0 + 4.0 / 3.0));
    near(v, i * zm / 9.0 / 200.0);
    let (_, v) = small(unit(), "S2-S1", &|_| {});
    assert!(v.re < 0.0);
    let (i, _) = small(unit(), "S1-S3", &|u| u.burden_stays = true);
    near(i, 60.0 / (zm + 4.0) + 60.0 / Complex64::new(3.0, 4.0));
    let (i, v) = small(unit(), "S1-S3", &|u| u.primary_loop_ohm = Some(1e-3));
    assert!(i.norm() > 0.15 && v.norm() < 0.1, "{i} {v}");
    let mut t = connected(of(unit()));
    assert!(t.lead(&"S1-S9".into()).is_err() && t.lead(&"A S1-S2".into()).is_err());
}

/// Two cores on a closed primary, by hand as phasors: what the second one takes is in series with the loop,
/// and its open terminals carry its turns' share. Shorted, or with the primary open, they carry nothing.
#[test]
fn a_closed_primary_links_the_cores_that_were_left_open() {
    let mut other = unit();
    other.terminals[0].name = "2S1".into();
    other.terminals[1].name = "2S2".into();
    other.terminals[2].name = "2S3".into();
    other.magnetics.reluctance *= 0.5;
    let look = |loop_ohm: Option<f64>, left_open: bool| {
        let units = vec![
            Unit { primary_loop_ohm: loop_ohm, ..unit() },
            Unit { left_open, ..other.clone() },
        ];
        let mut t = connected(TransformerTruth { units, noise: 0.0 });
        t.lead(&"S1-S3, primary meter at 2S1-2S2".into()).unwrap();
        t.apply(&voltages(sine("secondary voltage", 60.0, 0.0)));
        t.advance(seconds(30.0));
        (shown(&t, "secondary current", 29.0), shown(&t, "primary voltage", 29.0))
    };
    let w = TAU * 50.0;
    let parallel = |a: Complex64, b: Complex64| a * b / (a + b);
    let one = parallel(Complex64::new(0.0, w * 20.0), 9000.0.into());
    let two = parallel(Complex64::new(0.0, w * 40.0), 9000.0.into()) / (600.0 * 600.0);
    let (loop_ohm, square) = (2e-3, 600.0 * 600.0);
    let around = parallel(one, (two + loop_ohm) * square);
    let (i, v) = look(Some(loop_ohm), true);
    near(i, 60.0 / (around + 4.0));
    let of_a_turn = i * around / 600.0;
    near(v, -of_a_turn * two / (two + loop_ohm) * 200.0);
    assert!(v.norm() > 15.0, "200 of 600 turns: {v}");
    let (i, v) = look(None, true);
    near(i, 60.0 / (one + 4.0));
    assert!(v.norm() < 1e-9, "{v}");
    let (i, v) = look(Some(loop_ohm), false);
    near(i, 60.0 / (parallel(one, (loop_ohm * square).into()) + 4.0));
    assert!(v.norm() < 1e-9, "{v}");
}

/// Swapped leads of the voltmeters: each shows what the other should.
#[test]
fn swapped_voltmeters_show_the_other_side() {
    let mut t = connected(of(Unit { swapped: true, ..unit() }));
    t.apply(&voltages(sine("secondary voltage", 60.0, 0.0)));
    t.advance(seconds(30.0));
    let (p, s) = (shown(&t, "primary voltage", 29.0), shown(&t, "secondary voltage", 29.0));
    assert!((p.norm() - 60.0).abs() < 1e-6 && (s.norm() - 0.1).abs() < 1e-3, "{p} {s}");
}
