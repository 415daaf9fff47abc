//! The seam between the runner and whatever injects.

use crate::attendant::Attendant;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::clearance::Cleared;
use waltron_core::injection::capability::{Capability, ParameterValue};
use waltron_core::injection::observation::{Discharged, Observation};
use waltron_core::quantity::Time;
use waltron_core::text::name::Name;

/// What injects and measures.
///
/// Whatever happens during [`Rig::play`] — an error, a panic, a lost link — outputs go off; a rig
/// that loses its controller switches itself off. An implementation also switches off on drop.
pub trait Rig {
    /// What it is, in words, for records and reports.
    fn name(&self) -> String;

    /// What it can put out and see.
    fn capability(&self) -> &Capability;

    /// Says what is injected next, and how often it was before: what a simulation leaves to chance
    /// follows from this alone, so that a test gives the same by itself, gone on with and tested again.
    fn announce(&mut self, _injection: &Announced<'_>) {}

    /// Plays a program and says what was seen. Outputs are off afterwards, unless the program says
    /// that they stay on.
    ///
    /// If the attendant wants to stop, outputs go off at once and the observation is marked as
    /// aborted.
    ///
    /// # Errors
    /// [`RigError`] when the rig cannot go on; outputs are off then too.
    fn play(
        &mut self,
        program: &Cleared,
        attendant: &mut dyn Attendant,
    ) -> Result<Observation, RigError>;

    /// Lets time pass with outputs off; returns early if the attendant wants to stop.
    ///
    /// # Errors
    /// [`RigError`] when the rig is lost meanwhile.
    fn rest(&mut self, time: Time, attendant: &mut dyn Attendant) -> Result<(), RigError>;

    /// The asset's settings as it tells them itself, where it can; empty where it cannot.
    ///
    /// # Errors
    /// [`RigError`] when the rig is lost.
    fn settings(&mut self) -> Result<Vec<ReadSetting>, RigError> {
        Ok(Vec::new())
    }

    /// Whether everything is only computed, and can be had again.
    fn is_simulated(&self) -> bool {
        false
    }

    /// Sets a parameter besides the outputs, such as an auxiliary supply's switch.
    ///
    /// # Errors
    /// [`RigError`] when the rig has no such parameter or does not confirm it.
    fn set(&mut self, parameter: &Name, value: ParameterValue) -> Result<(), RigError>;

    /// Sends an instrument a message of its own; what it answers, where it is a query.
    ///
    /// # Errors
    /// [`RigError`] when there is no such instrument, or it does not answer.
    fn send(&mut self, to: &Name, _text: &str, _answers: bool) -> Result<Option<String>, RigError> {
        Err(RigError::NoInstrument { name: to.to_string() })
    }

    /// Switches everything off that a test may have left on, instruments too; waits for nothing, as
    /// [`Rig::off`].
    ///
    /// # Errors
    /// [`RigError`] when the rig does not confirm it.
    fn end_test(&mut self) -> Result<(), RigError> {
        self.off()
    }

    /// Switches every output off, and waits for nothing: what was charged stays so until
    /// [`Rig::discharge`].
    ///
    /// # Errors
    /// [`RigError`] when the rig does not confirm it.
    fn off(&mut self) -> Result<(), RigError>;

    /// Waits with outputs off until nothing is charged of what was kept on or charged, by whatever program and
    /// however that ended; `None` where nothing was. Only [`Attendant::abandons`] ends the wait.
    ///
    /// # Errors
    /// [`RigError::StillCharged`] where it is not discharged, [`RigError`] when the rig is lost.
    fn discharge(
        &mut self,
        _attendant: &mut dyn Attendant,
    ) -> Result<Option<Discharged>, RigError> {
        Ok(None)
    }
}

/// What is injected next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Announced<'a> {
    /// The test.
    pub test: &'a str,
    /// The injection, in words that are its own within the test.
    pub injection: &'a str,
    /// How often it was injected and graded before.
    pub times_before: u32,
}

impl Announced<'_> {
    /// A number that stands for it, below 2⁵³ so that it crosses any line unharmed (FNV-1a).
    pub fn draw(&self) -> u64 {
        let count = self.times_before.to_le_bytes();
        let parts = [self.test.as_bytes(), &[0], self.injection.as_bytes(), &[0], &count];
        let mix = |hash: u64, byte: &u8| (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3);
        let hash = parts.into_iter().flatten().fold(0xcbf2_9ce4_8422_2325, mix);
        (hash ^ (hash >> 53)) & ((1 << 53) - 1)
    }
}

/// Why a rig cannot go on.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RigError {
    /// A cleared program that the rig nevertheless cannot play, which is an error of the rig.
    #[error("the rig cannot play segment `{segment}`: it never ends")]
    Endless {
        /// The segment.
        segment: String,
    },
    /// Something was wanted while a program plays.
    #[error("a program is playing")]
    Playing,
    /// The rig's own code failed.
    #[error("the rig broke down while it played; outputs are off")]
    Broken,
    /// Nothing answers at an address.
    #[error("nothing answers at {address}: {why}")]
    NoAnswer {
        /// The address.
        address: String,
        /// What the system says.
        why: String,
    },
    /// The connection broke.
    #[error("the connection to {address} broke: {why}")]
    Lost {
        /// The address.
        address: String,
        /// What the system says.
        why: String,
    },
    /// Something answered that makes no sense.
    #[error("{address} answered `{got}` to `{asked}`, which makes no sense: {why}")]
    Nonsense {
        /// The address.
        address: String,
        /// What was asked.
        asked: String,
        /// What came, shortened.
        got: String,
        /// What was wanted.
        why: String,
    },
    /// It understood, and would not.
    #[error("{address} does not tell {asked}: {why}")]
    Declined {
        /// The address.
        address: String,
        /// What was asked.
        asked: String,
        /// What it says.
        why: String,
    },
    /// Another client controls the test set.
    #[error("another client (number {owner}) controls the test set at {address}")]
    Busy {
        /// The address.
        address: String,
        /// The other client's number.
        owner: String,
    },
    /// The test set is not what the rig file says.
    #[error("the test set at {address} is not as the rig file says: {lacks}")]
    Different {
        /// The address.
        address: String,
        /// What it lacks.
        lacks: String,
    },
    /// The test set ended what it played, and nobody here wanted it.
    #[error("the test set switched off before the end; the cause it names: {cause}")]
    SwitchedOff {
        /// What it says.
        cause: String,
    },
    /// The test set reports errors.
    #[error("the test set reports {errors}")]
    Reports {
        /// Its errors.
        errors: String,
    },
    /// An instrument that is not there.
    #[error("the rig has no instrument `{name}`")]
    NoInstrument {
        /// Its name.
        name: String,
    },
    /// Instruments that could not be switched off.
    #[error("{words}")]
    LeftOn {
        /// Their names.
        names: Vec<String>,
        /// Of each what may still be on, and why.
        words: String,
    },
    /// More conditions on instruments than the computer can watch.
    #[error("only one condition on instruments can be watched in one injection")]
    TooManyWatched,
    /// An instrument that is another than its file says.
    #[error("the instrument at {address} calls itself `{got}`, not `{wanted}`")]
    OtherInstrument {
        /// Where it is.
        address: String,
        /// What it calls itself.
        got: String,
        /// The pattern of its file.
        wanted: String,
    },
    /// A place of the asset where its leads cannot be.
    #[error("the leads cannot be taken there: {0}")]
    NoPlace(String),
    /// A place where nothing of the asset can stand.
    #[error("nothing of the asset can stand at `{0}`")]
    NoStand(String),
    /// Something that does not discharge.
    #[error("STILL CHARGED: {0} flows on with outputs off; touch nothing, and open no circuit")]
    StillCharged(String),
    /// A parameter that cannot be set.
    #[error("the rig cannot set `{parameter}`")]
    NoParameter {
        /// Its name.
        parameter: String,
    },
}
