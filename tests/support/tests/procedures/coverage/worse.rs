//! Each accuracy that the samples' rigs state, ten times worse: U of what hangs on it widens by what its budget says.

use super::told;
use super::truths::{Case, breakers, instrument_transformers, power_transformers, relays};
use crate::samples::WINGS;
use std::collections::BTreeMap;
use waltron_core::grading::Finding;
use waltron_test_support::wing::{Played, asset};

/// A value, and for each cause its standard uncertainty and by how much it moves the value.
#[derive(Default)]
struct Told {
    value: f64,
    parts: BTreeMap<String, [f64; 2]>,
}

impl Told {
    /// U, where each cause is so many times as uncertain.
    fn u(&self, times: impl Fn(&str) -> f64) -> f64 {
        let part = |(source, [standard, by]): (&String, &[f64; 2])| standard * by * times(source);
        2.0 * self.parts.iter().map(|p| part(p).powi(2)).sum::<f64>().sqrt()
    }
}

type Points = BTreeMap<String, Told>;

/// Lines of a rig's file that state by how much something errs: which one, and the line ten times worse.
fn worse(rig: &str) -> Vec<(usize, String)> {
    let keys = ["accuracy", "angle_accuracy", "timing_accuracy"];
    let states = |line: &str| {
        let (key, value) = line.split_once(" = ")?;
        keys.contains(&key.trim()).then(|| format!("{key} = {}", ten_times(value)))
    };
    rig.lines().enumerate().filter_map(|(number, line)| Some((number, states(line)?))).collect()
}

/// Each number of a text ten times as large.
fn ten_times(text: &str) -> String {
    let is_number = |word: &str| word.parse::<f64>().ok();
    let words = text.split(' ').map(|word| {
        let (quote, bare) = word.strip_prefix('"').map_or(("", word), |bare| ("\"", bare));
        is_number(bare).map_or_else(|| word.to_owned(), |n| format!("{quote}{}", n * 10.0))
    });
    words.collect::<Vec<_>>().join(" ")
}

fn points(case: &Case, rig: &str) -> Points {
    let asset = asset(WINGS, case.asset);
    let all: Vec<Finding> =
        Played::new(WINGS, rig, &(case.specimen)(1), 1000).play(&asset, case.test, &told).0;
    let of = |found: &Finding| {
        let value = found.measured.iter().next().map_or(0.0, |(_, value)| value.si());
        let parts = found
            .budget
            .iter()
            .map(|part| (part.source.to_string(), [part.standard().si(), part.sensitivity.abs()]));
        Told { value, parts: parts.collect() }
    };
    all.iter().map(|found| (found.point.id.clone(), of(found))).collect()
}

/// Whether U of a point widens as its budget before says, where one line states ten times as much; how many parts do.
fn widens(line: &str, point: &str, before: &Told, now: &Told) -> usize {
    let grown = |source: &str| {
        let standards = before.parts.get(source).zip(now.parts.get(source));
        standards.map_or(1.0, |([before, _], [now, _])| now / before)
    };
    let hangs = |source: &str| grown(source) > 4.0;
    let (whole, is) = (before.u(|_| 1.0), now.u(|_| 1.0));
    let rules = |[standard, by]: &[f64; 2]| standard * by > 0.05 * whole;
    let main: Vec<&String> =
        before.parts.iter().filter(|(s, part)| hangs(s) && rules(part)).map(|(s, _)| s).collect();
    for source in &main {
        let times = grown(source);
        assert!((8.0..12.5).contains(&times), "{line}: {point}: {source} by {times}");
    }
    // Of a difference that is no more than its U the slopes hang on the errors themselves.
    if before.value.abs() > is {
        let told = before.u(|source| if hangs(source) { 10.0 } else { 1.0 });
        assert!(
            (0.8..1.25).contains(&(is / told)),
            "{line}: {point}: U {is}, by its budget {told}"
        );
    }
    main.len()
}

#[test]
fn an_accuracy_ten_times_worse_widens_what_hangs_on_it_by_what_the_budget_says() {
    let all = [relays(), instrument_transformers(), power_transformers(), breakers()];
    let mut widened = 0;
    for case in all.iter().flatten() {
        let before = points(case, case.rig);
        for (number, line) in worse(case.rig) {
            let mut lines: Vec<&str> = case.rig.lines().collect();
            lines[number] = &line;
            let after = points(case, &lines.join("\n"));
            let both =
                before.iter().filter_map(|(point, told)| Some((point, told, after.get(point)?)));
            // With a source as bad as that, some are not told at all.
            let is_told = |told: &Told| !told.parts.is_empty();
            let known = both.filter(|(_, told, now)| is_told(told) && is_told(now));
            widened +=
                known.map(|(point, told, now)| widens(&line, point, told, now)).sum::<usize>();
        }
    }
    assert!(widened > 60, "{widened}");
}
