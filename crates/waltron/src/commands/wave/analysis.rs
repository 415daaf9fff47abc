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
use waltron_core::phasor::Sequence;
use waltron_core::quantity::{Dimension, seconds, significant, text};
use waltron_core::waveform::spectrum::{Spectrum, frequency};

/// The samples of one channel in its unit, from a time on.
fn samples(recorded: &Recorded, channel: usize, at: f64, length: f64) -> Result<Vec<f64>, Failure> {
    let (rate, data) = (recorded.rate_hz()?, recorded.data()?);
    let first = (at * rate).round().max(0.0) as u64;
    let count = (length * rate).round().max(1.0) as u64;
    if at < 0.0 || first.saturating_add(count) > data.len() {
        let (length, at) = (text(seconds(length)), text(seconds(at)));
        let has = text(seconds(data.len() as f64 / rate));
        return Err(Failure::usage(format!("{length} from {at} on are needed"))
            .help(format!("the recording lasts {has}; take --at or --cycles smaller")));
    }
    Ok(data.analog(channel, first..first + count))
}

/// Prints the harmonics of each channel.
///
/// # Errors
/// A window outside the recording.
pub(super) fn harmonics(args: &WaveHarmonics, terminal: &Terminal) -> Result<(), Failure> {
    let recorded = Recorded::of(&args.read)?;
    let (rate, nominal) = (recorded.rate_hz()?, recorded.config.frequency_hz);
    let (at, length) = (time(&args.at)?, f64::from(args.cycles.max(1)) / nominal);
    let mut found = Vec::new();
    for (k, channel) in recorded.config.analog.iter().enumerate() {
        let window = samples(&recorded, k, at, length)?;
        let hz = frequency(&window, rate, nominal).unwrap_or(nominal);
        found.push((channel, Spectrum::of(&window, rate, hz, args.orders)));
    }
    if args.read.format == Format::Json {
        let channels = found.iter().map(|(c, s)| {
            let orders = (2..).take(s.harmonics.len());
            let all: Vec<Value> = orders
                .map(|n| {
                    let angle = s.harmonic_angle(n).to_degrees();
                    json!({ "order": n, "share_pct": s.share(n) * 100.0, "angle_deg": angle })
                })
                .collect();
            json!({
                "id": c.id, "unit": c.unit, "fundamental": s.fundamental.norm(),
                "frequency_hz": s.frequency_hz, "rms": s.rms, "dc": s.dc,
                "thd_pct": s.thd() * 100.0, "harmonics": all,
            })
        });
        let channels: Vec<Value> = channels.collect();
        terminal.print_data(&format!("{}\n", json!({ "channels": channels })));
        return Ok(());
    }
    let header = ["Channel", "Fundamental", "True RMS", "DC", "THD", "Harmonics: share at angle"];
    let mut rows = table(header, terminal);
    for (c, s) in &found {
        // What is below a tenth of a percent is the noise of any instrument.
        let orders = (2..).take(s.harmonics.len()).filter(|n| s.share(*n) >= 1e-3);
        let list: Vec<String> = orders
            .map(|n| {
                let share = significant(s.share(n) * 100.0, 3);
                format!("h{n} {share} % @ {} deg", whole(s.harmonic_angle(n).to_degrees()))
            })
            .collect();
        let hertz = significant(s.frequency_hz, 5);
        rows.add_row([
            plain(&c.id),
            format!("{} at {hertz} Hz", in_unit(s.fundamental.norm(), &c.unit)),
            in_unit(s.rms, &c.unit),
            in_unit(if s.dc.abs() < 1e-9 { 0.0 } else { s.dc }, &c.unit),
            format!("{} %", significant(s.thd() * 100.0, 3)),
            list.join(", "),
        ]);
    }
    terminal.print(&format!("{rows}\n"));
    Ok(())
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
    let (rate, nominal) = (recorded.rate_hz()?, recorded.config.frequency_hz);
    let at = time(&args.at)?;
    let mut found = Vec::new();
    for (k, channel) in recorded.config.analog.iter().enumerate() {
        let window = samples(&recorded, k, at, 1.0 / nominal)?;
        found.push((channel, Spectrum::of(&window, rate, nominal, 1).fundamental));
    }
    // Angles against the first channel that carries anything.
    let reference = found.iter().find(|(_, p)| p.norm() > 1e-9).map_or(0.0, |(_, p)| p.arg());
    let degrees = |p: Complex64| Complex64::from_polar(1.0, p.arg() - reference).arg().to_degrees();
    let triple = |unit: Dimension| -> Option<[Complex64; 3]> {
        let is = |u: &str| dimension_of(u).is_some_and(|(d, _)| d == unit);
        let mut of_kind = found.iter().filter(|(c, _)| is(&c.unit)).map(|(_, p)| *p);
        Some([of_kind.next()?, of_kind.next()?, of_kind.next()?])
    };
    let components: Vec<(&str, Sequence)> =
        [("currents", Dimension::CURRENT), ("voltages", Dimension::VOLTAGE)]
            .into_iter()
            .filter_map(|(name, unit)| Some((name, Sequence::of(triple(unit)?))))
            .collect();
    if args.read.format == Format::Json {
        let channels = found.iter().map(|(c, p)| {
            json!({ "id": c.id, "unit": c.unit, "rms": p.norm(), "angle_deg": degrees(*p) })
        });
        let components = components.iter().map(|(name, s)| {
            json!({
                "of": name, "positive": s.positive.norm(), "negative": s.negative.norm(),
                "zero": s.zero.norm(),
            })
        });
        let whole = json!({
            "channels": channels.collect::<Vec<_>>(),
            "components": components.collect::<Vec<_>>(),
        });
        terminal.print_data(&format!("{whole}\n"));
        return Ok(());
    }
    let mut rows = table(["Channel", "RMS", "Angle"], terminal);
    for (c, p) in &found {
        let angle = format!("{:.1} deg", degrees(*p) + 0.0);
        rows.add_row([plain(&c.id), in_unit(p.norm(), &c.unit), angle]);
    }
    let mut out = right(rows, 1);
    for (name, s) in &components {
        // A billionth of the largest is what rounding leaves.
        let largest = s.positive.norm().max(s.negative.norm()).max(s.zero.norm());
        let shown = |c: Complex64| if c.norm() < 1e-9 * largest { 0.0 } else { c.norm() };
        let [p, n, z] = [s.positive, s.negative, s.zero].map(|c| significant(shown(c), 4));
        let line = format!("Components of the {name}: positive {p}, negative {n}, zero {z}");
        out.push_str(&format!("\n{line}\n"));
    }
    terminal.print(&out);
    Ok(())
}
