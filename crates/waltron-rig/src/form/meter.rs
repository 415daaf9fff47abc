//! Measuring inputs and switches in the rig file.

use super::output::CouplingForm;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::injection::capability::Switch;
use waltron_core::injection::measuring::{Coupling, Meter};
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Angle, Dimension, Frequency};
use waltron_core::text::document::{
    AccuracyText, AnyQuantityText, AnyToleranceText, Problems, QuantityText, Text, optional,
};
use waltron_core::uncertainty::{Accuracy, Means};

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct MeterForm {
    /// Its id on the rig, such as `M1`.
    pub(super) id: Text,
    /// What it is connected to, such as `primary voltage`; readings are called by it.
    pub(super) meaning: Text,
    /// Its sockets on the rig, for the hook-up sheet; the id if not given.
    pub(super) terminal: Option<String>,
    /// A current or a voltage.
    measures: MeasuresForm,
    /// The largest value that it can show: RMS, or direct of either sign.
    range: AnyQuantityText,
    /// Accuracy of its values, such as `0.05 % + 1 mV`; `0.1 %` if not given.
    accuracy: Option<AccuracyText>,
    /// Accuracy of its angles, such as `3 arcmin`; `0.1 deg` if not given.
    angle_accuracy: Option<QuantityText<Angle>>,
    /// By how much its values scatter from look to look and from sample to sample, as a standard deviation: `0.01 %`
    /// of the value, or an amount; not at all if not given.
    noise: Option<AnyToleranceText>,
    /// `ac`, `dc`, or `ac-dc` for both; both if not given.
    kind: Option<CouplingForm>,
    /// The highest frequency that it shows.
    bandwidth: Option<QuantityText<Frequency>>,
}

/// What a measuring input measures.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum MeasuresForm {
    /// In A.
    Current,
    /// In V.
    Voltage,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct SwitchForm {
    /// Its id on the rig, such as `BO1`.
    pub(super) id: Text,
    /// Its sockets on the rig, for the hook-up sheet; the id if not given.
    pub(super) terminal: Option<String>,
    /// What its closing does, such as `close command`.
    pub(super) meaning: Text,
}

impl MeterForm {
    pub(super) fn read(self, means: Means, problems: &mut Problems) -> Option<Meter> {
        let dimension = match self.measures {
            MeasuresForm::Current => Dimension::CURRENT,
            MeasuresForm::Voltage => Dimension::VOLTAGE,
        };
        let range = self.range.positive_of(dimension, problems);
        let usual = AnyTolerance::symmetric(dimension, 0.001, 0.0);
        let usual = Accuracy::limit(usual).meaning(means);
        let accuracy = self.accuracy.map_or(Some(usual), |a| a.read(dimension, means, problems));
        let noise = optional(self.noise.map(|noise| noise.read(dimension, problems)));
        let angle = self.angle_accuracy.map_or_else(
            || Some(waltron_core::quantity::degrees(0.1)),
            |angle| angle.not_negative(problems),
        );
        let bandwidth = self.bandwidth.map(|b| b.positive(problems));
        Some(Meter {
            id: self.id.as_str().into(),
            meaning: self.meaning.as_str().into(),
            dimension,
            range: range?.si,
            accuracy: accuracy?,
            angle_accuracy: angle?,
            noise: noise?,
            coupling: self.kind.map_or(Coupling::Both, CouplingForm::coupling),
            bandwidth: optional(bandwidth)?,
        })
    }
}

impl SwitchForm {
    pub(super) fn read(&self) -> Switch {
        Switch { id: self.id.as_str().into(), meaning: self.meaning.as_str().into() }
    }
}
