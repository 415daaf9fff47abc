//! Opening the rig that a rig file describes.

use crate::failure::Failure;
use crate::files::read_source;
use std::path::Path;
use waltron_core::document::Source;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigFile, RigKind};
use waltron_specimen::SpecimenForm;

/// How a rig is set up.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Setup {
    pub(crate) seed: u64,
    pub(crate) pace: Pace,
    /// Injections that were made before, whose scatter is gone with them.
    pub(crate) shots: u64,
}

/// Opens a rig.
///
/// # Errors
/// A specimen's file that cannot be read, a test set that does not answer as it should.
pub(crate) fn open(
    file: &RigFile,
    source: &Source,
    path: &Path,
    setup: Setup,
) -> Result<Box<dyn Rig>, Failure> {
    match &file.kind {
        RigKind::Virtual { specimen } => {
            Ok(Box::new(virtual_rig(file, specimen, source, path, setup)?))
        }
        RigKind::Scpi { .. } => Err(Failure::trouble("not yet")),
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
    let specimen_source = read_source(&beside)
        .map_err(|e| e.help(format!("named as the specimen in {}", source.name)))?;
    let specimen = SpecimenForm::load(&specimen_source, setup.seed)?;
    let (name, capability) = (file.name.clone(), file.capability.clone());
    let mut rig = VirtualRig::new(name, capability, specimen, setup.pace);
    rig.skip(setup.shots);
    Ok(rig)
}
