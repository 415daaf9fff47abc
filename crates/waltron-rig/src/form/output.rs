//! Analog outputs in the rig file.

use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::injection::capability::{Ability, Channel};
use waltron_core::injection::measuring::Coupling;
use waltron_core::quantity;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{
    Angle, Current, Dimension, Frequency, Measure, Time, Voltage, degrees,
};
use waltron_core::text::document::{
    AccuracyText, AnyQuantityText, Field, Problem, Problems, QuantityText, Spannable, Text,
    optional,
};
use waltron_core::uncertainty::{Accuracy, Means};

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct CurrentForm {
    /// Its id: `ia`, `ib` or `ic` for the phases.
    pub(super) id: Text,
    /// What it is connected to, such as `primary current`; the id if not given.
    meaning: Option<Text>,
    /// The outputs that it is set together with, by a name such as `i2`; three of them as phases A, B, C.
    pub(super) group: Option<Text>,
    /// Its sockets on the rig, for the hook-up sheet; the id if not given.
    pub(super) terminal: Option<String>,
    /// The largest RMS value it puts out.
    range: QuantityText<Current>,
    /// Accuracy of what it puts out; `0.1 % or 1 mA` if not given.
    accuracy: Option<AccuracyText>,
    /// Accuracy of the angle that it puts out, such as `0.05 deg`; `0.1 deg` if not given.
    angle_accuracy: Option<QuantityText<Angle>>,
    /// `ac`, `dc`, or `ac-dc` for both; both if not given.
    kind: Option<CouplingForm>,
    /// The lowest and the highest frequency, such as `["15 Hz", "500 Hz"]`; any if not given.
    frequency: Option<Spannable<Vec<QuantityText<Frequency>>>>,
    /// The highest voltage that it drives its current with.
    compliance: Option<QuantityText<Voltage>>,
    /// The power that it gives at most, such as `200 VA`.
    power: Option<AnyQuantityText>,
    /// The longest that it puts anything out at once: of a source with a store, such as `"3 s"`.
    longest: Option<QuantityText<Time>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct VoltageForm {
    /// Its id: `va`, `vb` or `vc` for the phases.
    pub(super) id: Text,
    /// What it is connected to, such as `secondary voltage`; the id if not given.
    meaning: Option<Text>,
    /// The outputs that it is set together with, by a name such as `i2`; three of them as phases A, B, C.
    pub(super) group: Option<Text>,
    /// Its sockets on the rig, for the hook-up sheet; the id if not given.
    pub(super) terminal: Option<String>,
    /// The largest RMS value it puts out.
    range: QuantityText<Voltage>,
    /// Accuracy of what it puts out; `0.1 % or 10 mV` if not given.
    accuracy: Option<AccuracyText>,
    /// Accuracy of the angle that it puts out, such as `0.05 deg`; `0.1 deg` if not given.
    angle_accuracy: Option<QuantityText<Angle>>,
    /// `ac`, `dc`, or `ac-dc` for both; both if not given.
    kind: Option<CouplingForm>,
    /// The lowest and the highest frequency, such as `["15 Hz", "500 Hz"]`; any if not given.
    frequency: Option<Spannable<Vec<QuantityText<Frequency>>>>,
    /// The largest current that it gives.
    compliance: Option<QuantityText<Current>>,
    /// The power that it gives at most, such as `200 VA`.
    power: Option<AnyQuantityText>,
    /// The longest that it puts anything out at once: of a source with a store, such as `"3 s"`.
    longest: Option<QuantityText<Time>>,
}

/// What an output puts out, or a meter shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum CouplingForm {
    /// Alternating values.
    Ac,
    /// Direct values.
    Dc,
    /// Both.
    AcDc,
}

impl CouplingForm {
    pub(super) fn coupling(self) -> Coupling {
        match self {
            Self::Ac => Coupling::Ac,
            Self::Dc => Coupling::Dc,
            Self::AcDc => Coupling::Both,
        }
    }
}

/// What both kinds of output say of themselves besides their range.
struct Said<'f, C> {
    kind: Option<CouplingForm>,
    frequency: Option<&'f Spannable<Vec<QuantityText<Frequency>>>>,
    compliance: Option<&'f QuantityText<C>>,
    power: Option<&'f AnyQuantityText>,
    longest: Option<&'f QuantityText<Time>>,
}

impl<C: Measure> Said<'_, C> {
    fn read(&self, problems: &mut Problems) -> Option<Ability> {
        let frequency = match self.frequency {
            None => Some(None),
            Some(field) => match field.get().as_slice() {
                [low, high] => match (low.positive(problems), high.positive(problems)) {
                    (Some(low), Some(high)) if low < high => Some(Some((low, high))),
                    (Some(_), Some(_)) => {
                        let message = "the lowest frequency is not below the highest";
                        problems.push(Problem::new(field.span(), message));
                        None
                    }
                    _ => None,
                },
                _ => {
                    let problem = Problem::new(field.span(), "two frequencies are wanted");
                    problems.push(problem.help("write `frequency = [\"15 Hz\", \"500 Hz\"]`"));
                    None
                }
            },
        };
        let compliance = optional(self.compliance.map(|c| c.positive(problems).map(|c| c.si())));
        let power = self.power.map(|p| p.positive_of(Dimension::POWER, problems).map(|q| q.si));
        let longest = optional(self.longest.map(|t| t.positive(problems)));
        Some(Ability {
            coupling: self.kind.map_or(Coupling::Both, CouplingForm::coupling),
            frequency: frequency?,
            compliance: compliance?,
            power: optional(power)?,
            longest: longest?,
        })
    }
}

impl CurrentForm {
    pub(super) fn read(self, means: Means, problems: &mut Problems) -> Option<Channel<Current>> {
        let standard = Tolerance::larger_of(0.001, Current::from_si(0.001));
        let said = Said {
            kind: self.kind,
            frequency: self.frequency.as_ref(),
            compliance: self.compliance.as_ref(),
            power: self.power.as_ref(),
            longest: self.longest.as_ref(),
        };
        let ability = said.read(problems);
        let names = (&self.id, self.meaning.as_ref(), self.group.as_ref());
        let stated = Stated {
            accuracy: self.accuracy,
            angle: self.angle_accuracy,
            usual: Accuracy::from(standard).meaning(means),
        };
        channel(names, &self.range, stated, ability, problems)
    }
}

impl VoltageForm {
    pub(super) fn read(self, means: Means, problems: &mut Problems) -> Option<Channel<Voltage>> {
        let standard = Tolerance::larger_of(0.001, Voltage::from_si(0.01));
        let said = Said {
            kind: self.kind,
            frequency: self.frequency.as_ref(),
            compliance: self.compliance.as_ref(),
            power: self.power.as_ref(),
            longest: self.longest.as_ref(),
        };
        let ability = said.read(problems);
        let names = (&self.id, self.meaning.as_ref(), self.group.as_ref());
        let stated = Stated {
            accuracy: self.accuracy,
            angle: self.angle_accuracy,
            usual: Accuracy::from(standard).meaning(means),
        };
        channel(names, &self.range, stated, ability, problems)
    }
}

/// How well an output puts out what is asked for, as its file says.
struct Stated {
    accuracy: Option<AccuracyText>,
    angle: Option<QuantityText<Angle>>,
    /// Of its size, where the file does not say.
    usual: Accuracy,
}

fn channel<Q: Measure>(
    (id, meaning, group): (&Text, Option<&Text>, Option<&Text>),
    range: &QuantityText<Q>,
    stated: Stated,
    ability: Option<Ability>,
    problems: &mut Problems,
) -> Option<Channel<Q>> {
    let range = range.positive(problems);
    let Stated { accuracy: text, angle, usual } = stated;
    let read = |f: &AccuracyText| f.read(Q::DIMENSION, usual.means, problems);
    let accuracy = text.as_ref().map_or(Some(usual), read);
    let mut channel = Channel::new(id.as_str(), range?, accuracy?);
    let errs_beyond = channel.accuracy.most(channel.range.si()) > channel.range.si();
    if let Some(field) = text.filter(|_| errs_beyond) {
        let message =
            format!("it errs by more than its range of {}", quantity::text(channel.range));
        let problem = Problem::new(field.span(), message);
        problems.push(problem.help("accuracies read like `0.1 %`, `0.05 % + 1 mA`"));
    }
    channel.angle_accuracy =
        angle.map_or(Some(degrees(0.1)), |angle| angle.not_negative(problems))?;
    if let Some(meaning) = meaning {
        channel.meaning = meaning.as_str().into();
    }
    channel.group = group.map(|group| group.as_str().into());
    channel.ability = ability?;
    Some(channel)
}

/// Groups of outputs with where they were written first.
#[derive(Default)]
pub(super) struct Groups(Vec<(String, std::ops::Range<usize>)>);

/// Names that sequences have for other things.
const TAKEN: [&str; 10] = ["i", "v", "f", "df", "p", "q", "z", "k0", "off", "loop"];

impl Groups {
    pub(super) fn note(&mut self, group: Option<&Text>) {
        if let Some(group) = group
            && !self.0.iter().any(|(known, _)| known == group.as_str())
        {
            self.0.push((group.as_str().to_owned(), group.span()));
        }
    }

    /// A group's name is nothing else's, and its outputs are of one kind.
    pub(super) fn check(
        &self,
        currents: &[Channel<Current>],
        voltages: &[Channel<Voltage>],
        problems: &mut Problems,
    ) {
        for (name, span) in &self.0 {
            let of = |group: &Option<waltron_core::text::name::Name>| {
                group.as_ref().is_some_and(|group| *group == **name)
            };
            let both =
                currents.iter().any(|c| of(&c.group)) && voltages.iter().any(|c| of(&c.group));
            let is_id = currents.iter().any(|c| c.id == name.as_str())
                || voltages.iter().any(|c| c.id == name.as_str());
            let plain = |c: char| c.is_alphanumeric() || c == '_';
            let message = if both {
                format!("group `{name}` has currents and voltages")
            } else if is_id || TAKEN.contains(&name.as_str()) {
                format!("`{name}` is a name already")
            } else if name.is_empty() || !name.chars().all(plain) {
                format!("`{name}` is no name for a group: letters and digits only")
            } else {
                continue;
            };
            problems.push(Problem::new(span.clone(), message));
        }
    }
}
