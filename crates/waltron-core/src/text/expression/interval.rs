//! What arithmetic gives for values that are known within bounds only.
//!
//! Every result holds whatever the operation can give for values within the operands' bounds; where
//! that cannot be said, it has none.

use super::ast::Binary;
use super::value::{Range, Type, Value};

type Bounds = (f64, f64);

const ALL: Bounds = (f64::NEG_INFINITY, f64::INFINITY);

/// The smallest bounds around some values; none where one of them is no number (∞ − ∞, 0 · ∞).
fn around(values: &[f64]) -> Bounds {
    if values.iter().any(|v| v.is_nan()) {
        return ALL;
    }
    let low = values.iter().copied().fold(f64::INFINITY, f64::min);
    let high = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    (low, high)
}

fn contains_zero((low, high): Bounds) -> bool {
    low <= 0.0 && high >= 0.0
}

fn corners(a: Bounds, b: Bounds, f: impl Fn(f64, f64) -> f64) -> Bounds {
    around(&[f(a.0, b.0), f(a.0, b.1), f(a.1, b.0), f(a.1, b.1)])
}

/// The value of an operation whose kind is known.
pub(super) fn binary(op: Binary, left: &Value, right: &Value, kind: Type) -> Value {
    if let Type::Quantity(dimension) = kind
        && let (Some(a), Some(b)) = (left.range(), right.range())
    {
        let (a, b) = ((a.low, a.high), (b.low, b.high));
        let (low, high) = match op {
            Binary::Add => around(&[a.0 + b.0, a.1 + b.1]),
            Binary::Subtract => around(&[a.0 - b.1, a.1 - b.0]),
            Binary::Multiply => corners(a, b, |x, y| x * y),
            Binary::Divide if !contains_zero(b) => corners(a, b, |x, y| x / y),
            Binary::Power => power(a, b),
            _ => ALL,
        };
        return Value::Range(Range { low, high, dimension });
    }
    if kind == Type::Bool && op.compares() {
        return compare(op, left, right).map_or(Value::Unknown(kind), Value::Bool);
    }
    let most = match (op, left.most(), right.most()) {
        (Binary::At, Some(a), _) => a,
        (Binary::Add | Binary::Subtract, Some(a), Some(b)) => a + b,
        (Binary::Multiply, Some(a), Some(b)) if !(a * b).is_nan() => a * b,
        (Binary::Divide, Some(a), _) => match right.range() {
            Some(b) if !contains_zero((b.low, b.high)) => a / b.low.abs().min(b.high.abs()),
            _ => f64::INFINITY,
        },
        _ => f64::INFINITY,
    };
    match kind {
        Type::Phasor(_) | Type::Phases(_) => Value::Bounded(kind, most),
        kind => Value::later(kind),
    }
}

/// Whether a comparison holds for all values within the bounds, or for none.
fn compare(op: Binary, left: &Value, right: &Value) -> Option<bool> {
    let (a, b) = (left.range()?, right.range()?);
    let (never_less, less) = (a.low >= b.high, a.high < b.low);
    let (never_more, more) = (a.high <= b.low, a.low > b.high);
    match op {
        Binary::Less if less => Some(true),
        Binary::Less if never_less => Some(false),
        Binary::GreaterEqual if never_less => Some(true),
        Binary::GreaterEqual if less => Some(false),
        Binary::Greater if more => Some(true),
        Binary::Greater if never_more => Some(false),
        Binary::LessEqual if never_more => Some(true),
        Binary::LessEqual if more => Some(false),
        Binary::Equal if less || more => Some(false),
        Binary::NotEqual if less || more => Some(true),
        _ => None,
    }
}

fn power(base: Bounds, exponent: Bounds) -> Bounds {
    if exponent.0 != exponent.1 {
        return if base.0 > 0.0 { corners(base, exponent, f64::powf) } else { ALL };
    }
    let n = exponent.0;
    let ends = around(&[base.0.powf(n), base.1.powf(n)]);
    match (contains_zero(base), n > 0.0) {
        // An even power has its lowest value at zero.
        (true, true) if n.fract() == 0.0 => around(&[ends.0, ends.1, 0.0]),
        (false, _) if base.0 > 0.0 || n.fract() == 0.0 => ends,
        _ => ALL,
    }
}

/// The negative of a value whose kind is known.
pub(super) fn negative(value: &Value, kind: Type) -> Value {
    match (value.range(), value.most()) {
        (Some(r), _) => Value::Range(Range { low: -r.high, high: -r.low, ..r }),
        (None, Some(most)) => Value::Bounded(kind, most),
        _ => Value::later(kind),
    }
}

/// The value of a function whose kind is known.
pub(super) fn call(name: &str, args: &[Value], kind: Type) -> Value {
    let items: &[Value] = match args {
        [Value::List(items)] => items,
        args => args,
    };
    let ranges: Option<Vec<Range>> = items.iter().map(Value::range).collect();
    let one = ranges.as_ref().and_then(|r| r.first()).map_or(ALL, |r| (r.low, r.high));
    let rising = |f: fn(f64) -> f64| around(&[f(one.0), f(one.1)]);
    let bounds = match (name, &ranges) {
        ("min" | "max", Some(all)) if !all.is_empty() => {
            let pick = if name == "min" { f64::min } else { f64::max };
            let fold = |f: fn(&Range) -> f64| all.iter().map(f).reduce(pick).unwrap_or(f64::NAN);
            (fold(|r| r.low), fold(|r| r.high))
        }
        ("abs", Some(_)) => {
            let ends = around(&[one.0.abs(), one.1.abs()]);
            if contains_zero(one) { (0.0, ends.1) } else { ends }
        }
        ("abs" | "rms", None) => {
            (0.0, items.first().and_then(Value::most).unwrap_or(f64::INFINITY))
        }
        ("sqrt", _) => (one.0.max(0.0).sqrt(), one.1.max(0.0).sqrt()),
        ("exp", _) => rising(f64::exp),
        ("round", _) => rising(f64::round),
        ("ln", _) if one.0 > 0.0 => rising(f64::ln),
        ("sin" | "cos", _) => (-1.0, 1.0),
        ("acos", _) => (0.0, std::f64::consts::PI),
        _ => ALL,
    };
    let largest = || items.iter().filter_map(Value::most).fold(0.0, f64::max);
    match kind {
        Type::Quantity(dimension) => {
            Value::Range(Range { low: bounds.0, high: bounds.1, dimension })
        }
        Type::Phasor(_) | Type::Phases(_) => {
            let factor = if name == "residual" { 3.0 } else { 1.0 };
            Value::Bounded(kind, factor * largest())
        }
        kind => Value::later(kind),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{Dimension, Quantity};
    use proptest::prelude::*;

    fn number() -> impl Strategy<Value = f64> {
        prop_oneof![Just(0.0), Just(1.0), Just(-1.0), -50.0f64..50.0, -0.1f64..0.1]
    }

    /// Bounds with a place between them.
    fn between() -> impl Strategy<Value = (Bounds, f64)> {
        (number(), number(), 0.0f64..=1.0).prop_map(|(a, b, share)| {
            let (low, high) = (a.min(b), a.max(b));
            ((low, high), (low + (high - low) * share).clamp(low, high))
        })
    }

    fn range((low, high): Bounds) -> Value {
        Value::Range(Range { low, high, dimension: Dimension::NUMBER })
    }

    fn inside(value: &Value, exact: f64) -> bool {
        let Some(range) = value.range() else { return false };
        let slack = 1e-9 * exact.abs().max(1.0);
        exact.is_nan() || (range.low - slack <= exact && exact <= range.high + slack)
    }

    proptest! {
        /// Whatever two values are within their bounds, the result is within its own.
        #[test]
        fn results_stay_within_their_bounds((a, x) in between(), (b, y) in between(), n in 0i32..4) {
            let of = |op, left: Bounds, right: Bounds| binary(op, &range(left), &range(right), Type::NUMBER);
            prop_assert!(inside(&of(Binary::Add, a, b), x + y));
            prop_assert!(inside(&of(Binary::Subtract, a, b), x - y));
            prop_assert!(inside(&of(Binary::Multiply, a, b), x * y));
            prop_assert!(inside(&of(Binary::Divide, a, b), x / y));
            let n = f64::from(n);
            prop_assert!(inside(&of(Binary::Power, a, (n, n)), x.powf(n)), "{x} in {a:?} to the {n}");
            prop_assert!(inside(&negative(&range(a), Type::NUMBER), -x));
            let call_of = |name: &str, args: &[Bounds]| {
                let args: Vec<Value> = args.iter().map(|b| range(*b)).collect();
                call(name, &args, Type::NUMBER)
            };
            prop_assert!(inside(&call_of("abs", &[a]), x.abs()));
            prop_assert!(inside(&call_of("min", &[a, b]), x.min(y)));
            prop_assert!(inside(&call_of("max", &[a, b]), x.max(y)));
            prop_assert!(inside(&call_of("exp", &[a]), x.exp()));
            prop_assert!(inside(&call_of("round", &[a]), x.round()));
            prop_assert!(inside(&call_of("sin", &[a]), x.sin()) && inside(&call_of("cos", &[a]), x.cos()));
            if x >= 0.0 {
                prop_assert!(inside(&call_of("sqrt", &[a]), x.sqrt()));
                prop_assert!(inside(&call_of("ln", &[a]), x.ln()));
            }
        }

        /// What is said of a comparison holds for every value within the bounds.
        #[test]
        fn comparisons_that_are_told_hold((a, x) in between(), (b, y) in between()) {
            let cases = [
                (Binary::Less, x < y),
                (Binary::LessEqual, x <= y),
                (Binary::Greater, x > y),
                (Binary::GreaterEqual, x >= y),
                (Binary::Equal, x == y),
                (Binary::NotEqual, x != y),
            ];
            for (op, holds) in cases {
                if let Value::Bool(told) = binary(op, &range(a), &range(b), Type::Bool) {
                    prop_assert_eq!(told, holds, "{:?} of {} and {}", op, x, y);
                }
            }
        }
    }

    /// A phasor's bound is that of its magnitude, whatever its angle.
    #[test]
    fn bounds_of_phasors_are_of_their_magnitudes() {
        let kind = Type::Phasor(Dimension::CURRENT);
        let bounded = |most| Value::Bounded(kind.clone(), most);
        let two = Value::Quantity(Quantity::number(-2.0));
        assert_eq!(
            binary(Binary::Add, &bounded(3.0), &bounded(4.0), kind.clone()).most(),
            Some(7.0)
        );
        assert_eq!(binary(Binary::Multiply, &bounded(3.0), &two, kind.clone()).most(), Some(6.0));
        let share = range((0.5, 2.0));
        assert_eq!(binary(Binary::Divide, &bounded(3.0), &share, kind.clone()).most(), Some(6.0));
        let through_zero = range((-0.5, 2.0));
        let unbounded = binary(Binary::Divide, &bounded(3.0), &through_zero, kind.clone());
        assert_eq!(unbounded.most(), Some(f64::INFINITY));
    }
}
