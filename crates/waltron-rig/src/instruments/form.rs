//! The instrument file: how a source, meter or supply is told and asked.

use super::registers::{Register, RegisterForm};
use schemars::JsonSchema;
use serde::Deserialize;
use std::time::Duration;
use waltron_core::injection::capability::{Instrument, Parameter, ParameterKind, ParameterValue};
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::document::{
    AccuracyText, AnyQuantityText, DocumentError, Field, Form, Problem, Problems, QuantityText,
    Source, Spannable, Text, load,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Means;

use crate::form::QuantityKind;

/// An instrument that is driven by messages of its own, SCPI over TCP or a serial port; or a device whose registers
/// are read by Modbus TCP.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InstrumentForm {
    /// Which instrument it is, and where.
    instrument: HeadForm,
    /// What can be set on it.
    set: Option<Vec<SetForm>>,
    /// What it measures.
    measure: Option<Vec<MeasureForm>>,
    /// What stands in its registers (Modbus).
    register: Option<Vec<RegisterForm>>,
}

impl Form for InstrumentForm {
    const KIND: &'static str = "instrument";
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// Its name in sequences, such as `psu`.
    name: Text,
    /// Where it answers on TCP, host and port.
    address: Option<Text>,
    /// Its serial port, such as `/dev/ttyUSB0` or `COM3`.
    serial: Option<Text>,
    /// Where it answers for its registers by Modbus TCP: host, and port if it is not 502.
    modbus: Option<Text>,
    /// Its unit behind that address; 1 if not given (Modbus).
    unit: Option<Spannable<i64>>,
    /// Bits a second of the serial port; 9600 if not given.
    baud: Option<u32>,
    /// How long an answer may take; 2 s if not given.
    timeout: Option<QuantityText<Time>>,
    /// What `*IDN?` answers, with `*` for any text; not asked if not given.
    identity: Option<String>,
    /// Messages that switch its outputs off; sent at the end of every test, whatever happens.
    off: Option<Vec<String>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SetForm {
    /// Its name in sequences, such as `supply.voltage`.
    name: Text,
    /// What it takes; a switch if not given.
    takes: Option<Spannable<QuantityKind>>,
    /// The largest value it may be set to; needed for a quantity.
    most: Option<AnyQuantityText>,
    /// The message, with `{value}` for the number in SI, such as `VOLT {value}`.
    command: Option<Text>,
    /// The message that switches on (switch).
    on: Option<String>,
    /// The message that switches off (switch).
    off: Option<String>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct MeasureForm {
    /// Its name in sequences, such as `supply.current`.
    name: Text,
    /// What it measures.
    measures: QuantityKind,
    /// The query whose answer is the number in SI, such as `MEAS:CURR?`.
    query: String,
    /// The largest value of either sign that it can show; what follows from a reading is bounded by it.
    most: Option<AnyQuantityText>,
    /// Its accuracy, such as `0.1 % or 5 mV`; without it, its values have no uncertainty.
    accuracy: Option<AccuracyText>,
}

/// An instrument's file, read.
#[derive(Clone, Debug, PartialEq)]
pub struct InstrumentFile {
    /// Its name in sequences.
    pub name: Name,
    /// Where it is.
    pub place: Place,
    /// How long an answer may take.
    pub patience: Duration,
    /// What `*IDN?` must be like.
    pub identity: Option<String>,
    /// Messages that switch it off.
    pub off: Vec<String>,
    /// What can be set.
    pub sets: Vec<SetBy>,
    /// What it measures, each with its query.
    pub measures: Vec<(Instrument, String)>,
    /// What stands in its registers.
    pub registers: Vec<(Instrument, Register)>,
}

impl InstrumentFile {
    /// Everything that it measures.
    pub fn readings(&self) -> impl Iterator<Item = &Instrument> {
        let measures = self.measures.iter().map(|(instrument, _)| instrument);
        measures.chain(self.registers.iter().map(|(instrument, _)| instrument))
    }
}

/// Where an instrument is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// Host and port.
    Tcp(String),
    /// A serial port and its bits a second.
    Serial(String, u32),
    /// Host and port, and the unit behind them, of a device that is read by Modbus.
    Modbus(String, u8),
}

/// How something is set.
#[derive(Clone, Debug, PartialEq)]
pub struct SetBy {
    /// What.
    pub parameter: Parameter,
    /// The message with `{value}`; for a switch those for on and off.
    pub messages: Vec<String>,
}

impl InstrumentForm {
    /// Its JSON Schema, for editors.
    pub fn schema() -> serde_json::Value {
        waltron_core::text::document::schema::<Self>()
    }

    /// Reads an instrument file.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<InstrumentFile, DocumentError> {
        load(source, |form: Self, problems| form.read(problems))
    }

    fn read(self, problems: &mut Problems) -> Option<InstrumentFile> {
        let head = self.instrument;
        let unit = match &head.unit {
            None => Some(1),
            Some(field) => {
                let unit = u8::try_from(*field.get()).ok();
                if unit.is_none() {
                    problems.push(Problem::new(field.span(), "units go from 0 to 255"));
                }
                unit
            }
        };
        let place = match (&head.address, &head.serial, &head.modbus) {
            (Some(address), None, None) => Some(Place::Tcp(address.as_str().to_owned())),
            (None, Some(port), None) => {
                Some(Place::Serial(port.as_str().to_owned(), head.baud.unwrap_or(9600)))
            }
            (None, None, Some(at)) => Some(Place::Modbus(at.as_str().to_owned(), unit?)),
            _ => {
                problems.push(
                    Problem::new(head.name.span(), "say where the instrument is, in one way")
                        .help("`address = \"192.0.2.9:5025\"`, `serial = \"/dev/ttyUSB0\"`, or `modbus = \"192.0.2.9\"`"),
                );
                None
            }
        };
        let patience = head.timeout.map_or(Some(2.0), |t| t.positive(problems).map(|t| t.si()));
        let sets = self.set.unwrap_or_default().into_iter();
        let sets: Vec<SetBy> = sets.filter_map(|s| s.read(problems)).collect();
        let measures: Vec<(Instrument, String)> = self
            .measure
            .unwrap_or_default()
            .into_iter()
            .map(|m| {
                let (name, dimension) = (Name::from(m.name.as_str()), m.measures.dimension());
                let most = m.most.and_then(|most| most.positive_of(dimension, problems));
                let accuracy = m.accuracy.and_then(|a| a.read(dimension, Means::Limit, problems));
                let most = most.map(|q| q.si);
                let words = Vec::new();
                (Instrument { name, dimension, most, accuracy, by_computer: true, words }, m.query)
            })
            .collect();
        let forms = self.register.unwrap_or_default();
        let registers = forms.into_iter().map(|form| form.read(problems));
        let registers: Option<Vec<_>> = registers.collect();
        let registers = registers?;
        let by_registers = matches!(place, Some(Place::Modbus(..)));
        let says = !sets.is_empty() || !measures.is_empty() || head.off.is_some();
        if let Some(unit) = head.unit.as_ref().filter(|_| !by_registers) {
            problems.push(Problem::new(unit.span(), "`unit` is of what has `modbus`"));
        }
        if head.baud.is_some() && head.serial.is_none() {
            problems.push(Problem::new(head.name.span(), "`baud` is of what has `serial`"));
        }
        let odd = match by_registers {
            true if says || head.identity.is_some() => {
                Some("what is read by Modbus has `[[register]]`, and no messages")
            }
            true if registers.is_empty() => Some("no `[[register]]` says what could be read of it"),
            false if !registers.is_empty() => Some("`[[register]]` is of what has `modbus`"),
            _ => None,
        };
        if let Some(odd) = odd {
            problems.push(Problem::new(head.name.span(), odd));
        }
        let quantity =
            sets.iter().any(|s| matches!(s.parameter.kind, ParameterKind::Quantity { .. }));
        if quantity && head.off.as_ref().is_none_or(Vec::is_empty) {
            let message = format!("nothing says how `{}` is switched off", head.name.as_str());
            problems.push(
                Problem::new(head.name.span(), message)
                    .help("add the messages that do it, such as `off = [\"OUTP OFF\"]`"),
            );
        }
        Some(InstrumentFile {
            name: head.name.as_str().into(),
            place: place?,
            patience: Duration::try_from_secs_f64(patience?).unwrap_or(Duration::MAX),
            identity: head.identity,
            off: head.off.unwrap_or_default(),
            sets,
            measures,
            registers,
        })
    }
}

impl SetForm {
    fn read(self, problems: &mut Problems) -> Option<SetBy> {
        let name = Name::from(self.name.as_str());
        let mut wrong = |message: String| {
            let help = "a quantity has `takes`, `most` and `command`; a switch has `on` and `off`";
            problems.push(Problem::new(self.name.span(), message).help(help));
            None
        };
        match (&self.takes, &self.most, &self.command, self.on, self.off) {
            (None, None, None, Some(on), Some(off)) => {
                let (kind, off_value) = (ParameterKind::Switch, ParameterValue::Switch(false));
                let parameter = Parameter { name, kind, off: off_value };
                Some(SetBy { parameter, messages: vec![on, off] })
            }
            (Some(takes), Some(most), Some(command), None, None) => {
                if !command.as_str().contains("{value}") {
                    return wrong(format!("the command of `{name}` has no {{value}}"));
                }
                let dimension = takes.get().dimension();
                let most = most.positive_of(dimension, problems)?.si;
                let kind = ParameterKind::Quantity { dimension, most };
                let messages = vec![command.as_str().to_owned()];
                let off = ParameterValue::Si(0.0);
                Some(SetBy { parameter: Parameter { name, kind, off }, messages })
            }
            _ => wrong(format!("`{name}` is neither a quantity nor a switch")),
        }
    }
}
