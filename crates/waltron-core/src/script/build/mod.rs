//! From output steps to programs.

mod part;
mod playback;

pub(super) use part::{Part, RampScale};

use super::ast::{
    Ending, Fault, Hold, OffWhen, Output, Pace, Playback, Ramp, Statement, Step, Until, Wait,
};
use super::condition::condition;
use super::output::stimulus;
use super::scene::Scene;
use super::target::{Target, set_level};
use crate::document::Problem;
use crate::expression::{Expr, Names, Type, Value, evaluate, quantity, wrong_kind};
use crate::program::{
    Condition, Finish, Probe, Profile, Program, Rest, Segment, Slope, Stairs, Steps, Stop, Then,
};
use crate::quantity::{Angle, Dimension, Measure, Quantity, Time, seconds, text};
use crate::stimulus::{Dc, Drive, Stimulus};
use std::ops::Range;
use std::sync::Arc;

/// A program with what its segments stand for.
#[derive(Clone, Debug)]
pub(super) struct Built {
    pub(super) program: Program,
    /// Number of guards whose stops stand first in every segment.
    pub(super) guards: usize,
    pub(super) parts: Vec<Part>,
}

/// Most levels of a ramp; beyond it a typing error is likelier than a wish.
const MOST_LEVELS: f64 = 10_000.0;

/// Longest time of a step; beyond it a typing error is likelier than a wish.
const LONGEST_S: f64 = 30.0 * 86_400.0;

/// Parts that a smooth ramp of a derived quantity is put together from.
const SLOPE_PARTS: u32 = 200;

/// A value that a step needs; one that is not known yet stands as one unit while checking.
pub(super) fn needed(expr: &Expr, wanted: Dimension, scene: &Scene) -> Result<f64, Problem> {
    match quantity(expr, wanted, scene)? {
        Some(q) => Ok(q.si),
        None if scene.preview => Ok(1.0),
        None => Err(Problem::new(expr.span.clone(), scene.why_unknown(expr))),
    }
}

/// A time above zero.
pub(super) fn time(expr: &Expr, scene: &Scene) -> Result<Time, Problem> {
    let si = needed(expr, Dimension::TIME, scene)?;
    if si > LONGEST_S {
        let message = format!("{} is longer than 30 days", text(seconds(si)));
        return Err(Problem::new(expr.span.clone(), message).help("is the unit right?"));
    }
    if si > 0.0 {
        return Ok(seconds(si));
    }
    Err(Problem::new(
        expr.span.clone(),
        format!("a time must be above zero, this is {}", text(seconds(si))),
    ))
}

struct Builder<'a> {
    scene: &'a Scene,
    guards: &'a [Condition],
    /// Whether these steps are one injection of several.
    together: bool,
    state: Stimulus,
    segments: Vec<Segment>,
    parts: Vec<Part>,
    off: Option<OffWhen>,
    is_fault: bool,
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
        state: scene.state.clone(),
        segments: Vec::new(),
        parts: Vec::new(),
        off: None,
        is_fault: false,
    };
    for step in steps {
        let span = step.span.0.clone();
        b.is_fault = false;
        match &step.what {
            Statement::Hold(hold) => b.hold(hold, span)?,
            Statement::Ramp(ramp) => b.ramp(ramp, span)?,
            Statement::Fault(fault) => b.fault(fault, span, shots)?,
            Statement::Wait(wait) => b.wait(wait, span)?,
            Statement::Playback(playback) => b.playback(playback, span)?,
            Statement::Off => b.state = Stimulus::off(),
            _ => {
                return Err(Problem::new(span, "only output steps can stand in a `play` block")
                    .help("hold, ramp, fault, playback and wait are timed by the rig; move others out"));
            }
        }
    }
    let finish = match b.off {
        Some(OffWhen::Zero) => Finish::OffAtZero,
        Some(OffWhen::Now) => Finish::Off,
        None if b.is_fault || b.state.is_off() => Finish::Off,
        None => Finish::Keep,
    };
    let program = Program { segments: b.segments, finish, reads: Vec::new(), capture: None };
    Ok(Built { program, guards: guards.len(), parts: b.parts })
}

/// A program that holds what is out and measures at its end.
pub(super) fn measure(time: Time, reads: Vec<Probe>, guards: &[Condition], scene: &Scene) -> Built {
    let mut segment = Segment::hold("read", scene.state.clone(), time);
    for guard in guards.iter().rev() {
        segment = segment.until(Stop { when: guard.clone(), then: Then::Off });
    }
    let finish = if scene.state.is_off() { Finish::Off } else { Finish::Keep };
    let program = Program { segments: vec![segment], finish, reads, capture: None };
    Built { program, guards: guards.len(), parts: Vec::new() }
}

impl Builder<'_> {
    fn names(&self) -> &dyn Names {
        self.scene
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
                let when = condition(expr, &self.scene.context, self.names())?;
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
            let t = time(expr, self.scene)?;
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
        self.state = profile.last();
        self.segments.push(Segment { name, profile, stops });
        self.off = until.off;
        Ok(())
    }

    fn guard_stops(&self) -> Vec<Stop> {
        self.guards.iter().map(|g| Stop { when: g.clone(), then: Then::Off }).collect()
    }

    fn plain(&mut self, name: &str, held: Stimulus, time: Time) {
        let mut stops = self.guard_stops();
        stops.push(Stop::after(time));
        self.state = held.clone();
        self.segments.push(Segment { name: name.into(), profile: Profile::Hold(held), stops });
    }

    fn hold(&mut self, hold: &Hold, span: Range<usize>) -> Result<(), Problem> {
        let held = stimulus(&hold.output, &self.state, self.scene)?;
        self.add(("hold", "hold"), Profile::Hold(held), &hold.until, span, None)
    }

    fn wait(&mut self, wait: &Wait, span: Range<usize>) -> Result<(), Problem> {
        let mut until = wait.until.clone();
        // A wait in vain is not passed over in silence.
        if until.condition.is_some() && until.otherwise.is_none() {
            until.otherwise = Some(Ending::Stop);
        }
        self.add(("wait", "wait"), Profile::Hold(self.state.clone()), &until, span, None)
    }

    fn ramp(&mut self, ramp: &Ramp, span: Range<usize>) -> Result<(), Problem> {
        let value = |expr: &Expr| match evaluate(expr, self.scene)? {
            Value::Quantity(q) => Ok(Some(q)),
            Value::Unknown(_) if !self.scene.preview => {
                Err(Problem::new(expr.span.clone(), self.scene.why_unknown(expr)))
            }
            Value::Unknown(Type::Quantity(dimension)) => Ok(Some(Quantity { si: 1.0, dimension })),
            Value::Unknown(Type::Any) => Ok(None),
            other => {
                let message = format!("a ramp moves a quantity, not {}", other.kind());
                Err(Problem::new(expr.span.clone(), message))
            }
        };
        let unknown = self.scene.preview
            && [&ramp.from, &ramp.to]
                .iter()
                .any(|e| evaluate(e, self.scene).is_ok_and(|v| v.is_unknown()));
        let (Some(from), Some(to)) = (value(&ramp.from)?, value(&ramp.to)?) else { return Ok(()) };
        let dimension = from.dimension;
        if to.dimension != dimension {
            return Err(wrong_kind(&ramp.to, &Type::Quantity(to.dimension), dimension));
        }
        let target = match &ramp.with {
            Some(_) => None,
            None => Some(self.ramp_target(ramp, dimension)?),
        };
        for (expr, end) in [(&ramp.from, from), (&ramp.to, to)] {
            let admitted = target.as_ref().map_or(Ok(()), |t| t.admits(end));
            admitted.map_err(|(message, help)| {
                let problem = Problem::new(expr.span.clone(), message);
                Problem { help, ..problem }
            })?;
        }
        // Values that are not known yet cannot be compared.
        let same = from.si == to.si && !unknown;
        if same {
            return Err(Problem::new(ramp.to.span.clone(), "the ramp ends where it begins"));
        }
        let towards = |expr: &Expr, si: f64, what: &str| -> Result<f64, Problem> {
            if si == 0.0 {
                return Err(Problem::new(
                    expr.span.clone(),
                    format!("a {what} of zero never arrives"),
                ));
            }
            if si < 0.0 && to.si > from.si && !unknown {
                return Err(Problem::new(
                    expr.span.clone(),
                    format!("the {what} goes down, but the ramp goes up from {from} to {to}"),
                )
                .help("leave the sign out: the direction follows from the two ends"));
            }
            Ok(si.abs())
        };
        match &ramp.pace {
            Pace::Stairs { by, every, resting } => {
                let step = towards(by, needed(by, dimension, self.scene)?, "step")?;
                let dwell = time(every, self.scene)?;
                // A hair of rounding must not take the last level away.
                let steps = ((to.si - from.si).abs() / step + 1e-9).floor();
                if steps > MOST_LEVELS && !unknown {
                    let message = format!(
                        "this step makes a ramp of {steps} levels, more than {MOST_LEVELS}"
                    );
                    return Err(Problem::new(by.span.clone(), message).help("take a larger step"));
                }
                let steps = steps.min(MOST_LEVELS);
                let signed = if to.si < from.si { -step } else { step };
                let rest = match resting {
                    Some((output, time_of)) => {
                        let stimulus = stimulus(output, &self.state, self.scene)?;
                        Some(Rest { stimulus, time: time(time_of, self.scene)? })
                    }
                    None => None,
                };
                let last = from.si + signed * steps;
                let profile = match &target {
                    Some(target) => Profile::Stairs(Stairs {
                        from: self.level(target, from.si),
                        to: self.level(target, last),
                        steps: steps as u32,
                        dwell,
                        rest,
                    }),
                    None => {
                        let values = (0..=steps as u32).map(|k| from.si + signed * f64::from(k));
                        Profile::Steps(Steps {
                            levels: self.levels(ramp, values, dimension)?,
                            dwell,
                            rest,
                        })
                    }
                };
                let scale = RampScale { from: from.si, to: last, step: Some(signed), dimension };
                self.add(("ramp", "ramp"), profile, &ramp.until, span, Some(scale))
            }
            Pace::Rate(_) | Pace::Over(_) => {
                let length = match &ramp.pace {
                    Pace::Rate(rate) => {
                        let wanted = dimension.per(Dimension::TIME);
                        let rate_si = towards(rate, needed(rate, wanted, self.scene)?, "rate")?;
                        seconds((to.si - from.si).abs() / rate_si)
                    }
                    Pace::Over(over) => time(over, self.scene)?,
                    Pace::Stairs { .. } => return Ok(()),
                };
                let length = if unknown { seconds(1.0) } else { length };
                let through = match &target {
                    Some(target) => vec![self.level(target, from.si), self.level(target, to.si)],
                    None => {
                        let share = |k: u32| f64::from(k) / f64::from(SLOPE_PARTS);
                        let values =
                            (0..=SLOPE_PARTS).map(|k| from.si + (to.si - from.si) * share(k));
                        self.levels(ramp, values, dimension)?
                    }
                };
                let profile = Profile::Slope(Slope { through, time: length });
                let scale = RampScale { from: from.si, to: to.si, step: None, dimension };
                self.add(("ramp", "ramp"), profile, &ramp.until, span, Some(scale))
            }
        }
    }

    fn ramp_target(&self, ramp: &Ramp, dimension: Dimension) -> Result<Target, Problem> {
        let context = &self.scene.context;
        let target = Target::parse(ramp.target.as_str(), context).map_err(|(message, help)| {
            let help = help.or_else(|| {
                Some(format!("or say what `{}` does: `with ia = {}`", ramp.target, ramp.target))
            });
            Problem { help, ..Problem::new(ramp.at.0.clone(), message) }
        })?;
        let Target::Wave { channels, .. } = &target else {
            let message = format!("`{}` cannot be ramped by itself", ramp.target);
            let name = if ramp.target == "p" || ramp.target == "q" { "power" } else { "x" };
            return Err(Problem::new(ramp.at.0.clone(), message).help(format!(
                "ramp a name and use it: `ramp {name} from … to … with …, {} = {name}`",
                ramp.target
            )));
        };
        if target.dimension() != dimension {
            return Err(wrong_kind(&ramp.from, &Type::Quantity(dimension), target.dimension()));
        }
        let nothing_on = self.state.is_off() && !self.scene.preview;
        if channels.is_empty() && nothing_on {
            return Err(Problem::new(
                ramp.at.0.clone(),
                format!("nothing is on whose `{}` could be ramped", ramp.target),
            )
            .help("put something out first, such as `hold v = balanced(57.7 V) for 1 s`"));
        }
        Ok(target)
    }

    fn level(&self, target: &Target, si: f64) -> Stimulus {
        let mut level = self.state.clone();
        set_level(&mut level, target, si, self.scene.context.asset.ratings.frequency);
        level
    }

    /// The stimulus of each value of a ramped name.
    fn levels(
        &self,
        ramp: &Ramp,
        values: impl Iterator<Item = f64>,
        dimension: Dimension,
    ) -> Result<Vec<Stimulus>, Problem> {
        let none = Output::default();
        let output = ramp.with.as_ref().unwrap_or(&none);
        let mut scene = self.scene.clone();
        values
            .map(|si| {
                scene.let_value(ramp.target.as_str(), Value::Quantity(Quantity { si, dimension }));
                stimulus(output, &self.state, &scene)
            })
            .collect()
    }

    fn fault(&mut self, fault: &Fault, span: Range<usize>, shots: u64) -> Result<(), Problem> {
        let base = match &fault.before {
            Some((output, length)) => {
                let before = stimulus(output, &self.state, self.scene)?;
                let mut length = time(length, self.scene)?;
                if let Some(angle) = &fault.inception {
                    length += self.until_angle(angle.as_ref(), &before, length, shots)?;
                }
                self.plain("pre-fault", before.clone(), length);
                before
            }
            None => {
                if fault.inception.is_some() {
                    return Err(Problem::new(
                        span,
                        "an inception angle needs something that is out before",
                    )
                    .help("add `after prefault v = balanced(57.7 V) for 1 s`"));
                }
                self.state.clone()
            }
        };
        let mut during = stimulus(&fault.output, &base, self.scene)?;
        if let Some(tau) = &fault.offset {
            let tau = time(tau, self.scene)?;
            let at = self.passed();
            let before = base.clone();
            for drive in &mut during.currents {
                let old = before.currents.iter().find(|d| d.channel == drive.channel);
                let step = old.map_or(0.0, |d| instantaneous(d, at)) - instantaneous(drive, at);
                drive.dc = Dc::constant(Measure::from_si(step)).decaying(tau);
            }
        }
        let mut until = fault.until.clone();
        if until.label.is_none() {
            until.label = Some("fault".into());
        }
        if until.condition.is_some() && until.otherwise.is_none() {
            until.otherwise = Some(Ending::GoOn);
        }
        let together = self.together;
        // What comes after the fault follows its end, however it ends.
        self.together |= fault.afterwards.is_some();
        let added = self.add(("fault", "fault"), Profile::Hold(during), &until, span, None);
        self.together = together;
        added?;
        self.is_fault = true;
        if let Some((output, length)) = &fault.afterwards {
            let length = time(length, self.scene)?;
            let after = stimulus(output, &base, self.scene)?;
            self.plain("post-fault", after, length);
        }
        Ok(())
    }

    /// Time since the program's start, as far as it is fixed.
    fn passed(&self) -> Time {
        self.segments.iter().filter_map(Segment::longest).fold(seconds(0.0), |a, b| a + b)
    }

    /// How much longer the pre-fault must last for the reference wave to be at an angle.
    fn until_angle(
        &self,
        angle: Option<&Expr>,
        before: &Stimulus,
        length: Time,
        shots: u64,
    ) -> Result<Time, Problem> {
        let wanted = match angle {
            Some(expr) => needed(expr, Dimension::ANGLE, self.scene)?,
            None => std::f64::consts::TAU * chance(self.scene.context.seed, shots),
        };
        let voltage = before.voltages.first().map(|d| (d.phasor.angle(), d.frequency));
        let reference =
            voltage.or_else(|| before.currents.first().map(|d| (d.phasor.angle(), d.frequency)));
        let Some((theta, frequency)) = reference else {
            let span = angle.map_or(0..0, |e| e.span.clone());
            return Err(Problem::new(
                span,
                "nothing is out before the fault whose angle could be meant",
            ));
        };
        let turn = std::f64::consts::TAU;
        let at = (self.passed() + length).si();
        let now = turn * frequency.si() * at + theta.si() + std::f64::consts::FRAC_PI_2;
        Ok(seconds((wanted - now).rem_euclid(turn) / turn / frequency.si()))
    }
}

/// A wave's instantaneous value at a time since the program's start.
fn instantaneous<Q: Measure>(drive: &Drive<Q>, at: Time) -> f64 {
    let psi = std::f64::consts::TAU * drive.frequency.si() * at.si() + drive.phasor.angle().si();
    2f64.sqrt() * drive.phasor.rms().si() * Angle::from_si(psi).si().cos()
}

/// A number from 0 to 1 that depends on the seed and the count alone (SplitMix64).
fn chance(seed: u64, count: u64) -> f64 {
    let mut z = seed.wrapping_add(count.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}
