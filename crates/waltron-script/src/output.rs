//! From the settings of a step to the stimulus it puts out.

use super::ast::{LoopOf, Output, Setting};
use super::context::Context;
use super::scene::{Mode, Out, Scene};
use super::target::{Target, set};
use num_complex::Complex64;
use waltron_core::injection::stimulus::{Drive, PHASE_CURRENTS, PHASE_VOLTAGES, Stimulus};
use waltron_core::quantity::Frequency;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Angle, Current, Measure, Voltage, degrees};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{
    Expr, ExprKind, PhasorValue, Type, Value, evaluate, not_there,
};

/// Finds out what a setting acts on and what it is set to: the most that it can be where that is not
/// known yet, and whether it is known.
///
/// # Errors
/// Outputs that are not there, values of another kind, values without bounds, values that are missing.
fn read(setting: &Setting, scene: &Scene) -> Result<(Target, Value, bool), Problem> {
    let target = target(setting, &scene.context)?;
    let value = evaluate(&setting.value, scene)?;
    let at = || setting.value.span.clone();
    if let Value::Missing(missing) = &value {
        return Err(not_there(&setting.value, missing));
    }
    if !target.accepts(&value.kind()) {
        let message =
            format!("`{}` takes {}, not {}", setting.target, target.wanted(), value.kind());
        return Err(Problem::new(at(), message));
    }
    let is_known = !value.is_unknown();
    let value = match scene.mode {
        _ if is_known => value.plain(),
        Mode::Kinds => target.sample(&value),
        _ => target.worst(&value).map_err(|why| unbounded(&setting.value, why))?,
    };
    if let Value::Quantity(q) = &value {
        target
            .admits(*q)
            .map_err(|(message, help)| Problem { help, ..Problem::new(at(), message) })?;
    }
    Ok((target, value, is_known))
}

/// The complaint about a value that nothing bounds.
pub(super) fn unbounded(expr: &Expr, why: String) -> Problem {
    Problem::new(expr.span.clone(), format!("nothing is put out that has no bound: {why}")).help(
        "say how much it can be at most, as in `min(x, 5 A)`, or `most` of the reading in the rig's file",
    )
}

fn target(setting: &Setting, context: &Context) -> Result<Target, Problem> {
    Target::parse(setting.target.as_str(), context)
        .map_err(|(message, help)| Problem { help, ..Problem::new(setting.at.0.clone(), message) })
}

/// The stimulus of a step, starting from what is out: what it does not name stays as it is.
///
/// # Errors
/// Mistakes in its settings, values that nothing bounds.
pub(super) fn stimulus(output: &Output, base: &Out, scene: &Scene) -> Result<Out, Problem> {
    let nominal = scene.context.nominal();
    let mut out = base.stimulus.clone();
    let mut is_exact = base.is_exact;
    let mut read_all = Vec::new();
    for setting in &output.settings {
        let (target, value, is_known) = read(setting, scene)?;
        is_exact &= is_known;
        let new = (target, value);
        if read_all.iter().any(|(_, (target, _))| *target == new.0) {
            let message = format!("`{}` is there twice in this step", setting.target);
            return Err(Problem::new(setting.at.0.clone(), message));
        }
        read_all.push((setting, new));
    }
    // The order inside a step means nothing.
    read_all.sort_by_key(|(_, (target, _))| target.rank());
    if let Some(named) = &output.fault {
        let known = named_loop(named, scene)?;
        is_exact &= known.is_some();
        fault(known, &read_all, &mut out, is_exact, scene)?;
    }
    let mut power = [None, None];
    for (setting, (target, value)) in &read_all {
        match target {
            Target::Impedance | Target::Return if output.fault.is_none() => {
                let message = format!("`{}` belongs to a fault loop", setting.target);
                return Err(Problem::new(setting.at.0.clone(), message)
                    .help("name the loop, as in `fault A-N with i = 5 A, z = 2 Ohm @ 75 deg`"));
            }
            Target::ActivePower => power[0] = Some((setting, value.clone())),
            Target::ReactivePower => power[1] = Some((setting, value.clone())),
            Target::Wave { .. } if output.fault.is_some() && setting.target == "i" => {}
            Target::Off => {
                out = Stimulus::off();
                is_exact = true;
            }
            _ => set(&mut out, target, value, nominal),
        }
    }
    if let Some((setting, _)) = power.iter().flatten().next() {
        // Less voltage would draw more current than is told.
        if scene.mode == Mode::Bounds && !base.is_exact {
            let message =
                "which voltages are on is not known here, so what draws this power is not";
            return Err(Problem::new(setting.at.0.clone(), message)
                .help("set the voltages in the same step"));
        }
        // What is not set stays as it was drawn.
        let drawn = drawn(&base.stimulus);
        let part = |p: &Option<(&&Setting, Value)>, stays: f64| {
            p.as_ref().and_then(|(_, v)| v.quantity()).map_or(stays, |q| q.si)
        };
        let wanted = Complex64::new(part(&power[0], drawn.re), part(&power[1], drawn.im));
        currents_for_power(wanted, setting, &mut out)?;
    }
    if nominal == Frequency::default() && alternates_without_frequency(&out) {
        let at = output.settings.first().map_or(0..0, |setting| setting.at.0.clone());
        let message = "nothing says at which frequency: the asset's file gives no nominal one";
        return Err(Problem::new(at, message)
            .help("add `f = 50 Hz` to this step, or `frequency` to the asset's ratings"));
    }
    Ok(Out { stimulus: out, is_exact })
}

/// Whether something alternates of which no frequency is known.
fn alternates_without_frequency(out: &Stimulus) -> bool {
    fn of<Q: Measure>(drives: &[Drive<Q>]) -> bool {
        let alternates = |d: &&Drive<Q>| d.phasor.rms().si() != 0.0;
        drives.iter().filter(alternates).any(|d| d.frequency == Frequency::default())
    }
    of(&out.currents) || of(&out.voltages)
}

/// The three-phase power that is drawn, without what rounding leaves.
fn drawn(out: &Stimulus) -> Complex64 {
    let phases = out.complex_phase_voltages().into_iter().zip(out.complex_phase_currents());
    let s: Complex64 = phases.map(|(v, i)| v * i.conj()).sum();
    let sure = |part: f64| if part.abs() < 1e-12 * s.norm() { 0.0 } else { part };
    Complex64::new(sure(s.re), sure(s.im))
}

/// I = (S / 3 / V)*, in each phase.
fn currents_for_power(s: Complex64, setting: &Setting, out: &mut Stimulus) -> Result<(), Problem> {
    let volts = out.complex_phase_voltages();
    let dead = volts.iter().any(|v| v.norm() < 1e-6);
    if dead {
        return Err(Problem::new(setting.at.0.clone(), "power needs three phase voltages")
            .help("set them first, as in `v = balanced(nominal.voltage / sqrt(3)), p = 50 W`"));
    }
    for (index, channel) in PHASE_CURRENTS.into_iter().enumerate() {
        let current = (s / 3.0 / volts[index]).conj();
        put(&mut out.currents, channel, current, out.voltages.first().map(|d| d.frequency));
    }
    Ok(())
}

fn put<Q: Measure>(
    drives: &mut Vec<Drive<Q>>,
    channel: &str,
    value: Complex64,
    frequency: Option<waltron_core::quantity::Frequency>,
) {
    let phasor = Phasor::new(Q::from_si(value.norm()), Angle::from_si(value.arg()));
    match drives.iter_mut().find(|d| d.channel == channel) {
        Some(drive) => drive.phasor = phasor,
        None => drives.push(Drive::sine(channel.into(), phasor, frequency.unwrap_or_default())),
    }
}

/// The loop that a step names; none where it is not known yet.
fn named_loop(named: &LoopOf, scene: &Scene) -> Result<Option<FaultLoop>, Problem> {
    let (name, span) = match named {
        LoopOf::This(fault_loop) => return Ok(Some(*fault_loop)),
        LoopOf::Named(name, span) => (name, span),
    };
    let expr = Expr { kind: ExprKind::Name(name.clone()), span: span.0.clone() };
    match evaluate(&expr, scene)? {
        Value::Loop(fault_loop) => Ok(Some(fault_loop)),
        Value::Missing(missing) => Err(not_there(&expr, &missing)),
        value if value.kind() == Type::Loop || value.kind().is_any() => Ok(None),
        value => {
            let message = format!("`{name}` is {}, not a fault loop", value.kind());
            Err(Problem::new(expr.span, message)
                .help("name one, as in `for loop in [A-N, B-N, C-N]`"))
        }
    }
}

/// Currents of a loop, and its voltages where an impedance is given.
///
/// Source: constant test current; V = I·Z·(1 + k0) on a phase-to-earth loop, V = 2·I·Z between two
/// phases, V = I·Z on three. Healthy phases stay at nominal voltage.
fn fault(
    known: Option<FaultLoop>,
    settings: &[(&Setting, (Target, Value))],
    out: &mut Stimulus,
    is_exact: bool,
    scene: &Scene,
) -> Result<(), Problem> {
    // Where the loop is not known, every phase carries what any of them could.
    let fault_loop = known.unwrap_or(FaultLoop::ABC);
    let find = |name: &str| settings.iter().find(|(s, _)| s.target == name);
    let Some((_, (_, current))) = find("i") else {
        let end = settings.first().map_or(0..0, |(s, _)| s.at.0.clone());
        let which = known.map_or_else(String::new, |l| format!(" {l}"));
        return Err(Problem::new(end, format!("the fault{which} has no current"))
            .help("give it with `i = …`"));
    };
    let phasor = |value: &Value| match value {
        Value::Quantity(q) => Some(PhasorValue { rms: q.si, angle: 0.0, dimension: q.dimension }),
        Value::Phasor(p) => Some(*p),
        _ => None,
    };
    let Some(i) = phasor(current) else {
        if matches!(current.kind(), Type::Phases(_)) {
            let at = find("i").map_or(0..0, |(s, _)| s.value.span.clone());
            return Err(Problem::new(at, "a fault loop takes one current, not three"));
        }
        return Ok(());
    };
    let frequency = out.frequency().unwrap_or_else(|| scene.context.nominal());
    let phases = fault_loop
        .currents(Current::from_si(i.rms))
        .map(|p| p.at(p.angle() + Angle::from_si(i.angle)));
    out.currents.retain(|d| !PHASE_CURRENTS.iter().any(|c| d.channel == *c));
    let driven = Stimulus::phase_currents(phases, frequency).currents;
    out.currents.extend(driven);
    let Some((setting, (_, impedance))) = find("z") else { return Ok(()) };
    let Some(z) = phasor(impedance) else { return Ok(()) };
    let k0 =
        find("k0").and_then(|(_, (_, v))| phasor(v)).map_or(Complex64::ZERO, PhasorValue::complex);
    let Some(nominal) = scene.context.asset.ratings.voltage else {
        return Err(Problem::new(setting.at.0.clone(), "the asset has no nominal voltage")
            .help("add `voltage` to its [ratings]"));
    };
    let healthy = [0.0, -120.0, 120.0]
        .map(|a: f64| Complex64::from_polar(nominal.si() / 3f64.sqrt(), degrees(a).si()));
    let currents = phases.map(Phasor::complex);
    let z = z.complex();
    let mut volts = healthy;
    match fault_loop {
        FaultLoop::AN | FaultLoop::BN | FaultLoop::CN => {
            let k = if fault_loop == FaultLoop::AN {
                0
            } else {
                usize::from(fault_loop == FaultLoop::CN) + 1
            };
            volts[k] = currents[k] * z * (k0 + 1.0);
        }
        FaultLoop::AB | FaultLoop::BC | FaultLoop::CA => {
            let (a, b, c) = match fault_loop {
                FaultLoop::AB => (0, 1, 2),
                FaultLoop::BC => (1, 2, 0),
                _ => (2, 0, 1),
            };
            volts[a] = -healthy[c] / 2.0 + currents[a] * z;
            volts[b] = -healthy[c] / 2.0 + currents[b] * z;
        }
        FaultLoop::ABC => volts = currents.map(|i| i * z),
    }
    if !is_exact {
        // Whatever the angles are, no phase has more than both parts together.
        let drop = |i: Complex64| (i * z).norm() * (1.0 + k0.norm());
        for (k, volt) in volts.iter_mut().enumerate().filter(|(k, _)| currents[*k].norm() > 0.0) {
            let most = healthy[k].norm() / 2.0 + drop(currents[k]);
            *volt =
                Complex64::from(if known.is_none() { most.max(healthy[k].norm()) } else { most });
        }
    }
    for (channel, value) in PHASE_VOLTAGES.into_iter().zip(volts) {
        put::<Voltage>(&mut out.voltages, channel, value, Some(frequency));
    }
    Ok(())
}
