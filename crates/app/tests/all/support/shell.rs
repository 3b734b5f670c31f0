//! The command line as people and scripts use it.

use std::io::Write;
use std::process::{Child, Command, Output, Stdio};

use serde_json::Value;

use super::{Gonvel, THIS};

/// A shell of somebody's, with a home of its own.
pub struct Shell {
    pub server: String,
    pub home: tempfile::TempDir,
}

impl Shell {
    /// At a server.
    pub fn at(gonvel: &Gonvel) -> Self {
        Self { server: gonvel.base.trim_end_matches("/api/v1").to_owned(), home: tempfile::tempdir().unwrap() }
    }

    /// A command that is not waited for.
    pub fn begin(&self, line: &str) -> Child {
        let mut command = self.command(&words(line));
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(THIS);
        command
            .args(arguments)
            .env("HOME", self.home.path())
            .env_remove("XDG_CONFIG_HOME")
            .env("GONVEL_SERVER", &self.server);
        command
    }

    pub fn run(&self, arguments: &[&str], input: Option<&str>) -> Output {
        let mut command = self.command(arguments);
        if arguments.contains(&"--context") {
            command.env_remove("GONVEL_SERVER");
        }
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(input.unwrap_or_default().as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    /// What a command that ends well prints.
    pub fn text(&self, line: &str, input: Option<&str>) -> String {
        let output = self.run(&words(line), input);
        assert!(output.status.success(), "{line}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    pub fn json(&self, line: &str) -> Value {
        serde_json::from_str(&self.text(&format!("{line} --output json"), None)).unwrap()
    }

    /// The exit code of a command that ends badly, after what it says was looked at.
    pub fn fails(&self, line: &str, says: &str) -> i32 {
        let output = self.run(&words(line), None);
        let text = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!output.status.success() && text.contains(says), "{line}: {text}");
        output.status.code().unwrap()
    }
}

/// Words of a line, those in quotes as one.
pub fn words(line: &str) -> Vec<&str> {
    let mut out = Vec::new();
    for (number, part) in line.split('\'').enumerate() {
        if number % 2 == 1 {
            out.push(part);
        } else {
            out.extend(part.split_whitespace());
        }
    }
    out
}
