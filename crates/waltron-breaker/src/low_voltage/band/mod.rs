//! Bands: between which times a function of a trip unit must open, by current. Open data, a file a breaker.

mod form;

pub(super) use form::RegionForm;
pub use form::{BandForm, shipped, shipped_names};

use super::asset::{Acts, TripFunction};

/// A band.
#[derive(Clone, Debug, PartialEq)]
pub struct Band {
    /// What it is called.
    pub name: String,
    /// Where it comes from.
    pub note: Option<String>,
    /// A region for each function.
    pub regions: Vec<Region>,
}

/// What one function must keep.
#[derive(Clone, Debug, PartialEq)]
pub struct Region {
    /// The function.
    pub acts: Acts,
    /// Shares of the pickup setting: up to the first it must not trip, from the second on it must.
    pub pickup: (f64, f64),
    /// Its times.
    pub shape: Shape,
    /// What opening takes at most on top of the times, in s.
    pub opening_s: f64,
}

/// Times of a region.
#[derive(Clone, Debug, PartialEq)]
pub enum Shape {
    /// I²t through the delay's setting, times two shares.
    Inverse([f64; 2]),
    /// As the function is set: definite, or I²t; times two shares.
    Setting([f64; 2]),
    /// As quick as it can.
    AtOnce,
    /// Straight between points on log-log axes: multiples of the pickup, and seconds.
    Points {
        /// Not before.
        lower: Vec<(f64, f64)>,
        /// Not after.
        upper: Vec<(f64, f64)>,
    },
}

/// The share of its pickup up to which nothing trips, whatever its band.
const SURELY_BELOW: f64 = 0.8;

/// When something may trip, and must have tripped, in s: infinite where it need not, or must not.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Times {
    /// Not before.
    pub earliest: f64,
    /// Not after.
    pub latest: f64,
}

impl Times {
    /// It must not trip.
    pub fn never() -> Self {
        Self { earliest: f64::INFINITY, latest: f64::INFINITY }
    }

    /// Of two things that trip the same breaker.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self { earliest: self.earliest.min(other.earliest), latest: self.latest.min(other.latest) }
    }
}

impl Band {
    /// Its name and where it comes from.
    pub fn told(&self) -> String {
        match &self.note {
            Some(note) => format!("{}: {note}", self.name),
            None => self.name.clone(),
        }
    }

    /// The region of a function.
    pub fn region(&self, acts: Acts) -> Option<&Region> {
        self.regions.iter().find(|r| r.acts == acts)
    }

    /// When a function may trip, and must have, at a current, in A. What the band does not know may trip at any
    /// time and need not.
    pub fn times(&self, of: &TripFunction, amps: f64) -> Times {
        let multiple = amps / of.pickup_a;
        let Some(region) = self.region(of.acts) else {
            let may = multiple > SURELY_BELOW;
            let earliest = if may { 0.0 } else { f64::INFINITY };
            return Times { earliest, latest: f64::INFINITY };
        };
        if multiple <= region.pickup.0 {
            return Times::never();
        }
        let (earliest, latest) = region.shape.times(of, amps);
        let must = multiple >= region.pickup.1;
        Times { earliest, latest: if must { latest + region.opening_s } else { f64::INFINITY } }
    }
}

impl Shape {
    fn times(&self, of: &TripFunction, amps: f64) -> (f64, f64) {
        let delay = of.delay_s.unwrap_or(0.0);
        let inverse = |at: f64| delay * (at / amps).powi(2);
        match self {
            Self::AtOnce => (0.0, 0.0),
            Self::Inverse([low, high]) => {
                let time = inverse(of.at_a.unwrap_or(6.0 * of.pickup_a));
                (low * time, high * time)
            }
            Self::Setting([low, high]) => {
                // Beyond the point that the setting holds at, I²t goes on as a definite time.
                let time = of.at_a.map_or(delay, |at| inverse(at).max(delay));
                (low * time, high * time)
            }
            Self::Points { lower, upper } => {
                let multiple = amps / of.pickup_a;
                (along(lower, multiple), along(upper, multiple))
            }
        }
    }
}

/// The value of a line through points on log-log axes; beyond its ends that of the end.
fn along(points: &[(f64, f64)], x: f64) -> f64 {
    let next = points.partition_point(|p| p.0 < x);
    match (next.checked_sub(1).map(|k| points[k]), points.get(next)) {
        (Some((x0, y0)), Some((x1, y1))) => y0 * (y1 / y0).powf((x / x0).ln() / (x1 / x0).ln()),
        (Some((_, y)), None) => y,
        (None, Some((_, y))) => *y,
        (None, None) => f64::INFINITY,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(acts: Acts, pickup_a: f64, delay_s: Option<f64>, at_a: Option<f64>) -> TripFunction {
        TripFunction { acts, pickup_a, delay_s, at_a, is_on: true }
    }

    #[test]
    fn times_follow_from_settings_and_region() {
        let band = shipped("halden-lt").unwrap();
        let long = of(Acts::LongTime, 1280.0, Some(12.0), Some(7680.0));
        // At three times the pickup a quarter of the multiple that the setting holds at: 48 s, by hand.
        let times = band.times(&long, 3840.0);
        assert!((times.earliest - 0.8 * 48.0).abs() < 1e-9);
        assert!((times.latest - (48.0 + 0.04)).abs() < 1e-9);
        assert_eq!(band.times(&long, 1.05 * 1280.0), Times::never());
        // Between the two shares of its pickup it may, and need not.
        let between = band.times(&long, 1.1 * 1280.0);
        assert!(between.earliest.is_finite() && between.latest.is_infinite());
        let short = of(Acts::ShortTime, 5120.0, Some(0.3), None);
        let times = band.times(&short, 8000.0);
        assert!((times.earliest - 0.27).abs() < 1e-12 && (times.latest - 0.39).abs() < 1e-12);
        // I²t up to the point that it holds at, a definite time beyond.
        let sloped = of(Acts::ShortTime, 5120.0, Some(0.3), Some(10_240.0));
        assert!((band.times(&sloped, 7240.77).earliest - 0.54).abs() < 1e-4);
        assert!((band.times(&sloped, 20_480.0).earliest - 0.27).abs() < 1e-12);
        // Points on log-log axes: halfway between 2 x and 6 x by their logarithms.
        let points = shipped("halden-mk").unwrap();
        let thermal = of(Acts::LongTime, 100.0, None, None);
        let middle = points.times(&thermal, 100.0 * 3.0f64.mul_add(6.0, 0.0).sqrt());
        assert!((middle.earliest - (22.0f64 * 4.5).sqrt()).abs() < 1e-9, "{middle:?}");
        assert!(points.times(&thermal, 2000.0).earliest > 1.19);
        assert!(shipped_names().iter().all(|name| shipped(name).is_some()));
    }
}
