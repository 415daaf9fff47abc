//! How a test ends: what was left out, what was come past, what is put back.

use super::{Halt, Runner, left_out};
use crate::rig::RigError;
use waltron_core::grading::{Criterion, Grade, Judgement, Verdict};
use waltron_core::procedure::{Action, Answer, Owed, PlannedPoint, Procedure, Question};
use waltron_core::record::Event;

impl Runner<'_> {
    /// Notes that points are left out. What was measured before stands until it is measured again.
    pub(super) fn skip<'p>(
        &mut self,
        open: impl Iterator<Item = &'p PlannedPoint>,
        reason: &str,
    ) -> Result<(), Halt> {
        let measured = |verdict| verdict != Verdict::NotTested;
        let (stands, open): (Vec<&PlannedPoint>, Vec<&PlannedPoint>) =
            open.partition(|p| self.tally.verdict(&p.point.id).is_some_and(measured));
        if !stands.is_empty() {
            let ids: Vec<&str> = stands.iter().map(|p| p.point.id.as_str()).collect();
            self.tell(format!(
                "Skipped ({reason}); what was measured before stands: {}",
                ids.join(", ")
            ))?;
        }
        let due = open.into_iter().filter(|p| !p.conditional);
        let why = format!("skipped: {reason}");
        let skipped = |p| Grade { skipped: true, ..left_out(p, &why).graded(self.rule) };
        let grades: Vec<Grade> = due.map(skipped).collect();
        self.graded(grades).map(drop)
    }

    /// Passes the places at which earlier attempts went wrong, and nothing did this time.
    pub(super) fn came_past(&mut self, places: &[PlannedPoint]) -> Result<(), Halt> {
        let passed = places.iter().map(|place| {
            let why = match place.criterion == Criterion::STEP {
                true => "the step was done this time",
                false => "the sequence came to its end this time",
            };
            left_out(place, why).judged(Judgement::new(Verdict::Pass, why))
        });
        let passed = passed.collect();
        self.found(passed).map(drop)
    }

    /// Notes in the record what is undone at present, where that has changed.
    pub(super) fn note_owed(&mut self, procedure: &dyn Procedure) -> Result<(), Halt> {
        self.owes(procedure.owed())
    }

    fn owes(&mut self, mut owed: Vec<Owed>) -> Result<(), Halt> {
        // What a test hands over to be earthed is its own still when the runner takes it.
        let own = self.charged.iter().chain(&self.short).filter(|one| !owed.contains(one));
        owed.extend(own.cloned().collect::<Vec<_>>());
        if owed == self.owed {
            return Ok(());
        }
        let before = std::mem::replace(&mut self.owed, owed.clone());
        let written = self.emit(&Event::ToRestore { owed });
        if written.is_err() {
            // What was only about to be undone is not, and what was put back is no more.
            self.owed.retain(|one| before.contains(one));
        }
        written
    }

    /// What tests owe, without what the runner itself has had done.
    fn owed_by_tests(&self) -> Vec<Owed> {
        let own = |o: &&Owed| self.charged.as_ref() == Some(o) || self.short.as_ref() == Some(o);
        self.owed.iter().filter(|o| !own(o)).cloned().collect()
    }

    /// Notes what is charged, or that nothing is, beside what else is undone.
    pub(super) fn owes_charge(&mut self, charged: Option<Owed>) -> Result<(), Halt> {
        let owed = self.owed_by_tests();
        self.charged = charged;
        self.owes(owed)
    }

    /// Notes what is shorted, or that nothing is, beside what else is undone.
    pub(super) fn owes_short(&mut self, short: Option<Owed>) -> Result<(), Halt> {
        let owed = self.owed_by_tests();
        self.short = short;
        self.owes(owed)
    }

    /// What was shorted for the run's last test is taken off, however the run ended; where nobody does it, it is told.
    pub(super) fn take_short_off(&mut self) -> Result<(), Halt> {
        let Some(short) = self.short.clone() else { return Ok(()) };
        if self.ask(&Question::confirm(short.text.clone()))? == Answer::Confirmed {
            return self.owes_short(None);
        }
        self.not_put_back(&short)
    }

    fn not_put_back(&mut self, owed: &Owed) -> Result<(), Halt> {
        self.tell(format!("NOT PUT BACK: {}; --resume asks about it first", owed.text))
    }

    /// Notes what could not be switched off, where that is so: it stands in the report, and is asked about first when
    /// the run goes on.
    pub(super) fn owes_off(&mut self, error: &RigError) -> Result<(), Halt> {
        let RigError::LeftOn { names, .. } = error else { return Ok(()) };
        let mut owed = self.owed_by_tests();
        let off = |name: &String| Owed::new(format!("Switch instrument `{name}` off by hand"));
        owed.extend(names.iter().map(off));
        self.owes(owed)
    }

    /// Puts back what a test has undone, with outputs off, however it ended.
    pub(super) fn restore(&mut self, procedure: &mut dyn Procedure) -> Result<(), Halt> {
        if procedure.owed().is_empty() {
            return Ok(());
        }
        procedure.restore();
        let mut stopped = false;
        loop {
            match procedure.next() {
                Action::Done => break,
                Action::Inject(_) => drop(procedure.refuse("the test is over")),
                Action::Ask(question) => match self.ask(&question)? {
                    Answer::Stop | Answer::Skip(_) => {
                        stopped = true;
                        break;
                    }
                    answer => procedure.answer(answer),
                },
                action => self.act(action, procedure, &mut Vec::new())?,
            }
            self.note_owed(procedure)?;
        }
        self.note_owed(procedure)?;
        let left = procedure.owed();
        for owed in &left {
            self.not_put_back(owed)?;
        }
        // Nothing more is tested on an asset that is not as it should be.
        if stopped || !left.is_empty() { Err(Halt::Stopped) } else { Ok(()) }
    }

    /// What an earlier run has left undone is seen to before anything else.
    pub(super) fn pay(&mut self, owed: &[Owed]) -> Result<(), Halt> {
        for one in owed {
            let text = format!("Left from the run before: {}", one.text);
            let by_rig = one.by_rig && self.rig.capability().earths;
            if !by_rig && self.ask(&Question::permit(text))? != Answer::Confirmed {
                self.not_put_back(one)?;
                return Err(Halt::Stopped);
            }
            if let Some(wait) = one.wait {
                self.stay_earthed(&one.text, wait)?;
            }
            let left = self.owed.iter().filter(|o| *o != one).cloned().collect();
            self.owes(left)?;
        }
        Ok(())
    }
}
