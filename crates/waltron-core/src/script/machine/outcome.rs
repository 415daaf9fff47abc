//! What an injection showed, taken over into the sequence.

use super::*;

impl Sequence {
    /// Takes what an injection showed; while previewing, nothing was seen.
    pub(super) fn take(
        &mut self,
        built: &Built,
        read: Option<(Name, Expr)>,
        seen: Option<&Observation>,
    ) -> Result<(), Problem> {
        let length =
            seen.map_or_else(|| built.program.longest().unwrap_or_default(), Observation::length);
        self.scene.elapsed += length;
        let swept =
            built.parts.iter().rev().find_map(|p| p.ramp.as_ref()).map(|ramp| {
                [ramp.from, ramp.to].map(|si| Quantity { si, dimension: ramp.dimension })
            });
        let injection =
            Injection { program: built.program.clone(), observation: seen.cloned(), swept };
        self.scene.state = match (built.program.finish, last_out(built, seen)) {
            (Finish::Keep, Some(out)) => out,
            _ => crate::stimulus::Stimulus::off(),
        };
        if let Some((name, value)) = read {
            self.take_reading(&name, &value, built, seen)?;
        } else {
            self.scene.last = Some(injection);
        }
        for part in &built.parts {
            let owners: Vec<&str> = match &part.label {
                Some(label) => vec![part.kind, label.as_str()],
                None => vec![part.kind],
            };
            let unknown = |kind: Type| Value::Unknown(kind);
            let (reached, lasted) = match seen {
                Some(o) => (
                    Value::Bool(part.reached(o)),
                    part.seen(o).map(|s| Value::from(Quantity::of(s.end - s.start))),
                ),
                None => (unknown(Type::Bool), Some(unknown(Type::Quantity(Dimension::TIME)))),
            };
            self.scene.result(&owners, "reached", reached);
            if let Some(lasted) = lasted {
                self.scene.result(&owners, "time", lasted);
            }
            if let Some(ramp) = &part.ramp {
                let (value, why) = match seen {
                    Some(o) => part.outcome(&built.program, o),
                    None => (None, None),
                };
                let value =
                    value.map_or_else(|| unknown(Type::Quantity(ramp.dimension)), Value::from);
                self.scene.result(&owners, "value", value);
                self.scene.excuse(&owners, why);
                let timing = self.scene.context.capability.timing_resolution;
                if let Some(resolution) = part.resolution(&built.program, timing) {
                    self.scene.result(&owners, "resolution", resolution.into());
                }
            }
        }
        let Some(observation) = seen else { return Ok(()) };
        self.after(built, observation)
    }

    /// Guards that fired, and conditions that did not come true.
    pub(super) fn after(
        &mut self,
        built: &Built,
        observation: &Observation,
    ) -> Result<(), Problem> {
        let fired = observation.segments.iter().find_map(|s| match s.ended {
            Ended::Stop(index) if index < built.guards => Some(index),
            _ => None,
        });
        if let Some(index) = fired {
            self.scene.state = crate::stimulus::Stimulus::off();
            if let Some((_, handler)) = self.guards.get(index).cloned() {
                self.pc = handler;
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
            let waited = part.seen(observation).map(|s| crate::quantity::text(s.end - s.start));
            let because =
                format!("waited {} in vain for {}", waited.unwrap_or_default(), part.awaited);
            self.finish(ending, &step, &because)?;
            if self.done {
                return Ok(());
            }
        }
        Ok(())
    }

    pub(super) fn take_reading(
        &mut self,
        name: &Name,
        value: &Expr,
        built: &Built,
        seen: Option<&Observation>,
    ) -> Result<(), Problem> {
        let mut readings = HashMap::new();
        for probe in &built.program.reads {
            let read = match seen {
                None => Value::Unknown(Type::Quantity(probe.dimension)),
                Some(o) => match o.reading(probe) {
                    Some(si) => Value::from(Quantity { si, dimension: probe.dimension }),
                    // A guard that fired comes first.
                    None if o
                        .segments
                        .iter()
                        .any(|s| matches!(s.ended, Ended::Stop(i) if i < built.guards)) =>
                    {
                        return Ok(());
                    }
                    None => {
                        return Err(Problem::new(
                            value.span.clone(),
                            format!("`{probe}` could not be measured: there is no such signal"),
                        ));
                    }
                },
            };
            readings.insert(probe.to_string(), read);
        }
        self.scene.readings = Some(readings);
        let worth = evaluate(value, &self.scene);
        self.scene.readings = None;
        let worth = worth?;
        if let Value::Quantity(q) = &worth {
            self.scene.remember(name.as_str(), *q);
        }
        self.scene.let_value(name.as_str(), worth);
        Ok(())
    }
}

/// What was out when a program ended.
fn last_out(built: &Built, seen: Option<&Observation>) -> Option<crate::stimulus::Stimulus> {
    let segments = &built.program.segments;
    match seen {
        None => segments.last().map(|s| s.profile.last()),
        Some(o) => {
            let index = o.segments.len().checked_sub(1)?;
            let (segment, span) = (segments.get(index)?, o.segments.last()?);
            Some(match span.ended {
                Ended::Finished => segment.profile.last(),
                // A hair before the end, or the next level of a stair would count.
                _ => segment.profile.at((span.end - span.start - seconds(1e-9)).max(seconds(0.0))),
            })
        }
    }
}
