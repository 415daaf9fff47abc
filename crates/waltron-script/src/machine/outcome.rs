//! What an injection showed, taken over into the sequence.

use super::super::stimuli::of_last;
use super::*;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::text::expression::Measured;

impl Sequence {
    /// Takes what an injection showed.
    pub(super) fn take(
        &mut self,
        built: &Built,
        read: Option<(Name, Expr)>,
        seen: &Observation,
    ) -> Result<(), Problem> {
        let length = seen.length().si();
        self.scene.elapsed = (self.scene.elapsed.0 + length, self.scene.elapsed.1 + length);
        self.scene.out = Out::exactly(match (built.program.finish, last_out(built, seen)) {
            (Finish::Keep, Some(out)) => out,
            _ => Stimulus::off(),
        });
        // Letting time pass and measuring are no injections of their own.
        if let Some((name, value)) = read {
            self.take_reading(&name, &value, built, seen);
        } else if !built.only_waits() {
            self.scene.last = Last::Injection(Injection {
                program: Arc::new(built.program.clone()),
                observation: Some(Arc::new(seen.clone())),
                swept: built.swept(),
                fault: built.fault,
                is_exact: true,
            });
        }
        self.scene.stimuli.note(built);
        for part in &built.parts {
            let owners = part.owners();
            self.scene.result(&owners, "reached", Value::Bool(part.reached(seen)));
            let lasted = part.lasted(&built.program, seen, &self.scene.context);
            self.scene.result(&owners, "time", lasted);
            if part.ramp.is_some() {
                let value = part.outcome(&built.program, seen, &self.scene.context);
                self.scene.result(&owners, "value", value);
                let timing = self.scene.context.capability.timing_resolution;
                if let Some(resolution) = part.resolution(&built.program, timing) {
                    self.scene.result(&owners, "resolution", resolution.into());
                }
            }
        }
        self.after(built, seen)
    }

    /// A step that was not put out: what it would have yielded is missing, for this reason.
    pub(super) fn lost(&mut self, steps: &[&Step], problem: &Problem) {
        let why = problem.message.as_str();
        self.scene.last = Last::Lost(problem.fails, format!("not put out: {why}"));
        for step in steps {
            let Some((kind, until)) = step.what.output() else { continue };
            let label = until.label.as_ref().map(Name::as_str);
            let owners: Vec<&str> = std::iter::once(kind).chain(label).collect();
            self.scene.stimuli.note_lost(&owners);
            for (key, kind) in [
                ("reached", Type::Bool),
                ("time", Type::Quantity(Dimension::TIME)),
                ("value", Type::Any),
                ("resolution", Type::Any),
            ] {
                self.scene.result(&owners, key, Value::missing(kind, problem.fails, why));
            }
        }
    }

    /// Guards that fired, and conditions that did not come true.
    fn after(&mut self, built: &Built, observation: &Observation) -> Result<(), Problem> {
        let fired = observation.segments.iter().find_map(|s| match s.ended {
            Ended::Stop(index) if index < built.guards => Some(index),
            _ => None,
        });
        if let Some(index) = fired {
            self.scene.out = Out::off();
            if let Some(watched) = self.guards.get(index).cloned() {
                self.pc = watched.handler;
                self.scene.names.back_to(watched.depth);
                self.calls.truncate(watched.calls);
                // The handler itself is not guarded.
                self.guards.clear();
                self.loops.clear();
            }
            return Ok(());
        }
        for part in &built.parts {
            let Some(ending) = &part.otherwise else { continue };
            if part.seen(observation).is_none() || part.reached(observation) || part.until.is_none()
            {
                continue;
            }
            let step =
                Step { what: Statement::Off, span: super::super::ast::Span(part.span.clone()) };
            let waited =
                part.seen(observation).map(|s| waltron_core::quantity::text(s.end - s.start));
            let because =
                format!("waited {} in vain for {}", waited.unwrap_or_default(), part.awaited);
            self.finish(ending, &step, &because)?;
            if self.done {
                return Ok(());
            }
        }
        Ok(())
    }

    fn take_reading(&mut self, name: &Name, value: &Expr, built: &Built, seen: &Observation) {
        let guarded = |s: &waltron_core::injection::observation::Span| matches!(s.ended, Ended::Stop(i) if i < built.guards);
        if seen.segments.iter().any(guarded) {
            // The guard that fired comes first.
            return;
        }
        let capability = &self.scene.context.capability;
        let mut readings = HashMap::new();
        for probe in &built.program.reads {
            let kind = Type::Quantity(probe.dimension);
            let found = seen.at_end(probe);
            let read = match found.and_then(|r| r.value.get("value")) {
                Some(si) if capability.shows(probe, si) => {
                    let value = Quantity { si, dimension: probe.dimension };
                    // What makes a meter's or a worked-out value uncertain comes with it.
                    let own = found.filter(|r| !r.parts.is_empty()).and_then(|r| r.estimate());
                    let estimate = own.or_else(|| capability.estimate(probe, si));
                    Value::Measured(Measured { value, estimate })
                }
                Some(si) => {
                    let shown = Quantity { si, dimension: probe.dimension };
                    let why = format!("`{probe}` shows {shown}, beyond the most that it can");
                    Value::missing(kind, false, why)
                }
                None => {
                    let why = match found.and_then(|r| r.lacks.as_ref()) {
                        Some(lack) => format!("`{probe}` could not be measured: {lack}"),
                        None => format!("`{probe}` could not be measured: there is no such signal"),
                    };
                    Value::missing(kind, false, why)
                }
            };
            readings.insert(probe.to_string(), read);
        }
        self.scene.readings = Some(readings);
        let worth = evaluate(value, &self.scene);
        self.scene.readings = None;
        let worth = worth
            .unwrap_or_else(|problem| Value::missing(Type::Any, problem.fails, problem.message));
        let now = of_last(&self.scene);
        self.scene.stimuli.note_read(name.as_str(), now);
        self.scene.names.note_read(name.as_str(), worth);
    }
}

/// What was out when a program ended.
fn last_out(built: &Built, seen: &Observation) -> Option<Stimulus> {
    let segments = &built.program.segments;
    let index = seen.segments.len().checked_sub(1)?;
    let (segment, span) = (segments.get(index)?, seen.segments.last()?);
    let out = match span.ended {
        Ended::Finished => segment.profile.last(),
        // A hair before the end, or the next level of a stair would count.
        _ => segment.profile.at((span.end - span.start - seconds(1e-9)).max(seconds(0.0))),
    };
    Some(out.at_rest())
}
