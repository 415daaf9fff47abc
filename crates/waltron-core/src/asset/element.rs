//! Protection elements, whatever they watch.

use crate::alike::Alike;
use crate::characteristic::Acceptance;
use crate::injection::stimulus::Stimulus;
use crate::quantity::tolerance::AnyTolerance;
use crate::quantity::{Quantity, Time};
use crate::text::name::Name;
use std::any::Any;
use std::fmt::Debug;
use std::ops::Deref;
use std::sync::Arc;

/// A protection element: something of the asset that watches what is put out and closes contacts. What
/// it watches is its [`Function`]; its wing knows which one, and takes it by [`Element::of`].
#[derive(Debug)]
pub struct Element<F: ?Sized = dyn Function> {
    /// Its id, such as `51P`.
    pub id: Name,
    /// Whether it is switched on.
    pub enabled: bool,
    /// Meaning of the contact that it closes on operation.
    pub trip: Name,
    /// Meaning of the contact that it closes on pickup, where it has one.
    pub start: Option<Name>,
    /// What it watches, with its settings and tolerances.
    pub function: Arc<F>,
}

/// What an element watches and when it operates, by its settings.
pub trait Function: Alike + Debug + Send + Sync {
    /// What it is, in words: `overcurrent`, `undervoltage`.
    fn name(&self) -> &'static str;

    /// The value at which it picks up.
    fn setting(&self) -> Quantity;

    /// Its settings by key, for expressions: `pickup`, `tms`, `delay`.
    fn values(&self) -> Vec<(&'static str, Quantity)>;

    /// What it says in words by key, for the record: `curve`.
    fn words(&self) -> Vec<(&'static str, String)>;

    /// What its measured values are graded against, each with its name in words.
    fn tolerances(&self) -> Vec<(&'static str, AnyTolerance)>;

    /// Itself with a setting as the asset tells it; `None` of one that it lacks or cannot take.
    fn with(&self, key: &str, value: &str) -> Option<Arc<dyn Function>>;

    /// What is required of its operation while this is put out.
    fn required(&self, out: &Stimulus) -> Acceptance;

    /// What is required of its operation at a multiple of its setting.
    fn required_at(&self, multiple: f64) -> Acceptance;

    /// What is required of its operation from the moment of its pickup on, where that is the same
    /// however far its setting is exceeded.
    fn once_picked_up(&self) -> Option<Acceptance> {
        None
    }

    /// How long outputs must be off until it has fallen back fully, however slow its tolerance lets it
    /// be; none where it falls back at once.
    fn settling(&self) -> Time {
        Time::default()
    }
}

impl Element {
    /// The element as one of a given function; `None` where it has another one.
    pub fn of<F: Function>(&self) -> Option<Element<F>> {
        let function: Arc<dyn Any + Send + Sync> = Arc::<dyn Function>::clone(&self.function);
        let function = function.downcast().ok()?;
        let Self { id, enabled, trip, start, .. } = self.clone();
        Some(Element { id, enabled, trip, start, function })
    }
}

impl<F: ?Sized> Element<F> {
    /// The contacts that it closes.
    pub fn contacts(&self) -> impl Iterator<Item = &Name> {
        std::iter::once(&self.trip).chain(&self.start)
    }
}

impl<F: ?Sized> Clone for Element<F> {
    fn clone(&self) -> Self {
        Self {
            id: self.id.clone(),
            enabled: self.enabled,
            trip: self.trip.clone(),
            start: self.start.clone(),
            function: Arc::clone(&self.function),
        }
    }
}

/// An element is asked what its function says.
impl<F: ?Sized> Deref for Element<F> {
    type Target = F;

    fn deref(&self) -> &F {
        &self.function
    }
}

impl PartialEq for Element {
    fn eq(&self, other: &Self) -> bool {
        let head = |e: &Self| (e.id.clone(), e.enabled, e.trip.clone(), e.start.clone());
        head(self) == head(other) && (*self.function).is_same(&*other.function as &dyn Any)
    }
}
