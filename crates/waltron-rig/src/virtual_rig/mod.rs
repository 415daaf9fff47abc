//! The virtual rig: plays programs in virtual time on a simulated specimen.

mod bench;
mod errors;
mod input;
mod look;
mod output;
#[cfg(test)]
mod tests;

pub use crate::player::Pace;

use crate::attendant::Attendant;
use crate::player::drain::MOST_S;
use crate::player::{Charge, Device, Player, wait};
use crate::rig::{Announced, Rig, RigError};
use bench::Bench;
use std::time::Instant;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::clearance::Cleared;
use waltron_core::injection::capability::{Capability, Parameter, ParameterKind, ParameterValue};
use waltron_core::injection::observation::{Discharged, Observation};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Time, seconds};
use waltron_core::text::name::Name;
use waltron_specimen::Specimen;

/// What a simulation is drawn from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Seeds {
    /// What the rig is off by.
    pub rig: u64,
    /// How the specimen scatters.
    pub specimen: u64,
}

impl From<u64> for Seeds {
    fn from(both: u64) -> Self {
        Self { rig: both, specimen: both }
    }
}

/// A rig that computes instead of injecting.
pub struct VirtualRig {
    name: String,
    capability: Capability,
    bench: Bench,
    pace: Pace,
    /// Which draw of scatter the next injection gets.
    draw: u64,
    /// What was set besides the outputs since it was switched off.
    touched: Vec<Name>,
    /// Up to when what is kept on after a program has passed, in the world's time.
    kept: Option<Instant>,
    /// Whether the last discharge was told by a meter that had shown nothing before either.
    is_unseen: bool,
}

impl VirtualRig {
    /// A rig with a specimen wired to it. It is off by what its capability states, as seed 1 draws it.
    pub fn new(
        name: String,
        capability: Capability,
        specimen: Box<dyn Specimen>,
        pace: Pace,
    ) -> Self {
        let bench = Bench::new(specimen, capability.clone(), 1);
        Self {
            name,
            capability,
            bench,
            pace,
            draw: 0,
            touched: Vec::new(),
            kept: None,
            is_unseen: false,
        }
    }

    /// The same off as another seed draws it.
    #[must_use]
    pub fn seeded(mut self, seed: u64) -> Self {
        self.bench.err_by(seed);
        self
    }

    /// Whether anything is being put out.
    pub fn is_energised(&self) -> bool {
        self.bench.energised
    }

    /// What is put out now.
    pub fn out(&self) -> &Stimulus {
        &self.bench.out
    }

    /// What its specimen tells of itself at present, such as a trip unit's counters.
    pub fn reading(&self, name: &str) -> Option<f64> {
        self.bench.specimen.reading(name)
    }

    /// Lets what is kept on after a program go on as long as the world has since, where its time is the world's;
    /// the contacts that are closed then. Where the emergency stop says so, outputs go off.
    pub fn go_on(&mut self) -> Vec<Name> {
        let now = Instant::now();
        if let Some(since) = self.kept.take().filter(|_| self.bench.energised) {
            self.bench.pass(seconds((now - since).as_secs_f64()));
            let closed = self.bench.specimen.closed();
            let stop = self.capability.emergency_stop.as_ref();
            match stop.is_some_and(|stop| closed.contains(&stop.signal) == stop.when_closed) {
                true => self.bench.off(),
                false => self.kept = Some(now),
            }
        }
        self.bench.specimen.closed()
    }

    /// Says which draw of scatter the next injection gets; without being told, each gets its own.
    pub fn set_draw(&mut self, draw: u64) {
        self.draw = draw;
    }

    /// Switches every output off, and waits for nothing; whether something may be charged that is to be drained
    /// now.
    pub fn off_at_once(&mut self) -> bool {
        self.bench.off();
        self.is_charged()
    }

    /// Whether something was charged that is not known to be discharged since, on a rig that watches it.
    pub fn is_charged(&self) -> bool {
        self.bench.charge() != Charge::Nothing && self.capability.discharge.is_some()
    }

    /// Lets time pass with outputs off until nothing is charged, so long at most; `None` where nothing is that it
    /// watches.
    pub fn drain(
        &mut self,
        pace: Pace,
        most: Time,
        attendant: &mut dyn Attendant,
    ) -> Option<Discharged> {
        if !self.is_charged() {
            return None;
        }
        self.bench.begin(self.draw);
        self.bench.energised = false;
        let mut player =
            Player::new(&mut self.bench, &self.capability, pace, attendant, &[], false);
        let drained = player.drain_all(most);
        self.is_unseen = drained.is_some_and(|drained| drained.is_unseen());
        drained
    }

    /// Whether what was put out last counts as discharged by a meter that had shown nothing before either.
    pub fn is_unseen(&self) -> bool {
        self.is_unseen
    }

    /// Sets back what was set besides the outputs: switches first.
    pub fn parameters_off(&mut self) {
        let mut touched: Vec<&Parameter> =
            self.capability.parameters.iter().filter(|p| self.touched.contains(&p.name)).collect();
        touched.sort_by_key(|p| p.kind != ParameterKind::Switch);
        for parameter in touched {
            self.bench.specimen.set(parameter.name.as_str(), parameter.off);
        }
        self.touched.clear();
    }
}

impl Rig for VirtualRig {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn capability(&self) -> &Capability {
        &self.capability
    }

    fn play(
        &mut self,
        program: &Cleared,
        attendant: &mut dyn Attendant,
    ) -> Result<Observation, RigError> {
        self.go_on();
        let program = program.program();
        let draw = self.draw;
        self.draw += 1;
        let place = program.connection.clone().unwrap_or_else(|| "".into());
        let led = self.bench.specimen.lead(&place);
        led.map_err(|error| RigError::NoPlace(error.to_string()))?;
        for stand in &program.stands {
            let stood = self.bench.specimen.stand(stand);
            stood.map_err(|_| RigError::NoStand(stand.to_string()))?;
        }
        self.bench.begin(draw);
        let closed: Vec<Name> = self.bench.specimen.closed();
        let (bench, raw) = (&mut self.bench, program.raw_edges);
        let player = Player::new(bench, &self.capability, self.pace, attendant, &closed, raw);
        let played = player.play(program);
        let discharge = played.as_ref().ok().and_then(|seen| seen.discharge);
        self.is_unseen = discharge.is_some_and(|discharge| discharge.is_unseen());
        let stays_on = played.as_ref().is_ok_and(|seen| seen.stays_on);
        self.kept = (stays_on && self.pace == Pace::Real).then(Instant::now);
        played
    }

    fn announce(&mut self, injection: &Announced<'_>) {
        self.set_draw(injection.draw());
    }

    fn rest(&mut self, time: Time, attendant: &mut dyn Attendant) -> Result<(), RigError> {
        if self.pace == Pace::Real {
            wait(time, attendant);
        }
        self.off()?;
        self.bench.specimen.begin(self.draw);
        // Nobody looks at the contacts meanwhile.
        while self.bench.specimen.advance(time).is_some() {}
        Ok(())
    }

    fn settings(&mut self) -> Result<Vec<ReadSetting>, RigError> {
        Ok(self.bench.specimen.settings())
    }

    fn is_simulated(&self) -> bool {
        true
    }

    fn set(&mut self, parameter: &Name, value: ParameterValue) -> Result<(), RigError> {
        let known = self.capability.parameter(parameter.as_str()).is_some();
        if known && self.bench.specimen.set(parameter.as_str(), value) {
            if !self.touched.contains(parameter) {
                self.touched.push(parameter.clone());
            }
            return Ok(());
        }
        Err(RigError::NoParameter { parameter: parameter.to_string() })
    }

    fn end_test(&mut self) -> Result<(), RigError> {
        self.parameters_off();
        self.off()
    }

    fn off(&mut self) -> Result<(), RigError> {
        // What is off already notices nothing, as on a test set.
        if self.bench.energised {
            self.bench.off();
        }
        Ok(())
    }

    fn discharge(&mut self, attendant: &mut dyn Attendant) -> Result<Option<Discharged>, RigError> {
        match self.drain(self.pace, seconds(MOST_S), attendant) {
            Some(left) if !left.is_done => Err(RigError::StillCharged(left.left())),
            drained => Ok(drained),
        }
    }
}

impl Drop for VirtualRig {
    fn drop(&mut self) {
        // Switching a simulation off cannot fail.
        let _ = self.end_test();
    }
}
