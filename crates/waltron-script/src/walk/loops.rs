//! Loops of a sequence that is gone through: as often as they are done for certain, then as often as
//! they can be, until another round changes nothing that is known.

use super::*;
use crate::ast::{For, ForOver, Repeat, RepeatKind};
use crate::build::{least, most};
use crate::scene::HAIR_S;
use crate::values::range;

/// Most rounds that are gone through of a loop that does not come to rest.
const MOST_ROUNDS: u64 = 100_000;

impl<'a> Walk<'a> {
    pub(super) fn for_each(&mut self, repeat: &'a For, step: &Step, scene: &mut Scene) -> Walked {
        let values = match &repeat.over {
            ForOver::List(list) => match evaluate(list, scene)? {
                Value::List(items) => items,
                other => vec![other],
            },
            ForOver::Range(from, to, by) => {
                if [from, to, by].iter().any(|e| evaluate(e, scene).is_ok_and(|v| v.is_unknown())) {
                    return self.for_unknown(repeat, [from, to, by], step, scene);
                }
                range(from, to, by, scene)?
            }
        };
        for value in values {
            self.too_much(step)?;
            let depth = scene.names.depth();
            scene.names.enter(false);
            scene.names.define(repeat.name.as_str(), value);
            let flow = self.block(&repeat.body, false, scene)?;
            scene.names.back_to(depth);
            if flow == Flow::Over {
                return Ok(flow);
            }
        }
        Ok(Flow::On)
    }

    /// A loop whose ends are not known before: any of its rounds may be the last.
    fn for_unknown(
        &mut self,
        repeat: &'a For,
        [from, to, by]: [&Expr; 3],
        step: &Step,
        scene: &mut Scene,
    ) -> Walked {
        let Type::Quantity(dimension) = evaluate(from, scene)?.kind() else {
            let message = "a loop runs over quantities";
            return Err(Problem::new(from.span.clone(), message));
        };
        let (low, high) = (
            least(from, dimension, scene)?.min(least(to, dimension, scene)?),
            most(from, dimension, scene)?.max(most(to, dimension, scene)?),
        );
        let smallest = match (least(by, dimension, scene)?, most(by, dimension, scene)?) {
            (a, b) if a > 0.0 || b < 0.0 => a.abs().min(b.abs()),
            _ => {
                return Err(Problem::new(
                    by.span.clone(),
                    "this step may be zero, and never arrives",
                ));
            }
        };
        let value = Value::Range(Range { low, high, dimension });
        let rounds = ((high - low) / smallest).floor() as u64 + 1;
        let certain = std::mem::replace(&mut self.is_certain, false);
        let (mut ends, mut done) = (scene.clone(), 0);
        for _ in 0..rounds.min(MOST_ROUNDS) {
            self.too_much(step)?;
            let before = scene.clone();
            let depth = scene.names.depth();
            scene.names.enter(false);
            scene.names.define(repeat.name.as_str(), value.clone());
            let flow = self.block(&repeat.body, false, scene)?;
            scene.names.back_to(depth);
            if flow == Flow::Over {
                break;
            }
            let mut joined = ends.clone().joined(scene);
            done += 1;
            if is_at_rest(&before, scene) {
                let one = scene.elapsed.1 - before.elapsed.1;
                joined.elapsed.1 += one * rounds.saturating_sub(done) as f64;
                ends = joined;
                break;
            }
            ends = joined;
        }
        *scene = ends;
        self.is_certain = certain;
        Ok(Flow::On)
    }

    pub(super) fn repeat(
        &mut self,
        repeat: &'a Repeat,
        step: &'a Step,
        scene: &mut Scene,
    ) -> Walked {
        let number = |expr: &Expr, scene: &Scene| -> Result<(u64, u64), Problem> {
            let whole = |si: f64| si.max(0.0).round() as u64;
            let (low, high) =
                (least(expr, Dimension::NUMBER, scene)?, most(expr, Dimension::NUMBER, scene)?);
            // Where it is missing, there is no round at all.
            if low == high && (low < 0.0 || low.fract() != 0.0) {
                let message = format!("{low} is no number of rounds");
                let problem = Problem::new(expr.span.clone(), message);
                return Err(
                    problem.help("a loop goes round a whole number of times, or not at all")
                );
            }
            let low = if is_sure(expr, scene) { low } else { 0.0 };
            Ok((whole(low), whole(high)))
        };
        let allowed = match &repeat.most {
            Some(expr) => number(expr, scene)?.1,
            None => MOST_ROUNDS,
        };
        let (surely, at_most) = match &repeat.kind {
            RepeatKind::Times(n) => number(n, scene)?,
            _ => (0, allowed),
        };
        let (certain, counted) = (self.is_certain, self.counts);
        let began = scene.elapsed;
        let until = match &repeat.kind {
            RepeatKind::For(t) => {
                let longest = time(t, scene)?.si();
                let shortest = least(t, Dimension::TIME, scene)?;
                Some((if is_sure(t, scene) { shortest } else { 0.0 }, longest))
            }
            _ => None,
        };
        // What is known behind the loop, from all the rounds that may be its last.
        let mut behind: Option<Scene> = None;
        let mut join = |known: &Scene| {
            behind = Some(match behind.take() {
                Some(before) => before.joined(known),
                None => known.clone(),
            });
        };
        let mut over = None;
        let mut rounds = 0;
        let ends = loop {
            // Whether there is another round: yes, no, or nobody knows.
            let goes = match (&repeat.kind, until) {
                (RepeatKind::Times(_), _) if rounds < surely => Some(true),
                (RepeatKind::Times(_), _) if rounds >= at_most => Some(false),
                (RepeatKind::Times(_), _) => None,
                (RepeatKind::While(c), _) => match truth(c, scene)? {
                    // Where a value is missing, it ends.
                    Truth { holds: Some(true), is_sure: false } => None,
                    truth => truth.holds,
                },
                (RepeatKind::Until(_), _) => {
                    over.map_or(Some(true), |o: Option<bool>| o.map(|o| !o))
                }
                (RepeatKind::For(_), Some((low, high))) => {
                    let passed = (scene.elapsed.0 - began.0, scene.elapsed.1 - began.1);
                    match (passed.1 < low - HAIR_S, passed.0 >= high - HAIR_S) {
                        (true, _) => Some(true),
                        (_, true) => Some(false),
                        _ => None,
                    }
                }
                (RepeatKind::For(_), None) => Some(false),
            };
            if goes == Some(false) {
                join(scene);
                break Flow::On;
            }
            if goes.is_none() {
                join(scene);
                self.is_certain = false;
            }
            if rounds >= at_most {
                join(scene);
                break Flow::On;
            }
            self.too_much(step)?;
            let before = scene.clone();
            let depth = scene.names.depth();
            scene.names.enter(true);
            let flow = self.round(&repeat.body, scene)?;
            if flow == Flow::On
                && let RepeatKind::Until(condition) = &repeat.kind
            {
                over = Some(match truth(condition, scene)? {
                    Truth { holds: Some(false), is_sure: false } => None,
                    truth => truth.holds,
                });
            }
            scene.names.back_to(depth);
            if flow == Flow::Over {
                break Flow::Over;
            }
            rounds += 1;
            let no_time = scene.elapsed.1 <= before.elapsed.1;
            if until.is_some() && no_time {
                let message = "no time passes in this loop, it would never end";
                return Err(Problem::new(step.span.0.clone(), message)
                    .help("put a step that takes time into it, or repeat it so many `times`"));
            }
            // Another round of which nobody knows changes nothing any more.
            if goes.is_none() && is_at_rest(&before, scene) {
                join(scene);
                let one = scene.elapsed.1 - before.elapsed.1;
                match until {
                    // The last round begins before the time is over.
                    Some((_, high)) => {
                        scene.elapsed.1 = scene.elapsed.1.max(began.1 + high + one);
                    }
                    None => scene.elapsed.1 += one * at_most.saturating_sub(rounds) as f64,
                }
                break Flow::On;
            }
            if goes.is_none() {
                self.counts = false;
            }
        };
        (self.counts, self.is_certain) = (counted, certain);
        match behind {
            Some(mut known) => {
                if let Some((low, _)) = until {
                    known.elapsed.0 = known.elapsed.0.max(began.0 + low);
                }
                known.elapsed.1 = known.elapsed.1.max(scene.elapsed.1);
                *scene = known;
                Ok(Flow::On)
            }
            None => Ok(ends),
        }
    }

    /// One round; what is read in it stays, what else is named in it does not.
    fn round(&mut self, steps: &'a [Step], scene: &mut Scene) -> Walked {
        let guards = self.guards.len();
        let mut flow = Flow::On;
        for (index, step) in steps.iter().enumerate() {
            let off = steps.get(index + 1).is_some_and(|n| matches!(n.what, Statement::Off));
            flow = self.step(step, off, false, scene)?;
            if flow == Flow::Over {
                break;
            }
        }
        self.guards_off(guards)?;
        Ok(flow)
    }
}

/// Whether a round has left everything as it was, but for the time and what was seen.
fn is_at_rest(before: &Scene, after: &Scene) -> bool {
    before.names == after.names
        && before.out == after.out
        && before.last == after.last
        && before.results == after.results
        && before.known().len() == after.known().len()
}
