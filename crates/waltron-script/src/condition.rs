//! From the words of an `until` or a `guard` to conditions that the rig watches.

use super::context::Context;
use waltron_core::injection::program::{Condition, Relation};
use waltron_core::quantity::{Dimension, Measure, Time};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{
    Binary, Expr, ExprKind, Names, Type, Unary, Value, evaluate, not_there, quantity,
};

/// The rig's form of a condition. Limits that are not known yet, which happens while a script is
/// only gone through, stand as one that is never reached.
///
/// # Errors
/// What does not depend on anything measured, kinds that do not fit, names that are not known.
pub(super) fn condition(
    expr: &Expr,
    context: &Context,
    names: &dyn Names,
) -> Result<Condition, Problem> {
    build(expr, false, context, names)
}

fn build(
    expr: &Expr,
    negated: bool,
    context: &Context,
    names: &dyn Names,
) -> Result<Condition, Problem> {
    match &expr.kind {
        ExprKind::Unary(Unary::Not, inner) => build(inner, !negated, context, names),
        ExprKind::Binary(op @ (Binary::And | Binary::Or), left, right) => {
            let parts =
                vec![build(left, negated, context, names)?, build(right, negated, context, names)?];
            // What is denied changes `and` into `or` (De Morgan).
            Ok(if (*op == Binary::And) != negated {
                Condition::All(parts)
            } else {
                Condition::Any(parts)
            })
        }
        ExprKind::Binary(op, left, right) if op.compares() => {
            comparison(expr, *op, left, right, negated, context, names)
        }
        ExprKind::Name(name) if context.is_contact(name.as_str()) => {
            Ok(Condition::Contact { signal: name.clone(), closed: !negated })
        }
        ExprKind::Call(name, args) if matches!(name.as_str(), "closes" | "opens") => {
            let contact = match args.as_slice() {
                [arg] => context.name_argument(arg).filter(|n| context.is_contact(n.as_str())),
                _ => None,
            };
            let Some(signal) = contact else {
                return Err(Problem::new(expr.span.clone(), format!("`{name}` takes a contact")));
            };
            if negated {
                return Err(Problem::new(expr.span.clone(), "a change cannot be denied")
                    .help("write the contact's state, such as `not trip`"));
            }
            Ok(Condition::Edge { signal, closed: name == "closes" })
        }
        ExprKind::Call(name, args) if name == "steady" => {
            let wrong = || {
                Problem::new(
                    expr.span.clone(),
                    "`steady` takes a measured value, a share and a time",
                )
                .help("write it like `steady(supply.voltage, 0.5 %, 1 s)`")
            };
            let [value, within, time] = args.as_slice() else { return Err(wrong()) };
            let probe = context.probe(value)?.ok_or_else(wrong)?;
            let within = quantity(within, Dimension::NUMBER, names)?.map_or(0.0, |q| q.si);
            let time = quantity(time, Dimension::TIME, names)?.map_or(0.0, |q| q.si);
            Ok(Condition::Stable { probe, within, time: Time::from_si(time) })
        }
        ExprKind::Call(name, args) if name == "mark" && args.is_empty() => Ok(Condition::Mark),
        ExprKind::Name(name) if name == "mark" => Ok(Condition::Mark),
        _ => {
            // Whatever is wrong with it is said first.
            let kind = evaluate(expr, names)?.kind();
            if !matches!(kind, Type::Bool | Type::Any) {
                let message = format!("this is {kind}, but a condition is wanted here");
                return Err(Problem::new(expr.span.clone(), message).help(
                    "compare a measured value, as in `supply.voltage >= 22.8 V`, or name a contact",
                ));
            }
            Err(nothing_measured(expr, context))
        }
    }
}

fn nothing_measured(expr: &Expr, context: &Context) -> Problem {
    let contacts: Vec<String> = context.contacts().iter().map(ToString::to_string).collect();
    let readings: Vec<&str> = context.capability.readings.iter().map(|r| r.name.as_str()).collect();
    let mut known = contacts;
    known.extend(readings.iter().map(ToString::to_string));
    Problem::new(expr.span.clone(), "this does not change while the step runs")
        .help(format!("conditions look at contacts and measured values: {}", known.join(", ")))
}

fn comparison(
    expr: &Expr,
    op: Binary,
    left: &Expr,
    right: &Expr,
    negated: bool,
    context: &Context,
    names: &dyn Names,
) -> Result<Condition, Problem> {
    let (probe, limit, turned) = match (context.probe(left)?, context.probe(right)?) {
        (Some(probe), None) => (probe, right, false),
        (None, Some(probe)) => (probe, left, true),
        (Some(_), Some(_)) => {
            return Err(Problem::new(
                expr.span.clone(),
                "two measured values cannot be compared here",
            )
            .help("compare one with a fixed value"));
        }
        (None, None) => {
            evaluate(expr, names)?;
            return Err(nothing_measured(expr, context));
        }
    };
    let relation = match op {
        Binary::Less | Binary::LessEqual => Relation::AtMost,
        Binary::Greater | Binary::GreaterEqual => Relation::AtLeast,
        _ => {
            return Err(Problem::new(expr.span.clone(), "a measured value is never exactly equal")
                .help("use `<=` or `>=`"));
        }
    };
    let relation = if turned != negated { relation.opposite() } else { relation };
    let limit_si = match evaluate(limit, names)?.plain() {
        Value::Quantity(q) if q.dimension == probe.dimension => q.si,
        Value::Missing(missing) => return Err(not_there(limit, &missing)),
        other if other.is_unknown() && fits(&other.kind(), probe.dimension) => match relation {
            Relation::AtLeast => f64::INFINITY,
            Relation::AtMost => f64::NEG_INFINITY,
        },
        other => {
            let message = format!(
                "`{probe}` is {}, which cannot be compared with {}",
                probe.dimension,
                other.kind()
            );
            return Err(Problem::new(expr.span.clone(), message));
        }
    };
    Ok(Condition::Reading { probe, relation, limit_si })
}

fn fits(kind: &Type, wanted: Dimension) -> bool {
    matches!(kind, Type::Any) || *kind == Type::Quantity(wanted)
}
