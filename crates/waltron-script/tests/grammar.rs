//! The grammar in the documentation against the parser: sentences that are made from it are read, and what is none
//! of its words is refused at its place.
#![allow(clippy::unwrap_used, missing_docs)]

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;
use waltron_core::text::document::Source;
use waltron_script::{format, parse};

const GRAMMAR: &str = include_str!("../../../docs/grammar.ebnf");

/// What stands on the right of a rule (ISO/IEC 14977).
#[derive(Clone, Debug)]
enum Expression {
    Terminal(String),
    Rule(String),
    /// One after the other.
    Sequence(Vec<Expression>),
    /// One of these.
    Choice(Vec<Expression>),
    /// Left out, or once.
    Optional(Box<Expression>),
    /// Any number of times.
    Repeated(Box<Expression>),
}

use Expression::{Choice, Optional, Repeated, Rule, Sequence, Terminal};

/// A word of the notation.
#[derive(Clone, Debug, PartialEq)]
enum Token {
    Identifier(String),
    Terminal(String),
    Symbol(char),
}

fn tokens(text: &str) -> Vec<Token> {
    let mut all = Vec::new();
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(comment) = rest.strip_prefix("(*") {
            rest = comment.split_once("*)").unwrap().1;
        } else if c == '"' || c == '\'' {
            let (terminal, after) = rest[1..].split_once(c).unwrap();
            all.push(Token::Terminal(terminal.to_owned()));
            rest = after;
        } else if c.is_alphabetic() {
            let end = rest.find(|c: char| !(c.is_alphanumeric() || c == ' ' || c == '_'));
            let (name, after) = rest.split_at(end.unwrap_or(rest.len()));
            all.push(Token::Identifier(name.trim().to_owned()));
            rest = after;
        } else {
            if !c.is_whitespace() {
                all.push(Token::Symbol(c));
            }
            rest = &rest[c.len_utf8()..];
        }
    }
    all
}

/// Reads alternatives up to a closing symbol.
fn alternatives(all: &mut std::iter::Peekable<impl Iterator<Item = Token>>) -> Expression {
    let mut choices = vec![Vec::new()];
    while let Some(token) = all.peek().cloned() {
        match token {
            Token::Symbol(']' | '}' | ')' | ';') => break,
            Token::Symbol('|') => choices.push(Vec::new()),
            Token::Symbol(',') => {}
            Token::Symbol(open @ ('[' | '{' | '(')) => {
                all.next();
                let inner = Box::new(alternatives(all));
                let inner = match open {
                    '[' => Optional(inner),
                    '{' => Repeated(inner),
                    _ => *inner,
                };
                choices.last_mut().unwrap().push(inner);
            }
            // Only what a text may not hold is an exception, and texts are made below.
            Token::Symbol('-') => {
                all.next();
                if all.peek() == Some(&Token::Symbol('(')) {
                    all.next();
                    alternatives(all);
                }
            }
            Token::Symbol(c) => panic!("{c} has no meaning"),
            Token::Terminal(text) => choices.last_mut().unwrap().push(Terminal(text)),
            Token::Identifier(name) => choices.last_mut().unwrap().push(Rule(name)),
        }
        all.next();
    }
    let mut choices: Vec<Expression> = choices.into_iter().map(Sequence).collect();
    if choices.len() == 1 { choices.remove(0) } else { Choice(choices) }
}

fn rules() -> BTreeMap<String, Expression> {
    let mut all = tokens(GRAMMAR).into_iter().peekable();
    let mut rules = BTreeMap::new();
    while let Some(Token::Identifier(name)) = all.next() {
        assert_eq!(all.next(), Some(Token::Symbol('=')), "{name}");
        let right = alternatives(&mut all);
        assert_eq!(all.next(), Some(Token::Symbol(';')), "{name}");
        assert!(rules.insert(name.clone(), right).is_none(), "{name} twice");
    }
    rules
}

/// What is made of words and not of letters: names that are no words of the language, texts, units.
const WORDS: &[(&str, &[&str])] = &[
    ("name", &["ia", "x1", "supply", "`relay 1`", "level_2", "51P"]),
    ("text", &["\"a\"", "\"it is {x1}\"", "\"50 %, \\\"so\\\"\"", "\"\""]),
    ("unit", &["%", "A", "kV", "ms", "Hz", "deg", "Ohm", "V/Hz", "°"]),
    ("NEWLINE", &["\n"]),
    ("count", &["1", "3"]),
    ("digit", &["0", "1", "5", "9"]),
    ("kind", &["current", "time", "number", "text"]),
];

/// What is written without blanks inside.
const WHOLE: &[&str] = &["path", "number", "count"];

/// Chance that can be had again (SplitMix64).
struct Luck(u64);

impl Luck {
    fn below(&mut self, count: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % count as u64) as usize
    }
}

struct Writer<'r> {
    rules: &'r BTreeMap<String, Expression>,
    luck: Luck,
    text: String,
    /// Inside what is written without blanks.
    whole: bool,
    budget: i32,
}

impl Writer<'_> {
    fn put(&mut self, word: &str) {
        let needs = !self.whole && !self.text.is_empty() && !self.text.ends_with(['\n', ' ']);
        if needs && word != "\n" {
            self.text.push(' ');
        }
        self.text.push_str(word);
    }

    /// Writes a sentence of an expression; the deeper, the shorter.
    fn write(&mut self, of: &Expression, depth: u32) {
        self.budget -= 1;
        let is_short = self.budget < 0 || depth > 12;
        match of {
            Terminal(text) => self.put(text),
            Sequence(all) => all.iter().for_each(|one| self.write(one, depth)),
            Choice(all) => {
                // What comes to an end soonest stands in the grammar's shortest alternative.
                let shortest = || all.iter().min_by_key(|one| self.weight(one, 6));
                let chosen =
                    if is_short { shortest().unwrap() } else { &all[self.luck.below(all.len())] };
                self.write(chosen, depth);
            }
            Optional(inner) => {
                if !is_short && self.luck.below(2) == 0 {
                    self.write(inner, depth);
                }
            }
            Repeated(inner) => {
                let most = if is_short { 0 } else { self.luck.below(3) };
                (0..most).for_each(|_| self.write(inner, depth));
            }
            Rule(name) => {
                if let Some((_, words)) = WORDS.iter().find(|(word, _)| word == name) {
                    let word = words[self.luck.below(words.len())];
                    self.put(word);
                    return;
                }
                let rule = self.rules.get(name).unwrap_or_else(|| panic!("no rule {name}"));
                let is_whole = WHOLE.contains(&name.as_str());
                if is_whole && !self.whole {
                    self.put("");
                }
                let was = self.whole;
                self.whole |= is_whole;
                self.write(rule, depth + 1);
                self.whole = was;
            }
        }
    }

    /// About how much an expression leads to.
    fn weight(&self, of: &Expression, deep: u32) -> u32 {
        if deep == 0 {
            return 100;
        }
        match of {
            Terminal(_) => 1,
            Sequence(all) => all.iter().map(|one| self.weight(one, deep)).sum(),
            Choice(all) => all.iter().map(|one| self.weight(one, deep)).min().unwrap_or(0),
            Optional(_) | Repeated(_) => 0,
            Rule(name) if WORDS.iter().any(|(word, _)| word == name) => 1,
            Rule(name) => 1 + self.rules.get(name).map_or(0, |rule| self.weight(rule, deep - 1)),
        }
    }
}

fn sentence(rule: &str, seed: u64, budget: i32) -> String {
    let rules = rules();
    let mut writer =
        Writer { rules: &rules, luck: Luck(seed), text: String::new(), whole: false, budget };
    let of = Rule(rule.to_owned());
    writer.write(&of, 0);
    writer.text
}

/// The problems of a script's grammar, each with its line.
fn problems(text: &str) -> Vec<String> {
    let source = Source::new("s.seq", text);
    let Err(error) = parse(&source) else { return Vec::new() };
    let line = |at: usize| 1 + text[..at.min(text.len())].matches('\n').count();
    error.problems.iter().map(|p| format!("line {}: {}", line(p.span.start), p.message)).collect()
}

/// Every rule is used, every name on a right side is a rule or a word of the test.
#[test]
fn the_grammar_is_whole() {
    fn names(of: &Expression, all: &mut Vec<String>) {
        match of {
            Terminal(_) => {}
            Rule(name) => all.push(name.clone()),
            Sequence(inner) | Choice(inner) => inner.iter().for_each(|one| names(one, all)),
            Optional(inner) | Repeated(inner) => names(inner, all),
        }
    }
    let rules = rules();
    let mut used = vec!["script".to_owned()];
    rules.values().for_each(|right| names(right, &mut used));
    let letters = ["NEWLINE", "letter", "digit", "character", "symbol"];
    for name in &used {
        assert!(rules.contains_key(name) || letters.contains(&name.as_str()), "no rule {name}");
    }
    for name in rules.keys() {
        assert!(used.contains(name), "{name} is not used");
    }
    assert!(rules.len() > 30);
}

/// What the grammar leaves to other words of the documentation: each clause once, a loop and a sign behind it, and how
/// large a number may be.
const BEYOND: [&str; 3] = ["is there twice", "is no fault loop", "this number is too large"];

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, failure_persistence: None, ..ProptestConfig::default() })]

    /// A statement of the grammar is read, and the grammar takes it back as one.
    #[test]
    fn what_the_grammar_says_is_read(seed: u64, budget in 5..120i32) {
        let text = format!("{}\n", sentence("statement", seed, budget));
        let found = problems(&text);
        let is_beyond = found.iter().any(|p| BEYOND.iter().any(|words| p.contains(words)));
        prop_assert!(found.is_empty() || is_beyond, "{text}\n{found:?}");
        prop_assert!(Reader::takes(&text), "the grammar makes it, and does not take it:\n{text}");
        if found.is_empty() {
            // Laid out it is one, too.
            let laid_out = format(&text);
            let is_one = problems(&laid_out).is_empty() && Reader::takes(&laid_out);
            prop_assert!(is_one, "{text}\nlaid out:\n{laid_out}");
            prop_assert_eq!(format(&laid_out), laid_out);
        }
    }
}

/// Takes a text by the grammar: all places at which a part of it can end.
struct Reader<'r> {
    rules: &'r BTreeMap<String, Expression>,
    text: &'r str,
    known: HashMap<(String, usize, bool), BTreeSet<usize>>,
}

impl Reader<'_> {
    /// Whether a text is a script.
    fn takes(text: &str) -> bool {
        let rules = rules();
        let mut reader = Reader { rules: &rules, text, known: HashMap::new() };
        let ends = reader.ends(&Rule("script".to_owned()), 0, false);
        ends.into_iter().any(|end| reader.blank(end) == text.len())
    }

    /// Where blanks and a comment end.
    fn blank(&self, at: usize) -> usize {
        let rest = &self.text[at..];
        let rest = rest.trim_start_matches([' ', '\t']);
        let rest = if rest.starts_with('#') {
            &rest[rest.find('\n').unwrap_or(rest.len())..]
        } else {
            rest
        };
        self.text.len() - rest.len()
    }

    fn literal(&self, word: &str, at: usize, whole: bool) -> BTreeSet<usize> {
        let at = if whole { at } else { self.blank(at) };
        let Some(rest) = self.text[at..].strip_prefix(word) else { return BTreeSet::new() };
        // A word ends where its letters do.
        let is_letter = |c: char| c.is_alphanumeric() || c == '_';
        let goes_on = word.ends_with(is_letter) && rest.starts_with(is_letter);
        if goes_on && !whole { BTreeSet::new() } else { BTreeSet::from([at + word.len()]) }
    }

    /// A character of a kind.
    fn character(&self, at: usize, is: impl Fn(char) -> bool) -> BTreeSet<usize> {
        self.text[at..]
            .chars()
            .next()
            .filter(|c| is(*c))
            .map(|c| at + c.len_utf8())
            .into_iter()
            .collect()
    }

    fn ends(&mut self, of: &Expression, at: usize, whole: bool) -> BTreeSet<usize> {
        match of {
            Terminal(word) => self.literal(word, at, whole),
            Sequence(all) => all.iter().fold(BTreeSet::from([at]), |from, one| {
                from.into_iter().flat_map(|at| self.ends(one, at, whole)).collect()
            }),
            Choice(all) => all.iter().flat_map(|one| self.ends(one, at, whole)).collect(),
            Optional(inner) => {
                let mut all = self.ends(inner, at, whole);
                all.insert(at);
                all
            }
            Repeated(inner) => {
                let (mut all, mut open) = (BTreeSet::from([at]), vec![at]);
                while let Some(at) = open.pop() {
                    for end in self.ends(inner, at, whole) {
                        if all.insert(end) {
                            open.push(end);
                        }
                    }
                }
                all
            }
            Rule(name) => self.rule(name, at, whole),
        }
    }

    fn rule(&mut self, name: &str, at: usize, whole: bool) -> BTreeSet<usize> {
        let key = (name.to_owned(), at, whole);
        if let Some(known) = self.known.get(&key) {
            return known.clone();
        }
        let begin = if whole { at } else { self.blank(at) };
        let found = match name {
            "NEWLINE" => self.character(begin, |c| c == '\n'),
            "letter" => self.character(at, char::is_alphabetic),
            "digit" => self.character(at, |c| c.is_ascii_digit()),
            "name" => self.named(begin),
            "text" => self.quoted(begin),
            "symbol" => self.symbol(begin),
            _ => {
                let rule = self.rules.get(name).unwrap_or_else(|| panic!("no rule {name}")).clone();
                let is_whole = WHOLE.contains(&name) || name == "unit";
                self.ends(&rule, if is_whole { begin } else { at }, whole || is_whole)
            }
        };
        self.known.insert(key, found.clone());
        found
    }

    /// A name, or one in backquotes.
    fn named(&self, at: usize) -> BTreeSet<usize> {
        let rest = &self.text[at..];
        if let Some(inner) = rest.strip_prefix('`') {
            let end = inner.find(['`', '\n']).filter(|end| inner[*end..].starts_with('`'));
            return end.map(|end| at + end + 2).into_iter().collect();
        }
        let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len());
        (end > 0).then_some(at + end).into_iter().collect()
    }

    fn quoted(&self, at: usize) -> BTreeSet<usize> {
        let mut chars = self.text[at..].char_indices().skip(1);
        if !self.text[at..].starts_with('"') {
            return BTreeSet::new();
        }
        while let Some((k, c)) = chars.next() {
            match c {
                '\\' => drop(chars.next()),
                '"' => return BTreeSet::from([at + k + 1]),
                '\n' => break,
                _ => {}
            }
        }
        BTreeSet::new()
    }

    fn symbol(&self, at: usize) -> BTreeSet<usize> {
        let rest = &self.text[at..];
        let end = rest.find(|c: char| !c.is_alphanumeric()).unwrap_or(rest.len());
        (end > 0).then_some(at + end).into_iter().collect()
    }
}

/// The samples, and every block of the language's documentation, are of the grammar.
#[test]
fn the_samples_are_of_the_grammar() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let files = std::fs::read_dir(root.join("examples")).unwrap().map(|e| e.unwrap().path());
    let scripts = files.filter(|path| path.extension().is_some_and(|e| e == "seq"));
    let mut texts: Vec<String> =
        scripts.map(|path| std::fs::read_to_string(path).unwrap()).collect();
    let guide = std::fs::read_to_string(root.join("docs/sequences.md")).unwrap();
    let blocks = guide.split("```seq").skip(1).map(|block| block.split_once('\n').unwrap().1);
    texts.extend(blocks.map(|block| block.split("```").next().unwrap().to_owned()));
    assert!(texts.len() > 20, "{}", texts.len());
    for text in &texts {
        assert!(Reader::takes(text), "{text}");
    }
    for text in
        ["hold ia = 1 A for\n", "repeat 3 times\noff\n", "let x 3\n", "wait\n", "nonsense here\n"]
    {
        assert!(!Reader::takes(text) && !problems(text).is_empty(), "{text}");
    }
}

/// What is given twice is refused: the last one would silently hold.
#[test]
fn what_is_there_twice_is_refused_at_its_place() {
    let cases = [
        ("ramp ia from 1 A to 2 A by 0.1 A every 1 s over 5 s", "how it moves"),
        ("ramp ia from 1 A to 2 A at 1 A/s at 2 A/s", "how it moves"),
        ("ramp ia from 1 A to 2 A over 5 s by 0.1 A every 1 s", "how it moves"),
        ("ramp ia from 1 A to 2 A over 5 s with va = 1 V with vb = 1 V", "`with`"),
        ("fault A-N with current = 1 A with current = 2 A for 1 s", "`with`"),
        ("fault A-N after prefault off for 1 s after prefault off for 2 s", "before the fault"),
        ("fault A-N then postfault off for 1 s then postfault off for 2 s", "after the fault"),
        ("fault A-N inception random inception 30 deg", "`inception`"),
        ("fault A-N offset 20 ms offset 30 ms", "`offset`"),
        ("playback \"f\" with ia = \"A\" from 1 s from 2 s", "`from`"),
        ("playback \"f\" with ia = \"A\" to 1 s to 2 s", "`to`"),
        ("playback \"f\" with ia = \"A\" repeat 1 times repeat 2 times", "`repeat`"),
        ("wait 5 s for 3 s", "`for`"),
        ("hold ia = 1 A for 1 s for 2 s", "`for`"),
        ("hold ia = 1 A until trip until trip", "`until`"),
        ("hold ia = 1 A for 1 s as a as b", "`as`"),
    ];
    for (line, what) in cases {
        let found = problems(&format!("let x = 1\n{line}\n"));
        let is_told = found
            .iter()
            .any(|p| p.starts_with("line 2:") && p.contains(&format!("{what} is there twice")));
        assert!(is_told, "{line}: {found:?}");
    }
}
