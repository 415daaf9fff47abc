//! `waltron wave info`: what a recording holds.

use super::{in_unit, right};
use crate::cli::Format;
use crate::cli::wave::WaveRead;
use crate::failure::Failure;
use crate::recording::Recorded;
use crate::tables::table;
use crate::terminal::{STRONG, Terminal, plain, styled};
use serde_json::{Value, json};
use waltron_core::quantity::{seconds, text};
use waltron_wire::comtrade::{Config, Data, Revision, Side};

/// What goes through each channel.
struct Extremes {
    low: Vec<f64>,
    high: Vec<f64>,
    rms: Vec<f64>,
    missing: Vec<u64>,
    changes: Vec<u64>,
    length_s: f64,
}

impl Extremes {
    fn of(config: &Config, data: &Data<'_>) -> Self {
        let n = config.analog.len();
        let mut all = Self {
            low: vec![f64::INFINITY; n],
            high: vec![f64::NEG_INFINITY; n],
            rms: vec![0.0; n],
            missing: vec![0; n],
            changes: vec![0; config.digital.len()],
            length_s: 0.0,
        };
        let mut before: Vec<bool> = Vec::new();
        data.for_each(|t, analog, digital| {
            all.length_s = t;
            for (k, v) in analog.iter().enumerate() {
                if v.is_finite() {
                    all.low[k] = all.low[k].min(*v);
                    all.high[k] = all.high[k].max(*v);
                    all.rms[k] += v * v;
                } else {
                    all.missing[k] += 1;
                }
            }
            let changed = before.iter().zip(digital).zip(&mut all.changes);
            changed.filter(|((a, b), _)| a != b).for_each(|(_, n)| *n += 1);
            before = digital.to_vec();
        });
        for (k, sum) in all.rms.iter_mut().enumerate() {
            // Of nothing there is none.
            *sum = (*sum / (data.len() - all.missing[k]) as f64).sqrt();
        }
        all
    }
}

/// Prints what a recording holds.
///
/// # Errors
/// A file that is no recording.
pub(super) fn info(args: &WaveRead, terminal: &Terminal) -> Result<(), Failure> {
    let recorded = Recorded::of(args)?;
    let (config, data) = (&recorded.config, recorded.data()?);
    let extremes = Extremes::of(config, &data);
    match args.format {
        Format::Json => {
            let mut whole = as_json(config, &data, &extremes);
            whole["header"] = recorded.header.as_str().into();
            whole["information"] = recorded.information.as_str().into();
            terminal.print_json(whole);
        }
        Format::Text => {
            let mut out = as_text(config, &data, &extremes, terminal);
            for (name, text) in
                [("Header", &recorded.header), ("Information", &recorded.information)]
            {
                if !text.trim().is_empty() {
                    let lines: Vec<String> = text.trim_end().lines().map(plain).collect();
                    out.push_str(&format!("\n{name}\n  {}\n", lines.join("\n  ")));
                }
            }
            terminal.print(&out);
        }
    }
    Ok(())
}

fn revision(config: &Config) -> u16 {
    match config.revision {
        Revision::R1991 => 1991,
        Revision::R1999 => 1999,
        Revision::R2013 => 2013,
    }
}

fn encoding(config: &Config) -> String {
    format!("{:?}", config.format).to_uppercase()
}

fn as_json(c: &Config, data: &Data<'_>, e: &Extremes) -> Value {
    let finite = |v: f64| v.is_finite().then_some(v);
    let analog = c.analog.iter().enumerate().map(|(k, a)| {
        json!({
            "id": a.id, "phase": a.phase, "unit": a.unit,
            "circuit": a.circuit, "lowest": finite(e.low[k]), "highest": finite(e.high[k]),
            "rms": finite(e.rms[k]), "missing": e.missing[k], "skew_us": a.skew_us,
            "primary": a.primary, "secondary": a.secondary,
            "side": if a.side == Side::Primary { "primary" } else { "secondary" },
        })
    });
    let digital = c.digital.iter().zip(&e.changes);
    let digital = digital.map(|(d, n)| json!({ "id": d.id, "changes": n }));
    let rates = c.rates.iter().map(|r| json!({ "rate_hz": r.hz, "last_sample": r.last }));
    json!({
        "station": c.station, "device": c.device, "revision": revision(c),
        "encoding": encoding(c), "frequency_hz": c.frequency_hz,
        "samples": data.len(), "length_s": e.length_s,
        "start": c.start.text(Revision::R2013), "trigger": c.trigger.text(Revision::R2013),
        "rates": rates.collect::<Vec<_>>(),
        "analog": analog.collect::<Vec<_>>(),
        "digital": digital.collect::<Vec<_>>(),
    })
}

fn as_text(c: &Config, data: &Data<'_>, e: &Extremes, terminal: &Terminal) -> String {
    let rate = c.rate_hz().map_or("several rates".to_owned(), |r| format!("{r} a second"));
    let system = c.frequency_hz.map_or("no frequency told".to_owned(), |hz| format!("{hz} Hz"));
    let mut out = format!(
        "{}  {}\n{} samples over {}, {rate}, {system}, IEEE C37.111-{} {}\n\
         First sample  {}\nTrigger       {}\n\n",
        styled(STRONG, &plain(&c.station)),
        plain(&c.device),
        data.len(),
        text(seconds(e.length_s)),
        revision(c),
        encoding(c),
        plain(&c.start.text(Revision::R2013)),
        plain(&c.trigger.text(Revision::R2013)),
    );
    let header = ["Channel", "Phase", "Lowest", "Highest", "RMS", "Missing"];
    let mut channels = table(header, terminal);
    for (k, a) in c.analog.iter().enumerate() {
        let gaps = if e.missing[k] > 0 { e.missing[k].to_string() } else { "–".to_owned() };
        let value = |v: f64| if v.is_finite() { in_unit(v, &a.unit) } else { "–".to_owned() };
        let [low, high, rms] = [e.low[k], e.high[k], e.rms[k]].map(value);
        channels.add_row([plain(&a.id), plain(&a.phase), low, high, rms, gaps]);
    }
    out.push_str(&right(channels, 2));
    if !c.digital.is_empty() {
        let mut states = table(["Status", "Changes"], terminal);
        for (d, n) in c.digital.iter().zip(&e.changes) {
            states.add_row([plain(&d.id), n.to_string()]);
        }
        out.push_str(&format!("\n{}", right(states, 1)));
    }
    out
}
