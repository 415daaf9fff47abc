//! Requirements that prove nothing, whatever was measured: their contact is not wired to the rig, or
//! their function is switched off.

use crate::ast::{Expect, Requirement, Within};
use crate::scene::Scene;
use waltron_core::grading::{Judgement, Verdict};
use waltron_core::text::expression::{Event, Expr, ExprKind, Unary};
use waltron_core::text::name::Name;

/// Why a requirement cannot be met or missed, if it cannot.
pub(super) fn untested(expect: &Expect, scene: &Scene) -> Option<Judgement> {
    let mut looked_at = LookedAt { scene, contacts: Vec::new(), settings: Vec::new() };
    match &expect.what {
        Requirement::Is(value, expected, within) => {
            looked_at.walk(value);
            looked_at.walk(expected);
            if let Within::Of(element, _) = within {
                looked_at.settings.push(element.clone());
            }
        }
        Requirement::Between(value, low, high) => {
            [value, low, high].into_iter().for_each(|expr| looked_at.walk(expr));
        }
        // The band tells itself what it is of.
        Requirement::Band(value, ..) => looked_at.walk(value),
        Requirement::Holds(condition) => looked_at.walk(condition),
    }
    let LookedAt { contacts, settings, .. } = looked_at;
    if let Some(contact) = contacts.iter().find(|c| !scene.context.capability.sees(c)) {
        return Some(not_wired(contact));
    }
    let asset = &scene.context.asset;
    let is_off = |id: &&Name| asset.element(id.as_str()).is_some_and(|e| !e.enabled);
    if let Some(element) = settings.iter().find(is_off) {
        return Some(switched_off(element));
    }
    // That a contact stays open is also required of a function that is off.
    if matches!(&expect.what, Requirement::Holds(e) if matches!(e.kind, ExprKind::Unary(Unary::Not, _)))
    {
        return None;
    }
    contacts.iter().find_map(|contact| {
        let mut closing = asset.elements.iter().filter(|e| e.contacts().any(|c| c == contact));
        let first = closing.next()?;
        if first.enabled || closing.any(|e| e.enabled) {
            return None;
        }
        Some(switched_off(&first.id))
    })
}

/// Why a contact that the rig does not see proves nothing.
pub(super) fn not_wired(contact: &Name) -> Judgement {
    let why = format!("no input of the rig is wired to `{contact}`");
    Judgement::new(Verdict::NotTested, why)
}

/// Why a function that is off proves nothing.
pub(super) fn switched_off(element: &Name) -> Judgement {
    let why = format!("{element} is switched off in the asset's settings");
    Judgement::new(Verdict::NotTested, why)
}

/// The contacts that an expression looks at, and the elements whose settings it names.
struct LookedAt<'a> {
    scene: &'a Scene,
    contacts: Vec<Name>,
    settings: Vec<Name>,
}

impl LookedAt<'_> {
    fn walk(&mut self, expr: &Expr) {
        match &expr.kind {
            // A value of the same name comes first.
            ExprKind::Name(name) if self.scene.variable(name.as_str()).is_none() => {
                if self.scene.context.is_contact(name.as_str()) {
                    self.contacts.push(name.clone());
                } else {
                    let name = name.as_str();
                    let element = name.split_once('.').map_or(name, |(element, _)| element);
                    let found = self.scene.context.asset.element(element);
                    self.settings.extend(found.map(|e| e.id.clone()));
                }
            }
            ExprKind::Interval(from, to) => {
                for event in [from, to] {
                    if let Event::Contact { signal, .. } = &**event {
                        self.contacts.push(signal.clone());
                    }
                }
            }
            ExprKind::Unary(_, inner) => self.walk(inner),
            ExprKind::Binary(_, a, b) => {
                self.walk(a);
                self.walk(b);
            }
            ExprKind::Call(_, args) | ExprKind::List(args) => {
                args.iter().for_each(|arg| self.walk(arg));
            }
            _ => {}
        }
    }
}
