use super::*;
use crate::quantity::{Dimension, Quantity};
use proptest::prelude::*;

struct Bench;

impl Names for Bench {
    fn value(&self, path: &str) -> Option<Value> {
        let q = |si, dimension| Some(Value::Quantity(Quantity { si, dimension }));
        match path {
            "51P.pickup" => q(1.2, Dimension::CURRENT),
            "46.pickup" => q(0.8, Dimension::CURRENT),
            "51V.pickup" => q(110.0, Dimension::VOLTAGE),
            "nominal.voltage" => q(110.0, Dimension::VOLTAGE),
            "m" => q(2.0, Dimension::NUMBER),
            "later" => Some(Value::Unknown(Type::Quantity(Dimension::CURRENT))),
            _ => None,
        }
    }
    fn known(&self) -> Vec<String> {
        ["51P.pickup", "nominal.voltage", "m"].map(str::to_owned).to_vec()
    }
}

fn value(text: &str) -> Result<Value, String> {
    let problem = |p: crate::text::document::Problem| {
        format!("{} | {}", p.message, p.help.unwrap_or_default())
    };
    evaluate(&parse(text).map_err(problem)?, &Bench).map_err(problem)
}

fn si(text: &str) -> (f64, Dimension) {
    let q = value(text).unwrap_or_else(|e| panic!("{text}: {e}"));
    let q = q.quantity().unwrap_or_else(|| panic!("{text} is {q:?}"));
    (q.si, q.dimension)
}

#[test]
fn quantities_keep_their_dimension_through_arithmetic() {
    let cases = [
        ("1.1 * 51P.pickup", 1.32, Dimension::CURRENT),
        ("51V.pickup", 110.0, Dimension::VOLTAGE),
        ("2 * 46.pickup + 1.5 A", 3.1, Dimension::CURRENT),
        ("5A + 20 mA", 5.02, Dimension::CURRENT),
        ("nominal.voltage / sqrt(3)", 63.508_529_610_858_83, Dimension::VOLTAGE),
        ("110 V / 5 A", 22.0, Dimension::RESISTANCE),
        ("sqrt(16 V * 4 V)", 8.0, Dimension::VOLTAGE),
        ("(3 A)^2 * 2 s", 18.0, Dimension::AMPERE_SQUARED_SECOND),
        ("0.4 Hz/s * 5 s", 2.0, Dimension::FREQUENCY),
        ("-2 ^ 2", -4.0, Dimension::NUMBER),
        ("1 + 2 * 3 - 4 / 2", 5.0, Dimension::NUMBER),
        ("min(3 A, 200 mA, 1 A)", 0.2, Dimension::CURRENT),
        ("max([1, 5, 2])", 5.0, Dimension::NUMBER),
        ("sin(30 deg) + cos(60 deg)", 1.0, Dimension::NUMBER),
        ("ln(exp(2))", 2.0, Dimension::NUMBER),
        ("abs(3 A @ 90 deg + 4 A @ 0 deg)", 5.0, Dimension::CURRENT),
        ("angle(m * 2 A @ -120 deg)", -120f64.to_radians(), Dimension::ANGLE),
        ("rms(negative(phases(3 A, 0 A, 0 A)))", 1.0, Dimension::CURRENT),
        ("rms(residual(balanced(3 A)))", 0.0, Dimension::CURRENT),
        ("abs((10 V @ 30 deg) / (2 A @ -15 deg))", 5.0, Dimension::RESISTANCE),
    ];
    for (text, expected, dimension) in cases {
        let (found, of) = si(text);
        assert!((found - expected).abs() < 1e-9 && of == dimension, "{text}: {found} {of}");
    }
    assert_eq!(value("not (1 A > 2 A) and 3 == 3"), Ok(Value::Bool(true)));
    assert_eq!(value("\"at {m * 1 A} {{x}}\""), Ok(Value::Text("at 2 A {x}".into())));
}

#[test]
fn mistakes_name_both_sides_and_a_way_out() {
    let cases = [
        ("1 A + 2 s", "a current and a time cannot be added"),
        ("51P.pickup > 3 V", "a current cannot be compared with a voltage"),
        ("later + 1 s", "a current and a time cannot be added"),
        ("1 A / (m - 2)", "division by zero"),
        ("later / 0", "division by zero"),
        ("51P.pikup", "nothing is called `51P.pikup` | did you mean `51P.pickup`?"),
        ("5 amps", "unknown unit `amps` | did you mean `A`?"),
        ("sqrt(-4)", "`sqrt` of -4, which is negative"),
        ("sqrt(2 A)", "`sqrt` of a current has no unit"),
        ("sine(3)", "there is no function `sine`"),
        ("sin(3)", "`sin` takes sin(angle), not a plain number"),
        ("max(2,5 A)", "`max` compares a plain number with a current"),
        ("2,5 A", "decimal point"),
        ("1 < 2 < 3", "cannot be chained"),
        ("(1 + 2", "the line ends here"),
        ("1e999", "too large"),
        ("10^400", "has no value"),
        ("\"open", "no closing"),
        ("3 § 4", "means nothing here"),
        ("[1 A, 2 V]", "a list that begins with a current cannot hold a voltage"),
        ("time(inception -> trip)", "in sequences only"),
    ];
    for (text, message) in cases {
        let error = value(text).expect_err(text);
        assert!(error.contains(message), "{text}: {error}");
    }
    // However deep or long, it is refused before anything goes through it.
    for text in ["(", "-", "not ", "1^", "[", "abs(", "2 * (", "1^-"] {
        let error = value(&text.repeat(10_000)).unwrap_err();
        assert!(error.contains("too deeply"), "{text}: {error}");
    }
    for text in ["1 + ", "1 / ", "true and ", "1 A @ "] {
        let error = value(&format!("{}1", text.repeat(10_000))).unwrap_err();
        assert!(error.contains("too many parts"), "{text}: {error}");
    }
    assert_eq!(si(&format!("{}1", "1 + ".repeat(200))).0, 201.0);
}

#[test]
fn what_is_measured_later_has_a_type_already() {
    let kind = |text: &str| value(text).unwrap().kind();
    assert_eq!(kind("later * 2"), Type::Quantity(Dimension::CURRENT));
    assert_eq!(kind("10 V / later"), Type::Quantity(Dimension::RESISTANCE));
    assert_eq!(kind("later > 1 A or false"), Type::Bool);
    assert_eq!(kind("max(later, 3 A)"), Type::Quantity(Dimension::CURRENT));
}

proptest! {
    /// Whatever stands in a file: an answer or a complaint.
    #[test]
    fn any_text_is_survived(text in "\\PC{0,60}") {
        let _ = value(&text);
    }

    #[test]
    fn any_tokens_are_survived(words in proptest::collection::vec(
        prop_oneof!["[-+*/^@()<>=,.\\[\\]]", "[0-9]{1,3}( ?(A|ms|V|%))?", "m|later|not|and|or|sqrt\\(|51P.pickup|time\\("], 0..30)) {
        let _ = value(&words.join(" "));
    }

    #[test]
    fn addition_and_precedence_follow_arithmetic(a in -1e3f64..1e3, b in -1e3f64..1e3, c in 1e-3f64..1e3) {
        let (found, _) = si(&format!("({a}) * 1 A + ({b}) * 1 A / {c}"));
        prop_assert!((found - (a + b / c)).abs() <= 1e-9 * (1.0 + (b / c).abs()));
    }
}
