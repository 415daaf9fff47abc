//! Events: `inception`, `trip`, `begin(fault)`.

use super::super::ast::{Event, Stage, Which};
use super::super::token::{Kind, Sign};
use super::Cursor;
use crate::text::document::Problem;

impl Cursor<'_> {
    /// An event: `inception`, `trip`, `not trip`, `last(trip)`, `nth(start, 2)`, `begin(prefault)`.
    ///
    /// # Errors
    /// The first mistake.
    pub fn event(&mut self) -> Result<Event, Problem> {
        let closes = !self.eat_word("not");
        let (name, span) = self.path("an event, such as `inception` or a contact")?;
        if !self.eat(Sign::Open) {
            return Ok(match name.as_str() {
                "inception" if closes => Event::Inception,
                _ => Event::Contact { signal: name, closes, which: Which::First },
            });
        }
        let event = match name.as_str() {
            "first" => self.contact(Which::First)?,
            "last" => self.contact(Which::Last)?,
            "nth" => {
                let event = self.contact(Which::First)?;
                self.expect(Sign::Comma, "and the count, as in `nth(trip, 2)`")?;
                let n = self.count()?;
                match event {
                    Event::Contact { signal, closes, .. } => {
                        Event::Contact { signal, closes, which: Which::Nth(n) }
                    }
                    other => other,
                }
            }
            "begin" => Event::Begin(self.stage()?),
            "finish" => Event::End(self.stage()?),
            _ => {
                return Err(Problem::new(span, format!("`{name}` is no event"))
                    .help("events are inception, a contact, first(…), last(…), nth(…, n), begin(…), finish(…)"));
            }
        };
        self.expect(Sign::Close, "to close the bracket")?;
        Ok(event)
    }

    fn contact(&mut self, which: Which) -> Result<Event, Problem> {
        let closes = !self.eat_word("not");
        let (signal, _) = self.path("a contact")?;
        Ok(Event::Contact { signal, closes, which })
    }

    fn stage(&mut self) -> Result<Stage, Problem> {
        if self.word() == Some("level") {
            self.take();
            return Ok(Stage::Level(self.count()?));
        }
        Ok(Stage::Named(self.name("a stage's label, or `level 3`")?.0))
    }

    fn count(&mut self) -> Result<u32, Problem> {
        let here = self.here();
        match self.peek().map(|t| t.kind) {
            Some(Kind::Number(n)) if n >= 1.0 && n.fract() == 0.0 && n <= 1e6 => {
                self.take();
                Ok(n as u32)
            }
            Some(Kind::Number(_)) => Err(Problem::new(here, "count from 1, in whole numbers")),
            _ => Err(self.unexpected("a whole number")),
        }
    }
}
