//! What the rig puts out for the coils and through the poles: direct values, and an alternating control voltage.

use waltron_core::injection::stimulus::Drive as Driven;
use waltron_core::quantity::{Measure, Voltage};
use waltron_core::text::name::Name;

/// The direct value that a channel puts out.
pub(super) fn direct<Q: Measure>(drives: &[Driven<Q>], channel: &Name) -> f64 {
    let found = drives.iter().find(|d| d.channel == *channel);
    found.and_then(|d| d.dc.as_ref()).map_or(0.0, |dc| dc.value().si())
}

/// An alternating voltage from a time on.
#[derive(Clone, Copy, Debug)]
pub(super) struct Alternating {
    crest_v: f64,
    omega: f64,
    angle: f64,
    from_s: f64,
}

impl Alternating {
    pub(super) fn of(drives: &[Driven<Voltage>], channel: &Name, now: f64) -> Option<Self> {
        let found = drives.iter().find(|d| d.channel == *channel)?;
        let rms = found.phasor.rms().si();
        (rms > 0.0).then(|| Self {
            crest_v: std::f64::consts::SQRT_2 * rms,
            omega: 2.0 * std::f64::consts::PI * found.frequency.si(),
            angle: found.phasor.angle().si(),
            from_s: now,
        })
    }

    /// The voltage at a time.
    pub(super) fn at(&self, time_s: f64) -> f64 {
        self.crest_v * (self.omega * (time_s - self.from_s) + self.angle).cos()
    }
}
