//! The keys of `pickup`.

use super::{element_of, loops_of, time_or};
use crate::PickupSettings;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::procedure::{Method, TestHead, TestKeys};
use waltron_core::quantity::{Current, Ratio, Time};
use waltron_core::text::document::{
    Field, Problem, Problems, QuantityText, Spannable, Text, optional,
};

/// Ramp up to operation and down to reset.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PickupKeys {
    /// The element under test.
    element: Option<Text>,
    /// Fault loops to inject: `A-N`, `B-N`, `C-N`, `A-B`, `B-C`, `C-A`, `A-B-C`.
    loops: Option<Spannable<Vec<Text>>>,
    /// First level of the ramp; `0.8 x` if not given.
    from: Option<QuantityText<Ratio>>,
    /// Last level of the ramp; `1.2 x` if not given.
    to: Option<QuantityText<Ratio>>,
    /// Step of the ramp; a fifth of the tolerance if not given.
    step: Option<QuantityText<Current>>,
    /// Time on each level; twice the element's start time if not given.
    dwell: Option<QuantityText<Time>>,
    /// Time with outputs off before each injection; 1 s if not given.
    rest: Option<QuantityText<Time>>,
}

/// First and last level, step, dwell.
type Ramp = (f64, f64, Option<Current>, Option<Time>);

impl PickupKeys {
    fn ramp(&self, head: TestHead<'_>, problems: &mut Problems) -> Option<Ramp> {
        let ratio = |field: &Option<QuantityText<Ratio>>, default, problems: &mut Problems| {
            field.as_ref().map_or(Some(default), |f| f.positive(problems).map(|r| r.value))
        };
        let from = ratio(&self.from, 0.8, problems);
        let to = ratio(&self.to, 1.2, problems);
        let step = self.step.as_ref().map(|s| s.positive(problems));
        let dwell = self.dwell.as_ref().map(|d| d.positive(problems));
        if let (Some(from), Some(to)) = (from, to)
            && from >= to
        {
            let field = self.to.as_ref().or(self.from.as_ref());
            let place = field.map_or_else(|| head.id.span(), Field::span);
            let message = format!("the ramp goes up, but `from` {from} x is not below `to` {to} x");
            problems.push(Problem::new(place, message));
        }
        Some((from?, to?, optional(step)?, optional(dwell)?))
    }
}

impl TestKeys for PickupKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let element = element_of(self.element.as_ref(), head, asset, problems);
        let loops = loops_of(self.loops.as_ref(), head, problems);
        let rest = time_or(&self.rest, 1.0, problems);
        let (from, to, step, dwell) = self.ramp(head, problems)?;
        let element = element?;
        let span = (element.pickup * (to - from)).value;
        if let (Some(step), Some(field)) = (step, &self.step)
            && span / step.value > 10_000.0
        {
            let message = "this step makes a ramp of more than 10 000 levels";
            problems.push(Problem::new(field.span(), message));
        }
        Some(Arc::new(PickupSettings {
            test: head.name(),
            element: element.id.clone(),
            loops: loops?,
            from,
            to,
            step,
            dwell,
            rest: rest?,
        }))
    }
}
