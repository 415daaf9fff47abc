//! What a sequence puts back at its end, in words: for whoever must do it where the sequence does not any more.

use super::super::ast::{AskWanted, Script, Statement, Step};
use super::super::context::Context;
use super::super::scene::{Mode, Scene};
use std::sync::Arc;
use waltron_core::procedure::Owed;
use waltron_core::text::expression::evaluate;

/// A sentence for each step that does something.
pub(super) fn owed(script: &Script, context: &Arc<Context>) -> Arc<[Owed]> {
    let scene = Scene::new(Arc::clone(context), Mode::Run);
    let mut all = Vec::new();
    gather(&script.finally, &scene, &mut all);
    all.into()
}

fn gather(steps: &[Step], scene: &Scene, all: &mut Vec<Owed>) {
    for step in steps {
        match &step.what {
            Statement::Ask(ask) if matches!(ask.wanted, AskWanted::Confirm) => {
                let text = evaluate(&ask.text, scene)
                    .map_or_else(|_| source(step, scene), |t| t.to_string());
                all.push(Owed::new(text));
            }
            Statement::Set { .. } | Statement::Send { .. } | Statement::Execute { .. } => {
                all.push(Owed::new(format!("Do what `{}` does", source(step, scene))));
            }
            other => {
                let blocks = super::super::check::blocks(other);
                blocks.into_iter().for_each(|block| gather(block, scene, all));
            }
        }
    }
}

/// A step as it is written.
fn source(step: &Step, scene: &Scene) -> String {
    scene.context.text.get(step.span.0.clone()).unwrap_or_default().trim().to_owned()
}
