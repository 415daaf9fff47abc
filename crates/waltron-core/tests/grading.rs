//! Grading, from a tolerance's text to a verdict and the words that tell it.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use proptest::prelude::*;
use waltron_core::characteristic::{
    Acceptance, Characteristic, Form, Shape, acceptance, earliest_of,
};
use waltron_core::grading::{
    Criterion, Finding, Limits, PointId, Rule, Summary, TripOutcome, Value, Values, Verdict, guard,
    judge_between, judge_limits, judge_trip_time, words,
};
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Angle, Current, Dimension, Frequency, Measure, Quantity, Time, Voltage, amperes, degrees,
    seconds,
};

fn quantity(si: f64, dimension: Dimension) -> Quantity {
    Quantity { si, dimension }
}

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * b.abs().max(1.0)
}

/// The very inverse curve, tms 0.3: t = 0.3 · 13.5 / (M − 1) (IEC 60255-151, annex A).
fn very_inverse(multiple: f64) -> f64 {
    0.3 * 13.5 / (multiple - 1.0)
}

fn curve() -> Characteristic {
    let coefficients = Shape::find("iec", "very-inverse").unwrap().coefficients;
    Characteristic::plain(Form::Inverse { coefficients, tms: 0.3 })
}

fn band(current: f64, current_text: &str, time_text: &str) -> [Option<f64>; 3] {
    let of_current = Tolerance::<Current>::parse(current_text).unwrap();
    let of_time = Tolerance::<Time>::parse(time_text).unwrap();
    let band = acceptance(&curve(), amperes(1.0), amperes(current), &of_current, &of_time);
    [band.expected, band.earliest, band.latest].map(|t| t.map(Time::si))
}

/// Earliest belongs to the side below, latest to the side above; the time's tolerance is taken at
/// the time that it is applied to.
#[test]
fn a_band_is_carried_through_the_curve_side_by_side() {
    let times = |band: [Option<f64>; 3]| band.map(Option::unwrap);
    let [expected, earliest, latest] = times(band(2.0, "+2 % / -5 %", "+10 % / -20 ms"));
    assert!(near(expected, 4.05));
    assert!(near(earliest, very_inverse(2.1) - 0.02), "{earliest}");
    assert!(near(latest, very_inverse(1.96) * 1.1), "{latest}");
    // Never before inception, whatever the tolerance.
    let [_, earliest, _] = times(band(10.0, "0 A", "1 s"));
    assert_eq!(earliest, 0.0);
}

/// Around the setting: no operation allowed, allowed, required.
#[test]
fn near_the_setting_operation_is_allowed_before_it_is_required() {
    let shape = |i: f64| band(i, "5 %", "5 %").map(|t| t.is_some());
    assert_eq!(shape(0.94), [false, false, false]);
    assert_eq!(shape(0.951), [false, true, false]);
    assert_eq!(shape(1.04), [true, true, false]);
    assert_eq!(shape(1.06), [true, true, true]);
    // Not one-sided below: at the setting itself nothing may operate yet.
    assert_eq!(band(0.99, "+5 % / -0 %", "5 %").map(|t| t.is_some()), [false; 3]);
    // A tolerance as wide as the setting leaves no lowest pickup to reckon with.
    assert_eq!(band(0.4, "1 A", "5 %")[1].map(|t| near(t, very_inverse(1.4) * 0.95)), Some(true));
    assert_eq!(band(0.0, "1 A", "5 %")[1], None);
}

/// The earliest of several elements counts in each of the three times on its own.
#[test]
fn of_several_elements_the_earliest_operates() {
    let one = |e: Option<f64>, a: Option<f64>, b: Option<f64>| Acceptance {
        expected: e.map(seconds),
        earliest: a.map(seconds),
        latest: b.map(seconds),
    };
    let slow = one(Some(4.0), Some(3.0), Some(5.0));
    let quick = one(Some(0.5), Some(0.4), None);
    assert_eq!(earliest_of([slow, quick]), one(Some(0.5), Some(0.4), Some(5.0)));
    assert_eq!(earliest_of([quick, slow]), one(Some(0.5), Some(0.4), Some(5.0)));
    assert_eq!(earliest_of([]), one(None, None, None));
}

#[test]
fn a_trip_exactly_on_its_limit_passes_and_waiting_just_that_long_proves_nothing() {
    let band = Acceptance {
        expected: Some(seconds(4.0)),
        earliest: Some(seconds(3.5)),
        latest: Some(seconds(4.5)),
    };
    let verdict = |outcome| judge_trip_time(&band, outcome).verdict;
    assert_eq!(verdict(TripOutcome::Operated(seconds(3.5))), Verdict::Pass);
    assert_eq!(verdict(TripOutcome::Operated(seconds(4.5))), Verdict::Pass);
    assert_eq!(verdict(TripOutcome::Waited(seconds(4.5))), Verdict::Inconclusive);
}

/// An infinite limit is none, and gives no room of its own.
#[test]
fn limits_that_are_open_at_one_end_still_bind_at_the_other() {
    let judge = |v: f64, lower: f64, upper: f64| {
        judge_between(quantity(v, Dimension::CURRENT), lower, upper)
    };
    let (open_below, open_above) = (f64::NEG_INFINITY, f64::INFINITY);
    assert_eq!(judge(5.0, open_below, 5.0).verdict, Verdict::Pass);
    assert_eq!(judge(5.0, 5.0, open_above).verdict, Verdict::Pass);
    assert_eq!(judge(5.0001, open_below, 5.0).reason, "0.1 mA above the upper limit");
    assert_eq!(judge(4.9999, 5.0, open_above).reason, "0.1 mA below the lower limit");
    // The room for rounding is a billionth of the larger of the two, no more.
    assert_eq!(judge(5.0 + 4e-9, 4.0, 5.0).verdict, Verdict::Pass);
    assert_eq!(judge(5.0 + 6e-9, 4.0, 5.0).verdict, Verdict::Fail);
    assert_eq!(judge(-5.0 - 6e-9, -5.0, 5.0).verdict, Verdict::Fail);
    assert_eq!(judge(4e-9, 0.0, 5.0).verdict, Verdict::Pass);
    assert_eq!(judge(-6e-9, 0.0, 5.0).verdict, Verdict::Fail);
    let share = judge_between(quantity(0.90, Dimension::NUMBER), 0.92, 0.98);
    assert_eq!(share.reason, "2 % below the lower limit", "a share reads in percent");
}

/// Limits of a value, or of an operation.
fn limited(name: &str, value: Value) -> Limits {
    let time = || Some(seconds(value.si()));
    match name {
        "lower" => Limits::Between { lower: Some(value), upper: None },
        "upper" => Limits::Between { lower: None, upper: Some(value) },
        "earliest" => Limits::operation(time(), None),
        _ => Limits::operation(None, time()),
    }
}

fn grade(measured: Values, limits: Limits, u: Values) -> Finding {
    Finding {
        point: PointId { id: "p".into(), test: "p".into(), element: None, fault_loop: None },
        criterion: Criterion::VALUE,
        stimulus: Values::none(),
        expected: Values::none(),
        uncertainty: u,
        budget: Vec::new(),
        measured,
        deviation: Values::none(),
        limits,
        verdict: Verdict::Pass,
        reason: "within tolerance".into(),
    }
}

/// Each limit on its own keeps its guard band, whatever its name; a pass by just U stays a pass
/// (JCGM 106, 8.3.2: acceptance limit = tolerance limit − U).
#[test]
fn a_guard_band_lies_inside_each_limit() {
    let time = |name: &'static str, limit: f64, measured: f64| {
        let mut grade = grade(
            Values::none().with("time", seconds(measured)),
            limited(name, Value::of(seconds(limit))),
            Values::none().with("u", seconds(0.25)),
        );
        guard(&mut grade, Rule::Guarded);
        (grade.verdict, grade.reason)
    };
    for (name, limit, clear, close) in
        [("upper", 2.0, 1.75, 1.875), ("latest", 2.0, 1.75, 1.875), ("lower", 1.0, 1.25, 1.125)]
    {
        assert_eq!(time(name, limit, clear).0, Verdict::Pass, "{name}");
        let (verdict, reason) = time(name, limit, close);
        assert_eq!(verdict, Verdict::Inconclusive, "{name}");
        assert_eq!(reason, "inside the limit by 125 ms, less than the uncertainty of 250 ms");
    }
    assert_eq!(time("earliest", 1.0, 1.125).0, Verdict::Inconclusive);
    // What was told of it stays, and is told again once the rule is another one.
    let mut told = grade(
        Values::none().with("time", seconds(1.875)),
        limited("upper", Value::of(seconds(2.0))),
        Values::none().with("u", seconds(0.25)),
    );
    for reason in ["within tolerance; read by R. Amsel; lamp 2", "read by R. Amsel; lamp 2"] {
        told.reason = reason.to_owned();
        let guarded = told.clone().graded(Rule::Guarded);
        let why = "inside the limit by 125 ms, less than the uncertainty of 250 ms; read by R. Amsel; lamp 2";
        assert_eq!((guarded.verdict, guarded.reason.as_str()), (Verdict::Inconclusive, why));
        let before = guarded.before_guard();
        assert_eq!((before.verdict, before.guarded), (Verdict::Pass, false));
        assert_eq!(before.reason, "read by R. Amsel; lamp 2");
        let simple = told.clone().graded(Rule::Simple);
        assert_eq!(simple, simple.before_guard());
        assert_eq!(Finding::of(simple), told);
    }
    told.reason = "within tolerance (IEC 62271-1)".to_owned();
    let guarded = told.clone().graded(Rule::Guarded);
    assert!(guarded.reason.ends_with("of 250 ms; within tolerance (IEC 62271-1)"), "{guarded:?}");
    assert_eq!(guarded.before_guard().reason, told.reason);
    // Percent reads in percent.
    let mut ratio = grade(
        Values::none().with_percent("reset", 0.95),
        Limits::Between { lower: Some(Value::Percent(0.94)), upper: Some(Value::Percent(1.0)) },
        Values::none().with_percent("u", 0.02),
    );
    guard(&mut ratio, Rule::Guarded);
    assert_eq!(ratio.reason, "inside the limit by 1 %, less than the uncertainty of 2 %");
    // Without limits nothing is withheld.
    let measured = Values::none().with("time", seconds(1.0));
    let mut free = grade(measured, Limits::None, Values::none().with("u", seconds(0.1)));
    guard(&mut free, Rule::Guarded);
    assert_eq!(free.verdict, Verdict::Pass);
    assert!(Rule::Simple.is_simple() && !Rule::Guarded.is_simple());
}

/// A value on its limit has used its tolerance up, on whichever side it lies.
#[test]
fn the_share_of_a_tolerance_that_is_used() {
    let used = |measured: f64| {
        let mut grade = grade(
            Values::none().with("time", seconds(measured)),
            Limits::operation(Some(seconds(3.0)), Some(seconds(4.5))),
            Values::none(),
        );
        grade.expected = Values::none().with("time", seconds(4.0));
        words::tolerance_used(&grade.graded(Rule::Simple))
    };
    assert_eq!([4.0, 4.25, 4.5, 5.0].map(used), [0.0, 0.5, 1.0, 2.0].map(Some));
    assert_eq!([3.5, 3.0, 2.0].map(used), [0.5, 1.0, 2.0].map(Some));
    let open = grade(
        Values::none().with("time", seconds(1.0)),
        limited("upper", Value::of(seconds(2.0))),
        Values::none(),
    );
    assert_eq!(
        words::tolerance_used(&open.clone().graded(Rule::Simple)),
        None,
        "without a value to expect there is no share"
    );
}

#[test]
fn a_run_passes_only_if_every_point_does() {
    use Verdict::{Fail, Inconclusive, NotTested, Pass};
    let of = |verdicts: &[Verdict]| Summary::of(verdicts.iter().copied());
    let cases: [(&[Verdict], Verdict); 7] = [
        (&[], NotTested),
        (&[Pass, Pass], Pass),
        (&[Pass, NotTested], NotTested),
        (&[Pass, Inconclusive, NotTested], Inconclusive),
        (&[Inconclusive, Fail, Pass, NotTested], Fail),
        (&[NotTested], NotTested),
        (&[Inconclusive], Inconclusive),
    ];
    for (verdicts, whole) in cases {
        assert_eq!(of(verdicts).verdict(), whole, "{verdicts:?}");
        assert_eq!(of(verdicts).total(), verdicts.len());
    }
    let all = of(&[Pass, Pass, Pass, Fail, Fail, Inconclusive, NotTested, NotTested]);
    assert_eq!((all.pass, all.fail, all.inconclusive, all.not_tested), (3, 2, 1, 2));
    assert_eq!(
        [Pass, Fail, Inconclusive, NotTested].map(|v| format!("{v:>12}|")),
        ["        pass|", "        FAIL|", "inconclusive|", "  not tested|"]
    );
}

/// Whatever a value's unit, its key says it, and the text read back is the same number.
#[test]
fn every_dimension_has_its_suffix_and_comes_back() {
    let cases = [
        (Dimension::TIME, "x_s", 0.25),
        (Dimension::CURRENT, "x_a", 2.0),
        (Dimension::VOLTAGE, "x_v", 63.5),
        (Dimension::FREQUENCY, "x_hz", 49.5),
        (Dimension::FREQUENCY_RATE, "x_hz_per_s", -0.5),
        (Dimension::RESISTANCE, "x_ohm", 4.0),
        (Dimension::POWER, "x_va", 2.5),
        (Dimension::TEMPERATURE, "x_k", 293.15),
        (Dimension::AMPERE_SQUARED_SECOND, "x_a2s", 1e4),
        (Dimension::VOLTS_PER_HERTZ, "x_v_per_hz", 2.2),
        (Dimension::NUMBER, "x", 7.0),
    ];
    for (dimension, key, si) in cases {
        let values = Values::none().with_quantity("x", quantity(si, dimension));
        let json = serde_json::to_value(&values).unwrap();
        assert_eq!(json[key], si, "{json}");
        let back: Values = serde_json::from_value(json).unwrap();
        assert_eq!(back, values, "{key}");
    }
    // Angles are told in degrees, shares in percent, both without the last bits of a factor.
    let values = Values::none().with("x", degrees(-120.0)).with_percent("y", 0.07);
    let json = serde_json::to_string(&values).unwrap();
    assert_eq!(json, r#"{"x_deg":-120.0,"y_pct":7.0}"#);
    let back: Values = serde_json::from_str(&json).unwrap();
    assert!(near(back.get("x").unwrap(), -120.0_f64.to_radians()));
    assert!(near(back.get("y").unwrap(), 0.07));
    let many = Values::none().with_percent("y", 12_345_678_901.5);
    assert_eq!(serde_json::to_string(&many).unwrap(), r#"{"y_pct":1234567890150.0}"#);
    assert!(serde_json::from_str::<Values>("[1]").unwrap_err().to_string().contains("unit"));
}

#[test]
fn values_are_found_by_name_and_told_with_their_sign() {
    let values = Values::none()
        .with("time", seconds(-0.4402))
        .with_some("current", Some(amperes(1e-12)))
        .with_some("none", None::<Current>)
        .and(Values::none().with_percent("reset", -0.000_001).with_percent("share", 0.108_7));
    assert_eq!(values.deviation_text(), "-440 ms, +0 A, +0.00 %, +10.87 %");
    assert_eq!(values.get("reset"), Some(-0.000_001));
    assert_eq!(values.get("none"), None);
    assert_eq!(values.text("time").unwrap(), "-440.2 ms");
    assert_eq!(values.column_text("share").unwrap(), "10.87 %");
    assert_eq!(Values::none().with_percent("p", 0.9).column_text("p").unwrap(), "90.00 %");
    assert_eq!(Values::none().with_percent("p", 0.9).text("p").unwrap(), "90 %");
    assert_eq!(values.text("none"), None);
    assert!(!values.is_empty() && Values::none().is_empty());
    let names: Vec<&str> = values.iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["time", "current", "reset", "share"]);
    let at = |si: f64| Value::Plain(quantity(si, Dimension::CURRENT)).deviation_text();
    assert_eq!(
        [at(2e-9), at(-2e-9), at(0.5), at(-0.5)].map(|t| t.starts_with('-')),
        [false, true, false, true]
    );
}

#[test]
fn a_point_reads_the_same_everywhere() {
    let swept = |from: &'static str, to: &'static str| {
        Values::none().with(from, amperes(0.5)).with(to, amperes(2.0))
    };
    let injected = |values: &Values| words::injected(values);
    assert_eq!(injected(&Values::none().with("current", amperes(2.4))).unwrap(), "2.4 A");
    assert_eq!(injected(&swept("from_current", "to_current")).unwrap(), "0.5 A → 2 A");
    assert_eq!(injected(&swept("from", "to")).unwrap(), "0.5 A → 2 A");
    assert_eq!(injected(&Values::none()), None);

    let main = words::main_value;
    let time = Values::none().with("time", seconds(4.0)).with("current", amperes(2.0));
    let operation = Limits::operation(Some(seconds(1.0)), None);
    assert_eq!(main(&time, &operation, false), "4 s");
    assert_eq!(main(&time, &operation, true), "4.000 s");
    assert_eq!(main(&Values::none(), &operation, true), "no trip");
    assert_eq!(main(&Values::none(), &Limits::NoOperation, false), "no trip");
    assert_eq!(main(&Values::none(), &Limits::None, true), "–");

    let (low, high) = (Some(seconds(1.0)), Some(seconds(2.0)));
    let value = |t: Option<Time>| t.map(Value::of);
    let between = |low, high| Limits::Between { lower: value(low), upper: value(high) };
    for limits in [between(low, high), Limits::operation(low, high)] {
        assert_eq!(limits.words().unwrap(), "1.000 s … 2.000 s");
    }
    let permitted = Limits::operation(low, None).words();
    assert_eq!(permitted.unwrap(), "trip permitted after 1.000 s");
    assert_eq!(between(low, None).words().unwrap(), "from 1.000 s");
    for limits in [between(None, high), Limits::operation(None, high)] {
        assert_eq!(limits.words().unwrap(), "up to 2.000 s");
    }
    assert_eq!(Limits::operation(None, None).words().unwrap(), "no trip");
    assert_eq!(Limits::None.words(), None);
}

/// A tolerance's own text: what is not there is not said, and its sides keep their places.
#[test]
fn a_tolerance_is_told_as_it_would_be_written() {
    let told = |text: &str| Tolerance::<Time>::parse(text).unwrap().to_string();
    for text in ["5 %", "40 ms", "5 % or 40 ms", "5 % + 40 ms", "+5 % / -20 ms", "+0 % / -1 %"] {
        assert_eq!(told(text), text);
    }
    assert_eq!(told("0 s"), "0 %");
    assert_eq!(told("-1 % / +5 % + 40 ms"), "+5 % + 40 ms / -1 %");
    assert_eq!(told("−1 % / +5 %"), "+5 % / -1 %");
    let any = AnyTolerance::parse("+2 % / -1 mA", Dimension::CURRENT).unwrap();
    assert!(Tolerance::<Time>::of(any).is_none());
    assert_eq!(Tolerance::<Current>::of(any).unwrap().any(), any);
    let larger = Tolerance::<Voltage>::larger_of(0.05, Voltage::from_si(2.0));
    assert_eq!([10.0, 100.0].map(|v| larger.upper(Voltage::from_si(v)).si()), [12.0, 105.0]);
    assert_eq!(larger.lower(Voltage::from_si(-100.0)).si(), -105.0, "a share is of the size");
}

/// What is refused tells how a tolerance is written, or which unit is missing.
#[test]
fn a_tolerance_that_cannot_be_read_says_the_way_out() {
    let help = |text: &str| Tolerance::<Angle>::parse(text).unwrap_err().help();
    for text in ["-5 %", "+5 %", "+1 % / +2 %", "1 deg or 2 deg"] {
        assert!(help(text).unwrap().contains("`+5 % / -0 %`"), "{text}");
    }
    assert!(!help("5 kg").unwrap_or_default().contains("+5 %"), "a wrong unit is another matter");
}

proptest! {
    /// Simple acceptance is what it says: inside, or not, apart from the last digits.
    #[test]
    fn inside_passes_and_outside_fails(v in -10.0f64..10.0, a in -10.0f64..10.0, b in -10.0f64..10.0) {
        let (lower, upper) = (a.min(b), a.max(b));
        let inside = v >= lower && v <= upper;
        let distance = (v - lower).abs().min((v - upper).abs());
        prop_assume!(distance > 1e-6);
        let judged = judge_limits(Frequency::from_si(v), Frequency::from_si(lower), Frequency::from_si(upper));
        prop_assert_eq!(judged.verdict == Verdict::Pass, inside);
        prop_assert_eq!(judged.verdict == Verdict::Fail, !inside);
    }
}

/// What is only measured is no pass, and hides nothing that is missing.
#[test]
fn what_is_only_measured_counts_neither_for_nor_against() {
    use waltron_core::grading::{Summary, Verdict};
    use waltron_core::record::{Outcome, RunEnded};
    let of = |verdicts: &[Verdict]| Summary::of(verdicts.iter().copied()).verdict();
    use Verdict::{Fail, Inconclusive, Measured, NotTested, Pass};
    assert_eq!(of(&[Measured, Measured]), Measured);
    assert_eq!(of(&[Measured, Pass]), Pass);
    assert_eq!(of(&[Measured, Fail]), Fail);
    assert_eq!(of(&[Measured, Inconclusive]), Inconclusive);
    assert_eq!(of(&[Measured, NotTested]), NotTested);
    assert_eq!(of(&[]), NotTested);
    for (verdict, not_reached, whole) in
        [(Measured, 0, Measured), (Measured, 1, NotTested), (Pass, 1, NotTested), (Fail, 1, Fail)]
    {
        let summary = Summary::of([verdict]);
        let (outcome, injected) = (Outcome::Completed, Default::default());
        let ended = RunEnded {
            outcome,
            summary,
            not_reached,
            open: Vec::new(),
            left_out: Vec::new(),
            owed: Vec::new(),
            injected,
        };
        assert_eq!(ended.verdict(), whole);
    }
}
