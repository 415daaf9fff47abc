//! Dynamic contact resistance: a current through a pole that opens tells when its main contacts part, and in
//! what state the arcing contacts are that still carry then.

/// What an opening under current has shown.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Dynamic {
    /// The resistance before anything moves, in ohms.
    pub closed_ohm: f64,
    /// When the main contacts part and when the arcing ones do, in s after the first sample; the same moment
    /// where there are no arcing contacts, or none that carry.
    pub parts_s: (f64, f64),
    /// The mean resistance of the arcing contacts between, in ohms, and by which standard deviation that mean scatters.
    pub arcing_ohm: Option<(f64, f64)>,
}

/// Over how many samples a resistance is taken.
const WINDOW: usize = 7;

/// By how much the resistance rises when the main contacts part: times, and at least in ohms.
const RISES: (f64, f64) = (2.5, 25e-6);

/// The share of the current below which nothing carries any more.
const CARRIES: f64 = 0.5;

/// The least time alone that is one, in s.
const LEAST_S: f64 = 3e-4;

/// Reads an opening from a pole's voltage and current, so many samples a second. `None` where no current flowed,
/// or where it never ended.
pub fn read(volts: &[f64], amps: &[f64], rate_hz: f64) -> Option<Dynamic> {
    let count = volts.len().min(amps.len());
    let calm = ((5e-3 * rate_hz) as usize).clamp(WINDOW, count.max(WINDOW));
    let full = median(amps.get(..calm)?)?;
    if full.abs() <= 0.0 {
        return None;
    }
    let gone = (0..count).find(|k| (amps[*k] / full) < CARRIES)?;
    let ratio = |k: usize| {
        let (from, to) = (k.saturating_sub(WINDOW / 2), (k + WINDOW / 2 + 1).min(gone));
        let of = |all: &[f64]| median(all.get(from..to)?);
        Some(of(volts)? / of(amps)?)
    };
    let closed_ohm = median(volts.get(..calm)?)? / full;
    let limit = (RISES.0 * closed_ohm).max(closed_ohm + RISES.1);
    // The last time that it was low: a flicker on the way is not the parting.
    let low = (calm.min(gone)..gone).rev().find(|k| ratio(*k).is_some_and(|ohm| ohm < limit));
    let main = low.map_or(gone, |k| k + 1);
    let at = |k: usize| k as f64 / rate_hz;
    if at(gone) - at(main) < LEAST_S {
        return Some(Dynamic { closed_ohm, parts_s: (at(gone), at(gone)), arcing_ohm: None });
    }
    let carried: Vec<f64> = (main..gone).filter_map(|k| Some(volts[k] / amps.get(k)?)).collect();
    let mean = carried.iter().sum::<f64>() / carried.len() as f64;
    let squares = carried.iter().map(|ohm| (ohm - mean).powi(2)).sum::<f64>();
    let count = carried.len() as f64;
    let scatter = (squares / (count - 1.0).max(1.0) / count).sqrt();
    Some(Dynamic { closed_ohm, parts_s: (at(main), at(gone)), arcing_ohm: Some((mean, scatter)) })
}

fn median(of: &[f64]) -> Option<f64> {
    let mut sorted = of.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted.get(sorted.len() / 2).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 100 A through 40 uOhm; main contacts part at 30 ms, arcing ones with 300 uOhm at 36 ms.
    fn opening(arcing_s: f64) -> (Vec<f64>, Vec<f64>) {
        let rate = 20_000.0;
        (0..1000)
            .map(|k| {
                let time = f64::from(k) / rate;
                // A hum, and a flicker on the way.
                let hum = 1.0 + 0.02 * (time * 7000.0).sin();
                let flicker = if (k - 500i32).abs() < 2 { 5.0 } else { 1.0 };
                match time {
                    t if t < 0.030 - 1e-9 => (100.0 * 40e-6 * hum * flicker, 100.0),
                    t if t < 0.030 + arcing_s - 1e-9 => (100.0 * 300e-6 * hum, 100.0),
                    _ => (6.0, 0.0),
                }
            })
            .unzip()
    }

    #[test]
    fn arcing_contacts_carry_alone_for_a_while() {
        let (volts, amps) = opening(0.006);
        let seen = read(&volts, &amps, 20_000.0).unwrap();
        assert!((seen.closed_ohm - 40e-6).abs() < 1e-6, "{seen:?}");
        let (main, arcing) = seen.parts_s;
        assert!((main - 0.030).abs() < 2.1e-4 && (arcing - 0.036).abs() < 6e-5, "{seen:?}");
        assert!((seen.arcing_ohm.unwrap().0 - 300e-6).abs() < 15e-6, "{seen:?}");
        // Without any, both part at once.
        let (volts, amps) = opening(0.0);
        let seen = read(&volts, &amps, 20_000.0).unwrap();
        assert_eq!((seen.arcing_ohm, seen.parts_s.0), (None, seen.parts_s.1));
        // What never opens, carries nothing, or was not seen, tells nothing.
        assert_eq!(read(&volts[..500], &amps[..500], 20_000.0), None);
        assert_eq!(read(&volts[700..], &amps[700..], 20_000.0), None);
        assert_eq!(read(&[], &[], 20_000.0), None);
    }
}
