//! Writing recordings. Every edition and format that is read is written too.

use super::config::{Analog, Config, Digital, Format, Rate, Revision, Side};
use super::data::ascii_mark;
use super::stamp::Stamp;
use std::fmt::Write;

/// A recording to be written.
#[derive(Clone, Debug, PartialEq)]
pub struct Recording {
    /// Station.
    pub station: String,
    /// Recording device.
    pub device: String,
    /// Frequency of the power system, in Hz, where it is known.
    pub frequency_hz: Option<f64>,
    /// Samples a second.
    pub rate_hz: f64,
    /// Time of the first sample.
    pub start: Stamp,
    /// Time of the trigger.
    pub trigger: Stamp,
    /// Analog channels, all of the same length.
    pub analog: Vec<AnalogTrack>,
    /// Status channels, all of that length.
    pub digital: Vec<DigitalTrack>,
    /// The header: free text for people (`.hdr`).
    pub header: String,
    /// The information: text for programs (`.inf`).
    pub information: String,
}

/// An analog channel to be written; values that are not finite are written as missing.
#[derive(Clone, Debug, PartialEq)]
pub struct AnalogTrack {
    /// Its name.
    pub id: String,
    /// Phase.
    pub phase: String,
    /// Circuit component being monitored.
    pub circuit: String,
    /// Time skew in µs.
    pub skew_us: f64,
    /// Unit of the values.
    pub unit: String,
    /// Transformer ratio: primary and secondary factor.
    pub ratio: (f64, f64),
    /// Which side the values are of.
    pub side: Side,
    /// The values.
    pub values: Vec<f64>,
}

/// A status channel to be written.
#[derive(Clone, Debug, PartialEq)]
pub struct DigitalTrack {
    /// Its name.
    pub id: String,
    /// Phase.
    pub phase: String,
    /// Circuit component being monitored.
    pub circuit: String,
    /// State in normal operation.
    pub normal: bool,
    /// The states.
    pub states: Vec<bool>,
}

/// Configuration text and data bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Files {
    /// The `.cfg`, with the line ends the standard asks for (CR LF).
    pub config: String,
    /// The `.dat`.
    pub data: Vec<u8>,
}

/// Largest stored integer of each format.
fn full_scale(format: Format) -> f64 {
    match format {
        Format::Binary => 32767.0,
        // The mark of a missing value, 99999, must not be met by chance.
        Format::Ascii => 99998.0,
        Format::Binary32 => 2_147_483_647.0,
        Format::Float32 => 1.0,
    }
}

/// Writes a recording.
pub fn files(recording: &Recording, revision: Revision, format: Format) -> Files {
    let config = config(recording, revision, format);
    let count = recording.analog.first().map_or_else(
        || recording.digital.first().map_or(0, |d| d.states.len()),
        |a| a.values.len(),
    );
    let unit = per_second(recording, revision);
    let mut data = Vec::new();
    for index in 0..count {
        // Time stamps count in micro- or nanoseconds, or in what the factor makes of them.
        let stamp = (index as f64 / recording.rate_hz * unit / config.time_factor).round();
        match format {
            Format::Ascii => ascii(recording, &config, index, stamp, &mut data),
            _ => binary(recording, &config, index, stamp, &mut data),
        }
    }
    Files { config: text(&config), data }
}

/// Writes a recording as one combined file.
pub fn combined(recording: &Recording, format: Format) -> Vec<u8> {
    let files = files(recording, Revision::R2013, format);
    let mut bytes = format!("--- file type: CFG ---\r\n{}", files.config).into_bytes();
    for (kind, text) in [("INF", &recording.information), ("HDR", &recording.header)] {
        let end = if text.is_empty() || text.ends_with('\n') { "" } else { "\r\n" };
        bytes.extend_from_slice(format!("--- file type: {kind} ---\r\n{text}{end}").as_bytes());
    }
    let head = match format {
        Format::Ascii => "--- file type: DAT ASCII ---\r\n".to_owned(),
        other => format!("--- file type: DAT {}: {} ---\r\n", name(other), files.data.len()),
    };
    bytes.extend_from_slice(head.as_bytes());
    bytes.extend_from_slice(&files.data);
    bytes
}

fn config(recording: &Recording, revision: Revision, format: Format) -> Config {
    let analog = recording.analog.iter().map(|track| {
        let finite = track.values.iter().copied().filter(|v| v.is_finite());
        let largest = finite.fold(0.0f64, |m, v| m.max(v.abs()));
        let full = full_scale(format);
        // The multiplier that uses the whole range; floating point needs none.
        let a = match format {
            Format::Float32 => 1.0,
            _ if largest > 0.0 => largest / full,
            _ => 1.0 / full,
        };
        let limit = if format == Format::Float32 { largest } else { full };
        Analog {
            id: clean(&track.id),
            phase: clean(&track.phase),
            circuit: clean(&track.circuit),
            unit: clean(&track.unit),
            a,
            b: 0.0,
            skew_us: track.skew_us,
            min: -limit,
            max: limit,
            primary: track.ratio.0,
            secondary: track.ratio.1,
            side: track.side,
        }
    });
    let digital = recording.digital.iter().map(|track| Digital {
        id: clean(&track.id),
        phase: clean(&track.phase),
        circuit: clean(&track.circuit),
        normal: track.normal,
    });
    let count = recording.analog.first().map(|a| a.values.len());
    let count = count.or_else(|| recording.digital.first().map(|d| d.states.len())).unwrap_or(0);
    Config {
        revision,
        station: clean(&recording.station),
        device: clean(&recording.device),
        analog: analog.collect(),
        digital: digital.collect(),
        frequency_hz: recording.frequency_hz,
        rates: vec![Rate { hz: recording.rate_hz, last: count as u64 }],
        start: recording.start.clone(),
        trigger: recording.trigger.clone(),
        format,
        time_factor: time_factor(count, recording, revision),
        extra: if revision == Revision::R2013 {
            vec!["0,0".into(), "0,0".into()]
        } else {
            Vec::new()
        },
    }
}

/// Time stamps have 32 bits: a long recording needs a coarser unit, where the edition has one.
fn time_factor(count: usize, recording: &Recording, revision: Revision) -> f64 {
    let last = count as f64 / recording.rate_hz * per_second(recording, revision);
    if revision == Revision::R1991 || last < 4e9 { 1.0 } else { (last / 4e9).ceil() }
}

/// How many of the units of time stamps make a second.
fn per_second(recording: &Recording, revision: Revision) -> f64 {
    let fine = revision == Revision::R2013 && recording.start.counts_nanoseconds();
    if fine { 1e9 } else { 1e6 }
}

/// Text without what would break the line apart.
fn clean(text: &str) -> String {
    text.chars().map(|c| if c == ',' || c.is_control() { ' ' } else { c }).collect()
}

fn name(format: Format) -> &'static str {
    match format {
        Format::Ascii => "ASCII",
        Format::Binary => "BINARY",
        Format::Binary32 => "BINARY32",
        Format::Float32 => "FLOAT32",
    }
}

fn text(c: &Config) -> String {
    let mut out = String::new();
    let year = match c.revision {
        Revision::R1991 => "",
        Revision::R1999 => ",1999",
        Revision::R2013 => ",2013",
    };
    let (a, d) = (c.analog.len(), c.digital.len());
    // Writing to a string cannot fail.
    let _ = write!(out, "{},{}{year}\r\n{},{a}A,{d}D\r\n", c.station, c.device, a + d);
    for (index, x) in c.analog.iter().enumerate() {
        let n = index + 1;
        let _ = write!(
            out,
            "{n},{},{},{},{},{:e},{},{},{},{}",
            x.id, x.phase, x.circuit, x.unit, x.a, x.b, x.skew_us, x.min, x.max
        );
        if c.revision > Revision::R1991 {
            let side = if x.side == Side::Primary { "P" } else { "S" };
            let _ = write!(out, ",{},{},{side}", x.primary, x.secondary);
        }
        out.push_str("\r\n");
    }
    for (index, x) in c.digital.iter().enumerate() {
        let (n, normal) = (index + 1, u8::from(x.normal));
        let _ = match c.revision {
            Revision::R1991 => write!(out, "{n},{},{normal}\r\n", x.id),
            _ => write!(out, "{n},{},{},{},{normal}\r\n", x.id, x.phase, x.circuit),
        };
    }
    let frequency = c.frequency_hz.map(|hz| hz.to_string()).unwrap_or_default();
    let _ = write!(out, "{frequency}\r\n{}\r\n", c.rates.len());
    for rate in &c.rates {
        let _ = write!(out, "{},{}\r\n", rate.hz, rate.last);
    }
    let [start, trigger] = [&c.start, &c.trigger].map(|stamp| stamp.text(c.revision));
    let _ = write!(out, "{start}\r\n{trigger}\r\n{}\r\n", name(c.format));
    if c.revision > Revision::R1991 {
        let _ = write!(out, "{}\r\n", c.time_factor);
    }
    for line in &c.extra {
        let _ = write!(out, "{line}\r\n");
    }
    out
}

fn ascii(r: &Recording, c: &Config, index: usize, stamp: f64, out: &mut Vec<u8>) {
    let mut line = format!("{},{stamp}", index + 1);
    for (track, channel) in r.analog.iter().zip(&c.analog) {
        let value = track.values.get(index).copied().unwrap_or(f64::NAN);
        let _ = if value.is_finite() {
            write!(line, ",{}", (value / channel.a).round())
        } else {
            write!(line, ",{}", ascii_mark(c.revision))
        };
    }
    for track in &r.digital {
        line.push_str(if track.states.get(index) == Some(&true) { ",1" } else { ",0" });
    }
    line.push_str("\r\n");
    out.extend_from_slice(line.as_bytes());
}

fn binary(r: &Recording, c: &Config, index: usize, stamp: f64, out: &mut Vec<u8>) {
    out.extend_from_slice(&(index as u32 + 1).to_le_bytes());
    out.extend_from_slice(&(stamp as u32).to_le_bytes());
    for (track, channel) in r.analog.iter().zip(&c.analog) {
        let value = track.values.get(index).copied().unwrap_or(f64::NAN);
        let raw = value / channel.a;
        match c.format {
            Format::Binary if value.is_finite() => {
                out.extend_from_slice(&(raw.round() as i16).to_le_bytes())
            }
            Format::Binary => out.extend_from_slice(&i16::MIN.to_le_bytes()),
            Format::Binary32 if value.is_finite() => {
                out.extend_from_slice(&(raw.round() as i32).to_le_bytes())
            }
            Format::Binary32 => out.extend_from_slice(&i32::MIN.to_le_bytes()),
            _ => out.extend_from_slice(&(value as f32).to_le_bytes()),
        }
    }
    for word in r.digital.chunks(16) {
        let bits = word.iter().enumerate().fold(0u16, |bits, (k, track)| {
            bits | (u16::from(track.states.get(index) == Some(&true)) << k)
        });
        out.extend_from_slice(&bits.to_le_bytes());
    }
}
