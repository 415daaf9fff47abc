//! Programs of the attendant's, run between injections: no shell, a time limit, output kept.
//!
//! A program and everything that it starts are one process group: what outlives the time limit or a
//! stop is ended with it, also a grandchild that still holds the pipes.

use crate::attendant::Attendant;
use std::io::Read;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use waltron_core::quantity::{Measure, Time};

/// How often a running program is looked at.
const GLANCE: Duration = Duration::from_millis(10);

/// Most output that is kept.
const MOST_OUTPUT: usize = 1 << 20;

/// How long pipes may stay open once everything was ended.
const LAST_BYTES: Duration = Duration::from_millis(500);

/// Runs a program and returns what it prints, without the last line break.
///
/// # Errors
/// In words: a program that cannot be started, fails, takes too long, or is stopped.
pub(crate) fn run(
    program: &str,
    args: &[String],
    most: Time,
    attendant: &mut dyn Attendant,
) -> Result<String, String> {
    let mut command = Command::new(program);
    command.args(args).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    #[cfg(unix)]
    std::os::unix::process::CommandExt::process_group(&mut command, 0);
    let mut child = command.spawn().map_err(|e| format!("`{program}` cannot be started: {e}"))?;
    let (ends, ended) = channel();
    let out = collect(child.stdout.take(), ends.clone());
    let err = collect(child.stderr.take(), ends);
    let until =
        Instant::now().checked_add(Duration::try_from_secs_f64(most.si()).unwrap_or_default());
    let status = match wait(&mut child, &ended, until, attendant) {
        Ok(status) => status,
        Err(why) => {
            end(&mut child);
            // What escaped from the group may hold the pipes; nobody waits for it.
            let _ = ended.recv_timeout(LAST_BYTES);
            return Err(match why {
                Ended::Late => {
                    format!("`{program}` took longer than {}", waltron_core::quantity::text(most))
                }
                Ended::Stopped => format!("`{program}` was stopped"),
                Ended::Lost(error) => format!("`{program}` is lost: {error}"),
            });
        }
    };
    if status.success() {
        return Ok(text(&out).trim_end_matches(['\n', '\r']).to_owned());
    }
    let err = text(&err);
    let last = err.lines().last().unwrap_or_default();
    Err(format!("`{program}` failed ({status}) {last}").trim_end().to_owned())
}

/// Why a program did not come to its end.
enum Ended {
    Late,
    Stopped,
    Lost(std::io::Error),
}

/// Waits until the program has ended and both its pipes are closed.
fn wait(
    child: &mut Child,
    pipes: &Receiver<()>,
    until: Option<Instant>,
    attendant: &mut dyn Attendant,
) -> Result<ExitStatus, Ended> {
    let (mut status, mut open) = (None, 2);
    loop {
        if status.is_none() {
            status = child.try_wait().map_err(Ended::Lost)?;
        }
        if let (Some(status), 0) = (status, open) {
            return Ok(status);
        }
        if attendant.wants_to_stop() {
            return Err(Ended::Stopped);
        }
        if until.is_none_or(|until| Instant::now() >= until) {
            return Err(Ended::Late);
        }
        match pipes.recv_timeout(GLANCE) {
            Ok(()) => open -= 1,
            Err(RecvTimeoutError::Timeout) => {}
            // Both readers are gone.
            Err(RecvTimeoutError::Disconnected) => {
                open = 0;
                std::thread::sleep(GLANCE);
            }
        }
    }
}

/// Ends a program with everything that it started.
fn end(child: &mut Child) {
    #[cfg(unix)]
    if let Ok(group) = i32::try_from(child.id()) {
        use nix::sys::signal::{Signal, killpg};
        // A group that is gone needs no ending.
        let _ = killpg(nix::unistd::Pid::from_raw(group), Signal::SIGKILL);
    }
    let _ = child.kill();
    let _ = child.wait();
}

type Bytes = Arc<Mutex<Vec<u8>>>;

/// Reads a pipe to its end on a thread of its own, and says when that is.
fn collect(pipe: Option<impl Read + Send + 'static>, ends: Sender<()>) -> Bytes {
    let bytes = Bytes::default();
    let into = Arc::clone(&bytes);
    std::thread::spawn(move || {
        let mut piece = [0; 1 << 14];
        if let Some(mut pipe) = pipe {
            while let Ok(n @ 1..) = pipe.read(&mut piece) {
                let mut kept = into.lock().unwrap_or_else(PoisonError::into_inner);
                // What is too much is read and dropped, so that the program does not wait for ever.
                let room = MOST_OUTPUT.saturating_sub(kept.len()).min(n);
                kept.extend_from_slice(&piece[..room]);
            }
        }
        let _ = ends.send(());
    });
    bytes
}

fn text(bytes: &Bytes) -> String {
    let bytes = bytes.lock().unwrap_or_else(PoisonError::into_inner);
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;
    use crate::attendant::Unattended;
    use waltron_core::quantity::seconds;

    fn shell(script: &str, most: f64) -> Result<String, String> {
        let args = ["-c".to_owned(), script.to_owned()];
        run("sh", &args, seconds(most), &mut Unattended)
    }

    #[test]
    fn output_comes_back_and_arguments_pass_no_shell() {
        let args = ["$HOME; echo *".to_owned(), "a b".to_owned()];
        let said = run("echo", &args, seconds(5.0), &mut Unattended);
        assert_eq!(said.as_deref(), Ok("$HOME; echo * a b"));
        let much = shell("yes | head -c 3000000", 10.0).unwrap();
        // Less the last line break.
        assert_eq!(much.len(), (1 << 20) - 1, "what is too much is dropped, and hangs nothing");
    }

    struct Impatient(Instant);

    impl Attendant for Impatient {
        fn ask(
            &mut self,
            _: &waltron_core::procedure::Question,
        ) -> waltron_core::procedure::Answer {
            waltron_core::procedure::Answer::Stop
        }
        fn wants_to_stop(&self) -> bool {
            self.0.elapsed() > Duration::from_millis(200)
        }
    }

    #[test]
    fn a_stop_ends_the_whole_group() {
        let args = ["-c".to_owned(), "sleep 600 & sleep 600".to_owned()];
        let began = Instant::now();
        let stopped = run("sh", &args, seconds(600.0), &mut Impatient(began)).unwrap_err();
        assert!(stopped.contains("was stopped"), "{stopped}");
        assert!(began.elapsed() < Duration::from_secs(5));
    }

    #[test]
    fn failures_say_why() {
        assert!(shell("echo broken >&2; exit 3", 5.0).unwrap_err().contains("3) broken"));
        let began = Instant::now();
        assert!(shell("sleep 30", 0.1).unwrap_err().contains("longer than 100 ms"));
        assert!(began.elapsed() < Duration::from_secs(5));
        // A grandchild that holds the pipes does not hold the run, nor does it survive.
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("pid");
        let began = Instant::now();
        let script = format!("sleep 600 & echo $! >'{}'", file.display());
        let late = shell(&script, 0.3).unwrap_err();
        assert!(late.contains("longer than 300 ms"), "{late}");
        assert!(began.elapsed() < Duration::from_secs(5));
        let pid: i32 = std::fs::read_to_string(&file).unwrap().trim().parse().unwrap();
        let stat = || std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        // Whoever inherits it may take its time to bury it.
        let gone = || {
            nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), None).is_err()
                || stat().contains(") Z ")
        };
        while !gone() {
            assert!(began.elapsed() < Duration::from_secs(5), "the group is ended as a whole");
            std::thread::sleep(GLANCE);
        }
        let none = run("no-such-program-here", &[], seconds(1.0), &mut Unattended);
        assert!(none.unwrap_err().contains("cannot be started"));
    }
}
