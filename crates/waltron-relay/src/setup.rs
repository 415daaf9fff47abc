//! What procedures of overcurrent elements share.

use super::overcurrent::Overcurrent;
use waltron_core::asset::{Asset, Element};
use waltron_core::grading::PointId;
use waltron_core::procedure::SetupError;
use waltron_core::quantity::Current;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::text::name::Name;

/// An overcurrent element of an asset, by its id.
pub(super) fn overcurrent(asset: &Asset, id: &Name) -> Option<Element<Overcurrent>> {
    asset.element(id.as_str())?.of()
}

/// The phase current that makes an element see `wanted` on a loop.
pub(super) fn phase_current(
    element: &Element<Overcurrent>,
    fault_loop: FaultLoop,
    wanted: Current,
) -> Result<Current, SetupError> {
    element.measures.phase_current(fault_loop, wanted).ok_or_else(|| SetupError::NotOnLoop {
        element: element.id.clone(),
        measures: element.measures.name(),
        fault_loop,
    })
}

/// Why an element cannot be tested as set, if so.
pub(super) fn switched_off(element: &Element<Overcurrent>) -> Option<String> {
    (!element.enabled).then(|| format!("{} is switched off in the asset's settings", element.id))
}

/// The element that a point of a record tests, and the loop.
///
/// # Errors
/// A point that has none, or one that the asset does not have.
pub(super) fn tested(
    asset: &Asset,
    point: &PointId,
) -> Result<(Element<Overcurrent>, FaultLoop), String> {
    let id = point.element.as_ref().ok_or("the record tells no element of this point")?;
    let element = asset.element(id.as_str());
    let element = element.ok_or_else(|| format!("the asset has no element `{id}`"))?;
    let element = element.of().ok_or_else(|| format!("{id} is {} now", element.name()))?;
    let fault_loop = point.fault_loop.ok_or("the record tells no loop of this point")?;
    Ok((element, fault_loop))
}
