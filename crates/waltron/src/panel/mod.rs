//! The person at the panel, on a plain terminal, scripted by a file, or not there at all.

mod lines;

use crate::live::Live;
use crate::prompt::{Said, prompt, reason, said};
use crate::signals::StopFlag;
use crate::terminal::{Colour, Terminal, plain};
use crate::time_left::TimeLeft;
use indicatif::ProgressBar;
use lines::{Lines, Reading, Silence};
use std::cell::Cell;
use std::collections::VecDeque;
use std::io::IsTerminal;
use std::rc::Rc;
use std::time::Duration;
use waltron_core::grading::Verdict;
use waltron_core::injection::program::Stand;
use waltron_core::plan::Answers;
use waltron_core::procedure::{Answer, Question, Wanted};
use waltron_core::quantity::{Time, duration};
use waltron_rig::attendant::{Attendant, Moment, Present, Waiting, Wish};

/// What is typed between prompts, in one line.
const COMMANDS: &str = "type p and Enter to pause, r to repeat the last point, s to skip this test, m to set a mark, q to stop";

/// The person at the panel.
pub(crate) struct Panel {
    stop: StopFlag,
    voice: Voice,
    terminal: Terminal,
    bar: ProgressBar,
    /// What is injected, in words.
    stage: String,
    /// The time left of the run, as the run's events tell it.
    left: Rc<Cell<TimeLeft>>,
    /// How long a prompt waits; for ever where nothing else was asked for.
    limit: Option<Duration>,
    pause_on_fail: bool,
    /// What stands over a question: which of several it is, or that outputs stay on.
    over: Over,
    /// What was typed while something was put out, for when it is over.
    typed: VecDeque<String>,
    /// Whether the run has begun: what it asks from then on nobody has confirmed before.
    is_running: bool,
    /// Whether it was told that something is charged, after a stop.
    was_warned: bool,
}

/// What a question is asked under.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Over {
    /// Outputs are off, and nothing else is to be said.
    Nothing,
    /// The place of a question among those before outputs come on, from 1, and their number.
    OneOf(usize, usize),
    /// Outputs stay on while it is asked.
    Outputs,
}

/// The keys of a pause's choices in the live view.
const PAUSE_KEYS: &str = "grsq";

enum Voice {
    /// Types on the terminal, or a pipe into it.
    Typing(Option<Lines>),
    /// Confirms everything.
    Confirming,
    /// Answers by a file of this name.
    Scripted(Answers, String),
    /// Sits at the live view.
    Live(Live),
}

impl Panel {
    fn new(stop: StopFlag, voice: Voice) -> Self {
        Self {
            stop,
            voice,
            terminal: Terminal::new(Colour::Auto),
            bar: ProgressBar::hidden(),
            stage: String::new(),
            left: Rc::default(),
            limit: None,
            pause_on_fail: false,
            over: Over::Nothing,
            typed: VecDeque::new(),
            is_running: false,
            was_warned: false,
        }
    }

    /// Somebody who is asked on the terminal.
    pub(crate) fn asking(stop: StopFlag) -> Self {
        Self::new(stop, Voice::Typing(None))
    }

    /// Nobody: everything that can be is confirmed.
    pub(crate) fn confirming(stop: StopFlag) -> Self {
        Self::new(stop, Voice::Confirming)
    }

    /// Answers by a file.
    pub(crate) fn scripted(stop: StopFlag, answers: Answers, file: String) -> Self {
        Self::new(stop, Voice::Scripted(answers, file))
    }

    /// Somebody at the live view.
    pub(crate) fn live(stop: StopFlag, live: Live) -> Self {
        Self::new(stop, Voice::Live(live))
    }

    /// The live view, where there is one.
    pub(crate) fn view(&self) -> Option<Live> {
        if let Voice::Live(live) = &self.voice { Some(live.clone()) } else { None }
    }

    /// Sets how long a prompt waits, and whether a failed point pauses the run.
    #[must_use]
    pub(crate) fn with(mut self, limit: Option<Duration>, pause_on_fail: bool) -> Self {
        self.limit = limit;
        self.pause_on_fail = pause_on_fail;
        self
    }

    /// Listens for commands between prompts, where there is a terminal to type them on, and keeps
    /// out of a progress bar's way.
    pub(crate) fn listen(&mut self, bar: ProgressBar, left: Rc<Cell<TimeLeft>>, takes_time: bool) {
        self.bar = bar;
        self.left = left;
        self.over = Over::Nothing;
        self.is_running = true;
        if let Voice::Typing(lines) = &mut self.voice
            && std::io::stdin().is_terminal()
        {
            lines.get_or_insert_with(|| Lines::begin(Reading::Always));
            // What is over in a moment needs no commands.
            if takes_time {
                self.chat(&format!("{COMMANDS}\n"));
            }
        }
    }

    /// Answers of a file that were not asked for.
    pub(crate) fn left_over(&self) -> Vec<String> {
        match &self.voice {
            Voice::Scripted(answers, _) => {
                answers.left_over().into_iter().map(str::to_owned).collect()
            }
            _ => Vec::new(),
        }
    }

    /// The next question is this one of those before outputs come on, from 1.
    pub(crate) fn asks_of_several(&mut self, at: usize, of: usize) {
        self.over = Over::OneOf(at, of);
    }

    /// Shows text that is no question.
    pub(crate) fn say(&self, text: &str) {
        self.chat(text);
    }

    fn chat(&self, text: &str) {
        if let Voice::Live(live) = &self.voice {
            return live.note(text);
        }
        self.bar.suspend(|| self.terminal.chat(text));
    }

    /// Asks on the terminal; a progress bar keeps away meanwhile.
    fn typed(&mut self, question: &Question) -> Answer {
        let bar = self.bar.clone();
        bar.suspend(|| self.typed_alone(question))
    }

    fn typed_alone(&mut self, question: &Question) -> Answer {
        if let Some(stop) = self.typed_ahead() {
            return stop;
        }
        let text = match self.over {
            Over::Nothing => prompt(question),
            Over::OneOf(at, of) => format!("{at} of {of}: {}", prompt(question)),
            Over::Outputs => format!("Outputs stay on. {}", prompt(question)),
        };
        loop {
            self.terminal.chat(&text);
            let line = match self.line() {
                Ok(line) => line,
                Err(answer) => return answer,
            };
            match said(question, &line) {
                Ok(Said::Answer(answer)) => return answer,
                // Why is asked once outputs are off.
                Ok(Said::Skip) => return Answer::Skip(String::new()),
                Err(why) => self.terminal.chat(&format!("{why}\n")),
            }
        }
    }

    /// What was typed on a terminal before a question was there does not answer it, but a stop counts.
    fn typed_ahead(&mut self) -> Option<Answer> {
        let Voice::Typing(Some(lines)) = &self.voice else { return None };
        if !std::io::stdin().is_terminal() {
            return None;
        }
        let stops = |line: &String| said(&reason(), line) == Ok(Said::Answer(Answer::Stop));
        let ahead: Vec<String> =
            self.typed.drain(..).chain(std::iter::from_fn(|| lines.unasked())).collect();
        ahead.iter().any(stops).then_some(Answer::Stop)
    }

    /// A typed line.
    ///
    /// # Errors
    /// The answer that stands for silence: to stop.
    fn line(&mut self) -> Result<String, Answer> {
        let Voice::Typing(lines) = &mut self.voice else { return Err(Answer::Stop) };
        let silence = match lines
            .get_or_insert_with(|| Lines::begin(Reading::WhenAsked))
            .wait(self.limit, &self.stop)
        {
            Ok(line) => return Ok(line),
            Err(silence) => silence,
        };
        self.terminal.chat(match silence {
            Silence::Closed => "\nnobody answers (no input); use --yes to confirm every prompt\n",
            Silence::TimedOut => "\nnobody answered in time; the run stops\n",
            Silence::Stopped => "\n",
        });
        Err(Answer::Stop)
    }

    /// What the attendant wants after a pause.
    fn pause(&mut self, moment: &Moment<'_>) -> Wish {
        let last = moment.last.last();
        let after =
            last.map_or_else(String::new, |g| format!(" after {} ({})", g.point.id, g.verdict));
        let outputs = if moment.held { "outputs stay on" } else { "outputs are off" };
        let choices = ["go on", "repeat the last point", "skip this test", "stop"];
        let text = format!("Paused{after}, {outputs}");
        let question = Question::choose(text, choices);
        // The words say it already.
        self.over = Over::Nothing;
        let answer = match &self.voice {
            Voice::Live(live) => live.ask(&question, PAUSE_KEYS, Over::Nothing, self.limit),
            _ => self.ask(&question),
        };
        match answer {
            Answer::Text(text) if text == choices[0] => Wish::GoOn,
            Answer::Text(text) if text == choices[1] => Wish::Repeat,
            Answer::Text(text) if text == choices[2] => Wish::Skip(String::new()),
            Answer::Skip(reason) => Wish::Skip(reason),
            _ => Wish::Stop,
        }
    }
}

impl Attendant for Panel {
    fn ask(&mut self, question: &Question) -> Answer {
        let text = plain(&question.text);
        match &mut self.voice {
            Voice::Typing(_) => self.typed(question),
            Voice::Live(live) => live.ask(question, "", self.over, self.limit),
            // What must be seen to before outputs come on was confirmed with --yes; what arises later was not.
            Voice::Confirming if self.is_running && question.wanted == Wanted::Permission => {
                self.chat(&format!("--yes does not answer `{text}`: the run stops\n"));
                Answer::Stop
            }
            Voice::Confirming => question.default_answer().unwrap_or_else(|| {
                self.chat(&format!("--yes has no answer to `{text}`: the run stops\n"));
                Answer::Stop
            }),
            Voice::Scripted(answers, file) => {
                // Nor does a line that answers everything permit what arises later.
                let arises = self.is_running && question.wanted == Wanted::Permission;
                let said = match arises {
                    true => answers.take_named(&question.text),
                    false => answers.take(&question.text),
                };
                let file = plain(file);
                let Some(said) = said else {
                    self.chat(&format!(
                        "{file} has no answer to `{text}`; the run stops, add one and go on with --resume\n"
                    ));
                    return Answer::Stop;
                };
                let why = match crate::prompt::answered(question, &said) {
                    Ok(answer) => return answer,
                    Err(why) => why,
                };
                self.chat(&format!(
                    "{file}: `{}` does not answer `{text}`: {why}; the run stops\n",
                    plain(&said)
                ));
                Answer::Stop
            }
        }
    }

    fn reason(&mut self) -> Option<String> {
        match self.ask(&reason()) {
            Answer::Text(reason) => Some(reason),
            _ => None,
        }
    }

    fn wish(&mut self, moment: &Moment<'_>) -> Wish {
        self.over = if moment.held { Over::Outputs } else { Over::Nothing };
        let failed = moment.last.iter().any(|g| g.verdict == Verdict::Fail);
        // A point is paused at once, before the next injection, whoever speaks.
        if failed && self.pause_on_fail && !matches!(self.voice, Voice::Confirming) {
            return self.pause(moment);
        }
        let typed = match &mut self.voice {
            Voice::Typing(Some(lines)) if std::io::stdin().is_terminal() => {
                self.typed.extend(std::iter::from_fn(|| lines.unasked()));
                self.typed.pop_front()
            }
            Voice::Live(live) => {
                live.begin_test(moment.test);
                live.command().map(String::from)
            }
            _ => None,
        };
        match typed.as_deref() {
            None | Some("") => Wish::GoOn,
            Some("p") => self.pause(moment),
            Some("r") => Wish::Repeat,
            Some("s") => Wish::Skip(String::new()),
            Some("q") => Wish::Stop,
            // A mark that nothing waited for.
            Some("m") => Wish::GoOn,
            Some(_) => {
                self.chat(&format!("{COMMANDS}\n"));
                Wish::GoOn
            }
        }
    }

    fn mark(&mut self) -> bool {
        match &self.voice {
            Voice::Typing(Some(lines)) if std::io::stdin().is_terminal() => {
                self.typed.extend(std::iter::from_fn(|| lines.unasked()));
                let at = self.typed.iter().position(|line| line == "m");
                at.is_some_and(|at| self.typed.remove(at).is_some())
            }
            Voice::Live(live) => live.mark(),
            _ => false,
        }
    }

    fn begins(&mut self, stage: &str) {
        match &self.voice {
            Voice::Live(live) => live.begins(stage),
            _ => {
                self.stage = plain(stage);
                self.bar.set_prefix(self.stage.clone());
            }
        }
    }

    fn awaits(&mut self, contacts: &[waltron_core::text::name::Name]) {
        if let Voice::Live(live) = &self.voice {
            live.awaits(contacts);
        }
    }

    fn moves(&mut self, to: &Stand) {
        let text = format!("Set {} to {} NOW: the current stays on, open no circuit", to.of, to.at);
        match &self.voice {
            Voice::Live(live) => live.begins(&text),
            Voice::Typing(_) => self.say(&format!("{}\n", plain(&text))),
            Voice::Confirming | Voice::Scripted(..) => {}
        }
    }

    fn goes_off(&mut self) {
        self.over = Over::Nothing;
        if let Voice::Live(live) = &self.voice {
            live.goes_off();
        }
    }

    fn drains(&mut self) {
        let text = "Outputs are off; what was charged is being discharged: touch nothing";
        match &self.voice {
            Voice::Live(live) => live.begins(text),
            _ => self.bar.set_prefix(text),
        }
        if self.stop.is_asked() && !self.was_warned {
            self.was_warned = true;
            self.chat(&format!("{text} (Ctrl-C once more leaves it charged)\n"));
        }
    }

    fn discharged(&mut self, after: Time) {
        let text = format!("Discharged after {}", duration(after));
        match &self.voice {
            Voice::Live(live) => live.begins(&text),
            _ => self.bar.set_prefix(text.clone()),
        }
        // Where somebody may be waiting for it, it is worth a line.
        if self.stop.is_asked() || matches!(self.voice, Voice::Typing(_)) {
            self.chat(&format!("{text}\n"));
        }
    }

    fn is_watching(&self) -> bool {
        matches!(self.voice, Voice::Live(_)) || !self.bar.is_hidden()
    }

    fn sees(&mut self, present: &Present<'_>) {
        if let Voice::Live(live) = &self.voice {
            live.sees(present);
        }
        if !self.bar.is_hidden() {
            let mut left = self.left.get();
            left.sees(present.now);
            self.bar.set_message(left.to_string());
            self.left.set(left);
        }
    }

    fn waits(&mut self, waiting: &Waiting) {
        match &self.voice {
            Voice::Live(live) => live.waits(waiting),
            _ => {
                let words = format!("{}: {waiting}, {}", self.stage, waiting.time_left());
                self.bar.set_prefix(plain(&words));
            }
        }
    }

    fn wants_to_stop(&self) -> bool {
        self.stop.is_asked()
    }

    fn abandons(&self) -> bool {
        self.stop.insists()
    }
}
