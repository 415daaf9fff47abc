//! A folder with a plan and a test set in real time: either side is killed again and again.

use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::ops::Range;
use std::path::PathBuf;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// After so many kills at the latest a record comes to its end.
const IN_PEACE_EVERY: usize = 40;

/// The names of the files of a bench that it needs to know.
#[derive(Clone, Copy)]
pub(crate) struct Names {
    /// The virtual rig that the test set serves; the plan's own is written: `bench.rig.toml`.
    pub(crate) rig: &'static str,
    pub(crate) specimen: &'static str,
    pub(crate) plan: &'static str,
}

pub(crate) struct Bench {
    dir: TempDir,
    names: Names,
    server: Option<Child>,
    port: u16,
    random: u64,
}

impl Bench {
    pub(crate) fn new(seed: u64, names: Names, files: &[(&str, &str)]) -> Self {
        let dir = TempDir::new().unwrap();
        for (name, text) in files {
            std::fs::write(dir.path().join(name), text).unwrap();
        }
        let mut bench = Self { dir, names, server: None, port: 0, random: seed };
        bench.serve();
        let rig = std::fs::read_to_string(bench.path(names.rig)).unwrap();
        let rig = rig.replace("kind = \"virtual\"", "kind = \"scpi\"").replace(
            &format!("specimen = \"{}\"", names.specimen),
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
            .args(["rig", "serve", self.names.rig, "--pace", "real", "--listen", &listen])
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
        assert!(TcpStream::connect(("127.0.0.1", self.port)).is_err(), "nothing is left of it");
    }

    /// The program with the bench's plan, which goes on with a record that is there.
    pub(crate) fn run(&self, record: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_waltron"));
        command.args(["run", self.names.plan, "--yes", "--format", "json", "--record", record]);
        if self.path(record).exists() {
            command.arg("--resume");
        }
        command.current_dir(self.dir.path()).stdin(Stdio::null()).stderr(Stdio::null());
        command
    }

    /// A duration of so many milliseconds.
    fn draw(&mut self, within: &Range<u64>) -> Duration {
        self.random ^= self.random << 13;
        self.random ^= self.random >> 7;
        self.random ^= self.random << 17;
        Duration::from_millis(within.start + self.random % (within.end - within.start))
    }

    /// What the test set answers to a reader.
    pub(crate) fn ask(&self, query: &str) -> String {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(3))).unwrap();
        writeln!(stream, "{query}").unwrap();
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line).unwrap();
        line.trim().to_owned()
    }

    /// Waits until a query answers 0, which must not take long.
    pub(crate) fn comes_to_nothing(&self, query: &str, within: Duration) {
        let began = Instant::now();
        while self.ask(query) != "0" {
            assert!(began.elapsed() < within, "{query} is not 0 after {within:?}");
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    /// The whole lines of a record, without the one that a kill may have cut.
    fn lines(&self, record: &str) -> Vec<String> {
        let text = std::fs::read_to_string(self.path(record)).unwrap_or_default();
        let whole = text.rfind('\n').map_or(0, |end| end + 1);
        text[..whole].lines().map(str::to_owned).collect()
    }

    /// What a record says of graded points.
    pub(crate) fn graded(&self, record: &str) -> Vec<Value> {
        let lines = self.lines(record);
        let events = lines.iter().map(|l| serde_json::from_str::<Value>(l).unwrap());
        events.filter(|e| e["event"] == "graded").collect()
    }

    /// Kills the program so often, each time so many milliseconds after its start, and looks at what it left:
    /// on the bench, and in each record that came to its end. The one after the last kill does. Returns how many
    /// kills hit an output that was on.
    pub(crate) fn kill_programs(
        &mut self,
        times: usize,
        after: Range<u64>,
        mut is_left: impl FnMut(&Self),
        is_whole: impl Fn(&Self, &str),
    ) -> usize {
        let (mut kills, mut finished, mut energised) = (0, 0, 0);
        while kills < times || finished == 0 {
            let record = format!("k{finished}.run.jsonl");
            let before = self.lines(&record);
            let mut child = self.run(&record).stdout(Stdio::null()).spawn().unwrap();
            if is_left_in_peace(kills, times, finished) {
                child.wait().unwrap();
            }
            std::thread::sleep(self.draw(&after));
            let done = child.try_wait().unwrap();
            energised += usize::from(self.ask("OUTP?") == "1");
            child.kill().unwrap();
            child.wait().unwrap();
            is_left(self);
            let now = self.lines(&record);
            assert_eq!(now[..before.len()], before, "what was written stays as it was");
            match done {
                None => kills += 1,
                // Nothing was left to be done: on with a new record.
                Some(status) => {
                    assert_eq!(status.code(), Some(0), "{}", self.ask("SYST:LOG?"));
                    is_whole(self, &record);
                    finished += 1;
                }
            }
        }
        energised
    }

    /// Kills the test set so often, each time so many milliseconds after a program's start; another one takes its
    /// place. Looks at each record that came to its end, as above, and at what a program that lost it says.
    pub(crate) fn kill_test_sets(
        &mut self,
        times: usize,
        after: Range<u64>,
        is_off: impl Fn(&Self),
        is_whole: impl Fn(&Self, &str),
    ) {
        let (mut kills, mut finished) = (0, 0);
        while kills < times || finished == 0 {
            let record = format!("s{finished}.run.jsonl");
            let before = self.lines(&record);
            let child = self.run(&record).stdout(Stdio::piped()).spawn().unwrap();
            let done = if is_left_in_peace(kills, times, finished) {
                let done = child.wait_with_output().unwrap();
                self.kill_server();
                done
            } else {
                std::thread::sleep(self.draw(&after));
                self.kill_server();
                child.wait_with_output().unwrap()
            };
            let now = self.lines(&record);
            assert_eq!(now[..before.len()], before, "what was written stays as it was");
            self.serve();
            is_off(self);
            match done.status.code() {
                Some(3) => {
                    kills += 1;
                    tells_of_a_lost_connection(&done);
                }
                Some(0) => {
                    is_whole(self, &record);
                    finished += 1;
                }
                other => panic!("{other:?}: {}", String::from_utf8_lossy(&done.stdout)),
            }
        }
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

/// The run after the last kill comes to its end, and before that some do, however slow the machine.
fn is_left_in_peace(kills: usize, times: usize, finished: usize) -> bool {
    kills == times || kills / IN_PEACE_EVERY > finished
}

/// Before the record was opened there is an error, afterwards an outcome.
fn tells_of_a_lost_connection(done: &Output) {
    let told: Value = serde_json::from_slice(&done.stdout).unwrap();
    let why = told["outcome"]["rig-trouble"].as_str().or(told["error"]["message"].as_str());
    let why = why.unwrap();
    let words = ["connection", "no test set", "nothing answers"];
    assert!(words.iter().any(|w| why.contains(w)), "{why}");
}
