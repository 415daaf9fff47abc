//! The procedures of instrument transformers: against values worked out here from the circuit, and with
//! observations made by hand where something goes wrong.

use num_complex::Complex64;
use proptest::prelude::*;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::grading::{Finding, Values, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Lack, Place, Reading};
use waltron_core::injection::observation::{Ended, Observation, Span};
use waltron_core::injection::program::{Condition, Program};
use waltron_core::plan::PlanForm;
use waltron_core::procedure::{Action, Bench, Procedure, SetupError};
use waltron_core::quantity::{Quantity, seconds};
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::wing::{Depth, Wings};
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;
use waltron_transformer::TransformerWing;

const WINGS: Wings = Wings(&[&TransformerWing]);
const RIG: &str = include_str!("../../../examples/q07-ct.rig.toml");
const ASSET: &str = include_str!("../../../examples/q07-ct.asset.toml");

fn rig() -> Capability {
    RigForm::load(&Source::new("rig", RIG)).unwrap().capability
}

fn asset(text: &str) -> Asset {
    WINGS.asset(&Source::new("asset", text)).unwrap()
}

fn plan(asset: &Asset, test: &str) -> Result<waltron_core::plan::Plan, DocumentError> {
    let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\n{test}");
    let source = Source::new("plan", text.as_str());
    PlanForm::load(&source, WINGS)?.resolve(&source, asset)
}

fn set_up(asset: &Asset, rig: &Capability, test: &str) -> Result<Box<dyn Procedure>, SetupError> {
    let plan = plan(asset, test).unwrap();
    let procedure = plan.tests[0].procedure(Bench { asset, capability: rig })?;
    Ok(procedure.expect("no sequence"))
}

fn program(procedure: &mut dyn Procedure) -> std::sync::Arc<Program> {
    match procedure.next() {
        Action::Inject(program) => program,
        other => panic!("{other:?}"),
    }
}

/// What a test finds on a simulated transformer.
fn found(asset: &Asset, specimen: &str, test: &str) -> Vec<Finding> {
    let rig = rig();
    let mut specimen = SpecimenForm::load(&Source::new("s", specimen), 3).unwrap();
    specimen.connect(&rig).unwrap();
    let mut machine = VirtualRig::new("bench".into(), rig.clone(), specimen, Pace::Fast);
    let mut procedure = set_up(asset, &rig, test).unwrap();
    let mut all = Vec::new();
    while let Action::Inject(program) = procedure.next() {
        let cleared = clear(program, &asset.ratings, &rig).unwrap();
        let seen = machine.play(&cleared, &mut Unattended).unwrap();
        assert!(!machine.is_energised());
        all.extend(procedure.observe(&seen));
    }
    all
}

struct Truth {
    turns: f64,
    r: f64,
    xm: f64,
    rm: f64,
    burden: Complex64,
    reversed: bool,
}

impl Truth {
    fn text(&self) -> String {
        format!(
            "[specimen]\nkind = \"instrument-transformer\"\n[transformer]\nturns = {}\nfrequency = \"50 Hz\"\n\
             resistance = \"{} Ohm\"\nmagnetising = \"{} Ohm\"\nlosses = \"{} Ohm\"\nreversed = {}\n\
             burden_resistance = \"{} Ohm\"\nburden_reactance = \"{} Ohm\"\n",
            self.turns, self.r, self.xm, self.rm, self.reversed, self.burden.re, self.burden.im
        )
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Kirchhoff's laws written down once more: the rig must show, within what its meters are uncertain
    /// by, what the circuit does, and the verdicts must be those that follow from it.
    #[test]
    fn verdicts_are_those_of_the_circuit(
        turns in 590.0f64..610.0, r in 1.0f64..8.0, xm in 1000.0f64..8000.0, rm in 3000.0f64..20_000.0,
        re in 0.5f64..12.0, im in 0.0f64..8.0, reversed in any::<bool>(),
    ) {
        let truth = Truth { turns, r, xm, rm, burden: Complex64::new(re, im), reversed };
        let asset = asset(ASSET);
        let ratio = found(&asset, &truth.text(), "procedure = \"ratio\"\n");
        let core = Complex64::new(0.0, xm) * rm / (Complex64::new(0.0, xm) + rm);
        let shown = turns * ((core + r) / core).norm();
        let (measured, u) = (ratio[0].measured.get("ratio").unwrap(), ratio[0].uncertainty.get("u").unwrap());
        prop_assert!((measured - shown).abs() <= u, "{measured} is not {shown} ± {u}");
        if (shown - 600.0).abs() < 3.0 - u {
            prop_assert_eq!(ratio[0].verdict, Verdict::Pass);
        } else if (shown - 600.0).abs() > 3.0 + u {
            prop_assert_eq!(ratio[0].verdict, Verdict::Fail);
        }
        prop_assert_eq!(ratio[1].verdict, if reversed { Verdict::Fail } else { Verdict::Pass });
        let burden = found(&asset, &truth.text(), "procedure = \"burden\"\n");
        let (va, u) = (burden[0].measured.get("burden").unwrap(), burden[0].uncertainty.get("u").unwrap());
        let true_va = truth.burden.norm();
        prop_assert!((va - true_va).abs() <= u, "{va} VA is not {true_va} VA ± {u} VA");
        let factor = burden[0].measured.get("power_factor").unwrap();
        prop_assert!((factor - re / true_va).abs() < 2e-3, "{factor}");
        if (2.5 + u..10.0 - u).contains(&true_va) {
            prop_assert_eq!(burden[0].verdict, Verdict::Pass);
        } else if true_va < 2.5 - u || true_va > 10.0 + u {
            prop_assert_eq!(burden[0].verdict, Verdict::Fail);
        }
        let test = "procedure = \"resistance\"\ntemperature = \"20 degC\"\ncurrent = \"0.5 A\"\n";
        let winding = found(&asset, &truth.text(), test);
        let (ohms, u) = (winding[0].measured.get("resistance").unwrap(), winding[0].uncertainty.get("u").unwrap());
        // Copper: (235 + 75) over (235 + 20); what is not steady yet may hide a part of 0.1 %.
        let at_75 = r * 310.0 / 255.0;
        prop_assert!((ohms - at_75).abs() <= u + 1e-3 * at_75, "{ohms} is not {at_75} ± {u}");
        prop_assert!(!winding[0].reason.contains("CHARGED"), "{}", winding[0].reason);
    }
}

fn reading(program: &Program, index: usize, value: Option<f64>, place: Option<Place>) -> Reading {
    let probe = match place {
        Some(place) => program.segments[place.segment].reads[index].probe.clone(),
        None => program.reads[index].clone(),
    };
    let dimension = probe.dimension;
    let value = value.map(|si| Values::none().with_quantity("value", Quantity { si, dimension }));
    let mut reading = Reading::at_end(probe, value.clone().unwrap_or_default());
    reading.place = place;
    reading.lacks = value.is_none().then(|| Lack::BeyondRange("primary voltage".into()));
    reading
}

fn spans(ended: &[Ended]) -> Vec<Span> {
    let span = |(n, ended): (usize, &Ended)| {
        let start = seconds(10.0 * n as f64);
        Span { start, end: start + seconds(10.0), ended: *ended }
    };
    ended.iter().enumerate().map(span).collect()
}

#[test]
fn what_was_not_measured_is_inconclusive_and_never_a_pass() {
    let (asset, rig) = (asset(ASSET), rig());
    let mut ratio = set_up(&asset, &rig, "procedure = \"ratio\"\n").unwrap();
    let put_out = program(&mut *ratio);
    let mut seen = Observation { segments: spans(&[Ended::Stop(0)]), ..Observation::default() };
    seen.readings = (0..3).map(|n| reading(&put_out, n, None, None)).collect();
    let all = ratio.observe(&seen);
    assert_eq!(all.len(), 2);
    for finding in all {
        assert_eq!(finding.verdict, Verdict::Inconclusive);
        assert!(finding.reason.contains("beyond its meter's range"), "{}", finding.reason);
        assert!(finding.measured.is_empty());
    }
    // A side that shows next to nothing has no polarity, whatever its angle happens to be.
    let mut ratio = set_up(&asset, &rig, "procedure = \"ratio\"\n").unwrap();
    let put_out = program(&mut *ratio);
    let mut seen = Observation { segments: spans(&[Ended::Stop(0)]), ..Observation::default() };
    let mut lost = reading(&put_out, 2, Some(0.001), None);
    let angle = |si| Quantity { si, dimension: waltron_core::quantity::Dimension::ANGLE };
    lost.value = lost.value.with_quantity("angle", angle(0.0));
    lost.uncertainty = Values::none().with_quantity("angle", angle(2.0));
    seen.readings = vec![lost];
    let all = ratio.observe(&seen);
    assert_eq!((all[0].verdict, all[1].verdict), (Verdict::Fail, Verdict::Inconclusive));
    let mut ratio = set_up(&asset, &rig, "procedure = \"ratio\"\n").unwrap();
    let put_out = program(&mut *ratio);
    let mut seen = Observation { segments: spans(&[Ended::Stop(0)]), ..Observation::default() };
    seen.readings = vec![reading(&put_out, 2, Some(0.0), None)];
    assert_eq!(ratio.observe(&seen)[1].verdict, Verdict::Inconclusive, "no angle at all");
    // Nothing at all came back.
    let mut ratio = set_up(&asset, &rig, "procedure = \"ratio\"\n").unwrap();
    program(&mut *ratio);
    assert!(
        ratio.observe(&Observation::default()).iter().all(|f| f.verdict == Verdict::Inconclusive)
    );
    // Refused: not tested, and told.
    let mut ratio = set_up(&asset, &rig, "procedure = \"ratio\"\n").unwrap();
    program(&mut *ratio);
    let refused = ratio.refuse("too much");
    assert!(
        refused.iter().all(|f| f.verdict == Verdict::NotTested && f.reason.contains("too much"))
    );
    assert_eq!(ratio.next(), Action::Done);
}

#[test]
fn a_resistance_counts_when_it_was_steady_and_says_when_the_winding_is_still_charged() {
    let (asset, rig) = (asset(ASSET), rig());
    let test = "procedure = \"resistance\"\ntemperature = \"75 degC\"\n";
    let graded = |ended: [Ended; 2]| {
        let mut winding = set_up(&asset, &rig, test).unwrap();
        let put_out = program(&mut *winding);
        let mut seen = Observation { segments: spans(&ended), ..Observation::default() };
        let place = Some(Place { segment: 0, level: 0, time: seconds(10.0) });
        seen.readings = vec![reading(&put_out, 2, Some(4.5), place)];
        winding.observe(&seen).remove(0)
    };
    // The first stop of each segment is the wish, the second one the longest time.
    let fine = graded([Ended::Stop(0), Ended::Stop(0)]);
    assert_eq!((fine.verdict, fine.measured.get("resistance")), (Verdict::Pass, Some(4.5)));
    let moving = graded([Ended::Stop(1), Ended::Stop(0)]);
    assert_eq!(moving.verdict, Verdict::Inconclusive);
    assert!(moving.reason.contains("not steady within 0.1 % after 120 s"), "{}", moving.reason);
    let charged = graded([Ended::Stop(0), Ended::Stop(1)]);
    assert!(charged.reason.contains("STILL CHARGED after 600 s"), "{}", charged.reason);
    assert_eq!(charged.verdict, Verdict::Inconclusive, "nobody reads the reason of a pass");
    // A current of either sign is a charge.
    let put_out = program(&mut *set_up(&asset, &rig, test).unwrap());
    let waits = &put_out.segments[1].stops[0].when;
    let limits: Vec<f64> = waits
        .parts()
        .iter()
        .filter_map(|c| match c {
            Condition::Reading { limit_si, .. } => Some(*limit_si),
            _ => None,
        })
        .collect();
    assert_eq!(limits, [0.001, -0.001]);
}

#[test]
fn without_anything_required_a_value_is_measured_and_no_more() {
    let bare = ASSET
        .replace("burden = \"10 VA\"\n", "")
        .replace("resistance = \"4.5 Ohm\"\nreference = \"75 degC\"\n", "");
    let asset = asset(&bare);
    let specimen = include_str!("../../../examples/q07-ct.specimen.toml");
    for test in
        ["procedure = \"burden\"\n", "procedure = \"resistance\"\ntemperature = \"19 degC\"\n"]
    {
        let all = found(&asset, specimen, test);
        assert_eq!(all[0].verdict, Verdict::Measured, "{}", all[0].reason);
        assert!(all[0].limits.is_none() && !all[0].measured.is_empty());
    }
}

#[test]
fn what_asset_and_rig_do_not_allow_is_told_before() {
    let (full, rig) = (asset(ASSET), rig());
    let told = |asset: &Asset, test: &str| match plan(asset, test) {
        Err(error) => {
            error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
        }
        Ok(_) => match set_up(asset, &rig, test).err() {
            Some(error) => error.to_string(),
            None => "nothing".to_owned(),
        },
    };
    let cases = [
        ("procedure = \"ratio\"\nlevel = \"3 A\"\n", "a voltage"),
        ("procedure = \"ratio\"\nby = \"current\"\n", "no output for `primary current`"),
        (
            "procedure = \"ratio\"\ncurrent = \"1 A\"\n",
            "`current` does not belong to procedure `ratio`",
        ),
        ("procedure = \"ratio\"\nlevl = \"1 V\"\n", "unknown key `levl`"),
        ("procedure = \"resistance\"\n", "no `temperature`"),
        ("procedure = \"resistance\"\ntemperature = \"19 V\"\n", "temperature"),
        (
            "procedure = \"resistance\"\ntemperature = \"19 degC\"\nat_most = \"2 s\"\n",
            "cannot come true",
        ),
        ("procedure = \"burdn\"\n", "`burdn` is no valid `procedure`"),
    ];
    for (test, wanted) in cases {
        let got = told(&full, test);
        assert!(got.contains(wanted), "{test}{got}");
    }
    let mut blind = rig.clone();
    blind.meters.retain(|m| m.id != "M3");
    let error = set_up(&full, &blind, "procedure = \"ratio\"\n").err().unwrap();
    assert!(error.to_string().contains("no meter for `primary voltage`"), "{error}");
    // More than the nameplate allows is refused, output by output.
    let mut much = set_up(&full, &rig, "procedure = \"ratio\"\nlevel = \"110 V\"\n").unwrap();
    let refused = clear(program(&mut *much), &full.ratings, &rig).unwrap_err();
    assert!(refused[0].to_string().contains("above the asset's highest thermal rating"));
    let mut much = set_up(&full, &rig, "procedure = \"burden\"\ncurrent = \"1.3 A\"\n").unwrap();
    assert!(clear(program(&mut *much), &full.ratings, &rig).is_err());
    let vt = WINGS.0[0]
        .new_asset("voltage-transformer", &waltron_core::defaults::Defaults::default())
        .unwrap();
    let got = told(&asset(&vt), "procedure = \"burden\"\n");
    assert!(got.contains("current transformers"), "{got}");
    let got = told(&asset(&vt), "procedure = \"ratio\"\nby = \"current\"\n");
    assert!(got.contains("no ratio of currents"), "{got}");
}

#[test]
fn files_to_begin_with_load_and_their_tests_can_be_set_up() {
    // Every depth can be set up, and none is empty.
    for depth in [Depth::Commissioning, Depth::Routine, Depth::Quick] {
        for (kind, rig) in [
            ("current-transformer", include_str!("../../../examples/q01-ct.rig.toml")),
            ("voltage-transformer", include_str!("../../../examples/q01-vt.rig.toml")),
        ] {
            let rig = RigForm::load(&Source::new("rig", rig)).unwrap().capability;
            let asset = asset(
                &WINGS.0[0].new_asset(kind, &waltron_core::defaults::Defaults::default()).unwrap(),
            );
            let tests = WINGS.0[0]
                .new_tests(&asset, Some(&rig), depth, &waltron_core::defaults::Defaults::default())
                .unwrap();
            let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{tests}");
            let source = Source::new("plan", text.as_str());
            let plan = PlanForm::load(&source, WINGS).unwrap().resolve(&source, &asset).unwrap();
            assert!(!plan.tests.is_empty());
            for test in &plan.tests {
                let bench = Bench { asset: &asset, capability: &rig };
                test.procedure(bench).unwrap_or_else(|e| panic!("{kind} {depth:?}: {e}"));
            }
        }
    }
    for kind in ["current-transformer", "voltage-transformer"] {
        let asset = asset(
            &WINGS.0[0].new_asset(kind, &waltron_core::defaults::Defaults::default()).unwrap(),
        );
        let tests = WINGS.0[0]
            .new_tests(
                &asset,
                None,
                Depth::Commissioning,
                &waltron_core::defaults::Defaults::default(),
            )
            .unwrap();
        let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{tests}");
        let source = Source::new("plan", text.as_str());
        let plan = PlanForm::load(&source, WINGS).unwrap().resolve(&source, &asset).unwrap();
        assert_eq!(plan.tests.len(), if kind.starts_with("current") { 2 } else { 1 });
    }
}
