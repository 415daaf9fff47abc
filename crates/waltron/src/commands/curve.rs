//! `waltron curve`: time at a current, current for a time.

use crate::cli::{Curve, CurveArgs, Format};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::kind::{Kind, read_as};
use crate::terminal::Terminal;
use crate::wings::WINGS;
use serde_json::{Map, Value, json};
use waltron_core::characteristic::{Characteristic, CurveForm};
use waltron_core::quantity::{
    self, Current, Dimension, Measure, Quantity, Time, significant, text,
};
use waltron_core::text::document::Source;
use waltron_relay::Overcurrent;

/// A point of the answer.
struct Row {
    multiple: Option<f64>,
    current: Option<Current>,
    time: Option<Time>,
}

/// Evaluates or inverts a characteristic.
///
/// # Errors
/// Arguments that make no characteristic, values that are no current or time.
pub(crate) fn curve(what: &Curve, terminal: &Terminal) -> Result<Exit, Failure> {
    let (args, rows) = match what {
        Curve::Time(args) => {
            let (curve, pickup) = characteristic(&args.curve)?;
            let rows = args.at.iter().map(|at| time_at(&curve, pickup, at));
            (&args.curve, rows.collect::<Result<Vec<_>, _>>()?)
        }
        Curve::Current(args) => {
            let (curve, pickup) = characteristic(&args.curve)?;
            let rows = args.time.iter().map(|time| current_for(&curve, pickup, time));
            (&args.curve, rows.collect::<Result<Vec<_>, _>>()?)
        }
        // Has a file of its own.
        Curve::Excitation(args) => return super::excitation::excitation(args, terminal),
    };
    match args.format {
        Format::Json => {
            let points: Vec<Value> = rows.iter().map(Row::json).collect();
            terminal.print_json(json!({ "points": points }));
        }
        Format::Text => rows.iter().for_each(|row| terminal.print(&row.line())),
    }
    Ok(Exit::Pass)
}

impl Row {
    fn json(&self) -> Value {
        let mut object = Map::new();
        let mut add = |key: &str, value: Option<f64>| {
            if let Some(value) = value {
                object.insert(key.to_owned(), value.into());
            }
        };
        add("multiple", self.multiple);
        add("current_a", self.current.map(Measure::si));
        add("time_s", self.time.map(Measure::si));
        Value::Object(object)
    }

    fn line(&self) -> String {
        let multiple = self.multiple.map(|m| format!("{} x", significant(m, 6)));
        let or = |text: Option<String>, absent: &str| text.unwrap_or_else(|| absent.to_owned());
        format!(
            "{:>12}  {:>10}  {}\n",
            or(multiple, "never"),
            or(self.current.map(text), ""),
            or(self.time.map(|t| format!("{:.6}", Quantity::of(t))), "does not operate"),
        )
    }
}

fn failure(argument: &str, error: &quantity::QuantityError) -> Failure {
    let failure = Failure::usage(format!("{argument}: {error}"));
    match error.help() {
        Some(help) => failure.help(help),
        None => failure,
    }
}

fn time_at(curve: &Characteristic, pickup: Option<Current>, at: &str) -> Result<Row, Failure> {
    let quantity = Quantity::parse(at).map_err(|e| failure("--at", &e))?;
    let (multiple, current) = if quantity.dimension == Dimension::NUMBER {
        if !at.trim().ends_with(['x', '%']) {
            return Err(Failure::usage(format!("--at: `{at}` has no unit"))
                .help("write \"2 x\" for a multiple of pickup, \"2 A\" for a current"));
        }
        (quantity.si, pickup.map(|p| p * quantity.si))
    } else {
        let current: Current = quantity::parse(at).map_err(|e| failure("--at", &e))?;
        let pickup = pickup.ok_or_else(|| {
            Failure::usage("--at is a current, so the pickup is needed")
                .help("add --pickup \"1 A\", or write --at as a multiple: \"2 x\"")
        })?;
        ((current / pickup).value, Some(current))
    };
    if multiple < 0.0 {
        return Err(Failure::usage(format!("--at: `{at}` must not be negative")));
    }
    let time = curve.operate_time(multiple);
    Ok(Row { multiple: Some(multiple), current, time })
}

fn current_for(
    curve: &Characteristic,
    pickup: Option<Current>,
    time: &str,
) -> Result<Row, Failure> {
    let time: Time = quantity::parse(time).map_err(|e| failure("--time", &e))?;
    if time.si() <= 0.0 {
        return Err(Failure::usage("--time must be above zero"));
    }
    let multiple = curve.multiple_for(time);
    let current = multiple.and_then(|m| Some(pickup? * m));
    Ok(Row { multiple, current, time: Some(time) })
}

fn characteristic(args: &CurveArgs) -> Result<(Characteristic, Option<Current>), Failure> {
    if let (Some(path), Some(id)) = (&args.asset, &args.element) {
        let asset = WINGS.asset(&read_as(Kind::Asset, path)?)?;
        let element = asset.element(id).ok_or_else(|| {
            let ids: Vec<&str> = asset.elements.iter().map(|e| e.id.as_str()).collect();
            Failure::file(path, format!("{} has no element `{id}`", asset.identity.tag))
                .help(format!("its elements are {}", ids.join(", ")))
        })?;
        let Some(overcurrent) = element.of::<Overcurrent>() else {
            let delay = element.once_picked_up().and_then(|band| band.expected);
            let with = delay.map(|delay| format!(" with a definite time: {}", text(delay)));
            let message = format!("`{id}` is {}{}", element.name(), with.unwrap_or_default());
            return Err(Failure::file(path, message));
        };
        return Ok((overcurrent.characteristic.clone(), Some(overcurrent.pickup)));
    }
    let given = [
        ("family", &args.family),
        ("shape", &args.shape),
        ("tms", &args.tms),
        ("delay", &args.delay),
        ("k", &args.k),
        ("c", &args.c),
        ("alpha", &args.alpha),
        ("tau", &args.tau),
        ("preload", &args.preload),
        ("minimum_time", &args.minimum_time),
    ];
    let mut toml = String::new();
    if let Some(pickup) = &args.pickup {
        toml.push_str(&format!("pickup = {}\n", quoted(pickup)));
    }
    toml.push_str("[curve]\n");
    for (key, value) in given {
        if let Some(value) = value {
            toml.push_str(&format!("{key} = {}\n", quoted(value)));
        }
    }
    let source = Source::new("arguments", toml);
    Ok(CurveForm::load_alone(&source)?)
}

/// Text as a TOML string; JSON's quoting is a subset of TOML's.
fn quoted(text: &str) -> String {
    Value::from(text).to_string()
}
