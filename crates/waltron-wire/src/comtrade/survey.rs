//! What goes through each channel of a recording, in one pass over its bytes.

use super::config::Format;
use super::data::Data;

/// What a recording holds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Survey {
    /// The analog channels in order.
    pub analog: Vec<Seen>,
    /// The status channels in order.
    pub digital: Vec<Changes>,
    /// Time of the last sample, in seconds since the first.
    pub length_s: f64,
}

/// What went through an analog channel, in its unit.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Seen {
    /// The lowest value, the highest one and the RMS value; `None` where every sample is missing.
    pub values: Option<Extremes>,
    /// Samples that are missing.
    pub missing: u64,
}

/// The extremes of a channel, in its unit.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Extremes {
    /// The lowest value.
    pub low: f64,
    /// The highest value.
    pub high: f64,
    /// Root of the mean square.
    pub rms: f64,
}

/// When a status channel changed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Changes {
    /// How often.
    pub count: u64,
    /// The first [`KEPT`] of them: seconds since the first sample, and the new state.
    pub first: Vec<(f64, bool)>,
}

/// Most changes of a channel whose times are kept.
pub const KEPT: usize = 1000;

/// Records gone through together: few enough for the cache, many enough to hide the bookkeeping.
const BATCH: usize = 256;

/// Sums over the stored values of a channel; scaling comes at the end.
#[derive(Clone, Copy)]
struct Sums<T> {
    low: T,
    high: T,
    sum: f64,
    squares: f64,
}

/// Channels whose sums are kept in registers while a batch is gone through.
const LANES: usize = 4;

/// A stored value.
trait Stored: Copy + PartialOrd {
    const LOWEST: Self;
    const HIGHEST: Self;
    const BYTES: usize;
    fn read(bytes: &[u8]) -> Self;
    fn number(self) -> f64;
    fn is_missing(self) -> bool;
}

macro_rules! stored {
    ($kind:ty, $bytes:literal, $low:expr, $high:expr, $missing:expr) => {
        impl Stored for $kind {
            const LOWEST: Self = $low;
            const HIGHEST: Self = $high;
            const BYTES: usize = $bytes;
            #[inline(always)]
            fn read(bytes: &[u8]) -> Self {
                let mut own = [0; $bytes];
                own.copy_from_slice(&bytes[..$bytes]);
                Self::from_le_bytes(own)
            }
            #[inline(always)]
            fn number(self) -> f64 {
                f64::from(self)
            }
            #[inline(always)]
            fn is_missing(self) -> bool {
                $missing(self)
            }
        }
    };
}

stored!(i16, 2, i16::MIN, i16::MAX, |v: i16| v == i16::MIN);
stored!(i32, 4, i32::MIN, i32::MAX, |v: i32| v == i32::MIN);
stored!(f32, 4, f32::NEG_INFINITY, f32::INFINITY, |v: f32| !v.is_finite());

impl<T: Stored> Sums<T> {
    const NONE: Self = Self { low: T::HIGHEST, high: T::LOWEST, sum: 0.0, squares: 0.0 };

    #[inline(always)]
    fn take(&mut self, value: T) {
        let number = value.number();
        self.low = if value < self.low { value } else { self.low };
        self.high = if value > self.high { value } else { self.high };
        self.sum += number;
        self.squares += number * number;
    }

    fn join(&mut self, other: Self) {
        self.low = if other.low < self.low { other.low } else { self.low };
        self.high = if other.high > self.high { other.high } else { self.high };
        self.sum += other.sum;
        self.squares += other.squares;
    }
}

/// The sums of `N` neighbouring channels over a batch; `None` where a sample is missing. `at` is where
/// their values begin in a record. The plain sum is wanted for channels with an offset only.
#[inline(always)]
fn lanes<T: Stored, const N: usize, const SUM: bool>(
    batch: &[u8],
    size: usize,
    at: usize,
) -> Option<[Sums<T>; N]> {
    let (mut low, mut high) = ([T::HIGHEST; N], [T::LOWEST; N]);
    let (mut sum, mut squares) = ([0.0; N], [0.0; N]);
    for record in batch.chunks_exact(size) {
        let values = &record[at..at + N * T::BYTES];
        for k in 0..N {
            let value = T::read(&values[k * T::BYTES..]);
            let number = value.number();
            low[k] = if value < low[k] { value } else { low[k] };
            high[k] = if value > high[k] { value } else { high[k] };
            if SUM {
                sum[k] += number;
            }
            squares[k] += number * number;
        }
    }
    // The marks of what is missing are the lowest integer, and what no sum of squares survives.
    let marked = |k: usize| low[k].is_missing() || !squares[k].is_finite();
    if (0..N).any(marked) {
        return None;
    }
    Some(std::array::from_fn(|k| Sums {
        low: low[k],
        high: high[k],
        sum: sum[k],
        squares: squares[k],
    }))
}

/// The sums of a channel over a batch, and how many samples are missing.
fn with_gaps<T: Stored>(batch: &[u8], size: usize, at: usize) -> (Sums<T>, u64) {
    let (mut sums, mut missing) = (Sums::NONE, 0);
    for record in batch.chunks_exact(size) {
        let value = T::read(&record[at..]);
        if value.is_missing() {
            missing += 1;
        } else {
            sums.take(value);
        }
    }
    (sums, missing)
}

impl Survey {
    /// Goes through all samples.
    pub fn of(data: &Data<'_>) -> Self {
        match data.config().format {
            Format::Ascii => Self::one_by_one(data),
            Format::Binary => Self::binary::<i16>(data),
            Format::Binary32 => Self::binary::<i32>(data),
            Format::Float32 => Self::binary::<f32>(data),
        }
    }

    fn binary<T: Stored>(data: &Data<'_>) -> Self {
        let config = data.config();
        let (size, n) = (config.sample_bytes(), config.analog.len());
        let states = 8 + n * T::BYTES;
        let mut sums = vec![Sums::<T>::NONE; n];
        let mut missing = vec![0u64; n];
        let mut digital = vec![Changes::default(); config.digital.len()];
        let mut before: Option<&[u8]> = None;
        let mut number = 0;
        let at = |k: usize| 8 + k * T::BYTES;
        for batch in data.records().chunks(BATCH * size) {
            let mut k = 0;
            while k < n {
                let step = if k + LANES <= n { LANES } else { 1 };
                let sum = config.analog[k..k + step].iter().any(|c| c.b != 0.0);
                let whole = match (step, sum) {
                    (LANES, false) => lanes::<T, LANES, false>(batch, size, at(k)).map(Vec::from),
                    (LANES, true) => lanes::<T, LANES, true>(batch, size, at(k)).map(Vec::from),
                    _ => lanes::<T, 1, true>(batch, size, at(k)).map(Vec::from),
                };
                // Gaps are rare: where there are some, each channel is gone through by itself.
                for lane in 0..step {
                    let (own, gone) = match &whole {
                        Some(sums) => (sums[lane], 0),
                        None => with_gaps(batch, size, at(k + lane)),
                    };
                    sums[k + lane].join(own);
                    missing[k + lane] += gone;
                }
                k += step;
            }
            if digital.is_empty() {
                continue;
            }
            for record in batch.chunks_exact(size) {
                let now = &record[states..];
                let differ =
                    |was: &&[u8]| was.iter().zip(now).fold(0, |d, (a, b)| d | (a ^ b)) != 0;
                if let Some(was) = before.replace(now).filter(differ) {
                    let time = data.time_s(number, record);
                    for (bit, changes) in digital.iter_mut().enumerate() {
                        let of = |words: &[u8]| words[bit / 8] >> (bit % 8) & 1 == 1;
                        if of(was) != of(now) {
                            changes.note(time, of(now));
                        }
                    }
                }
                number += 1;
            }
        }
        let seen = |k: usize| {
            let channel = &config.analog[k];
            let count = data.len() - missing[k];
            let values = (count > 0).then(|| {
                let (a, b) = (channel.a, channel.b);
                let (mean, square) = (sums[k].sum / count as f64, sums[k].squares / count as f64);
                let ends = [sums[k].low, sums[k].high].map(|v| v.number() * a + b);
                let square = a * a * square + 2.0 * a * b * mean + b * b;
                let (low, high) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
                Extremes { low, high, rms: square.max(0.0).sqrt() }
            });
            Seen { values, missing: missing[k] }
        };
        Self { analog: (0..n).map(seen).collect(), digital, length_s: data.length_s() }
    }

    fn one_by_one(data: &Data<'_>) -> Self {
        let config = data.config();
        let mut sums = vec![(f64::INFINITY, f64::NEG_INFINITY, 0.0, 0u64); config.analog.len()];
        let mut digital = vec![Changes::default(); config.digital.len()];
        let mut before: Vec<bool> = Vec::new();
        let mut length_s = 0.0;
        data.for_each(|t, analog, states| {
            length_s = t;
            for (v, (low, high, squares, missing)) in analog.iter().zip(&mut sums) {
                if v.is_finite() {
                    (*low, *high) = (low.min(*v), high.max(*v));
                    *squares += v * v;
                } else {
                    *missing += 1;
                }
            }
            for ((was, is), changes) in before.iter().zip(states).zip(&mut digital) {
                if was != is {
                    changes.note(t, *is);
                }
            }
            before.clear();
            before.extend_from_slice(states);
        });
        let seen = |(low, high, squares, missing): (f64, f64, f64, u64)| {
            let count = data.len() - missing;
            let rms = || (squares / count as f64).sqrt();
            let values = (count > 0).then(|| Extremes { low, high, rms: rms() });
            Seen { values, missing }
        };
        Self { analog: sums.into_iter().map(seen).collect(), digital, length_s }
    }
}

impl Changes {
    fn note(&mut self, time: f64, state: bool) {
        self.count += 1;
        if self.first.len() < KEPT {
            self.first.push((time, state));
        }
    }
}
