//! Instruments beside the rig, messages of their own, and external programs.

use crate::support::{Site, points};
use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};
use std::time::Instant;

/// A supply that rises to its set voltage within half a second of being switched on; what it was
/// told, in order. It hangs up on `hangs up` as an answer, and is there no more after `dies`.
fn supply(
    answer: impl Fn(&str) -> Option<String> + Send + 'static,
) -> (String, Arc<Mutex<Vec<String>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let told = Arc::new(Mutex::new(Vec::new()));
    let log = Arc::clone(&told);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (mut volts, mut since) = (0.0, None::<Instant>);
            let mut writer = stream.try_clone().unwrap();
            for line in BufReader::new(stream).lines().map_while(Result::ok) {
                log.lock().unwrap().push(line.clone());
                let said = match line.as_str() {
                    "*IDN?" => Some("Pellow,Supply 3,7,1.0".to_owned()),
                    "OUTP ON" => {
                        since = Some(Instant::now());
                        None
                    }
                    "OUTP OFF" => {
                        since = None;
                        None
                    }
                    "MEAS:VOLT?" => Some(answer(&line).unwrap_or_else(|| {
                        let rise =
                            since.map_or(0.0, |s| (s.elapsed().as_secs_f64() / 0.5).min(1.0));
                        format!("{:.4}E0 V", volts * rise)
                    })),
                    other => {
                        if let Some(v) = other.strip_prefix("VOLT ") {
                            volts = v.parse().unwrap();
                        }
                        None
                    }
                };
                match said.as_deref() {
                    Some("hangs up") => break,
                    Some("dies") => return,
                    _ => {}
                }
                if let Some(said) = said
                    && writeln!(writer, "{said}").is_err()
                {
                    break;
                }
            }
        }
    });
    (address, told)
}

const INSTRUMENT: &str = r#"
[instrument]
name = "psu"
address = "ADDRESS"
identity = "Pellow,Supply*"
off = ["OUTP OFF"]
[[set]]
name = "bench.voltage"
takes = "voltage"
most = "30 V"
command = "VOLT {value}"
[[set]]
name = "bench.output"
on = "OUTP ON"
off = "OUTP OFF"
[[measure]]
name = "bench.volts"
measures = "voltage"
accuracy = "0.1 % + 1 mV"
query = "MEAS:VOLT?"
"#;

const SCRIPT: &str = r#"set bench.voltage = 24 V
set bench.output = on
wait until bench.volts > 20 V, at most 5 s as rise
read u = bench.volts over 300 ms
expect u is 24 V within 1 % as "voltage"
send "DISP:TEXT 'on'" to psu
send "*IDN?" to psu as identity
tell identity
expect rise.time between 100 ms and 3 s as "rise"
"#;

fn bench(address: &str, script: &str) -> Site {
    let site = Site::new();
    site.write("psu.instrument.toml", &INSTRUMENT.replace("ADDRESS", address));
    site.edit(
        "q07-f1.rig.toml",
        "seed = 11874",
        "seed = 11874\ninstruments = [\"psu.instrument.toml\"]",
    );
    site.write("bench.seq", script);
    site.write(
        "bench.plan.toml",
        "[plan]\ntitle = \"Bench\"\nasset = \"q07-f1.asset.toml\"\nrig = \"q07-f1.rig.toml\"\n\
         [grading]\nrule = \"guarded\"\n\
         [[test]]\nid = \"supply\"\nprocedure = \"sequence\"\nscript = \"bench.seq\"\n",
    );
    site
}

#[test]
fn a_sequence_uses_an_instrument_by_name_and_states_the_timing_uncertainty() {
    let (address, told) = supply(|_| None);
    let site = bench(&address, SCRIPT);
    let run = site
        .waltron(&[
            "run",
            "bench.plan.toml",
            "--yes",
            "--record",
            "r.run.jsonl",
            "--format",
            "json",
        ])
        .exits(0)
        .json();
    let all = points(&run, "supply/");
    let volts = all[0]["measured"]["value_v"].as_f64().unwrap();
    assert!((volts - 24.0).abs() < 0.01, "{volts}");
    let told = told.lock().unwrap().clone();
    assert_eq!(told[..3], ["*IDN?", "VOLT 2.4E+1", "OUTP ON"]);
    assert!(told.contains(&"DISP:TEXT 'on'".to_owned()));
    assert_eq!(
        told[told.len() - 3..],
        ["OUTP OFF", "OUTP OFF", "*IDN?"],
        "off, and it has heard it"
    );
    let record = site.read("r.run.jsonl");
    assert!(record.contains("\"host_timing_s\"") && record.contains("Pellow,Supply 3"), "{record}");
    // Looked at every 10 ms or so, by a computer that has other things to do: the longest that it was away is a limit, and
    // rules, however long that was.
    let away = record
        .split("\"host_timing_s\":")
        .skip(1)
        .map(|rest| rest.split([',', '}']).next().unwrap().parse::<f64>().unwrap());
    let limit = 2.0 * away.fold(0.0, f64::max) / 3f64.sqrt();
    let u = all[1]["uncertainty"]["u_s"].as_f64().unwrap();
    assert!(limit > 5e-4 && (limit..1.1 * limit + 0.002).contains(&(u * 1.0001)), "{u} {limit}");
}

#[test]
fn instruments_that_misbehave_end_the_run_in_order_and_are_switched_off() {
    let (address, told) = supply(|_| Some("what?".to_owned()));
    let site = bench(&address, SCRIPT);
    let done =
        site.waltron(&["run", "bench.plan.toml", "--yes", "--record", "r.run.jsonl"]).exits(3);
    assert!(done.out().contains("a number was wanted"), "{}", done.out());
    assert!(told.lock().unwrap().ends_with(&["OUTP OFF".to_owned(), "*IDN?".to_owned()]));
    let (address, _) = supply(|_| Some("9.9E37".to_owned()));
    site.write("psu.instrument.toml", &INSTRUMENT.replace("ADDRESS", &address));
    let done =
        site.waltron(&["run", "bench.plan.toml", "--yes", "--record", "n.run.jsonl"]).exits(3);
    assert!(done.out().contains("a number was wanted"), "not-a-number is no value");
    site.edit("psu.instrument.toml", "Pellow,Supply*", "Corvane*");
    let done =
        site.waltron(&["run", "bench.plan.toml", "--yes", "--record", "i.run.jsonl"]).exits(3);
    assert!(done.err().contains("calls itself `Pellow,Supply 3,7,1.0`"), "{}", done.err());
}

/// What was set on an instrument goes off over a new line where its own has broken; where there is none, it is told,
/// in the record too, and asked about before anything else is tested.
#[test]
fn an_instrument_whose_line_breaks_is_switched_off_or_named() {
    let (address, told) = supply(|_| Some("hangs up".to_owned()));
    let site = bench(&address, SCRIPT);
    let run = ["run", "bench.plan.toml", "--yes", "--record", "r.run.jsonl"];
    let out = site.waltron(&run).exits(3).out();
    assert!(out.contains("it was closed at the other end") && !out.contains("by hand"), "{out}");
    let last = told.lock().unwrap().iter().rev().take(4).rev().cloned().collect::<Vec<_>>();
    assert_eq!(last, ["*IDN?", "OUTP OFF", "OUTP OFF", "*IDN?"]);

    let (address, _) = supply(|_| Some("dies".to_owned()));
    let site = bench(&address, SCRIPT);
    let out = site.waltron(&run).exits(3).out();
    for part in ["`bench.voltage`, `bench.output` may still be on", "switch it off by hand"] {
        assert!(out.contains(part), "{out}");
    }
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    assert!(
        site.read("r.html").contains("Switch instrument <code>psu</code> off by hand")
            || site.read("r.html").contains("Switch instrument `psu` off by hand")
    );
    // It is there again, and the run goes on once somebody has seen to it.
    let (address, _) = supply(|_| None);
    site.write("psu.instrument.toml", &INSTRUMENT.replace("ADDRESS", &address));
    let resume =
        ["run", "bench.plan.toml", "--resume", "--record", "r.run.jsonl", "--format", "json"];
    let told = site.waltron(&[&resume[..], &["--yes"]].concat()).exits(4).out();
    assert!(told.contains("Switch instrument `psu` off by hand"), "{told}");
}

#[test]
fn mistakes_in_instruments_and_their_use_are_shown_at_their_place() {
    let (address, _) = supply(|_| None);
    let fails = |script: &str, because: &str| {
        let site = bench(&address, script);
        let done = site.waltron(&["run", "bench.plan.toml", "--yes"]).exits(2);
        assert!(done.err().contains(because), "{}", done.err());
        assert!(!site.files().iter().any(|f| f.ends_with(".run.jsonl")));
    };
    fails("send \"X\" to spu\n", "did you mean `psu`?");
    fails("set bench.voltage = 40 V\n", "30 V");
    fails(
        "guard bench.volts >= 20 V\nthen fail \"too much\"\n\
         hold ia = 1 A until bench.volts >= 5 V, at most 1 s then off\n",
        "only one condition on instruments",
    );
    fails("run \"echo\" \"x\", at most 1 s\n", "--allow-exec");
    fails("run \"echo\"\n", "most");
    let site = bench(&address, SCRIPT);
    site.edit("psu.instrument.toml", "command = \"VOLT {value}\"", "command = \"VOLT\"");
    site.edit("psu.instrument.toml", "address", "adress");
    let err = site.waltron(&["check", "bench.plan.toml"]).exits(2).err();
    assert!(err.contains("unknown key `adress`"), "{err}");
    site.edit("psu.instrument.toml", "adress", "address");
    let err = site.waltron(&["check", "bench.plan.toml"]).exits(2).err();
    assert!(err.contains("has no {value}"), "{err}");
}

#[cfg(unix)]
#[test]
fn an_external_program_runs_only_when_allowed_and_its_output_is_recorded() {
    let (address, _) = supply(|_| None);
    let script = "run \"echo\" \"$HOME; a b\", at most 5 s as said\ntell said\n\
                  expect said == \"$HOME; a b\" as \"no shell\"\n\
                  run \"sh\" \"-c\" \"exit 4\", at most 5 s\nexpect true as \"never reached\"\n";
    let site = bench(&address, script);
    site.waltron(&["run", "bench.plan.toml", "--yes"]).exits(2);
    let args = [
        "run",
        "bench.plan.toml",
        "--yes",
        "--allow-exec",
        "--record",
        "r.run.jsonl",
        "--format",
        "json",
    ];
    let run = site.waltron(&args).exits(5).json();
    let all = points(&run, "supply/");
    assert_eq!(all[0]["verdict"], "pass", "{all:?}");
    assert_eq!(all[1]["verdict"], "inconclusive");
    assert!(all[1]["reason"].as_str().unwrap().contains("exit status: 4"), "{}", all[1]);
    assert_eq!(all.len(), 3, "what follows is not done");
    assert_eq!(all[2]["verdict"], "not_tested");
    assert!(all[2]["reason"].as_str().unwrap().starts_with("not reached: "), "{}", all[2]);
    assert!(site.read("r.run.jsonl").contains("\"executed\""));
}
