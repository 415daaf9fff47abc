//! A view of the data's bytes (`.dat`): C37.111-2013, clause 8. Nothing is copied.

use super::config::{Analog, Config, Format, Revision};
use super::error::DataError;

/// The samples of a recording.
#[derive(Clone, Debug)]
pub struct Data<'a> {
    config: &'a Config,
    bytes: &'a [u8],
    count: u64,
    /// Start of each ASCII line.
    lines: Vec<usize>,
    /// Number of an ASCII line that the file's end cut off.
    cut: Option<usize>,
}

impl<'a> Data<'a> {
    /// A view of data as their configuration describes them. ASCII data are gone through once, to
    /// find their lines and every mistake.
    ///
    /// # Errors
    /// [`DataError`]: fewer or more samples than declared, lines that do not fit.
    pub fn new(config: &'a Config, bytes: &'a [u8]) -> Result<Self, DataError> {
        let view = Self::what_is_there(config, bytes)?;
        let declared = config.samples();
        if view.count < declared {
            let left_over = match config.format {
                Format::Ascii => 0,
                _ => bytes.len() % config.sample_bytes(),
            };
            return Err(DataError::Truncated { declared, held: view.count, left_over });
        }
        if let Some(line) = view.cut {
            return Err(DataError::Garbage { declared, line });
        }
        Ok(Self { count: declared, ..view })
    }

    /// A view of what is there, however many samples are declared.
    ///
    /// # Errors
    /// As [`Data::new`], but for missing samples.
    pub fn what_is_there(config: &'a Config, bytes: &'a [u8]) -> Result<Self, DataError> {
        let declared = config.samples();
        if config.format == Format::Ascii {
            let (lines, cut) = ascii_lines(config, bytes)?;
            let count = lines.len() as u64;
            if count > declared {
                let line = usize::try_from(declared).unwrap_or(usize::MAX).saturating_add(1);
                return Err(DataError::Garbage { declared, line });
            }
            return Ok(Self { config, bytes, count, lines, cut });
        }
        let size = config.sample_bytes();
        let held = (bytes.len() / size) as u64;
        let extra = bytes.len() as u64 - declared.min(held) * size as u64;
        // Padding of less than a block does no harm; whole samples more mean another layout.
        if held > declared && extra >= size as u64 {
            let extra = usize::try_from(extra).unwrap_or(usize::MAX);
            return Err(DataError::TooLong { declared, extra, format: config.format });
        }
        Ok(Self { config, bytes, count: held.min(declared), lines: Vec::new(), cut: None })
    }

    /// The configuration that describes it.
    pub fn config(&self) -> &'a Config {
        self.config
    }

    /// The bytes of all samples, of binary data.
    pub(super) fn records(&self) -> &'a [u8] {
        let bytes = (self.count as usize).saturating_mul(self.config.sample_bytes());
        &self.bytes[..bytes.min(self.bytes.len())]
    }

    /// Time of a sample of binary data, counted from 0.
    pub(super) fn time_s(&self, index: u64, record: &[u8]) -> f64 {
        self.config.time_s(index, f64::from(le_u32(&record[4..8])))
    }

    /// Time of the last sample of binary data, 0 where there is none.
    pub(super) fn length_s(&self) -> f64 {
        let last = self.records().rchunks_exact(self.config.sample_bytes()).next();
        last.map_or(0.0, |record| self.time_s(self.count - 1, record))
    }

    /// Number of samples.
    pub fn len(&self) -> u64 {
        self.count
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// Goes through all samples with the time in seconds since the first, the analog values in
    /// their channels' units and the states. A missing value is NaN.
    pub fn for_each(&self, mut visit: impl FnMut(f64, &[f64], &[bool])) {
        let mut analog = vec![0.0; self.config.analog.len()];
        let mut digital = vec![false; self.config.digital.len()];
        if self.config.format == Format::Ascii {
            for (index, start) in self.lines.iter().take(self.count as usize).enumerate() {
                let stamp = self.ascii(*start, &mut analog, &mut digital);
                visit(self.config.time_s(index as u64, stamp), &analog, &digital);
            }
            return;
        }
        let words = self.config.digital.len().div_ceil(16) * 2;
        let scale = Scale::of(&self.config.analog);
        let records = self.bytes.chunks_exact(self.config.sample_bytes());
        for (index, record) in records.take(self.count as usize).enumerate() {
            let stamp = le_u32(&record[4..8]);
            let (values, states) = record[8..].split_at(record.len() - 8 - words);
            scale.decode(self.config.format, values, &mut analog);
            for (bit, state) in digital.iter_mut().enumerate() {
                *state = states[bit / 8] >> (bit % 8) & 1 == 1;
            }
            visit(self.config.time_s(index as u64, f64::from(stamp)), &analog, &digital);
        }
    }

    /// Goes through the analog values alone, sample by sample: the fastest way.
    pub fn for_each_analog(&self, mut visit: impl FnMut(&[f64])) {
        if self.config.format == Format::Ascii {
            return self.for_each(|_, analog, _| visit(analog));
        }
        let scale = Scale::of(&self.config.analog);
        let mut analog = vec![0.0; self.config.analog.len()];
        let words = self.config.digital.len().div_ceil(16) * 2;
        let records = self.bytes.chunks_exact(self.config.sample_bytes());
        let records = records.take(self.count as usize);
        let mut each = |format| {
            for record in records.clone() {
                scale.decode(format, &record[8..record.len() - words], &mut analog);
                visit(&analog);
            }
        };
        // One loop for each format, so that what it is is not asked at every sample.
        match self.config.format {
            Format::Binary => each(Format::Binary),
            Format::Binary32 => each(Format::Binary32),
            Format::Float32 | Format::Ascii => each(Format::Float32),
        }
    }

    /// One analog channel in its unit, over a range of samples.
    pub fn analog(&self, channel: usize, range: std::ops::Range<u64>) -> Vec<f64> {
        let range = range.start.min(self.count)..range.end.min(self.count);
        let mut values = Vec::with_capacity((range.end - range.start) as usize);
        if self.config.format == Format::Ascii {
            let mut analog = vec![0.0; self.config.analog.len()];
            let mut digital = vec![false; self.config.digital.len()];
            for start in &self.lines[range.start as usize..range.end as usize] {
                self.ascii(*start, &mut analog, &mut digital);
                values.push(analog[channel]);
            }
            return values;
        }
        let width = if self.config.format == Format::Binary { 2 } else { 4 };
        let (size, at) = (self.config.sample_bytes(), 8 + channel * width);
        let scale = Scale::of(&self.config.analog[channel..=channel]);
        let mut one = [0.0];
        for index in range {
            let start = index as usize * size + at;
            scale.decode(self.config.format, &self.bytes[start..start + width], &mut one);
            values.push(one[0]);
        }
        values
    }

    /// Whether a value of ASCII data is a mark. In 1991 the later one is too, unless the channel's
    /// own range reaches it.
    fn is_missing(&self, raw: f64, channel: &Analog) -> bool {
        let revision = self.config.revision;
        raw == ascii_mark(revision)
            || revision == Revision::R1991 && raw == 99_999.0 && raw > channel.max
    }

    /// Reads one ASCII line, which was checked before; returns its time stamp.
    fn ascii(&self, start: usize, analog: &mut [f64], digital: &mut [bool]) -> f64 {
        let rest = &self.bytes[start..];
        let end = rest.iter().position(|b| *b == b'\n').unwrap_or(rest.len());
        let text = std::str::from_utf8(&rest[..end]).unwrap_or_default();
        let mut values = text.split(',').map(str::trim);
        let number = |text: Option<&str>| text.and_then(|t| t.parse::<f64>().ok());
        values.next();
        let stamp = number(values.next()).unwrap_or_default();
        for (value, channel) in analog.iter_mut().zip(&self.config.analog) {
            let raw = number(values.next()).filter(|raw| !self.is_missing(*raw, channel));
            *value = raw.map_or(f64::NAN, |raw| raw * channel.a + channel.b);
        }
        for state in digital {
            *state = number(values.next()).is_some_and(|n| n != 0.0);
        }
        stamp
    }
}

/// What stands for a missing value in ASCII data, where the field is not empty.
pub(super) fn ascii_mark(revision: Revision) -> f64 {
    if revision == Revision::R1991 { 999_999.0 } else { 99_999.0 }
}

fn le_u32(bytes: &[u8]) -> u32 {
    let mut four = [0; 4];
    four.copy_from_slice(&bytes[..4]);
    u32::from_le_bytes(four)
}

/// Multipliers and offsets of the analog channels, side by side so that the compiler can work on
/// several at once.
struct Scale {
    a: Vec<f64>,
    b: Vec<f64>,
}

impl Scale {
    fn of(channels: &[super::config::Analog]) -> Self {
        Self {
            a: channels.iter().map(|c| c.a).collect(),
            b: channels.iter().map(|c| c.b).collect(),
        }
    }

    /// Scales the stored values of one sample. The most negative number stands for a missing one, and no number does;
    /// it is looked for beside the arithmetic and put right afterwards, since it is rare.
    #[inline(always)]
    fn decode(&self, format: Format, bytes: &[u8], out: &mut [f64]) {
        let n = out.len().min(self.a.len());
        let (out, a, b) = (&mut out[..n], &self.a[..n], &self.b[..n]);
        let mut missing = false;
        match format {
            Format::Binary => {
                let (raws, _) = bytes.as_chunks::<2>();
                let raws = &raws[..n];
                for k in 0..n {
                    let raw = i16::from_le_bytes(raws[k]);
                    missing |= raw == i16::MIN;
                    out[k] = f64::from(raw) * a[k] + b[k];
                }
                if missing {
                    let gone = |raw: &[u8; 2]| i16::from_le_bytes(*raw) == i16::MIN;
                    raws.iter()
                        .zip(out)
                        .filter(|(raw, _)| gone(raw))
                        .for_each(|(_, v)| *v = f64::NAN);
                }
            }
            Format::Binary32 => {
                let (raws, _) = bytes.as_chunks::<4>();
                let raws = &raws[..n];
                for k in 0..n {
                    let raw = i32::from_le_bytes(raws[k]);
                    missing |= raw == i32::MIN;
                    out[k] = f64::from(raw) * a[k] + b[k];
                }
                if missing {
                    let gone = |raw: &[u8; 4]| i32::from_le_bytes(*raw) == i32::MIN;
                    raws.iter()
                        .zip(out)
                        .filter(|(raw, _)| gone(raw))
                        .for_each(|(_, v)| *v = f64::NAN);
                }
            }
            Format::Float32 | Format::Ascii => {
                let (raws, _) = bytes.as_chunks::<4>();
                let raws = &raws[..n];
                for k in 0..n {
                    let raw = f32::from_le_bytes(raws[k]);
                    let raw = if raw == f32::MIN { f32::NAN } else { raw };
                    out[k] = f64::from(raw) * a[k] + b[k];
                }
            }
        }
    }
}

/// The starts of all lines, each checked; and the number of a last one that the file's end cut off.
fn ascii_lines(config: &Config, bytes: &[u8]) -> Result<(Vec<usize>, Option<usize>), DataError> {
    let wanted = 2 + config.analog.len() + config.digital.len();
    let mut starts = Vec::new();
    let mut start = 0;
    for (index, line) in bytes.split(|b| *b == b'\n').enumerate() {
        let here = start;
        start += line.len() + 1;
        // Some devices end the file with the mark of old systems, 0x1a.
        if line.iter().all(|b| b.is_ascii_whitespace() || *b == 0x1a) {
            continue;
        }
        // A line without its end may have been cut off with the file.
        let is_last = here + line.len() == bytes.len();
        match ascii_line(line.trim_ascii_end(), wanted, index + 1) {
            Ok(()) => starts.push(here),
            Err(_) if is_last => return Ok((starts, Some(index + 1))),
            Err(error) => return Err(error),
        }
    }
    Ok((starts, None))
}

fn ascii_line(line: &[u8], wanted: usize, number: usize) -> Result<(), DataError> {
    let mut found = 0;
    let mut first_wrong = None;
    for value in line.split(|b| *b == b',') {
        found += 1;
        let text = value.trim_ascii();
        // A missing analog value may be empty, and so may what commas at the line's end part.
        if text.is_empty() && found > 1 {
            continue;
        }
        let parsed = std::str::from_utf8(text).ok().and_then(|t| t.parse::<f64>().ok());
        if first_wrong.is_none() && !parsed.is_some_and(f64::is_finite) {
            let text = String::from_utf8_lossy(text).chars().take(40).collect();
            first_wrong = Some((found, text));
        }
        if found > wanted {
            return Err(DataError::Values { line: number, found, wanted });
        }
    }
    match first_wrong {
        Some((value, text)) => Err(DataError::NotANumber { line: number, value, text }),
        None if found < wanted => Err(DataError::Values { line: number, found, wanted }),
        None => Ok(()),
    }
}
