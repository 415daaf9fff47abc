//! What a ramp shows, held against the settings.

use super::{DOWN, PICKUP, Pickup, RESET_RATIO, Ramp, Turn, UP};
use waltron_core::grading::{
    Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_limits,
};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::quantity::{Ratio, text};
use waltron_core::text::name::Name;

impl Pickup {
    pub(super) fn grade_pickup(
        &self,
        ramp: &Ramp,
        observation: &Observation,
    ) -> (Finding, Option<Turn>) {
        self.grade_pickup_of(ramp, self.up(ramp), observation)
    }

    /// The grade of what was seen of a ramp up, whose contact is named.
    pub(super) fn grade_pickup_of(
        &self,
        ramp: &Ramp,
        up: Option<(Program, Name)>,
        observation: &Observation,
    ) -> (Finding, Option<Turn>) {
        let (expected, limits) = self.expected_and_limits();
        let mut grade = Finding {
            point: ramp.pickup_point.clone(),
            criterion: PICKUP,
            stimulus: ramp.values(),
            expected,
            measured: Values::none(),
            deviation: Values::none(),
            limits,
            uncertainty: Values::none(),
            budget: Vec::new(),
            verdict: Verdict::Inconclusive,
            reason: "the injection ended before the ramp".into(),
        };
        let (Some((setting, lower, upper)), Some((program, signal))) = (self.limits(), up) else {
            return (grade, None);
        };
        let Some(start) = observation.segments.get(1).map(|s| s.start) else {
            return (grade, None);
        };
        let mut settle = |judged: Judgement| {
            grade.verdict = judged.verdict;
            grade.reason = judged.reason;
        };
        if observation.closed_before(&signal, start) {
            settle(Judgement::new(
                Verdict::Inconclusive,
                format!("contact `{signal}` was closed before the ramp: check reset and wiring"),
            ));
            return (grade, None);
        }
        let level = observation
            .first_edge(&signal, true, start)
            .and_then(|edge| ramp.estimate(&program, UP, observation, edge, &self.capability));
        match level {
            None => {
                settle(Judgement::new(
                    Verdict::Fail,
                    format!("no operation up to {}", text(ramp.to)),
                ));
                (grade, None)
            }
            Some(Err(first)) => {
                settle(Judgement::new(
                    Verdict::Fail,
                    format!("operates at or below {}, where the ramp starts", text(first)),
                ));
                (grade, None)
            }
            Some(Ok(turn)) => {
                let measured = turn.seen;
                settle(judge_limits(measured, lower, upper));
                grade.measured = Values::none().with("current", measured);
                grade.deviation = Values::none()
                    .with("current", measured - setting)
                    .with_percent("current", ((measured - setting) / setting).value);
                (grade.uncertain(&turn.estimate), Some(turn))
            }
        }
    }

    pub(super) fn reset_grade(&self, ramp: &Ramp, point: PointId) -> Finding {
        let declared = self.element.as_ref().and_then(|e| Some((e, e.reset_ratio?)));
        let (expected, limits) = declared.map_or_else(Default::default, |(e, ratio)| {
            let t = &e.tolerances.reset_ratio;
            (
                Values::none().with_percent("reset_ratio", ratio.value),
                Limits::Between {
                    lower: Some(Value::Percent(t.lower(ratio).value)),
                    upper: Some(Value::Percent(t.upper(ratio).value)),
                },
            )
        });
        Finding {
            expected,
            limits,
            ..Finding::not_tested(
                point,
                RESET_RATIO,
                ramp.values(),
                "no pickup was found to come down from",
            )
        }
    }

    pub(super) fn grade_reset(
        &self,
        ramp: &Ramp,
        point: PointId,
        pickup: &Turn,
        observation: &Observation,
    ) -> Finding {
        self.grade_reset_of(ramp, point, pickup, self.down(ramp, pickup.seen), observation)
    }

    /// The grade of what was seen of a ramp down, whose contact is named.
    pub(super) fn grade_reset_of(
        &self,
        ramp: &Ramp,
        point: PointId,
        pickup: &Turn,
        down: Option<(Program, Name)>,
        observation: &Observation,
    ) -> Finding {
        let mut grade = self.reset_grade(ramp, point);
        grade.verdict = Verdict::Inconclusive;
        let declared = self.element.as_ref().and_then(|e| Some((e, e.reset_ratio?)));
        let (Some((element, declared)), Some((program, signal)), Some(down)) =
            (declared, down, observation.segments.get(2))
        else {
            grade.reason = "the injection ended before the ramp".into();
            return grade;
        };
        if !observation.closed_before(&signal, down.start) {
            grade.reason = "the element was not picked up before the ramp down".into();
            return grade;
        }
        let level = observation
            .first_edge(&signal, false, down.start)
            .and_then(|edge| ramp.estimate(&program, DOWN, observation, edge, &self.capability));
        let dropout = match level {
            Some(Ok(turn)) => turn,
            Some(Err(top)) => {
                grade.verdict = Verdict::Fail;
                grade.reason = format!("resets at or above {}, where the ramp starts", text(top));
                return grade;
            }
            None => {
                grade.verdict = Verdict::Fail;
                grade.reason = format!("no reset down to {} % of pickup", 85.0 * declared.value);
                return grade;
            }
        };
        let ratio: Ratio = dropout.seen / pickup.seen;
        let t = &element.tolerances.reset_ratio;
        let judged = judge_limits(ratio, t.lower(declared), t.upper(declared));
        grade.measured =
            Values::none().with_percent("reset_ratio", ratio.value).with("current", dropout.seen);
        grade.deviation = Values::none().with_percent("reset_ratio", (ratio - declared).value);
        grade.verdict = judged.verdict;
        grade.reason = judged.reason;
        // What the output is off by is in both, and drops out.
        grade.uncertain(&dropout.estimate.over(&pickup.estimate))
    }
}
