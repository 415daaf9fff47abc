//! The circuit, stepped in time.
//!
//! ```text
//!   primary: a current, a voltage, or open        secondary: a source, the burden, or a short circuit
//!        Np · i        \                       /        Σ n · i = H(Φ) + eddy currents
//!                        one flux Φ, e = dΦ/dt          v = R·i + L·di/dt + n·e   of every branch
//! ```
//!
//! One equation for the volts of a turn is left in each step (trapezoidal rule; the first two steps after
//! a change backwards, so that jumps do not ring), solved by Newton's method. It always has one solution,
//! since every part of it rises with e.

use crate::iron::Core;
use crate::wave::Source;

/// What drives a branch.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Drive {
    /// A voltage; nothing: a short circuit.
    Voltage(Source),
    /// A current, as long as it takes no more than so many volts.
    Current(Source, f64),
}

/// A circuit around the core.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Branch {
    pub(super) turns: f64,
    pub(super) ohm: f64,
    pub(super) henry: f64,
    pub(super) drive: Drive,
    pub(super) i: f64,
    /// Voltage at its terminals.
    pub(super) v: f64,
}

impl Branch {
    pub(super) fn new(turns: f64, ohm: f64, henry: f64, drive: Drive) -> Self {
        Self { turns, ohm, henry, drive, i: 0.0, v: 0.0 }
    }

    /// A branch that nothing drives.
    pub(super) fn closed(turns: f64, ohm: f64, henry: f64) -> Self {
        Self::new(turns, ohm, henry, Drive::Voltage(Source::nothing()))
    }

    /// The current as `fixed - by·e` at the end of a step, with a voltage at the terminals.
    fn at_voltage(&self, v: f64, e: f64, step: &Step) -> (f64, f64) {
        if self.henry == 0.0 {
            return (v / self.ohm, self.turns / self.ohm);
        }
        let Step { dt, theta } = *step;
        let before = self.v - self.ohm * self.i - self.turns * e;
        let under = self.henry / dt + theta * self.ohm;
        let fixed = self.henry / dt * self.i + (1.0 - theta) * before + theta * v;
        (fixed / under, theta * self.turns / under)
    }

    /// The voltage that a current takes, with the e.m.f. at the end of a step.
    fn voltage(&self, i: f64, e: f64, step: &Step) -> f64 {
        let dropped = self.ohm * i + self.turns * e;
        if self.henry == 0.0 { dropped } else { dropped + self.henry * (i - self.i) / step.dt }
    }
}

#[derive(Clone, Copy)]
struct Step {
    dt: f64,
    /// 1 backwards, 1/2 trapezoidal.
    theta: f64,
}

/// The core with everything around it.
#[derive(Clone, Debug)]
pub(super) struct Circuit {
    pub(super) core: Core,
    pub(super) branches: Vec<Branch>,
    /// Volts of a turn.
    pub(super) e: f64,
    /// Volts of a turn that are forced on the core, whatever the branches do.
    forced: Option<Source>,
    /// The current that this takes, times turns.
    pub(super) forced_at: f64,
    /// Another core on the same closed primary.
    pub(super) linked: Option<Linked>,
    since_change: u32,
}

impl Circuit {
    pub(super) fn new(core: Core) -> Self {
        Self {
            core,
            branches: Vec::new(),
            e: 0.0,
            forced: None,
            forced_at: 0.0,
            linked: None,
            since_change: 0,
        }
    }

    /// Puts other branches around the core. The first one goes on with its current where it is of the
    /// same turns.
    pub(super) fn change(&mut self, branches: Vec<Branch>, forced: Option<Source>) {
        self.branches = branches;
        self.forced = forced;
        self.since_change = 0;
    }

    /// One step.
    pub(super) fn step(&mut self, dt: f64) {
        let theta = if self.since_change < 2 { 1.0 } else { 0.5 };
        self.since_change = self.since_change.saturating_add(1);
        let step = Step { dt, theta };
        let targets: Vec<f64> = self.branches.iter_mut().map(|b| b.drive.next(dt)).collect();
        if let Some(source) = &mut self.forced {
            let e = source.next(dt);
            return self.settle(e, &targets, &[], &step);
        }
        // A current source that would take too many volts is a voltage source for this step.
        let mut limited: Vec<Option<f64>> = vec![None; self.branches.len()];
        for _ in 0..=self.branches.len() {
            let e = self.solve(&targets, &limited, &step);
            let over =
                self.branches.iter().zip(&targets).enumerate().find_map(|(k, (b, target))| {
                    let Drive::Current(_, most) = b.drive else { return None };
                    let v = b.voltage(*target, e, &step);
                    (limited[k].is_none() && v.abs() > most).then(|| (k, most.copysign(v)))
                });
            match over {
                Some((k, v)) => limited[k] = Some(v),
                None => return self.settle(e, &targets, &limited, &step),
            }
        }
    }

    /// The volts of a turn at the end of a step.
    fn solve(&self, targets: &[f64], limited: &[Option<f64>], step: &Step) -> f64 {
        let Step { dt, theta } = *step;
        let (mut drive, mut load) = (0.0, self.core.eddy());
        for (k, branch) in self.branches.iter().enumerate() {
            let v = match branch.drive {
                Drive::Current(..) => limited[k],
                Drive::Voltage(_) => Some(targets[k]),
            };
            match v {
                Some(v) => {
                    let (fixed, by) = branch.at_voltage(v, self.e, step);
                    drive += branch.turns * fixed;
                    load += branch.turns * by;
                }
                None => drive += branch.turns * targets[k],
            }
        }
        let start = self.core.flux + dt * (1.0 - theta) * self.e;
        let residual = |e: f64| {
            let force = self.core.force(start + dt * theta * e);
            let (around, by) = self.linked.as_ref().map_or((0.0, 0.0), |l| l.around(e, step));
            (force.value + load * e - drive - around, force.slope * dt * theta + load - by)
        };
        root(residual, self.e)
    }

    fn settle(&mut self, e: f64, targets: &[f64], limited: &[Option<f64>], step: &Step) {
        let flux = self.core.flux + step.dt * ((1.0 - step.theta) * self.e + step.theta * e);
        let mut around = 0.0;
        for (k, branch) in self.branches.iter_mut().enumerate() {
            let (i, v) = match (&branch.drive, limited.get(k).copied().flatten()) {
                (Drive::Current(..), None) => {
                    let v = branch.voltage(targets[k], e, step);
                    (targets[k], v)
                }
                (Drive::Current(..), Some(v)) => {
                    let (fixed, by) = branch.at_voltage(v, self.e, step);
                    (fixed - by * e, v)
                }
                (Drive::Voltage(_), _) => {
                    let (fixed, by) = branch.at_voltage(targets[k], self.e, step);
                    (fixed - by * e, targets[k])
                }
            };
            (branch.i, branch.v) = (i, v);
            around += branch.turns * i;
        }
        if let Some(linked) = &mut self.linked {
            linked.settle(e, step);
        }
        let force = self.core.force(flux).value;
        self.forced_at = force + self.core.eddy() * e - around;
        self.core.take(flux);
        self.e = e;
    }
}

/// A core whose secondary is open, on a primary that is closed through it: what the fed core drives
/// around the primary magnetises it too.
#[derive(Clone, Debug)]
pub(super) struct Linked {
    pub(super) core: Core,
    /// Resistance of the loop over the square of the primary's turns.
    pub(super) ohm: f64,
    /// Volts of a turn.
    pub(super) e: f64,
}

impl Linked {
    /// Its volts of a turn at the end of a step, by those of the fed core, and by how much they follow.
    fn follows(&self, fed: f64, step: &Step) -> (f64, f64) {
        let Step { dt, theta } = *step;
        let start = self.core.flux + dt * (1.0 - theta) * self.e;
        let residual = |e: f64| {
            let force = self.core.force(start + dt * theta * e);
            let value = force.value + self.core.eddy() * e + (fed + e) / self.ohm;
            (value, force.slope * dt * theta + self.core.eddy() + 1.0 / self.ohm)
        };
        let e = root(residual, self.e);
        (e, -1.0 / (self.ohm * residual(e).1))
    }

    /// The ampere-turns around the primary, and how they change with the volts of the fed core's turn.
    fn around(&self, fed: f64, step: &Step) -> (f64, f64) {
        let (e, by) = self.follows(fed, step);
        (-(fed + e) / self.ohm, -(1.0 + by) / self.ohm)
    }

    fn settle(&mut self, fed: f64, step: &Step) {
        let e = self.follows(fed, step).0;
        let flux = self.core.flux + step.dt * ((1.0 - step.theta) * self.e + step.theta * e);
        self.core.take(flux);
        self.e = e;
    }
}

impl Drive {
    fn next(&mut self, dt: f64) -> f64 {
        match self {
            Self::Voltage(source) | Self::Current(source, _) => source.next(dt),
        }
    }
}

/// Where a rising function with its slope passes zero.
fn root(residual: impl Fn(f64) -> (f64, f64), near: f64) -> f64 {
    let mut e = near;
    for _ in 0..12 {
        let (value, slope) = residual(e);
        let by = value / slope;
        e -= by;
        if by.abs() <= 1e-11 * e.abs() + 1e-16 {
            return e;
        }
    }
    bisect(residual, e)
}

/// Where a rising function passes zero: slower than Newton's method, and never lost.
fn bisect(residual: impl Fn(f64) -> (f64, f64), near: f64) -> f64 {
    let mut width = near.abs().max(1e-6);
    let (mut low, mut high) = (near - width, near + width);
    while residual(low).0 > 0.0 && width < 1e12 {
        width *= 4.0;
        low = near - width;
    }
    while residual(high).0 < 0.0 && width < 1e12 {
        width *= 4.0;
        high = near + width;
    }
    for _ in 0..100 {
        let middle = f64::midpoint(low, high);
        if residual(middle).0 < 0.0 { low = middle } else { high = middle }
    }
    f64::midpoint(low, high)
}
