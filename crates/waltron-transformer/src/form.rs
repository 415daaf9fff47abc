//! The asset file of an instrument transformer.

use crate::asset::{InstrumentTransformer, Kind, Material, Winding};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use waltron_core::asset::IdentityForm;
use waltron_core::asset::{Asset, Rating, Ratings, Withstand};
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{
    Current, Dimension, Frequency, Measure, Quantity, Ratio, Time, Voltage,
};
use waltron_core::text::document::{
    AnyQuantityText, AnyToleranceText, DocumentError, Field, Form, Problem, Problems, QuantityText,
    Source, Spannable, load,
};
use waltron_core::text::name::Name;

/// A current or voltage transformer with its nameplate and tolerances.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InstrumentTransformerForm {
    /// What it is and where it stands.
    asset: IdentityForm<KindForm>,
    /// What is written at its terminals, by what the rig connects to: `"secondary voltage" = "1S1, 1S2"`.
    terminals: Option<BTreeMap<String, String>>,
    /// The nameplate.
    ratings: RatingsForm,
    /// The secondary winding.
    winding: Option<WindingForm>,
    /// What measured values are graded against.
    tolerance: Option<ToleranceForm>,
}

impl Form for InstrumentTransformerForm {
    const KIND: &'static str = "asset";
}

/// Kinds of instrument transformer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum KindForm {
    /// A current transformer.
    CurrentTransformer,
    /// An inductive voltage transformer.
    VoltageTransformer,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Rated frequency.
    frequency: QuantityText<Frequency>,
    /// Rated primary current, or voltage.
    primary: AnyQuantityText,
    /// Rated secondary current, or voltage.
    secondary: AnyQuantityText,
    /// Rated burden, such as `10 VA`.
    burden: Option<AnyQuantityText>,
    /// What it carries for ever, as a share of the rated value; `100 %` if not given.
    continuous: Option<QuantityText<Ratio>>,
    /// What the primary carries for a short time, as `{ current = "25 kA", for = "1 s" }`.
    short_time: Option<Spannable<ShortTimeForm>>,
    /// The largest voltage that may be put on the secondary for a test; that of the rated burden if not
    /// given (current transformer).
    test_voltage: Option<QuantityText<Voltage>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ShortTimeForm {
    /// The current.
    current: QuantityText<Current>,
    /// For how long.
    #[serde(rename = "for")]
    duration: QuantityText<Time>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WindingForm {
    /// Its resistance at the reference temperature, as its maker measured it.
    resistance: Option<AnyQuantityText>,
    /// The temperature at which resistances are told; `75 degC` if not given.
    reference: Option<AnyQuantityText>,
    /// What it is made of; copper if not given.
    material: Option<MaterialForm>,
}

/// What a winding is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum MaterialForm {
    /// Copper.
    Copper,
    /// Aluminium.
    Aluminium,
}

#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ToleranceForm {
    /// Of the ratio; `0.5 %` if not given.
    ratio: Option<AnyToleranceText>,
    /// Of the winding's resistance; `5 %` if not given.
    resistance: Option<AnyToleranceText>,
}

/// The tolerances that are taken where the file gives none.
const USUAL: [(&str, &str); 2] = [("ratio", "0.5 %"), ("resistance", "5 %")];

impl InstrumentTransformerForm {
    /// Reads the asset file of an instrument transformer.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, Self::read)
    }

    fn read(self, problems: &mut Problems) -> Option<Asset> {
        let (kind, identity) = self.asset.read();
        let (kind, dimension) = match kind {
            KindForm::CurrentTransformer => (Kind::Current, Dimension::CURRENT),
            KindForm::VoltageTransformer => (Kind::Voltage, Dimension::VOLTAGE),
        };
        let r = &self.ratings;
        let frequency = r.frequency.positive(problems);
        let primary = r.primary.positive_of(dimension, problems);
        let secondary = r.secondary.positive_of(dimension, problems);
        let burden = r.burden.as_ref().map(|b| b.positive_of(Dimension::POWER, problems));
        let continuous =
            r.continuous.as_ref().map_or(Some(1.0), |c| c.positive(problems).map(|c| c.value));
        let test_voltage = r.test_voltage.as_ref().map(|v| v.positive(problems));
        if let (Kind::Voltage, Some(field)) = (kind, &r.test_voltage) {
            let message = "`test_voltage` belongs to current transformers";
            problems.push(Problem::new(field.span(), message));
        }
        let short = r.short_time.as_ref().map(|s| {
            let form = s.get();
            Some((form.current.positive(problems)?, form.duration.positive(problems)?))
        });
        if let (Kind::Voltage, Some(field)) = (kind, &r.short_time) {
            let message = "`short_time` belongs to current transformers";
            problems.push(Problem::new(field.span(), message));
        }
        let winding = self.winding;
        let resistance = winding.as_ref().and_then(|w| {
            w.resistance.as_ref().map(|r| r.positive_of(Dimension::RESISTANCE, problems))
        });
        let reference = winding.as_ref().and_then(|w| {
            w.reference.as_ref().map(|t| t.positive_of(Dimension::TEMPERATURE, problems))
        });
        let material = match winding.as_ref().and_then(|w| w.material) {
            Some(MaterialForm::Aluminium) => Material::Aluminium,
            Some(MaterialForm::Copper) | None => Material::Copper,
        };
        let given = self.tolerance.unwrap_or_default();
        let mut assumed = Vec::new();
        let mut tolerance = |text: Option<&AnyToleranceText>, (name, usual): (&str, &str), of| {
            if text.is_none() {
                assumed.push(format!("{name} {usual}"));
            }
            match text {
                Some(text) => text.read(of, problems),
                None => AnyTolerance::parse(usual, of).ok(),
            }
        };
        let ratio_tolerance = tolerance(given.ratio.as_ref(), USUAL[0], Dimension::NUMBER);
        let resistance_tolerance =
            tolerance(given.resistance.as_ref(), USUAL[1], Dimension::RESISTANCE);
        let own = InstrumentTransformer {
            kind,
            primary: primary?,
            secondary: secondary?,
            burden_va: lifted(burden)?.map(|q: Quantity| q.si),
            test_voltage_v: lifted(test_voltage)?.map(Measure::si),
            winding: lifted(resistance)?.map(|q: Quantity| Winding { resistance_ohm: q.si }),
            material,
            reference_k: lifted(reference)?.map_or(348.15, |q: Quantity| q.si),
            ratio_tolerance: ratio_tolerance?,
            resistance_tolerance: resistance_tolerance?,
        };
        let ratings = ratings(&own, Some(frequency?), continuous?, lifted(short)?);
        let terminals = self.terminals.unwrap_or_default().into_iter();
        Some(Asset {
            kind: own.kind.word(),
            identity,
            ratings,
            elements: Vec::new(),
            assumed,
            terminals: terminals.map(|(key, at)| (key.as_str().into(), at)).collect(),
            own: Some(Arc::new(own)),
        })
    }
}

/// An optional value that was read: `None` only where reading it failed.
fn lifted<T>(read: Option<Option<T>>) -> Option<Option<T>> {
    waltron_core::text::document::optional(read)
}

/// What each connection withstands, from the nameplate. What has no rating of its own gets that of the
/// secondary, the smallest one.
fn ratings(
    own: &InstrumentTransformer,
    frequency: Option<Frequency>,
    continuous: f64,
    short: Option<(Current, Time)>,
) -> Ratings {
    fn steady<Q: Measure>(si: f64) -> Withstand<Q> {
        Withstand::new(vec![Rating { value: Q::from_si(si), duration: None }])
    }
    let name = |name: &str| Name::from(name);
    let mut ratings = Ratings::unknown(frequency);
    let (primary, secondary) = (own.primary.si * continuous, own.secondary.si * continuous);
    match own.kind {
        Kind::Current => {
            let mut of_primary = vec![Rating { value: Current::from_si(primary), duration: None }];
            of_primary.extend(short.map(|(value, time)| Rating { value, duration: Some(time) }));
            ratings.current = Some(Current::from_si(own.secondary.si));
            ratings.currents = steady(secondary);
            ratings.own_currents = vec![
                (name("primary current"), Withstand::new(of_primary)),
                (name("secondary current"), steady(secondary)),
                (name("burden current"), steady(secondary)),
            ];
            // Without a word about it, what the rated burden puts there in service.
            let in_service = own.burden_va.unwrap_or(1.0) / own.secondary.si;
            ratings.voltages = steady(own.test_voltage_v.unwrap_or(in_service));
        }
        Kind::Voltage => {
            ratings.voltage = Some(Voltage::from_si(own.secondary.si));
            ratings.voltages = steady(secondary);
            ratings.own_voltages = vec![
                (name("primary voltage"), steady(primary)),
                (name("secondary voltage"), steady(secondary)),
            ];
            let amps = own.burden_va.unwrap_or(1.0) / own.secondary.si;
            ratings.currents = steady(amps.max(0.1));
        }
    }
    ratings
}
