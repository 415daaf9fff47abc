//! Tests that only assets of one family have.

use super::{Bench, Method, SetupError, TestHead, TestKeys};
use crate::asset::{Asset, Called};
use crate::text::document::{Field, Problem, Problems};
use std::fmt::Debug;
use std::sync::Arc;

/// Keys of a procedure for assets of one family. They are [`TestKeys`]: a problem where the asset is of another one.
pub trait FamilyKeys: Debug + Send + Sync {
    /// The family.
    type Family: Called;

    /// What they mean for an asset of it; problems are noted.
    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &Self::Family,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>>;
}

impl<K: FamilyKeys> TestKeys for K {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        match of_family(asset) {
            Ok(of) => self.read_for(head, of, problems),
            Err(error) => {
                problems.push(Problem::new(head.id.span(), error.to_string()));
                None
            }
        }
    }
}

/// What is peculiar to an asset, for those who know its family.
///
/// # Errors
/// Where it is of another one.
pub fn of_family<F: Called>(asset: &Asset) -> Result<&F, SetupError> {
    asset.family().ok_or_else(|| {
        let tag = &asset.identity.tag;
        SetupError::Unknown(format!("{tag} is no {}", F::CALLED))
    })
}

impl<'a> Bench<'a> {
    /// What is peculiar to the asset.
    ///
    /// # Errors
    /// Where it is of another family.
    pub fn family<F: Called>(&self) -> Result<&'a F, SetupError> {
        of_family(self.asset)
    }
}
