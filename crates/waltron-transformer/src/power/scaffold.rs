//! Files to begin with: they load as they are, and say what to fill in.

use super::asset::{ChangerKind, PowerTransformer, Winding};
use super::procedure::{can, round_below};
use waltron_core::defaults::{DefaultKey, Defaults, FROM_HERE, Holds};
use waltron_core::injection::capability::Capability;
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::wing::Depth;

const fn key(
    key: &'static str,
    about: &'static str,
    usual: &'static str,
    holds: Holds,
) -> DefaultKey {
    DefaultKey { key, about, usual, holds }
}

/// What users may want otherwise in new files.
pub(crate) const DEFAULTS: [DefaultKey; 10] = [
    key(
        STANDARD,
        "the standard: at which temperature resistances are told",
        "iec",
        Holds::OneOf(&["iec", "ieee"]),
    ),
    key(
        "power-transformer.labels",
        "labels of a tap changer: behind raising positions, the middle, behind lowering ones",
        "numbers",
        Holds::Words(3),
    ),
    key(RATIO, "tolerance of the ratio", "0.5 %", Holds::Tolerance(Dimension::NUMBER)),
    key(
        RESISTANCE,
        "tolerance of resistances against the maker's",
        "5 %",
        Holds::Tolerance(Dimension::RESISTANCE),
    ),
    key(
        DIFFERENCE,
        "by how much resistances of phases may differ",
        "2 %",
        Holds::Tolerance(Dimension::RESISTANCE),
    ),
    key(TAN_DELTA, "the largest tan delta at 20 degC", "0.5 %", Holds::Quantity(Dimension::NUMBER)),
    key(
        TEMPERATURE,
        "temperature of windings and oil in new plans",
        "20 degC",
        Holds::Quantity(Dimension::TEMPERATURE),
    ),
    key(
        CURRENT,
        "current of resistance tests, as a share of the winding's rated one",
        "as winding and rig allow",
        Holds::Quantity(Dimension::NUMBER),
    ),
    key(
        STEADY,
        "the band in which resistances must stay",
        "0.1 %",
        Holds::Quantity(Dimension::NUMBER),
    ),
    key(
        VOLTAGE,
        "voltage of ratio tests",
        "as winding and rig allow",
        Holds::Quantity(Dimension::VOLTAGE),
    ),
];

const STANDARD: &str = "power-transformer.standard";
const RATIO: &str = "power-transformer.ratio";
const RESISTANCE: &str = "power-transformer.resistance";
const DIFFERENCE: &str = "power-transformer.difference";
const TAN_DELTA: &str = "power-transformer.tan_delta";
const TEMPERATURE: &str = "power-transformer.temperature";
const CURRENT: &str = "power-transformer.current";
const STEADY: &str = "power-transformer.steady";
const VOLTAGE: &str = "power-transformer.ratio_voltage";

const POWER: &str = r#"# A power transformer. Every quantity is text with its unit; what is commented out is optional.

[asset]
kind = "power-transformer"
tag = "T1"                  # operating designation
# site = "", bay = "", operator = "", maker = "", model = "", serial = ""

[ratings]
frequency = "50 Hz"
power = "25 MVA"
vector_group = "YNd11"      # as on the nameplate: YNd5, Dyn11, YNyn0d5, …
# impedance = "10 %"        # short-circuit impedance at the principal position
# cooling = "ONAN", insulation = "mineral oil"

# One table for each winding, the high-voltage one first.
[[winding]]
voltage = "110 kV"          # rated line voltage
{reference}# material = "copper"       # or "aluminium"
# test_current = "10 A"     # the largest direct current through it; 15 % of the rated one if not given

[[winding]]
voltage = "20 kV"
{reference}
# One table for each tap changer.
[[tap_changer]]
kind = "on-load"            # or "de-energised"
winding = 1                 # the winding that it acts on
positions = 19              # called 1, 2, 3 …; or labels = ["1", "2", …]
{suffixes}step = "1.5 %"              # of the rated voltage, the first position highest; or voltages = ["124.9 kV", …]
# round = "10 V"            # as the nameplate rounds
# exact = { "7" = "114.9 kV" }

# What the maker, or an earlier test, measured of the insulation: H and L to the tank, HL between them.
# [insulation]
# correction = "oil-paper"    # or a file of your own that ends with .correction.toml
# [[insulation.known]]
# of = "HL"
# capacitance = "6.4 nF"
# tan_delta = "0.3 %"

# One table for each bushing with a tap.
# [[bushing]]
# at = "1U"
# c1 = "360 pF"
# tan_delta = "0.35 %"

[tolerance]
{tolerances}"#;

/// A new asset file.
pub(crate) fn new_asset(own: &Defaults) -> String {
    let reference = match own.get(STANDARD) {
        Some("ieee") => format!("reference = \"85 degC\"{FROM_HERE}\n"),
        _ => String::new(),
    };
    let labels: Vec<&str> =
        own.get("power-transformer.labels").unwrap_or_default().split_whitespace().collect();
    let suffixes = match labels.as_slice() {
        [raise, neutral, lower] => format!(
            "suffixes = {{ raise = {raise:?}, neutral = {neutral:?}, lower = {lower:?} }}{FROM_HERE}\n"
        ),
        _ => "# suffixes = { raise = \"R\", neutral = \"N\", lower = \"L\" }    # 9R … 1R, N, 1L … 9L\nprincipal = \"10\"\n"
            .to_owned(),
    };
    let mut tolerances = own.line(RATIO, "ratio");
    if tolerances.is_empty() {
        tolerances = "ratio = \"0.5 %\"\n".to_owned();
    }
    let others = [(RESISTANCE, "resistance"), (DIFFERENCE, "difference"), (TAN_DELTA, "tan_delta")];
    tolerances.extend(others.map(|(key, name)| own.line(key, name)));
    POWER
        .replace("{reference}", &reference)
        .replace("{suffixes}", &suffixes)
        .replace("{tolerances}", &tolerances)
}

/// The tests of a day's work, one after the other.
struct Day<'a> {
    of: &'a PowerTransformer,
    rig: Option<&'a Capability>,
    depth: Depth,
    own: &'a Defaults,
    text: String,
}

/// The tests of a day's work, in its order: whether the insulation may be energised at all comes first, what
/// magnetises comes last.
pub(crate) fn new_tests(
    of: &PowerTransformer,
    rig: Option<&Capability>,
    depth: Depth,
    own: &Defaults,
) -> String {
    let mut day = Day { of, rig, depth, own, text: String::new() };
    day.insulation();
    day.exciting();
    day.ratios();
    day.impedances();
    day.resistances();
    day.text
}

impl Day<'_> {
    /// Whether the rig has an output or a meter for something; one that is not known has.
    fn has(&self, meaning: &str) -> bool {
        self.rig.is_none_or(|rig| rig.connects(meaning))
    }

    fn add(&mut self, why: &str, lines: &str) {
        self.text.push_str(&format!("# {why}\n[[test]]\n{lines}\n"));
    }

    /// The temperature, as the user's own or to be set.
    fn temperature(&self) -> String {
        match self.own.line(TEMPERATURE, "temperature") {
            line if line.is_empty() => "temperature = \"20 degC\"\n".to_owned(),
            line => line,
        }
    }

    fn insulation(&mut self) {
        let temperature = self.temperature();
        if self.depth != Depth::Quick {
            let by = match self.has("insulation voltage") {
                true => "",
                false => " Somebody reads an instrument: the rig has no output for it.",
            };
            self.add(
                &format!("The insulation by direct voltage: whether it may be energised.{by} Set the temperature of the oil."),
                &format!("id = \"insulation-resistance\"\nprocedure = \"insulation-resistance\"\n{temperature}"),
            );
        }
        if self.has("high voltage") && self.has("measured current") {
            self.add(
                "Capacitance and losses of the insulation; set the temperature of the oil.",
                &format!("id = \"insulation\"\nprocedure = \"tan-delta\"\n{temperature}"),
            );
            if !self.of.insulation.bushings.is_empty() {
                self.add(
                    "The bushings by their taps.",
                    &format!("id = \"bushings\"\nprocedure = \"tan-delta\"\nof = \"bushings\"\n{temperature}"),
                );
            }
        }
    }

    fn exciting(&mut self) {
        if self.has("high voltage") && self.has("measured current") && self.depth != Depth::Quick {
            self.add(
                "Exciting currents at high voltage, before anything magnetises the core.",
                "id = \"exciting\"\nprocedure = \"exciting-current\"\n",
            );
        }
    }

    fn ratios(&mut self) {
        if !self.has("test voltage") || !self.has("induced voltage") {
            return;
        }
        for winding in self.of.windings.iter().skip(1) {
            let changer = self.of.changer_of(1).or_else(|| self.of.changer_of(winding.number));
            let (what, positions) = match (changer, self.depth) {
                (Some((_, changer)), Depth::Quick) => {
                    let labels: Vec<String> = ends(changer.positions.len(), changer.principal)
                        .into_iter()
                        .map(|at| format!("\"{}\"", changer.positions[at].label))
                        .collect();
                    let list = format!("positions = [{}]\n", labels.join(", "));
                    ("both ends and the principal position", list)
                }
                (Some(_), _) => ("every position", String::new()),
                (None, _) => ("every phase", String::new()),
            };
            let n = winding.number;
            let (id, to) = match self.of.windings.len() {
                2 => ("ratio".to_owned(), String::new()),
                _ => (format!("ratio-1-{n}"), format!("to = {n}\n")),
            };
            let volts = self.own.line(VOLTAGE, "voltage");
            self.add(
                &format!(
                    "The ratio at {what}, the vector group, and the exciting currents, before anything magnetises the core."
                ),
                &format!("id = \"{id}\"\nprocedure = \"turns-ratio\"\n{to}{volts}{positions}"),
            );
        }
    }

    fn impedances(&mut self) {
        if !self.has("test voltage") || !self.has("test current") || self.depth == Depth::Quick {
            return;
        }
        let count = self.of.windings.len();
        let pairs: Vec<(u8, u8)> = self
            .of
            .windings
            .iter()
            .flat_map(|a| {
                let others =
                    self.of.windings.iter().map(|w| w.number).filter(move |b| *b > a.number);
                others.map(move |b| (a.number, b))
            })
            .collect();
        for (a, b) in pairs {
            let (id, keys) = match count {
                2 => ("impedance".to_owned(), String::new()),
                _ => (format!("impedance-{a}-{b}"), format!("winding = {a}\nshorted = {b}\n")),
            };
            self.add(
                &format!("The short-circuit impedance, winding {b} shorted at its bushings."),
                &format!("id = \"{id}\"\nprocedure = \"impedance\"\n{keys}"),
            );
        }
        // Of a low-voltage star it takes more current than such an output has.
        let star = self.of.group.sides.iter().position(|side| side.neutral);
        let is_fit = star.is_some_and(|k| self.of.windings[k].voltage_v > 1e3);
        if self.depth == Depth::Commissioning && is_fit {
            self.add(
                "The zero-sequence impedance of the star.",
                "id = \"zero-sequence\"\nprocedure = \"impedance\"\nsequence = \"zero\"\n",
            );
        }
    }

    /// The current of a winding by the user's own share of the rated one, as far as it is allowed.
    fn current(&self, winding: &Winding) -> String {
        let share = self.own.get(CURRENT).and_then(|text| Quantity::parse(text).ok());
        let Some(share) = share else { return String::new() };
        let amps = (share.si * winding.current_a()).min(winding.most_a());
        let range = self.rig.and_then(|rig| {
            let found = rig.currents.iter().find(|c| c.meaning == *"winding current");
            found.map(|c| waltron_core::quantity::Measure::si(c.range))
        });
        let amps = round_below(amps.min(range.unwrap_or(f64::INFINITY)), &[5.0, 2.5, 2.0, 1.0]);
        let amps = Quantity { si: amps, dimension: Dimension::CURRENT };
        format!("current = \"{amps}\"{FROM_HERE}: {}\n", self.own.get(CURRENT).unwrap_or_default())
    }

    fn resistances(&mut self) {
        if !self.rig.is_none_or(can) {
            return;
        }
        for winding in &self.of.windings {
            let n = winding.number;
            let changer = self.of.changer_of(n).map(|(_, changer)| changer);
            let (what, positions) = match (changer, self.depth) {
                (Some(changer), Depth::Quick) => {
                    let label = &changer.positions[changer.principal].label;
                    ("the principal position", format!("positions = [\"{label}\"]\n"))
                }
                (Some(changer), _) if changer.kind == ChangerKind::OnLoad => {
                    ("every position, the taps changed under current and watched", String::new())
                }
                (Some(_), _) => ("every position", String::new()),
                (None, _) => ("each phase", String::new()),
            };
            let (temperature, current) = (self.temperature(), self.current(winding));
            let steady = self.own.line(STEADY, "steady");
            self.add(
                &format!("The resistance of winding {n} at {what}; set its temperature."),
                &format!(
                    "id = \"winding-{n}\"\nprocedure = \"winding-resistance\"\nwinding = {n}\n{temperature}{current}{steady}{positions}"
                ),
            );
        }
        if self.has("test voltage") && self.has("test current") {
            self.add(
                "What direct current left in the core is taken away: no inrush when it goes into service.",
                "id = \"demagnetise\"\nprocedure = \"core-demagnetisation\"\n",
            );
        }
    }
}

/// The first, the principal and the last position, each once.
fn ends(count: usize, principal: usize) -> Vec<usize> {
    let mut all = vec![0, principal, count.saturating_sub(1)];
    all.dedup();
    all
}
