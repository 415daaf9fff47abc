//! Sequences: the script language for any injection.
//!
//! A script is text of one step a line: `hold`, `ramp`, `fault`, `wait`, `repeat`, `for`, `guard`,
//! `ask`, `read`, `expect`, … It is read by [`load`], which finds every mistake before anything
//! runs, and run by [`Sequence`], a [`Procedure`] like the built-in
//! ones: it hands out programs, and is told what was observed. [`format()`] lays a script out.
//!
//! The grammar stands in the project's documentation, `docs/grammar.ebnf`.

pub mod ast;
mod build;
mod check;
mod code;
mod condition;
mod context;
mod expectation;
mod format;
mod labels;
mod machine;
mod names;
mod output;
mod parse;
mod question;
mod scene;
mod stimuli;
mod target;
#[cfg(test)]
mod tests;
mod values;
mod walk;

pub use ast::Script;
pub use context::{Context, RecordedChannel, RecordedFile};
pub use format::format;
pub use machine::Sequence;

use std::sync::Arc;
use waltron_core::plan::Playable;
use waltron_core::procedure::Procedure;
use waltron_core::text::document::{DocumentError, Problem, Problems, Source};

/// A script that may be run, with all it needs to know.
#[derive(Clone, Debug)]
pub struct Loaded {
    /// The script.
    pub script: Script,
    /// What it knows.
    pub context: Arc<Context>,
    /// What it was seen to do.
    foreseen: Arc<walk::Foreseen>,
}

impl Playable for Loaded {
    fn begin(&self) -> Box<dyn Procedure> {
        Box::new(self.procedure())
    }
}

impl Loaded {
    /// The script at its beginning.
    pub fn procedure(&self) -> Sequence {
        Sequence::foreseen(&self.script, Arc::clone(&self.context), Arc::clone(&self.foreseen))
    }

    /// What the script should still have thought of, though it can run.
    pub fn warnings(&self) -> Vec<Problem> {
        let mut all = check::warnings(&self.script, &self.context);
        all.extend(self.foreseen.warnings.iter().cloned());
        all.sort_by_key(|problem| problem.span.start);
        all
    }
}

/// Reads a script's text alone; its names are checked by [`load`].
///
/// # Errors
/// Every mistake of its grammar.
pub fn parse(source: &Source) -> Result<Script, DocumentError> {
    let mut problems = Problems::default();
    let script = parse::parse(&source.text, &mut problems);
    problems.none_or(source)?;
    Ok(script)
}

/// Reads a script and checks it against what it will run on, on every course that it can take.
///
/// # Errors
/// Every mistake: grammar, names, units, kinds, loops without bound, ramps that never arrive, and what
/// nothing bounds that would be put out.
pub fn load(source: &Source, context: &Arc<Context>) -> Result<Loaded, DocumentError> {
    let mut problems = Problems::default();
    let script = parse::parse(&source.text, &mut problems);
    check::check(&script, context, &mut problems);
    problems.none_or(source)?;
    let mut foreseen = walk::foresee(&script, context);
    let mut problems = Problems::default();
    foreseen.problems.drain(..).for_each(|problem| problems.push(problem));
    problems.none_or(source)?;
    Ok(Loaded { script, context: Arc::clone(context), foreseen: Arc::new(foreseen) })
}

/// Where a script first runs a program of the attendant's, if it does.
pub fn executes(script: &Script) -> Option<std::ops::Range<usize>> {
    fn walk(steps: &[ast::Step]) -> Option<std::ops::Range<usize>> {
        steps.iter().find_map(|step| match &step.what {
            ast::Statement::Execute { .. } => Some(step.span.0.clone()),
            other => check::blocks(other).into_iter().find_map(walk),
        })
    }
    let own = walk(&script.body).or_else(|| walk(&script.finally));
    own.or_else(|| script.sequences.iter().find_map(|s| walk(&s.body)))
}

/// The recorded files that a script plays, as it names them, each once.
pub fn recordings(script: &Script) -> Vec<String> {
    fn walk(steps: &[ast::Step], found: &mut Vec<String>) {
        for step in steps {
            if let ast::Statement::Playback(playback) = &step.what
                && !found.contains(&playback.file)
            {
                found.push(playback.file.clone());
            }
            check::blocks(&step.what).into_iter().for_each(|b| walk(b, found));
        }
    }
    let mut found = Vec::new();
    walk(&script.body, &mut found);
    script.sequences.iter().for_each(|s| walk(&s.body, &mut found));
    found
}
