//! The asset file of an instrument transformer.

use super::{InstrumentTransformer, Kind, Limits, Phase, Secondary, Tap};
use crate::instrument::analysis::{Class, Duty};
use crate::material::Material;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::IdentityForm;
use waltron_core::asset::{Asset, Own};
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{
    Current, Dimension, Frequency, Measure, Quantity, Ratio, Time, Voltage, significant,
};
use waltron_core::text::document::{
    AnyQuantityText, AnyToleranceText, DocumentError, Field, Form, Number, Problem, Problems,
    QuantityText, Source, Spannable, Text, load, optional,
};

/// A current or voltage transformer with its nameplate and tolerances.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InstrumentTransformerForm {
    /// What it is and where it stands.
    asset: IdentityForm<KindForm>,
    /// What is written at its terminals, by what the rig connects to: `"secondary voltage" = "1S1, 1S2"`.
    terminals: Option<BTreeMap<String, String>>,
    /// What holds for all of it.
    ratings: RatingsForm,
    /// Phases that stand side by side as one asset, with the same nameplate.
    phase: Option<Vec<PhaseForm>>,
    /// Cores with their secondary windings (current transformer).
    core: Option<Vec<SecondaryForm>>,
    /// Secondary windings (voltage transformer).
    winding: Option<Vec<SecondaryForm>>,
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
    /// Rated primary current, or voltage, of what gives none of its own; not known if not given.
    primary: Option<AnyQuantityText>,
    /// What it carries for ever, as a share of the rated value; `100 %` if not given.
    continuous: Option<QuantityText<Ratio>>,
    /// What the primary carries for a short time, as `{ current = "25 kA", for = "1 s" }`.
    short_time: Option<Spannable<ShortTimeForm>>,
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
struct PhaseForm {
    /// Its name: `A`.
    id: Text,
    /// Its serial number.
    serial: Option<String>,
}

/// A core, or a secondary winding; what stands here holds for its whole winding.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SecondaryForm {
    /// Its name; its number if not given.
    id: Option<Text>,
    /// Rated secondary current, or voltage.
    secondary: AnyQuantityText,
    /// Its terminals, such as `1S1-1S2`, where it has no taps.
    terminals: Option<Text>,
    /// What it is made of; copper if not given.
    material: Option<Material>,
    /// The temperature at which resistances are told; `75 degC` if not given.
    reference: Option<AnyQuantityText>,
    /// The largest voltage that may be put on the whole winding for a test; that of the rated burden if
    /// not given (current transformer).
    test_voltage: Option<QuantityText<Voltage>>,
    /// The largest current that the winding carries in a test; what it carries for ever if not given.
    test_current: Option<QuantityText<Current>>,
    /// Accuracy class, such as `5P20`, `0.2S`, `PX`, `C400`.
    class: Option<Text>,
    /// Rated burden, such as `10 VA`.
    burden: Option<AnyQuantityText>,
    /// Power factor of the burden; the standard's if not given.
    power_factor: Option<Number>,
    /// Rated continuous current of a measuring class, as a share of the rated one; `120 %` if not given.
    extended: Option<QuantityText<Ratio>>,
    /// Rated instrument security factor (measuring).
    security_factor: Option<Number>,
    /// Rated voltage factor (voltage transformer, protection).
    voltage_factor: Option<Number>,
    /// Rated knee-point e.m.f. (PX, PXR).
    knee: Option<QuantityText<Voltage>>,
    /// The largest exciting current there (PX, PXR).
    exciting_current: Option<QuantityText<Current>>,
    /// At which share of the rated knee point; `100 %` if not given.
    exciting_at: Option<QuantityText<Ratio>>,
    /// Rated resistance of the winding, or as its maker measured it, at the reference temperature.
    resistance: Option<AnyQuantityText>,
    /// Rated symmetrical short-circuit current factor (TPX, TPY, TPZ).
    symmetrical: Option<Number>,
    /// Rated transient dimensioning factor (TPX, TPY, TPZ).
    dimensioning: Option<Number>,
    /// Taps, each with its own ratio.
    tap: Option<Vec<TapForm>>,
}

/// A tap; what is not given is that of the winding, but for values that depend on its turns.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TapForm {
    /// Its terminals, such as `1S1-1S3`.
    terminals: Text,
    /// Rated primary current, or voltage; not known if not given.
    primary: Option<AnyQuantityText>,
    /// Turns of the primary at this ratio: 2 where its halves are in series; 1 if not given.
    primary_turns: Option<Number>,
    /// Accuracy class; `none` of a tap without one.
    class: Option<Text>,
    /// Rated burden.
    burden: Option<AnyQuantityText>,
    /// Rated instrument security factor.
    security_factor: Option<Number>,
    /// Rated knee-point e.m.f.
    knee: Option<QuantityText<Voltage>>,
    /// The largest exciting current there.
    exciting_current: Option<QuantityText<Current>>,
    /// Rated resistance of the winding, or as its maker measured it.
    resistance: Option<AnyQuantityText>,
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
        let primary = r.primary.as_ref().map(|p| p.positive_of(dimension, problems));
        let primary = optional(primary);
        let continuous =
            r.continuous.as_ref().map_or(Some(1.0), |c| c.positive(problems).map(|c| c.value));
        let short = r.short_time.as_ref().map(|s| {
            let form = s.get();
            Some((form.current.positive(problems)?, form.duration.positive(problems)?))
        });
        if let (Kind::Voltage, Some(field)) = (kind, &r.short_time) {
            let message = "`short_time` belongs to current transformers";
            problems.push(Problem::new(field.span(), message));
        }
        let phases = phases(self.phase.unwrap_or_default(), problems);
        let (own, foreign) = match kind {
            Kind::Current => (self.core, self.winding),
            Kind::Voltage => (self.winding, self.core),
        };
        if let Some(form) = foreign.iter().flatten().next() {
            let message = format!("a {} has `[[{}]]`", kind.word(), kind.core());
            problems.push(Problem::new(form.secondary.span(), message));
        }
        let forms = own.unwrap_or_default();
        if forms.is_empty() {
            let message = format!("a {} needs a table `[[{}]]`", kind.word(), kind.core());
            let help = format!("add `[[{}]]` with its `secondary`", kind.core());
            problems.push(Problem::new(r.frequency.span(), message).help(help));
            return None;
        }
        let of = Of { kind, dimension, primary: primary.flatten() };
        let mut secondaries: Vec<Option<Secondary>> = Vec::new();
        let mut names: Vec<String> = Vec::new();
        for (number, form) in forms.into_iter().enumerate() {
            if let Some(id) = form.id.as_ref().filter(|id| names.iter().any(|n| n == id.as_str())) {
                let message = format!("two of them are called `{}`", id.as_str());
                problems.push(Problem::new(id.span(), message));
            }
            names.push(form.id.as_ref().map_or((number + 1).to_string(), |id| id.as_str().into()));
            secondaries.push(form.read(names[number].clone(), of, problems));
        }
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
        let secondaries: Vec<Secondary> = secondaries.into_iter().collect::<Option<_>>()?;
        let mut own = InstrumentTransformer {
            kind,
            phases: phases?,
            secondaries,
            ratio_tolerance: ratio_tolerance?,
            resistance_tolerance: resistance_tolerance?,
            limits: Limits::default(),
        };
        let limits = Limits { continuous: continuous?, short: optional(short)? };
        own.limits = limits;
        let ratings = own.ratings(Some(frequency?));
        let terminals = self.terminals.unwrap_or_default().into_iter();
        Some(Asset {
            kind: own.kind.word(),
            identity,
            ratings,
            elements: Vec::new(),
            assumed,
            terminals: terminals.map(|(key, at)| (key.as_str().into(), at)).collect(),
            own: Own::new(own),
        })
    }
}

fn phases(forms: Vec<PhaseForm>, problems: &mut Problems) -> Option<Vec<Phase>> {
    let mut all: Vec<Phase> = Vec::new();
    for form in forms {
        let id = form.id.as_str();
        let wrong = match id {
            "" => Some("a phase needs a name".to_owned()),
            id if id.contains([' ', '/']) => Some(format!("`{id}` is no name for a phase")),
            id if all.iter().any(|p| p.id == id) => Some(format!("two phases are called `{id}`")),
            _ => None,
        };
        if let Some(message) = wrong {
            problems.push(Problem::new(form.id.span(), message));
            return None;
        }
        all.push(Phase { id: id.to_owned(), serial: form.serial });
    }
    Some(all)
}

/// What a core needs to know of the whole.
#[derive(Clone, Copy)]
struct Of {
    kind: Kind,
    dimension: Dimension,
    primary: Option<Quantity>,
}

fn positive(field: &Option<Number>, problems: &mut Problems) -> Option<Option<f64>> {
    optional(field.as_ref().map(|f| f.positive(problems)))
}

fn si<Q: Measure>(field: &Option<QuantityText<Q>>, problems: &mut Problems) -> Option<Option<f64>> {
    optional(field.as_ref().map(|f| f.positive(problems).map(Measure::si)))
}

fn si_of(
    field: &Option<AnyQuantityText>,
    dimension: Dimension,
    problems: &mut Problems,
) -> Option<Option<f64>> {
    optional(field.as_ref().map(|f| f.positive_of(dimension, problems).map(|q| q.si)))
}

fn class(kind: Kind, text: &Text, problems: &mut Problems) -> Option<Class> {
    let read = match kind {
        Kind::Current => Class::of_current(text.as_str()),
        Kind::Voltage => Class::of_voltage(text.as_str()),
    };
    read.map_err(|why| problems.push(Problem::new(text.span(), why))).ok()
}

impl SecondaryForm {
    fn read(self, id: String, of: Of, problems: &mut Problems) -> Option<Secondary> {
        let secondary = self.secondary.positive_of(of.dimension, problems);
        let reference = si_of(&self.reference, Dimension::TEMPERATURE, problems);
        let test_voltage = si(&self.test_voltage, problems);
        if let (Kind::Voltage, Some(field)) = (of.kind, &self.test_voltage) {
            let message = "`test_voltage` belongs to current transformers";
            problems.push(Problem::new(field.span(), message));
        }
        let test_current = si(&self.test_current, problems);
        let power_factor = positive(&self.power_factor, problems);
        if let (Some(Some(factor)), Some(field)) = (power_factor, &self.power_factor)
            && factor > 1.0
        {
            problems.push(Problem::new(field.span(), "a power factor lies between 0 and 1"));
        }
        let knee = si(&self.knee, problems);
        let exciting = si(&self.exciting_current, problems);
        let exciting_at =
            optional(self.exciting_at.as_ref().map(|f| f.positive(problems).map(|r| r.value)));
        let duty = [positive(&self.symmetrical, problems), positive(&self.dimensioning, problems)];
        let whole = Tap {
            terminals: self.terminals.as_ref().map_or_else(String::new, |t| t.as_str().to_owned()),
            primary: of.primary,
            primary_turns: 1.0,
            class: optional(self.class.as_ref().map(|c| class(of.kind, c, problems)))?,
            burden_va: si_of(&self.burden, Dimension::POWER, problems)?,
            power_factor: power_factor?,
            extended: optional(
                self.extended.as_ref().map(|f| f.positive(problems).map(|r| r.value)),
            )?
            .unwrap_or(1.2),
            security_factor: positive(&self.security_factor, problems)?,
            voltage_factor: positive(&self.voltage_factor, problems)?,
            knee_v: knee?,
            exciting: exciting?.map(|i| (i, exciting_at.flatten().unwrap_or(1.0))),
            resistance_ohm: si_of(&self.resistance, Dimension::RESISTANCE, problems)?,
            duty: match duty {
                [Some(Some(symmetrical)), Some(Some(dimensioning))] => {
                    Some(Duty { symmetrical, dimensioning })
                }
                _ => None,
            },
            test_voltage_v: test_voltage?,
            test_current_a: test_current?,
        };
        self.unused(of.kind, whole.class, problems);
        if let (Some(class), None, Some(text)) = (whole.class, whole.burden_va, &self.class)
            && class.needs_burden()
            && self.tap.iter().flatten().all(|tap| tap.burden.is_none())
        {
            let message = format!("class {class} holds at a rated burden, and none is given");
            problems.push(Problem::new(text.span(), message).help("add `burden`, as in \"15 VA\""));
        }
        let taps = match &self.tap {
            None => vec![whole],
            Some(forms) => {
                let taps = forms.iter().map(|form| form.read(&whole, of, problems));
                let taps: Vec<Tap> = taps.collect::<Option<_>>()?;
                add_up(forms, &taps, problems);
                taps
            }
        };
        let mut all = Secondary {
            id,
            secondary: secondary?,
            material: self.material.unwrap_or_default(),
            reference_k: reference?.unwrap_or(348.15),
            taps,
        };
        all.share_limits();
        Some(all)
    }
}

impl SecondaryForm {
    /// Keys that nothing would look at are a mistake: whoever wrote them counts on them.
    fn unused(&self, kind: Kind, class: Option<Class>, problems: &mut Problems) {
        let number = |field: &Option<Number>| field.as_ref().map(Field::span);
        let mut wrong = |span: Option<std::ops::Range<usize>>, message: &str| {
            if let Some(span) = span {
                problems.push(Problem::new(span, message));
            }
        };
        let pair = [number(&self.symmetrical), number(&self.dimensioning)];
        if let [Some(span), None] | [None, Some(span)] = pair.clone() {
            wrong(Some(span), "`symmetrical` and `dimensioning` belong together");
        }
        if self.knee.is_none() {
            let span = self.exciting_current.as_ref().map(Field::span);
            wrong(span, "an exciting current is told at a rated knee point: give `knee`");
        }
        if self.exciting_current.is_none() {
            let span = self.exciting_at.as_ref().map(Field::span);
            wrong(span, "`exciting_at` belongs to `exciting_current`");
        }
        let is_measuring = matches!(class, Some(Class::Measuring(_)) | None);
        if !is_measuring || kind == Kind::Voltage {
            wrong(number(&self.security_factor), "`security_factor` belongs to a measuring core");
            let span = self.extended.as_ref().map(Field::span);
            wrong(span, "`extended` belongs to a measuring core");
        }
        if !matches!(class, Some(Class::Transient(_))) {
            let [first, second] = pair;
            wrong(first.or(second), "a duty belongs to TPX, TPY and TPZ");
        }
        if kind == Kind::Current {
            wrong(number(&self.voltage_factor), "`voltage_factor` belongs to voltage transformers");
            return;
        }
        let spans = [
            self.knee.as_ref().map(Field::span),
            self.test_current.as_ref().map(Field::span),
            self.resistance.as_ref().map(Field::span),
        ];
        for span in spans {
            wrong(span, "this belongs to current transformers");
        }
    }
}

impl TapForm {
    fn read(&self, whole: &Tap, of: Of, problems: &mut Problems) -> Option<Tap> {
        let own_class = match &self.class {
            Some(text) if text.as_str() == "none" => Some(None),
            Some(text) => Some(Some(class(of.kind, text, problems)?)),
            None => None,
        };
        // What is rated by its knee point or by a voltage is rated at the whole winding.
        let by_turns = matches!(
            whole.class,
            Some(Class::KneePoint { .. } | Class::IeeeRelaying { .. } | Class::Transient(_))
        );
        let inherited = if by_turns { None } else { whole.class };
        let exciting = si(&self.exciting_current, problems)?;
        let primary =
            optional(self.primary.as_ref().map(|p| p.positive_of(of.dimension, problems)))?;
        let primary_turns = positive(&self.primary_turns, problems)?.unwrap_or(1.0);
        // The tap of the winding's own ampere-turns is the winding.
        let is_whole =
            primary.is_some() && primary.map(|p| p.si * primary_turns) == of.primary.map(|p| p.si);
        let of_whole = |value: Option<f64>| value.filter(|_| is_whole);
        Some(Tap {
            terminals: self.terminals.as_str().to_owned(),
            primary,
            primary_turns,
            class: own_class.unwrap_or(if is_whole { whole.class } else { inherited }),
            burden_va: si_of(&self.burden, Dimension::POWER, problems)?.or(whole.burden_va),
            security_factor: positive(&self.security_factor, problems)?.or(whole.security_factor),
            knee_v: si(&self.knee, problems)?.or(of_whole(whole.knee_v)),
            exciting: exciting.map(|i| (i, 1.0)).or(whole.exciting.filter(|_| is_whole)),
            resistance_ohm: si_of(&self.resistance, Dimension::RESISTANCE, problems)?
                .or(of_whole(whole.resistance_ohm)),
            ..whole.clone()
        })
    }
}

/// Taps between the same terminals, and ratios that contradict each other.
fn add_up(forms: &[TapForm], taps: &[Tap], problems: &mut Problems) {
    let mut known: Vec<(String, f64)> = Vec::new();
    let mut seen: Vec<(&str, f64)> = Vec::new();
    let mut left: Vec<(&TapForm, &Tap)> = forms.iter().zip(taps).collect();
    for (form, tap) in &left {
        let is_pair = tap.terminals.split_once('-').is_some_and(|(a, b)| {
            let (a, b) = (a.trim(), b.trim());
            !a.is_empty() && !b.is_empty() && a != b && !b.contains('-')
        });
        if !is_pair || tap.terminals.contains([' ', '/']) {
            let message =
                format!("`{}` is no tap: write two terminals as `1S1-1S3`", tap.terminals);
            problems.push(Problem::new(form.terminals.span(), message));
            return;
        }
        if seen.contains(&(tap.terminals.as_str(), tap.primary_turns)) {
            let message = format!("the tap {} is there twice", tap.terminals);
            problems.push(Problem::new(form.terminals.span(), message));
        }
        seen.push((&tap.terminals, tap.primary_turns));
    }
    // Each tap tells how far apart its terminals are; one after the other finds its place.
    while !left.is_empty() {
        let place = |name: &str| known.iter().find(|(n, _)| n == name).map(|(_, at)| *at);
        let next = left.iter().position(|(_, tap)| {
            let (a, b) = tap.terminals.split_once('-').unwrap_or_default();
            place(a).is_some() || place(b).is_some()
        });
        let (form, tap) = left.remove(next.unwrap_or(0));
        let Some(rated) = tap.span() else { continue };
        let (a, b) = tap.terminals.split_once('-').unwrap_or_default();
        match (place(a), place(b)) {
            (None, None) => known.extend([(a.to_owned(), 0.0), (b.to_owned(), rated)]),
            (Some(at), None) => known.push((b.to_owned(), at + rated)),
            (None, Some(at)) => known.push((a.to_owned(), at - rated)),
            (Some(from), Some(to)) if (to - from - rated).abs() > rated * 0.005 => {
                let message = format!(
                    "the taps do not add up: by the others, {} has {}, not {}",
                    tap.terminals,
                    significant(to - from, 5),
                    significant(rated, 5)
                );
                problems.push(Problem::new(form.terminals.span(), message));
            }
            _ => {}
        }
    }
}

impl Secondary {
    /// A voltage on a part of a winding induces more on the whole of it, which is what its insulation
    /// withstands: each tap gets its share.
    fn share_limits(&mut self) {
        let Some(most) = self.whole().span() else { return };
        for tap in &mut self.taps {
            if let (Some(volts), Some(own)) = (tap.test_voltage_v, tap.span()) {
                tap.test_voltage_v = Some(volts * own / most);
            }
        }
    }
}
