//! The measurements in their order, and what they grade.

use super::graded::{PartRequired, Probes, SumRequired};
use super::keys::{OfForm, Sweeps, TanDeltaTest};
use super::parts::{Shows, Taken, of_bushings, of_windings};
use super::{CAPACITANCE, LOSSES, MEASURED, SUM, SWEEP};
use crate::measure::{point, probe, voltage};
use crate::power::asset::PowerTransformer;
use crate::power::insulation::turns;
use crate::power::procedure::joint::{Group, Joint, Step};
use crate::power::procedure::put_on::PutOn;
use std::sync::Arc;
use waltron_core::grading::Values;
use waltron_core::injection::capability::Channel;
use waltron_core::injection::measuring::{Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, PlannedPoint, SetupError};
use waltron_core::quantity::{Dimension, Frequency, Measure, Quantity, Time, Voltage, seconds};

/// What is put on during a sweep where the plan does not say, in V.
const SWEEP_V: f64 = 2e3;

/// How many frequencies a sweep has in a decade, and fewest.
const IN_A_DECADE: f64 = 6.0;
const FEWEST: usize = 5;

/// By how much a sweep goes beyond what is needed.
const BEYOND: f64 = 1.4;

/// How many periods a reading takes, and the least of it in s.
const PERIODS: f64 = 13.0;
const LEAST_S: f64 = 0.6;

/// How long a reading at a frequency takes: it settles, and a window of ten periods follows.
fn reading(hertz: f64) -> Time {
    seconds((PERIODS / hertz).max(LEAST_S))
}

fn output<'b>(bench: &Bench<'b>) -> Result<&'b Channel<Voltage>, SetupError> {
    let found = bench.capability.voltages.iter().find(|c| c.meaning == *"high voltage");
    found.ok_or_else(|| SetupError::Lacks {
        lacks: "no output for `high voltage`".to_owned(),
        what: "outputs",
    })
}

/// The frequencies of the sweep, in Hz; why there is none.
fn sweep(
    test: &TanDeltaTest,
    of: &PowerTransformer,
    bench: &Bench<'_>,
) -> Result<Result<Vec<f64>, String>, SetupError> {
    let rated = bench.frequency()?.si();
    let reach = output(bench)?.ability.frequency.map(|(a, b)| (a.si(), b.si()));
    let needed = |asked: bool| {
        let Some((low, high)) = reach else {
            let why = "the rig's `high voltage` tells no `frequency = [from, to]`";
            return match asked {
                true => Err(SetupError::Unknown(why.to_owned())),
                false => Ok(Err(why.to_owned())),
            };
        };
        let energy = of.insulation.energy_ev.unwrap_or(0.9);
        let at = rated * turns(energy, 293.15, test.temperature_k);
        let low = (rated.min(at) / BEYOND).clamp(low, high);
        let high = (rated.max(at) * BEYOND).clamp(low, high);
        let count = ((high / low).log10() * IN_A_DECADE).ceil() as usize + 1;
        let count = count.max(FEWEST) - 1;
        if high <= low {
            return Ok(Err(format!(
                "the rig reaches {} alone",
                Quantity::of(Frequency::from_si(low))
            )));
        }
        let at = |k: usize| low * (high / low).powf(k as f64 / count as f64);
        // No more digits than anybody would set.
        let rounded = |k: usize| (at(k) * 100.0).round() / 100.0;
        Ok(Ok((0..=count).map(|k| rounded(k).clamp(low, high)).collect()))
    };
    match &test.sweeps {
        Sweeps::Not => Ok(Err("the plan asks for no sweep".to_owned())),
        Sweeps::Over(list) => Ok(Ok(list.clone())),
        Sweeps::Needed(asked) => needed(*asked),
    }
}

/// All steps and what they grade together.
pub(super) fn joint(
    test: &TanDeltaTest,
    of: &PowerTransformer,
    bench: Bench<'_>,
) -> Result<Joint, SetupError> {
    let rig = bench.capability;
    let sides = ["measured current", "high voltage"];
    let probes = Probes {
        admittance: probe(rig, &sides, Property::Phasor)?,
        volts: probe(rig, &sides[1..], Property::Phasor)?,
        amps: probe(rig, &sides[..1], Property::Phasor)?,
    };
    let taken = match test.of {
        OfForm::Windings => of_windings(of),
        OfForm::Bushings => of_bushings(of),
    };
    let rated = bench.frequency()?;
    let sweep = sweep(test, of, &bench)?;
    // A tap stands less than the winding that the plan speaks of.
    let named = |t: &Taken| !matches!(t.shows, Shows::C2(_));
    let each = taken.iter().filter(|t| named(t));
    let each = each.map(|t| (t.leads.split(':').next().unwrap_or_default(), t.most_v));
    let put_on = PutOn::new(test.voltage, output(&bench)?.range.si(), each)?;
    let (mut steps, mut groups) = (Vec::new(), Vec::new());
    for one in &taken {
        let is_sum = matches!(one.shows, Shows::Sum(..));
        let volts = put_on.on(one.most_v);
        let hold = |name: &str, volts: Voltage, hertz: Frequency| {
            let out = voltage(rig, "high voltage", volts, hertz)?;
            let mut segment = Segment::hold(name, out, reading(hertz.si()));
            let all = [&probes.admittance, &probes.volts, &probes.amps];
            let read = |probe: &_| Read { probe: Clone::clone(probe), when: When::EachLevel };
            segment.reads = all.into_iter().map(read).collect();
            Ok::<_, SetupError>(segment)
        };
        let mut segments = vec![hold(MEASURED, volts, rated)?];
        // Of sums and flanges nobody needs losses at another temperature.
        let sweeps = !is_sum && !matches!(one.shows, Shows::C2(_));
        let own = sweep.clone().ok().filter(|_| sweeps).unwrap_or_default();
        let during = test.sweep_voltage.map_or(SWEEP_V, Measure::si).min(volts.si());
        for hertz in &own {
            let frequency = Frequency::from_si(*hertz);
            segments.push(hold(SWEEP, Voltage::from_si(during), frequency)?);
        }
        let likely = segments.iter().filter_map(Segment::longest).fold(seconds(0.0), |a, b| a + b);
        let mut program = Program::of(segments);
        program.connection = Some(one.leads.as_str().into());
        let stimulus = Values::none().with("voltage", volts);
        let mut step = Step::of(program, stimulus.clone(), likely);
        let planned = &mut step.planned;
        let id = |more: &str| point(&test.test, &format!("{}{more}", one.shows.id()));
        if !is_sum {
            let shows = &one.shows;
            let part = PartRequired {
                losses: id(""),
                capacitance: id("/capacitance"),
                shows: shows.clone(),
                stimulus,
                insulation: of.insulation.clone(),
                most: match shows {
                    Shows::Part(_) => of.allowed.tan_delta,
                    _ => of.allowed.bushing_tan_delta,
                },
                tolerance: of.allowed.capacitance,
                kelvin: test.temperature_k,
                uncertainty_k: test.temperature_u_k,
                no_sweep: sweep.as_ref().err().cloned(),
                by: test.by,
            };
            planned.points = vec![PlannedPoint::certain(part.losses.clone(), LOSSES)];
            planned.limits = part.limits();
            if part.known_farad().is_some() {
                let point = part.capacitance.clone();
                planned.points.push(PlannedPoint::certain(point, CAPACITANCE));
            }
            let probes = probes.clone();
            step.grade = Arc::new(move |seen: &Observation| part.graded(seen, &probes));
        }
        steps.push(step);
    }
    for (k, one) in taken.iter().enumerate() {
        let Shows::Sum(_, parts) = &one.shows else { continue };
        let at = |part: &String| taken.iter().position(|t| t.shows == Shows::Part(part.clone()));
        let mut members = vec![k];
        members.extend(parts.iter().filter_map(at));
        // Told and graded with the last of them; the sum itself comes first where it is graded.
        let mut by_time = members.clone();
        by_time.sort_unstable();
        let order: Vec<usize> =
            members.iter().filter_map(|k| by_time.iter().position(|m| m == k)).collect();
        let id = point(&test.test, &one.shows.id());
        let sum = SumRequired {
            point: id.clone(),
            parts: parts.clone(),
            stimulus: Values::none().with("voltage", put_on.on(one.most_v)),
        };
        let probes = probes.clone();
        let grade = move |seen: &[Option<&Observation>]| {
            let seen: Vec<_> = order.iter().map(|k| seen.get(*k).copied().flatten()).collect();
            vec![sum.graded(&seen, &probes)]
        };
        groups.push(Group {
            points: vec![PlannedPoint::certain(id, SUM)],
            of: by_time,
            grade: Arc::new(grade),
        });
    }
    Ok(Joint::new(steps, groups))
}

/// A capacitance.
pub(super) fn farads(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::CAPACITANCE }
}
