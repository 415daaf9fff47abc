//! A recording over time.

use super::moment;
use crate::failure::Failure;
use crate::recording::{AS_PUT_OUT, Recorded, dimension_of};
use waltron_core::injection::waveform::{Waveform, WaveformChannel};
use waltron_core::quantity::Dimension;
use waltron_core::section::{Chart, Line};
use waltron_report::plot::of_waveform;

/// The currents and voltages of a recording between two times, and its digital changes.
///
/// # Errors
/// Data that do not fit, a rate that changes.
pub(crate) fn of(recorded: &Recorded, title: String, times: (f64, f64)) -> Result<Chart, Failure> {
    let (rate_hz, data) = (recorded.rate_hz()?, recorded.data()?);
    let channels = recorded.config.analog.iter().enumerate().filter_map(|(k, c)| {
        let (dimension, factor) = dimension_of(&c.unit)?;
        let is_current = dimension == Dimension::CURRENT;
        let values = || data.analog(k, 0..data.len()).into_iter().map(|v| v * factor).collect();
        // What was commanded only is never shown as measured.
        let name = match c.circuit.as_str() {
            AS_PUT_OUT => format!("{}, {AS_PUT_OUT}", c.id).into(),
            _ => c.id.as_str().into(),
        };
        (is_current || dimension == Dimension::VOLTAGE).then(|| WaveformChannel {
            name,
            is_current,
            samples: values(),
        })
    });
    let waveform = Waveform { rate_hz, channels: channels.collect() };
    let subtitle = format!("first sample {}", moment(&recorded.config));
    let mut chart = of_waveform(title, subtitle, &waveform, times);
    let mut before: Option<Vec<bool>> = None;
    data.for_each(|at, _, digital| {
        let known = before.replace(digital.to_vec());
        let channels = known.iter().flatten().zip(digital).zip(&recorded.config.digital);
        for ((_, is), channel) in channels.filter(|((was, is), _)| was != is) {
            let name = format!("{} {}", channel.id, if *is { "on" } else { "off" });
            chart.lines.push(Line { at, name, is_tested: false });
        }
    });
    Ok(chart)
}
