//! Outputs off, and nothing charged: whoever is sent to the leads finds it so, whatever switched off and why.

use super::{Halt, Runner};
use crate::rig::RigError;
use waltron_core::injection::observation::{Discharged, Observation};
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Answer, Owed, Question};
use waltron_core::quantity::{Measure, Time, duration};
use waltron_core::record::Event;

impl Runner<'_> {
    /// Switches every output off, and waits until nothing is charged any more.
    pub(super) fn off(&mut self) -> Result<(), Halt> {
        self.held = false;
        self.rig.off().map_err(Halt::Rig)?;
        self.attendant.goes_off();
        self.discharge()
    }

    /// The same at a test's end, with what else it may have left on.
    pub(super) fn end_test(&mut self) -> Result<(), Halt> {
        self.held = false;
        let off = self.rig.end_test().map_err(Halt::Rig);
        if off.is_ok() {
            self.attendant.goes_off();
        }
        let discharged = self.discharge();
        off.and(discharged)
    }

    /// The same after whatever ended the run; what could not be discharged is not waited for once more.
    pub(super) fn end_test_after(&mut self, halt: Option<&Halt>) -> Result<(), Halt> {
        if let Some(Halt::Sink(_)) = halt {
            // Nothing can be recorded any more; what the rig says of it is lost with it.
            let off = self.rig.end_test();
            let discharged = self.rig.discharge(self.attendant).map(drop);
            return off.and(discharged).map_err(Halt::Rig);
        }
        match halt {
            Some(Halt::Rig(RigError::StillCharged(_))) => self.rig.end_test().map_err(Halt::Rig),
            _ => self.end_test(),
        }
    }

    fn discharge(&mut self) -> Result<(), Halt> {
        match self.rig.discharge(self.attendant).map_err(Halt::Rig)? {
            None => Ok(()),
            Some(discharged) => {
                self.emit(&Event::Discharged(discharged))?;
                self.is_discharged(&discharged, None)
            }
        }
    }

    /// Tells that what was charged is discharged, or asks where nobody can know.
    pub(super) fn is_discharged(
        &mut self,
        discharged: &Discharged,
        program: Option<&Program>,
    ) -> Result<(), Halt> {
        if !discharged.is_unseen() {
            self.attendant.discharged(discharged.time);
            return Ok(());
        }
        let by_rig = self.rig.capability().discharge.as_ref();
        let by = by_rig.or_else(|| program.and_then(|program| program.discharge.as_ref()));
        let meter = by.map_or("that watches it", |by| by.meter.as_str()).to_owned();
        let text = format!(
            "Meter `{meter}` showed nothing while direct current was put out, so its 0 A now proves nothing. See to it and to the leads; earth and short what was fed"
        );
        if self.ask(&Question::permit(text))? == Answer::Confirmed {
            return Ok(());
        }
        self.tell(format!(
            "PERHAPS STILL CHARGED: meter `{meter}` showed nothing while direct current was put out. Earth and short what was fed before anybody touches it"
        ))?;
        Err(Halt::Stopped)
    }

    /// What a program charges that no meter watches, with how long it must stay earthed at most.
    pub(super) fn charges(&self, program: &Program) -> Option<Owed> {
        let longest = |_: usize, segment: &Segment| segment.longest().unwrap_or_default();
        earthing(program, program.earthed_for(longest)?)
    }

    /// Has what a program charged with direct voltage earthed, for as long as it takes.
    pub(super) fn earth(&mut self, program: &Program, seen: &Observation) -> Result<(), Halt> {
        let lasted = |k: usize, _: &Segment| {
            seen.segments.get(k).map_or(Time::default(), |span| span.end - span.start)
        };
        let charged = program.earthed_for(lasted).and_then(|time| earthing(program, time));
        let Some(charged) = charged else { return self.owes_charge(None) };
        self.owes_charge(Some(charged.clone()))?;
        if seen.aborted() {
            return self.tell(format!(
                "CHARGED: direct voltage was on. {} before anybody touches it",
                charged.text
            ));
        }
        self.earth_it(charged)
    }

    /// Has it earthed, by the rig or by somebody, and waits for as long as that takes.
    pub(super) fn earth_it(&mut self, charged: Owed) -> Result<(), Halt> {
        self.owes_charge(Some(charged.clone()))?;
        if !(charged.by_rig && self.rig.capability().earths) {
            let answer = self.ask(&Question::permit(charged.text.clone()))?;
            if answer != Answer::Confirmed {
                self.tell(format!("STILL CHARGED: {} before anybody touches it", charged.text))?;
                return Err(Halt::Stopped);
            }
        }
        self.stay_earthed(&charged.text, charged.wait.unwrap_or_default())?;
        self.owes_charge(None)
    }

    /// Waits while something is earthed.
    pub(super) fn stay_earthed(&mut self, what: &str, time: Time) -> Result<(), Halt> {
        self.attendant
            .begins(&format!("outputs off; earthed for {}: do not touch", duration(time)));
        self.tell(format!("Outputs off. {what}: waiting"))?;
        self.rig.rest(time, self.attendant).map_err(Halt::Rig)?;
        if self.attendant.wants_to_stop() {
            self.tell(format!("STILL CHARGED: {what}, from the beginning"))?;
            return Err(Halt::Stopped);
        }
        self.duty.cool(time);
        self.emit(&Event::Rested { time })?;
        self.attendant.discharged(time);
        Ok(())
    }
}

/// What is to be done with what a program charges.
fn earthing(program: &Program, time: Time) -> Option<Owed> {
    let what = program.earth.as_ref()?;
    let whole = Time::from_si(time.si().ceil());
    let text = format!("Earth {what} and leave it earthed for {}", duration(whole));
    Some(Owed { text, wait: Some(whole), by_rig: true })
}
