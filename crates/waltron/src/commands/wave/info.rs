//! `waltron wave info`: what a recording holds.

use super::{in_unit, right};
use crate::cli::Format;
use crate::cli::wave::WaveRead;
use crate::failure::Failure;
use crate::recording::Recorded;
use crate::tables::{align_right, table};
use crate::terminal::{STRONG, Terminal, plain, styled};
use serde_json::{Value, json};
use waltron_core::quantity::{seconds, text};
use waltron_wire::comtrade::{Config, Data, Extremes, Revision, Side, Survey};

/// Changes of a status channel that are shown.
const SHOWN: usize = 6;

/// Prints what a recording holds.
///
/// # Errors
/// A file that is no recording.
pub(super) fn info(args: &WaveRead, terminal: &Terminal) -> Result<(), Failure> {
    let recorded = Recorded::of(args)?;
    let (config, data) = (&recorded.config, recorded.data()?);
    let survey = Survey::of(&data);
    match args.format {
        Format::Json => {
            let mut whole = as_json(config, &data, &survey);
            whole["header"] = recorded.header.as_str().into();
            whole["information"] = recorded.information.as_str().into();
            terminal.print_json(whole);
        }
        Format::Text => {
            let mut out = as_text(config, &data, &survey, terminal);
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

fn as_json(c: &Config, data: &Data<'_>, survey: &Survey) -> Value {
    let analog = c.analog.iter().zip(&survey.analog).map(|(a, seen)| {
        let of = |value: fn(Extremes) -> f64| seen.values.map(value);
        json!({
            "id": a.id, "phase": a.phase, "unit": a.unit, "circuit": a.circuit,
            "lowest": of(|v| v.low), "highest": of(|v| v.high), "rms": of(|v| v.rms),
            "missing": seen.missing, "skew_us": a.skew_us,
            "primary": a.primary, "secondary": a.secondary,
            "side": if a.side == Side::Primary { "primary" } else { "secondary" },
        })
    });
    let digital = c.digital.iter().zip(&survey.digital).map(|(d, changes)| {
        let at = changes.first.iter().map(|(t, on)| json!({ "time_s": t, "on": on }));
        json!({ "id": d.id, "changes": changes.count, "at": at.collect::<Vec<_>>() })
    });
    let rates = c.rates.iter().map(|r| json!({ "rate_hz": r.hz, "last_sample": r.last }));
    json!({
        "station": c.station, "device": c.device, "revision": revision(c),
        "encoding": encoding(c), "frequency_hz": c.frequency_hz,
        "samples": data.len(), "length_s": survey.length_s,
        "start": c.start.text(Revision::R2013), "trigger": c.trigger.text(Revision::R2013),
        "rates": rates.collect::<Vec<_>>(),
        "analog": analog.collect::<Vec<_>>(),
        "digital": digital.collect::<Vec<_>>(),
    })
}

fn as_text(c: &Config, data: &Data<'_>, survey: &Survey, terminal: &Terminal) -> String {
    let rate = c.rate_hz().map_or("several rates".to_owned(), |r| format!("{r} a second"));
    let system = c.frequency_hz.map_or("no frequency told".to_owned(), |hz| format!("{hz} Hz"));
    let mut out = format!(
        "{}  {}\n{} samples over {}, {rate}, {system}, IEEE C37.111-{} {}\n\
         First sample  {}\nTrigger       {}\n\n",
        styled(STRONG, &plain(&c.station)),
        plain(&c.device),
        data.len(),
        text(seconds(survey.length_s)),
        revision(c),
        encoding(c),
        plain(&c.start.text(Revision::R2013)),
        plain(&c.trigger.text(Revision::R2013)),
    );
    let header = ["Channel", "Phase", "Lowest", "Highest", "RMS", "Missing"];
    let mut channels = table(header, terminal);
    for (a, seen) in c.analog.iter().zip(&survey.analog) {
        let gaps = if seen.missing > 0 { seen.missing.to_string() } else { "–".to_owned() };
        let value = |of: fn(Extremes) -> f64| {
            seen.values.map_or_else(|| "–".to_owned(), |v| in_unit(of(v), &a.unit))
        };
        let [low, high, rms] = [value(|v| v.low), value(|v| v.high), value(|v| v.rms)];
        channels.add_row([plain(&a.id), plain(&a.phase), low, high, rms, gaps]);
    }
    out.push_str(&right(channels, 2));
    if !c.digital.is_empty() {
        let mut states = table(["Status", "Changes", "When"], terminal);
        for (d, changes) in c.digital.iter().zip(&survey.digital) {
            let change = |(t, on): &(f64, bool)| {
                format!("{} at {}", if *on { "on" } else { "off" }, text(seconds(*t)))
            };
            let mut when: Vec<String> = changes.first.iter().take(SHOWN).map(change).collect();
            if changes.count > SHOWN as u64 {
                when.push("…".to_owned());
            }
            states.add_row([plain(&d.id), changes.count.to_string(), when.join(", ")]);
        }
        align_right(&mut states, 1..2);
        out.push_str(&format!("\n{states}\n"));
    }
    out
}
