//! The form a drive has in records and on the wire: numbers whose names carry the unit.

use super::{Dc, Drive, Harmonic, Stimulus};
use crate::edge;
use crate::name::Name;
use crate::phasor::Phasor;
use crate::quantity::{Frequency, Measure, degrees, seconds};
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
                order: h.order,
                share_pct: h.share * 100.0,
                angle_deg: edge::degrees(h.angle),
            });
            DriveRecord {
                channel: d.channel.clone(),
                rms_a,
                rms_v,
                angle_deg: edge::degrees(d.phasor.angle),
                frequency_hz: d.frequency.si(),
                rate_hz_per_s: (d.rate_hz_per_s != 0.0).then_some(d.rate_hz_per_s),
                harmonics: harmonics.collect(),
                dc: d.dc.map(|dc| dc.value.si()),
                dc_tau_s: d.dc.and_then(|dc| dc.tau).map(Measure::si),
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
            let phasor = Phasor::new(Q::from_si(rms), degrees(r.angle_deg));
            let mut drive =
                Drive::sine(r.channel.clone(), phasor, Frequency::from_si(r.frequency_hz));
            drive.rate_hz_per_s = r.rate_hz_per_s.unwrap_or(0.0);
            drive.harmonics = r
                .harmonics
                .iter()
                .map(|h| Harmonic {
                    order: h.order,
                    share: h.share_pct / 100.0,
                    angle: degrees(h.angle_deg),
                })
                .collect();
            drive.dc = r.dc.map(|dc| Dc { value: Q::from_si(dc), tau: r.dc_tau_s.map(seconds) });
            drive
        }
        Self {
            currents: records.iter().filter_map(|r| Some(drive(r, r.rms_a?))).collect(),
            voltages: records.iter().filter_map(|r| Some(drive(r, r.rms_v?))).collect(),
        }
    }
}
