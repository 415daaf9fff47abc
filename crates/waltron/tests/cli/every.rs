//! Every sample plan of every family through the built program: broken off anywhere and gone on with, graded again,
//! reported.

use crate::documents::has_no_holes;
use crate::support::{Done, Site};
use serde_json::Value;
use std::collections::BTreeMap;

pub(crate) const RECORD: &str = "r.run.jsonl";

/// A plan of the samples with what else its run is told.
pub(crate) struct Sample {
    pub(crate) plan: String,
    more: Vec<String>,
}

/// All but those that take long here and are gone through elsewhere, or that need an instrument that answers.
pub(crate) fn samples(site: &Site) -> Vec<Sample> {
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
    pub(crate) fn run(&self, site: &Site, more: &[&str]) -> Done {
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

/// No drawing of a page has a coordinate that is none.
fn holds_numbers_only(page: &str, whose: &str) {
    for drawing in page.split("<svg").skip(1).filter_map(|rest| rest.split("</svg>").next()) {
        // Words between the tags may say what they like.
        for tag in drawing.split('<').filter_map(|rest| rest.split('>').next()) {
            let values = tag.split('"').skip(1).step_by(2);
            let numbers = values.flat_map(|value| value.split([' ', ',', '(', ')', 'M', 'L']));
            for number in numbers {
                let is_none = matches!(number, "NaN" | "inf" | "-inf" | "Infinity" | "-Infinity");
                assert!(!is_none, "{whose}: <{tag}>");
            }
        }
    }
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
    holds_numbers_only(&page, plan);
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
            let end = at;
            // What is graded of it again is not the plan; of one sample of each third, since it takes its time.
            if turn == 0 && k % 3 == 0 {
                site.write("cut.run.jsonl", &text[..at]);
                let graded = site.waltron(&["grade", "cut.run.jsonl"]).code();
                assert!([1, 5].contains(&graded), "{} cut at {share:.3}: {graded}", sample.plan);
            }
            let mut again = sample.run(&site, &["--resume"]);
            let at = format!("{} cut at {share:.3}", sample.plan);
            // What is left undone somebody must see to: nobody there, nothing is put out.
            if again.err().contains("--yes does not answer `Left from the run before") {
                assert_eq!(again.code(), 4, "{at}");
                assert!(!site.read(RECORD)[at_line(&text[..end])..].contains("\"begun\""), "{at}");
                site.write("owed.answers.toml", OWED);
                let owed = ["--answers", "owed.answers.toml"].map(str::to_owned).to_vec();
                let sample = Sample { plan: sample.plan.clone(), more: owed };
                again = sample.run(&site, &["--resume"]);
            }
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

/// What somebody says who puts back what was left undone.
const OWED: &str = "[[answer]]\nquestion = \"Left from the run before*\"\nanswer = \"yes\"\n\n[[answer]]\nquestion = \"*\"\nanswer = \"ok\"\n";

/// Where a text's last whole line ends.
fn at_line(text: &str) -> usize {
    text.rfind('\n').map_or(0, |at| at + 1)
}

/// The key of a sample's file.
pub(crate) fn named(text: &str, key: &str) -> Option<String> {
    let line = text.lines().find_map(|line| line.strip_prefix(&format!("{key} = \"")))?;
    line.split('"').next().map(str::to_owned)
}

/// Looked at before anything is put out: every test of every sample, as it is, drawn and as a sheet.
#[test]
fn every_sample_can_be_looked_at_before() {
    let site = Site::examples();
    for Sample { plan, .. } in samples(&site) {
        let checked = site.waltron(&["check", &plan, "--format", "json"]).exits(0).json();
        assert!(has_no_holes(&checked), "{plan}");
        let shown = site.waltron(&["check", &plan, "--timeline"]).exits(0).out();
        assert!(!shown.contains("NaN") && !shown.contains(" inf "), "{plan}: {shown}");
        for ending in ["txt", "html", "svg"] {
            let file = format!("sheet.{ending}");
            site.waltron(&["hookup", &plan, "-o", &file, "--force"]).exits(0);
            holds_numbers_only(&site.read(&file), &plan);
        }
        let text = site.read(&plan);
        let ids = text.lines().filter_map(|line| line.strip_prefix("id = \""));
        let ids: Vec<&str> = ids.filter_map(|rest| rest.split('"').next()).collect();
        assert!(!ids.is_empty(), "{plan}");
        for id in ids {
            // A test that nothing is put out for says so, and draws nothing.
            let drawn = site.waltron(&["plot", &plan, "--test", id, "-o", "x.svg", "--force"]);
            match drawn.code() {
                0 => holds_numbers_only(&site.read("x.svg"), &format!("{plan} {id}")),
                code => assert!(
                    code != 0 && drawn.err().contains("nothing to draw"),
                    "{plan} {id}: {}",
                    drawn.err()
                ),
            }
            let sheet = site.waltron(&["hookup", &plan, "--test", id]).exits(0).out();
            assert!(
                sheet.contains("Before connecting")
                    || sheet.contains("Nothing of the rig is connected"),
                "{sheet}"
            );
            let script = site.waltron(&["check", &plan, "--test", id, "--as-script"]);
            assert!([0, 2].contains(&script.code()), "{plan} {id}: {}", script.err());
        }
    }
}

/// What is derived for an asset on a rig, at every depth, can be checked there, and is shorter the less deep it goes.
#[test]
fn every_derived_plan_can_be_run_where_it_was_derived() {
    let site = Site::examples();
    for Sample { plan, .. } in samples(&site) {
        let text = site.read(&plan);
        let (asset, rig) = (named(&text, "asset").unwrap(), named(&text, "rig").unwrap());
        let mut before = usize::MAX;
        for depth in ["commissioning", "routine", "quick"] {
            let args = ["new", "plan", "--for", &asset, "--rig", &rig, "--depth", depth];
            let made = site.waltron(&[&args[..], &["-o", "made.plan.toml", "--force"]].concat());
            if made.code() != 0 {
                // Supplies are tested by sequences.
                assert!(
                    made.err().contains("no tests follow from this asset"),
                    "{asset}: {}",
                    made.err()
                );
                assert_eq!(named(&site.read(&asset), "kind").as_deref(), Some("supply"));
                continue;
            }
            let checked = site.waltron(&["check", "made.plan.toml"]);
            assert_eq!(checked.code(), 0, "{asset} {depth}: {}", checked.err());
            let tests = site.read("made.plan.toml").matches("[[test]]").count();
            assert!(tests >= 1 && tests <= before, "{asset} {depth}: {tests} after {before}");
            before = tests;
            if depth == "quick" {
                // And run: every point that was told comes to a verdict.
                let args =
                    ["run", "made.plan.toml", "--yes", "--record", RECORD, "--format", "json"];
                let _ = std::fs::remove_file(site.dir.path().join(RECORD));
                let run = site.waltron(&args);
                assert!([0, 1, 5].contains(&run.code()), "{asset}: {}", run.err());
                let points = told(&run.json());
                let refused = points.iter().filter(|(_, (verdict, _))| verdict == "not_tested");
                let refused: Vec<_> = refused.collect();
                assert!(refused.len() < points.len(), "{asset}: {refused:?}");
            }
        }
    }
}
