//! What a player plays on.

use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Place, Probe, Reading};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::program::Stand;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::injection::waveform::Piece;
use waltron_core::quantity::Time;
use waltron_core::text::name::Name;

/// Something that puts out what it is told, lets time pass, and measures. Times count from the program's
/// start.
pub(crate) trait Device {
    /// Puts this out from now on.
    fn put_out(&mut self, now: Time, stimulus: Stimulus);

    /// What is put out.
    fn out(&self) -> &Stimulus;

    /// Lets time pass up to a moment or the first contact change, which is returned.
    fn advance(&mut self, until: Time) -> Option<Edge>;

    /// Closes or opens a switch.
    fn switch(&mut self, output: &Name, closed: bool);

    /// Has somebody move something in their own time, where a simulation does that.
    fn hand(&mut self, to: &Stand);

    /// The values of these, in SI; none where there is nothing to measure.
    fn values(&mut self, probes: &[&Probe], here: Here<'_>) -> Vec<Option<f64>>;

    /// Readings of these for the record.
    fn read(&mut self, probes: &[&Probe], here: Here<'_>) -> Vec<Reading>;

    /// What a meter has seen: so many samples at so many a second, from a moment in s on.
    fn samples(&self, of: &Name, start_s: f64, rate_hz: f64, count: usize) -> Option<Vec<f64>>;

    /// Switches everything off, switches open.
    fn off(&mut self);

    /// What may be charged at present.
    fn charge(&self) -> Charge;

    /// Notes that something may be charged from now on, or that nothing is any more.
    fn note_charge(&mut self, charge: Charge);
}

/// Whether something direct was put out and is not known to be discharged since.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Charge {
    /// Nothing was.
    #[default]
    Nothing,
    /// It was, and the meter that is to tell when it is over has not shown it yet.
    Unseen,
    /// It was, and that meter has shown it; or it was less than what counts as nothing.
    Seen,
}

/// Where and when something is measured.
#[derive(Clone, Debug)]
pub(crate) struct Here<'a> {
    /// What the rig can measure, and how well.
    pub(crate) capability: &'a Capability,
    /// Now.
    pub(crate) now: Time,
    /// Since when the level has been out.
    pub(crate) level_start: Time,
    /// Where in the program; none at its end.
    pub(crate) place: Option<Place>,
    /// All that was put out, where the last of it is to be looked at whole.
    pub(crate) pieces: Option<Vec<Piece<'a>>>,
}
