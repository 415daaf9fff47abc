//! The asset file of relays and supplies.

mod element;
mod ratings;
mod tolerance;

use crate::family::{Relay, Supply};
use crate::overcurrent::Tolerances;
use element::ElementForm;
use ratings::RatingsForm;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use tolerance::ToleranceForm;
use waltron_core::asset::IdentityForm;
use waltron_core::asset::{Asset, Element, Own};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Ratio, amperes, seconds};
use waltron_core::text::document::{
    DocumentError, Field, Form, Problem, Problems, Source, Spannable, load,
};

/// An asset: the thing under test with nameplate, ratings, tolerances and settings.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AssetForm {
    /// What it is and where it stands.
    asset: IdentityForm<Kind>,
    /// What is written at its terminals, by rig channel or contact: `ia = "X1:1, X1:2"`,
    /// `trip = "X2:5, X2:6"`. For the hook-up sheet.
    terminals: Option<BTreeMap<String, String>>,
    /// Nominal values and withstand.
    ratings: Spannable<RatingsForm>,
    /// What measured values are graded against.
    tolerance: Option<ToleranceForm>,
    /// The protection elements with their settings.
    element: Option<Vec<ElementForm>>,
}

impl Form for AssetForm {
    const KIND: &'static str = "asset";
}

/// Kinds of asset that can be tested.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    /// A protection relay.
    Relay,
    /// An auxiliary supply.
    Supply,
}

impl Kind {
    fn word(self) -> &'static str {
        match self {
            Self::Relay => "relay",
            Self::Supply => "supply",
        }
    }
}

impl AssetForm {
    /// Reads an asset file.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, Self::read)
    }

    fn read(self, problems: &mut Problems) -> Option<Asset> {
        let (kind, identity) = self.asset.read();
        let span = self.ratings.span();
        let ratings = self.ratings.into_inner().read(problems)?;
        if kind == Kind::Relay && ratings.frequency.is_none() {
            let problem = Problem::new(span, "the relay's ratings have no `frequency`");
            problems.push(
                problem.help("add its nominal one to [ratings], as in `frequency = \"50 Hz\"`"),
            );
        }
        let defaults = Tolerances {
            current: Tolerance::larger_of(0.05, amperes(0.0)),
            time: Tolerance::larger_of(0.05, seconds(0.04)),
            angle: None,
            reset_ratio: Tolerance::larger_of(0.03, Ratio::default()),
        };
        let given = self.tolerance.unwrap_or_default();
        if let Some(pickup) = &given.pickup {
            let message =
                "`pickup` belongs to one element: what it is a tolerance of depends on it";
            problems.push(Problem::new(pickup.span(), message).help(
                "write it into the element's own `tolerance`; `current` is that of all overcurrent pickups",
            ));
        }
        let mut assumed = given.assumed(&defaults);
        let tolerances = given.over(&defaults, problems);
        let mut elements: Vec<Element> = Vec::new();
        let mut ids: Vec<String> = Vec::new();
        for form in self.element.unwrap_or_default() {
            let id = form.id.as_str().to_owned();
            if ids.contains(&id) {
                let message = format!("element `{id}` is there twice");
                problems.push(Problem::new(form.id.span(), message));
            }
            ids.push(id);
            assumed.extend(form.assumed());
            if let Some(element) = form.read(&tolerances, problems) {
                problems.settings.extend(element.named());
                elements.push(element);
            }
        }
        if elements.is_empty() {
            // Sequences say what they require themselves.
            assumed.clear();
        }
        let terminals = self.terminals.unwrap_or_default().into_iter();
        let terminals = terminals.map(|(key, at)| (key.as_str().into(), at)).collect();
        let own = match kind {
            Kind::Relay => Own::new(Relay),
            Kind::Supply => Own::new(Supply),
        };
        let kind = kind.word();
        Some(Asset { kind, identity, ratings, elements, terminals, assumed, own })
    }
}
