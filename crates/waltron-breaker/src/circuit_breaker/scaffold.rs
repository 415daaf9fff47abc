//! Files to begin with: an asset to fill in, and the tests that follow from one.

use crate::circuit_breaker::asset::{CircuitBreaker, Measurand};
use std::fmt::Write as _;
use waltron_core::injection::capability::Capability;
use waltron_core::wing::Depth;

const CIRCUIT: &str = r#"# A circuit breaker of medium or high voltage: fill in nameplate and the limits of its factory report.

[asset]
kind = "circuit-breaker"
tag = "Q05-Q0"
operator = "Tidewell Grid"
site = "Brackwater 110/20 kV"
bay = "Q05"
maker = "Halden Switchworks"
model = "HV-24"
serial = "HS-90213"

[ratings]
voltage = "24 kV"
current = "1250 A"
frequency = "50 Hz"

[breaker]
poles = ["L1", "L2", "L3"]
units = 1                   # interrupting units of a pole in series: L1/1, L1/2
drive = "ganged"            # or "single-pole"
mechanism = "spring"
earthed = "cable side"      # which side stays earthed while it is tested
under_voltage_release = false
blocking_coil = false
counter = "closings"        # what its counter counts; or "openings"; leave out if it has none

# One table for each coil; the rig's switch is `close command`, its meter `close coil current`.
[[coil]]
id = "close"
does = "close"
voltage = "110 V"
resistance = "55 Ohm"

[[coil]]
id = "trip 1"
does = "trip"
voltage = "110 V"
resistance = "52 Ohm"

[[auxiliary]]
id = "52a"
follows = true              # closed when the breaker is

[[auxiliary]]
id = "52b"
follows = false

[motor]
voltage = "110 V"

# Where one is fitted: what the shaft turns over its stroke, and what is shown then.
# [transducer]
# stroke = "60 deg"
# shows = "10 V"

# From the factory report. What has no limit is told only; what stands under `required` must have one, or be
# assessed by somebody who says why.
[limits]
opening_time = { min = "18 ms", max = "30 ms" }
closing_time = { min = "30 ms", max = "50 ms" }
bounce_time = { max = "2 ms" }
contact_resistance = { max = "45 uOhm" }
required = ["opening_time", "closing_time", "contact_resistance"]

# At another control voltage what follows the coil's voltage has limits of its own.
[[limits.at]]
voltage = "70 %"
opening_time = { max = "45 ms" }

# What is written at its terminals, for the hook-up sheet.
[terminals]
"control voltage" = "X1: 1 (+), 2 (-)"
"close command" = "X1: 5, 6"
"trip 1 command" = "X1: 7, 8"
"L1" = "L1 upper, lower terminal"
"L2" = "L2 upper, lower terminal"
"L3" = "L3 upper, lower terminal"
"#;

/// A new asset file.
pub(crate) fn asset(kind: &str) -> Option<String> {
    match kind {
        "circuit-breaker" => Some(CIRCUIT.to_owned()),
        _ => None,
    }
}

/// What a rig has; one that is not known has everything.
struct Has<'r>(Option<&'r Capability>);

impl Has<'_> {
    fn output(&self, meaning: &str) -> bool {
        self.0.is_none_or(|rig| {
            let currents = rig.currents.iter().map(|c| &c.meaning);
            let voltages = rig.voltages.iter().map(|c| &c.meaning);
            currents.chain(voltages).any(|m| *m == *meaning)
        })
    }

    fn switch(&self, meaning: &str) -> bool {
        self.0.is_none_or(|rig| rig.switches(&meaning.into()))
    }

    fn input(&self, meaning: &str) -> bool {
        self.0.is_none_or(|rig| rig.sees(&meaning.into()))
    }
}

/// The tests of a day's work on a circuit breaker, in its order.
pub(crate) fn circuit(of: &CircuitBreaker, rig: Option<&Capability>, depth: Depth) -> String {
    let mut out = String::new();
    let mut add = |why: &str, id: &str, procedure: &str, more: &str| {
        // A string takes everything.
        let _ =
            write!(out, "# {why}\n[[test]]\nid = \"{id}\"\nprocedure = \"{procedure}\"\n{more}\n");
    };
    let has = Has(rig);
    let commands = |closes: bool| {
        of.coils(closes).filter(|coil| has.switch(coil.command().as_str())).collect::<Vec<_>>()
    };
    let (close, trips) = (!commands(true).is_empty(), commands(false));
    let is_whole = depth != Depth::Quick;
    if of.counter.is_some() && is_whole {
        add("What the counter reads before anything is operated.", "counter-before", "counter", "");
    }
    if let (Some(trip), true) = (trips.first(), is_whole) {
        add(
            "Comes only once, after a long rest: nothing is moved before it.",
            "first",
            "operation",
            &format!("operations = [\"O\"]\ncoil = \"{}\"\nfirst = true\n", trip.name),
        );
    }
    let all: &[&str] = match (close, !trips.is_empty(), depth) {
        (true, true, Depth::Commissioning) => &["C", "O", "CO", "OC", "O-C-O"],
        (true, true, Depth::Routine) => &["C", "O", "O-C-O"],
        (true, true, Depth::Quick) => &["C", "O"],
        (true, false, _) => &["C"],
        (false, true, _) => &["O"],
        (false, false, _) => &[],
    };
    if !all.is_empty() {
        let list = all.iter().map(|o| format!("\"{o}\"")).collect::<Vec<_>>().join(", ");
        let what = "Times of every pole, bounce, auxiliary contacts, coil currents, travel.";
        add(what, "operation", "operation", &format!("operations = [{list}]\n"));
    }
    let feeds = has.output("control voltage");
    if feeds && is_whole {
        let shares = |low: &'static str| match depth {
            Depth::Commissioning => format!("[\"{low}\", \"110 %\"]"),
            _ => format!("[\"{low}\"]"),
        };
        let words = "It must operate at the ends of its control voltage (IEC 62271-1).";
        if close {
            let more = format!("operations = [\"C\"]\nvoltage = {}\n", shares("85 %"));
            add(words, "voltage-closing", "operation", &more);
        }
        if !trips.is_empty() {
            let more = format!("operations = [\"O\"]\nvoltage = {}\n", shares("70 %"));
            add(words, "voltage-tripping", "operation", &more);
        }
        add(
            "Pulses from below until each coil operates, with pauses that spare it.",
            "pickup",
            "lowest-pickup",
            "",
        );
    }
    if of.motor.is_some() && has.switch("motor supply") && has.input("spring charged") && is_whole {
        add("How long the spring charges, with which current.", "motor", "motor", "");
    }
    if has.output("pole current") {
        add("Four wires at each closed pole.", "resistance", "contact-resistance", "");
        let arcs = of.limits.of(Measurand::ArcingTime, 1.0).is_some();
        if arcs && !trips.is_empty() && is_whole {
            add(
                "What the arcing contacts still carry while a pole opens.",
                "arcing",
                "dynamic-resistance",
                "",
            );
        }
    }
    if of.counter.is_some() && is_whole {
        add("Must have gone on by what was operated since.", "counter-after", "counter", "");
    }
    out
}
