//! A time characteristic as written in a file.

use crate::characteristic::{Characteristic, Coefficients, Form, Reset, Shape, TimeTable};
use crate::quantity::{Current, Measure, Quantity, Ratio, Time, seconds};
use crate::text::document::{
    self, DocumentError, Field, Number, Problem, Problems, QuantityText, Source, Spannable, Text,
};
use crate::text::name::nearest;
use schemars::JsonSchema;
use serde::Deserialize;
use std::ops::Range;

/// Where a characteristic comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Family {
    /// IEC 60255-151 shapes: normal-, very-, extremely-, long-time-, short-time-inverse.
    Iec,
    /// IEEE C37.112 shapes: moderately-, very-, extremely-inverse.
    Ieee,
    /// Fixed delay.
    Definite,
    /// No delay of its own: it operates within a time.
    Instantaneous,
    /// Constant I²t: t = k / M².
    I2t,
    /// Thermal overload, IEC 60255-149.
    Thermal,
    /// t = tms · (k / (M^alpha − 1) + c) with constants of your own.
    Formula,
    /// Points, interpolated on log-log axes.
    Table,
}

impl Family {
    const fn word(self) -> &'static str {
        match self {
            Self::Iec => "iec",
            Self::Ieee => "ieee",
            Self::Definite => "definite",
            Self::Instantaneous => "instantaneous",
            Self::I2t => "i2t",
            Self::Thermal => "thermal",
            Self::Formula => "formula",
            Self::Table => "table",
        }
    }

    /// The keys that a family uses, besides `family`, range limits and reset.
    const fn keys(self) -> &'static [&'static str] {
        match self {
            Self::Iec => &["shape", "tms"],
            Self::Ieee => &["shape", "tms", "td"],
            Self::Definite => &["delay"],
            Self::Instantaneous => &["within"],
            Self::I2t => &["k"],
            Self::Thermal => &["tau", "preload"],
            Self::Formula => &["tms", "k", "c", "alpha", "tr"],
            Self::Table => &["points", "tms"],
        }
    }
}

/// A characteristic: `{ family = "iec", shape = "very-inverse", tms = 0.3 }`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CurveForm {
    /// Where the characteristic comes from.
    family: Spannable<Family>,
    /// Name of the standard shape (iec, ieee).
    shape: Option<Text>,
    /// Time multiplier TMS, or time dial TD (iec, ieee, formula, table).
    tms: Option<Number>,
    /// Time dial TD, which is the multiplier under the name of IEEE C37.112 (ieee).
    td: Option<Number>,
    /// Longest operate time (instantaneous).
    within: Option<QuantityText<Time>>,
    /// Fixed delay (definite).
    delay: Option<QuantityText<Time>>,
    /// Constant k, as a time (formula, i2t).
    k: Option<QuantityText<Time>>,
    /// Constant c, as a time (formula).
    c: Option<QuantityText<Time>>,
    /// Exponent (formula).
    alpha: Option<Number>,
    /// Reset time at zero current and multiplier 1 (formula).
    tr: Option<QuantityText<Time>>,
    /// Heating time constant (thermal).
    tau: Option<QuantityText<Time>>,
    /// Current before the overload in multiples of pickup (thermal).
    preload: Option<QuantityText<Ratio>>,
    /// Points: `[["2 x", "8 s"], ["8 x", "2 s"]]` (table).
    points: Option<Spannable<Vec<PointForm>>>,
    /// Shortest operate time.
    minimum_time: Option<QuantityText<Time>>,
    /// Multiple below which the element does not operate.
    lower: Option<QuantityText<Ratio>>,
    /// Multiple above which the time stays the same.
    upper: Option<QuantityText<Ratio>>,
    /// `instant`, `curve` (IEEE reset characteristic), or a fixed time such as `200 ms`.
    reset: Option<Text>,
}

/// A point of a table: multiple of pickup and time.
type PointForm = (QuantityText<Ratio>, QuantityText<Time>);

/// A characteristic that stands alone, with its pickup.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct AloneForm {
    /// The characteristic.
    curve: CurveForm,
    /// The pickup.
    pickup: Option<QuantityText<Current>>,
}

impl document::Form for AloneForm {
    const KIND: &'static str = "curve";
}

impl CurveForm {
    /// Reads a text with a table `[curve]` alone, and a `pickup` where there is one.
    ///
    /// # Errors
    /// Every problem of the text.
    pub fn load_alone(source: &Source) -> Result<(Characteristic, Option<Current>), DocumentError> {
        document::load(source, |form: AloneForm, problems| {
            let curve = form.curve.read(problems);
            let pickup = form.pickup.and_then(|p| p.positive(problems));
            Some((curve?, pickup))
        })
    }

    /// The longest time in which an instantaneous element operates.
    pub fn within(&self, problems: &mut Problems) -> Option<Time> {
        let field = self.within.as_ref().filter(|_| *self.family.get() == Family::Instantaneous);
        field.and_then(|f| f.positive(problems))
    }

    /// The characteristic, or `None` with every problem noted.
    pub fn read(&self, problems: &mut Problems) -> Option<Characteristic> {
        let family = *self.family.get();
        self.refuse_foreign_keys(family, problems);
        let form = self.form(family, problems);
        let ratio = |field: &Option<QuantityText<Ratio>>, problems: &mut Problems| {
            field.as_ref().and_then(|f| f.positive(problems)).map(|r| r.value)
        };
        let (lower_limit, upper_limit) =
            (ratio(&self.lower, problems), ratio(&self.upper, problems));
        if let (Some(low), Some(high), Some(field)) = (lower_limit, upper_limit, &self.upper)
            && high <= low.max(1.0)
        {
            let message = "the upper range limit must lie above the lower one and above 1 x";
            problems.push(Problem::new(field.span(), message));
        }
        let minimum_time = self.minimum_time.as_ref().and_then(|f| f.positive(problems));
        let form = form?;
        let reset = self.reset_of(&form, problems);
        Some(Characteristic { form, minimum_time, lower_limit, upper_limit, reset })
    }

    fn refuse_foreign_keys(&self, family: Family, problems: &mut Problems) {
        let given: [(&str, Option<Range<usize>>); 12] = [
            ("shape", self.shape.as_ref().map(Field::span)),
            ("tms", self.tms.as_ref().map(Field::span)),
            ("td", self.td.as_ref().map(Field::span)),
            ("within", self.within.as_ref().map(Field::span)),
            ("delay", self.delay.as_ref().map(Field::span)),
            ("k", self.k.as_ref().map(Field::span)),
            ("c", self.c.as_ref().map(Field::span)),
            ("alpha", self.alpha.as_ref().map(Field::span)),
            ("tr", self.tr.as_ref().map(Field::span)),
            ("tau", self.tau.as_ref().map(Field::span)),
            ("preload", self.preload.as_ref().map(Field::span)),
            ("points", self.points.as_ref().map(Field::span)),
        ];
        for (key, span) in given {
            if let Some(span) = span.filter(|_| !family.keys().contains(&key)) {
                let (word, keys) = (family.word(), family.keys().join(", "));
                let help = if key == "td" && family.keys().contains(&"tms") {
                    format!("in family `{word}` the multiplier is called `tms`")
                } else {
                    format!("family `{word}` takes {keys}")
                };
                let message = format!("`{key}` does not belong to family `{word}`");
                problems.push(Problem::new(span, message).help(help));
            }
        }
    }

    fn form(&self, family: Family, problems: &mut Problems) -> Option<Form> {
        match family {
            Family::Iec | Family::Ieee => {
                let shape = self.standard_shape(family, problems);
                let multiplier = match (&self.tms, &self.td) {
                    (Some(_), Some(td)) if family == Family::Ieee => {
                        let message = "`tms` and `td` are the same multiplier";
                        problems.push(Problem::new(td.span(), message).help("keep one of them"));
                        None
                    }
                    (None, Some(td)) if family == Family::Ieee => Some(td),
                    _ => self.needed(&self.tms, "tms", problems),
                };
                let tms = multiplier.and_then(|n| n.positive(problems));
                Some(Form::Inverse { coefficients: shape?.coefficients, tms: tms? })
            }
            Family::Definite => {
                let delay = self.needed(&self.delay, "delay", problems)?.not_negative(problems)?;
                Some(Form::Definite { delay })
            }
            Family::Instantaneous => {
                self.needed(&self.within, "within", problems)?.positive(problems)?;
                Some(Form::Definite { delay: seconds(0.0) })
            }
            Family::I2t => {
                let at_pickup = self.needed(&self.k, "k", problems)?.positive(problems)?;
                Some(Form::SquaredCurrent { at_pickup })
            }
            Family::Thermal => {
                let tau = self.needed(&self.tau, "tau", problems)?.positive(problems);
                let preload = self.preload.as_ref().map_or(Some(0.0), |p| {
                    let value = p.not_negative(problems)?.value;
                    if value < 1.0 {
                        return Some(value);
                    }
                    let message = "the preload must lie below 1 x, else the element has operated";
                    problems.push(Problem::new(p.span(), message));
                    None
                });
                Some(Form::Thermal { tau: tau?, preload: preload? })
            }
            Family::Formula => {
                let k = self.needed(&self.k, "k", problems).and_then(|f| f.positive(problems));
                let alpha =
                    self.needed(&self.alpha, "alpha", problems).and_then(|f| f.positive(problems));
                let tms = self.tms.as_ref().map_or(Some(1.0), |n| n.positive(problems));
                let c = self.c.as_ref().map_or(Some(seconds(0.0)), |c| c.not_negative(problems));
                let tr = match &self.tr {
                    Some(tr) => Some(tr.positive(problems)?.si()),
                    None => None,
                };
                let coefficients =
                    Coefficients { k: k?.si(), c: c?.si(), alpha: alpha?, reset: tr };
                Some(Form::Inverse { coefficients, tms: tms? })
            }
            Family::Table => {
                let points = self.needed(&self.points, "points", problems)?;
                let tms = self.tms.as_ref().map_or(Some(1.0), |n| n.positive(problems));
                let mut read = Vec::new();
                for (multiple, time) in points.get() {
                    let (m, t) = (multiple.read(problems), time.read(problems));
                    read.push((m?.value, t?.si()));
                }
                match TimeTable::try_new(read) {
                    Ok(table) => Some(Form::Table { table, tms: tms? }),
                    Err(error) => {
                        problems.push(Problem::new(points.span(), error.to_string()));
                        None
                    }
                }
            }
        }
    }

    fn needed<'a, T>(
        &self,
        field: &'a Option<T>,
        key: &str,
        problems: &mut Problems,
    ) -> Option<&'a T> {
        if field.is_none() {
            let word = self.family.get().word();
            problems.push(Problem::new(
                self.family.span(),
                format!("a characteristic of family `{word}` needs `{key}`"),
            ));
        }
        field.as_ref()
    }

    fn standard_shape(&self, family: Family, problems: &mut Problems) -> Option<&'static Shape> {
        let written = self.needed(&self.shape, "shape", problems)?;
        let found = Shape::find(family.word(), written.as_str());
        if found.is_none() {
            let near = nearest(written.as_str(), Shape::names(family.word()));
            let message = format!("family `{}` has no shape `{}`", family.word(), written.as_str());
            problems.push(Problem::new(written.span(), message).did_you_mean(near, || {
                let all: Vec<&str> = Shape::names(family.word()).collect();
                format!("use one of {}", all.join(", "))
            }));
        }
        found
    }

    fn reset_of(&self, form: &Form, problems: &mut Problems) -> Reset {
        let Some(written) = &self.reset else { return Reset::Instant };
        let note = |problems: &mut Problems, message: String| {
            problems.push(
                Problem::new(written.span(), message)
                    .help("`reset` is `instant`, `curve`, or a time such as `200 ms`"),
            );
            Reset::Instant
        };
        match (written.as_str(), form) {
            ("instant", _) => Reset::Instant,
            (
                "curve",
                Form::Inverse { coefficients: Coefficients { reset: Some(tr), .. }, tms },
            ) => Reset::Curve(seconds(tr * tms)),
            ("curve", _) => note(problems, "this characteristic declares no reset curve".into()),
            (text, _) => match Quantity::parse(text).map(Quantity::get::<Time>) {
                Ok(Some(t)) if t.si() >= 0.0 => Reset::Delay(t),
                Err(error) => note(problems, error.to_string()),
                Ok(_) => note(problems, format!("`{text}` is no reset behaviour")),
            },
        }
    }
}
