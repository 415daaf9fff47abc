//! What a pulse of current shows of a breaker: that it opened, when its contacts parted, at which current.

/// What a breaker did on a pulse.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Shown {
    /// No current flowed at all.
    Nothing,
    /// The current flowed to the end; the largest one, in A.
    Stayed {
        most_a: f64,
    },
    Opened(Opening),
    /// It cannot be told, and why.
    Untold(String),
}

/// A breaker's opening.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Opening {
    /// When its contacts parted, in s from the first sample.
    pub(crate) parted_s: f64,
    /// The largest current before they did, in A.
    pub(crate) level_a: f64,
}

/// Samples of a pulse: the current through the breaker, and the voltage over it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pulse<'s> {
    pub(crate) amps: &'s [f64],
    pub(crate) volts: &'s [f64],
    pub(crate) rate_hz: f64,
}

/// How long the end of a pulse is, in s.
const END_S: f64 = 0.001;
/// What is left of the largest current at its end where the breaker opened, and where it did not.
const LEFT: (f64, f64) = (0.2, 0.5);
/// The share of the arc's voltage that tells the parting from noise, and the second one that tells how it began.
const ARC: (f64, f64) = (0.05, 0.15);
/// How many standard deviations of its noise a voltage must rise.
const CLEAR: f64 = 6.0;

fn mean(of: &[f64]) -> f64 {
    of.iter().sum::<f64>() / of.len().max(1) as f64
}

/// Means of so many samples around each: noise smaller, and nothing moved.
fn smooth(of: &[f64], half: usize) -> Vec<f64> {
    let mut sums = Vec::with_capacity(of.len() + 1);
    sums.push(0.0);
    for sample in of {
        sums.push(sums.last().copied().unwrap_or(0.0) + sample);
    }
    let at = |k: usize| {
        let half = half.min(k).min(of.len() - 1 - k);
        (sums[k + half + 1] - sums[k - half]) / (2 * half + 1) as f64
    };
    (0..of.len()).map(at).collect()
}

/// The value that a straight line through samples has at a place, counted in samples.
fn extended(of: &[f64], at: f64) -> f64 {
    let points: Vec<(f64, f64)> = of.iter().enumerate().map(|(k, v)| (k as f64, *v)).collect();
    super::line::line(&points).map_or_else(|| mean(of), |line| line.at_zero + line.slope * at)
}

impl Pulse<'_> {
    fn samples(&self, time_s: f64) -> usize {
        (time_s * self.rate_hz).round() as usize
    }

    /// The current at its end, in A.
    pub(crate) fn at_end(&self) -> f64 {
        let count = self.samples(END_S).clamp(1, self.amps.len().max(1));
        mean(&self.amps[self.amps.len().saturating_sub(count)..])
    }

    /// What the breaker did. Its level is that of a straight line through the last `window_s` before the contacts
    /// parted: the largest sample would be the largest noise. What is below `floor_a` is no current.
    pub(crate) fn shown(&self, window_s: f64, floor_a: f64) -> Shown {
        let count = self.amps.len().min(self.volts.len());
        if count < 4 {
            return Shown::Untold("its samples are missing".to_owned());
        }
        let even = smooth(&self.amps[..count], self.samples(2.5e-4));
        let most_a = even.iter().copied().fold(0.0, f64::max);
        let lowest = even.iter().copied().fold(0.0, f64::min);
        if -lowest > most_a.max(floor_a) {
            return Shown::Untold(
                "the current flows backwards: turn the meter, or the leads".to_owned(),
            );
        }
        if most_a < floor_a {
            return Shown::Nothing;
        }
        let end = self.at_end();
        if end > LEFT.1 * most_a {
            return Shown::Stayed { most_a };
        }
        if end > LEFT.0 * most_a {
            let why = "the current neither flows on nor has gone away at the end";
            return Shown::Untold(why.to_owned());
        }
        // The last time that half of it flowed: the arc burns, and nothing but the arc stands over the breaker.
        let burns = even.iter().rposition(|a| *a >= 0.5 * most_a).unwrap_or(0);
        match self.parted(burns) {
            None => Shown::Untold(
                "the current goes away, and no arc stands over the breaker: meter of its voltage, or another breaker opened"
                    .to_owned(),
            ),
            Some(parted) => {
                let last = (parted.floor() as usize).min(count - 1);
                let window = self.samples(window_s).clamp(1, last.max(1));
                let from = last.saturating_sub(window);
                let level_a = extended(&self.amps[from..=last], parted - from as f64);
                Shown::Opened(Opening { parted_s: parted / self.rate_hz, level_a })
            }
        }
    }

    /// Where the voltage over the breaker begins to rise, counted in samples; it burns at `burns`.
    fn parted(&self, burns: usize) -> Option<f64> {
        let before = &self.volts[..=burns];
        // While it is closed there is next to nothing over it.
        let quiet = &before[..(burns / 4).max(1)];
        let level = mean(quiet);
        let noise = mean(&quiet.iter().map(|v| (v - level).powi(2)).collect::<Vec<_>>()).sqrt();
        let arc = before.iter().map(|v| v - level).fold(0.0, f64::max);
        let threshold = (ARC.0 * arc).max(CLEAR * noise);
        if arc.is_nan() || arc <= 2.0 * CLEAR * noise || arc <= 1e-3 {
            return None;
        }
        let beyond = |threshold: f64| {
            let below = before.iter().rposition(|v| v - level <= threshold)?;
            let next = before.get(below + 1)?;
            let step = next - before[below];
            Some(below as f64 + (level + threshold - before[below]) / step)
        };
        let first = beyond(threshold)?;
        // An arc that grows is there before it passes the threshold; one that jumps is not.
        let times = ARC.1 / ARC.0;
        let second = beyond((times * threshold).min(0.8 * arc)).unwrap_or(first);
        let grown = (second - first).max(0.0) / (times - 1.0);
        Some((first - grown).max(0.0))
    }

    /// The mean current up to a time, in A.
    pub(crate) fn mean(&self, until_s: f64) -> f64 {
        mean(&self.amps[..self.samples(until_s).min(self.amps.len())])
    }

    /// When the current passes a value while it rises, in s from the first sample; before a time only.
    pub(crate) fn passes(&self, amps: f64, before_s: f64) -> Option<f64> {
        let even = smooth(self.amps, self.samples(1e-4));
        let last = self.samples(before_s).min(even.len());
        let at = even[..last].iter().position(|a| *a >= amps)?;
        let Some(under) = at.checked_sub(1).map(|k| even[k]) else { return Some(0.0) };
        let part = (amps - under) / (even[at] - under);
        Some((at as f64 - 1.0 + part) / self.rate_hz)
    }

    /// How quickly the current rises between two times, in A/s.
    pub(crate) fn slope(&self, from_s: f64, to_s: f64) -> Option<f64> {
        let (from, to) = (self.samples(from_s), self.samples(to_s).min(self.amps.len()));
        let points = self.amps.get(from..to)?.iter().enumerate();
        let points: Vec<(f64, f64)> = points.map(|(k, a)| (k as f64 / self.rate_hz, *a)).collect();
        super::line::line(&points).map(|line| line.slope)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use waltron_test_support::draw::Draw;

    const RATE: f64 = 20_000.0;

    /// A ramp of 400 A/s from 3900 A; the contacts part at 0.3 s, an arc grows to 120 V with 2 ms, and the current
    /// goes away with 4 ms.
    fn opened(noise: f64, seed: u64) -> (Vec<f64>, Vec<f64>) {
        let mut draw = Draw::new(seed);
        let mut around = |of: f64, most: f64| of + most * noise * draw.uniform(-1.7, 1.7);
        let (mut amps, mut volts) = (Vec::new(), Vec::new());
        for k in 0..16_000 {
            let t = f64::from(k) / RATE;
            let after = t - 0.3;
            let ramp = 3900.0 + 400.0 * t.min(0.3);
            let a = if after > 0.0 { ramp * (-after / 0.004).exp() } else { ramp };
            // Once the current is gone, the source stands over the open breaker.
            let u =
                if after > 0.04 { 18.0 } else { 120.0 * (1.0 - (-after.max(0.0) / 0.002).exp()) };
            amps.push(around(a, 4000.0));
            volts.push(around(u, 120.0));
        }
        (amps, volts)
    }

    fn pulse<'s>((amps, volts): &'s (Vec<f64>, Vec<f64>)) -> Pulse<'s> {
        Pulse { amps, volts, rate_hz: RATE }
    }

    #[test]
    fn level_and_parting_are_found_in_the_noise() {
        for (noise, seed, ms, share) in
            [(0.0, 0, 0.05, 1e-4), (0.005, 1, 0.3, 2e-3), (0.01, 2, 0.4, 3e-3)]
        {
            let samples = opened(noise, seed);
            let Shown::Opened(found) = pulse(&samples).shown(0.02, 50.0) else {
                panic!("{:?}", pulse(&samples).shown(0.02, 50.0))
            };
            assert!((found.parted_s - 0.3).abs() < ms * 1e-3, "{noise}: {found:?}");
            assert!((found.level_a / 4020.0 - 1.0).abs() < share, "{noise}: {found:?}");
            let slope = pulse(&samples).slope(0.0, found.parted_s - 1e-3).unwrap();
            assert!((slope - 400.0).abs() < 20.0, "{slope}");
        }
    }

    #[test]
    fn what_is_no_opening_is_not_told_as_one() {
        let (amps, volts) = opened(0.002, 3);
        let cut = |count: usize| {
            let samples = (amps[..count].to_vec(), volts[..count].to_vec());
            pulse(&samples).shown(0.02, 50.0)
        };
        assert!(
            matches!(cut(5000), Shown::Stayed { most_a } if (most_a / 4000.0 - 1.0).abs() < 0.01)
        );
        // It ends while the arc burns.
        assert!(matches!(cut(6000 + 80), Shown::Untold(why) if why.contains("neither")));
        assert_eq!(pulse(&(vec![3.0; 500], vec![0.0; 500])).shown(0.02, 50.0), Shown::Nothing);
        // Something else took the current away.
        let elsewhere = (amps.clone(), vec![0.01; amps.len()]);
        assert!(
            matches!(pulse(&elsewhere).shown(0.02, 50.0), Shown::Untold(why) if why.contains("no arc"))
        );
        let backwards: Vec<f64> = amps.iter().map(|a| -a).collect();
        assert!(
            matches!(pulse(&(backwards, volts)).shown(0.02, 50.0), Shown::Untold(why) if why.contains("backwards"))
        );
        assert!(matches!(pulse(&(vec![], vec![])).shown(0.02, 50.0), Shown::Untold(_)));
    }

    #[test]
    fn a_level_is_passed_between_two_samples() {
        let amps: Vec<f64> = (0..200).map(|k| 10.0 * f64::from(k)).collect();
        let it = Pulse { amps: &amps, volts: &amps, rate_hz: 1000.0 };
        assert!((it.passes(1234.0, 1.0).unwrap() - 0.1234).abs() < 1e-12);
        assert_eq!(it.passes(1234.0, 0.1), None);
        assert_eq!(it.passes(5000.0, 1.0), None);
    }
}
