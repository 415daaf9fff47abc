//! What an operation has shown, point by point.

use super::grade::{Measured, Missing, Setup, Wanted};
use super::meaning::meaning;
use super::step::{RATE_HZ, Step, TRAVEL, seen_contacts};
use crate::circuit_breaker::analysis::contact::{Touch, Window, closing, opening, spread};
use crate::circuit_breaker::analysis::{coil, travel};
use crate::circuit_breaker::asset::{Coil, Measurand};
use waltron_core::grading::Value;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::quantity::{Dimension, Measure, Quantity, seconds};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// An operation as it was seen.
pub(super) struct Shown<'a> {
    setup: &'a Setup,
    step: &'a Step,
    seen: &'a Observation,
    contacts: Vec<(usize, Name)>,
    /// When each command came, and up to when what follows it counts: closing?
    commands: Vec<(bool, Window)>,
}

impl<'a> Shown<'a> {
    pub(super) fn new(
        setup: &'a Setup,
        step: &'a Step,
        program: &Program,
        seen: &'a Observation,
    ) -> Self {
        let end = seen.length().si();
        let mut commands: Vec<(bool, Window)> = Vec::new();
        for (segment, span) in program.segments.iter().zip(&seen.segments) {
            let closes = match segment.name.as_str() {
                "close" => true,
                "open" => false,
                _ => continue,
            };
            if let Some((_, before)) = commands.last_mut() {
                before.to_s = span.start.si();
            }
            commands.push((closes, Window { from_s: span.start.si(), to_s: end }));
        }
        let contacts = seen_contacts(&setup.of, &setup.rig);
        Self { setup, step, seen, contacts, commands }
    }

    /// A time between two changes of contacts, or from a command of the rig.
    fn timed(&self, time_s: f64, ends: [Option<&Name>; 2]) -> Estimate {
        self.setup.rig.timed_between(seconds(time_s), ends, self.seen.host_timing)
    }

    /// A time that is read off samples.
    fn sampled(&self, time_s: f64) -> Estimate {
        let step = Quantity { si: 1.0 / RATE_HZ, dimension: Dimension::TIME };
        self.timed(time_s, [None, None]).with(Cause::limit("sampling", Value::Plain(step)), 1.0)
    }

    /// The first opening, and the closing with what opened behind it.
    fn first(&self, closes: bool) -> Option<Window> {
        self.commands.iter().find(|(is, _)| *is == closes).map(|(_, window)| *window)
    }

    /// What is told where nothing moved at all.
    fn nothing_moved(&self) -> Option<Missing> {
        let is_main = |name: &Name| self.contacts.iter().any(|(_, n)| n == name);
        if self.seen.raw_edges.iter().any(|edge| is_main(&edge.signal)) {
            return None;
        }
        let closes = self.step.operation.word().starts_with('C');
        let coil = if closes { &self.step.close } else { &self.step.trip };
        let current = coil.as_ref().and_then(|coil| self.coil(coil));
        let why = match (current, closes) {
            // Its wave does not tell whether the plunger moved.
            (Some(Ok(_)), _) if coil.as_ref().is_some_and(|coil| coil.is_ac) => {
                "no contact changed, although its coil carried current: latch or plunger stuck, spring not charged, or the contacts' leads off".to_owned()
            }
            (Some(Ok(current)), _) if current.peak.is_none() && current.most_a > 0.0 => {
                "no contact changed, although its coil carried current: its plunger did not move: latch or plunger stuck, or too low a voltage".to_owned()
            }
            (Some(Ok(_)), true) => {
                "no contact changed, although the coil's plunger moved: spring not charged, under-voltage release or blocking coil not bypassed, or the contacts' leads off".to_owned()
            }
            (Some(Ok(_)), false) => {
                "no contact changed, although the coil's plunger moved: mechanism stuck, or the contacts' leads off".to_owned()
            }
            (Some(Err(_)), _) => {
                "no contact changed, and its coil carried no current: its circuit is open: auxiliary contact, local operation, leads".to_owned()
            }
            (None, _) => {
                "no contact changed: spring, local operation, under-voltage release, blocking coil, leads of coil and contacts".to_owned()
            }
        };
        // It was commanded, and did not do it: that is a failure, wherever its cause lies.
        Some(Missing::Undone(why))
    }

    /// When a contact parted by the first trip, after its command, in s.
    fn parted(&self, contact: &Name) -> Result<f64, Missing> {
        let none = || Missing::Untold("it was not tripped".to_owned());
        let window = self.first(false).ok_or_else(none)?;
        opening(self.seen, contact, window).map(|at| at - window.from_s).map_err(Missing::Undone)
    }

    /// When a contact touched, and, closed and opened at once, when it parted again: since the program's
    /// start.
    fn touched(&self, contact: &Name) -> Result<(Touch, Option<f64>), Missing> {
        let none = || Missing::Untold("it was not closed".to_owned());
        let window = self.first(true).ok_or_else(none)?;
        let behind = self.commands.iter().rfind(|(closes, w)| !closes && w.from_s > window.from_s);
        let Some((_, opens)) = behind else {
            return Ok((closing(self.seen, contact, window).map_err(Missing::Undone)?, None));
        };
        // It is tripped as soon as the first pole touches: others touch, and bounce, after that.
        let changes = self.seen.raw_edges.iter().filter(|e| e.signal == *contact);
        let later = changes.filter(|e| e.time.si() > window.from_s);
        let last = later.clone().next_back();
        let parted = last.filter(|e| !e.closed && e.time.si() > opens.from_s);
        let parted = parted.map(|e| e.time.si());
        let to_s = parted.map_or(opens.to_s, |at| at - 1e-9);
        let window = Window { from_s: window.from_s, to_s };
        let touch = closing(self.seen, contact, window).map_err(Missing::Undone)?;
        match parted {
            Some(at) => Ok((touch, Some(at))),
            None => Err(Missing::Undone(format!("{contact} did not open again"))),
        }
    }

    pub(super) fn measured(&self, wanted: &Wanted) -> Measured {
        // What its coil took is there whether it moved or not.
        let coil = [Measurand::CoilPeak, Measurand::NotchTime, Measurand::CoilPlateau];
        if let Some(nothing) = self.nothing_moved().filter(|_| !coil.contains(&wanted.what)) {
            return Err(nothing);
        }
        let name: Name = wanted.of.as_str().into();
        let contact = |k: usize| self.contacts.get(k).map(|(_, name)| name);
        let last = contact(self.contacts.len().saturating_sub(1));
        let from_command = |time: f64| self.timed(time, [None, Some(&name)]);
        match wanted.what {
            Measurand::OpeningTime => self.parted(&name).map(from_command),
            Measurand::ClosingTime => self.closing_time(&name).map(from_command),
            Measurand::PoleSpreadOpening
            | Measurand::PoleSpreadClosing
            | Measurand::UnitSpreadOpening
            | Measurand::UnitSpreadClosing => self.spread(wanted),
            Measurand::BounceTime => {
                let (touch, _) = self.touched(&name)?;
                Ok(self.timed(touch.last_s - touch.first_s, [Some(&name), Some(&name)]))
            }
            Measurand::CloseOpenTime => {
                let all = self.each(|contact| self.touched(contact))?;
                let first = all.iter().map(|(t, _)| t.first_s).fold(f64::INFINITY, f64::min);
                let last_s = all.iter().filter_map(|(_, at)| *at).fold(0.0, f64::max);
                Ok(self.timed(last_s - first, [contact(0), last]))
            }
            Measurand::OpenCloseTime => {
                let trip = self.first(false).map_or(0.0, |w| w.from_s);
                let parted = self.each(|contact| self.parted(contact))?;
                let touched = self.each(|contact| self.touched(contact))?;
                let last_s = parted.iter().copied().fold(0.0, f64::max) + trip;
                let first = touched.iter().map(|(t, _)| t.first_s).fold(f64::INFINITY, f64::min);
                Ok(self.timed(first - last_s, [contact(0), last]))
            }
            Measurand::AuxiliaryLag => {
                self.auxiliary(&name).map(|lag| self.timed(lag, [contact(0), Some(&name)]))
            }
            Measurand::CoilPeak | Measurand::NotchTime | Measurand::CoilPlateau => {
                self.of_coil(wanted)
            }
            Measurand::Stroke
            | Measurand::Overtravel
            | Measurand::DampingTime
            | Measurand::ClosingSpeed
            | Measurand::OpeningSpeed => self.of_travel(wanted.what),
            _ => Err(Missing::Untold("no operation tells it".to_owned())),
        }
    }

    fn each<T>(&self, of: impl Fn(&Name) -> Result<T, Missing>) -> Result<Vec<T>, Missing> {
        self.contacts.iter().map(|(_, name)| of(name)).collect()
    }

    fn closing_time(&self, contact: &Name) -> Result<f64, Missing> {
        let from = self.first(true).map_or(0.0, |w| w.from_s);
        self.touched(contact).map(|(touch, _)| touch.first_s - from)
    }

    /// A time of each contact: of a pole with units in series the first to part, the last to touch.
    fn time(&self, contact: &Name, closes: bool) -> Result<f64, Missing> {
        if closes { self.closing_time(contact) } else { self.parted(contact) }
    }

    /// What is compared where something is a difference: each pole, or each unit of one, with its time.
    fn compared(&self, wanted: &Wanted) -> Result<Vec<(String, f64)>, Missing> {
        let closes =
            matches!(wanted.what, Measurand::PoleSpreadClosing | Measurand::UnitSpreadClosing);
        let poles = self.setup.of.poles.iter().enumerate();
        let time = |name: &Name| Ok((name.to_string(), self.time(name, closes)?));
        if matches!(wanted.what, Measurand::UnitSpreadOpening | Measurand::UnitSpreadClosing) {
            let units = self.contacts.iter().filter(|(k, _)| self.setup.of.poles[*k] == wanted.of);
            return units.map(|(_, name)| time(name)).collect();
        }
        let mut all = Vec::new();
        for (k, pole) in poles {
            let units = self.contacts.iter().filter(|(of, _)| *of == k);
            let times: Vec<f64> =
                units.map(|(_, name)| self.time(name, closes)).collect::<Result<_, _>>()?;
            // Current flows when the last unit of a pole touches, and ends when the first one parts.
            let of_pole = times.into_iter().reduce(if closes { f64::max } else { f64::min });
            all.extend(of_pole.map(|time| (pole.clone(), time)));
        }
        Ok(all)
    }

    fn spread(&self, wanted: &Wanted) -> Measured {
        let mut all = self.compared(wanted)?;
        let times: Vec<f64> = all.iter().map(|(_, time)| *time).collect();
        let none = || Missing::Untold("fewer than two were seen".to_owned());
        let value = spread(&times).ok_or_else(none)?;
        all.sort_by(|a, b| a.1.total_cmp(&b.1));
        let end = |at: Option<&(String, f64)>| at.map(|(name, _)| Name::from(name.as_str()));
        let (first, last) = (end(all.first()), end(all.last()));
        Ok(self.timed(value, [first.as_ref(), last.as_ref()]))
    }

    /// What else is to be known of something that lies beside its limits: which pole it is, where to look.
    pub(super) fn note(&self, wanted: &Wanted, is_above: bool) -> Option<String> {
        let of = &self.setup.of;
        match wanted.what {
            Measurand::PoleSpreadOpening
            | Measurand::PoleSpreadClosing
            | Measurand::UnitSpreadOpening
            | Measurand::UnitSpreadClosing => {
                let mut times = self.compared(wanted).ok()?;
                times.sort_by(|a, b| a.1.total_cmp(&b.1));
                let (first, last) = (times.first()?, times.last()?);
                let ms = |si| Quantity { si, dimension: Dimension::TIME }.to_string();
                let (late, early) = (ms(last.1), ms(first.1));
                Some(format!("{} last at {late}, {} first at {early}", last.0, first.0))
            }
            // The coil's dip tells what is late: its plunger, or what comes behind it.
            Measurand::OpeningTime | Measurand::ClosingTime if is_above => {
                let closes = wanted.what == Measurand::ClosingTime;
                let coil = if closes { &self.step.close } else { &self.step.trip };
                let coil = coil.as_ref()?;
                let (_, dip) = self.coil(coil)?.ok()?.notch?;
                let span = of.limit(Measurand::NotchTime, &coil.name, wanted.share)?;
                Some(match dip <= span.max? {
                    true => "the coil's plunger came in time: look behind it, at latch, springs, bearings, linkage".to_owned(),
                    false => "the coil's plunger was late already: look at the coil, its supply, its plunger".to_owned(),
                })
            }
            what => meaning(what, is_above).map(str::to_owned),
        }
    }

    /// The auxiliary contact that must be the other way and is the same, at a time, and how both are.
    fn both(&self, name: &Name, at_s: f64) -> Option<(Name, &'static str)> {
        let all = &self.setup.of.auxiliaries;
        let follows = all.iter().find(|a| a.name == *name)?.follows;
        let state = |of: &Name| self.seen.closed_before(of, seconds(at_s + 1e-9));
        let is = state(name);
        let others = all.iter().filter(|a| a.follows != follows && self.setup.rig.sees(&a.name));
        let same = others.map(|a| &a.name).find(|other| state(other) == is)?;
        Some((same.clone(), if is { "closed" } else { "open" }))
    }

    /// From the first main contact's change to the auxiliary contact's.
    fn auxiliary(&self, name: &Name) -> Result<f64, Missing> {
        let closes = self.step.operation.closes();
        let window = self.first(closes).ok_or(Missing::Untold("no command was given".into()))?;
        let main = self.each(|contact| self.time(contact, closes))?;
        let main = main.into_iter().fold(f64::INFINITY, f64::min);
        let change =
            self.seen.raw_edges.iter().find(|e| {
                e.signal == *name && (window.from_s..=window.to_s).contains(&e.time.si())
            });
        let undone = || {
            let mut why = format!(
                "{name} did not change although the main contacts did: welded, out of adjustment, or not wired"
            );
            let at = [(window.from_s, "before it"), (window.to_s, "behind it")].into_iter();
            let mut both = at.filter_map(|(at, when)| Some((when, self.both(name, at)?)));
            if let Some((when, (other, both))) = both.next() {
                why = format!(
                    "{why}; {when} {name} and {other} are both {both}, and of a change-over contact one is the other way"
                );
            }
            Missing::Undone(why)
        };
        let change = change.ok_or_else(undone)?;
        let of = self.setup.of.auxiliaries.iter().find(|a| a.name == *name);
        if of.is_some_and(|of| (of.follows == closes) != change.closed) {
            let told =
                "changed the wrong way: it is the other kind of contact, or wired the other way";
            return Err(Missing::Undone(format!("{name} {told}")));
        }
        Ok(change.time.si() - window.from_s - main)
    }

    /// Why a waveform says nothing of a command: it ends before the contacts have done what followed.
    fn ends_early(&self, of: &Name, window: Window) -> Option<Missing> {
        let captured = self.seen.captures.first()?;
        let track = captured.tracks.iter().find(|t| t.of == *of)?;
        let end = captured.start.si() + track.samples.len() as f64 / captured.rate_hz;
        let is_main = |name: &Name| self.contacts.iter().any(|(_, n)| n == name);
        let within = window.from_s..=window.to_s;
        let edges = self.seen.raw_edges.iter().filter(|e| is_main(&e.signal));
        let times = edges.map(|e| e.time.si()).filter(|at| within.contains(at));
        let last = times.fold(window.from_s, f64::max);
        let told = |si: f64| Quantity { si, dimension: Dimension::TIME };
        (end < last).then(|| {
            Missing::Untold(format!(
                "its waveform ends at {} and the contacts changed until {}: it is shorter than the operation",
                told(end),
                told(last)
            ))
        })
    }

    /// A coil's current from its command on; nothing where nobody looked.
    fn coil(&self, of: &Coil) -> Option<Result<coil::CoilCurrent, Missing>> {
        let window = self.first(of.closes)?;
        let samples = self.samples(&of.current(), window)?;
        if let Some(short) = self.ends_early(&of.current(), window) {
            return Some(Err(short));
        }
        let none = || Missing::Untold(format!("no current came through coil {}", of.name));
        let read = match self.setup.hertz.filter(|_| of.is_ac) {
            Some(hertz) => coil::read_alternating(&samples, RATE_HZ, hertz),
            None => coil::read(&samples, RATE_HZ),
        };
        Some(read.filter(|c| c.most_a > 0.01 * full(of)).ok_or_else(none))
    }

    fn samples(&self, of: &Name, window: Window) -> Option<Vec<f64>> {
        let captured = self.seen.captures.first()?;
        let track = captured.tracks.iter().find(|t| t.of == *of)?;
        let start = captured.start.si();
        let at = |time: f64| ((time - start) * captured.rate_hz).round().max(0.0) as usize;
        let to = at(window.to_s).min(track.samples.len());
        // A record keeps its samples beside it.
        track
            .samples
            .get(at(window.from_s).min(to)..to)
            .filter(|s| !s.is_empty())
            .map(<[f64]>::to_vec)
    }

    /// What a meter shows.
    fn shown(&self, of: &Name, value: f64) -> Estimate {
        self.setup.rig.seen(of, value.into()).real()
    }

    fn of_coil(&self, wanted: &Wanted) -> Measured {
        let of = self.setup.of.coils.iter().find(|c| c.name == wanted.of);
        let lacks = || Missing::Untold("its samples are not there".to_owned());
        let of = of.ok_or_else(lacks)?;
        let current = self.coil(of).ok_or_else(lacks)??;
        let shown = |amps: f64| self.shown(&of.current(), amps);
        let amps = |si: f64| Quantity { si, dimension: Dimension::CURRENT };
        let of_peak = |peak: f64| shown(peak).with_beside(scatters(amps(current.scatter_a)), 1.0);
        if of.is_ac && wanted.what == Measurand::CoilPeak {
            return current.peak.map(|(amps, _)| of_peak(amps)).ok_or_else(lacks);
        }
        let moved = current.peak.zip(current.notch);
        let stuck = || {
            Missing::Undone(
                "the current has no dip: the plunger did not move, or did not come to its stop"
                    .to_owned(),
            )
        };
        match wanted.what {
            Measurand::CoilPeak => moved.map(|((amps, _), _)| of_peak(amps)).ok_or_else(stuck),
            Measurand::NotchTime => {
                let flat = Quantity { si: current.notch_limit_s, dimension: Dimension::TIME };
                let flat = Cause::limit("flat bottom", Value::Plain(flat));
                let told = moved.map(|(_, (_, at))| self.sampled(at).with(flat, 1.0));
                told.ok_or_else(stuck)
            }
            _ => {
                let short =
                    || Missing::Untold("the coil was cut off before its current settled".into());
                current.plateau_a.map(shown).ok_or_else(short)
            }
        }
    }

    fn of_travel(&self, what: Measurand) -> Measured {
        let lacks = || Missing::Untold("its samples are not there".to_owned());
        let of = self.setup.of.transducer.ok_or_else(lacks)?;
        let closes = self.step.operation.closes();
        let window = self.first(closes).ok_or_else(lacks)?;
        let samples = self.samples(&TRAVEL.into(), window).ok_or_else(lacks)?;
        if let Some(short) = self.ends_early(&TRAVEL.into(), window) {
            return Err(short);
        }
        let scale = of.stroke_rad / of.shows_v;
        let angles: Vec<f64> = samples.iter().map(|v| v * scale).collect();
        let still =
            || Missing::Undone("the shaft did not turn: transducer off, or not coupled".into());
        // The first contact tells where touching and parting are.
        let contacts = self.contacts.iter().filter_map(|(_, name)| self.time(name, closes).ok());
        let contact_s = contacts.reduce(f64::min);
        let seen = travel::read(&angles, RATE_HZ, contact_s, of.stroke_rad).ok_or_else(still)?;
        // Of a difference between two places, in which what the meter is off by everywhere drops out; what it scatters by
        // does not.
        let by_travel = |angle: f64| {
            let at = |angle: f64| self.shown(&TRAVEL.into(), angle / scale).times(scale);
            let scatter = Quantity { si: seen.scatter, dimension: Dimension::ANGLE };
            at(angle).minus(&at(0.0)).with_beside(scatters(scatter), 2f64.sqrt())
        };
        let unknown = || Missing::Untold("no contact tells where its speed is taken".to_owned());
        Ok(match what {
            Measurand::Stroke => by_travel(seen.stroke),
            Measurand::Overtravel => by_travel(seen.overtravel),
            Measurand::DampingTime => {
                let none = || Missing::Untold("it did not come to rest behind the contacts".into());
                let damping = seen.damping.ok_or_else(none)?;
                let limit = Quantity { si: damping.limit_s, dimension: Dimension::TIME };
                let slow = Cause::limit("coming to rest", Value::Plain(limit));
                self.sampled(damping.time_s).with(slow, 1.0)
            }
            _ => {
                let speed = seen.speed.ok_or_else(unknown)?;
                let value = speed.value;
                let told =
                    by_travel(value * travel::SPEED_S).function(value, 1.0 / travel::SPEED_S);
                // Where it is taken is as sure as the contact's time.
                let name = self.contacts.first().map(|(_, name)| name);
                let when = self.timed(contact_s.unwrap_or(0.0), [None, name]);
                let is_stated = told.is_stated();
                if is_stated { told.joined(&when, value, [1.0, speed.later]) } else { told }
            }
        })
    }
}

/// What samples scatter by, as a cause.
pub(super) fn scatters(deviation: Quantity) -> Cause {
    Cause::scatter("scatter of samples", Value::Plain(deviation))
}

/// The current that a coil settles to by its nameplate, in A; a small one where that does not tell.
fn full(of: &Coil) -> f64 {
    of.ohm.map_or(0.1, |ohm| of.voltage_v / ohm)
}
