use super::*;
use crate::attendant::{Present, Unattended};
use crate::player::levels;
use std::collections::VecDeque;
use waltron_core::asset::Ratings;
use waltron_core::clearance::{Refusal, clear};
use waltron_core::injection::capability::{Channel, Input};
use waltron_core::injection::measuring::{Capture, Part};
use waltron_core::injection::observation::{Edge, Ended};
use waltron_core::injection::program::{Profile, Program, Rest, Segment, Stairs, Stop};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Frequency, Measure, amperes, seconds};

/// A specimen that follows a script: after so many seconds of a shot, a contact changes.
struct Scripted {
    now: f64,
    edges: VecDeque<(f64, &'static str, bool)>,
    applied: Vec<f64>,
}

impl Specimen for Scripted {
    fn begin(&mut self, _shot: u64) {
        self.now = 0.0;
    }
    fn apply(&mut self, stimulus: &Stimulus) {
        self.applied.push(FaultLoop::largest_phase(stimulus.complex_phase_currents()).si());
    }
    fn advance(&mut self, to: Time) -> Option<Edge> {
        match self.edges.front() {
            Some(&(at, signal, closed)) if at <= to.si() => {
                self.edges.pop_front();
                self.now = at;
                Some(Edge { signal: signal.into(), time: seconds(at), closed })
            }
            _ => {
                self.now = to.si();
                None
            }
        }
    }
    fn closed(&self) -> Vec<Name> {
        Vec::new()
    }
    /// Each sample is its own time.
    fn samples(&self, _of: &Name, window: waltron_specimen::Window) -> Option<Vec<f64>> {
        let time = |k: usize| window.start_s + k as f64 / window.rate_hz;
        Some((0..window.count).map(time).collect())
    }
}

fn capability() -> Capability {
    let channel =
        |id: &str| Channel::new(id, amperes(10.0), Tolerance::larger_of(0.0, amperes(0.0)));
    let input = |id: &str, meaning: &str| Input {
        id: id.into(),
        meaning: meaning.into(),
        debounce: seconds(0.002),
    };
    Capability {
        currents: vec![channel("ia"), channel("ib"), channel("ic")],
        voltages: Vec::new(),
        inputs: vec![input("BI1", "trip")],
        readings: Vec::new(),
        switches: Vec::new(),
        meters: Vec::new(),
        parameters: Vec::new(),
        timing_resolution: seconds(1e-4),
        timing_accuracy: Tolerance::larger_of(0.0, seconds(0.0)).into(),
        instruments: Vec::new(),
        emergency_stop: None,
        switches_leads: false,
        earths: false,
        discharge: None,
    }
}

fn ratings() -> Ratings {
    Ratings::unknown(Some(Frequency::from_si(50.0)))
}

fn one_phase(i: f64) -> Stimulus {
    Stimulus::phase_currents(FaultLoop::AN.currents(amperes(i)), Frequency::from_si(50.0))
}

fn play(segments: Vec<Segment>, edges: &[(f64, &'static str, bool)]) -> Observation {
    let specimen =
        Scripted { now: 0.0, edges: edges.iter().copied().collect(), applied: Vec::new() };
    let mut rig = VirtualRig::new("test".into(), capability(), Box::new(specimen), Pace::Fast);
    let program = clear(Program::of(segments), &ratings(), &capability()).unwrap();
    let observation = rig.play(&program, &mut Unattended).unwrap();
    assert!(!rig.is_energised(), "outputs are off after every program");
    observation
}

fn fault() -> Vec<Segment> {
    vec![
        Segment::hold("rest", Stimulus::off(), seconds(1.0)),
        Segment::hold("fault", one_phase(5.0), seconds(2.0))
            .until(Stop::on_contact("trip".into(), true)),
        Segment::hold("after", one_phase(1.0), seconds(1.0)),
    ]
}

#[test]
fn a_contact_ends_the_program_after_its_debounce_with_its_first_time() {
    let seen = play(fault(), &[(1.123_44, "trip", true)]);
    assert_eq!(seen.segments.len(), 2, "the stop ends the program, not the segment only");
    assert_eq!(seen.segments[1].ended, Ended::Stop(0));
    assert!((seen.segments[1].end.si() - 1.125_44).abs() < 1e-9);
    assert_eq!(seen.edges.len(), 1);
    assert!((seen.edges[0].time.si() - 1.123_4).abs() < 1e-9, "rounded to the resolution");
}

#[test]
fn bounces_shorter_than_the_debounce_do_not_count_and_unwired_contacts_are_not_seen() {
    let seen = play(
        fault(),
        &[(1.2, "trip", true), (1.2005, "trip", false), (1.3, "start", true), (1.5, "trip", true)],
    );
    assert_eq!(seen.edges.len(), 1);
    assert!((seen.edges[0].time.si() - 1.5).abs() < 1e-9);
}

#[test]
fn without_a_contact_every_segment_runs_to_its_end() {
    let seen = play(fault(), &[]);
    let ends: Vec<f64> = seen.segments.iter().map(|s| s.end.si()).collect();
    assert_eq!(ends, [1.0, 3.0, 4.0]);
    assert_eq!(seen.segments[1].ended, Ended::Stop(1));
}

#[test]
fn stairs_and_pulses_put_every_level_out() {
    let stairs = |rest| Stairs {
        from: one_phase(1.0),
        to: one_phase(2.0),
        steps: 2,
        dwell: seconds(0.1),
        rest,
    };
    let ramp = |rest| Segment::new("ramp", Profile::Stairs(stairs(rest)), vec![]);
    let applied = |segment: Segment| -> Vec<f64> {
        levels(&segment.profile)
            .map(|l| FaultLoop::largest_phase(l.stimulus.complex_phase_currents()).si())
            .collect()
    };
    assert_eq!(applied(ramp(None)), [1.0, 1.5, 2.0]);
    let rest = Rest { stimulus: Stimulus::off(), time: seconds(0.4) };
    assert_eq!(applied(ramp(Some(rest.clone()))), [1.0, 0.0, 1.5, 0.0, 2.0, 0.0]);
    let seen = play(vec![ramp(Some(rest))], &[]);
    assert_eq!(seen.segments[0].ended, Ended::Finished);
    assert!((seen.segments[0].end.si() - 1.5).abs() < 1e-9);
}

#[test]
fn what_exceeds_the_rig_or_never_ends_is_refused_before_it_is_put_out() {
    let refusal = |segment: Segment| {
        clear(Program::of(vec![segment]), &ratings(), &capability()).unwrap_err()
    };
    assert!(matches!(
        refusal(Segment::hold("x", one_phase(10.1), seconds(1.0)))[0],
        Refusal::AboveRange { .. }
    ));
    let endless = Segment::new("x", Profile::Hold(one_phase(1.0)), vec![]);
    assert!(matches!(refusal(endless)[0], Refusal::Unbounded { .. }));
    let unwired = Segment::hold("x", one_phase(1.0), seconds(1.0))
        .until(Stop::on_contact("start".into(), true));
    assert!(matches!(refusal(unwired)[0], Refusal::NotWired { .. }));
}

/// What is kept about a change of a contact begins and ends where it should, and within the program.
#[test]
fn samples_are_kept_about_the_change_that_was_asked_for() {
    let around = |signal: &str, closed, before, after| Capture {
        name: "c".into(),
        of: vec!["coil".into()],
        rate_hz: 1000.0,
        part: Part::Around {
            signal: signal.into(),
            closed,
            before: seconds(before),
            after: seconds(after),
        },
    };
    let whole = [
        around("trip", true, 0.2, 0.3),
        around("trip", false, 0.2, 0.3),
        // Reaching beyond the program it has what there is.
        around("trip", true, 9.0, 9.0),
    ];
    let edges = [(1.2, "trip", true), (1.9, "trip", false)];
    let specimen = Scripted { now: 0.0, edges: edges.into(), applied: Vec::new() };
    let mut bench = Bench::new(Box::new(specimen), capability(), 1);
    let program = Program {
        captures: whole.to_vec(),
        ..Program::of(vec![Segment::hold("all", one_phase(1.0), seconds(3.0))])
    };
    let capability = capability();
    let mut nobody = Unattended;
    let player = Player::new(&mut bench, &capability, Pace::Fast, &mut nobody, &[], false);
    let seen = player.play(&program).unwrap();
    let spans: Vec<[f64; 2]> = seen
        .captures
        .iter()
        .map(|c| {
            let samples = &c.tracks[0].samples;
            assert!((samples[0] - c.start.si()).abs() < 1e-9);
            [samples[0], *samples.last().unwrap()]
        })
        .collect();
    for (span, [from, to]) in spans.iter().zip([[1.0, 1.5], [1.7, 2.2], [0.0, 3.0]]) {
        assert!((span[0] - from).abs() < 1.5e-3 && (span[1] - to).abs() < 1.5e-3, "{span:?}");
    }
    assert_eq!(spans.len(), 3);
}

/// Whoever stops in the world's time stops it there: what was on until then was on no longer.
#[test]
fn a_stop_in_real_time_is_where_the_world_is() {
    struct After(std::time::Instant, Vec<f64>);
    impl Attendant for After {
        fn ask(&mut self, _: &Question) -> Answer {
            Answer::Stop
        }
        fn is_watching(&self) -> bool {
            true
        }
        fn sees(&mut self, present: &Present<'_>) {
            assert!(present.now.si() <= self.0.elapsed().as_secs_f64(), "ahead of the world");
            self.1.push(present.now.si());
        }
        fn wants_to_stop(&self) -> bool {
            self.0.elapsed().as_secs_f64() > 0.2
        }
    }
    let specimen = Scripted { now: 0.0, edges: VecDeque::new(), applied: Vec::new() };
    let mut rig = VirtualRig::new("test".into(), capability(), Box::new(specimen), Pace::Real);
    let long = vec![Segment::hold("long", one_phase(1.0), seconds(3600.0))];
    let program = clear(Program::of(long), &ratings(), &capability()).unwrap();
    let began = std::time::Instant::now();
    let mut after = After(began, Vec::new());
    let seen = rig.play(&program, &mut after).unwrap();
    let lasted = seen.length().si();
    assert!(after.1.len() > 1 && after.1.is_sorted(), "{:?}", after.1);
    assert!(seen.aborted() && lasted > 0.15, "{lasted}");
    assert!(lasted <= began.elapsed().as_secs_f64(), "{lasted}");
}

#[test]
fn an_attendant_who_stops_gets_the_outputs_off_and_an_aborted_observation() {
    struct Stopping;
    impl Attendant for Stopping {
        fn ask(&mut self, _: &Question) -> Answer {
            Answer::Stop
        }
        fn wants_to_stop(&self) -> bool {
            true
        }
    }
    let specimen = Scripted { now: 0.0, edges: VecDeque::new(), applied: Vec::new() };
    let mut rig = VirtualRig::new("test".into(), capability(), Box::new(specimen), Pace::Real);
    let program = clear(Program::of(fault()), &ratings(), &capability()).unwrap();
    let seen = rig.play(&program, &mut Stopping).unwrap();
    assert!(seen.aborted() && !rig.is_energised());
}
