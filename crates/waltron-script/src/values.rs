//! Values that statements work out before anything is put out: ranges, parameters.

use super::ast::SetValue;
use super::build::needed;
use super::scene::Scene;
use waltron_core::injection::capability::{ParameterKind, ParameterValue};
use waltron_core::quantity::Quantity;
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, Type, Value, evaluate, not_there, wrong_kind};
use waltron_core::text::name::Name;

/// The values of `from … to … by …`.
pub(super) fn range(
    from: &Expr,
    to: &Expr,
    by: &Expr,
    scene: &Scene,
) -> Result<Vec<Value>, Problem> {
    let first = evaluate(from, scene)?;
    let first = match (&first, first.kind()) {
        (Value::Missing(missing), _) => return Err(not_there(from, missing)),
        (value, Type::Quantity(dimension)) => {
            value.quantity().unwrap_or(Quantity { si: 1.0, dimension })
        }
        (_, Type::Any) => Quantity::number(1.0),
        (_, other) => {
            let message = format!("a loop runs over quantities, not {other}");
            return Err(Problem::new(from.span.clone(), message));
        }
    };
    let (last, step) = (needed(to, first.dimension, scene)?, needed(by, first.dimension, scene)?);
    if step == 0.0 {
        return Err(Problem::new(by.span.clone(), "a step of zero never arrives"));
    }
    if step < 0.0 && last > first.si {
        return Err(Problem::new(by.span.clone(), "the step goes down, but the loop goes up")
            .help("leave the sign out: the direction follows from the two ends"));
    }
    let count = ((last - first.si).abs() / step.abs() + 1e-9).floor();
    if count > 100_000.0 {
        return Err(Problem::new(by.span.clone(), format!("this loop has {count} rounds"))
            .help("take a larger step"));
    }
    let signed = if last < first.si { -step.abs() } else { step.abs() };
    let value = |k: u32| Value::from(Quantity { si: first.si + signed * f64::from(k), ..first });
    Ok((0..=count as u32).map(value).collect())
}

/// What a parameter is set to, checked against what it takes.
pub(super) fn parameter_value(
    name: &Name,
    value: &SetValue,
    at: &std::ops::Range<usize>,
    scene: &Scene,
) -> Result<ParameterValue, Problem> {
    let capability = &scene.context.capability;
    let Some(parameter) = capability.parameter(name.as_str()) else {
        let known = || capability.parameters.iter().map(|p| p.name.as_str());
        let near = waltron_core::text::name::nearest(name.as_str(), known());
        let all = || match known().collect::<Vec<_>>() {
            none if none.is_empty() => "its file lists no [[parameter]]".to_owned(),
            some => format!("parameters are {}", some.join(", ")),
        };
        return Err(Problem::new(at.clone(), format!("the rig has no parameter `{name}`"))
            .did_you_mean(near, all));
    };
    match (parameter.kind, value) {
        (ParameterKind::Switch, SetValue::Switch(on)) => Ok(ParameterValue::Switch(*on)),
        (ParameterKind::Switch, SetValue::Value(expr)) => {
            Err(Problem::new(expr.span.clone(), format!("`{name}` is switched `on` or `off`")))
        }
        (ParameterKind::Quantity { dimension, .. }, SetValue::Switch(_)) => {
            Err(Problem::new(at.clone(), format!("`{name}` takes {dimension}, not a switch")))
        }
        (ParameterKind::Quantity { dimension, most }, SetValue::Value(expr)) => {
            let worth = evaluate(expr, scene)?;
            if let Value::Missing(missing) = &worth {
                return Err(not_there(expr, missing));
            }
            if worth.kind() != Type::Quantity(dimension) && !worth.kind().is_any() {
                return Err(wrong_kind(expr, &worth.kind(), dimension));
            }
            // What is not known before is refused when it is due, if it is too much.
            let si = worth.quantity().map(|q| q.si).unwrap_or_default();
            if si.abs() > most {
                let (limit, si) = (Quantity { si: most, dimension }, Quantity { si, dimension });
                let message = format!("{si} is more than `{name}` may be set to, {limit}");
                return Err(Problem::new(expr.span.clone(), message));
            }
            Ok(ParameterValue::Si(si))
        }
    }
}
