//! What is peculiar to a family of assets.

use crate::alike::Alike;
use crate::asset::{Connected, Precautions, Ratings};
use crate::quantity::Quantity;
use crate::text::name::Name;
use std::any::Any;
use std::fmt::Debug;
use std::ops::Deref;
use std::sync::Arc;

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

    /// What is withstood at one of its places, where that is something else than its weakest place withstands: of
    /// several windings each has limits of its own.
    fn ratings_at(&self, _place: &Name, _ratings: &Ratings) -> Option<Ratings> {
        None
    }

    /// What the person at the panel must see to where these are connected.
    fn precautions(&self, connected: &Connected<'_>) -> Precautions;
}

/// A family by the name that its assets go by.
pub trait Called: Family {
    /// What one of them is called, in the middle of a sentence: `circuit breaker`.
    const CALLED: &'static str;
}

/// What is peculiar to an asset: every asset has a family, since what must be seen to before anything is put out on
/// it hangs on that.
#[derive(Clone, Debug)]
pub struct Own(Arc<dyn Family>);

impl Own {
    /// Of an asset of this family.
    pub fn new(family: impl Family) -> Self {
        Self(Arc::new(family))
    }
}

impl Deref for Own {
    type Target = dyn Family;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl PartialEq for Own {
    fn eq(&self, other: &Self) -> bool {
        self.0.is_same(&*other.0 as &dyn Any)
    }
}
