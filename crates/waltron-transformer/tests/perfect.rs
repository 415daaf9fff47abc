//! Random transformers: one that is as its nameplate says passes, whatever its group, voltages and taps; one that is off
//! fails, and what is wrong is named. The windings are wired here by phasors, not by what the wing makes of a group.
#![allow(clippy::unwrap_used, missing_docs)]

mod support;

use proptest::prelude::*;
use std::f64::consts::TAU;
use support::{WINGS, asset, of, play};
use waltron_core::grading::{Criterion, Finding, Verdict};
use waltron_core::procedure::Answer;

const RIG: &str = include_str!("../../../examples/t2.rig.toml");

/// A phasor: real and imaginary part.
type Phasor = [f64; 2];

fn phasor(degrees: f64) -> Phasor {
    let at = degrees / 360.0 * TAU;
    [at.cos(), at.sin()]
}

fn less(a: Phasor, b: Phasor) -> Phasor {
    [a[0] - b[0], a[1] - b[1]]
}

/// Whether two phasors point the same way.
fn are_in_phase(a: Phasor, b: Phasor) -> bool {
    let size = (a[0].hypot(a[1])) * (b[0].hypot(b[1]));
    (a[0] * b[0] + a[1] * b[1]) / size > 0.999
}

const LETTERS: [&str; 3] = ["U", "V", "W"];

/// A coil of the simulated transformer: its ends, its limb from 1 on.
type Coil = (String, usize);

/// How a winding is connected, as in a group: the high-voltage one in capitals.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Wired {
    Star { neutral: bool },
    Delta,
    Zigzag { neutral: bool },
}

impl Wired {
    fn letters(self) -> &'static str {
        match self {
            Self::Star { neutral: false } => "y",
            Self::Star { neutral: true } => "yn",
            Self::Delta => "d",
            Self::Zigzag { neutral: false } => "z",
            Self::Zigzag { neutral: true } => "zn",
        }
    }

    /// The volts of a coil where the line voltage is 1.
    fn coil_volts(self) -> f64 {
        match self {
            Self::Star { .. } => 1.0 / 3f64.sqrt(),
            Self::Delta => 1.0,
            Self::Zigzag { .. } => 1.0 / 3.0,
        }
    }
}

/// The coils of the high-voltage winding and what each limb induces, its lines being at 0°, -120°, 120°.
fn first(wired: Wired) -> (Vec<Coil>, [Phasor; 3]) {
    let lines = [0.0, -120.0, 120.0].map(phasor);
    let coil = |k: usize| match wired {
        Wired::Delta => (format!("1{}-1{}", LETTERS[k], LETTERS[(k + 1) % 3]), k + 1),
        // A star point that is not brought out has another name than a terminal.
        Wired::Star { neutral: false } => (format!("1{}-1x", LETTERS[k]), k + 1),
        _ => (format!("1{}-1N", LETTERS[k]), k + 1),
    };
    let limb = |k: usize| match wired {
        Wired::Delta => less(lines[k], lines[(k + 1) % 3]),
        _ => lines[k],
    };
    ((0..3).map(coil).collect(), [0, 1, 2].map(limb))
}

/// The coils of the other winding for a clock number; `None` where no coils make it.
fn second(wired: Wired, limbs: [Phasor; 3], clock: u8) -> Option<Vec<Coil>> {
    let lines = [0.0, -120.0, 120.0].map(|at: f64| phasor(at - 30.0 * f64::from(clock)));
    let mut coils = Vec::new();
    for k in 0..3 {
        let own = format!("2{}", LETTERS[k]);
        let star = |neutral: bool| if neutral { "2N" } else { "2x" }.to_owned();
        match wired {
            Wired::Star { .. } | Wired::Delta => {
                let (other, wanted) = match wired {
                    Wired::Delta => {
                        let next = (k + 1) % 3;
                        (format!("2{}", LETTERS[next]), less(lines[k], lines[next]))
                    }
                    Wired::Star { neutral } => (star(neutral), lines[k]),
                    Wired::Zigzag { .. } => return None,
                };
                let turned = less([0.0, 0.0], wanted);
                let found = (0..3).find_map(|limb| {
                    if are_in_phase(limbs[limb], wanted) {
                        Some((format!("{own}-{other}"), limb + 1))
                    } else if are_in_phase(limbs[limb], turned) {
                        Some((format!("{other}-{own}"), limb + 1))
                    } else {
                        None
                    }
                })?;
                coils.push(found);
            }
            Wired::Zigzag { neutral } => {
                // Half a coil on one limb, against half of one on another.
                let pairs = (0..3).flat_map(|a| (0..3).map(move |b| (a, b)));
                let (a, b) = pairs
                    .filter(|(a, b)| a != b)
                    .find(|(a, b)| are_in_phase(less(limbs[*a], limbs[*b]), lines[k]))?;
                let middle = format!("2m{k}");
                coils.push((format!("{own}-{middle}"), a + 1));
                coils.push((format!("{}-{middle}", star(neutral)), b + 1));
            }
        }
    }
    Some(coils)
}

/// A transformer as it is told and as it is.
#[derive(Clone, Debug)]
struct Unit {
    wired: [Wired; 2],
    clock: u8,
    volts: [f64; 2],
    mva: f64,
    positions: usize,
    step: f64,
}

/// How the simulated one differs: a coil of the second winding with other turns, or of the first with more resistance.
#[derive(Clone, Copy, Debug, Default)]
struct Off {
    turns: Option<(usize, f64)>,
    resistance: Option<(usize, f64)>,
}

impl Unit {
    fn group(&self, clock: u8) -> String {
        let [first, second] = self.wired.map(Wired::letters);
        format!("{}{second}{clock}", first.to_uppercase())
    }

    fn asset(&self) -> String {
        let [high, low] = self.volts;
        let (group, mva, positions) = (self.group(self.clock), self.mva, self.positions);
        let step = self.step * 100.0;
        format!(
            "[asset]\nkind = \"power-transformer\"\ntag = \"T\"\n[ratings]\nfrequency = \"50 Hz\"\n\
             power = \"{mva} MVA\"\nvector_group = \"{group}\"\n[[winding]]\nvoltage = \"{high} V\"\n\
             [[winding]]\nvoltage = \"{low} V\"\n[[tap_changer]]\nkind = \"de-energised\"\nwinding = 1\n\
             positions = {positions}\nstep = \"{step} %\"\n[tolerance]\nratio = \"0.5 %\"\n"
        )
    }

    fn specimen(&self, clock: u8, off: Off) -> String {
        let (high, limbs) = first(self.wired[0]);
        let low = second(self.wired[1], limbs, clock).unwrap();
        // Turns by volts; the flux is that of the rated voltage whatever the connection.
        let a_turn = 0.45 * (self.mva * 1e3).sqrt();
        let turns = [0, 1].map(|k| self.volts[k] * self.wired[k].coil_volts() / a_turn);
        let ohms = [0, 1].map(|k| 0.002 * (self.volts[k] * self.volts[k]) / (self.mva * 1e6));
        let coils = |all: &[Coil], winding: usize| {
            let one = |(k, (at, limb)): (usize, &Coil)| {
                let mut more = String::new();
                if let Some((_, times)) = off.turns.filter(|(coil, _)| winding == 1 && *coil == k) {
                    more += &format!(", turns = {}", turns[1] * times);
                }
                if let Some((_, times)) =
                    off.resistance.filter(|(coil, _)| winding == 0 && *coil == k)
                {
                    more += &format!(", resistance = \"{} Ohm\"", ohms[0] * times);
                }
                format!("{{ at = \"{at}\", limb = {limb}{more} }}")
            };
            all.iter().enumerate().map(one).collect::<Vec<_>>().join(", ")
        };
        let mut text = format!(
            "[specimen]\nkind = \"power-transformer\"\n[power_transformer]\nfrequency = \"50 Hz\"\n\
             volts_per_turn = \"{a_turn} V\"\nexciting = \"40 A\"\nyoke = \"15 A\"\nlosses = \"20 A\"\n\
             saturation = \"115 %\"\n"
        );
        for (k, all) in [high, low].iter().enumerate() {
            text += &format!(
                "[[winding]]\nturns = {}\nresistance = \"{} Ohm\"\nleakage = \"{} Ohm\"\ncoils = [{}]\n",
                turns[k],
                ohms[k],
                10.0 * ohms[k],
                coils(all, k)
            );
        }
        text + &format!(
            "[[tap_changer]]\nid = \"DETC\"\nwinding = 1\npositions = {}\nprincipal = {}\nstep = {}\n",
            self.positions,
            self.positions / 2 + 1,
            turns[0] * self.step
        )
    }

    /// Clock numbers that the connection makes.
    fn clocks(&self) -> Vec<u8> {
        let (_, limbs) = first(self.wired[0]);
        (0..12).filter(|clock| second(self.wired[1], limbs, *clock).is_some()).collect()
    }

    fn ratio(&self, specimen: &str) -> Vec<Finding> {
        let asset = asset(&self.asset());
        let confirmed = |_: &waltron_core::procedure::Question| Answer::Confirmed;
        let mut bench = support::Played::new(WINGS, RIG, specimen, 5);
        bench.play(&asset, "procedure = \"turns-ratio\"", &confirmed).0
    }
}

fn wired(is_first: bool) -> impl Strategy<Value = Wired> {
    let star = any::<bool>().prop_map(|neutral| Wired::Star { neutral });
    let zigzag = any::<bool>().prop_map(|neutral| Wired::Zigzag { neutral });
    let zigzags = if is_first { 0 } else { 2 };
    prop_oneof![3 => star, 3 => Just(Wired::Delta), zigzags => zigzag]
}

/// What fails or proves nothing, with why.
fn bad(found: &[Finding]) -> Vec<(&str, &str)> {
    let is_bad = |f: &&Finding| matches!(f.verdict, Verdict::Fail | Verdict::Inconclusive);
    found.iter().filter(is_bad).map(|f| (f.point.id.as_str(), f.reason.as_str())).collect()
}

fn unit() -> impl Strategy<Value = Unit> {
    let volts = (3_000.0..36_000f64, 0.05..0.6f64);
    let taps = (prop_oneof![Just(3usize), Just(5)], 0.01..0.03f64);
    (wired(true), wired(false), 0usize..12, volts, 1.0..6.0f64, taps).prop_map(
        |(high, low, pick, (volts, share), size, (positions, step))| {
            let round = |v: f64| (v / 10.0).round() * 10.0;
            // As large as they are made for such a voltage.
            let mva = size * (volts / 20e3).powf(1.4);
            let mut unit = Unit {
                wired: [high, low],
                clock: 0,
                volts: [round(volts), round((volts * share).max(400.0))],
                mva: (mva * 100.0).round() / 100.0,
                positions,
                step: (step * 1e4).round() / 1e4,
            };
            let clocks = unit.clocks();
            unit.clock = clocks[pick % clocks.len()];
            unit
        },
    )
}

#[test]
fn every_group_has_six_clock_numbers() {
    for high in [Wired::Star { neutral: true }, Wired::Delta] {
        for low in [Wired::Star { neutral: true }, Wired::Delta, Wired::Zigzag { neutral: true }] {
            let (_, limbs) = first(high);
            let made = (0..12).filter(|clock| second(low, limbs, *clock).is_some());
            assert_eq!(made.count(), 6, "{high:?} {low:?}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    /// As its nameplate says it passes, at every position and phase, and its group is the nameplate's.
    #[test]
    fn a_transformer_as_its_nameplate_says_passes(unit in unit()) {
        let found = unit.ratio(&unit.specimen(unit.clock, Off::default()));
        prop_assert!(bad(&found).is_empty(), "{unit:?} {:?}", bad(&found));
        let passed = found.iter().filter(|f| f.verdict == Verdict::Pass).count();
        prop_assert!(passed >= 3 * unit.positions, "{unit:?}: {passed} of {}", found.len());
        prop_assert_eq!(of(&found, "vector-group").verdict, Verdict::Pass);
    }

    /// Wired for another clock number it is found, and named.
    #[test]
    fn another_group_is_found_and_named(unit in unit(), pick in 0usize..5) {
        let others: Vec<u8> = unit.clocks().into_iter().filter(|clock| *clock != unit.clock).collect();
        let real = others[pick % others.len()];
        let found = unit.ratio(&unit.specimen(real, Off::default()));
        let group = of(&found, "vector-group");
        prop_assert_eq!(group.verdict, Verdict::Fail, "{:?} is {}: {}", unit, real, group.reason);
        // Stars without their neutral, whose pairs show the same, are told as what they may be.
        let name = unit.group(real);
        prop_assert!(group.reason.contains(&name), "{unit:?} is {name}: {}", group.reason);
    }

    /// A coil with 1.5 % too many turns fails, and only in the ratio.
    #[test]
    fn a_coil_with_other_turns_fails_in_the_ratio(unit in unit(), coil in 0usize..3, more: bool) {
        let coil = if matches!(unit.wired[1], Wired::Zigzag { .. }) { 2 * coil } else { coil };
        let times = if more { 1.015 } else { 0.985 };
        // Half a phase of a zigzag is half of it.
        let times = if matches!(unit.wired[1], Wired::Zigzag { .. }) { 2.0 * times - 1.0 } else { times };
        let off = Off { turns: Some((coil, times)), ..Off::default() };
        let found = unit.ratio(&unit.specimen(unit.clock, off));
        let fails = found.iter().filter(|f| f.verdict == Verdict::Fail);
        let ratios = fails.filter(|f| f.criterion == Criterion::named("turns_ratio")).count();
        prop_assert!(ratios >= unit.positions, "{unit:?} {off:?}: {:?}", bad(&found));
        prop_assert_eq!(of(&found, "vector-group").verdict, Verdict::Pass);
    }

    /// Phases with the same resistance are alike, whatever the connection; a joint in one of them is found.
    #[test]
    fn a_bad_joint_is_found_whatever_the_connection(unit in unit(), coil in 0usize..3) {
        let text = unit.asset();
        let label = (unit.positions / 2 + 1).to_string();
        let keys = format!(
            "procedure = \"winding-resistance\"\ntemperature = \"20 degC\"\npositions = [\"{label}\"]"
        );
        let asset = asset(&text);
        let of_specimen = |off: Off| play(&asset, RIG, &unit.specimen(unit.clock, off), 7, &keys).0;
        let found = of_specimen(Off::default());
        prop_assert!(bad(&found).is_empty(), "{unit:?} {:?}", bad(&found));
        let off = Off { resistance: Some((coil, 1.15)), ..Off::default() };
        let found = of_specimen(off);
        let differs = found.iter().any(|f| f.verdict == Verdict::Fail && f.point.id.ends_with("difference"));
        prop_assert!(differs, "{unit:?}: {:?}", found.iter().map(|f| (&f.point.id, f.verdict, &f.reason)).collect::<Vec<_>>());
    }
}
