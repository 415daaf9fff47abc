//! The tree of an instrument's commands (SCPI-1999 volume 1, 6.2.1, 6.2.5).

use super::error::{Fault, faults};
use super::parse::Header;

/// A command of a tree.
#[derive(Clone, Copy, Debug)]
pub struct Command<T> {
    /// How it is written in manuals: capitals make the short form, brackets what may be left out,
    /// as in `SYSTem:ERRor[:NEXT]`.
    pub pattern: &'static str,
    /// How many parameters it takes where it is told; `None` where it cannot be.
    pub sets: Option<Takes>,
    /// The same where it is asked, with a question mark.
    pub asks: Option<Takes>,
    /// What it means.
    pub meaning: T,
}

/// How many parameters a command takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Takes {
    /// The fewest.
    pub least: usize,
    /// The most.
    pub most: usize,
}

impl Takes {
    /// None.
    pub const NONE: Self = Self::exactly(0);

    /// So many, no more and no fewer.
    pub const fn exactly(count: usize) -> Self {
        Self { least: count, most: count }
    }

    /// From so many to so many.
    pub const fn from_to(least: usize, most: usize) -> Self {
        Self { least, most }
    }
}

/// An instrument's commands.
#[derive(Clone, Debug)]
pub struct Tree<T: 'static> {
    commands: &'static [Command<T>],
}

struct Node<'a> {
    mnemonic: &'a str,
    optional: bool,
}

fn nodes(pattern: &str) -> Vec<Node<'_>> {
    let mut all = Vec::new();
    let mut rest = pattern;
    while !rest.is_empty() {
        let optional = rest.starts_with('[');
        rest = rest.trim_start_matches(['[', ':']);
        let end = rest.find([':', '[', ']']).unwrap_or(rest.len());
        all.push(Node { mnemonic: &rest[..end], optional });
        rest = rest[end..].trim_start_matches(']');
    }
    all
}

/// Whether a mnemonic in capitals is the short or the long form of one in a pattern.
fn is_form(written: &str, mnemonic: &str) -> bool {
    let short = mnemonic.trim_end_matches(|c: char| c.is_ascii_lowercase());
    written == short || written.eq_ignore_ascii_case(mnemonic)
}

fn fits(written: &[String], pattern: &[Node<'_>]) -> bool {
    match (written.split_first(), pattern.split_first()) {
        (None, None) => true,
        (None, Some((node, rest))) => node.optional && fits(written, rest),
        (Some(_), None) => false,
        (Some((word, after)), Some((node, rest))) => {
            (is_form(word, node.mnemonic) && fits(after, rest))
                || (node.optional && fits(written, rest))
        }
    }
}

impl<T: Copy> Tree<T> {
    /// A tree of these commands.
    pub const fn new(commands: &'static [Command<T>]) -> Self {
        Self { commands }
    }

    /// What a header means with so many parameters.
    ///
    /// # Errors
    /// A header that is not in the tree, or that cannot be asked, or only asked; too few parameters, or too many.
    pub fn find(&self, header: &Header, parameters: usize) -> Result<T, Fault> {
        let mut found = self.commands.iter().filter(|c| fits(&header.nodes, &nodes(c.pattern)));
        let takes = |c: &Command<T>| if header.query { c.asks } else { c.sets };
        let fitting = found.find_map(|c| Some((c.meaning, takes(c)?)));
        let (meaning, takes) = fitting.ok_or_else(|| {
            let mark = if header.query { "?" } else { "" };
            faults::UNDEFINED_HEADER.because(format!("{}{mark}", header.nodes.join(":")))
        })?;
        if parameters > takes.most {
            return Err(faults::PARAMETER_NOT_ALLOWED);
        }
        if parameters < takes.least {
            return Err(faults::MISSING_PARAMETER);
        }
        Ok(meaning)
    }

    /// Every header as manuals write it, those that ask with their question mark.
    pub fn headers(&self) -> Vec<String> {
        let of = |c: &Command<T>| {
            let set = c.sets.map(|_| c.pattern.to_owned());
            set.into_iter().chain(c.asks.map(|_| format!("{}?", c.pattern))).collect::<Vec<_>>()
        };
        self.commands.iter().flat_map(of).collect()
    }
}
