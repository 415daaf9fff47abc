//! What the documents and the help show as an example runs as it stands.

use crate::support::Site;
use std::path::Path;

fn root() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The documents with their texts.
fn documents() -> Vec<(String, String)> {
    let mut all = vec!["README.md".to_owned()];
    let docs = std::fs::read_dir(root().join("docs")).unwrap();
    let name =
        |e: std::io::Result<std::fs::DirEntry>| e.unwrap().file_name().into_string().unwrap();
    all.extend(docs.map(name).filter(|n| n.ends_with(".md")).map(|n| format!("docs/{n}")));
    all.sort();
    let read = |name: String| {
        let text = std::fs::read_to_string(root().join(&name)).unwrap();
        // A command may go on in the next line.
        (name, text.replace("\\\n", " "))
    };
    all.into_iter().map(read).collect()
}

/// The blocks of a document: what stands behind its fence, and the lines inside.
fn blocks(text: &str) -> Vec<(&str, &str)> {
    let pieces = text.split("```").skip(1).step_by(2);
    pieces.map(|block| block.split_once('\n').unwrap()).collect()
}

/// The tree that the documents speak of: the demo in `brackwater`, with its records, and the examples.
fn tree() -> Site {
    let site = Site::examples();
    let dir = site.dir.path();
    for folder in ["brackwater", "examples"] {
        std::fs::create_dir(dir.join(folder)).unwrap();
    }
    let demo = Site::new();
    for name in demo.files() {
        std::fs::copy(demo.dir.path().join(&name), dir.join("brackwater").join(&name)).unwrap();
    }
    for name in site.files().iter().filter(|n| dir.join(n).is_file()) {
        for folder in ["brackwater", "examples"] {
            std::fs::copy(dir.join(name), dir.join(folder).join(name)).unwrap();
        }
    }
    for relay in ["q07-f1", "q08-f2", "q01-ct"] {
        let record = format!("brackwater/{relay}.run.jsonl");
        let plan = format!("brackwater/{relay}.plan.toml");
        let done = site.waltron(&["run", &plan, "--record", &record, "--yes"]);
        assert!(done.code() < 2, "{}", done.err());
    }
    site.waltron(&["wave", "convert", "inrush.cff", "-o", "fault.cfg"]).exits(0);
    site
}

/// A command line in its words; quotes keep blanks together. Behind `>` stands a file.
fn words(line: &str) -> (Vec<String>, Option<String>) {
    let (mut all, mut word, mut quote, mut some) = (Vec::new(), String::new(), None, false);
    for c in line.chars().chain([' ']) {
        match c {
            '"' | '\'' if quote.is_none_or(|open| open == c) => {
                quote = if quote.is_none() { Some(c) } else { None };
                some = true;
            }
            ' ' if quote.is_none() => {
                if some || !word.is_empty() {
                    all.push(std::mem::take(&mut word));
                }
                some = false;
            }
            c => word.push(c),
        }
    }
    let into = all.iter().position(|w| w == ">").map(|at| {
        let file = all[at + 1].clone();
        all.truncate(at);
        file
    });
    (all, into)
}

/// Puts files of the demo in the place of what a document leaves open.
fn filled_in(line: &str) -> String {
    line.replace("RIG", "brackwater/q07-f1.rig.toml")
        .replace("ASSET", "brackwater/q07-f1.asset.toml")
        .replace("PLAN", "brackwater/q07-f1.plan.toml")
        .replace("RUN", "brackwater/q07-f1.run.jsonl")
        .replace("--test ID", "--test 51P-times")
        .replace("--point ID", "--point 51P-times/A-N/2x")
        .replace("FILE.svg|png", "drawn.png")
        .replace("-o FILE", "-o drawn.svg")
        .replace("info FILE", "info inrush.cff")
        .replace("FILE…", "brackwater/inverse-curve.seq")
        .replace("FILE", "file")
        .replace("*.seq", "brackwater/inverse-curve.seq")
        // Time passes as fast as it can, and nobody looks.
        .replace(" --pace real", "")
        .replace(" --live", "")
}

/// Runs a command as it is written; what it asks is confirmed.
fn runs(site: &Site, line: &str, from: &str) {
    let (mut args, into) = words(&filled_in(line));
    assert_eq!(args.remove(0), "waltron", "{from}: {line}");
    if let Some(at) = args.iter().position(|a| a == "-o") {
        let _ = std::fs::remove_file(site.dir.path().join(&args[at + 1]));
    }
    let is_answered = args.iter().any(|arg| arg == "--answers");
    if matches!(args[0].as_str(), "run" | "inject") && !is_answered {
        args.push("--yes".to_owned());
    }
    let mut paths = args.iter().chain(&into);
    assert!(paths.all(|p| Path::new(p).is_relative()), "{from}: {line} leaves the folder");
    let done = site.waltron(&args.iter().map(String::as_str).collect::<Vec<_>>());
    let err = done.err();
    assert!(matches!(done.code(), 0 | 1 | 5), "{from}: {line}\n{}\n{err}", done.code());
    assert!(!err.contains("panicked"), "{from}: {line}\n{err}");
    if let Some(file) = into {
        site.write(&file, &done.out());
    }
}

/// Commands that go on until they are ended, or speak to somebody else; the others' tests drive them.
fn is_driven_elsewhere(line: &str) -> bool {
    let elsewhere = ["rig serve", "rig probe", "-wire.rig", "waltron demo", "waltron --bench"];
    elsewhere.iter().any(|w| line.contains(w))
        // Nothing outside the folder is written.
        || line.split(' ').any(|w| w.starts_with(['/', '~', '|']))
        || line.contains('…') && !line.contains("FILE…")
}

/// Runs every command of these documents, and counts them.
fn commands_of(wanted: impl Fn(&str) -> bool) -> usize {
    let site = tree();
    let mut count = 0;
    for (name, text) in documents().into_iter().filter(|(name, _)| wanted(name)) {
        let prose: String = text.split("```").step_by(2).collect();
        let inline = prose.split('`').skip(1).step_by(2).map(|code| code.replace('\n', " "));
        let shown = blocks(&text).into_iter().flat_map(|(_, block)| block.lines());
        let all = inline.chain(shown.map(str::to_owned));
        for line in all.filter(|l| l.starts_with("waltron ") && !is_driven_elsewhere(l)) {
            let kinds = line.split_once("schema ").map_or("", |(_, kinds)| kinds);
            match kinds.split('|').collect::<Vec<_>>()[..] {
                [""] | [] => {}
                ref kinds => {
                    kinds.iter().for_each(|k| runs(&site, &format!("waltron schema {k}"), &name));
                    continue;
                }
            }
            // A command's name alone is not an example of it.
            if line.split(' ').count() > 2 && !line.ends_with("--attempts") {
                runs(&site, &line, &name);
                count += 1;
            }
        }
    }
    count
}

/// Whether a document is about a family of assets.
fn is_of_a_family(name: &str) -> bool {
    ["transformer", "breakers"].iter().any(|kind| name.contains(kind))
}

#[test]
fn every_command_about_the_families_runs() {
    let count = commands_of(is_of_a_family);
    assert!(count >= 20, "{count} commands");
}

#[test]
fn every_command_of_the_other_documents_runs() {
    let count = commands_of(|name| !is_of_a_family(name));
    assert!(count >= 20, "{count} commands");
}

#[test]
fn every_example_of_the_help_runs() {
    let site = tree();
    let mut count = 0;
    let of = |command: &str| {
        let mut args: Vec<&str> = command.split_whitespace().collect();
        args.push("--help");
        site.waltron(&args).exits(0).out()
    };
    let commands = |help: &str| -> Vec<String> {
        let lines = help.lines().skip_while(|l| !l.starts_with("Commands:")).skip(1);
        let names = lines
            .take_while(|l| !l.is_empty())
            .filter(|l| l.starts_with("  ") && !l[2..].starts_with(' '));
        let words = names.filter_map(|l| l.split_whitespace().next());
        words.filter(|w| *w != "help").map(str::to_owned).collect()
    };
    let mut all = commands(&of(""));
    // Waveforms are made before they are looked at.
    all.sort_by_key(|c| c == "wave");
    let (mut at, mut examples): (usize, Vec<String>) = (0, Vec::new());
    while let Some(command) = all.get(at).cloned() {
        at += 1;
        let help = of(&command);
        let mut inner = commands(&help);
        inner.sort_by_key(|c| c != "make");
        all.extend(inner.iter().map(|c| format!("{command} {c}")));
        let lines = help.lines().skip_while(|l| !l.starts_with("Examples:")).skip(1);
        for line in lines.take_while(|l| !l.is_empty()) {
            let text = line.trim();
            match (text.starts_with("waltron "), examples.last_mut()) {
                (true, _) => examples.push(text.to_owned()),
                // A long line was wrapped.
                (false, Some(last)) => last.extend([" ", text]),
                (false, None) => panic!("{command}: {text}"),
            }
        }
    }
    for line in examples.iter().filter(|l| !is_driven_elsewhere(l)) {
        runs(&site, line, "help");
        count += 1;
    }
    assert!(count >= 30, "{count} examples");
}

#[test]
fn every_file_of_the_documents_is_read() {
    let site = tree();
    let plan = site.read("q05-t2.plan.toml");
    let head = &plan[..plan.find("[[test]]").unwrap()];
    let asset = site.read("brackwater/q07-f1.asset.toml");
    let mut count = 0;
    for (name, text) in documents() {
        for (kind, block) in blocks(&text) {
            if kind != "toml" {
                continue;
            }
            count += 1;
            let check = |args: &[&str]| {
                let done = site.waltron(args);
                assert!(matches!(done.code(), 0 | 1 | 5), "{name}: {block}\n{}", done.err());
            };
            let first = block.lines().next().unwrap();
            match first {
                "[[element]]" => {
                    let whole = asset.split("[[element]]").next().unwrap();
                    site.write("shown.asset.toml", &format!("{whole}{block}"));
                    check(&["plot", "shown.asset.toml", "-o", "shown.png"]);
                }
                "[[core]]" => {
                    let asset = site.read("q01-ct.asset.toml");
                    let whole = asset.split("[[core]]").next().unwrap();
                    site.write("shown.asset.toml", &format!("{whole}{block}"));
                    check(&["new", "plan", "--for", "shown.asset.toml"]);
                }
                "[[test]]" if block.contains("script") => {
                    site.write("shown.plan.toml", &format!("{head}{block}"));
                    check(&["check", "shown.plan.toml"]);
                }
                "[[test]]" => {
                    let head = head.replace("q05-t2", "brackwater/q07-f1");
                    site.write("shown.plan.toml", &format!("{head}{block}"));
                    check(&["check", "shown.plan.toml"]);
                }
                "[[answer]]" => {
                    site.write("shown.toml", block);
                    let plan = "brackwater/q08-f2.plan.toml";
                    check(&["run", plan, "--answers", "shown.toml", "--record", "a.jsonl"]);
                }
                "[instrument]" => {
                    site.write("shown.instrument.toml", block);
                    let rig = site.read("q05-t2.rig.toml");
                    let rig = rig.replacen(
                        "[rig]\n",
                        "[rig]\ninstruments = [\"shown.instrument.toml\"]\n",
                        1,
                    );
                    site.write("shown.rig.toml", &rig);
                    check(&["check", "q05-t2.plan.toml", "--rig", "shown.rig.toml"]);
                }
                other => panic!("{name}: a block of {other}"),
            }
        }
    }
    assert!(count >= 5, "{count} blocks");
}
