//! The travel of a breaker's shaft.

use super::scatter::{left, scatter, smooth};

/// What a movement shows, in the unit of its samples.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Travel {
    /// From rest to rest.
    pub stroke: f64,
    /// By how much it went beyond its end.
    pub overtravel: f64,
    /// Speed where the contacts touched or parted, a second: over the 5 ms behind parting, or before
    /// touching; nothing where no contact tells when that was.
    pub speed: Option<Speed>,
    /// How long the damper takes.
    pub damping: Option<Damping>,
    /// By which standard deviation a place scatters when it is smoothed.
    pub scatter: f64,
}

/// A mean speed.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Speed {
    /// The unit of the samples a second.
    pub value: f64,
    /// By how much it is larger where it is taken a second later.
    pub later: f64,
}

/// From the contacts touching or parting until the shaft stays within 2 % of its stroke around its end.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Damping {
    /// In s.
    pub time_s: f64,
    /// Up to how far it may be from that, since it comes to rest slowly and its places scatter; in s.
    pub limit_s: f64,
}

/// Over how long the speed is taken, in s.
pub const SPEED_S: f64 = 5e-3;

/// The share of the stroke that a movement must make to be one.
const MOVES: f64 = 0.02;

/// The share of the stroke around its end within which the shaft rests.
const RESTS: f64 = 0.02;

/// Over how long to each side places are smoothed, in s.
const SMOOTH_S: f64 = 0.5e-3;

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
    let half = (SMOOTH_S * rate_hz) as usize;
    let smoothed = smooth(samples, half);
    let scatter = scatter(samples) * left(half);
    let sign = stroke.signum();
    let most = smoothed.iter().map(|s| sign * (s - after)).fold(0.0, f64::max);
    let place = |time: f64| {
        let at = time * rate_hz;
        let k = at.floor();
        let (a, b) = (smoothed.get(k as usize)?, smoothed.get(k as usize + 1)?);
        (at >= 0.0).then(|| a + (b - a) * (at - k))
    };
    let speed_at = |at: f64| {
        // Closing up to the touch, opening from the parting on.
        let (from, to) = if stroke > 0.0 { (at - SPEED_S, at) } else { (at, at + SPEED_S) };
        Some((place(to)? - place(from)?).abs() / SPEED_S)
    };
    let speed = contact_s.and_then(|at| {
        let (before, after) = (at - SMOOTH_S, at + SMOOTH_S);
        let later =
            speed_at(after).zip(speed_at(before)).map_or(0.0, |(b, a)| (b - a) / (after - before));
        speed_at(at).map(|value| Speed { value, later })
    });
    let damping = contact_s.and_then(|contact| {
        let rests_s = |within: f64| {
            let last = smoothed.iter().rposition(|s| (s - after).abs() > within);
            last.map_or(0.0, |k| (k + 1) as f64 / rate_hz)
        };
        let rests = RESTS * stroke.abs();
        let rest_s = rests_s(rests);
        let around = [rests + 2.0 * scatter, rests - 2.0 * scatter].map(rests_s);
        let limit_s = around.iter().map(|at| (at - rest_s).abs()).fold(0.0, f64::max);
        (rest_s >= contact).then_some(Damping { time_s: rest_s - contact, limit_s })
    });
    Some(Travel { stroke: stroke.abs(), overtravel: most, speed, damping, scatter })
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
        assert!((seen.speed.unwrap().value - by_hand).abs() < 1.0, "{seen:?} {by_hand}");
        // It comes back below 2 % of 60 deg, 1.2, on the far side of the half wave of 2 deg: by hand.
        let back = 4.0 * (1.0 - (1.2f64 / 2.0).asin() / std::f64::consts::PI);
        let by_hand = 0.020 + 0.030 + back * 1e-3 - touch;
        assert!((seen.damping.unwrap().time_s - by_hand).abs() < 1e-4, "{seen:?} {by_hand}");
        let opening: Vec<f64> = closing.iter().map(|x| 60.0 - x).collect();
        let seen = read(&opening, rate, Some(0.030), 60.0).unwrap();
        let by_hand = 60.0 * (15.0f64.powi(2) - 10.0f64.powi(2)) / 900.0 / 5e-3;
        assert!((seen.speed.unwrap().value - by_hand).abs() < 1.0, "{seen:?} {by_hand}");
        assert_eq!(read(&[1.0; 400], rate, None, 60.0), None);
        assert_eq!(read(&[], rate, None, 60.0), None);
    }
}
