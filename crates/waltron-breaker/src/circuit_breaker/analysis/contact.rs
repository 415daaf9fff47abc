//! When contacts touch and part, and how they bounce.

use waltron_core::injection::observation::{Edge, Observation};
use waltron_core::quantity::Measure;
use waltron_core::text::name::Name;

/// How a contact closed.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Touch {
    /// When it touched for the first time, in s since the program's start.
    pub first_s: f64,
    /// When it touched for the last time: where it bounced, later.
    pub last_s: f64,
    /// How often it opened again between.
    pub bounces: usize,
}

/// A part of a program, in s since its start.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Window {
    /// From here on.
    pub from_s: f64,
    /// Up to here.
    pub to_s: f64,
}

impl Window {
    fn has(&self, edge: &Edge) -> bool {
        (self.from_s..=self.to_s).contains(&edge.time.si())
    }
}

fn changes<'a>(
    seen: &'a Observation,
    of: &'a Name,
    window: Window,
) -> impl Iterator<Item = &'a Edge> {
    seen.raw_edges.iter().filter(move |e| e.signal == *of && window.has(e))
}

/// Whether a contact was closed just before a time, by its changes as they came.
pub fn is_closed_before(seen: &Observation, of: &Name, time_s: f64) -> bool {
    let last = seen.raw_edges.iter().rfind(|e| e.signal == *of && e.time.si() < time_s);
    last.map_or_else(|| seen.closed_at_start.contains(of), |e| e.closed)
}

/// The closing of a contact: it touches, and stays closed up to the window's end.
///
/// # Errors
/// Why it did not: it was closed already, it never touched, it did not stay closed.
pub fn closing(seen: &Observation, of: &Name, window: Window) -> Result<Touch, String> {
    if is_closed_before(seen, of, window.from_s) {
        return Err(format!("{of} was closed already"));
    }
    let all: Vec<&Edge> = changes(seen, of, window).collect();
    let (Some(first), Some(last)) = (all.iter().find(|e| e.closed), all.iter().rfind(|e| e.closed))
    else {
        return Err(format!("{of} did not close"));
    };
    if all.last().is_some_and(|e| !e.closed) {
        return Err(format!("{of} did not stay closed"));
    }
    let bounces = all.iter().filter(|e| !e.closed).count();
    Ok(Touch { first_s: first.time.si(), last_s: last.time.si(), bounces })
}

/// The opening of a contact: when it parted for good. What still bounced before is not it.
///
/// # Errors
/// Why it did not: it was open already, it never parted, it closed again.
pub fn opening(seen: &Observation, of: &Name, window: Window) -> Result<f64, String> {
    if !is_closed_before(seen, of, window.from_s) {
        return Err(format!("{of} was open already"));
    }
    match changes(seen, of, window).last() {
        None => Err(format!("{of} did not open")),
        Some(last) if last.closed => Err(format!("{of} closed again")),
        Some(last) => Ok(last.time.si()),
    }
}

/// The largest difference between times; none of fewer than two.
pub fn spread(times: &[f64]) -> Option<f64> {
    if times.len() < 2 {
        return None;
    }
    let high = times.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let low = times.iter().copied().fold(f64::INFINITY, f64::min);
    Some(high - low)
}

/// How long a contact stays in one state at least where that is no bounce, in s.
const STAYS_S: f64 = 8e-3;

/// How often a contact has closed and has opened, bounces left out.
pub fn operations(seen: &Observation, contact: &Name) -> (u32, u32) {
    let mut is_closed = seen.closed_at_start.contains(contact);
    let (mut closings, mut openings) = (0, 0);
    let mut edges = seen.raw_edges.iter().filter(|e| e.signal == *contact).peekable();
    while let Some(edge) = edges.next() {
        let until = edges.peek().map_or(f64::INFINITY, |next| next.time.si());
        if edge.closed == is_closed || until - edge.time.si() < STAYS_S {
            continue;
        }
        is_closed = edge.closed;
        if is_closed { closings += 1 } else { openings += 1 }
    }
    (closings, openings)
}

#[cfg(test)]
mod tests {
    use super::*;
    use waltron_core::quantity::seconds;

    fn seen(closed: bool, edges: &[(f64, bool)]) -> Observation {
        let edge = |&(time, closed): &(f64, bool)| Edge {
            signal: "L1".into(),
            time: seconds(time),
            closed,
        };
        Observation {
            closed_at_start: if closed { vec!["L1".into()] } else { Vec::new() },
            raw_edges: edges.iter().map(edge).collect(),
            ..Observation::default()
        }
    }

    const ALL: Window = Window { from_s: 0.0, to_s: 1.0 };

    #[test]
    fn a_contact_touches_first_and_parts_last() {
        let of: Name = "L1".into();
        let bouncing =
            [(0.05, true), (0.051, false), (0.0515, true), (0.052, false), (0.0521, true)];
        let touch = closing(&seen(false, &bouncing), &of, ALL).unwrap();
        assert_eq!(touch, Touch { first_s: 0.05, last_s: 0.0521, bounces: 2 });
        // Closed and opened at once: bounces belong to the closing, the last change is the opening.
        let mut both = bouncing.to_vec();
        both.push((0.08, false));
        let opened = opening(&seen(false, &both), &of, Window { from_s: 0.06, to_s: 1.0 }).unwrap();
        assert_eq!(opened, 0.08);
        let closed = closing(&seen(false, &both), &of, Window { from_s: 0.0, to_s: 0.06 }).unwrap();
        assert_eq!(closed.first_s, 0.05);
        let told = |error: Result<Touch, String>| error.unwrap_err();
        assert!(told(closing(&seen(false, &both), &of, ALL)).contains("did not stay closed"));
        assert!(told(closing(&seen(true, &[]), &of, ALL)).contains("closed already"));
        assert!(told(closing(&seen(false, &[]), &of, ALL)).contains("did not close"));
        assert!(opening(&seen(false, &[]), &of, ALL).unwrap_err().contains("open already"));
        assert!(opening(&seen(true, &[]), &of, ALL).unwrap_err().contains("did not open"));
        let again = [(0.02, false), (0.03, true)];
        assert!(opening(&seen(true, &again), &of, ALL).unwrap_err().contains("closed again"));
        assert_eq!(spread(&[0.03]), None);
        assert!((spread(&[0.03, 0.0312, 0.0305]).unwrap() - 0.0012).abs() < 1e-12);
    }
}
