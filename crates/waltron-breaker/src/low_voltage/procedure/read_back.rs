//! Settings and counters as the trip unit tells them, against the file and against what the run has made.

use super::super::asset::LvBreaker;
use super::course::TRIPPED_SO_FAR;
use super::timed::point;
use super::unit::{CLOSED, GROUP, TRIPPED, TRIPS, UNIT, all, look, told, word};
use crate::ledger::{Entry, Ledger};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Family;
use waltron_core::grading::{
    Criterion, Finding, Grade, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Answer, Bench, Carried, FamilyKeys, Injection, Method, Planned, PlannedPoint,
    Procedure, SetupError, TestHead,
};
use waltron_core::quantity::{Quantity, seconds};
use waltron_core::text::document::Problems;
use waltron_core::text::name::Name;

/// That a setting is what the file says.
const SETTING: Criterion = Criterion::named("trip_unit_setting");
/// That a counter goes on by what the run has made.
const COUNTER: Criterion = Criterion::named("trip_unit_counter");

/// What the trip counter read last.
const READ: Ledger = Ledger("unit trips");

/// How near a number that was told must be to the file's where nothing is known of its counts, as a share.
const SAME: f64 = 1e-3;

/// Reads the trip unit's settings and counters.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ReadBackKeys {}

#[derive(Clone, Debug, PartialEq)]
struct ReadBack {
    test: Name,
}

impl FamilyKeys for ReadBackKeys {
    type Family = LvBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        _of: &LvBreaker,
        _problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        Some(Arc::new(ReadBack { test: head.name() }))
    }
}

/// Something that is read, and what the file says of it.
#[derive(Clone, Debug, PartialEq)]
enum Item {
    Setting { reading: String, name: String, file: Quantity },
    Group { file: String },
    Trips,
}

impl ReadBack {
    /// What the rig reads of the unit and the file, or the run, knows.
    fn items(&self, of: &LvBreaker, rig: &Capability) -> Vec<Item> {
        let values = of.values();
        let names = rig.readings.iter().map(|r| r.name.as_str());
        let own = names.filter_map(|name| Some((name, name.strip_prefix(UNIT)?)));
        let items = own.filter_map(|(reading, name)| match reading {
            TRIPS => Some(Item::Trips),
            GROUP => of.setting_group.clone().map(|file| Item::Group { file }),
            CLOSED | TRIPPED => None,
            _ => {
                let (_, file) = values.iter().find(|(key, _)| key == name)?;
                let (reading, name) = (reading.to_owned(), name.to_owned());
                Some(Item::Setting { reading, name, file: *file })
            }
        });
        items.collect()
    }

    fn point(&self, item: &Item) -> (PointId, Criterion) {
        match item {
            Item::Setting { name, .. } => {
                let name = name.replace(['_', '.'], "-");
                (point(&self.test, &format!("settings/{name}")), SETTING)
            }
            Item::Group { .. } => (point(&self.test, "settings/group"), SETTING),
            Item::Trips => (point(&self.test, "counter/trips"), COUNTER),
        }
    }

    /// What a setting may be: the file's, as near as the device tells numbers.
    fn limits(rig: &Capability, reading: &str, file: Quantity) -> Limits {
        let half = rig.accuracy_of(&Name::from(reading), file.si).map(|(half, _)| half);
        let off = half.unwrap_or(0.0).max(SAME * file.si.abs()) * (1.0 + 1e-6);
        let of = |si| Some(Value::Plain(Quantity { si, ..file }));
        Limits::Between { lower: of(file.si - off), upper: of(file.si + off) }
    }

    fn graded(
        &self,
        item: &Item,
        rig: &Capability,
        seen: &Observation,
        carried: &Carried,
    ) -> Finding {
        let (point, criterion) = self.point(item);
        let found = Finding::not_tested(point, criterion, Values::none(), "");
        let name = match item {
            Item::Setting { reading, .. } => reading.as_str(),
            Item::Group { .. } => GROUP,
            Item::Trips => TRIPS,
        };
        let value = match told(seen, rig, name) {
            Some(Ok(value)) => value,
            Some(Err(why)) => return found.judged(Judgement::new(Verdict::Inconclusive, why)),
            None => {
                let why = format!("`{name}` was not read");
                return found.judged(Judgement::new(Verdict::Inconclusive, why));
            }
        };
        match item {
            Item::Setting { reading, file, .. } => {
                let limits = Self::limits(rig, reading, *file);
                let read = Quantity { si: value, ..*file };
                let judged = judge_between(
                    read,
                    limits.lower().unwrap_or(f64::NEG_INFINITY),
                    limits.upper().unwrap_or(f64::INFINITY),
                );
                let why = match judged.verdict {
                    Verdict::Pass => "as in the file".to_owned(),
                    _ => format!("it is set to {read}, and the file says {file}"),
                };
                let expected = Values::none().with_quantity("value", *file);
                let measured = Values::none().with_quantity("value", read);
                // It is read as a number: how near that is to the file's stands in the limits.
                let uncertainty = Values::none().with_quantity("u", Quantity { si: 0.0, ..*file });
                Finding { expected, measured, limits, uncertainty, ..found }
                    .judged(Judgement::new(judged.verdict, why))
            }
            Item::Group { file } => {
                let is = word(rig, GROUP, value);
                let measured = Values::none().with_quantity("value", Quantity::number(value));
                let judged = if is.eq_ignore_ascii_case(file.trim()) {
                    Judgement::new(Verdict::Pass, format!("group {is}, as in the file"))
                } else {
                    let why = format!("it uses group {is}, and the file says {file}");
                    Judgement::new(Verdict::Fail, why)
                };
                Finding { measured, ..found }.judged(judged)
            }
            Item::Trips => counted(&self.test, found, value, carried),
        }
    }
}

/// The counter of trips against what the run has made since the reading before.
fn counted(test: &Name, found: Finding, read: f64, carried: &Carried) -> Finding {
    let number = |n: f64| Values::none().with_quantity("value", Quantity::number(n));
    let found = Finding { measured: number(read), ..found };
    let Some(before) = READ.earlier(test, carried) else {
        let why = format!("it has counted {read} trips; there is no reading of this run before it");
        return found.judged(Judgement::new(Verdict::Measured, why));
    };
    let made = TRIPPED_SO_FAR.made(carried);
    let found = Finding { expected: number(before.expected(made)), ..found };
    let (verdict, why) = before.judged(read, made, "trips");
    found.judged(Judgement::new(verdict, why))
}

impl Method for ReadBack {
    fn word(&self) -> &'static str {
        "read-back"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let of: &LvBreaker = bench.family()?;
        let items = self.items(of, bench.capability);
        if items.is_empty() {
            let lacks = format!(
                "no reading such as `{UNIT}long_time.pickup` or `{TRIPS}`: an instrument's file describes the trip unit's registers"
            );
            return Err(SetupError::Lacks { lacks, what: "readings" });
        }
        let program = Arc::new(look(all(bench.capability)));
        let rig = bench.capability.clone();
        let (of, carried) = (self.clone(), Carried::new());
        Ok(Box::new(Reading { of, rig, items, program, carried, is_done: false, trips: None }))
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let of: &LvBreaker = bench.family()?;
        let items = self.items(of, bench.capability);
        let item = items.iter().find(|item| self.point(item).0.id == measured.point.id);
        let item = item.ok_or("these settings make no such point")?;
        let (_, seen) = served.last().ok_or("nothing was read for it")?;
        if *item == Item::Trips {
            // What the run had made stays what it was.
            let found = Finding {
                measured: measured.measured.clone(),
                expected: measured.expected.clone(),
                ..Finding::not_tested(measured.point.clone(), COUNTER, Values::none(), "")
            };
            return Ok(found.judged(Judgement::new(measured.verdict, measured.reason.clone())));
        }
        Ok(self.graded(item, bench.capability, seen, &Carried::new()))
    }
}

struct Reading {
    of: ReadBack,
    rig: Capability,
    items: Vec<Item>,
    program: Arc<Program>,
    carried: Carried,
    is_done: bool,
    /// What the counter of trips read.
    trips: Option<f64>,
}

impl Procedure for Reading {
    fn planned(&self) -> Vec<Planned> {
        let expected = |item: &Item| match item {
            Item::Setting { file, .. } => Values::none().with_quantity("value", *file),
            _ => Values::none(),
        };
        let limits = |item: &Item| match item {
            Item::Setting { reading, file, .. } => ReadBack::limits(&self.rig, reading, *file),
            _ => Limits::None,
        };
        let plan = |item: &Item| {
            let (point, criterion) = self.of.point(item);
            Planned {
                points: vec![PlannedPoint::certain(point, criterion)],
                stimulus: Values::none(),
                expected: expected(item),
                limits: limits(item),
                program: Arc::clone(&self.program),
                likely: seconds(0.0),
                place: None,
                not_tested: None,
                is_exact: true,
                also: Vec::new(),
            }
        };
        self.items.iter().map(plan).collect()
    }

    fn next(&mut self) -> Action {
        if self.is_done { Action::Done } else { Action::Inject(Arc::clone(&self.program)) }
    }

    fn injection(&self) -> Injection {
        let serves = self.items.iter().map(|item| self.of.point(item).0.id).collect();
        Injection { point: None, part: "look".to_owned(), serves }
    }

    fn observe(&mut self, seen: &Observation) -> Vec<Finding> {
        self.is_done = true;
        self.trips = told(seen, &self.rig, TRIPS).and_then(Result::ok);
        let each = self.items.iter();
        each.map(|item| self.of.graded(item, &self.rig, seen, &self.carried)).collect()
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        self.is_done = true;
        let not = |item: &Item| {
            let (point, criterion) = self.of.point(item);
            Finding::not_tested(
                point,
                criterion,
                Values::none(),
                format!("it was not read: {reason}"),
            )
        };
        self.items.iter().map(not).collect()
    }

    fn answer(&mut self, _answer: Answer) {}

    fn take_over(&mut self, carried: &Carried) {
        self.carried.clone_from(carried);
    }

    fn hand_on(&self, carried: &mut Carried) {
        if let Some(read) = self.trips {
            let made = TRIPPED_SO_FAR.made(carried);
            READ.note(&self.of.test, Entry { read, made }, carried);
        }
    }

    fn stands_alone(&self) -> bool {
        false
    }

    fn retain(&mut self, _wanted: &dyn Fn(&PointId) -> bool) {}

    fn repeat(&mut self) {
        self.is_done = false;
    }
}
