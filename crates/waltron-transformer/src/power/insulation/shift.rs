//! Losses at another temperature, from the unit's own sweep over frequency.
//!
//! Warmer insulation does at a higher frequency what it did at a lower one: tan δ(f, T) = tan δ(f/a, T₀) with
//! a = exp(Ea/k·(1/T₀ − 1/T)), where one energy Ea activates what polarises and what conducts (as dielectric response
//! is compared over temperatures: IEEE C57.161, CIGRE TB 414). So tan δ at f and T₀ is read in a
//! sweep taken at T, at f·a.

/// Boltzmann's constant, in eV/K (SI brochure, 9th edition).
const BOLTZMANN: f64 = 8.617_333e-5;

/// The energies between which one is looked for, in eV: those of paper and oil lie about 0.9.
const SOUGHT: (f64, f64) = (0.3, 1.6);

/// By how much temperatures must differ for sweeps to tell an energy, in K.
const APART_K: f64 = 5.0;

/// The fewest frequencies that must be seen by both sweeps.
const FEWEST: usize = 3;

/// tan δ at a frequency.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Loss {
    /// The frequency, in Hz.
    pub hertz: f64,
    /// tan δ.
    pub tan_delta: f64,
    /// What it is uncertain by (k = 2).
    pub u: f64,
}

/// The energy that activates the losses.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Energy {
    /// In eV.
    pub ev: f64,
    /// What it is uncertain by (k = 2), in eV.
    pub u_ev: f64,
    /// Whether it comes from two sweeps at different temperatures; assumed if not.
    pub is_fitted: bool,
}

/// tan δ at the reference temperature.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Corrected {
    /// Its value.
    pub tan_delta: f64,
    /// Where in the sweep it was read, in Hz.
    pub hertz: f64,
    /// What it is uncertain by (k = 2), with the energy's part.
    pub u: f64,
    /// The energy's part of that, as a share of the value.
    pub of_energy: f64,
    /// What was not looked at between two frequencies, as a share of the value (k = 2).
    pub of_bend: f64,
    /// By how much of itself the value moves for a kelvin that the insulation was warmer, in 1/K.
    pub per_kelvin: f64,
}

/// A frequency that a sweep does not reach.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Beyond {
    /// The one that is needed, in Hz.
    pub wanted_hz: f64,
    /// From where to where the sweep goes, in Hz.
    pub reach_hz: (f64, f64),
}

/// By how many times the losses of a temperature lie at higher frequencies than those of the reference, both
/// in K.
pub fn turns(ev: f64, reference_k: f64, kelvin: f64) -> f64 {
    (ev / BOLTZMANN * (1.0 / reference_k - 1.0 / kelvin)).exp()
}

/// What a sweep by rising frequency shows at a frequency, all by their logarithms: value, slope, and by how much
/// a straight line would differ.
fn read(sweep: &[Loss], hertz: f64) -> Option<(f64, f64, f64)> {
    let (first, last) = (sweep.first()?.hertz, sweep.last()?.hertz);
    if hertz < first * (1.0 - 1e-6) || hertz > last * (1.0 + 1e-6) || sweep.len() < 2 {
        return None;
    }
    let of = |loss: &Loss| (loss.hertz.ln(), loss.tan_delta.ln());
    let x = hertz.ln();
    let k = sweep.iter().position(|l| l.hertz.ln() >= x).unwrap_or(sweep.len() - 1).max(1);
    let ((x0, y0), (x1, y1)) = (of(&sweep[k - 1]), of(&sweep[k]));
    let slope = (y1 - y0) / (x1 - x0);
    let straight = y0 + slope * (x - x0);
    // The nearer neighbour on either side bends it.
    let before = k.checked_sub(2).and_then(|b| sweep.get(b));
    let other = match (before, sweep.get(k + 1)) {
        (Some(a), Some(b)) => {
            let (a, b) = (of(a), of(b));
            if x - a.0 < b.0 - x { a } else { b }
        }
        (Some(a), None) => of(a),
        (None, Some(b)) => of(b),
        (None, None) => return Some((straight, slope, 0.0)),
    };
    // Newton's form through three points.
    let bend = ((other.1 - y1) / (other.0 - x1) - slope) / (other.0 - x0);
    let curved = straight + bend * (x - x0) * (x - x1);
    Some((curved, slope + bend * (2.0 * x - x0 - x1), (curved - straight).abs()))
}

/// tan δ at a frequency and the reference temperature, from a sweep by rising frequency that was taken at another.
///
/// # Errors
/// The frequency at which it would be read, where the sweep does not reach it.
pub fn at_reference(
    sweep: &[Loss],
    hertz: f64,
    kelvin: f64,
    reference_k: f64,
    energy: Energy,
) -> Result<Corrected, Beyond> {
    let wanted_hz = hertz * turns(energy.ev, reference_k, kelvin);
    let sound = sweep.iter().all(|l| l.tan_delta > 0.0);
    let reach = |of: Option<&Loss>| of.map_or(f64::NAN, |l| l.hertz);
    let beyond = Beyond { wanted_hz, reach_hz: (reach(sweep.first()), reach(sweep.last())) };
    let (value, slope, bent) = read(sweep, wanted_hz).filter(|_| sound).ok_or(beyond)?;
    let tan_delta = value.exp();
    let near = |l: &&Loss| (l.hertz.ln() - wanted_hz.ln()).abs();
    let nearest = sweep.iter().min_by(|a, b| near(a).total_cmp(&near(b))).ok_or(beyond)?;
    let of_meters = nearest.u / nearest.tan_delta;
    let turned = (1.0 / reference_k - 1.0 / kelvin) / BOLTZMANN;
    let of_energy = (slope * turned * energy.u_ev).abs();
    // Between two frequencies nobody looked: half of what the bend makes.
    let of_bend = bent / 2.0;
    let u = tan_delta * (of_meters.powi(2) + of_energy.powi(2) + of_bend.powi(2)).sqrt();
    let per_kelvin = slope * energy.ev / BOLTZMANN / kelvin.powi(2);
    Ok(Corrected { tan_delta, hertz: wanted_hz, u, of_energy, of_bend, per_kelvin })
}

/// By how much two sweeps differ where one is shifted over the other: the mean square of the logarithms' difference,
/// the mean slope, and how many frequencies both see.
fn apart(one: &[Loss], other: &[Loss], by: f64) -> Option<(f64, f64, usize)> {
    let (mut sum, mut slopes, mut count) = (0.0, 0.0, 0);
    for loss in one {
        let Some((value, slope, _)) = read(other, loss.hertz / by) else { continue };
        sum += (loss.tan_delta.ln() - value).powi(2);
        slopes += slope.abs();
        count += 1;
    }
    let n = count as f64;
    (count >= FEWEST).then(|| (sum / n, slopes / n, count))
}

/// The energy that puts two sweeps of the same insulation at different temperatures over each other.
///
/// # Errors
/// Why they do not tell it.
pub fn fit(one: (&[Loss], f64), other: (&[Loss], f64)) -> Result<Energy, String> {
    let ((a, a_k), (b, b_k)) = (one, other);
    if (a_k - b_k).abs() < APART_K {
        return Err(format!(
            "two sweeps tell an energy where their temperatures are {APART_K:.0} K apart at least"
        ));
    }
    if a.iter().chain(b).any(|l| l.tan_delta <= 0.0) {
        return Err("a sweep has losses of zero or less".to_owned());
    }
    let cost = |ev: f64| apart(a, b, turns(ev, b_k, a_k)).map(|(sum, ..)| sum);
    let steps = 260;
    let at = |k: usize| SOUGHT.0 + (SOUGHT.1 - SOUGHT.0) * k as f64 / f64::from(steps);
    let all = (0..=steps as usize).filter_map(|k| Some((k, cost(at(k))?)));
    let few = || "the two sweeps see too few frequencies in common".to_owned();
    let (best, _) = all.min_by(|x, y| x.1.total_cmp(&y.1)).ok_or_else(few)?;
    if best == 0 || best == steps as usize {
        return Err(format!(
            "no energy between {} and {} eV puts the two sweeps over each other",
            SOUGHT.0, SOUGHT.1
        ));
    }
    // Golden section between its neighbours.
    let (mut low, mut high) = (at(best - 1), at(best + 1));
    let share = (5f64.sqrt() - 1.0) / 2.0;
    for _ in 0..40 {
        let (x, y) = (high - share * (high - low), low + share * (high - low));
        let of = |ev| cost(ev).unwrap_or(f64::INFINITY);
        if of(x) < of(y) { high = y } else { low = x }
    }
    let ev = f64::midpoint(low, high);
    let (rest, slope, count) = apart(a, b, turns(ev, b_k, a_k)).ok_or_else(few)?;
    // What both meters are uncertain by stays the same at all frequencies; what is left scatters.
    let shares = |of: &[Loss]| of.iter().map(|l| l.u / l.tan_delta).sum::<f64>() / of.len() as f64;
    let of_meters = (shares(a).powi(2) + shares(b).powi(2) + 4.0 * rest / count as f64).sqrt();
    let turned = (1.0 / b_k - 1.0 / a_k).abs() / BOLTZMANN;
    let u_ev = of_meters / (slope * turned).max(f64::MIN_POSITIVE);
    Ok(Energy { ev, u_ev, is_fitted: true })
}
