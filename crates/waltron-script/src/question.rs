//! The question that an `ask` step stands for.

use super::ast::{Ask, AskWanted};
use super::build::needed;
use super::scene::Scene;

use waltron_core::procedure::{Question, Wanted};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Type, Value, evaluate, quantity};

/// The question of a step, with what is known of its values.
///
/// # Errors
/// Mistakes in its expressions.
pub(super) fn question(ask: &Ask, scene: &Scene) -> Result<Question, Problem> {
    let text = evaluate(&ask.text, scene)?.to_string();
    let wanted = match &ask.wanted {
        AskWanted::Confirm => Wanted::Confirmation,
        AskWanted::Choice(_, choices, default) => {
            let of = match evaluate(choices, scene)? {
                Value::List(items) => items.iter().map(ToString::to_string).collect::<Vec<_>>(),
                other => vec![other.to_string()],
            };
            let question = Question::choose::<String>(text, of);
            return Ok(match default {
                Some(default) => question.or_else(&evaluate(default, scene)?.to_string()),
                None => question,
            });
        }
        AskWanted::Value { kind: Type::Quantity(dimension), default, between, .. } => {
            let bounds = match between {
                Some((low, high)) => {
                    Some([needed(low, *dimension, scene)?, needed(high, *dimension, scene)?])
                }
                None => None,
            };
            let default_si = match default {
                Some(expr) => quantity(expr, *dimension, scene)?.map(|q| q.si),
                None => None,
            };
            let (kind, exponents) = (dimension.to_string(), dimension.exponents());
            let may_be_unknown = false;
            Wanted::Quantity { kind, exponents, default_si, bounds, may_be_unknown }
        }
        AskWanted::Value { .. } => Wanted::Text,
    };
    Ok(Question { text, wanted })
}
