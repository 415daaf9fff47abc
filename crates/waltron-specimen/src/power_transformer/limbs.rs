//! Three limbs between two yokes, with coils around them, stepped in time.
//!
//! ```text
//!   limb k:  Σ N·i = H(Φk) + eddy·ek + U        ek = dΦk/dt
//!   yokes:   Φ1 + Φ2 + Φ3 = tank·U                         what closes through air and tank
//!   loop:    Σ (R·i + L·di/dt + N·ek) + source = 0         of every closed way of the network
//! ```
//!
//! Loop currents, the volts of a turn of each limb and U are found together in each step, by Newton's
//! method: what alternates by the trapezoidal rule, what is direct, and the first two steps after a
//! change, backwards, so that nothing rings.

use super::network::Loop;
use crate::iron::Core;
use std::sync::Arc;

/// A coil as it is at present.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Coil {
    /// The limb that it is on.
    pub(super) limb: usize,
    pub(super) turns: f64,
    pub(super) ohm: f64,
    pub(super) henry: f64,
    /// The current in its direction, and the voltage that its leakage takes.
    pub(super) i: f64,
    drop: f64,
}

impl Coil {
    pub(super) fn new(limb: usize, turns: f64, ohm: f64, henry: f64) -> Self {
        Self { limb, turns, ohm, henry, i: 0.0, drop: 0.0 }
    }
}

/// What feeds the last loop.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Feed {
    /// Nothing is connected.
    None,
    /// A voltage behind a resistance.
    Voltage { v: f64, ohm: f64 },
    /// A current, as long as it takes no more than so many volts.
    Current { i: f64, most: f64 },
    /// A current that is regulated: a voltage behind a resistance, and no more than so many volts.
    Regulated { v: f64, ohm: f64, most: f64 },
    /// A way on for a current that flows, against so many volts and a resistance; none flows back.
    Drain { drop: f64, ohm: f64 },
}

/// Limbs and coils with their state.
#[derive(Clone, Debug)]
pub(super) struct Limbs {
    pub(super) cores: [Core; 3],
    /// V·s an ampere-turn of what closes through air and tank.
    pub(super) tank: f64,
    pub(super) coils: Vec<Coil>,
    pub(super) loops: Arc<Vec<Loop>>,
    /// How each loop takes each coil: along its direction, against it, or not at all.
    signs: Arc<Vec<[f64; MOST_LOOPS]>>,
    /// Volts of a turn of each limb.
    pub(super) e: [f64; 3],
    /// Ampere-turns between the yokes.
    between: f64,
    /// The current of each loop.
    pub(super) j: Vec<f64>,
    /// Voltage and current of what feeds.
    pub(super) fed: (f64, f64),
    /// Whether nothing alternates.
    pub(super) is_direct: bool,
    since_change: u32,
}

/// The most loops, of coils, joins and what is fed.
pub(super) const MOST_LOOPS: usize = 6;

/// The most unknowns: loops, three limbs, the yokes.
const MOST: usize = MOST_LOOPS + 4;

type Row = [f64; MOST];

impl Limbs {
    pub(super) fn new(cores: [Core; 3], tank: f64) -> Self {
        Self {
            cores,
            tank,
            coils: Vec::new(),
            loops: Arc::default(),
            signs: Arc::default(),
            e: [0.0; 3],
            between: 0.0,
            j: Vec::new(),
            fed: (0.0, 0.0),
            is_direct: true,
            since_change: 0,
        }
    }

    /// Coils that flow in other loops from now on. Where coils stay in closed ways, their currents go on as
    /// far as the loops allow.
    pub(super) fn connect(&mut self, coils: Vec<Coil>, loops: Vec<Loop>, j: Vec<f64>) {
        (self.coils, self.loops, self.j) = (coils, Arc::new(loops), j);
        let of_coil = |k: usize| {
            let mut signs = [0.0; MOST_LOOPS];
            signs.iter_mut().zip(self.loops.iter()).for_each(|(sign, l)| *sign = l.sign(k));
            signs
        };
        self.signs = Arc::new((0..self.coils.len()).map(of_coil).collect());
        for k in 0..self.coils.len() {
            let i = self.current(k);
            (self.coils[k].i, self.coils[k].drop) = (i, 0.0);
        }
        self.since_change = 0;
    }

    /// Something has jumped: the next two steps go backwards.
    pub(super) fn jumped(&mut self) {
        self.since_change = 0;
    }

    fn current(&self, coil: usize) -> f64 {
        self.signs[coil].iter().zip(&self.j).map(|(sign, j)| sign * j).sum()
    }

    /// One step. The feed stands in the last loop.
    pub(super) fn step(&mut self, dt: f64, feed: Feed) {
        let theta = if self.is_direct || self.since_change < 2 { 1.0 } else { 0.5 };
        self.since_change = self.since_change.saturating_add(1);
        let flowing = self.j.last().copied().unwrap_or(0.0);
        let feed = match feed {
            Feed::Drain { drop, ohm } if flowing != 0.0 => {
                let through = Feed::Voltage { v: -drop.copysign(flowing), ohm };
                let found = self.solve(dt, theta, through);
                let left = found[self.loops.len().saturating_sub(1)];
                if left * flowing > 0.0 {
                    return self.take(&found, dt, theta, through);
                }
                Feed::Current { i: 0.0, most: drop }
            }
            Feed::Drain { drop, .. } => Feed::Current { i: 0.0, most: drop },
            Feed::Regulated { v, ohm, most } => {
                let free = Feed::Voltage { v, ohm };
                let found = self.solve(dt, theta, free);
                let volts = self.fed_volts(&found, dt, theta);
                if volts.abs() <= most {
                    return self.take(&found, dt, theta, free);
                }
                Feed::Voltage { v: most.copysign(volts), ohm: 0.0 }
            }
            other => other,
        };
        let (mut found, mut as_fed) = (self.solve(dt, theta, feed), feed);
        if let Feed::Current { most, .. } = feed {
            // A current source that would take too many volts is a voltage source for this step.
            let v = self.fed_volts(&found, dt, theta);
            if v.abs() > most {
                as_fed = Feed::Voltage { v: most.copysign(v), ohm: 0.0 };
                found = self.solve(dt, theta, as_fed);
            }
        }
        self.take(&found, dt, theta, as_fed);
    }

    /// What a coil's current of the end of a step drops, but for its e.m.f., as `fixed + by·i`.
    fn drops(coil: &Coil, dt: f64, theta: f64) -> (f64, f64) {
        let by = coil.henry / (theta * dt);
        (-by * coil.i - (1.0 - theta) / theta * coil.drop, by + coil.ohm)
    }

    /// The volts around the last loop without its source.
    fn fed_volts(&self, found: &Row, dt: f64, theta: f64) -> f64 {
        let m = self.loops.len();
        let Some(last) = self.loops.last() else { return 0.0 };
        let of = |(k, sign): &(usize, f64)| {
            let Some(coil) = self.coils.get(*k) else { return 0.0 };
            let i: f64 = self.signs[*k].iter().zip(&found[..m]).map(|(s, j)| s * j).sum();
            let (fixed, by) = Self::drops(coil, dt, theta);
            sign * (fixed + by * i + coil.turns * found[m + coil.limb])
        };
        last.edges.iter().map(of).sum()
    }

    /// Loop currents, volts of a turn and what is between the yokes at the end of a step.
    fn solve(&self, dt: f64, theta: f64, feed: Feed) -> Row {
        let m = self.loops.len();
        let mut x = [0.0; MOST];
        x[..m].copy_from_slice(&self.j);
        x[m..m + 3].copy_from_slice(&self.e);
        x[m + 3] = self.between;
        // What does not change from one iteration to the next: of each loop what its current and those of others
        // drop, what is fed, and the turns that it takes around each limb.
        let mut ohms = [[0.0; MOST_LOOPS]; MOST_LOOPS];
        let mut held = [0.0; MOST_LOOPS];
        let mut around = [[0.0; 3]; MOST_LOOPS];
        for (coil, signs) in self.coils.iter().zip(self.signs.iter()) {
            let (constant, by) = Self::drops(coil, dt, theta);
            for l in 0..m {
                if signs[l] != 0.0 {
                    held[l] += signs[l] * constant;
                    around[l][coil.limb] += signs[l] * coil.turns;
                    for o in 0..m {
                        ohms[l][o] += signs[l] * by * signs[o];
                    }
                }
            }
        }
        // The e.m.f.s in a loop's own equation: none where a current is given.
        let mut induced = around;
        if m > 0 {
            match feed {
                Feed::None | Feed::Drain { .. } | Feed::Regulated { .. } => {}
                Feed::Voltage { v, ohm } => {
                    held[m - 1] -= v;
                    ohms[m - 1][m - 1] += ohm;
                }
                Feed::Current { i, .. } => {
                    ohms[m - 1] = [0.0; MOST_LOOPS];
                    ohms[m - 1][m - 1] = 1.0;
                    induced[m - 1] = [0.0; 3];
                    held[m - 1] = -i;
                }
            }
        }
        let at = theta * dt;
        let flux = [0, 1, 2].map(|k| self.cores[k].flux + dt * (1.0 - theta) * self.e[k]);
        for _ in 0..40 {
            // What each equation is off by.
            let (j, e, u) = (&x[..m], [x[m], x[m + 1], x[m + 2]], x[m + 3]);
            let mut b = [0.0; MOST_LOOPS + 1];
            for l in 0..m {
                let drop: f64 = (0..m).map(|o| ohms[l][o] * j[o]).sum();
                b[l] = -held[l] - drop - (0..3).map(|k| induced[l][k] * e[k]).sum::<f64>();
            }
            b[m] = self.tank * u - (0..3).map(|k| flux[k] + at * e[k]).sum::<f64>();
            let mut of_limb = [0.0; 3];
            let mut by_volt = [0.0; 3];
            for k in 0..3 {
                let core = &self.cores[k];
                let force = core.force(flux[k] + at * e[k]);
                let driven: f64 = (0..m).map(|l| around[l][k] * j[l]).sum();
                of_limb[k] = driven - core.eddy() * e[k] - u - force.value;
                by_volt[k] = core.eddy() + force.slope * at;
            }
            // The volts of a turn follow from the rest: they are put into the loops' and the yokes' equations.
            let mut a = [[0.0; MOST_LOOPS + 1]; MOST_LOOPS + 1];
            for l in 0..m {
                a[l][..m].copy_from_slice(&ohms[l][..m]);
                for k in 0..3 {
                    let share = induced[l][k] / by_volt[k];
                    if share != 0.0 {
                        for o in 0..m {
                            a[l][o] += share * around[o][k];
                        }
                        a[l][m] -= share;
                        b[l] -= share * of_limb[k];
                    }
                }
            }
            a[m][m] = -self.tank;
            for k in 0..3 {
                let share = at / by_volt[k];
                for o in 0..m {
                    a[m][o] += share * around[o][k];
                }
                a[m][m] -= share;
                b[m] -= share * of_limb[k];
            }
            let d = eliminate(&mut a, &mut b, m + 1);
            let mut dx = [0.0; MOST];
            dx[..m].copy_from_slice(&d[..m]);
            for k in 0..3 {
                let driven: f64 = (0..m).map(|l| around[l][k] * d[l]).sum();
                dx[m + k] = (of_limb[k] + driven - d[m]) / by_volt[k];
            }
            dx[m + 3] = d[m];
            let mut is_there = true;
            for row in 0..m + 4 {
                x[row] += dx[row];
                is_there &= dx[row].abs() <= 1e-10 * x[row].abs() + 1e-13;
            }
            if is_there {
                break;
            }
        }
        x
    }

    fn take(&mut self, found: &Row, dt: f64, theta: f64, feed: Feed) {
        let m = self.loops.len();
        let v = self.fed_volts(found, dt, theta);
        for limb in 0..3 {
            let e = found[m + limb];
            let flux = self.cores[limb].flux + dt * ((1.0 - theta) * self.e[limb] + theta * e);
            self.cores[limb].take(flux);
            self.e[limb] = e;
        }
        self.between = found[m + 3];
        self.j.copy_from_slice(&found[..m]);
        for k in 0..self.coils.len() {
            let i = self.current(k);
            let coil = &mut self.coils[k];
            let rise = (i - coil.i) / (theta * dt);
            coil.drop = coil.henry * rise - (1.0 - theta) / theta * coil.drop;
            coil.i = i;
        }
        let i = self.j.last().copied().unwrap_or(0.0);
        self.fed = if feed == Feed::None { (0.0, 0.0) } else { (v, i) };
    }

    /// The voltage between the ends of some edges, one after the other.
    pub(super) fn volts(&self, way: &[(usize, f64)]) -> f64 {
        let of = |(k, sign): &(usize, f64)| {
            let coil = self.coils.get(*k);
            coil.map_or(0.0, |c| sign * (c.ohm * c.i + c.drop + c.turns * self.e[c.limb]))
        };
        way.iter().map(of).sum()
    }
}

/// Gauß with pivots, of a system of `n`.
fn eliminate<const N: usize>(a: &mut [[f64; N]; N], b: &mut [f64; N], n: usize) -> [f64; N] {
    for col in 0..n {
        let largest = (col..n).max_by(|r, s| a[*r][col].abs().total_cmp(&a[*s][col].abs()));
        let pivot = largest.unwrap_or(col);
        a.swap(col, pivot);
        b.swap(col, pivot);
        let by = a[col][col];
        if by == 0.0 {
            continue;
        }
        for row in col + 1..n {
            let factor = a[row][col] / by;
            if factor != 0.0 {
                let upper = a[col];
                for c in col..n {
                    a[row][c] -= factor * upper[c];
                }
                b[row] -= factor * b[col];
            }
        }
    }
    let mut x = [0.0; N];
    for row in (0..n).rev() {
        let rest: f64 = (row + 1..n).map(|c| a[row][c] * x[c]).sum();
        if a[row][row] != 0.0 {
            x[row] = (b[row] - rest) / a[row][row];
        }
    }
    x
}
