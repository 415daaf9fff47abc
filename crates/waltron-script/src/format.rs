//! The one way a script is laid out.
//!
//! Formatting works on tokens, so comments stay and nothing can change its meaning: only blanks
//! between tokens, indentation, and empty lines at the end are touched. Every line keeps its number,
//! since points without a name are called by it.

use waltron_core::text::expression::{Kind, Sign, Token, tokens};

/// Blanks of one level.
const INDENT: &str = "  ";

/// Lays a script out.
pub fn format(text: &str) -> String {
    let all = tokens(text);
    let mut out = String::with_capacity(text.len());
    let mut depth = 0usize;
    for line in all.split(|t| t.kind == Kind::Newline) {
        if line.is_empty() {
            out.push('\n');
            continue;
        }
        let word =
            |i: usize| line.get(i).filter(|t| t.kind == Kind::Name).map(|t| &text[t.span.clone()]);
        let first = word(0).unwrap_or_default();
        let closes = matches!(first, "end" | "else" | "then");
        if closes {
            depth = depth.saturating_sub(1);
        }
        out.push_str(&INDENT.repeat(depth));
        write_line(text, line, &mut out);
        out.push('\n');
        let has = |wanted: &str| {
            line.iter().any(|t| t.kind == Kind::Name && &text[t.span.clone()] == wanted)
        };
        let opens = match first {
            "for" | "repeat" | "if" | "sequence" | "else" | "finally" => true,
            "play" => true,
            "guard" => !has("then"),
            _ => false,
        };
        depth += usize::from(opens);
    }
    while out.ends_with("\n\n") {
        out.pop();
    }
    out
}

fn write_line(text: &str, line: &[Token], out: &mut String) {
    for (i, token) in line.iter().enumerate() {
        let before = i.checked_sub(1).map(|j| &line[j]);
        if let Some(before) = before {
            let written = &text[before.span.end..token.span.start];
            if token.kind == Kind::Comment {
                out.push_str("  ");
            } else if spaced(text, line, i, !written.is_empty()) {
                out.push(' ');
            }
        }
        let slice = &text[token.span.clone()];
        match token.kind {
            Kind::Comment => out.push_str(slice.trim_end()),
            Kind::Sign(sign) => out.push_str(sign.text()),
            Kind::Quantity(_) if is_element(text, line, i) => out.push_str(slice),
            Kind::Quantity(_) => write_quantity(slice, out),
            _ => out.push_str(slice),
        }
    }
}

/// Whether what reads like a quantity is an element's name: the `51V` of `band(51V)`.
fn is_element(text: &str, line: &[Token], at: usize) -> bool {
    let Some([function, open]) = at.checked_sub(2).and_then(|from| line.get(from..at)) else {
        return false;
    };
    let takes_element = matches!(&text[function.span.clone()], "band" | "tolerance" | "curve");
    takes_element && matches!(open.kind, Kind::Sign(Sign::Open))
}

/// `5A` and `5   A` become `5 A`; `5%` becomes `5 %`.
fn write_quantity(slice: &str, out: &mut String) {
    // The number ends where its unit begins; an exponent's `e` has a digit or a sign behind it.
    let bytes = slice.as_bytes();
    let mut end = 0;
    while end < bytes.len() && (bytes[end].is_ascii_digit() || bytes[end] == b'.') {
        end += 1;
    }
    if matches!(bytes.get(end), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(end + 1), Some(b'+' | b'-')));
        let digits = bytes[end + 1 + sign..].iter().take_while(|b| b.is_ascii_digit()).count();
        if digits > 0 {
            end += 1 + sign + digits;
        }
    }
    out.push_str(&slice[..end]);
    out.push(' ');
    out.push_str(slice[end..].trim());
}

/// Whether a blank stands before a token.
fn spaced(text: &str, line: &[Token], i: usize, written: bool) -> bool {
    let (before, token) = (&line[i - 1], &line[i]);
    let operand = |t: &Token| {
        matches!(
            t.kind,
            Kind::Number(_) | Kind::Quantity(_) | Kind::Name | Kind::Quoted | Kind::Text
        ) || matches!(t.kind, Kind::Sign(Sign::Close | Sign::CloseList))
    };
    let keyword = |t: &Token| {
        t.kind == Kind::Name
            && waltron_core::text::expression::RESERVED.contains(&&text[t.span.clone()])
    };
    match (before.kind, token.kind) {
        // Two numbers around a point would become one.
        (Kind::Number(_) | Kind::Quantity(_), Kind::Sign(Sign::Dot)) => true,
        (_, Kind::Sign(Sign::Comma | Sign::Close | Sign::CloseList | Sign::Dot | Sign::Colon)) => {
            false
        }
        (Kind::Sign(Sign::Open | Sign::OpenList | Sign::Dot), _) => false,
        // `balanced(…)`, but `and (…)`.
        (Kind::Name | Kind::Quoted, Kind::Sign(Sign::Open)) => {
            keyword(before) && !is_function_word(&text[before.span.clone()])
        }
        // A sign right before its operand, and loops such as `A-N`.
        (Kind::Sign(Sign::Minus | Sign::Plus), _) => {
            let binary = i >= 2 && operand(&line[i - 2]) && !keyword(&line[i - 2]);
            if binary && is_loop(text, line, i - 1) { false } else { binary }
        }
        (_, Kind::Sign(Sign::Minus)) if is_loop(text, line, i) => false,
        (Kind::Sign(Sign::Power), _) | (_, Kind::Sign(Sign::Power)) => false,
        (Kind::Stray, _) | (_, Kind::Stray) => written,
        _ => true,
    }
}

/// Reserved words that are also called like functions.
fn is_function_word(word: &str) -> bool {
    !matches!(
        word,
        "and"
            | "or"
            | "not"
            | "in"
            | "is"
            | "from"
            | "to"
            | "by"
            | "if"
            | "while"
            | "until"
            | "for"
            | "at"
            | "with"
            | "within"
            | "between"
            | "over"
            | "every"
            | "expect"
            | "tell"
            | "wait"
            | "most"
            | "else"
            | "fail"
            | "guard"
            | "repeat"
            | "offset"
            | "inception"
            | "after"
            | "let"
            | "read"
            | "ask"
            | "then"
            | "resting"
            | "as"
            | "times"
    )
}

/// Whether the minus at this place belongs to a fault loop: a single letter of A, B, C, N on each side.
fn is_loop(text: &str, line: &[Token], minus: usize) -> bool {
    let phase = |t: Option<&Token>| {
        t.is_some_and(|t| matches!(&text[t.span.clone()], "A" | "B" | "C" | "N"))
    };
    let around = minus.checked_sub(1).map(|j| &line[j]);
    phase(around) && phase(line.get(minus + 1))
}
