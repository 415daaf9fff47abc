//! The tolerances that a requirement names.

use super::{is_percent, known};
use crate::ast::{Side, Within};
use crate::scene::Scene;
use waltron_core::quantity::Dimension;
use waltron_core::quantity::tolerance::{self, AnyTolerance, Combine};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, ExprKind, Type, evaluate};
use waltron_core::text::name::Name;

/// The tolerance that `within` names; none where it follows from what is measured.
///
/// # Errors
/// Parts of another kind, negative ones, an element that is not there or has no such tolerance.
pub(super) fn tolerance_of(
    within: &Within,
    dimension: Dimension,
    scene: &Scene,
) -> Result<Option<AnyTolerance>, Problem> {
    let (below, above) = match within {
        Within::Of(id, span) => return element_tolerance(id, &span.0, dimension, scene).map(Some),
        Within::Both(both) => {
            let both = side(both, dimension, scene)?;
            (both, both)
        }
        Within::Sides(above, below) => {
            (side(below, dimension, scene)?, side(above, dimension, scene)?)
        }
    };
    Ok(match (below, above) {
        (Some(below), Some(above)) => Some(AnyTolerance { dimension, below, above }),
        _ => None,
    })
}

fn side(
    side: &Side,
    dimension: Dimension,
    scene: &Scene,
) -> Result<Option<tolerance::Side>, Problem> {
    let (parts, combine) = match side {
        Side::One(a) => (vec![a], Combine::Larger),
        Side::Larger(a, b) => (vec![a, b], Combine::Larger),
        Side::Sum(a, b) => (vec![a, b], Combine::Sum),
    };
    let mut read = tolerance::Side { relative: 0.0, absolute: 0.0, combine };
    for part in parts {
        let share = is_percent(part) || (dimension != Dimension::NUMBER && is_number(part, scene));
        let wanted = if share { Dimension::NUMBER } else { dimension };
        let Some(si) = known(part, wanted, scene)? else { return Ok(None) };
        if si < 0.0 {
            return Err(Problem::new(part.span.clone(), "a tolerance cannot be negative"));
        }
        let slot = if share { &mut read.relative } else { &mut read.absolute };
        if *slot != 0.0 {
            return Err(Problem::new(part.span.clone(), "two parts of the same kind")
                .help("write one percentage and one absolute value, as in `5 % or 40 ms`"));
        }
        *slot = si;
    }
    Ok(Some(read))
}

fn is_number(expr: &Expr, scene: &Scene) -> bool {
    // A bare number is not a share: people write `5` and mean either.
    !matches!(expr.kind, ExprKind::Quantity { percent: false, .. })
        && evaluate(expr, scene).is_ok_and(|v| v.kind() == Type::NUMBER)
}

fn element_tolerance(
    id: &Name,
    span: &std::ops::Range<usize>,
    dimension: Dimension,
    scene: &Scene,
) -> Result<AnyTolerance, Problem> {
    let element = scene.context.asset.element(id.as_str());
    let element = element.ok_or_else(|| scene.context.no_element(id, span))?;
    let all = element.tolerances();
    let found = all.iter().find(|(_, tolerance)| tolerance.dimension == dimension);
    found.map(|(_, tolerance)| *tolerance).ok_or_else(|| {
        let what: Vec<String> = all.iter().map(|(of, _)| of.replace('_', " ")).collect();
        Problem::new(span.clone(), format!("{id} has no tolerance for {dimension}"))
            .help(format!("it has tolerances of {}", what.join(", ")))
    })
}
