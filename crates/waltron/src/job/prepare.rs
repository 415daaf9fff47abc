//! Setting a plan's tests up, and what stands in the way.

use super::Job;
use super::scripts::load_scripts;
use crate::failure::Failure;
use crate::wings::WINGS;
use waltron_core::asset::Asset;
use waltron_core::plan::PlanForm;
use waltron_core::plan::hookup::{Sheet, Site};
use waltron_core::procedure::{Bench, Planned};
use waltron_core::quantity::counted;
use waltron_core::record::Chosen;
use waltron_core::text::document::Problem;
use waltron_core::text::name::nearest;
use waltron_rig::runner::{Blocked, Prepared, prepare, set_up};

impl Job {
    /// The bench that procedures are set up for.
    pub(crate) fn bench(&self) -> Bench<'_> {
        Bench { asset: &self.asset, capability: &self.rig.capability }
    }

    /// Sets every test up, so that some can be chosen before they are cleared.
    ///
    /// # Errors
    /// Every test that cannot be set up.
    pub(crate) fn set_up(&self) -> Result<Prepared, Failure> {
        set_up(&self.plan, self.bench(), &self.scripts).map_err(|blocked| self.blocked(&blocked))
    }

    /// Sets every test up and clears every program.
    ///
    /// # Errors
    /// Everything that stands in the way, at its test in the plan.
    pub(crate) fn prepare(&self) -> Result<Prepared, Failure> {
        prepare(&self.plan, self.bench(), &self.scripts).map_err(|blocked| self.blocked(&blocked))
    }

    /// Sets every test up for an asset that is not quite as its file says.
    ///
    /// # Errors
    /// Everything that stands in the way, at its test in the plan.
    pub(crate) fn prepare_for(&self, asset: &Asset, chosen: &Chosen) -> Result<Prepared, Failure> {
        let plan = PlanForm::load(&self.plan_source, WINGS)?.resolve(&self.plan_source, asset)?;
        let (scripts, _) =
            load_scripts(&self.plan_path, &self.plan_source, &plan, asset, &self.rig)?;
        let bench = Bench { asset, capability: &self.rig.capability };
        let prepared = set_up(&plan, bench, &scripts);
        let mut prepared = prepared.map_err(|blocked| self.blocked(&blocked))?;
        prepared.keep(chosen);
        let blocked = prepared.refused(&plan, bench);
        if blocked.is_empty() { Ok(prepared) } else { Err(self.blocked(&blocked)) }
    }

    /// Clears what is left of the plan.
    ///
    /// # Errors
    /// Everything that stands in the way, at its test in the plan.
    pub(crate) fn clear(&self, prepared: &Prepared) -> Result<(), Failure> {
        let blocked = prepared.refused(&self.plan, self.bench());
        if blocked.is_empty() { Ok(()) } else { Err(self.blocked(&blocked)) }
    }

    pub(super) fn blocked(&self, blocked: &[Blocked]) -> Failure {
        let problems = blocked.iter().map(|b| self.problem(b)).collect();
        Failure::problems(&self.plan_source, problems)
    }

    pub(super) fn problem(&self, blocked: &Blocked) -> Problem {
        let message = format!("test `{}`: {}", blocked.test.id, blocked.obstacle);
        Problem::new(blocked.test.span.clone(), message)
            .help("nothing was put out; change the test, the asset's ratings or the rig")
    }

    /// Refuses the id of a test that the plan does not have.
    ///
    /// # Errors
    /// With the nearest id.
    pub(crate) fn refuse_unknown_test(&self, id: &str) -> Result<(), Failure> {
        if self.plan.tests.iter().any(|t| t.id == id) {
            return Ok(());
        }
        let ids: Vec<&str> = self.plan.tests.iter().map(|t| t.id.as_str()).collect();
        let help = match nearest(id, ids.iter().copied()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("its tests are {}", ids.join(", ")),
        };
        Err(Failure::usage(format!("the plan has no test `{id}`")).help(help))
    }

    /// Refuses sequences that run programs among the chosen tests, unless that is allowed.
    ///
    /// # Errors
    /// The step, at its line.
    pub(crate) fn refuse_execution(&self, prepared: &Prepared) -> Result<(), Failure> {
        for (id, loaded) in self.scripts.iter().filter(|(id, _)| prepared.has(id.as_str())) {
            if let Some(span) = waltron_script::executes(&loaded.script) {
                let problem = Problem::new(span, "this step runs a program on this computer");
                let problem = problem.help("allow it with --allow-exec, if you know the script");
                return Err(Failure::problems(&self.source_of(id), vec![problem]));
            }
        }
        Ok(())
    }

    /// One injection of a test, counted from 1.
    ///
    /// # Errors
    /// A test or an injection that is not there, a plan that cannot be run.
    pub(crate) fn injection(&self, test: &str, number: usize) -> Result<Planned, Failure> {
        self.refuse_unknown_test(test)?;
        let mut prepared = self.prepare()?;
        prepared.keep_only(test);
        let all: Vec<&Planned> = prepared
            .planned()
            .iter()
            .map(|(_, p)| p)
            .filter(|p| !p.program.segments.is_empty())
            .collect();
        match all.get(number.wrapping_sub(1)) {
            Some(planned) => Ok((*planned).clone()),
            None if all.is_empty() => {
                let message = format!("test `{test}` puts nothing out: there is nothing to draw");
                Err(Failure::usage(message))
            }
            None => {
                let has = counted(all.len(), "injection");
                let message = format!("test `{test}` has {has}, not {number}");
                Err(Failure::usage(message).help("`waltron check --timeline` lists them"))
            }
        }
    }

    /// The connection sheet of what a prepared plan will do.
    pub(crate) fn sheet(&self, prepared: &Prepared) -> Sheet {
        let site = Site {
            asset: &self.asset,
            plan: &self.plan,
            capability: &self.rig.capability,
            rig: &self.rig.name,
        };
        Sheet::of(site, prepared.planned(), |id| self.rig.terminal(id).to_owned())
    }
}
