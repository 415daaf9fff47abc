//! The asset file of a high-speed direct-current breaker.

use super::asset::{DcBreaker, Joint};
use crate::span::{self, Ends, SpanForm};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::{Asset, IdentityForm, Own, Rating, Ratings, Withstand};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Current, Dimension, Measure, Voltage};
use waltron_core::text::document::{
    DocumentError, Field, Form, Problem, Problems, QuantityText, Source, Spannable, Text,
    ToleranceText, load, optional,
};

/// A high-speed direct-current breaker.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DcBreakerForm {
    /// What it is and where it stands.
    asset: IdentityForm<KindForm>,
    /// What is written at its terminals, by what the rig connects to: `"main voltage" = "F1 and bus bar"`.
    terminals: Option<BTreeMap<String, String>>,
    /// What it is made for.
    ratings: RatingsForm,
    /// Its overcurrent release.
    release: ReleaseForm,
    /// Limits as the maker, or the operator, gives them.
    limits: Option<LimitsForm>,
    /// Contacts and joints whose resistance is measured, in the order of the current's way.
    joint: Option<Vec<JointForm>>,
}

impl Form for DcBreakerForm {
    const KIND: &'static str = "asset";
}

/// Kinds of breaker.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum KindForm {
    /// A high-speed direct-current breaker.
    DcBreaker,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Rated voltage.
    voltage: QuantityText<Voltage>,
    /// Rated current.
    current: QuantityText<Current>,
    /// The largest current that a test may drive through it; what the source can, if not given.
    most: Option<QuantityText<Current>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ReleaseForm {
    /// The current at which it is set to let go.
    setting: QuantityText<Current>,
    /// What that may be off by: `"5 %"`, `"3 % + 20 A"`; 5 % if not given.
    tolerance: Option<ToleranceText<Current>>,
}

#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct LimitsForm {
    /// From the current passing the setting to the contacts parting.
    opening_time: Option<Spannable<SpanForm>>,
    /// The largest current against which it closes and stays closed.
    making_current: Option<Spannable<SpanForm>>,
    /// By how much the levels of one rate of rise may differ.
    level_spread: Option<Spannable<SpanForm>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct JointForm {
    /// What it is called: `main contacts`, `upper joint`.
    id: Text,
    /// Between which its resistance lies; measured and not graded if not given.
    resistance: Option<Spannable<SpanForm>>,
}

/// What a setting may be off by where the file does not say, as a share.
const USUAL_TOLERANCE: f64 = 0.05;

impl DcBreakerForm {
    /// Reads the asset file of a high-speed direct-current breaker.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, |form: Self, problems| form.read(problems))
    }

    fn read(self, problems: &mut Problems) -> Option<Asset> {
        let (_, identity) = self.asset.read();
        let volts = self.ratings.voltage.positive(problems);
        let rated = self.ratings.current.positive(problems);
        let most = optional(self.ratings.most.as_ref().map(|m| m.positive(problems)));
        let setting = self.release.setting.positive(problems);
        let tolerance = match self.release.tolerance {
            Some(text) => text.read(problems),
            None => Some(Tolerance::larger_of(USUAL_TOLERANCE, Current::from_si(0.0))),
        };
        let limits = self.limits.unwrap_or_default();
        let mut span =
            |form: &Option<Spannable<SpanForm>>, dimension: Dimension| -> Option<Option<Ends>> {
                optional(form.as_ref().map(|form| span::read(form, dimension, false, problems)))
            };
        let opening = span(&limits.opening_time, Dimension::TIME);
        let making = span(&limits.making_current, Dimension::CURRENT);
        let spread = span(&limits.level_spread, Dimension::CURRENT);
        let mut joints: Vec<Joint> = Vec::new();
        for form in self.joint.iter().flatten() {
            let resistance = span(&form.resistance, Dimension::RESISTANCE)?;
            joints.push(Joint { name: form.id.as_str().to_owned(), resistance });
        }
        for (k, form) in self.joint.iter().flatten().enumerate() {
            let why = if form.id.as_str().is_empty() {
                "a joint has a name"
            } else if joints[..k]
                .iter()
                // Points are called by them.
                .any(|other| other.name.replace(' ', "-") == form.id.as_str().replace(' ', "-"))
            {
                "two joints have this name"
            } else {
                continue;
            };
            problems.push(Problem::new(form.id.span(), why));
        }
        let (setting, most) = (setting?, most?);
        if let (Some(most), Some(form)) = (most, &self.ratings.most)
            && most <= setting
        {
            let why = "no test could reach the setting: `most` lies below it";
            problems.push(Problem::new(form.span(), why));
        }
        let own = DcBreaker {
            rated_v: volts?.si(),
            rated_a: rated?.si(),
            setting,
            tolerance: tolerance?,
            opening_s: opening?,
            making_a: making?,
            spread_a: spread?,
            most_a: most.map(Measure::si),
            joints,
        };
        if own.band().0 <= 0.0 {
            let why = "with this tolerance any setting would do";
            problems.push(Problem::new(self.release.setting.span(), why));
        }
        let mut ratings = Ratings::unknown(None);
        let volts = Rating { value: Voltage::from_si(own.rated_v), duration: None };
        ratings.own_voltages.push(("main voltage".into(), Withstand::new(vec![volts])));
        let carried = Rating { value: Current::from_si(own.rated_a), duration: None };
        ratings.own_currents.push(("joint current".into(), Withstand::new(vec![carried])));
        let terminals = self.terminals.unwrap_or_default().into_iter();
        Some(Asset {
            kind: "dc-breaker",
            identity,
            ratings,
            elements: Vec::new(),
            assumed: Vec::new(),
            terminals: terminals.map(|(key, at)| (key.as_str().into(), at)).collect(),
            own: Own::new(own),
        })
    }
}
