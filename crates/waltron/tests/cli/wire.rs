//! The test set on TCP: the same values as in the process, its commands, and servers that misbehave.

use crate::every::{RECORD, named, samples};
use crate::support::{Done, Site};
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A served test set; it ends with this.
struct Served {
    child: Child,
    address: String,
}

impl Served {
    fn new(site: &Site, rig: &str, more: &[&str]) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_waltron"))
            .args(["rig", "serve", rig, "--listen", "127.0.0.1:0"])
            .args(more)
            .current_dir(site.dir.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.split_whitespace().nth(3).unwrap().trim_end_matches(',').to_owned();
        Self { child, address }
    }

    fn client(&self) -> Client {
        Client::to(&self.address)
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// An ordinary client: lines out, lines in.
struct Client(BufReader<TcpStream>);

impl Client {
    fn to(address: &str) -> Self {
        let stream = TcpStream::connect(address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        Self(BufReader::new(stream))
    }

    fn tell(&mut self, message: &str) {
        self.0.get_mut().write_all(format!("{message}\n").as_bytes()).unwrap();
    }

    fn ask(&mut self, query: &str) -> String {
        self.tell(query);
        let mut line = String::new();
        self.0.read_line(&mut line).unwrap();
        line.trim_end().to_owned()
    }

    fn ask_block(&mut self, query: &str) -> Vec<u8> {
        self.tell(query);
        let mut head = [0; 2];
        self.0.read_exact(&mut head).unwrap();
        let mut digits = vec![0; usize::from(head[1] - b'0')];
        self.0.read_exact(&mut digits).unwrap();
        let length: usize = std::str::from_utf8(&digits).unwrap().parse().unwrap();
        let mut bytes = vec![0; length + 1];
        self.0.read_exact(&mut bytes).unwrap();
        assert_eq!(bytes.pop(), Some(b'\n'));
        bytes
    }
}

/// A rig file that goes over the wire in place of one that computes.
fn over_the_wire(site: &Site, rig: &str, address: &str) {
    let text = site.read(rig);
    let specimen = text.lines().find(|l| l.starts_with("specimen")).unwrap();
    let text = text
        .replace("kind = \"virtual\"", "kind = \"scpi\"")
        .replace(specimen, &format!("address = \"{address}\""));
    site.write("bench.rig.toml", &text);
}

/// The points of a plan, in the process and over the wire.
fn both(site: &Site, asset: &str, seed: &str) -> [Value; 2] {
    let rig = format!("{asset}.rig.toml");
    let served = Served::new(site, &rig, &[]);
    over_the_wire(site, &rig, &served.address);
    let plan = format!("{asset}.plan.toml");
    let run = |rig: &str, record: &str| {
        let args = ["run", &plan, "--rig", rig, "--seed", seed, "--yes", "--format", "json"];
        let done = site.waltron(&[&args[..], &["--record", record]].concat());
        assert!(done.code() < 2, "{}{}", done.out(), done.err());
        done.json()["points"].clone()
    };
    let (a, b) = (format!("{asset}-{seed}-here"), format!("{asset}-{seed}-there"));
    [run(&rig, &format!("{a}.run.jsonl")), run("bench.rig.toml", &format!("{b}.run.jsonl"))]
}

/// Whether two answers are the same but for their last digits, which angles lose in degrees; what is estimated
/// from small differences of readings loses more of them (`within`: values, estimates).
fn same(a: &Value, b: &Value, within: [f64; 2]) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => {
            let (a, b) = (a.as_f64().unwrap(), b.as_f64().unwrap());
            (a - b).abs() <= within[0] * a.abs().max(1e-3)
        }
        (Value::Array(a), Value::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b, within))
        }
        (Value::Object(a), Value::Object(b)) => {
            let within = |k: &str| {
                if k.starts_with("u_") { [within[1]; 2] } else { within }
            };
            let holds = |(k, v): (&String, &Value)| b.get(k).is_some_and(|w| same(v, w, within(k)));
            a.len() == b.len() && a.iter().all(holds)
        }
        (Value::String(a), Value::String(b)) => {
            let words = |text: &str| text.replace(|c: char| c.is_ascii_digit(), "");
            words(a) == words(b)
        }
        _ => a == b,
    }
}

/// Built-in procedures, sequences with voltages, frequencies and recordings, set parameters and
/// readings: everything that goes over the wire.
#[test]
fn the_same_plan_gives_the_same_values_in_the_process_and_over_the_wire() {
    let demo = Site::new();
    for (asset, seed) in [("q07-f1", "1"), ("q07-f1", "99"), ("q08-f2", "7")] {
        let [here, there] = both(&demo, asset, seed);
        assert!(here.as_array().unwrap().len() > 5);
        assert!(same(&here, &there, [1e-8; 2]), "{asset} with seed {seed}: {here} {there}");
    }
}

/// Every family's procedures, whatever they measure, keep on, discharge and wait for.
#[test]
fn every_sample_gives_the_same_values_over_the_wire() {
    let site = Site::examples();
    for sample in samples(&site) {
        let rig = named(&site.read(&sample.plan), "rig").unwrap();
        let served = Served::new(&site, &rig, &[]);
        over_the_wire(&site, &rig, &served.address);
        let [here, there] = [rig.as_str(), "bench.rig.toml"].map(|rig| {
            for file in site.files().iter().filter(|file| file.starts_with(RECORD)) {
                std::fs::remove_file(site.dir.path().join(file)).unwrap();
            }
            let done = sample.run(&site, &["--rig", rig, "--seed", "3"]);
            (done.code(), done.json()["points"].clone())
        });
        assert_eq!(here.0, there.0, "{}", sample.plan);
        let (here, there) = (here.1.as_array().unwrap(), there.1.as_array().unwrap());
        assert!(!here.is_empty() && here.len() == there.len(), "{}", sample.plan);
        for (here, there) in here.iter().zip(there) {
            assert_eq!([&here["id"], &here["verdict"]], [&there["id"], &there["verdict"]]);
            assert!(same(here, there, [1e-6; 2]), "{}: {here}\n{there}", sample.plan);
        }
    }
}

/// What any client of SCPI instruments tries first (IEEE 488.2, 10; SCPI-1999 volume 2, 21).
#[test]
fn an_ordinary_client_gets_sane_answers() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &[]);
    let mut c = served.client();
    let identity = c.ask("*IDN?");
    assert_eq!(identity.split(',').count(), 4, "{identity}");
    for (query, answer) in [
        ("*ESR?", "128"),
        ("*ESR?", "0"),
        ("*STB?", "0"),
        ("*OPC?", "1"),
        ("*TST?", "0"),
        ("SYST:VERS?", "1999.0"),
        ("SYSTEM:ERROR:NEXT?", "0,\"No error\""),
        ("syst:err:coun?", "0"),
        ("*ESE 60;*ESE?;*SRE 32;*SRE?", "60;32"),
        ("OUTP?;OUTP:STAT?", "0;0"),
        ("STAT:OPER:COND?;:STAT:QUES?", "0;0"),
        ("SYST:WATC?", "2.0E+0"),
        ("FORM:BORD?", "NORM"),
    ] {
        assert_eq!(c.ask(query), answer, "{query}");
    }
    c.tell("NONSENSE 1;*ESE 300;:SYST:WATC 3 V;:INIT;:OUTP 1;*IDN");
    assert_eq!(c.ask("*STB?"), "100", "queue, event summary, service request");
    assert_eq!(c.ask("*ESR?"), "48", "command and execution errors");
    let numbers: Vec<i32> =
        (0..7).map(|_| c.ask("SYST:ERR?").split(',').next().unwrap().parse().unwrap()).collect();
    assert_eq!(numbers, [-113, -222, -131, -221, -221, -113, 0]);
    c.tell("*OPC");
    assert_eq!(c.ask("*ESR?"), "1");
    let headers = String::from_utf8(c.ask_block("SYST:HELP:HEAD?")).unwrap();
    assert!(headers.split(',').any(|h| h == "SYSTem:ERRor[:NEXT]?") && headers.contains("*IDN?"));
}

/// By hand, without JSON: 2.4 A is twice the pickup; the specimen's curve takes
/// 13.5·0.33/(2.4/1.204 − 1) = 4.486 s and 15 ms of delays.
#[test]
fn a_program_is_entered_line_by_line_played_and_fetched() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &[]);
    let mut c = served.client();
    c.tell("*RST;:PROG:SEGM:NEW \"fault\";CURR ia,2400 MA,0 DEG,50 HZ;TIME 8 S;STOP \"trip\",ON");
    assert_eq!(c.ask("INIT;*OPC?;:PROG:STAT?;:SYST:ERR:COUN?"), "1;DONE,0;0");
    let time: f64 = c.ask("FETC:TIME?").parse().unwrap();
    assert!((time - 4.501).abs() < 0.03, "{time}");
    let events = c.ask("FETC:EVEN?");
    assert!(events.contains("\"start\",ON,") && events.contains("\"trip\",ON,4."), "{events}");
    let wave = c.ask_block("FETC:WAV? ia,1000 HZ");
    let samples: Vec<f32> =
        wave.chunks_exact(4).map(|b| f32::from_be_bytes(b.try_into().unwrap())).collect();
    let peak = samples.iter().copied().fold(0.0, f32::max);
    assert!((samples.len() as f64 - time * 1000.0).abs() < 2.0 && (peak - 3.394).abs() < 0.001);
    c.tell("PROG:SEGM:NEW \"too much\";CURR ib,40 A;TIME 1 S;:INIT");
    assert!(c.ask("SYST:ERR?").contains("above the rig's range"));
    assert_eq!(c.ask("OUTP?"), "0");
}

#[test]
fn one_client_controls_the_others_read_and_everybody_can_switch_off() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &["--pace", "real"]);
    let (mut first, mut second) = (served.client(), served.client());
    first.tell("PROG:SEGM:NEW \"long\";CURR ia,1 A;TIME 60 S;:INIT");
    let until = Instant::now() + Duration::from_secs(2);
    while second.ask("OUTP?") != "1" {
        assert!(Instant::now() < until);
    }
    assert_eq!(second.ask("SYST:LOCK:REQ?"), "0");
    second.tell("*RST");
    assert!(second.ask("SYST:ERR?").starts_with("-203,"), "a reader does not reset");
    assert!(second.ask("MEAS:OUTP?").starts_with("\"ia\",1.0E+0,A"));
    let probed = site.waltron(&["rig", "probe", &served.address]).exits(0).out();
    assert!(
        probed.contains("controlled by client") && probed.contains("OUTPUTS ARE ON"),
        "{probed}"
    );
    over_the_wire(&site, "q07-f1.rig.toml", &served.address);
    let refused = site.waltron(&["run", "q07-f1.plan.toml", "--rig", "bench.rig.toml"]).exits(3);
    assert!(refused.err().contains("another client") && refused.err().contains("controls"));
    second.tell("OUTP OFF");
    assert_eq!(second.ask("OUTP?"), "0");
    assert_eq!(first.ask("PROG:STAT?"), "DONE,0");
    assert!(String::from_utf8(first.ask_block("FETC:OBS?")).unwrap().contains("aborted"));
    let who = format!("\"client {}: OUTPut OFF\"", second.ask("SYST:CLI?"));
    assert_eq!(first.ask("PROG:STAT:CAUS?"), who);
    drop(first);
    let until = Instant::now() + Duration::from_secs(2);
    while second.ask("SYST:LOCK:OWN?") != "0" {
        assert!(Instant::now() < until, "who left does not control");
    }
    assert_eq!(second.ask("SYST:LOCK:REQ?"), "1");
}

/// Nothing that a client left behind is done once it has gone, whatever of it still waits; an unclosed
/// quotation mark swallows no command; bytes that are no message are no sign of life.
#[test]
fn what_a_client_left_behind_is_not_done() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &["--pace", "real"]);
    let mut reader = served.client();
    let begin = "PROG:DEL;SEGM:NEW \"long\";CURR ia,1 A;TIME 60 S;:INIT";
    let off_within = |reader: &mut Client, time: Duration, what: &str| {
        let until = Instant::now() + time;
        // Once off, it stays off.
        let mut off = 0;
        while off < 20 {
            off = if reader.ask("OUTP?") == "0" { off + 1 } else { 0 };
            assert!(Instant::now() < until, "{what}: still on");
            std::thread::sleep(Duration::from_millis(5));
        }
    };
    let beats = "SYST:HEAR\n".repeat(400);
    let many = format!("{begin};*OPC?\n{beats}INIT;*OPC?");
    for behind in [
        format!("{begin};*OPC?;:INIT;*OPC?"),
        format!("{begin}\n*WAI;:INIT;*WAI\nINIT\n*OPC?\nINIT"),
        many,
    ] {
        let mut gone = served.client();
        gone.tell(&behind);
        let until = Instant::now() + Duration::from_secs(2);
        while reader.ask("OUTP?") != "1" {
            assert!(Instant::now() < until, "{behind}");
        }
        drop(gone);
        off_within(&mut reader, Duration::from_secs(2), &behind[..80.min(behind.len())]);
        assert_eq!(reader.ask("SYST:LOCK:OWN?"), "0");
    }
    // Another client's waiting neither feeds the watchdog nor breaks it.
    let mut silent = served.client();
    silent.tell(&format!("SYST:WATC 300 MS;:{begin}"));
    let mut waits = served.client();
    waits.tell("*OPC?");
    off_within(&mut reader, Duration::from_secs(2), "a silent controller while another waits");
    let cause = reader.ask("PROG:STAT:CAUS?");
    assert!(cause.contains("watchdog") && cause.contains("silent"), "{cause}");
    // Who waits for an answer cannot speak; its connection is the sign of life.
    let mut patient = served.client();
    patient.tell(&format!("SYST:WATC 300 MS;:{begin}"));
    assert_eq!(patient.ask("PROG:STAT? 1.2 S"), "PLAY,0");
    patient.tell("ABOR;SYST:LOCK:REL");
    // A message that never ends is no life, and what follows it is still heard.
    let mut open = served.client();
    open.tell(&format!("SYST:WATC 300 MS;:{begin}"));
    for _ in 0..40 {
        open.0.get_mut().write_all(b"SYST:LOG \"abc").unwrap();
        std::thread::sleep(Duration::from_millis(20));
    }
    off_within(&mut reader, Duration::from_secs(1), "a message without end");
    let mut quoted = served.client();
    quoted.tell(&format!("SYST:WATC OFF;:{begin}"));
    quoted.tell("PROG:SEGM:NEW \"never closed");
    quoted.tell("ABOR");
    off_within(&mut reader, Duration::from_secs(1), "ABOR behind an open quotation mark");
}

/// A run that somebody else switches off says who did it, and proves nothing.
#[test]
fn a_run_that_another_client_switches_off_names_it() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &["--pace", "real"]);
    let mut other = served.client();
    over_the_wire(&site, "q07-f1.rig.toml", &served.address);
    let run = std::thread::scope(|scope| {
        let run = scope.spawn(|| {
            site.waltron(&["run", "q07-f1.plan.toml", "--rig", "bench.rig.toml", "--yes"])
        });
        let until = Instant::now() + Duration::from_secs(30);
        while other.ask("OUTP?") != "1" {
            assert!(Instant::now() < until, "never energised");
        }
        other.tell("ABOR");
        run.join().unwrap()
    });
    let said = run.exits(3).out();
    let who = format!("client {}: ABORt", other.ask("SYST:CLI?"));
    assert!(said.contains("switched off") && said.contains(&who), "{said}");
    assert_eq!(other.ask("OUTP?"), "0");
}

/// A server that says what it is told to, and then hangs up or falls silent.
fn fake(answer: impl Fn(&str) -> Option<Vec<u8>> + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut lines = BufReader::new(stream.try_clone().unwrap());
            let (mut line, mut stream) = (String::new(), stream);
            while lines.read_line(&mut line).is_ok_and(|n| n > 0) {
                match answer(line.trim()) {
                    Some(bytes) => {
                        if stream.write_all(&bytes).is_err() {
                            break;
                        }
                    }
                    None => break,
                }
                line.clear();
            }
        }
    });
    address
}

#[track_caller]
fn probe_fails(address: &str, because: &str) -> Done {
    let site = Site::new();
    let began = Instant::now();
    let done = site.waltron(&["rig", "probe", address]).exits(3);
    assert!(done.err().contains(because), "{}", done.err());
    assert!(began.elapsed() < Duration::from_secs(8), "nothing is waited for in vain");
    done
}

#[test]
fn servers_that_answer_nonsense_are_told_apart() {
    probe_fails(&fake(|_| Some(b"hello\n".to_vec())), "makes no sense");
    probe_fails(&fake(|_| Some(vec![0xff, 0xfe, b'\n'])), "it is no text");
    probe_fails(&fake(|_| Some(b"Maker,Model,0".to_vec())), "the answer has no end");
    probe_fails(&fake(|_| Some(Vec::new())), "not answered in time");
    probe_fails(&fake(|_| None), "closed at the other end");
    probe_fails(&fake(|_| Some(vec![b'x'; 3 << 20])), "its line has no end");
    probe_fails(&fake(|_| Some(b"A,B,C,D\nmore\n".to_vec())), "before it was asked for");
    let escape = fake(|_| Some(b"A,\x1b[2J\n".to_vec()));
    assert!(!probe_fails(&escape, "makes no sense").err().contains('\u{1b}'));
    let nobody = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    probe_fails(&nobody, "nothing answers");
    probe_fails("nowhere", "nothing answers");
    let other = fake(|query| {
        Some(match query {
            "*IDN?" => b"Pellow,Bench meter,77,1.0\n".to_vec(),
            _ => b"0\n".to_vec(),
        })
    });
    let site = Site::new();
    assert!(
        site.waltron(&["rig", "probe", &other]).exits(0).out().contains("no test set that plays")
    );
}

/// A proxy that hangs up, or falls silent, after a number of bytes from the test set.
fn proxy(to: &str, after: usize, silent: bool) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (address, to) = (listener.local_addr().unwrap().to_string(), to.to_owned());
    std::thread::spawn(move || {
        let (near, far) = (listener.accept().unwrap().0, TcpStream::connect(to).unwrap());
        let (mut near_in, mut far_out) = (near.try_clone().unwrap(), far.try_clone().unwrap());
        std::thread::spawn(move || std::io::copy(&mut near_in, &mut far_out));
        let mut passed = (&far).take(after as u64);
        let _ = std::io::copy(&mut passed, &mut &near);
        if silent {
            std::thread::sleep(Duration::from_secs(20));
        }
        let _ = near.shutdown(std::net::Shutdown::Both);
        let _ = far.shutdown(std::net::Shutdown::Both);
    });
    address
}

#[test]
fn a_line_that_breaks_in_any_phase_ends_the_run_in_order() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &[]);
    for (n, after) in
        [0, 5, 60, 300, 1055, 1060, 1100, 1300, 2000, 3000, 5000].into_iter().enumerate()
    {
        let address = proxy(&served.address, after, false);
        over_the_wire(&site, "q07-f1.rig.toml", &address);
        let record = format!("cut{n}.run.jsonl");
        let args = ["run", "q07-f1.plan.toml", "--rig", "bench.rig.toml", "--record", &record];
        let done = site.waltron(&args).exits(3);
        let all = done.out() + &done.err();
        assert!(all.contains("connection to") || all.contains("makes no sense"), "{after}: {all}");
        let until = Instant::now() + Duration::from_secs(2);
        while served.client().ask("OUTP?;:SYST:LOCK:OWN?") != "0;0" {
            assert!(Instant::now() < until, "outputs off and control free after {after} bytes");
        }
        if site.files().contains(&record) {
            let page = format!("cut{n}.html");
            site.waltron(&["report", &record, "-o", &page]).exits(0);
        }
    }
    let address = proxy(&served.address, 1400, true);
    over_the_wire(&site, "q07-f1.rig.toml", &address);
    let args =
        ["run", "q07-f1.plan.toml", "--rig", "bench.rig.toml", "--record", "silent.run.jsonl"];
    let done = site.waltron(&args).exits(3);
    assert!(
        done.out().contains("not answered in time") || done.out().contains("has no end"),
        "{}",
        done.out()
    );
}

#[test]
fn a_test_set_that_is_not_as_the_rig_file_says_is_not_energised() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &[]);
    over_the_wire(&site, "q07-f1.rig.toml", &served.address);
    site.edit("bench.rig.toml", "range = \"32 A\"", "range = \"50 A\"");
    site.edit("bench.rig.toml", "meaning = \"start\"", "meaning = \"pickup\"");
    let done = site.waltron(&["run", "q08-f2.plan.toml", "--rig", "bench.rig.toml"]);
    let why = done.err();
    assert!(done.code() == 2 || done.code() == 3, "{why}");
    site.edit("bench.rig.toml", "meaning = \"pickup\"", "meaning = \"start\"");
    let done = site.waltron(&["run", "q07-f1.plan.toml", "--rig", "bench.rig.toml"]).exits(3);
    assert!(done.err().contains("output `ia` goes up to 32 A, not 50 A"), "{}", done.err());
    assert!(
        !site.files().iter().any(|f| f.contains("q07-f1.2")),
        "no record of what did not begin"
    );
}

#[test]
fn serving_refuses_what_cannot_be_served() {
    let site = Site::new();
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    let done = site.waltron(&["rig", "serve", "q07-f1.rig.toml", "--listen", &address]).exits(3);
    assert!(done.err().contains("cannot listen") && done.err().contains("port 0"));
    over_the_wire(&site, "q07-f1.rig.toml", "127.0.0.1:1");
    assert!(
        site.waltron(&["rig", "serve", "bench.rig.toml"]).exits(2).err().contains("virtual rig")
    );
    let listed = site.waltron(&["rig", "list", "q07-f1.rig.toml"]).exits(0).out();
    assert!(
        listed.contains("output  ia")
            && listed.contains("BI3")
            && listed.contains("earth-fault trip")
    );
}

/// An output that is held while the attendant changes a tap: the heartbeat keeps it on for longer
/// than the watchdog allows a silent controller.
#[test]
fn an_output_stays_on_while_a_prompt_waits() {
    let site = Site::new();
    let served = Served::new(&site, "q07-f1.rig.toml", &["--pace", "real"]);
    over_the_wire(&site, "q07-f1.rig.toml", &served.address);
    site.write(
        "tap.seq",
        "hold ia = 0.5 A for 50 ms\nask \"Change the tap\"\nhold ia = 0.5 A for 50 ms then off\n\
         expect no trip as \"quiet\"\n",
    );
    site.write(
        "tap.plan.toml",
        "[plan]\ntitle = \"Tap\"\nasset = \"q07-f1.asset.toml\"\nrig = \"bench.rig.toml\"\n\
         [[test]]\nid = \"tap\"\nprocedure = \"sequence\"\nscript = \"tap.seq\"\n",
    );
    let mut run = Command::new(env!("CARGO_BIN_EXE_waltron"))
        .args(["run", "tap.plan.toml", "--record", "tap.run.jsonl"])
        .current_dir(site.dir.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut reader = served.client();
    let until = Instant::now() + Duration::from_secs(5);
    while reader.ask("OUTP?") != "1" {
        assert!(Instant::now() < until);
    }
    // Three times the watchdog's 400 ms.
    std::thread::sleep(Duration::from_millis(1200));
    assert_eq!(reader.ask("OUTP?"), "1", "it stays on while the attendant works");
    run.stdin.take().unwrap().write_all(b"\n").unwrap();
    assert_eq!(run.wait().unwrap().code(), Some(0));
    assert_eq!(reader.ask("OUTP?"), "0");
    assert!(site.read("tap.run.jsonl").contains("\"answered\""));
}
