//! Reading a program message (IEEE 488.2, 7; SCPI-1999 volume 1, 6.2).

use super::error::{Fault, faults};
use super::parameter::Parameter;

/// A header: which command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Header {
    /// Its mnemonics in capitals, from the root; a common command's one begins with `*`.
    pub nodes: Vec<String>,
    /// Whether it asks.
    pub query: bool,
}

/// A message unit: a header with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct Unit {
    /// Which command.
    pub header: Header,
    /// Its parameters.
    pub parameters: Vec<Parameter>,
}

/// Longest mnemonic (IEEE 488.2, 7.6.1.4.1).
const MOST_LETTERS: usize = 12;

struct Cursor<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Cursor<'a> {
    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn blanks(&mut self) {
        while self.peek().is_some_and(|b| b == b' ' || b == b'\t') {
            self.at += 1;
        }
    }

    fn take(&mut self, wanted: u8) -> bool {
        let found = self.peek() == Some(wanted);
        self.at += usize::from(found);
        found
    }

    fn run(&mut self, fits: impl Fn(u8) -> bool) -> &'a [u8] {
        let start = self.at;
        while self.peek().is_some_and(&fits) {
            self.at += 1;
        }
        &self.bytes[start..self.at]
    }

    fn word(&mut self) -> String {
        let bytes = self.run(|b| b.is_ascii_alphanumeric() || b == b'_');
        String::from_utf8_lossy(bytes).to_ascii_uppercase()
    }
}

/// Reads a message into its units. Where one cannot be read, those before it still count.
pub fn parse(message: &[u8]) -> (Vec<Unit>, Option<Fault>) {
    let mut cursor = Cursor { bytes: message, at: 0 };
    let mut units = Vec::new();
    // The path that a header without leading colon continues (SCPI-1999 volume 1, 6.2.4).
    let mut path: Vec<String> = Vec::new();
    loop {
        cursor.blanks();
        match cursor.peek() {
            None => return (units, None),
            Some(b';') => {
                cursor.at += 1;
                continue;
            }
            Some(_) => {}
        }
        let unit = match unit(&mut cursor, &mut path) {
            Ok(unit) => unit,
            Err(fault) => return (units, Some(fault)),
        };
        cursor.blanks();
        // What goes on where a unit should have ended makes that unit doubtful too.
        if !matches!(cursor.peek(), None | Some(b';')) {
            return (units, Some(faults::INVALID_SEPARATOR.clone()));
        }
        units.push(unit);
        cursor.at += 1;
    }
}

fn unit(cursor: &mut Cursor<'_>, path: &mut Vec<String>) -> Result<Unit, Fault> {
    let header = header(cursor, path)?;
    let mut parameters = Vec::new();
    let separated = cursor.peek().is_some_and(|b| b == b' ' || b == b'\t');
    cursor.blanks();
    if matches!(cursor.peek(), None | Some(b';')) {
        return Ok(Unit { header, parameters });
    }
    if !separated {
        return Err(faults::INVALID_SEPARATOR.clone());
    }
    loop {
        parameters.push(parameter(cursor)?);
        cursor.blanks();
        if !cursor.take(b',') {
            return Ok(Unit { header, parameters });
        }
        cursor.blanks();
    }
}

fn header(cursor: &mut Cursor<'_>, path: &mut Vec<String>) -> Result<Header, Fault> {
    if cursor.take(b'*') {
        let word = cursor.word();
        if word.is_empty() {
            return Err(faults::SYNTAX.clone());
        }
        let query = cursor.take(b'?');
        return Ok(Header { nodes: vec![format!("*{word}")], query });
    }
    let mut nodes = if cursor.take(b':') { Vec::new() } else { path.clone() };
    loop {
        let word = cursor.word();
        match (word.len(), cursor.peek()) {
            (0, Some(b)) if !b.is_ascii_graphic() => {
                return Err(faults::INVALID_CHARACTER.clone());
            }
            (0, _) => return Err(faults::SYNTAX.clone()),
            (n, _) if n > MOST_LETTERS => return Err(faults::MNEMONIC_TOO_LONG.because(word)),
            _ => nodes.push(word),
        }
        if !cursor.take(b':') {
            break;
        }
    }
    *path = nodes[..nodes.len() - 1].to_vec();
    let query = cursor.take(b'?');
    Ok(Header { nodes, query })
}

fn parameter(cursor: &mut Cursor<'_>) -> Result<Parameter, Fault> {
    match cursor.peek() {
        Some(quote @ (b'"' | b'\'')) => string(cursor, quote),
        Some(b'#') => block(cursor),
        Some(b) if b.is_ascii_digit() || matches!(b, b'+' | b'-' | b'.') => number(cursor),
        Some(b) if b.is_ascii_alphabetic() => {
            let word = cursor.word();
            // The standard's words for infinity and not-a-number; neither is ever wanted.
            if ["INF", "INFINITY", "NINF", "NAN"].contains(&word.as_str()) {
                return Err(faults::OUT_OF_RANGE.because(word));
            }
            Ok(Parameter::Word(word))
        }
        Some(b) if !b.is_ascii_graphic() => Err(faults::INVALID_CHARACTER.clone()),
        Some(_) => Err(faults::SYNTAX.clone()),
        None => Err(faults::MISSING_PARAMETER.clone()),
    }
}

fn number(cursor: &mut Cursor<'_>) -> Result<Parameter, Fault> {
    let start = cursor.at;
    let _ = cursor.take(b'+') || cursor.take(b'-');
    cursor.run(|b| b.is_ascii_digit());
    if cursor.take(b'.') {
        cursor.run(|b| b.is_ascii_digit());
    }
    let mantissa = cursor.at;
    // `2 EV` is no exponent: digits must follow.
    if matches!(cursor.peek(), Some(b'e' | b'E')) {
        cursor.at += 1;
        let _ = cursor.take(b'+') || cursor.take(b'-');
        if cursor.run(|b| b.is_ascii_digit()).is_empty() {
            cursor.at = mantissa;
        }
    }
    let text = String::from_utf8_lossy(&cursor.bytes[start..cursor.at]).into_owned();
    let value: f64 = text.parse().map_err(|_| faults::INVALID_NUMBER.because(text))?;
    cursor.blanks();
    let suffix = match cursor.peek() {
        Some(b) if b.is_ascii_alphabetic() || matches!(b, b'/' | b'%') => {
            cursor.run(|b| b.is_ascii_alphanumeric() || matches!(b, b'/' | b'%'))
        }
        _ => &[],
    };
    let suffix = String::from_utf8_lossy(suffix).to_ascii_uppercase();
    Ok(Parameter::Number(value, suffix))
}

fn string(cursor: &mut Cursor<'_>, quote: u8) -> Result<Parameter, Fault> {
    cursor.at += 1;
    let mut bytes = Vec::new();
    loop {
        bytes.extend_from_slice(cursor.run(|b| b != quote));
        if !cursor.take(quote) {
            return Err(faults::INVALID_STRING.because("it has no end"));
        }
        // A doubled quote stands for one.
        if !cursor.take(quote) {
            break;
        }
        bytes.push(quote);
    }
    let text = String::from_utf8(bytes);
    text.map(Parameter::Text).map_err(|_| faults::INVALID_STRING.because("it is no UTF-8"))
}

fn block(cursor: &mut Cursor<'_>) -> Result<Parameter, Fault> {
    cursor.at += 1;
    let digits = match cursor.peek() {
        // Up to the end of the message.
        Some(b'0') => {
            let bytes = cursor.bytes[cursor.at + 1..].to_vec();
            cursor.at = cursor.bytes.len();
            return Ok(Parameter::Block(bytes));
        }
        Some(b) if b.is_ascii_digit() => usize::from(b - b'0'),
        _ => return Err(faults::INVALID_BLOCK.clone()),
    };
    cursor.at += 1;
    let length = cursor.bytes.get(cursor.at..cursor.at + digits);
    let length = length.and_then(|d| std::str::from_utf8(d).ok()?.parse::<usize>().ok());
    let start = cursor.at + digits;
    let end = length.and_then(|n| start.checked_add(n));
    match end.and_then(|end| Some((cursor.bytes.get(start..end)?, end))) {
        Some((bytes, end)) => {
            cursor.at = end;
            Ok(Parameter::Block(bytes.to_vec()))
        }
        None => Err(faults::INVALID_BLOCK.clone()),
    }
}
