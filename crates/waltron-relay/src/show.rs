//! Built-in procedures written down in the sequence language: nothing that they do is hidden, and
//! what they do can be adapted.

use waltron_core::injection::program::{Condition, Profile, Segment};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Current, Time, exact};
use waltron_core::text::name::Name;

/// A name as a script writes it: in backquotes where it is more than letters and digits.
pub(super) fn name(name: &Name) -> String {
    let plain = name.as_str().chars().all(|c| c.is_alphanumeric() || c == '_');
    if plain && !name.as_str().is_empty() { name.to_string() } else { format!("`{name}`") }
}

/// A current to twelve digits: what rounding left beyond them makes no difference to any rig. One
/// that came about by a root of three is written with it, as a person would.
pub(super) fn current(value: Current) -> String {
    let (plain, root) = (exact(value), exact(value / 3_f64.sqrt()));
    if digits(&root) + 4 < digits(&plain) { format!("sqrt(3) * {root}") } else { plain }
}

fn digits(text: &str) -> usize {
    text.chars().filter(char::is_ascii_digit).count()
}

/// A time to twelve digits.
pub(super) fn time(value: Time) -> String {
    exact(value)
}

/// A factor in front of a value, left out where it is one.
pub(super) fn times(factor: f64, of: &str) -> String {
    let is = |value: f64| (factor / value - 1.0).abs() < 1e-12;
    match factor {
        _ if is(1.0) => of.to_owned(),
        _ if is(3_f64.sqrt()) => format!("sqrt(3) * {of}"),
        _ => format!("{factor} * {of}"),
    }
}

/// The segments of a fault's program as the lines of a `play` block.
pub(super) fn fault_lines(
    segments: &[Segment],
    fault_loop: FaultLoop,
    injected: &str,
    trip: &Name,
) -> Vec<String> {
    let mut lines = Vec::new();
    for segment in segments {
        let limit = segment.longest().map(time).unwrap_or_default();
        let Profile::Hold(held) = &segment.profile else { continue };
        let stopped = segment.stops.iter().any(|s| matches!(s.when, Condition::Contact { .. }));
        lines.push(if stopped {
            format!("fault {fault_loop} with i = {injected} until {}, at most {limit}", name(trip))
        } else if held.is_off() {
            format!("hold off for {limit} as rest")
        } else {
            let load = FaultLoop::largest_phase(held.complex_phase_currents());
            format!("hold i = balanced({}) for {limit} as prefault", exact_load(held, load))
        });
    }
    lines
}

/// The load current as it was given, not as its complex value rounds.
fn exact_load(held: &waltron_core::injection::stimulus::Stimulus, largest: Current) -> String {
    current(held.currents.first().map_or(largest, |d| d.phasor.rms()))
}
