//! What a rig has charged is discharged, whoever or whatever switches it off: by what the simulated winding really
//! carries, not by what anybody says.
#![allow(clippy::unwrap_used, missing_docs)]

use std::cell::Cell;
use std::sync::Arc;
use std::time::{Duration, Instant};
use waltron_core::asset::Ratings;
use waltron_core::clearance::clear;
use waltron_core::injection::program::{Finish, Program, Segment};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Frequency, Measure, amperes, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_rig::attendant::{Attendant, Unattended};
use waltron_rig::test_set::{Session, TestSet};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Description, Rig, RigFile, RigForm};
use waltron_specimen::SpecimenForm;

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
    let seen = one.play(&cleared(charging(20.0, Finish::Off)), &mut Unattended).unwrap();
    let left = seen.discharge.unwrap();
    assert!(left.is_done && left.left_a.unwrap() <= 0.01 && left.time > seconds(0.1), "{left:?}");
    assert!(flowing(&one) < 0.5, "nothing but what dies away around the delta: {}", flowing(&one));
    // Left on it flows; off takes it away.
    let mut two = rig(Pace::Fast);
    let seen = two.play(&cleared(charging(20.0, Finish::Keep)), &mut Unattended).unwrap();
    assert!(seen.discharge.is_none() && (flowing(&two) - 20.0).abs() < 0.1);
    two.off().unwrap();
    assert!(flowing(&two) < 0.5);
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
