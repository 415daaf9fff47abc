//! Many breakers, each of its own seed: healthy ones pass, and each defect fails on its own criterion.
//!
//! Short here; long on demand:
//! `cargo test --release -p waltron-breaker --test campaign -- --ignored --nocapture`

#![allow(clippy::print_stdout, clippy::print_stderr, reason = "the table is what it is for")]

mod support;

use support::{Played, WINGS, asset, failed, nobody, specimen};
use waltron_core::grading::{Finding, Verdict};
use waltron_test_support::draw::Draw;

const OPERATE: &str = "procedure = \"operation\"\noperations = [\"C\", \"O\", \"O-C-O\"]\n";
const RESIST: &str = "procedure = \"contact-resistance\"\n";

/// A circuit breaker as it is, and the tests that it goes through.
fn circuit(change: impl Fn(&mut String), seed: u64, tests: &[&str]) -> Vec<Finding> {
    let limits = "contact_resistance = { max = \"45 uOhm\" }\n";
    let asset = asset(&format!("{}{limits}", support::ASSET));
    let mut unit =
        specimen("spread = \"1.5 %\"\nscatter = \"0.1 ms\"\n", "[noise]\ncurrent = \"0.2 %\"\n");
    change(&mut unit);
    let mut bench = Played::new(WINGS, &support::rig(), &unit, seed);
    tests.iter().flat_map(|test| bench.play(&asset, test, &nobody).0).collect()
}

const LV_ASSET: &str = include_str!("../../../examples/ns1-q1.asset.toml");
const LV_RIG: &str = include_str!("../../../examples/ns1-q1.rig.toml");
const LV_UNIT: &str = include_str!("../../../examples/ns1-q1.specimen.toml");
const LV_TESTS: [&str; 4] = [
    "procedure = \"ground-fault\"\n",
    "procedure = \"instantaneous\"\n",
    "procedure = \"short-time\"\nat = [\"1.4 x\"]\n",
    "procedure = \"long-time\"\n",
];

/// A low-voltage breaker as it is.
fn low_voltage(change: impl Fn(&mut String), seed: u64) -> Vec<Finding> {
    let asset = asset(LV_ASSET);
    let mut unit = LV_UNIT.replace("neutral_reversed = true\n", "");
    change(&mut unit);
    let mut bench = Played::new(WINGS, LV_RIG, &unit, seed);
    LV_TESTS.iter().flat_map(|test| bench.play(&asset, test, &nobody).0).collect()
}

fn swap(text: &mut String, from: &str, to: &str) {
    assert!(text.contains(from), "{from}");
    *text = text.replacen(from, to, 1);
}

/// Whether a point fails: that it proves nothing is not enough.
fn fails(found: &[Finding], point: &str) -> bool {
    found.iter().any(|f| f.verdict == Verdict::Fail && f.point.id.contains(point))
}

const DC_ASSET: &str = include_str!("../../../examples/tr1-q1.asset.toml");
const DC_RIG: &str = include_str!("../../../examples/tr1-q1.rig.toml");
const DC_UNIT: &str = include_str!("../../../examples/tr1-q1.specimen.toml");
const DC_TESTS: [&str; 4] = [
    "procedure = \"joint-resistance\"\n",
    "procedure = \"trip-level\"\n",
    "procedure = \"opening-time\"\n",
    "procedure = \"making\"\n",
];

/// A direct-current breaker as it is: its release within a per cent and a half of its mark.
fn direct_current(change: impl Fn(&mut String), seed: u64) -> Vec<Finding> {
    let asset = asset(DC_ASSET);
    let mut draw = Draw::new(seed ^ 0xdc);
    let setting = format!("setting = \"{:.1} A\"", draw.uniform(3940.0, 4060.0));
    let opening = format!("opening = \"{:.2} ms\"", draw.uniform(2.4, 4.2));
    let mut unit = DC_UNIT.replace("opening = \"7.4 ms\"", &opening);
    change(&mut unit);
    let unit = unit.replace("setting = \"3.96 kA\"", &setting);
    let mut bench = Played::new(WINGS, DC_RIG, &unit, seed);
    DC_TESTS.iter().flat_map(|test| bench.play(&asset, test, &nobody).0).collect()
}

type Case = (&'static str, fn(u64) -> Result<(), String>);

fn clean(found: &[Finding]) -> Result<(), String> {
    match failed(found).as_slice() {
        [] => Ok(()),
        bad => {
            let of = |f: &&Finding| bad.iter().any(|id| f.point.id.ends_with(id));
            let why = found.iter().find(of).map(|f| f.reason.as_str()).unwrap_or_default();
            Err(format!("{bad:?}: {why}"))
        }
    }
}

fn must(found: &[Finding], point: &str) -> Result<(), String> {
    if fails(found, point) { Ok(()) } else { Err(format!("no {point}: {:?}", failed(found))) }
}

const CASES: [Case; 15] = [
    ("healthy, 24 kV", |seed| clean(&circuit(|_| {}, seed, &[OPERATE, RESIST]))),
    ("healthy, low voltage", |seed| clean(&low_voltage(|_| {}, seed))),
    ("healthy, direct current", |seed| clean(&direct_current(|_| {}, seed))),
    ("release set wrong", |seed| {
        let mut d = Draw::new(seed);
        let amps = if d.uniform(0.0, 1.0) < 0.5 {
            d.uniform(3200.0, 3740.0)
        } else {
            d.uniform(4260.0, 5000.0)
        };
        let change = |unit: &mut String| {
            swap(unit, "setting = \"3.96 kA\"", &format!("setting = \"{amps:.1} A\""));
        };
        must(&direct_current(change, seed), "/setting")
    }),
    ("slow to open", |seed| {
        let ms = Draw::new(seed).uniform(6.0, 20.0);
        let change = |unit: &mut String| {
            let at = unit.find("opening = ").expect("an opening time");
            let end = at + unit[at..].find('\n').expect("its end");
            unit.replace_range(at..end, &format!("opening = \"{ms:.2} ms\""));
        };
        must(&direct_current(change, seed), "/opening-time")
    }),
    ("does not make", |seed| {
        let amps = Draw::new(seed).uniform(1600.0, 3100.0);
        let change = |unit: &mut String| {
            swap(unit, "setting = \"3.96 kA\"", &format!("setting = \"{amps:.1} A\""));
        };
        must(&direct_current(change, seed), "/making-current")
    }),
    ("loose joint", |seed| {
        let mut d = Draw::new(seed);
        let (joint, ohm) = (d.one(&["upper joint", "lower joint"]), d.uniform(16.0, 90.0));
        let change = |unit: &mut String| {
            let at = unit.find(&format!("at = \"{joint}\"")).expect("the joint");
            let from = at + unit[at..].find("resistance").expect("its resistance");
            let end = from + unit[from..].find('\n').expect("its end");
            unit.replace_range(from..end, &format!("resistance = \"{ohm:.1} uOhm\""));
        };
        must(&direct_current(change, seed), &format!("resistance/{}", joint.replace(' ', "-")))
    }),
    ("slow pole", |seed| {
        let mut d = Draw::new(seed);
        let (pole, lag) = (d.one(&["L1", "L2", "L3"]), d.uniform(3.0, 7.0));
        let change = |unit: &mut String| {
            let at = format!("at = \"{pole}\"\n");
            swap(unit, &at, &format!("{at}lag = \"{lag:.3} ms\"\n"));
        };
        let found = circuit(change, seed, &[OPERATE]);
        must(&found, "C/pole-spread-closing")?;
        let named = |f: &&Finding| f.point.id.ends_with("C/pole-spread-closing");
        let why = found.iter().find(named).map(|f| f.reason.clone()).unwrap_or_default();
        if why.contains(&format!("{pole} last at")) { Ok(()) } else { Err(why) }
    }),
    ("welded auxiliary", |seed| {
        let which = Draw::new(seed).one(&["52a", "52b"]);
        let change = |unit: &mut String| {
            let at = format!("at = \"{which}\"\n");
            swap(unit, &at, &format!("{at}welded = true\n"));
        };
        must(&circuit(change, seed, &[OPERATE]), &format!("auxiliary-lag/{which}"))
    }),
    ("weak latch", |seed| {
        let latch = Draw::new(seed).uniform(15.0, 22.0);
        let change = |unit: &mut String| {
            let to = format!("opening_latch = \"{latch:.3} ms\"");
            swap(unit, "opening_latch = \"2 ms\"", &to);
        };
        must(&circuit(change, seed, &[OPERATE]), "opening-time/L")
    }),
    ("worn contact", |seed| {
        let mut d = Draw::new(seed);
        let (pole, ohm) = (d.one(&["L1", "L2", "L3"]), d.uniform(55.0, 200.0));
        let change = |unit: &mut String| {
            let old = format!("at = \"{pole}\"\nbounce = \"0.6 ms\"\nresistance = \"30 uOhm\"");
            let new =
                format!("at = \"{pole}\"\nbounce = \"0.6 ms\"\nresistance = \"{ohm:.1} uOhm\"");
            swap(unit, &old, &new);
        };
        must(&circuit(change, seed, &[RESIST]), &format!("contact-resistance/{pole}"))
    }),
    ("spring not charged", |seed| {
        let change = |unit: &mut String| {
            swap(unit, "battery = \"110 V\"\n", "battery = \"110 V\"\ncharged = false\n");
            swap(unit, "time = \"6 s\"", "time = \"1000 s\"");
        };
        // It closes nothing, and its motor does not charge it: the one is told, the other fails.
        let close = "procedure = \"operation\"\noperations = [\"C\"]\n";
        let found = circuit(change, seed, &[close, "procedure = \"motor\"\n"]);
        must(&found, "/motor-time")?;
        // What the coil took is there all the same.
        let is_of_coil =
            |f: &&Finding| f.point.id.contains("/coil-") || f.point.id.contains("/notch-");
        let closing = found.iter().filter(|f| f.point.id.contains("/C/") && !is_of_coil(f));
        let told = |f: &Finding| f.reason.contains("spring not charged");
        match closing.clone().count() > 0 && closing.clone().all(told) {
            true => Ok(()),
            false => Err(found[0].reason.clone()),
        }
    }),
    ("wrong plug", |seed| {
        let plug = Draw::new(seed).one(&[800, 1000, 1250, 2000, 2500]);
        let change = |unit: &mut String| {
            swap(unit, "plug = \"1600 A\"", &format!("plug = \"{plug} A\""));
        };
        let found = low_voltage(change, seed);
        must(&found, "pickup/L1").and_then(|()| must(&found, "3x/L1/trip-time"))
    }),
    ("ground function off", |seed| {
        let change = |unit: &mut String| {
            let of =
                "[[function]]\nid = \"ground-fault\"\npickup = \"0.3 x\"\ndelay = \"200 ms\"\n";
            swap(unit, of, "");
        };
        must(&low_voltage(change, seed), "1.5x/L1/trip-time")
    }),
    ("neutral sensor reversed", |seed| {
        let change = |unit: &mut String| {
            swap(unit, "plug = \"1600 A\"\n", "plug = \"1600 A\"\nneutral_reversed = true\n");
        };
        must(&low_voltage(change, seed), "neutral")
    }),
];

/// Tests units of so many seeds on two threads.
fn each(count: u64, test: fn(u64) -> Result<(), String>) -> Vec<Result<(), String>> {
    let half = count / 2;
    let told = move |seed: u64| test(seed).map_err(|why| format!("{seed}: {why}"));
    std::thread::scope(|scope| {
        let other = scope.spawn(move || (half..count).map(told).collect::<Vec<_>>());
        let mut all: Vec<_> = (0..half).map(told).collect();
        all.extend(other.join().expect("the other half"));
        all
    })
}

/// Healthy ones must all pass; of each defect 99 of 100 must be found.
fn campaign(healthy: u64, defective: u64) {
    println!("| breakers | as it should be | of |\n| --- | --- | --- |");
    let mut missed = Vec::new();
    for (name, test) in CASES {
        let is_healthy = name.starts_with("healthy");
        let count = if is_healthy { healthy } else { defective };
        let outcomes = each(count, test);
        for why in outcomes.iter().filter_map(|o| o.as_ref().err()) {
            eprintln!("{name}: {why}");
        }
        let right = outcomes.iter().filter(|o| o.is_ok()).count() as u64;
        println!("| {name} | {right} | {count} |");
        let enough = if is_healthy { right == count } else { right * 100 >= count * 99 };
        if !enough {
            missed.push(format!("{name}: {right} of {count}"));
        }
    }
    assert!(missed.is_empty(), "{missed:?}");
}

#[test]
fn some_breakers_of_every_kind() {
    campaign(6, 4);
}

#[test]
#[ignore = "takes minutes: on demand"]
fn a_thousand_breakers_of_every_kind() {
    campaign(1000, 1000);
}
