//! What is put out at one moment: a wave for each driven channel.

mod drive;
mod record;

pub use drive::{Dc, Drive, Harmonic};
pub use record::DriveError;

use crate::quantity::phasor::Phasor;
use crate::quantity::{Angle, Current, Frequency, Measure, Voltage};
use crate::text::name::Name;
use num_complex::Complex64;
use record::DriveRecord;
use serde::{Deserialize, Serialize};

/// All driven channels; a channel not named here is at zero.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Vec<DriveRecord>", into = "Vec<DriveRecord>")]
pub struct Stimulus {
    /// Current outputs.
    pub currents: Vec<Drive<Current>>,
    /// Voltage outputs.
    pub voltages: Vec<Drive<Voltage>>,
}

/// The phase current channels in the order A, B, C.
pub const PHASE_CURRENTS: [&str; 3] = ["ia", "ib", "ic"];

/// The phase voltage channels in the order A, B, C.
pub const PHASE_VOLTAGES: [&str; 3] = ["va", "vb", "vc"];

impl Stimulus {
    /// Everything at zero.
    pub fn off() -> Self {
        Self::default()
    }

    /// Three phase currents of one frequency on `ia`, `ib`, `ic`; phases at zero are left out.
    pub fn phase_currents(phases: [Phasor<Current>; 3], frequency: Frequency) -> Self {
        let currents = PHASE_CURRENTS
            .iter()
            .zip(phases)
            .filter(|(_, phasor)| phasor.rms().si() != 0.0)
            .map(|(channel, phasor)| Drive::sine(Name::from(*channel), phasor, frequency))
            .collect();
        Self { currents, voltages: Vec::new() }
    }

    /// The complex RMS currents on `ia`, `ib`, `ic`, in amperes.
    pub fn complex_phase_currents(&self) -> [Complex64; 3] {
        PHASE_CURRENTS.map(|channel| {
            self.currents
                .iter()
                .find(|d| d.channel == channel)
                .map_or(Complex64::ZERO, |d| d.phasor.complex())
        })
    }

    /// The complex RMS voltages on `va`, `vb`, `vc`, in volts.
    pub fn complex_phase_voltages(&self) -> [Complex64; 3] {
        PHASE_VOLTAGES.map(|channel| {
            self.voltages
                .iter()
                .find(|d| d.channel == channel)
                .map_or(Complex64::ZERO, |d| d.phasor.complex())
        })
    }

    /// With all currents larger by a factor; what is superposed to them keeps its share.
    pub fn with_currents(&self, factor: f64) -> Self {
        let mut new = self.clone();
        for drive in &mut new.currents {
            drive.phasor = drive.phasor.with_rms(drive.phasor.rms() * factor);
        }
        new
    }

    /// Whether anything direct is put out.
    pub fn has_dc(&self) -> bool {
        self.currents.iter().any(|d| d.dc.is_some()) || self.voltages.iter().any(|d| d.dc.is_some())
    }

    /// Whether nothing at all is put out.
    pub fn is_off(&self) -> bool {
        self.currents.iter().all(|d| d.true_rms().si() == 0.0)
            && self.voltages.iter().all(|d| d.true_rms().si() == 0.0)
    }

    /// The frequency of the first voltage that is on, else of the first current.
    pub fn frequency(&self) -> Option<Frequency> {
        self.reference().map(|(hertz, ..)| Frequency::from_si(hertz))
    }

    /// The wave that angles are told against: that of the first voltage that is on, else of the first
    /// current. Frequency in Hz, its rate of change in Hz/s, angle.
    pub fn reference(&self) -> Option<(f64, f64, Angle)> {
        fn of<Q: Measure>(drives: &[Drive<Q>]) -> Option<(f64, f64, Angle)> {
            let on = drives.iter().find(|d| d.phasor.rms().si() > 0.0)?;
            Some((on.frequency.si(), on.rate_hz_per_s, on.phasor.angle()))
        }
        of(&self.voltages).or_else(|| of(&self.currents))
    }

    /// What is out after a time, where frequencies move by themselves.
    #[must_use]
    pub fn after(&self, seconds: f64) -> Self {
        let mut moved = self.clone();
        moved.currents.iter_mut().for_each(|d| d.pass(seconds));
        moved.voltages.iter_mut().for_each(|d| d.pass(seconds));
        moved
    }

    /// The same with every frequency staying where it is; direct components go on decaying.
    #[must_use]
    pub fn at_rest(mut self) -> Self {
        self.currents.iter_mut().for_each(|d| d.rate_hz_per_s = 0.0);
        self.voltages.iter_mut().for_each(|d| d.rate_hz_per_s = 0.0);
        self
    }

    /// What is at least as large as either of two on every channel: the larger wave of each.
    #[must_use]
    pub fn most(&self, other: &Self) -> Self {
        Self {
            currents: larger(&self.currents, &other.currents),
            voltages: larger(&self.voltages, &other.voltages),
        }
    }

    /// Whether anything moves while the stimulus is held: frequencies, decaying DC.
    pub fn is_moving(&self) -> bool {
        self.currents.iter().any(Drive::is_moving) || self.voltages.iter().any(Drive::is_moving)
    }

    /// The stimulus `share` of the way to another: RMS, angle and frequency move linearly.
    ///
    /// `share` 0 is `self`, 1 is `to`. A channel that only one side drives moves from or to zero.
    #[must_use]
    pub fn toward(&self, to: &Self, share: f64) -> Self {
        Self {
            currents: mix(&self.currents, &to.currents, share),
            voltages: mix(&self.voltages, &to.voltages, share),
        }
    }
}

fn larger<Q: Measure>(a: &[Drive<Q>], b: &[Drive<Q>]) -> Vec<Drive<Q>> {
    let mut all = a.to_vec();
    for theirs in b {
        match all.iter_mut().find(|d| d.channel == theirs.channel) {
            Some(mine) => *mine = mine.most(theirs),
            None => all.push(theirs.clone()),
        }
    }
    all
}

fn mix<Q: Measure>(from: &[Drive<Q>], to: &[Drive<Q>], share: f64) -> Vec<Drive<Q>> {
    let missing = to.iter().filter(|t| !from.iter().any(|f| f.channel == t.channel));
    from.iter()
        .map(|f| match to.iter().find(|t| t.channel == f.channel) {
            Some(target) => f.toward(target, share),
            None => f.toward(&f.silent(), share),
        })
        .chain(missing.map(|t| t.silent().toward(t, share)))
        .collect()
}
