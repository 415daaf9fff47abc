//! The live full-screen view: what is put out, what is seen, what is graded, while it happens.
//!
//! A thread of its own draws and takes keys; the run's thread only leaves word in the shared state.

mod chart;
mod draw;
mod state;

use crate::failure::Failure;
use crate::panel::Over;
use crate::prompt::{Said, said};
use crate::signals::StopFlag;
use crossterm::event::{Event as Key, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, poll, read};
use state::Asked;
pub(crate) use state::State;
use std::collections::VecDeque;
use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use waltron_core::procedure::{Answer, Question};
use waltron_core::record::Event;
use waltron_core::text::name::Name;
use waltron_rig::attendant::{Present, Waiting};

/// Time between two pictures.
const FRAME: Duration = Duration::from_millis(50);

/// How long the screen may take to give the terminal back.
const LAST_PICTURE: Duration = Duration::from_millis(500);

/// What the two threads share.
struct Shared {
    state: Mutex<State>,
    answers: Mutex<VecDeque<Answer>>,
    answered: Condvar,
    commands: Mutex<VecDeque<char>>,
    leave: AtomicBool,
    stop: StopFlag,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The run's end of the live view.
#[derive(Clone)]
pub(crate) struct Live(Arc<Shared>);

/// The screen; the terminal is as it was before once this is dropped.
pub(crate) struct Screen {
    shared: Arc<Shared>,
    thread: Option<JoinHandle<()>>,
}

impl Screen {
    /// Takes the terminal over.
    ///
    /// # Errors
    /// No terminal, or one that cannot be controlled.
    pub(crate) fn open(stop: StopFlag) -> Result<(Self, Live), Failure> {
        if !std::io::stdin().is_terminal() || !std::io::stdout().is_terminal() {
            return Err(Failure::usage("--live needs a terminal")
                .help("leave --live out where there is none; the record is the same"));
        }
        let shared = Arc::new(Shared {
            state: Mutex::default(),
            answers: Mutex::default(),
            answered: Condvar::new(),
            commands: Mutex::default(),
            leave: AtomicBool::new(false),
            stop,
        });
        let mut terminal = ratatui::try_init()
            .map_err(|e| Failure::trouble(format!("the terminal cannot be taken over: {e}")))?;
        let thread = std::thread::spawn({
            let shared = Arc::clone(&shared);
            move || {
                while !shared.leave.load(Ordering::SeqCst) {
                    let state = lock(&shared.state).clone();
                    // A terminal that went away takes the run's attendant with it.
                    if terminal.draw(|frame| draw::draw(frame, &state)).is_err()
                        || keys(&shared, FRAME).is_err()
                    {
                        shared.stop.ask();
                        // Dropping it would complain on a terminal that is gone, and panic of that.
                        std::mem::forget(terminal);
                        let _ = ratatui::try_restore();
                        return;
                    }
                }
                let _ = ratatui::try_restore();
            }
        });
        let live = Live(Arc::clone(&shared));
        Ok((Self { shared, thread: Some(thread) }, live))
    }

    /// Shows the end until a key is pressed; not at all where the run was stopped.
    pub(crate) fn end(self) {
        lock(&self.shared.state).ended = true;
        let over = || {
            let leave = self.shared.leave.load(Ordering::SeqCst);
            leave || self.shared.stop.is_asked() || self.is_gone()
        };
        while !over() {
            std::thread::sleep(FRAME);
        }
    }

    fn is_gone(&self) -> bool {
        self.thread.as_ref().is_none_or(JoinHandle::is_finished)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        self.shared.leave.store(true, Ordering::SeqCst);
        let until = Instant::now() + LAST_PICTURE;
        while !self.is_gone() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(5));
        }
        // A terminal that was hung up may keep its reader for ever; the program ends without it.
        if !self.is_gone() {
            let _ = ratatui::try_restore();
        } else if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Takes the keys pressed within a time.
fn keys(shared: &Shared, within: Duration) -> std::io::Result<()> {
    let until = Instant::now() + within;
    loop {
        let left = until.saturating_duration_since(Instant::now());
        if !poll(left)? {
            return Ok(());
        }
        if let Key::Key(key) = read()?
            && key.kind != KeyEventKind::Release
        {
            press(shared, key);
        }
    }
}

fn press(shared: &Shared, key: KeyEvent) {
    let mut state = lock(&shared.state);
    if state.ended {
        shared.leave.store(true, Ordering::SeqCst);
        return;
    }
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    // A space is text only where text is being typed.
    let types = state.question.as_ref().is_some_and(Asked::is_being_typed);
    let (stops, by) = match key.code {
        KeyCode::Esc => (true, "Esc"),
        KeyCode::Char('c') if control => (true, "Ctrl-C"),
        KeyCode::Char(' ') => (!types, "the space bar"),
        _ => (false, ""),
    };
    if stops {
        // The second time does not wait for what is charged, and leaves.
        if shared.stop.ask() > 1 {
            shared.leave.store(true, Ordering::SeqCst);
        }
        state.stopped(by);
        shared.answered.notify_all();
        return;
    }
    let Some(asked) = &mut state.question else {
        if let KeyCode::Char(c @ ('p' | 'r' | 's' | 'm' | 'q')) = key.code {
            lock(&shared.commands).push_back(c);
            state.pending = Some(match c {
                'p' => "pauses after this injection",
                'r' => "repeats the last point after this injection",
                's' => "skips this test after this injection",
                'm' => "mark set",
                _ => "stops after this injection; Esc stops at once",
            });
        }
        return;
    };
    // What a single key says needs no Enter.
    if let KeyCode::Char(c) = key.code
        && !control
        && let Some(answer) = asked.by_key(c)
    {
        state.question = None;
        lock(&shared.answers).push_back(answer);
        shared.answered.notify_all();
        return;
    }
    match key.code {
        KeyCode::Char(c) if !control => asked.typed.push(c),
        KeyCode::Backspace => {
            asked.typed.pop();
        }
        KeyCode::Enter => {
            let answer = match said(&asked.question, &asked.typed) {
                Ok(Said::Answer(answer)) => Ok(answer),
                // Why is asked once outputs are off.
                Ok(Said::Skip) => Ok(Answer::Skip(String::new())),
                Err(why) => Err(why),
            };
            match answer {
                Ok(answer) => {
                    state.question = None;
                    lock(&shared.answers).push_back(answer);
                    shared.answered.notify_all();
                }
                Err(why) => {
                    asked.typed.clear();
                    asked.wrong = Some(why);
                }
            }
        }
        _ => {}
    }
}

impl Live {
    /// Begins to show a run.
    pub(crate) fn begin(&self, state: State) {
        *lock(&self.0.state) = state;
    }

    /// Shows an event of the run.
    pub(crate) fn event(&self, event: &Event) {
        lock(&self.0.state).event(event);
    }

    /// Shows what is injected next.
    pub(crate) fn begins(&self, stage: &str) {
        lock(&self.0.state).begins(stage);
    }

    /// Shows first which contacts are waited for.
    pub(crate) fn awaits(&self, contacts: &[Name]) {
        lock(&self.0.state).awaited = contacts.to_vec();
    }

    /// Shows which test runs.
    pub(crate) fn begin_test(&self, test: &Name) {
        lock(&self.0.state).begin_test(test);
    }

    /// Shows what is put out and seen.
    pub(crate) fn sees(&self, present: &Present<'_>) {
        lock(&self.0.state).sees(present);
    }

    /// Shows what is waited for.
    pub(crate) fn waits(&self, waiting: &Waiting) {
        lock(&self.0.state).waits(waiting);
    }

    /// Shows a line of text.
    pub(crate) fn note(&self, text: &str) {
        let plain = anstream::adapter::strip_str(text).to_string();
        let mut state = lock(&self.0.state);
        plain.lines().for_each(|line| state.note(None, line.to_owned()));
    }

    /// A command key pressed since the last call.
    pub(crate) fn command(&self) -> Option<char> {
        lock(&self.0.state).pending = None;
        lock(&self.0.commands).pop_front()
    }

    /// Whether the mark's key was pressed since the last call.
    pub(crate) fn mark(&self) -> bool {
        let mut commands = lock(&self.0.commands);
        let at = commands.iter().position(|c| *c == 'm');
        let is_set = at.is_some_and(|at| commands.remove(at).is_some());
        if is_set {
            drop(commands);
            lock(&self.0.state).pending = None;
        }
        is_set
    }

    /// Shows that outputs are off.
    pub(crate) fn goes_off(&self) {
        lock(&self.0.state).goes_off();
    }

    /// Asks and waits for the answer; to stop, where the run shall or nobody answers in time. `keys` choose one of a
    /// choice's answers each.
    pub(crate) fn ask(
        &self,
        question: &Question,
        keys: &'static str,
        over: Over,
        limit: Option<Duration>,
    ) -> Answer {
        let question = question.clone();
        let asked = Asked { question, typed: String::new(), wrong: None, keys, over };
        lock(&self.0.state).question = Some(asked);
        let began = Instant::now();
        let mut answers = lock(&self.0.answers);
        loop {
            if let Some(answer) = answers.pop_front() {
                return answer;
            }
            let late = limit.is_some_and(|limit| began.elapsed() >= limit);
            if late || self.0.stop.is_asked() {
                drop(answers);
                lock(&self.0.state).question = None;
                return Answer::Stop;
            }
            let waited = self.0.answered.wait_timeout(answers, FRAME);
            answers = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }
}
