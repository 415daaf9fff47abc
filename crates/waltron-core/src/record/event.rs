//! What can happen during a run.

use super::kept::Kept;
use super::resolved::Resolved;
use crate::asset::readback::{Difference, ReadSetting};
use crate::clearance::duty::Warm;
use crate::grading::{Grade, Rule, Summary, Verdict, is_false};
use crate::injection::capability::ParameterValue;
use crate::injection::observation::{Discharged, Observation};
use crate::injection::program::Program;
use crate::plan::hookup::Sheet;
use crate::procedure::{Answer, Carried, Owed, Question};
use crate::quantity::Time;
use crate::quantity::edge;
use crate::text::document::Source;
use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// An event of a run. In a record it is a [`Line`](super::Line); by itself it is the object of its kind.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Event {
    /// The first line of every record.
    RunStarted(Box<RunStarted>),
    /// The attendant was asked.
    Asked(Question),
    /// The attendant answered.
    Answered {
        /// What was said.
        answer: Answer,
    },
    /// The waveforms of an injection were kept in a file beside the record.
    Kept(Kept),
    /// The attendant was told something.
    Told {
        /// What.
        text: String,
    },
    /// A parameter of the rig was set.
    Set {
        /// Its name.
        parameter: Name,
        /// To what.
        value: ParameterValue,
    },
    /// A program is about to be put out: in the record before it is, so that what a run that was cut did to its asset
    /// is never less than what stands here.
    Begun(Begun),
    /// What later tests, and the run that resumes this one, shall know, as things stand now.
    HandedOn {
        /// All of it.
        carried: Carried,
    },
    /// What is undone at present, and must be put back whatever ends the test.
    ToRestore {
        /// All of it; none once it is put back.
        owed: Vec<Owed>,
    },
    /// What was charged is discharged, with outputs off.
    Discharged(Discharged),
    /// A program was played.
    Observed {
        /// The test it belongs to.
        test: Name,
        /// The ids of the points that it serves, as far as they are known before it.
        #[serde(skip_serializing_if = "Vec::is_empty", default)]
        points: Vec<String>,
        /// The program, whole: what was put out stands in the record itself.
        program: Arc<Program>,
        /// What was seen.
        observation: Observation,
        /// How warm the asset's inputs are afterwards.
        #[serde(skip_serializing_if = "Warm::is_cold", default)]
        warm: Warm,
    },
    /// A point was graded.
    Graded(Grade),
    /// An instrument was sent a message of its own.
    Sent {
        /// The instrument.
        to: Name,
        /// The message.
        text: String,
        /// What came of it.
        answer: Answer,
    },
    /// A program of the attendant's was run.
    Executed {
        /// The program with its arguments.
        command: Vec<String>,
        /// Its output, or why it failed.
        answer: Answer,
    },
    /// The asset told its settings.
    SettingsRead {
        /// All of them.
        settings: Vec<ReadSetting>,
        /// Those that are not as in the file.
        differences: Vec<Difference>,
        /// Whether what the asset says holds for this run, rather than its file.
        device_holds: bool,
    },
    /// Outputs stayed off for the asset to cool.
    Rested {
        /// For how long.
        #[serde(rename = "time_s", with = "edge::si")]
        time: Time,
    },
    /// A test goes back to before its last point, or to its beginning.
    Repeated {
        /// The test.
        test: Name,
    },
    /// A test came to its end, or was skipped.
    TestEnded {
        /// The test.
        test: Name,
        /// Whether the attendant left the rest of it out.
        #[serde(skip_serializing_if = "is_false", default)]
        skipped: bool,
    },
    /// The run goes on after a stop, or points are tested again.
    Continued(Box<Continued>),
    /// What was measured was graded again, without testing.
    GradedAgain(Box<GradedAgain>),
    /// Somebody added a note.
    Noted {
        /// What it says.
        text: String,
        /// Who, where that is told.
        #[serde(skip_serializing_if = "Option::is_none", default)]
        by: Option<String>,
    },
    /// Stands behind the end of a run and vouches for it, as every line does for the one before.
    Sealed {},
    /// The last line of a run that came to its end in order, but for its seal.
    RunEnded(RunEnded),
}

/// An injection before it is made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Begun {
    /// The test it belongs to.
    pub test: Name,
    /// The ids of the points that it serves, as far as they are known.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub points: Vec<String>,
    /// Where the leads are.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub connection: Option<Name>,
    /// The most that each output puts out.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub outputs: Vec<Most>,
    /// The longest that it may take.
    #[serde(
        rename = "longest_s",
        skip_serializing_if = "Option::is_none",
        default,
        with = "edge::si_option"
    )]
    pub longest: Option<Time>,
    /// How warm the asset's inputs are afterwards at most.
    #[serde(skip_serializing_if = "Warm::is_cold", default)]
    pub warm: Warm,
    /// What the run that resumes this one shall know where the injection is not seen to its end.
    #[serde(skip_serializing_if = "Carried::is_empty", default)]
    pub if_cut: Carried,
}

/// The most that an output puts out, as true RMS value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Most {
    /// The output.
    pub output: Name,
    /// In A, where it is a current.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub current_a: Option<f64>,
    /// In V, where it is a voltage.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub voltage_v: Option<f64>,
}

impl Most {
    /// The most of every output that a program uses.
    pub fn of(program: &Program) -> Vec<Self> {
        let maxima = program.maxima().into_iter();
        let one = |(output, si, is_current): (Name, f64, bool)| {
            let [current_a, voltage_v] = match is_current {
                true => [Some(si), None],
                false => [None, Some(si)],
            };
            Self { output, current_a, voltage_v }
        };
        maxima.map(one).collect()
    }
}

/// Everything a run depends on, so that its record stands alone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunStarted {
    /// Version of this format.
    pub format: u32,
    /// Version of the program.
    pub version: String,
    /// The plan's title.
    pub title: String,
    /// Who tests.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub tester: Option<String>,
    /// Why.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub reason: Option<String>,
    /// Conditions on site, name and text.
    pub ambient: Vec<(String, String)>,
    /// What injected, in words.
    pub rig_name: String,
    /// Seed of the simulation, where the rig is a virtual one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub seed: Option<u64>,
    /// The seed of the specimen, where it is another one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub specimen_seed: Option<u64>,
    /// The asset's file.
    pub asset: FileCopy,
    /// What it meant.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub resolved: Option<Resolved>,
    /// The plan's file.
    pub plan: FileCopy,
    /// The rig's file.
    pub rig: FileCopy,
    /// Files of sequences that the plan names.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub scripts: Vec<FileCopy>,
    /// How rig and asset were connected.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub hookup: Option<Sheet>,
    /// How measurement uncertainty bears on verdicts.
    #[serde(skip_serializing_if = "Rule::is_simple", default)]
    pub rule: Rule,
    /// The only points that were wanted, as patterns of their ids; none: all.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub only: Vec<String>,
}

/// How a run went on in the same record.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Continued {
    /// Version of the program.
    pub version: String,
    /// Who tests now, where somebody was named.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub tester: Option<String>,
    /// What injects now, in words.
    pub rig_name: String,
    /// The rig's file, where it is not the one that the run started with.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub rig: Option<FileCopy>,
    /// What is tested again: `failed`, `not-passed`, or a pattern of ids; absent where the run only
    /// goes on.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub redo: Option<String>,
    /// The plan's file, where it is not the one that the run started with, or went on with last.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub plan: Option<FileCopy>,
    /// Files of sequences that are not those of before.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub scripts: Vec<FileCopy>,
    /// Tests that were changed or taken out: what was graded of them counts no longer.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub changed: Vec<Name>,
    /// The only points that are wanted now, as patterns of their ids; none: all that is left.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub only: Vec<String>,
}

impl Continued {
    /// Puts the files that are new in the place of those of before.
    pub(super) fn update(&self, started: &mut RunStarted) {
        if let Some(plan) = &self.plan {
            started.plan = plan.clone();
        }
        for script in &self.scripts {
            match started.scripts.iter_mut().find(|s| s.name == script.name) {
                Some(known) => known.clone_from(script),
                None => started.scripts.push(script.clone()),
            }
        }
    }
}

/// The points of a record, graded again by other settings, tolerances or rules.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct GradedAgain {
    /// Version of the program.
    pub version: String,
    /// Why, in the words of who did it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub reason: Option<String>,
    /// What is another than when it was tested: settings, tolerances, rule, plan.
    pub changes: Vec<Change>,
    /// The asset's file, where it is not the run's.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub asset: Option<FileCopy>,
    /// The plan's file, where it is not the run's.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub plan: Option<FileCopy>,
    /// Files of sequences, where they are not the run's.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub scripts: Vec<FileCopy>,
    /// How measurement uncertainty bears on these verdicts.
    #[serde(skip_serializing_if = "Rule::is_simple", default)]
    pub rule: Rule,
    /// Counts of the new verdicts.
    pub summary: Summary,
    /// The points with their new verdicts.
    pub grades: Vec<Grade>,
}

/// What is another than when it was tested.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What: a setting by its name, `rule`, `plan`.
    pub name: String,
    /// As it was.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub then: Option<String>,
    /// As it is.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub now: Option<String>,
}

/// A file's name and whole text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileCopy {
    /// The name, without folders.
    pub name: String,
    /// The text.
    pub text: String,
    /// Files that it names, with their texts.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub beside: Vec<(String, String)>,
}

impl From<&Source> for FileCopy {
    fn from(source: &Source) -> Self {
        let name = source.name.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
        let beside = source.beside.iter().map(|(name, text)| (name.clone(), text.to_string()));
        Self { name, text: source.text.to_string(), beside: beside.collect() }
    }
}

impl FileCopy {
    /// Itself as a file that is read, called otherwise.
    pub fn source(&self, name: String) -> Source {
        let beside = self.beside.iter().map(|(name, text)| (name.clone(), text.as_str().into()));
        Source { beside: beside.collect(), ..Source::new(name, self.text.as_str()) }
    }
}

/// How a run ended.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunEnded {
    /// In which way.
    pub outcome: Outcome,
    /// Counts of verdicts.
    pub summary: Summary,
    /// Points of the plan that were not reached.
    pub not_reached: usize,
    /// Their ids.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub open: Vec<String>,
    /// The ids of points of the plan that the run was not asked for, and that are not graded.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub left_out: Vec<String>,
    /// What it has undone and not put back.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub owed: Vec<Owed>,
    /// Time that outputs were under control of programs, all injections together.
    #[serde(rename = "injected_s", with = "edge::si")]
    pub injected: Time,
}

impl RunEnded {
    /// The verdict of the whole plan: what nobody asked for is not tested either.
    pub fn verdict_of_plan(&self) -> Verdict {
        match self.verdict() {
            Verdict::Pass | Verdict::Measured if !self.left_out.is_empty() => Verdict::NotTested,
            verdict => verdict,
        }
    }

    /// The verdict of what a run that came to its end was asked for: what was not reached is never a pass.
    pub fn verdict(&self) -> Verdict {
        match self.summary.verdict() {
            Verdict::Pass | Verdict::Measured if self.not_reached > 0 => Verdict::NotTested,
            verdict => verdict,
        }
    }
}

/// The way a run ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Every test of the plan was gone through.
    Completed,
    /// The attendant or a signal stopped it.
    Stopped,
    /// The rig failed.
    RigTrouble(String),
}
