//! What is put out at one moment: a wave for each driven channel.

use crate::edge;
use crate::name::Name;
use crate::phasor::Phasor;
use crate::quantity::{Angle, Current, Frequency, Measure, Voltage, degrees};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};

/// A sinusoid on one channel.
#[derive(Clone, Debug, PartialEq)]
pub struct Drive<Q> {
    /// The rig's channel, such as `ia`.
    pub channel: Name,
    /// RMS value and phase angle of the fundamental.
    pub phasor: Phasor<Q>,
    /// Frequency; each channel has its own, so that two sources can run asynchronously.
    pub frequency: Frequency,
}

/// All driven channels; a channel not named here is at zero.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(from = "Vec<DriveRecord>", into = "Vec<DriveRecord>")]
pub struct Stimulus {
    /// Current outputs.
    pub currents: Vec<Drive<Current>>,
    /// Voltage outputs.
    pub voltages: Vec<Drive<Voltage>>,
}

/// The phase current channels in the order A, B, C.
pub const PHASE_CURRENTS: [&str; 3] = ["ia", "ib", "ic"];

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
            .filter(|(_, phasor)| phasor.rms.si() != 0.0)
            .map(|(channel, phasor)| Drive { channel: Name::from(*channel), phasor, frequency })
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

fn mix<Q: Measure>(from: &[Drive<Q>], to: &[Drive<Q>], share: f64) -> Vec<Drive<Q>> {
    let between = |a: f64, b: f64| a + (b - a) * share;
    let zero =
        |d: &Drive<Q>| Drive { phasor: Phasor::new(Q::from_si(0.0), d.phasor.angle), ..d.clone() };
    let missing = to.iter().filter(|t| !from.iter().any(|f| f.channel == t.channel));
    from.iter()
        .map(|f| {
            let target = to.iter().find(|t| t.channel == f.channel);
            (f.clone(), target.cloned().unwrap_or_else(|| zero(f)))
        })
        .chain(missing.map(|t| (zero(t), t.clone())))
        .map(|(f, t)| Drive {
            channel: f.channel,
            phasor: Phasor::new(
                Q::from_si(between(f.phasor.rms.si(), t.phasor.rms.si())),
                Angle::from_si(between(f.phasor.angle.si(), t.phasor.angle.si())),
            ),
            frequency: Frequency::from_si(between(f.frequency.si(), t.frequency.si())),
        })
        .collect()
}

/// The form a drive has in records and on the wire.
#[derive(Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct DriveRecord {
    channel: Name,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    rms_a: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    rms_v: Option<f64>,
    angle_deg: f64,
    frequency_hz: f64,
}

impl From<Stimulus> for Vec<DriveRecord> {
    fn from(s: Stimulus) -> Self {
        fn record<Q: Measure>(d: &Drive<Q>, rms_a: Option<f64>, rms_v: Option<f64>) -> DriveRecord {
            DriveRecord {
                channel: d.channel.clone(),
                rms_a,
                rms_v,
                angle_deg: edge::degrees(d.phasor.angle),
                frequency_hz: d.frequency.si(),
            }
        }
        let currents = s.currents.iter().map(|d| record(d, Some(d.phasor.rms.si()), None));
        let voltages = s.voltages.iter().map(|d| record(d, None, Some(d.phasor.rms.si())));
        currents.chain(voltages).collect()
    }
}

impl From<Vec<DriveRecord>> for Stimulus {
    fn from(records: Vec<DriveRecord>) -> Self {
        fn drive<Q: Measure>(r: &DriveRecord, rms: f64) -> Drive<Q> {
            Drive {
                channel: r.channel.clone(),
                phasor: Phasor::new(Q::from_si(rms), degrees(r.angle_deg)),
                frequency: Frequency::from_si(r.frequency_hz),
            }
        }
        Self {
            currents: records.iter().filter_map(|r| Some(drive(r, r.rms_a?))).collect(),
            voltages: records.iter().filter_map(|r| Some(drive(r, r.rms_v?))).collect(),
        }
    }
}
