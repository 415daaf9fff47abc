//! The simulated power transformer against laws and values by hand.
#![allow(clippy::unwrap_used)]

use crate::form::SpecimenForm;
use crate::{Specimen, Window};
use std::f64::consts::{PI, SQRT_2, TAU};
use waltron_core::injection::capability::{Ability, Capability, Channel};
use waltron_core::injection::measuring::{Coupling, Meter};
use waltron_core::injection::program::Stand;
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Current, Dimension, Frequency, Measure, Voltage, amperes, degrees, seconds,
};
use waltron_core::text::document::Source;

const YND5: &str = r#"
[specimen]
kind = "power-transformer"
[power_transformer]
frequency = "50 Hz"
volts_per_turn = "70 V"
exciting = "70 A"
yoke = "30 A"
losses = "45 A"
saturation = "118 %"
rounding = "1 %"
saturated = 8000
coercive = "30 A"
off_path = "0.5 Ohm"
EXTRA
[[winding]]
turns = 907
resistance = "0.32 Ohm"
leakage = "2 Ohm"
coils = [{ at = "1U-1N", limb = 1 }, { at = "1V-1N", limb = 2 }, { at = "1W-1N", limb = 3 }]
[[winding]]
turns = 286
resistance = "36 mOhm"
leakage = "3 Ohm"
coils = [{ at = "2W-2U", limb = 1 }, { at = "2U-2V", limb = 2 }, { at = "2V-2W", limb = 3 }]
[[tap_changer]]
id = "OLTC"
winding = 1
positions = 19
principal = 10
step = 11.34
resistor = "4 Ohm"
CHANGE
"#;

fn channel<Q: Measure>(id: &str, meaning: &str, compliance: Option<f64>) -> Channel<Q> {
    let exact = Tolerance::larger_of(0.0, Q::from_si(0.0));
    let channel = Channel::new(id, Q::from_si(1e4), exact);
    let ability = Ability { compliance, ..Ability::default() };
    Channel { meaning: meaning.into(), ability, ..channel }
}

fn rig() -> Capability {
    let meter = |id: &str, meaning: &str, dimension| Meter {
        id: id.into(),
        meaning: meaning.into(),
        dimension,
        range: 1e4,
        coupling: Coupling::Both,
        accuracy: AnyTolerance::parse("0.1 %", dimension).unwrap().into(),
        noise: None,
        angle_accuracy: degrees(0.01),
        bandwidth: None,
    };
    Capability {
        currents: vec![channel("i", "winding current", Some(50.0))],
        voltages: vec![channel("v", "test voltage", None)],
        meters: vec![
            meter("m1", "test voltage", Dimension::VOLTAGE),
            meter("m2", "test current", Dimension::CURRENT),
            meter("m3", "induced voltage", Dimension::VOLTAGE),
            meter("m4", "winding voltage", Dimension::VOLTAGE),
            meter("m5", "winding current", Dimension::CURRENT),
        ],
        ..Capability::none()
    }
}

fn built(text: &str, extra: &str) -> Box<dyn Specimen> {
    let (extra, change) = extra.split_once('|').unwrap_or((extra, ""));
    let text = text.replace("EXTRA", extra).replace("CHANGE", change);
    let mut all = SpecimenForm::load(&Source::new("t.specimen.toml", text), 1).unwrap();
    all.connect(&rig()).unwrap();
    all
}

/// RMS and angle of what a meter sees in the last five periods.
fn wave(of: &dyn Specimen, meter: &str, end: f64) -> (f64, f64) {
    let (rate, count) = (6400.0, 640);
    let window = Window { start_s: end - count as f64 / rate, rate_hz: rate, count };
    let samples = of.samples(&meter.into(), window).unwrap();
    let (mut re, mut im) = (0.0, 0.0);
    for (k, s) in samples.iter().enumerate() {
        let at = TAU * 50.0 * (window.start_s + k as f64 / rate);
        (re, im) = (re + s * at.sin(), im + s * at.cos());
    }
    let scale = 2.0 / count as f64 / SQRT_2;
    ((re * re + im * im).sqrt() * scale, im.atan2(re))
}

/// Volts, amperes and induced volts of a place that is fed with an alternating voltage.
fn fed(of: &mut dyn Specimen, place: &str, rms: f64) -> [(f64, f64); 3] {
    of.lead(&place.into()).unwrap();
    of.begin(1);
    let drive = Drive::sine(
        "v".into(),
        Phasor::new(Voltage::from_si(rms), degrees(0.0)),
        Frequency::from_si(50.0),
    );
    of.apply(&Stimulus { currents: Vec::new(), voltages: vec![drive] });
    of.advance(seconds(0.6));
    let all = ["test voltage", "test current", "induced voltage"].map(|m| wave(of, m, 0.59));
    of.apply(&Stimulus::off());
    all
}

fn direct(of: &mut dyn Specimen, i: f64) {
    let nothing = Phasor::new(Current::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine("i".into(), nothing, Frequency::from_si(50.0));
    drive.dc = Some(Dc::constant(amperes(i)));
    of.apply(&Stimulus { currents: vec![drive], voltages: Vec::new() });
}

fn now(of: &dyn Specimen, meter: &str, at: f64) -> f64 {
    of.samples(&meter.into(), Window { start_s: at, rate_hz: 1000.0, count: 1 }).unwrap()[0]
}

/// Turns by hand: 907 to 286, and 907 + 9 · 11.34 at the first position.
#[test]
fn voltages_are_in_the_ratio_of_turns_whatever_is_fed() {
    let mut of = built(YND5, "");
    for (place, ratio, angle) in [
        ("1U-1N / 2W-2U", 907.0 / 286.0, 0.0),
        ("1V-1N / 2U-2V", 907.0 / 286.0, 0.0),
        ("1W-1N / 2W-2V", 907.0 / 286.0, PI),
        // 907 turns on two limbs in opposition.
        ("1U-1V+1W / 2W-2U", 1.5 * 907.0 / 286.0, 0.0),
    ] {
        let [(v, a), _, (induced, b)] = fed(&mut *of, place, 100.0);
        assert!((v - 100.0).abs() < 0.01, "{place}: {v}");
        assert!((v / induced / ratio - 1.0).abs() < 2e-4, "{place}: {}", v / induced);
        let turned = (b - a - angle).rem_euclid(TAU);
        assert!(turned.min(TAU - turned) < 2e-3, "{place}: {turned}");
    }
    of.stand(&Stand::new("OLTC", "1")).unwrap();
    let [(v, _), _, (induced, _)] = fed(&mut *of, "1U-1N / 2W-2U", 100.0);
    let ratio = (907.0 + 9.0 * 11.34) / 286.0;
    assert!((v / induced / ratio - 1.0).abs() < 2e-4, "{}", v / induced);
    assert!(of.stand(&Stand::new("OLTC", "20")).is_err());
    assert!(of.stand(&Stand::new("DETC", "1")).is_err());
    assert!(of.lead(&"1U-1X / 2W-2U".into()).is_err());
}

/// The outer limbs take alike, the middle one less; of a shorted turn more than any of them; and what is
/// fed to a limb comes back through the two others.
#[test]
fn exciting_currents_make_the_pattern_of_three_limbs() {
    let places = ["1U-1N / 2W-2U", "1V-1N / 2U-2V", "1W-1N / 2V-2W"];
    let of = |extra: &str| {
        let mut of = built(YND5, extra);
        places.map(|place| fed(&mut *of, place, 200.0)[1].0)
    };
    let [u, v, w] = of("");
    assert!((u / w - 1.0).abs() < 0.02 && v < 0.95 * u, "{u} {v} {w}");
    let short = of("shorted = { limb = 2, turns = 1, resistance = \"2 mOhm\" }");
    // 200/907 V a turn around 2 mOhm is 110 A, over 907 turns 0.12 A.
    assert!(short[1] > 0.1 && short[1] < 0.14, "{short:?}");
    // The flux of the others finds another way than through the shorted limb.
    assert!(short[0] < 1.5 * u && short[2] < 1.5 * w, "{short:?}");
    let [(_, _), _, (half, _)] = fed(&mut *built(YND5, ""), "1U-1N / 2U-2V", 200.0);
    assert!((half / (200.0 * 286.0 / 907.0) - 0.5).abs() < 0.1, "{half}");
}

/// Charged from 50 V at most: 907 turns and 1.18 of the flux that 70 V a turn need at 50 Hz are 337 V·s, so
/// that it takes about 7 s to saturate; then the current comes, and in the end there is resistance only.
#[test]
fn a_winding_charges_settles_and_discharges() {
    let mut of = built(YND5, "");
    of.lead(&"1U-1N".into()).unwrap();
    of.begin(1);
    direct(&mut *of, 5.0);
    let flux = 1.18 * 70.0 * SQRT_2 / (TAU * 50.0) * 907.0;
    let about = flux / 50.0;
    of.advance(seconds(about * 0.5));
    assert!(now(&*of, "winding current", about * 0.5 - 0.1) < 2.5, "not saturated yet");
    assert!((now(&*of, "winding voltage", about * 0.5 - 0.1) - 50.0).abs() < 1e-6);
    of.advance(seconds(600.0));
    let (v, i) = (now(&*of, "winding voltage", 599.9), now(&*of, "winding current", 599.9));
    assert!((i - 5.0).abs() < 1e-9 && (v / i / 0.32 - 1.0).abs() < 1e-4, "{v} {i}");
    // Off: what was charged comes out against 6 V, and is gone for good.
    of.apply(&Stimulus::off());
    of.advance(seconds(600.1));
    assert!(now(&*of, "winding current", 600.05) > 1.0, "still there");
    assert!(now(&*of, "winding voltage", 600.05) < -6.0, "and drives on");
    of.advance(seconds(660.0));
    assert!(of.reading("flowing").unwrap() < 2e-3, "{:?}", of.reading("flowing"));
    assert!(now(&*of, "winding current", 659.0).abs() < 1e-12);
}

/// What a source has delivered less what resistances took is never less than nothing, and comes back to
/// what the core lost: energy by the integral of the terminals, of a full cycle.
#[test]
fn a_cycle_gives_back_less_than_it_took() {
    let mut of = built(YND5, "");
    of.lead(&"1U-1N / 2W-2U".into()).unwrap();
    of.begin(1);
    let drive = Drive::sine(
        "v".into(),
        Phasor::new(Voltage::from_si(5000.0), degrees(0.0)),
        Frequency::from_si(50.0),
    );
    of.apply(&Stimulus { currents: Vec::new(), voltages: vec![drive] });
    of.advance(seconds(2.0));
    let window = Window { start_s: 1.9, rate_hz: 6400.0, count: 640 };
    let volts = of.samples(&"test voltage".into(), window).unwrap();
    let amps = of.samples(&"test current".into(), window).unwrap();
    let watts = volts.iter().zip(&amps).map(|(v, i)| v * i).sum::<f64>() / 640.0;
    // Eddy currents: (5000/907)² times 45 A over 70 V, an outer limb 100/70 of it; half the volts in the
    // two others. Hysteresis comes on top.
    let eddy = (5000.0f64 / 907.0).powi(2) * 45.0 / 70.0 * (10.0 / 7.0 + (1.0 + 10.0 / 7.0) / 4.0);
    assert!(watts > eddy && watts < 2.5 * eddy, "{watts} of at least {eddy}");
}

/// Under 5 A from position 10 to 11: the resistors of 4 Ohm take their turns for 15 ms each, the current dips
/// and comes back, and is never gone; with a gap of 8 ms it is.
#[test]
fn a_tap_changer_changes_under_current() {
    let trace = |defect: &str| {
        let mut of = built(YND5, defect);
        of.lead(&"1U-1N".into()).unwrap();
        of.begin(1);
        direct(&mut *of, 5.0);
        of.advance(seconds(60.0));
        let before = now(&*of, "winding voltage", 59.9);
        of.hand(&Stand::new("OLTC", "11"));
        of.advance(seconds(80.0));
        let window = Window { start_s: 64.95, rate_hz: 10_000.0, count: 2000 };
        let amps = of.samples(&"winding current".into(), window).unwrap();
        (before, amps, now(&*of, "winding voltage", 79.9))
    };
    let least = |amps: &[f64]| amps.iter().copied().fold(f64::INFINITY, f64::min);
    let (before, amps, after) = trace("");
    // One step of 11.34 turns less of 907.
    assert!((after / before - (1.0 - 11.34 / 907.0)).abs() < 1e-4, "{before} {after}");
    assert!((4.2..4.9).contains(&least(&amps)), "{}", least(&amps));
    assert!(
        (amps[0] - 5.0).abs() < 1e-3 && (amps[1999] - 5.0).abs() < 0.1,
        "{} {}",
        amps[0],
        amps[1999]
    );
    let (_, amps, ..) = trace("|interrupted = { limb = 1, position = 10, time = \"8 ms\" }");
    assert!(least(&amps) < 0.01, "{}", least(&amps));
    // On another limb nothing is to be seen of it.
    let (_, amps, ..) = trace("|interrupted = { limb = 2, position = 10, time = \"8 ms\" }");
    assert!(least(&amps) > 4.0, "{}", least(&amps));
    let (before, .., after) = trace("|oversteps = 10");
    assert!((after / before - (1.0 - 22.68 / 907.0)).abs() < 1e-4, "{before} {after}");
}

/// A lead that falls off: the current breaks off, and what was stored comes as an arc.
#[test]
fn a_lead_that_falls_off_makes_an_arc() {
    let mut of = built(YND5, "lead_off_after = \"30 s\"");
    of.lead(&"1U-1N".into()).unwrap();
    of.begin(1);
    direct(&mut *of, 5.0);
    of.advance(seconds(40.0));
    assert!((now(&*of, "winding current", 29.0) - 5.0).abs() < 0.01);
    assert!(now(&*of, "winding current", 31.0).abs() < 0.01);
    let window = Window { start_s: 29.9, rate_hz: 10_000.0, count: 3000 };
    let volts = of.samples(&"winding voltage".into(), window).unwrap();
    assert!(volts.iter().any(|v| *v < -700.0), "{:?}", volts.iter().copied().fold(0.0, f64::min));
}

/// What cannot be solved is refused with its file, and never a panic.
#[test]
fn what_cannot_be_is_refused() {
    let parallel = r#"{ at = "1U-1N", limb = 1 }, "#.repeat(8);
    let many =
        YND5.replace("coils = [{ at = \"1U-1N\"", &format!("coils = [{parallel}{{ at = \"1U-1N\""));
    let steep = YND5.replace("step = 11.34", "step = 200");
    for (text, words) in [(many, "too many ways"), (steep, "no turns")] {
        let text = text.replace("EXTRA", "").replace("CHANGE", "");
        let error = SpecimenForm::load(&Source::new("t", text), 1).err().unwrap();
        assert!(error.problems.iter().any(|p| p.message.contains(words)), "{:?}", error.problems);
    }
    let mut of = built(YND5, "");
    assert!(of.lead(&"1U-1V+1W+1N+1W+1N+1W+1N / 2U-2V".into()).is_err());
}

/// Γ(1/2) = √π and Γ(1/3) = 2.678938534707747 (OEIS A002161, A073005): by them a step of a direct voltage; and the
/// complex capacitance by hand at 20 °C and 50 Hz.
#[test]
fn insulation_polarises_and_conducts() {
    use super::{Dielectric, Loss};
    let loss = |tan_delta| Loss { tan_delta, activation_ev: 0.9 };
    let of = |power: f64| Dielectric {
        between: ["H".to_owned(), "L".to_owned()],
        farad: 1e-9,
        polarises: (loss(0.01), power),
        conducts: loss(0.002),
    };
    for (power, gamma) in [(0.5, std::f64::consts::PI.sqrt()), (1.0 / 3.0, 2.678_938_534_707_747)] {
        let size = 0.01 / (power * std::f64::consts::FRAC_PI_2).sin();
        let w = std::f64::consts::TAU * 50.0;
        let by_hand = 1e-9 * (size * w.powf(power) * 7f64.powf(power - 1.0) / gamma + w * 0.002);
        assert!((of(power).after(7.0, 293.15) / by_hand - 1.0).abs() < 1e-7);
        let told = of(power).capacitance(50.0, 293.15);
        assert!((-told.im / 1e-9 - 0.012).abs() < 1e-12, "losses add: {told}");
        // Warmer by what 0.9 eV make is the same at a higher frequency.
        let a = (0.9 / 8.617_333e-5 * (1.0 / 293.15 - 1.0 / 313.15f64)).exp();
        let warm = of(power).capacitance(50.0 * a, 313.15);
        assert!((warm - told).norm() < 1e-15);
    }
}
