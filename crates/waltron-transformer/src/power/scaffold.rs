//! Files to begin with: they load as they are, and say what to fill in.

use super::asset::{ChangerKind, PowerTransformer};
use super::procedure::can;
use waltron_core::injection::capability::Capability;
use waltron_core::wing::Depth;

const POWER: &str = r#"# A power transformer. Every quantity is text with its unit; what is commented out is optional.

[asset]
kind = "power-transformer"
tag = "T1"                  # operating designation
# site = "", bay = "", operator = "", maker = "", model = "", serial = ""

[ratings]
frequency = "50 Hz"
power = "25 MVA"
vector_group = "YNd11"      # as on the nameplate: YNd5, Dyn11, YNyn0d5, …
# cooling = "ONAN", insulation = "mineral oil"

# One table for each winding, the high-voltage one first.
[[winding]]
voltage = "110 kV"          # rated line voltage
# material = "copper"       # or "aluminium"
# test_current = "10 A"     # the largest direct current through it; 15 % of the rated one if not given

[[winding]]
voltage = "20 kV"

# One table for each tap changer.
[[tap_changer]]
kind = "on-load"            # or "de-energised"
winding = 1                 # the winding that it acts on
positions = 19              # called 1, 2, 3 …; or labels = ["1", "2", …]
# suffixes = { raise = "R", neutral = "N", lower = "L" }    # 9R … 1R, N, 1L … 9L
principal = "10"
step = "1.5 %"              # of the rated voltage, the first position highest; or voltages = ["124.9 kV", …]
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
ratio = "0.5 %"
"#;

/// A new asset file.
pub(crate) fn new_asset() -> String {
    POWER.to_owned()
}

/// Whether a rig has an output or a meter for something; of a rig that is not known, it has.
fn has(rig: Option<&Capability>, meaning: &str) -> bool {
    rig.is_none_or(|rig| {
        let currents = rig.currents.iter().map(|c| &c.meaning);
        let voltages = rig.voltages.iter().map(|c| &c.meaning);
        let meters = rig.meters.iter().map(|m| &m.meaning);
        currents.chain(voltages).chain(meters).any(|m| *m == meaning)
    })
}

/// The tests of a day's work, in its order: what magnetises comes last.
pub(crate) fn new_tests(of: &PowerTransformer, rig: Option<&Capability>, depth: Depth) -> String {
    let mut out = String::new();
    let mut add = |why: &str, lines: &str| out.push_str(&format!("# {why}\n[[test]]\n{lines}\n"));
    if has(rig, "test voltage") && has(rig, "induced voltage") {
        let others = of.windings.iter().skip(1);
        for winding in others {
            let changer = of.changer_of(1).or_else(|| of.changer_of(winding.number));
            let (what, positions) = match (changer, depth) {
                (Some((_, changer)), Depth::Quick) => {
                    let labels: Vec<String> = ends(changer.positions.len(), changer.principal)
                        .into_iter()
                        .map(|at| format!("\"{}\"", changer.positions[at].label))
                        .collect();
                    (
                        "both ends and the principal position",
                        format!("positions = [{}]\n", labels.join(", ")),
                    )
                }
                (Some(_), _) => ("every position", String::new()),
                (None, _) => ("every phase", String::new()),
            };
            let n = winding.number;
            let (id, to) = match of.windings.len() {
                2 => ("ratio".to_owned(), String::new()),
                _ => (format!("ratio-1-{n}"), format!("to = {n}\n")),
            };
            add(
                &format!(
                    "The ratio at {what}, the vector group, and the exciting currents, before anything magnetises the core."
                ),
                &format!("id = \"{id}\"\nprocedure = \"turns-ratio\"\n{to}{positions}"),
            );
        }
    }
    if has(rig, "high voltage") && has(rig, "measured current") {
        add(
            "Capacitance and losses of the insulation; set the temperature of the oil.",
            "id = \"insulation\"\nprocedure = \"tan-delta\"\ntemperature = \"20 degC\"\n",
        );
        if !of.insulation.bushings.is_empty() {
            add(
                "The bushings by their taps.",
                "id = \"bushings\"\nprocedure = \"tan-delta\"\nof = \"bushings\"\ntemperature = \"20 degC\"\n",
            );
        }
    }
    if rig.is_none_or(can) {
        for winding in &of.windings {
            let n = winding.number;
            let changer = of.changer_of(n).map(|(_, changer)| changer);
            let (what, positions) = match (changer, depth) {
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
            add(
                &format!("The resistance of winding {n} at {what}; set its temperature."),
                &format!(
                    "id = \"winding-{n}\"\nprocedure = \"winding-resistance\"\nwinding = {n}\ntemperature = \"20 degC\"\n{positions}"
                ),
            );
        }
    }
    out
}

/// The first, the principal and the last position, each once.
fn ends(count: usize, principal: usize) -> Vec<usize> {
    let mut all = vec![0, principal, count.saturating_sub(1)];
    all.dedup();
    all
}
