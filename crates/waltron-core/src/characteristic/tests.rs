use super::*;
use crate::quantity::amperes;
use crate::quantity::tolerance::Tolerance;
use proptest::prelude::*;

fn inverse(family: &str, name: &str, tms: f64) -> Characteristic {
    let coefficients = Shape::find(family, name).unwrap().coefficients;
    Characteristic::plain(Form::Inverse { coefficients, tms })
}

/// Values worked out by hand with a pocket calculator's precision from the standards' formulas.
#[test]
fn standard_shapes_at_known_points() {
    let cases = [
        ("iec", "normal-inverse", 1.0, 2.0, 10.029_02),
        ("iec", "normal-inverse", 1.0, 10.0, 2.970_6),
        ("iec", "very-inverse", 0.3, 2.0, 4.05),
        ("iec", "very-inverse", 0.3, 5.0, 1.0125),
        ("iec", "extremely-inverse", 1.0, 10.0, 0.808_081),
        ("iec", "long-time-inverse", 0.5, 3.0, 30.0),
        ("iec", "short-time-inverse", 1.0, 2.0, 1.778_48),
        ("ieee", "moderately-inverse", 1.0, 2.0, 3.803_25),
        ("ieee", "very-inverse", 2.0, 2.0, 14.055_33),
        ("ieee", "extremely-inverse", 1.0, 5.0, 1.296_7),
    ];
    for (family, name, tms, m, expected) in cases {
        let t = inverse(family, name, tms).operate_time(m).unwrap().si();
        assert!((t - expected).abs() < 1e-4 * expected, "{family} {name} at {m}: {t}");
    }
}

#[test]
fn nothing_operates_at_or_below_pickup() {
    for shape in SHAPES {
        let c = inverse(shape.family, shape.name, 1.0);
        assert_eq!(c.operate_time(1.0), None);
        assert_eq!(c.operate_time(0.5), None);
        assert_eq!(c.operate_time(f64::NAN), None);
    }
    let definite = Characteristic::plain(Form::Definite { delay: seconds(0.06) });
    assert_eq!(definite.operate_time(1.0), None);
    assert_eq!(definite.operate_time(1.001), Some(seconds(0.06)));
}

#[test]
fn range_limits_and_minimum_time_hold() {
    let mut c = inverse("iec", "very-inverse", 0.3);
    c.lower_limit = Some(1.3);
    c.upper_limit = Some(20.0);
    c.minimum_time = Some(seconds(0.25));
    assert_eq!(c.operate_time(1.29), None);
    assert!(c.operate_time(1.3).is_some());
    assert_eq!(c.operate_time(30.0), Some(seconds(0.25)));
    c.minimum_time = None;
    assert_eq!(c.operate_time(30.0), c.operate_time(20.0));
    assert_eq!(c.multiple_for(seconds(0.1)), None, "faster than the curve's end");
    assert_eq!(c.multiple_for(seconds(20.0)), None, "slower than the curve's start");
}

/// IEC 60255-149 at M = 1.5 from cold: t/τ = ln(2.25/1.25) = 0.587787; half preloaded: ln(2/1.25).
#[test]
fn thermal_from_cold_and_preloaded() {
    let thermal = |preload| Characteristic::plain(Form::Thermal { tau: seconds(600.0), preload });
    let t = thermal(0.0).operate_time(1.5).unwrap().si();
    assert!((t - 600.0 * 0.587_786_664_9).abs() < 1e-6);
    let t = thermal(0.5).operate_time(1.5).unwrap().si();
    assert!((t - 600.0 * 0.470_003_629_2).abs() < 1e-6);
}

#[test]
fn table_runs_straight_on_log_log_axes() {
    let table = TimeTable::try_new(vec![(2.0, 8.0), (8.0, 2.0), (20.0, 2.0)]).unwrap();
    let c = Characteristic::plain(Form::Table { table, tms: 0.5 });
    assert!((c.operate_time(4.0).unwrap().si() - 2.0).abs() < 1e-12, "geometric middle");
    assert_eq!(c.operate_time(1.9), None);
    assert!((c.operate_time(50.0).unwrap().si() - 1.0).abs() < 1e-12);
    assert_eq!(TimeTable::try_new(vec![(2.0, 8.0), (2.0, 7.0)]), Err(TableError::NotRising(2)));
    assert_eq!(TimeTable::try_new(vec![(2.0, 1.0), (3.0, 7.0)]), Err(TableError::TimeGrows(2)));
    assert_eq!(
        TimeTable::try_new(vec![(2.0, f64::NAN), (3.0, 7.0)]),
        Err(TableError::OutOfRange(1))
    );
}

/// The band of the very inverse curve at 2x, TMS 0.3, worked out by hand:
/// t(2.06) = 4.05/1.06 = 3.820755, t(1.94) = 4.05/0.94 = 4.308511; ∓5 %.
#[test]
fn band_carries_the_current_tolerance_through_the_curve() {
    let c = inverse("iec", "very-inverse", 0.3);
    let (current, time) =
        (Tolerance::larger_of(0.03, amperes(0.01)), Tolerance::larger_of(0.05, seconds(0.04)));
    let at = |m: f64| acceptance(&c, amperes(1.2), amperes(1.2 * m), &current, &time);
    let band = at(2.0);
    assert!((band.earliest.unwrap().si() - 3.629_717).abs() < 1e-5);
    assert!((band.latest.unwrap().si() - 4.523_936).abs() < 1e-5);
    let near_pickup = at(1.02);
    assert!(near_pickup.expected.is_some() && near_pickup.latest.is_none());
    let below = at(0.95);
    assert_eq!((below.expected, below.earliest, below.latest), (None, None, None));
    let maybe = at(0.99);
    assert!(maybe.expected.is_none() && maybe.earliest.is_some() && maybe.latest.is_none());
}

#[test]
fn the_earliest_stage_of_a_composite_operates() {
    let slow = Acceptance {
        expected: Some(seconds(0.58)),
        earliest: Some(seconds(0.5)),
        latest: Some(seconds(0.65)),
    };
    let perhaps = Acceptance { expected: None, earliest: Some(seconds(0.02)), latest: None };
    let both = earliest_of([slow, perhaps]);
    assert_eq!(both.expected, Some(seconds(0.58)));
    assert_eq!(both.earliest, Some(seconds(0.02)));
    assert_eq!(both.latest, Some(seconds(0.65)));
}

proptest! {
    #[test]
    fn forward_and_inverse_agree(i in 0usize..SHAPES.len(), m in 1.01f64..40.0, tms in 0.01f64..5.0) {
        let c = inverse(SHAPES[i].family, SHAPES[i].name, tms);
        let t = c.operate_time(m).unwrap();
        prop_assert!((c.multiple_for(t).unwrap() / m - 1.0).abs() < 1e-6);
    }

    #[test]
    fn thermal_and_squared_round_trip(m in 1.01f64..40.0, preload in 0.0f64..0.95) {
        for form in [
            Form::Thermal { tau: seconds(300.0), preload },
            Form::SquaredCurrent { at_pickup: seconds(90.0) },
        ] {
            let c = Characteristic::plain(form);
            let t = c.operate_time(m).unwrap();
            prop_assert!((c.multiple_for(t).unwrap() / m - 1.0).abs() < 1e-6);
        }
    }

    #[test]
    fn more_current_never_takes_longer(i in 0usize..SHAPES.len(), m in 1.001f64..30.0, more in 1.0f64..3.0) {
        let c = inverse(SHAPES[i].family, SHAPES[i].name, 1.0);
        prop_assert!(c.operate_time(m * more).unwrap() <= c.operate_time(m).unwrap());
    }

    /// Up to its setting a relay operates by its true pickup: one at the edge of the tolerance is never too early, by
    /// the curve's own formula.
    #[test]
    fn the_lowest_true_pickup_is_never_too_early(share in 0.0f64..1.0, tol in 0.001f64..0.2) {
        let m = 1.0 - tol * (1.0 - share);
        let c = inverse("iec", "very-inverse", 1.0);
        let exact = Tolerance::larger_of(0.0, seconds(0.0));
        let band = acceptance(&c, amperes(1.0), amperes(m), &Tolerance::larger_of(tol, amperes(0.0)), &exact);
        let multiple = m / (1.0 - tol);
        let due = 13.5 / (multiple - 1.0);
        prop_assume!(multiple > 1.0 + 1e-9);
        prop_assert!((band.earliest.unwrap().si() / due - 1.0).abs() < 1e-6, "{band:?} {due}");
        prop_assert!(band.latest.is_none());
    }

    #[test]
    fn a_wider_tolerance_never_narrows_the_band(m in 0.9f64..20.0, tol in 0.0f64..0.2) {
        let c = inverse("iec", "very-inverse", 1.0);
        let time = Tolerance::larger_of(0.05, seconds(0.04));
        let band = |t: f64| acceptance(&c, amperes(1.0), amperes(m), &Tolerance::larger_of(t, amperes(0.0)), &time);
        let (narrow, wide) = (band(tol), band(tol + 0.01));
        if let (Some(n), Some(w)) = (narrow.earliest, wide.earliest) { prop_assert!(w <= n); }
        if let (Some(n), Some(w)) = (narrow.latest, wide.latest) { prop_assert!(w >= n); }
        prop_assert!(!(narrow.latest.is_none() && wide.latest.is_some()));
    }
}
