//! Programs in words, for previews.

use super::{Condition, Profile, Segment, Then};
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Measure, Quantity, counted, in_degrees, significant, text};

/// What is put out, in short: `i 0.5 A balanced, va 57.7 V @ 0 deg, 50 Hz`.
pub fn stimulus(stimulus: &Stimulus) -> String {
    if stimulus.is_off() {
        return "off".to_owned();
    }
    let mut hertz = frequencies(&stimulus.currents);
    hertz.extend(frequencies(&stimulus.voltages));
    hertz.dedup();
    // One frequency of everything is said once.
    let each = hertz.len() > 1;
    let mut parts = drives("i", &stimulus.currents, each);
    parts.extend(drives("v", &stimulus.voltages, each));
    if let [one] = hertz.as_slice() {
        parts.push(in_hertz(*one));
    }
    parts.join(", ")
}

/// The frequencies of the channels that are on.
fn frequencies<Q: Measure>(drives: &[Drive<Q>]) -> Vec<f64> {
    // What is direct has none.
    drives.iter().filter(|d| d.phasor.rms().si() != 0.0).map(|d| d.frequency.si()).collect()
}

fn in_hertz(value: f64) -> String {
    format!("{} Hz", significant(value, 6))
}

/// `each`: with the frequency.
fn drives<Q: Measure>(group: &str, drives: &[Drive<Q>], each: bool) -> Vec<String> {
    let on: Vec<&Drive<Q>> = drives.iter().filter(|d| d.true_rms().si() != 0.0).collect();
    if let [a, b, c] = on.as_slice()
        && [a, b, c]
            .iter()
            .all(|d| d.harmonics.is_empty() && d.dc.is_none() && d.rate_hz_per_s == 0.0)
        && is_balanced([a, b, c])
    {
        let angle = in_degrees(a.phasor.angle());
        let turned = if angle.abs() < 1e-9 {
            String::new()
        } else {
            format!(" @ {} deg", significant(angle, 4))
        };
        let at = if each { format!(" at {}", in_hertz(a.frequency.si())) } else { String::new() };
        return vec![format!("{group} {}{turned} balanced{at}", text(a.phasor.rms()))];
    }
    on.into_iter().map(|d| wave(d, each)).collect()
}

fn is_balanced<Q: Measure>([a, b, c]: [&Drive<Q>; 3]) -> bool {
    let turn =
        |d: &Drive<Q>| (in_degrees(d.phasor.angle() - a.phasor.angle()) + 360.0).rem_euclid(360.0);
    let same = |d: &Drive<Q>| {
        (d.phasor.rms().si() - a.phasor.rms().si()).abs() < 1e-9 && d.frequency == a.frequency
    };
    same(b) && same(c) && (turn(b) - 240.0).abs() < 1e-6 && (turn(c) - 120.0).abs() < 1e-6
}

/// One channel: `ia 5 A @ -120 deg + h3 6 % @ 180 deg + 0.5 A DC`.
fn wave<Q: Measure>(d: &Drive<Q>, with_frequency: bool) -> String {
    if let Some(direct) = d.dc.filter(|_| d.phasor.rms().si() == 0.0) {
        let tau = direct.tau().map_or_else(String::new, |tau| format!(" (τ {})", text(tau)));
        return format!("{} {} DC{tau}", d.channel, text(direct.value()));
    }
    let mut out = format!("{} {}", d.channel, text(d.phasor.rms()));
    let angle = in_degrees(d.phasor.angle());
    if angle.abs() > 1e-9 {
        out.push_str(&format!(" @ {} deg", significant(angle, 4)));
    }
    for h in &d.harmonics {
        out.push_str(&format!(" + h{} {} %", h.order(), significant(h.share() * 100.0, 4)));
        let angle = in_degrees(h.angle());
        if angle.abs() > 1e-9 {
            out.push_str(&format!(" @ {} deg", significant(angle, 4)));
        }
    }
    if let Some(dc) = d.dc {
        out.push_str(&format!(" + {} DC", text(dc.value())));
        if let Some(tau) = dc.tau() {
            out.push_str(&format!(" (τ {})", text(tau)));
        }
    }
    if with_frequency {
        out.push_str(&format!(" at {}", in_hertz(d.frequency.si())));
    }
    if d.rate_hz_per_s != 0.0 {
        out.push_str(&format!(", {} Hz/s", significant(d.rate_hz_per_s, 4)));
    }
    out
}

/// What a segment puts out: held, or from where to where.
pub fn profile(profile: &Profile) -> String {
    let moves = |from: &Stimulus, to: &Stimulus| format!("{} → {}", stimulus(from), stimulus(to));
    let resting = |rest: &Option<super::Rest>| {
        let pause = rest
            .as_ref()
            .map(|r| format!(", {} of {} between", text(r.time), stimulus(&r.stimulus)));
        pause.unwrap_or_default()
    };
    match profile {
        Profile::Hold(held) => stimulus(held),
        Profile::Stairs(s) => {
            let count = s.steps.saturating_add(1);
            format!(
                "{}, {} of {}{}",
                moves(&s.from, &s.to),
                counted(count as usize, "level"),
                text(s.dwell),
                resting(&s.rest)
            )
        }
        Profile::Steps(s) => {
            let ends = match (s.levels.first(), s.levels.last()) {
                (Some(a), Some(b)) => moves(a, b),
                _ => "nothing".to_owned(),
            };
            let count = counted(s.levels.len(), "level");
            format!("{ends}, {count} of {}{}", text(s.dwell), resting(&s.rest))
        }
        Profile::Slope(s) => match (s.through.first(), s.through.last()) {
            (Some(a), Some(b)) => format!("{}, smoothly", moves(a, b)),
            _ => "nothing".to_owned(),
        },
        Profile::Playback(p) => {
            let channels: Vec<&str> = p.channels().map(|(name, _)| name.as_str()).collect();
            let times = counted(p.times as usize, "time");
            format!("{} on {}, {times}", p.file, channels.join(", "))
        }
    }
}

/// What ends a segment besides its time.
pub fn ends(segment: &Segment) -> String {
    let stops = segment
        .stops
        .iter()
        .filter(|s| !matches!(s.when, Condition::After(_) | Condition::AtAngle { .. }));
    let words = stops.map(|s| match s.then {
        Then::Off => format!("guard {}", s.when),
        _ => s.when.to_string(),
    });
    words.collect::<Vec<_>>().join("; ")
}

/// The true RMS value and the total harmonic distortion of each channel that carries harmonics or
/// DC: (channel, true RMS, THD as a share).
pub fn distorted(stimulus: &Stimulus) -> Vec<(String, Quantity, f64)> {
    fn of<Q: Measure>(drives: &[Drive<Q>]) -> Vec<(String, Quantity, f64)> {
        drives
            .iter()
            .filter(|d| !d.harmonics.is_empty() || d.dc.is_some())
            .map(|d| (d.channel.to_string(), Quantity::of(d.true_rms()), d.thd()))
            .collect()
    }
    let mut all = of(&stimulus.currents);
    all.extend(of(&stimulus.voltages));
    all
}
