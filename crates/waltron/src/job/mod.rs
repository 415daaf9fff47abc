//! A plan with everything it names: asset, rig and specimen, loaded and checked.

mod prepare;
mod record;
mod scripts;

pub(crate) use record::copy;
use scripts::load_scripts;
pub(crate) use scripts::load_scripts_by;

use crate::failure::Failure;
use crate::kind::{Kind, read_as, read_named};
use crate::rigs::Setup;
use crate::wings::WINGS;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use waltron_core::asset::Asset;
use waltron_core::plan::Plan;
use waltron_core::plan::PlanForm;
use waltron_core::text::document::{Field, Source};
use waltron_core::text::name::Name;
use waltron_rig::instruments::{InstrumentFile, together};
use waltron_rig::virtual_rig::{Pace, Seeds};
use waltron_rig::{Rig, RigFile, RigForm, RigKind};
use waltron_script::Loaded;

/// Everything a plan needs.
pub(crate) struct Job {
    pub(crate) plan: Plan,
    pub(crate) asset: Asset,
    pub(crate) rig: RigFile,
    pub(crate) scripts: HashMap<Name, Loaded>,
    plan_source: Source,
    script_sources: Vec<Source>,
    asset_source: Source,
    rig_source: Source,
    rig_path: PathBuf,
    /// The rig without its instruments.
    base: RigFile,
    instruments: Vec<InstrumentFile>,
    plan_path: PathBuf,
}

fn beside(file: &Path, name: &str) -> PathBuf {
    file.parent().unwrap_or(Path::new("")).join(name)
}

impl Job {
    /// Loads a plan with its asset and rig; `rig` replaces the one the plan names.
    ///
    /// # Errors
    /// Every problem of the first file that has any.
    pub(crate) fn load(plan_path: &Path, rig: Option<&Path>) -> Result<Self, Failure> {
        let plan_source = read_as(Kind::Plan, plan_path)?;
        let form = PlanForm::load(&plan_source, WINGS)?;
        let asset_path = beside(plan_path, form.asset_file().as_str());
        let at = form.asset_file().span();
        let asset_source = read_named(Kind::Asset, &plan_source, at, &asset_path)?;
        let asset = WINGS.asset(&asset_source)?;
        let plan = form.resolve(&plan_source, &asset)?;
        let (rig_path, rig_source) = match (rig, form.rig_file()) {
            (Some(path), _) => (path.to_owned(), read_as(Kind::Rig, path)?),
            (None, Some(text)) => {
                let path = beside(plan_path, text.as_str());
                let source = read_named(Kind::Rig, &plan_source, text.span(), &path)?;
                (path, source)
            }
            (None, None) => {
                return Err(Failure::file(plan_path, "the plan names no rig")
                    .help("add `rig = \"….rig.toml\"` to [plan], or give --rig FILE"));
            }
        };
        let base = RigForm::load(&rig_source)?;
        let instruments = crate::rigs::instruments(&base, &rig_source, &rig_path)?;
        let mut rig = base.clone();
        rig.capability = together(&base.capability, &instruments);
        let (scripts, script_sources) = load_scripts(plan_path, &plan_source, &plan, &asset, &rig)?;
        Ok(Self {
            plan,
            asset,
            rig,
            scripts,
            plan_source,
            script_sources,
            asset_source,
            rig_source,
            rig_path,
            base,
            instruments,
            plan_path: plan_path.to_owned(),
        })
    }

    /// Opens the rig.
    ///
    /// # Errors
    /// Every problem of the specimen's file, a test set that does not answer as it should.
    pub(crate) fn rig(&self, seeds: Seeds, pace: Pace) -> Result<Box<dyn Rig>, Failure> {
        let setup = Setup { seeds, pace };
        crate::rigs::open(&self.base, &self.rig_source, &self.rig_path, &self.instruments, setup)
    }

    /// Reads the specimen of a simulated rig, so that its mistakes show before a run.
    ///
    /// # Errors
    /// A specimen's file that cannot be read.
    pub(crate) fn try_specimen(&self) -> Result<(), Failure> {
        if let RigKind::Virtual { specimen } = &self.rig.kind {
            let setup = Setup { seeds: self.rig.seeds, pace: Pace::Fast };
            crate::rigs::virtual_rig(
                &self.base,
                specimen,
                &self.rig_source,
                &self.rig_path,
                setup,
            )?;
        }
        Ok(())
    }
}
