//! From tokens to expressions, by precedence climbing; from low to high:
//! `or`, `and`, `not`, comparisons, `+ -`, `@`, `* /`, sign, `^`.

mod cursor;
mod event;
mod pieces;

use pieces::pieces;

use super::ast::{Binary, Expr, ExprKind, Unary};
use super::token::{Kind, Sign, Token, tokens};
use crate::quantity::Quantity;
use crate::quantity::fault_loop::FaultLoop;
use crate::text::document::Problem;
use crate::text::name::Name;
use std::ops::Range;

/// Words that mean something in every expression and so cannot be names.
pub const OPERATORS: [&str; 5] = ["and", "or", "not", "true", "false"];

/// Deepest nesting of brackets and signs; beyond it a generated mistake is likelier than a wish.
const DEEPEST: usize = 64;

/// Most operators of one expression: it is gone through as deeply as they are many.
const MOST_OPERATORS: usize = 300;

/// Reads a text as one expression.
///
/// # Errors
/// The first mistake.
pub fn parse(text: &str) -> Result<Expr, Problem> {
    let tokens = tokens(text);
    let mut cursor = Cursor::new(text, &tokens, text.len());
    let expr = cursor.expression()?;
    cursor.end("after the expression")?;
    Ok(expr)
}

/// A place in the tokens of one line.
#[derive(Clone, Debug)]
pub struct Cursor<'a> {
    text: &'a str,
    tokens: &'a [Token],
    /// Byte offset of the line's end, where what is missing would stand.
    end: usize,
    depth: usize,
    /// Operators of the expression that is being read.
    operators: usize,
}

impl Cursor<'_> {
    /// An expression of any kind.
    ///
    /// # Errors
    /// The first mistake.
    pub fn expression(&mut self) -> Result<Expr, Problem> {
        self.level(0)
    }

    /// An expression that ends before `and`, `or` and comparisons.
    ///
    /// # Errors
    /// The first mistake.
    pub fn value(&mut self) -> Result<Expr, Problem> {
        self.level(3)
    }

    /// An expression that ends before `+`, `-`, comparisons, `and`, `or`.
    ///
    /// # Errors
    /// The first mistake.
    pub fn term(&mut self) -> Result<Expr, Problem> {
        self.level(4)
    }

    /// A single value, with its sign if it has one.
    ///
    /// # Errors
    /// The first mistake.
    pub fn factor(&mut self) -> Result<Expr, Problem> {
        self.level(6)
    }

    fn operator(&self) -> Option<(Binary, u8)> {
        let token = self.peek()?;
        Some(match token.kind {
            Kind::Name => match self.slice(token) {
                "or" => (Binary::Or, 0),
                "and" => (Binary::And, 1),
                _ => return None,
            },
            Kind::Sign(sign) => match sign {
                Sign::Less => (Binary::Less, 2),
                Sign::LessEqual => (Binary::LessEqual, 2),
                Sign::Greater => (Binary::Greater, 2),
                Sign::GreaterEqual => (Binary::GreaterEqual, 2),
                Sign::Equal => (Binary::Equal, 2),
                Sign::NotEqual => (Binary::NotEqual, 2),
                Sign::Plus => (Binary::Add, 3),
                Sign::Minus => (Binary::Subtract, 3),
                Sign::At => (Binary::At, 4),
                Sign::Times => (Binary::Multiply, 5),
                Sign::Over => (Binary::Divide, 5),
                _ => return None,
            },
            _ => return None,
        })
    }

    fn level(&mut self, lowest: u8) -> Result<Expr, Problem> {
        if self.depth == 0 {
            self.operators = 0;
        }
        self.deeper(|cursor| cursor.climb(lowest))
    }

    /// Reads something inside something else.
    fn deeper(
        &mut self,
        read: impl FnOnce(&mut Self) -> Result<Expr, Problem>,
    ) -> Result<Expr, Problem> {
        if self.depth >= DEEPEST {
            return Err(Problem::new(self.here(), "this expression is nested too deeply")
                .help("name a part of it with `let`"));
        }
        self.depth += 1;
        let read = read(self);
        self.depth -= 1;
        read
    }

    /// Counts an operator.
    fn operator_read(&mut self) -> Result<(), Problem> {
        self.operators += 1;
        if self.operators > MOST_OPERATORS {
            return Err(Problem::new(self.here(), "this expression has too many parts")
                .help("name a part of it with `let`"));
        }
        Ok(())
    }

    fn climb(&mut self, lowest: u8) -> Result<Expr, Problem> {
        let mut left = self.unary()?;
        while let Some((op, level)) = self.operator().filter(|(_, level)| *level >= lowest) {
            if let Some(Token { span, .. }) = self.take()
                && op.compares()
                && let ExprKind::Binary(before, ..) = &left.kind
                && before.compares()
            {
                return Err(Problem::new(span.clone(), "comparisons cannot be chained")
                    .help("join two with `and`: `a < x and x < b`"));
            }
            self.operator_read()?;
            let right = self.level(level + 1)?;
            let span = left.span.start..right.span.end;
            left = Expr { kind: ExprKind::Binary(op, Box::new(left), Box::new(right)), span };
        }
        Ok(left)
    }

    fn unary(&mut self) -> Result<Expr, Problem> {
        let start = self.here().start;
        let (op, level) = if self.eat(Sign::Minus) {
            (Unary::Minus, 6)
        } else if self.eat(Sign::Plus) {
            return self.level(6);
        } else if self.word() == Some("not") {
            self.take();
            (Unary::Not, 2)
        } else {
            return self.power();
        };
        let inner = self.level(level)?;
        let span = start..inner.span.end;
        Ok(Expr { kind: ExprKind::Unary(op, Box::new(inner)), span })
    }

    fn power(&mut self) -> Result<Expr, Problem> {
        let base = self.primary()?;
        if !self.eat(Sign::Power) {
            return Ok(base);
        }
        self.operator_read()?;
        let exponent = self.deeper(Self::unary)?;
        let span = base.span.start..exponent.span.end;
        Ok(Expr { kind: ExprKind::Binary(Binary::Power, Box::new(base), Box::new(exponent)), span })
    }

    /// `3 cycles`: of the nominal frequency, that is `3 / nominal.frequency`.
    fn cycles(&mut self, number: f64, at: &Range<usize>) -> Option<Expr> {
        let unit = self.peek().filter(|t| matches!(t.kind, Kind::Name))?.span.clone();
        if !matches!(&self.text[unit.clone()], "cycles" | "cycle") {
            return None;
        }
        self.take();
        let span = at.start..unit.end;
        let part = |kind| Box::new(Expr { kind, span: span.clone() });
        let number = ExprKind::Quantity { value: Quantity::number(number), percent: false };
        let frequency = ExprKind::Name(Name::from("nominal.frequency"));
        let kind = ExprKind::Binary(Binary::Divide, part(number), part(frequency));
        Some(Expr { kind, span })
    }

    /// Whether a fault loop stands here: two phases, or one and the neutral, with a `-` between.
    pub fn at_loop(&self) -> bool {
        let phase = |t: Option<&Token>| {
            t.is_some_and(|t| {
                t.kind == Kind::Name && matches!(&self.text[t.span.clone()], "A" | "B" | "C" | "N")
            })
        };
        let minus = self.tokens.get(1).is_some_and(|t| t.kind == Kind::Sign(Sign::Minus));
        phase(self.tokens.first()) && minus && phase(self.tokens.get(2))
    }

    /// A fault loop such as `A-N`.
    ///
    /// # Errors
    /// Something else, with the loops that there are.
    pub fn fault_loop(&mut self) -> Result<FaultLoop, Problem> {
        let start = self.here().start;
        let (mut text, mut end) = (String::new(), start);
        while let Some(word) = self.word() {
            text.push_str(word);
            end = self.here().end;
            self.take();
            if !self.eat(Sign::Minus) {
                break;
            }
            text.push('-');
        }
        FaultLoop::parse(&text).ok_or_else(|| {
            let all: Vec<&str> = FaultLoop::ALL.iter().map(|l| l.name()).collect();
            Problem::new(start..end, format!("`{text}` is no fault loop"))
                .help(format!("loops are {}", all.join(", ")))
        })
    }

    fn primary(&mut self) -> Result<Expr, Problem> {
        let wanted = "a value";
        let Some(token) = self.peek() else { return Err(self.unexpected(wanted)) };
        let span = token.span.clone();
        let kind = match token.kind {
            Kind::Number(value) | Kind::Quantity(Quantity { si: value, .. })
                if !value.is_finite() =>
            {
                return Err(Problem::new(span, "this number is too large"));
            }
            Kind::Number(value) => {
                self.take();
                if let Some(cycles) = self.cycles(value, &span) {
                    return Ok(cycles);
                }
                ExprKind::Quantity { value: Quantity::number(value), percent: false }
            }
            Kind::Quantity(value) => {
                self.take();
                ExprKind::Quantity { value, percent: self.text[..span.end].ends_with('%') }
            }
            Kind::Text => {
                self.take();
                ExprKind::Text(pieces(self.text, span.start + 1..span.end - 1)?)
            }
            Kind::Sign(Sign::Open) => {
                self.take();
                let inner = self.expression()?;
                self.expect(Sign::Close, "to close the bracket")?;
                return Ok(inner);
            }
            Kind::Sign(Sign::OpenList) => {
                self.take();
                ExprKind::List(self.list(Sign::CloseList)?)
            }
            Kind::Name if self.at_loop() => ExprKind::Loop(self.fault_loop()?),
            Kind::Name | Kind::Quoted => return self.named(),
            _ => return Err(self.unexpected(wanted)),
        };
        Ok(Expr { span: span.start..self.before(), kind })
    }

    /// The end of the last token taken.
    fn before(&self) -> usize {
        let rest = self.peek().map_or(self.end, |t| t.span.start);
        self.text[..rest].trim_end().len()
    }

    fn list(&mut self, close: Sign) -> Result<Vec<Expr>, Problem> {
        let mut items = Vec::new();
        while !self.eat(close) {
            items.push(self.expression()?);
            if !self.eat(Sign::Comma) {
                self.expect(close, "to close the list")?;
                break;
            }
        }
        Ok(items)
    }

    fn named(&mut self) -> Result<Expr, Problem> {
        if let Some(word) = self.word()
            && super::RESERVED.contains(&word)
            && !matches!(word, "true" | "false")
            // `ramp.value`: what a step yielded.
            && !self.tokens.get(1).is_some_and(|t| t.kind == Kind::Sign(Sign::Dot))
        {
            return Err(self.unexpected("a value"));
        }
        let (name, span) = self.path("a value")?;
        if !self.eat(Sign::Open) {
            return Ok(Expr { kind: ExprKind::Name(name), span });
        }
        let kind = if name == "time" {
            let from = self.event()?;
            self.expect(Sign::Arrow, "between the two events, as in `time(inception -> trip)`")?;
            let to = self.event()?;
            self.expect(Sign::Close, "to close the bracket")?;
            ExprKind::Interval(Box::new(from), Box::new(to))
        } else {
            ExprKind::Call(name, self.list(Sign::Close)?)
        };
        Ok(Expr { kind, span: span.start..self.before() })
    }
}
