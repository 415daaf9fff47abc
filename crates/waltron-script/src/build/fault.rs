//! Faults: what is out before, during and after, inception at an angle, direct component.

use super::*;
use crate::ast::Fault;
use std::f64::consts::{FRAC_PI_2, SQRT_2, TAU};
use waltron_core::injection::stimulus::{Dc, Drive};
use waltron_core::injection::waveform::{Reference, pieces};
use waltron_core::quantity::Angle;

impl Builder<'_> {
    pub(super) fn fault(
        &mut self,
        fault: &Fault,
        span: Range<usize>,
        shots: u64,
    ) -> Result<(), Problem> {
        let mut angle = None;
        let base = match &fault.before {
            Some((output, length)) => {
                let before = stimulus(output, &self.state, self.scene)?;
                self.clear_start(&before.stimulus, &span)?;
                let length = self.lasting(length)?;
                let mut last = Stop::after(length);
                if let Some(wanted) = &fault.inception {
                    let at = self.inception(wanted.as_ref(), &before.stimulus, length, shots)?;
                    if let Condition::AtAngle { angle: of, .. } = &at {
                        angle = Some(*of);
                    }
                    last.when = at;
                }
                self.plain("pre-fault", before.clone(), last);
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
            let tau_of = self.lasting(tau)?;
            self.offset(&mut during, &base, angle, tau, tau_of)?;
        }
        let mut until = fault.until.clone();
        if until.label.is_none() {
            until.label = Some("fault".into());
        }
        if until.condition.is_some() && until.otherwise.is_none() {
            until.otherwise = Some(Ending::GoOn);
        }
        let profile = self.held(during, &span)?;
        let together = self.together;
        // What comes after the fault follows its end, however it ends.
        self.together |= fault.afterwards.is_some();
        let added = self.add(("fault", "fault"), profile, &until, span, None);
        self.together = together;
        added?;
        self.is_fault = true;
        if let Some((output, length)) = &fault.afterwards {
            let length = self.lasting(length)?;
            let after = stimulus(output, &base, self.scene)?;
            self.plain("post-fault", after, Stop::after(length));
        }
        Ok(())
    }

    /// The end of a pre-fault at an angle of the reference wave, which the rig waits for.
    fn inception(
        &self,
        angle: Option<&Expr>,
        before: &Stimulus,
        after: Time,
        shots: u64,
    ) -> Result<Condition, Problem> {
        let wanted = match angle {
            Some(expr) => needed(expr, Dimension::ANGLE, self.scene)?,
            None => TAU * chance(self.scene.context.seed, shots),
        };
        let at = || angle.map_or(0..0, |e| e.span.clone());
        let (hertz, rate, _) = before.reference().ok_or_else(|| {
            Problem::new(at(), "nothing is out before the fault whose angle could be meant")
        })?;
        if rate != 0.0 {
            let message = "the angle of a wave whose frequency moves is not waited for";
            return Err(Problem::new(at(), message).help("hold the frequency before the fault"));
        }
        let angle = Angle::from_si(wanted.rem_euclid(TAU));
        Ok(Condition::AtAngle { after, angle, most: after + seconds(1.0 / hertz) })
    }

    /// A decaying direct component that makes every current continuous at the fault's begin.
    fn offset(
        &self,
        during: &mut Out,
        base: &Out,
        angle: Option<Angle>,
        expr: &Expr,
        tau: Time,
    ) -> Result<(), Problem> {
        let reference = base.stimulus.reference().or(during.stimulus.reference());
        let fixed = self.segments.iter().all(left_by_time);
        // The phase of the common reference at the fault's begin, where it is known before.
        let phase = match (angle, reference) {
            (Some(angle), Some((.., theta))) => Some(angle.si() - theta.si() - FRAC_PI_2),
            _ if fixed => {
                let so_far = Program::of(self.segments.clone());
                Some(Reference::of(&pieces(&so_far, None)).at_end())
            }
            _ => None,
        };
        let phase = match (phase, during.is_exact && base.is_exact) {
            (Some(phase), true) => Some(phase),
            // The most it can be.
            (_, false) => None,
            (None, true) => {
                return Err(Problem::new(
                    expr.span.clone(),
                    "when this fault begins is not known before, so no offset makes its current continuous",
                )
                .help("begin it at an angle: add `inception 0 deg`"));
            }
        };
        for drive in &mut during.stimulus.currents {
            let old = base.stimulus.currents.iter().find(|d| d.channel == drive.channel);
            let step = match phase {
                Some(phase) => {
                    old.map_or(0.0, |d| instantaneous(d, phase)) - instantaneous(drive, phase)
                }
                None => {
                    SQRT_2 * (drive.phasor.rms().si() + old.map_or(0.0, |d| d.phasor.rms().si()))
                }
            };
            drive.dc = Dc::constant(Measure::from_si(step)).decaying(tau);
        }
        Ok(())
    }
}

/// Whether a segment's length is known before.
fn left_by_time(segment: &Segment) -> bool {
    let timed = |stop: &Stop| matches!(stop.when, Condition::After(_)) || stop.then == Then::Off;
    segment.stops.iter().all(timed)
}

/// A wave's instantaneous value at a phase of the common reference.
fn instantaneous<Q: Measure>(drive: &Drive<Q>, phase: f64) -> f64 {
    SQRT_2 * drive.phasor.rms().si() * (phase + drive.phasor.angle().si()).cos()
}

/// A number from 0 to 1 that depends on the seed and the count alone (SplitMix64).
fn chance(seed: u64, count: u64) -> f64 {
    let mut z = seed.wrapping_add(count.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}
