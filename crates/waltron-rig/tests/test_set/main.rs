//! The test set under whatever a client may send.

mod documented;
mod kept;

use proptest::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};
use waltron_core::text::document::Source;
use waltron_rig::Description;
use waltron_rig::test_set::{Session, TREE, TestSet};
use waltron_rig::virtual_rig::{Pace, Seeds, VirtualRig};
use waltron_rig::{RigFile, RigForm};
use waltron_specimen::SpecimenForm;

const RIG: &str = r#"
[rig]
kind = "virtual"
name = "bench"
specimen = "s"
[[current]]
id = "ia"
range = "32 A"
[[voltage]]
id = "va"
range = "300 V"
[[input]]
id = "BI1"
meaning = "trip"
"#;

const SPECIMEN: &str = r#"
[specimen]
kind = "relay"
[[element]]
id = "50"
measures = "phase"
pickup = "5 A"
curve = { family = "definite", delay = "50 ms" }
"#;

fn test_set(pace: Pace) -> Arc<TestSet> {
    let file: RigFile = RigForm::load(&Source::new("r", RIG)).unwrap();
    let capability = file.capability.clone();
    let build = move |seeds: Seeds| {
        let specimen = SpecimenForm::load(&Source::new("s", SPECIMEN), seeds.specimen).ok()?;
        Some(VirtualRig::new("bench".into(), capability.clone(), specimen, pace))
    };
    let first = build(1.into()).unwrap();
    let description = Description::of("bench", &file.capability, true, pace == Pace::Real);
    Arc::new(TestSet::new(description, file.capability, first, Box::new(build)))
}

fn ask(session: &mut Session, message: &str) -> String {
    String::from_utf8_lossy(&session.handle(message.as_bytes())).trim_end().to_owned()
}

/// A parameter of any kind, sane or not.
fn parameter() -> impl Strategy<Value = String> {
    prop_oneof![
        any::<f64>().prop_map(|v| format!("{v:E}")),
        (-10i32..1000).prop_map(|v| v.to_string()),
        Just("1 A".to_owned()),
        Just("20 MS".to_owned()),
        Just("ON".to_owned()),
        Just("ia".to_owned()),
        Just("\"trip\"".to_owned()),
        Just("#14null".to_owned()),
        Just("#13abc".to_owned()),
        "[ -~]{0,6}",
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// No message makes it panic, answer without end or stay energised; errors are queued, answers
    /// are lines.
    #[test]
    fn any_commands_are_answered_or_refused(
        commands in proptest::collection::vec((0usize..200, proptest::collection::vec(parameter(), 0..4)), 1..12)
    ) {
        let set = test_set(Pace::Fast);
        let mut session = Session::new(Arc::clone(&set));
        let headers = TREE.headers();
        for (which, parameters) in commands {
            let header = headers[which % headers.len()].replace(['[', ']'], "");
            let message = format!("{header} {}", parameters.join(","));
            let answer = session.handle(message.as_bytes());
            prop_assert!(answer.is_empty() || answer.ends_with(b"\n"), "{message}");
        }
        prop_assert!(ask(&mut session, "SYST:ERR:COUN?").parse::<usize>().unwrap() <= 64);
        prop_assert_eq!(ask(&mut session, "*CLS;OUTP OFF;:OUTP?"), "0");
        drop(session);
        prop_assert!(!set.is_energised());
    }
}

/// Who switches the watchdog off does so for as long as he controls.
#[test]
fn the_watchdog_is_back_for_the_next_client() {
    let set = test_set(Pace::Real);
    let mut first = Session::new(Arc::clone(&set));
    let usual = ask(&mut first, "SYST:WATC?");
    assert_eq!(ask(&mut first, "SYST:WATC OFF;WATC?").parse::<f64>().unwrap(), 0.0);
    drop(first);
    let mut second = Session::new(Arc::clone(&set));
    assert_eq!(ask(&mut second, "SYST:WATC?"), usual);
}

/// Whoever waits for what the instrument does is not silent, however long that takes.
#[test]
fn a_slow_instrument_is_not_a_silent_client() {
    let file: RigFile = RigForm::load(&Source::new("r", RIG)).unwrap();
    let specimen = SpecimenForm::load(&Source::new("s", SPECIMEN), 1).unwrap();
    let rig = VirtualRig::new("bench".into(), file.capability.clone(), specimen, Pace::Real);
    let description = Description::of("bench", &file.capability, true, true);
    let slow = |_: Seeds| {
        std::thread::sleep(Duration::from_millis(500));
        None
    };
    let set = Arc::new(TestSet::new(description, file.capability, rig, Box::new(slow)));
    let mut session = Session::new(Arc::clone(&set));
    ask(&mut session, "SYST:WATC 100 MS;LOCK:REQ?");
    std::thread::scope(|scope| {
        let works = scope.spawn(|| ask(&mut session, "SIM:SEED 1"));
        while !works.is_finished() {
            set.watch();
        }
    });
    set.watch();
    assert_eq!(ask(&mut session, "SYST:LOCK:OWN?"), session.id().to_string());
    std::thread::sleep(Duration::from_millis(200));
    set.watch();
    assert_eq!(ask(&mut session, "SYST:LOCK:OWN?"), "0", "silence is silence");
}

/// Programs that only a mistaken client sends are refused before anything is made of them.
#[test]
fn programs_without_measure_are_refused() {
    let mut session = Session::new(test_set(Pace::Real));
    let stimulus = r#"[{"channel":"ia","rms_a":1.0,"angle_deg":0.0,"frequency_hz":50.0}]"#;
    let program = |profile: &str, stops: &str| {
        let json =
            format!(r#"{{"segments":[{{"name":"x","profile":{profile},"stops":[{stops}]}}]}}"#);
        format!("PROG:DEF #{}{}{json};:INIT", json.len().to_string().len(), json.len())
    };
    let stairs = |steps: &str, dwell: &str| {
        format!(
            r#"{{"stairs":{{"from":{stimulus},"to":{stimulus},"steps":{steps},"dwell_s":{dwell}}}}}"#
        )
    };
    let hold = format!(r#"{{"hold":{stimulus}}}"#);
    let after = |s: &str| format!(r#"{{"when":{{"after_s":{s}}},"then":"next"}}"#);
    for (message, number) in [
        (program(&stairs("4294967295", "0.000001"), ""), "-223"),
        (program(&stairs("10", "-1.0"), ""), "-222"),
        (program(&hold, &after("1e300")), "-222"),
        (program(&hold, &after("-5.0")), "-222"),
        (program(&hold, ""), "-222"),
        (program("{\"hold\":7}", ""), "-161"),
        ("PROG:DEL;:INIT".to_owned(), "-221"),
    ] {
        assert_eq!(ask(&mut session, &message), "", "{message}");
        let error = ask(&mut session, "SYST:ERR?");
        assert!(error.starts_with(number), "{message}: {error}");
        assert_eq!(ask(&mut session, "OUTP?;*CLS"), "0");
    }
}

/// A negative magnitude in a program is refused where it stands.
#[test]
fn a_negative_magnitude_is_refused() {
    let mut session = Session::new(test_set(Pace::Real));
    for drive in [
        r#"{"channel":"ia","rms_a":-500.0,"angle_deg":0.0,"frequency_hz":50.0}"#,
        r#"{"channel":"ia","rms_a":1.0,"angle_deg":0.0,"frequency_hz":50.0,"dc":1.0,"dc_tau_s":-1.0}"#,
        r#"{"channel":"ia","rms_a":1.0,"rms_v":1.0,"angle_deg":0.0,"frequency_hz":50.0}"#,
    ] {
        let json = format!(
            r#"{{"segments":[{{"name":"x","profile":{{"hold":[{drive}]}},"stops":[{{"when":{{"after_s":1.0}},"then":"next"}}]}}]}}"#
        );
        let head = format!("PROG:DEF #{}{}", json.len().to_string().len(), json.len());
        assert_eq!(ask(&mut session, &format!("{head}{json};:INIT;:OUTP?")), "0");
        let error = ask(&mut session, "SYST:ERR?");
        assert!(error.starts_with("-161"), "{error}");
        ask(&mut session, "*CLS");
    }
    assert_eq!(
        ask(&mut session, "PROG:SEGM:NEW \"x\";CURR ia,-5 A;:SYST:ERR?").split(',').next(),
        Some("-222")
    );
}

/// Whoever leaves, leaves nothing set: parameters go off with the controller.
#[test]
fn a_program_of_who_has_gone_is_not_begun() {
    let set = test_set(Pace::Real);
    let mut first = Session::new(Arc::clone(&set));
    let id = first.id();
    ask(&mut first, "PROG:SEGM:NEW \"x\";CURR ia,1 A;TIME 60 S");
    set.leave(id);
    assert_eq!(ask(&mut first, "INIT;:OUTP?"), "", "its line is gone");
    assert!(!set.is_energised());
}

/// Outputs that stay on after a program go off with their controller, and with anybody's word.
#[test]
fn what_stays_on_goes_off_with_its_controller() {
    let set = test_set(Pace::Real);
    let begin = |session: &mut Session| {
        let lines = "PROG:DEL;SEGM:NEW \"x\";CURR ia,1 A;TIME 20 MS;:PROG:FIN KEEP;:INIT;*OPC?";
        assert_eq!(ask(session, lines), "1");
        assert_eq!(ask(session, "OUTP?"), "1");
    };
    let (mut first, mut second) = (Session::new(Arc::clone(&set)), Session::new(Arc::clone(&set)));
    begin(&mut first);
    drop(first);
    assert_eq!(ask(&mut second, "OUTP?"), "0");
    begin(&mut second);
    let mut reader = Session::new(Arc::clone(&set));
    assert_eq!(ask(&mut reader, "ABOR;OUTP?"), "0");
    // A stop in the middle of a long program does not wait for its end.
    let long = "PROG:DEL;SEGM:NEW \"x\";CURR ia,1 A;TIME 60 S;:INIT";
    ask(&mut second, long);
    std::thread::sleep(Duration::from_millis(50));
    let began = Instant::now();
    assert_eq!(ask(&mut reader, "OUTP OFF;:OUTP?"), "0");
    assert!(began.elapsed() < Duration::from_millis(500));
}

/// What one of several clients does.
#[derive(Clone, Copy, Debug)]
enum Act {
    Join,
    Leave(usize),
    /// Begins a program whose outputs stay on.
    Begin(usize),
    /// The same, with outputs that go off.
    Play(usize),
    Off(usize),
    Abort(usize),
    Lock(usize),
    Release(usize),
    Reset(usize),
}

fn act() -> impl Strategy<Value = Act> {
    let who = 0usize..4;
    prop_oneof![
        2 => Just(Act::Join),
        1 => who.clone().prop_map(Act::Leave),
        4 => who.clone().prop_map(Act::Begin),
        2 => who.clone().prop_map(Act::Play),
        1 => who.clone().prop_map(Act::Off),
        1 => who.clone().prop_map(Act::Abort),
        2 => who.clone().prop_map(Act::Lock),
        1 => who.clone().prop_map(Act::Release),
        1 => who.prop_map(Act::Reset),
    ]
}

/// What must be so, by the document: who controls, and whether something is on.
#[derive(Debug, Default)]
struct Model {
    controller: Option<u64>,
    on: bool,
    /// Who kept something on that another one switched off, and does not know.
    unaware: Option<u64>,
}

impl Model {
    /// A command that changes something: whether it is taken.
    fn changes(&mut self, who: u64) -> bool {
        *self.controller.get_or_insert(who) == who
    }

    fn gone(&mut self, who: u64) {
        if self.controller == Some(who) {
            *self = Self::default();
        }
    }

    fn off_by(&mut self, who: u64) {
        if std::mem::take(&mut self.on) && self.controller != Some(who) {
            self.unaware = self.controller;
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever several clients do in whatever order: one of them controls, the others are refused and can switch
    /// off, and nothing is on without whoever switched it on.
    #[test]
    fn one_controls_and_everybody_may_switch_off(acts in proptest::collection::vec(act(), 1..40)) {
        let set = test_set(Pace::Fast);
        let mut clients: Vec<Session> = vec![Session::new(Arc::clone(&set))];
        let mut model = Model::default();
        for act in acts {
            let own = |k: usize| k % clients.len().max(1);
            let (Act::Leave(k) | Act::Begin(k) | Act::Play(k) | Act::Off(k) | Act::Abort(k) | Act::Lock(k)
            | Act::Release(k) | Act::Reset(k)) = act else {
                if clients.len() < 4 {
                    clients.push(Session::new(Arc::clone(&set)));
                }
                continue;
            };
            if clients.is_empty() {
                continue;
            }
            let k = own(k);
            let (who, client) = (clients[k].id(), &mut clients[k]);
            let program = |finish: &str| format!(
                "PROG:DEL;SEGM:NEW \"x\";CURR ia,1 A;TIME 20 MS;:PROG:FIN {finish};:INIT;*OPC?"
            );
            let mut taken = true;
            match act {
                Act::Leave(_) => {
                    drop(clients.remove(k));
                    model.gone(who);
                }
                Act::Begin(_) | Act::Play(_) => {
                    let stays = matches!(act, Act::Begin(_));
                    // What was switched off does not come on again before its owner knows why it is off.
                    if model.unaware == Some(who) {
                        ask(client, &program("KEEP"));
                        prop_assert!(!set.is_energised());
                        prop_assert!(ask(client, "SYST:ERR?").starts_with("-213"));
                        prop_assert!(ask(client, "PROG:STAT:CAUS?").contains("client"));
                        model.unaware = None;
                    }
                    ask(client, &program(if stays { "KEEP" } else { "OFF" }));
                    taken = model.changes(who);
                    if taken {
                        model.on = stays;
                    }
                }
                Act::Off(_) => {
                    ask(client, "OUTP OFF");
                    model.off_by(who);
                }
                Act::Abort(_) => {
                    ask(client, "ABOR");
                    model.off_by(who);
                }
                Act::Lock(_) => {
                    let answer = ask(client, "SYST:LOCK:REQ?");
                    let is_his = model.changes(who);
                    prop_assert_eq!(answer, u8::from(is_his).to_string());
                }
                Act::Release(_) => {
                    ask(client, "SYST:LOCK:REL");
                    model.gone(who);
                }
                Act::Reset(_) => {
                    ask(client, "*RST");
                    taken = model.changes(who);
                    if taken {
                        model.on = false;
                    }
                }
                Act::Join => {}
            }
            prop_assert_eq!(set.is_energised(), model.on, "{:?} {:?}", act, model);
            for client in &mut clients {
                let owner = ask(client, "SYST:LOCK:OWN?");
                prop_assert_eq!(owner, model.controller.unwrap_or(0).to_string(), "{:?}", act);
                prop_assert_eq!(ask(client, "OUTP?"), u8::from(model.on).to_string());
                let out = ask(client, "MEAS:OUTP?");
                prop_assert_eq!(out.contains("ia"), model.on, "{:?}: {}", act, out);
                let error = ask(client, "SYST:ERR?;*CLS");
                let is_refused = client.id() == who && !taken;
                prop_assert_eq!(error.starts_with("-203"), is_refused, "{:?}: {}", act, error);
                prop_assert_eq!(error.starts_with("0,"), !is_refused, "{:?}: {}", act, error);
            }
        }
        clients.clear();
        prop_assert!(!set.is_energised(), "whoever is gone leaves nothing on");
    }
}
