//! The sample files: nothing is accepted and ignored, every value, changed, changes what is read or is refused; and no
//! mutilated one breaks its reader.

use std::path::Path;
use waltron_breaker::BreakerWing;
use waltron_core::plan::PlanForm;
use waltron_core::text::document::Source;
use waltron_core::wing::Wings;
use waltron_relay::RelayWing;
use waltron_rig::RigForm;
use waltron_rig::instruments::InstrumentForm;
use waltron_test_support::draw::Draw;
use waltron_transformer::TransformerWing;

const WINGS: Wings = Wings(&[&RelayWing, &TransformerWing, &BreakerWing]);

/// A sample file.
struct Sample {
    name: String,
    text: String,
}

fn folder() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples")
}

/// The sample files that end so.
fn samples(ending: &str) -> Vec<Sample> {
    let mut all = Vec::new();
    for dir in [folder(), Path::new(env!("CARGO_MANIFEST_DIR")).join("demo")] {
        for entry in std::fs::read_dir(dir).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            if name.ends_with(ending) {
                all.push(Sample { name, text: std::fs::read_to_string(path).unwrap() });
            }
        }
    }
    assert!(!all.is_empty(), "{ending}");
    all
}

/// The value of a line with another one in its place; `None` where there is none on it.
fn changed(line: &str) -> Option<String> {
    let (key, value) = line.split_once('=')?;
    if key.trim_start().starts_with('#') || value.trim() == "\"\"\"" {
        return None;
    }
    // What stands behind a `#` outside of quotes is a comment.
    let mut in_quotes = false;
    let end = value
        .char_indices()
        .find(|(_, c)| {
            in_quotes ^= *c == '"';
            *c == '#' && !in_quotes
        })
        .map_or(value.len(), |(at, _)| at);
    let (value, rest) = value.split_at(end);
    let new = if let Some(at) = value.find("true") {
        format!("{}false{}", &value[..at], &value[at + 4..])
    } else if let Some(at) = value.find("false") {
        format!("{}true{}", &value[..at], &value[at + 5..])
    } else if let Some(at) = value.find(|c: char| c.is_ascii_digit()) {
        let digit = value.as_bytes()[at] - b'0';
        format!("{}{}{}", &value[..at], digit % 9 + 1, &value[at + 1..])
    } else {
        let at = value.rfind('"')?;
        format!("{}x{}", &value[..at], &value[at..])
    };
    Some(format!("{key}={new}{rest}"))
}

/// Every value of a text, changed by itself, each with its line.
fn mutants(text: &str) -> Vec<(String, String)> {
    let lines: Vec<&str> = text.lines().collect();
    let mutant = |(number, line): (usize, &&str)| {
        let new = changed(line)?;
        let mut all = lines.clone();
        all[number] = new.as_str();
        Some((format!("{}: {line}", number + 1), all.join("\n")))
    };
    lines.iter().enumerate().filter_map(mutant).collect()
}

/// The lines whose change is neither refused nor seen in what is read.
fn ignored<T: PartialEq>(sample: &Sample, read: impl Fn(&str) -> Option<T>) -> Vec<String> {
    let whole = read(&sample.text).unwrap_or_else(|| panic!("{} cannot be read", sample.name));
    let all = mutants(&sample.text);
    assert!(all.len() >= 5, "{}", sample.name);
    let same = all.into_iter().filter(|(_, text)| read(text).is_some_and(|new| new == whole));
    same.map(|(line, _)| format!("{}:{line}", sample.name)).collect()
}

/// A source with the files beside it, as the program reads it.
fn source(name: &str, text: &str) -> Source {
    Source::new(name, text)
}

#[test]
fn a_value_is_changed_where_it_stands() {
    for (line, new) in [
        ("a = \"4 kA\"  # 7", "a = \"5 kA\"  # 7"),
        ("a = 9", "a = 1"),
        ("on = true", "on = false"),
        ("name = \"L# one\" # x", "name = \"L# onex\" # x"),
        ("span = { max = \"7 ms\" }", "span = { max = \"8 ms\" }"),
    ] {
        assert_eq!(changed(line).as_deref(), Some(new));
    }
    for line in ["# a = 1", "[table]", "", "text = \"\"\""] {
        assert_eq!(changed(line), None, "{line}");
    }
}

#[test]
fn every_value_of_an_asset_counts() {
    // And of the files to begin with, which have more keys.
    let begun = WINGS.kinds().into_iter().filter_map(|kind| {
        let text = WINGS.of(kind)?.new_asset(kind, &waltron_core::defaults::Defaults::default())?;
        Some(Sample { name: format!("new {kind}"), text })
    });
    for sample in samples(".asset.toml").into_iter().chain(begun) {
        let read = |text: &str| WINGS.asset(&source(&sample.name, text)).ok();
        assert_eq!(ignored(&sample, read), Vec::<String>::new());
    }
}

#[test]
fn every_value_of_a_rig_and_of_an_instrument_counts() {
    for sample in samples(".rig.toml") {
        let read = |text: &str| RigForm::load(&source(&sample.name, text)).ok();
        assert_eq!(ignored(&sample, read), Vec::<String>::new());
    }
    for sample in samples(".instrument.toml") {
        let read = |text: &str| InstrumentForm::load(&source(&sample.name, text)).ok();
        assert_eq!(ignored(&sample, read), Vec::<String>::new());
    }
}

/// Of a plan also what its procedures make of their keys.
#[test]
fn every_value_of_a_plan_counts() {
    let assets = samples(".asset.toml");
    for sample in samples(".plan.toml") {
        let of = sample.text.lines().find_map(|line| line.strip_prefix("asset = "));
        let of = of.unwrap().trim().trim_matches('"');
        let asset = assets.iter().find(|a| a.name == of).unwrap();
        let asset = WINGS.asset(&source(of, &asset.text)).unwrap();
        let read = |text: &str| {
            let source = source(&sample.name, text);
            let form = PlanForm::load(&source, WINGS).ok()?;
            form.resolve(&source, &asset).ok()
        };
        let mut all = ignored(&sample, read);
        // They name files, which are opened before: one that is not there is told.
        all.retain(|line| !line.contains(": asset = ") && !line.contains(": rig = "));
        assert_eq!(all, Vec::<String>::new());
    }
}

/// A text with something cut out, doubled, moved or put in: what happens to files on the way.
fn mutilated(text: &str, draw: &mut Draw) -> String {
    let all: Vec<char> = text.chars().collect();
    let place = |draw: &mut Draw| draw.uniform(0.0, all.len() as f64) as usize;
    let (a, b) = (place(draw), place(draw));
    let (from, to) = (a.min(b), a.max(b).min(a.min(b) + 60));
    let (head, part, tail) = (&all[..from], &all[from..to], &all[to..]);
    let odd = draw.one(&['"', '[', '}', '-', '9', '\u{0}', '\u{202e}', 'é', '\n', '%']);
    let parts: Vec<char> = match draw.one(&[0, 1, 2, 3]) {
        0 => [head, tail].concat(),
        1 => [head, part, part, tail].concat(),
        2 => [head, &[odd], tail].concat(),
        _ => [head, tail, part].concat(),
    };
    parts.into_iter().collect()
}

/// Whatever a file has become, it is read or refused with a place, and nothing breaks.
#[test]
fn no_mutilated_file_breaks_its_reader() {
    type Reader = fn(&Source) -> Result<(), waltron_core::text::document::DocumentError>;
    let readers: [(&str, Reader); 6] = [
        (".asset.toml", |source| WINGS.asset(source).map(drop)),
        (".rig.toml", |source| RigForm::load(source).map(drop)),
        (".instrument.toml", |source| InstrumentForm::load(source).map(drop)),
        (".specimen.toml", |source| waltron_specimen::SpecimenForm::load(source, 1).map(drop)),
        (".plan.toml", |source| PlanForm::load(source, WINGS).map(drop)),
        (".band.toml", |source| {
            waltron_breaker::low_voltage::band::BandForm::load(source).map(drop)
        }),
    ];
    for (ending, read) in readers {
        let all = match ending {
            ".band.toml" => vec![Sample {
                name: "generic.band.toml".to_owned(),
                text: include_str!("../../../waltron-breaker/bands/generic.band.toml").to_owned(),
            }],
            _ => samples(ending),
        };
        for sample in all {
            let mut refused = 0;
            for seed in 0..60 {
                let mut draw = Draw::new(seed);
                let text = mutilated(&sample.text, &mut draw);
                let source = source(&sample.name, &text);
                if let Err(error) = read(&source) {
                    refused += 1;
                    assert!(!error.problems.is_empty(), "{}: {text}", sample.name);
                    for problem in &error.problems {
                        assert!(!problem.message.is_empty());
                        // Where it stands is in the text.
                        assert!(problem.span.end <= text.len(), "{}: {problem:?}", sample.name);
                        let _ = source.position(problem.span.start);
                    }
                    let _ = error.to_string();
                }
            }
            assert!(refused > 10, "{}: {refused}", sample.name);
        }
    }
}
