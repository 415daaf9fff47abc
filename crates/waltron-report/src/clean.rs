//! What may stand in a document, whatever the files say.

/// A document's text without characters that no document may hold (control characters are not allowed
/// in XML 1.0, 2.2, nor in HTML), and without marks that turn the reading direction of what stands
/// around them (Unicode Standard Annex 9, 2).
pub(crate) fn document(text: String) -> String {
    let fits = |c: char| matches!(c, '\n' | '\r' | '\t') || !(c.is_control() || turns(c));
    if text.chars().all(fits) {
        return text;
    }
    text.chars().map(|c| if fits(c) { c } else { '\u{fffd}' }).collect()
}

fn turns(c: char) -> bool {
    matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}
