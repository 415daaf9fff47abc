//! The travel of a breaker's shaft.

/// What a movement shows, in the unit of its samples.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Travel {
    /// From rest to rest.
    pub stroke: f64,
    /// By how much it went beyond its end.
    pub overtravel: f64,
    /// Speed where the contacts touched or parted, a second: over the 5 ms behind parting, or before
    /// touching; nothing where no contact tells when that was.
    pub speed: Option<f64>,
    /// From the contacts touching or parting until the shaft stays within 2 % of its stroke around its end, in s:
    /// how long the damper takes.
    pub damping_s: Option<f64>,
}

/// Over how long the speed is taken, in s.
pub const SPEED_S: f64 = 5e-3;

/// The share of the stroke that a movement must make to be one.
const MOVES: f64 = 0.02;

/// The share of the stroke around its end within which the shaft rests.
const RESTS: f64 = 0.02;

/// Reads a movement from samples: so many a second, with the moment, in s after the first sample, at which
/// the contacts touched or parted. `None` where nothing moved; `full` is the declared stroke.
pub fn read(samples: &[f64], rate_hz: f64, contact_s: Option<f64>, full: f64) -> Option<Travel> {
    let count = ((5e-3 * rate_hz) as usize).max(1).min(samples.len());
    let mean = |part: &[f64]| part.iter().sum::<f64>() / part.len() as f64;
    let (before, after) = (mean(samples.get(..count)?), mean(&samples[samples.len() - count..]));
    let stroke = after - before;
    if stroke.is_nan() || stroke.abs() < MOVES * full.abs() {
        return None;
    }
    let sign = stroke.signum();
    let most = samples.iter().map(|s| sign * (s - after)).fold(0.0, f64::max);
    let place = |time: f64| {
        let at = time * rate_hz;
        let k = at.floor();
        let (a, b) = (samples.get(k as usize)?, samples.get(k as usize + 1)?);
        (at >= 0.0).then(|| a + (b - a) * (at - k))
    };
    let speed = contact_s.and_then(|at| {
        // Closing up to the touch, opening from the parting on.
        let (from, to) = if stroke > 0.0 { (at - SPEED_S, at) } else { (at, at + SPEED_S) };
        Some((place(to)? - place(from)?).abs() / SPEED_S)
    });
    let rests = RESTS * stroke.abs();
    let last = samples.iter().rposition(|s| (s - after).abs() > rests);
    let rest_s = last.map(|k| (k + 1) as f64 / rate_hz);
    let damping_s = rest_s.zip(contact_s).map(|(rest, contact)| rest - contact);
    let damping_s = damping_s.filter(|time| *time >= 0.0);
    Some(Travel { stroke: stroke.abs(), overtravel: most, speed, damping_s })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stroke_speed_and_overtravel() {
        // 60 deg in 30 ms under a constant force, 2 deg beyond, and back.
        let rate = 20_000.0;
        let closing: Vec<f64> = (0..2000)
            .map(|k| {
                let ms = f64::from(k) / rate * 1e3 - 20.0;
                match ms {
                    ms if ms < 0.0 => 0.0,
                    ms if ms < 30.0 => 60.0 * (ms / 30.0).powi(2),
                    ms if ms < 34.0 => {
                        60.0 + 2.0 * (std::f64::consts::PI * (ms - 30.0) / 4.0).sin()
                    }
                    _ => 60.0,
                }
            })
            .collect();
        let touch = 0.020 + 0.030 * 0.8f64.sqrt();
        let seen = read(&closing, rate, Some(touch), 60.0).unwrap();
        assert!((seen.stroke - 60.0).abs() < 1e-6 && (seen.overtravel - 2.0).abs() < 1e-3);
        // The mean over the 5 ms before the touch, by hand.
        let (t2, t1) = (0.8f64.sqrt() * 30.0, 0.8f64.sqrt() * 30.0 - 5.0);
        let by_hand = 60.0 * (t2 * t2 - t1 * t1) / 900.0 / 5e-3;
        assert!((seen.speed.unwrap() - by_hand).abs() < 1.0, "{seen:?} {by_hand}");
        // It comes back below 2 % of 60 deg, 1.2, on the far side of the half wave of 2 deg: by hand.
        let back = 4.0 * (1.0 - (1.2f64 / 2.0).asin() / std::f64::consts::PI);
        let by_hand = 0.020 + 0.030 + back * 1e-3 - touch;
        assert!((seen.damping_s.unwrap() - by_hand).abs() < 1e-4, "{seen:?} {by_hand}");
        let opening: Vec<f64> = closing.iter().map(|x| 60.0 - x).collect();
        let seen = read(&opening, rate, Some(0.030), 60.0).unwrap();
        let by_hand = 60.0 * (15.0f64.powi(2) - 10.0f64.powi(2)) / 900.0 / 5e-3;
        assert!((seen.speed.unwrap() - by_hand).abs() < 1.0, "{seen:?} {by_hand}");
        assert_eq!(read(&[1.0; 400], rate, None, 60.0), None);
        assert_eq!(read(&[], rate, None, 60.0), None);
    }
}
