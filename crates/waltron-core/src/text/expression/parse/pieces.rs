//! Texts with values to be filled in.

use super::super::ast::Piece;
use super::super::token::{Token, tokens};
use super::Cursor;
use crate::text::document::Problem;
use std::ops::Range;

/// The pieces of a text: `{…}` holds an expression, `{{` is a brace, `\"` a quote.
pub(super) fn pieces(text: &str, span: Range<usize>) -> Result<Vec<Piece>, Problem> {
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
