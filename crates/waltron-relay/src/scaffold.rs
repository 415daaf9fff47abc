//! Files to begin with: an asset that loads as it is, and the tests that follow from settings.

use super::Overcurrent;
use waltron_core::asset::{Asset, Element, Function, Longest};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::{Current, Measure};

const RELAY: &str = r#"# An overcurrent relay. Secondary values; every quantity is text with its unit; what is commented out is
# optional.

[asset]
kind = "relay"
tag = "F1"                  # operating designation
# site = "", bay = "", operator = "", maker = "", model = "", serial = ""

[ratings]
frequency = "50 Hz"
current = "1 A"
# voltage = "110 V", ct = "600:1", vt = "20 kV:110 V"
# What each current input withstands: the first for ever, the others for a short time.
thermal = [
  { current = "4 A" },
  { current = "30 A", for = "10 s" },
  { current = "100 A", for = "1 s" },
]

# What measured values are graded against.
[tolerance]
current = "5 %"
time = "5 % or 40 ms"
reset_ratio = "3 %"

# The settings, an entry a function.
[[element]]
id = "51P"
function = "overcurrent"
measures = "phase"          # phase, residual, negative-sequence, positive-sequence
pickup = "1.2 A"
reset_ratio = "95 %"
curve = { family = "iec", shape = "normal-inverse", tms = 0.2 }

[[element]]
id = "50P"
function = "overcurrent"
measures = "phase"
pickup = "8 A"
curve = { family = "definite", delay = "50 ms" }

# What is written at its terminals, for the hook-up sheet.
[terminals]
ia = "X1:1, X1:2"
ib = "X1:3, X1:4"
ic = "X1:5, X1:6"
trip = "X2:1, X2:2"
start = "X2:3, X2:4"
"#;

/// A new asset file.
pub(super) fn asset(kind: &str) -> Option<String> {
    (kind == "relay").then(|| RELAY.to_owned())
}

/// The loops on which an element is tested.
fn loops(element: &Element<Overcurrent>) -> &'static [FaultLoop] {
    match element.measures {
        Measures::Phase => &[FaultLoop::AN, FaultLoop::BN, FaultLoop::CN],
        Measures::Residual => &[FaultLoop::AN],
        Measures::NegativeSequence => &[FaultLoop::AB],
        Measures::PositiveSequence => &[FaultLoop::ABC],
    }
}

/// Multiples of pickup at which the element is the first to operate, or alone stays below it, and which
/// the asset withstands.
fn multiples(
    asset: &Asset,
    element: &Element<Overcurrent>,
    fault_loop: FaultLoop,
    rig: Option<&Capability>,
) -> Vec<f64> {
    let frequency = asset.ratings.frequency.unwrap_or_default();
    let first = |multiple: &f64| {
        let seen = element.pickup * *multiple;
        let Some(phase) = element.measures.phase_current(fault_loop, seen) else { return false };
        let fault = Stimulus::phase_currents(fault_loop.currents(phase), frequency);
        let latest = element.required(&fault).latest;
        // Another one that may be as fast, or that operates where this one must not.
        let rivals = asset.rivals(&element.trip, &element.id, &fault);
        let mut earliest = rivals.iter().filter_map(|(_, band)| band.earliest);
        let alone = earliest.all(|earliest| latest.is_some_and(|latest| earliest > latest));
        let largest: Current = FaultLoop::largest_phase(fault.complex_phase_currents());
        let lasts = match asset.ratings.currents.longest(largest) {
            Longest::Forever => true,
            Longest::Never => false,
            Longest::For(longest) => latest.is_some_and(|latest| latest * 1.3 < longest),
        };
        let ranges = rig.map(|rig| rig.currents.iter().map(|c| c.range));
        let in_range = ranges.is_none_or(|mut ranges| ranges.all(|range| largest <= range));
        alone && lasts && in_range && largest.si().is_finite()
    };
    [0.9, 1.5, 2.0, 5.0, 10.0].into_iter().filter(first).collect()
}

/// The tests of a day's work, in its order: where each function picks up, then how long it takes.
pub(super) fn tests(asset: &Asset, rig: Option<&Capability>) -> String {
    let mut out = String::new();
    for element in asset.enabled().filter_map(Element::of) {
        let id = &element.id;
        let loops = loops(&element);
        let names: Vec<String> = loops.iter().map(|l| format!("\"{l}\"")).collect();
        let on = names.join(", ");
        let pickup = waltron_core::quantity::text(element.pickup);
        out.push_str(&format!(
            "# {id}: where it picks up and drops out, {pickup} as set.\n[[test]]\nid = \"{id}-pickup\"\nprocedure = \"pickup\"\nelement = \"{id}\"\nloops = [{on}]\n\n"
        ));
        let levels = multiples(asset, &element, loops[0], rig);
        if levels.iter().all(|multiple| *multiple < 1.0) {
            out.push_str(&format!(
                "# {id} has no level of the usual ones at which it is the first to operate and the inputs withstand it.\n\n"
            ));
            continue;
        }
        let at: Vec<String> = levels.iter().map(|m| format!("\"{m} x\"")).collect();
        out.push_str(&format!(
            "# How long it takes{}.\n[[test]]\nid = \"{id}-times\"\nprocedure = \"trip-time\"\nelement = \"{id}\"\nloops = [{on}]\nat = [{}]\n\n",
            if levels[0] < 1.0 { ", and that it does nothing below its pickup" } else { "" },
            at.join(", ")
        ));
    }
    for other in asset.enabled().filter(|e| e.of::<Overcurrent>().is_none()) {
        out.push_str(&format!(
            "# {}, {}: test it with `procedure = \"sequence\"` and a script, see docs/sequences.md.\n\n",
            other.id,
            other.name()
        ));
    }
    out
}
