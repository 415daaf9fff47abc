//! Vector groups: how the windings of a three-phase transformer are connected, and by how many hours of a
//! clock the phasors of one lie behind those of another (IEC 60076-1, clause 7).

use num_complex::Complex64;
use std::f64::consts::PI;
use std::fmt;

/// How the three phases of a winding are connected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Connection {
    /// Star: Y.
    Star,
    /// Delta: D.
    Delta,
    /// Zigzag: Z.
    Zigzag,
}

/// A winding in a vector group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Side {
    /// How its phases are connected.
    pub connection: Connection,
    /// Whether its neutral is brought out.
    pub neutral: bool,
    /// Hours of the clock by which it lies behind the high-voltage winding, 0 to 11.
    pub clock: u8,
}

/// A vector group: the high-voltage winding first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VectorGroup {
    /// Two or three windings; the first one's clock is 0.
    pub sides: Vec<Side>,
}

impl Side {
    fn letters(self, is_first: bool) -> String {
        let letters = match self.connection {
            Connection::Star => "Y",
            Connection::Delta => "D",
            Connection::Zigzag => "Z",
        };
        let text = if self.neutral { format!("{letters}N") } else { letters.to_owned() };
        if is_first { text } else { text.to_lowercase() }
    }

    /// Whether its phasors lie between those of a star of the same clock.
    fn is_odd(self) -> bool {
        self.connection == Connection::Delta
    }

    /// The voltage of terminal U, V or W (0, 1, 2) against the neutral in symmetrical operation: a phasor of
    /// length 1, that of the high-voltage winding's U without an angle.
    pub fn phasor(self, phase: usize) -> Complex64 {
        let lag = f64::from(self.clock) * PI / 6.0 + phase as f64 * 2.0 * PI / 3.0;
        Complex64::from_polar(1.0, -lag)
    }
}

/// Connections whose phasors can lie so many hours apart: those of the same kind by even hours.
fn can_be(first: Side, other: Side) -> bool {
    // A zigzag lies 30° beside a star on the same limbs, as a delta does, but its legs are the star's.
    let zigzag = |s: Side| s.connection == Connection::Zigzag;
    let odd = first.is_odd() ^ other.is_odd() ^ zigzag(first) ^ zigzag(other);
    odd == (other.clock % 2 == 1)
}

impl VectorGroup {
    /// All terminals, winding by winding: `1U`, `1V`, `1W`, and `1N` where the neutral is brought out.
    pub fn terminals(&self) -> Vec<String> {
        let of = |(k, side): (usize, &Side)| {
            let letters = if side.neutral { "UVWN" } else { "UVW" };
            letters.chars().map(move |letter| format!("{}{letter}", k + 1)).collect::<Vec<_>>()
        };
        self.sides.iter().enumerate().flat_map(of).collect()
    }

    /// Reads a vector group such as `YNd5`, `Dyn11` or `YN yn0 d5`.
    ///
    /// # Errors
    /// What is wrong with it, and what could stand there instead.
    pub fn parse(text: &str) -> Result<Self, String> {
        let plain: String = text.chars().filter(|c| !c.is_whitespace() && *c != ',').collect();
        let mut rest = plain.as_str();
        let mut sides: Vec<Side> = Vec::new();
        while !rest.is_empty() {
            let is_first = sides.is_empty();
            let mut later = rest.char_indices().skip(1);
            let next = later.find(|(_, c)| "yYdDzZ".contains(*c));
            let (word, after) = rest.split_at(next.map_or(rest.len(), |(at, _)| at));
            sides.push(side(word, is_first).map_err(|why| format!("`{word}` of `{text}`: {why}"))?);
            rest = after;
        }
        let [first, others @ ..] = sides.as_slice() else {
            return Err("a vector group names at least two windings, such as `YNd5`".to_owned());
        };
        if others.is_empty() || others.len() > 2 {
            return Err(format!(
                "`{text}` names {} windings; a vector group names two or three, such as `YNd5` or `YNyn0d5`",
                sides.len()
            ));
        }
        if let Some(odd) = others.iter().find(|other| !can_be(*first, **other)) {
            let letters = format!("{}{}", first.letters(true), odd.letters(false));
            let kind = if odd.clock % 2 == 1 { "even" } else { "odd" };
            return Err(format!(
                "`{text}` cannot exist: the hours of {letters} are {kind}, and {} is not",
                odd.clock
            ));
        }
        Ok(Self { sides })
    }

    /// Every group of two windings that can exist with these connections.
    pub fn all_of(first: Side, other: Side) -> Vec<Self> {
        let of = |clock: u8| Side { clock, ..other };
        let all = (0..12).map(of).filter(|side| can_be(first, *side));
        all.map(|side| Self { sides: vec![first, side] }).collect()
    }

    /// Two of its windings as a group of their own: the clock of the second counted from the first.
    pub fn between(&self, first: usize, other: usize) -> Option<Self> {
        let (first, other) = (*self.sides.get(first)?, *self.sides.get(other)?);
        let clock = (12 + other.clock - first.clock) % 12;
        Some(Self { sides: vec![Side { clock: 0, ..first }, Side { clock, ..other }] })
    }
}

/// One winding: its letters, and its clock where it is not the first one.
fn side(word: &str, is_first: bool) -> Result<Side, String> {
    let number = word.find(|c: char| c.is_ascii_digit()).unwrap_or(word.len());
    let (letters, number) = word.split_at(number);
    let upper = letters.to_uppercase();
    let is_as_written = match is_first {
        true => letters == upper,
        false => letters == letters.to_lowercase(),
    };
    let (connection, neutral) = match upper.as_str() {
        "Y" => (Connection::Star, false),
        "YN" => (Connection::Star, true),
        "D" => (Connection::Delta, false),
        "Z" => (Connection::Zigzag, false),
        "ZN" => (Connection::Zigzag, true),
        "DN" => return Err("a delta has no neutral".to_owned()),
        _ => return Err("a winding is Y, YN, D, Z or ZN".to_owned()),
    };
    if !is_as_written {
        return Err(match is_first {
            true => format!("the high-voltage winding comes first, in capitals: `{upper}`"),
            false => {
                format!(
                    "all windings but the first are in small letters: `{}`",
                    upper.to_lowercase()
                )
            }
        });
    }
    let clock = match (is_first, number) {
        (true, "") => 0,
        (true, _) => return Err("the high-voltage winding has no clock number".to_owned()),
        (false, "") => return Err("its clock number is missing".to_owned()),
        (false, number) => number.parse::<u8>().ok().filter(|n| *n < 12).ok_or_else(|| {
            let instead = if number == "12" { "; for 12 write 0" } else { "" };
            format!("its clock number is 0 to 11{instead}")
        })?,
    };
    Ok(Side { connection, neutral, clock })
}

impl fmt::Display for VectorGroup {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (k, side) in self.sides.iter().enumerate() {
            f.write_str(&side.letters(k == 0))?;
            if k > 0 {
                write!(f, "{}", side.clock)?;
            }
        }
        Ok(())
    }
}
