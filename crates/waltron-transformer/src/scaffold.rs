//! Files to begin with: they load as they are, and say what to fill in.

use crate::asset::{InstrumentTransformer, Kind};

const CURRENT: &str = r#"# A current transformer. Every quantity is text with its unit; what is commented out is optional.

[asset]
kind = "current-transformer"
tag = "T1"                  # operating designation
# site = "", bay = "", operator = "", maker = "", model = "", serial = ""

[ratings]
frequency = "50 Hz"
primary = "600 A"
secondary = "1 A"
burden = "10 VA"            # rated burden of the core
continuous = "120 %"        # of the rated current, for ever
# short_time = { current = "25 kA", for = "1 s" }
test_voltage = "100 V"      # the largest voltage put on the secondary for a test

# What the maker measured; without it resistances are told and not graded.
# [winding]
# resistance = "4.5 Ohm"
# reference = "75 degC"
# material = "copper"

[tolerance]
ratio = "0.5 %"
resistance = "5 %"

# What is written at its terminals, for the hook-up sheet.
[terminals]
"secondary voltage" = "S1, S2"
"secondary current" = "S1, S2"
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
secondary = "110 V / sqrt(3)"
burden = "25 VA"            # rated burden
continuous = "120 %"        # of the rated voltage, for ever

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

/// The tests of a day's work, in its order.
pub(crate) fn tests(of: &InstrumentTransformer) -> Option<String> {
    let mut out = String::new();
    let mut add = |why: &str, lines: &str| out.push_str(&format!("# {why}\n[[test]]\n{lines}\n"));
    if of.kind == Kind::Current {
        let graded = match of.winding {
            Some(_) => "held against the maker's value",
            None => "told only: the asset's file has no value of the maker's",
        };
        add(
            &format!("The winding's resistance, {graded}; set its temperature."),
            "id = \"winding\"\nprocedure = \"resistance\"\ntemperature = \"20 degC\"\n",
        );
    }
    let level = match (of.kind, of.test_voltage_v) {
        (Kind::Current, None) => "level = \"10 V\"\n",
        _ => "",
    };
    add(
        &format!("The ratio of {} with both sides read, and the polarity.", of.plate()),
        &format!("id = \"ratio\"\nprocedure = \"ratio\"\n{level}"),
    );
    if of.kind == Kind::Current {
        let graded = match of.burden_va {
            Some(va) => format!("against the {va} VA of the nameplate"),
            None => "told only: the nameplate has no rated burden".to_owned(),
        };
        add(
            &format!("What is connected to the secondary, {graded}."),
            "id = \"burden\"\nprocedure = \"burden\"\n",
        );
    }
    Some(out)
}
