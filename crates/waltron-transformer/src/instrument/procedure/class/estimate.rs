//! What a nameplate does not tell, estimated from what was measured.

use crate::instrument::analysis::criteria::Met;
use crate::instrument::analysis::{Evidence, KneeKind, meets};
use crate::instrument::asset::{InstrumentTransformer, Spot, Tap};
use waltron_core::grading::{Finding, Judgement, Values, Verdict};
use waltron_core::quantity::{Quantity, significant};

/// What a place may be by its values, where its nameplate does not tell its ratio or its class.
pub(super) fn estimate(
    found: Finding,
    of: &InstrumentTransformer,
    spot: &Spot,
    seen: &Evidence,
    hertz: f64,
) -> Finding {
    let (secondary, tap) = (of.secondary(spot), of.tap(spot));
    let Ok(ratio) = &seen.turns else {
        return found.judged(Judgement::new(Verdict::Inconclusive, "the ratio was not measured"));
    };
    let turns = ratio.value;
    let measured_a = turns * secondary.secondary.si;
    let primary_a = tap.primary.map_or_else(|| standard(measured_a), |p| p.si);
    let off = measured_a / primary_a - 1.0;
    let mut told = format!(
        "estimated: {} A / {}, from a ratio of {} ± {} ({} % from the standard value)",
        significant(primary_a, 4),
        secondary.secondary,
        significant(turns, 5),
        significant(ratio.expanded(), 2),
        significant(off * 100.0, 2)
    );
    if let Ok(curve) = &seen.curve {
        let knee = curve.knees().into_iter().find(|k| k.kind == KneeKind::TenFifty);
        told.push_str(&knee.map_or_else(
            || "; no knee point was reached".to_owned(),
            |k| format!("; knee point {} V", significant(k.emf_v, 4)),
        ));
    }
    let with = Tap {
        primary: Some(Quantity { si: primary_a, ..secondary.secondary }),
        burden_va: tap.burden_va.or(Some(ESTIMATED_VA)),
        ..tap.clone()
    };
    if tap.class.is_none()
        && let Some(plate) = secondary.plate(&with, hertz)
    {
        let met = meets::table(&plate, seen).into_iter().filter(|m| m.met == Met::Yes);
        let met: Vec<String> = met.map(|m| m.class).collect();
        let va = significant(with.burden_va.unwrap_or_default(), 3);
        told.push_str(&match met.is_empty() {
            true => format!("; at {va} VA it meets no class that could be told"),
            false => format!("; at {va} VA it would meet {}", met.join(", ")),
        });
    }
    told.push_str("; put what holds into the asset's file and grade again");
    let measured = Values::none().with_quantity("ratio", Quantity::number(turns));
    let found = Finding { measured, ..found }.uncertain(ratio);
    found.judged(Judgement::new(Verdict::Measured, told))
}

/// The burden at which an unknown class is estimated, where the nameplate tells none.
const ESTIMATED_VA: f64 = 10.0;

/// The nearest standard primary current (IEC 61869-2, 5.201.1).
fn standard(amps: f64) -> f64 {
    const STEPS: [f64; 11] = [1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 7.5, 8.0];
    let decade = 10f64.powf(amps.log10().floor());
    let all = STEPS.iter().chain(&[10.0, 12.0]).map(|step| step * decade);
    let off = |v: &f64| (v / amps).ln().abs();
    all.min_by(|a, b| off(a).total_cmp(&off(b))).unwrap_or(amps)
}
