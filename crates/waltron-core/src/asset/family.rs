//! What is peculiar to a family of assets.

use crate::alike::Alike;
use crate::asset::Precautions;
use crate::quantity::Quantity;
use crate::text::name::Name;
use std::any::Any;
use std::fmt::Debug;

/// What an asset's file says besides what every asset has. Wings know what is behind it; everybody else
/// asks it here.
pub trait Family: Alike + Debug + Send + Sync {
    /// Its values by name, for expressions: `rated.ratio`.
    fn values(&self) -> Vec<(String, Quantity)> {
        Vec::new()
    }

    /// What it says in words, by name, for the record: `tolerance.ratio`, `0.5 %`.
    fn words(&self) -> Vec<(String, String)> {
        Vec::new()
    }

    /// What stands of it on a nameplate or in a report, each with its name, in order.
    fn facts(&self) -> Vec<(String, String)> {
        Vec::new()
    }

    /// What the person at the panel must see to where these are connected: outputs and meters of the rig
    /// by what they are connected to.
    fn precautions(&self, connected: &[Name]) -> Precautions;
}

/// A family by the name that its assets go by.
pub trait Called: Family {
    /// What one of them is called, in the middle of a sentence: `circuit breaker`.
    const CALLED: &'static str;
}

impl PartialEq for dyn Family {
    fn eq(&self, other: &Self) -> bool {
        self.is_same(other as &dyn Any)
    }
}
