//! A coil's current: the first peak, the dip behind it while the plunger moves, and where it ends.

use super::scatter::scatter;

/// What a coil's current shows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct CoilCurrent {
    /// The first peak, in A, and when after the command, in s; nothing of a plunger that did not move.
    pub peak: Option<(f64, f64)>,
    /// The bottom of the dip behind it.
    pub notch: Option<(f64, f64)>,
    /// Up to how far the bottom may be from there in time, since it is flat and its currents scatter; in s.
    pub notch_limit_s: f64,
    /// By which standard deviation the peak scatters, in A.
    pub scatter_a: f64,
    /// The largest current, in A.
    pub most_a: f64,
    /// The current that it settles to, in A, where it does before it is cut off.
    pub plateau_a: Option<f64>,
}

/// The share of the peak by which the current must fall to be a dip.
const DIP: f64 = 0.02;

/// Over how long the plateau is taken, in s, and by which share it may still rise there.
const PLATEAU: (f64, f64) = (3e-3, 0.02);

/// The share of the largest current above which the coil is fed.
const FED: f64 = 0.7;

/// Reads the current of a coil from its command on: samples in A, so many a second. `None` of a coil
/// through which nothing flowed.
pub fn read(samples: &[f64], rate_hz: f64) -> Option<CoilCurrent> {
    let scatter_a = scatter(samples);
    // A fifth of a millisecond to each side: scatter alone makes no dip.
    let width = ((2e-4 * rate_hz) as usize).max(1);
    let smooth: Vec<f64> = (0..samples.len())
        .map(|k| {
            let part = &samples[k.saturating_sub(width)..(k + width + 1).min(samples.len())];
            part.iter().sum::<f64>() / part.len() as f64
        })
        .collect();
    let most_a = smooth.iter().copied().fold(0.0, f64::max);
    if most_a <= 0.0 || !most_a.is_finite() {
        return None;
    }
    let at = |k: usize| (smooth[k], k as f64 / rate_hz);
    // The first peak that is followed by a dip before the current rises above it again.
    let (mut peak, mut notch, mut notch_limit_s) = (None, None, 0.0);
    let scatter_a = scatter_a / (2.0 * width as f64 + 1.0).sqrt();
    let mut high = 0;
    for k in 0..smooth.len() {
        if smooth[k] > smooth[high] {
            high = k;
        } else if smooth[k] < smooth[high] * (1.0 - DIP) && smooth[high] > 0.1 * most_a {
            // What only falls is switched off, and no dip.
            let low = lowest(&smooth, k);
            let rises = smooth[low..].iter().any(|i| *i > smooth[low] + DIP * smooth[high]);
            if rises && smooth[low] > 0.05 * most_a {
                (peak, notch) = (Some(at(high)), Some(at(low)));
                notch_limit_s = flat(&smooth, low, 2.0 * scatter_a) as f64 / rate_hz;
            }
            break;
        }
    }
    let fed = smooth.iter().rposition(|i| *i > FED * most_a)?;
    let back = (PLATEAU.0 * rate_hz) as usize;
    // What is smoothed over its end is no plateau any more.
    let end = fed.saturating_sub(2 * width + 1);
    let start = end.checked_sub(back);
    let plateau_a = start.filter(|start| end > *start + 2).and_then(|start| {
        let part = &smooth[start..end];
        let mean = part.iter().sum::<f64>() / part.len() as f64;
        let (first, last) = (part[0], part[part.len() - 1]);
        ((last - first).abs() < PLATEAU.1 * mean).then_some(mean)
    });
    Some(CoilCurrent { peak, notch, notch_limit_s, scatter_a, most_a, plateau_a })
}

/// By which share the last two periods of an alternating current may differ where it has settled.
const SETTLED: f64 = 0.05;

/// Reads the current of a coil that is fed by an alternating voltage: its largest crest, and the RMS value of the last
/// period before it is cut off. Its plunger's movement leaves no dip that could be told from the wave.
pub fn read_alternating(samples: &[f64], rate_hz: f64, hertz: f64) -> Option<CoilCurrent> {
    let (at, most_a) = samples
        .iter()
        .map(|i| i.abs())
        .enumerate()
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .filter(|(_, most)| *most > 0.0 && most.is_finite())?;
    let period = (rate_hz / hertz).round() as usize;
    let fed = samples.iter().rposition(|i| i.abs() > 0.3 * most_a)?;
    // What still decays behind the cut is no part of it.
    let end = fed.saturating_sub(period / 4);
    let rms = |from: usize| {
        let part = samples.get(from..from + period)?;
        Some((part.iter().map(|i| i * i).sum::<f64>() / period.max(1) as f64).sqrt())
    };
    let last = end.checked_sub(period).and_then(rms);
    let before = end.checked_sub(2 * period).and_then(rms);
    let plateau_a = last.zip(before);
    let plateau_a = plateau_a.filter(|(a, b)| (a - b).abs() < SETTLED * a).map(|(a, _)| a);
    let peak = Some((most_a, at as f64 / rate_hz));
    let scatter_a = scatter(samples);
    Some(CoilCurrent { peak, notch: None, notch_limit_s: 0.0, scatter_a, most_a, plateau_a })
}

/// How many samples around a bottom lie no further above it than that, to the wider side.
fn flat(of: &[f64], bottom: usize, above: f64) -> usize {
    let is_flat = |k: &usize| of[*k] <= of[bottom] + above;
    let before = (0..bottom).rev().take_while(is_flat).count();
    before.max((bottom + 1..of.len()).take_while(is_flat).count())
}

/// From a place downhill to the bottom.
fn lowest(of: &[f64], from: usize) -> usize {
    let mut low = from;
    for k in from..of.len() {
        if of[k] < of[low] {
            low = k;
        } else if of[k] > of[low] * 1.05 {
            break;
        }
    }
    low
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Up to 1 A, down to 0.7 A while the plunger moves, up to 2 A, then cut off.
    fn wave() -> Vec<f64> {
        let rate = 20_000.0;
        (0..1200)
            .map(|k| {
                let ms = f64::from(k) / rate * 1e3;
                match ms {
                    ms if ms < 5.0 => ms / 5.0,
                    ms if ms < 8.0 => 1.0 - 0.1 * (ms - 5.0),
                    ms if ms < 40.0 => 2.0 - 1.3 * (-(ms - 8.0) / 3.0).exp(),
                    _ => 2.0 * (-(ms - 40.0) / 0.3).exp(),
                }
            })
            .collect()
    }

    #[test]
    fn peak_notch_and_plateau_are_found() {
        let seen = read(&wave(), 20_000.0).unwrap();
        let (peak, notch) = (seen.peak.unwrap(), seen.notch.unwrap());
        assert!((peak.0 - 1.0).abs() < 0.03 && (peak.1 - 5e-3).abs() < 2e-4, "{peak:?}");
        assert!((notch.0 - 0.7).abs() < 0.05 && (notch.1 - 8e-3).abs() < 2e-4, "{notch:?}");
        assert!((seen.plateau_a.unwrap() - 2.0).abs() < 0.01, "{seen:?}");
        // A plunger that does not move leaves no dip, whatever scatters.
        let stuck: Vec<f64> = (0..1200)
            .map(|k| {
                let ms = f64::from(k) / 20.0;
                2.0 * (1.0 - (-ms / 4.0).exp()) + 0.004 * f64::from(k * 7919 % 101 - 50) / 50.0
            })
            .collect();
        let seen = read(&stuck, 20_000.0).unwrap();
        assert_eq!((seen.peak, seen.notch), (None, None));
        assert!((seen.plateau_a.unwrap() - 2.0).abs() < 0.01);
        // Cut off while it still rises, it has no plateau; without any current there is nothing.
        assert_eq!(read(&wave()[..220], 20_000.0).unwrap().plateau_a, None);
        assert_eq!(read(&[0.0; 100], 20_000.0), None);
        assert_eq!(read(&[], 20_000.0), None);
    }
    /// 2 A RMS at 50 Hz for 200 ms, the first half period twice as large: by hand.
    #[test]
    fn of_an_alternating_current_crest_and_rms_are_found() {
        let rate = 20_000.0;
        let wave: Vec<f64> = (0..6000)
            .map(|k| {
                let t = f64::from(k) / rate;
                let rms = if t < 0.01 { 4.0 } else { 2.0 };
                let sine = (2.0 * std::f64::consts::PI * 50.0 * t).sin();
                if t < 0.2 { rms * std::f64::consts::SQRT_2 * sine } else { 0.0 }
            })
            .collect();
        let seen = read_alternating(&wave, rate, 50.0).unwrap();
        assert!((seen.plateau_a.unwrap() - 2.0).abs() < 0.01, "{seen:?}");
        let (peak, at) = seen.peak.unwrap();
        assert!((peak - 4.0 * std::f64::consts::SQRT_2).abs() < 0.01 && (at - 5e-3).abs() < 1e-4);
        assert_eq!(seen.notch, None);
        // Cut off within two periods it has not settled; nothing is nothing.
        assert_eq!(read_alternating(&wave[..600], rate, 50.0).unwrap().plateau_a, None);
        assert_eq!(read_alternating(&[0.0; 100], rate, 50.0), None);
        assert_eq!(read_alternating(&[], rate, 50.0), None);
    }
}
