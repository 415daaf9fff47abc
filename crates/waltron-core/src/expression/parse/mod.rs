//! From tokens to expressions, by precedence climbing; from low to high:
//! `or`, `and`, `not`, comparisons, `+ -`, `@`, `* /`, sign, `^`.

use super::ast::{Binary, Event, Expr, ExprKind, Piece, Stage, Unary, Which};
use super::token::{Kind, Sign, Token, tokens};
use crate::document::Problem;
use crate::fault_loop::FaultLoop;
use crate::name::Name;
use crate::quantity::{Quantity, Unit};
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

impl<'a> Cursor<'a> {
    /// A cursor at the first of these tokens of `text`; the line ends at byte `end`.
    pub fn new(text: &'a str, tokens: &'a [Token], end: usize) -> Self {
        Self { text, tokens, end, depth: 0, operators: 0 }
    }

    /// The next token, which stays.
    pub fn peek(&self) -> Option<&'a Token> {
        self.tokens.first()
    }

    /// Takes the next token.
    pub fn take(&mut self) -> Option<&'a Token> {
        let (first, rest) = self.tokens.split_first()?;
        self.tokens = rest;
        Some(first)
    }

    /// How the token is written.
    pub fn slice(&self, token: &Token) -> &'a str {
        &self.text[token.span.clone()]
    }

    /// The next token's place; the line's end where there is none.
    pub fn here(&self) -> Range<usize> {
        self.peek().map_or(self.end..self.end, |t| t.span.clone())
    }

    /// The next token's words, where it is a plain name.
    pub fn word(&self) -> Option<&'a str> {
        self.word_at(0)
    }

    /// The words of the token `ahead` of the next one, where it is a plain name.
    pub fn word_at(&self, ahead: usize) -> Option<&'a str> {
        let token = self.tokens.get(ahead).filter(|t| t.kind == Kind::Name)?;
        Some(self.slice(token))
    }

    /// Takes the next token if it is this word.
    pub fn eat_word(&mut self, word: &str) -> bool {
        let is = self.word() == Some(word);
        if is {
            self.take();
        }
        is
    }

    /// Whether the next token is this sign.
    pub fn at_sign(&self, sign: Sign) -> bool {
        self.peek().is_some_and(|t| t.kind == Kind::Sign(sign))
    }

    /// Takes the next token if it is this sign.
    pub fn eat(&mut self, sign: Sign) -> bool {
        let is = self.at_sign(sign);
        if is {
            self.take();
        }
        is
    }

    /// Takes this sign.
    ///
    /// # Errors
    /// Where something else stands; `wanted` says what it is for.
    pub fn expect(&mut self, sign: Sign, wanted: &str) -> Result<(), Problem> {
        if self.eat(sign) {
            Ok(())
        } else {
            Err(self.unexpected(&format!("`{}` {wanted}", sign.text())))
        }
    }

    /// Takes this word.
    ///
    /// # Errors
    /// Where something else stands; `wanted` says what it is for.
    pub fn expect_word(&mut self, word: &str, wanted: &str) -> Result<(), Problem> {
        if self.eat_word(word) {
            Ok(())
        } else {
            Err(self.unexpected(&format!("`{word}` {wanted}")))
        }
    }

    /// Nothing more on this line.
    ///
    /// # Errors
    /// Where something is left.
    pub fn end(&self, place: &str) -> Result<(), Problem> {
        if self.peek().is_none() {
            Ok(())
        } else {
            Err(self.unexpected(&format!("nothing more {place}")))
        }
    }

    /// What stands here is not what was wanted.
    pub fn unexpected(&self, wanted: &str) -> Problem {
        let Some(token) = self.peek() else {
            return Problem::new(
                self.here(),
                format!("the line ends here, but {wanted} is missing"),
            );
        };
        let found = self.slice(token);
        match token.kind {
            Kind::OpenText => Problem::new(token.span.clone(), "this text has no closing `\"`"),
            Kind::Stray => {
                Problem::new(token.span.clone(), format!("`{found}` means nothing here"))
            }
            // `5 amps`: a word behind a number was meant as its unit.
            Kind::Name if self.behind_number(token) => {
                let problem = Problem::new(token.span.clone(), format!("unknown unit `{found}`"));
                match Unit::nearest(found) {
                    Some(near) => problem.help(format!("did you mean `{near}`?")),
                    None => problem.help(format!("expected {wanted}")),
                }
            }
            Kind::Sign(Sign::Comma) if self.decimal_comma(token) => {
                Problem::new(token.span.clone(), "a comma stands where a decimal point belongs")
                    .help("write decimal numbers with a point, such as 2.5")
            }
            _ => {
                let message = format!("expected {wanted}, found `{found}`");
                let problem = Problem::new(token.span.clone(), message);
                match self.hyphenated(token) {
                    Some(name) => problem
                        .help(format!("a name with a hyphen stands in backquotes, as in `{name}`")),
                    None => problem,
                }
            }
        }
    }

    /// The word around a hyphen that has letters right before and behind it.
    fn hyphenated(&self, token: &Token) -> Option<&'a str> {
        let in_word = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
        let before = self.text[..token.span.start].trim_end_matches(in_word).len();
        let behind = self.text[token.span.end..].find(|c| !in_word(c));
        let end = behind.map_or(self.text.len(), |n| token.span.end + n);
        let is_inside = before < token.span.start && end > token.span.end;
        (token.kind == Kind::Sign(Sign::Minus) && is_inside).then(|| &self.text[before..end])
    }

    fn behind_number(&self, token: &Token) -> bool {
        let before = self.text[..token.span.start].trim_end_matches([' ', '\t']);
        before.ends_with(|c: char| c.is_ascii_digit())
            && !super::RESERVED.contains(&&self.text[token.span.clone()])
    }

    /// Refuses a comma that stands where a decimal point belongs.
    ///
    /// # Errors
    /// If one stands here.
    pub fn refuse_decimal_comma(&self) -> Result<(), Problem> {
        match self.peek() {
            Some(token) if token.kind == Kind::Sign(Sign::Comma) && self.decimal_comma(token) => {
                Err(self.unexpected("a decimal point"))
            }
            _ => Ok(()),
        }
    }

    /// A comma right between two digits.
    fn decimal_comma(&self, comma: &Token) -> bool {
        let digit = |c: Option<char>| c.is_some_and(|c| c.is_ascii_digit());
        digit(self.text[..comma.span.start].chars().next_back())
            && digit(self.text[comma.span.end..].chars().next())
    }

    /// A name: a word, or anything in backquotes.
    ///
    /// # Errors
    /// Where none stands.
    pub fn name(&mut self, wanted: &str) -> Result<(Name, Range<usize>), Problem> {
        let Some(token) = self.peek() else { return Err(self.unexpected(wanted)) };
        let text = self.slice(token);
        let name = match token.kind {
            Kind::Name => text,
            Kind::Quoted => &text[1..text.len() - 1],
            _ => return Err(self.unexpected(wanted)),
        };
        self.take();
        Ok((name.into(), token.span.clone()))
    }

    /// A dotted name such as `51P.pickup`.
    ///
    /// # Errors
    /// Where none stands.
    pub fn path(&mut self, wanted: &str) -> Result<(Name, Range<usize>), Problem> {
        let (first, mut span) = self.name(wanted)?;
        if !self.at_sign(Sign::Dot) {
            return Ok((first, span));
        }
        let mut path = first.as_str().to_owned();
        while self.eat(Sign::Dot) {
            let (part, at) = self.name("a name after `.`")?;
            path.push('.');
            path.push_str(part.as_str());
            span.end = at.end;
        }
        Ok((path.into(), span))
    }

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

    /// An event: `inception`, `trip`, `not trip`, `last(trip)`, `nth(start, 2)`, `begin(prefault)`.
    ///
    /// # Errors
    /// The first mistake.
    pub fn event(&mut self) -> Result<Event, Problem> {
        let closes = !self.eat_word("not");
        let (name, span) = self.path("an event, such as `inception` or a contact")?;
        if !self.eat(Sign::Open) {
            return Ok(match name.as_str() {
                "inception" if closes => Event::Inception,
                _ => Event::Contact { signal: name, closes, which: Which::First },
            });
        }
        let event = match name.as_str() {
            "first" => self.contact(Which::First)?,
            "last" => self.contact(Which::Last)?,
            "nth" => {
                let event = self.contact(Which::First)?;
                self.expect(Sign::Comma, "and the count, as in `nth(trip, 2)`")?;
                let n = self.count()?;
                match event {
                    Event::Contact { signal, closes, .. } => {
                        Event::Contact { signal, closes, which: Which::Nth(n) }
                    }
                    other => other,
                }
            }
            "begin" => Event::Begin(self.stage()?),
            "finish" => Event::End(self.stage()?),
            _ => {
                return Err(Problem::new(span, format!("`{name}` is no event"))
                    .help("events are inception, a contact, first(…), last(…), nth(…, n), begin(…), finish(…)"));
            }
        };
        self.expect(Sign::Close, "to close the bracket")?;
        Ok(event)
    }

    fn contact(&mut self, which: Which) -> Result<Event, Problem> {
        let closes = !self.eat_word("not");
        let (signal, _) = self.path("a contact")?;
        Ok(Event::Contact { signal, closes, which })
    }

    fn stage(&mut self) -> Result<Stage, Problem> {
        if self.word() == Some("level") {
            self.take();
            return Ok(Stage::Level(self.count()?));
        }
        Ok(Stage::Named(self.name("a stage's label, or `level 3`")?.0))
    }

    fn count(&mut self) -> Result<u32, Problem> {
        let here = self.here();
        match self.peek().map(|t| t.kind) {
            Some(Kind::Number(n)) if n >= 1.0 && n.fract() == 0.0 && n <= 1e6 => {
                self.take();
                Ok(n as u32)
            }
            Some(Kind::Number(_)) => Err(Problem::new(here, "count from 1, in whole numbers")),
            _ => Err(self.unexpected("a whole number")),
        }
    }
}

/// The pieces of a text: `{…}` holds an expression, `{{` is a brace, `\"` a quote.
fn pieces(text: &str, span: Range<usize>) -> Result<Vec<Piece>, Problem> {
    let (mut pieces, mut plain) = (Vec::new(), String::new());
    let mut at = span.start;
    while at < span.end {
        let rest = &text[at..span.end];
        let Some(c) = rest.chars().next() else { break };
        at += c.len_utf8();
        match c {
            '\\' => {
                let escaped = rest[1..].chars().next().unwrap_or('\\');
                plain.push(if escaped == 'n' { '\n' } else { escaped });
                at += escaped.len_utf8();
            }
            '{' if rest.starts_with("{{") => {
                plain.push('{');
                at += 1;
            }
            '}' => {
                plain.push('}');
                at += usize::from(rest.starts_with("}}"));
            }
            '{' => {
                let Some(length) = text[at..span.end].find('}') else {
                    return Err(Problem::new(at - 1..at, "this `{` has no `}`")
                        .help("write `{{` for the character itself"));
                };
                if !plain.is_empty() {
                    pieces.push(Piece::Plain(std::mem::take(&mut plain)));
                }
                let inner: Vec<Token> = tokens(&text[at..at + length])
                    .into_iter()
                    .map(|t| Token { span: t.span.start + at..t.span.end + at, ..t })
                    .collect();
                let mut cursor = Cursor::new(text, &inner, at + length);
                pieces.push(Piece::Value(cursor.expression()?));
                cursor.end("in the braces")?;
                at += length + 1;
            }
            _ => plain.push(c),
        }
    }
    if !plain.is_empty() || pieces.is_empty() {
        pieces.push(Piece::Plain(plain));
    }
    Ok(pieces)
}
