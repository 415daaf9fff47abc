//! What somebody does between two injections: takes the leads along, moves a tap changer.

use super::{Halt, Runner};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Stand};
use waltron_core::procedure::{Answer, Owed, Question};
use waltron_core::text::name::Name;

impl Runner<'_> {
    /// Asks for something to be done with outputs off; why it was not.
    fn have_done(&mut self, text: String) -> Result<Option<String>, Halt> {
        // Whoever takes leads off or moves a switch must not do it under voltage.
        self.off()?;
        match self.ask(&Question::confirm(text))? {
            Answer::Stop => Err(Halt::Stopped),
            Answer::Skip(reason) => Ok(Some(reason)),
            _ => Ok(None),
        }
    }

    /// Has the leads taken to where a program wants them, by somebody where the rig does not do it
    /// itself; returns why they were not.
    pub(super) fn lead(&mut self, program: &Program) -> Result<Option<String>, Halt> {
        // What puts nothing out, and says nothing of its leads, is done wherever they are.
        let is_anywhere = program.connection.is_none() && !program.puts_out();
        if self.leads == program.connection || is_anywhere {
            return Ok(None);
        }
        if self.rig.capability().switches_leads {
            // A rig does not take them under voltage either.
            if std::mem::take(&mut self.held) {
                self.off()?;
            }
            self.leads.clone_from(&program.connection);
            return Ok(None);
        }
        let to = match &program.connection {
            Some(place) => place.to_string(),
            None => "where the connection sheet has them".to_owned(),
        };
        let short = program.shorts.as_ref().map(take_off);
        // The one that is taken off is gone only once somebody says so.
        let before = self.short.clone().filter(|before| Some(before) != short.as_ref());
        let also = match &before {
            Some(before) => format!(", and {}", lower(&before.text)),
            None => String::new(),
        };
        if short.is_some() && before.is_none() {
            self.owes_short(short.clone())?;
        }
        let text = format!("Take the leads to {to}{also}; outputs are off");
        if let Some(reason) = self.have_done(text)? {
            return Ok(Some(format!("the leads were not taken to {to}: {reason}")));
        }
        self.owes_short(short)?;
        self.leads.clone_from(&program.connection);
        Ok(None)
    }

    /// Has somebody move what does not stand where a program wants it; returns why it was not moved.
    pub(super) fn stand(&mut self, program: &Program) -> Result<Option<String>, Halt> {
        let wanted: Vec<&Stand> =
            program.stands.iter().filter(|stand| !self.stands.contains(stand)).collect();
        if wanted.is_empty() {
            return Ok(None);
        }
        let words: Vec<String> = wanted.iter().map(|s| format!("{} to {}", s.of, s.at)).collect();
        let words = words.join(" and ");
        if let Some(reason) = self.have_done(format!("Set {words}; outputs are off"))? {
            return Ok(Some(format!("{words} was not set: {reason}")));
        }
        for stand in wanted {
            self.note_stand(stand);
        }
        Ok(None)
    }

    fn note_stand(&mut self, stand: &Stand) {
        self.stands.retain(|known| known.of != stand.of);
        self.stands.push(stand.clone());
    }

    /// Notes what was moved while a program played.
    pub(super) fn note_moves(&mut self, program: &Program, seen: &Observation) {
        let reached = program.segments.iter().take(seen.segments.len());
        for stand in reached.flat_map(|segment| &segment.moves) {
            self.note_stand(stand);
        }
    }
}

/// What takes straps off again.
fn take_off(what: &Name) -> Owed {
    Owed::new(format!("Take the short off {what}"))
}

/// A sentence as the second half of another one.
fn lower(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_lowercase().chain(chars).collect())
}
