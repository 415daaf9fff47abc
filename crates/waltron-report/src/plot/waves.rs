//! Charts over time: of programs and of waveforms.

use super::PlotError;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, words};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::injection::waveform::{Piece, Waveform, pieces, render};
use waltron_core::quantity::Measure;
use waltron_core::section::{Axis, Chart, Curve, Line, Panel, Style};

/// Longest stretch that is shown sample by sample rather than as an envelope, in seconds.
const CYCLES_S: f64 = 0.5;

/// Samples a second of what is shown sample by sample.
const RATE_HZ: f64 = 10_000.0;

/// What a program puts out: RMS values over time, or the waves themselves where the window is half
/// a second or less. With an observation, what was put out; else each stage's longest.
///
/// # Errors
/// [`PlotError`] where there is nothing to show, or too much for samples.
pub fn of_program(
    title: String,
    program: &Program,
    observed: Option<&Observation>,
    window: Option<(f64, f64)>,
) -> Result<Chart, PlotError> {
    let pieces = pieces(program, observed);
    let end = pieces.last().map_or(0.0, |p| (p.start + p.length).si());
    if end <= 0.0 {
        return Err(PlotError::Empty("the program has no length".to_owned()));
    }
    let times = window.unwrap_or((0.0, end));
    let times = (times.0.clamp(0.0, end), times.1.clamp(0.0, end));
    if times.1 <= times.0 {
        return Err(PlotError::Empty(format!("the injection lasts {end} s")));
    }
    let mut moments: Vec<(f64, String)> = Vec::new();
    let mut start = 0.0;
    for (index, segment) in program.segments.iter().enumerate() {
        let ends = words::ends(segment);
        let name = if ends.is_empty() {
            segment.name.to_string()
        } else {
            format!("{}, until {ends}", segment.name)
        };
        match observed.map(|o| o.segments.get(index)) {
            Some(Some(span)) => moments.push((span.start.si(), name)),
            Some(None) => break,
            None => {
                moments.push((start, name));
                start += segment.longest().map_or(0.0, Measure::si);
            }
        }
    }
    for edge in observed.map(|o| o.edges.as_slice()).unwrap_or_default() {
        let change = if edge.closed { "closes" } else { "opens" };
        moments.push((edge.time.si(), format!("{} {change}", edge.signal)));
    }
    moments.sort_by(|a, b| a.0.total_cmp(&b.0));
    if times.1 - times.0 <= CYCLES_S {
        let until =
            pieces.iter().take_while(|p| p.start.si() < times.1).cloned().collect::<Vec<_>>();
        let mut waveform = render(&until, RATE_HZ).map_err(|e| PlotError::Empty(e.to_string()))?;
        if let Some(observed) = observed {
            waveform.cut(observed);
        }
        let mut plot = of_waveform(title, String::new(), &waveform, times);
        plot.lines = lines(moments);
        return Ok(plot);
    }
    let panels = envelopes(&pieces);
    let subtitle =
        if observed.is_some() { "as put out" } else { "as planned: stages take their longest" };
    Ok(over_time(title, subtitle.to_owned(), times, panels, moments))
}

/// Lines of one unit.
struct Traces {
    axis: &'static str,
    traces: Vec<Trace>,
}

/// A line: its name, and its values over time.
struct Trace {
    name: String,
    points: Vec<(f64, f64)>,
}

/// A chart over time with moments that are marked.
fn over_time(
    title: String,
    subtitle: String,
    times: (f64, f64),
    panels: Vec<Traces>,
    moments: Vec<(f64, String)>,
) -> Chart {
    // Short stretches read better in milliseconds.
    let x = if times.1 - times.0 <= CYCLES_S {
        Axis::linear("Time, ms", times.0, times.1).in_parts(1e3)
    } else {
        Axis::linear("Time, s", times.0, times.1)
    };
    let panels = panels.into_iter().map(|panel| panel.drawn(times)).collect();
    Chart { of: Vec::new(), title, subtitle, x, panels, lines: lines(moments) }
}

fn lines(moments: Vec<(f64, String)>) -> Vec<Line> {
    moments.into_iter().map(|(at, name)| Line { at, name, is_tested: false }).collect()
}

impl Traces {
    fn drawn(self, times: (f64, f64)) -> Panel {
        let mut panel = Panel::empty(self.range(times));
        let traces = self.traces.into_iter().enumerate();
        let curve = |(number, trace): (usize, Trace)| Curve {
            name: trace.name,
            label: String::new(),
            style: Style::Trace(number),
            points: trace.points,
        };
        panel.curves = traces.map(curve).collect();
        panel
    }

    fn range(&self, (from, to): (f64, f64)) -> Axis {
        // With the values just outside, whose lines lead in.
        let near = |t: &Trace| {
            let start = t.points.partition_point(|p| p.0 < from).saturating_sub(1);
            let end = (t.points.partition_point(|p| p.0 <= to) + 1).min(t.points.len());
            start..end.max(start)
        };
        let values = self.traces.iter().flat_map(|t| &t.points[near(t)]).map(|p| p.1);
        let (low, high) = values
            .filter(|v| v.is_finite())
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
        if !low.is_finite() {
            return Axis::linear(self.axis, 0.0, 1.0);
        }
        // Magnitudes stand on zero, unless all of them lie in a narrow band far from it.
        let low = if low >= 0.0 && (low < 0.7 * high || low == high) { 0.0 } else { low };
        let room = ((high - low) * 0.08).max(high.abs() * 1e-3).max(1e-9);
        Axis::linear(self.axis, if low == 0.0 { 0.0 } else { low - room }, high + room)
    }
}

/// Instantaneous values of every channel.
pub fn of_waveform(
    title: String,
    subtitle: String,
    waveform: &Waveform,
    times: (f64, f64),
) -> Chart {
    let traces = |is_current: bool| -> Vec<Trace> {
        let of_kind = waveform.channels.iter().filter(|c| c.is_current == is_current);
        of_kind
            .map(|c| {
                let index =
                    |t: f64| ((t * waveform.rate_hz).max(0.0) as usize).min(c.samples.len());
                let (from, to) = (index(times.0), (index(times.1) + 2).min(c.samples.len()));
                let point = |k: usize| (k as f64 / waveform.rate_hz, c.samples[k]);
                Trace { name: c.name.to_string(), points: (from..to).map(point).collect() }
            })
            .collect()
    };
    let panels =
        [("Current, A", true), ("Voltage, V", false)].into_iter().filter_map(|(axis, kind)| {
            let traces = traces(kind);
            (!traces.is_empty()).then_some(Traces { axis, traces })
        });
    over_time(title, subtitle, times, panels.collect(), Vec::new())
}

/// RMS values over time, and the frequency where it moves.
fn envelopes(pieces: &[Piece<'_>]) -> Vec<Traces> {
    let mut panels = Vec::new();
    let mut names: Vec<(String, bool)> = Vec::new();
    let ends = |piece: &Piece<'_>| -> [(f64, Stimulus); 2] {
        let (start, length) = (piece.start.si(), piece.length.si());
        let end = piece.to.clone().unwrap_or_else(|| piece.from.after(length));
        let from = |at: f64, stimulus: Stimulus| match piece.playback {
            Some(playback) => {
                (start + at, playback.phasors_at(waltron_core::quantity::seconds(at)))
            }
            None => (start + at, stimulus),
        };
        [from(0.0, piece.from.clone()), from(length, end)]
    };
    for (_, stimulus) in pieces.iter().flat_map(&ends) {
        let currents = stimulus.currents.iter().map(|d| (d.channel.to_string(), true));
        names.extend(
            currents.chain(stimulus.voltages.iter().map(|d| (d.channel.to_string(), false))),
        );
        names.sort();
        names.dedup();
    }
    for (axis, is_current) in [("Current, A RMS", true), ("Voltage, V RMS", false)] {
        let of_kind = names.iter().filter(|(_, kind)| *kind == is_current);
        let traces: Vec<Trace> = of_kind
            .map(|(name, _)| {
                let rms = |s: &Stimulus| {
                    if is_current { value(&s.currents, name) } else { value(&s.voltages, name) }
                };
                let points = pieces.iter().flat_map(&ends).map(|(t, s)| (t, rms(&s)));
                Trace { name: name.clone(), points: points.collect() }
            })
            .collect();
        if !traces.is_empty() {
            panels.push(Traces { axis, traces: joined(traces) });
        }
    }
    let hertz: Vec<(f64, f64)> =
        pieces.iter().flat_map(&ends).filter_map(|(t, s)| Some((t, s.frequency()?.si()))).collect();
    let spread = hertz.iter().fold((f64::INFINITY, 0f64), |(l, h), p| (l.min(p.1), h.max(p.1)));
    if spread.1 - spread.0 > 1e-3 {
        let trace = Trace { name: "f".to_owned(), points: hertz };
        panels.push(Traces { axis: "Frequency, Hz", traces: vec![trace] });
    }
    panels
}

/// Traces that would hide each other become one that names them all.
fn joined(traces: Vec<Trace>) -> Vec<Trace> {
    let mut kept: Vec<Trace> = Vec::new();
    for trace in traces {
        match kept.iter_mut().find(|k| k.points == trace.points) {
            Some(same) => same.name.push_str(&format!(", {}", trace.name)),
            None => kept.push(trace),
        }
    }
    kept
}

fn value<Q: Measure>(drives: &[Drive<Q>], name: &str) -> f64 {
    drives.iter().find(|d| d.channel == *name).map_or(0.0, |d| d.true_rms().si())
}
