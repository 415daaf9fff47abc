//! Files to begin with: they load as they are, and say what to fill in.

use crate::instrument::asset::{InstrumentTransformer, Kind};
use waltron_core::injection::capability::Capability;
use waltron_core::wing::Depth;

const CURRENT: &str = r#"# A current transformer. Every quantity is text with its unit; what is commented out is optional.

[asset]
kind = "current-transformer"
tag = "T1"                  # operating designation
# site = "", bay = "", operator = "", maker = "", model = "", serial = ""

[ratings]
frequency = "50 Hz"
primary = "600 A"
continuous = "120 %"        # of the rated current, for ever
# short_time = { current = "25 kA", for = "1 s" }

# Phases that stand side by side with the same nameplate; leave them out for a single unit.
# [[phase]]
# id = "A"
# serial = ""

# One table for each core.
[[core]]
secondary = "1 A"
terminals = "1S1-1S2"
class = "5P20"              # 0.2S, 0.5, 5P20, 10PR15, PX, TPY, 0.3, C400, …
burden = "10 VA"            # rated burden
test_voltage = "500 V"      # the largest voltage put on the whole winding for a test
test_current = "2 A"        # the largest current through it
# resistance = "4.5 Ohm"    # as the maker measured it; without it resistances are told and not graded
# reference = "75 degC"
# security_factor = 5       # of a measuring core
# knee = "300 V"            # of class PX, with exciting_current = "30 mA"

# Taps of the core, each with its own ratio; leave `terminals` out above then.
# [[core.tap]]
# terminals = "1S1-1S2"
# primary = "300 A"

[tolerance]
ratio = "0.5 %"
resistance = "5 %"

# What is written at its terminals, for the hook-up sheet.
[terminals]
"secondary voltage" = "1S1, 1S2"
"secondary current" = "1S1, 1S2"
"primary voltage" = "P1, P2"
"#;

const VOLTAGE: &str = r#"# A voltage transformer. Every quantity is text with its unit; what is commented out is optional.

[asset]
kind = "voltage-transformer"
tag = "T5"                  # operating designation
# site = "", bay = "", operator = "", maker = "", model = "", serial = ""

[ratings]
frequency = "50 Hz"
primary = "20 kV / sqrt(3)"
continuous = "120 %"        # of the rated voltage, for ever

# One table for each secondary winding.
[[winding]]
secondary = "110 V / sqrt(3)"
burden = "25 VA"            # rated burden
class = "0.5"               # 0.1, 0.2, 0.5, 1, 3, 3P, 6P

[tolerance]
ratio = "0.5 %"

# What is written at its terminals, for the hook-up sheet.
[terminals]
"primary voltage" = "A, N"
"secondary voltage" = "a, n"
"#;

/// A new asset file.
pub(crate) fn asset(kind: &str) -> Option<String> {
    match kind {
        "current-transformer" => Some(CURRENT.to_owned()),
        "voltage-transformer" => Some(VOLTAGE.to_owned()),
        _ => None,
    }
}

/// Whether a rig has a meter or an output for something; of a rig that is not known, it has.
fn has(rig: Option<&Capability>, meaning: &str) -> bool {
    rig.is_none_or(|rig| rig.connects(meaning))
}

/// The tests of a day's work, in its order.
pub(crate) fn tests(
    of: &InstrumentTransformer,
    rig: Option<&Capability>,
    depth: Depth,
) -> Option<String> {
    let mut out = String::new();
    let mut add = |why: &str, lines: &str| out.push_str(&format!("# {why}\n[[test]]\n{lines}\n"));
    match of.kind {
        Kind::Current => current(of, rig, depth, &mut add),
        Kind::Voltage => voltage(of, rig, depth, &mut add),
    }
    Some(out)
}

fn voltage(
    of: &InstrumentTransformer,
    rig: Option<&Capability>,
    depth: Depth,
    add: &mut dyn FnMut(&str, &str),
) {
    let has_class = of.secondaries.iter().flat_map(|s| &s.taps).any(|tap| tap.class.is_some());
    let can = has(rig, "secondary voltage") && has(rig, "secondary current");
    if has_class && can && depth != Depth::Quick {
        let resolution = if depth == Depth::Routine { "resolution = \"quick\"\n" } else { "" };
        add(
            "All that the class asks at every phase and winding; the primary carries high voltage meanwhile.",
            &format!("id = \"class\"\nprocedure = \"class\"\n{resolution}"),
        );
        return;
    }
    add(
        "The ratio with both sides read, and the polarity.",
        "id = \"ratio\"\nprocedure = \"ratio\"\n",
    );
}

fn current(
    of: &InstrumentTransformer,
    rig: Option<&Capability>,
    depth: Depth,
    add: &mut dyn FnMut(&str, &str),
) {
    let taps = || of.secondaries.iter().flat_map(|s| &s.taps);
    let can_excite = taps().all(|tap| tap.test_voltage_v.is_some());
    let has_class = taps().any(|tap| tap.class.is_some());
    let (fine, quick) = ("", "resolution = \"quick\"\n");
    let places = "every phase, core and tap, one after the other, unattended";
    let wholes = || of.secondaries.iter().map(|s| s.whole());
    let can_tell = wholes().all(|tap| !tap.terminals.is_empty() && tap.primary.is_some());
    if can_excite && can_tell && of.secondaries.len() > 1 && depth == Depth::Commissioning {
        add(
            "One core fed, the others looked at: the primary is open, and no leads are mixed up.",
            "id = \"cores\"\nprocedure = \"cores\"\n",
        );
    }
    match (can_excite, has_class, depth) {
        (true, _, Depth::Commissioning) => add(
            &format!("All that the class asks at {places}; set the windings' temperature."),
            &format!("id = \"class\"\nprocedure = \"class\"\ntemperature = \"20 degC\"\n{fine}"),
        ),
        (true, _, Depth::Routine) => add(
            &format!(
                "All that the class asks at {places}, with fewer points; set the temperature."
            ),
            &format!("id = \"class\"\nprocedure = \"class\"\ntemperature = \"20 degC\"\n{quick}"),
        ),
        (true, true, Depth::Quick) => {
            for secondary in &of.secondaries {
                let whole = secondary.whole();
                let tap = match whole.terminals.as_str() {
                    "" => String::new(),
                    at => format!("tap = \"{at}\"\n"),
                };
                add(
                    &format!("The whole winding of core {}; set its temperature.", secondary.id),
                    &format!(
                        "id = \"class-{}\"\nprocedure = \"class\"\ncore = \"{}\"\n{tap}temperature = \"20 degC\"\n{quick}",
                        secondary.id, secondary.id
                    ),
                );
            }
        }
        _ => {
            let graded = match taps().any(|tap| tap.resistance_ohm.is_some()) {
                true => "held against the maker's value",
                false => "told only: the asset's file has no value of the maker's",
            };
            add(
                &format!("The winding's resistance, {graded}; set its temperature."),
                "id = \"winding\"\nprocedure = \"resistance\"\ntemperature = \"20 degC\"\n",
            );
            let level = if can_excite { "" } else { "level = \"10 V\"\n" };
            add(
                "The ratio with both sides read, and the polarity.",
                &format!("id = \"ratio\"\nprocedure = \"ratio\"\n{level}"),
            );
        }
    }
    if depth != Depth::Quick && has(rig, "burden current") {
        let graded = match of.first().whole().burden_va {
            Some(va) => format!("against the {va} VA of the nameplate"),
            None => "told only: the nameplate has no rated burden".to_owned(),
        };
        add(
            &format!("What is connected to the secondary, {graded}."),
            "id = \"burden\"\nprocedure = \"burden\"\n",
        );
    }
}
