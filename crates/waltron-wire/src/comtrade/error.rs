//! What can be wrong with a recording, with its place and what was wanted.

use super::config::Format;

/// A configuration that cannot be read.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum ConfigError {
    /// The text ends before everything was said.
    #[error("line {line}: the configuration ends here, but {wanted} is missing")]
    Ends {
        /// The line after the last one.
        line: usize,
        /// What should stand there.
        wanted: &'static str,
    },
    /// A field is missing.
    #[error("line {line}: field {field}, {name}, is missing")]
    Missing {
        /// Its line.
        line: usize,
        /// Its number in the line, from 1.
        field: usize,
        /// What it holds.
        name: &'static str,
    },
    /// A field is no number.
    #[error("line {line}: {name} is `{text}`, which is no number")]
    NotANumber {
        /// Its line.
        line: usize,
        /// What it holds.
        name: &'static str,
        /// What stands there.
        text: String,
    },
    /// A field holds a number that makes no sense there.
    #[error("line {line}: {name} is {text}, {wanted}")]
    OutOfRange {
        /// Its line.
        line: usize,
        /// What it holds.
        name: &'static str,
        /// What stands there.
        text: String,
        /// What would make sense.
        wanted: &'static str,
    },
    /// More fields than the standard knows: usually decimal commas.
    #[error(
        "line {line} has {found} fields, at most {most} are known; decimal commas make two fields of one"
    )]
    TooManyFields {
        /// The line.
        line: usize,
        /// How many there are.
        found: usize,
        /// How many there may be.
        most: usize,
    },
    /// The channel counts do not add up.
    #[error("line 2: {total} channels are declared, but {analog} analog and {digital} status channels are {}", .analog + .digital)]
    Counts {
        /// All channels, as declared.
        total: usize,
        /// Analog channels.
        analog: usize,
        /// Status channels.
        digital: usize,
    },
    /// A revision that is not known.
    #[error("line 1: the revision is `{text}`; 1991, 1999 and 2013 are known")]
    Revision {
        /// What stands there.
        text: String,
    },
    /// A data format that is not known.
    #[error(
        "line {line}: the data format is `{text}`; ASCII, BINARY, BINARY32 and FLOAT32 are known"
    )]
    Format {
        /// Its line.
        line: usize,
        /// What stands there.
        text: String,
    },
    /// Bytes that are no UTF-8 text.
    #[error("line {line}: byte 0x{byte:02x} is no UTF-8 text")]
    NotUtf8 {
        /// Its line.
        line: usize,
        /// The byte.
        byte: u8,
    },
}

/// Data that do not fit their configuration.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum DataError {
    /// Fewer samples than declared.
    #[error("the configuration declares {declared} samples, the data hold {held}{}", partial(*.left_over))]
    Truncated {
        /// Samples declared.
        declared: u64,
        /// Whole samples there.
        held: u64,
        /// Bytes of a sample that was cut off.
        left_over: usize,
    },
    /// More data than declared.
    #[error(
        "the data go on for {extra} bytes after the {declared} samples that the configuration declares; are format ({format:?}) and channel counts right?"
    )]
    TooLong {
        /// Samples declared.
        declared: u64,
        /// Bytes behind them.
        extra: usize,
        /// The format as declared.
        format: Format,
    },
    /// ASCII data that go on after what is declared.
    #[error(
        "data line {line}: the configuration declares {declared} samples, this is something else"
    )]
    Garbage {
        /// Samples declared.
        declared: u64,
        /// The line.
        line: usize,
    },
    /// A line of ASCII data with a wrong number of values.
    #[error(
        "data line {line} has {found} values, {wanted} are declared; decimal commas make two values of one"
    )]
    Values {
        /// The line.
        line: usize,
        /// Values there.
        found: usize,
        /// Number, time, and one value for each channel.
        wanted: usize,
    },
    /// A value of ASCII data that is no number.
    #[error("data line {line}: value {value} is `{text}`, which is no number")]
    NotANumber {
        /// The line.
        line: usize,
        /// Its number in the line, from 1.
        value: usize,
        /// What stands there.
        text: String,
    },
}

fn partial(left_over: usize) -> String {
    if left_over == 0 { String::new() } else { format!(" and {left_over} bytes of another") }
}

/// A `.cff` file that cannot be taken apart.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum ContainerError {
    /// No section of this kind.
    #[error("the file has no section `--- file type: {kind} ---`")]
    NoSection {
        /// The kind: `CFG` or `DAT`.
        kind: &'static str,
    },
    /// The data section is shorter than it says.
    #[error("the data section says {declared} bytes, {held} are there")]
    Truncated {
        /// Bytes declared.
        declared: usize,
        /// Bytes there.
        held: usize,
    },
    /// A section's head that cannot be read.
    #[error("line {line}: `{text}` is no section of a combined file")]
    Head {
        /// Its line.
        line: usize,
        /// What stands there.
        text: String,
    },
}
