//! Points of a breaker's tests, and what their values are held against.

use super::meaning::meaning;
use super::seen::Shown;
use super::step::{Step, TRAVEL, seen_contacts};
use crate::circuit_breaker::asset::{CircuitBreaker, Measurand};
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Switching};
use waltron_core::quantity::Quantity;
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// What a measured value of a breaker must keep.
pub(super) const LIMIT: Criterion = Criterion::named("breaker_limit");

/// What everything of a test is graded with.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Setup {
    pub(super) test: Name,
    pub(super) of: CircuitBreaker,
    pub(super) rig: Capability,
    /// The rated frequency, in Hz.
    pub(super) hertz: Option<f64>,
}

/// A point of an operation: what is measured, and of which contact, coil or pole.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Wanted {
    pub(super) what: Measurand,
    /// `L1`, `trip 1`, `52a`; empty of the whole.
    pub(super) of: String,
    /// The control voltage as a share of the rated one.
    pub(super) share: f64,
}

impl Wanted {
    /// Something of a contact, coil or pole, at the rated control voltage.
    pub(super) fn of(what: Measurand, of: &str) -> Self {
        Self { what, of: of.to_owned(), share: 1.0 }
    }
}

/// A measured value in SI with what makes it uncertain; or why there is none.
pub(super) type Measured = Result<Estimate, Missing>;

/// Why there is no value.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Missing {
    /// The breaker did not do what it must: that fails.
    Undone(String),
    /// It cannot be told.
    Untold(String),
}

impl Setup {
    pub(super) fn point(&self, label: &str, wanted: &Wanted) -> PointId {
        let what = wanted.what.key().replace('_', "-");
        let place = match wanted.of.as_str() {
            "" => String::new(),
            of => format!("/{}", of.replace(' ', "-")),
        };
        let label = if label.is_empty() { String::new() } else { format!("{label}/") };
        let id = format!("{}/{label}{what}{place}", self.test);
        PointId { id, test: self.test.clone(), element: None, fault_loop: None }
    }

    /// How often a program commands it to close, or to open.
    pub(super) fn commands(&self, program: &Program, closes: bool) -> u32 {
        let is_one = |s: &&Switching| {
            s.closed && self.of.coils(closes).any(|coil| coil.command() == s.output)
        };
        let each = program.segments.iter().flat_map(|segment| &segment.switches);
        u32::try_from(each.filter(is_one).count()).unwrap_or(u32::MAX)
    }

    /// The points of an operation, as far as the rig sees what they need.
    pub(super) fn wanted(&self, step: &Step) -> Vec<Wanted> {
        let mut all = Vec::new();
        let mut add = |what: Measurand, of: &str| {
            all.push(Wanted { share: step.share, ..Wanted::of(what, of) })
        };
        let (of, operation) = (&self.of, step.operation);
        let contacts = seen_contacts(of, &self.rig);
        let is_single = operation.closes() != operation.opens();
        let begins_closed = operation.begins_closed();
        if operation.opens() && begins_closed {
            contacts.iter().for_each(|(_, name)| add(Measurand::OpeningTime, name.as_str()));
            self.spreads(&contacts, false, &mut add);
        }
        if operation.closes() {
            contacts.iter().for_each(|(_, name)| add(Measurand::ClosingTime, name.as_str()));
            self.spreads(&contacts, true, &mut add);
        }
        if operation.closes() && begins_closed {
            add(Measurand::OpenCloseTime, "");
        }
        if operation.closes() && operation.opens() && operation.word().ends_with('O') {
            add(Measurand::CloseOpenTime, "");
        }
        if !is_single {
            return all;
        }
        if operation.closes() {
            contacts.iter().for_each(|(_, name)| add(Measurand::BounceTime, name.as_str()));
        }
        for auxiliary in of.auxiliaries.iter().filter(|a| self.rig.sees(&a.name)) {
            add(Measurand::AuxiliaryLag, auxiliary.name.as_str());
        }
        let coil = if operation.closes() { &step.close } else { &step.trip };
        if let Some(coil) = coil.as_ref().filter(|c| self.has_meter(&c.current())) {
            add(Measurand::CoilPeak, &coil.name);
            // An alternating current has no dip.
            if !coil.is_ac {
                add(Measurand::NotchTime, &coil.name);
            }
            add(Measurand::CoilPlateau, &coil.name);
        }
        if of.transducer.is_some() && self.has_meter(&TRAVEL.into()) {
            add(Measurand::Stroke, "");
            add(Measurand::Overtravel, "");
            add(Measurand::DampingTime, "");
            let speed =
                if operation.closes() { Measurand::ClosingSpeed } else { Measurand::OpeningSpeed };
            add(speed, "");
        }
        all
    }

    fn spreads(
        &self,
        contacts: &[(usize, Name)],
        closes: bool,
        add: &mut impl FnMut(Measurand, &str),
    ) {
        let (poles, units) = match closes {
            true => (Measurand::PoleSpreadClosing, Measurand::UnitSpreadClosing),
            false => (Measurand::PoleSpreadOpening, Measurand::UnitSpreadOpening),
        };
        let mut seen: Vec<usize> = contacts.iter().map(|(pole, _)| *pole).collect();
        seen.dedup();
        if seen.len() > 1 {
            add(poles, "");
        }
        for pole in seen {
            if contacts.iter().filter(|(k, _)| *k == pole).count() > 1 {
                add(units, &self.of.poles[pole]);
            }
        }
    }

    fn has_meter(&self, meaning: &Name) -> bool {
        self.rig.meters.iter().any(|m| m.meaning == *meaning)
    }

    /// What an operation has shown of everything that was wanted.
    pub(super) fn grade(&self, step: &Step, program: &Program, seen: &Observation) -> Vec<Finding> {
        let shown = Shown::new(self, step, program, seen);
        let wanted = self.wanted(step);
        let stimulus = Values::none().with_percent("control_voltage", step.share);
        let each = wanted.iter();
        let found = each.map(|w| {
            let point = self.point(&step.label, w);
            let found = Finding::not_tested(point, LIMIT, stimulus.clone(), "");
            self.judged_with(found, w, shown.measured(w), |above| shown.note(w, above))
        });
        found.collect()
    }

    /// A point with its verdict.
    pub(super) fn finding(
        &self,
        label: &str,
        wanted: &Wanted,
        stimulus: Values,
        measured: Measured,
    ) -> Finding {
        let found = Finding::not_tested(self.point(label, wanted), LIMIT, stimulus, "");
        self.judged(found, wanted, measured)
    }

    pub(super) fn judged(&self, found: Finding, wanted: &Wanted, measured: Measured) -> Finding {
        let what = wanted.what;
        let note = |is_above: bool| meaning(what, is_above).map(str::to_owned);
        self.judged_with(found, wanted, measured, note)
    }

    /// A value held against its limits; `note` tells what else is to be known of one that lies above them,
    /// or below.
    fn judged_with(
        &self,
        found: Finding,
        wanted: &Wanted,
        measured: Measured,
        note: impl Fn(bool) -> Option<String>,
    ) -> Finding {
        let what = wanted.what;
        let quantity = |si| Quantity { si, dimension: what.dimension() };
        let span = self.of.limit(what, &wanted.of, wanted.share);
        let limits = match span {
            Some(span) => Limits::Between {
                lower: span.min.map(|si| Value::Plain(quantity(si))),
                upper: span.max.map(|si| Value::Plain(quantity(si))),
            },
            None => Limits::None,
        };
        let found = Finding { limits, ..found };
        let of = if wanted.of.is_empty() { String::new() } else { format!(" of {}", wanted.of) };
        let estimate = match measured {
            Ok(value) => value,
            Err(Missing::Undone(why)) => {
                return found.judged(Judgement::new(Verdict::Fail, why));
            }
            Err(Missing::Untold(why)) => {
                return found.judged(Judgement::new(Verdict::Inconclusive, why));
            }
        };
        let si = estimate.value;
        let measured = Values::none().with_quantity("value", quantity(si));
        let found = Finding { measured, ..found }.uncertain(&estimate);
        let words = format!("{}{of}", what.words());
        let judged = match span {
            Some(span) => {
                let (low, high) =
                    (span.min.unwrap_or(f64::NEG_INFINITY), span.max.unwrap_or(f64::INFINITY));
                let judged = judge_between(quantity(si), low, high);
                let by = span.standard.map(|s| format!(" ({s})")).unwrap_or_default();
                let mut reason = format!("{words}: {}{by}", judged.reason);
                if let Some(note) = note(si > high).filter(|_| judged.verdict == Verdict::Fail) {
                    reason = format!("{reason}; {note}");
                }
                Judgement::new(judged.verdict, reason)
            }
            None if self.of.limit(what, &wanted.of, 1.0).is_some() => {
                let reason = format!("{words}: the file has no limit at this control voltage");
                Judgement::new(Verdict::Measured, reason)
            }
            None if self.of.limits.is_required(what) => {
                Judgement::new(Verdict::Inconclusive, format!("{words}: {UNASSESSED}"))
            }
            None => Judgement::new(Verdict::Measured, format!("{words}: the file has no limit")),
        };
        found.judged(judged)
    }
}

/// What is said of a value that needs a limit, or somebody who assesses it.
pub(super) const UNASSESSED: &str = "the file has no limit, and nobody has assessed it";
