//! The form a drive has in records and on the wire: numbers whose names carry the unit.

use super::{Dc, Drive, Harmonic, Stimulus};
use crate::quantity::edge;
use crate::quantity::phasor::Phasor;
use crate::quantity::{Frequency, Measure, degrees, seconds};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

#[derive(Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct DriveRecord {
    channel: Name,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    rms_a: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    rms_v: Option<f64>,
    angle_deg: f64,
    frequency_hz: f64,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    rate_hz_per_s: Option<f64>,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    harmonics: Vec<HarmonicRecord>,
    /// In the unit of the RMS value.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    dc: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    dc_tau_s: Option<f64>,
}

#[derive(Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct HarmonicRecord {
    order: u32,
    share_pct: f64,
    angle_deg: f64,
}

impl From<Stimulus> for Vec<DriveRecord> {
    fn from(s: Stimulus) -> Self {
        fn record<Q: Measure>(d: &Drive<Q>, rms_a: Option<f64>, rms_v: Option<f64>) -> DriveRecord {
            let harmonics = d.harmonics.iter().map(|h| HarmonicRecord {
                order: h.order(),
                share_pct: h.share() * 100.0,
                angle_deg: edge::degrees(h.angle()),
            });
            DriveRecord {
                channel: d.channel.clone(),
                rms_a,
                rms_v,
                angle_deg: edge::degrees(d.phasor.angle()),
                frequency_hz: d.frequency.si(),
                rate_hz_per_s: (d.rate_hz_per_s != 0.0).then_some(d.rate_hz_per_s),
                harmonics: harmonics.collect(),
                dc: d.dc.map(|dc| dc.value().si()),
                dc_tau_s: d.dc.and_then(Dc::tau).map(Measure::si),
            }
        }
        let currents = s.currents.iter().map(|d| record(d, Some(d.phasor.rms().si()), None));
        let voltages = s.voltages.iter().map(|d| record(d, None, Some(d.phasor.rms().si())));
        currents.chain(voltages).collect()
    }
}

/// Why numbers make no drive.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum DriveError {
    /// A magnitude below zero.
    #[error(
        "`{field}` of {channel} is {value}; a magnitude is not negative, turn the angle instead"
    )]
    Negative {
        /// The field.
        field: &'static str,
        /// The channel.
        channel: Name,
        /// Its value.
        value: f64,
    },
    /// Neither a current nor a voltage, or both.
    #[error("{channel} needs one of `rms_a` and `rms_v`")]
    Kind {
        /// The channel.
        channel: Name,
    },
    /// A decay that is none.
    #[error("`dc_tau_s` of {channel} is {value}; a direct component decays with a time above zero")]
    Tau {
        /// The channel.
        channel: Name,
        /// Its value.
        value: f64,
    },
}

impl TryFrom<Vec<DriveRecord>> for Stimulus {
    type Error = DriveError;

    fn try_from(records: Vec<DriveRecord>) -> Result<Self, DriveError> {
        fn not_negative(
            field: &'static str,
            channel: &Name,
            value: f64,
        ) -> Result<f64, DriveError> {
            if value >= 0.0 {
                return Ok(value);
            }
            Err(DriveError::Negative { field, channel: channel.clone(), value })
        }
        fn drive<Q: Measure>(r: &DriveRecord, rms: f64) -> Result<Drive<Q>, DriveError> {
            let phasor = Phasor::new(Q::from_si(rms), degrees(r.angle_deg));
            let mut drive =
                Drive::sine(r.channel.clone(), phasor, Frequency::from_si(r.frequency_hz));
            drive.rate_hz_per_s = r.rate_hz_per_s.unwrap_or(0.0);
            for h in &r.harmonics {
                let share = not_negative("share_pct", &r.channel, h.share_pct)? / 100.0;
                drive.harmonics.push(Harmonic::new(h.order, share, degrees(h.angle_deg)));
            }
            drive.dc = r.dc.map(|dc| Dc::constant(Q::from_si(dc)));
            if let (Some(dc), Some(value)) = (drive.dc, r.dc_tau_s) {
                let decaying = dc.decaying(seconds(value));
                let channel = r.channel.clone();
                drive.dc = Some(decaying.ok_or(DriveError::Tau { channel, value })?);
            }
            Ok(drive)
        }
        let mut read = Self::default();
        for r in &records {
            match (r.rms_a, r.rms_v) {
                (Some(rms), None) => {
                    let rms = not_negative("rms_a", &r.channel, rms)?;
                    read.currents.push(drive(r, rms)?);
                }
                (None, Some(rms)) => {
                    let rms = not_negative("rms_v", &r.channel, rms)?;
                    read.voltages.push(drive(r, rms)?);
                }
                _ => return Err(DriveError::Kind { channel: r.channel.clone() }),
            }
        }
        Ok(read)
    }
}
