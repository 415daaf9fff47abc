//! Tokens: the words, numbers with units, texts and signs of a line.

use crate::quantity::{Quantity, Unit};
use std::ops::Range;
use winnow::ascii::digit1;
use winnow::combinator::{alt, opt, preceded, repeat};
use winnow::error::ContextError;
use winnow::prelude::*;
use winnow::stream::{LocatingSlice, Location, Stream};
use winnow::token::{any, literal, none_of, one_of, take_while};

/// One token with its place.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    /// What it is.
    pub kind: Kind,
    /// Byte range in the text.
    pub span: Range<usize>,
}

/// Kinds of token.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Kind {
    /// A number without unit.
    Number(f64),
    /// A number with its unit.
    Quantity(Quantity),
    /// A word: a keyword, a variable, an element's id.
    Name,
    /// A name in backquotes, which may hold any character.
    Quoted,
    /// Text in double quotes.
    Text,
    /// A text whose closing quote is missing on its line.
    OpenText,
    /// An operator or a bracket.
    Sign(Sign),
    /// From `#` to the end of the line.
    Comment,
    /// The end of a line.
    Newline,
    /// A character that means nothing here.
    Stray,
}

macro_rules! signs {
    ($($name:ident $text:literal)*) => {
        /// Operators and brackets.
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        #[allow(missing_docs, reason = "each is named by its character")]
        pub enum Sign { $($name),* }

        impl Sign {
            /// How it is written.
            pub fn text(self) -> &'static str {
                match self { $(Self::$name => $text),* }
            }
            /// Longer signs stand before those they start with.
            const ALL: &'static [(Self, &'static str)] = &[$((Self::$name, $text)),*];
        }
    };
}

signs! {
    Arrow "->" LessEqual "<=" GreaterEqual ">=" Equal "==" NotEqual "!="
    Plus "+" Minus "-" Times "*" Over "/" Power "^" At "@" Less "<" Greater ">" Assign "="
    Open "(" Close ")" OpenList "[" CloseList "]" Comma "," Dot "." Colon ":" Percent "%"
}

type Input<'a> = LocatingSlice<&'a str>;
type Result<T> = winnow::Result<T, ContextError>;

/// Cuts a text into tokens; every byte but blanks belongs to one. Never fails: what means nothing
/// becomes [`Kind::Stray`].
pub fn tokens(text: &str) -> Vec<Token> {
    let mut input = LocatingSlice::new(text);
    let mut found = Vec::with_capacity(text.len() / 4);
    loop {
        let _: Result<&str> =
            take_while(0.., |c: char| c != '\n' && c.is_whitespace()).parse_next(&mut input);
        if input.is_empty() {
            return found;
        }
        match token.with_span().parse_next(&mut input) {
            Ok((kind, span)) => found.push(Token { kind, span }),
            // Unreachable, since `stray` takes any character; an empty rest ends the loop.
            Err(_) => return found,
        }
    }
}

fn token(input: &mut Input<'_>) -> Result<Kind> {
    alt((
        '\n'.value(Kind::Newline),
        ('#', take_while(0.., |c| c != '\n')).value(Kind::Comment),
        number,
        word.value(Kind::Name),
        ('`', take_while(1.., |c| c != '`' && c != '\n'), '`').value(Kind::Quoted),
        quoted_text,
        sign.map(Kind::Sign),
        any.value(Kind::Stray),
    ))
    .parse_next(input)
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

fn word<'a>(input: &mut Input<'a>) -> Result<&'a str> {
    take_while(1.., is_word).parse_next(input)
}

fn quoted_text(input: &mut Input<'_>) -> Result<Kind> {
    let inside = alt((preceded('\\', none_of('\n')).void(), none_of(['"', '\n', '\\']).void()));
    ('"', repeat::<_, _, (), _, _>(0.., inside)).parse_next(input)?;
    let closed = opt('"').parse_next(input)?;
    Ok(if closed.is_some() { Kind::Text } else { Kind::OpenText })
}

fn sign(input: &mut Input<'_>) -> Result<Sign> {
    let rest: &str = input.as_ref();
    for (foreign, meant) in [("≤", Sign::LessEqual), ("≥", Sign::GreaterEqual), ("−", Sign::Minus)]
    {
        if rest.starts_with(foreign) {
            return literal(foreign).value(meant).parse_next(input);
        }
    }
    match Sign::ALL.iter().find(|(_, text)| rest.starts_with(text)) {
        Some((sign, text)) => literal(*text).value(*sign).parse_next(input),
        None => Err(ContextError::new()),
    }
}

/// A number, a number with its unit, or a name that starts with digits such as `51P`.
///
/// `5A` and `5 A` are quantities, `51P` and `52a` are names since `P` and `a` are no units. A word
/// followed by `.` and a letter is a name whatever it looks like: `51V.pickup`.
fn number(input: &mut Input<'_>) -> Result<Kind> {
    let start = input.checkpoint();
    let whole = digit1.parse_next(input)?;
    let after_digits = input.checkpoint();
    // `51P`, `51V.pickup`: letters right behind the digits.
    if let Ok(rest) = word.parse_next(input) {
        let exponent = whole_exponent(rest, input.as_ref());
        let dotted = input.as_ref().strip_prefix('.').is_some_and(starts_with_letter);
        if dotted || (Unit::parse(rest).is_none() && !exponent) {
            return Ok(Kind::Name);
        }
    }
    input.reset(&after_digits);
    // `46.pickup`: device numbers alone are ids too.
    if input.as_ref().strip_prefix('.').is_some_and(starts_with_letter) {
        return Ok(Kind::Name);
    }
    let _ = (opt(('.', digit1)), opt((one_of(['e', 'E']), opt(one_of(['+', '-'])), digit1)))
        .parse_next(input)?;
    let end = input.current_token_start();
    input.reset(&start);
    let length = end - input.current_token_start();
    let text: &str = take_while(length..=length, |_| true).parse_next(input)?;
    debug_assert!(text.starts_with(whole));
    let value: f64 = text.parse().unwrap_or(f64::NAN);
    Ok(unit(value, input))
}

/// Whether the letters behind digits are an exponent: `5e3`, `5e-3`.
fn whole_exponent(rest: &str, behind: &str) -> bool {
    let Some(digits) = rest.strip_prefix(['e', 'E']) else { return false };
    let signed = || {
        behind.strip_prefix(['+', '-']).is_some_and(|b| b.starts_with(|c: char| c.is_ascii_digit()))
    };
    if digits.is_empty() { signed() } else { digits.starts_with(|c: char| c.is_ascii_digit()) }
}

fn starts_with_letter(text: &str) -> bool {
    text.starts_with(|c: char| c.is_alphabetic())
}

/// Takes the unit behind a number, if what stands there is one.
fn unit(value: f64, input: &mut Input<'_>) -> Kind {
    let before = input.checkpoint();
    let _: Result<&str> = take_while(0.., [' ', '\t']).parse_next(input);
    let symbol: Result<&str> = alt(("%", "°", word)).parse_next(input);
    if let Ok(symbol) = symbol {
        let plain = Unit::parse(symbol);
        let after = input.checkpoint();
        // `min(` is the function, not minutes.
        let called = input.as_ref().starts_with('(');
        let under: Result<&str> = preceded('/', word).parse_next(input);
        let compound = under.ok().and_then(|under| Unit::parse(&format!("{symbol}/{under}")));
        if compound.is_none() {
            input.reset(&after);
        }
        if let Some(unit) = compound.or(plain).filter(|_| !called) {
            let si = value * unit.factor;
            return Kind::Quantity(Quantity { si, dimension: unit.dimension });
        }
    }
    input.reset(&before);
    Kind::Number(value)
}
