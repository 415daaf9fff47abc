//! What is known before anything is measured.

use super::super::scene::Scene;
use std::sync::Arc;
use waltron_core::grading::{Limits, Values};
use waltron_core::injection::capability::ParameterKind;
use waltron_core::injection::program::Program;
use waltron_core::procedure::Planned;
use waltron_core::quantity::{Dimension, seconds};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, ExprKind, Names, Piece, Range, Type, Value, evaluate};
use waltron_core::text::name::Name;

/// What is known of a condition before.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Truth {
    /// Whether it holds, if it can be told; `None` where that is not known.
    pub(super) holds: Option<bool>,
    /// Whether it can be told for certain: what is measured may be missing.
    pub(super) is_sure: bool,
}

pub(super) fn truth(condition: &Expr, scene: &Scene) -> Result<Truth, Problem> {
    let holds = match evaluate(condition, scene)? {
        Value::Bool(b) => Some(b),
        Value::Unknown(Type::Bool | Type::Any) => None,
        other => {
            let message = format!("this is {}, but a condition is wanted here", other.kind());
            return Err(Problem::new(condition.span.clone(), message));
        }
    };
    Ok(Truth { holds, is_sure: holds.is_some() && is_sure(condition, scene) })
}

/// Whether nothing in an expression depends on what is measured, which may be missing.
pub(super) fn is_sure(expr: &Expr, scene: &Scene) -> bool {
    match &expr.kind {
        ExprKind::Name(name) => scene.value(name.as_str()).is_some_and(|v| !v.is_unknown()),
        ExprKind::Interval(..) => false,
        ExprKind::Unary(_, inner) => is_sure(inner, scene),
        ExprKind::Binary(_, a, b) => is_sure(a, scene) && is_sure(b, scene),
        ExprKind::Call(name, args) => {
            // A history is measured, whatever it is called.
            !matches!(name.as_str(), "mean" | "lowest" | "highest" | "count")
                && args.iter().all(|arg| is_sure(arg, scene) || name == "curve")
        }
        ExprKind::List(items) => items.iter().all(|item| is_sure(item, scene)),
        _ => true,
    }
}

/// What a parameter may be set to: what is known of the value, within what the parameter takes, since
/// anything else is refused when it is due.
pub(super) fn settable(value: &Value, parameter: &Name, scene: &Scene) -> Range {
    let kind = scene.context.capability.parameter(parameter.as_str()).map(|p| p.kind);
    let (most, dimension) = match kind {
        Some(ParameterKind::Quantity { most, dimension }) => (most, dimension),
        _ => (f64::INFINITY, Dimension::NUMBER),
    };
    let known = value.range().unwrap_or(Range { low: -most, high: most, dimension });
    Range { low: known.low.clamp(-most, most), high: known.high.clamp(-most, most), dimension }
}

/// Whether a text is known, with all that it tells of values.
pub(super) fn is_known_text(text: &Expr, scene: &Scene) -> Result<bool, Problem> {
    let ExprKind::Text(pieces) = &text.kind else {
        return Ok(!evaluate(text, scene)?.is_unknown());
    };
    for piece in pieces {
        if let Piece::Value(expr) = piece
            && evaluate(expr, scene)?.is_unknown()
        {
            return Ok(false);
        }
    }
    Ok(true)
}

/// A planned entry that injects nothing.
pub(super) fn nothing() -> Planned {
    Planned {
        points: Vec::new(),
        stimulus: Values::none(),
        expected: Values::none(),
        limits: Limits::None,
        program: Arc::<Program>::default(),
        likely: seconds(0.0),
        place: None,
        not_tested: None,
        is_exact: true,
        also: Vec::new(),
    }
}
