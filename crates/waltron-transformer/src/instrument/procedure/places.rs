//! Which places a test takes, as its keys say.

use crate::instrument::asset::{InstrumentTransformer, Spot, Wanted};
use waltron_core::asset::Asset;
use waltron_core::procedure::{SetupError, TestHead, of_family};
use waltron_core::text::document::{Field, Problem, Problems, Text};

/// The keys `phase`, `core` and `tap` of a test.
pub(super) fn wanted(
    phase: Option<&Text>,
    core: Option<&Text>,
    tap: Option<&Text>,
    head: TestHead<'_>,
    of: &InstrumentTransformer,
    problems: &mut Problems,
) -> Option<Wanted> {
    let owned = |text: Option<&Text>| text.map(|t| t.as_str().to_owned());
    let wanted = Wanted { phase: owned(phase), core: owned(core), tap: owned(tap) };
    match of.spots(&wanted) {
        Ok(_) => Some(wanted),
        Err(error) => {
            let place = [phase, core, tap].into_iter().flatten().next();
            let span = place.map_or_else(|| head.id.span(), Field::span);
            problems.push(Problem::new(span, error.to_string()));
            None
        }
    }
}

/// The places with the transformer that they are of.
pub(super) fn spots<'a>(
    asset: &'a Asset,
    wanted: &Wanted,
) -> Result<(&'a InstrumentTransformer, Vec<Spot>), SetupError> {
    let of: &InstrumentTransformer = of_family(asset)?;
    Ok((of, of.spots(wanted)?))
}
