//! What a record tells of a job, and what has changed since.

use super::Job;
use crate::failure::Failure;
use crate::wings::WINGS;
use std::path::Path;
use waltron_core::plan::PlanForm;
use waltron_core::plan::{ProcedureSettings, ScriptPlace, Test};
use waltron_core::record::{FORMAT, FileCopy, Resolved, RunStarted};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_rig::virtual_rig::Seeds;

impl Job {
    /// The first event of a run; the seeds of a simulated one.
    pub(crate) fn started(
        &self,
        seeds: Option<Seeds>,
        tester: Option<String>,
        only: Vec<String>,
    ) -> RunStarted {
        RunStarted {
            format: FORMAT,
            version: env!("CARGO_PKG_VERSION").to_owned(),
            title: self.plan.title.clone(),
            tester: tester.or_else(|| self.plan.tester.clone()),
            reason: self.plan.reason.clone(),
            ambient: self.plan.ambient.clone(),
            rig_name: self.rig.name.clone(),
            seed: seeds.map(|seeds| seeds.rig),
            specimen_seed: seeds.filter(|s| s.specimen != s.rig).map(|seeds| seeds.specimen),
            asset: copy(&self.asset_source),
            resolved: Some(Resolved::of(&self.asset)),
            plan: copy(&self.plan_source),
            rig: copy(&self.rig_source),
            scripts: self.script_sources.iter().map(copy).collect(),
            hookup: None,
            rule: self.plan.rule,
            only,
        }
    }

    /// The rig's file as it is now.
    pub(crate) fn rig_copy(&self) -> FileCopy {
        copy(&self.rig_source)
    }

    /// The tests that are not as they were when a record was begun, or that are gone.
    ///
    /// # Errors
    /// A plan in the record that this version does not read.
    pub(crate) fn changed_since(&self, started: &RunStarted) -> Result<Vec<Name>, Failure> {
        let source = Source::new(started.plan.name.clone(), started.plan.text.as_str());
        let then = PlanForm::load(&source, WINGS)?.resolve(&source, &self.asset)?;
        let file = |sources: &[FileCopy], name: &str| {
            let name = Path::new(name).file_name().unwrap_or_default().to_string_lossy();
            sources.iter().find(|s| s.name == name).map(|s| s.text.clone())
        };
        let scripts: Vec<FileCopy> = self.script_sources.iter().map(copy).collect();
        let text = |place: &ScriptPlace, sources: &[FileCopy]| match place {
            ScriptPlace::Inline(source) => Some(source.text.to_string()),
            ScriptPlace::File(name, _) => file(sources, name),
        };
        let same = |a: &ProcedureSettings, b: &ProcedureSettings| match (a, b) {
            (ProcedureSettings::Sequence(a), ProcedureSettings::Sequence(b)) => {
                then.lets == self.plan.lets
                    && text(&a.script, &started.scripts) == text(&b.script, &scripts)
            }
            (a, b) => a == b,
        };
        let is_changed = |test: &&Test| {
            let now = self.plan.tests.iter().find(|t| t.id == test.id);
            now.is_none_or(|now| !same(&test.procedure, &now.procedure))
        };
        Ok(then.tests.iter().filter(is_changed).map(|test| test.id.clone()).collect())
    }
}

pub(crate) fn copy(source: &Source) -> FileCopy {
    source.into()
}
