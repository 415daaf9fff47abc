//! Waveforms of an injection, kept beside the record.

use crate::failure::Failure;
use crate::job::Job;
use crate::recording::{AS_PUT_OUT, MEASURED, Origin, first_sample, of_waveform};
use std::path::{Path, PathBuf};
use waltron_core::injection::measuring::Captured;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::injection::waveform::{pieces, render};
use waltron_core::quantity::{Dimension, Measure, seconds};
use waltron_core::record::{Kept, digest};
use waltron_core::text::name::Name;
use waltron_wire::comtrade::emit::{AnalogTrack, DigitalTrack, combined};
use waltron_wire::comtrade::{Format, Side, Stamp};

/// Samples a second of captured waveforms; long injections get fewer.
const CAPTURE_HZ: [f64; 4] = [10_000.0, 5_000.0, 2_000.0, 1_000.0];

/// Most samples of a captured channel: half an hour at the lowest rate.
const MOST_CAPTURED: f64 = 2e6;

/// A capture's name as a part of a file's: what means something in paths becomes a dash.
fn file_name(name: &str) -> String {
    let safe = |c: char| if c.is_alphanumeric() || " _-+=%".contains(c) { c } else { '-' };
    name.chars().take(60).map(safe).collect()
}

/// Where a capture begins and how long it is, in samples, where it is but a short part of so many.
fn part(captured: &Captured, count: usize) -> Option<(usize, usize)> {
    let length = captured.tracks.first()?.count;
    let from = first_sample(captured.start.si(), captured.rate_hz);
    (length * 5 < count && length > 0).then_some((from, length))
}

fn cut<T>(values: &mut Vec<T>, from: usize, end: usize) {
    values.truncate(end);
    values.drain(..from.min(values.len()));
}

/// Writes the waveforms and contacts of an injection beside the record; `None` where they are too
/// long to be kept. `now` is the moment at which the injection ended, RFC 3339 in UTC.
pub(super) fn capture(
    job: &Job,
    record: &Path,
    test: &Name,
    name: &Name,
    program: &Program,
    observation: &Observation,
    now: &str,
) -> Result<Option<(PathBuf, Kept)>, Failure> {
    let length = observation.length().si();
    let measured = observation.captures.iter().find(|c| c.name == *name);
    let usual = CAPTURE_HZ.into_iter().find(|hz| length * hz <= MOST_CAPTURED);
    let Some(rate_hz) = measured.map(|c| c.rate_hz).or(usual) else {
        return Ok(None);
    };
    let mut waveform = render(&pieces(program, Some(observation)), rate_hz)
        .map_err(|e| Failure::trouble(e.to_string()))?;
    waveform.cut(observation);
    let count = waveform.channels.first().map_or(0, |c| c.samples.len());
    let contacts = job.rig.capability.inputs.iter().map(|input| {
        let state = |k: usize| {
            let time = seconds((k as f64 + 0.5) / rate_hz);
            observation.closed_before(&input.meaning, time)
        };
        DigitalTrack {
            id: input.meaning.to_string(),
            phase: String::new(),
            circuit: String::new(),
            normal: false,
            states: (0..count).map(state).collect(),
        }
    });
    let site = job.asset.identity.site.clone().unwrap_or_default();
    let origin = Origin {
        station: &site,
        device: &job.asset.identity.tag,
        frequency_hz: job.asset.ratings.frequency.map(Measure::si),
        // The injection has just ended.
        start: Some(Stamp::utc(now).later(-length)),
    };
    let contacts: Vec<DigitalTrack> = contacts.collect();
    let mut recording = of_waveform(&waveform, contacts, &origin);
    // Nobody shall take what was commanded for a measurement.
    recording.analog.iter_mut().for_each(|track| track.circuit = AS_PUT_OUT.to_owned());
    recording.analog.extend(measured.iter().flat_map(|c| &c.tracks).map(|track| {
        // A part of the program stands where it was taken.
        let mut values =
            vec![f64::NAN; first_sample(measured.map_or(0.0, |c| c.start.si()), rate_hz)];
        values.extend_from_slice(&track.samples);
        values.resize(count, f64::NAN);
        let dimension = job.rig.capability.dimension_of(&track.of);
        AnalogTrack {
            id: track.of.to_string(),
            phase: String::new(),
            circuit: MEASURED.to_owned(),
            skew_us: 0.0,
            unit: if dimension == Some(Dimension::CURRENT) { "A" } else { "V" }.to_owned(),
            ratio: (1.0, 1.0),
            side: Side::Secondary,
            values,
        }
    }));
    // Of a short part of a long injection that part is kept, and not minutes around it.
    if let Some((from, length)) = measured.and_then(|c| part(c, count)) {
        let end = (from + length).min(count);
        recording.analog.iter_mut().for_each(|track| cut(&mut track.values, from, end));
        recording.digital.iter_mut().for_each(|track| cut(&mut track.states, from, end));
    }
    let stem = record.file_name().unwrap_or_default().to_string_lossy();
    let stem = stem.strip_suffix(".run.jsonl").unwrap_or(&stem).to_owned();
    let (called, name) = (name.clone(), file_name(name.as_str()));
    let file = |n: u32| {
        let suffix = if n == 1 { String::new() } else { format!("-{n}") };
        record.with_file_name(format!("{stem}.{name}{suffix}.cff"))
    };
    let path = (1..1000).map(file).find(|p| !p.exists()).unwrap_or_else(|| file(1000));
    let bytes = combined(&recording, Format::Binary32);
    crate::files::write(&path, &bytes, false)?;
    let tracks = measured.iter().flat_map(|c| &c.tracks);
    let kept = Kept {
        name: called,
        test: test.clone(),
        file: path.file_name().unwrap_or_default().to_string_lossy().into_owned(),
        digest: digest(&bytes),
        measured: tracks.map(|t| t.of.clone()).collect(),
    };
    Ok(Some((path, kept)))
}
