//! Which terminals are fed and which are measured for each phase, and what ratio that must give.
//!
//! Every voltage between terminals is a sum of the e.m.f.s of the three limbs, with factors that follow
//! from the vector group. What is fed fixes one such sum, joined terminals and a closed delta others; a
//! pair of the other winding is fit to be measured where these fix its sum too, however the flux divides
//! between the limbs that are not fed.

use super::vector_group::{Connection, Side};
use num_complex::Complex64;
use std::f64::consts::PI;
use std::fmt;

/// A terminal of a winding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Terminal {
    /// U, V or W: 0, 1, 2.
    Phase(u8),
    /// The neutral.
    Neutral,
}

impl Terminal {
    /// Its letter.
    pub fn letter(self) -> char {
        match self {
            Self::Phase(0) => 'U',
            Self::Phase(1) => 'V',
            Self::Phase(_) => 'W',
            Self::Neutral => 'N',
        }
    }
}

/// Two terminals of a winding, or one against two that are joined.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Pair {
    /// The number of the winding: 1 of the high-voltage one.
    pub winding: u8,
    /// The first terminal.
    pub from: Terminal,
    /// The second one.
    pub to: Terminal,
    /// A further one that is joined with the second.
    pub joined: Option<Terminal>,
}

impl Pair {
    /// Two terminals of a winding.
    pub fn of(winding: u8, from: Terminal, to: Terminal) -> Self {
        Self { winding, from, to, joined: None }
    }
}

impl fmt::Display for Pair {
    /// `1U-1N`; `1U-1V+1W` where 1V and 1W are joined.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let n = self.winding;
        write!(f, "{n}{}-{n}{}", self.from.letter(), self.to.letter())?;
        self.joined.map_or(Ok(()), |joined| write!(f, "+{n}{}", joined.letter()))
    }
}

/// A sum of the e.m.f.s of the three limbs, each with its factor.
pub(super) type Sum = [f64; 3];

fn minus(a: Sum, b: Sum) -> Sum {
    [a[0] - b[0], a[1] - b[1], a[2] - b[2]]
}

fn times(a: Sum, by: f64) -> Sum {
    a.map(|x| x * by)
}

pub(super) fn dot(a: Sum, b: Sum) -> f64 {
    a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
}

/// A winding as the limbs see it.
#[derive(Clone, Copy, Debug)]
struct Seen {
    side: Side,
    number: u8,
    /// The angle of the first limb's e.m.f.
    limb: f64,
}

/// The phasor of the sum in symmetrical operation.
fn phasor(sum: Sum, limb: f64) -> Complex64 {
    let of = |k: usize| Complex64::from_polar(1.0, limb - k as f64 * 2.0 * PI / 3.0);
    (0..3).map(|k| of(k) * sum[k]).sum()
}

/// The factor and limb whose e.m.f. has a phasor; `None` where none has.
fn on_limb(wanted: Complex64, limb: f64) -> Option<Sum> {
    (0..3).flat_map(|k| [(k, 1.0), (k, -1.0)]).find_map(|(k, sign)| {
        let mut sum = [0.0; 3];
        sum[k] = sign * wanted.norm();
        ((phasor(sum, limb) - wanted).norm() < 1e-6).then_some(sum)
    })
}

impl Seen {
    /// A terminal against the neutral of a star or zigzag winding.
    fn star(&self, phase: usize) -> Sum {
        let wanted = self.side.phasor(phase);
        if self.side.connection == Connection::Star {
            return on_limb(wanted, self.limb).unwrap_or_default();
        }
        // Half of it on one limb, the other half backwards on another.
        let pairs = (0..3).flat_map(|a| (0..3).map(move |b| (a, b)));
        let halves = pairs.filter(|(a, b)| a != b).map(|(a, b)| {
            let mut sum = [0.0; 3];
            (sum[a], sum[b]) = (1.0 / 3f64.sqrt(), -1.0 / 3f64.sqrt());
            sum
        });
        let mut fits = halves.filter(|sum| (phasor(*sum, self.limb) - wanted).norm() < 1e-6);
        fits.next().unwrap_or_default()
    }

    /// From one terminal to another.
    fn between(&self, from: Terminal, to: Terminal) -> Option<Sum> {
        let phase = |t: Terminal| match t {
            Terminal::Phase(k) => Some(usize::from(k)),
            Terminal::Neutral => None,
        };
        match (self.side.connection, phase(from), phase(to)) {
            (Connection::Delta, Some(a), Some(b)) => {
                on_limb(self.side.phasor(a) - self.side.phasor(b), self.limb)
            }
            (Connection::Delta, ..) => None,
            (_, a, b) => {
                let of = |k: Option<usize>| k.map_or([0.0; 3], |k| self.star(k));
                Some(minus(of(a), of(b)))
            }
        }
    }

    /// What a pair is: the sum that is between its terminals, and those that joining makes nothing.
    fn pair(&self, pair: &Pair) -> Option<(Sum, Vec<Sum>)> {
        let direct = self.between(pair.from, pair.to)?;
        let Some(joined) = pair.joined else { return Some((direct, Vec::new())) };
        let other = self.between(pair.from, joined)?;
        let both = [direct[0] + other[0], direct[1] + other[1], direct[2] + other[2]];
        Some((times(both, 0.5), vec![self.between(pair.to, joined)?]))
    }

    /// Ways to feed it, the best one first: a pair for each phase.
    fn feeds(&self) -> Vec<[Pair; 3]> {
        use Terminal::{Neutral, Phase};
        let n = self.number;
        let each = |f: &dyn Fn(u8) -> Pair| [f(0), f(1), f(2)];
        let mut all = Vec::new();
        if self.side.neutral {
            all.push(each(&|k| Pair::of(n, Phase(k), Neutral)));
        }
        all.push(each(&|k| Pair::of(n, Phase(k), Phase((k + 1) % 3))));
        all.push(each(&|k| Pair {
            joined: Some(Phase((k + 2) % 3)),
            ..Pair::of(n, Phase(k), Phase((k + 1) % 3))
        }));
        all
    }

    /// The pairs that can be measured, those against the neutral first.
    fn measures(&self) -> Vec<Pair> {
        use Terminal::{Neutral, Phase};
        let n = self.number;
        let both = |a, b| [Pair::of(n, a, b), Pair::of(n, b, a)];
        let mut all = Vec::new();
        if self.side.neutral {
            all.extend((0..3).flat_map(|k| both(Phase(k), Neutral)));
        }
        all.extend((0..3).flat_map(|k| both(Phase(k), Phase((k + 1) % 3))));
        all
    }
}

/// What is fed and measured of a phase.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Shot {
    /// What is fed.
    pub fed: Pair,
    /// What is measured: in phase with what is fed.
    pub measured: Pair,
    /// The voltage fed over the one measured, where both windings have the same line voltage.
    pub factor: f64,
    /// The share of the fed winding's line voltage that its terminals have in operation.
    pub fed_share: f64,
}

/// Where the limbs' e.m.f.s lie to the phasors of a winding that is the first one.
fn limb_angle(first: Side) -> f64 {
    match first.connection {
        Connection::Star => 0.0,
        // U to V is a limb, 30° before U.
        Connection::Delta => PI / 6.0,
        // U is one limb less the next.
        Connection::Zigzag => -PI / 6.0,
    }
}

/// Windings of a transformer as the limbs see them.
#[derive(Clone, Debug)]
pub struct Windings {
    all: Vec<Seen>,
}

impl Windings {
    /// The windings of a vector group.
    pub fn new(sides: &[Side]) -> Self {
        let limb = sides.first().map_or(0.0, |first| limb_angle(*first));
        let seen = |(k, side): (usize, &Side)| Seen { side: *side, number: k as u8 + 1, limb };
        Self { all: sides.iter().enumerate().map(seen).collect() }
    }

    fn winding(&self, number: u8) -> Option<&Seen> {
        self.all.iter().find(|seen| seen.number == number)
    }

    /// The e.m.f. between a pair's terminals as factors of those of the three limbs, where a winding's phase
    /// has 1.
    pub fn sum(&self, pair: &Pair) -> Option<[f64; 3]> {
        Some(self.winding(pair.winding)?.pair(pair)?.0)
    }

    /// What must be nothing while a pair is fed: what it joins, and around every delta.
    pub fn nothing(&self, fed: &Pair) -> Vec<[f64; 3]> {
        let joined = self.winding(fed.winding).and_then(|seen| seen.pair(fed));
        let mut all = joined.map(|(_, none)| none).unwrap_or_default();
        if self.all.iter().any(|seen| seen.side.connection == Connection::Delta) {
            all.push([1.0; 3]);
        }
        all
    }

    /// What is fed and measured of each phase, where one winding is fed and another one measured.
    pub fn shots(&self, fed: u8, measured: u8) -> Option<[Shot; 3]> {
        let (from, to) = (self.winding(fed)?, self.winding(measured)?);
        let all = |is_exact: bool| {
            from.feeds().into_iter().find_map(|pairs| {
                let shot = |pair: &Pair| {
                    let mut fit = to.measures().into_iter();
                    fit.find_map(|other| self.shot(pair, &other, is_exact))
                };
                let found: Vec<Shot> = pairs.iter().filter_map(shot).collect();
                found.try_into().ok()
            })
        };
        // Where nothing is certain, a symmetrical division of the flux is the best guess.
        all(true).or_else(|| all(false))
    }

    /// A pair that is in phase with the fed one; certain, or if the flux divides evenly.
    fn shot(&self, fed: &Pair, measured: &Pair, is_exact: bool) -> Option<Shot> {
        let from = self.winding(fed.winding)?;
        let ((f, _), (m, _)) = (from.pair(fed)?, self.winding(measured.winding)?.pair(measured)?);
        let (of_fed, of_measured) = (phasor(f, from.limb), phasor(m, from.limb));
        let share = of_measured / of_fed;
        if share.re <= 1e-6 || share.im.abs() > 1e-6 * share.re {
            return None;
        }
        let left = minus(m, times(f, share.re));
        if is_exact && !is_among(left, &self.nothing(fed)) {
            return None;
        }
        Some(Shot {
            fed: *fed,
            measured: *measured,
            factor: of_fed.norm() / of_measured.norm(),
            fed_share: of_fed.norm() / 3f64.sqrt(),
        })
    }
}

/// Whether a sum is made of others that are nothing.
fn is_among(sum: Sum, nothing: &[Sum]) -> bool {
    // Gram and Schmidt: what is left of it beside them.
    let mut basis: Vec<Sum> = Vec::new();
    let beside = |mut v: Sum, basis: &[Sum]| {
        for b in basis {
            v = minus(v, times(*b, dot(v, *b)));
        }
        v
    };
    for n in nothing {
        let v = beside(*n, &basis);
        let length = dot(v, v).sqrt();
        if length > 1e-9 {
            basis.push(times(v, 1.0 / length));
        }
    }
    let left = beside(sum, &basis);
    dot(left, left).sqrt() < 1e-6
}
