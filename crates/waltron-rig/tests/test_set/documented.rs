//! Every command of the test set's manual, sent in each form that stands there.

use super::{ask, test_set};
use std::collections::BTreeSet;
use std::sync::Arc;
use waltron_rig::test_set::Session;
use waltron_rig::virtual_rig::Pace;

const MANUAL: &str = include_str!("../../../../docs/scpi.md");

/// A block that is a program without segments, and two samples of a recording.
const BLOCK: &str = "#216{\"segments\":[] }";

/// What stands for a placeholder of the manual.
fn example(placeholder: &str) -> &'static str {
    match placeholder {
        "time" => "1 S",
        "block" => "BLOCK",
        "mask" => "16",
        "channel" => "ia",
        "rms" | "value" | "n" => "1",
        "angle" => "30",
        "frequency" => "50",
        "rate" => "10000",
        "seed" | "injections" => "3",
        "contact" | "signal" | "meter" | "switch" | "name" | "digest" => "trip",
        other => panic!("the manual has no example of <{other}>"),
    }
}

/// All that a form stands for: with and without what is in brackets, each of what `|` divides.
fn expand(form: &str) -> Vec<String> {
    let around = |open: usize, close: usize, inner: &[&str]| {
        let (before, after) = (&form[..open], &form[close + 1..]);
        inner.iter().flat_map(|i| expand(&format!("{before}{i}{after}"))).collect()
    };
    if let Some(open) = form.find('[') {
        let mut depth = 0;
        let close = form[open..].find(|c| {
            depth += i32::from(c == '[') - i32::from(c == ']');
            c == ']' && depth == 0
        });
        let close = open + close.expect("a bracket is closed");
        return around(open, close, &["", &form[open + 1..close]]);
    }
    let mut is_inside = false;
    let bar = form.find(|c| {
        is_inside = c == '<' || is_inside && c != '>';
        c == '|' && !is_inside
    });
    if let Some(bar) = bar {
        let start = form[..bar].rfind([' ', ',']).map_or(0, |at| at + 1);
        let end = form[bar..].find(',').map_or(form.len(), |at| bar + at);
        return around(start, end - 1, &form[start..end].split('|').collect::<Vec<_>>());
    }
    if let Some(open) = form.find('<') {
        let close = open + form[open..].find('>').expect("a placeholder ends");
        let inner = &form[open + 1..close];
        return match inner.split_once('|') {
            Some((one, other)) => around(open, close, &[one, other]),
            None => around(open, close, &[example(inner)]),
        };
    }
    vec![form.to_owned()]
}

/// The short form of a header: what the manual writes in capitals.
fn short(command: &str) -> String {
    let (header, rest) = command.split_once(' ').unwrap_or((command, ""));
    let header: String = header.chars().filter(|c| !c.is_lowercase()).collect();
    format!("{header} {rest}").trim_end().to_owned()
}

/// Every command that the manual's tables hold, in long form.
fn documented() -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for row in MANUAL.lines().filter(|l| l.starts_with("| `")) {
        let row = row.replace("\\|", "\u{1}");
        let cell = row.split('|').nth(1).unwrap().replace('\u{1}', "|");
        let mut before = String::new();
        for form in cell.split('`').skip(1).step_by(2) {
            let (header, parameters) = before.split_once(' ').unwrap_or((&before, ""));
            // A continuation stands for the last word of what is before it, or asks for it.
            let form = match form {
                "?" => format!("{header}?"),
                _ if form.starts_with(':') => {
                    let header = header.replace(['[', ']'], "");
                    let parent = header.rsplit_once(':').map_or("", |(parent, _)| parent);
                    let has_own = form.contains(['?', ' ']);
                    format!("{parent}{form} {}", if has_own { "" } else { parameters })
                }
                _ => form.to_owned(),
            };
            let form = form.trim_end().to_owned();
            if form.starts_with('*')
                || form.contains(':')
                || form.chars().next().is_some_and(char::is_uppercase)
            {
                all.extend(expand(&form));
            }
            before = form;
        }
    }
    all
}

#[test]
fn every_command_of_the_manual_is_taken_in_each_form() {
    let all = documented();
    assert!(all.len() > 90, "{}: {all:?}", all.len());
    let set = test_set(Pace::Fast);
    let mut wrong = Vec::new();
    for command in &all {
        for sent in [command.clone(), short(command), short(command).to_lowercase()] {
            let mut client = Session::new(Arc::clone(&set));
            let answer = ask(&mut client, &sent.replace("BLOCK", BLOCK).replace("block", BLOCK));
            let error = ask(&mut client, "SYST:ERR?");
            // What it means may not be possible now (-2xx); that it is no command (-1xx) must not come.
            let is_asked = sent.split(' ').next().is_some_and(|header| header.ends_with('?'));
            let answers = !answer.is_empty() || !error.starts_with("0,") || sent.contains("LOG?");
            if error.starts_with("-1") || is_asked && !answers || !is_asked && !answer.is_empty() {
                wrong.push(format!("{sent}: {answer:?} {error}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}
