//! Ramps: stairs, pulses and slopes.

use super::*;
use crate::ast::{Output, Pace, Ramp};
use crate::target::{Target, set_level};
use waltron_core::injection::program::{Rest, Slope, Stairs, Steps};
use waltron_core::quantity::Quantity;
use waltron_core::text::expression::{Type, Value, evaluate, wrong_kind};

/// Most levels of a ramp; beyond it a typing error is likelier than a wish.
const MOST_LEVELS: f64 = 10_000.0;

/// Parts that a smooth ramp of a derived quantity is put together from.
const SLOPE_PARTS: u32 = 200;

/// Longest time of a ramp.
const LONGEST_S: f64 = 30.0 * 86_400.0;

/// Where a ramp begins and ends; while previewing, the widest it can be.
struct Ends {
    from: Quantity,
    to: Quantity,
    is_exact: bool,
}

impl Builder<'_> {
    pub(super) fn ramp(&mut self, ramp: &Ramp, span: Range<usize>) -> Result<(), Problem> {
        let Some(ends) = self.ends(ramp)? else { return Ok(()) };
        let Ends { from, to, is_exact } = ends;
        self.is_exact &= is_exact;
        let dimension = from.dimension;
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
        let towards = |expr: &Expr, si: f64, what: &str| -> Result<f64, Problem> {
            if si == 0.0 {
                return Err(Problem::new(
                    expr.span.clone(),
                    format!("a {what} of zero never arrives"),
                ));
            }
            if si < 0.0 && to.si > from.si && is_exact {
                return Err(Problem::new(
                    expr.span.clone(),
                    format!("the {what} goes down, but the ramp goes up from {from} to {to}"),
                )
                .help("leave the sign out: the direction follows from the two ends"));
            }
            Ok(si.abs())
        };
        let (profile, scale) = match &ramp.pace {
            Pace::Stairs { by, every, resting } => {
                self.notes(by)?;
                let step = towards(by, self.slowest(by, dimension)?, "step")?;
                let dwell = self.lasting(every)?;
                // A hair of rounding must not take the last level away.
                let steps = ((to.si - from.si).abs() / step + 1e-9).floor();
                if steps.is_nan() || steps > MOST_LEVELS {
                    let message = format!(
                        "this step makes a ramp of {steps} levels, more than {MOST_LEVELS}"
                    );
                    return Err(Problem::new(by.span.clone(), message).help("take a larger step"));
                }
                let signed = if to.si < from.si { -step } else { step };
                let rest = match resting {
                    Some((output, time_of)) => {
                        let rest = stimulus(output, &self.state, self.scene)?;
                        self.is_exact &= rest.is_exact;
                        Some(Rest { stimulus: rest.stimulus, time: self.lasting(time_of)? })
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
                        let levels = self.levels(ramp, values, dimension)?;
                        Profile::Steps(Steps { levels, dwell, rest })
                    }
                };
                (profile, RampScale { from: from.si, to: last, step: Some(signed), dimension })
            }
            Pace::Rate(_) | Pace::Over(_) => {
                let length = match &ramp.pace {
                    Pace::Rate(rate) => {
                        let wanted = dimension.per(Dimension::TIME);
                        self.notes(rate)?;
                        let rate_si = towards(rate, self.slowest(rate, wanted)?, "rate")?;
                        let length = (to.si - from.si).abs() / rate_si;
                        if length.is_nan() || length > LONGEST_S {
                            let message = "at this rate the ramp takes longer than 30 days";
                            return Err(Problem::new(rate.span.clone(), message));
                        }
                        seconds(length.max(1e-9))
                    }
                    Pace::Over(over) => self.lasting(over)?,
                    Pace::Stairs { .. } => return Ok(()),
                };
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
                (profile, RampScale { from: from.si, to: to.si, step: None, dimension })
            }
        };
        self.clear_start(&profile.at(seconds(0.0)), &span)?;
        self.add(("ramp", "ramp"), profile, &ramp.until, span, Some(scale))
    }

    /// The smallest step or rate that one can be; nothing but zero is between both signs.
    fn slowest(&self, expr: &Expr, wanted: Dimension) -> Result<f64, Problem> {
        let (low, high) = (least(expr, wanted, self.scene)?, most(expr, wanted, self.scene)?);
        if low < 0.0 && high > 0.0 {
            let message = "this may be zero, and then the ramp never arrives";
            return Err(Problem::new(expr.span.clone(), message).help("bound it away from zero"));
        }
        Ok(if low.abs() < high.abs() { low } else { high })
    }

    fn ends(&self, ramp: &Ramp) -> Result<Option<Ends>, Problem> {
        let (first, last) = (evaluate(&ramp.from, self.scene)?, evaluate(&ramp.to, self.scene)?);
        for (expr, value) in [(&ramp.from, &first), (&ramp.to, &last)] {
            match value {
                Value::Missing(missing) => {
                    return Err(waltron_core::text::expression::not_there(expr, missing));
                }
                Value::Unknown(Type::Any) => return Ok(None),
                value => match value.kind() {
                    Type::Quantity(_) => {}
                    other => {
                        let message = format!("a ramp moves a quantity, not {other}");
                        return Err(Problem::new(expr.span.clone(), message));
                    }
                },
            }
        }
        let (Type::Quantity(dimension), Type::Quantity(found)) = (first.kind(), last.kind()) else {
            return Ok(None);
        };
        if found != dimension {
            return Err(wrong_kind(&ramp.to, &Type::Quantity(found), dimension));
        }
        let q = |si| Quantity { si, dimension };
        if let (Some(from), Some(to)) = (first.quantity(), last.quantity()) {
            if from.si == to.si {
                return Err(Problem::new(ramp.to.span.clone(), "the ramp ends where it begins"));
            }
            return Ok(Some(Ends { from, to, is_exact: true }));
        }
        if self.scene.mode == Mode::Kinds {
            return Ok(Some(Ends { from: q(1.0), to: q(2.0), is_exact: false }));
        }
        let low =
            least(&ramp.from, dimension, self.scene)?.min(least(&ramp.to, dimension, self.scene)?);
        let high =
            most(&ramp.from, dimension, self.scene)?.max(most(&ramp.to, dimension, self.scene)?);
        // A magnitude below zero is refused when it is put out.
        let is_magnitude = ramp.with.is_none()
            && Target::parse(ramp.target.as_str(), &self.scene.context)
                .is_ok_and(|t| t.is_magnitude());
        let low = if is_magnitude { low.max(0.0) } else { low };
        Ok(Some(Ends { from: q(low), to: q(high.max(low)), is_exact: false }))
    }

    /// What a ramp moves without `with`.
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
        let nothing_on =
            self.state.stimulus.is_off() && self.state.is_exact && self.scene.mode != Mode::Kinds;
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
        let mut level = self.state.stimulus.clone();
        set_level(&mut level, target, si, self.scene.context.nominal());
        level
    }

    /// The stimulus of each value of a ramped name.
    fn levels(
        &mut self,
        ramp: &Ramp,
        values: impl Iterator<Item = f64>,
        dimension: Dimension,
    ) -> Result<Vec<Stimulus>, Problem> {
        let none = Output::default();
        let output = ramp.with.as_ref().unwrap_or(&none);
        let mut scene = self.scene.clone();
        let mut is_exact = true;
        scene.names.enter(false);
        let levels: Result<Vec<Stimulus>, Problem> = values
            .map(|si| {
                let value = Value::Quantity(Quantity { si, dimension });
                scene.names.define(ramp.target.as_str(), value);
                let level = stimulus(output, &self.state, &scene)?;
                is_exact &= level.is_exact;
                Ok(level.stimulus)
            })
            .collect();
        self.is_exact &= is_exact;
        levels
    }
}
