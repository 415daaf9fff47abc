//! A place in the tokens of a text.

use super::super::token::{Kind, Sign, Token};
use super::Cursor;
use crate::quantity::Unit;
use crate::text::document::Problem;
use crate::text::name::Name;
use std::ops::Range;

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
    pub(super) fn hyphenated(&self, token: &Token) -> Option<&'a str> {
        let in_word = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
        let before = self.text[..token.span.start].trim_end_matches(in_word).len();
        let behind = self.text[token.span.end..].find(|c| !in_word(c));
        let end = behind.map_or(self.text.len(), |n| token.span.end + n);
        let is_inside = before < token.span.start && end > token.span.end;
        (token.kind == Kind::Sign(Sign::Minus) && is_inside).then(|| &self.text[before..end])
    }

    pub(super) fn behind_number(&self, token: &Token) -> bool {
        let before = self.text[..token.span.start].trim_end_matches([' ', '\t']);
        before.ends_with(|c: char| c.is_ascii_digit())
            && !super::super::RESERVED.contains(&&self.text[token.span.clone()])
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
    pub(super) fn decimal_comma(&self, comma: &Token) -> bool {
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
}
