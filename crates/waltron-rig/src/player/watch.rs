//! Whether a segment's stop conditions hold.

use super::debounce::Debounce;
use crate::attendant::{Attendant, Waiting};
use std::collections::VecDeque;
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::observation::Edge;
use waltron_core::injection::program::{Condition, Relation, Stop};
use waltron_core::quantity::{Measure, Quantity, Time, seconds};

/// How often what somebody tells is looked at, and measured values where their segment does not say.
pub(super) const POLL_S: f64 = 0.01;

/// How long a value is looked at before it is told how quickly it goes on, in s.
const SEEN_S: f64 = 0.1;

/// Over which time it is seen how quickly a value goes on, in s.
const GOES_S: f64 = 2.0;

/// The conditions of one segment while it plays.
pub(super) struct Watch<'a> {
    stops: &'a [Stop],
    /// All conditions of the stops, also those inside others.
    parts: Vec<&'a Condition>,
    start: Time,
    /// Values of each `steady` condition so far, in the order of the conditions: time and value.
    steady: Vec<Vec<(Time, f64)>>,
    /// The latest value of everything that is looked at.
    values: Vec<(Probe, Option<f64>)>,
    next_poll: Option<Time>,
    every: Time,
    /// When the attendant's mark and what is outside are looked at next.
    next_told: Option<Time>,
    /// A mark stays set until the segment ends.
    marked: bool,
    /// What is watched outside is as it was seen last.
    outside: bool,
    /// Of the value that ends the segment, some values so far: to tell how long it takes.
    on_its_way: VecDeque<(Time, f64)>,
}

impl<'a> Watch<'a> {
    /// The conditions of a segment that begins now; measured values are looked at so often.
    pub(super) fn new(stops: &'a [Stop], start: Time, every: Option<Time>) -> Self {
        let every = every.map_or(seconds(POLL_S), |time| time.max(seconds(POLL_S)));
        let mut values: Vec<(Probe, Option<f64>)> = Vec::new();
        let mut steady = Vec::new();
        let parts: Vec<&Condition> = stops.iter().flat_map(|s| s.when.parts()).collect();
        for part in &parts {
            let (Condition::Reading { probe, .. } | Condition::Stable { probe, .. }) = part else {
                continue;
            };
            // Measured once, however many conditions look at it.
            if !values.iter().any(|(known, _)| known == probe) {
                values.push((probe.clone(), None));
            }
            if matches!(part, Condition::Stable { .. }) {
                steady.push(Vec::new());
            }
        }
        let told = |c: &&Condition| matches!(c, Condition::Mark | Condition::Outside);
        let is_told = parts.iter().any(told);
        let next_poll = (!values.is_empty()).then_some(start);
        let next_told = is_told.then_some(start);
        let (marked, outside) = (false, false);
        let on_its_way = VecDeque::new();
        Self {
            stops,
            parts,
            start,
            steady,
            values,
            next_poll,
            every,
            next_told,
            marked,
            outside,
            on_its_way,
        }
    }

    /// Whether something is to be looked at now.
    pub(super) fn due(&self, now: Time) -> bool {
        self.is_to_measure(now) || self.next_told.is_some_and(|at| now >= at)
    }

    fn is_to_measure(&self, now: Time) -> bool {
        self.next_poll.is_some_and(|at| now >= at)
    }

    /// What is to be measured now.
    pub(super) fn probes(&self, now: Time) -> impl Iterator<Item = &Probe> {
        let is_time = self.is_to_measure(now);
        self.values.iter().filter(move |_| is_time).map(|(probe, _)| probe)
    }

    /// Takes new measured values, the attendant's mark and what is seen outside.
    pub(super) fn poll(
        &mut self,
        now: Time,
        values: Vec<Option<f64>>,
        attendant: &mut dyn Attendant,
    ) {
        if self.waits_for(&Condition::Mark) {
            self.marked |= attendant.mark();
        }
        if self.waits_for(&Condition::Outside) {
            self.outside = attendant.outside();
        }
        self.next_told = self.next_told.map(|_| now + seconds(POLL_S));
        if !self.is_to_measure(now) {
            return;
        }
        for ((_, known), value) in self.values.iter_mut().zip(values) {
            *known = value;
        }
        if attendant.is_watching()
            && let Some(waiting) = self.waiting(now)
        {
            attendant.waits(&waiting);
        }
        let mut histories = self.steady.iter_mut();
        for part in &self.parts {
            if let Condition::Stable { probe, time, .. } = part
                && let Some(history) = histories.next()
            {
                let value = self.values.iter().find(|(p, _)| p == probe).and_then(|(_, v)| *v);
                match value {
                    Some(value) => history.push((now, value)),
                    None => history.clear(),
                }
                // Keep one value older than the window.
                let old = history.iter().take_while(|(t, _)| now - *t > *time).count();
                history.drain(..old.saturating_sub(1));
            }
        }
        self.next_poll = Some(now + self.every);
    }

    /// How far the value is that ends the segment once it is large enough.
    fn waiting(&mut self, now: Time) -> Option<Waiting> {
        let found = self.stops.iter().find_map(|stop| match &stop.when {
            Condition::Reading { probe, relation: Relation::AtLeast, limit_si } => {
                Some((probe, *limit_si))
            }
            _ => None,
        });
        let (probe, limit) = found.filter(|(_, limit)| limit.is_finite())?;
        let value = self.values.iter().find(|(known, _)| known == probe)?.1?;
        self.on_its_way.push_back((now, value));
        while self.on_its_way.front().is_some_and(|(then, _)| now - *then > seconds(GOES_S)) {
            self.on_its_way.pop_front();
        }
        // Two looks tell where it goes, one does not.
        let (then, was) = *self.on_its_way.front()?;
        if now - then < seconds(SEEN_S) {
            return None;
        }
        let rises = (value - was) / (now - then).si().max(1e-9);
        let left = (limit - value) / rises;
        let of = |si| Quantity { si, dimension: probe.dimension };
        Some(Waiting {
            of: probe.of.to_string().replace('`', ""),
            value: of(value),
            towards: of(limit),
            left: (rises > 0.0 && left.is_finite() && left > 0.0).then(|| seconds(left)),
        })
    }

    /// Puts the next look off until a moment.
    pub(super) fn not_before(&mut self, moment: Time) {
        self.next_poll = self.next_poll.map(|at| at.max(moment));
        self.next_told = self.next_told.map(|at| at.max(moment));
    }

    /// The next moment at which something may hold without a contact changing.
    pub(super) fn wake(&self, now: Time) -> Option<Time> {
        let times = self.parts.iter().filter_map(|c| match c {
            Condition::After(t) => Some(self.start + *t),
            _ => None,
        });
        times.chain(self.next_poll).chain(self.next_told).filter(|t| *t > now).reduce(Time::min)
    }

    /// The first stop that holds now.
    pub(super) fn met(&self, now: Time, contacts: &Debounce) -> Option<usize> {
        let mut steady = self.steady.iter();
        let mut met = None;
        for (index, stop) in self.stops.iter().enumerate() {
            // Every condition is looked at, so that each takes its own history.
            if self.holds(&stop.when, now, contacts, &mut steady) && met.is_none() {
                met = Some(index);
            }
        }
        met
    }

    fn holds<'h>(
        &self,
        condition: &Condition,
        now: Time,
        contacts: &Debounce,
        steady: &mut impl Iterator<Item = &'h Vec<(Time, f64)>>,
    ) -> bool {
        let value =
            |probe: &Probe| self.values.iter().find(|(p, _)| p == probe).and_then(|(_, v)| *v);
        match condition {
            Condition::After(time) => now >= self.start + *time,
            Condition::Contact { signal, closed } => contacts.is(signal, *closed),
            Condition::Edge { signal, closed } => contacts
                .edges()
                .iter()
                .any(|e: &Edge| e.signal == *signal && e.closed == *closed && e.time >= self.start),
            Condition::Reading { probe, relation, limit_si } => {
                value(probe).is_some_and(|v| relation.holds(v, *limit_si))
            }
            Condition::Stable { within, time, .. } => steady.next().is_some_and(|history| {
                let long_enough = history.first().is_some_and(|(t, _)| now - *t >= *time);
                let low = history.iter().map(|(_, v)| *v).fold(f64::INFINITY, f64::min);
                let high = history.iter().map(|(_, v)| *v).fold(f64::NEG_INFINITY, f64::max);
                long_enough && high - low <= within * high.abs().max(low.abs())
            }),
            Condition::Mark => self.marked,
            Condition::Outside => self.outside,
            Condition::Any(inner) => {
                let all: Vec<bool> =
                    inner.iter().map(|c| self.holds(c, now, contacts, steady)).collect();
                all.contains(&true)
            }
            Condition::All(inner) => {
                let all: Vec<bool> =
                    inner.iter().map(|c| self.holds(c, now, contacts, steady)).collect();
                !all.contains(&false)
            }
            _ => false,
        }
    }

    fn waits_for(&self, what: &Condition) -> bool {
        self.parts.contains(&what)
    }
}
