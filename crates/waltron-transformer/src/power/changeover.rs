//! A change of tap under current, as its samples show it: whether the current was ever gone, by how much it
//! dipped, and for how long.

/// Samples of a change.
#[derive(Clone, Copy, Debug)]
pub struct Samples<'a> {
    /// Current through the tap changer, in A.
    pub amps: &'a [f64],
    /// Voltage across winding and tap changer, in V.
    pub volts: &'a [f64],
    /// How many a second.
    pub rate_hz: f64,
}

/// What a change shows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Changeover {
    /// The largest dip, as a share of the current before: ripple.
    pub ripple: f64,
    /// What scatters of the current before, as a share of it: one standard deviation.
    pub noise: f64,
    /// The longest time for which less than a twentieth of the current flowed, in s; 0 of none.
    pub interrupted_s: f64,
    /// From the first contact that changes over to the last one, in s; 0 where nothing shows.
    pub duration_s: f64,
    /// The steepest fall of the current, in A/s.
    pub slope: f64,
    /// The largest resistance in series with the winding meanwhile, in ohms: of the transition resistors,
    /// with what the winding drops of it by induction.
    pub series_ohm: f64,
    /// When the change began, in s from the first sample.
    pub begins_s: f64,
}

/// Below which share of the current before it counts as gone.
pub(super) const GONE: f64 = 0.05;

/// How far voltage or current must move to be more than noise, in deviations of what was before.
const DEVIATIONS: f64 = 8.0;

/// The share of the samples at the beginning that show what was before.
const BEFORE: f64 = 0.2;

fn mean_and_deviation(of: &[f64]) -> (f64, f64) {
    let n = of.len().max(1) as f64;
    let mean = of.iter().sum::<f64>() / n;
    (mean, (of.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / n).sqrt())
}

/// The resistance that lies in series with the winding at each sample, in ohms: that of the tap changer while its
/// contacts change over, with what the winding drops of it by induction. None while no current flows.
pub fn in_series(of: Samples<'_>) -> Vec<Option<f64>> {
    let count = of.amps.len().min(of.volts.len());
    let before = (count as f64 * BEFORE) as usize;
    if before == 0 {
        return Vec::new();
    }
    let (i0, _) = mean_and_deviation(&of.amps[..before]);
    let (v0, _) = mean_and_deviation(&of.volts[..before]);
    let flows = |k: usize| of.amps[k] / i0 > GONE;
    (0..count).map(|k| flows(k).then(|| of.volts[k] / of.amps[k] - v0 / i0)).collect()
}

/// What samples show of a change; `None` where they are too few or no current flowed before.
pub fn changeover(of: Samples<'_>) -> Option<Changeover> {
    let count = of.amps.len().min(of.volts.len());
    let before = (count as f64 * BEFORE) as usize;
    if before < 20 || of.rate_hz <= 0.0 {
        return None;
    }
    let (i0, di) = mean_and_deviation(&of.amps[..before]);
    let (v0, dv) = mean_and_deviation(&of.volts[..before]);
    if i0 == 0.0 || !i0.is_finite() {
        return None;
    }
    let amps = |k: usize| of.amps[k] / i0;
    let after = &of.volts[count - before.min(count)..count];
    let (v1, _) = mean_and_deviation(after);
    // What moves further than noise, and further than from the one settled value to the other.
    // What is not settled by the end is no other position.
    let other = (v1 - v0).abs().min(0.1 * v0.abs());
    let room = other * 1.5 + DEVIATIONS * dv + 0.02 * v0.abs();
    let moves = |k: usize| (of.volts[k] - v0).abs() > room;
    // It began where it left what scatters around the value before.
    let scatters = DEVIATIONS * dv + 0.002 * v0.abs();
    let is_still = |k: &usize| (of.volts[*k] - v0).abs() <= scatters;
    let left = |moved: usize| (before..moved).rev().find(is_still).map_or(moved, |k| k + 1);
    let first = (before..count).find(|k| moves(*k)).map(left);
    // Contacts make jumps; what fades between and after them is the winding.
    let jump = DEVIATIONS * dv + 0.05 * v0.abs();
    let width = ((of.rate_hz * 3e-4) as usize).max(1);
    let jumps = |k: usize| (of.volts[k] - of.volts[k - width]).abs() > jump;
    let last = (before..count).rfind(|k| jumps(*k)).map(|k| (k + 1).saturating_sub(width));
    let least = (before..count).map(amps).fold(f64::INFINITY, f64::min);
    // Where other legs take part, as in a delta, nothing jumps in the end: from there on it fades.
    let off = |k: usize| (of.volts[k] - v0).abs();
    let peak = (before..count).max_by(|a, b| off(*a).total_cmp(&off(*b)));
    let fades = |k: &usize| least > GONE && moves(*k) && (v1 - v0).abs() < 0.9 * off(*k);
    let last = last.max(peak.filter(fades));
    let (mut longest, mut run) = (0usize, 0usize);
    for k in before..count {
        run = if amps(k) < GONE { run + 1 } else { 0 };
        longest = longest.max(run);
    }
    // Over half a millisecond: noise of single samples is no slope.
    let span = ((of.rate_hz * 5e-4) as usize).max(1);
    let falls = (before..count.saturating_sub(span)).map(|k| of.amps[k] - of.amps[k + span]);
    let steepest = falls.map(|fall| fall * i0.signum()).fold(0.0, f64::max);
    let noise = DEVIATIONS * di;
    let series = (before..count)
        .filter(|k| amps(*k) > GONE)
        .map(|k| of.volts[k] / of.amps[k] - v0 / i0)
        .fold(0.0, f64::max);
    Some(Changeover {
        noise: (di / i0).abs(),
        ripple: if (1.0 - least) * i0.abs() > noise { 1.0 - least } else { 0.0 },
        interrupted_s: longest as f64 / of.rate_hz,
        duration_s: match (first, last) {
            (Some(a), Some(b)) => b.saturating_sub(a) as f64 / of.rate_hz,
            _ => 0.0,
        },
        slope: if steepest > noise { steepest * of.rate_hz / span as f64 } else { 0.0 },
        series_ohm: series,
        begins_s: first.map_or(0.0, |k| k as f64 / of.rate_hz),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// 5 A and 1.6 V at 10 kHz; from 200 ms on for 45 ms the current as told, with 4 Ohm more.
    fn made(dip: impl Fn(f64) -> f64, noise: f64) -> (Vec<f64>, Vec<f64>) {
        let scatter = |k: usize| ((k as f64 * 0.618_034).fract() - 0.5) * 3.46 * noise;
        let amps = (0..5000).map(|k| {
            let t = k as f64 / 1e4 - 0.2;
            let share = if (0.0..0.045).contains(&t) { dip(t) } else { 1.0 };
            5.0 * share * (1.0 + scatter(k))
        });
        let volts = (0..5000).map(|k| {
            let t = k as f64 / 1e4 - 0.2;
            let more = if (0.0..0.045).contains(&t) { 20.0 * dip(t) } else { 0.0 };
            (1.6 + more) * (1.0 + scatter(k + 7))
        });
        (amps.collect(), volts.collect())
    }

    fn seen(dip: impl Fn(f64) -> f64, noise: f64) -> Changeover {
        let (amps, volts) = made(dip, noise);
        changeover(Samples { amps: &amps, volts: &volts, rate_hz: 1e4 }).unwrap()
    }

    #[test]
    fn a_dip_is_told_and_a_gap_is_found() {
        // Falls by 12 % in 45 ms.
        let s = seen(|t| 1.0 - 0.12 * t / 0.045, 1e-4);
        assert!((s.ripple - 0.12).abs() < 2e-3 && s.interrupted_s == 0.0, "{s:?}");
        assert!((s.duration_s - 0.045).abs() < 2e-4 && (s.begins_s - 0.2).abs() < 2e-4, "{s:?}");
        // Four more than 0.32 Ohm, whatever flows.
        assert!((s.series_ohm - 4.32 + 0.32).abs() < 0.4, "{s:?}");
        assert!((s.slope / (0.6 / 0.045) - 1.0).abs() < 0.3, "{s:?}");
        // 8 ms without current.
        let s = seen(|t| if (0.015..0.023).contains(&t) { 0.0 } else { 0.95 }, 1e-4);
        assert!((s.interrupted_s - 0.008).abs() < 2e-4 && s.ripple > 0.99, "{s:?}");
        // A source that still drives all its volts at the end hides no beginning.
        let (mut amps, mut volts) = made(|_| 1.0, 1e-4);
        amps[2150..].iter_mut().for_each(|a| *a = 0.01);
        volts[2150..].iter_mut().for_each(|v| *v = 50.0);
        let s = changeover(Samples { amps: &amps, volts: &volts, rate_hz: 1e4 }).unwrap();
        assert!((s.begins_s - 0.2).abs() < 1e-3 && s.interrupted_s > 0.28, "{s:?}");
        // Nor does noise make one, up to what would hide it.
        for noise in [1e-3, 5e-3, 1e-2] {
            let s = seen(|t| 1.0 - 0.12 * t / 0.045, noise);
            assert!((s.begins_s - 0.2).abs() < 2e-4, "{noise}: {s:?}");
            assert!((s.duration_s - 0.045).abs() < 5e-4, "{noise}: {s:?}");
        }
        // What comes slowly, and has not settled at the end, began where it left the value before.
        let (amps, mut volts) = made(|_| 1.0, 1e-4);
        for (k, v) in volts.iter_mut().enumerate() {
            let t = k as f64 / 1e4 - 0.2;
            let rise = (t / 0.045).clamp(0.0, 1.0);
            *v = 1.6 * (1.0 + 0.4 * rise) + (*v - 1.6).clamp(-1e-3, 1e-3);
        }
        let s = changeover(Samples { amps: &amps, volts: &volts, rate_hz: 1e4 }).unwrap();
        assert!((s.begins_s - 0.2).abs() < 1e-3, "{s:?}");
        let quiet = seen(|_| 1.0, 1e-4);
        assert_eq!((quiet.ripple, quiet.interrupted_s), (0.0, 0.0));
        assert!(
            changeover(Samples { amps: &[0.0; 500], volts: &[0.0; 500], rate_hz: 1e4 }).is_none()
        );
        assert!(
            changeover(Samples { amps: &[5.0; 10], volts: &[1.0; 10], rate_hz: 1e4 }).is_none()
        );
    }

    proptest! {
        /// The same backwards: a current that flows the other way shows the same change.
        #[test]
        fn the_direction_does_not_matter(depth in 0.02f64..1.0, gap in 0.0f64..0.03) {
            let dip = |t: f64| if t < gap { 0.0 } else { 1.0 - depth * 0.9 };
            let (amps, volts) = made(dip, 1e-4);
            let back = |of: &[f64]| of.iter().map(|x| -x).collect::<Vec<f64>>();
            let there = changeover(Samples { amps: &amps, volts: &volts, rate_hz: 1e4 }).unwrap();
            let back = (back(&amps), back(&volts));
            let again = changeover(Samples { amps: &back.0, volts: &back.1, rate_hz: 1e4 }).unwrap();
            prop_assert_eq!(there, again);
            prop_assert!((there.interrupted_s - (gap * 1e4).ceil() / 1e4).abs() < 2.1e-4, "{:?}", there);
        }
    }
}
