//! What survives when either side is killed: every graded point, and no output that is on.

use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

const CLIENT_KILLS: usize = 120;
const SERVER_KILLS: usize = 90;

/// Outputs must be off this long after a controller's death.
const OFF_WITHIN: Duration = Duration::from_millis(500);

const PLAN: &str = r#"
[plan]
title = "Many short points"
asset = "q07-f1.asset.toml"
rig = "bench.rig.toml"
[[test]]
id = "50P-times"
procedure = "trip-time"
element = "50P"
loops = ["A-N", "B-N", "C-N"]
at = ["1.2 x", "2 x"]
repeat = 8
rest = "30 ms"
"#;

/// A folder with a plan of short points and a test set in real time.
struct Bench {
    dir: TempDir,
    server: Option<Child>,
    port: u16,
    random: u64,
}

impl Bench {
    fn new(seed: u64) -> Self {
        let dir = TempDir::new().unwrap();
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
        for name in ["q07-f1.asset.toml", "q07-f1.rig.toml", "q07-f1.specimen.toml"] {
            std::fs::copy(demo.join(name), dir.path().join(name)).unwrap();
        }
        std::fs::write(dir.path().join("many.plan.toml"), PLAN).unwrap();
        let mut bench = Self { dir, server: None, port: 0, random: seed };
        bench.serve();
        let rig = std::fs::read_to_string(bench.path("q07-f1.rig.toml")).unwrap();
        let rig = rig.replace("kind = \"virtual\"", "kind = \"scpi\"").replace(
            "specimen = \"q07-f1.specimen.toml\"",
            &format!("address = \"127.0.0.1:{}\"", bench.port),
        );
        std::fs::write(bench.path("bench.rig.toml"), rig).unwrap();
        bench
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// Starts the test set, at the port it had before.
    fn serve(&mut self) {
        let listen = format!("127.0.0.1:{}", self.port);
        let mut server = Command::new(env!("CARGO_BIN_EXE_waltron"))
            .args(["rig", "serve", "q07-f1.rig.toml", "--pace", "real", "--listen", &listen])
            .current_dir(self.dir.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(server.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.split_whitespace().nth(3).unwrap().trim_end_matches(',');
        self.port = address.rsplit(':').next().unwrap().parse().unwrap();
        self.server = Some(server);
    }

    fn kill_server(&mut self) {
        let mut server = self.server.take().unwrap();
        server.kill().unwrap();
        server.wait().unwrap();
    }

    fn run(&self, record: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_waltron"));
        command.args(["run", "many.plan.toml", "--yes", "--format", "json", "--record", record]);
        if self.path(record).exists() {
            command.arg("--resume");
        }
        command.current_dir(self.dir.path()).stdin(Stdio::null());
        command
    }

    /// A number up to a limit.
    fn draw(&mut self, most: u64) -> u64 {
        self.random ^= self.random << 13;
        self.random ^= self.random >> 7;
        self.random ^= self.random << 17;
        self.random % most
    }

    /// What the test set answers to a reader.
    fn ask(&self, query: &str) -> String {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(3))).unwrap();
        writeln!(stream, "{query}").unwrap();
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line).unwrap();
        line.trim().to_owned()
    }

    /// Waits until nothing is put out, which must not take long.
    fn goes_off(&self) {
        let began = Instant::now();
        while self.ask("OUTP?") != "0" {
            assert!(began.elapsed() < OFF_WITHIN, "still energised after {OFF_WITHIN:?}");
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    /// The whole lines of a record, without the one that a kill may have cut.
    fn lines(&self, record: &str) -> Vec<String> {
        let text = std::fs::read_to_string(self.path(record)).unwrap_or_default();
        let whole = text.rfind('\n').map_or(0, |end| end + 1);
        text[..whole].lines().map(str::to_owned).collect()
    }

    /// Id, attempt and measured time of every point of a finished record, as graded.
    fn graded(&self, record: &str) -> Vec<(String, u64, f64)> {
        let lines = self.lines(record);
        let events = lines.iter().map(|l| serde_json::from_str::<Value>(l).unwrap());
        let graded = events.filter(|e| e["event"] == "graded");
        graded
            .map(|e| {
                let time = e["measured"]["time_s"].as_f64().unwrap();
                (e["id"].as_str().unwrap().to_owned(), e["attempt"].as_u64().unwrap(), time)
            })
            .collect()
    }
}

impl Drop for Bench {
    fn drop(&mut self) {
        if let Some(server) = &mut self.server {
            let _ = server.kill();
            let _ = server.wait();
        }
    }
}

/// What a run that nobody disturbs measures; each point graded once, in the plan's order.
fn undisturbed(bench: &Bench) -> Vec<(String, u64, f64)> {
    let done = bench.run("whole.run.jsonl").args(["--rig", "q07-f1.rig.toml"]).output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let graded = bench.graded("whole.run.jsonl");
    assert_eq!(graded.len(), 48);
    graded
}

#[test]
fn a_killed_program_loses_no_graded_point_and_leaves_nothing_on() {
    let mut bench = Bench::new(0x5eed_0001);
    let expected = undisturbed(&bench);
    let (mut record, mut number, mut energised) = ("k0.run.jsonl".to_owned(), 0, 0);
    let (mut kills, mut finished) = (0, 0);
    while kills < CLIENT_KILLS || finished == 0 {
        let before = bench.lines(&record);
        let mut child =
            bench.run(&record).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // The one after the last kill comes to its end, however slow the machine.
        if kills == CLIENT_KILLS {
            child.wait().unwrap();
        }
        std::thread::sleep(Duration::from_millis(30 + bench.draw(300)));
        let done = child.try_wait().unwrap();
        energised += usize::from(bench.ask("OUTP?") == "1");
        child.kill().unwrap();
        child.wait().unwrap();
        bench.goes_off();
        let after = bench.lines(&record);
        assert_eq!(after[..before.len()], before, "what was written stays as it was");
        match done {
            None => kills += 1,
            // Nothing was left to be done: on with a new record.
            Some(status) => {
                assert_eq!(status.code(), Some(0));
                assert_eq!(bench.graded(&record), expected, "as if nothing had happened");
                (number, finished) = (number + 1, finished + 1);
                record = format!("k{number}.run.jsonl");
            }
        }
    }
    assert!(energised > CLIENT_KILLS / 4, "{energised} kills hit an energised output");
}

#[test]
fn a_killed_test_set_ends_the_run_in_order_and_the_run_goes_on_with_another() {
    let mut bench = Bench::new(0x5eed_0002);
    let expected = undisturbed(&bench);
    let (mut record, mut number, mut finished) = ("s0.run.jsonl".to_owned(), 0, 0);
    let mut kills = 0;
    while kills < SERVER_KILLS || finished == 0 {
        let before = bench.lines(&record);
        let child =
            bench.run(&record).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let done = if kills == SERVER_KILLS {
            let done = child.wait_with_output().unwrap();
            bench.kill_server();
            done
        } else {
            std::thread::sleep(Duration::from_millis(20 + bench.draw(300)));
            bench.kill_server();
            child.wait_with_output().unwrap()
        };
        assert!(TcpStream::connect(("127.0.0.1", bench.port)).is_err(), "nothing is left of it");
        let after = bench.lines(&record);
        assert_eq!(after[..before.len()], before, "what was written stays as it was");
        bench.serve();
        assert_eq!(bench.ask("OUTP?"), "0", "it comes up with outputs off");
        let told: Value = serde_json::from_slice(&done.stdout).unwrap();
        match done.status.code() {
            Some(3) => {
                kills += 1;
                // Before the record was opened there is an error, afterwards an outcome.
                let why =
                    told["outcome"]["rig-trouble"].as_str().or(told["error"]["message"].as_str());
                let why = why.unwrap();
                assert!(why.contains("connection") || why.contains("no test set"), "{why}");
            }
            Some(0) => {
                assert_eq!(bench.graded(&record), expected, "as if nothing had happened");
                (number, finished) = (number + 1, finished + 1);
                record = format!("s{number}.run.jsonl");
            }
            other => panic!("{other:?}: {told}"),
        }
    }
}

/// A controller that hangs keeps its connection: only the watchdog notices.
#[cfg(unix)]
#[test]
fn a_hung_program_is_noticed_by_the_watchdog() {
    let bench = Bench::new(1);
    for round in 0..5 {
        let record = format!("w{round}.run.jsonl");
        let mut child =
            bench.run(&record).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let began = Instant::now();
        while bench.ask("OUTP?") != "1" {
            assert!(began.elapsed() < Duration::from_secs(5));
        }
        let stop = |signal: &str| {
            let pid = child.id().to_string();
            assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
        };
        stop("-STOP");
        let frozen = Instant::now();
        // A short program ends by itself meanwhile; so what counts is also that the controller has
        // lost its place.
        while bench.ask("SYST:LOCK:OWN?") != "0" {
            assert!(frozen.elapsed() < OFF_WITHIN, "the watchdog sleeps");
            std::thread::sleep(Duration::from_millis(5));
        }
        assert_eq!(bench.ask("OUTP?"), "0");
        child.kill().unwrap();
        child.wait().unwrap();
    }
}
