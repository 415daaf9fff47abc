//! What a reading means, in words.

use super::{Reading, Signal, Worked};
use crate::quantity::{Dimension, Quantity, significant};
use std::f64::consts::PI;

/// How far from in phase, or from in antiphase, two signals may be to have a polarity, in radians: 30°.
const POLARITY: f64 = PI / 6.0;

/// How two signals stand to each other, by the angle between them in radians.
pub fn polarity(angle: f64) -> &'static str {
    let off = angle.sin().atan2(angle.cos()).abs();
    match off {
        o if o <= POLARITY => "in phase: same polarity",
        o if o >= PI - POLARITY => "in antiphase: opposite polarity",
        _ => "neither in phase nor in antiphase",
    }
}

/// A signal as people write it down: `secondary voltage / primary voltage`.
pub fn signal(of: &Signal) -> String {
    let part = |of: &Signal| match of {
        Signal::Named(_) => signal(of),
        Signal::Worked(_) => format!("({})", signal(of)),
    };
    match of {
        Signal::Named(name) => name.to_string(),
        Signal::Worked(worked) => match &**worked {
            Worked::Quotient([a, b]) => format!("{} / {}", part(a), part(b)),
            Worked::Product([a, b]) => format!("{} * {}", part(a), part(b)),
            Worked::Difference([a, b]) => format!("{} - {}", part(a), part(b)),
        },
    }
}

/// What follows from a value with its angle: of a ratio the polarity, of an impedance R and X, of a power
/// P, Q and the power factor. `None` where nothing does.
pub fn told(reading: &Reading) -> Option<String> {
    let (size, angle) = (reading.value.get("value")?, reading.value.get("angle")?);
    let part = |si: f64| Quantity { si, dimension: reading.probe.dimension };
    let Signal::Worked(_) = &reading.probe.of else { return None };
    match reading.probe.dimension {
        Dimension::NUMBER => Some(polarity(angle).to_owned()),
        Dimension::RESISTANCE => {
            Some(format!("R {}, X {}", part(size * angle.cos()), part(size * angle.sin())))
        }
        Dimension::POWER => {
            let (p, q) = (size * angle.cos(), size * angle.sin());
            let watts = Quantity { si: p, dimension: Dimension::POWER }.to_string();
            let factor = significant(angle.cos().abs(), 4);
            let (side, var) = (if q >= 0.0 { "lagging" } else { "leading" }, part(q).to_string());
            let of = |text: String, unit: &str| match text.strip_suffix("VA") {
                Some(number) => format!("{number}{unit}"),
                None => text,
            };
            let (watts, var) = (of(watts, "W"), of(var, "var"));
            Some(format!("P {watts}, Q {var}, power factor {factor} {side}"))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grading::Values;
    use crate::injection::measuring::{Probe, Property};

    fn worked(way: &str, dimension: Dimension, size: f64, degrees: f64) -> Option<String> {
        let of = Signal::read(&format!("{way}(a, b)"), &[]).unwrap();
        let angle = Quantity { si: degrees.to_radians(), dimension: Dimension::ANGLE };
        let value = Values::none()
            .with_quantity("value", Quantity { si: size, dimension })
            .with_quantity("angle", angle);
        told(&Reading::at_end(Probe { of, what: Property::Phasor, dimension }, value))
    }

    #[test]
    fn what_is_worked_out_reads_as_it_is_written() {
        for text in ["a / b", "(a - b) / c", "a * (b / c)", "primary voltage"] {
            let known = crate::text::name::Name::from("primary voltage");
            let of = Signal::read(text, &[&known]).unwrap();
            assert_eq!(signal(&of), text);
        }
    }

    #[test]
    fn ratios_impedances_and_powers_in_words() {
        let ratio = |degrees| worked("quotient", Dimension::NUMBER, 600.0, degrees).unwrap();
        assert_eq!(ratio(359.0), "in phase: same polarity");
        assert_eq!(ratio(-178.0), "in antiphase: opposite polarity");
        assert_eq!(ratio(90.0), "neither in phase nor in antiphase");
        let z = worked("quotient", Dimension::RESISTANCE, 5.0, 36.869_897_645_844_02);
        assert_eq!(z.unwrap(), "R 4 Ohm, X 3 Ohm");
        let s = worked("product", Dimension::POWER, 1000.0, -60.0);
        assert_eq!(s.unwrap(), "P 500 W, Q -866 var, power factor 0.5 leading");
        assert_eq!(worked("difference", Dimension::VOLTAGE, 1.0, 0.0), None);
    }
}
