//! Exciting currents of the phases against each other: two alike, the third one lower, or higher where two limbs
//! are fed in opposition.

use super::joint::Group;
use crate::measure::{injected, shown};
use crate::power::pairs::{Shot, Terminal, Windings};
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, PointId, Value, Values, Verdict,
};
use waltron_core::injection::measuring::{Lack, Probe};
use waltron_core::injection::observation::Observation;
use waltron_core::procedure::PlannedPoint;
use waltron_core::quantity::{Dimension, Quantity, fixed, significant};
use waltron_core::uncertainty::Estimate;

/// The exciting currents of the phases make the pattern that the connection makes.
pub(crate) const EXCITING: Criterion = Criterion::named("exciting_current");

/// No current is less than this, in A, where one is divided by.
pub(super) const SMALLEST_A: f64 = 1e-9;

/// A current in A with what makes it uncertain; why there is none.
type Read = Result<Estimate, String>;

/// Why a current was not shown, with what helps where a phase takes more than its meter shows.
pub(super) fn advised(why: String, lacks: Option<&Lack>) -> String {
    match lacks {
        Some(Lack::BeyondRange(_)) => format!("{why}: a lower `voltage` takes less"),
        _ => why,
    }
}

/// The exciting current of a phase.
pub(super) fn current(seen: Option<&Observation>, probe: &Probe) -> Read {
    let seen = seen.ok_or("not every phase was measured")?;
    let lacks = seen.at_end(probe).and_then(|reading| reading.lacks.as_ref());
    let read = shown(seen, probe).map_err(|why| advised(why, lacks))?;
    Ok(read.estimate())
}

fn letter(phase: usize) -> String {
    Terminal::Phase(phase as u8).letter().to_string()
}

/// What exciting currents must be to each other.
#[derive(Clone, Debug)]
pub(super) struct Exciting {
    point: PointId,
    stimulus: Values,
    limits: Limits,
    allowed: f64,
    /// Whether a phase that is fed takes two limbs.
    is_of_two: bool,
}

impl Exciting {
    /// Those that should be alike differ by a share of `allowed` at most.
    pub(super) fn new(point: PointId, stimulus: Values, allowed: f64, is_of_two: bool) -> Self {
        let limits = Limits::Between { lower: None, upper: Some(Value::Percent(allowed)) };
        Self { point, stimulus, limits, allowed, is_of_two }
    }

    /// Graded by the three steps that feed the phases, in their order.
    pub(super) fn group(self, of: Vec<usize>, probe: Probe) -> Group {
        let points = vec![PlannedPoint::certain(self.point.clone(), EXCITING)];
        let grade = move |seen: &[Option<&Observation>]| {
            let of_phase = |(k, s): (usize, &Option<&Observation>)| {
                Ok(current(*s, &probe)?.of_injection(&letter(k)))
            };
            let read: Vec<Read> = seen.iter().enumerate().map(of_phase).collect();
            vec![self.graded(&read)]
        };
        Group { points, of, grade: Arc::new(grade) }
    }

    /// Two alike, the third one lower; or higher where two limbs are fed in opposition.
    fn graded(&self, read: &[Read]) -> Finding {
        let found = injected(self.point.clone(), EXCITING, &self.stimulus);
        let found = Finding { limits: self.limits.clone(), ..found };
        let read: Result<Vec<&Estimate>, &String> = read.iter().map(Result::as_ref).collect();
        let read = match read.as_deref() {
            Ok(&[u, v, w]) => [u, v, w],
            Ok(_) => return found.judged(Judgement::new(Verdict::Inconclusive, "not measured")),
            Err(why) => {
                let why = (*why).clone();
                return found.judged(Judgement::new(Verdict::Inconclusive, why));
            }
        };
        let amps = read.map(|read| read.value);
        let of = |si| Quantity { si, dimension: Dimension::CURRENT };
        let differ = |a: f64, b: f64| (a - b).abs() / ((a + b) / 2.0).max(SMALLEST_A);
        // The two that are most alike, and the one that is left.
        let pairs = [(0, 1, 2), (1, 2, 0), (2, 0, 1)];
        let by = |&(a, b, _): &(usize, usize, usize)| differ(amps[a], amps[b]);
        let (a, b, other) =
            pairs.into_iter().min_by(|x, y| by(x).total_cmp(&by(y))).unwrap_or((0, 2, 1));
        let spread = differ(amps[a], amps[b]);
        let mean = f64::midpoint(amps[a], amps[b]);
        let share = amps[other] / mean.max(SMALLEST_A);
        let both = read[a].clone().plus(read[b]).times(0.5);
        let apart = read[a].clone().minus(read[b]);
        // Alike or not, they are uncertain by what each of them is by itself.
        let uncertain = match mean > SMALLEST_A {
            true => apart.over(&both),
            false => apart.times(1.0 / SMALLEST_A),
        };
        let u_spread = uncertain.expanded();
        let measured = Values::none()
            .with_percent("spread", spread)
            .with_quantity("exciting_u", of(amps[0]))
            .with_quantity("exciting_v", of(amps[1]))
            .with_quantity("exciting_w", of(amps[2]));
        let found = Finding { measured, ..found }.uncertain(&uncertain);
        let told = format!(
            "{} and {} take {} and {}, {} {}",
            letter(a),
            letter(b),
            of(amps[a]),
            of(amps[b]),
            letter(other),
            of(amps[other])
        );
        let percent = |share: f64| significant(share * 100.0, 3);
        // What is lost in the meter's uncertainty is neither alike nor different.
        if u_spread > self.allowed {
            let why = format!(
                "{told}: uncertain by {} %, which tells nothing; feed more, or take a finer meter",
                percent(u_spread)
            );
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
        if spread > self.allowed {
            let why = format!(
                "no two phases are alike within {} %: {told}; demagnetise the core and test again",
                percent(self.allowed)
            );
            return found.judged(Judgement::new(Verdict::Fail, why));
        }
        // With a single limb fed the third is lower, with two of them higher; never by so much.
        let (low, high) = if self.is_of_two { (0.9, 2.5) } else { (0.4, 1.1) };
        if !(low..=high).contains(&share) {
            let why = match share > high {
                true => format!(
                    "{} takes {} times what {} and {} take, by the connection {}: shorted turns, or a magnetised core",
                    letter(other),
                    fixed(share, 2),
                    letter(a),
                    letter(b),
                    if self.is_of_two { "somewhat more" } else { "less" }
                ),
                false => format!("{told}: too low a third for three limbs"),
            };
            // It is the third that is out of the pattern.
            let third = Values::none().with_percent("third", share);
            let end = |share| Some(Value::Percent(share));
            let found = Finding {
                measured: third.and(found.measured),
                limits: Limits::Between { lower: end(low), upper: end(high) },
                uncertainty: Values::none(),
                ..found
            };
            return found.judged(Judgement::new(Verdict::Fail, why));
        }
        found.judged(Judgement::new(Verdict::Pass, told))
    }
}

/// Whether a phase that is fed takes two limbs in opposition: a star from line to line, or a delta with two of its
/// terminals joined, which leaves the limb between them without flux.
pub(super) fn is_of_two(limbs: &Windings, shots: &[Shot; 3]) -> bool {
    let fed = &shots[0].fed;
    let count = |sum: [f64; 3]| sum.iter().filter(|x| x.abs() > 1e-6).count();
    match fed.joined {
        None => count(limbs.sum(fed).unwrap_or_default()) == 2,
        Some(_) => limbs.nothing(fed).into_iter().any(|sum| count(sum) == 1),
    }
}
