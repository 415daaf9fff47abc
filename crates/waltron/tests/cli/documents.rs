//! The documents hold what the program does: every key that it reads or writes stands in them.

use crate::support::Site;
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::Path;

fn document(name: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
    std::fs::read_to_string(path).unwrap()
}

/// The words of a document that are set as code, alone or inside an example.
fn code_words(text: &str) -> BTreeSet<String> {
    let mut words = BTreeSet::new();
    for piece in text.split('`').skip(1).step_by(2).chain(text.split("```").skip(1).step_by(2)) {
        let parts = piece.split(|c: char| !(c.is_ascii_alphanumeric() || c == '_' || c == '-'));
        words.extend(parts.filter(|w| !w.is_empty()).map(str::to_owned));
    }
    words
}

fn keys(value: &Value, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(entries) => {
            for (key, value) in entries {
                // Channels have the rig's own names.
                if !matches!(key.as_str(), "maxima") {
                    keys(value, found);
                }
                found.insert(key.clone());
            }
        }
        Value::Array(all) => all.iter().for_each(|v| keys(v, found)),
        _ => {}
    }
}

/// Nothing is null or an empty text: what is unknown is absent.
pub(crate) fn has_no_holes(value: &Value) -> bool {
    match value {
        Value::Null => false,
        Value::String(text) => !text.is_empty(),
        Value::Object(entries) => entries.values().all(has_no_holes),
        Value::Array(all) => all.iter().all(has_no_holes),
        _ => true,
    }
}

#[test]
fn every_key_of_the_output_is_documented_and_none_is_empty() {
    // What a program holds is described where programs are sent.
    let words = code_words(&(document("json.md") + &document("scpi.md")));
    // `lower_…`: the unit stands in the suffix.
    let suffixes =
        ["_a", "_v", "_k", "_a2s", "_hz", "_s", "_deg", "_pct", "_ohm", "_va", "_hz_per_s"];
    let stands = |key: &str| {
        let base =
            |s: &&str| key.strip_suffix(*s).is_some_and(|b| words.contains(&format!("{b}_")));
        words.contains(key) || suffixes.iter().any(base)
    };
    let mut found = BTreeSet::new();
    let mut look = |value: Value, what: &str| {
        assert!(has_no_holes(&value), "{what}: {value}");
        keys(&value, &mut found);
    };
    let demo = Site::new();
    let examples = Site::examples();
    for (site, args) in [
        (&demo, &["run", "q07-f1.plan.toml", "--record", "r.run.jsonl"][..]),
        (&demo, &["grade", "r.run.jsonl", "--asset", "q08-f2.asset.toml"]),
        (&demo, &["check", "q07-f1.plan.toml", "--timeline"]),
        (&demo, &["check", "q07-f1.plan.toml"]),
        (&demo, &["check", "no.plan.toml"]),
        (
            &demo,
            &["curve", "--family", "iec", "--shape", "very-inverse", "--tms", "0.3", "--at", "2 x"],
        ),
        (&examples, &["run", "q05-t2.plan.toml", "--record", "q.run.jsonl", "--yes"]),
        (&examples, &["run", "dc1.plan.toml", "--record", "d.run.jsonl", "--yes"]),
        (&examples, &["check", "q05-t2.plan.toml", "--timeline"]),
        (&examples, &["check", "dc1.plan.toml", "--timeline"]),
        (&examples, &["wave", "info", "inrush.cff"]),
        (&examples, &["wave", "harmonics", "inrush.cff"]),
        (&examples, &["wave", "phasors", "inrush.cff"]),
    ] {
        let done = site.waltron(&[args, &["--format", "json"]].concat());
        look(done.json(), &args.join(" "));
    }
    let inject = ["inject", "ia=1 A", "--rig", "q07-f1.rig.toml", "--asset", "q07-f1.asset.toml"];
    let rest = ["--for", "200 ms", "--yes", "--read", "magnitude(ia)", "--format", "json"];
    look(demo.waltron(&[&inject[..], &rest].concat()).json(), "inject");
    let missing: Vec<&String> = found.iter().filter(|k| !stands(k)).collect();
    assert!(missing.is_empty(), "not in json.md: {missing:?}");
}

/// The properties of a schema and of all that it refers to.
fn properties(schema: &Value, found: &mut BTreeSet<String>) {
    match schema {
        Value::Object(entries) => {
            if let Some(Value::Object(own)) = entries.get("properties") {
                found.extend(own.keys().cloned());
            }
            entries.values().for_each(|v| properties(v, found));
        }
        Value::Array(all) => all.iter().for_each(|v| properties(v, found)),
        _ => {}
    }
}

#[test]
fn every_key_of_every_file_is_documented() {
    let words = code_words(&document("files.md"));
    let site = Site::new();
    let mut missing = Vec::new();
    for kind in ["asset", "plan", "rig", "specimen", "instrument", "answers", "band"] {
        let schema = site.waltron(&["schema", kind]).exits(0).json();
        let mut found = BTreeSet::new();
        properties(&schema, &mut found);
        assert!(found.len() > 2, "{kind}: {schema}");
        missing.extend(
            found.into_iter().filter(|k| !words.contains(k)).map(|k| format!("{kind}: {k}")),
        );
    }
    assert!(missing.is_empty(), "not in files.md: {missing:?}");
}

/// What documents link to, and every source file and folder that they name, is there.
#[test]
fn every_path_of_the_documents_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let of = |folder: &Path| -> Vec<std::path::PathBuf> {
        let all = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        all.filter(|path| path.extension().is_some_and(|e| e == "md")).collect()
    };
    let documents: Vec<_> = of(&root).into_iter().chain(of(&root.join("docs"))).collect();
    let (mut count, mut missing) = (0, Vec::new());
    for document in &documents {
        let text = std::fs::read_to_string(document).unwrap();
        let folder = document.parent().unwrap();
        // `[words](place#part)`
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let place = link.split('#').next().unwrap();
            count += 1;
            let is_there =
                link.starts_with("http") || place.is_empty() || folder.join(place).exists();
            if !is_there {
                missing.push(format!("{}: {link}", document.display()));
            }
        }
        // `waltron-core/src/text/{name,document}/`, from the root or from the crates.
        let words = text.split('`').skip(1).step_by(2);
        let is_source = |word: &&str| word.contains("/src/") || word.contains("/tests/");
        for word in words.filter(is_source).filter(|word| !word.contains(char::is_whitespace)) {
            let paths = match word.split_once('{').zip(word.split_once('}')) {
                None => vec![word.to_owned()],
                Some(((before, _), (_, after))) => {
                    let inner = word.split(['{', '}']).nth(1).unwrap();
                    inner.split(',').map(|part| format!("{before}{part}{after}")).collect()
                }
            };
            for path in paths {
                count += 1;
                let from = [root.join(&path), root.join("crates").join(&path)];
                if !from.iter().any(|path| path.exists()) {
                    missing.push(format!("{}: {path}", document.display()));
                }
            }
        }
    }
    assert!(missing.is_empty(), "{}", missing.join("\n"));
    assert!(count > 60, "{count}");
}

/// The headings that links point at stand in their documents.
#[test]
fn every_heading_that_is_linked_to_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    // As hosts of such documents make them: small letters, blanks as dashes, no other signs.
    let anchor = |heading: &str| -> String {
        let kept = heading.trim().to_lowercase();
        let kept = kept.chars().filter(|c| c.is_alphanumeric() || matches!(c, ' ' | '-' | '_'));
        kept.map(|c| if c == ' ' { '-' } else { c }).collect()
    };
    let anchors = |text: &str| -> Vec<String> {
        let headings = text.lines().filter(|line| line.starts_with('#'));
        headings.map(|line| anchor(line.trim_start_matches('#'))).collect()
    };
    let mut count = 0;
    for entry in std::fs::read_dir(&root).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_none_or(|e| e != "md") {
            continue;
        }
        let text = std::fs::read_to_string(&path).unwrap();
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let Some((place, part)) = link.split_once('#') else { continue };
            if place.starts_with("http") {
                continue;
            }
            let of = if place.is_empty() { path.clone() } else { root.join(place) };
            let all = anchors(&std::fs::read_to_string(&of).unwrap());
            assert!(all.iter().any(|a| a == part), "{}: {link}: {all:?}", path.display());
            count += 1;
        }
    }
    assert!(count > 5, "{count}");
}
