//! Registers of a device that is read by Modbus: where a value stands, and what its bits are worth.

use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::injection::capability::Instrument;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, Spannable, Text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Accuracy;

/// A value that stands in one register, or in two.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct RegisterForm {
    /// Its name in sequences and tests, such as `unit.tripped`.
    name: Text,
    /// Its address, counted from 0 as it goes over the line.
    at: Spannable<i64>,
    /// Which table it stands in: `holding` if not given.
    space: Option<Space>,
    /// What its bits are: `u16` if not given.
    bits: Option<Bits>,
    /// Whether the lower half of two registers comes first; false if not given.
    swapped: Option<bool>,
    /// What one count is worth: `"1 A"`, `"10 ms"`; 1 if not given.
    worth: Option<AnyQuantityText>,
    /// What its numbers mean where they stand for words: `{ A = 1, B = 2 }`.
    words: Option<BTreeMap<String, f64>>,
}

/// Tables of registers (MODBUS Application Protocol V1.1b3, 4.3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Space {
    /// Holding registers, read by function 3.
    #[default]
    Holding,
    /// Input registers, read by function 4.
    Input,
}

/// What the bits of a value are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Bits {
    /// One register without a sign.
    #[default]
    U16,
    /// One register with a sign.
    I16,
    /// Two registers without a sign.
    U32,
    /// Two registers with a sign.
    I32,
    /// Two registers as a binary32 of IEEE 754.
    F32,
}

/// Where a value stands, and what it is worth.
#[derive(Clone, Debug, PartialEq)]
pub struct Register {
    /// Its table.
    pub space: Space,
    /// Its address, from 0.
    pub at: u16,
    /// What its bits are.
    pub bits: Bits,
    /// Whether the lower half comes first.
    pub swapped: bool,
    /// What one count is worth in SI.
    pub worth: f64,
}

impl Register {
    /// How many registers it takes.
    pub fn count(&self) -> u16 {
        match self.bits {
            Bits::U16 | Bits::I16 => 1,
            Bits::U32 | Bits::I32 | Bits::F32 => 2,
        }
    }

    /// What the registers say, in SI; `None` where they are too few, or no number.
    pub fn decode(&self, words: &[u16]) -> Option<f64> {
        let long = || {
            let (first, second) = (*words.first()?, *words.get(1)?);
            let (high, low) = if self.swapped { (second, first) } else { (first, second) };
            Some(u32::from(high) << 16 | u32::from(low))
        };
        let counts = match self.bits {
            Bits::U16 => f64::from(*words.first()?),
            Bits::I16 => f64::from(words.first()?.cast_signed()),
            Bits::U32 => f64::from(long()?),
            Bits::I32 => f64::from(long()?.cast_signed()),
            Bits::F32 => f64::from(f32::from_bits(long()?)),
        };
        Some(counts * self.worth).filter(|si| si.is_finite())
    }

    /// The registers that say a value; what does not fit is the nearest that does.
    pub fn encode(&self, si: f64) -> Vec<u16> {
        let counts = (si / self.worth).round();
        let long = |bits: u32| {
            let (high, low) = ((bits >> 16) as u16, bits as u16);
            if self.swapped { vec![low, high] } else { vec![high, low] }
        };
        // Casts of floating-point numbers saturate.
        match self.bits {
            Bits::U16 => vec![counts as u16],
            Bits::I16 => vec![(counts as i16).cast_unsigned()],
            Bits::U32 => long(counts as u32),
            Bits::I32 => long((counts as i32).cast_unsigned()),
            Bits::F32 => long(((si / self.worth) as f32).to_bits()),
        }
    }
}

impl RegisterForm {
    pub(super) fn read(self, problems: &mut Problems) -> Option<(Instrument, Register)> {
        let bits = self.bits.unwrap_or_default();
        let is_single = matches!(bits, Bits::U16 | Bits::I16);
        if is_single && self.swapped == Some(true) {
            let message = "one register has no halves to be `swapped`";
            problems.push(Problem::new(self.name.span(), message));
        }
        let Ok(at) = u16::try_from(*self.at.get()) else {
            let message = "addresses of registers go from 0 to 65535";
            problems.push(Problem::new(self.at.span(), message));
            return None;
        };
        let worth = match &self.worth {
            None => waltron_core::quantity::Quantity::number(1.0),
            Some(field) => field.read(problems)?,
        };
        if worth.si.is_nan() || worth.si <= 0.0 {
            let span = self.worth.as_ref().map_or(self.name.span(), Field::span);
            problems.push(Problem::new(span, "one count is worth something: more than zero"));
            return None;
        }
        // A number of counts is no nearer than half of one.
        let half = match bits {
            Bits::F32 => None,
            _ => AnyTolerance::parse(
                &waltron_core::quantity::Quantity { si: worth.si / 2.0, ..worth }.exact(),
                worth.dimension,
            )
            .ok(),
        };
        let register = Register {
            space: self.space.unwrap_or_default(),
            at,
            bits,
            swapped: self.swapped.unwrap_or(false),
            worth: worth.si,
        };
        if usize::from(at) + usize::from(register.count()) > 65_536 {
            let message = "its second register would lie beyond the last one";
            problems.push(Problem::new(self.at.span(), message));
            return None;
        }
        let instrument = Instrument {
            name: Name::from(self.name.as_str()),
            dimension: worth.dimension,
            most: None,
            accuracy: half.map(Accuracy::limit),
            by_computer: true,
            words: self.words.unwrap_or_default().into_iter().collect(),
        };
        Some((instrument, register))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn register(bits: Bits, swapped: bool, worth: f64) -> Register {
        Register { space: Space::Holding, at: 0, bits, swapped, worth }
    }

    /// Bits by hand: two's complement, and IEEE 754's 1280 = 0x44A0_0000.
    #[test]
    fn registers_say_what_their_bits_say() {
        let said =
            |bits, swapped, worth, words: &[u16]| register(bits, swapped, worth).decode(words);
        assert_eq!(said(Bits::U16, false, 10.0, &[128]), Some(1280.0));
        assert_eq!(said(Bits::I16, false, 1.0, &[0xFFFE]), Some(-2.0));
        assert_eq!(said(Bits::U32, false, 1.0, &[1, 2]), Some(65_538.0));
        assert_eq!(said(Bits::U32, true, 1.0, &[1, 2]), Some(131_073.0));
        assert_eq!(said(Bits::I32, false, 1.0, &[0xFFFF, 0xFFFF]), Some(-1.0));
        assert_eq!(said(Bits::F32, false, 1.0, &[0x44A0, 0]), Some(1280.0));
        assert_eq!(said(Bits::F32, true, 1.0, &[0, 0x44A0]), Some(1280.0));
        // No number, and too few registers.
        assert_eq!(said(Bits::F32, false, 1.0, &[0x7FC0, 0]), None);
        assert_eq!(said(Bits::U32, false, 1.0, &[1]), None);
        assert_eq!(said(Bits::U16, false, 1.0, &[]), None);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(counts in 0u16..=u16::MAX, swapped: bool, worth in 1e-3f64..1e3) {
            for bits in [Bits::U16, Bits::U32, Bits::I32, Bits::F32] {
                let register = register(bits, swapped, worth);
                let si = f64::from(counts) * worth;
                let read = register.decode(&register.encode(si)).unwrap();
                prop_assert!((read - si).abs() <= 1e-6 * si.abs(), "{bits:?} {si} {read}");
            }
        }
    }
}
