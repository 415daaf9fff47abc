//! Signals as people write them.

use super::{Signal, Worked};
use crate::text::document::Problem;
use crate::text::expression::{Binary, Expr, ExprKind, parse};
use crate::text::name::Name;

/// Takes the name that an expression is, where it is one.
pub(crate) type NameOf<'a> = dyn Fn(&Expr) -> Option<Name> + 'a;

impl Signal {
    /// The signal that an expression is: a name, `quotient(a, b)` or `a / b`, `product(a, b)` or `a * b`,
    /// `difference(a, b)` or `a - b`; `None` where it is something else.
    ///
    /// # Errors
    /// A way of working out that has too few or too many parts.
    pub fn of(expr: &Expr, name: &NameOf<'_>) -> Result<Option<Self>, Problem> {
        let (way, parts) = match &expr.kind {
            ExprKind::Call(way, args) if Worked::NAMES.iter().any(|(n, _)| *way == **n) => {
                (way.as_str(), args.iter().collect::<Vec<_>>())
            }
            ExprKind::Binary(Binary::Divide, a, b) => ("quotient", vec![&**a, &**b]),
            ExprKind::Binary(Binary::Multiply, a, b) => ("product", vec![&**a, &**b]),
            ExprKind::Binary(Binary::Subtract, a, b) => ("difference", vec![&**a, &**b]),
            _ => return Ok(name(expr).map(Self::Named)),
        };
        let signals: Vec<Option<Self>> =
            parts.into_iter().map(|part| Self::of(part, name)).collect::<Result<_, _>>()?;
        match <[Option<Self>; 2]>::try_from(signals) {
            Ok([Some(a), Some(b)]) => Ok(Worked::named(way, [a, b]).map(Self::from)),
            _ => {
                let example = Worked::NAMES.iter().find(|(n, _)| *n == way).map_or("", |(_, e)| e);
                let message = format!("a {way} is of two signals");
                Err(Problem::new(expr.span.clone(), message).help(format!("write `{example}`")))
            }
        }
    }

    /// Reads a text in which the known names may stand as they are, whatever words they are made of:
    /// `secondary voltage / primary voltage`.
    ///
    /// # Errors
    /// What is wrong with it; a name in it that is not known stays for who uses it to refuse.
    pub fn read(text: &str, known: &[&Name]) -> Result<Self, Problem> {
        // Words alone can only be a name, known or not.
        let plain = |c: char| c.is_alphanumeric() || " _.-".contains(c);
        if text.chars().all(plain) && text.contains(' ') && !text.contains(" - ") {
            return Ok(Self::Named(text.into()));
        }
        let text = quoted(text, known);
        let expr = parse(&text)?;
        let name = |expr: &Expr| match &expr.kind {
            ExprKind::Name(name) => Some(name.clone()),
            _ => None,
        };
        Self::of(&expr, &name)?.ok_or_else(|| {
            Problem::new(0..text.len(), format!("`{text}` is nothing that can be measured"))
                .help("write a meter's name, or `a / b`, `a * b`, `a - b` of two")
        })
    }
}

/// The text with known names of several words in backquotes; the longest name wins.
fn quoted(text: &str, known: &[&Name]) -> String {
    let mut names: Vec<&str> =
        known.iter().map(|n| n.as_str()).filter(|n| n.contains([' ', '-'])).collect();
    names.sort_by_key(|n| std::cmp::Reverse(n.len()));
    let mut out = String::with_capacity(text.len() + 8);
    let mut rest = text;
    let mut inside = false;
    while let Some(c) = rest.chars().next() {
        inside ^= c == '`';
        match names.iter().find(|n| !inside && rest.starts_with(**n)) {
            Some(name) => {
                out.push_str(&format!("`{name}`"));
                rest = &rest[name.len()..];
            }
            None => {
                out.push(c);
                rest = &rest[c.len_utf8()..];
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_several_words_need_no_quotes() {
        let known: Vec<Name> =
            ["primary voltage", "voltage", "burden-voltage", "ia"].map(Name::from).into();
        let known: Vec<&Name> = known.iter().collect();
        let read = |text: &str| Signal::read(text, &known).map(|s| s.to_string());
        assert_eq!(read("primary voltage / ia").unwrap(), "quotient(`primary voltage`, ia)");
        assert_eq!(read("`primary voltage` * ia").unwrap(), "product(`primary voltage`, ia)");
        assert_eq!(
            read("burden-voltage - voltage").unwrap(),
            "difference(`burden-voltage`, voltage)"
        );
        assert_eq!(read("(voltage - ia) / ia").unwrap(), "quotient(difference(voltage, ia), ia)");
        assert_eq!(read("quotient(voltage, ia)").unwrap(), "quotient(voltage, ia)");
        assert_eq!(read("primry voltage").unwrap(), "`primry voltage`");
        for wrong in ["quotient(voltage)", "voltage + ia", "3", "", "voltage /"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
