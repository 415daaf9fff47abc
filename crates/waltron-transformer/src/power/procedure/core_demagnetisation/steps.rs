//! Exciting currents, demagnetising currents, exciting currents.

use super::inrush::{INRUSH, Inrush};
use super::keys::CoreDemagnetisationTest;
use crate::measure::{direct, point, probe, voltage};
use crate::power::asset::PowerTransformer;
use crate::power::identify::LINES;
use crate::power::pairs::{Pair, Shot, Terminal};
use crate::power::procedure::arising::arising;
use crate::power::procedure::exciting::{Exciting, is_of_two};
use crate::power::procedure::joint::{Group, Joint, Step};
use crate::power::procedure::positions::as_stands;
use crate::power::procedure::{round_below, volts};
use crate::power::vector_group::Connection;
use std::sync::Arc;
use waltron_core::grading::{Finding, Judgement, Values, Verdict};
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::{Ended, Observation, Span};
use waltron_core::injection::program::{Condition, Finish, Program, Relation, Segment, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, PlannedPoint, SetupError};
use waltron_core::quantity::{Current, Measure, Voltage, seconds};

/// What the segments are called.
const BEFORE: &str = "exciting before";
const AFTER: &str = "exciting after";
const LATER: &str = "exciting later";
const FORTH: &str = "forth";
const BACK: &str = "back";
const OFF: &str = "discharge";

/// What each current is of the one before.
const SMALLER: f64 = 0.8;

/// The share of a current from which on it is there.
const THERE: f64 = 0.95;

/// The longest that a current is waited for, and its discharge, in s.
const WAITS_S: f64 = 300.0;

/// How long a phase is excited, in s: until the flux of its first moment has died away.
const EXCITES_S: f64 = 3.0;

/// How long the first currents are looked at, in s.
const AT_FIRST_S: f64 = 0.06;

/// What excites: output and meter of high windings, and of others.
const HIGH: (&str, &str) = ("high voltage", "measured current");
const LOW: (&str, &str) = ("test voltage", "test current");

/// The most that excites where the plan does not say, in V, and the largest share of what a pair is rated for.
const MOST_V: f64 = 10e3;
const SHARE: f64 = 0.5;

/// The test with what follows from asset and rig.
struct Setting<'a> {
    test: &'a CoreDemagnetisationTest,
    of: &'a PowerTransformer,
    bench: Bench<'a>,
    amps: Probe,
    /// The current's peak, and its fundamental.
    exciting: Probe,
    later: Probe,
    /// The output that excites, and the meter of its current.
    excites: (&'static str, &'static str),
    /// What it puts out at most, in V.
    range_v: f64,
    first_a: f64,
    last_a: f64,
    below_a: f64,
}

/// All steps and what they grade together.
pub(super) fn joint(
    test: &CoreDemagnetisationTest,
    of: &PowerTransformer,
    bench: Bench<'_>,
) -> Result<Joint, SetupError> {
    let setting = Setting::new(test, of, bench)?;
    let none = || SetupError::Unknown("this winding has no pairs to be fed".to_owned());
    let other = of.windings.iter().map(|w| w.number).find(|n| *n != test.winding);
    let shots = other.and_then(|other| of.limbs().shots(test.winding, other)).ok_or_else(none)?;
    let volts = setting.volts(&shots[0])?;
    let mut steps = Vec::new();
    for shot in &shots {
        steps.push(setting.excite(BEFORE, shot, volts)?);
    }
    let drives = steps.len();
    for pair in driven(of, test.winding) {
        steps.push(setting.drive(&pair)?);
    }
    let after = steps.len();
    for shot in &shots {
        steps.push(setting.excite(AFTER, shot, volts)?);
    }
    let stimulus = Values::none().with("voltage", volts);
    let inrush = |what: &str, is_told: bool, of: std::ops::Range<usize>| {
        let id = point(&test.test, what);
        let inrush = Inrush { point: id.clone(), stimulus: stimulus.clone(), is_told };
        let probe = setting.exciting.clone();
        let grade = move |seen: &[Option<&Observation>]| vec![inrush.graded(seen, &probe)];
        let points = vec![PlannedPoint::certain(id, INRUSH)];
        Group { points, of: of.collect(), grade: Arc::new(grade) }
    };
    let is_of_two = is_of_two(&of.limbs(), &shots);
    let allowed = of.allowed.exciting;
    let exciting =
        Exciting::new(point(&test.test, "exciting"), stimulus.clone(), allowed, is_of_two);
    let exciting = exciting.group((after..after + 3).collect(), setting.later.clone());
    // What is measured afterwards says something of the currents only where they flowed.
    let groups = vec![
        inrush("before", true, 0..3),
        behind(drives..after, inrush("inrush", false, after..after + 3)),
        behind(drives..after, exciting),
    ];
    Ok(Joint::new(steps, groups))
}

/// A group whose points prove something only once every one of these steps has driven its currents.
fn behind(drives: std::ops::Range<usize>, group: Group) -> Group {
    let count = drives.len();
    let (points, grade) = (group.points.clone(), Arc::clone(&group.grade));
    let together = move |seen: &[Option<&Observation>]| {
        let (driven, rest) = seen.split_at(count.min(seen.len()));
        let found = grade(rest);
        let Some(why) = driven.iter().find_map(|seen| not_driven(*seen)) else { return found };
        let open = |f: Finding| {
            let verdict = match f.verdict {
                Verdict::NotTested => Verdict::NotTested,
                _ => Verdict::Inconclusive,
            };
            f.judged(Judgement::new(verdict, why.clone()))
        };
        found.into_iter().map(open).collect()
    };
    Group { points, of: drives.chain(group.of).collect(), grade: Arc::new(together) }
}

/// Why a step did not demagnetise; `None` where every current came and went.
fn not_driven(seen: Option<&Observation>) -> Option<String> {
    let Some(seen) = seen else {
        return Some("the demagnetising currents were not driven".to_owned());
    };
    let came = |span: &Span| matches!(span.ended, Ended::Stop(0));
    match seen.segments.iter().position(|span| !came(span)) {
        None if !seen.segments.is_empty() => None,
        Some(k) if k % 2 == 1 => {
            Some("a demagnetising current was not discharged in time: demagnetise again".to_owned())
        }
        _ => Some(
            "a demagnetising current was not reached: a lower `current`, or more voltage"
                .to_owned(),
        ),
    }
}

impl<'a> Setting<'a> {
    fn new(
        test: &'a CoreDemagnetisationTest,
        of: &'a PowerTransformer,
        bench: Bench<'a>,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let lacks = |name: &str| SetupError::Lacks {
            lacks: format!("no output for `{name}`"),
            what: "outputs",
        };
        let output = rig.currents.iter().find(|c| c.meaning == *"winding current");
        let output = output.ok_or_else(|| lacks("winding current"))?;
        let discharge = rig.discharge.as_ref().filter(|d| d.meter == *"winding current");
        let below_a = discharge.map(|d| d.below_a).ok_or_else(|| {
            SetupError::Unknown(
                "the rig's file does not say when a winding is discharged: add `discharge = { meter = \"winding current\", below = \"20 mA\" }` to its `[rig]`".to_owned(),
            )
        })?;
        let winding = of.winding(test.winding);
        let most = winding.map_or(0.0, |w| w.most_a().min(w.current_a() / 10.0));
        let usual = round_below(most.min(output.range.si()), &[5.0, 2.0, 1.0]);
        // A winding of some kilovolts takes an output of as much.
        let volts_of = |name: &str| rig.voltages.iter().find(|c| c.meaning == *name);
        let is_high = winding.is_some_and(|w| w.voltage_v > 1e3) && volts_of(HIGH.0).is_some();
        let excites = if is_high { HIGH } else { LOW };
        let range_v = volts_of(excites.0).ok_or_else(|| lacks(excites.0))?.range.si();
        let (first_a, last_a) = (test.current.map_or(usual, Measure::si), 1.5 * below_a);
        if first_a <= last_a {
            return Err(SetupError::Unknown(format!(
                "{} is no more than what the rig calls discharged, and demagnetises nothing: {} at least",
                waltron_core::quantity::text(Current::from_si(first_a)),
                waltron_core::quantity::text(Current::from_si(2.0 * last_a))
            )));
        }
        Ok(Self {
            test,
            of,
            bench,
            amps: probe(rig, &["winding current"], Property::Dc)?,
            exciting: probe(rig, &[excites.1], Property::Peak)?,
            later: probe(rig, &[excites.1], Property::Phasor)?,
            excites,
            range_v,
            first_a,
            last_a,
            below_a,
        })
    }

    /// What a phase is excited with: so much flux that remanence beside it would saturate the core.
    fn volts(&self, shot: &Shot) -> Result<Voltage, SetupError> {
        let line = self.of.volts(self.test.winding, &self.of.principal());
        let rated = line * shot.fed_share;
        // No terminal more than its line is to earth.
        let most = self.range_v.min(rated * SHARE).min(line / 3f64.sqrt());
        volts(self.test.voltage, most, MOST_V, &shot.fed)
    }

    fn excite(&self, name: &str, shot: &Shot, volts: Voltage) -> Result<Step, SetupError> {
        let (output, _) = self.excites;
        let out = voltage(self.bench.capability, output, volts, self.bench.frequency()?)?;
        // It comes at its crest, and brings no flux of its own that stays.
        let part = |name: &str, time: f64| {
            let mut segment = Segment::hold(name, out.clone(), seconds(time));
            let probe = self.exciting.clone();
            segment.reads = vec![Read { probe, when: When::EachLevel }];
            segment
        };
        let mut program = Program::of(vec![part(name, AT_FIRST_S), part(LATER, EXCITES_S)]);
        program.reads = vec![self.later.clone()];
        let mut step =
            self.step(program, &shot.fed, Values::none().with("voltage", volts), EXCITES_S);
        let (of, fed) = (self.of, (self.test.winding, std::slice::from_ref(shot)));
        step.planned.also = arising(of, &[of.principal()], fed, volts);
        Ok(step)
    }

    fn step(&self, mut program: Program, pair: &Pair, stimulus: Values, likely: f64) -> Step {
        program.connection = Some(pair.to_string().as_str().into());
        program.stands = as_stands(self.of, &self.of.principal());
        Step::of(program, stimulus, seconds(likely))
    }

    fn reading(&self, relation: Relation, limit_si: f64) -> Condition {
        Condition::Reading { probe: self.amps.clone(), relation, limit_si }
    }

    /// Currents of either sign, each smaller than the one before, with what flows discharged between them.
    fn drive(&self, pair: &Pair) -> Result<Step, SetupError> {
        let rig = self.bench.capability;
        let frequency = self.bench.frequency()?;
        let mut segments = Vec::new();
        let (mut amps, mut sign) = (self.first_a, 1.0);
        while amps > self.last_a {
            let out = direct(rig, "winding current", Current::from_si(sign * amps), frequency)?;
            let (relation, name) = match sign > 0.0 {
                true => (Relation::AtLeast, FORTH),
                false => (Relation::AtMost, BACK),
            };
            let there = self.reading(relation, sign * amps * THERE);
            segments.push(self.until(Segment::hold(name, out, seconds(WAITS_S)), there));
            let gone = Condition::All(vec![
                self.reading(Relation::AtMost, self.below_a),
                self.reading(Relation::AtLeast, -self.below_a),
            ]);
            segments.push(self.until(Segment::hold(OFF, Stimulus::off(), seconds(WAITS_S)), gone));
            (amps, sign) = (amps * SMALLER, -sign);
        }
        let likely = 5.0 * segments.len() as f64;
        let mut program = Program::of(segments);
        program.finish = Finish::Off;
        let stimulus = Values::none().with("current", Current::from_si(self.first_a));
        Ok(self.step(program, pair, stimulus, likely))
    }

    fn until(&self, segment: Segment, when: Condition) -> Segment {
        let mut segment = segment.until(Stop { when, then: Then::Next });
        segment.looks_every = Some(seconds(0.05));
        // A current that does not come, or does not go: nothing of the other sign meets what is charged.
        if let Some(last) = segment.stops.last_mut() {
            last.then = Then::Off;
        }
        segment
    }
}

/// Through which pairs of terminals currents are driven, one after the other: first with all ampere-turns of one sign on
/// the middle limb, which leaves no more than what goes around the outer ones; then around those.
fn driven(of: &PowerTransformer, winding: u8) -> Vec<Pair> {
    let phase = Terminal::Phase;
    let line = |(a, b): (u8, u8)| Pair::of(winding, phase(a), phase(b));
    let Some(side) = of.group.sides.get(usize::from(winding) - 1) else { return Vec::new() };
    let joined = |a: u8, b: u8, with: u8| Pair { joined: Some(phase(with)), ..line((a, b)) };
    match side.connection {
        Connection::Star => {
            let middle = match side.neutral {
                true => Pair::of(winding, phase(1), Terminal::Neutral),
                false => joined(1, 0, 2),
            };
            vec![middle, line((0, 2))]
        }
        Connection::Delta => {
            // The line whose leg is on the middle limb; with its ends joined the other two legs carry the current.
            let limbs = of.limbs();
            let is_middle = |l: &(u8, u8)| {
                limbs.sum(&line(*l)).is_some_and(|sum| sum[1].abs() > 0.5 && sum[0].abs() < 1e-6)
            };
            let (a, b) = LINES.into_iter().find(is_middle).unwrap_or((0, 1));
            let other = 3 - a - b;
            vec![line((a, b)), joined(other, a, b)]
        }
        // Each line takes parts of all three limbs.
        Connection::Zigzag => LINES.into_iter().chain([LINES[0]]).map(line).collect(),
    }
}
