//! Rig files, clocks and the record's writer.

use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Measure, seconds};
use waltron_core::record::{Event, read};
use waltron_core::text::document::Source;
use waltron_rig::RigForm;
use waltron_rig::clock::{Clock, SimulatedClock, SystemClock};
use waltron_rig::reader::Events;
use waltron_rig::writer::{Durability, RecordWriter, WriteError};

const RIG: &str = r#"
[rig]
kind = "virtual"
name = "bench"
specimen = "s.toml"
[[current]]
id = "ia"
range = "32 A"
[[voltage]]
id = "va"
range = "300 V"
accuracy = "0.05 % + 5 mV"
[[input]]
id = "BI1"
meaning = "trip"
debounce = "2 ms"
"#;

#[test]
fn a_rig_file_gives_its_capability() {
    let rig = RigForm::load(&Source::new("r", RIG)).unwrap();
    assert_eq!((rig.name.as_str(), rig.seeds), ("bench", 1.into()));
    assert_eq!(rig.capability.currents[0].range.si(), 32.0);
    assert_eq!(rig.capability.voltages[0].accuracy.to_string(), "0.05 % + 5 mV");
    assert!(rig.capability.sees(&"trip".into()) && !rig.capability.sees(&"start".into()));
    assert_eq!(rig.capability.timing_resolution.si(), 1e-4);
}

#[test]
fn what_is_wired_twice_or_makes_no_sense_is_refused() {
    let messages = |from: &str, to: &str| {
        let error = RigForm::load(&Source::new("r", RIG.replacen(from, to, 1))).unwrap_err();
        error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
    };
    assert!(messages("id = \"va\"", "id = \"ia\"").contains("`ia` is there twice"));
    let twice = "[[input]]\nid = \"BI0\"\nmeaning = \"trip\"\n[[input]]";
    assert!(messages("[[input]]", twice).contains("two inputs mean `trip`"));
    assert!(messages("32 A", "0 A").contains("above zero"));
    assert!(messages("2 ms", "-2 ms").contains("negative"));
    assert!(messages("kind = \"virtual\"", "kind = \"vitual\"").contains("no valid `kind`"));
}

#[test]
fn a_simulated_clock_moves_with_the_injected_time_only() {
    let mut clock = SimulatedClock::starting_at(1_777_881_600).unwrap();
    assert_eq!(clock.now(), "2026-05-04T08:00:00.000Z");
    assert_eq!(clock.now(), "2026-05-04T08:00:00.000Z");
    clock.injected(seconds(61.25));
    assert_eq!(clock.now(), "2026-05-04T08:01:01.250Z");
    assert!(SimulatedClock::starting_at(u64::MAX).is_none());
    assert_eq!(SystemClock.now().len(), clock.now().len());
}

#[test]
fn records_are_made_anew_only_and_are_on_disk_after_each_event() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("r.run.jsonl");
    let mut writer = RecordWriter::create(&path, Durability::Disk).unwrap();
    assert!(matches!(RecordWriter::create(&path, Durability::Disk), Err(WriteError::Io { .. })));
    let lines = || std::fs::read_to_string(&path).unwrap().lines().count();
    writer.append("t", &Event::Asked(Question::confirm("Reset the relay"))).unwrap();
    assert_eq!(lines(), 1, "without closing the file");
    writer.append("t", &Event::Answered { answer: Answer::Confirmed }).unwrap();
    assert_eq!(lines(), 2);
    let observed = Event::Observed {
        test: "t".into(),
        points: Vec::new(),
        program: Default::default(),
        observation: Default::default(),
        warm: Default::default(),
    };
    writer.append("t", &observed).unwrap();
    assert_eq!(writer.path(), path);
    drop(writer);
    assert_eq!(lines(), 3, "an observation that nothing followed is kept too");
    // Observations are read one by one; what is no event of theirs is passed over, a cut end is no event.
    let mut spoilt = std::fs::read_to_string(&path).unwrap();
    spoilt.insert_str(0, "{\"n\":0,\"event\":\"no such\"}\n");
    let other = dir.path().join("spoilt.run.jsonl");
    std::fs::write(&other, format!("{spoilt}{{\"n\":5,\"at\":\"t\",\"ev")).unwrap();
    let seen: Vec<_> = Events::observations(&other).unwrap().map(|line| line.unwrap()).collect();
    assert!(matches!(&seen[..], [line] if line.n == 3 && line.event == observed), "{seen:?}");
    assert!(Events::open(&other).unwrap().next().unwrap().is_err());
    assert!(Events::open(&dir.path().join("none")).is_err());
    // It does not start a run, but its chain holds: the second line names the first one's digest.
    let text = std::fs::read(&path).unwrap();
    assert!(read(&text).is_err());
    assert!(String::from_utf8(text).unwrap().lines().skip(1).all(|l| !l.contains("\"prev\":\"\"")));
}
