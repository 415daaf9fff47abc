//! The course of a resistance test: from place to place with the current on where that may be, held on while
//! something is left to come, discharged before the leads are moved.

use super::graded::{self, Read, Trouble, Went};
use super::places::Places;
use super::programs::{From, Programs};
use super::{CHANGE, DISCHARGE, HOLD};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use waltron_core::grading::{Finding, PointId, Values};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Also, Answer, Injection, Planned, PlannedPoint, Procedure, Question,
};
use waltron_core::quantity::{Quantity, Time, seconds, text};
use waltron_core::uncertainty::Estimate;

/// How often a place where somebody moved too far is tried again.
const RETRIES: u32 = 1;

/// The current as it is now.
#[derive(Clone, Debug, PartialEq)]
enum Flows {
    /// It is off, and nothing is charged.
    No,
    /// It flows at a place, where this was measured.
    At(usize, Read),
}

/// What comes next besides measuring.
#[derive(Clone, Debug, PartialEq)]
enum Due {
    Nothing,
    /// The winding is discharged.
    Discharge,
    /// Outputs go off.
    Off,
    /// Somebody answers.
    Ask(Question),
    /// Outputs go off, and then somebody answers.
    OffAndAsk(Question),
}

/// A resistance test that runs.
pub(super) struct Course {
    places: Places,
    programs: Programs,
    /// Which places are measured.
    chosen: Vec<bool>,
    /// The phases together: which are graded.
    together: Vec<PointId>,
    at: usize,
    flows: Flows,
    due: Due,
    /// How long it was held at this place already.
    held: Time,
    retries: u32,
    /// Resistances as measured with what they are uncertain by, by place.
    found: HashMap<usize, Estimate>,
    /// The same of the other winding in the circuit.
    beside: HashMap<usize, Estimate>,
    /// The places that were come to under current: their changes are graded.
    moved: HashSet<usize>,
    /// What was held at this place since the current came on or the tap was changed.
    seen: Vec<(Arc<Program>, Observation)>,
    confirms: bool,
    next: Option<Arc<Program>>,
}

impl Course {
    pub(super) fn new(places: Places, programs: Programs, confirms: bool) -> Self {
        let chosen = vec![true; places.all.len()];
        let together = places.alike.iter().map(|alike| alike.point.clone()).collect();
        Self {
            places,
            programs,
            chosen,
            together,
            at: 0,
            flows: Flows::No,
            due: Due::Nothing,
            held: seconds(0.0),
            retries: 0,
            found: HashMap::new(),
            beside: HashMap::new(),
            moved: HashSet::new(),
            seen: Vec::new(),
            confirms,
            next: None,
        }
    }

    /// Goes on to the next place that is wanted.
    fn go_on(&mut self) {
        self.at += 1;
        self.pass_by();
        (self.held, self.retries) = (seconds(0.0), 0);
        // The leads are moved, or the tap changer is not made for it: the charge is taken away first.
        let follows = self.places.is_under_current
            && self.places.all.get(self.at).is_some_and(|place| place.change.is_some());
        if !follows && matches!(self.flows, Flows::At(..)) {
            self.due = Due::Discharge;
        }
    }

    fn pass_by(&mut self) {
        while self.at < self.places.all.len() && !self.chosen[self.at] {
            self.at += 1;
        }
    }

    /// The change that leads to a place, where the one before it is measured too.
    fn change(&self, at: usize) -> Option<&PointId> {
        let before = at.checked_sub(1)?;
        self.places.all[at].change.as_ref().filter(|_| self.chosen[before])
    }

    /// The points that a place grades in this run, but for those of the phases together.
    fn own_points(&self, at: usize) -> Vec<PlannedPoint> {
        let all = self.places.points(at).into_iter();
        all.filter(|p| {
            let is_together = self.places.alike.iter().any(|a| a.point == p.point);
            let is_change = self.places.all[at].change.as_ref() == Some(&p.point);
            !is_together && (!is_change || self.change(at).is_some())
        })
        .collect()
    }

    /// What is put out next.
    fn program(&self) -> Program {
        let from = match &self.flows {
            Flows::At(at, _) if *at == self.at => From::Here,
            // What was left out in between is no single step.
            Flows::At(at, read) if at + 1 == self.at && read.volts.is_finite() => {
                From::At(&self.places.all[*at], read.volts)
            }
            _ => From::Off,
        };
        self.programs.at(&self.places, self.at, &from)
    }

    /// The place of the current that flows.
    fn charged_at(&self) -> usize {
        match self.flows {
            Flows::At(at, _) => at,
            Flows::No => self.at.min(self.places.all.len() - 1),
        }
    }

    /// What is graded of the phases together, once all of them that come have come.
    fn together(&self, at: usize) -> Option<Finding> {
        let place = &self.places.all[at];
        let alike = self.places.alike(place)?;
        if !self.together.contains(&alike.point) {
            return None;
        }
        let same = |k: &usize| self.places.all[*k].stands == place.stands;
        let here: Vec<usize> = (0..self.places.all.len()).filter(same).collect();
        if here.iter().any(|k| *k > at && self.chosen[*k]) {
            return None;
        }
        let all: Vec<Option<Estimate>> = here.iter().map(|k| self.found.get(k).cloned()).collect();
        Some(graded::alike(&self.places, &self.programs, alike, &all))
    }

    /// What the place tells of the other winding in the circuit, with its phases against each other after the last.
    fn other(&mut self) -> Vec<Finding> {
        let place = &self.places.all[self.at];
        let held: Vec<graded::Seen<'_>> = self.seen.iter().map(|(p, s)| (&**p, s)).collect();
        let Some((found, settled)) = graded::beside(&self.places, &self.programs, place, &held)
        else {
            return Vec::new();
        };
        if let Some(read) = settled {
            self.beside.insert(self.at, read);
        }
        let mut all = vec![found];
        let comes = self.places.besides().any(|k| k > self.at && self.chosen[k]);
        if let Some(second) = self.places.second.as_ref().filter(|_| !comes) {
            let read = self.places.besides().map(|k| self.beside.get(&k).cloned());
            let read: Vec<Option<Estimate>> = read.collect();
            let point = &second.difference;
            all.push(graded::differ(&self.places, &self.programs, point, &read, false));
        }
        all
    }

    /// Leaves a place with what was read there.
    fn leave(&mut self, read: Result<Read, Trouble>) -> Vec<Finding> {
        let place = &self.places.all[self.at];
        if let Ok(read) = &read
            && read.is_settled(&self.programs)
        {
            self.found.insert(self.at, read.ohm.clone());
        }
        let mut found = vec![graded::resistance(&self.places, &self.programs, place, read)];
        found.extend(self.other());
        found.extend(self.together(self.at));
        self.go_on();
        found
    }
}

impl Procedure for Course {
    fn planned(&self) -> Vec<Planned> {
        let mut all = Vec::new();
        for at in (0..self.places.all.len()).filter(|at| self.chosen[*at]) {
            let place = &self.places.all[at];
            let from = match at.checked_sub(1).filter(|_| self.change(at).is_some()) {
                Some(before) => From::At(&self.places.all[before], 1.0),
                None => From::Off,
            };
            let mut points = self.own_points(at);
            let together = self.places.points(at).into_iter();
            points.extend(together.filter(|p| self.together.contains(&p.point)));
            all.push(Planned {
                points,
                stimulus: Values::none().with_quantity("current", self.programs.stimulus()),
                expected: place.expected.clone(),
                limits: place.limits.clone(),
                program: Arc::new(self.programs.at(&self.places, at, &from)),
                likely: self.programs.likely(),
                place: None,
                not_tested: None,
                is_exact: true,
                also: Vec::new(),
            });
        }
        if let Some(first) = all.first_mut().filter(|_| self.confirms) {
            let question = Question::confirm("Confirm the first resistance, or stop");
            first.also.push(Also::Asks { question, is_exact: false });
        }
        all
    }

    fn next(&mut self) -> Action {
        match &self.due {
            Due::Off => {
                self.due = Due::Nothing;
                return Action::Off;
            }
            Due::Ask(question) => return Action::Ask(question.clone()),
            Due::OffAndAsk(question) => {
                self.due = Due::Ask(question.clone());
                return Action::Off;
            }
            Due::Discharge => {
                let place = &self.places.all[self.charged_at()];
                let program = self.programs.off(place);
                let program = self.next.get_or_insert_with(|| Arc::new(program));
                return Action::Inject(Arc::clone(program));
            }
            Due::Nothing => {}
        }
        if self.at >= self.places.all.len() {
            return Action::Done;
        }
        let program = self.next.take().unwrap_or_else(|| Arc::new(self.program()));
        self.next = Some(Arc::clone(&program));
        Action::Inject(program)
    }

    fn injection(&self) -> Injection {
        if self.due == Due::Discharge {
            let leads = &self.places.all[self.charged_at()].leads;
            let part = format!("{DISCHARGE} {leads}");
            return Injection { point: None, part, serves: Vec::new() };
        }
        let at = self.at.min(self.places.all.len() - 1);
        let place = &self.places.all[at];
        let mut serves = vec![place.point.id.clone()];
        serves.extend(self.change(at).map(|change| change.id.clone()));
        let alike = self.places.alike(place).filter(|a| self.together.contains(&a.point));
        serves.extend(alike.map(|alike| alike.point.id.clone()));
        if let Some(beside) = &place.beside {
            serves.push(beside.point.id.clone());
            serves.extend(self.places.second.as_ref().map(|second| second.difference.id.clone()));
        }
        let segments = self.next.as_ref().map(|program| &program.segments);
        let first = segments.and_then(|s| s.first()).map(|s| s.name.to_string());
        let part = match first {
            // Held on: another injection than the one before.
            Some(name) if name == HOLD => format!("{name} after {}", text(self.held)),
            Some(name) => name,
            None => String::new(),
        };
        Injection { point: Some(place.point.id.clone()), part, serves }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let Some(program) = self.next.take() else { return Vec::new() };
        if self.due == Due::Discharge {
            self.due = Due::Nothing;
            self.flows = Flows::No;
            return Vec::new();
        }
        let (places, programs) = (&self.places, &self.programs);
        let place = &places.all[self.at];
        if !graded::holds_on(&program) {
            self.seen.clear();
        }
        self.seen.push((Arc::clone(&program), observation.clone()));
        let held: Vec<graded::Seen<'_>> = self.seen.iter().map(|(p, o)| (&**p, o)).collect();
        let read = graded::read(programs, &held);
        let mut found = Vec::new();
        if program.segments.first().is_some_and(|s| !s.moves.is_empty()) {
            found.extend(graded::change(places, programs, place, observation, None));
            self.moved.insert(self.at);
        } else if !graded::holds_on(&program)
            && self.retries == 0
            && !self.moved.contains(&self.at)
            && let Some(change) = self.change(self.at)
        {
            let why =
                "the tap was not changed under current: it did not flow at the position before";
            let stimulus = Values::none();
            found.push(Finding::not_tested(change.clone(), CHANGE, stimulus, why));
        }
        let before = match &self.flows {
            Flows::At(at, was) if at + 1 == self.at => Some((*at, was.clone())),
            _ => None,
        };
        match read {
            Err(trouble) => {
                // Whatever it is, nothing is charged when something else is tried.
                let due = match trouble {
                    Trouble::BrokenOff => Due::OffAndAsk(Question::permit(format!(
                        "{}. Put the lead back when the voltage is gone and the winding is earthed; may it go on?",
                        trouble.words(programs, place)
                    ))),
                    _ => Due::Off,
                };
                self.flows = Flows::No;
                found.extend(self.leave(Err(trouble)));
                self.due = due;
            }
            Ok(now) => {
                self.flows = Flows::At(self.at, now.clone());
                self.held += observation.length();
                let went = before.and_then(|(at, was)| {
                    graded::went(
                        place,
                        &places.all[at],
                        was.ohm.value,
                        now.ohm.value,
                        now.ohm.expanded(),
                    )
                });
                if let Some(went) = went {
                    // It was another change than the one that was to be looked at.
                    found = found.into_iter().map(|f| graded::another(f, went)).collect();
                    let told = match went {
                        Went::Twice => Some("The tap changer went two positions at once"),
                        Went::Nowhere => Some("The tap changer did not move"),
                        Went::Untold => None,
                    };
                    if let Some(what) = told.filter(|_| self.retries < RETRIES) {
                        // From here on nobody knows where it stands.
                        self.retries += 1;
                        let stand = place.stands.first().map_or(String::new(), ToString::to_string);
                        self.flows = Flows::No;
                        self.due = Due::OffAndAsk(Question::confirm(format!(
                            "{what}; outputs are off. Set {stand} and go on"
                        )));
                        return found;
                    }
                    if went == Went::Nowhere {
                        self.flows = Flows::No;
                        found.extend(self.leave(Err(Trouble::Nowhere)));
                        self.due = Due::Off;
                        return found;
                    }
                }
                let second = graded::beside(places, programs, place, &held);
                let is_open = second.is_some_and(|(_, settled)| settled.is_none());
                if (is_open || !now.is_settled(programs)) && self.held < programs.at_most {
                    // Something is left to come: it is held on.
                    return found;
                }
                if self.confirms {
                    self.confirms = false;
                    let ohms = Quantity {
                        si: now.ohm.value,
                        dimension: waltron_core::quantity::Dimension::RESISTANCE,
                    };
                    self.due = Due::Ask(Question::confirm(format!(
                        "{} shows {ohms}: go on by itself?",
                        place.point.id
                    )));
                    let due = self.due.clone();
                    found.extend(self.leave(Ok(now)));
                    self.due = due;
                    return found;
                }
                found.extend(self.leave(Ok(now)));
            }
        }
        found
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        self.next = None;
        if self.due == Due::Discharge {
            // Whatever stands in the way, nothing stays charged.
            (self.due, self.flows) = (Due::Off, Flows::No);
            return Vec::new();
        }
        let mut all = Vec::new();
        for planned in self.own_points(self.at) {
            let why = format!("it was not put out: {reason}");
            all.push(Finding::not_tested(planned.point, planned.criterion, Values::none(), why));
        }
        all.extend(self.together(self.at));
        let charged = matches!(self.flows, Flows::At(..));
        self.flows = Flows::No;
        self.go_on();
        if charged {
            self.due = Due::Off;
        }
        all
    }

    fn answer(&mut self, _answer: Answer) {
        self.due = match self.flows {
            Flows::No => Due::Nothing,
            Flows::At(at, _) => {
                let stays = self.places.is_under_current
                    && self.at < self.places.all.len()
                    && (at == self.at || self.places.all[self.at].change.is_some());
                if stays { Due::Nothing } else { Due::Discharge }
            }
        };
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        let kept: Vec<PointId> = self.together.iter().filter(|p| wanted(p)).cloned().collect();
        for at in 0..self.places.all.len() {
            let place = &self.places.all[at];
            let second = self.places.second.as_ref().is_some_and(|s| wanted(&s.difference));
            let own = wanted(&place.point)
                || place.change.as_ref().is_some_and(wanted)
                || place.beside.as_ref().is_some_and(|b| second || wanted(&b.point));
            let alike = self.places.alike(place).is_some_and(|a| kept.contains(&a.point));
            self.chosen[at] = own || alike;
        }
        // A change is looked at from the position that it leaves.
        for at in 1..self.places.all.len() {
            self.chosen[at - 1] |= self.places.all[at].change.as_ref().is_some_and(wanted);
        }
        self.together = kept;
        self.at = 0;
        self.pass_by();
    }

    fn repeat(&mut self) {
        // Back to the place before, with outputs off.
        let before = (0..self.at).rfind(|at| self.chosen[*at]).unwrap_or(0);
        // A change that was graded there is seen again from the position that it leaves.
        let is_changed = self.places.is_under_current && self.change(before).is_some();
        self.at = if is_changed { before - 1 } else { before };
        self.next = None;
        self.held = seconds(0.0);
        if matches!(self.flows, Flows::At(..)) {
            self.due = Due::Off;
        }
        self.flows = Flows::No;
        self.pass_by();
    }
}
