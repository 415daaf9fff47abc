//! The functions that need nothing but their arguments.

use super::value::{PhasorValue, Value};
use crate::quantity::Measure;
use crate::quantity::{Dimension, Quantity, degrees};

/// Names of the functions that every expression may call, with what they take.
pub const FUNCTIONS: [(&str, &str); 18] = [
    ("sqrt", "sqrt(x)"),
    ("abs", "abs(x)"),
    ("min", "min(a, b, …)"),
    ("max", "max(a, b, …)"),
    ("sin", "sin(angle)"),
    ("cos", "cos(angle)"),
    ("tan", "tan(angle)"),
    ("acos", "acos(number)"),
    ("exp", "exp(number)"),
    ("ln", "ln(number)"),
    ("round", "round(number)"),
    ("rms", "rms(phasor)"),
    ("angle", "angle(phasor)"),
    ("balanced", "balanced(magnitude or phasor of phase A)"),
    ("phases", "phases(a, b, c)"),
    ("positive", "positive(three phasors)"),
    ("negative", "negative(three phasors)"),
    ("residual", "residual(three phasors)"),
];

/// Calls a function with known arguments.
///
/// # Errors
/// What is wrong with the arguments, as the end of a sentence that starts with the function's name.
pub(super) fn call(name: &str, args: &[Value]) -> Result<Value, String> {
    let usage = FUNCTIONS.iter().find(|(n, _)| *n == name).map_or("", |(_, usage)| usage);
    let one = || match args {
        [value] => Ok(value),
        _ => Err(format!("takes {usage}")),
    };
    let wrong = |value: &Value| format!("takes {usage}, not {}", value.kind());
    let number = || match one()? {
        Value::Quantity(q) if q.dimension == Dimension::NUMBER => Ok(q.si),
        other => Err(wrong(other)),
    };
    let angle = || match one()? {
        Value::Quantity(q) if q.dimension == Dimension::ANGLE => Ok(q.si),
        other => Err(wrong(other)),
    };
    let finite = |x: f64, what: &str| {
        if x.is_finite() { Ok(Value::number(x)) } else { Err(format!("of {what} has no value")) }
    };
    Ok(match name {
        "sqrt" => match one()? {
            Value::Quantity(q) if q.si < 0.0 => return Err(format!("of {q}, which is negative")),
            Value::Quantity(q) => match root(q.dimension) {
                Some(dimension) => Quantity { si: q.si.sqrt(), dimension }.into(),
                None => return Err(format!("of {} has no unit", q.dimension)),
            },
            other => return Err(wrong(other)),
        },
        "abs" => match one()? {
            Value::Quantity(q) => Quantity { si: q.si.abs(), ..*q }.into(),
            Value::Phasor(p) => Quantity { si: p.rms, dimension: p.dimension }.into(),
            other => return Err(wrong(other)),
        },
        "rms" => match one()? {
            Value::Phasor(p) => Quantity { si: p.rms, dimension: p.dimension }.into(),
            other => return Err(wrong(other)),
        },
        "angle" => match one()? {
            Value::Phasor(p) => Quantity { si: p.angle, dimension: Dimension::ANGLE }.into(),
            other => return Err(wrong(other)),
        },
        "min" | "max" => extreme(name == "max", args, usage)?,
        "sin" => Value::number(angle()?.sin()),
        "cos" => Value::number(angle()?.cos()),
        "tan" => Value::number(angle()?.tan()),
        "acos" => match number()?.acos() {
            x if x.is_finite() => Quantity { si: x, dimension: Dimension::ANGLE }.into(),
            _ => return Err("takes a number from -1 to 1".to_owned()),
        },
        "exp" => finite(number()?.exp(), "so large a number")?,
        "ln" => finite(number()?.ln(), "zero or a negative number")?,
        "round" => Value::number(number()?.round()),
        "balanced" => {
            let first = match one()? {
                Value::Quantity(q) => upright(*q)?,
                Value::Phasor(p) => *p,
                other => return Err(wrong(other)),
            };
            let turned = |by: f64| PhasorValue { angle: first.angle + degrees(by).si(), ..first };
            Value::Phases([first, turned(-120.0), turned(120.0)])
        }
        "phases" => match args {
            [a, b, c] => {
                let phasor = |v: &Value| match v {
                    Value::Quantity(q) => upright(*q),
                    Value::Phasor(p) => Ok(*p),
                    other => Err(wrong(other)),
                };
                let all = [phasor(a)?, phasor(b)?, phasor(c)?];
                if all.iter().any(|p| p.dimension != all[0].dimension) {
                    return Err("takes three phasors of one kind".to_owned());
                }
                Value::Phases(all)
            }
            _ => return Err(format!("takes {usage}")),
        },
        "positive" | "negative" | "residual" => match one()? {
            Value::Phases(p) => {
                let s = crate::quantity::phasor::Sequence::of(p.map(PhasorValue::complex));
                let component = match name {
                    "positive" => s.positive,
                    "negative" => s.negative,
                    _ => s.zero * 3.0,
                };
                Value::Phasor(PhasorValue::of(component, p[0].dimension))
            }
            other => return Err(wrong(other)),
        },
        _ => return Err("is no function".to_owned()),
    })
}

fn upright(q: Quantity) -> Result<PhasorValue, String> {
    PhasorValue::upright(q).ok_or_else(|| format!("of {q}: a magnitude is not negative"))
}

fn extreme(largest: bool, args: &[Value], usage: &str) -> Result<Value, String> {
    let items: &[Value] = match args {
        [Value::List(items)] => items,
        items => items,
    };
    let Some(first) = items.first() else { return Err(format!("takes {usage}")) };
    let mut best = match first {
        Value::Quantity(q) => *q,
        other => return Err(format!("takes {usage}, not {}", other.kind())),
    };
    for item in items {
        match item {
            Value::Quantity(q) if q.dimension == best.dimension => {
                if (q.si > best.si) == largest {
                    best = *q;
                }
            }
            other => return Err(format!("compares {} with {}", first.kind(), other.kind())),
        }
    }
    Ok(best.into())
}

/// The dimension whose square is this one.
fn root(dimension: Dimension) -> Option<Dimension> {
    let exponents = dimension.exponents();
    if exponents.iter().any(|e| e % 2 != 0) {
        return None;
    }
    let [a, v, s, r, k] = exponents.map(|e| e / 2);
    Some(Dimension::new(a, v, s, r, k))
}
