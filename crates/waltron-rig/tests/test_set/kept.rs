//! What is kept on between two programs goes on: the simulated relay times, and its contact switches off.

use super::{RIG, SPECIMEN, Session, TestSet, ask};
use std::sync::Arc;
use std::time::{Duration, Instant};
use waltron_core::injection::program::{Finish, Program, Segment};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Frequency, Measure, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_rig::virtual_rig::{Pace, Seeds, VirtualRig};
use waltron_rig::{Description, RigForm};
use waltron_specimen::SpecimenForm;

/// A test set in the world's time, whose relay trips after 0.3 s; its contact is the emergency stop.
fn stopped_by_its_relay() -> Arc<TestSet> {
    let rig = RIG.replace(
        "specimen = \"s\"",
        "specimen = \"s\"\nemergency_stop = \"trip\"\nemergency_stop_by = \"closing\"",
    );
    let capability = RigForm::load(&Source::new("r", rig.as_str())).unwrap().capability;
    let own = capability.clone();
    let build = move |seeds: Seeds| {
        let text = SPECIMEN.replace("50 ms", "300 ms");
        let specimen = SpecimenForm::load(&Source::new("s", text.as_str()), seeds.specimen).ok()?;
        Some(VirtualRig::new("bench".into(), own.clone(), specimen, Pace::Real))
    };
    let description = Description::of("bench", &capability, true, true);
    Arc::new(TestSet::new(description, capability, build(1.into()).unwrap(), Box::new(build)))
}

fn kept(amperes: f64) -> Vec<u8> {
    let phasor = Phasor::new(Current::from_si(amperes), degrees(0.0));
    let drive = Drive::sine("ia".into(), phasor, Frequency::from_si(50.0));
    let out = Stimulus { currents: vec![drive], voltages: Vec::new() };
    let mut program = Program::of(vec![Segment::hold("on", out, seconds(0.05))]);
    program.finish = Finish::Keep;
    let json = program.to_json().unwrap();
    let digits = json.len().to_string();
    [format!("PROG:DEF #{}{digits}", digits.len()).into_bytes(), json].concat()
}

#[test]
fn a_contact_that_closes_while_outputs_are_kept_switches_them_off() {
    for (amperes, trips) in [(6.0, true), (4.0, false)] {
        let set = stopped_by_its_relay();
        let mut session = Session::new(Arc::clone(&set));
        session.handle(b"SYST:LOCK:REQ?");
        session.handle(&kept(amperes));
        session.handle(b"INIT;*WAI");
        assert_eq!(ask(&mut session, "OUTP?;:MEAS:INP?"), "1;\"BI1\",\"trip\",OFF", "{amperes} A");
        let began = Instant::now();
        while set.is_energised() && began.elapsed() < Duration::from_millis(700) {
            session.handle(b"*OPC?");
            set.watch();
            std::thread::sleep(Duration::from_millis(5));
        }
        assert_eq!(set.is_energised(), !trips, "{amperes} A");
        if trips {
            let shown = ask(&mut session, "OUTP?;:MEAS:INP?;:MEAS:OUTP?");
            assert!(shown.starts_with("0;\"BI1\",\"trip\",ON;"), "{shown}");
            // Whoever kept it on learns of it before anything comes on again.
            session.handle(b"INIT");
            assert!(ask(&mut session, "SYST:ERR?").contains("switched off meanwhile"));
            assert_eq!(ask(&mut session, "PROG:STAT:CAUS?"), "\"the emergency stop\"");
        }
    }
}
