//! Random scripts, gone through before and run: what was told before must hold.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

mod generate;
mod play;

use generate::script;
use play::{Luck, Ran, run};
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;
use waltron_core::clearance::clear;
use waltron_core::grading::{Criterion, Verdict};
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Planned, Procedure};
use waltron_core::record::again::Again;
use waltron_core::record::{Chain, Event, Line};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_script::{Context, Loaded, format, load};
use waltron_test_support::{capability, plan, relay};

const ELEMENTS: &str = r#"
[[element]]
id = "51P"
function = "overcurrent"
measures = "phase"
pickup = "1 A"
curve = { family = "iec", shape = "very-inverse", tms = 0.3 }
trip = "trip"
start = "start"
"#;

fn context(text: &str) -> Arc<Context> {
    let capability = capability(&["trip", "start", "52a"]);
    Arc::new(Context::new("t".into(), relay(ELEMENTS), capability, text.into()))
}

fn loaded(text: &str) -> Option<Loaded> {
    load(&Source::new("s.seq", text), &context(text)).ok()
}

/// The largest value of each channel.
fn most<'p>(programs: impl Iterator<Item = &'p Program>) -> Vec<(Name, f64)> {
    let mut all: Vec<(Name, f64)> = Vec::new();
    for (channel, si, _) in programs.flat_map(Program::maxima) {
        match all.iter_mut().find(|(id, _)| *id == channel) {
            Some((_, known)) => *known = known.max(si),
            None => all.push((channel, si)),
        }
    }
    all
}

fn holds(planned: &[Planned], ran: &Ran, text: &str) -> Result<(), TestCaseError> {
    // Whatever was out never exceeds what was told before.
    let told = most(planned.iter().map(|p| &*p.program));
    for (channel, si) in most(ran.programs.iter()) {
        let known = told.iter().find(|(id, _)| *id == channel).map_or(0.0, |(_, si)| *si);
        prop_assert!(si <= known * (1.0 + 1e-9) + 1e-12, "{channel} {si} > {known}\n{text}");
    }
    // Every point that was graded was told, and of those told none is missing that has to be there.
    let points: Vec<_> = planned.iter().flat_map(|p| &p.points).collect();
    let is_place = |c: &Criterion| [Criterion::COMPLETION, Criterion::STEP].contains(c);
    let graded = || ran.grades.iter().filter(|g| !is_place(&g.criterion));
    for grade in graded() {
        let id = grade.point.id.as_str();
        let told = points.iter().any(|p| p.point.id == id);
        // How often a loop goes round need not be known: its rounds are told as long as they differ.
        let base = |id: &str| id.split('#').next().unwrap_or(id).to_owned();
        let round = points.iter().any(|p| p.conditional && base(&p.point.id) == base(id));
        prop_assert!(told || round, "{id} was not told\n{text}");
    }
    let mut ids: Vec<&str> = graded().map(|g| g.point.id.as_str()).collect();
    ids.sort_unstable();
    let count = ids.len();
    ids.dedup();
    prop_assert_eq!(ids.len(), count, "two points of one name\n{}", text);
    if ran.broken_off.is_none() {
        for point in points.iter().filter(|p| !p.conditional) {
            let id = point.point.id.as_str();
            prop_assert!(ids.contains(&id), "{id} was told and not graded\n{text}");
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(400), ..ProptestConfig::default() })]

    /// What is told before a script runs holds however it goes: its points, and the most it puts out.
    /// Where that can be cleared, all that is put out can.
    #[test]
    fn what_is_told_before_holds(seed: u64, luck in 0u64..1000) {
        let text = script(seed);
        let Some(script) = loaded(&text) else { return Ok(()) };
        let planned = script.procedure().planned();
        let ran = run(script.procedure(), Luck::new(luck));
        holds(&planned, &ran, &text)?;
        let (ratings, capability) = (&script.context.asset.ratings, &script.context.capability);
        let clears = |p: &Program| clear(p.clone(), ratings, capability).is_ok();
        if planned.iter().all(|p| clears(&p.program)) {
            for program in &ran.programs {
                prop_assert!(clears(program), "told as fit, refused as run\n{text}\n{program:#?}");
            }
        }
    }

    /// A test gives the same again, and laid out it gives the same too.
    #[test]
    fn the_same_luck_gives_the_same(seed: u64, luck in 0u64..1000) {
        let text = script(seed);
        let Some(script) = loaded(&text) else { return Ok(()) };
        let mut procedure = script.procedure();
        let first = run(procedure.clone(), Luck::new(luck));
        procedure.repeat();
        prop_assert_eq!(&first, &run(procedure, Luck::new(luck)), "{}", text);
        let laid_out = format(&text);
        let again = loaded(&laid_out).expect("laying out changes nothing");
        prop_assert_eq!(&first.grades, &run(again.procedure(), Luck::new(luck)).grades, "{}", text);
    }

    /// Played once more from its record, a sequence is graded as it was; by another pickup it is never
    /// graded by something else than what was put out.
    #[test]
    fn a_record_plays_the_sequence_once_more(seed: u64, luck in 0u64..1000) {
        let text = script(seed);
        let Some(script) = loaded(&text) else { return Ok(()) };
        let ran = run(script.procedure(), Luck::new(luck));
        let plan = plan("[[test]]\nid = \"t\"\nprocedure = \"sequence\"\nscript = \"t.seq\"\n", &script.context.asset);
        let again = |script: Loaded| {
            let context = Arc::clone(&script.context);
            let bench = Bench { asset: &context.asset, capability: &context.capability };
            let scripts = HashMap::from([(Name::from("t"), script)]);
            let mut again = Again::new(&plan, bench, &scripts);
            for event in &ran.tape {
                // As it stands in a record.
                let text = Chain::default().line("now", event).unwrap();
                again.take(Line::read(text.as_bytes()).unwrap().event);
            }
            again.take(Event::TestEnded { test: "t".into(), skipped: false });
            again.finish()
        };
        let same = again(script);
        prop_assert_eq!(same.len(), ran.grades.len(), "{}", text);
        for (a, b) in same.iter().zip(&ran.grades) {
            let one = (&a.point, a.verdict, &a.reason);
            prop_assert_eq!(one, (&b.point, b.verdict, &b.reason), "{}", text);
        }
        let elements = ELEMENTS.replace("\"1 A\"", "\"1.1 A\"");
        let mut context = Context::clone(&context(&text));
        context.asset = relay(&elements);
        context.settings = context.asset.settings();
        let Ok(other) = load(&Source::new("s.seq", text.as_str()), &Arc::new(context)) else { return Ok(()) };
        for grade in again(other) {
            let before = ran.grades.iter().find(|g| g.point == grade.point);
            // What was not put out is not graded; what is graded tells what was put out.
            let told = grade.verdict == Verdict::NotTested
                || before.is_none_or(|b| b.stimulus == grade.stimulus);
            prop_assert!(told, "{grade:?} {before:?}\n{text}");
        }
    }

    /// A script with a part taken out, doubled or exchanged is refused or runs; it neither panics nor
    /// hangs.
    #[test]
    fn a_damaged_script_is_survived(seed: u64, cut in 0.0f64..1.0, length in 1usize..40, way in 0u8..3) {
        let text = script(seed);
        let at = |share: f64| {
            let at = (text.len() as f64 * share) as usize;
            (0..=at).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0)
        };
        let (from, rest) = (at(cut), at((cut + length as f64 / text.len() as f64).min(1.0)));
        let damaged = match way {
            0 => format!("{}{}", &text[..from], &text[rest..]),
            1 => format!("{}{}{}", &text[..rest], &text[from..rest], &text[rest..]),
            _ => format!("{}{}{}", &text[rest..], &text[from..rest], &text[..from]),
        };
        if let Some(script) = loaded(&damaged) {
            run(script.procedure(), Luck::new(seed));
        }
    }
}

/// The scripts of these tests are no empty ones, and most can be run.
#[test]
fn most_random_scripts_can_be_run() {
    let texts: Vec<String> = (0..300).map(script).collect();
    let scripts: Vec<Loaded> = texts.iter().filter_map(|text| loaded(text)).collect();
    assert!(scripts.len() > 150, "{} of {}", scripts.len(), texts.len());
    let points = scripts.iter().flat_map(|s| s.procedure().planned()).map(|p| p.points.len());
    assert!(points.sum::<usize>() > 500);
}
