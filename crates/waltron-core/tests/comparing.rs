//! Two runs against each other, and what users want otherwise.
#![allow(clippy::unwrap_used, missing_docs)]

use proptest::prelude::*;
use waltron_core::defaults::{DefaultKey, Defaults, Holds};
use waltron_core::grading::{Criterion, Grade, Limits, PointId, Values, Verdict};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Block, compared};
use waltron_core::text::document::Source;
use waltron_core::wing::{Earlier, Told};

fn grade(id: &str, measured: Values, verdict: Verdict) -> Grade {
    let test = id.split('/').next().unwrap().into();
    Grade {
        point: PointId { id: id.into(), test, element: None, fault_loop: None },
        attempt: 1,
        criterion: Criterion::VALUE,
        stimulus: Values::none(),
        expected: Values::none(),
        measured,
        deviation: Values::none(),
        limits: Limits::None,
        uncertainty: Values::none(),
        budget: Vec::new(),
        verdict,
        reason: String::new(),
        skipped: false,
        guarded: false,
    }
}

fn ohms(name: &'static str, si: f64) -> Values {
    Values::none().with_quantity(name, Quantity { si, dimension: Dimension::RESISTANCE })
}

/// Title, note and the rows of all tables.
fn rows(now: &[Grade], before: &[Grade]) -> Option<(String, String, Vec<Vec<String>>)> {
    let earlier = Earlier { at: "2026-05-04T08:00:00Z", points: before, served: &[] };
    let told = Told { points: now, served: &[], earlier: Some(earlier) };
    let section = compared(told)?;
    let mut note = String::new();
    let mut all = Vec::new();
    for block in section.blocks {
        match block {
            Block::Note(text) => note = text,
            Block::Table(table) => all.extend(table.rows),
            other => panic!("{other:?}"),
        }
    }
    Some((section.title, note, all))
}

#[test]
fn points_that_both_have_stand_side_by_side() {
    let before = [
        grade("r/U", ohms("resistance", 0.4), Verdict::Pass),
        grade("r/V", ohms("other", 0.4), Verdict::Pass),
        grade("r/W", Values::none(), Verdict::NotTested),
        grade("t/d", Values::none().with_percent("difference", 0.01), Verdict::Pass),
        grade("t/gone", ohms("resistance", 1.0), Verdict::Pass),
    ];
    let now = [
        grade("r/U", ohms("resistance", 0.39), Verdict::Fail),
        // No value in common, none at all, and one that nobody measured before.
        grade("r/V", ohms("resistance", 0.4), Verdict::Pass),
        grade("r/W", ohms("resistance", 0.4), Verdict::Pass),
        grade("t/d", Values::none().with_percent("difference", 0.015), Verdict::Pass),
        grade("t/new", ohms("resistance", 1.0), Verdict::Pass),
    ];
    let (title, note, all) = rows(&now, &before).unwrap();
    assert_eq!(title, "Against the run of 2026-05-04");
    assert_eq!(note, "The largest change is that of r/U: −2.50 %.");
    let expected = [
        ["r/U", "resistance", "0.4 Ohm", "0.39 Ohm", "−2.50 %", "pass", "FAIL"],
        ["t/d", "difference", "1 %", "1.5 %", "+0.500 points", "pass", "pass"],
    ];
    let all: Vec<Vec<&str>> = all.iter().map(|r| r.iter().map(String::as_str).collect()).collect();
    assert_eq!(all.len(), 2, "{all:?}");
    for (row, expected) in all.iter().zip(expected) {
        let same = row.iter().zip(expected).all(|(a, b)| a.eq_ignore_ascii_case(b));
        assert!(same, "{row:?}");
    }
    // What is the same is no change; a value of another dimension is another value.
    let (_, note, all) = rows(&before[..1], &before[..1]).unwrap();
    assert_eq!((note.as_str(), all[0][4].as_str()), ("No value has changed.", "none"));
    let other = [grade(
        "r/U",
        Values::none().with_quantity("resistance", Quantity::number(0.4)),
        Verdict::Pass,
    )];
    assert!(rows(&other, &before).is_none());
    assert!(compared(Told::points(&now)).is_none(), "without an earlier run");
}

proptest! {
    /// Any two values: the change leads from the one to the other, and never breaks.
    #[test]
    fn the_change_leads_from_one_to_the_other(was in -1e6..1e6f64, is in -1e6..1e6f64) {
        let (before, now) = (
            [grade("r/U", ohms("resistance", was), Verdict::Pass)],
            [grade("r/U", ohms("resistance", is), Verdict::Pass)],
        );
        let (_, _, all) = rows(&now, &before).unwrap();
        let change = &all[0][4];
        let Some(percent) = change.strip_suffix(" %") else {
            prop_assert!(change == "none" || was == 0.0);
            return Ok(());
        };
        let share: f64 = percent.replace('−', "-").replace('+', "").parse::<f64>().unwrap() / 100.0;
        prop_assert!((was * (1.0 + share) - is).abs() <= was.abs() * 5.1e-5 + 1e-9, "{was} {is} {change}");
    }

    /// A file of defaults never breaks its reader, and what it holds is what was checked.
    #[test]
    fn any_text_is_read_or_refused(text in "[a-z.\\[\\]\"= \n%0-9\\\\]{0,80}") {
        let keys = [KEYS[0], KEYS[1], KEYS[2]];
        if let Ok(read) = Defaults::load(&Source::new("d", text.as_str()), &keys) {
            for key in read.keys() {
                let known = keys.iter().find(|k| k.key == key).unwrap();
                prop_assert!(known.holds.check(read.get(key).unwrap()).is_ok());
            }
        }
    }
}

const KEYS: [DefaultKey; 3] = [
    DefaultKey { key: "a.b", about: "", usual: "", holds: Holds::Text },
    DefaultKey { key: "a.c", about: "", usual: "", holds: Holds::Quantity(Dimension::NUMBER) },
    DefaultKey { key: "a.d", about: "", usual: "", holds: Holds::OneOf(&["x", "y"]) },
];

#[test]
fn values_are_what_their_keys_hold() {
    let cases = [
        (Holds::Text, "R. Amsel", true),
        (Holds::Text, "  ", false),
        (Holds::Text, "two\nlines", false),
        (Holds::Words(3), "R N L", true),
        (Holds::Words(3), "R N", false),
        (Holds::OneOf(&["iec", "ieee"]), "ieee", true),
        (Holds::OneOf(&["iec", "ieee"]), "IEEE", false),
        (Holds::Quantity(Dimension::TEMPERATURE), "15 degC", true),
        (Holds::Quantity(Dimension::TEMPERATURE), "15 A", false),
        (Holds::Quantity(Dimension::NUMBER), "0 %", false),
        (Holds::Quantity(Dimension::NUMBER), "-5 %", false),
        (Holds::Quantity(Dimension::NUMBER), "NaN", false),
        (Holds::Tolerance(Dimension::RESISTANCE), "2 % or 20 uOhm", true),
        (Holds::Tolerance(Dimension::RESISTANCE), "2 A", false),
    ];
    for (holds, text, fits) in cases {
        assert_eq!(holds.check(text).is_ok(), fits, "{text}");
    }
    let own = Defaults::load(&Source::new("d", "[a]\nb = \"say \\\"hi\\\"\"\n"), &KEYS).unwrap();
    // The line that stands in a new file reads back to the same words.
    let line = own.line("a.b", "tester");
    assert!(line.ends_with("# from your defaults\n"), "{line}");
    let back: toml::Table = toml::from_str(&line).unwrap();
    assert_eq!(back["tester"].as_str(), own.get("a.b"));
    assert_eq!(own.line("a.c", "x"), "");
}
