//! Working values out from readings, with what they are uncertain by.
//!
//! First order (JCGM 100:2008, 5.1.2): what each input is uncertain by in size and in angle moves the
//! result by so much; an input that is used twice moves it once, by the sum. The parts are taken as
//! independent of each other.

use super::Lack;
use super::signal::{Signal, Worked};
use crate::text::name::Name;
use num_complex::Complex64;

/// What a meter shows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Seen {
    /// An RMS phasor, or a value without an angle as a real number, in SI.
    pub value: Complex64,
    /// What its size is uncertain by (k = 2), in SI.
    pub size: f64,
    /// What its angle is uncertain by (k = 2), in radians.
    pub angle: f64,
}

/// A value that was worked out.
#[derive(Clone, Debug, PartialEq)]
pub struct Worth {
    /// The value: a phasor, or a real number.
    pub value: Complex64,
    /// By how much each input moves it: with the error of its size, and with that of its angle.
    moves: Vec<(Name, [Complex64; 2])>,
}

impl Worth {
    fn of(name: &Name, seen: Seen) -> Self {
        let turn = match seen.value.norm() {
            0.0 => Complex64::ONE,
            size => seen.value / size,
        };
        let by_angle = Complex64::I * seen.value * seen.angle;
        Self { value: seen.value, moves: vec![(name.clone(), [turn * seen.size, by_angle])] }
    }

    /// The same inputs, each of which moves another value.
    fn moved(mut self, by: impl Fn(Complex64) -> Complex64) -> Self {
        self.moves.iter_mut().for_each(|(_, moves)| *moves = moves.map(&by));
        self
    }

    fn joined(self, other: Self, value: Complex64) -> Self {
        let mut moves = self.moves;
        for (name, theirs) in other.moves {
            match moves.iter_mut().find(|(known, _)| *known == name) {
                Some((_, ours)) => *ours = [ours[0] + theirs[0], ours[1] + theirs[1]],
                None => moves.push((name, theirs)),
            }
        }
        Self { value, moves }
    }

    fn root_of(&self, part: impl Fn(Complex64) -> f64) -> f64 {
        let squares = self.moves.iter().flat_map(|(_, moves)| moves).map(|m| part(*m).powi(2));
        squares.sum::<f64>().sqrt()
    }

    /// What its size is uncertain by (k = 2); of what has no size, by all that may be there.
    pub fn size_uncertainty(&self) -> f64 {
        match self.value.norm() {
            0.0 => self.root_of(Complex64::norm),
            size => self.root_of(|m| (m * self.value.conj()).re / size),
        }
    }

    /// What its angle is uncertain by (k = 2), in radians: half a turn at most.
    pub fn angle_uncertainty(&self) -> f64 {
        let square = self.value.norm_sqr();
        if square == 0.0 {
            return std::f64::consts::PI;
        }
        self.root_of(|m| (m * self.value.conj()).im / square).min(std::f64::consts::PI)
    }
}

/// Works a signal out from what `seen` shows of the names in it.
///
/// # Errors
/// The [`Lack`] of an input, or a quotient by almost nothing.
pub fn work_out(
    signal: &Signal,
    seen: &mut dyn FnMut(&Name) -> Result<Seen, Lack>,
) -> Result<Worth, Lack> {
    let worked = match signal {
        Signal::Named(name) => return seen(name).map(|seen| Worth::of(name, seen)),
        Signal::Worked(worked) => &**worked,
    };
    let mut both = |[a, b]: &[Signal; 2]| Ok((work_out(a, seen)?, work_out(b, seen)?));
    match worked {
        Worked::Quotient(of) => {
            let (a, b) = both(of)?;
            if b.value.norm() <= b.size_uncertainty() {
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
    use proptest::prelude::*;

    fn named(way: &str, a: Signal, b: Signal) -> Signal {
        Worked::named(way, [a, b]).unwrap().into()
    }

    type Inputs = [(&'static str, Complex64, f64, f64); 2];

    fn worth(signal: &Signal, inputs: &Inputs) -> Result<Worth, Lack> {
        work_out(signal, &mut |name| {
            let found = inputs.iter().find(|(known, ..)| *name == **known).unwrap();
            Ok(Seen { value: found.1, size: found.2, angle: found.3 })
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
        assert!((z.size_uncertainty() - 0.005 * 46.0).abs() < 1e-12);
        assert!((z.angle_uncertainty() - minutes(5.0)).abs() < 1e-12);
        let s = worth(&named("product", "v".into(), "i".into()), &inputs).unwrap();
        assert!((s.value.re - 1150.0 * 30f64.to_radians().cos()).abs() < 1e-9);
        assert!((s.size_uncertainty() - 0.005 * 1150.0).abs() < 1e-9);
        let itself = worth(&named("difference", "v".into(), "v".into()), &inputs).unwrap();
        assert_eq!((itself.value, itself.size_uncertainty()), (Complex64::ZERO, 0.0));
        let one = worth(&named("quotient", "v".into(), "v".into()), &inputs).unwrap();
        assert!(one.size_uncertainty() < 1e-15, "what is divided by itself is one for certain");
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
            prop_assert!((worth.size_uncertainty() - size).abs() < 1e-3 * size + 1e-9 * base.norm());
            prop_assert!((worth.angle_uncertainty() - angle).abs() < 1e-3 * angle + 1e-9);
        }
    }
}
