use super::*;
use proptest::prelude::*;

#[test]
fn reads_what_people_write() {
    let cases: &[(&str, f64, Dimension)] = &[
        ("5 A", 5.0, Dimension::CURRENT),
        ("5A", 5.0, Dimension::CURRENT),
        ("20 us", 20e-6, Dimension::TIME),
        ("20 µs", 20e-6, Dimension::TIME),
        ("-120 deg", -2.094_395_102_393_195_3, Dimension::ANGLE),
        ("30°", 0.523_598_775_598_298_8, Dimension::ANGLE),
        ("0.4 Hz/s", 0.4, Dimension::FREQUENCY_RATE),
        ("0.5 %", 0.005, Dimension::NUMBER),
        ("1.5 x", 1.5, Dimension::NUMBER),
        ("2 min", 120.0, Dimension::TIME),
        ("12 kΩ", 12e3, Dimension::RESISTANCE),
        ("10 VA", 10.0, Dimension::POWER),
        ("1e-3 A", 1e-3, Dimension::CURRENT),
        ("2.2 V/Hz", 2.2, Dimension::VOLTS_PER_HERTZ),
        ("400 A/s", 400.0, Dimension::CURRENT_RATE),
        ("1.2 kA/ms", 1.2e6, Dimension::CURRENT_RATE),
        ("40 uH", 40e-6, Dimension::INDUCTANCE),
        ("6.4 nF", 6.4e-9, Dimension::CAPACITANCE),
        ("0.9 eV", 0.9 * 1.602_176_634e-19, Dimension::ENERGY),
        ("  .5 kV ", 500.0, Dimension::VOLTAGE),
    ];
    for (text, si, dimension) in cases {
        let read = Quantity::parse(text).unwrap();
        assert!((read.si - si).abs() <= 1e-12 * si.abs(), "{text} read as {}", read.si);
        assert_eq!(read.dimension, *dimension, "{text}");
    }
}

#[test]
fn refuses_with_a_way_out() {
    let message = |text: &str| {
        let e = parse::<Current>(text).unwrap_err();
        format!("{e}; {}", e.help().unwrap_or_default())
    };
    assert!(message("NaN A").contains("not a finite number"));
    assert!(message("-inf A").contains("not a finite number"));
    assert!(message("1e999 A").contains("not a finite number"));
    assert!(message("1,2 A").contains("`1.2 A`"));
    assert!(message("1.2").contains("no unit"));
    assert!(message("1.2 a").contains("did you mean `A`"));
    assert!(message("1.2 amps").contains("did you mean `A`"));
    assert!(message("1.2 mAA").contains("did you mean `mA`"));
    assert!(message("200 ms").contains("is a time, but a current is wanted"));
    assert!(message("5 %").contains("is a plain number, but a current is wanted"));
    assert!(message("").contains("does not start with a number"));
    assert!(message(".").contains("does not start with a number"));
    assert!(parse::<Time>("200 mS").unwrap_err().help().unwrap().contains("`ms`"));
}

#[test]
fn writes_few_digits_with_a_fitting_prefix() {
    assert_eq!(text(amperes(2.4)), "2.4 A");
    assert_eq!(text(amperes(0.012)), "12 mA");
    assert_eq!(text(seconds(0.040_4)), "40.4 ms");
    assert_eq!(text(seconds(4.050_01)), "4.05 s");
    assert_eq!(text(degrees(-120.0)), "-120 deg");
    assert_eq!(significant(9.999_96, 4), "10");
    assert_eq!(significant(0.0, 4), "0");
    // The same time, worked out in two ways that differ in the last bit.
    for time in [1.0125, 1.0125_f64.next_down(), 4.05 / 4.0, 0.3 * 13.5 / 4.0] {
        assert_eq!(text(seconds(time)), "1.013 s");
        assert_eq!(text(seconds(-time)), "-1.013 s");
    }
    assert_eq!(significant(123_456.0, 4), "123456");
}

proptest! {
    /// Text that the program writes reads back to the same value, for every typed quantity.
    #[test]
    fn exact_text_round_trips(mantissa in -9.99f64..9.99, exponent in -5i32..5) {
        let value = mantissa * 10f64.powi(exponent);
        fn back<Q: Measure>(value: f64) -> f64 { parse::<Q>(&exact(Q::from_si(value))).unwrap().si() }
        let bound = 1e-10 * value.abs();
        prop_assert!((back::<Current>(value) - value).abs() <= bound);
        prop_assert!((back::<Voltage>(value) - value).abs() <= bound);
        prop_assert!((back::<Time>(value) - value).abs() <= bound);
        prop_assert!((back::<Angle>(value) - value).abs() <= bound);
        prop_assert!((back::<Frequency>(value) - value).abs() <= bound);
        prop_assert!((back::<Ratio>(value) - value).abs() <= bound);
    }

    /// Arbitrary text never panics.
    #[test]
    fn any_text_is_read_or_refused(text in "\\PC{0,24}") {
        let _ = Quantity::parse(&text);
    }
}
