//! The statements of a sequence.

use std::ops::Range;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::text::expression::{Expr, Type};
use waltron_core::text::name::Name;

/// A byte range that does not count when two scripts are compared.
#[derive(Clone, Debug, Default)]
pub struct Span(pub Range<usize>);

impl PartialEq for Span {
    fn eq(&self, _other: &Self) -> bool {
        true
    }
}

/// A whole script.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Script {
    /// What is done, in order.
    pub body: Vec<Step>,
    /// The sub-sequences it defines.
    pub sequences: Vec<Sequence>,
    /// What is done at its end, however it ends.
    pub finally: Vec<Step>,
}

/// A sub-sequence with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct Sequence {
    /// What it is called.
    pub name: Name,
    /// Its parameters with their types.
    pub parameters: Vec<(Name, Type)>,
    /// What it does.
    pub body: Vec<Step>,
    /// The line that begins it.
    pub span: Span,
}

/// A statement with the place of its first line.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// What it does.
    pub what: Statement,
    /// Its first line.
    pub span: Span,
}

/// What a step does.
#[derive(Clone, Debug, PartialEq)]
pub enum Statement {
    /// `let x = …`, or a new value for a name that exists.
    Let {
        /// The name.
        name: Name,
        /// Whether the name is new.
        new: bool,
        /// Its value.
        value: Expr,
    },
    /// `hold …`.
    Hold(Hold),
    /// `ramp …`.
    Ramp(Ramp),
    /// `fault …`.
    Fault(Fault),
    /// `playback …`.
    Playback(Playback),
    /// `play … end`: its steps are one injection, timed by the rig.
    Play(Vec<Step>),
    /// `wait …`.
    Wait(Wait),
    /// `off`.
    Off,
    /// `repeat … end`.
    Repeat(Repeat),
    /// `for x in … end`.
    For(For),
    /// `if … else … end`.
    If(Vec<(Option<Expr>, Vec<Step>)>),
    /// `guard …`: watched until the end of the block it stands in.
    Guard(Guard),
    /// `ask …`.
    Ask(Ask),
    /// `tell …`.
    Tell(Expr),
    /// `send "VOLT 5" to psu`, with `as x` a query.
    Send {
        /// The message.
        text: Expr,
        /// The instrument.
        to: Name,
        /// Where its name stands.
        at: Span,
        /// The name that the answer gets; where there is none, none is waited for.
        name: Option<Name>,
    },
    /// `run "PROGRAM" "ARGUMENT" … at most TIME`.
    Execute {
        /// The program.
        program: Expr,
        /// Its arguments, passed as they are.
        args: Vec<Expr>,
        /// How long it may take.
        most: Expr,
        /// The name that its output gets.
        name: Option<Name>,
    },
    /// `read x = …`.
    Read {
        /// The name that the value gets.
        name: Name,
        /// What is measured: a probe, or several values' arithmetic.
        value: Expr,
        /// The time before the value is taken.
        over: Option<Expr>,
    },
    /// `set supply.output = on`.
    Set {
        /// The parameter.
        parameter: Name,
        /// Where its name stands.
        at: Span,
        /// What it is set to.
        value: SetValue,
    },
    /// `expect …`.
    Expect(Expect),
    /// `capture NAME`: the next injection's waveforms are kept.
    Capture {
        /// What they are called.
        name: Name,
    },
    /// `stop`, `fail …`.
    Stop(Ending),
    /// `call sequence(…)`.
    Call {
        /// The sub-sequence.
        name: Name,
        /// Its arguments.
        args: Vec<Expr>,
    },
}

impl Statement {
    /// Its word and the clauses that end it, where it is a step that puts something out.
    pub fn output(&self) -> Option<(&'static str, &Until)> {
        Some(match self {
            Self::Hold(s) => ("hold", &s.until),
            Self::Ramp(s) => ("ramp", &s.until),
            Self::Fault(s) => ("fault", &s.until),
            Self::Wait(s) => ("wait", &s.until),
            Self::Playback(s) => ("playback", &s.until),
            _ => return None,
        })
    }
}

/// What is put out on a channel or a group of channels, or a part of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Setting {
    /// What is set: `ia`, `i`, `v`, `f`, `df`, `ia.h3`, `ia.dc`, `ia.f`, `z`, `p`, `q`.
    pub target: Name,
    /// Where its name stands.
    pub at: Span,
    /// To what.
    pub value: Expr,
}

/// A fault loop as a step names it.
#[derive(Clone, Debug, PartialEq)]
pub enum LoopOf {
    /// As it is written.
    This(FaultLoop),
    /// What a name stands for, such as the one that a `for` runs over.
    Named(Name, Span),
}

/// The stimulus of a step: single settings, or a fault loop that they describe.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Output {
    /// The loop, where there is one.
    pub fault: Option<LoopOf>,
    /// The settings.
    pub settings: Vec<Setting>,
}

/// When a step ends and what happens then.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Until {
    /// `for …`: its length.
    pub time: Option<Expr>,
    /// `until …`.
    pub condition: Option<Expr>,
    /// `at most …`: the longest it may take.
    pub most: Option<Expr>,
    /// `else …`: what happens if the condition did not come true.
    pub otherwise: Option<Ending>,
    /// `then off`, `then off at zero`.
    pub off: Option<OffWhen>,
    /// `as …`.
    pub label: Option<Name>,
}

/// When outputs go off.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OffWhen {
    /// At once.
    Now,
    /// Each at its next zero crossing.
    Zero,
}

/// How a sequence ends before its last line, or goes on.
#[derive(Clone, Debug, PartialEq)]
pub enum Ending {
    /// `go on`.
    GoOn,
    /// `stop`.
    Stop,
    /// `fail "…"`.
    Fail(Expr),
}

/// `hold OUTPUT for … until …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Hold {
    /// What is put out; what it does not name stays as it is.
    pub output: Output,
    /// When it ends.
    pub until: Until,
}

/// How a ramp moves.
#[derive(Clone, Debug, PartialEq)]
pub enum Pace {
    /// `by … every …`, with `resting … for …`: pulses.
    Stairs {
        /// The step.
        by: Expr,
        /// Time on each level.
        every: Expr,
        /// What is put out between levels, and for how long.
        resting: Option<(Output, Expr)>,
    },
    /// `at …`: a smooth slope of this rate.
    Rate(Expr),
    /// `over …`: a smooth slope of this length.
    Over(Expr),
}

/// `ramp X from … to …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Ramp {
    /// What moves: an output's property, or a name that `with` uses.
    pub target: Name,
    /// Where its name stands.
    pub at: Span,
    /// The first value.
    pub from: Expr,
    /// The last value.
    pub to: Expr,
    /// How it moves.
    pub pace: Pace,
    /// `with …`: what is put out, worked out anew at every level.
    pub with: Option<Output>,
    /// When it ends.
    pub until: Until,
}

/// `fault A-N with … after prefault … for … until …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Fault {
    /// What is put out.
    pub output: Output,
    /// What is put out before, and for how long.
    pub before: Option<(Output, Expr)>,
    /// What is put out afterwards, and for how long.
    pub afterwards: Option<(Output, Expr)>,
    /// `inception …`: the voltage's angle at which the fault begins; `random` where `None` inside.
    pub inception: Option<Option<Expr>>,
    /// `offset …`: time constant of a decaying DC offset.
    pub offset: Option<Expr>,
    /// When it ends.
    pub until: Until,
}

/// `playback "FILE" with ia = channel("IL1") …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Playback {
    /// The file.
    pub file: String,
    /// Where its name stands.
    pub at: Span,
    /// Rig channel, recorded channel, factor.
    pub map: Vec<(Name, String, Option<Expr>)>,
    /// The part that is played: from, to.
    pub part: (Option<Expr>, Option<Expr>),
    /// How often.
    pub times: Option<Expr>,
    /// When it ends.
    pub until: Until,
}

/// `wait …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Wait {
    /// When it ends.
    pub until: Until,
}

/// `repeat …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Repeat {
    /// How long.
    pub kind: RepeatKind,
    /// `at most … times`, where the condition alone does not end it.
    pub most: Option<Expr>,
    /// `else …`: what happens once it has gone round that often; it goes on if nothing is said.
    pub otherwise: Option<Ending>,
    /// What is repeated.
    pub body: Vec<Step>,
}

/// How long something is repeated.
#[derive(Clone, Debug, PartialEq)]
pub enum RepeatKind {
    /// `repeat 8 times`.
    Times(Expr),
    /// `repeat for 30 s`.
    For(Expr),
    /// `repeat while …`, looked at before each round.
    While(Expr),
    /// `repeat until …`, looked at after each round.
    Until(Expr),
}

/// `for x in …` or `for x from … to … by …`.
#[derive(Clone, Debug, PartialEq)]
pub struct For {
    /// The name.
    pub name: Name,
    /// What it takes on.
    pub over: ForOver,
    /// What is done for each.
    pub body: Vec<Step>,
}

/// What a loop runs over.
#[derive(Clone, Debug, PartialEq)]
pub enum ForOver {
    /// The items of a list.
    List(Expr),
    /// From, to, by.
    Range(Expr, Expr, Expr),
}

/// `guard CONDITION … then stop`.
#[derive(Clone, Debug, PartialEq)]
pub struct Guard {
    /// The condition.
    pub condition: Expr,
    /// What is done first.
    pub body: Vec<Step>,
    /// How the sequence ends.
    pub ending: Ending,
}

/// `ask …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Ask {
    /// The question.
    pub text: Expr,
    /// What is answered.
    pub wanted: AskWanted,
}

/// What kind of answer is asked for.
#[derive(Clone, Debug, PartialEq)]
pub enum AskWanted {
    /// That it is done.
    Confirm,
    /// `ask x from ["a", "b"] "…" default "a"`: the name that the answer gets, the answers, the one where nobody is
    /// asked.
    Choice(Name, Expr, Option<Expr>),
    /// `ask x: resistance "…" default … from … to …`.
    Value {
        /// The name that the answer gets.
        name: Name,
        /// What it is.
        kind: Type,
        /// The answer where nobody is asked.
        default: Option<Expr>,
        /// The least and the largest answer.
        between: Option<(Expr, Expr)>,
    },
}

/// What a parameter is set to.
#[derive(Clone, Debug, PartialEq)]
pub enum SetValue {
    /// `on`, `off`.
    Switch(bool),
    /// A quantity.
    Value(Expr),
}

/// `expect …`.
#[derive(Clone, Debug, PartialEq)]
pub struct Expect {
    /// What is required.
    pub what: Requirement,
    /// `as "…"`.
    pub label: Option<Expr>,
}

/// What is required.
#[derive(Clone, Debug, PartialEq)]
pub enum Requirement {
    /// `VALUE is EXPECTED within TOLERANCE`.
    Is(Expr, Expr, Within),
    /// `VALUE between A and B`.
    Between(Expr, Expr, Expr),
    /// `VALUE within band(…)`: the operate time's acceptance band.
    Band(Expr, Name, Option<Expr>, Span),
    /// A condition; a contact holds if it closed during the last injection.
    Holds(Expr),
}

/// A tolerance.
#[derive(Clone, Debug, PartialEq)]
pub enum Within {
    /// The same above and below.
    Both(Side),
    /// `+A / -B`.
    Sides(Side, Side),
    /// `tolerance(51P)`: that of an element's settings.
    Of(Name, Span),
}

/// One side of a tolerance.
#[derive(Clone, Debug, PartialEq)]
pub enum Side {
    /// One part.
    One(Expr),
    /// The larger of two.
    Larger(Expr, Expr),
    /// The sum of two.
    Sum(Expr, Expr),
}
