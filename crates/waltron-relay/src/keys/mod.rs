//! Keys that procedures of protection elements share.

mod methods;
mod pickup;
mod trip_time;

pub use pickup::PickupKeys;
pub use trip_time::TripTimeKeys;

use crate::Overcurrent;
use waltron_core::asset::{Asset, Element};
use waltron_core::procedure::TestHead;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Time, seconds};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::nearest;

/// The element under test.
fn element_of(
    element: Option<&Text>,
    head: TestHead<'_>,
    asset: &Asset,
    problems: &mut Problems,
) -> Option<Element<Overcurrent>> {
    let Some(element) = element else {
        head.lacks("element", problems);
        return None;
    };
    let id = element.as_str();
    let found = asset.element(id);
    if found.is_none() {
        let ids: Vec<&str> = asset.elements.iter().map(|e| e.id.as_str()).collect();
        let message = format!("{} has no element `{id}`", asset.identity.tag);
        problems.push(
            Problem::new(element.span(), message)
                .did_you_mean(asset.nearest_element(id).map(|n| n.as_str()), || {
                    format!("its elements are {}", ids.join(", "))
                }),
        );
    }
    let found = found?;
    let overcurrent = found.of();
    if overcurrent.is_none() {
        let (procedure, what) = (head.procedure, found.name());
        let message = format!("`{procedure}` tests overcurrent elements; `{id}` is {what}");
        problems.push(
            Problem::new(element.span(), message)
                .help("test it with `procedure = \"sequence\"` and a script of its own"),
        );
    }
    overcurrent
}

/// The fault loops to inject.
fn loops_of(
    loops: Option<&Spannable<Vec<Text>>>,
    head: TestHead<'_>,
    problems: &mut Problems,
) -> Option<Vec<FaultLoop>> {
    let Some(given) = loops.filter(|l| !l.get().is_empty()) else {
        match loops {
            Some(empty) => problems.push(Problem::new(empty.span(), "`loops` is empty")),
            None => head.lacks("loops", problems),
        }
        return None;
    };
    let mut loops = Vec::new();
    for text in given.get() {
        match FaultLoop::parse(text.as_str()) {
            Some(found) if loops.contains(&found) => {
                let message = format!("loop `{found}` is listed twice");
                problems.push(Problem::new(text.span(), message));
            }
            Some(found) => loops.push(found),
            None => {
                let names = FaultLoop::ALL.map(FaultLoop::name);
                let message = format!("there is no loop `{}`", text.as_str());
                problems.push(
                    Problem::new(text.span(), message)
                        .did_you_mean(nearest(text.as_str(), names), || {
                            format!("loops are {}", names.join(", "))
                        }),
                );
            }
        }
    }
    Some(loops)
}

fn time_or(
    field: &Option<QuantityText<Time>>,
    default_s: f64,
    problems: &mut Problems,
) -> Option<Time> {
    field.as_ref().map_or(Some(seconds(default_s)), |f| f.not_negative(problems))
}
