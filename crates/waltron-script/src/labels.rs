//! What points are called: the same place of a script gives the same point whenever it is run.

use super::ast::{Expect, Step};
use super::context::Context;
use super::scene::Scene;
use std::collections::{HashMap, HashSet};
use waltron_core::grading::PointId;
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{ExprKind, Piece, Value, evaluate};

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
    /// The id of a point that a step grades, named by it or by its line, in a preview: who owns the
    /// name is found out.
    ///
    /// # Errors
    /// Mistakes in the name.
    pub(super) fn point(
        &mut self,
        expect: &Expect,
        step: &Step,
        scene: &Scene,
        owners: &mut Owners,
    ) -> Result<PointId, Problem> {
        let place = step.span.0.start;
        let label = label_of(expect, step, scene)?;
        let owner = owners.entry(label.clone()).or_insert(place);
        *owner = (*owner).min(place);
        let own = own(label, *owner, step, scene);
        Ok(self.id(&scene.context, &own, place))
    }

    /// The same, where the owners are known.
    ///
    /// # Errors
    /// Mistakes in the name.
    pub(super) fn known_point(
        &mut self,
        expect: &Expect,
        step: &Step,
        scene: &Scene,
        owners: &Owners,
    ) -> Result<PointId, Problem> {
        let label = known_label(expect, step, scene, owners)?;
        Ok(self.id(&scene.context, &label, step.span.0.start))
    }

    /// The id of the point that a step would grade next.
    ///
    /// # Errors
    /// Mistakes in the name, and values in it that are not known yet.
    pub(super) fn ahead(
        &self,
        expect: &Expect,
        step: &Step,
        scene: &Scene,
        owners: &Owners,
    ) -> Result<String, Problem> {
        let label = known_label(expect, step, scene, owners)?;
        Ok(self.free(&format!("{}/{label}", scene.context.test), step.span.0.start))
    }

    /// The id of the place where something went wrong.
    pub(super) fn place(&mut self, context: &Context, offset: usize) -> PointId {
        let label = format!("line {}", context.line(offset));
        self.id(context, &label, usize::MAX)
    }

    /// Whether an id is that of a line at which something went wrong, the first time or a later one.
    pub(super) fn is_place(context: &Context, line: usize, id: &str) -> bool {
        let base = format!("{}/line {line}", context.test);
        id.strip_prefix(&base).is_some_and(|rest| rest.is_empty() || rest.starts_with('#'))
    }

    fn id(&mut self, context: &Context, label: &str, place: usize) -> PointId {
        let test = context.test.clone();
        let base = format!("{test}/{label}");
        let id = self.free(&base, place);
        self.taken.insert(id.clone());
        *self.counts.entry((base, place)).or_insert(0) += 1;
        PointId { id, test, element: None, fault_loop: None }
    }
}

impl Labels {
    /// The next id of a place that nothing has yet.
    fn free(&self, base: &str, place: usize) -> String {
        let mut n = 1 + self.counts.get(&(base.to_owned(), place)).copied().unwrap_or(0);
        let mut id = if n == 1 { base.to_owned() } else { format!("{base}#{n}") };
        while self.taken.contains(&id) {
            n += 1;
            id = format!("{base}#{n}");
        }
        id
    }
}

/// What a step calls its point.
fn label_of(expect: &Expect, step: &Step, scene: &Scene) -> Result<String, Problem> {
    match &expect.label {
        Some(label) => text(label, scene),
        None => Ok(format!("line {}", scene.context.line(step.span.0.start))),
    }
}

/// The label that is a step's own, where another one may have it as well.
fn own(label: String, owner: usize, step: &Step, scene: &Scene) -> String {
    let place = step.span.0.start;
    if owner == place { label } else { format!("{label} (line {})", scene.context.line(place)) }
}

fn known_label(
    expect: &Expect,
    step: &Step,
    scene: &Scene,
    owners: &Owners,
) -> Result<String, Problem> {
    let label = label_of(expect, step, scene)?;
    let owner = owners.get(&label).copied().unwrap_or(step.span.0.start);
    Ok(own(label, owner, step, scene))
}

/// A label's text. What is measured is left out of it, or the point would be another one every time.
fn text(label: &waltron_core::text::expression::Expr, scene: &Scene) -> Result<String, Problem> {
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
