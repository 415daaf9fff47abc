//! What points are called: the same place of a script gives the same point whenever it is run.

use super::ast::{Expect, Step};
use super::context::Context;
use super::scene::Scene;
use crate::document::Problem;
use crate::expression::{ExprKind, Piece, Value, evaluate};
use crate::grading::PointId;
use std::collections::{HashMap, HashSet};

/// Which step a label belongs to: where several give it, the first of them has it as it stands, the
/// others with their line.
pub(super) type Owners = HashMap<String, usize>;

/// The ids given so far.
#[derive(Clone, Debug, Default)]
pub(super) struct Labels {
    counts: HashMap<(String, usize), u32>,
    taken: HashSet<String>,
}

impl Labels {
    /// The id of a point that a step grades, named by it or by its line.
    ///
    /// # Errors
    /// Mistakes in the name.
    pub(super) fn point(
        &mut self,
        expect: &Expect,
        step: &Step,
        scene: &Scene,
        owners: &mut Owners,
        is_preview: bool,
    ) -> Result<PointId, Problem> {
        let line = scene.context.line(step.span.0.start);
        let label = match &expect.label {
            Some(label) => text(label, scene)?,
            None => format!("line {line}"),
        };
        let place = step.span.0.start;
        let owner = if is_preview {
            let owner = owners.entry(label.clone()).or_insert(place);
            *owner = (*owner).min(place);
            *owner
        } else {
            owners.get(&label).copied().unwrap_or(place)
        };
        let own = if owner == place { label } else { format!("{label} (line {line})") };
        Ok(self.id(&scene.context, &own, place))
    }

    /// The id of the place where something went wrong.
    pub(super) fn place(&mut self, context: &Context, offset: usize) -> PointId {
        let label = format!("line {}", context.line(offset));
        self.id(context, &label, usize::MAX)
    }

    fn id(&mut self, context: &Context, label: &str, place: usize) -> PointId {
        let test = context.test.clone();
        let base = format!("{test}/{label}");
        let count = self.counts.entry((base.clone(), place)).or_insert(0);
        *count += 1;
        let mut n = *count;
        let mut id = if n == 1 { base.clone() } else { format!("{base}#{n}") };
        while self.taken.contains(&id) {
            n += 1;
            id = format!("{base}#{n}");
        }
        self.taken.insert(id.clone());
        PointId { id, test, element: None, fault_loop: None }
    }
}

/// A label's text. What is measured is left out of it, or the point would be another one every time.
fn text(label: &crate::expression::Expr, scene: &Scene) -> Result<String, Problem> {
    let ExprKind::Text(pieces) = &label.kind else {
        return Ok(evaluate(label, scene)?.to_string());
    };
    let mut out = String::new();
    for piece in pieces {
        match piece {
            Piece::Plain(plain) => out.push_str(plain),
            Piece::Value(expr) => match evaluate(expr, scene)? {
                Value::Measured(_) | Value::Missing(_) => out.push('…'),
                value => out.push_str(&value.to_string()),
            },
        }
    }
    Ok(out)
}
