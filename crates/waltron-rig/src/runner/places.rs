//! What somebody does between two injections: takes the leads along, moves a tap changer.

use super::{Halt, Runner};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Stand};
use waltron_core::procedure::{Answer, Question};
use waltron_core::record::Event;

impl Runner<'_> {
    /// Asks for something to be done with outputs off; why it was not.
    fn have_done(&mut self, text: String) -> Result<Option<String>, Halt> {
        // Whoever takes leads off or moves a switch must not do it under voltage.
        self.off()?;
        let question = Question::confirm(text);
        self.emit(&Event::Asked(question.clone()))?;
        let answer = self.attendant.ask(&question);
        self.emit(&Event::Answered { answer: answer.clone() })?;
        match answer {
            Answer::Stop => Err(Halt::Stopped),
            Answer::Skip(reason) => Ok(Some(reason)),
            _ => Ok(None),
        }
    }

    /// Has the leads taken to where a program wants them, by somebody where the rig does not do it
    /// itself; returns why they were not.
    pub(super) fn lead(&mut self, program: &Program) -> Result<Option<String>, Halt> {
        if self.leads == program.connection {
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
        let text = format!("Take the leads to {to}; outputs are off");
        if let Some(reason) = self.have_done(text)? {
            return Ok(Some(format!("the leads were not taken to {to}: {reason}")));
        }
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
