//! Errors with the numbers and texts of the standard (SCPI-1999 volume 2, 21.8).

use std::fmt;

/// An error as it stands in an instrument's queue.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// The standard's number; negative.
    pub number: i16,
    /// The standard's text.
    pub text: &'static str,
    /// What exactly, in the instrument's own words.
    pub detail: Option<String>,
}

impl Fault {
    const fn new(number: i16, text: &'static str) -> Self {
        Self { number, text, detail: None }
    }

    /// Says what exactly is wrong. Quotes and line ends would not survive the line.
    #[must_use]
    pub fn because(mut self, detail: impl Into<String>) -> Self {
        let detail: String = detail.into();
        let clean = |c: char| if c.is_control() { ' ' } else { c };
        self.detail = Some(detail.chars().map(clean).take(200).collect());
        self
    }
}

impl fmt::Display for Fault {
    /// As it is answered: number, text and detail in quotes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = match &self.detail {
            Some(detail) => format!("{};{detail}", self.text),
            None => self.text.to_owned(),
        };
        write!(f, "{},{}", self.number, super::reply::quoted(&text))
    }
}

impl std::error::Error for Fault {}

/// The standard's errors that are used here.
pub mod faults {
    use super::Fault;

    macro_rules! faults {
        ($($name:ident $number:literal $text:literal;)*) => {
            $(
                #[doc = concat!("`", stringify!($number), "`: ", $text, ".")]
                pub const $name: Fault = Fault::new($number, $text);
            )*
        };
    }

    faults! {
        NONE 0 "No error";
        INVALID_CHARACTER -101 "Invalid character";
        SYNTAX -102 "Syntax error";
        INVALID_SEPARATOR -103 "Invalid separator";
        DATA_TYPE -104 "Data type error";
        PARAMETER_NOT_ALLOWED -108 "Parameter not allowed";
        MISSING_PARAMETER -109 "Missing parameter";
        MNEMONIC_TOO_LONG -112 "Program mnemonic too long";
        UNDEFINED_HEADER -113 "Undefined header";
        INVALID_NUMBER -121 "Invalid character in number";
        INVALID_SUFFIX -131 "Invalid suffix";
        SUFFIX_NOT_ALLOWED -138 "Suffix not allowed";
        INVALID_STRING -151 "Invalid string data";
        INVALID_BLOCK -161 "Invalid block data";
        EXECUTION -200 "Execution error";
        COMMAND_PROTECTED -203 "Command protected";
        TRIGGER_IGNORED -211 "Trigger ignored";
        INIT_IGNORED -213 "Init ignored";
        SETTINGS_CONFLICT -221 "Settings conflict";
        OUT_OF_RANGE -222 "Data out of range";
        TOO_MUCH_DATA -223 "Too much data";
        ILLEGAL_VALUE -224 "Illegal parameter value";
        STALE -230 "Data corrupt or stale";
        HARDWARE_MISSING -241 "Hardware missing";
        DEVICE -300 "Device-specific error";
        SYSTEM -310 "System error";
        QUEUE_OVERFLOW -350 "Queue overflow";
        INPUT_OVERRUN -363 "Input buffer overrun";
    }
}
