//! Programs of the attendant's, run between injections: no shell, a time limit, output kept.

use crate::attendant::Attendant;
use std::io::Read;
use std::process::{Child, Command, Stdio};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use waltron_core::quantity::{Measure, Time};

/// How often a running program is looked at.
const GLANCE: Duration = Duration::from_millis(10);

/// Most output that is kept.
const MOST_OUTPUT: u64 = 1 << 20;

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
    let spawned = Command::new(program)
        .args(args)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn();
    let mut child = spawned.map_err(|e| format!("`{program}` cannot be started: {e}"))?;
    let (out, err) = (collect(child.stdout.take()), collect(child.stderr.take()));
    let until = Instant::now() + Duration::try_from_secs_f64(most.si()).unwrap_or(Duration::MAX);
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status,
            Ok(None) => {}
            Err(e) => return Err(ended(&mut child, format!("`{program}` is lost: {e}"))),
        }
        if attendant.wants_to_stop() {
            return Err(ended(&mut child, format!("`{program}` was stopped")));
        }
        if Instant::now() >= until {
            let limit = waltron_core::quantity::text(most);
            return Err(ended(&mut child, format!("`{program}` took longer than {limit}")));
        }
        std::thread::sleep(GLANCE);
    };
    let (out, err) = (joined(out), joined(err));
    if status.success() {
        return Ok(out.trim_end_matches(['\n', '\r']).to_owned());
    }
    let last = err.lines().last().unwrap_or_default();
    Err(format!("`{program}` failed ({status}) {last}").trim_end().to_owned())
}

fn ended(child: &mut Child, why: String) -> String {
    let _ = child.kill();
    let _ = child.wait();
    why
}

fn collect(pipe: Option<impl Read + Send + 'static>) -> JoinHandle<String> {
    std::thread::spawn(move || {
        let mut bytes = Vec::new();
        if let Some(pipe) = pipe {
            let mut kept = pipe.take(MOST_OUTPUT);
            let _ = kept.read_to_end(&mut bytes);
            // What is too much is read and dropped, so that the program does not wait for ever.
            let _ = std::io::copy(&mut kept.into_inner(), &mut std::io::sink());
        }
        String::from_utf8_lossy(&bytes).into_owned()
    })
}

fn joined(pipe: JoinHandle<String>) -> String {
    pipe.join().unwrap_or_default()
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

    #[test]
    fn failures_say_why() {
        assert!(shell("echo broken >&2; exit 3", 5.0).unwrap_err().contains("3) broken"));
        let began = Instant::now();
        assert!(shell("sleep 30", 0.1).unwrap_err().contains("longer than 100 ms"));
        assert!(began.elapsed() < Duration::from_secs(5));
        let none = run("no-such-program-here", &[], seconds(1.0), &mut Unattended);
        assert!(none.unwrap_err().contains("cannot be started"));
    }
}
