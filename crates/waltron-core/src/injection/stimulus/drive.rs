//! The wave on one channel: fundamental, harmonics, DC.

use crate::quantity::phasor::{Phasor, magnitude_and_turn};
use crate::quantity::{Angle, Frequency, Measure, Time};
use crate::text::name::Name;

/// The wave on one channel.
///
/// With ψ(t) = ∫2πf dt + angle + 90°, the value is
/// √2·rms·(sin ψ + Σ share·sin(order·ψ + angle)) + DC: an RMS phasor of angle 0 has its peak at
/// t = 0, and a harmonic of angle 0 rises through zero together with the fundamental.
#[derive(Clone, Debug, PartialEq)]
pub struct Drive<Q> {
    /// The rig's channel, such as `ia`.
    pub channel: Name,
    /// RMS value and phase angle of the fundamental.
    pub phasor: Phasor<Q>,
    /// Frequency; each channel has its own, so that two sources can run asynchronously.
    pub frequency: Frequency,
    /// Rate of change of the frequency while this is held, in Hz/s.
    pub rate_hz_per_s: f64,
    /// Harmonics, by rising order.
    pub harmonics: Vec<Harmonic>,
    /// A direct component.
    pub dc: Option<Dc<Q>>,
}

/// A harmonic of a wave.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Harmonic {
    order: u32,
    share: f64,
    angle: Angle,
}

impl Harmonic {
    /// A harmonic of this order, at least 2; a negative share is half a turn, and what is no finite
    /// number becomes the largest there is.
    pub fn new(order: u32, share: f64, angle: Angle) -> Self {
        let (share, turn) = magnitude_and_turn(share);
        Self { order, share, angle: angle + turn }
    }

    /// Multiple of the fundamental's frequency.
    pub fn order(self) -> u32 {
        self.order
    }

    /// RMS value as a share of the fundamental's, not negative.
    pub fn share(self) -> f64 {
        self.share
    }

    /// Its angle where the fundamental rises through zero.
    pub fn angle(self) -> Angle {
        self.angle
    }
}

/// A direct component that stays, or decays; it never grows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Dc<Q> {
    value: Q,
    tau: Option<Time>,
}

impl<Q: Measure> Dc<Q> {
    /// A direct component that stays. What is no finite number becomes the largest there is.
    pub fn constant(value: Q) -> Self {
        let si = value.si();
        Self { value: if si.is_finite() { value } else { Q::from_si(f64::MAX) }, tau: None }
    }

    /// The same decaying with a time constant; `None` where that is not a time above zero.
    pub fn decaying(self, tau: Time) -> Option<Self> {
        (tau.si() > 0.0 && tau.si().is_finite()).then_some(Self { tau: Some(tau), ..self })
    }

    /// Another value with the same decay.
    #[must_use]
    pub fn with_value(self, value: Q) -> Self {
        Self { tau: self.tau, ..Self::constant(value) }
    }

    /// Its value at the segment's start; negative where it points down.
    pub fn value(self) -> Q {
        self.value
    }

    /// The time constant of its decay, above zero; it stays where there is none.
    pub fn tau(self) -> Option<Time> {
        self.tau
    }

    /// Its value in SI after a time in s.
    pub fn after(self, seconds: f64) -> f64 {
        self.value.si() * self.tau.map_or(1.0, |tau| (-seconds / tau.si()).exp())
    }
}

impl<Q: Measure> Drive<Q> {
    /// A plain sinusoid.
    pub fn sine(channel: Name, phasor: Phasor<Q>, frequency: Frequency) -> Self {
        Self { channel, phasor, frequency, rate_hz_per_s: 0.0, harmonics: Vec::new(), dc: None }
    }

    /// The same wave at zero, to move from or to.
    #[must_use]
    pub fn silent(&self) -> Self {
        let phasor = self.phasor.with_rms(Q::from_si(0.0));
        let dc = self.dc.map(|dc| dc.with_value(Q::from_si(0.0)));
        Self { phasor, dc, ..self.clone() }
    }

    /// The true RMS value: fundamental, harmonics and DC, at the segment's start.
    pub fn true_rms(&self) -> Q {
        if self.harmonics.is_empty() && self.dc.is_none() {
            return self.phasor.rms();
        }
        let shares: f64 = self.harmonics.iter().map(|h| h.share * h.share).sum();
        let dc = self.dc.map_or(0.0, |dc| dc.value.si());
        let fundamental = self.phasor.rms().si();
        Q::from_si((fundamental * fundamental * (1.0 + shares) + dc * dc).sqrt())
    }

    /// A wave that is at least as large as either of two, part by part, and swings no faster in the
    /// direction of zero: for bounds, not to be put out.
    #[must_use]
    pub(super) fn most(&self, other: &Self) -> Self {
        let larger = |a: f64, b: f64| if b.abs() > a.abs() { b } else { a };
        let rms = larger(self.phasor.rms().si(), other.phasor.rms().si());
        let mut most = self.clone();
        most.phasor = self.phasor.with_rms(Q::from_si(rms));
        most.frequency =
            if other.frequency < self.frequency { other.frequency } else { self.frequency };
        most.rate_hz_per_s = self.rate_hz_per_s.min(other.rate_hz_per_s);
        for h in &other.harmonics {
            let own = self.harmonics.iter().find(|o| o.order == h.order).map_or(0.0, |o| o.share);
            most.set_harmonic(Harmonic::new(h.order, own.max(h.share), h.angle));
        }
        if let Some(dc) = other.dc {
            let own = self.dc.map_or(0.0, |dc| dc.value.si());
            let value = Q::from_si(larger(own, dc.value.si()));
            // Decaying or not, it is that large at its begin.
            most.dc = Some(Dc::constant(value));
        }
        most
    }

    /// Total harmonic distortion as a share of the fundamental (IEC 61000-4-7, 3.3.2).
    pub fn thd(&self) -> f64 {
        self.harmonics.iter().map(|h| h.share * h.share).sum::<f64>().sqrt()
    }

    /// Sets a harmonic; a share of zero takes it out.
    pub fn set_harmonic(&mut self, harmonic: Harmonic) {
        self.harmonics.retain(|h| h.order != harmonic.order);
        if harmonic.share != 0.0 {
            let at = self.harmonics.partition_point(|h| h.order < harmonic.order);
            self.harmonics.insert(at, harmonic);
        }
    }

    /// Whether its frequency moves, or something superposed dies away.
    pub fn is_moving(&self) -> bool {
        self.rate_hz_per_s != 0.0 || self.dc.is_some_and(|dc| dc.tau.is_some())
    }

    pub(super) fn pass(&mut self, seconds: f64) {
        self.frequency += Frequency::from_si(self.rate_hz_per_s * seconds);
        self.dc = self.dc.map(|dc| dc.with_value(Q::from_si(dc.after(seconds))));
    }

    /// The wave `share` of the way to another on the same channel; all its numbers move linearly.
    #[must_use]
    pub fn toward(&self, to: &Self, share: f64) -> Self {
        let between = |a: f64, b: f64| a + (b - a) * share;
        let rms = Q::from_si(between(self.phasor.rms().si(), to.phasor.rms().si()));
        let angle = Angle::from_si(between(self.phasor.angle().si(), to.phasor.angle().si()));
        let mut mixed = Self {
            channel: self.channel.clone(),
            phasor: Phasor::new(rms, angle),
            frequency: Frequency::from_si(between(self.frequency.si(), to.frequency.si())),
            rate_hz_per_s: between(self.rate_hz_per_s, to.rate_hz_per_s),
            harmonics: Vec::new(),
            dc: None,
        };
        let find =
            |of: &Self, order| of.harmonics.iter().find(|h: &&Harmonic| h.order == order).copied();
        for h in self.harmonics.iter().chain(&to.harmonics) {
            let (a, b) = (find(self, h.order), find(to, h.order));
            let silent = Harmonic { share: 0.0, ..*h };
            let (a, b) = (a.unwrap_or(silent), b.unwrap_or(silent));
            let angle = Angle::from_si(between(a.angle.si(), b.angle.si()));
            mixed.set_harmonic(Harmonic::new(h.order, between(a.share, b.share), angle));
        }
        if self.dc.is_some() || to.dc.is_some() {
            let value = |d: &Self| d.dc.map_or(0.0, |dc| dc.value.si());
            let tau = self.dc.and_then(|dc| dc.tau).or(to.dc.and_then(|dc| dc.tau));
            let value = Q::from_si(between(value(self), value(to)));
            mixed.dc = Some(Dc { tau, ..Dc::constant(value) });
        }
        mixed
    }
}
