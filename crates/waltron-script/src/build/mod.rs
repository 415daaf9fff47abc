//! From output steps to programs.

mod fault;
mod part;
mod playback;
mod ramp;
mod worth;

pub(super) use part::{Part, RampScale};
pub(super) use worth::{least, most, needed, time};

use super::ast::{Ending, Hold, OffWhen, Playback, Statement, Step, Until, Wait};
use super::condition::condition;
use super::output::stimulus;
use super::scene::{Mode, Out, Scene};
use std::ops::Range;
use std::sync::Arc;
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::program::{Condition, Finish, Profile, Program, Segment, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Dimension, Measure, Quantity, Time, seconds, text};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, evaluate};
use waltron_core::text::name::Name;

/// A program with what its segments stand for.
#[derive(Clone, Debug)]
pub(super) struct Built {
    pub(super) program: Program,
    /// Number of guards whose stops stand first in every segment.
    pub(super) guards: usize,
    pub(super) parts: Vec<Part>,
    /// The segment that is the fault.
    pub(super) fault: Option<usize>,
    /// Whether everything in it is known; while previewing, what is worked out from measured values
    /// stands at the most it can be.
    pub(super) is_exact: bool,
}

/// What a stage leaves behind that depends on when it ends.
struct Unclear {
    channels: Vec<Name>,
}

struct Builder<'a> {
    scene: &'a Scene,
    guards: &'a [Condition],
    /// Whether these steps are one injection of several.
    together: bool,
    state: Out,
    segments: Vec<Segment>,
    parts: Vec<Part>,
    off: Option<OffWhen>,
    is_fault: bool,
    fault: Option<usize>,
    is_exact: bool,
    unclear: Option<Unclear>,
}

/// Puts the steps of one injection together. `shots` counts injections, for what is left to chance.
///
/// # Errors
/// The first mistake in the steps.
pub(super) fn build(
    steps: &[&Step],
    together: bool,
    guards: &[Condition],
    scene: &Scene,
    shots: u64,
) -> Result<Built, Problem> {
    let mut b = Builder {
        scene,
        guards,
        together,
        state: scene.out.clone(),
        segments: Vec::new(),
        parts: Vec::new(),
        off: None,
        is_fault: false,
        fault: None,
        is_exact: true,
        unclear: None,
    };
    for (index, step) in steps.iter().enumerate() {
        let span = step.span.0.clone();
        b.is_fault = false;
        match &step.what {
            Statement::Hold(hold) => b.hold(hold, span.clone())?,
            Statement::Ramp(ramp) => b.ramp(ramp, span.clone())?,
            Statement::Fault(fault) => b.fault(fault, span.clone(), shots)?,
            Statement::Wait(wait) => b.wait(wait, span.clone())?,
            Statement::Playback(playback) => b.playback(playback, span.clone())?,
            Statement::Off => b.switched_off(),
            _ => {
                return Err(Problem::new(span, "only output steps can stand in a `play` block")
                    .help("hold, ramp, fault, playback and wait are timed by the rig; move others out"));
            }
        }
        if index + 1 < steps.len() {
            b.between(&span)?;
        }
    }
    let finish = match b.off {
        Some(OffWhen::Zero) => Finish::OffAtZero,
        Some(OffWhen::Now) => Finish::Off,
        None if b.is_fault || b.state.stimulus.is_off() => Finish::Off,
        None => Finish::Keep,
    };
    let program = Program { segments: b.segments, finish, ..Program::default() };
    // A limit that follows from what is measured may be missing, like any other value.
    let later =
        |c: &&Condition| matches!(c, Condition::Reading { limit_si, .. } if limit_si.is_infinite());
    let stops = program.segments.iter().flat_map(|s| &s.stops);
    let knows_limits = !stops.flat_map(|s| s.when.parts()).any(|c| later(&c));
    let (parts, fault, is_exact) = (b.parts, b.fault, b.is_exact && knows_limits);
    Ok(Built { program, guards: guards.len(), parts, fault, is_exact })
}

/// A program that holds what is out and measures at its end.
pub(super) fn measure(time: Time, reads: Vec<Probe>, guards: &[Condition], scene: &Scene) -> Built {
    let out = &scene.out.stimulus;
    let mut segment = Segment::hold("read", out.clone(), time);
    for guard in guards.iter().rev() {
        segment = segment.until(Stop { when: guard.clone(), then: Then::Off });
    }
    let finish = if out.is_off() { Finish::Off } else { Finish::Keep };
    let program = Program { segments: vec![segment], finish, reads, ..Program::default() };
    let is_exact = scene.out.is_exact;
    Built { program, guards: guards.len(), parts: Vec::new(), fault: None, is_exact }
}

impl Built {
    /// What its last ramp goes through, from and to.
    pub(super) fn swept(&self) -> Option<[Quantity; 2]> {
        let ramp = self.parts.iter().rev().find_map(|p| p.ramp.as_ref())?;
        Some([ramp.from, ramp.to].map(|si| Quantity { si, dimension: ramp.dimension }))
    }

    /// Whether it lets time pass, which is no injection of its own.
    pub(super) fn only_waits(&self) -> bool {
        self.parts.iter().all(|p| p.kind == "wait")
    }

    /// What is out afterwards, as far as that is known before.
    pub(super) fn leaves(&self) -> Out {
        let segments = &self.program.segments;
        if self.program.finish != Finish::Keep {
            return Out::off();
        }
        let last = segments.len().saturating_sub(1);
        let can_end = |(index, s): &(usize, &Segment)| {
            *index == last || s.stops.iter().any(|stop| stop.then == Then::End)
        };
        let ends: Vec<(usize, &Segment)> = segments.iter().enumerate().filter(can_end).collect();
        if let [(_, only)] = ends.as_slice()
            && let Some(left) = left_by(only)
        {
            return Out { stimulus: left, is_exact: self.is_exact };
        }
        let levels = ends.iter().flat_map(|(_, s)| s.levels());
        let levels = levels.map(|(level, _)| level.into_owned().at_rest());
        let most = levels.reduce(|a, b| a.most(&b)).unwrap_or_default();
        Out { stimulus: most, is_exact: false }
    }
}

/// What a segment leaves behind, where that does not depend on when it ends.
fn left_by(segment: &Segment) -> Option<Stimulus> {
    let early = |stop: &&Stop| {
        stop.then != Then::Off
            && !matches!(stop.when, Condition::After(_) | Condition::AtAngle { .. })
    };
    let moves = match &segment.profile {
        Profile::Hold(held) => held.is_moving(),
        _ => true,
    };
    if moves && segment.stops.iter().any(|s| early(&s)) {
        return None;
    }
    let longest = segment.longest().unwrap_or_default();
    let whole = segment.profile.length().is_some_and(|length| longest >= length);
    let left = if whole {
        segment.profile.last()
    } else {
        // A hair before the end, or the next level of a stair would count.
        segment.profile.at((longest - seconds(1e-9)).max(seconds(0.0)))
    };
    Some(left.at_rest())
}

impl Builder<'_> {
    fn switched_off(&mut self) {
        self.state = Out::off();
        self.unclear = None;
    }

    /// What the next stage of the same injection begins with: the same as outside a `play` block.
    fn between(&mut self, span: &Range<usize>) -> Result<(), Problem> {
        match self.off {
            Some(OffWhen::Zero) => {
                return Err(Problem::new(
                    span.clone(),
                    "only the last stage of a `play` block can go off at zero",
                )
                .help("write `then off`, or end the block here"));
            }
            Some(OffWhen::Now) => self.switched_off(),
            None if self.is_fault => self.switched_off(),
            None => {}
        }
        self.off = None;
        Ok(())
    }

    /// What stays as it was behind a stage whose end is not known cannot be told to the rig.
    fn clear_start(&self, next: &Stimulus, span: &Range<usize>) -> Result<(), Problem> {
        let Some(unclear) = &self.unclear else { return Ok(()) };
        let before = &self.state.stimulus;
        let same = |channel: &&Name| {
            let current =
                |s: &Stimulus| s.currents.iter().find(|d| d.channel == **channel).cloned();
            let voltage =
                |s: &Stimulus| s.voltages.iter().find(|d| d.channel == **channel).cloned();
            current(before) == current(next) && voltage(before) == voltage(next)
        };
        let Some(channel) = unclear.channels.iter().find(same) else { return Ok(()) };
        Err(Problem::new(
            span.clone(),
            format!("where the stage before leaves `{channel}` depends on when it ends"),
        )
        .help("say what is put out here, or end the `play` block before this step"))
    }

    /// Adds a segment with the stops of its clauses.
    fn add(
        &mut self,
        (kind, name): (&'static str, &str),
        profile: Profile,
        until: &Until,
        span: Range<usize>,
        ramp: Option<RampScale>,
    ) -> Result<(), Problem> {
        let mut stops: Vec<Stop> = self.guard_stops();
        let mut awaited = String::new();
        let ends = matches!(until.otherwise, Some(Ending::Stop | Ending::Fail(_)));
        let until_index = match &until.condition {
            Some(expr) => {
                let when = condition(expr, &self.scene.context, self.scene)?;
                awaited = when.to_string();
                let then = if self.together { Then::Next } else { Then::End };
                stops.push(Stop { when, then });
                Some(stops.len() - 1)
            }
            None => {
                if let Some(Ending::Stop | Ending::Fail(_)) = &until.otherwise {
                    let message =
                        "`else` says what happens if `until` does not come true, but there is none";
                    return Err(Problem::new(span, message));
                }
                None
            }
        };
        let limits = [&until.time, &until.most];
        let mut limit: Option<Time> = None;
        for expr in limits.into_iter().flatten() {
            let t = self.lasting(expr)?;
            limit = Some(limit.map_or(t, |l| l.min(t)));
        }
        let bound = match (limit, profile.length()) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
        match (bound, until_index) {
            (None, Some(_)) => {
                return Err(Problem::new(
                    span,
                    "this waits for ever if the condition never comes true",
                )
                .help("say how long: add `, at most 10 s`"));
            }
            (None, None) => {
                return Err(Problem::new(span, "this has no end")
                    .help("add `for 2 s`, or `until …, at most 10 s`"));
            }
            _ => {}
        }
        if let Some(limit) = limit.or(bound.filter(|_| ends && self.together)) {
            // In one injection of several steps, what was not reached ends it.
            let then = if ends && self.together { Then::End } else { Then::Next };
            stops.push(Stop { when: Condition::After(limit), then });
        }
        let label = until.label.clone();
        let name = label.clone().unwrap_or_else(|| name.into());
        // Whatever is called a fault is one.
        if kind == "fault" || name == "fault" {
            self.fault = Some(self.segments.len());
        }
        self.parts.push(Part {
            segment: self.segments.len(),
            kind,
            label,
            until: until_index,
            otherwise: until.otherwise.clone(),
            awaited,
            ramp,
            span,
        });
        let segment = Segment::new(name, profile, stops);
        self.ended(&segment);
        self.segments.push(segment);
        self.off = until.off;
        Ok(())
    }

    /// What a segment leaves for the next one.
    fn ended(&mut self, segment: &Segment) {
        let (first, last) = (segment.profile.at(seconds(0.0)), segment.profile.last());
        match left_by(segment) {
            Some(left) => {
                self.state.stimulus = left;
                self.unclear = None;
            }
            None => {
                let moved = |id: &Name| {
                    let current =
                        |s: &Stimulus| s.currents.iter().find(|d| d.channel == *id).cloned();
                    let voltage =
                        |s: &Stimulus| s.voltages.iter().find(|d| d.channel == *id).cloned();
                    let moving = current(&first).is_some_and(|d| d.is_moving())
                        || voltage(&first).is_some_and(|d| d.is_moving());
                    moving || current(&first) != current(&last) || voltage(&first) != voltage(&last)
                };
                let ids = |s: &Stimulus| -> Vec<Name> {
                    let currents = s.currents.iter().map(|d| d.channel.clone());
                    currents.chain(s.voltages.iter().map(|d| d.channel.clone())).collect()
                };
                let mut channels = ids(&first);
                channels.extend(ids(&last));
                channels.retain(moved);
                self.state.stimulus = last.at_rest();
                self.unclear = Some(Unclear { channels });
            }
        }
    }

    /// A time that a stage takes; whether it is known is noted.
    fn lasting(&mut self, expr: &Expr) -> Result<Time, Problem> {
        self.notes(expr)?;
        time(expr, self.scene)
    }

    /// Notes whether a value is known.
    fn notes(&mut self, expr: &Expr) -> Result<(), Problem> {
        self.is_exact &= !evaluate(expr, self.scene)?.is_unknown();
        Ok(())
    }

    fn guard_stops(&self) -> Vec<Stop> {
        self.guards.iter().map(|g| Stop { when: g.clone(), then: Then::Off }).collect()
    }

    /// A stage of its own that no clause is about.
    fn plain(&mut self, name: &str, held: Out, last: Stop) {
        let mut stops = self.guard_stops();
        stops.push(last);
        self.is_exact &= held.is_exact;
        let profile = Profile::Hold(held.stimulus);
        let segment = Segment::new(name, profile, stops);
        self.state.is_exact = held.is_exact;
        self.ended(&segment);
        self.segments.push(segment);
    }

    fn held(&mut self, held: Out, span: &Range<usize>) -> Result<Profile, Problem> {
        self.clear_start(&held.stimulus, span)?;
        self.is_exact &= held.is_exact;
        self.state.is_exact = held.is_exact;
        Ok(Profile::Hold(held.stimulus))
    }

    fn hold(&mut self, hold: &Hold, span: Range<usize>) -> Result<(), Problem> {
        let held = stimulus(&hold.output, &self.state, self.scene)?;
        let profile = self.held(held, &span)?;
        self.add(("hold", "hold"), profile, &hold.until, span, None)
    }

    fn wait(&mut self, wait: &Wait, span: Range<usize>) -> Result<(), Problem> {
        let mut until = wait.until.clone();
        // A wait in vain is not passed over in silence.
        if until.condition.is_some() && until.otherwise.is_none() {
            until.otherwise = Some(Ending::Stop);
        }
        let profile = self.held(self.state.clone(), &span)?;
        self.add(("wait", "wait"), profile, &until, span, None)
    }
}
