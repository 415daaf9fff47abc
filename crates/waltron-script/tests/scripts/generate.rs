//! Scripts made at random from the words of the language, most of them well-formed.

use crate::play::Luck;

/// What has been written so far.
struct Writer {
    luck: Luck,
    text: String,
    /// Names of currents that are known here.
    currents: Vec<String>,
    /// Names of truths that are known here.
    truths: Vec<String>,
    depth: usize,
    count: usize,
    faulted: bool,
}

/// A script.
pub(crate) fn script(seed: u64) -> String {
    let luck = Luck::new(seed);
    let mut w = Writer {
        luck,
        text: String::new(),
        currents: vec!["51P.pickup".to_owned()],
        truths: Vec::new(),
        depth: 0,
        count: 0,
        faulted: false,
    };
    let with_sequence = w.luck.share() < 0.5;
    if with_sequence {
        w.line("sequence pulse(level: current)");
        w.inside(|w| {
            let known = (w.currents.clone(), w.truths.clone());
            w.currents.push("level".to_owned());
            w.line("hold ia = min(level, 3 A) for 100 ms");
            w.block(2);
            (w.currents, w.truths) = known;
        });
        w.line("end");
    }
    for _ in 0..w.luck.below(8) + 2 {
        w.statement();
        if with_sequence && w.luck.share() < 0.2 {
            let level = w.current();
            w.line(&format!("call pulse({level})"));
        }
    }
    w.text
}

impl Writer {
    fn line(&mut self, line: &str) {
        self.text.push_str(&"  ".repeat(self.depth));
        self.text.push_str(line);
        self.text.push('\n');
    }

    fn inside(&mut self, body: impl FnOnce(&mut Self)) {
        let (currents, truths) = (self.currents.len(), self.truths.len());
        self.depth += 1;
        body(self);
        self.depth -= 1;
        // What was named inside is gone behind it; results of steps are left out of it too.
        self.currents.truncate(currents);
        self.truths.truncate(truths);
    }

    fn block(&mut self, most: usize) {
        for _ in 0..self.luck.below(most) + 1 {
            self.statement();
        }
    }

    fn pick<'a>(&mut self, all: &[&'a str]) -> &'a str {
        all[self.luck.below(all.len())]
    }

    fn number(&mut self) -> String {
        self.count += 1;
        self.count.to_string()
    }

    fn time(&mut self) -> &'static str {
        self.pick(&["20 ms", "100 ms", "0.5 s", "1 s", "2 s"])
    }

    /// A current that is bounded.
    fn current(&mut self) -> String {
        let literal = self.pick(&["0.1 A", "0.5 A", "1 A", "1.5 A", "2 A", "4 A", "8 A", "0 A"]);
        let name = self.currents[self.luck.below(self.currents.len())].clone();
        match self.luck.below(6) {
            0 | 1 => literal.to_owned(),
            2 => name,
            3 => format!("min(2 * {name}, 6 A)"),
            4 => format!("0.5 * {name} + {literal}"),
            _ => format!("max({name} - {literal}, 0 A)"),
        }
    }

    fn condition(&mut self) -> String {
        let (a, b) = (self.current(), self.current());
        match self.luck.below(5) {
            0 => format!("{a} > {b}"),
            1 => format!("{a} <= {b} or not start"),
            2 => "trip".to_owned(),
            3 if !self.truths.is_empty() => self.truths[self.luck.below(self.truths.len())].clone(),
            _ => "start and not trip".to_owned(),
        }
    }

    fn until(&mut self) -> String {
        let (contact, time) = (self.pick(&["trip", "start", "not start", "52a"]), self.time());
        let otherwise =
            self.pick(&["", "", " else go on", " else stop", " else fail \"nothing came\""]);
        format!("until {contact}, at most {time}{otherwise}")
    }

    fn output(&mut self) {
        let (a, b, time) = (self.current(), self.current(), self.time());
        let off = self.pick(&["", "", " then off"]);
        match self.luck.below(4) {
            0 => self.line(&format!("hold ia = {a}, ib = {b} @ -120 deg for {time}{off}")),
            1 => {
                let until = self.until();
                self.line(&format!("hold i = {a} {until}"));
            }
            2 => self.line(&format!("ramp ia from {a} to 3 A over {time}{off}")),
            _ => self.line(&format!("hold va = 57.7 V, f = 49 Hz, df = 0.5 Hz/s for {time}{off}")),
        }
        self.faulted = false;
    }

    fn statement(&mut self) {
        let n = self.number();
        let (a, b, time) = (self.current(), self.current(), self.time());
        match self.luck.below(if self.depth < 3 { 19 } else { 12 }) {
            0 | 1 => self.output(),
            2 => {
                let until = self.pick(&["start", "trip"]);
                self.line(&format!(
                    "ramp i from 0.2 A to {a} + 0.3 A by 100 mA every 50 ms until {until} as r{n}"
                ));
                self.currents.push(format!("r{n}.value"));
                self.truths.push(format!("r{n}.reached"));
                self.faulted = false;
            }
            3 => {
                // Which loop it is depends on what was seen before.
                let condition = self.condition();
                self.line(&format!("let l{n} = A-N"));
                self.line(&format!("if {condition}"));
                self.inside(|w| w.line(&format!("l{n} = B-C")));
                self.line("end");
                self.line(&format!(
                    "fault l{n} with i = {a} after prefault i = 0.2 A for {time} until trip, at most 2 s"
                ));
                self.faulted = true;
            }
            4 => self.line("off"),
            5 => self.line(&format!("wait {time}")),
            6 => {
                self.line(&format!("let x{n} = {a}"));
                self.currents.push(format!("x{n}"));
            }
            7 => {
                let own = self.currents.iter().find(|c| c.starts_with('x')).cloned();
                match own {
                    Some(name) => self.line(&format!("{name} = min({a}, 2 A)")),
                    None => self.line("tell \"nothing\""),
                }
            }
            8 => {
                self.line(&format!("read m{n} = magnitude(ia) over {time}"));
                self.currents.push(format!("min(m{n}, 5 A)"));
            }
            9 => self.line(&format!("expect {a} between 0 A and {b} + 9 A as \"p{n}\"")),
            10 => {
                let contact = self.pick(&["trip", "not trip", "start"]);
                self.line(&format!("expect {contact} as \"p{n}\""));
            }
            11 if self.faulted => {
                self.line(&format!("expect time(inception -> trip) within band(51P) as \"p{n}\""));
            }
            11 => self.line(&format!("expect {a} > {b} as \"again\"")),
            12 | 13 => {
                let condition = self.condition();
                self.line(&format!("if {condition}"));
                self.inside(|w| w.block(3));
                if self.luck.share() < 0.5 {
                    self.line("else");
                    self.inside(|w| w.block(3));
                }
                self.line("end");
                self.faulted = false;
            }
            14 => {
                let head = match self.luck.below(4) {
                    0 => "repeat 2 times".to_owned(),
                    1 => format!("repeat for {time}"),
                    2 => format!("repeat while {}, at most 3 times", self.condition()),
                    _ => format!("repeat until {}, at most 3 times else go on", self.condition()),
                };
                self.line(&head);
                self.inside(|w| {
                    w.line("wait 100 ms");
                    w.block(3);
                });
                self.line("end");
                self.faulted = false;
            }
            15 => {
                let head = match self.luck.below(2) {
                    0 => format!("for y{n} in [0.5 A, {a}]"),
                    _ => format!("for y{n} from 0.5 A to {a} by 1 A"),
                };
                self.line(&head);
                self.inside(|w| {
                    w.currents.push(format!("y{n}"));
                    w.block(3);
                });
                self.line("end");
                self.faulted = false;
            }
            16 => {
                let contact = self.pick(&["52a", "trip"]);
                self.line(&format!("guard {contact}"));
                self.inside(|w| w.line("tell \"guarded\""));
                self.line("then stop");
            }
            17 => {
                self.line(&format!("ask q{n}: current \"How much?\" default 1 A from 0 A to 3 A"));
                self.currents.push(format!("q{n}"));
            }
            _ => {
                self.line("play");
                self.inside(|w| {
                    for _ in 0..w.luck.below(3) + 1 {
                        w.output();
                    }
                });
                self.line("end");
            }
        }
    }
}
