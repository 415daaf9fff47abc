//! Running the program on the sample files.

use serde_json::Value;
use std::path::Path;
use std::process::{Command, Output};
use tempfile::TempDir;

/// A folder with the sample substation's files, not yet tested.
pub(crate) struct Site {
    pub(crate) dir: TempDir,
}

impl Site {
    pub(crate) fn new() -> Self {
        let dir = TempDir::new().unwrap();
        let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
        for entry in std::fs::read_dir(from).unwrap() {
            let entry = entry.unwrap();
            std::fs::copy(entry.path(), dir.path().join(entry.file_name())).unwrap();
        }
        Self { dir }
    }

    /// A folder with the example sequences and what they need.
    pub(crate) fn examples() -> Self {
        let dir = TempDir::new().unwrap();
        let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
        for entry in std::fs::read_dir(from).unwrap() {
            let entry = entry.unwrap();
            std::fs::copy(entry.path(), dir.path().join(entry.file_name())).unwrap();
        }
        Self { dir }
    }

    /// Changes a file's text; the text to be replaced must be there.
    pub(crate) fn edit(&self, file: &str, from: &str, to: &str) {
        let text = self.read(file);
        assert!(text.contains(from), "`{from}` is not in {file}");
        self.write(file, &text.replacen(from, to, 1));
    }

    pub(crate) fn read(&self, file: &str) -> String {
        std::fs::read_to_string(self.dir.path().join(file)).unwrap()
    }

    pub(crate) fn write(&self, file: &str, text: &str) {
        std::fs::write(self.dir.path().join(file), text).unwrap();
    }

    /// Names of all files, sorted.
    pub(crate) fn files(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.dir.path()).unwrap();
        let mut names: Vec<String> =
            entries.map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    }

    /// Runs the program in the folder with a fixed clock.
    pub(crate) fn waltron(&self, args: &[&str]) -> Done {
        let output = Command::new(env!("CARGO_BIN_EXE_waltron"))
            .args(args)
            .current_dir(self.dir.path())
            .env("SOURCE_DATE_EPOCH", "1777881600")
            // The defaults of whoever runs the tests are no part of them.
            .env("WALTRON_CONFIG", self.dir.path().join("defaults.toml"))
            .stdin(std::process::Stdio::null())
            .output()
            .unwrap();
        Done(output)
    }
}

/// What a command left behind.
pub(crate) struct Done(Output);

impl Done {
    pub(crate) fn code(&self) -> i32 {
        self.0.status.code().unwrap()
    }

    pub(crate) fn out(&self) -> String {
        String::from_utf8(self.0.stdout.clone()).unwrap()
    }

    pub(crate) fn err(&self) -> String {
        String::from_utf8(self.0.stderr.clone()).unwrap()
    }

    pub(crate) fn json(&self) -> Value {
        serde_json::from_str(&self.out()).unwrap_or_else(|e| panic!("{e}: {}", self.out()))
    }

    /// Fails unless the command exited with `code`.
    #[track_caller]
    pub(crate) fn exits(self, code: i32) -> Self {
        assert_eq!(self.code(), code, "out: {}\nerr: {}", self.out(), self.err());
        self
    }
}

/// The points of a run whose id starts so.
pub(crate) fn points<'a>(run: &'a Value, prefix: &str) -> Vec<&'a Value> {
    let all = run["points"].as_array().unwrap();
    all.iter().filter(|p| p["id"].as_str().unwrap().starts_with(prefix)).collect()
}
