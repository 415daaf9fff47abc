//! Cutting a stream of bytes into program messages (IEEE 488.2, 7.5, 7.7.5, 7.7.6).

/// Longest message, block data apart.
const MOST_TEXT: usize = 1 << 20;

/// What all blocks of a message may hold together.
const MOST_BLOCK: usize = 1 << 26;

/// What came out of the stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Framed {
    /// A whole message, without its terminator.
    Message(Vec<u8>),
    /// A message that was too long; it is left out up to its terminator.
    TooLong,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    Text,
    Quoted(u8),
    /// After a `#` that begins a parameter.
    Hash,
    /// Digits of the length still to come, and the length so far.
    Length(u8, usize),
    /// Bytes of the block still to come.
    Block(usize),
    /// Leaving out what is too long.
    Drop,
}

/// Cuts a stream into messages: a line feed ends one, unless it is inside a block.
///
/// IEEE 488.2, 7.7.5, lets a string hold a line feed. Here it does not: a quotation mark that is
/// never closed would swallow every command that follows, and the one that switches off with them.
#[derive(Clone, Debug)]
pub struct Framer {
    state: State,
    message: Vec<u8>,
    /// Bytes of the message that are not block data.
    text: usize,
    /// Bytes that the message's blocks say they hold.
    blocks: usize,
    /// Last byte that was no blank, to tell where a parameter begins.
    before: u8,
}

impl Default for Framer {
    fn default() -> Self {
        Self { state: State::Text, message: Vec::new(), text: 0, blocks: 0, before: b' ' }
    }
}

impl Framer {
    /// Takes bytes and gives back every message that they complete.
    pub fn feed(&mut self, bytes: &[u8]) -> Vec<Framed> {
        let mut out = Vec::new();
        let mut rest = bytes;
        while !rest.is_empty() {
            // A block is taken as a whole, whatever is in it.
            if let State::Block(left) = self.state {
                let n = left.min(rest.len());
                self.message.extend_from_slice(&rest[..n]);
                rest = &rest[n..];
                self.state = if n == left { State::Text } else { State::Block(left - n) };
                continue;
            }
            let (byte, after) = (rest[0], &rest[1..]);
            rest = after;
            self.take(byte, &mut out);
        }
        out
    }

    /// Whether a message has begun and not ended.
    pub fn is_within(&self) -> bool {
        !self.message.is_empty() || self.state == State::Drop
    }

    /// Whether the bytes of a block are still to come, of which it is known how many.
    pub fn is_within_block(&self) -> bool {
        matches!(self.state, State::Block(_))
    }

    fn take(&mut self, byte: u8, out: &mut Vec<Framed>) {
        if byte == b'\n' {
            if self.state == State::Drop {
                out.push(Framed::TooLong);
            } else {
                if self.message.last() == Some(&b'\r') {
                    self.message.pop();
                }
                out.push(Framed::Message(std::mem::take(&mut self.message)));
            }
            *self = Self::default();
            return;
        }
        self.state = match self.state {
            State::Drop => return,
            State::Quoted(quote) if byte == quote => State::Text,
            State::Text if byte == b'"' || byte == b'\'' => State::Quoted(byte),
            // Within a header or a number `#` means nothing; the parser says so.
            State::Text if byte == b'#' && matches!(self.before, b' ' | b',') => State::Hash,
            State::Hash if (b'1'..=b'9').contains(&byte) => State::Length(byte - b'0', 0),
            State::Hash => State::Text,
            State::Length(digits, length) if byte.is_ascii_digit() => {
                let length = length * 10 + usize::from(byte - b'0');
                let all = self.blocks.saturating_add(length);
                match digits {
                    1 if all > MOST_BLOCK => State::Drop,
                    1 if length == 0 => State::Text,
                    1 => {
                        self.blocks = all;
                        State::Block(length)
                    }
                    more => State::Length(more - 1, length),
                }
            }
            State::Length(..) => State::Text,
            state => state,
        };
        self.text += 1;
        if self.text > MOST_TEXT {
            self.state = State::Drop;
        }
        if self.state == State::Drop {
            self.message = Vec::new();
            return;
        }
        self.before = if byte.is_ascii_whitespace() { b' ' } else { byte };
        self.message.push(byte);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn messages(bytes: &[u8]) -> Vec<Vec<u8>> {
        let framed = Framer::default().feed(bytes).into_iter().filter_map(|f| match f {
            Framed::Message(m) => Some(m),
            Framed::TooLong => None,
        });
        framed.collect()
    }

    #[test]
    fn line_feeds_end_messages_but_not_inside_blocks() {
        assert_eq!(messages(b"*IDN?\r\nA 1\n"), [&b"*IDN?"[..], b"A 1"]);
        assert_eq!(
            messages(b"A \"x\nABOR\n"),
            [&b"A \"x"[..], b"ABOR"],
            "a string ends with its line"
        );
        assert_eq!(messages(b"A #15\n\n\n\n\n,2\nB\n"), [&b"A #15\n\n\n\n\n,2"[..], b"B"]);
        assert_eq!(messages(b"A #0x\n"), [b"A #0x"]);
        assert_eq!(messages(b"half"), Vec::<Vec<u8>>::new());
    }

    #[test]
    fn a_line_without_end_is_dropped_and_the_next_one_is_read() {
        let mut framer = Framer::default();
        for _ in 0..40 {
            assert!(framer.feed(&[b'x'; 1 << 16]).is_empty());
        }
        assert!(framer.message.is_empty(), "nothing is kept of it");
        assert_eq!(
            framer.feed(b"\n*IDN?\n"),
            [Framed::TooLong, Framed::Message(b"*IDN?".to_vec())]
        );
        assert_eq!(framer.feed(b"A #9999999999\n"), [Framed::TooLong], "a block of 999 MB");
        let half = MOST_BLOCK / 2 + 1;
        let block = [format!("#8{half:08}").as_bytes(), &vec![b'x'; half]].concat();
        let two = [b"A ", &block[..], b",", &block, b"\nB\n"].concat();
        assert_eq!(framer.feed(&two).first(), Some(&Framed::TooLong), "two blocks together");
    }

    proptest! {
        /// However the stream is cut, the same messages come out.
        #[test]
        fn pieces_make_no_difference(bytes in proptest::collection::vec(any::<u8>(), 0..200), at in 0usize..200) {
            let at = at.min(bytes.len());
            let mut framer = Framer::default();
            let mut pieces = framer.feed(&bytes[..at]);
            pieces.extend(framer.feed(&bytes[at..]));
            prop_assert_eq!(pieces, Framer::default().feed(&bytes));
        }
    }
}
