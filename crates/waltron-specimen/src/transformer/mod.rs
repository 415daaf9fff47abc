//! A simulated current or voltage transformer: linear, with the time constant of its core.

mod circuit;
mod form;
#[cfg(test)]
mod tests;

pub use circuit::{Burden, TransformerTruth};
pub(crate) use form::TransformerForm;

use crate::{Noise, Specimen, Unconnected, Window};
use circuit::{Feed, Look, Wave};
use num_complex::Complex64;
use std::f64::consts::{FRAC_PI_2, SQRT_2, TAU};
use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;

/// An output of the rig and where it feeds in.
#[derive(Clone, Debug)]
struct Outlet {
    channel: Name,
    feed: Feed,
    /// The voltage at which a current output can do no more.
    compliance_v: Option<f64>,
}

/// A stretch of time in which the sources stay as they are.
#[derive(Clone, Debug)]
struct Stretch {
    start: f64,
    feed: Feed,
    /// What is fed in, from `start` on.
    waves: Vec<Wave>,
    /// By how much the current in Lm is off at `start` from what the source wants.
    off_by: f64,
    /// What is fed into the burden by itself.
    burden: Vec<Wave>,
}

/// The simulated transformer in virtual time. It has no contacts.
#[derive(Clone, Debug)]
pub struct Transformer {
    truth: TransformerTruth,
    seed: u64,
    shot: u64,
    outlets: Vec<Outlet>,
    looks: Vec<(Name, Look)>,
    /// Since the begin, oldest first; the last one goes on.
    stretches: Vec<Stretch>,
    clock: PhaseClock,
    now: f64,
    /// The current in Lm at the begin.
    magnetising_a: f64,
}

impl Transformer {
    /// A transformer without current in its core.
    pub fn new(truth: TransformerTruth, seed: u64) -> Self {
        let mut all = Self {
            truth,
            seed,
            shot: 0,
            outlets: Vec::new(),
            looks: Vec::new(),
            stretches: Vec::new(),
            clock: PhaseClock::default(),
            now: 0.0,
            magnetising_a: 0.0,
        };
        all.begin(0);
        all
    }

    /// The current in Lm at a moment of a stretch.
    fn magnetising(&self, of: &Stretch, at: f64) -> f64 {
        let t = at - of.start;
        let wanted = |w: &Wave| (self.truth.magnetising(of.feed, *w) * (w.s * t).exp()).re;
        let left = of.off_by * (self.truth.pole(of.feed) * t).exp();
        of.waves.iter().map(wanted).sum::<f64>() + left
    }

    /// Begins a stretch now, in which the current in Lm goes on from where it is.
    fn begin_stretch(&mut self, start: f64, feed: Feed, waves: Vec<Wave>, burden: Vec<Wave>) {
        let current = match self.stretches.last() {
            Some(last) => self.magnetising(last, start),
            None => self.magnetising_a,
        };
        // A voltage transformer's own voltage holds its core, whatever was there before.
        let wanted: f64 = waves.iter().map(|w| self.truth.magnetising(feed, *w).re).sum();
        let off_by = if feed == Feed::PrimaryVoltage { 0.0 } else { current - wanted };
        self.stretches.push(Stretch { start, feed, waves, off_by, burden });
    }

    /// A current source that reaches its highest voltage charges the core with that, until its current
    /// is there.
    fn charge(&mut self, wave: Wave, compliance_v: f64, burden: &[Wave]) {
        let t = &self.truth;
        let (wanted, sign) = (wave.a.re.abs(), wave.a.re.signum());
        let now =
            self.stretches.last().map_or(self.magnetising_a, |l| self.magnetising(l, self.now));
        let now = now * sign;
        let (r, losses) = (t.resistance_ohm, t.losses_ohm);
        if r * wanted + losses * (wanted - now) <= compliance_v {
            return self.begin_stretch(
                self.now,
                Feed::SecondaryCurrent,
                vec![wave],
                burden.to_vec(),
            );
        }
        let limited = Wave { s: Complex64::ZERO, a: Complex64::from(compliance_v * sign) };
        let pole = t.pole(Feed::SecondaryVoltage);
        // Where the source's current is what is wanted, and where it would end.
        let there = (wanted * (r + losses) - compliance_v) / losses;
        let end = compliance_v / r;
        self.begin_stretch(self.now, Feed::SecondaryVoltage, vec![limited], burden.to_vec());
        if there < end {
            let takes = ((there - end) / (now - end)).ln() / pole;
            let at = self.now + takes.max(0.0);
            self.begin_stretch(at, Feed::SecondaryCurrent, vec![wave], burden.to_vec());
        }
    }

    /// The waves of a drive, from now on.
    fn waves<Q: Measure>(&self, drive: &Drive<Q>) -> Vec<Wave> {
        let psi = self.clock.phase_of(&drive.channel) + drive.phasor.angle().si() + FRAC_PI_2;
        let (rms, w) = (drive.phasor.rms().si() * SQRT_2, TAU * drive.frequency.si());
        // sin x is the real part of exp(j(x - 90°)).
        let sine = |order: f64, share: f64, angle: f64| Wave {
            s: Complex64::new(0.0, order * w),
            a: Complex64::from_polar(rms * share, order * psi + angle - FRAC_PI_2),
        };
        let mut all = Vec::new();
        if rms != 0.0 {
            all.push(sine(1.0, 1.0, 0.0));
            all.extend(
                drive
                    .harmonics
                    .iter()
                    .map(|h| sine(f64::from(h.order()), h.share(), h.angle().si())),
            );
        }
        if let Some(dc) = drive.dc.filter(|dc| dc.value().si() != 0.0) {
            let s = dc.tau().map_or(0.0, |tau| -1.0 / tau.si());
            all.push(Wave { s: s.into(), a: dc.value().si().into() });
        }
        all
    }

    fn stretch_at(&self, at: f64) -> Option<&Stretch> {
        let next = self.stretches.partition_point(|s| s.start <= at + 1e-12);
        self.stretches.get(next.saturating_sub(1))
    }

    /// The waves that a look shows in a stretch.
    fn shown(&self, of: &Stretch, look: Look) -> Vec<Wave> {
        let wave = |feed: Feed, w: &Wave| Wave { s: w.s, a: self.truth.shown(feed, *w, look) };
        let fed = of.waves.iter().map(|w| wave(of.feed, w));
        let burden = of.burden.iter().map(|w| wave(Feed::BurdenCurrent, w));
        let left = Wave {
            s: self.truth.pole(of.feed).into(),
            a: (of.off_by * self.truth.left(of.feed, look)).into(),
        };
        let all = fed.chain(burden).chain([left]);
        all.filter(|w| w.a != Complex64::ZERO).collect()
    }
}

/// Where a rig's outputs of one kind feed in.
fn outlets<Q: Measure>(channels: &[Channel<Q>]) -> impl Iterator<Item = Result<Outlet, Name>> {
    channels.iter().map(|channel| {
        let found = Feed::NAMES.iter().find(|(name, _)| channel.meaning == *name);
        let is_current = Q::DIMENSION == waltron_core::quantity::Dimension::CURRENT;
        // A voltage cannot be fed in as a current.
        let found = found.filter(|(name, _)| name.ends_with("current") == is_current);
        let (_, feed) = found.ok_or_else(|| channel.meaning.clone())?;
        let (channel, compliance) = (channel.id.clone(), channel.ability.compliance);
        Ok(Outlet { channel, feed: *feed, compliance_v: compliance.filter(|_| is_current) })
    })
}

impl Specimen for Transformer {
    fn begin(&mut self, shot: u64) {
        if let Some(last) = self.stretches.last() {
            self.magnetising_a = self.magnetising(last, self.now);
        }
        self.shot = shot;
        self.now = 0.0;
        self.clock = PhaseClock::default();
        self.stretches.clear();
        self.begin_stretch(0.0, Feed::Off, Vec::new(), Vec::new());
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let has = |names: Vec<&'static str>| names;
        let outlets = outlets(&rig.currents).chain(outlets(&rig.voltages));
        let outlets = outlets.collect::<Result<Vec<_>, _>>().map_err(|meaning| Unconnected {
            meaning,
            has: has(Feed::NAMES.iter().map(|(n, _)| *n).collect()),
        })?;
        let mut looks = Vec::new();
        for meter in &rig.meters {
            let found = Look::NAMES.iter().find(|(name, _)| meter.meaning == *name);
            let is_current = meter.dimension == waltron_core::quantity::Dimension::CURRENT;
            match found.filter(|(name, _)| name.ends_with("current") == is_current) {
                Some((_, look)) => looks.push((meter.meaning.clone(), *look)),
                None => {
                    let has = has(Look::NAMES.iter().map(|(n, _)| *n).collect());
                    return Err(Unconnected { meaning: meter.meaning.clone(), has });
                }
            }
        }
        if let Some(switch) = rig.switches.first() {
            return Err(Unconnected { meaning: switch.meaning.clone(), has: Vec::new() });
        }
        (self.outlets, self.looks) = (outlets, looks);
        Ok(())
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.clock.apply(self.now, stimulus);
        let mut burden = Vec::new();
        let mut fed: Option<(Feed, Vec<Wave>, Option<f64>)> = None;
        for outlet in &self.outlets {
            let current = stimulus.currents.iter().find(|d| d.channel == outlet.channel);
            let voltage = stimulus.voltages.iter().find(|d| d.channel == outlet.channel);
            let waves = match (current, voltage) {
                (Some(drive), _) => self.waves(drive),
                (None, Some(drive)) => self.waves(drive),
                (None, None) => continue,
            };
            match outlet.feed {
                _ if waves.is_empty() => {}
                Feed::BurdenCurrent => burden = waves,
                // Of two sources on one winding the stiffer one, the voltage, tells.
                feed if fed.is_none() || matches!(feed, Feed::SecondaryVoltage) => {
                    fed = Some((feed, waves, outlet.compliance_v));
                }
                _ => {}
            }
        }
        // What had not begun yet does not begin any more.
        let now = self.now;
        self.stretches.retain(|s| s.start <= now);
        match fed {
            None => self.begin_stretch(now, Feed::Off, Vec::new(), burden),
            Some((Feed::SecondaryCurrent, waves, Some(compliance)))
                if waves.len() == 1 && waves[0].s == Complex64::ZERO =>
            {
                self.charge(waves[0], compliance, &burden);
            }
            Some((feed, waves, _)) => self.begin_stretch(now, feed, waves, burden),
        }
    }

    fn advance(&mut self, to: Time) -> Option<Edge> {
        self.now = self.now.max(to.si());
        None
    }

    fn closed(&self) -> Vec<Name> {
        Vec::new()
    }

    fn samples(&self, of: &Name, window: Window) -> Option<Vec<f64>> {
        let (_, look) = self.looks.iter().find(|(name, _)| name == of)?;
        let step = 1.0 / window.rate_hz;
        let time = |k: usize| window.start_s + k as f64 * step;
        let mut samples = vec![0.0; window.count];
        let mut k = 0;
        while k < window.count {
            let Some(stretch) = self.stretch_at(time(k)) else { break };
            let next = self.stretches.iter().map(|s| s.start).find(|s| *s > time(k) + 1e-12);
            let until = next.map_or(window.count, |next| {
                let inside = ((next - window.start_s) * window.rate_hz - 1e-9).ceil();
                (inside as usize).clamp(k + 1, window.count)
            });
            for wave in self.shown(stretch, *look) {
                let mut value = wave.a * (wave.s * (time(k) - stretch.start)).exp();
                let turn = (wave.s * step).exp();
                for sample in &mut samples[k..until] {
                    *sample += value.re;
                    value *= turn;
                }
            }
            k = until;
        }
        if self.truth.noise > 0.0 {
            let largest = samples.iter().fold(0.0f64, |a, b| a.max(b.abs()));
            // Each stretch of samples has its own scatter, the same whenever it is looked at.
            let place = (window.start_s * 1e6) as u64 ^ ((*look as u64) << 56);
            let mut noise = Noise::of_shot(self.seed ^ place, self.shot);
            samples.iter_mut().for_each(|s| *s += largest * noise.draw(self.truth.noise));
        }
        Some(samples)
    }
}
