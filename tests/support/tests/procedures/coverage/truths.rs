//! What is true of the samples' specimens by formula from their files, their own scatter off.

use crate::samples::mixed;
use std::f64::consts::TAU;

/// What is true of a unit of a seed.
type Truth = Box<dyn Fn(u64) -> f64>;

/// What is tested, and what is true of it.
pub(super) struct Case {
    pub(super) asset: &'static str,
    pub(super) rig: &'static str,
    pub(super) specimen: Box<dyn Fn(u64) -> String>,
    pub(super) test: &'static str,
    pub(super) truths: Vec<(&'static str, Truth)>,
}

/// A sample: its asset, its rig, and what is really there.
type Sample = [&'static str; 3];

macro_rules! sample {
    ($folder:literal, $name:literal) => {
        [
            include_str!(concat!("../../../../../", $folder, "/", $name, ".asset.toml")),
            include_str!(concat!("../../../../../", $folder, "/", $name, ".rig.toml")),
            include_str!(concat!("../../../../../", $folder, "/", $name, ".specimen.toml")),
        ]
    };
}

const RELAY: Sample = sample!("crates/waltron/demo", "q07-f1");
const CURRENT_TRANSFORMER: Sample = sample!("examples", "q07-ct");
const VOLTAGE_TRANSFORMERS: Sample = sample!("examples", "q01-vt");
const POWER_TRANSFORMER: Sample = sample!("examples", "t2");
const CIRCUIT_BREAKER: Sample = sample!("examples", "q05-cb");
const LOW_VOLTAGE: Sample = sample!("examples", "ns1-q1");
const DIRECT_CURRENT: Sample = sample!("examples", "tr1-q1");

/// What the files say that scatters of its own, without which they are here.
const SCATTERS: [(&str, &str); 9] = [
    ("current = \"0.15 %\"", "current = \"0 %\""),
    ("time = \"1.5 ms\"", "time = \"0 ms\""),
    ("current = \"0.3 %\"", "current = \"0 %\""),
    ("scatter = \"0.3 %\"", "scatter = \"0 %\""),
    ("current = \"0.02 %\"", "current = \"0 %\""),
    ("spread = \"0.5 %\"", "spread = \"0 %\""),
    ("current = \"0.2 %\"", "current = \"0 %\""),
    ("scatter = \"0.1 ms\"", "scatter = \"0 ms\""),
    ("current = \"1 %\"", "current = \"0 %\""),
];

/// A test of a sample whose truths are the same in each unit.
fn case(sample: Sample, test: &'static str, truths: &[(&'static str, f64)]) -> Case {
    changed(sample, &[], test, truths)
}

/// The same, of a specimen in whose file this is replaced.
fn changed(
    sample: Sample,
    changes: &[(&str, &str)],
    test: &'static str,
    truths: &[(&'static str, f64)],
) -> Case {
    let [asset, rig, specimen] = sample;
    let all = SCATTERS.iter().chain(changes);
    let specimen = all.fold(specimen.to_owned(), |text, (from, to)| text.replace(from, to));
    let own = |(what, truth): &(&'static str, f64)| {
        let truth = *truth;
        (*what, Box::new(move |_| truth) as Truth)
    };
    let truths = truths.iter().map(own).collect();
    Case { asset, rig, specimen: Box::new(move |_| specimen.clone()), test, truths }
}

/// At which current the relay of a seed picks up, in A: anywhere between the steps of a ramp.
fn pickup_a(seed: u64) -> f64 {
    1.204 + 0.004 * (mixed(seed) % 1000) as f64 / 1000.0
}

/// The relay of the demo: what it adds to every time is 15 ms, and its own 51P resets at 95.4 % and works with 0.33.
fn relay(test: &'static str, truths: Vec<(&'static str, Truth)>) -> Case {
    let case = case(RELAY, test, &[]);
    let of = move |seed| {
        let text = (case.specimen)(seed);
        text.replace("pickup = \"1.204 A\"", &format!("pickup = \"{} A\"", pickup_a(seed)))
    };
    Case { specimen: Box::new(of), truths, ..case }
}

/// Copper told at another temperature (IEC 60076-1, 11.2).
fn copper(ohm: f64, from: f64, to: f64) -> f64 {
    ohm * (235.0 + to) / (235.0 + from)
}

pub(super) fn relays() -> Vec<Case> {
    // IEC 60255-151, very inverse, of a current that is so many times the setting of 1.2 A.
    let very_inverse = |times: f64| -> Truth {
        Box::new(move |seed| 0.33 * 13.5 / (times * 1.2 / pickup_a(seed) - 1.0) + 0.015)
    };
    let times = "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"2 x\", \"3 x\", \"5 x\", \"7 x\"]\n";
    let pickup = "procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"B-N\"]\n";
    let at = ["A-N/2x", "A-N/3x", "A-N/5x", "A-N/7x"].into_iter();
    let by_curve = at.zip([2.0, 3.0, 5.0, 7.0]).map(|(what, times)| (what, very_inverse(times)));
    vec![
        relay(times, by_curve.collect()),
        relay(pickup, vec![("B-N", Box::new(pickup_a)), ("B-N/reset", Box::new(|_| 0.954))]),
    ]
}

pub(super) fn instrument_transformers() -> Vec<Case> {
    let resistance = "procedure = \"resistance\"\ntemperature = \"19 degC\"\ntemperature_uncertainty = \"0 K\"\ncurrent = \"0.5 A\"\n";
    // The secondary's own part, and the primary's seen through the turns; the core takes next to nothing beside them.
    let turns = 0.0009107f64;
    let short_circuit = (0.060 + 62e3 * turns * turns).hypot(0.05 + 90e3 * turns * turns);
    vec![
        case(CURRENT_TRANSFORMER, resistance, &[("resistance", copper(3.72, 19.0, 75.0))]),
        // What is connected, at 1 A.
        case(CURRENT_TRANSFORMER, "procedure = \"burden\"\n", &[("burden", 3.2f64.hypot(2.3))]),
        case(
            VOLTAGE_TRANSFORMERS,
            "procedure = \"class\"\nphase = \"A\"\nresolution = \"quick\"\n",
            &[("A/1a-1n/ratio", 1.0 / turns), ("A/1a-1n/short-circuit-impedance", short_circuit)],
        ),
    ]
}

pub(super) fn power_transformers() -> Vec<Case> {
    let cold = [
        ("oil_temperature = \"31 degC\"", "oil_temperature = \"20 degC\""),
        ("temperature = \"16 degC\"", "temperature = \"20 degC\""),
    ];
    // A star by the root of three, over a delta.
    let ratio = 3f64.sqrt() * 907.3 / 285.7;
    let wire = 318.0 / 1e3;
    let squared = (907.3f64 / 285.7).powi(2);
    let short_circuit = (2.0 + 3.0 * squared).hypot(wire + 0.036 * squared);
    let winding = "procedure = \"winding-resistance\"\ntemperature = \"20 degC\"\ntemperature_uncertainty = \"0 K\"\npositions = [\"10\"]\n";
    vec![
        case(
            POWER_TRANSFORMER,
            "procedure = \"turns-ratio\"\npositions = [\"10\"]\n",
            &["10/U", "10/V", "10/W"].map(|what| (what, ratio)),
        ),
        // At 20 °C: what polarises by the power of a half stores as much as it loses.
        case(
            POWER_TRANSFORMER,
            "procedure = \"tan-delta\"\ntemperature = \"31 degC\"\n",
            &[("HL", 0.00271 / 1.0027), ("L", 0.00341 / 1.0034)],
        ),
        changed(
            POWER_TRANSFORMER,
            &cold,
            "procedure = \"tan-delta\"\ntemperature = \"20 degC\"\nsweep = false\n",
            &[("HL/capacitance", 6.38e-9 * 1.0027), ("L/capacitance", 11.25e-9 * 1.0034)],
        ),
        changed(POWER_TRANSFORMER, &cold, winding, &[("10/V", copper(wire, 20.0, 75.0))]),
        // A share of what 110 kV and 40 MVA make.
        changed(
            POWER_TRANSFORMER,
            &cold,
            "procedure = \"impedance\"\npositions = [\"10\"]\n",
            &[("10/impedance", short_circuit / (110e3f64.powi(2) / 40e6))],
        ),
    ]
}

pub(super) fn breakers() -> Vec<Case> {
    vec![
        case(
            CIRCUIT_BREAKER,
            "procedure = \"contact-resistance\"\n",
            &[("contact-resistance/L1", 31e-6), ("contact-resistance/L2", 33e-6)],
        ),
        case(
            CIRCUIT_BREAKER,
            "procedure = \"motor\"\n",
            &[("motor-time", 6.0), ("motor-inrush", 12.0), ("motor-current", 3.0)],
        ),
        case(
            CIRCUIT_BREAKER,
            "procedure = \"operation\"\noperations = [\"C\"]\n",
            &[("C/stroke", TAU / 6.0)],
        ),
        // 10.9 s at 4.8 times the plug, I²t constant, and the mechanism.
        case(
            LOW_VOLTAGE,
            "procedure = \"long-time\"\nat = [\"3 x\"]\n",
            &[
                ("3x/L1/trip-time", 10.9 * (4.8 * 1600.0 / 3840.0f64).powi(2) + 0.024),
                ("connection/L1", 0.35e-3f64.hypot(0.42e-3)),
            ],
        ),
        case(
            DIRECT_CURRENT,
            "procedure = \"joint-resistance\"\n",
            &[("main-contacts", 27e-6), ("upper-joint", 8e-6)],
        ),
        case(DIRECT_CURRENT, "procedure = \"trip-level\"\n", &[("setting", 3960.0)]),
    ]
}
