//! Samples made as they are needed, for who sends them on while what comes next is still open.

use super::synthesis::{Piece, index_at, through};
use crate::injection::samples::PhaseClock;
use crate::injection::stimulus::Stimulus;
use crate::quantity::seconds;
use crate::text::name::Name;
use std::collections::VecDeque;

/// The samples of what is put out, one block after the other.
///
/// They are those of [`render`](super::render) for the same changes at the same moments, however they are
/// cut into blocks. While nothing has been put out yet, the common reference stands: what comes next
/// cannot be known.
#[derive(Clone, Debug)]
pub struct Stream {
    rate_hz: f64,
    /// The index of the next sample.
    next: usize,
    clock: PhaseClock,
    /// What is out, and from which moment in s on.
    out: (f64, Stimulus),
    /// What comes, in order.
    ahead: VecDeque<(f64, Stimulus)>,
}

impl Stream {
    /// Nothing is out; the first sample is at 0 s.
    pub fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            next: 0,
            clock: PhaseClock::default(),
            out: (0.0, Stimulus::off()),
            ahead: VecDeque::new(),
        }
    }

    /// From a moment in s on, this is put out. Moments come in their order; samples that were taken
    /// stay as they are.
    pub fn put_out(&mut self, at_s: f64, out: Stimulus) {
        self.ahead.push_back((at_s, out));
    }

    /// The next samples of these channels, in A and V, a row each; `true` marks a current.
    pub fn take(&mut self, channels: &[(Name, bool)], count: usize) -> Vec<Vec<f64>> {
        let mut rows: Vec<Vec<f64>> = channels.iter().map(|_| Vec::with_capacity(count)).collect();
        let end = self.next + count;
        while self.next < end {
            self.change();
            let change = self.ahead.front().map_or(end, |(at, _)| index_at(*at, self.rate_hz));
            let until = change.min(end);
            self.fill(channels, until - self.next, &mut rows);
            self.next = until;
        }
        rows
    }

    /// Makes the changes that are due at the next sample.
    fn change(&mut self) {
        let due = |(at, _): &(f64, Stimulus)| index_at(*at, self.rate_hz) <= self.next;
        while self.ahead.front().is_some_and(due) {
            let Some((at, out)) = self.ahead.pop_front() else { return };
            self.clock.apply(at, &out);
            self.out = (at, out);
        }
    }

    fn fill(&self, channels: &[(Name, bool)], count: usize, rows: &mut [Vec<f64>]) {
        let (since, out) = &self.out;
        // Counted from the block's first sample.
        let start = since - self.next as f64 / self.rate_hz;
        let length = count as f64 / self.rate_hz - start;
        let piece = Piece {
            from: out.clone(),
            to: None,
            start: seconds(start),
            length: seconds(length),
            playback: None,
            segment: 0,
        };
        for ((name, is_current), row) in channels.iter().zip(rows) {
            let mut block = Vec::with_capacity(count);
            let phase = self.clock.phase_of(name);
            through(&piece, (name, *is_current), phase, self.rate_hz, count, &mut block);
            row.append(&mut block);
        }
    }
}
