//! Keys pressed on a terminal: prompts, the live view, watching.

use crate::support::Site;
use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use std::io::{Read, Write};
use std::num::NonZero;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use waltron_test_support::small;

/// Longest that anything here may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// The program on a terminal of its own.
struct Terminal {
    child: Box<dyn Child + Send + Sync>,
    keys: Box<dyn Write + Send>,
    seen: Arc<Mutex<String>>,
    screen: Arc<Mutex<vt100::Parser>>,
    _terminal: Box<dyn MasterPty + Send>,
}

impl Terminal {
    fn start(site: &Site, args: &[&str]) -> Self {
        Self::sized(site, args, [40, 120])
    }

    fn sized(site: &Site, args: &[&str], [rows, cols]: [u16; 2]) -> Self {
        let size = PtySize { rows, cols, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).unwrap();
        let mut command = CommandBuilder::new(env!("CARGO_BIN_EXE_waltron"));
        command.args(args);
        command.cwd(site.dir.path());
        command.env("TERM", "xterm");
        let child = pair.slave.spawn_command(command).unwrap();
        drop(pair.slave);
        let mut output = pair.master.try_clone_reader().unwrap();
        let seen = Arc::new(Mutex::new(String::new()));
        let into = Arc::clone(&seen);
        let [rows, columns] = [rows, cols].map(|n| NonZero::new(n).unwrap());
        let screen = Arc::new(Mutex::new(vt100::Parser::new(rows, columns, 0)));
        let onto = Arc::clone(&screen);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(n @ 1..) = output.read(&mut bytes) {
                onto.lock().unwrap().process(&bytes[..n]);
                into.lock().unwrap().push_str(&String::from_utf8_lossy(&bytes[..n]));
            }
        });
        let keys = pair.master.take_writer().unwrap();
        Self { child, keys, seen, screen, _terminal: pair.master }
    }

    fn seen(&self) -> String {
        self.seen.lock().unwrap().clone()
    }

    /// Waits until some text has been shown so often.
    #[track_caller]
    fn shows(&self, text: &str, times: usize) {
        let began = Instant::now();
        while self.seen().matches(text).count() < times {
            assert!(began.elapsed() < PATIENCE, "no `{text}` {times} times in:\n{}", self.seen());
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Waits until one of these texts stands on the screen.
    #[track_caller]
    fn stands(&self, texts: &[&str]) {
        let began = Instant::now();
        loop {
            let screen = self.screen.lock().unwrap().screen().contents();
            if texts.iter().any(|t| screen.contains(t)) {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "none of {texts:?} on\n{screen}");
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
        self.keys.flush().unwrap();
    }

    /// The exit code, which must come by itself.
    #[track_caller]
    fn exit(&mut self) -> u32 {
        let began = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.exit_code();
            }
            if began.elapsed() > PATIENCE {
                self.child.kill().unwrap();
                panic!("it does not end:\n{}", self.seen());
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

const INJECT: [&str; 6] =
    ["inject", "ia=1 A", "--rig", "q07-f1.rig.toml", "--asset", "q07-f1.asset.toml"];

/// What is put out needs the word; everything else is asked again or stops, with nothing put out.
#[test]
fn only_yes_puts_something_out() {
    let site = Site::new();
    let args = [&INJECT[..], &["--for", "100 ms"]].concat();
    let mut it = Terminal::start(&site, &args);
    for (n, keys) in ["\r", "s\r", "skip: x\r", "ok\r", "y\r", "p\r", "1\r"].into_iter().enumerate()
    {
        it.shows("yes, or stop: ", n + 1);
        it.press(keys);
    }
    it.shows("yes, or stop: ", 8);
    assert!(!it.seen().contains("Measured"), "{}", it.seen());
    it.press("yes\r");
    it.shows("Measured at the end", 1);
    assert_eq!(it.exit(), 0);
    for keys in ["no\r", "q\r", "stop\r", "cancel\r", "\u{3}", "\u{4}"] {
        let mut it = Terminal::start(&site, &args);
        it.shows("yes, or stop: ", 1);
        it.press(keys);
        assert_eq!(it.exit(), 4, "{keys:?}: {}", it.seen());
        assert!(!it.seen().contains("Measured"), "{keys:?}: {}", it.seen());
    }
    // A plan's checklist says how long it is.
    site.edit("q07-f1.rig.toml", "seed = 11874", "seed = 11874\nconfirm = true");
    let mut it = Terminal::start(&site, &["run", "q07-f1.plan.toml"]);
    it.shows("1 of ", 1);
    it.press("yes\r");
    it.shows("2 of ", 1);
    it.press("q\r");
    assert_eq!(it.exit(), 4, "{}", it.seen());
    // On the full screen it stands beside what it is asked for.
    let live =
        ["run", "q07-f1.plan.toml", "--live", "--only", "51N-times", "--record", "l.run.jsonl"];
    let mut it = Terminal::start(&site, &live);
    it.stands(&["Before outputs come on: 1 of ", "Q07-F1", "0/9 points"]);
    it.press("\u{1b}");
    assert_eq!(it.exit(), 4, "{}", it.seen());
}

/// After the prompt every key of the watch does what it says, and each way out is one.
#[test]
fn watching_can_be_steered_and_ended_after_its_prompt() {
    let site = Site::new();
    for last in ["q", "\u{1b}", "\u{3}"] {
        let mut it =
            Terminal::start(&site, &[&INJECT[..], &["--watch", "--step", "50 %"]].concat());
        it.shows("yes, or stop: ", 1);
        it.press("yes\r");
        it.stands(&["ia 1.0", "ia 0.99"]);
        it.press("\u{1b}[A");
        it.stands(&["ia 1.5", "ia 1.49"]);
        it.press("\u{1b}[B");
        it.press("\u{1b}[B");
        it.stands(&["ia 0.5", "ia 0.49"]);
        it.press(last);
        it.shows("off after", 1);
        assert_eq!(it.exit(), 0, "{last:?}");
    }
}

const ASKING: &str = r#"
[plan]
title = "Asking"
asset = "q07-f1.asset.toml"
rig = "q07-f1.rig.toml"
[[test]]
id = "latched"
procedure = "trip-time"
element = "50P"
loops = ["A-N", "B-N"]
at = ["1.2 x"]
reset = "ask"
[[test]]
id = "after"
procedure = "trip-time"
element = "50P"
loops = ["A-N"]
at = ["1.5 x"]
"#;

/// At a prompt of a run: what is no answer is asked again, a skip wants a reason, a stop stops.
#[test]
fn keys_at_a_prompt_do_what_the_guide_says() {
    let site = Site::new();
    site.write("asking.plan.toml", ASKING);
    let start =
        |record: &str| Terminal::start(&site, &["run", "asking.plan.toml", "--record", record]);
    let prompt = "Reset the relay: ";
    let mut it = start("skip.run.jsonl");
    for (n, keys) in ["no\r", "p\r", "x\r"].into_iter().enumerate() {
        it.shows(prompt, n + 1);
        it.press(keys);
    }
    it.shows(prompt, 4);
    it.press("s\r");
    it.shows("Reason for skipping", 1);
    it.press("\r");
    it.shows("Reason for skipping", 2);
    it.press("panel is locked\r");
    assert_eq!(it.exit(), 5, "{}", it.seen());
    let record = site.read("skip.run.jsonl");
    assert!(record.contains("skipped: panel is locked"), "{record}");
    assert!(record.contains("\"id\":\"after/A-N/1.5x\""), "the next test is still done");
    let mut it = start("stop.run.jsonl");
    it.shows(prompt, 1);
    it.press("abort\r");
    assert_eq!(it.exit(), 4);
    let mut it = start("done.run.jsonl");
    // After the last point, too: what latches spoils the next test.
    for n in 1..=2 {
        it.shows(prompt, n);
        it.press("\r");
    }
    assert_eq!(it.exit(), 0, "{}", it.seen());
}

/// In the live view: a prompt is typed and confirmed, a skip asks for its reason there too, and the
/// emergency stop works while a question is open.
#[test]
fn the_live_view_takes_keys_at_prompts_and_between_them() {
    let site = Site::new();
    site.write("asking.plan.toml", ASKING);
    let start = |record: &str| {
        Terminal::start(&site, &["run", "asking.plan.toml", "--live", "--record", record])
    };
    let mut it = start("live.run.jsonl");
    it.stands(&["Reset the relay"]);
    it.press("no\r");
    it.stands(&["`no` is no answer"]);
    it.press("s\r");
    it.stands(&["Reason for skipping"]);
    it.press("no key\r");
    it.stands(&["any key"]);
    it.press("x");
    assert_eq!(it.exit(), 5, "{}", it.seen());
    assert!(site.read("live.run.jsonl").contains("skipped: no key"));
    for stop in ["\u{1b}", "\u{3}"] {
        let name = format!("stop-{}.run.jsonl", stop.len() + usize::from(stop.as_bytes()[0]));
        let mut it = start(&name);
        it.stands(&["Reset the relay"]);
        it.press(stop);
        assert_eq!(it.exit(), 4, "{}", it.seen());
        assert!(site.read(&name).contains("\"stopped\""));
    }
}

/// Every key that stops does so wherever somebody may press it in the live view, with outputs on or kept: only where a
/// text is typed the space bar is a part of it. The record says so, and what is on goes off.
#[test]
fn every_stop_key_stops_in_every_live_state() {
    let site = Site::new();
    site.edit("q07-f1.rig.toml", "seed = 11874", "seed = 11874\nconfirm = false");
    let plan = |script: &str| {
        let head =
            "[plan]\ntitle = \"k\"\nasset = \"q07-f1.asset.toml\"\nrig = \"q07-f1.rig.toml\"\n";
        let test = "[[test]]\nid = \"k\"\nprocedure = \"sequence\"\nscript = '''\n";
        site.write(
            "keys.plan.toml",
            &format!("{head}{test}{script}\nexpect true as \"went on\"\n'''\n"),
        );
    };
    let kept = "hold ia = 0.2 A for 100 ms";
    let states = [
        ("on", "hold ia = 0.2 A for 60 s".to_owned(), "OUTPUTS ON"),
        ("confirm", format!("{kept}\nask \"Look at it\"\nwait 1 s"), "Look at it"),
        (
            "choose",
            format!("{kept}\nask tap from [\"1\", \"2\"] \"Which tap\"\nwait 1 s"),
            "Which tap",
        ),
        (
            "number",
            format!("{kept}\nask delay: time \"How long\" from 0 s to 9 s\nwait 1 s"),
            "How long",
        ),
    ];
    let run = |record: &str| {
        let args = ["run", "keys.plan.toml", "--live", "--pace", "real", "--record", record];
        Terminal::start(&site, &args)
    };
    for (name, script, stands) in &states {
        plan(script);
        for (key, by) in [("\u{1b}", "esc"), ("\u{3}", "ctrl-c"), (" ", "space")] {
            let record = format!("{name}-{by}.run.jsonl");
            let mut it = run(&record);
            it.stands(&[stands]);
            it.stands(&["OUTPUTS ON"]);
            if *name != "on" {
                it.stands(&["outputs stay on"]);
            }
            it.press(key);
            assert_eq!(it.exit(), 4, "{name}, {by}: {}", it.seen());
            let text = site.read(&record);
            assert!(text.contains("\"stopped\"") && !text.contains("\"graded\""), "{name}, {by}");
        }
    }
    // A text that is being typed has its spaces.
    plan(&format!("{kept}\nask \"Look\""));
    let mut it = run("typed.run.jsonl");
    it.stands(&["Look"]);
    it.press("s\r");
    it.stands(&["Reason for skipping"]);
    it.press("no time at all\r");
    it.stands(&["any key"]);
    it.press("x");
    assert_eq!(it.exit(), 5, "{}", it.seen());
    assert!(site.read("typed.run.jsonl").contains("skipped: no time at all"));
}

/// What is not of an element has its chart, too: the band with its points as they appear, the contacts of a breaker as
/// bars in their rows, a pulse of current.
#[test]
fn the_live_view_draws_bands_contacts_and_pulses() {
    let site = Site::examples();
    let start = |plan: &str, only: &str| {
        let record = format!("{plan}.run.jsonl");
        let args = ["run", plan, "--live", "--only", only, "--record", &record];
        Terminal::sized(&site, &args, [40, 130])
    };
    let mut low = start("ns1-q1.plan.toml", "short-time/1.4x/L1/*");
    low.stands(&["NS1-Q1 · phase functions"]);
    low.stands(&["Current, A"]);
    assert!(!low.seen().contains('•'), "no point yet: {}", low.seen());
    low.stands(&["Take the leads to L1"]);
    low.press("ok\r");
    low.stands(&["•"]);
    low.stands(&["short-time/1.4x/L1/trip-time"]);
    low.stands(&["any key"]);
    low.press("x");
    assert_eq!(low.exit(), 0);
    let mut breaker = start("q05-cb.plan.toml", "operation/C/*");
    breaker.stands(&["operation/C"]);
    breaker.stands(&["Contacts, bar: closed"]);
    breaker.stands(&["L3"]);
    breaker.stands(&["any key"]);
    breaker.press("x");
    assert_eq!(breaker.exit(), 1, "a pole is late");
    let mut direct = start("tr1-q1.plan.toml", "trip-level/setting");
    direct.stands(&["level at which it opens"]);
    direct.stands(&["Rate of rise"]);
    direct.stands(&["any key"]);
    direct.press("x");
    assert_eq!(direct.exit(), 0);
}

/// A step that waits for the attendant's mark ends when `m` is typed, and in the live view pressed;
/// what else is typed meanwhile is not lost.
#[test]
fn a_mark_is_typed_or_pressed_while_something_is_put_out() {
    let site = Site::new();
    let plan = site.read("q07-f1.plan.toml");
    let head = &plan[..plan.find("[[test]]").unwrap()];
    site.write(
        "marked.plan.toml",
        &format!(
            "{head}[[test]]\nid = \"marked\"\nprocedure = \"sequence\"\nscript = \"\"\"\n\
             tell \"waiting now\"\nhold i = 0.5 A until mark, at most 15 s as watched\n\
             expect watched.time < 14 s as \"seen in time\"\n\"\"\"\n"
        ),
    );
    let run = ["run", "marked.plan.toml", "--pace", "real", "--record"];
    let mut plain = Terminal::start(&site, &[&run[..], &["a.run.jsonl"]].concat());
    plain.shows("waiting now", 1);
    plain.press("m\r");
    assert_eq!(plain.exit(), 0, "{}", plain.seen());
    let mut live =
        Terminal::sized(&site, &[&run[..], &["b.run.jsonl", "--live"]].concat(), [24, 80]);
    live.stands(&["OUTPUTS ON"]);
    live.press("m");
    live.stands(&["any key"]);
    live.press("x");
    assert_eq!(live.exit(), 0, "{}", live.seen());
}

/// While something is out, contacts and the time left stand on a line of any width.
#[test]
fn a_long_injection_shows_contacts_and_time_left_at_any_width() {
    let site = Site::new();
    for size in [[24, 80], [12, 40]] {
        let rest = ["--for", "3 s", "--pace", "real", "--yes"];
        let mut it =
            Terminal::sized(&site, &[&["inject", "ia=12 A"], &INJECT[2..], &rest].concat(), size);
        it.stands(&["no contact closed", "closed: "]);
        it.stands(&["closed: trip", "closed: start", "closed: earth"]);
        let screen = it.screen.lock().unwrap().screen().contents();
        let line = screen.lines().find(|l| l.contains("closed: ")).unwrap_or_default();
        assert!(line.contains("s left") || size[1] < 48, "{line:?}");
        // What it says last may be read after its end.
        it.shows("Measured at the end", 1);
        assert_eq!(it.exit(), 0, "{}", it.seen());
        let watch = [&["inject", "ia=3 A"], &INJECT[2..], &["--watch", "--yes"]].concat();
        let mut it = Terminal::sized(&site, &watch, size);
        it.stands(&["closed: trip", "closed: start", "closed: earth"]);
        it.press("q");
        it.shows("off after", 1);
        assert_eq!(it.exit(), 0);
    }
}

/// What matters is seen on any screen: the contact under test, the log, and that a key was taken.
#[test]
fn small_screens_show_the_contact_under_test_and_what_a_key_will_do() {
    let site = Site::new();
    site.edit("q07-f1.rig.toml", "seed = 11874", "seed = 11874\nconfirm = false");
    for size in [[24, 80], [12, 40]] {
        let record = format!("{}.run.jsonl", size[0]);
        let mut live = Terminal::sized(
            &site,
            &[
                "run",
                "q07-f1.plan.toml",
                "--only",
                "51N-times/A-N/2x",
                "--pace",
                "real",
                "--live",
                "--record",
                &record,
            ],
            size,
        );
        live.stands(&["OUTPUTS ON"]);
        live.stands(&["earth-fault trip"]);
        live.press("p");
        live.stands(&["pauses after this injection"]);
        live.press("\u{1b}");
        assert_ne!(live.exit(), 0);
    }
}

/// Readings live, a step with the arrow keys, and two takes that become a table and a record.
#[test]
fn readings_are_taken_down_while_keys_change_what_is_out() {
    let site = Site::examples();
    let args = [
        "inject",
        "vs=40 V",
        "--rig",
        "q07-ct.rig.toml",
        "--asset",
        "q07-ct.asset.toml",
        "--watch",
        "--yes",
        "--step",
        "50 %",
        "--read",
        "secondary voltage",
        "--derive",
        "ratio = secondary voltage / primary voltage",
        "--record",
        "takes.run.jsonl",
    ];
    let mut it = Terminal::start(&site, &args);
    it.stands(&["secondary voltage 40.0", "secondary voltage 39.9"]);
    it.press("t");
    it.shows("take 1", 1);
    it.press("\u{1b}[A");
    it.stands(&["secondary voltage 60.0", "secondary voltage 59.9"]);
    it.press("t");
    it.shows("take 2", 1);
    it.press("q");
    it.shows("waltron report takes.run.jsonl", 1);
    assert_eq!(it.exit(), 0);
    it.shows("same polarity", 1);
    let record = std::fs::read_to_string(site.dir.path().join("takes.run.jsonl")).unwrap();
    assert!(record.contains("take-2/ratio") && !record.contains("take-3/"));
    let value = |take: &str| -> f64 {
        let line =
            record.lines().find(|l| l.contains(&format!("\"id\":\"{take}/secondary"))).unwrap();
        let line: serde_json::Value = serde_json::from_str(line).unwrap();
        line["measured"]["value_v"].as_f64().unwrap()
    };
    assert!((value("take-1") - 40.0).abs() < 0.05 && (value("take-2") - 60.0).abs() < 0.05);
}

/// A small power transformer that charges in tenths of a second.
fn small_site(volts: f64) -> Site {
    let site = Site::new();
    site.write("t9.rig.toml", &small::rig(volts));
    site.write("t9.specimen.toml", small::SPECIMEN);
    site.write("t9.asset.toml", small::ASSET);
    let plan = small::PLAN.replace("bench.rig.toml", "t9.rig.toml");
    // One position is enough to look at.
    let plan = plan.replace("current = \"8 A\"", "current = \"8 A\"\npositions = [\"2\"]");
    site.write("t9.plan.toml", &plan);
    site
}

/// What is injected, how far the current is on its way, and that it is being discharged stand in the last line of a
/// plain terminal.
#[test]
fn charging_and_discharging_stand_in_the_last_line() {
    let site = small_site(12.0);
    let run = ["run", "t9.plan.toml", "--pace", "real", "--only", "w/2/U", "--yes"];
    let mut it = Terminal::start(&site, &run);
    it.shows("1U-1N · charge: winding current", 1);
    it.shows("A of 7.84 A", 1);
    it.press("\u{3}");
    it.shows("being discharged", 1);
    assert_eq!(it.exit(), 4, "{}", it.seen());
}

/// Wherever a resistance test is stopped, by `q`, by Ctrl-C, by the end of the terminal, the winding is discharged and
/// told so before the program ends; and what was graded stays.
#[test]
fn every_way_out_of_a_charged_winding_discharges_it() {
    let site = small_site(50.0);
    for (k, key) in ["q\r", "\u{3}", "\u{3}\u{3}"].into_iter().enumerate() {
        let record = format!("{k}.run.jsonl");
        let run = ["run", "t9.plan.toml", "--pace", "real", "--record", &record];
        let mut it = Terminal::start(&site, &run);
        it.shows("Set OLTC to 2; outputs are off", 1);
        it.press("\r");
        it.shows("1U-1N · charge", 1);
        std::thread::sleep(Duration::from_millis(400));
        it.press(key);
        it.shows("being discharged", 1);
        assert_eq!(it.exit(), 4, "{key:?}: {}", it.seen());
        let text = site.read(&record);
        let last = text.lines().rfind(|line| line.contains("\"discharge\""));
        let is_done = last.is_none_or(|line| line.contains("\"is_done\":true"));
        assert!(is_done, "{key:?}: {last:?}");
    }
}
