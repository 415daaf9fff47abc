//! The configuration (`.cfg`): C37.111-2013, clause 7.

use super::error::ConfigError;
use super::stamp::Stamp;

/// Edition of the standard.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Revision {
    /// IEEE C37.111-1991; the first line has no year.
    R1991,
    /// IEEE C37.111-1999.
    R1999,
    /// IEEE C37.111-2013, IEC 60255-24:2013.
    R2013,
}

/// How the data are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// Text, one line a sample.
    Ascii,
    /// 16-bit integers.
    Binary,
    /// 32-bit integers.
    Binary32,
    /// 32-bit floating point.
    Float32,
}

/// Whether values are those of the primary or the secondary side of the transformer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Primary.
    Primary,
    /// Secondary.
    Secondary,
}

/// An analog channel. A stored value x means a·x + b, in `unit`.
#[derive(Clone, Debug, PartialEq)]
pub struct Analog {
    /// Its name.
    pub id: String,
    /// Phase.
    pub phase: String,
    /// Circuit component being monitored.
    pub circuit: String,
    /// Unit: `A`, `kV`, …
    pub unit: String,
    /// Multiplier a.
    pub a: f64,
    /// Offset b.
    pub b: f64,
    /// Time skew in µs.
    pub skew_us: f64,
    /// Smallest stored value.
    pub min: f64,
    /// Largest stored value.
    pub max: f64,
    /// Primary factor of the transformer's ratio.
    pub primary: f64,
    /// Secondary factor.
    pub secondary: f64,
    /// Which side the values are of.
    pub side: Side,
}

/// A status channel.
#[derive(Clone, Debug, PartialEq)]
pub struct Digital {
    /// Its name.
    pub id: String,
    /// Phase.
    pub phase: String,
    /// Circuit component being monitored.
    pub circuit: String,
    /// State in normal operation.
    pub normal: bool,
}

/// A stretch of samples at one rate.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rate {
    /// Samples a second; 0 where only the time stamps tell.
    pub hz: f64,
    /// Number of the last sample at this rate, from 1.
    pub last: u64,
}

/// A configuration.
#[derive(Clone, Debug, PartialEq)]
pub struct Config {
    /// Edition.
    pub revision: Revision,
    /// Station.
    pub station: String,
    /// Recording device.
    pub device: String,
    /// Analog channels in order.
    pub analog: Vec<Analog>,
    /// Status channels in order.
    pub digital: Vec<Digital>,
    /// Frequency of the power system, in Hz, where it is told.
    pub frequency_hz: Option<f64>,
    /// Sampling rates; one of 0 Hz where only the time stamps tell.
    pub rates: Vec<Rate>,
    /// Time of the first sample.
    pub start: Stamp,
    /// Time of the trigger.
    pub trigger: Stamp,
    /// How the data are written.
    pub format: Format,
    /// Factor of the time stamps.
    pub time_factor: f64,
    /// Lines that only later editions have, as written.
    pub extra: Vec<String>,
}

/// The lines of a configuration, each cut into fields.
struct Lines<'a> {
    lines: std::iter::Enumerate<std::str::Lines<'a>>,
    number: usize,
}

impl<'a> Lines<'a> {
    /// The next line's fields, without blanks around them.
    fn next(&mut self, wanted: &'static str) -> Result<Fields<'a>, ConfigError> {
        let fields = self.or_empty(wanted)?;
        if fields.fields.iter().all(|f| f.is_empty()) {
            return Err(ConfigError::Ends { line: self.number, wanted });
        }
        Ok(fields)
    }

    /// The next line's fields, of a line that may be empty.
    fn or_empty(&mut self, wanted: &'static str) -> Result<Fields<'a>, ConfigError> {
        let Some((index, text)) = self.lines.next() else {
            return Err(ConfigError::Ends { line: self.number + 1, wanted });
        };
        self.number = index + 1;
        Ok(Fields { line: self.number, fields: text.split(',').map(str::trim).collect() })
    }

    /// A line that may be missing; commas at its end are a habit of some devices.
    fn optional(&mut self) -> Option<&'a str> {
        let (index, text) = self.lines.next()?;
        self.number = index + 1;
        let text = text.trim().trim_end_matches([',', ' ']);
        Some(text).filter(|t| !t.is_empty() && *t != "\u{1a}")
    }
}

struct Fields<'a> {
    line: usize,
    fields: Vec<&'a str>,
}

impl<'a> Fields<'a> {
    fn at_most(&self, most: usize) -> Result<(), ConfigError> {
        // Commas at a line's end are a habit of some devices.
        let found = self.fields.iter().rposition(|f| !f.is_empty()).map_or(0, |last| last + 1);
        if found > most {
            return Err(ConfigError::TooManyFields { line: self.line, found, most });
        }
        Ok(())
    }

    fn text(&self, index: usize, name: &'static str) -> Result<&'a str, ConfigError> {
        let missing = || ConfigError::Missing { line: self.line, field: index + 1, name };
        self.fields.get(index).copied().ok_or_else(missing)
    }

    /// A date and a time.
    fn stamp(&self, revision: Revision) -> Stamp {
        let used = self.fields.iter().take_while(|f| !f.is_empty()).count();
        Stamp::parse(&self.fields[..used].join(","), revision)
    }

    fn or_empty(&self, index: usize) -> String {
        self.fields.get(index).copied().unwrap_or_default().to_owned()
    }

    fn number(&self, index: usize, name: &'static str) -> Result<f64, ConfigError> {
        self.parse(name, self.text(index, name)?)
    }

    /// A number that may be left out.
    fn number_or(
        &self,
        index: usize,
        name: &'static str,
        default: f64,
    ) -> Result<f64, ConfigError> {
        match self.fields.get(index) {
            Some(text) if !text.is_empty() => self.parse(name, text),
            _ => Ok(default),
        }
    }

    fn parse(&self, name: &'static str, text: &str) -> Result<f64, ConfigError> {
        match text.parse::<f64>() {
            Ok(number) if number.is_finite() => Ok(number),
            _ => Err(ConfigError::NotANumber { line: self.line, name, text: text.to_owned() }),
        }
    }

    /// A whole number, with the letter behind it that channel counts carry.
    fn count(&self, index: usize, name: &'static str, letter: &str) -> Result<usize, ConfigError> {
        let text = self.text(index, name)?;
        let digits =
            text.strip_suffix(|c: char| letter.contains(c.to_ascii_uppercase())).unwrap_or(text);
        digits.trim().parse().map_err(|_| ConfigError::NotANumber {
            line: self.line,
            name,
            text: text.to_owned(),
        })
    }
}

impl Config {
    /// Reads a configuration from its bytes, which must be UTF-8 text.
    ///
    /// # Errors
    /// [`ConfigError`] with the line.
    pub fn parse_bytes(bytes: &[u8]) -> Result<Self, ConfigError> {
        match std::str::from_utf8(bytes) {
            Ok(text) => Self::parse(text),
            Err(error) => {
                let at = error.valid_up_to();
                let line = bytes[..at].iter().filter(|b| **b == b'\n').count() + 1;
                Err(ConfigError::NotUtf8 { line, byte: bytes.get(at).copied().unwrap_or_default() })
            }
        }
    }

    /// Reads a configuration.
    ///
    /// # Errors
    /// [`ConfigError`] with the line.
    pub fn parse(text: &str) -> Result<Self, ConfigError> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let mut lines = Lines { lines: text.lines().enumerate(), number: 0 };
        let head = lines.next("the station's name")?;
        let revision = match head.fields.get(2).copied().unwrap_or_default() {
            "" | "1991" => Revision::R1991,
            "1999" | "1997" | "2001" => Revision::R1999,
            "2013" => Revision::R2013,
            other => return Err(ConfigError::Revision { text: other.to_owned() }),
        };
        let (station, device) = (head.or_empty(0), head.or_empty(1));
        let counts = lines.next("the channel counts")?;
        let total = counts.count(0, "the number of channels", "")?;
        let analog_count = counts.count(1, "the number of analog channels", "A")?;
        let digital_count = counts.count(2, "the number of status channels", "D")?;
        if Some(total) != analog_count.checked_add(digital_count) {
            return Err(ConfigError::Counts {
                total,
                analog: analog_count.min(usize::MAX / 2),
                digital: digital_count.min(usize::MAX / 2),
            });
        }
        // Grown line by line: a count alone justifies no memory.
        let (mut analog, mut digital) = (Vec::new(), Vec::new());
        for _ in 0..analog_count {
            analog.push(analog_channel(&lines.next("an analog channel")?)?);
        }
        for _ in 0..digital_count {
            let fields = lines.next("a status channel")?;
            let old = revision == Revision::R1991;
            fields.at_most(if old { 3 } else { 5 })?;
            let normal = fields.number_or(if old { 2 } else { 4 }, "the normal state", 0.0)? != 0.0;
            let (phase, circuit) =
                if old { Default::default() } else { (fields.or_empty(2), fields.or_empty(3)) };
            digital.push(Digital {
                id: fields.text(1, "the channel's name")?.to_owned(),
                phase,
                circuit,
                normal,
            });
        }
        let frequency = lines.or_empty("the frequency")?;
        let frequency_hz = match frequency.or_empty(0).as_str() {
            "" => None,
            _ => Some(frequency.number(0, "the frequency")?),
        };
        if frequency_hz.is_some_and(|hz| hz <= 0.0) {
            let text = frequency.or_empty(0);
            return Err(ConfigError::OutOfRange {
                line: frequency.line,
                name: "the frequency",
                text,
                wanted: "it must be above zero",
            });
        }
        let rates = rates(&mut lines)?;
        let start = lines.next("the time of the first sample")?.stamp(revision);
        let trigger = lines.next("the time of the trigger")?.stamp(revision);
        let kind = lines.next("the data format")?;
        let format = match kind.or_empty(0).to_ascii_uppercase().as_str() {
            "ASCII" => Format::Ascii,
            "BINARY" => Format::Binary,
            "BINARY32" => Format::Binary32,
            "FLOAT32" => Format::Float32,
            other => return Err(ConfigError::Format { line: kind.line, text: other.to_owned() }),
        };
        let mut time_factor = 1.0;
        if revision > Revision::R1991
            && let Some(text) = lines.optional()
        {
            let fields = Fields { line: lines.number, fields: vec![text] };
            time_factor = fields.number(0, "the factor of the time stamps")?;
        }
        let mut extra = Vec::new();
        while revision == Revision::R2013
            && extra.len() < 2
            && let Some(text) = lines.optional()
        {
            extra.push(text.to_owned());
        }
        Ok(Self {
            revision,
            station,
            device,
            analog,
            digital,
            frequency_hz,
            rates,
            start,
            trigger,
            format,
            time_factor,
            extra,
        })
    }

    /// Number of samples that are declared.
    pub fn samples(&self) -> u64 {
        self.rates.last().map_or(0, |r| r.last)
    }

    /// Bytes of one sample in binary data.
    pub fn sample_bytes(&self) -> usize {
        let value = match self.format {
            Format::Binary => 2,
            _ => 4,
        };
        8 + self.analog.len() * value + self.digital.len().div_ceil(16) * 2
    }

    /// The one sampling rate; `None` where it changes or only the time stamps tell.
    pub fn rate_hz(&self) -> Option<f64> {
        match self.rates.as_slice() {
            [one] if one.hz > 0.0 => Some(one.hz),
            _ => None,
        }
    }

    /// Time of a sample, counted from 0, in seconds since the first; `stamp` is its time stamp.
    pub fn time_s(&self, index: u64, stamp: f64) -> f64 {
        let unit = if self.start.counts_nanoseconds() { 1e-9 } else { 1e-6 };
        let stamped = || stamp * self.time_factor * unit;
        let (mut before, mut passed) = (0u64, 0.0);
        for rate in &self.rates {
            if rate.hz <= 0.0 {
                return stamped();
            }
            if index < rate.last {
                return passed + (index - before) as f64 / rate.hz;
            }
            passed += (rate.last - before) as f64 / rate.hz;
            before = rate.last;
        }
        stamped()
    }
}

fn analog_channel(fields: &Fields<'_>) -> Result<Analog, ConfigError> {
    fields.at_most(13)?;
    let ratio = |index, name| fields.number_or(index, name, 1.0);
    let side = match fields.or_empty(12).to_ascii_uppercase().as_str() {
        "P" => Side::Primary,
        _ => Side::Secondary,
    };
    Ok(Analog {
        id: fields.text(1, "the channel's name")?.to_owned(),
        phase: fields.or_empty(2),
        circuit: fields.or_empty(3),
        unit: fields.or_empty(4),
        a: fields.number(5, "the multiplier a")?,
        b: fields.number_or(6, "the offset b", 0.0)?,
        skew_us: fields.number_or(7, "the time skew", 0.0)?,
        min: fields.number_or(8, "the smallest value", f64::from(i32::MIN))?,
        max: fields.number_or(9, "the largest value", f64::from(i32::MAX))?,
        primary: ratio(10, "the primary factor")?,
        secondary: ratio(11, "the secondary factor")?,
        side,
    })
}

fn rates(lines: &mut Lines<'_>) -> Result<Vec<Rate>, ConfigError> {
    let head = lines.next("the number of sampling rates")?;
    let count = head.count(0, "the number of sampling rates", "")?;
    let mut rates: Vec<Rate> = Vec::new();
    // No rate at all is one line that only tells the last sample.
    for _ in 0..count.max(1) {
        let fields = lines.next("a sampling rate")?;
        let hz = fields.number(0, "the sampling rate")?;
        let last = fields.number(1, "the last sample")?;
        let range = |name, text: f64, wanted| ConfigError::OutOfRange {
            line: fields.line,
            name,
            text: text.to_string(),
            wanted,
        };
        if hz < 0.0 {
            return Err(range("the sampling rate", hz, "it cannot be negative"));
        }
        if last.fract() != 0.0 || !(0.0..=1e15).contains(&last) {
            return Err(range("the last sample", last, "it must be a whole number"));
        }
        if rates.last().is_some_and(|before| last < before.last as f64) {
            return Err(range(
                "the last sample",
                last,
                "it must not be before that of the rate above",
            ));
        }
        rates.push(Rate { hz, last: last as u64 });
    }
    Ok(rates)
}
