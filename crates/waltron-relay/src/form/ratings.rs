//! What a relay is made for and withstands, as its file says it.

use schemars::JsonSchema;
use serde::Deserialize;
use std::ops::Range;
use waltron_core::asset::{Rating, Ratings, Withstand};
use waltron_core::quantity::{Current, Frequency, Measure, Time, Voltage};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable, optional};

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct RatingsForm {
    /// Nominal secondary current.
    current: Option<QuantityText<Current>>,
    /// Nominal secondary voltage.
    voltage: Option<QuantityText<Voltage>>,
    /// Nominal frequency; a supply of direct voltage has none.
    frequency: Option<QuantityText<Frequency>>,
    /// Current transformer ratio, such as `600:1`.
    ct: Option<String>,
    /// Voltage transformer ratio, such as `20 kV:110 V`.
    vt: Option<String>,
    /// What the inputs withstand: `{ current = "4 A" }` for ever, `{ current = "100 A", for = "1 s" }`
    /// for a short time, the same with `voltage`.
    thermal: Option<Vec<Spannable<ThermalForm>>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ThermalForm {
    /// The current, of a current input.
    current: Option<QuantityText<Current>>,
    /// The voltage, of a voltage input.
    voltage: Option<QuantityText<Voltage>>,
    /// For how long; for ever if not given.
    #[serde(rename = "for")]
    duration: Option<QuantityText<Time>>,
}

impl RatingsForm {
    pub(super) fn read(self, problems: &mut Problems) -> Option<Ratings> {
        let current = self.current.and_then(|f| f.positive(problems));
        let voltage = self.voltage.and_then(|f| f.positive(problems));
        let frequency = self.frequency.map(|f| f.positive(problems));
        // What it withstands may be told in its nominal values.
        problems.settings.nominal(frequency.flatten(), current, voltage);
        let (mut currents, mut voltages) = (Vec::new(), Vec::new());
        for form in self.thermal.unwrap_or_default() {
            let span = form.span();
            let form = form.get();
            let duration = match form.duration.as_ref().map(|d| d.positive(problems)) {
                Some(None) => continue,
                Some(read) => read,
                None => None,
            };
            match (&form.current, &form.voltage) {
                (Some(value), None) => {
                    let value = value.positive(problems);
                    currents.extend(value.map(|v| (span, Rating { value: v, duration })));
                }
                (None, Some(value)) => {
                    let value = value.positive(problems);
                    voltages.extend(value.map(|v| (span, Rating { value: v, duration })));
                }
                _ => problems.push(
                    Problem::new(span, "a rating is of one current or of one voltage")
                        .help("write it like `{ current = \"100 A\", for = \"1 s\" }`"),
                ),
            }
        }
        Some(Ratings {
            current,
            voltage,
            frequency: optional(frequency)?,
            ct: self.ct,
            vt: self.vt,
            currents: withstand(currents, "current", problems),
            voltages: withstand(voltages, "voltage", problems),
            own_currents: Vec::new(),
            own_voltages: Vec::new(),
        })
    }
}

/// Ratings that contradict each other are a typing error: none of them is believed.
fn withstand<Q: Measure>(
    mut ratings: Vec<(Range<usize>, Rating<Q>)>,
    what: &str,
    problems: &mut Problems,
) -> Withstand<Q> {
    let mut complain = |span: &Range<usize>, message: String, help: &str| {
        problems.push(Problem::new(span.clone(), message).help(help));
    };
    ratings.sort_by(|(_, a), (_, b)| a.value.si().total_cmp(&b.value.si()));
    if let Some((span, _)) = ratings.first().filter(|(_, r)| r.duration.is_some()) {
        let all_short = ratings.iter().all(|(_, r)| r.duration.is_some());
        let message = match all_short {
            true => format!("nothing says which {what} is withstood for ever"),
            false => format!("this {what} is below the one that is withstood for ever"),
        };
        let help = "the lowest rating is the continuous one, without `for`";
        complain(span, message, help);
    }
    for pair in ratings.windows(2) {
        let [(_, low), (span, high)] = pair else { continue };
        match (low.duration, high.duration) {
            (None, None) => {
                let message = format!("two ratings say which {what} is withstood for ever");
                complain(span, message, "keep one of them, or say for how long the other one is");
            }
            _ if low.value.si() == high.value.si() => {
                let message =
                    format!("two ratings of {}", waltron_core::quantity::text(high.value));
                complain(span, message, "keep one of them");
            }
            (Some(before), Some(t)) if t > before => {
                let message = format!("{high} lasts longer than {low}");
                complain(span, message, "more is never withstood for longer: is one mistyped?");
            }
            _ => {}
        }
    }
    Withstand::new(ratings.into_iter().map(|(_, rating)| rating).collect())
}
