//! A rig that lets anything happen that can: contacts change or not, readings are whatever they can be.

use waltron_core::grading::{Finding, Grade, Rule, Values};
use waltron_core::injection::measuring::{Property, Reading};
use waltron_core::injection::observation::{Edge, Ended, Observation, Span};
use waltron_core::injection::program::{Condition, Program, Then};
use waltron_core::procedure::{Action, Answer, Procedure, Wanted};
use waltron_core::quantity::{Measure, Quantity, seconds};
use waltron_core::record::Event;
use waltron_script::Sequence;
use waltron_test_support::CURRENT_RANGE_A;

/// Chance that can be had again (SplitMix64).
#[derive(Clone, Debug)]
pub(crate) struct Luck(u64);

impl Luck {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// From 0 to 1.
    pub(crate) fn share(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Below a number.
    pub(crate) fn below(&mut self, n: usize) -> usize {
        (self.next() % n as u64) as usize
    }
}

/// What a script did.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Ran {
    pub(crate) grades: Vec<Grade>,
    pub(crate) programs: Vec<Program>,
    /// What a record would hold of it.
    pub(crate) tape: Vec<Event>,
    pub(crate) broken_off: Option<String>,
}

impl Ran {
    fn graded(&mut self, found: Vec<Finding>) {
        let grades: Vec<Grade> = found.into_iter().map(|f| f.graded(Rule::Simple)).collect();
        self.tape.extend(grades.iter().cloned().map(Event::Graded));
        self.grades.extend(grades);
    }
}

/// Plays a program somehow.
fn played(program: &Program, luck: &mut Luck) -> Observation {
    let mut seen = Observation::default();
    if luck.share() < 0.1 {
        seen.closed_at_start.push("start".into());
    }
    let mut now = 0.0;
    for segment in &program.segments {
        let longest = segment.longest().expect("every segment is bounded").si();
        let event = |c: &Condition| !matches!(c, Condition::After(_) | Condition::AtAngle { .. });
        let early: Vec<usize> =
            (0..segment.stops.len()).filter(|i| event(&segment.stops[*i].when)).collect();
        let (lasts, ended) = if !early.is_empty() && luck.share() < 0.5 {
            (longest * luck.share(), Ended::Stop(early[luck.below(early.len())]))
        } else {
            let last = segment
                .stops
                .iter()
                .position(|s| !event(&s.when) && s.when.bound().is_some_and(|b| b.si() <= longest));
            (longest, last.map_or(Ended::Finished, Ended::Stop))
        };
        let (start, end) = (seconds(now), seconds(now + lasts));
        if let Ended::Stop(index) = ended {
            for part in segment.stops[index].when.parts() {
                if let Condition::Contact { signal, closed } | Condition::Edge { signal, closed } =
                    part
                {
                    seen.edges.push(Edge { signal: signal.clone(), time: end, closed: *closed });
                }
            }
        }
        seen.segments.push(Span { start, end, ended });
        now += lasts;
        if matches!(ended, Ended::Stop(index) if segment.stops[index].then != Then::Next) {
            break;
        }
    }
    for probe in &program.reads {
        if luck.share() < 0.9 {
            let si = match probe.what {
                Property::Rms | Property::Magnitude => luck.share() * CURRENT_RANGE_A,
                _ => luck.share(),
            };
            let value = Quantity { si, dimension: probe.dimension };
            let value = Values::none().with_quantity("value", value);
            seen.readings.push(Reading::at_end(probe.clone(), value));
        }
    }
    seen
}

/// Runs a script to its end.
///
/// # Panics
/// Where it does not come to one.
pub(crate) fn run(mut sequence: Sequence, mut luck: Luck) -> Ran {
    let mut ran =
        Ran { grades: Vec::new(), programs: Vec::new(), tape: Vec::new(), broken_off: None };
    for _ in 0..100_000 {
        match sequence.next() {
            Action::Done => {
                ran.broken_off = sequence.broken_off();
                return ran;
            }
            Action::Inject(program) => {
                let observation = played(&program, &mut luck);
                ran.programs.push(Program::clone(&program));
                let grades = sequence.observe(&observation);
                let (test, points, warm) = ("t".into(), Vec::new(), Default::default());
                ran.tape.push(Event::Observed { test, points, program, observation, warm });
                ran.graded(grades);
            }
            Action::Conclude(grades) => ran.graded(grades),
            Action::Ask(question) => {
                let answer = match question.wanted {
                    Wanted::Quantity { bounds: Some([low, high]), .. } => {
                        Answer::Si(low + (high - low) * luck.share())
                    }
                    _ => question.default_answer().unwrap_or(Answer::Text("so".into())),
                };
                ran.tape.push(Event::Asked(question));
                ran.tape.push(Event::Answered { answer: answer.clone() });
                sequence.answer(answer);
            }
            Action::Send { to, text, .. } => {
                let answer = Answer::Text("done".into());
                ran.tape.push(Event::Sent { to, text, answer: answer.clone() });
                sequence.answer(answer);
            }
            Action::Execute { program, args, .. } => {
                let answer = Answer::Text("done".into());
                let command = std::iter::once(program).chain(args).collect();
                ran.tape.push(Event::Executed { command, answer: answer.clone() });
                sequence.answer(answer);
            }
            Action::Set(parameter, value) => ran.tape.push(Event::Set { parameter, value }),
            Action::Tell(_) | Action::Off | Action::Earth(_) => {}
        }
    }
    panic!("the script does not come to its end");
}
