//! One line that tells what is out at present, renewed in its place.

use crate::terminal::{Terminal, plain};
use std::time::{Duration, Instant};
use waltron_core::injection::program::Stand;
use waltron_core::injection::stimulus::Drive;
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Measure, Time, seconds, text};
use waltron_core::text::name::Name;
use waltron_rig::attendant::{Attendant, Moment, Present, Waiting, Wish};

/// How often the line is renewed.
const EVERY: Duration = Duration::from_millis(100);

/// Fewest columns that a part is cut to.
const LEAST: usize = 12;

/// What is said, in the order of its weight, as far as it fits on one line.
pub(super) fn fitted(parts: &[String], width: usize) -> String {
    let mut line = String::new();
    for part in parts {
        let gap = if line.is_empty() { "" } else { "   " };
        let taken = line.chars().count() + gap.len() + part.chars().count();
        let left = width.saturating_sub(line.chars().count() + gap.len());
        if taken <= width {
            line.push_str(gap);
            line.push_str(part);
        } else if left >= LEAST {
            line.push_str(gap);
            line.extend(part.chars().take(left - 1));
            line.push('…');
            return line;
        }
    }
    line
}

/// The columns of the terminal at present, less one so that the line does not wrap.
pub(super) fn columns() -> usize {
    // A terminal that tells no width has one nevertheless.
    let told = crossterm::terminal::size().map_or(0, |(columns, _)| usize::from(columns));
    if told == 0 { 79 } else { told - 1 }
}

/// The contacts that are closed.
pub(super) fn closed(contacts: &[Name]) -> String {
    match contacts {
        [] => "no contact closed".to_owned(),
        some => {
            let names: Vec<String> = some.iter().map(|c| plain(c.as_str())).collect();
            format!("closed: {}", names.join(", "))
        }
    }
}

/// An attendant who is shown what is out while it takes its time.
pub(super) struct Shown<'a> {
    attendant: &'a mut dyn Attendant,
    terminal: &'a Terminal,
    longest: Option<Time>,
    begun: Instant,
    drawn: Option<Instant>,
}

impl<'a> Shown<'a> {
    /// Shows a program that lasts so long at most.
    pub(super) fn new(
        attendant: &'a mut dyn Attendant,
        terminal: &'a Terminal,
        longest: Option<Time>,
    ) -> Self {
        Self { attendant, terminal, longest, begun: Instant::now(), drawn: None }
    }

    /// Takes the line away.
    pub(super) fn end(self) {
        if self.drawn.is_some() {
            self.terminal.chat("\r\x1b[K");
        }
    }
}

fn outputs<Q: Measure>(drives: &[Drive<Q>]) -> impl Iterator<Item = String> {
    let on = drives.iter().filter(|d| d.true_rms().si() != 0.0);
    on.map(|d| format!("{} {}", plain(d.channel.as_str()), text(d.true_rms())))
}

impl Attendant for Shown<'_> {
    fn ask(&mut self, question: &Question) -> Answer {
        self.attendant.ask(question)
    }

    fn tell(&mut self, text: &str) {
        self.attendant.tell(text);
    }

    fn wish(&mut self, moment: &Moment<'_>) -> Wish {
        self.attendant.wish(moment)
    }

    fn mark(&mut self) -> bool {
        self.attendant.mark()
    }

    fn outside(&mut self) -> bool {
        self.attendant.outside()
    }

    fn begins(&mut self, stage: &str) {
        self.attendant.begins(stage);
    }

    fn awaits(&mut self, contacts: &[Name]) {
        self.attendant.awaits(contacts);
    }

    fn moves(&mut self, to: &Stand) {
        self.attendant.moves(to);
    }

    fn reason(&mut self) -> Option<String> {
        self.attendant.reason()
    }

    fn goes_off(&mut self) {
        self.attendant.goes_off();
    }

    fn drains(&mut self) {
        self.attendant.drains();
    }

    fn discharged(&mut self, after: Time) {
        self.attendant.discharged(after);
    }

    fn abandons(&self) -> bool {
        self.attendant.abandons()
    }

    fn waits(&mut self, waiting: &Waiting) {
        self.attendant.waits(waiting);
    }

    fn is_watching(&self) -> bool {
        self.terminal.is_watched() || self.attendant.is_watching()
    }

    fn sees(&mut self, present: &Present<'_>) {
        self.attendant.sees(present);
        // What is over at once needs no line.
        let last = self.drawn.unwrap_or(self.begun);
        if !self.terminal.is_watched() || last.elapsed() < EVERY {
            return;
        }
        self.drawn = Some(Instant::now());
        let left = self.longest.map(|longest| (longest - present.now).max(seconds(0.0)));
        let mut parts = vec![match left {
            Some(left) => format!("{:.1} s left", left.si()),
            None => format!("{:.1} s", present.now.si()),
        }];
        parts.push(closed(present.closed));
        parts.extend(outputs(&present.out.currents));
        parts.extend(outputs(&present.out.voltages));
        self.terminal.chat(&format!("\r\x1b[K{}", fitted(&parts, columns())));
    }

    fn wants_to_stop(&self) -> bool {
        self.attendant.wants_to_stop()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_weighs_most_is_on_any_line() {
        let parts = ["4.2 s left", "closed: start, trip", "ia 2.4 A", "ib 2.4 A"];
        let parts = parts.map(str::to_owned);
        assert_eq!(fitted(&parts, 34), "4.2 s left   closed: start, trip");
        assert_eq!(fitted(&parts, 28), "4.2 s left   closed: start,…");
        assert_eq!(fitted(&parts, 12), "4.2 s left");
        assert_eq!(fitted(&parts, 80), parts.join("   "));
        assert!(fitted(&parts, 3).is_empty());
    }
}
