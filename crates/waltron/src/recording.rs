//! Recordings on disk: `.cfg` with its `.dat`, or `.cff`, in and out.

use crate::cli::wave::{EncodingArg, RevisionArg, WaveRead, WaveWrite};
use crate::failure::Failure;
use crate::files;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use waltron_core::injection::waveform::Waveform;
use waltron_core::procedure::Served;
use waltron_core::quantity::{Dimension, Measure, Unit};
use waltron_core::record::Run;
use waltron_script::{RecordedChannel, RecordedFile};
use waltron_wire::comtrade::emit::{self, AnalogTrack, DigitalTrack, Recording};
use waltron_wire::comtrade::{
    Analog, Config, ConfigError, Container, ContainerError, Data, DataError, Format, Revision,
    Side, Stamp,
};

/// The circuit of a channel that nobody measured: what the rig was told to put out.
pub(crate) const AS_PUT_OUT: &str = "as put out";

/// The circuit of a channel that a meter saw.
pub(crate) const MEASURED: &str = "measured";

/// The number of the sample at a time, in s.
pub(crate) fn first_sample(start_s: f64, rate_hz: f64) -> usize {
    (start_s * rate_hz).round().max(0.0) as usize
}

/// Puts the samples that were kept beside a record back into what its injections have seen. A file that is
/// not there, or not what was kept, leaves them without.
pub(crate) fn fill(run: &mut Run, record: &Path) {
    for (at, kept) in run.kept.iter().enumerate() {
        // The same injection may have been made again: the first file is of the first one.
        let before = run.kept[..at].iter().filter(|k| k.name == kept.name).count();
        let has = |served: &&mut Served| {
            served.observation.captures.iter().any(|captured| captured.name == kept.name)
        };
        let Some(served) = run.served.iter_mut().filter(has).nth(before) else { continue };
        let path = record.with_file_name(&kept.file);
        let Ok(bytes) = std::fs::read(&path) else { continue };
        if !kept.is(&bytes) {
            continue;
        }
        let Ok(recorded) = Recorded::load(&path, false, false) else { continue };
        let Ok(data) = recorded.data() else { continue };
        let all = served.observation.captures.iter_mut().filter(|c| c.name == kept.name);
        for captured in all {
            // A short part of a long injection is kept by itself.
            let count = captured.tracks.first().map_or(0, |t| t.count) as u64;
            let from = match data.len() == count {
                true => 0,
                false => first_sample(captured.start.si(), captured.rate_hz) as u64,
            };
            for track in &mut captured.tracks {
                let is_it = |c: &Analog| c.circuit == MEASURED && track.of == *c.id;
                let Some(channel) = recorded.config.analog.iter().position(is_it) else { continue };
                let factor =
                    dimension_of(&recorded.config.analog[channel].unit).map_or(1.0, |u| u.1);
                let values = data.analog(channel, from..from + track.count as u64);
                track.samples = Arc::new(values.into_iter().map(|v| v * factor).collect());
            }
        }
    }
}

/// A recording's configuration and its data's bytes, read once and kept as they are.
pub(crate) struct Recorded {
    pub(crate) config: Config,
    bytes: Vec<u8>,
    data: std::ops::Range<usize>,
    path: PathBuf,
    partial: bool,
    /// Free text for people (`.hdr`).
    pub(crate) header: String,
    /// Text for programs (`.inf`).
    pub(crate) information: String,
}

impl Recorded {
    /// Reads a recording; `.dat` stands beside its `.cfg`.
    ///
    /// # Errors
    /// Files that are not there, are no recording, or are cut off.
    pub(crate) fn load(path: &Path, latin1: bool, partial: bool) -> Result<Self, Failure> {
        let ending = path.extension().and_then(|e| e.to_str()).unwrap_or_default();
        let recorded = match ending.to_ascii_lowercase().as_str() {
            "cff" => {
                let bytes = files::read_bytes(path)?;
                let (config, data, header, information) = {
                    let parts = if partial {
                        Container::what_is_there(&bytes).map(|(parts, _)| parts)
                    } else {
                        Container::parse(&bytes)
                    };
                    let parts = parts.map_err(|error| {
                        let failure = Failure::file(path, error.to_string());
                        match error {
                            ContainerError::Truncated { .. } => failure.help(
                                "if the recording was cut off, read what is there with --partial",
                            ),
                            _ => failure,
                        }
                    })?;
                    let start = parts.data.as_ptr() as usize - bytes.as_ptr() as usize;
                    let text = |part: &[u8]| String::from_utf8_lossy(part).into_owned();
                    (
                        config(path, parts.config, latin1)?,
                        start..start + parts.data.len(),
                        text(parts.header),
                        text(parts.information),
                    )
                };
                let path = path.to_owned();
                Self { config, bytes, data, path, partial, header, information }
            }
            "cfg" => {
                let config = config(path, &files::read_bytes(path)?, latin1)?;
                let Some(data) = beside(path, "dat") else {
                    let data = path.with_extension("dat");
                    let message = format!("its data, {}, are not there", data.display());
                    return Err(Failure::file(path, message).help("copy the .dat beside the .cfg"));
                };
                let bytes = files::read_bytes(&data)?;
                // Both texts may be missing.
                let text = |ending: &str| match beside(path, ending) {
                    Some(file) => {
                        files::read_bytes(&file).map(|b| String::from_utf8_lossy(&b).into_owned())
                    }
                    None => Ok(String::new()),
                };
                let (header, information) = (text("hdr")?, text("inf")?);
                let (path, data) = (data, 0..bytes.len());
                Self { config, bytes, data, path, partial, header, information }
            }
            _ => {
                return Err(Failure::file(path, "a recording's file ends in .cfg or .cff")
                    .help("give the .cfg, its .dat is found beside it"));
            }
        };
        recorded.data()?;
        Ok(recorded)
    }

    /// Reads a recording as the arguments say.
    ///
    /// # Errors
    /// As [`Recorded::load`].
    pub(crate) fn of(args: &WaveRead) -> Result<Self, Failure> {
        Self::load(&args.file, args.latin1, args.partial)
    }

    /// A view of the samples.
    ///
    /// # Errors
    /// Data that do not fit their configuration.
    pub(crate) fn data(&self) -> Result<Data<'_>, Failure> {
        let bytes = &self.bytes[self.data.clone()];
        let view = if self.partial {
            Data::what_is_there(&self.config, bytes)
        } else {
            Data::new(&self.config, bytes)
        };
        view.map_err(|error| {
            let failure = Failure::file(&self.path, error.to_string());
            match error {
                DataError::Truncated { .. } => {
                    failure.help("if the recording was cut off, read what is there with --partial")
                }
                _ => failure,
            }
        })
    }

    /// The sampling rate.
    ///
    /// # Errors
    /// A recording whose rate changes.
    pub(crate) fn rate_hz(&self) -> Result<f64, Failure> {
        self.config.rate_hz().ok_or_else(|| {
            Failure::file(&self.path, "the sampling rate changes within the recording")
                .help("this needs one rate; `waltron wave info` works with several")
        })
    }

    /// The power system's frequency, where the recording tells it; else 50 Hz.
    pub(crate) fn nominal_hz(&self) -> f64 {
        self.config.frequency_hz.unwrap_or(USUAL_HZ)
    }

    /// The recording as sequences play it: channels in A or V of the secondary side. Missing values
    /// are played as zero.
    ///
    /// # Errors
    /// Data that do not fit, a rate that changes.
    pub(crate) fn for_playing(&self) -> Result<RecordedFile, Failure> {
        let (rate_hz, data) = (self.rate_hz()?, self.data()?);
        let channels = self.config.analog.iter().enumerate().map(|(index, channel)| {
            let unit = Unit::parse(&channel.unit);
            let factor = unit.map_or(1.0, |u| u.factor) * to_secondary(channel);
            let scaled = |v: f64| if v.is_finite() { v * factor } else { 0.0 };
            let samples: Vec<f64> =
                data.analog(index, 0..data.len()).into_iter().map(scaled).collect();
            RecordedChannel {
                id: channel.id.clone(),
                dimension: unit.map(|u| u.dimension),
                samples: Arc::new(samples),
            }
        });
        let channels = channels.collect();
        Ok(RecordedFile { rate_hz, frequency_hz: self.nominal_hz(), channels })
    }

    /// The recording, or a part of it, to be written again.
    ///
    /// # Errors
    /// Data that do not fit, a rate that changes.
    pub(crate) fn part(&self, from_s: f64, to_s: f64) -> Result<Recording, Failure> {
        let (rate_hz, data) = (self.rate_hz()?, self.data()?);
        let index = |t: f64| ((t * rate_hz).round().max(0.0) as u64).min(data.len());
        let range = index(from_s)..index(to_s);
        let analog = self.config.analog.iter().enumerate().map(|(k, c)| AnalogTrack {
            id: c.id.clone(),
            phase: c.phase.clone(),
            circuit: c.circuit.clone(),
            skew_us: c.skew_us,
            unit: c.unit.clone(),
            ratio: (c.primary, c.secondary),
            side: c.side,
            values: data.analog(k, range.clone()),
        });
        let mut states: Vec<Vec<bool>> = vec![Vec::new(); self.config.digital.len()];
        let mut number = 0;
        data.for_each(|_, _, digital| {
            if range.contains(&number) {
                states.iter_mut().zip(digital).for_each(|(s, d)| s.push(*d));
            }
            number += 1;
        });
        let digital = self.config.digital.iter().zip(states);
        Ok(Recording {
            station: self.config.station.clone(),
            device: self.config.device.clone(),
            frequency_hz: self.config.frequency_hz,
            rate_hz,
            start: self.config.start.later(range.start as f64 / rate_hz),
            trigger: self.config.trigger.clone(),
            analog: analog.collect(),
            digital: digital
                .map(|(d, states)| DigitalTrack {
                    id: d.id.clone(),
                    phase: d.phase.clone(),
                    circuit: d.circuit.clone(),
                    normal: d.normal,
                    states,
                })
                .collect(),
            header: self.header.clone(),
            information: self.information.clone(),
        })
    }
}

/// The frequency that is taken where a recording tells none.
const USUAL_HZ: f64 = 50.0;

/// The file beside a configuration with this ending, in whatever case it is written.
fn beside(config: &Path, ending: &str) -> Option<PathBuf> {
    let exact = config.with_extension(ending);
    if exact.exists() {
        return Some(exact);
    }
    let folder = config.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let fits = |p: &PathBuf| {
        let same = p.file_stem() == config.file_stem();
        same && p.extension().is_some_and(|e| e.eq_ignore_ascii_case(ending))
    };
    let mut found: Vec<PathBuf> =
        std::fs::read_dir(folder).ok()?.filter_map(|e| Some(e.ok()?.path())).filter(fits).collect();
    found.sort();
    found.into_iter().next()
}

/// What makes a channel's values those of the secondary side.
fn to_secondary(channel: &Analog) -> f64 {
    let known = channel.primary > 0.0 && channel.secondary > 0.0;
    match channel.side {
        Side::Primary if known => channel.secondary / channel.primary,
        _ => 1.0,
    }
}

fn config(path: &Path, bytes: &[u8], latin1: bool) -> Result<Config, Failure> {
    let parsed = if latin1 {
        let text: String = bytes.iter().map(|b| char::from(*b)).collect();
        Config::parse(&text)
    } else {
        Config::parse_bytes(bytes)
    };
    parsed.map_err(|error| {
        let failure = Failure::file(path, error.to_string());
        match error {
            ConfigError::NotUtf8 { .. } => {
                failure.help("if the device writes Latin-1, add --latin1")
            }
            _ => failure,
        }
    })
}

/// Where a made waveform comes from, for its configuration.
pub(crate) struct Origin<'a> {
    pub(crate) station: &'a str,
    pub(crate) device: &'a str,
    pub(crate) frequency_hz: Option<f64>,
    /// Time of the first sample; what is only computed has none.
    pub(crate) start: Option<Stamp>,
}

/// A made waveform with its contacts, to be written.
pub(crate) fn of_waveform(
    waveform: &Waveform,
    contacts: Vec<DigitalTrack>,
    origin: &Origin<'_>,
) -> Recording {
    let phase = |name: &str| name.chars().last().map(|p| p.to_ascii_uppercase().to_string());
    let analog = waveform.channels.iter().map(|c| AnalogTrack {
        id: c.name.to_string(),
        phase: phase(c.name.as_str()).unwrap_or_default(),
        circuit: String::new(),
        skew_us: 0.0,
        unit: if c.is_current { "A" } else { "V" }.to_owned(),
        ratio: (1.0, 1.0),
        side: Side::Secondary,
        values: c.samples.clone(),
    });
    let start = origin.start.clone().unwrap_or_else(|| Stamp::utc("2000-01-01T00:00:00Z"));
    Recording {
        station: origin.station.to_owned(),
        device: origin.device.to_owned(),
        frequency_hz: origin.frequency_hz,
        rate_hz: waveform.rate_hz,
        trigger: start.clone(),
        start,
        analog: analog.collect(),
        digital: contacts,
        header: String::new(),
        information: String::new(),
    }
}

/// Writes a recording as the arguments say.
///
/// # Errors
/// Another ending, files that exist or cannot be written.
pub(crate) fn write(recording: &Recording, args: &WaveWrite) -> Result<(), Failure> {
    let revision = match args.revision {
        RevisionArg::R1991 => Revision::R1991,
        RevisionArg::R1999 => Revision::R1999,
        RevisionArg::R2013 => Revision::R2013,
    };
    let format = match args.encoding {
        Some(EncodingArg::Ascii) => Format::Ascii,
        Some(EncodingArg::Binary) => Format::Binary,
        Some(EncodingArg::Binary32) => Format::Binary32,
        Some(EncodingArg::Float32) => Format::Float32,
        None if revision == Revision::R2013 => Format::Binary32,
        None => Format::Binary,
    };
    let later = matches!(format, Format::Binary32 | Format::Float32);
    if later && revision != Revision::R2013 {
        return Err(Failure::usage("BINARY32 and FLOAT32 are formats of 2013")
            .help("take --encoding binary or ascii, or leave --revision out"));
    }
    match args.output.extension().and_then(|e| e.to_str()) {
        Some("cff") if revision != Revision::R2013 => {
            Err(Failure::usage("a combined file (.cff) is of 2013")
                .help("write a .cfg, or leave --revision out"))
        }
        Some("cff") => files::write(&args.output, &emit::combined(recording, format), args.force),
        Some("cfg") => {
            let file = |ending| args.output.with_extension(ending);
            // All or none: what stands there must not be mixed with what is written.
            for ending in ["cfg", "dat", "hdr", "inf"] {
                files::refuse_existing(&file(ending), args.force)?;
            }
            let written = emit::files(recording, revision, format);
            for (ending, text) in [("hdr", &recording.header), ("inf", &recording.information)] {
                match text.as_str() {
                    "" => beside(&args.output, ending).map_or(Ok(()), |old| files::remove(&old))?,
                    text => files::write(&file(ending), text.as_bytes(), args.force)?,
                }
            }
            files::write(&file("dat"), &written.data, args.force)?;
            files::write(&args.output, written.config.as_bytes(), args.force)
        }
        _ => {
            let name = args.output.display();
            Err(Failure::usage(format!("{name} ends in neither .cfg nor .cff")))
        }
    }
}

/// A unit's dimension and SI factor.
pub(crate) fn dimension_of(unit: &str) -> Option<(Dimension, f64)> {
    Unit::parse(unit).map(|u| (u.dimension, u.factor))
}
