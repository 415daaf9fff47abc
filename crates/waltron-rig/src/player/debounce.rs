//! Binary inputs: which contacts are wired, debouncing, and the time resolution.

use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Edge;
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::text::name::Name;

struct Contact {
    meaning: Name,
    debounce: Time,
    /// The state that counts.
    closed: bool,
    /// A change that has not lasted long enough yet: its time.
    changing: Option<Time>,
}

/// The rig's inputs during one program.
///
/// A change counts once it has lasted for the input's debounce time; its time is that of the first
/// contact, to the rig's resolution.
pub(super) struct Debounce {
    contacts: Vec<Contact>,
    edges: Vec<Edge>,
    /// Every change as it came, where that is wanted.
    raw: Option<Vec<Edge>>,
    resolution_s: f64,
}

impl Debounce {
    pub(super) fn new(capability: &Capability, closed: &[Name], raw: bool) -> Self {
        let contacts = capability.inputs.iter().map(|input| Contact {
            meaning: input.meaning.clone(),
            debounce: input.debounce,
            closed: closed.contains(&input.meaning),
            changing: None,
        });
        Self {
            contacts: contacts.collect(),
            edges: Vec::new(),
            raw: raw.then(Vec::new),
            resolution_s: capability.timing_resolution.si(),
        }
    }

    pub(super) fn closed(&self) -> Vec<Name> {
        self.contacts.iter().filter(|c| c.closed).map(|c| c.meaning.clone()).collect()
    }

    /// Takes a change of the asset's contact; one that is not wired is not seen.
    pub(super) fn change(&mut self, edge: &Edge) {
        for contact in self.contacts.iter_mut().filter(|c| c.meaning == edge.signal) {
            contact.changing = (edge.closed != contact.closed).then_some(edge.time);
            if let Some(raw) = &mut self.raw {
                let time = rounded(edge.time, self.resolution_s);
                raw.push(Edge { time, ..edge.clone() });
            }
        }
        self.settle(edge.time);
    }

    /// When the next change will have lasted long enough.
    pub(super) fn next_due(&self) -> Option<Time> {
        self.contacts
            .iter()
            .filter_map(|c| Some(c.changing? + c.debounce))
            .min_by(|a, b| a.si().total_cmp(&b.si()))
    }

    /// Takes over the changes that have lasted long enough by now.
    pub(super) fn settle(&mut self, now: Time) {
        for contact in &mut self.contacts {
            let Some(since) = contact.changing.filter(|t| now >= *t + contact.debounce) else {
                continue;
            };
            contact.changing = None;
            contact.closed = !contact.closed;
            let time = rounded(since, self.resolution_s);
            let edge = Edge { signal: contact.meaning.clone(), time, closed: contact.closed };
            let at = self.edges.partition_point(|e| e.time <= time);
            self.edges.insert(at, edge);
        }
    }

    /// Whether the contact with this meaning is in this state.
    pub(super) fn is(&self, signal: &Name, closed: bool) -> bool {
        self.contacts.iter().any(|c| c.meaning == *signal && c.closed == closed)
    }

    /// The changes so far, in time order.
    pub(super) fn edges(&self) -> &[Edge] {
        &self.edges
    }

    /// The changes, and those as they came.
    pub(super) fn into_edges(self) -> (Vec<Edge>, Vec<Edge>) {
        (self.edges, self.raw.unwrap_or_default())
    }
}

/// A time to a resolution, where there is one.
fn rounded(time: Time, resolution_s: f64) -> Time {
    if resolution_s > 0.0 {
        seconds((time.si() / resolution_s).round() * resolution_s)
    } else {
        time
    }
}
