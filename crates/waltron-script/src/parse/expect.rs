//! `expect` and its tolerances.

use super::super::ast::{Expect, Requirement, Side, Span, Within};
use super::line::Read;
use waltron_core::text::expression::{Cursor, Expr, ExprKind, Kind, Sign, Unary};
use waltron_core::text::name::Name;

pub(super) fn expect(c: &mut Cursor<'_>) -> Read<Expect> {
    let here = c.here();
    // `no trip` is how people say `not trip`.
    let what = if c.eat_word("no") {
        let contact = c.value()?;
        let span = here.start..contact.span.end;
        let kind = ExprKind::Unary(Unary::Not, Box::new(contact));
        Requirement::Holds(Expr { kind, span })
    } else {
        requirement(c)?
    };
    let label = if c.eat_word("as") { Some(c.expression()?) } else { None };
    Ok(Expect { what, label })
}

pub(super) fn requirement(c: &mut Cursor<'_>) -> Read<Requirement> {
    let value = c.expression()?;
    match c.word() {
        Some("is") => {
            c.take();
            let expected = c.value()?;
            c.expect_word("within", "and the tolerance")?;
            Ok(Requirement::Is(value, expected, within(c)?))
        }
        Some("between") => {
            c.take();
            let low = c.value()?;
            c.expect_word("and", "and the upper limit")?;
            Ok(Requirement::Between(value, low, c.value()?))
        }
        Some("within") => {
            c.take();
            let band = c.here();
            c.expect_word("band", "after `within`, or `is … within …`")?;
            c.expect(Sign::Open, "and an element or a contact")?;
            let of = element_name(c)?;
            let multiple = if c.eat(Sign::Comma) { Some(c.value()?) } else { None };
            c.expect(Sign::Close, "to close the bracket")?;
            Ok(Requirement::Band(value, of, multiple, Span(band)))
        }
        _ => Ok(Requirement::Holds(value)),
    }
}

/// An element's id, which may look like a quantity (`51V`).
pub(super) fn element_name(c: &mut Cursor<'_>) -> Read<Name> {
    match c.peek() {
        Some(token) if matches!(token.kind, Kind::Quantity(_) | Kind::Number(_)) => {
            let name = Name::from(c.slice(token));
            c.take();
            Ok(name)
        }
        _ => Ok(c.path("an element, such as `51P`")?.0),
    }
}

pub(super) fn within(c: &mut Cursor<'_>) -> Read<Within> {
    if c.word() == Some("tolerance") {
        let at = c.here();
        c.take();
        c.expect(Sign::Open, "and an element")?;
        let element = element_name(c)?;
        c.expect(Sign::Close, "to close the bracket")?;
        return Ok(Within::Of(element, Span(at)));
    }
    if c.eat(Sign::Plus) {
        let above = side(c)?;
        c.expect(Sign::Over, "and the lower side, as in `+5 % / -0 %`")?;
        c.expect(Sign::Minus, "before the lower side")?;
        return Ok(Within::Sides(above, side(c)?));
    }
    Ok(Within::Both(side(c)?))
}

pub(super) fn side(c: &mut Cursor<'_>) -> Read<Side> {
    // A quotient would swallow the `/` between two sides.
    let first = c.factor()?;
    if c.eat_word("or") {
        return Ok(Side::Larger(first, c.factor()?));
    }
    if c.eat(Sign::Plus) {
        return Ok(Side::Sum(first, c.factor()?));
    }
    Ok(Side::One(first))
}
