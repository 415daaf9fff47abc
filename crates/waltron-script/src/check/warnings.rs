//! What a script should still have thought of.

use super::super::ast::{Script, Statement, Step};
use super::super::context::Context;
use super::super::scene::{Mode, Scene};
use super::shape::blocks;
use std::sync::Arc;
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, evaluate};

/// What a script should have thought of, though it can run: warnings, each with its place.
pub(crate) fn warnings(script: &Script, context: &Arc<Context>) -> Vec<Problem> {
    let mut found = Vec::new();
    let scene = Scene::new(Arc::clone(context), Mode::Kinds);
    walk_pulses(&script.body, &scene, context, &mut found);
    for sequence in &script.sequences {
        walk_pulses(&sequence.body, &scene, context, &mut found);
    }
    found
}

/// Pulses that are shorter than the delay of an element whose setting lies within the ramp.
pub(super) fn walk_pulses(
    steps: &[Step],
    scene: &Scene,
    context: &Arc<Context>,
    found: &mut Vec<Problem>,
) {
    use super::super::ast::Pace;
    for step in steps {
        blocks(&step.what).into_iter().for_each(|b| walk_pulses(b, scene, context, found));
        let Statement::Ramp(ramp) = &step.what else { continue };
        let Pace::Stairs { every, resting: Some(_), .. } = &ramp.pace else { continue };
        let value = |e: &Expr| evaluate(e, scene).ok().and_then(|v| v.quantity());
        let (Some(from), Some(to), Some(pulse)) =
            (value(&ramp.from), value(&ramp.to), value(every))
        else {
            continue;
        };
        for element in context.asset.enabled() {
            let once = element.once_picked_up();
            let Some((delay, needs)) = once.and_then(|band| band.expected.zip(band.latest)) else {
                continue;
            };
            let (setting, id) = (element.setting(), &element.id);
            let (low, high) = (from.si.min(to.si), from.si.max(to.si));
            let inside = setting.dimension == from.dimension && (low..=high).contains(&setting.si);
            let named = ramp.until.condition.as_ref().is_some_and(|c| {
                context.text.get(c.span.clone()).is_some_and(|t| t.contains(element.trip.as_str()))
            });
            if inside && named && pulse.si < waltron_core::quantity::Measure::si(needs) {
                let message = format!(
                    "pulses of {pulse} are shorter than {id} needs: its delay is {}",
                    waltron_core::quantity::text(delay)
                );
                let help = format!(
                    "if {id} is meant to be seen, make them longer than {}",
                    waltron_core::quantity::text(needs)
                );
                found.push(Problem::new(every.span.clone(), message).help(help));
            }
        }
    }
}
