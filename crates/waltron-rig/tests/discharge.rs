//! What a rig has charged is discharged, whoever or whatever switches it off: by what the simulated winding really
//! carries, not by what anybody says.
#![allow(clippy::unwrap_used, missing_docs)]

use std::cell::Cell;
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};
use waltron_core::asset::Ratings;
use waltron_core::clearance::clear;
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::program::{Condition, Finish, Program, Relation, Segment, Stop, Then};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, amperes, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_rig::attendant::{Attendant, Present, Unattended, Waiting};
use waltron_rig::scpi_rig::ScpiRig;
use waltron_rig::test_set::{Session, TestSet, serve};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Description, Rig, RigFile, RigForm};
use waltron_specimen::SpecimenForm;
use waltron_test_support::small;

const RIG: &str = include_str!("../../../examples/t2.rig.toml");
const SPECIMEN: &str = include_str!("../../../examples/t2.specimen.toml");

fn file() -> RigFile {
    RigForm::load(&Source::new("r", RIG)).unwrap()
}

fn rig(pace: Pace) -> VirtualRig {
    let mut specimen = SpecimenForm::load(&Source::new("s", SPECIMEN), 1).unwrap();
    let capability = file().capability;
    specimen.connect(&capability).unwrap();
    VirtualRig::new("bench".into(), capability, specimen, pace)
}

/// 20 A through a phase for a time.
fn charging(time: f64, finish: Finish) -> Arc<Program> {
    let nothing = Phasor::new(Current::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine("iw".into(), nothing, Frequency::from_si(50.0));
    drive.dc = Some(Dc::constant(amperes(20.0)));
    let out = Stimulus { currents: vec![drive], voltages: Vec::new() };
    let mut program = Program::of(vec![Segment::hold("charge", out, seconds(time))]);
    (program.connection, program.finish) = (Some("1U-1N".into()), finish);
    Arc::new(program)
}

/// Stops after so many looks.
struct Stopping(Cell<u32>);

impl Attendant for Stopping {
    fn ask(&mut self, _: &Question) -> Answer {
        Answer::Stop
    }

    fn wants_to_stop(&self) -> bool {
        self.0.set(self.0.get().saturating_sub(1));
        self.0.get() == 0
    }
}

fn flowing(rig: &VirtualRig) -> f64 {
    rig.reading("flowing").unwrap()
}

#[test]
fn an_end_a_stop_and_off_discharge_alike() {
    let ratings = Ratings::unknown(None);
    let cleared = |p| clear(p, &ratings, &file().capability).unwrap();
    // At a program's end, with how long it took.
    let mut one = rig(Pace::Fast);
    let mut looking = Looking::default();
    let seen = one.play(&cleared(charging(20.0, Finish::Off)), &mut looking).unwrap();
    assert_eq!(looking.drained, 1, "told once");
    let left = seen.discharge.unwrap();
    assert!(left.is_done && left.left_a.unwrap() <= 0.01 && left.time > seconds(0.1), "{left:?}");
    assert!(flowing(&one) < 0.5, "nothing but what dies away around the delta: {}", flowing(&one));
    // Left on it flows; off takes it away.
    let mut two = rig(Pace::Fast);
    let seen = two.play(&cleared(charging(20.0, Finish::Keep)), &mut Unattended).unwrap();
    assert!(seen.discharge.is_none() && (flowing(&two) - 20.0).abs() < 0.1);
    two.off().unwrap();
    assert!(two.discharge(&mut Unattended).unwrap().is_some_and(|d| d.is_done));
    assert!(flowing(&two) < 0.5);
    assert_eq!(two.discharge(&mut Unattended).unwrap(), None, "once is enough");
    // A stop in the middle, which goes on wanting to stop: the discharge is not to be stopped.
    let mut three = rig(Pace::Fast);
    let program = charging(60.0, Finish::Keep);
    let mut stopping = Stopping(Cell::new(600));
    let seen = three.play(&cleared(program), &mut stopping).unwrap();
    assert!(seen.aborted() && seen.discharge.unwrap().is_done);
    assert!(flowing(&three) < 0.5);
    // What alternates charges nothing that would be waited for.
    let mut four = rig(Pace::Fast);
    let mut drive = Drive::sine(
        "vt".into(),
        Phasor::new(waltron_core::quantity::Voltage::from_si(100.0), degrees(0.0)),
        Frequency::from_si(50.0),
    );
    drive.dc = None;
    let out = Stimulus { currents: Vec::new(), voltages: vec![drive] };
    let mut program = Program::of(vec![Segment::hold("ratio", out, seconds(0.3))]);
    program.connection = Some("1U-1N / 2W-2U".into());
    let seen = four.play(&cleared(Arc::new(program)), &mut Unattended).unwrap();
    assert_eq!(seen.discharge, None);
}

/// A meter that shows nothing while the current flows shows nothing afterwards either: its zero proves nothing. Of a
/// current that is hardly more than what counts as nothing it need not show anything.
#[test]
fn a_meter_that_shows_nothing_has_seen_no_discharge() {
    let ratings = Ratings::unknown(None);
    let mut capability = file().capability;
    capability.discharge.as_mut().unwrap().meter = "motor current".into();
    let mut specimen = SpecimenForm::load(&Source::new("s", SPECIMEN), 1).unwrap();
    specimen.connect(&capability).unwrap();
    let mut dead = VirtualRig::new("bench".into(), capability.clone(), specimen, Pace::Fast);
    let cleared = |p| clear(p, &ratings, &capability).unwrap();
    let seen = dead.play(&cleared(charging(20.0, Finish::Off)), &mut Unattended).unwrap();
    assert!(seen.discharge.unwrap().is_unseen() && dead.is_unseen());
    // Kept on, and switched off by somebody; stopped while it rose.
    dead.play(&cleared(charging(20.0, Finish::Keep)), &mut Unattended).unwrap();
    dead.off().unwrap();
    assert!(dead.discharge(&mut Unattended).unwrap().unwrap().is_unseen());
    let mut stopping = Stopping(Cell::new(600));
    let seen = dead.play(&cleared(charging(60.0, Finish::Keep)), &mut stopping).unwrap();
    assert!(seen.aborted() && seen.discharge.unwrap().is_unseen());
    // The one that sees it says so as soon as there is something to be seen, however soon that is gone.
    let (mut shown, mut not_yet) = (0, 0);
    for time in (2..40).map(|n| f64::from(n) * 0.01).chain([0.5, 20.0]) {
        let [mut kept, mut one] = [rig(Pace::Fast), rig(Pace::Fast)];
        kept.play(&cleared(charging(time, Finish::Keep)), &mut Unattended).unwrap();
        let flows = flowing(&kept);
        let seen = one.play(&cleared(charging(time, Finish::Off)), &mut Unattended).unwrap();
        let is_unseen = seen.discharge.unwrap().is_unseen();
        assert_eq!(is_unseen, one.is_unseen());
        // The meter shows the mean of what rises: half of it at least.
        assert!(!is_unseen || flows < 0.021, "{time} s: {flows} A");
        assert!(is_unseen || flows > 0.0098, "{time} s: {flows} A");
        if is_unseen { not_yet += 1 } else { shown += 1 }
    }
    assert!(shown > 2 && not_yet > 2, "{shown} {not_yet}");
    // 15 mA where 10 mA is nothing.
    let mut little = Program::clone(&charging(1.0, Finish::Off));
    let mut out = Stimulus::off();
    let nothing = Phasor::new(Current::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine("iw".into(), nothing, Frequency::from_si(50.0));
    drive.dc = Some(Dc::constant(Current::from_si(0.015)));
    out.currents.push(drive);
    little.segments = vec![Segment::hold("little", out, seconds(1.0))];
    let seen = dead.play(&cleared(Arc::new(little)), &mut Unattended).unwrap();
    assert!(!seen.discharge.unwrap().is_unseen());
}

/// What comes after the segment in which it was stopped is not put out, though nobody wants to stop any more then.
#[test]
fn nothing_follows_a_stop() {
    struct Once(Cell<u32>);
    impl Attendant for Once {
        fn ask(&mut self, _: &Question) -> Answer {
            Answer::Stop
        }
        fn wants_to_stop(&self) -> bool {
            self.0.set(self.0.get() + 1);
            self.0.get() == 5
        }
    }
    let mut program = Program::clone(&charging(1.0, Finish::Keep));
    let next = Segment { name: "next".into(), ..program.segments[0].clone() };
    program.segments.push(next);
    let cleared = clear(Arc::new(program), &Ratings::unknown(None), &file().capability).unwrap();
    let mut one = rig(Pace::Fast);
    let seen = one.play(&cleared, &mut Once(Cell::new(0))).unwrap();
    assert!(seen.segments.len() == 1 && seen.aborted() && !seen.stays_on, "{:?}", seen.segments);
    assert!(!one.is_energised() && flowing(&one) < 0.5);
}

/// In the world's time: a test set whose controller has gone discharges by itself, begins nothing meanwhile, and
/// says when it is done.
#[test]
fn a_test_set_discharges_when_its_controller_has_gone() {
    let file = file();
    let description = Description::of("bench", &file.capability, true, true);
    let build = move |_| Some(rig(Pace::Real));
    let set =
        Arc::new(TestSet::new(description, file.capability, rig(Pace::Real), Box::new(build)));
    let program = charging(0.4, Finish::Keep).to_json().unwrap();
    let mut first = Session::new(Arc::clone(&set));
    let mut message =
        format!("SYST:LOCK:REQ?;:PROG:DEF #{}{}", program.len().to_string().len(), program.len())
            .into_bytes();
    message.extend(&program);
    first.handle(&message);
    first.handle(b"INIT;*WAI");
    let ask = |session: &mut Session, text: &str| {
        String::from_utf8_lossy(&session.handle(text.as_bytes())).trim().to_owned()
    };
    assert_eq!(ask(&mut first, "OUTP?"), "1", "it holds: {}", ask(&mut first, "SYST:ERR:ALL?"));
    assert!(set.reading("flowing").unwrap() > 0.01);
    drop(first);
    assert!(set.is_charged() && !set.is_energised(), "off at once, and charged");
    let mut second = Session::new(Arc::clone(&set));
    assert_eq!(ask(&mut second, "SYST:LOCK:REQ?;:OUTP:CHAR?"), "1;1");
    let mut again =
        format!("PROG:DEF #{}{}", program.len().to_string().len(), program.len()).into_bytes();
    again.extend(&program);
    second.handle(&again);
    second.handle(b"INIT");
    assert!(ask(&mut second, "SYST:ERR?").contains("being discharged"));
    let began = Instant::now();
    while set.is_charged() {
        set.watch();
        assert!(began.elapsed() < Duration::from_secs(20), "still {:?}", set.reading("flowing"));
        std::thread::sleep(Duration::from_millis(5));
    }
    assert!(set.reading("flowing").unwrap() < 0.05, "{:?}", set.reading("flowing"));
}

/// Sits at the other end of a line and looks on.
#[derive(Default)]
struct Looking {
    waits: Vec<Waiting>,
    seen: usize,
    drained: usize,
}

impl Attendant for Looking {
    fn ask(&mut self, _: &Question) -> Answer {
        Answer::Stop
    }

    fn is_watching(&self) -> bool {
        true
    }

    fn sees(&mut self, _: &Present<'_>) {
        self.seen += 1;
    }

    fn waits(&mut self, waiting: &Waiting) {
        self.waits.push(waiting.clone());
    }

    fn drains(&mut self) {
        self.drained += 1;
    }

    fn wants_to_stop(&self) -> bool {
        false
    }
}

/// Over a line, too, it is shown how far the current is on its way, for how long about, and that what was charged is
/// being discharged; once, and before anybody is told that it is over.
#[test]
fn over_a_line_charging_and_discharging_are_told() {
    // 4 V saturate the small core within a second.
    let capability = RigForm::load(&Source::new("r", small::rig(4.0))).unwrap().capability;
    let small = {
        let capability = capability.clone();
        move || {
            let mut specimen = SpecimenForm::load(&Source::new("s", small::SPECIMEN), 1).unwrap();
            specimen.connect(&capability).unwrap();
            VirtualRig::new("bench".into(), capability.clone(), specimen, Pace::Real)
        }
    };
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let description = Description::of("bench", &capability, true, true);
    let rig = small();
    let build = Box::new(move |_| Some(small()));
    let set = Arc::new(TestSet::new(description, capability.clone(), rig, build));
    let kept = Arc::clone(&set);
    std::thread::spawn(move || serve(&listener, &set, &AtomicBool::new(false), &|_| ()));
    let mut wire =
        ScpiRig::connect("bench".into(), &address, capability.clone(), 1.into()).unwrap();

    let mut program = Program::clone(&charging(20.0, Finish::Off));
    let probe =
        Probe { of: "winding current".into(), what: Property::Dc, dimension: Dimension::CURRENT };
    let (relation, limit_si) = (Relation::AtLeast, 3.0);
    let when = Condition::Reading { probe, relation, limit_si };
    program.segments[0].stops.push(Stop { when, then: Then::End });
    let cleared = clear(Arc::new(program), &Ratings::unknown(None), &capability).unwrap();
    let mut looking = Looking::default();
    let observation = wire.play(&cleared, &mut looking).unwrap();

    assert!(observation.discharge.unwrap().is_done && !kept.is_charged());
    assert_eq!(looking.drained, 1);
    assert!(looking.seen >= looking.waits.len() && looking.waits.len() > 5, "{:?}", looking.waits);
    let values: Vec<f64> = looking.waits.iter().map(|w| w.value.si).collect();
    assert!(values.is_sorted_by(|a, b| a <= &(b + 0.01)), "it rises: {values:?}");
    for waiting in &looking.waits {
        assert_eq!(
            (waiting.towards.to_string(), waiting.of.as_str()),
            ("3 A".into(), "winding current")
        );
        assert_eq!(waiting.value.dimension, Dimension::CURRENT);
        // As far as it goes at this pace, and no further than a program lasts.
        assert!(waiting.left.is_none_or(|left| left > seconds(0.0)), "{waiting:?}");
    }
    assert!(looking.waits.iter().any(|w| w.left.is_some()));
}

/// What may follow one another on a rig: a direct current or none, kept or not, stopped or not.
#[derive(Clone, Debug)]
struct Piece {
    direct: bool,
    kept: bool,
    stops_after: Option<u32>,
}

fn piece() -> impl proptest::strategy::Strategy<Value = Piece> {
    use proptest::prelude::*;
    (any::<bool>(), any::<bool>(), proptest::option::weighted(0.3, 5u32..200))
        .prop_map(|(direct, kept, stops_after)| Piece { direct, kept, stops_after })
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig { cases: 24, failure_persistence: None, ..Default::default() })]

    /// Whatever was put out after whatever, and however it ended: once nothing is on and the rig has waited, nothing
    /// flows; decided by what is charged, not by what was put out last.
    #[test]
    fn whoever_is_sent_to_the_leads_finds_nothing_charged(pieces in proptest::collection::vec(piece(), 1..5)) {
        let ratings = Ratings::unknown(None);
        let mut one = rig(Pace::Fast);
        for piece in &pieces {
            let finish = if piece.kept { Finish::Keep } else { Finish::Off };
            let program = match piece.direct {
                true => charging(4.0, finish),
                false => {
                    let mut program = Program::of(vec![Segment::hold("off", Stimulus::off(), seconds(0.05))]);
                    (program.connection, program.finish) = (Some("1U-1N".into()), finish);
                    Arc::new(program)
                }
            };
            let cleared = clear(program, &ratings, &file().capability).unwrap();
            let seen = match piece.stops_after {
                Some(looks) => one.play(&cleared, &mut Stopping(Cell::new(looks))).unwrap(),
                None => one.play(&cleared, &mut Unattended).unwrap(),
            };
            // Nothing on is nothing kept; and what is off is discharged.
            proptest::prop_assert_eq!(seen.stays_on, piece.direct && piece.kept && !seen.aborted());
            proptest::prop_assert!(seen.stays_on || (flowing(&one) < 0.5 && !one.is_charged()), "{:?} {}", piece, flowing(&one));
        }
        one.off().unwrap();
        one.discharge(&mut Unattended).unwrap();
        proptest::prop_assert!(flowing(&one) < 0.5 && !one.is_charged());
    }
}
