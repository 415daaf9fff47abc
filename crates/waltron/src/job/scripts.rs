//! A plan's sequences: read, checked against asset and rig, warned of.

use super::{Job, beside};
use crate::failure::Failure;
use crate::kind::{Kind, read_named};
use crate::recording::Recorded;
use std::collections::HashMap;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::plan::{Plan, ProcedureSettings, ScriptPlace};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_rig::RigFile;
use waltron_rig::virtual_rig::Seeds;
use waltron_script::{Context, Loaded, RecordedFile};

impl Job {
    /// Takes other seeds than the rig file's: what a sequence leaves to chance is drawn from the rig's.
    /// Whether tests that were set up before have to be set up anew.
    ///
    /// # Errors
    /// A sequence that this seed does not allow.
    pub(crate) fn reseed(&mut self, seeds: Seeds) -> Result<bool, Failure> {
        let before = std::mem::replace(&mut self.rig.seeds, seeds);
        if self.scripts.is_empty() || before.rig == seeds.rig {
            return Ok(false);
        }
        (self.scripts, self.script_sources) =
            load_scripts(&self.plan_path, &self.plan_source, &self.plan, &self.asset, &self.rig)?;
        Ok(true)
    }

    /// What the plan's sequences should still have thought of.
    pub(crate) fn warnings(&self) -> Vec<Failure> {
        let mut all: Vec<(&Name, &Loaded)> = self.scripts.iter().collect();
        all.sort_by(|a, b| a.0.cmp(b.0));
        all.into_iter()
            .flat_map(|(id, loaded)| {
                let source = self.source_of(id);
                let warnings = loaded.warnings();
                warnings.into_iter().map(move |w| Failure::warning(&source, w))
            })
            .collect()
    }

    /// The text that a test's script is in.
    pub(super) fn source_of(&self, test: &Name) -> Source {
        let loaded = self.scripts.get(test).map(|l| &l.context.text);
        let of_file = self.script_sources.iter().find(|s| Some(&s.text) == loaded);
        of_file.cloned().unwrap_or_else(|| {
            Source::new(self.plan_source.name.clone(), loaded.cloned().unwrap_or_default())
        })
    }
}

/// Reads a plan's sequences and checks them against asset and rig; also the files they came from.
pub(super) fn load_scripts(
    plan_path: &Path,
    plan_source: &Source,
    plan: &Plan,
    asset: &Asset,
    rig: &RigFile,
) -> Result<(HashMap<Name, Loaded>, Vec<Source>), Failure> {
    let read = |name: &str, span: &Range<usize>| {
        read_named(Kind::Sequence, plan_source, span.clone(), &beside(plan_path, name))
    };
    load_scripts_by(plan_path, plan, asset, (&rig.capability, rig.seeds.rig), &read)
}

/// Finds a sequence's file by its name, which stands at a place of the plan.
type ScriptReader<'r> = dyn Fn(&str, &Range<usize>) -> Result<Source, Failure> + 'r;

/// Reads a plan's sequences, whose files are found by their names.
pub(crate) fn load_scripts_by(
    plan_path: &Path,
    plan: &Plan,
    asset: &Asset,
    (capability, seed): (&Capability, u64),
    read: &ScriptReader<'_>,
) -> Result<(HashMap<Name, Loaded>, Vec<Source>), Failure> {
    let mut settings = asset.settings();
    for (name, value) in &plan.lets {
        settings.insert(name.as_str(), *value);
    }
    let (mut scripts, mut sources) = (HashMap::new(), Vec::new());
    for test in &plan.tests {
        let ProcedureSettings::Sequence(sequence) = &test.procedure else { continue };
        let source = match &sequence.script {
            ScriptPlace::Inline(source) => source.clone(),
            ScriptPlace::File(name, span) => {
                let source = read(name, span)?;
                sources.push(source.clone());
                source
            }
        };
        let recordings = recordings(plan_path, &source)?;
        let (asset, capability) = (asset.clone(), capability.clone());
        let mut context = Context::new(test.id.clone(), asset, capability, source.text.clone());
        context.settings = settings.clone();
        context.recordings = recordings;
        context.seed = seed;
        let context = Arc::new(context);
        scripts.insert(test.id.clone(), waltron_script::load(&source, &context)?);
    }
    Ok((scripts, sources))
}

/// Reads the recordings that a script plays. A file that is not there is left to the script's
/// check, which shows the line that names it.
fn recordings(plan: &Path, script: &Source) -> Result<HashMap<String, Arc<RecordedFile>>, Failure> {
    let mut found = HashMap::new();
    // What the script's grammar lacks is said when it is checked.
    let Ok(parsed) = waltron_script::parse(script) else { return Ok(found) };
    for name in waltron_script::recordings(&parsed) {
        let path = beside(plan, &name);
        if path.exists() {
            let recorded = Recorded::load(&path, false, false)?;
            found.insert(name, Arc::new(recorded.for_playing()?));
        }
    }
    Ok(found)
}
