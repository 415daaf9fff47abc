//! What was injected for a value, for its column: that of the step that it comes from, or of the moment at which it
//! was read.

use super::ast::Requirement;
use super::build::Built;
use super::scene::{Injection, Last, Scene};
use std::collections::HashMap;
use waltron_core::grading::Values;
use waltron_core::injection::program::Segment;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Measure, Quantity};
use waltron_core::text::expression::{Expr, ExprKind};

/// What was injected for the values that steps, readings and `let` have given names to.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Stimuli(HashMap<String, Values>);

impl Stimuli {
    /// Notes what the steps of an injection put out, under their kinds and labels.
    pub(super) fn note(&mut self, built: &Built) {
        let fault = built.fault.and_then(|index| built.program.segments.get(index));
        for part in &built.parts {
            let ends = part.ramp.as_ref().map(|ramp| {
                [ramp.from, ramp.to].map(|si| Quantity { si, dimension: ramp.dimension })
            });
            let values = ends.map_or_else(|| current(fault), swept);
            for owner in part.owners() {
                self.0.insert(owner.to_owned(), values.clone());
            }
        }
    }

    /// Notes that a step was not put out.
    pub(super) fn note_lost(&mut self, owners: &[&str]) {
        self.0.retain(|name, _| !owners.contains(&name.as_str()));
    }

    /// Notes that a name was given what is measured now.
    pub(super) fn note_read(&mut self, name: &str, now: Values) {
        self.0.insert(name.to_owned(), now);
    }

    /// Notes that a name was given what follows from others.
    pub(super) fn note_let(&mut self, name: &str, value: &Expr) {
        match self.of(value) {
            Some(values) => self.0.insert(name.to_owned(), values),
            None => self.0.remove(name),
        };
    }

    /// What is known of all after one of two courses was taken.
    pub(super) fn join(&mut self, other: &Self) {
        self.0.retain(|name, values| other.0.get(name).is_none_or(|v| v == values));
        for (name, values) in &other.0 {
            self.0.entry(name.clone()).or_insert_with(|| values.clone());
        }
    }

    /// What was injected for what a value is made of; several that differ are none. `None` where it is made of nothing
    /// that was injected for.
    fn of(&self, expr: &Expr) -> Option<Values> {
        let mut found = Vec::new();
        self.walk(expr, &mut found);
        let (first, others) = found.split_first()?;
        let is_one = others.iter().all(|other| other == first);
        Some(if is_one { (*first).clone() } else { Values::none() })
    }

    fn walk<'a>(&'a self, expr: &Expr, found: &mut Vec<&'a Values>) {
        match &expr.kind {
            ExprKind::Name(name) => {
                let name = name.as_str();
                let owner = name.split_once('.').map_or(name, |(owner, _)| owner);
                found.extend(self.0.get(owner));
            }
            ExprKind::Unary(_, inner) => self.walk(inner, found),
            ExprKind::Binary(_, a, b) => [a, b].into_iter().for_each(|part| self.walk(part, found)),
            ExprKind::Call(_, args) | ExprKind::List(args) => {
                args.iter().for_each(|arg| self.walk(arg, found));
            }
            _ => {}
        }
    }
}

/// What was injected for what is required.
pub(super) fn of_requirement(what: &Requirement, scene: &Scene) -> Values {
    let (Requirement::Is(value, ..)
    | Requirement::Between(value, ..)
    | Requirement::Band(value, ..)
    | Requirement::Holds(value)) = what;
    scene.stimuli.of(value).unwrap_or_else(|| of_last(scene))
}

/// What was injected last: the largest phase current of a fault, or what a ramp went through.
pub(super) fn of_last(scene: &Scene) -> Values {
    let Last::Injection(Injection { program, swept: ends, fault, .. }) = &scene.last else {
        return Values::none();
    };
    let fault = fault.and_then(|index| program.segments.get(index));
    ends.map_or_else(|| current(fault), swept)
}

fn swept([from, to]: [Quantity; 2]) -> Values {
    Values::none().with_quantity("from", from).with_quantity("to", to)
}

fn current(fault: Option<&Segment>) -> Values {
    let phases = fault.map(|segment| segment.profile.last().complex_phase_currents());
    let current = phases.map(FaultLoop::largest_phase);
    Values::none().with_some("current", current.filter(|i| i.si() > 0.0))
}
