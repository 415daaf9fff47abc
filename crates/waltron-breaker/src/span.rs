//! Between two values, as files give them.

use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::Dimension;
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, Spannable};

/// Between two values; one that is not given limits nothing.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SpanForm {
    /// The least.
    min: Option<AnyQuantityText>,
    /// The most.
    max: Option<AnyQuantityText>,
}

/// The least and the most in SI.
pub(crate) type Ends = (Option<f64>, Option<f64>);

/// The ends of what is measured in a dimension, where something is limited at all.
pub(crate) fn read(
    form: &Spannable<SpanForm>,
    dimension: Dimension,
    may_be_negative: bool,
    problems: &mut Problems,
) -> Option<Ends> {
    let side = |field: &Option<AnyQuantityText>, problems: &mut Problems| match field {
        None => Some(None),
        Some(field) => field.of(dimension, problems).map(|q| Some(q.si)),
    };
    let (min, max) = (side(&form.get().min, problems), side(&form.get().max, problems));
    let (min, max) = (min?, max?);
    let why = match (min, max) {
        (None, None) => Some("neither `min` nor `max` is given: nothing is limited"),
        (Some(a), Some(b)) if a > b => Some("the least lies above the most"),
        (_, Some(b)) if b < 0.0 && !may_be_negative => Some("nothing lies below a negative limit"),
        _ => None,
    };
    match why {
        None => Some((min, max)),
        Some(why) => {
            problems.push(Problem::new(form.span(), why));
            None
        }
    }
}
