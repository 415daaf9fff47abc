//! Conditions and contacts by themselves, against a plain reckoning.
#![allow(clippy::unwrap_used)]

use super::debounce::Debounce;
use super::watch::Watch;
use crate::attendant::{Attendant, Waiting};
use proptest::prelude::*;
use waltron_core::injection::capability::{Capability, Input};
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::program::{Condition, Relation, Stop, Then};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Dimension, Time, seconds};

/// Looks on, and sets the mark once.
#[derive(Default)]
struct Looking {
    waits: Vec<Waiting>,
    marks: bool,
    outside: bool,
    watches: bool,
}

impl Attendant for Looking {
    fn ask(&mut self, _: &Question) -> Answer {
        Answer::Stop
    }
    fn mark(&mut self) -> bool {
        std::mem::take(&mut self.marks)
    }
    fn outside(&mut self) -> bool {
        self.outside
    }
    fn is_watching(&self) -> bool {
        self.watches
    }
    fn waits(&mut self, waiting: &Waiting) {
        self.waits.push(waiting.clone());
    }
    fn wants_to_stop(&self) -> bool {
        false
    }
}

fn capability(debounce: f64) -> Capability {
    let input = |meaning: &str| Input {
        id: meaning.into(),
        meaning: meaning.into(),
        debounce: seconds(debounce),
    };
    Capability { inputs: vec![input("trip"), input("start")], ..Capability::none() }
}

fn probe() -> Probe {
    Probe { of: "current".into(), what: Property::Dc, dimension: Dimension::CURRENT }
}

fn edge(signal: &str, closed: bool, time: f64) -> Edge {
    Edge { signal: signal.into(), closed, time: seconds(time) }
}

fn stop(when: Condition) -> Stop {
    Stop { when, then: Then::End }
}

/// Contacts as they are after these changes.
fn contacts(edges: &[Edge]) -> Debounce {
    let mut contacts = Debounce::new(&capability(0.0), &["start".into()], false);
    edges.iter().for_each(|edge| contacts.change(edge));
    contacts
}

/// Each kind of condition, just before and just as it holds; a change before the segment is none of it.
#[test]
fn conditions_hold_from_their_moment_on() {
    let (trip, opens) = (edge("trip", true, 1.2), edge("start", false, 0.4));
    let at = |when: Condition, now: f64, edges: &[Edge]| {
        let stops = [stop(when)];
        let watch = Watch::new(&stops, seconds(1.0), None);
        watch.met(seconds(now), &contacts(edges)).is_some()
    };
    let after = |time| Condition::After(seconds(time));
    assert!(!at(after(0.5), 1.499, &[]) && at(after(0.5), 1.5, &[]));
    let contact = |signal: &str, closed| Condition::Contact { signal: signal.into(), closed };
    let changed = |signal: &str, closed| Condition::Edge { signal: signal.into(), closed };
    let both = [opens.clone(), trip.clone()];
    for (when, holds) in [
        (contact("trip", true), true),
        (contact("trip", false), false),
        (contact("start", false), true),
        (contact("start", true), false),
        (changed("trip", true), true),
        (changed("trip", false), false),
        // Before the segment began.
        (changed("start", false), false),
        (contact("nobody", true), false),
    ] {
        assert_eq!(at(when.clone(), 1.3, &both), holds, "{when:?}");
        let (yes, no) = (contact("trip", true), contact("trip", false));
        let any = |other| Condition::Any(vec![other, when.clone()]);
        let all = |other| Condition::All(vec![other, when.clone()]);
        assert_eq!(at(any(no.clone()), 1.3, &both), holds);
        assert!(at(any(yes.clone()), 1.3, &both));
        assert_eq!(at(all(yes), 1.3, &both), holds);
        assert!(!at(all(no), 1.3, &both));
    }
    // At the segment's very beginning it is of the segment.
    assert!(at(changed("trip", true), 1.0, &[edge("trip", true, 1.0)]));
    // The first that holds is told, whatever holds besides.
    let stops = [stop(after(9.0)), stop(contact("trip", true)), stop(after(0.1))];
    let watch = Watch::new(&stops, seconds(1.0), None);
    assert_eq!(watch.met(seconds(2.0), &contacts(&both)), Some(1));
    assert_eq!(watch.wake(seconds(2.0)), Some(seconds(10.0)));
    assert_eq!(watch.wake(seconds(1.05)), Some(seconds(1.1)));
}

/// A value is looked at as often as wanted, put off where looking took longer, and steady once it has been so for long
/// enough; a value that is missing begins anew.
#[test]
fn values_are_looked_at_in_time() {
    let (near, none) = (contacts(&[]), || Vec::<Option<f64>>::new());
    let reading = |relation, limit_si| Condition::Reading { probe: probe(), relation, limit_si };
    let stable = Condition::Stable { probe: probe(), within: 0.01, time: seconds(0.3) };
    let stops = [stop(reading(Relation::AtLeast, 5.0)), stop(stable)];
    let mut watch = Watch::new(&stops, seconds(0.0), Some(seconds(0.1)));
    let mut nobody = Looking::default();
    assert!(watch.due(seconds(0.0)) && watch.probes(seconds(0.0)).count() == 1);
    watch.poll(seconds(0.0), vec![Some(1.0)], &mut nobody);
    assert!(!watch.due(seconds(0.09)) && watch.probes(seconds(0.09)).next().is_none());
    assert!(watch.due(seconds(0.1)));
    // Looking may have taken until later; it is never brought forward.
    watch.not_before(seconds(0.25));
    assert!(!watch.due(seconds(0.2)) && watch.due(seconds(0.25)));
    watch.not_before(seconds(0.2));
    assert!(!watch.due(seconds(0.2)) && watch.wake(seconds(0.0)) == Some(seconds(0.25)));
    for (at, value, met) in [
        (0.3, Some(1.001), Some(1)),
        (0.4, Some(1.5), None),
        (0.5, Some(1.501), None),
        (0.6, Some(1.502), None),
        (0.75, Some(1.503), Some(1)),
        (0.85, None, None),
        (0.95, Some(1.5), None),
        (1.3, Some(1.5), Some(1)),
        (1.45, Some(5.0), Some(0)),
        (1.6, Some(4.999), None),
    ] {
        watch.poll(seconds(at), vec![value], &mut nobody);
        assert_eq!(watch.met(seconds(at), &near), met, "at {at}");
    }
    let below = [stop(reading(Relation::AtMost, 1.0))];
    let mut watch = Watch::new(&below, seconds(0.0), Some(seconds(0.1)));
    assert_eq!(watch.met(seconds(0.0), &near), None, "nothing was measured yet");
    watch.poll(seconds(0.0), vec![Some(1.0)], &mut nobody);
    assert_eq!(watch.met(seconds(0.0), &near), Some(0));
    // Marks stay; what is outside holds as long as it does.
    let told = [stop(Condition::Outside), stop(Condition::Mark)];
    let mut watch = Watch::new(&told, seconds(0.0), None);
    let mut somebody = Looking { marks: true, outside: true, ..Looking::default() };
    assert!(watch.due(seconds(0.0)));
    watch.poll(seconds(0.0), none(), &mut somebody);
    assert!(!watch.due(seconds(0.0)) && watch.met(seconds(0.0), &near) == Some(0));
    somebody.outside = false;
    watch.poll(seconds(0.1), none(), &mut somebody);
    assert_eq!(watch.met(seconds(0.1), &near), Some(1));
}

/// How long a value takes at its pace: 1 A a second from 2 A at 2 s to 10 A are 8 s more.
#[test]
fn a_value_on_its_way_tells_how_long_it_takes() {
    let limit_si = 10.0;
    let stops =
        [stop(Condition::Reading { probe: probe(), relation: Relation::AtLeast, limit_si })];
    let mut looking = Looking { watches: true, ..Looking::default() };
    let mut watch = Watch::new(&stops, seconds(0.0), Some(seconds(0.1)));
    for tenth in 0..=20 {
        let at = f64::from(tenth) / 10.0;
        watch.poll(seconds(at), vec![Some(at)], &mut looking);
    }
    let last = looking.waits.last().unwrap();
    assert!((last.left.unwrap() - seconds(8.0)).value.abs() < 1e-6, "{last:?}");
    assert_eq!((last.value.si, last.towards.si, last.of.as_str()), (2.0, 10.0, "current"));
    // It stands still, and falls.
    for tenth in 21..=60 {
        watch.poll(seconds(f64::from(tenth) / 10.0), vec![Some(2.0)], &mut looking);
    }
    assert_eq!(looking.waits.last().unwrap().left, None);
    // Once it is there nothing is left.
    watch.poll(seconds(6.5), vec![Some(10.0)], &mut looking);
    let there = looking.waits.last().unwrap();
    assert_eq!((there.value.si, there.left), (10.0, None));
    let told = looking.waits.len();
    looking.watches = false;
    watch.poll(seconds(7.0), vec![Some(3.0)], &mut looking);
    assert_eq!(looking.waits.len(), told, "nobody looks");
}

proptest! {
    /// A change counts once it has lasted for its time, at the time of its beginning.
    #[test]
    fn what_bounces_counts_once_it_has_settled(
        gaps in prop::collection::vec(1u32..12, 0..30),
        rest in 0u32..20,
    ) {
        // In ms; 5 ms of debouncing.
        let mut now = 0;
        let mut closed = false;
        let mut changes = Vec::new();
        for gap in gaps {
            // Whether just as long is long enough is nobody's concern.
            now += if gap == 5 { 6 } else { gap };
            closed = !closed;
            changes.push((now, closed));
        }
        let end = now + if rest == 5 { 6 } else { rest };
        let ms = |t: u32| seconds(f64::from(t) * 1e-3);
        let mut contacts = Debounce::new(&capability(0.005), &[], true);
        for (at, closed) in &changes {
            // Time passes up to each change.
            while let Some(due) = contacts.next_due().filter(|due| *due < ms(*at)) {
                contacts.settle(due);
            }
            contacts.change(&Edge { signal: "trip".into(), closed: *closed, time: ms(*at) });
        }
        while let Some(due) = contacts.next_due().filter(|due| *due <= ms(end)) {
            contacts.settle(due);
        }
        // By hand: a state counts from its change on where the next change is 5 ms away or more.
        let mut due: Vec<(u32, bool)> = Vec::new();
        for (k, (at, closed)) in changes.iter().enumerate() {
            let until = changes.get(k + 1).map_or(end, |next| next.0);
            let known = due.last().is_some_and(|(_, is)| *is);
            if until - at >= 5 && known != *closed {
                due.push((*at, *closed));
            }
        }
        prop_assert_eq!(contacts.is(&"trip".into(), true), due.last().is_some_and(|(_, is)| *is));
        let (edges, raw) = contacts.into_edges();
        prop_assert_eq!(raw.len(), changes.len());
        let seen: Vec<(Time, bool)> = edges.iter().map(|e| (e.time, e.closed)).collect();
        prop_assert_eq!(seen.len(), due.len(), "{:?} {:?}", seen, due);
        for ((time, closed), (at, is)) in seen.iter().zip(&due) {
            prop_assert!((*time - ms(*at)).value.abs() < 1e-9 && closed == is);
        }
    }
}
