//! Responses, written and read (IEEE 488.2, 8).

/// A string in quotes; quotes in it are doubled.
pub fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('"', "\"\""))
}

/// A number as it is answered: enough digits to come back the same.
pub fn number(value: f64) -> String {
    // NR3 needs a mantissa with a point (IEEE 488.2, 8.7.4); the standard's not-a-number is 9.91e37.
    if !value.is_finite() {
        return "9.91E+37".to_owned();
    }
    let text = format!("{value:E}");
    let (mantissa, exponent) = text.split_once('E').unwrap_or((text.as_str(), "0"));
    let point = if mantissa.contains('.') { "" } else { ".0" };
    let sign = if exponent.starts_with('-') { "" } else { "+" };
    format!("{mantissa}{point}E{sign}{exponent}")
}

/// Bytes as a block of definite length.
pub fn block(bytes: &[u8]) -> Vec<u8> {
    let length = bytes.len().to_string();
    let mut out = format!("#{}{length}", length.len()).into_bytes();
    out.extend_from_slice(bytes);
    out
}

/// The parts of an answer without blocks: strings without their quotes, everything else as it is.
/// `None` where a string has no end.
pub fn parts(line: &str) -> Option<Vec<String>> {
    let mut all = Vec::new();
    let mut rest = line.trim();
    loop {
        let (part, after) = match rest.strip_prefix('"') {
            Some(inside) => string(inside)?,
            None => {
                let end = rest.find([',', ';']).unwrap_or(rest.len());
                (rest[..end].trim().to_owned(), &rest[end..])
            }
        };
        all.push(part);
        let after = after.trim_start();
        match after.strip_prefix([',', ';']) {
            Some(next) => rest = next.trim_start(),
            None if after.is_empty() => return Some(all),
            None => return None,
        }
    }
}

fn string(inside: &str) -> Option<(String, &str)> {
    let mut text = String::new();
    let mut rest = inside;
    loop {
        let end = rest.find('"')?;
        text.push_str(&rest[..end]);
        rest = &rest[end + 1..];
        match rest.strip_prefix('"') {
            Some(after) => {
                text.push('"');
                rest = after;
            }
            None => return Some((text, rest)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scpi::{Parameter, parse};
    use proptest::prelude::*;

    #[test]
    fn parts_of_an_answer() {
        let all = parts("1,\"a \"\"b\"\", c\",ON;2.5E-3").unwrap();
        assert_eq!(all, ["1", "a \"b\", c", "ON", "2.5E-3"]);
        assert_eq!(parts("\"no end"), None);
        assert_eq!(parts("\"a\"b"), None);
        assert_eq!(parts("").unwrap(), [""]);
    }

    proptest! {
        /// What one end writes the other end reads.
        #[test]
        fn values_survive_the_line(value in any::<f64>(), text in "[ -~]{0,20}", bytes in proptest::collection::vec(any::<u8>(), 0..50)) {
            prop_assume!(value.is_finite());
            let written = number(value);
            prop_assert!(written.contains('.') && written.contains('E'));
            prop_assert_eq!(written.parse::<f64>().unwrap(), value);
            let line = format!("{written},{}", quoted(&text));
            prop_assert_eq!(parts(&line).unwrap(), vec![written.clone(), text.clone()]);
            let mut message = format!("A {written},{},", quoted(&text)).into_bytes();
            message.extend(block(&bytes));
            let (units, fault) = parse(&message);
            prop_assert!(fault.is_none(), "{:?}", fault);
            let wanted = vec![
                Parameter::Number(value, String::new()),
                Parameter::Text(text),
                Parameter::Block(bytes),
            ];
            prop_assert_eq!(&units[0].parameters, &wanted);
        }
    }
}
