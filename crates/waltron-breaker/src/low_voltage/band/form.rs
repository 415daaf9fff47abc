//! Band files, and the bands that come with the program.

use super::{Band, Region, Shape};
use crate::low_voltage::asset::Acts;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Measure, Ratio, Time};
use waltron_core::text::document::{
    DocumentError, Field, Form, Problem, Problems, QuantityText, Source, Spannable, Text, load,
    optional,
};

/// Between which times functions of a trip unit must open.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BandForm {
    /// What it is.
    band: HeadForm,
    /// A region for each function.
    region: Vec<RegionForm>,
}

impl Form for BandForm {
    const KIND: &'static str = "band";
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// What it is called.
    name: String,
    /// Where it comes from: sheet, edition, day.
    note: Option<String>,
}

/// What one function must keep.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(in crate::low_voltage) struct RegionForm {
    /// The function.
    function: Spannable<Acts>,
    /// Two shares of the pickup setting: up to the first it must not trip, from the second on it must.
    pickup: Spannable<Vec<QuantityText<Ratio>>>,
    /// Its times.
    shape: ShapeForm,
    /// Two shares of the time that the settings give (inverse, setting).
    time: Option<Spannable<Vec<QuantityText<Ratio>>>>,
    /// Not before: multiples of the pickup with times (points).
    lower: Option<Vec<Vec<Text>>>,
    /// Not after: the same.
    upper: Option<Vec<Vec<Text>>>,
    /// What opening takes at most on top; none if not given.
    opening: Option<QuantityText<Time>>,
}

/// How the times of a region follow.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum ShapeForm {
    /// I²t through the setting.
    Inverse,
    /// As the function is set: definite, or I²t.
    Setting,
    /// As quick as it can.
    AtOnce,
    /// Points on log-log axes.
    Points,
}

const SHIPPED: [(&str, &str); 3] = [
    ("generic", include_str!("../../../bands/generic.band.toml")),
    ("halden-lt", include_str!("../../../bands/halden-lt.band.toml")),
    ("halden-mk", include_str!("../../../bands/halden-mk.band.toml")),
];

/// The names of the bands that come with the program.
pub fn shipped_names() -> Vec<&'static str> {
    SHIPPED.iter().map(|(name, _)| *name).collect()
}

/// A band that comes with the program.
pub fn shipped(name: &str) -> Option<Band> {
    let (name, text) = SHIPPED.iter().find(|(n, _)| *n == name)?;
    BandForm::load(&Source::new(*name, *text)).ok()
}

impl BandForm {
    /// Reads a band file.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Band, DocumentError> {
        load(source, |form: Self, problems| {
            let regions = RegionForm::all(&form.region, problems)?;
            Some(Band { name: form.band.name, note: form.band.note, regions })
        })
    }
}

impl RegionForm {
    pub(in crate::low_voltage) fn all(
        forms: &[Self],
        problems: &mut Problems,
    ) -> Option<Vec<Region>> {
        let mut all: Vec<Region> = Vec::new();
        for form in forms {
            let region = form.read(problems)?;
            if all.iter().any(|r| r.acts == region.acts) {
                let message = format!("two regions are of {}", region.acts.key());
                problems.push(Problem::new(form.function.span(), message));
            }
            all.push(region);
        }
        Some(all)
    }

    fn read(&self, problems: &mut Problems) -> Option<Region> {
        let pair = |field: &Spannable<Vec<QuantityText<Ratio>>>, problems: &mut Problems| {
            let values: Vec<f64> = field
                .get()
                .iter()
                .map(|v| v.positive(problems).map(|r| r.value))
                .collect::<Option<_>>()?;
            let &[low, high] = &values[..] else {
                problems.push(Problem::new(field.span(), "two shares are wanted: lower and upper"));
                return None;
            };
            if low > high {
                problems
                    .push(Problem::new(field.span(), "the lower limit lies above the upper one"));
                return None;
            }
            Some([low, high])
        };
        let [low, high] = pair(&self.pickup, problems)?;
        let opening = optional(self.opening.as_ref().map(|t| t.not_negative(problems)))?;
        let at = self.function.span();
        let lacks = |key: &str, problems: &mut Problems| {
            problems.push(Problem::new(at.clone(), format!("this region has no `{key}`")));
        };
        // What a shape has no use for is a mistake.
        let is_shares = matches!(self.shape, ShapeForm::Inverse | ShapeForm::Setting);
        let idle = [
            ("time", self.time.is_some() && !is_shares),
            ("lower", self.lower.is_some() && self.shape != ShapeForm::Points),
            ("upper", self.upper.is_some() && self.shape != ShapeForm::Points),
        ];
        if let Some((key, _)) = idle.iter().find(|(_, is)| *is) {
            let message = format!("this region's shape has no use for `{key}`");
            problems.push(Problem::new(at, message));
            return None;
        }
        let shape = match self.shape {
            ShapeForm::AtOnce => Shape::AtOnce,
            ShapeForm::Inverse | ShapeForm::Setting => {
                let Some(time) = &self.time else {
                    lacks("time", problems);
                    return None;
                };
                let shares = pair(time, problems)?;
                match self.shape {
                    ShapeForm::Inverse => Shape::Inverse(shares),
                    _ => Shape::Setting(shares),
                }
            }
            ShapeForm::Points => {
                let (Some(lower), Some(upper)) = (&self.lower, &self.upper) else {
                    lacks(if self.lower.is_none() { "lower" } else { "upper" }, problems);
                    return None;
                };
                let (lower, upper) =
                    (points(lower, at.clone(), problems)?, points(upper, at.clone(), problems)?);
                let is_crossed =
                    |(x, low): &(f64, f64)| *low > super::along(&upper, *x) * (1.0 + 1e-9);
                if let Some((x, _)) = lower.iter().find(|p| is_crossed(p)) {
                    let message = format!("at {x} x the lower limit lies above the upper one");
                    problems.push(Problem::new(at, message));
                    return None;
                }
                Shape::Points { lower, upper }
            }
        };
        Some(Region {
            acts: *self.function.get(),
            pickup: (low, high),
            shape,
            opening_s: opening.map_or(0.0, Measure::si),
        })
    }
}

fn points(
    given: &[Vec<Text>],
    at: std::ops::Range<usize>,
    problems: &mut Problems,
) -> Option<Vec<(f64, f64)>> {
    let mut all: Vec<(f64, f64)> = Vec::new();
    for pair in given {
        let [multiple, time] = &pair[..] else {
            let message = "a point is a multiple of the pickup and a time: `[\"3 x\", \"20 s\"]`";
            problems.push(Problem::new(pair.first().map_or(at, Text::span), message));
            return None;
        };
        let of = |text: &Text, dimension| {
            let parsed = waltron_core::quantity::Quantity::parse(text.as_str());
            parsed.ok().filter(|q| q.dimension == dimension && q.si > 0.0).map(|q| q.si)
        };
        let x = of(multiple, waltron_core::quantity::Dimension::NUMBER);
        let y = of(time, waltron_core::quantity::Dimension::TIME);
        let (Some(x), Some(y)) = (x, y) else {
            let wrong = if x.is_none() { multiple } else { time };
            let message = format!(
                "`{}` is no positive {}",
                wrong.as_str(),
                if x.is_none() { "multiple" } else { "time" }
            );
            problems.push(Problem::new(wrong.span(), message));
            return None;
        };
        if all.last().is_some_and(|(before, _)| *before >= x) {
            problems.push(Problem::new(multiple.span(), "points go by rising multiples"));
            return None;
        }
        all.push((x, y));
    }
    if all.len() < 2 {
        problems.push(Problem::new(at, "a line takes at least two points"));
        return None;
    }
    Some(all)
}
