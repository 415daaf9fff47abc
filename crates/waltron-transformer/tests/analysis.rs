//! The analysis against closed forms: cores whose excitation is a sum of two powers, of which knee points,
//! limits and errors follow by hand.

use num_complex::Complex64;
use proptest::prelude::*;
use std::f64::consts::{SQRT_2, TAU};
use waltron_core::grading::Value;
use waltron_core::quantity::Quantity;
use waltron_core::uncertainty::{Cause, Estimate};
use waltron_transformer::analysis::Move;
use waltron_transformer::analysis::criteria::{Met, Of};
use waltron_transformer::analysis::errors::burden_for;
use waltron_transformer::analysis::transient::{
    loop_time_constant, magnetising_inductance, time_of_most, transient_factor,
};
use waltron_transformer::analysis::{
    Assessed, Burden, Class, Duty, Evidence, ExcitationCurve, KneeKind, Limit, Loop, Plate, Sample,
    assess, meets,
};

/// I = a·E^p + b·E^n.
#[derive(Clone, Copy)]
struct Core {
    a: f64,
    p: f64,
    b: f64,
    n: f64,
}

/// A core that is sharp enough for every knee: 100 mV take 30 uA, 300 V lie above the knee.
const CORE: Core = Core { a: 1.6e-4, p: 0.75, b: 1e-36, n: 14.0 };

impl Core {
    fn current(self, e: f64) -> f64 {
        self.a * e.powf(self.p) + self.b * e.powf(self.n)
    }

    /// Where `a`'s part times x equals `b`'s times y.
    fn balance(self, x: f64, y: f64) -> f64 {
        (self.a * x / (self.b * y)).powf(1.0 / (self.n - self.p))
    }

    /// 10 % more e.m.f. with 50 % more current.
    fn ten_fifty(self) -> f64 {
        self.balance(1.5 - 1.1f64.powf(self.p), 1.1f64.powf(self.n) - 1.5)
    }

    fn tangent(self, slope: f64) -> f64 {
        self.balance(slope - self.p, self.n - slope)
    }
}

/// What a fine test gives: dense around the knee, `scatter` on voltages and currents, k = 1.
fn curve(core: Core, count: usize, scatter: f64, seed: u64) -> ExcitationCurve {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut uniform = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) as f64 / (1u64 << 53) as f64
    };
    let mut normal = move || (0..12).map(|_| uniform()).sum::<f64>() - 6.0;
    let knee = core.ten_fifty();
    let (few, many) = (count / 3, count - count / 3);
    let low = (0..few).map(|k| 0.02 * (0.5 * knee / 0.02).powf(k as f64 / few as f64));
    let high = (0..many).map(|k| knee * 0.5 * 3.6f64.powf(k as f64 / (many - 1) as f64));
    let points = low.chain(high).map(|e| {
        let i = core.current(e) * (1.0 + scatter * normal());
        let current = Complex64::from_polar(i, -60f64.to_radians());
        let emf_v = e * (1.0 + scatter * normal());
        Sample { emf_v, rms_a: i, current, peak_a: Some(i * 2.0), moves: Vec::new() }
    });
    ExcitationCurve::new(points.collect()).unwrap()
}

fn near(found: f64, wanted: f64, share: f64, what: &str) {
    assert!((found / wanted - 1.0).abs() < share, "{what}: {found}, by hand {wanted}");
}

#[test]
fn knee_points_are_those_of_the_closed_form() {
    let found = curve(CORE, 200, 0.0, 1);
    let slopes = [(KneeKind::Tangent45, 1.0), (KneeKind::Tangent30, 3f64.sqrt())];
    near(found.knee(KneeKind::TenFifty).unwrap().emf_v, CORE.ten_fifty(), 0.005, "10/50");
    for (kind, slope) in slopes {
        let knee = found.knee(kind).unwrap();
        near(knee.emf_v, CORE.tangent(slope), 0.005, kind.words());
        near(knee.current_a, CORE.current(knee.emf_v), 0.005, kind.words());
    }
    // Seen from a fifth of the turns the knee lies at a fifth of the voltage.
    let tap = found.of_turns(0.2).knee(KneeKind::TenFifty).unwrap();
    near(tap.emf_v, CORE.ten_fifty() / 5.0, 0.005, "tap");
    // With forty points, as a quick test takes them.
    let quick = curve(CORE, 40, 0.0, 1).knee(KneeKind::TenFifty).unwrap();
    near(quick.emf_v, CORE.ten_fifty(), 0.01, "quick");
}

#[test]
fn scatter_does_not_move_the_knee() {
    let mut worst = 0.0f64;
    for seed in 1..=300 {
        let found = curve(CORE, 200, 0.005, seed);
        for (kind, wanted) in [
            (KneeKind::TenFifty, CORE.ten_fifty()),
            (KneeKind::Tangent45, CORE.tangent(1.0)),
            (KneeKind::Tangent30, CORE.tangent(3f64.sqrt())),
        ] {
            let off = found.knee(kind).map_or(1.0, |k| (k.emf_v / wanted - 1.0).abs());
            worst = worst.max(off);
            assert!(off < 0.02, "seed {seed}, {}: off by {:.2} %", kind.words(), off * 100.0);
        }
    }
    assert!(worst > 1e-4, "the scatter is really there");
}

#[test]
fn what_never_saturates_has_no_knee() {
    let straight = Core { b: 0.0, ..CORE };
    let points = (0..50).map(|k| {
        let e = 0.1 * 1.2f64.powi(k);
        let i = straight.current(e);
        let current = Complex64::new(0.0, -i);
        Sample { emf_v: e, rms_a: i, current, peak_a: Some(i), moves: Vec::new() }
    });
    let found = ExcitationCurve::new(points.collect()).unwrap();
    for kind in KneeKind::ALL {
        assert_eq!(found.knee(kind), None, "{}", kind.words());
    }
    assert_eq!(found.saturation(), None);
    assert_eq!(magnetising_inductance(&found, 50.0), None);
    // Nor has one of which only the saturated part was measured.
    let above = (0..20).map(|k| {
        let e = CORE.ten_fifty() * 1.3 * 1.01f64.powi(k);
        let i = CORE.current(e);
        Sample { emf_v: e, rms_a: i, current: i.into(), peak_a: None, moves: Vec::new() }
    });
    let above = ExcitationCurve::new(above.collect()).unwrap();
    assert_eq!(above.knee(KneeKind::TenFifty), None);
}

fn of_loop(curve: &ExcitationCurve, va: f64) -> Loop<'_> {
    Loop {
        curve,
        turns: 1200.0,
        rated_ratio: 1200.0,
        rated_a: 1.0,
        winding_ohm: 6.0,
        burden: Burden::of_current(va, 1.0, 0.8),
    }
}

/// |6 + 15·(0.8 + 0.6j)| = |18 + 9j| = 20.12 Ohm.
#[test]
fn errors_and_limits_are_those_of_the_closed_form() {
    let found = curve(CORE, 200, 0.0, 1);
    let of = of_loop(&found, 15.0);
    let z = (18.0f64 * 18.0 + 81.0).sqrt();
    near(of.composite(10.0).unwrap(), CORE.current(10.0 * z) / 10.0, 0.005, "composite");
    // The limit by bisection on the closed form.
    let limit = |share: f64, z: f64| {
        let (mut a, mut b) = (5.0, 40.0);
        for _ in 0..80 {
            let x = f64::midpoint(a, b);
            if CORE.current(x * z) / x > share { b = x } else { a = x }
        }
        a
    };
    for share in [0.05, 0.1] {
        let Limit::At(x) = of.limit(share) else { panic!("{:?}", of.limit(share)) };
        near(x, limit(share, z), 0.005, "limit factor");
        // The burden that this limit allows is the burden that it was worked out with.
        near(burden_for(&of, x, share, 0.8).unwrap(), 15.0, 0.01, "burden for the limit");
    }
    assert!(matches!(of_loop(&found, 0.5).limit(0.5), Limit::Above(_)));
    assert!(matches!(of_loop(&found, 20_000.0).limit(1e-6), Limit::Below(_)));
    // At rated current: I against E by 60° behind, E against Is by the angle of the loop.
    let loop_angle = 9f64.atan2(18.0);
    let ie = Complex64::from_polar(CORE.current(z), loop_angle - 60f64.to_radians());
    let errors = of.errors(1.0).unwrap();
    let by_hand = 1.0 / (Complex64::from(1.0) + ie);
    assert!((errors.ratio - (by_hand.norm() - 1.0)).abs() < 2e-5, "{errors:?}");
    assert!((errors.phase - by_hand.arg()).abs() < 2e-5);
    // The current lags its e.m.f., so the secondary leads; turns correction shows as it is.
    assert!(errors.phase > 0.0 && errors.ratio < 0.0);
    let corrected = Loop { turns: 1197.0, ..of }.errors(1.0).unwrap();
    assert!((corrected.ratio - errors.ratio - 3.0 / 1197.0).abs() < 2e-5);
}

#[test]
fn time_constant_and_transient_factor_are_those_of_the_closed_form() {
    let found = curve(CORE, 200, 0.0, 1);
    // Peaks are twice the RMS values here, so saturation lies at the same e.m.f. as the knee.
    let s = CORE.ten_fifty();
    near(found.saturation().unwrap(), s, 0.005, "saturation flux");
    let flux = |e: f64| e * SQRT_2 / (TAU * 50.0);
    let by_hand = (flux(0.9 * s) - flux(0.2 * s))
        / (2.0 * CORE.current(0.9 * s) - 2.0 * CORE.current(0.2 * s));
    let ls = magnetising_inductance(&found, 50.0).unwrap();
    near(loop_time_constant(ls, 6.0, 12.0), by_hand / 18.0, 0.005, "Ts");
    // The flux of a fully offset current through R and L, stepped by hand.
    for (tp, ts) in [(0.06, 1.2), (0.1, 0.1)] {
        let (w, dt) = (TAU * 50.0, 1e-6);
        let (mut flux, mut t) = (0.0, 0.0);
        let at = time_of_most(tp, ts);
        while t < at {
            flux += dt * (w * f64::exp(-t / tp) - flux / ts);
            t += dt;
        }
        near(transient_factor(50.0, tp, ts, at), flux + 1.0, 1e-3, "transient factor");
    }
}

/// A value with what it is uncertain by (k = 2).
fn off(value: f64, source: &str, u: f64) -> Estimate {
    let u = Value::Plain(Quantity::number(u));
    Estimate::exact(value).with(Cause::expanded(source, u), 1.0)
}

fn evidence() -> Evidence {
    Evidence {
        turns: Ok(off(1200.0, "ratio", 0.1)),
        winding: Ok(off(6.0, "winding", 0.01)),
        curve: Ok(curve(CORE, 200, 0.0, 1)),
        remanence: Ok(off(0.05, "remanence", 0.01)),
    }
}

fn plate() -> Plate {
    Plate {
        primary_a: 1200.0,
        secondary_a: 1.0,
        hertz: 50.0,
        burden_va: Some(15.0),
        power_factor: None,
        extended: 1.2,
        security_factor: None,
        knee_v: Some(CORE.ten_fifty() / 1.05),
        exciting: Some((CORE.current(CORE.ten_fifty() / 1.05) * 1.05, 1.0)),
        resistance_ohm: Some(6.2),
        duty: Some(Duty { symmetrical: 4.0, dimensioning: 2.0 }),
    }
}

fn of(class: &str, plate: &Plate, seen: &Evidence) -> Vec<Assessed> {
    let class = Class::of_current(class).unwrap();
    assess(class, plate, seen, None)
}

fn not_met(all: &[Assessed]) -> Vec<&str> {
    all.iter().filter(|a| a.met() != Met::Yes).map(|a| a.key.as_str()).collect()
}

/// A unit within a class, then one criterion after the other 20 % beyond it.
#[test]
fn each_criterion_fails_alone() {
    type Change = fn(&mut Plate, &mut Evidence);
    let good = |class: &str| {
        let all = of(class, &plate(), &evidence());
        assert_eq!(not_met(&all), Vec::<&str>::new(), "{class}: {all:#?}");
    };
    let _ =
        ["5P10", "10P10", "5PR10", "PX", "PXR", "TPX", "TPY", "0.5", "0.5S", "3", "C20"].map(good);
    let changed: [(&str, &str, Change); 9] = [
        ("5P10", "ratio-error-100%", |_, e| e.turns = Ok(Estimate::exact(1200.0 * 1.012))),
        ("5P10", "composite-error", |p, _| p.burden_va = Some(15.0 * 2.3)),
        ("5PR10", "remanence", |_, e| e.remanence = Ok(Estimate::exact(0.12))),
        ("PX", "turns-error", |_, e| e.turns = Ok(Estimate::exact(1200.0 * 1.003))),
        ("PX", "winding-resistance", |_, e| e.winding = Ok(Estimate::exact(6.2 * 1.2))),
        ("PX", "exciting-current", |p, _| p.exciting = p.exciting.map(|(i, s)| (i / 1.26, s))),
        ("TPY", "transient-error", |p, _| {
            p.duty = Some(Duty { symmetrical: 9.3, dimensioning: 2.0 })
        }),
        ("0.5", "security-factor", |p, _| p.security_factor = Some(5.0)),
        ("PX", "knee-point", |p, _| {
            p.knee_v = p.knee_v.map(|v| v * 1.2);
            p.exciting = p.exciting.map(|(i, _)| (i * 1.05, 1.0 / 1.2));
        }),
    ];
    for (class, key, change) in changed {
        let (mut plate, mut seen) = (plate(), evidence());
        change(&mut plate, &mut seen);
        assert_eq!(not_met(&of(class, &plate, &seen)), [key], "{class}");
    }
}

#[test]
fn what_was_not_measured_is_open_and_never_met() {
    let none = || Err("not measured".to_owned());
    let seen = Evidence {
        turns: none(),
        winding: none(),
        curve: Err("not measured".to_owned()),
        remanence: none(),
    };
    for class in ["5PR20", "PXR", "TPY", "0.2S", "0.3", "C100"] {
        let all = of(class, &plate(), &seen);
        assert!(!all.is_empty() && all.iter().all(|a| a.met() == Met::Open), "{class}: {all:?}");
    }
    // A nameplate that lacks what the class needs leaves that open, too, and says so.
    let bare = Plate {
        burden_va: None,
        knee_v: None,
        exciting: None,
        resistance_ohm: None,
        duty: None,
        ..plate()
    };
    for (class, key, told) in [
        ("5P20", "composite-error", "no rated burden"),
        ("PX", "knee-point", "no rated knee point"),
        ("PX", "exciting-current", "no rated knee point"),
        ("TPY", "transient-error", "no duty"),
    ] {
        let all = of(class, &bare, &evidence());
        let found = all.iter().find(|a| a.key == key).unwrap();
        let why =
            found.value.clone().err().or_else(|| (class == "TPY").then(|| "no duty".to_owned()));
        assert!(
            why.is_some_and(|w| w.contains(told) || w.contains("burden")),
            "{class} {key}: {found:?}"
        );
        assert_ne!(found.met(), Met::Yes);
    }
    // Excitation that ends above what small currents take says nothing of them.
    let curve = evidence().curve.unwrap();
    let above = curve.points().iter().filter(|p| p.emf_v > 5.0).cloned().collect();
    let seen =
        Evidence { curve: ExcitationCurve::new(above).map_err(|e| e.to_string()), ..evidence() };
    let all = of("0.5S", &plate(), &seen);
    let open = all.iter().find(|a| a.key == "ratio-error-1%").unwrap();
    assert!(open.value.as_ref().is_err_and(|w| w.contains("down to")), "{open:?}");
    // One that ends below the knee leaves the limit open; one that is saturated before fails.
    let below = curve.points().iter().filter(|p| p.emf_v < 150.0).cloned().collect();
    let seen =
        Evidence { curve: ExcitationCurve::new(below).map_err(|e| e.to_string()), ..evidence() };
    assert_eq!(not_met(&of("5P10", &plate(), &seen)), ["composite-error"]);
    let at = of("5P30", &plate(), &evidence());
    let composite = at.iter().find(|a| a.key == "composite-error").unwrap();
    assert_eq!(composite.met(), Met::No, "saturated far below 30 times: {composite:?}");
}

#[test]
fn the_table_of_classes_agrees_with_each_alone() {
    let all = meets::table(&plate(), &evidence());
    let of_class = |name: &str| all.iter().find(|m| m.class == name).map(|m| m.met);
    for m in &all {
        let alone = of(&m.class, &plate(), &evidence());
        assert_eq!(meets::decided(&alone).0, m.met, "{}", m.class);
    }
    assert_eq!(of_class("0.5"), Some(Met::Yes));
    assert_eq!(of_class("0.1"), Some(Met::No));
    assert!(all.iter().any(|m| m.class.starts_with("5P")));
    assert!(all.iter().all(|m| m.met == Met::Open || !m.why.is_empty()));
}

#[test]
fn burdens_and_margins() {
    let b = Burden::of_current(15.0, 5.0, 0.8);
    assert!((b.z - Complex64::new(0.48, 0.36)).norm() < 1e-12);
    assert!((b.va(5.0) - 15.0).abs() < 1e-9 && (b.power_factor() - 0.8).abs() < 1e-12);
    let one = |value, lower, upper| Assessed {
        key: String::new(),
        what: String::new(),
        of: Of::Share,
        value: Ok(value),
        estimate: Estimate::default(),
        lower,
        upper,
    };
    assert_eq!(one(0.25, Some(-1.0), Some(1.0)).margin(), Some(0.75));
    assert_eq!(one(-2.0, Some(-1.0), Some(1.0)).margin(), Some(-1.0));
    assert_eq!(one(90.0, Some(100.0), None).margin(), Some(-0.1));
    assert_eq!(one(f64::NAN, None, Some(1.0)).met(), Met::Open);
}

/// What errs in a class test, each by a share or an angle (k = 1): the voltage meter, the current meter, the angle between
/// them, and the resistance by itself.
#[derive(Clone, Copy, Debug, Default)]
struct Errs {
    volts: f64,
    amps: f64,
    angle: f64,
    ohms: f64,
}

impl Errs {
    /// Each of them alone.
    fn alone(self) -> [Self; 4] {
        let none = Self::default();
        [
            Self { volts: self.volts, ..none },
            Self { amps: self.amps, ..none },
            Self { angle: self.angle, ..none },
            Self { ohms: self.ohms, ..none },
        ]
    }

    fn times(self, by: f64) -> Self {
        let Self { volts, amps, angle, ohms } = self;
        Self { volts: volts * by, amps: amps * by, angle: angle * by, ohms: ohms * by }
    }

    /// The turns by the voltage meter, the resistance by both meters, the curve by all.
    fn evidence(self) -> Evidence {
        let cause = |source: &str, u: f64, is_angle: bool| {
            let value =
                if is_angle { Value::Minutes(u.to_degrees() * 60.0) } else { Value::Percent(u) };
            Cause::scatter(source, value)
        };
        let volts = cause("volts", self.volts, false);
        let amps = cause("amps", self.amps, false);
        let mut points = curve(CORE, 200, 0.0, 1).points().to_vec();
        for point in &mut points {
            let by = |cause: &Cause, emf, current, turn| Move {
                cause: cause.clone(),
                emf,
                current,
                turn,
            };
            point.moves = vec![
                by(&volts, self.volts, 0.0, 0.0),
                by(&amps, 0.0, self.amps, 0.0),
                by(&cause("angle", self.angle, true), 0.0, 0.0, self.angle),
            ];
        }
        let winding = Estimate::exact(6.0).with(volts.clone(), 6.0).with(amps, -6.0);
        Evidence {
            turns: Ok(Estimate::exact(1200.0).with(volts, 1200.0)),
            winding: Ok(winding.with(cause("ohms", self.ohms, false), 6.0)),
            curve: ExcitationCurve::new(points).map_err(|e| e.to_string()),
            remanence: Err(String::new()),
        }
    }

    /// What the criteria of a class come to with these errors, from the closed form of the core.
    fn by_hand(self, key: &str) -> f64 {
        let turns = 1200.0 * (1.0 + self.volts);
        let ohm = 6.0 * (1.0 + self.volts) / (1.0 + self.amps) * (1.0 + self.ohms);
        let z = Complex64::new(ohm + 12.0, 9.0);
        let current = |e: f64| CORE.current(e / (1.0 + self.volts)) * (1.0 + self.amps);
        let errors = || {
            // The secondary current at which the rated primary current flows, by halving.
            let primary = |is: f64| {
                let e = z * is;
                let ie = Complex64::from_polar(
                    current(e.norm()),
                    e.arg() - 60f64.to_radians() + self.angle,
                );
                (ie + is) * turns
            };
            let (mut low, mut high) = (0.5, 1.5);
            for _ in 0..60 {
                let is = f64::midpoint(low, high);
                if primary(is).norm() > 1200.0 { high = is } else { low = is }
            }
            (low - 1.0, -primary(low).arg())
        };
        let rated = CORE.ten_fifty() / 1.05;
        match key {
            "ratio-error-100%" => errors().0,
            "phase-100%" => errors().1,
            "composite-error" => current(10.0 * z.norm()) / 10.0,
            "turns-error" => (1200.0 - turns) / turns,
            "knee-point" => CORE.ten_fifty() * (1.0 + self.volts),
            "exciting-current" => current(rated),
            _ => ohm,
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Each criterion's U against moving each error by itself in the closed form, to both sides, with what the documents
    /// say that the method makes.
    #[test]
    fn the_uncertainty_of_each_criterion_is_that_of_the_closed_form(
        volts in 1e-5f64..1e-3, amps in 1e-5f64..1e-3, angle in 1e-5f64..3e-3, ohms in 1e-5f64..3e-3,
    ) {
        let errs = Errs { volts, amps, angle, ohms };
        let seen = errs.evidence();
        let method = |key: &str, value: f64| match key {
            "knee-point" => 0.005 * value,
            "composite-error" | "exciting-current" => 0.01 * value,
            "ratio-error-100%" | "phase-100%" => 0.01 * CORE.current(18f64.hypot(9.0)),
            _ => 0.0,
        };
        let mut told = 0;
        for class in ["5P10", "PX"] {
            for one in of(class, &plate(), &seen) {
                let value = Errs::default().by_hand(&one.key);
                let moved = errs.alone().map(|one_errs| {
                    let there = |by: f64| one_errs.times(by).by_hand(&one.key);
                    (there(1.0) - there(-1.0)) / 2.0
                });
                let squares = moved.iter().map(|by| by * by).sum::<f64>();
                let by_hand = (squares + method(&one.key, value).powi(2)).sqrt();
                let minutes = if one.key == "phase-100%" { 60f64.to_radians().recip() * 3600.0 } else { 1.0 };
                let found = one.estimate.standard();
                prop_assert!((found / (by_hand * minutes) - 1.0).abs() < 0.03, "{}: {found}, by hand {}", one.key, by_hand * minutes);
                told += 1;
            }
        }
        prop_assert_eq!(told, 7);
    }
}

/// A curve that is one no more as soon as a meter errs a little one way: U is that of the other way, and of none where it is
/// none both ways.
#[test]
fn a_value_at_the_edge_of_what_can_be_worked_out_is_no_surer_for_it() {
    let errs = Errs { volts: 1e-3, amps: 1e-3, angle: 1e-3, ohms: 1e-3 };
    let (plate, whole) = (plate(), errs.evidence());
    let u = |seen: &Evidence| {
        let all = of("PX", &plate, seen);
        let one = all.iter().find(|one| one.key == "exciting-current").unwrap();
        (one.value.clone().unwrap(), one.estimate.expanded())
    };
    // The rated knee point is the last that was measured: with a voltage that is less nothing is known there.
    let with_last_at = |share: f64| {
        let points = whole.curve.as_ref().unwrap().points().iter();
        let mut points: Vec<_> =
            points.filter(|p| p.emf_v < plate.knee_v.unwrap()).cloned().collect();
        let mut last = points.last().unwrap().clone();
        last.emf_v = plate.knee_v.unwrap() * share;
        last.rms_a = CORE.current(last.emf_v);
        points.push(last);
        Evidence { curve: ExcitationCurve::new(points).map_err(|e| e.to_string()), ..whole.clone() }
    };
    let (value, there) = u(&whole);
    let (cut, at_edge) = u(&with_last_at(1.0 + 1e-6));
    near(cut, value, 1e-3, "value");
    near(at_edge, there, 0.2, "U at the edge of the curve");
}
