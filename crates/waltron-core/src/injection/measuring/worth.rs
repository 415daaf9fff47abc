//! Working values out from readings, with what they are uncertain by.
//!
//! First order (JCGM 100:2008, 5.1.2): each error of an input moves the result by so much; an input that is used twice
//! moves it once, by the sum.

use super::Lack;
use super::signal::{Signal, Worked};
use crate::text::name::Name;
use crate::uncertainty::{Cause, Estimate};
use num_complex::Complex64;

/// A value that was worked out, with what moves it.
#[derive(Clone, Debug, PartialEq)]
pub struct Worth {
    /// The value: an RMS phasor, or a real number, in SI.
    pub value: Complex64,
    /// By how much each cause moves it, for one of its own unit.
    moves: Vec<(Cause, Complex64)>,
}

impl Worth {
    /// What a meter shows, with its own errors and by how much each moves it.
    pub fn seen(value: Complex64, moves: Vec<(Cause, Complex64)>) -> Self {
        Self { value, moves }
    }

    /// So many times it.
    #[must_use]
    pub fn times(self, factor: f64) -> Self {
        let value = self.value * factor;
        Self { value, ..self.moved(|m| m * factor) }
    }

    /// The same, moved by a cause as well.
    #[must_use]
    pub fn with(mut self, cause: Cause, by: Complex64) -> Self {
        self.moves.push((cause, by));
        self
    }

    /// The same causes, each of which moves another value.
    fn moved(mut self, by: impl Fn(Complex64) -> Complex64) -> Self {
        self.moves.iter_mut().for_each(|(_, moves)| *moves = by(*moves));
        self
    }

    fn joined(self, other: Self, value: Complex64) -> Self {
        let mut moves = self.moves;
        for (cause, theirs) in other.moves {
            match moves.iter_mut().find(|(known, _)| known.source == cause.source) {
                // One error may be told as a share of each of two values.
                Some((known, ours)) if known.standard.si() > 0.0 => {
                    *ours += theirs * (cause.standard.si() / known.standard.si());
                }
                Some(known) => *known = (cause, theirs),
                None => moves.push((cause, theirs)),
            }
        }
        Self { value, moves }
    }

    fn part(&self, value: f64, part: impl Fn(Complex64) -> f64) -> Estimate {
        let moves = self.moves.iter();
        moves.fold(Estimate::exact(value), |all, (cause, by)| all.with(cause.clone(), part(*by)))
    }

    /// Its size; of what has none, what is there at most.
    pub fn size(&self) -> Estimate {
        match self.value.norm() {
            0.0 => self.part(0.0, Complex64::norm),
            size => self.part(size, |m| (m * self.value.conj()).re / size),
        }
    }

    /// Its real part.
    pub fn real(&self) -> Estimate {
        self.part(self.value.re, |m| m.re)
    }

    /// Its angle in radians; of what has no size, nothing is known of it.
    pub fn angle(&self) -> Option<Estimate> {
        let square = self.value.norm_sqr();
        let turn = |m: Complex64| (m * self.value.conj()).im / square;
        (square > 0.0).then(|| self.part(self.value.arg(), turn))
    }
}

/// Works a signal out from what `seen` shows of the names in it.
///
/// # Errors
/// The [`Lack`] of an input, or a quotient by almost nothing.
pub fn work_out(
    signal: &Signal,
    seen: &mut dyn FnMut(&Name) -> Result<Worth, Lack>,
) -> Result<Worth, Lack> {
    let worked = match signal {
        Signal::Named(name) => return seen(name),
        Signal::Worked(worked) => &**worked,
    };
    let mut both = |[a, b]: &[Signal; 2]| Ok((work_out(a, seen)?, work_out(b, seen)?));
    match worked {
        Worked::Quotient(of) => {
            let (a, b) = both(of)?;
            if b.value.norm() <= b.size().expanded() {
                return Err(Lack::AlmostNothing(of[1].to_string()));
            }
            let (over, value) = (b.value, a.value / b.value);
            Ok(a.moved(|m| m / over).joined(b.moved(|m| -m * value / over), value))
        }
        Worked::Product(of) => {
            let (a, b) = both(of)?;
            let (first, second) = (a.value, b.value.conj());
            Ok(a.moved(|m| m * second).joined(b.moved(|m| first * m.conj()), first * second))
        }
        Worked::Difference(of) => {
            let (a, b) = both(of)?;
            let value = a.value - b.value;
            Ok(a.joined(b.moved(|m| -m), value))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grading::Value;
    use crate::quantity::{Dimension, Quantity};
    use proptest::prelude::*;

    fn named(way: &str, a: Signal, b: Signal) -> Signal {
        Worked::named(way, [a, b]).unwrap().into()
    }

    type Inputs = [(&'static str, Complex64, f64, f64); 2];

    fn worth(signal: &Signal, inputs: &Inputs) -> Result<Worth, Lack> {
        work_out(signal, &mut |name| {
            let (known, value, size, angle) =
                inputs.iter().find(|(known, ..)| *name == **known).unwrap();
            let number = |si: f64| Value::Plain(Quantity { si, dimension: Dimension::NUMBER });
            let turn = value / value.norm();
            Ok(Worth::seen(
                *value,
                vec![
                    (Cause::expanded(format!("{known} size"), number(*size)), turn),
                    (
                        Cause::expanded(format!("{known} angle"), number(*angle)),
                        Complex64::I * value,
                    ),
                ],
            ))
        })
    }

    fn polar(size: f64, degrees: f64) -> Complex64 {
        Complex64::from_polar(size, degrees.to_radians())
    }

    /// By hand: 230 V at 30° over 5 A at 0° is 46 Ω at 30°; their product is 1150 VA, cos 30° of it
    /// active. 0.3 % and 0.4 % make 0.5 %; angles of 3' and 4' make 5'.
    #[test]
    fn quotient_product_and_difference_by_hand() {
        let minutes = |m: f64| (m / 60.0).to_radians();
        let inputs: Inputs = [
            ("v", polar(230.0, 30.0), 0.69, minutes(3.0)),
            ("i", polar(5.0, 0.0), 0.02, minutes(4.0)),
        ];
        let z = worth(&named("quotient", "v".into(), "i".into()), &inputs).unwrap();
        assert!((z.value - polar(46.0, 30.0)).norm() < 1e-12);
        assert!((z.size().expanded() - 0.005 * 46.0).abs() < 1e-12);
        assert!((z.angle().unwrap().expanded() - minutes(5.0)).abs() < 1e-12);
        let s = worth(&named("product", "v".into(), "i".into()), &inputs).unwrap();
        assert!((s.value.re - 1150.0 * 30f64.to_radians().cos()).abs() < 1e-9);
        assert!((s.size().expanded() - 0.005 * 1150.0).abs() < 1e-9);
        let itself = worth(&named("difference", "v".into(), "v".into()), &inputs).unwrap();
        assert_eq!((itself.value, itself.size().expanded()), (Complex64::ZERO, 0.0));
        let one = worth(&named("quotient", "v".into(), "v".into()), &inputs).unwrap();
        assert!(one.size().expanded() < 1e-15, "what is divided by itself is one for certain");
    }

    #[test]
    fn nothing_is_divided_by_what_is_lost_in_the_uncertainty() {
        let inputs: Inputs =
            [("v", polar(10.0, 0.0), 0.1, 0.0), ("i", polar(0.01, 0.0), 0.02, 0.0)];
        let quotient = named("quotient", "v".into(), "i".into());
        assert_eq!(worth(&quotient, &inputs), Err(Lack::AlmostNothing("i".to_owned())));
        let same = named("difference", "i".into(), "i".into());
        let by_nothing = named("quotient", "v".into(), same);
        assert!(matches!(worth(&by_nothing, &inputs), Err(Lack::AlmostNothing(_))));
    }

    proptest! {
        /// Against differences: every input moved by its uncertainty, one at a time.
        #[test]
        fn first_order_is_what_small_moves_do(
            a in 1.0f64..100.0, b in 1.0f64..100.0, at in -180.0f64..180.0, bt in -180.0f64..180.0,
            u in 1e-7f64..1e-5, w in 1e-7f64..1e-5, way in 0usize..3,
        ) {
            let signal = named(Worked::NAMES[way].0, "v".into(), "i".into());
            let (v, i) = (polar(a, at), polar(b, bt));
            prop_assume!(way != 2 || (v - i).norm() > 1.0);
            let inputs: Inputs = [("v", v, a * u, w), ("i", i, b * w, u)];
            let worth = worth(&signal, &inputs).unwrap();
            let value = |v: Complex64, i: Complex64| match way {
                0 => v / i,
                1 => v * i.conj(),
                _ => v - i,
            };
            let base = value(v, i);
            let turn = |by: f64| Complex64::from_polar(1.0, by);
            let moved = [
                value(v * (1.0 + u), i), value(v * turn(w), i),
                value(v, i * (1.0 + w)), value(v, i * turn(u)),
            ];
            let root = |of: &dyn Fn(Complex64) -> f64| {
                moved.iter().map(|m| of(*m).powi(2)).sum::<f64>().sqrt()
            };
            let size = root(&|m| m.norm() - base.norm());
            let angle = root(&|m| (m / base).arg());
            prop_assert!((worth.size().expanded() - size).abs() < 1e-3 * size + 1e-9 * base.norm());
            prop_assert!((worth.angle().unwrap().expanded() - angle).abs() < 1e-3 * angle + 1e-9);
        }
    }
}
