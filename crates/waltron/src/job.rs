//! A plan with everything it names: asset, rig and specimen, loaded and checked.

use crate::failure::Failure;
use crate::files::read_source;
use crate::recording::Recorded;
use crate::rigs::Setup;
use crate::wings::WINGS;
use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::plan::PlanForm;
use waltron_core::plan::hookup::{Sheet, Site};
use waltron_core::plan::{Plan, ProcedureSettings, ScriptPlace, Test};
use waltron_core::procedure::{Bench, Planned};
use waltron_core::quantity::counted;
use waltron_core::record::{Chosen, FORMAT, FileCopy, Resolved, RunStarted};
use waltron_core::text::document::{Field, Problem, Source};
use waltron_core::text::name::{Name, nearest};
use waltron_rig::instruments::{InstrumentFile, together};
use waltron_rig::runner::{Blocked, Prepared, prepare, set_up};
use waltron_rig::virtual_rig::Pace;
use waltron_rig::{Rig, RigFile, RigForm, RigKind};
use waltron_script::{Context, Loaded, RecordedFile};

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
        let plan_source = read_source(plan_path)?;
        let form = PlanForm::load(&plan_source, WINGS)?;
        let asset_path = beside(plan_path, form.asset_file().as_str());
        let asset_source = named_file(&plan_source, form.asset_file(), &asset_path)?;
        let asset = WINGS.asset(&asset_source)?;
        let plan = form.resolve(&plan_source, &asset)?;
        let (rig_path, rig_source) = match (rig, form.rig_file()) {
            (Some(path), _) => (path.to_owned(), read_source(path)?),
            (None, Some(text)) => {
                let path = beside(plan_path, text.as_str());
                let source = named_file(&plan_source, text, &path)?;
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

    /// Takes another seed than the rig file's: what a sequence leaves to chance is drawn from it.
    /// Whether tests that were set up before have to be set up anew.
    ///
    /// # Errors
    /// A sequence that this seed does not allow.
    pub(crate) fn reseed(&mut self, seed: u64) -> Result<bool, Failure> {
        if self.rig.seed == seed {
            return Ok(false);
        }
        self.rig.seed = seed;
        if self.scripts.is_empty() {
            return Ok(false);
        }
        (self.scripts, self.script_sources) =
            load_scripts(&self.plan_path, &self.plan_source, &self.plan, &self.asset, &self.rig)?;
        Ok(true)
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

    fn blocked(&self, blocked: &[Blocked]) -> Failure {
        let problems = blocked.iter().map(|b| self.problem(b)).collect();
        Failure::problems(&self.plan_source, problems)
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

    /// The bench that procedures are set up for.
    pub(crate) fn bench(&self) -> Bench<'_> {
        Bench { asset: &self.asset, capability: &self.rig.capability }
    }

    /// Sets every test up and clears every program.
    ///
    /// # Errors
    /// Everything that stands in the way, at its test in the plan.
    pub(crate) fn prepare(&self) -> Result<Prepared, Failure> {
        prepare(&self.plan, self.bench(), &self.scripts).map_err(|blocked| self.blocked(&blocked))
    }

    /// Sets every test up, so that some can be chosen before they are cleared.
    ///
    /// # Errors
    /// Every test that cannot be set up.
    pub(crate) fn set_up(&self) -> Result<Prepared, Failure> {
        set_up(&self.plan, self.bench(), &self.scripts).map_err(|blocked| self.blocked(&blocked))
    }

    /// Clears what is left of the plan.
    ///
    /// # Errors
    /// Everything that stands in the way, at its test in the plan.
    pub(crate) fn clear(&self, prepared: &Prepared) -> Result<(), Failure> {
        let blocked = prepared.refused(&self.plan, self.bench());
        if blocked.is_empty() { Ok(()) } else { Err(self.blocked(&blocked)) }
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
            None => {
                let has = counted(all.len(), "injection");
                let message = format!("test `{test}` has {has}, not {number}");
                Err(Failure::usage(message).help("`waltron check --timeline` lists them"))
            }
        }
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
    fn source_of(&self, test: &Name) -> Source {
        let loaded = self.scripts.get(test).map(|l| &l.context.text);
        let of_file = self.script_sources.iter().find(|s| Some(&s.text) == loaded);
        of_file.cloned().unwrap_or_else(|| {
            Source::new(self.plan_source.name.clone(), loaded.cloned().unwrap_or_default())
        })
    }

    fn problem(&self, blocked: &Blocked) -> Problem {
        let message = format!("test `{}`: {}", blocked.test.id, blocked.obstacle);
        Problem::new(blocked.test.span.clone(), message)
            .help("nothing was put out; change the test, the asset's ratings or the rig")
    }

    /// Opens the rig.
    ///
    /// # Errors
    /// Every problem of the specimen's file, a test set that does not answer as it should.
    pub(crate) fn rig(&self, seed: u64, pace: Pace) -> Result<Box<dyn Rig>, Failure> {
        let setup = Setup { seed, pace };
        crate::rigs::open(&self.base, &self.rig_source, &self.rig_path, &self.instruments, setup)
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

    /// Reads the specimen of a simulated rig, so that its mistakes show before a run.
    ///
    /// # Errors
    /// A specimen's file that cannot be read.
    pub(crate) fn try_specimen(&self) -> Result<(), Failure> {
        if let RigKind::Virtual { specimen } = &self.rig.kind {
            let setup = Setup { seed: self.rig.seed, pace: Pace::Fast };
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

    /// The rig's file as it is now.
    pub(crate) fn rig_copy(&self) -> FileCopy {
        copy(&self.rig_source)
    }

    /// The first event of a run; the seed of a simulated one.
    pub(crate) fn started(
        &self,
        seed: Option<u64>,
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
            seed,
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
}

/// Reads a plan's sequences and checks them against asset and rig; also the files they came from.
fn load_scripts(
    plan_path: &Path,
    plan_source: &Source,
    plan: &Plan,
    asset: &Asset,
    rig: &RigFile,
) -> Result<(HashMap<Name, Loaded>, Vec<Source>), Failure> {
    let read = |name: &str, span: &Range<usize>| {
        let path = beside(plan_path, name);
        if path.exists() {
            return read_source(&path);
        }
        let message = format!("there is no file `{}`", path.display());
        let problem = Problem::new(span.clone(), message).help("names are relative to this file");
        Err(Failure::problems(plan_source, vec![problem]))
    };
    load_scripts_by(plan_path, plan, asset, (&rig.capability, rig.seed), &read)
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

pub(crate) fn copy(source: &Source) -> FileCopy {
    let name = Path::new(&source.name).file_name().unwrap_or_default();
    FileCopy { name: name.to_string_lossy().into_owned(), text: source.text.to_string() }
}

/// Reads a file that another one names; if it is not there, the naming line is shown.
fn named_file(
    from: &Source,
    text: &waltron_core::text::document::Text,
    path: &Path,
) -> Result<Source, Failure> {
    if path.exists() {
        return read_source(path);
    }
    let message = format!("there is no file `{}`", path.display());
    let problem = Problem::new(text.span(), message).help("names are relative to this file");
    Err(Failure::problems(from, vec![problem]))
}
