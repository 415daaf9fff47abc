//! Comparing things behind a trait object with each other.

use std::any::Any;

/// A thing behind a trait object that can be asked whether another one is of its type and equal. Everything that
/// can be compared is.
pub trait Alike: Any {
    /// Whether another one is of the same type and equal.
    fn is_same(&self, other: &dyn Any) -> bool;
}

impl<T: PartialEq + Any> Alike for T {
    fn is_same(&self, other: &dyn Any) -> bool {
        other.downcast_ref() == Some(self)
    }
}
