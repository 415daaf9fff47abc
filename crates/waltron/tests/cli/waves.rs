//! Recordings in and out of the program, several of them written by hand.

use crate::support::Site;
use serde_json::Value;
use std::f64::consts::{SQRT_2, TAU};

/// A recording in text of two currents and a voltage, from its formula: each channel's unit, ratio
/// and side, and its value at a time.
struct ByHand<'a> {
    rate: u32,
    count: u32,
    channels: [(&'a str, &'a str); 3],
    value: &'a dyn Fn(usize, f64) -> Option<f64>,
}

impl ByHand<'_> {
    fn write(&self, site: &Site, name: &str, endings: [&str; 2]) {
        let mut cfg = "Brackwater,Q07-F1,1999\r\n4,3A,1D\r\n".to_owned();
        for (k, (unit, tail)) in self.channels.iter().enumerate() {
            cfg += &format!("{0},C{0},,bay 7,{unit},0.001,0,{tail}\r\n", k + 1);
        }
        cfg += &format!(
            "1,TRIP,,bay 7,1\r\n50\r\n1\r\n{},{}\r\n01/05/2026,08:00:00.000000\r\n\
             01/05/2026,08:00:00.040000\r\nASCII\r\n1\r\n",
            self.rate, self.count
        );
        let mut dat = String::new();
        for k in 0..self.count {
            let time = f64::from(k) / f64::from(self.rate);
            dat += &format!("{},{:.0}", k + 1, time * 1e6);
            for channel in 0..3 {
                match (self.value)(channel, time) {
                    Some(value) => dat += &format!(",{:.0}", value * 1000.0),
                    None => dat += ",",
                }
            }
            dat += if time < 0.04 { ",1\r\n" } else { ",0\r\n" };
        }
        site.write(&format!("{name}.{}", endings[0]), &cfg);
        site.write(&format!("{name}.{}", endings[1]), &dat);
    }
}

const PLAIN: &str = "0,-99999,99998,1,1,S";

fn json(site: &Site, args: &[&str]) -> Value {
    site.waltron(&[&["wave"], args, &["--format", "json"]].concat()).exits(0).json()
}

fn near(value: &Value, wanted: f64, within: f64) {
    let found = value.as_f64().unwrap_or_else(|| panic!("{value} is no number"));
    assert!((found - wanted).abs() <= within, "{found}, not {wanted}");
}

/// 5 A at 49.4 Hz over 100 cycles, with a tenth of the third harmonic, sampled 20 times a cycle.
#[test]
fn harmonics_are_those_of_the_frequency_that_is_there() {
    let site = Site::examples();
    let wave = |channel: usize, t: f64| {
        let turn = TAU * 49.4 * t;
        let third = 0.5 * (3.0 * turn).sin();
        Some(if channel == 2 { 1.25 } else { SQRT_2 * (5.0 * turn.sin() + third) })
    };
    let channels = [("A", PLAIN), ("A", PLAIN), ("V", PLAIN)];
    let recording = ByHand { rate: 1000, count: 2100, channels, value: &wave };
    recording.write(&site, "off", ["cfg", "dat"]);
    let found = json(&site, &["harmonics", "off.cfg", "--cycles", "100"]);
    let first = &found["channels"][0];
    near(&first["frequency_hz"], 49.4, 1e-4);
    near(&first["fundamental"], 5.0, 1e-3);
    near(&first["thd_pct"], 10.0, 0.05);
    near(&first["harmonics"][1]["share_pct"], 10.0, 0.05);
    near(&first["rms"], (25.0_f64 + 0.25).sqrt(), 1e-3);
    let steady = &found["channels"][2];
    assert_eq!(steady.get("frequency_hz"), None, "nothing swings there: {steady}");
    near(&steady["dc"], 1.25, 1e-6);
    let text = site.waltron(&["wave", "harmonics", "off.cfg", "--cycles", "2"]).exits(0).out();
    assert!(
        text.contains("too short to find the frequency") && text.contains("Hz taken"),
        "{text}"
    );
}

/// Skew: the second channel's samples are taken 1 ms late, which is 18° at 50 Hz. Units and sides:
/// kA and V, in which nothing is mixed up.
#[test]
fn phasors_mind_skew_units_and_gaps() {
    let site = Site::examples();
    let wave = |channel: usize, t: f64| {
        let late = if channel == 1 { 1e-3 } else { 0.0 };
        let shift = [0.0, -TAU / 3.0, TAU / 3.0][channel];
        let size = [2.0, 0.002, 2.0][channel];
        // The last channel has a hole from 60 to 62 ms.
        let there = channel != 2 || !(0.060..0.062).contains(&t);
        there.then(|| size * SQRT_2 * (TAU * 50.0 * (t + late) + shift).cos())
    };
    let late = "1000,-99999,99998,1,1,S";
    let mut channels = [("A", PLAIN), ("kA", late), ("A", PLAIN)];
    ByHand { rate: 2000, count: 400, channels, value: &wave }.write(&site, "skew", ["cfg", "dat"]);
    // 2 A in thousandths of a kA is two digits only.
    let whole = json(&site, &["phasors", "skew.cfg"]);
    near(&whole["channels"][1]["angle_deg"], -120.0, 15.0);
    let fine = |channel: usize, t: f64| {
        wave(channel, t).map(|v| if channel == 1 { v * 1000.0 } else { v })
    };
    channels[1].0 = "A";
    ByHand { rate: 2000, count: 400, channels, value: &fine }.write(&site, "fine", ["cfg", "dat"]);
    let whole = json(&site, &["phasors", "fine.cfg"]);
    near(&whole["channels"][1]["angle_deg"], -120.0, 0.05);
    near(&whole["components"][0]["positive_a"], 2.0, 1e-3);
    near(&whole["components"][0]["negative_a"], 0.0, 1e-3);
    // A hole in the window leaves nothing to say of the channel, and of what needs it.
    let holed = json(&site, &["phasors", "fine.cfg", "--at", "50 ms"]);
    assert_eq!(holed["channels"][2]["absent"], "absent: 4 of 40 samples missing");
    assert_eq!(holed["components"], serde_json::json!([]));
    let text = site.waltron(&["wave", "harmonics", "fine.cfg"]).exits(0).out();
    assert!(text.contains("4 of 400 samples missing") && !text.contains("NaN"), "{text}");
    let info = json(&site, &["info", "fine.cfg"]);
    assert_eq!(
        (&info["analog"][2]["missing"], &info["analog"][1]["skew_us"]),
        (&4.into(), &1000.0.into())
    );
}

#[test]
fn a_channel_without_a_single_sample_has_no_rms_value() {
    let site = Site::examples();
    let none = |channel: usize, _: f64| (channel != 1).then_some(1.0);
    let channels = [("A", PLAIN), ("A", PLAIN), ("V", PLAIN)];
    ByHand { rate: 1000, count: 60, channels, value: &none }.write(&site, "gone", ["cfg", "dat"]);
    let info = json(&site, &["info", "gone.cfg"]);
    for key in ["rms", "lowest", "highest"] {
        assert_eq!(info["analog"][1].get(key), None, "{info}");
    }
    near(&info["analog"][0]["rms"], 1.0, 1e-9);
    let text = site.waltron(&["wave", "info", "gone.cfg"]).exits(0).out();
    assert!(!text.contains("NaN") && text.contains("60"), "{text}");
}

/// What a part of a recording keeps, and what it does not leave behind.
#[test]
fn converting_keeps_what_was_told_and_leaves_nothing_stale() {
    let site = Site::examples();
    let wave = |_: usize, t: f64| Some((TAU * 50.0 * t).sin());
    let channels = [("A", "7.5,-99999,99998,600,1,P"), ("A", PLAIN), ("V", PLAIN)];
    let recording = ByHand { rate: 1000, count: 100, channels, value: &wave };
    // Endings as some devices write them.
    recording.write(&site, "old", ["CFG", "Dat"]);
    site.write("old.Hdr", "Recorded by R. Amsel\n");
    site.waltron(&[
        "wave",
        "convert",
        "old.CFG",
        "-o",
        "new.cfg",
        "--from",
        "20ms",
        "--encoding",
        "ascii",
    ])
    .exits(0);
    let cfg = site.read("new.cfg");
    for part in [
        "1,C1,,bay 7,A,",
        ",7.5,",
        ",600,1,P",
        "1,TRIP,,bay 7,1",
        "01/05/2026,08:00:00.020000\r\n01/05/2026,08:00:00.040000",
    ] {
        assert!(cfg.contains(part), "{part} is not in {cfg}");
    }
    assert_eq!(site.read("new.hdr"), "Recorded by R. Amsel\n");
    // Another recording without texts takes its place: the old header goes.
    recording.write(&site, "bare", ["cfg", "dat"]);
    let over = ["wave", "convert", "bare.cfg", "-o", "new.cfg"];
    assert!(site.waltron(&over).exits(2).err().contains("not written over"));
    assert_eq!(site.read("new.hdr"), "Recorded by R. Amsel\n");
    site.waltron(&[&over[..], &["--force"]].concat()).exits(0);
    assert!(!site.files().contains(&"new.hdr".to_owned()));
    // A text alone that is in the way is no reason to lose it.
    site.write("other.inf", "mine");
    let beside = ["wave", "convert", "bare.cfg", "-o", "other.cfg"];
    site.waltron(&beside).exits(2);
    assert_eq!(site.read("other.inf"), "mine");
    assert!(!site.files().contains(&"other.dat".to_owned()), "nothing is half written");
}

/// 1200 A on the primary side of 600:1 are 2 A at the relay.
#[test]
fn what_is_recorded_on_the_primary_side_is_played_on_the_secondary() {
    let site = Site::examples();
    let wave = |channel: usize, t: f64| {
        Some(if channel == 0 { 1.2 * SQRT_2 * (TAU * 50.0 * t).sin() } else { 0.0 })
    };
    let channels = [("kA", "0,-99999,99998,600,1,P"), ("A", PLAIN), ("V", PLAIN)];
    ByHand { rate: 2000, count: 400, channels, value: &wave }.write(&site, "high", ["cfg", "dat"]);
    let plan = site.read("q05-t2.plan.toml");
    let head = &plan[..plan.find("[[test]]").unwrap()];
    let script = "playback \"high.cfg\" with ia = \"C1\" as fault\nexpect time(begin(fault) -> trip) > 0 s as \"p\"\n";
    site.write("own.seq", script);
    site.write(
        "own.plan.toml",
        &format!("{head}[[test]]\nid = \"own\"\nprocedure = \"sequence\"\nscript = \"own.seq\"\n"),
    );
    let check = site.waltron(&["check", "own.plan.toml", "--format", "json"]).exits(0).json();
    near(&check["maxima"]["ia_a"], 2.0, 0.01);
}

#[test]
fn what_was_captured_can_be_looked_into_and_played_again() {
    let site = Site::examples();
    let run_plan = |site: &Site, script: &str, record: &str| {
        site.write("own.seq", script);
        let plan = site.read("q05-t2.plan.toml");
        let head = &plan[..plan.find("[[test]]").unwrap()];
        site.write(
            "own.plan.toml",
            &format!(
                "{head}[[test]]\nid = \"own\"\nprocedure = \"sequence\"\nscript = \"own.seq\"\n"
            ),
        );
        site.waltron(&["run", "own.plan.toml", "--yes", "--format", "json", "--record", record])
    };
    let fault = "capture trip\nfault A-N with i = 6 A after prefault i = 0.5 A for 200 ms until trip, at most 2 s\nexpect time(inception -> trip) within band(51P) as \"time\"\n";
    let first = run_plan(&site, fault, "a.run.jsonl").exits(0).json();
    let trip = first["points"][0]["measured"]["time_s"].as_f64().unwrap();
    let info = site.waltron(&["wave", "info", "a.trip.cff", "--format", "json"]).exits(0).json();
    assert_eq!(info["analog"][0]["id"], "ia");
    assert!((info["length_s"].as_f64().unwrap() - 0.2 - trip).abs() < 0.01, "{info}");
    // The moment at which it was taken: the clock stands still but for what is injected.
    // To the millisecond of the record's stamps.
    let start = info["start"].as_str().unwrap();
    assert!(["07:59:59.999", "08:00:00.000"].iter().any(|t| start[11..].starts_with(t)), "{start}");
    // The free texts beside a recording go with it, into one file and out of it again.
    site.waltron(&["wave", "convert", "a.trip.cff", "-o", "t.cfg"]).exits(0);
    site.write("t.hdr", "Recorded by R. Amsel\n");
    site.waltron(&["wave", "convert", "t.cfg", "-o", "t2.cff"]).exits(0);
    site.waltron(&["wave", "convert", "t2.cff", "-o", "t3.cfg"]).exits(0);
    assert_eq!(site.read("t3.hdr"), "Recorded by R. Amsel\n");
    assert!(site.waltron(&["wave", "info", "t2.cff"]).exits(0).out().contains("R. Amsel"));
    // Both editions and a text format hold the same wave.
    for (file, options) in [
        ("b.cfg", vec!["--revision", "1999", "--encoding", "ascii"]),
        ("c.cfg", vec!["--revision", "1991", "--encoding", "binary"]),
        ("d.cfg", vec!["--revision", "1991"]),
        ("e.cfg", vec!["--revision", "1999"]),
        ("d.cff", vec!["--encoding", "float32"]),
    ] {
        let mut args = vec!["wave", "convert", "a.trip.cff", "-o", file];
        args.extend(options);
        site.waltron(&args).exits(0);
        let found = site
            .waltron(&["wave", "phasors", file, "--at", "400ms", "--format", "json"])
            .exits(0)
            .json();
        let rms = found["channels"][0]["rms"].as_f64().unwrap();
        assert!((rms - 6.0).abs() < 1e-3, "{file}: {rms}");
    }
    // Played back at twice the size, it trips faster; the relay sees the same pre-fault and fault.
    let play = "playback \"b.cfg\" with ia = \"ia\" * 2, ib = \"ib\", ic = \"ic\" from 100 ms until trip as fault\nexpect trip as \"trips\"\nexpect time(begin(fault) -> trip) <= 700 ms as \"faster\"\n";
    run_plan(&site, play, "p.run.jsonl").exits(0);
    site.waltron(&["wave", "plot", "d.cff", "-o", "d.svg", "--to", "60ms"]).exits(0);
    assert!(site.read("d.svg").contains("Current, A"));
    // A channel that is not there shows the line and what there is.
    let done = run_plan(&site, &play.replace("\"ib\"", "\"iz\""), "q.run.jsonl").exits(2);
    assert!(
        done.json()["error"]["help"].as_str().unwrap().contains("ia, ib, ic"),
        "{}",
        done.out()
    );
}

#[test]
fn damaged_recordings_are_refused_with_their_place() {
    let site = Site::examples();
    site.waltron(&[
        "wave",
        "make",
        "q05-t2.plan.toml",
        "--test",
        "harmonics",
        "-o",
        "m.cfg",
        "--revision",
        "1999",
        "--encoding",
        "ascii",
        "--rate",
        "1000",
    ])
    .exits(0);
    let (cfg, dat) = (site.read("m.cfg"), site.read("m.dat"));
    let refused = |message: &str| {
        let done = site.waltron(&["wave", "info", "m.cfg"]).exits(2);
        assert!(done.err().contains(message), "`{message}` is not in {}", done.err());
    };
    site.write("m.dat", &dat[..dat.len() / 2]);
    refused("declares 1000 samples");
    let partial =
        site.waltron(&["wave", "info", "m.cfg", "--partial", "--format", "json"]).exits(0).json();
    assert!((400..600).contains(&partial["samples"].as_u64().unwrap()), "{partial}");
    site.write("m.dat", &dat.replacen(",99998,", ",99,998,", 1));
    refused("decimal commas");
    site.write("m.dat", &dat);
    site.write("m.cfg", &cfg.replace("3,3A,0D", "4,3A,0D"));
    refused("line 2: 4 channels are declared");
    site.write("m.cfg", &cfg.replace("1000,1000", "1000,99999999999"));
    refused("declares 99999999999 samples, the data hold 1000");
    std::fs::remove_file(site.dir.path().join("m.dat")).unwrap();
    refused("m.dat, are not there");
    std::fs::write(site.dir.path().join("n.cfg"), b"Tr\xfcb,1,1999\n").unwrap();
    let done = site.waltron(&["wave", "info", "n.cfg"]).exits(2);
    assert!(
        done.err().contains("line 1: byte 0xfc") && done.err().contains("--latin1"),
        "{}",
        done.err()
    );
}

/// A combined file that was cut off is read up to its last whole sample, if that is asked for.
#[test]
fn what_is_left_of_a_combined_file_is_read_on_request() {
    let site = Site::examples();
    let whole = std::fs::read(site.dir.path().join("inrush.cff")).unwrap();
    std::fs::write(site.dir.path().join("cut.cff"), &whole[..whole.len() / 2]).unwrap();
    let refused = site.waltron(&["wave", "info", "cut.cff"]).exits(2).err();
    assert!(refused.contains("--partial"), "{refused}");
    let count = |args: &[&str]| json(&site, args)["samples"].as_u64().unwrap();
    let (part, all) = (count(&["info", "cut.cff", "--partial"]), count(&["info", "inrush.cff"]));
    assert!(part > all / 3 && part < all, "{part} of {all}");
}

/// A capture's name is a part of a file's name, wherever it points; what cannot be written is told,
/// and what was measured counts.
#[test]
fn a_capture_stays_beside_its_record() {
    let site = Site::examples();
    let plan = site.read("q05-t2.plan.toml");
    let head = &plan[..plan.find("[[test]]").unwrap()];
    site.write(
        "own.plan.toml",
        &format!("{head}[[test]]\nid = \"own\"\nprocedure = \"sequence\"\nscript = \"own.seq\"\n"),
    );
    let run = |name: &str, record: &str| {
        site.write(
            "own.seq",
            &format!("capture `{name}`\nhold ia = 0.5 A for 100 ms\nexpect no trip as \"p\"\n"),
        );
        site.waltron(&["run", "own.plan.toml", "--yes", "--format", "json", "--record", record])
    };
    run("../a/b:c", "r.run.jsonl").exits(0);
    assert!(site.files().contains(&"r.---a-b-c.cff".to_owned()), "{:?}", site.files());
    let done = run("x", &format!("{}.run.jsonl", "r".repeat(240))).exits(0);
    assert!(done.err().contains("x could not be kept"), "{}", done.err());
    assert_eq!(done.json()["summary"]["pass"], 1);
}
