//! Whether a phase that is switched on takes more at first than later: what remanence does.

use crate::measure::{injected, of as shown};
use crate::power::pairs::Terminal;
use crate::power::procedure::exciting::advised;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, PointId, Value, Values, Verdict,
};
use waltron_core::injection::measuring::{Lack, Probe};
use waltron_core::injection::observation::Observation;
use waltron_core::quantity::{Quantity, fixed, significant};
use waltron_core::uncertainty::Estimate;

/// The first exciting current is no larger than the later one.
pub(crate) const INRUSH: Criterion = Criterion::named("inrush");

/// How many times the later current the first one may be.
const MOST: f64 = 1.5;

/// What the currents at first and later must be to each other.
#[derive(Clone, Debug)]
pub(super) struct Inrush {
    pub(super) point: PointId,
    pub(super) stimulus: Values,
    /// Whether it is told without a verdict: as it was before.
    pub(super) is_told: bool,
}

/// The first current over the later one; infinite where the meter could not follow.
fn share(seen: &Observation, probe: &Probe) -> Result<Estimate, String> {
    let reading = |k: usize| seen.in_segment(k, probe).last();
    let (Some(first), Some(later)) = (reading(0), reading(1)) else {
        return Err("not every phase was measured".to_owned());
    };
    // What the meter cannot show later either says nothing of the first moment.
    let later = shown(later).map_err(|why| advised(why, later.lacks.as_ref()))?;
    if matches!(first.lacks, Some(Lack::BeyondRange(_))) {
        return Ok(Estimate::exact(f64::INFINITY));
    }
    let first = shown(first)?;
    if later.u.is_some_and(|u| later.value < 10.0 * u) {
        return Err("the exciting current is lost in its meter's uncertainty".to_owned());
    }
    Ok(first.estimate().over(&later.estimate()))
}

impl Inrush {
    pub(super) fn graded(&self, seen: &[Option<&Observation>], probe: &Probe) -> Finding {
        let limit =
            Limits::Between { lower: None, upper: Some(Value::Plain(Quantity::number(MOST))) };
        let limits = if self.is_told { Limits::None } else { limit };
        let found = Finding { limits, ..injected(self.point.clone(), INRUSH, &self.stimulus) };
        let all: Result<Vec<Estimate>, String> = seen
            .iter()
            .map(|seen| share(seen.ok_or("not every phase was measured")?, probe))
            .collect();
        let all = match all {
            Ok(all) => all,
            // How it was before is told, whatever it was, where it was looked at.
            Err(why) => {
                let is_told = self.is_told && seen.iter().all(Option::is_some);
                let verdict = if is_told { Verdict::Measured } else { Verdict::Inconclusive };
                return found.judged(Judgement::new(verdict, why));
            }
        };
        let worst = all.iter().enumerate().max_by(|a, b| a.1.value.total_cmp(&b.1.value));
        let Some((phase, worst)) = worst else {
            return found.judged(Judgement::new(Verdict::Inconclusive, "nothing was measured"));
        };
        let times = worst.value;
        let letter = Terminal::Phase(phase as u8).letter();
        let told = match times.is_finite() {
            true => format!(
                "phase {letter} takes {} times at first what it takes later",
                fixed(times, 3)
            ),
            false => format!("phase {letter} takes more at first than its meter shows"),
        };
        let measured = match times.is_finite() {
            true => Values::none().with_quantity("inrush", Quantity::number(times)),
            false => Values::none(),
        };
        let (verdict, why) = match (self.is_told, times <= MOST) {
            (true, _) => (Verdict::Measured, told),
            (false, true) => (Verdict::Pass, told),
            (false, false) => (
                Verdict::Fail,
                format!(
                    "{told}, {} at most: the core is still magnetised, or turns are shorted: take it away once more, or through another winding",
                    significant(MOST, 3)
                ),
            ),
        };
        let found = Finding { measured, ..found }.uncertain(worst);
        found.judged(Judgement::new(verdict, why))
    }
}
