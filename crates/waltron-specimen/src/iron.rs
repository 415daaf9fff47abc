//! The core: flux, and the ampere-turns that it takes.
//!
//! Rate-independent hysteresis as a sum of stop operators of the flux (Krejčí 1996; for magnetic cores
//! Bergqvist 1997) beside a curve without hysteresis that turns into that of a coil without iron. Small
//! loops are narrow and elastic, which gives the low permeability of small fields; large ones leave
//! remanence behind. Eddy currents are a resistance beside it.

/// How many stop operators there are: an octave of flux each.
const STOPS: usize = 8;

/// What a core is made of, told by one turn: flux in V·s, magnetomotive force in ampere-turns.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Magnetics {
    /// Ampere-turns a V·s while it is not saturated.
    pub reluctance: f64,
    /// The flux at which it saturates; infinite of a core that never does.
    pub saturation: f64,
    /// Over which share of that flux it begins to.
    pub rounding: f64,
    /// Ampere-turns a V·s more beyond it.
    pub air: f64,
    /// The magnetomotive force that takes the flux back through zero.
    pub coercive: f64,
    /// Ampere-turns a volt of its turn, of eddy currents.
    pub eddy: f64,
}

/// A core with its flux and what it remembers.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Core {
    of: Magnetics,
    pub(crate) flux: f64,
    stops: [f64; STOPS],
    /// Where each stop ends, and its ampere-turns a V·s before.
    ends: [f64; STOPS],
    weights: [f64; STOPS],
    /// What the corner has at no flux, where it is wide: the curve goes through zero all the same.
    at_zero: f64,
}

/// Ampere-turns at a flux, with their slope.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Force {
    pub(crate) value: f64,
    pub(crate) slope: f64,
}

impl Core {
    /// A core without flux.
    pub(crate) fn new(of: Magnetics) -> Self {
        let (mut ends, mut weights) = ([0.0; STOPS], [0.0; STOPS]);
        if of.coercive > 0.0 && of.saturation.is_finite() {
            let share = |k: usize| 2f64.powf(-0.5 * k as f64);
            let all: f64 = (0..STOPS).map(share).sum();
            for k in 0..STOPS {
                ends[k] = 0.6 * of.saturation * 2f64.powi(-(k as i32));
                weights[k] = of.coercive * share(k) / all / ends[k];
            }
        }
        let at_zero = (-1.0 / of.rounding).exp().ln_1p();
        Self { of, flux: 0.0, stops: [0.0; STOPS], ends, weights, at_zero }
    }

    /// Leaves a share of the saturation flux behind, as direct current or a breaking fault does.
    pub(crate) fn magnetise(&mut self, share: f64) {
        self.flux = share * self.of.saturation;
        let wanted = self.without_hysteresis(self.flux).value;
        let most: f64 = self.ends.iter().zip(&self.weights).map(|(r, w)| r * w).sum();
        let part = if most > 0.0 { (-wanted / most).clamp(-1.0, 1.0) } else { 0.0 };
        self.stops = self.ends.map(|r| r * part);
    }

    pub(crate) fn eddy(&self) -> f64 {
        self.of.eddy
    }

    fn without_hysteresis(&self, flux: f64) -> Force {
        let of = &self.of;
        let (mut value, mut slope) = (of.reluctance * flux, of.reluctance);
        if of.saturation.is_finite() {
            let width = of.rounding * of.saturation;
            let over = (flux.abs() - of.saturation) / width;
            // Beyond thirty widths the rounded corner is the straight line.
            let (more, steep) = match over {
                over if over > 30.0 => (over, 1.0),
                over => {
                    let e = over.exp();
                    (e.ln_1p(), e / (1.0 + e))
                }
            };
            value += flux.signum() * of.air * width * (more - self.at_zero);
            slope += of.air * steep;
        }
        Force { value, slope }
    }

    /// The ampere-turns that another flux would take.
    pub(crate) fn force(&self, flux: f64) -> Force {
        let mut force = self.without_hysteresis(flux);
        let moved = flux - self.flux;
        for k in 0..STOPS {
            let (end, weight) = (self.ends[k], self.weights[k]);
            let stop = self.stops[k] + moved;
            force.value += weight * stop.clamp(-end, end);
            if stop.abs() < end {
                force.slope += weight;
            }
        }
        force
    }

    /// Takes another flux.
    pub(crate) fn take(&mut self, flux: f64) {
        let moved = flux - self.flux;
        for (stop, end) in self.stops.iter_mut().zip(self.ends) {
            *stop = (*stop + moved).clamp(-end, end);
        }
        self.flux = flux;
    }

    /// The flux that is left as a share of saturation.
    pub(crate) fn remanence(&self) -> f64 {
        if self.of.saturation.is_finite() { self.flux / self.of.saturation } else { 0.0 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn iron() -> Core {
        Core::new(Magnetics {
            reluctance: 2.0,
            saturation: 1.0,
            rounding: 0.03,
            air: 4000.0,
            coercive: 10.0,
            eddy: 0.0,
        })
    }

    /// Sweeps the flux and gives what the force does of work.
    fn sweep(core: &mut Core, to: f64) -> f64 {
        let (from, steps) = (core.flux, 2000);
        let mut work = 0.0;
        for k in 1..=steps {
            let flux = from + (to - from) * f64::from(k) / f64::from(steps);
            let before = core.force(core.flux).value;
            let after = core.force(flux).value;
            work += f64::midpoint(before, after) * (flux - core.flux);
            core.take(flux);
        }
        work
    }

    /// A loop encloses work that is lost, never gained; far beyond saturation a full loop loses nearly
    /// four times coercive force times flux, and a small one much less than in proportion.
    #[test]
    fn loops_lose_and_remember() {
        let mut core = iron();
        let _ = sweep(&mut core, 1.0);
        let loss = sweep(&mut core, -1.0) + sweep(&mut core, 1.0);
        assert!(loss > 20.0 && loss < 40.0, "{loss}");
        // Where the force comes back to nothing, most of the flux is still there.
        let mut flux = 1.0;
        while core.force(flux).value > 0.0 {
            flux -= 1e-4;
        }
        core.take(flux);
        assert!(core.remanence() > 0.5 && core.remanence() < 1.0, "{}", core.remanence());
        let mut small = iron();
        let _ = sweep(&mut small, 0.05);
        let little = sweep(&mut small, -0.05) + sweep(&mut small, 0.05);
        assert!(little > 0.0 && little < loss * 0.05 * 0.3, "{little}");
        // Ever smaller swings leave nothing behind.
        let mut swing = 1.1;
        while swing > 1e-3 {
            sweep(&mut core, swing);
            sweep(&mut core, -swing);
            swing *= 0.9;
        }
        assert!(core.force(0.0).value.abs() < 0.5, "{}", core.force(0.0).value);
    }

    /// However soft the knee: no jump at no flux.
    #[test]
    fn a_soft_knee_goes_through_zero() {
        let soft = Magnetics { rounding: 0.4, coercive: 0.0, ..iron().of };
        let core = Core::new(soft);
        let (below, above) = (core.force(-1e-9).value, core.force(1e-9).value);
        assert!((above - below).abs() < 1e-3, "{below} {above}");
    }

    #[test]
    fn the_slope_is_that_of_the_force() {
        let mut core = iron();
        let _ = sweep(&mut core, 0.7);
        for flux in [-1.2, -0.31, 0.2, 0.69, 0.71, 0.99, 1.05, 3.0] {
            let (a, b) = (core.force(flux - 1e-7).value, core.force(flux + 1e-7).value);
            let slope = core.force(flux).slope;
            assert!(((b - a) / 2e-7 / slope - 1.0).abs() < 1e-3, "at {flux}: {slope}");
        }
    }
}
