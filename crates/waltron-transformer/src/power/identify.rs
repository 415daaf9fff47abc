//! Which connection explains what single-phase voltages have shown: a vector group, or a mistake.
//!
//! Each phase of one winding is fed in turn, and the line voltages of the other one are read with their
//! signs. How the flux divides between the limbs that are not fed is not known; it is one number for each
//! phase that is fed, and found together with the ratio by least squares for every connection that is
//! thought of. The one that leaves least explains the readings, if it leaves little, and clearly less than
//! the next one.

use super::pairs::{Pair, Sum, Terminal, Windings, dot};
use super::vector_group::{Connection, VectorGroup};

/// The line voltages that are read, from terminal to terminal.
pub const LINES: [(u8, u8); 3] = [(0, 1), (1, 2), (2, 0)];

/// What explains the readings.
#[derive(Clone, Debug, PartialEq)]
pub enum Explained {
    /// Windings connected as this group.
    Group(VectorGroup),
    /// The nameplate's group with two leads swapped: the winding's number, and the two terminals.
    Swapped(u8, [char; 2]),
    /// The nameplate's group with a phase's coil the wrong way round: the winding's number and the phase.
    Reversed(u8, char),
}

/// A connection that is thought of: the sums of the lines of one winding, and of what is fed.
struct Candidate {
    what: Explained,
    /// Of each fed pair its sum and those that must be nothing.
    fed: [(Sum, Vec<Sum>); 3],
    lines: [Sum; 3],
}

/// How far from explained is still explained, as a share of what was read.
const GOOD: f64 = 0.08;

/// How much worse the next connection must be.
const CLEAR: f64 = 3.0;

fn line(winding: u8, (a, b): (u8, u8)) -> Pair {
    Pair::of(winding, Terminal::Phase(a), Terminal::Phase(b))
}

/// A terminal where two leads may be swapped.
fn swapped(terminal: Terminal, swap: Option<(u8, u8)>) -> Terminal {
    match (terminal, swap) {
        (Terminal::Phase(k), Some((a, b))) if k == a => Terminal::Phase(b),
        (Terminal::Phase(k), Some((a, b))) if k == b => Terminal::Phase(a),
        (terminal, _) => terminal,
    }
}

/// All connections that are thought of: every hour of the clock, leads swapped, a coil reversed.
fn candidates(nameplate: &VectorGroup, fed: &[Pair; 3]) -> Vec<Candidate> {
    let [first, second] = [nameplate.sides[0], nameplate.sides[1]];
    let of = |group: &VectorGroup, swap: [Option<(u8, u8)>; 2], what: Explained| {
        let windings = Windings::new(&group.sides);
        let feeds = fed.map(|pair| {
            let to = |t| swapped(t, swap[0]);
            let pair = Pair {
                from: to(pair.from),
                to: to(pair.to),
                joined: pair.joined.map(to),
                winding: 1,
            };
            (windings.sum(&pair).unwrap_or_default(), windings.nothing(&pair))
        });
        let lines = LINES.map(|(a, b)| {
            let to = |k| swapped(Terminal::Phase(k), swap[1]);
            windings.sum(&Pair::of(2, to(a), to(b))).unwrap_or_default()
        });
        Candidate { what, fed: feeds, lines }
    };
    let groups = VectorGroup::all_of(first, second);
    let mut all: Vec<Candidate> =
        groups.iter().map(|g| of(g, [None; 2], Explained::Group(g.clone()))).collect();
    for swap in LINES {
        let letters = [swap.0, swap.1].map(|k| Terminal::Phase(k).letter());
        for winding in [1u8, 2] {
            let swaps = if winding == 1 { [Some(swap), None] } else { [None, Some(swap)] };
            all.push(of(nameplate, swaps, Explained::Swapped(winding, letters)));
        }
    }
    // A coil of a star the wrong way round; a delta with one would be a short circuit.
    if second.connection == Connection::Star {
        for phase in 0..3u8 {
            let letter = Terminal::Phase(phase).letter();
            let mut one = of(nameplate, [None; 2], Explained::Reversed(2, letter));
            let star = Windings::new(&nameplate.sides);
            let of_phase = |k: u8| {
                let toward = |to| Pair::of(2, Terminal::Phase(k), to);
                let sum = match second.neutral {
                    true => star.sum(&toward(Terminal::Neutral)),
                    false => star_of(&star, k),
                };
                let sum = sum.unwrap_or_default();
                if k == phase { sum.map(|x| -x) } else { sum }
            };
            one.lines = LINES.map(|(a, b)| {
                let (a, b) = (of_phase(a), of_phase(b));
                [a[0] - b[0], a[1] - b[1], a[2] - b[2]]
            });
            all.push(one);
        }
    }
    all
}

/// A phase of a star against its hidden neutral: a third of what it has against the two others.
fn star_of(windings: &Windings, k: u8) -> Option<Sum> {
    let sum = |to: u8| windings.sum(&line(2, (k, to)));
    let (a, b) = (sum((k + 1) % 3)?, sum((k + 2) % 3)?);
    Some([0, 1, 2].map(|limb| (a[limb] + b[limb]) / 3.0))
}

fn cross(a: Sum, b: Sum) -> Sum {
    [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
}

/// The limbs' e.m.f.s while one volt is fed, and the direction in which they are not known.
fn limbs(fed: Sum, nothing: &[Sum]) -> Option<(Sum, Sum)> {
    // Three limbs have no way back but each other.
    let yokes = [1.0; 3];
    let free = cross(fed, yokes);
    let size = dot(free, free);
    if size < 1e-12 {
        return None;
    }
    // Across both: fed one volt, the sum nothing.
    let across = cross(yokes, free);
    let e = across.map(|x| x / dot(fed, across));
    let fixed = nothing.iter().find(|n| dot(**n, free).abs() > 1e-6);
    Some(match fixed {
        Some(n) => {
            let by = dot(*n, e) / dot(*n, free);
            ([0, 1, 2].map(|k| e[k] - by * free[k]), [0.0; 3])
        }
        None => (e, free.map(|x| x / size.sqrt())),
    })
}

/// What a connection leaves unexplained, as a share of what was read.
fn left(candidate: &Candidate, read: &[[f64; 3]; 3]) -> Option<f64> {
    // Unknown: the ratio, and the division of the flux of each feed times the ratio.
    let mut normal = [[0.0; 5]; 4];
    let mut rows: Vec<([f64; 4], f64)> = Vec::new();
    for (k, ((fed, nothing), voltages)) in candidate.fed.iter().zip(read).enumerate() {
        let (e, free) = limbs(*fed, nothing)?;
        for (line, volts) in candidate.lines.iter().zip(voltages) {
            let mut row = [0.0; 4];
            row[0] = dot(*line, e);
            row[k + 1] = dot(*line, free);
            rows.push((row, *volts));
        }
    }
    for (row, volts) in &rows {
        for a in 0..4 {
            for b in 0..4 {
                normal[a][b] += row[a] * row[b];
            }
            normal[a][4] += row[a] * volts;
        }
    }
    // What is fixed has no unknown.
    for (k, row) in normal.iter_mut().enumerate() {
        row[k] += 1e-9;
    }
    let x = solved(normal);
    if x[0] <= 0.0 {
        return None;
    }
    let (mut off, mut all) = (0.0, 0.0);
    for (row, volts) in &rows {
        let told: f64 = row.iter().zip(x).map(|(r, x)| r * x).sum();
        off += (told - volts).powi(2);
        all += volts * volts;
    }
    // A division far from even is none that three limbs make.
    let far = x[1..].iter().map(|u| (u / x[0]).abs()).fold(0.0, f64::max);
    let penalty = if far > 0.75 { 1.0 } else { 0.0 };
    Some((off / all).sqrt() + penalty)
}

/// Four equations by Gauß and Jordan.
fn solved(mut a: [[f64; 5]; 4]) -> [f64; 4] {
    for col in 0..4 {
        let largest = (col..4).max_by(|r, s| a[*r][col].abs().total_cmp(&a[*s][col].abs()));
        a.swap(col, largest.unwrap_or(col));
        let by = a[col][col];
        a[col] = a[col].map(|x| x / by);
        for row in (0..4).filter(|row| *row != col) {
            let (factor, pivot) = (a[row][col], a[col]);
            for (x, p) in a[row].iter_mut().zip(pivot) {
                *x -= factor * p;
            }
        }
    }
    [a[0][4], a[1][4], a[2][4], a[3][4]]
}

/// What explains line voltages of the second winding, over the voltage that was fed: a row of [`LINES`] for
/// each pair of the first winding. The group is one of two windings; `None` where nothing, or more than
/// one connection, explains them.
pub fn explain(
    nameplate: &VectorGroup,
    fed: &[Pair; 3],
    read: &[[f64; 3]; 3],
) -> Option<Explained> {
    let rated = |c: &Candidate| Some((left(c, read)?, c.what.clone()));
    let mut all: Vec<(f64, Explained)> = candidates(nameplate, fed)
        .iter()
        .filter_map(rated)
        .filter(|(l, _)| l.is_finite())
        .collect();
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (best, what) = all.first()?.clone();
    // Of several mistakes that show the same, none is named.
    let next = all.get(1).map_or(f64::INFINITY, |(left, _)| *left);
    (best < GOOD && next > CLEAR * best.max(GOOD / 4.0)).then_some(what)
}

impl std::fmt::Display for Explained {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Group(group) => write!(f, "it is connected as {group}"),
            Self::Swapped(winding, [a, b]) => {
                write!(f, "the leads of {winding}{a} and {winding}{b} are swapped")
            }
            Self::Reversed(winding, phase) => {
                write!(f, "the coil of {winding}{phase} is the wrong way round")
            }
        }
    }
}
