//! What the blocks of a script are: names that are set again, sequences that call themselves.

use super::super::ast::{Script, Statement, Step};
use std::collections::HashMap;
use waltron_core::text::document::{Problem, Problems};
use waltron_core::text::name::Name;

/// Names that get a new value somewhere, so that their first one proves nothing.
pub(super) fn reassigned(script: &Script) -> Vec<Name> {
    fn walk(steps: &[Step], found: &mut Vec<Name>) {
        for step in steps {
            match &step.what {
                Statement::Let { name, new: false, .. } => found.push(name.clone()),
                other => blocks(other).into_iter().for_each(|b| walk(b, found)),
            }
        }
    }
    let mut found = Vec::new();
    walk(&script.body, &mut found);
    walk(&script.finally, &mut found);
    script.sequences.iter().for_each(|s| walk(&s.body, &mut found));
    found
}

/// The blocks inside a statement.
pub(crate) fn blocks(what: &Statement) -> Vec<&[Step]> {
    match what {
        Statement::Play(body) => vec![body],
        Statement::Repeat(r) => vec![&r.body],
        Statement::For(f) => vec![&f.body],
        Statement::Guard(g) => vec![&g.body],
        Statement::If(branches) => branches.iter().map(|(_, b)| b.as_slice()).collect(),
        _ => Vec::new(),
    }
}

/// Longest chain of sub-sequences that call each other.
const DEEPEST_CALLS: usize = 30;

/// Sub-sequences that call themselves, by whatever way; false where they call each other so deeply
/// that nothing can be gone through.
pub(super) fn recursion(script: &Script, problems: &mut Problems) -> bool {
    fn calls(steps: &[Step], found: &mut Vec<(Name, std::ops::Range<usize>)>) {
        for step in steps {
            if let Statement::Call { name, .. } = &step.what {
                found.push((name.clone(), step.span.0.clone()));
            }
            blocks(&step.what).into_iter().for_each(|b| calls(b, found));
        }
    }
    let mut graph: HashMap<&Name, Vec<(Name, std::ops::Range<usize>)>> = HashMap::new();
    for sequence in &script.sequences {
        let mut found = Vec::new();
        calls(&sequence.body, &mut found);
        graph.insert(&sequence.name, found);
    }
    // Each pass finds the chains that are one call longer.
    let mut depths: HashMap<&Name, usize> = HashMap::new();
    for _ in 0..=DEEPEST_CALLS {
        for sequence in &script.sequences {
            let below = graph[&sequence.name].iter().filter_map(|(called, _)| depths.get(called));
            let depth = 1 + below.copied().max().unwrap_or(0);
            depths.insert(&sequence.name, depth.min(DEEPEST_CALLS + 1));
        }
    }
    let deep = script.sequences.iter().find(|s| depths[&s.name] > DEEPEST_CALLS);
    if let Some(deep) = deep.filter(|_| script.sequences.len() > DEEPEST_CALLS) {
        let message = format!("sequences call each other more than {DEEPEST_CALLS} deep");
        let problem = Problem::new(deep.span.0.clone(), message);
        problems.push(problem.help("call several from one, instead of each the next"));
        return false;
    }
    for sequence in &script.sequences {
        let (mut seen, mut open) = (Vec::new(), vec![sequence.name.clone()]);
        while let Some(name) = open.pop() {
            for (called, span) in graph.get(&name).into_iter().flatten() {
                if *called == sequence.name {
                    let message =
                        format!("sequence `{}` would call itself for ever", sequence.name);
                    problems
                        .push(Problem::new(span.clone(), message).help("use `repeat` or `for`"));
                } else if !seen.contains(called) {
                    seen.push(called.clone());
                    open.push(called.clone());
                }
            }
        }
    }
    true
}
