//! What a sequence knows before it runs: asset, rig, settings, files.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Property, Signal};
use waltron_core::quantity::Frequency;
use waltron_core::quantity::{Dimension, Measure};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, ExprKind, Range as Bounds, Settings, Type, Value};
use waltron_core::text::name::{Name, nearest};

/// A recorded file that sequences can play.
#[derive(Clone, Debug, PartialEq)]
pub struct RecordedFile {
    /// Samples a second.
    pub rate_hz: f64,
    /// Frequency of the power system.
    pub frequency_hz: f64,
    /// Its channels.
    pub channels: Vec<RecordedChannel>,
}

/// A channel of a recorded file, in A or V.
#[derive(Clone, Debug, PartialEq)]
pub struct RecordedChannel {
    /// Its name in the file.
    pub id: String,
    /// Amperes, volts, or something else.
    pub dimension: Option<Dimension>,
    /// The samples.
    pub samples: Arc<Vec<f64>>,
}

/// What a sequence knows before it runs.
#[derive(Clone, Debug)]
pub struct Context {
    /// The test's id.
    pub test: Name,
    /// The asset with its settings.
    pub asset: Asset,
    /// What the rig can do and what is wired to it.
    pub capability: Capability,
    /// Names from the asset and the plan.
    pub settings: Settings,
    /// Files that the sequence plays.
    pub recordings: HashMap<String, Arc<RecordedFile>>,
    /// Seed of what is left to chance, such as a random inception angle.
    pub seed: u64,
    /// The script's text.
    pub text: Arc<str>,
    /// The contacts that conditions can name: wired ones, and those of the asset.
    contacts: Vec<Name>,
}

impl Context {
    /// What a script knows of an asset on a rig: the asset's settings by name, no recordings, and
    /// seed 1. The fields can be changed before it is used.
    pub fn new(test: Name, asset: Asset, capability: Capability, text: Arc<str>) -> Self {
        let mut contacts: Vec<Name> = capability.inputs.iter().map(|i| i.meaning.clone()).collect();
        for name in asset.contacts() {
            if !contacts.contains(&name) {
                contacts.push(name);
            }
        }
        let settings = asset.settings();
        let recordings = HashMap::new();
        Self { test, asset, capability, settings, recordings, seed: 1, text, contacts }
    }

    /// The contacts that conditions can name.
    pub(super) fn contacts(&self) -> &[Name] {
        &self.contacts
    }

    pub(super) fn is_contact(&self, name: &str) -> bool {
        self.contacts.iter().any(|c| c == name)
    }

    /// The complaint about an output that is not there, with its way out.
    pub(super) fn no_channel(&self, name: &str) -> (String, Option<String>) {
        let currents = self.capability.currents.iter().map(|c| c.id.as_str());
        let voltages = self.capability.voltages.iter().map(|c| c.id.as_str());
        let mut all: Vec<&str> = currents.chain(voltages).collect();
        all.extend(["i", "v", "f", "df"]);
        let groups = self.capability.currents.iter().filter_map(|c| c.group.as_ref());
        let of_voltages = self.capability.voltages.iter().filter_map(|c| c.group.as_ref());
        for group in groups.chain(of_voltages).map(Name::as_str) {
            if !all.contains(&group) {
                all.push(group);
            }
        }
        let owner = name.split('.').next().unwrap_or(name);
        let help = match nearest(owner, all.iter().copied()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("outputs are {}", all.join(", ")),
        };
        (format!("the rig has no output `{owner}`"), Some(help))
    }

    /// Where a line, from 1, begins in the script.
    pub(super) fn offset(&self, line: usize) -> usize {
        let ends = self.text.match_indices('\n').map(|(at, _)| at + 1);
        std::iter::once(0).chain(ends).nth(line.saturating_sub(1)).unwrap_or(0)
    }

    /// What a measured value can be.
    pub(super) fn bounds_of(&self, probe: &Probe) -> Value {
        let dimension = probe.dimension;
        let bounds = |low, high| Value::Range(Bounds { low, high, dimension });
        let of = |signal: &Signal| -> Option<f64> {
            let name = signal.name()?;
            if let Some(meter) = self.capability.meter(name.as_str()) {
                return Some(meter.range + meter.accuracy.most(meter.range));
            }
            let current = self.capability.currents.iter().find(|c| c.id == *name);
            let voltage = self.capability.voltages.iter().find(|c| c.id == *name);
            let most = current.map(|c| c.range.si() + c.accuracy.most(c.range.si()));
            most.or_else(|| voltage.map(|c| c.range.si() + c.accuracy.most(c.range.si())))
        };
        match probe.what {
            Property::Value => {
                match self.capability.reading(probe.of.as_str()).and_then(|r| r.most) {
                    Some(most) => bounds(-most, most),
                    None => Value::later(Type::Quantity(dimension)),
                }
            }
            Property::Rms | Property::Magnitude => {
                bounds(0.0, of(&probe.of).unwrap_or(f64::INFINITY))
            }
            Property::Dc => match of(&probe.of) {
                Some(most) => bounds(-most, most),
                None => Value::later(Type::Quantity(dimension)),
            },
            _ => Value::later(Type::Quantity(dimension)),
        }
    }

    /// The line, from 1, of a place in the script.
    pub(super) fn line(&self, offset: usize) -> usize {
        self.text[..offset.min(self.text.len())].matches('\n').count() + 1
    }

    /// An element's or contact's name as an argument: `51P`, or `51V`, which reads as a quantity.
    pub(super) fn name_argument(&self, expr: &Expr) -> Option<Name> {
        match &expr.kind {
            ExprKind::Name(name) => Some(name.clone()),
            ExprKind::Quantity { .. } => self.text.get(expr.span.clone()).map(Name::from),
            _ => None,
        }
    }

    /// What an expression measures, if it is one measured value.
    ///
    /// # Errors
    /// A property of something that is no output, a harmonic without its order.
    pub(super) fn probe(&self, expr: &Expr) -> Result<Option<Probe>, Problem> {
        match &expr.kind {
            ExprKind::Name(name) => Ok(self.capability.reading(name.as_str()).map(|r| Probe {
                of: name.into(),
                what: Property::Value,
                dimension: r.dimension,
            })),
            ExprKind::Call(name, args) => self.property(name.as_str(), args, &expr.span),
            _ => Ok(None),
        }
    }

    fn property(
        &self,
        name: &str,
        args: &[Expr],
        span: &Range<usize>,
    ) -> Result<Option<Probe>, Problem> {
        let what = match name {
            "active_power" => Property::ActivePower,
            "reactive_power" => Property::ReactivePower,
            _ => match Property::NAMES.iter().find(|(n, _)| *n == name) {
                Some((_, what)) => *what,
                None => return Ok(None),
            },
        };
        let usage = match what {
            Property::Harmonic(_) | Property::HarmonicAngle(_) => format!("write `{name}(ia, 3)`"),
            Property::ActivePower | Property::ReactivePower => format!("write `{name}()`"),
            _ => format!("write `{name}(ia)`"),
        };
        let wrong = |message: String| Problem::new(span.clone(), message).help(usage.clone());
        if matches!(what, Property::ActivePower | Property::ReactivePower) {
            if !args.is_empty() {
                return Err(wrong(format!("`{name}` takes nothing in its brackets")));
            }
            return Ok(Some(Probe { of: "".into(), what, dimension: Dimension::POWER }));
        }
        let Some(of) = args.first() else {
            return Err(wrong(format!("`{name}` takes an output or a meter")));
        };
        let of = self.signal(of)?.ok_or_else(|| {
            wrong(format!("`{name}` takes an output, a meter, or what is worked out from two"))
        })?;
        let order = match (what, args.get(1)) {
            (Property::Harmonic(_) | Property::HarmonicAngle(_), Some(order)) => match order.kind {
                ExprKind::Quantity { value, .. }
                    if value.dimension == Dimension::NUMBER
                        && value.si.fract() == 0.0
                        && (2.0..=50.0).contains(&value.si) =>
                {
                    value.si as u32
                }
                _ => {
                    return Err(wrong(
                        "a harmonic's order is a whole number from 2 to 50".to_owned(),
                    ));
                }
            },
            (Property::Harmonic(_) | Property::HarmonicAngle(_), None) => {
                return Err(wrong(format!("`{name}` takes an output or a meter, and the order")));
            }
            (_, Some(_)) => return Err(wrong(format!("`{name}` takes one output or meter"))),
            (_, None) => 0,
        };
        let what = match what {
            Property::Harmonic(_) => Property::Harmonic(order),
            Property::HarmonicAngle(_) => Property::HarmonicAngle(order),
            other => other,
        };
        let mut probe = Probe { of, what, dimension: Dimension::NUMBER };
        self.capability.restore(&mut probe);
        match self.capability.why_unmeasured(&probe) {
            Some(why) => Err(Problem::new(args[0].span.clone(), why)),
            None => Ok(Some(probe)),
        }
    }

    /// A signal as an argument: an output, a meter, or what is worked out from two; `None` where it is
    /// something else.
    ///
    /// # Errors
    /// A name that is neither output nor meter, a way of working out with too few or too many.
    fn signal(&self, expr: &Expr) -> Result<Option<Signal>, Problem> {
        let signal = Signal::of(expr, &|expr| self.name_argument(expr))?;
        let Some(signal) = signal else { return Ok(None) };
        let unknown =
            signal.names().into_iter().find(|n| self.capability.dimension_of(n).is_none());
        if let Some(name) = unknown {
            let meters = self.capability.meters.iter().map(|m| m.meaning.as_str());
            let (message, help) = match nearest(name.as_str(), meters) {
                Some(near) => {
                    let help = format!("did you mean `{near}`?");
                    (format!("the rig has no meter `{name}`"), Some(help))
                }
                None => self.no_channel(name.as_str()),
            };
            return Err(Problem { help, ..Problem::new(expr.span.clone(), message) });
        }
        Ok(Some(signal))
    }

    /// Every measured value that an expression uses.
    ///
    /// # Errors
    /// As [`Context::probe`].
    pub(super) fn probes(&self, expr: &Expr) -> Result<Vec<Probe>, Problem> {
        if let Some(probe) = self.probe(expr)? {
            return Ok(vec![probe]);
        }
        let inner: Vec<&Expr> = match &expr.kind {
            ExprKind::Unary(_, inner) => vec![&**inner],
            ExprKind::Binary(_, a, b) => vec![&**a, &**b],
            ExprKind::Call(_, args) | ExprKind::List(args) => args.iter().collect(),
            _ => Vec::new(),
        };
        let mut all: Vec<Probe> = Vec::new();
        for part in inner {
            for probe in self.probes(part)? {
                if !all.contains(&probe) {
                    all.push(probe);
                }
            }
        }
        Ok(all)
    }

    /// The frequency of what is put out without saying which; zero where the asset has none.
    pub(super) fn nominal(&self) -> Frequency {
        self.asset.ratings.frequency.unwrap_or_default()
    }

    /// An element that the asset does not have.
    pub(super) fn no_element(&self, id: &Name, span: &Range<usize>) -> Problem {
        let ids: Vec<&str> = self.asset.elements.iter().map(|e| e.id.as_str()).collect();
        Problem::new(span.clone(), format!("the asset has no element `{id}`"))
            .did_you_mean(nearest(id.as_str(), ids.iter().copied()), || {
                format!("elements are {}", ids.join(", "))
            })
    }
}
