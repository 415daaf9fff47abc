//! What the numbers of a step are worth, while it runs and while it is only gone through.

use crate::scene::{Mode, Scene};
use waltron_core::quantity::{Dimension, Quantity, Time, seconds, text};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, Range, Type, Value, evaluate, not_there, wrong_kind};

/// Longest time of a step; beyond it a typing error is likelier than a wish.
const LONGEST_S: f64 = 30.0 * 86_400.0;

/// What is known of a quantity that a step needs.
fn worth(expr: &Expr, wanted: Dimension, scene: &Scene) -> Result<Range, Problem> {
    let value = evaluate(expr, scene)?;
    let sample = Range::exactly(Quantity { si: 1.0, dimension: wanted });
    match value {
        Value::Unknown(Type::Any) => Ok(sample),
        value if value.kind() != Type::Quantity(wanted) && !value.kind().is_any() => {
            Err(wrong_kind(expr, &value.kind(), wanted))
        }
        Value::Missing(missing) => Err(not_there(expr, &missing)),
        value if value.is_unknown() && scene.mode == Mode::Kinds => Ok(sample),
        value => Ok(value.range().unwrap_or(sample)),
    }
}

fn bounded(expr: &Expr, si: f64, side: &str) -> Result<f64, Problem> {
    if si.is_finite() {
        return Ok(si);
    }
    Err(Problem::new(expr.span.clone(), format!("nothing says how {side} this can be"))
        .help("bound what follows from measured values, as in `min(x, 5 s)`, or `most` of the reading in the rig's file"))
}

/// A value that a step needs; the most it can be, where it is not known yet.
pub(crate) fn needed(expr: &Expr, wanted: Dimension, scene: &Scene) -> Result<f64, Problem> {
    most(expr, wanted, scene)
}

/// The most that a value can be.
pub(crate) fn most(expr: &Expr, wanted: Dimension, scene: &Scene) -> Result<f64, Problem> {
    bounded(expr, worth(expr, wanted, scene)?.high, "much")
}

/// The least that a value can be.
pub(crate) fn least(expr: &Expr, wanted: Dimension, scene: &Scene) -> Result<f64, Problem> {
    bounded(expr, worth(expr, wanted, scene)?.low, "little")
}

/// A time above zero; the longest it can be, where it is not known yet.
pub(crate) fn time(expr: &Expr, scene: &Scene) -> Result<Time, Problem> {
    let si = most(expr, Dimension::TIME, scene)?;
    if si > LONGEST_S {
        let message = format!("{} is longer than 30 days", text(seconds(si)));
        return Err(Problem::new(expr.span.clone(), message).help("is the unit right?"));
    }
    if si > 0.0 {
        return Ok(seconds(si));
    }
    Err(Problem::new(
        expr.span.clone(),
        format!("a time must be above zero, this is {}", text(seconds(si))),
    ))
}
