//! Readings on the terminal.

use crate::tables::{align_right, table};
use crate::terminal::{Terminal, plain};
use waltron_core::injection::measuring::{Property, Reading, words};
use waltron_core::quantity::{Quantity, significant};

/// Whether a reading is one of several properties of the same output.
fn is_property(reading: &Reading) -> bool {
    !matches!(reading.probe.what, Property::Phasor | Property::Dc | Property::Value)
}

/// All readings: outputs a line each with their properties, then a table of meters and what is worked out.
pub(super) fn told(readings: &[(String, &Reading)], terminal: &Terminal) -> String {
    let (properties, values): (Vec<_>, Vec<_>) = readings.iter().partition(|(_, r)| is_property(r));
    let mut out = outputs(&properties);
    if !values.is_empty() {
        if !out.is_empty() {
            out.push('\n');
        }
        out.push_str(&values_table(&values, terminal));
    }
    out
}

fn outputs(readings: &[&(String, &Reading)]) -> String {
    let mut out = String::new();
    let mut of: Option<&str> = None;
    for (name, reading) in readings {
        let Some(text) = reading.value.text("value") else { continue };
        let text = match reading.probe.what {
            Property::Rms => format!("true RMS {text}"),
            Property::Thd => {
                let share = reading.value.get("value").unwrap_or_default();
                format!("THD {} %", significant(share * 100.0, 3))
            }
            Property::Phase => format!("@ {text}"),
            _ => text,
        };
        if of == Some(name) {
            out.push_str("  ");
        } else {
            let gap = if of.is_some() { "\n" } else { "" };
            out.push_str(&format!("{gap}{:<16}", plain(name)));
        }
        out.push_str(&text);
        of = Some(name);
    }
    if of.is_some() {
        out.push('\n');
    }
    out
}

/// Two digits, since an uncertainty is known no better (JCGM 100:2008, 7.2.6).
fn uncertainty(reading: &Reading) -> String {
    let dimension = reading.probe.dimension;
    let u = reading.uncertainty.get("value").map(|si| Quantity { si, dimension });
    u.map_or_else(String::new, |u| format!("{u:.2}"))
}

fn values_table(readings: &[&(String, &Reading)], terminal: &Terminal) -> String {
    let angles = readings.iter().any(|(_, r)| r.value.get("angle").is_some());
    let words = readings.iter().any(|(_, r)| r.lacks.is_some() || words::told(r).is_some());
    let mut header = vec!["", "Value", "U (k = 2)"];
    if angles {
        header.extend(["Angle", "Frequency"]);
    }
    if words {
        header.push("");
    }
    let mut table = table(header, terminal);
    for (name, reading) in readings {
        let value = |values: &waltron_core::grading::Values, name: &str| {
            values.column_text(name).unwrap_or_default()
        };
        let mut row = vec![plain(name), value(&reading.value, "value"), uncertainty(reading)];
        if angles {
            row.push(value(&reading.value, "angle"));
            row.push(value(&reading.value, "frequency"));
        }
        if words {
            let lack = reading.lacks.as_ref().map(|lack| format!("no value: {lack}"));
            row.push(plain(&lack.or_else(|| words::told(reading)).unwrap_or_default()));
        }
        table.add_row(row);
    }
    align_right(&mut table, 1..if angles { 5 } else { 3 });
    format!("{}\n", table.trim_fmt())
}
