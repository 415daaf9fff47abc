//! Opening the rig that a rig file describes.

use crate::failure::Failure;
use crate::kind::{Kind, read_named};
use std::path::Path;
use waltron_core::text::document::{Problem, Source};
use waltron_rig::instruments::{InstrumentFile, InstrumentForm, WithInstruments};
use waltron_rig::scpi_rig::ScpiRig;
use waltron_rig::virtual_rig::{Pace, Seeds, VirtualRig};
use waltron_rig::{Rig, RigError, RigFile, RigKind};
use waltron_specimen::SpecimenForm;

/// How a rig is set up.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Setup {
    pub(crate) seeds: Seeds,
    pub(crate) pace: Pace,
}

/// Reads the instruments that a rig file names.
///
/// # Errors
/// A file that is not there or has mistakes, two instruments of one name.
pub(crate) fn instruments(
    file: &RigFile,
    source: &Source,
    path: &Path,
) -> Result<Vec<InstrumentFile>, Failure> {
    let mut all: Vec<InstrumentFile> = Vec::new();
    for (name, span) in &file.instruments {
        let place = path.parent().unwrap_or(Path::new("")).join(name);
        let text = read_named(Kind::Instrument, source, span.clone(), &place)?;
        let read = InstrumentForm::load(&text)?;
        if all.iter().any(|known| known.name == read.name) {
            let message = format!("there are two instruments `{}`", read.name);
            return Err(Failure::problems(source, vec![Problem::new(span.clone(), message)]));
        }
        all.push(read);
    }
    Ok(all)
}

/// Opens a rig with its instruments.
///
/// # Errors
/// A specimen's file that cannot be read, a test set or instrument that does not answer as it should.
pub(crate) fn open(
    file: &RigFile,
    source: &Source,
    path: &Path,
    instruments: &[InstrumentFile],
    mut setup: Setup,
) -> Result<Box<dyn Rig>, Failure> {
    if instruments.is_empty() {
        return alone(file, source, path, setup);
    }
    // Real instruments know no other time.
    setup.pace = Pace::Real;
    let base = alone(file, source, path, setup)?;
    let rig = WithInstruments::connect(base, instruments.to_vec());
    Ok(Box::new(rig.map_err(|error| connecting(&error))?))
}

fn alone(
    file: &RigFile,
    source: &Source,
    path: &Path,
    setup: Setup,
) -> Result<Box<dyn Rig>, Failure> {
    match &file.kind {
        RigKind::Virtual { specimen } => {
            Ok(Box::new(virtual_rig(file, specimen, source, path, setup)?))
        }
        RigKind::Scpi { address } => {
            let (name, wanted) = (file.name.clone(), file.capability.clone());
            let rig = ScpiRig::connect(name, address, wanted, setup.seeds);
            Ok(Box::new(rig.map_err(|error| connecting(&error))?))
        }
    }
}

/// What is said where a test set cannot be had.
fn connecting(error: &RigError) -> Failure {
    let failure = Failure::trouble(error.to_string());
    match error {
        RigError::NoAnswer { .. } => failure.help(
            "is it switched on, and its address right? `waltron rig probe ADDRESS` asks who is there; \
             `waltron rig serve RIG` is a simulated one",
        ),
        RigError::Busy { .. } => {
            failure.help("wait until the other client has ended, or end it")
        }
        RigError::Different { .. } => failure.help("mend the rig file, or connect the right test set"),
        _ => failure.help("`waltron rig probe ADDRESS` shows what answers there"),
    }
}

/// Builds a virtual rig with its specimen.
///
/// # Errors
/// A specimen's file that cannot be read.
pub(crate) fn virtual_rig(
    file: &RigFile,
    specimen: &str,
    source: &Source,
    path: &Path,
    setup: Setup,
) -> Result<VirtualRig, Failure> {
    let beside = path.parent().unwrap_or(Path::new("")).join(specimen);
    // Where the rig's file names it.
    let at = source.text.find(specimen).map_or(0..0, |at| at..at + specimen.len());
    let specimen_source = read_named(Kind::Specimen, source, at, &beside)?;
    let mut specimen = SpecimenForm::load(&specimen_source, setup.seeds.specimen)?;
    specimen.connect(&file.capability).map_err(|unconnected| {
        let written = format!("\"{}\"", unconnected.meaning);
        let at = source.text.find(&written).map_or(0..0, |at| at..at + written.len());
        let problem = Problem::new(at, unconnected.to_string());
        let problem = problem.help("is it the right specimen, and its name spelt as it spells it?");
        Failure::problems(source, vec![problem])
    })?;
    let (name, capability) = (file.name.clone(), file.capability.clone());
    let rig = VirtualRig::new(name, capability, specimen, setup.pace).seeded(setup.seeds.rig);
    Ok(rig)
}
