//! Assets, specimens and rigs as text, and tests played on them.

#![allow(dead_code, reason = "each test uses its part")]

use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::grading::{Finding, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::plan::{Plan, PlanForm};
use waltron_core::procedure::{Action, Bench};
use waltron_core::text::document::Source;
use waltron_core::wing::Wings;
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;
use waltron_transformer::InstrumentTransformerWing;

pub(crate) const WINGS: Wings = Wings(&[&InstrumentTransformerWing]);

pub(crate) fn asset(text: &str) -> Asset {
    WINGS.asset(&Source::new("asset", text)).unwrap_or_else(|e| panic!("{e}\n{text}"))
}

pub(crate) fn capability(text: &str) -> Capability {
    RigForm::load(&Source::new("rig", text)).unwrap_or_else(|e| panic!("{e}")).capability
}

pub(crate) fn plan(asset: &Asset, test: &str) -> Plan {
    let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\n{test}");
    let source = Source::new("plan", text.as_str());
    PlanForm::load(&source, WINGS)
        .and_then(|p| p.resolve(&source, asset))
        .unwrap_or_else(|e| panic!("{e}"))
}

/// What was put out and seen.
pub(crate) type Seen = Vec<(std::sync::Arc<Program>, Observation)>;

/// What a test finds on a simulated transformer, with what it did.
pub(crate) fn play(
    asset: &Asset,
    rig: &str,
    specimen: &str,
    seed: u64,
    test: &str,
) -> (Vec<Finding>, Seen) {
    let rig = capability(rig);
    let source = Source::new("specimen", specimen);
    let mut specimen = SpecimenForm::load(&source, seed).unwrap_or_else(|e| panic!("{e}"));
    specimen.connect(&rig).unwrap();
    let mut machine = VirtualRig::new("bench".into(), rig.clone(), specimen, Pace::Fast);
    let plan = plan(asset, test);
    let bench = Bench { asset, capability: &rig };
    let mut procedure = plan.tests[0].procedure(bench).unwrap().expect("no sequence");
    let planned = procedure.planned();
    let (mut found, mut seen) = (Vec::new(), Vec::new());
    loop {
        match procedure.next() {
            Action::Inject(program) => {
                // Nothing comes that was not told before.
                for (channel, most, _) in program.maxima() {
                    let told = planned.iter().flat_map(|p| p.program.maxima());
                    let told = told.filter(|(id, ..)| *id == channel).map(|(_, v, _)| v);
                    assert!(told.fold(0.0, f64::max) >= most * (1.0 - 1e-9), "{channel} {most}");
                }
                let cleared = clear(program.clone(), &asset.ratings, &rig);
                let cleared = cleared.unwrap_or_else(|e| panic!("{e:?}"));
                let observation = machine.play(&cleared, &mut Unattended).unwrap();
                assert!(!machine.is_energised());
                found.extend(procedure.observe(&observation));
                seen.push((program, observation));
            }
            Action::Conclude(more) => found.extend(more),
            Action::Done => break,
            other => panic!("{other:?}"),
        }
    }
    (found, seen)
}

pub(crate) fn of<'f>(found: &'f [Finding], what: &str) -> &'f Finding {
    let id = format!("t/{what}");
    found.iter().find(|f| f.point.id == id).unwrap_or_else(|| {
        let ids: Vec<&str> = found.iter().map(|f| f.point.id.as_str()).collect();
        panic!("no point {id} among {ids:?}")
    })
}

pub(crate) fn failed(found: &[Finding]) -> Vec<&str> {
    let bad = |f: &&Finding| matches!(f.verdict, Verdict::Fail | Verdict::Inconclusive);
    found.iter().filter(bad).map(|f| f.point.id.trim_start_matches("t/")).collect()
}

/// A rig for transformers of a rated secondary current: its meters are as good as a good test set's.
pub(crate) fn rig(volts: f64, amps: f64) -> String {
    let meter = |id: &str, meaning: &str, measures: &str, range: String, accuracy: String| {
        format!(
            "[[meter]]\nid = \"{id}\"\nmeaning = \"{meaning}\"\nmeasures = \"{measures}\"\nrange = \"{range}\"\naccuracy = \"{accuracy}\"\nangle_accuracy = \"0.01 deg\"\n"
        )
    };
    let mut text = format!(
        "[rig]\nkind = \"virtual\"\nname = \"r\"\nspecimen = \"s\"\nswitches_leads = true\n\
         [[voltage]]\nid = \"vs\"\nmeaning = \"secondary voltage\"\nrange = \"{volts} V\"\nkind = \"ac\"\nfrequency = [\"15 Hz\", \"400 Hz\"]\n\
         [[current]]\nid = \"is\"\nmeaning = \"secondary current\"\nrange = \"{} A\"\nkind = \"dc\"\ncompliance = \"30 V\"\n",
        2.0 * amps
    );
    let micro = |v: f64| format!("0.03 % + {v} uA");
    text += &meter(
        "M1",
        "secondary voltage",
        "voltage",
        format!("{} V", (volts * 1.2).max(40.0)),
        "0.03 % + 0.1 mV".into(),
    );
    text += &meter(
        "M2",
        "secondary current",
        "current",
        format!("{} A", 15.0 * amps),
        micro(0.3 * amps),
    );
    text += &meter("M3", "primary voltage", "voltage", "30 V".into(), "0.03 % + 2 uV".into());
    text
}
