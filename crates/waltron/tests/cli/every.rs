//! Every sample plan of every family through the built program: broken off anywhere and gone on with, graded again,
//! reported.

use crate::documents::has_no_holes;
use crate::support::{Done, Site};
use serde_json::Value;
use std::collections::BTreeMap;

const RECORD: &str = "r.run.jsonl";

/// A plan of the samples with what else its run is told.
struct Sample {
    plan: String,
    more: Vec<String>,
}

/// All but those that take long here and are gone through elsewhere, or that need an instrument that answers.
fn samples(site: &Site) -> Vec<Sample> {
    let left_out = ["q01-ct.plan.toml", "ns1-q1-port.plan.toml"];
    let files = site.files();
    let plans = files.iter().filter(|file| file.ends_with(".plan.toml"));
    let plans = plans.filter(|plan| !left_out.contains(&plan.as_str()));
    let sample = |plan: &String| {
        let answers = plan.replace(".plan.toml", ".answers.toml");
        let more = match files.contains(&answers) {
            true => vec!["--answers".to_owned(), answers],
            false => vec!["--yes".to_owned()],
        };
        Sample { plan: plan.clone(), more }
    };
    plans.map(sample).collect()
}

impl Sample {
    fn run(&self, site: &Site, more: &[&str]) -> Done {
        let own = self.more.iter().map(String::as_str);
        let args = ["run", &self.plan, "--record", RECORD, "--format", "json"];
        let args: Vec<&str> = args.into_iter().chain(own).chain(more.iter().copied()).collect();
        site.waltron(&args)
    }
}

/// The verdict of each point, and its measured values.
fn told(run: &Value) -> BTreeMap<String, (Value, Value)> {
    let all = run["points"].as_array().unwrap().iter();
    all.map(|p| {
        (p["id"].as_str().unwrap().to_owned(), (p["verdict"].clone(), p["measured"].clone()))
    })
    .collect()
}

/// The report holds every point and takes nothing from anywhere else; graded again, under either rule, no point is
/// better than the rule allows.
fn shown_and_graded_again(site: &Site, plan: &str, points: &BTreeMap<String, (Value, Value)>) {
    site.waltron(&["report", RECORD, "-o", "r.html", "--force"]).exits(0);
    let page = site.read("r.html");
    for id in points.keys() {
        let id = id.replace('&', "&amp;");
        assert!(
            page.contains(&id) || page.contains(id.split('/').next_back().unwrap()),
            "{plan}: {id}"
        );
    }
    for outside in ["src=\"http", "href=\"http", "url(http", "@import", "<script src"] {
        assert!(!page.contains(outside), "{plan}: {outside}");
    }
    let again = site.waltron(&["grade", RECORD]);
    assert!(again.out().contains("no verdict changed"), "{plan}: {}{}", again.out(), again.err());
    // Guarded, a pass may be withheld, and nothing else changes; simple again it is what it was.
    let text = site.read(plan);
    site.write("guarded.plan.toml", &format!("{text}\n[grading]\nrule = \"guarded\"\n"));
    let guarded = ["grade", RECORD, "--plan", "guarded.plan.toml", "--format", "json"];
    let guarded = told(&site.waltron(&guarded).json());
    let withheld = |id: &String, was: &Value| was == "pass" && guarded[id].0 == "inconclusive";
    for (id, (was, _)) in points {
        assert!(guarded[id].0 == *was || withheld(id, was), "{plan}: {id} {was} {}", guarded[id].0);
    }
    let simple = told(&site.waltron(&["grade", RECORD, "--plan", plan, "--format", "json"]).json());
    for (id, (was, _)) in points {
        assert_eq!(simple[id].0, *was, "{plan}: {id}");
    }
}

/// Broken off in the middle of any line, as by a power failure, a run goes on to the same verdicts: nothing is lost,
/// nothing passes that did not.
#[test]
fn every_sample_goes_on_from_any_cut() {
    let site = Site::examples();
    let samples = samples(&site);
    assert!(samples.len() > 8, "{}", samples.len());
    for (k, sample) in samples.iter().enumerate() {
        let _ = std::fs::remove_file(site.dir.path().join(RECORD));
        let whole = sample.run(&site, &[]);
        let (code, whole) = (whole.code(), whole.json());
        assert!([0, 1, 5].contains(&code), "{}", sample.plan);
        let (text, expected) = (site.read(RECORD), told(&whole));
        let begun = text.find('\n').unwrap() + 1;
        assert!(has_no_holes(&whole), "{}", sample.plan);
        shown_and_graded_again(&site, &sample.plan, &expected);
        for turn in 0..2 {
            // Somewhere behind the first line, elsewhere for each sample.
            let share = ((k * 2 + turn) as f64 * 0.381_966 + 0.13).fract();
            let mut at = begun + ((text.len() - begun) as f64 * share) as usize;
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            site.write(RECORD, &text[..at]);
            let again = sample.run(&site, &["--resume"]);
            let at = format!("{} cut at {share:.3}", sample.plan);
            assert_eq!(again.code(), code, "{at}: {}", again.err());
            let again = told(&again.json());
            for (id, (verdict, _)) in &expected {
                let found = again.get(id).map(|(verdict, _)| verdict);
                assert_eq!(found, Some(verdict), "{at}: {id}");
            }
            assert_eq!(again.len(), expected.len(), "{at}");
        }
    }
}
