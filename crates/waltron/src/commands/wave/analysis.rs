//! `waltron wave harmonics` and `phasors`: what waves consist of.

use super::{in_unit, right, time};
use crate::cli::Format;
use crate::cli::wave::{WaveHarmonics, WavePhasors};
use crate::failure::Failure;
use crate::recording::{Recorded, dimension_of};
use crate::tables::table;
use crate::terminal::{Terminal, plain};
use num_complex::Complex64;
use serde_json::{Value, json};
use waltron_core::grading::Values;
use waltron_core::injection::samples::spectrum::{FEWEST_CYCLES, Spectrum, frequency};
use waltron_core::quantity::phasor::Sequence;
use waltron_core::quantity::{Dimension, Quantity, seconds, significant, text};
use waltron_wire::comtrade::Analog;

/// One channel's samples in a window.
enum Window {
    /// All of them.
    Whole(Vec<f64>),
    /// Some are missing, so that nothing can be said.
    Gaps { missing: usize, of: usize },
}

/// The samples of one channel in its unit, from a time on.
fn samples(recorded: &Recorded, channel: usize, at: f64, length: f64) -> Result<Window, Failure> {
    let (rate, data) = (recorded.rate_hz()?, recorded.data()?);
    let first = (at * rate).round().max(0.0) as u64;
    let count = (length * rate).round().max(1.0) as u64;
    if at < 0.0 || first.saturating_add(count) > data.len() {
        let (length, at) = (text(seconds(length)), text(seconds(at)));
        let has = text(seconds(data.len() as f64 / rate));
        return Err(Failure::usage(format!("{length} from {at} on are needed"))
            .help(format!("the recording lasts {has}; take --at or --cycles smaller")));
    }
    let samples = data.analog(channel, first..first + count);
    let missing = samples.iter().filter(|v| !v.is_finite()).count();
    let of = samples.len();
    Ok(if missing == 0 { Window::Whole(samples) } else { Window::Gaps { missing, of } })
}

/// How many samples are missing, in words.
fn gaps(missing: usize, of: usize) -> String {
    format!("absent: {missing} of {of} samples missing")
}

/// What is taken for granted of a recording.
fn assumed(recorded: &Recorded) -> Option<String> {
    let hz = recorded.nominal_hz();
    let none = recorded.config.frequency_hz.is_none();
    none.then(|| format!("the recording tells no frequency of the system; {hz} Hz is taken"))
}

/// A channel as its harmonics show it.
enum Harmonics {
    /// The spectrum, and whether its frequency was found.
    Found(Spectrum, bool),
    Gaps {
        missing: usize,
        of: usize,
    },
}

/// Prints the harmonics of each channel.
///
/// # Errors
/// A window outside the recording.
pub(super) fn harmonics(args: &WaveHarmonics, terminal: &Terminal) -> Result<(), Failure> {
    let recorded = Recorded::of(&args.read)?;
    let (rate, nominal) = (recorded.rate_hz()?, recorded.nominal_hz());
    let cycles = f64::from(args.cycles.max(1));
    let (at, length) = (time(&args.at)?, cycles / nominal);
    let mut found = Vec::new();
    for (k, channel) in recorded.config.analog.iter().enumerate() {
        let seen = match samples(&recorded, k, at, length)? {
            Window::Whole(window) => {
                let hz = frequency(&window, rate, nominal);
                let spectrum = Spectrum::of(&window, rate, hz.unwrap_or(nominal), args.orders);
                Harmonics::Found(spectrum, hz.is_some())
            }
            Window::Gaps { missing, of } => Harmonics::Gaps { missing, of },
        };
        found.push((channel, seen));
    }
    let mut notes: Vec<String> = assumed(&recorded).into_iter().collect();
    // A window of just so many cycles holds fewer of a slower wave.
    if cycles < FEWEST_CYCLES + 1.0 {
        notes.push(format!(
            "{cycles} cycles are too short to find the frequency in; from {} on it is found, here \
             {nominal} Hz is taken where it was not",
            FEWEST_CYCLES + 1.0
        ));
    }
    if args.read.format == Format::Json {
        let channels: Vec<Value> = found.iter().map(|(c, h)| harmonics_json(c, h)).collect();
        terminal.print_json(json!({ "channels": channels, "notes": notes }));
        return Ok(());
    }
    let header = ["Channel", "Fundamental", "True RMS", "DC", "THD", "Harmonics: share at angle"];
    let mut rows = table(header, terminal);
    for (c, seen) in &found {
        let (s, exact) = match seen {
            Harmonics::Found(spectrum, exact) => (spectrum, *exact),
            Harmonics::Gaps { missing, of } => {
                let dash = || "–".to_owned();
                let row = [dash(), dash(), dash(), dash(), gaps(*missing, *of)];
                rows.add_row(std::iter::once(plain(&c.id)).chain(row));
                continue;
            }
        };
        // What is below a tenth of a percent is the noise of any instrument.
        let orders = (2..).take(s.harmonics.len()).filter(|n| s.share(*n) >= 1e-3);
        let list: Vec<String> = orders
            .map(|n| {
                let share = significant(s.share(n) * 100.0, 3);
                format!("h{n} {share} % @ {} deg", whole(s.harmonic_angle(n).to_degrees()))
            })
            .collect();
        let hertz = significant(s.frequency_hz, 5);
        let taken = if exact { "" } else { " taken" };
        rows.add_row([
            plain(&c.id),
            format!("{} at {hertz} Hz{taken}", in_unit(s.fundamental.norm(), &c.unit)),
            in_unit(s.rms, &c.unit),
            in_unit(if s.dc.abs() < 1e-9 { 0.0 } else { s.dc }, &c.unit),
            format!("{} %", significant(s.thd() * 100.0, 3)),
            list.join(", "),
        ]);
    }
    terminal.print(&format!("{rows}\n{}", noted(&notes)));
    Ok(())
}

fn noted(notes: &[String]) -> String {
    notes.iter().map(|note| format!("Note      {note}\n")).collect()
}

fn harmonics_json(channel: &Analog, seen: &Harmonics) -> Value {
    let (s, exact) = match seen {
        Harmonics::Found(spectrum, exact) => (spectrum, *exact),
        Harmonics::Gaps { missing, .. } => {
            return json!({ "id": channel.id, "unit": channel.unit, "missing": missing });
        }
    };
    let orders = (2..).take(s.harmonics.len());
    let all: Vec<Value> = orders
        .map(|n| {
            let angle = s.harmonic_angle(n).to_degrees();
            json!({ "order": n, "share_pct": s.share(n) * 100.0, "angle_deg": angle })
        })
        .collect();
    json!({
        "id": channel.id, "unit": channel.unit, "fundamental": s.fundamental.norm(),
        "frequency_hz": exact.then_some(s.frequency_hz), "rms": s.rms, "dc": s.dc,
        "thd_pct": s.thd() * 100.0, "harmonics": all,
    })
}

/// Whole degrees without a sign on zero, from -179 to 180.
fn whole(degrees: f64) -> i32 {
    let rounded = degrees.round() as i32;
    if rounded == -180 { 180 } else { rounded }
}

/// Prints the phasors of each channel and their symmetrical components.
///
/// # Errors
/// A window outside the recording.
pub(super) fn phasors(args: &WavePhasors, terminal: &Terminal) -> Result<(), Failure> {
    let recorded = Recorded::of(&args.read)?;
    let (rate, nominal) = (recorded.rate_hz()?, recorded.nominal_hz());
    let at = time(&args.at)?;
    let mut found: Vec<(&Analog, Result<Complex64, String>)> = Vec::new();
    for (k, channel) in recorded.config.analog.iter().enumerate() {
        let phasor = match samples(&recorded, k, at, 1.0 / nominal)? {
            // Samples are later than their time stamp by the channel's skew (C37.111-2013, 7.4.4).
            Window::Whole(window) => {
                let skew = std::f64::consts::TAU * nominal * channel.skew_us * 1e-6;
                let seen = Spectrum::of(&window, rate, nominal, 1).fundamental;
                Ok(seen * Complex64::from_polar(1.0, -skew))
            }
            Window::Gaps { missing, of } => Err(gaps(missing, of)),
        };
        found.push((channel, phasor));
    }
    // Angles against the first channel that carries anything.
    let there = found.iter().filter_map(|(_, p)| p.as_ref().ok());
    let reference = there.clone().find(|p| p.norm() > 1e-9).map_or(0.0, |p| p.arg());
    let degrees = |p: Complex64| Complex64::from_polar(1.0, p.arg() - reference).arg().to_degrees();
    // Three channels of a kind, each in SI; a gap in one leaves nothing to say of them.
    let triple = |wanted: Dimension| -> Option<[Complex64; 3]> {
        let mut of_kind = found.iter().filter_map(|(c, p)| {
            let (dimension, factor) = dimension_of(&c.unit)?;
            (dimension == wanted).then(|| p.as_ref().ok().map(|p| *p * factor))
        });
        Some([of_kind.next()??, of_kind.next()??, of_kind.next()??])
    };
    let components: Vec<(&str, Dimension, Sequence)> =
        [("currents", Dimension::CURRENT), ("voltages", Dimension::VOLTAGE)]
            .into_iter()
            .filter_map(|(name, unit)| Some((name, unit, Sequence::of(triple(unit)?))))
            .collect();
    let notes: Vec<String> = assumed(&recorded).into_iter().collect();
    if args.read.format == Format::Json {
        let channels = found.iter().map(|(c, p)| match p {
            Ok(p) => {
                json!({ "id": c.id, "unit": c.unit, "rms": p.norm(), "angle_deg": degrees(*p) })
            }
            Err(gaps) => json!({ "id": c.id, "unit": c.unit, "absent": gaps }),
        });
        let components = components.iter().map(|(name, unit, s)| {
            let of = |c: Complex64| Quantity { si: c.norm(), dimension: *unit };
            let values = Values::none()
                .with_quantity("positive", of(s.positive))
                .with_quantity("negative", of(s.negative))
                .with_quantity("zero", of(s.zero));
            let mut all = json!(values);
            all["of"] = json!(name);
            all
        });
        terminal.print_json(json!({
            "channels": channels.collect::<Vec<_>>(),
            "components": components.collect::<Vec<_>>(),
            "notes": notes,
        }));
        return Ok(());
    }
    let mut rows = table(["Channel", "RMS", "Angle"], terminal);
    for (c, p) in &found {
        match p {
            Ok(p) => {
                let angle = format!("{:.1} deg", degrees(*p) + 0.0);
                rows.add_row([plain(&c.id), in_unit(p.norm(), &c.unit), angle])
            }
            Err(gaps) => rows.add_row([plain(&c.id), gaps.clone(), "–".to_owned()]),
        };
    }
    let mut out = right(rows, 1);
    for (name, dimension, s) in &components {
        // A billionth of the largest is what rounding leaves.
        let largest = s.positive.norm().max(s.negative.norm()).max(s.zero.norm());
        let shown = |c: Complex64| {
            let si = if c.norm() < 1e-9 * largest { 0.0 } else { c.norm() };
            Quantity { si, dimension: *dimension }
        };
        let [p, n, z] = [s.positive, s.negative, s.zero].map(shown);
        let line = format!("Components of the {name}: positive {p}, negative {n}, zero {z}");
        out.push_str(&format!("\n{line}\n"));
    }
    out.push_str(&noted(&notes));
    terminal.print(&out);
    Ok(())
}
