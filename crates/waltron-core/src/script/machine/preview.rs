//! Going through a sequence without putting anything out.

use super::super::expectation::likely_fault;
use super::*;

impl Sequence {
    /// Goes through the whole sequence as if every step took its longest and nothing was seen.
    pub(super) fn preview(&self) -> Vec<Planned> {
        let context = Arc::clone(&self.scene.context);
        let mut machine = Self::start(Arc::clone(&self.code), context, true);
        let mut planned: Vec<Planned> = Vec::new();
        while planned.len() < MOST_PREVIEWED {
            match machine.next() {
                Action::Done => break,
                Action::Inject(program) => {
                    let longest = program.longest().unwrap_or_default();
                    let injection =
                        Injection { program: program.clone(), observation: None, swept: None };
                    let expected = likely_fault(&injection, &machine.scene).filter(|_| {
                        program.segments.iter().any(|s| s.stops.len() > 1 && s.name == "fault")
                    });
                    let fault =
                        Scene::fault_segment(&program).and_then(|i| program.segments[i].longest());
                    let likely = match (expected, fault) {
                        (Some(expected), Some(fault)) => longest - fault + expected,
                        _ => longest,
                    };
                    let place = machine.place();
                    let program = program.into();
                    planned.push(Planned { program, likely, place, ..nothing() });
                    machine.pass_over();
                }
                Action::Ask(question) => {
                    let unknown = match (&question.wanted, &machine.waiting) {
                        (Wanted::Quantity { exponents: [a, v, s, r, k], .. }, _) => {
                            Some(Type::Quantity(Dimension::new(*a, *v, *s, *r, *k)))
                        }
                        (Wanted::Choice(_) | Wanted::Text, _) => Some(Type::Text),
                        _ => None,
                    };
                    if let Some(Waiting::Answer { name: Some(name) }) = machine.waiting.take()
                        && let Some(kind) = unknown
                    {
                        machine.scene.let_value(name.as_str(), Value::Unknown(kind));
                    }
                }
                Action::Conclude(grades) => {
                    for grade in grades {
                        // Further points of the same injection need none of their own.
                        if planned.last().is_none_or(|last| !last.points.is_empty()) {
                            planned.push(nothing());
                        }
                        if let Some(last) = planned.last_mut() {
                            last.stimulus = grade.stimulus;
                            last.expected = grade.expected;
                            last.limits = grade.limits;
                            last.points.push(PlannedPoint::certain(grade.point, grade.criterion));
                        }
                    }
                }
                Action::Send { .. } | Action::Execute { .. } => {
                    if let Some(Waiting::Reply { name: Some(name), .. }) = machine.waiting.take() {
                        machine.scene.let_value(name.as_str(), Value::Unknown(Type::Text));
                    }
                }
                Action::Tell(_) | Action::Set(..) | Action::Off => {}
            }
        }
        planned
    }

    /// The line of the injection that was handed out.
    pub(super) fn place(&self) -> Option<String> {
        let Some(Waiting::Injection { built, .. }) = &self.waiting else { return None };
        let part = built.parts.first()?;
        Some(format!("line {}", self.scene.context.line(part.span.start)))
    }

    /// Goes on without having injected.
    pub(super) fn pass_over(&mut self) {
        if let Some(Waiting::Injection { built, read }) = self.waiting.take()
            && let Err(problem) = self.take(&built, read, None)
        {
            let line = self.scene.context.line(problem.span.start);
            self.end_with(line, Verdict::Inconclusive, problem.message);
        }
    }
}

/// A planned entry that injects nothing.
fn nothing() -> Planned {
    Planned {
        points: Vec::new(),
        stimulus: Values::none(),
        expected: Values::none(),
        limits: Values::none(),
        program: Arc::default(),
        likely: seconds(0.0),
        place: None,
        not_tested: None,
    }
}
