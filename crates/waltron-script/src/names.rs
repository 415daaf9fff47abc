//! The names of a sequence: what is defined in a block is gone behind it, what is defined in a
//! sub-sequence is its own.

use std::collections::HashMap;
use waltron_core::text::expression::Value;

/// A name's value.
#[derive(Clone, Debug, PartialEq)]
struct Variable {
    value: Value,
    /// Every value that `read` has given it, all of one kind.
    read: Vec<Value>,
}

/// The names of one block.
#[derive(Clone, Debug, Default, PartialEq)]
struct Scope {
    names: HashMap<String, Variable>,
    /// Whether it is one round of a `repeat`, which a name that is read outlives.
    is_round: bool,
}

/// The names of a sequence and of the sub-sequences that it is in, the innermost last.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Frames(Vec<Vec<Scope>>);

/// Where in the frames something is, to come back to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Depth {
    frames: usize,
    scopes: usize,
}

impl Default for Frames {
    fn default() -> Self {
        Self(vec![vec![Scope::default()]])
    }
}

impl Frames {
    fn scopes(&self) -> &[Scope] {
        self.0.last().map(Vec::as_slice).unwrap_or_default()
    }

    fn find(&self, name: &str) -> Option<&Variable> {
        self.scopes().iter().rev().find_map(|s| s.names.get(name))
    }

    /// A name's value.
    pub(super) fn value(&self, name: &str) -> Option<&Value> {
        self.find(name).map(|v| &v.value)
    }

    /// Every value that `read` has given a name.
    pub(super) fn read(&self, name: &str) -> &[Value] {
        self.find(name).map(|v| v.read.as_slice()).unwrap_or_default()
    }

    /// All names that are known here.
    pub(super) fn all(&self) -> Vec<String> {
        self.scopes().iter().flat_map(|s| s.names.keys().cloned()).collect()
    }

    /// Defines a name in the innermost block.
    pub(super) fn define(&mut self, name: &str, value: Value) {
        if let Some(scope) = self.0.last_mut().and_then(|scopes| scopes.last_mut()) {
            scope.names.insert(name.to_owned(), Variable { value, read: Vec::new() });
        }
    }

    /// Gives a name that exists another value; false where it does not exist.
    pub(super) fn assign(&mut self, name: &str, value: Value) -> bool {
        let scopes = self.0.last_mut().map(Vec::as_mut_slice).unwrap_or_default();
        match scopes.iter_mut().rev().find_map(|s| s.names.get_mut(name)) {
            Some(variable) => {
                variable.value = value;
                true
            }
            None => false,
        }
    }

    /// Gives a name a value that was read. Values of another kind begin anew.
    pub(super) fn note_read(&mut self, name: &str, value: Value) {
        let Some(scopes) = self.0.last_mut() else { return };
        let place = scopes.iter().rposition(|s| s.names.contains_key(name)).unwrap_or_else(|| {
            // A name that is read in a round of `repeat` can be looked at behind it.
            scopes.iter().rposition(|s| !s.is_round).unwrap_or(0)
        });
        let variable = scopes[place]
            .names
            .entry(name.to_owned())
            .or_insert_with(|| Variable { value: value.clone(), read: Vec::new() });
        if variable.read.first().is_some_and(|first| first.kind() != value.kind()) {
            variable.read.clear();
        }
        variable.read.push(value.clone());
        variable.value = value;
    }

    /// Begins a block, or a round of `repeat`.
    pub(super) fn enter(&mut self, is_round: bool) {
        if let Some(scopes) = self.0.last_mut() {
            scopes.push(Scope { names: HashMap::new(), is_round });
        }
    }

    /// Ends a block.
    pub(super) fn leave(&mut self) {
        if let Some(scopes) = self.0.last_mut().filter(|scopes| scopes.len() > 1) {
            scopes.pop();
        }
    }

    /// Begins a sub-sequence with its parameters.
    pub(super) fn call(&mut self, parameters: HashMap<String, Value>) {
        let variable = |(name, value)| (name, Variable { value, read: Vec::new() });
        let names = parameters.into_iter().map(variable).collect();
        self.0.push(vec![Scope { names, is_round: false }]);
    }

    /// Ends a sub-sequence.
    pub(super) fn end_call(&mut self) {
        if self.0.len() > 1 {
            self.0.pop();
        }
    }

    /// Where this is.
    pub(super) fn depth(&self) -> Depth {
        Depth { frames: self.0.len(), scopes: self.scopes().len() }
    }

    /// Ends every block and sub-sequence that was begun since.
    pub(super) fn back_to(&mut self, depth: Depth) {
        self.0.truncate(depth.frames.max(1));
        if let Some(scopes) = self.0.last_mut() {
            scopes.truncate(depth.scopes.max(1));
        }
    }

    /// What is known where one of two courses was taken, both at this place.
    pub(super) fn join(&mut self, other: &Self) {
        for (mine, theirs) in self.0.iter_mut().flatten().zip(other.0.iter().flatten()) {
            for (name, variable) in &theirs.names {
                match mine.names.get_mut(name) {
                    Some(known) => {
                        known.value = known.value.joined(&variable.value);
                        if known.read.len() < variable.read.len() {
                            known.read.clone_from(&variable.read);
                        }
                    }
                    None => {
                        mine.names.insert(name.clone(), variable.clone());
                    }
                }
            }
        }
    }
}
